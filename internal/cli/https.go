package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// https goes the whole way from a site to https.
func (a *app) https() *cobra.Command {
	var server, mandate string
	var yes bool
	c := &cobra.Command{Use: "https NAME --server SERVER", Short: "Take a site to https: names, pre-flight, order, preview, install, visit", Args: cobra.ExactArgs(1),
		Long: "Works out the names of the site that NAME belongs to, makes a mandate for them, tries what the CA\n" +
			"will try, orders, shows what changes on the server, asks, installs, and visits every name. Nothing\n" +
			"is changed before you agree; --yes agrees beforehand. Each step is a command of its own as well:\n" +
			"mandate draft, add, check and order, install, mandate visit.",
		Example: "  insegna https deck-plans.lanterncoast.example --server pier-1\n  insegna https www.lanterncoast.example --server quay-lb --mandate seafront --yes",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if server == "" {
				return usage{fmt.Errorf("on which server is %s? add --server NAME; see: insegna server list", args[0])}
			}
			ctx := c.Context()
			m, err := a.mandateFor(ctx, args[0], server, mandate, yes)
			if err != nil {
				return err
			}
			if m.InForce == nil {
				if m, err = a.obtained(ctx, m.Name); err != nil {
					return err
				}
			} else {
				a.say("The mandate %s has a certificate, valid until %s.", m.Name, moment(*m.InForce.NotAfter))
			}
			a.say("")
			v, err := a.previewInstallation(ctx, m.Name, server)
			if err != nil {
				return err
			}
			a.showPreview(v)
			if err := a.agreed(yes, "Install this on "+server+"?", "insegna installation begin "+fmt.Sprint(v.Number)); err != nil {
				return err
			}
			if err := a.beginInstallation(ctx, v.Number); err != nil {
				return err
			}
			return a.lookAgain(ctx, m.Name, args[0])
		})}
	c.Flags().StringVar(&server, "server", "", "the server the site is on")
	c.Flags().StringVar(&mandate, "mandate", "", "a mandate that is there already, instead of a new one")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// mandateFor finds the mandate for a site's names, or makes one.
func (a *app) mandateFor(ctx context.Context, host, server, name string, yes bool) (*client.Mandate, error) {
	show := func(name string) (*client.Mandate, error) {
		return get[client.Mandate](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetMandate(ctx, name) })
	}
	if name != "" {
		return show(name)
	}
	draft, err := get[client.MandateDraft](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.DraftMandate(ctx, &client.DraftMandateParams{Server: &server, Site: &host})
	})
	if err != nil {
		return nil, err
	}
	limit := 1000
	page, err := get[client.MandatePage](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.ListMandates(ctx, &client.ListMandatesParams{Q: &draft.Names[0], Limit: &limit})
	})
	if err != nil {
		return nil, err
	}
	for _, m := range page.Items {
		if !slices.ContainsFunc(draft.Names, func(n string) bool { return !slices.Contains(m.Names, n) }) {
			a.say("The mandate %s is for %s already.", m.Name, strings.Join(draft.Names, ", "))
			return show(m.Name)
		}
	}
	a.say("The site's names: %s", strings.Join(draft.Names, ", "))
	for _, advice := range draft.Advice {
		a.say("  %s", clean(advice))
	}
	a.say("\nA mandate for them:\n")
	for line := range strings.Lines(draft.Text) {
		a.say("  %s", clean(strings.TrimSpace(line)))
	}
	if err := a.agreed(yes, "Make this mandate, and order?", "insegna mandate draft --server "+server+" --site "+host); err != nil {
		return nil, err
	}
	m, err := get[client.Mandate](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.AddMandate(ctx, client.MandateText{Text: draft.Text})
	})
	if err == nil {
		a.say("\nThe mandate %s is made.", m.Name)
	}
	return m, err
}

