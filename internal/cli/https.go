package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// https goes the whole way from a site to https. The service does it and keeps
// how far it is; this command shows it, asks, and follows.
func (a *app) https() *cobra.Command {
	var server, mandate string
	var also []string
	var number int64
	var yes, runs bool
	c := &cobra.Command{Use: "https NAME --server SERVER",
		Short: "Take a site to https: names, pre-flight, order, preview, install, visit", Args: cobra.MaximumNArgs(1),
		Long: "Works out the names of the site that NAME belongs to, makes a mandate for them, tries what the CA\n" +
			"will try, prepares the server where a rule of its stands in the way of that, orders, shows what\n" +
			"changes on the server, asks, installs, and visits every name. Nothing is changed before you agree\n" +
			"to it; --yes agrees beforehand. The service does it and stores each step: when\n" +
			"this command ends before it does, --continue NUMBER takes it up again; --list shows those begun.",
		Example: "  insegna https deck-plans.lanterncoast.example --server pier-1\n  insegna https www.lanterncoast.example " +
			"--server quay-lb --mandate seafront --yes\n  insegna https --continue 3",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			if runs {
				return a.listHTTPS(ctx)
			}
			v, err := a.httpsBegun(ctx, args, server, mandate, also, number)
			if err != nil {
				return err
			}
			if v, err = a.httpsOrdered(ctx, v, yes); err != nil {
				return err
			}
			if v, err = a.httpsInstalled(ctx, v, yes); err != nil {
				return err
			}
			if a.output == "json" {
				if v, err = a.httpsNow(ctx, v.Number); err != nil {
					return err
				}
				return a.json(v)
			}
			return a.lookAgain(ctx, v.Mandate, v.Host)
		})}
	c.Flags().StringVar(&server, "server", "", "the server the site is on")
	c.Flags().StringVar(&mandate, "mandate", "", "a mandate that is there already, instead of a new one")
	c.Flags().Int64Var(&number, "continue", 0, "take up one that was begun, by its number")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&runs, "list", false, "list the sites that were taken to https or are on their way")
	agreeing(c, &also)
	c.MarkFlagsMutuallyExclusive("list", "continue")
	return c
}

// listHTTPS lists the runs, newest first.
func (a *app) listHTTPS(ctx context.Context) error {
	var rows []client.HttpsRun
	var cursor *string
	for {
		page, err := get[client.HttpsRunPage](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
			return cl.ListHttps(ctx, &client.ListHttpsParams{Cursor: cursor})
		})
		if err != nil {
			return err
		}
		if rows, cursor = append(rows, page.Items...), page.NextCursor; cursor == nil {
			break
		}
	}
	if len(rows) == 0 && a.output == "table" {
		a.say("No site was taken to https yet. Begin with: insegna https NAME --server SERVER")
		return nil
	}
	return print(a, rows, rows, []column[client.HttpsRun]{
		{head: "No.", cell: func(v client.HttpsRun) string { return strconv.FormatInt(v.Number, 10) }},
		{head: "Site", width: 34, cell: func(v client.HttpsRun) string { return v.Host }},
		{head: "Server", width: 14, cell: func(v client.HttpsRun) string { return v.Server }},
		{head: "Begun", cell: func(v client.HttpsRun) string { return moment(v.BegunAt) },
			raw: func(v client.HttpsRun) string { return v.BegunAt.Format(time.RFC3339) }},
		{head: "State", width: 28, cell: httpsStanding, raw: func(v client.HttpsRun) string { return string(v.State) }},
	})
}

// httpsStanding says how a run stands and what it waits for.
func httpsStanding(v client.HttpsRun) string {
	switch v.State {
	case client.HttpsRunStateDrafted, client.HttpsRunStatePrepared, client.HttpsRunStatePreviewed:
		return string(v.State) + ", waits for you"
	case client.HttpsRunStateFailed:
		return "failed: " + v.Reason
	}
	return string(v.State)
}

// httpsBegun begins, or takes up what was begun.
func (a *app) httpsBegun(ctx context.Context, args []string, server, mandate string, also []string,
	number int64) (*client.HttpsRun, error) {
	switch {
	case number != 0 && len(args) == 0:
		return a.httpsNow(ctx, number)
	case number != 0 || len(args) == 0:
		return nil, usage{errors.New("expected NAME with --server, or --continue NUMBER alone")}
	case server == "":
		return nil, usage{fmt.Errorf("on which server is %s? add --server NAME; see: insegna server list", args[0])}
	}
	body := client.HttpsRequest{Host: args[0], Server: server, Also: given(also)}
	if mandate != "" {
		body.Mandate = &mandate
	}
	return get[client.HttpsRun](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.BeginHttps(ctx, body)
	})
}

