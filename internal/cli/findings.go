package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"path"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"insegna.example/client"
	"insegna.example/internal/core/check"
)

// whereFound names host and endpoint, or the server, and the line of its
// configuration.
func whereFound(f client.Finding) string {
	text := "server " + f.Server
	if f.Server == "" {
		text = nowhere(f)
	}
	if f.Endpoint != "" {
		text = orWithoutSNI(f.Host) + "\n" + f.Server + " " + f.Endpoint
	}
	if f.Source != nil {
		text += "\n" + shortSpot(*f.Source)
	}
	return text
}

// nowhere names what a finding is about that is on no one server.
func nowhere(f client.Finding) string {
	if f.StandsFor != nil {
		return "several servers"
	}
	return "Insegna itself"
}

// findingPart gives a page's items and cursor.
func findingPart(p *client.FindingPage) (*[]client.Finding, **string) { return &p.Items, &p.NextCursor }

// findingLines writes a line for each finding, the worst first: paths relative to
// the folder of their server's configuration, and cut to the terminal's width.
// What a line leaves out is told by finding show.
func (a *app) findingLines(ctx context.Context, list []client.Finding) error {
	page, err := whole(a, ctx, 0, func(p *client.ServerPage) (*[]client.Server, **string) {
		return &p.Items, &p.NextCursor
	},
		func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
			return cl.ListServers(ctx, &client.ListServersParams{Cursor: cursor, Limit: size})
		})
	if err != nil {
		return err
	}
	folders := map[string]string{}
	for _, s := range page.Items {
		if s.Main != "" {
			folders[s.Name] = path.Dir(s.Main) + "/"
		}
	}
	rows := make([][]string, len(list))
	widths := make([]int, 3)
	for i, f := range list {
		where := cmp.Or(f.Host, f.Server, nowhere(f))
		cause := f.Cause
		if folder := folders[f.Server]; folder != "" {
			cause = strings.ReplaceAll(cause, folder, "")
		}
		rows[i] = []string{marks[string(f.Severity)], fmt.Sprintf("#%d", f.Id), clean(where), f.Code + ": " + clean(cause)}
		for j := range widths {
			widths[j] = max(widths[j], utf8.RuneCountInString(rows[i][j]))
		}
	}
	for _, r := range rows {
		line := fmt.Sprintf("%-*s  %-*s  %-*s  %s", widths[0], r[0], widths[1], r[1], widths[2], r[2], r[3])
		if runes := []rune(line); a.width > 0 && len(runes) > a.width {
			line = strings.TrimRight(string(runes[:a.width-1]), " ") + "…"
		}
		if a.color {
			line = strings.Replace(line, r[0], a.paint(r[0]), 1)
		}
		a.say("%s", line)
	}
	return nil
}

// findingTable has other columns as CSV: all of them, for a program reads it.
func (a *app) findingTable(list []client.Finding) error {
	if a.output == "csv" {
		return print(a, list, list, csvFindingColumns)
	}
	return print(a, list, list, findingColumns)
}

// findingParams turns the flags of finding list into the call's parameters; an
// empty flag asks for nothing, an unknown word is refused with those that are known.
func findingParams(query, code, state string, severities []string) (*client.ListFindingsParams, error) {
	st := client.ListFindingsParamsState(state)
	if !st.Valid() {
		return nil, usage{fmt.Errorf("unknown state %q; expected open, accepted, closed or all", state)}
	}
	params := &client.ListFindingsParams{State: &st}
	if query != "" {
		params.Q = &query
	}
	if code != "" {
		params.Code = &code
	}
	var picked []client.Severity
	for _, s := range severities {
		if !client.Severity(s).Valid() {
			return nil, usage{fmt.Errorf("unknown severity %q; expected broken, due, weak or note", s)}
		}
		picked = append(picked, client.Severity(s))
	}
	if picked != nil {
		params.Severity = &picked
	}
	return params, nil
}

