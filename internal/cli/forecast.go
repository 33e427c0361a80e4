package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// foreseen is the load of one CA under one limit, a line of the table.
type foreseen struct {
	limit int
	client.CALoad
}

// mandateForecast tells the load of the coming years.
func (a *app) mandateForecast() *cobra.Command {
	return &cobra.Command{Use: "forecast", Short: "Foresee the renewals of two years, under each coming limit, and whether budgets carry them", Args: cobra.NoArgs,
		Long: "Counts the renewals of every day for two years: as things are and will be by the dates that are set for\n" +
			"public CAs, and as if certificates lived 200, 100 or 47 days at most from now on. Renewals are laid apart\n" +
			"within the days they may take place in. What a CA's budget cannot carry is said. A CA of your own has no limit.",
		Example: "  insegna mandate forecast\n  insegna mandate forecast -o csv",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			v, err := get[client.ForecastList](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetForecast(ctx) })
			if err != nil {
				return err
			}
			return a.showForecast(v)
		})}
}

// showForecast draws the months, and tells each CA's load.
func (a *app) showForecast(v *client.ForecastList) error {
	var rows []foreseen
	for _, f := range v.Items {
		for _, l := range f.Cas {
			rows = append(rows, foreseen{f.Limit, l})
		}
	}
	if a.output == "table" {
		if len(rows) == 0 {
			a.say("No mandate has a certificate that is renewed by itself yet; see: insegna mandate list")
			return nil
		}
		a.months(v)
	}
	return print(a, v, rows, []column[foreseen]{
		{head: "Lives at most", cell: func(r foreseen) string { return limitWords(r.limit) }, raw: func(r foreseen) string { return fmt.Sprint(r.limit) }},
		{head: "CA", width: 20, cell: func(r foreseen) string { return r.Ca }},
		{head: "In a year", cell: func(r foreseen) string { return fmt.Sprint(r.Year) }},
		{head: "At the worst", width: 32, cell: func(r foreseen) string {
			if r.Span == 0 {
				return fmt.Sprintf("%d on %s", r.Most, r.MostFrom.Format("2006-01-02"))
			}
			return fmt.Sprintf("%d of %d in %s from %s", r.Most, r.Budget, plural(r.Span, "day"), r.MostFrom.Format("2006-01-02"))
		}, raw: func(r foreseen) string { return fmt.Sprint(r.Most) }},
		{head: "Budget", width: 24, cell: func(r foreseen) string {
			switch {
			case r.Span == 0:
				return "not declared"
			case r.Over > 0:
				return fmt.Sprintf("✗ too small on %s", plural(r.Over, "day"))
			}
			return "✓ carries it"
		}, raw: func(r foreseen) string { return fmt.Sprint(r.Over) }},
	})
}

// limitWords tells a limit.
func limitWords(days int) string {
	if days == 0 {
		return "as it is set"
	}
	return fmt.Sprintf("%d days", days)
}

// months draws renewals month by month, as it is set and under the shortest limit.
func (a *app) months(v *client.ForecastList) {
	const wide = 36
	last := v.Items[len(v.Items)-1]
	sums := func(days []int) (out []int) {
		for i, n := range days {
			if i%30 == 0 {
				out = append(out, 0)
			}
			out[len(out)-1] += n
		}
		return out
	}
	set, short := sums(v.Items[0].Days), sums(last.Days)
	most := 1
	for _, n := range append(append([]int{}, set...), short...) {
		most = max(most, n)
	}
	bar := func(n int, mark string) string {
		width := n * wide / most
		if n > 0 {
			width = max(width, 1)
		}
		return strings.Repeat(mark, width)
	}
	a.say("Renewals of %s in 30 days each: █ as it is set, ░ at %d days\n", plural(v.Mandates, "mandate"), last.Limit)
	for i := 0; i < len(set)-1 && i < 24; i++ {
		a.say("  %s  %5d %-*s %5d %s", v.From.AddDate(0, 0, 30*i).Format("2006-01-02"), set[i], wide, bar(set[i], "█"), short[i], bar(short[i], "░"))
	}
	a.say("")
}