// httpsNow asks how far a run is.
func (a *app) httpsNow(ctx context.Context, number int64) (*client.HttpsRun, error) {
	return get[client.HttpsRun](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.GetHttps(ctx, number)
	})
}

// httpsContinue agrees to what a run waits for.
func (a *app) httpsContinue(ctx context.Context, number int64) (*client.HttpsRun, error) {
	return get[client.HttpsRun](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.ContinueHttps(ctx, number)
	})
}

// httpsOrdered shows names and mandate, asks, and follows pre-flight and order
// until the installation is previewed.
func (a *app) httpsOrdered(ctx context.Context, v *client.HttpsRun, yes bool) (*client.HttpsRun, error) {
	var err error
	if v.State == client.HttpsRunStateDrafted {
		a.showHTTPSDraft(v)
		if v.Draft != "" {
			if err := a.agreed(yes, map[bool]string{true: "Make this mandate, and order?", false: "Have it hold these names, and order?"}[v.Widens == nil],
				fmt.Sprintf("insegna https --continue %d", v.Number)); err != nil {
				return nil, err
			}
		}
		if v, err = a.httpsContinue(ctx, v.Number); err != nil {
			return nil, err
		}
	}
	made, tried, followed := v.Draft == "", false, false
	for {
		if !made && v.Mandate != "" {
			made = true
			if v.Widens == nil {
				a.say("\nThe mandate %s is made.", v.Mandate)
			}
		}
		if len(v.Trials) > 0 && !tried {
			tried = true
			a.showTrials(v.Trials)
		}
		switch {
		case v.State == client.HttpsRunStateFailed:
			return nil, httpsFailure(v)
		case v.Order != nil && !followed:
			followed = true
			o, err := get[client.Order](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.GetOrder(ctx, *v.Order)
			})
			if err != nil {
				return nil, err
			}
			a.say("")
			if err := a.followOrder(ctx, o); err != nil {
				return nil, err
			}
		case v.State == client.HttpsRunStatePrepared:
			if v, err = a.httpsPrepared(ctx, v, yes); err != nil {
				return nil, err
			}
			tried = false
			continue
		case v.State != client.HttpsRunStateChecking && v.State != client.HttpsRunStateOrdering:
			return v, nil
		}
		if v, err = a.httpsLater(ctx, v); err != nil {
			return nil, err
		}
	}
}

// httpsPrepared shows what has to change on the server before the CA is asked,
// asks, and follows until that is done and the pre-flight was tried anew.
func (a *app) httpsPrepared(ctx context.Context, v *client.HttpsRun, yes bool) (*client.HttpsRun, error) {
	a.say("\n%s can be prepared, so that it serves what the CA asks for. What is changed stays so:", v.Server)
	a.showDiffs(v.Preparation.Files)
	a.say("")
	for _, act := range v.Preparation.Acts {
		a.say("  %-6s %s", clean(act.Does), clean(act.What))
	}
	a.showNotes(v.Server, v.Preparation.Notes, reloads(v.Preparation.Acts))
	err := a.agreed(yes, "Prepare "+v.Server+" so?", fmt.Sprintf("insegna https --continue %d", v.Number))
	if err != nil {
		return nil, err
	}
	if v, err = a.httpsContinue(ctx, v.Number); err != nil {
		return nil, err
	}
	a.say("")
	for printed := 0; ; {
		over := v.State != client.HttpsRunStatePreparing
		printed = a.stepsFrom(v.Preparation.Steps, printed, over)
		if over {
			break
		}
		if v, err = a.httpsLater(ctx, v); err != nil {
			return nil, err
		}
	}
	for v.State == client.HttpsRunStateChecking {
		if v, err = a.httpsLater(ctx, v); err != nil {
			return nil, err
		}
	}
	return v, nil
}

// httpsInstalled shows what changes on the server, asks, and follows the
// installation.
func (a *app) httpsInstalled(ctx context.Context, v *client.HttpsRun, yes bool) (*client.HttpsRun, error) {
	var err error
	i := &client.Installation{}
	if v.Installation != nil {
		if i, err = a.installationOf(ctx, *v.Installation); err != nil {
			return nil, err
		}
	}
	if v.State == client.HttpsRunStatePreviewed {
		a.say("")
		a.showPreview(i)
		if err := a.agreed(yes, "Install this on "+v.Server+"?",
			fmt.Sprintf("insegna https --continue %d", v.Number)); err != nil {
			return nil, err
		}
		if v, err = a.httpsContinue(ctx, v.Number); err != nil {
			return nil, err
		}
	}
	for v.State == client.HttpsRunStateInstalling && i.StartedAt == nil {
		if v, err = a.httpsLater(ctx, v); err != nil {
			return nil, err
		}
		if v.Installation == nil { // another one has come before it
			continue
		}
		if i, err = a.installationOf(ctx, *v.Installation); err != nil {
			return nil, err
		}
	}
	if i.StartedAt != nil {
		if err := a.followInstallation(ctx, i); err != nil {
			return nil, err
		}
	}
	for v.State == client.HttpsRunStateInstalling {
		if v, err = a.httpsLater(ctx, v); err != nil {
			return nil, err
		}
	}
	if v.State == client.HttpsRunStateFailed {
		return nil, httpsFailure(v)
	}
	if v.Reason != "" {
		a.say("\n%s", clean(v.Reason))
	}
	return v, nil
}