// findings is the group of commands about what is wrong.
func (a *app) findings() *cobra.Command {
	var query, host, server, code, state string
	var severities []string
	var limit int
	var belongs among
	list := &cobra.Command{Use: "list", Short: "List findings, worst first", Args: cobra.NoArgs,
		Example: "  insegna finding list --severity broken,due\n  insegna finding list --host booking.lanterncoast.example " +
			"--fail-at broken",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			if err := a.checkFailAt(); err != nil {
				return err
			}
			params, err := findingParams(cmp.Or(query, host), code, state, severities)
			if err != nil {
				return err
			}
			if server != "" {
				params.Server = &server
			}
			params.Group, params.Owner, params.Tag = given(belongs.groups), given(belongs.owners), given(belongs.tags)
			page, err := whole(a, c.Context(), limit,
				func(p *client.FindingPage) (*[]client.Finding, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					return cl.ListFindings(ctx, params)
				})
			if err != nil {
				return err
			}
			if len(page.Items) == 0 {
				a.say("No finding fits.")
			}
			if len(page.Items) > 0 || a.output != "table" {
				if err := a.findingTable(page.Items); err != nil {
					return err
				}
			}
			a.more(page.NextCursor, len(page.Items))
			var worst []check.Severity
			for _, f := range page.Items {
				worst = append(worst, check.Severity(f.Severity))
			}
			return a.failOn(worst)
		})}
	f := list.Flags()
	f.StringVar(&query, "query", "", "part of a host, server, address or cause")
	f.StringVar(&host, "host", "", "part of a host")
	f.StringVar(&server, "server", "", "only of this server")
	f.StringVar(&code, "code", "", "only findings with this code")
	f.StringVar(&state, "state", "open", "open, accepted, closed or all")
	f.StringSliceVar(&severities, "severity", nil, "broken, due, weak, note")
	f.IntVar(&limit, "limit", 0, limitHelp)
	belongs.flags(list)
	a.failAtFlag(list)
	return group("finding", "What is wrong, with evidence and remedy", list, a.findingShow(), a.findingMend(), a.findingAccept(), a.catalogue())
}

// findingShow tells one finding with its evidence.
func (a *app) findingShow() *cobra.Command {
	return &cobra.Command{Use: "show NUMBER", Short: "Show one finding with its evidence", Args: cobra.ExactArgs(1),
		Example: "  insegna finding show 3",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := findingNumber(args[0])
			if err != nil {
				return err
			}
			f, err := get[client.Finding](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetFinding(ctx, id) })
			if err != nil {
				return err
			}
			facts := [][2]string{{"finding", f.Code}, {"severity", marks[string(f.Severity)]},
				{"where", strings.ReplaceAll(whereFound(*f), "\n", ", ")}, {"declared", f.Place}, {"configured", orEmpty(f.Source)},
				{"cause", f.Cause}, {"remedy", f.Remedy}, {"mends itself", mendsItself(f)}, {"opened", moment(f.OpenedAt)}}
			if f.ClosedAt != nil {
				facts = append(facts, [2]string{"closed", moment(*f.ClosedAt)})
			}
			if v := f.Acceptance; v != nil {
				facts = append(facts, [2]string{"accepted", fmt.Sprintf("until %s, by %s: %s", moment(v.Until), v.By, v.Reason)})
			}
			if v := f.Belongs; v != nil {
				facts = append(facts, [2]string{"belongs to", belongsTo(v)})
			}
			if f.StandsFor != nil {
				facts = append(facts, [2]string{"stands for", fmt.Sprintf("%d bindings with the same cause", *f.StandsFor)})
			}
			if f.Under != nil {
				facts = append(facts, [2]string{"counted under", fmt.Sprintf("finding #%d, for others have "+
					"the same cause", *f.Under)})
			}
			for _, e := range f.Evidence {
				facts = append(facts, [2]string{e.Label, e.Value})
			}
			if f.Certificate != nil {
				facts = append(facts, [2]string{"certificate", *f.Certificate})
			}
			return printFacts(a, f, facts)
		})}
}

// findingNumber reads a finding's number as lists show it.
func findingNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(strings.TrimPrefix(text, "#"), 10, 64)
	if err != nil || id < 1 {
		return 0, usage{fmt.Errorf("%q is no finding; expected a number as insegna finding list shows them", text)}
	}
	return id, nil
}

// findingAccept lets findings be until a day, or no longer.
func (a *app) findingAccept() *cobra.Command {
	var until, reason string
	var end bool
	c := &cobra.Command{Use: "accept NUMBER...", Short: "Let findings be until a day, with a reason", Args: cobra.MinimumNArgs(1),
		Long: "A finding that is known and cannot be mended yet is let be: lists, counts and notices leave it out.\n" +
			"It comes back on that day, or before when it is as bad no longer or its evidence is another. What\n" +
			"visitors meet stays what it is: a binding that is broken is shown as broken.",
		Example: "  insegna finding accept 7 --until 2027-01-31 --reason \"the kiosks are replaced in January\"\n" +
			"  insegna finding list --state accepted\n  insegna finding accept 7 --end",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			var at time.Time
			switch {
			case end && (until != "" || reason != ""):
				return usage{errors.New("--end takes neither --until nor --reason")}
			case !end && (until == "" || strings.TrimSpace(reason) == ""):
				return usage{errors.New("a day and a reason are needed: --until 2027-01-31 --reason \"...\"; or --end to open it again")}
			case !end:
				var err error
				if at, err = dayGiven(until); err != nil {
					return err
				}
			}
			var done []client.Finding
			for _, arg := range args {
				id, err := findingNumber(arg)
				if err != nil {
					return err
				}
				f, err := get[client.Finding](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
					if end {
						return cl.EndAcceptance(ctx, id)
					}
					return cl.AcceptFinding(ctx, id, client.AcceptanceRequest{Until: at, Reason: reason})
				})
				if err != nil {
					return err
				}
				done = append(done, *f)
				if f.Acceptance == nil {
					a.say("#%d %s is open again.", f.Id, f.Code)
				} else {
					a.say("#%d %s is accepted until %s.", f.Id, f.Code, moment(f.Acceptance.Until))
				}
			}
			if a.output != "table" {
				return a.findingTable(done)
			}
			return nil
		})}
	c.Flags().StringVar(&until, "until", "", "the day it comes back, such as 2027-01-31, or a time (RFC 3339)")
	c.Flags().StringVar(&reason, "reason", "", "why it is let be")
	c.Flags().BoolVar(&end, "end", false, "open it again")
	return c
}