// obtained tries what the CA will try, and orders.
func (a *app) obtained(ctx context.Context, mandate string) (*client.Mandate, error) {
	list, err := get[client.TrialList](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) { return cl.CheckMandate(ctx, mandate) })
	if err != nil {
		return nil, err
	}
	a.say("\nPre-flight")
	for _, t := range list.Items {
		if t.Code == "" {
			a.say("  ✓  %-8s %s: %s", t.Step, clean(t.Name), clean(t.Seen))
			continue
		}
		a.say("  ✗  %-8s %s: %s\n     %s\n     → %s", t.Step, clean(t.Name), clean(t.Seen), clean(t.Spot), clean(t.Remedy))
	}
	if !list.Well {
		return nil, fmt.Errorf("something is in the way of %s; the CA was not asked", mandate)
	}
	a.say("")
	o, err := get[client.Order](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.BeginOrder(ctx, client.OrderRequest{Mandate: mandate})
	})
	if err != nil {
		return nil, err
	}
	if err := a.followOrder(ctx, o); err != nil {
		return nil, err
	}
	return get[client.Mandate](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetMandate(ctx, mandate) })
}

// between two looks at how something stands.
const between = 200 * time.Millisecond

// lookAgain has the service visit every name of a mandate and survey its
// bindings, and tells what came of both.
func (a *app) lookAgain(ctx context.Context, mandate, host string) error {
	if err := a.visitMandate(ctx, mandate); err != nil {
		return err
	}
	v, err := get[client.Survey](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.StartSurvey(ctx, client.SurveyRequest{Host: &host})
	})
	if err != nil {
		a.say("\nThe estate does not want %s yet. Add it under hosts, and every survey looks at it.", host)
		return nil
	}
	for v.FinishedAt == nil {
		select {
		case <-time.After(between):
		case <-ctx.Done():
			return fmt.Errorf("survey %d goes on without this command; see: insegna survey follow %[1]d", v.Id)
		}
		if v, err = get[client.Survey](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetSurvey(ctx, v.Id) }); err != nil {
			return err
		}
	}
	list, err := get[client.BindingPage](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.ListBindings(ctx, &client.ListBindingsParams{Q: &host})
	})
	if err != nil {
		return err
	}
	a.say("")
	for _, b := range list.Items {
		a.say("%s at %s on %s: %s", b.Host, b.Endpoint, b.Server, b.Verdict)
	}
	return nil
}

// visitMandate tells each step of a visitor's way to each name of a mandate.
func (a *app) visitMandate(ctx context.Context, mandate string) error {
	list, err := get[client.VisitList](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) { return cl.VisitMandate(ctx, mandate) })
	if err != nil {
		return err
	}
	if a.output == "table" {
		for _, v := range list.Items {
			a.say("\nVisit to %s", v.Host)
			if err := print(a, v, v.Steps, visitColumns); err != nil {
				return err
			}
		}
		return nil
	}
	type row struct {
		host string
		client.VisitStep
	}
	var rows []row
	for _, v := range list.Items {
		for _, s := range v.Steps {
			rows = append(rows, row{v.Host, s})
		}
	}
	columns := []column[row]{{head: "Name", cell: func(r row) string { return r.host }}}
	for _, c := range visitColumns {
		columns = append(columns, column[row]{head: c.head, cell: func(r row) string {
			if c.raw != nil {
				return c.raw(r.VisitStep)
			}
			return c.cell(r.VisitStep)
		}})
	}
	return print(a, list, rows, columns)
}

var visitColumns = []column[client.VisitStep]{
	{head: "", cell: func(s client.VisitStep) string { return map[bool]string{true: "=", false: "✗ "}[s.Fine] }, raw: func(s client.VisitStep) string { return map[bool]string{true: "fine", false: "not fine"}[s.Fine] }},
	{head: "Step", cell: func(s client.VisitStep) string { return string(s.Step) }},
	{head: "At", width: 21, cell: func(s client.VisitStep) string { return s.Endpoint }},
	{head: "Seen", width: 58, cell: func(s client.VisitStep) string {
		if s.Do == "" {
			return s.Seen
		}
		return s.Seen + "\n→ " + s.Do
	}, raw: func(s client.VisitStep) string { return s.Seen }},
}