// httpsLater waits a moment and asks how far a run is.
func (a *app) httpsLater(ctx context.Context, v *client.HttpsRun) (*client.HttpsRun, error) {
	select {
	case <-time.After(between):
		return a.httpsNow(ctx, v.Number)
	case <-ctx.Done():
		return nil, fmt.Errorf("it goes on without this command; take it up with: insegna https --continue %d", v.Number)
	}
}

// httpsFailure tells what stands in the way.
func httpsFailure(v *client.HttpsRun) error {
	if v.Next == "" {
		return errors.New(clean(v.Reason))
	}
	return fmt.Errorf("%s; %s", clean(v.Reason), clean(v.Next))
}

// showHTTPSDraft shows the names of a site and the mandate for them.
func (a *app) showHTTPSDraft(v *client.HttpsRun) {
	if v.Draft == "" {
		a.say("The mandate %s is for %s already.", v.Mandate, strings.Join(v.Names, ", "))
		return
	}
	a.say("The site's names: %s", strings.Join(v.Names, ", "))
	for _, advice := range v.Advice {
		a.say("  %s", clean(advice))
	}
	if v.Widens != nil {
		a.say("\nThe mandate %s is for %s so far, and gets more names:\n", v.Mandate, strings.Join(*v.Widens, ", "))
	} else {
		a.say("\nA mandate for them:\n")
	}
	for line := range strings.Lines(v.Draft) {
		a.say("  %s", clean(strings.TrimSpace(line)))
	}
}

// showTrials shows what a pre-flight tried.
func (a *app) showTrials(list []client.Trial) {
	a.say("\nPre-flight")
	for _, t := range list {
		if t.Code == "" {
			a.say("  ✓  %-8s %s: %s", t.Step, clean(t.Name), clean(t.Seen))
			continue
		}
		a.say("  ✗  %-8s %s: %s\n     %s\n     → %s", t.Step, clean(t.Name), clean(t.Seen), clean(t.Spot),
			clean(t.Remedy))
	}
}

// between two looks at how something stands.
const between = 200 * time.Millisecond

// lookedAt surveys a part of the estate, and waits for the end.
func (a *app) lookedAt(ctx context.Context, req client.SurveyRequest) error {
	v, err := get[client.Survey](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.StartSurvey(ctx, req)
	})
	if err != nil {
		return err
	}
	for v.FinishedAt == nil {
		select {
		case <-time.After(between):
		case <-ctx.Done():
			return fmt.Errorf("survey %d goes on without this command; see: insegna survey follow %[1]d", v.Id)
		}
		if v, err = get[client.Survey](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
			return cl.GetSurvey(ctx, v.Id)
		}); err != nil {
			return err
		}
	}
	return nil
}

// lookAgain has the service visit every name of a mandate and survey its
// bindings, and tells what came of both.
func (a *app) lookAgain(ctx context.Context, mandate, host string) error {
	if err := a.visitMandate(ctx, mandate); err != nil {
		return err
	}
	if err := a.lookedAt(ctx, client.SurveyRequest{Host: &host}); err != nil {
		if ctx.Err() != nil {
			return err
		}
		a.say("\nThe estate does not want %s yet. Take it in, and every survey looks at it: insegna host add %[1]s --at SERVER", host)
		return nil
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
	list, err := get[client.VisitList](a, ctx,
		func(ctx context.Context, cl calls) (*http.Response, error) { return cl.VisitMandate(ctx, mandate) })
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
		host string // the name taken to https
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

// visitColumns are the steps of a visit, each with what to do where it is not
// fine.
var visitColumns = []column[client.VisitStep]{
	{head: "", cell: func(s client.VisitStep) string { return map[bool]string{true: "=", false: "✗ "}[s.Fine] },
		raw: func(s client.VisitStep) string { return map[bool]string{true: "fine", false: "not fine"}[s.Fine] }},
	{head: "Step", cell: func(s client.VisitStep) string { return string(s.Step) }},
	{head: "At", width: 21, cell: func(s client.VisitStep) string { return s.Endpoint }},
	{head: "Seen", width: 58, cell: func(s client.VisitStep) string {
		if s.Do == "" {
			return s.Seen
		}
		return s.Seen + "\n→ " + s.Do
	}, raw: func(s client.VisitStep) string { return s.Seen }},
}
