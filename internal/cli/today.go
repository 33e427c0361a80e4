package cli

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// today is the first thing to ask in the morning: what is broken, what is due,
// what happened by itself.
func (a *app) today() *cobra.Command {
	return &cobra.Command{Use: "today", Short: "Say how things stand", Args: cobra.NoArgs, Example: "  insegna today",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			t, err := get[client.Today](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetToday(ctx, nil) })
			if err != nil {
				return err
			}
			if t.Estate == "" {
				a.say("No estate has been applied yet. Have one drafted, insegna estate draft --out FILE, correct it, and run: insegna estate apply FILE")
			} else {
				a.say("%s: %s broken, %d due, %d at odds, %d agreed; %s%s.\n", clean(t.Estate), plural(t.Bindings.Broken, "binding"),
					t.DueBindings, t.Bindings.AtOdds, t.Bindings.Agreed, surveyed(t.Survey), nextSurvey(t.NextSurvey))
				if t.Stale > 0 {
					a.note("▒", fmt.Sprintf("%s not looked at for longer than the schedule allows: insegna survey schedule", plural(t.Stale, "binding")))
				}
			}
			if a.output == "json" {
				return a.json(t)
			}
			a.ordered(t.Ordered)
			a.installed(t.Installed)
			if len(t.Worst) == 0 && a.output == "table" {
				return nil
			}
			if len(t.Ordered)+len(t.Installed) > 0 {
				a.say("")
			}
			if a.output != "table" {
				return a.findingTable(t.Worst)
			}
			if err := a.findingLines(c.Context(), t.Worst); err != nil {
				return err
			}
			if c := t.Findings; c.Broken+c.Due+c.Weak+c.Note > len(t.Worst) {
				a.say("\nThe worst %d of them; all: insegna finding list", len(t.Worst))
			}
			a.say("\nWhat to do about one, with its evidence: insegna finding show NUMBER")
			return nil
		})}
}

// ordered tells what was ordered without anybody's word, and what failed.
func (a *app) ordered(list []client.Order) {
	for _, o := range list {
		if o.Failure != nil {
			a.note("✗",
				fmt.Sprintf("%s: order %d of %s failed: %s", moment(*o.FinishedAt), o.Number, o.Mandate, o.Failure.Words))
			a.note("", "→ "+o.Failure.Advice)
			continue
		}
		a.note("✓",
			fmt.Sprintf("%s: %s was ordered anew by itself, valid until %s", moment(*o.FinishedAt), o.Mandate,
				moment(*o.NotAfter)))
	}
}

// installed tells what was installed without anybody's word, and what somebody
// should look at.
func (a *app) installed(list []client.Installation) {
	for i := range list {
		v := &list[i]
		at := v.PreviewedAt
		if v.FinishedAt != nil {
			at = *v.FinishedAt
		}
		switch v.State {
		case client.InstallationStateDone:
			a.note("✓", fmt.Sprintf("%s: %s was installed on %s by itself", moment(at), v.Mandate, v.Server))
		case client.InstallationStatePreviewed:
			a.note("◷",
				fmt.Sprintf("%s: %s on %s waits for you: insegna installation show %d", moment(at), v.Mandate,
					v.Server, v.Number))
		default:
			a.note("✗",
				fmt.Sprintf("%s: %s on %s: %s; see: insegna installation show %d", moment(at), v.Mandate, v.Server,
					v.State, v.Number))
		}
	}
	if len(list) > 0 {
		a.say("")
	}
}

// nextSurvey says when is looked again without anybody's word.
func nextSurvey(at *time.Time) string {
	switch {
	case at == nil:
		return ", and not again by itself"
	case at.Before(time.Now()):
		return ", again any moment"
	}
	return ", again " + moment(*at)
}

// surveyed says how fresh all this is.
func surveyed(v *client.Survey) string {
	if v == nil {
		return "never surveyed"
	}
	return fmt.Sprintf("surveyed %s from %s", moment(v.CreatedAt), v.Vantage)
}
