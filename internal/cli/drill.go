package cli

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// drills are the verbs of replacing everything that hangs on one thing.
func (a *app) drills() *cobra.Command {
	return group("drill", "A CA, a certificate or a key is gone: replace everything that hangs on it", a.drillPlan(), a.drillBegin(), a.drillShow(), a.drillList())
}

// drillPlan plans one.
func (a *app) drillPlan() *cobra.Command {
	within := 24 * time.Hour
	c := &cobra.Command{Use: "plan ca|certificate|key WHAT", Short: "Plan to replace everything that hangs on a CA, a certificate or a key", Args: cobra.ExactArgs(2),
		Long: "WHAT is a CA by name, or a certificate by its fingerprint; for a key, one that has it. The plan tells the order of\n" +
			"work, the worst first, from where each certificate comes (a mandate's other CAs where its own is gone), whether\n" +
			"budgets carry it, when each is there, by what orders took here lately, and what is for people. Nothing is\n" +
			"ordered before insegna drill begin.",
		Example: "  insegna drill plan ca harbour-light --within 24h\n  insegna drill plan certificate 3f0a9c21 --within 5h",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			kind := client.DrillRequestKind(args[0])
			if !kind.Valid() {
				return usage{fmt.Errorf("a drill is about a ca, a certificate or a key, not %q", args[0])}
			}
			b := client.DrillRequest{Kind: kind, What: args[1], Hours: float32(within.Hours())}
			d, err := get[client.Drill](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.PlanDrill(ctx, b) })
			if err != nil {
				return err
			}
			return a.showDrill(d)
		})}
	c.Flags().DurationVar(&within, "within", within, "time there is, such as 24h")
	return c
}

// drillBegin has a plan done.
func (a *app) drillBegin() *cobra.Command {
	var rehearse, yes bool
	c := &cobra.Command{Use: "begin NUMBER", Short: "Have a drill done, or rehearsed at test directories", Args: cobra.ExactArgs(1),
		Long:    "Certificates that come are installed where those before them are. What a budget holds up comes when that ends.",
		Example: "  insegna drill begin 3 --rehearse\n  insegna drill begin 3",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "drill")
			if err != nil {
				return err
			}
			if !rehearse {
				if err := a.agreed(yes, fmt.Sprintf("Order everything of drill %d in earnest? That spends the budgets of CAs.", id),
					fmt.Sprintf("insegna drill begin %d --yes", id)); err != nil {
					return err
				}
			}
			d, err := get[client.Drill](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.BeginDrill(ctx, id, client.DrillBeginning{Rehearsal: rehearse})
			})
			if err != nil {
				return err
			}
			a.say("Drill %d is begun. How it goes: insegna drill show %[1]d", d.Number)
			return nil
		})}
	c.Flags().BoolVar(&rehearse, "rehearse", false, "at the CAs' test directories; nothing is spent and nothing installed")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// drillShow shows one.
func (a *app) drillShow() *cobra.Command {
	return &cobra.Command{Use: "show NUMBER", Short: "Show a drill and what was done of it", Args: cobra.ExactArgs(1), Example: "  insegna drill show 3",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "drill")
			if err != nil {
				return err
			}
			d, err := get[client.Drill](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetDrill(ctx, id) })
			if err != nil {
				return err
			}
			return a.showDrill(d)
		})}
}

// drillList lists the newest.
func (a *app) drillList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the newest drills", Args: cobra.NoArgs, Example: "  insegna drill list",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			v, err := get[client.DrillList](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ListDrills(ctx) })
			if err != nil {
				return err
			}
			return print(a, v, v.Items, []column[client.Drill]{
				{head: "Drill", cell: func(d client.Drill) string { return fmt.Sprint(d.Number) }},
				{head: "Gone", width: 30, cell: func(d client.Drill) string { return string(d.Kind) + " " + short(d.What) }},
				{head: "Within", cell: func(d client.Drill) string { return spanOf(float64(d.Hours) * 3600) }},
				{head: "Planned", width: 26, cell: func(d client.Drill) string { return moment(d.At) + " by " + d.By }},
				{head: "State", width: 26, cell: drillState},
			})
		})}
}

// short cuts a fingerprint.
func short(what string) string {
	const fingerprint, shown = 64, 12
	if len(what) == fingerprint {
		return what[:shown]
	}
	return what
}

// spanOf writes seconds as people say them.
func spanOf(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case d >= 48*time.Hour:
		return plural(int(d.Hours()/24+0.5), "day")
	case d >= 2*time.Hour:
		return plural(int(d.Hours()+0.5), "hour")
	case d >= 2*time.Minute:
		return plural(int(d.Minutes()+0.5), "minute")
	}
	return plural(int(d.Seconds()+0.5), "second")
}

// drillState tells how a drill stands.
func drillState(d client.Drill) string {
	switch {
	case d.BegunAt == nil:
		return "planned"
	case d.Rehearsal:
		return "rehearsed " + moment(*d.BegunAt)
	}
	return "begun " + moment(*d.BegunAt)
}

// showDrill tells a plan, and what was done of it.
func (a *app) showDrill(d *client.Drill) error {
	if a.output == "table" {
		a.say("Drill %d: the %s %s is gone, and there are %s; %s.", d.Number, d.Kind, short(d.What), spanOf(float64(d.Hours)*3600), drillState(*d))
		byItself := len(d.Work) - d.Persons
		words := "Nothing comes by itself"
		switch {
		case byItself == 1:
			words = "1 certificate comes by itself, after " + spanOf(float64(d.Done))
		case byItself > 1:
			words = fmt.Sprintf("%d certificates come by themselves, the last after %s", byItself, spanOf(float64(d.Done)))
		}
		if d.Late > 0 {
			words += fmt.Sprintf("; %d of them too late", d.Late)
		}
		a.say("%s; %d for people.", words, d.Persons)
		for _, ca := range d.ByCa {
			a.say("  %s gives %d.", ca.Ca, ca.Certificates)
		}
		if d.BegunAt == nil && byItself > 0 {
			a.say("Rehearse it: insegna drill begin %d --rehearse. Or have it done: insegna drill begin %[1]d", d.Number)
		}
		a.say("")
	}
	return print(a, d, d.Work, []column[client.DrillWork]{
		{head: "Mandate", width: 30, cell: func(w client.DrillWork) string { return w.Mandate }},
		{head: "Shown at", cell: func(w client.DrillWork) string { return plural(w.Bindings, "binding") }, raw: func(w client.DrillWork) string { return fmt.Sprint(w.Bindings) }},
		{head: "Ends", cell: func(w client.DrillWork) string { return day(w.Ends) }},
		{head: "From", cell: func(w client.DrillWork) string { return w.Ca }},
		{head: "There after", cell: func(w client.DrillWork) string {
			if w.Person != "" {
				return ""
			}
			return spanOf(float64(w.Seconds))
		}},
		{head: "State", width: 40, cell: workState},
	})
}

// workState tells how one certificate of a drill stands.
func workState(w client.DrillWork) string {
	switch {
	case w.Person != "":
		return "for a person: " + w.Person
	case w.State == client.DrillWorkStatePlanned:
		return "planned"
	}
	text := string(w.State)
	if w.Order != nil {
		text += fmt.Sprintf(", order %d", *w.Order)
	}
	if w.Words != nil {
		text += ": " + *w.Words
	}
	return text
}