// dayGiven reads a day, which begins at midnight by the local clock, or a time.
func dayGiven(text string) (time.Time, error) {
	if t, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		return t, nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, usage{fmt.Errorf("%q is no day; expected one such as 2027-01-31, or a time such as 2027-01-31T18:00:00Z", text)}
	}
	return t, nil
}

// belongsTo says what something belongs to.
func belongsTo(b *client.Belongs) string {
	var list []string
	if b.Group != nil {
		list = append(list, "group "+*b.Group)
	}
	if b.Owner != nil {
		list = append(list, "owner "+*b.Owner)
	}
	if b.Tags != nil {
		list = append(list, "tags "+strings.Join(*b.Tags, ", "))
	}
	return strings.Join(list, "; ")
}

// catalogue is the table of rules, without a service.
func (a *app) catalogue() *cobra.Command {
	return &cobra.Command{Use: "catalogue", Short: "List every finding that can be made", Args: cobra.NoArgs,
		Example: "  insegna finding catalogue",
		RunE: a.run(func(*cobra.Command, []string) error {
			rows := make([]catalogueRow, len(check.Rules))
			for i, r := range check.Rules {
				rows[i] = catalogueRow{string(r.Code), string(r.Severity), r.Meaning, r.Mending()}
			}
			return print(a, rows, rows, []column[catalogueRow]{
				{head: "Finding", cell: func(r catalogueRow) string { return r.Code }},
				{head: "Severity", cell: func(r catalogueRow) string { return marks[r.Severity] },
					raw: func(r catalogueRow) string { return r.Severity }},
				{head: "Meaning", width: 44, cell: func(r catalogueRow) string { return r.Meaning }},
				{head: "Mends itself", width: 44, cell: func(r catalogueRow) string { return r.Mends }},
			})
		})}
}

// catalogueRow is what people are told of a rule.
type catalogueRow struct{ Code, Severity, Meaning, Mends string }

// findingColumns keep host names whole.
var findingColumns = []column[client.Finding]{
	{head: "Finding", cell: func(f client.Finding) string {
		return fmt.Sprintf("%s\n#%d", marks[string(f.Severity)], f.Id)
	}},
	{head: "Where", width: 35, cell: whereFound},
	{head: "Cause and remedy", width: 48, cell: func(f client.Finding) string {
		text := f.Code + ": " + f.Cause + "\n→ " + f.Remedy
		if v := f.Acceptance; v != nil {
			text += fmt.Sprintf("\naccepted until %s by %s: %s", day(v.Until), v.By, v.Reason)
		}
		return text
	}},
}

// csvFindingColumns are stable: programs go by their names.
var csvFindingColumns = []column[client.Finding]{
	{head: "severity", cell: func(f client.Finding) string { return string(f.Severity) }},
	{head: "code", cell: func(f client.Finding) string { return f.Code }},
	{head: "host", cell: func(f client.Finding) string { return f.Host }},
	{head: "server", cell: func(f client.Finding) string { return f.Server }},
	{head: "endpoint", cell: func(f client.Finding) string { return f.Endpoint }},
	{head: "cause", cell: func(f client.Finding) string { return f.Cause }},
	{head: "remedy", cell: func(f client.Finding) string { return f.Remedy }},
	{head: "declared", cell: func(f client.Finding) string { return f.Place }},
	{head: "configured", cell: func(f client.Finding) string { return orEmpty(f.Source) }},
	{head: "opened", cell: func(f client.Finding) string { return f.OpenedAt.UTC().Format("2006-01-02T15:04:05Z") }},
	{head: "belongs to", cell: func(f client.Finding) string {
		if f.Belongs == nil {
			return ""
		}
		return belongsTo(f.Belongs)
	}},
	{head: "accepted until", cell: func(f client.Finding) string {
		if f.Acceptance == nil {
			return ""
		}
		return f.Acceptance.Until.UTC().Format("2006-01-02T15:04:05Z")
	}},
}
