package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"insegna.example/client"
	"insegna.example/internal/core/check"
)

// survey groups the commands about surveys.
func (a *app) survey() *cobra.Command {
	return group("survey", "Look at the estate: start, follow, list, changes, schedule", a.surveyStart(), a.surveyFollow(),
		a.surveyList(), a.surveyChanges(), a.surveySchedule())
}

// surveyStart follows the survey it starts; with detach it only says its
// number.
func (a *app) surveyStart() *cobra.Command {
	var detach bool
	var req client.SurveyRequest
	var host, server, group string
	c := &cobra.Command{Use: "start", Short: "Start a survey and follow it to its end", Args: cobra.NoArgs,
		Example: "  insegna survey start\n  insegna survey start --host booking.lanterncoast.example\n  insegna survey " +
			"start --fail-at due",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			if err := a.checkFailAt(); err != nil {
				return err
			}
			if host != "" {
				req.Host = &host
			}
			if group != "" {
				req.Group = &group
			}
			if server != "" {
				req.Server = &server
			}
			v, err := get[client.Survey](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.StartSurvey(ctx, req) })
			if err != nil {
				return err
			}
			if detach {
				a.say("Survey %d has begun. Follow it with: insegna survey follow %d", v.Id, v.Id)
				return a.surveyDoc(v)
			}
			return a.follow(c.Context(), v.Id)
		})}
	c.Flags().BoolVar(&detach, "detach", false, "do not wait for the end")
	c.Flags().StringVar(&host, "host", "", "only this host")
	c.Flags().StringVar(&server, "server", "", "only this server")
	c.Flags().StringVar(&group, "group", "", "only hosts of this group")
	a.failAtFlag(c)
	return c
}

// surveyDoc prints the survey for programs.
func (a *app) surveyDoc(v *client.Survey) error {
	if a.output == "json" {
		return a.json(v)
	}
	return nil
}

// surveyID reads a survey's number.
func surveyID(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, usage{fmt.Errorf("%q is no survey; expected a number as insegna survey list shows them", text)}
	}
	return id, nil
}

// surveyFollow joins a survey somebody else started.
func (a *app) surveyFollow() *cobra.Command {
	c := &cobra.Command{Use: "follow NUMBER", Short: "Follow a survey to its end", Args: cobra.ExactArgs(1),
		Example: "  insegna survey follow 1",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if err := a.checkFailAt(); err != nil {
				return err
			}
			id, err := surveyID(args[0])
			if err != nil {
				return err
			}
			return a.follow(c.Context(), id)
		})}
	a.failAtFlag(c)
	return c
}

// follow shows a survey's progress on stderr and its result on stdout.
func (a *app) follow(ctx context.Context, id int64) error {
	v, err := get[client.Survey](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.GetSurvey(ctx, id)
	})
	if err != nil {
		return err
	}
	caller, err := a.caller()
	if err != nil {
		return err
	}
	show, end := a.progress(v.Targets)
	err = client.FollowSurvey(ctx, caller, a.calls(), id, func(now client.Survey) error {
		v = &now
		show(now)
		return nil
	})
	end()
	if ctx.Err() != nil {
		return fmt.Errorf("stopped following; survey %d goes on, see: insegna survey follow %[1]d", id)
	}
	if err != nil {
		return err
	}
	return a.surveyResult(ctx, v)
}

// sayEvery is how often progress is said where no bar can be drawn.
const sayEvery = 3 * time.Second

// progress draws a bar on a terminal, or says a line every few seconds.
func (a *app) progress(targets int) (show func(client.Survey), end func()) {
	if !a.terminal {
		last := time.Time{}
		return func(v client.Survey) {
			if time.Since(last) >= sayEvery || v.State == client.SurveyStateFinished {
				last = time.Now()
				fmt.Fprintf(a.err, "survey %d: looked %d of %d\n", v.Id, v.Done, v.Targets)
			}
		}, func() {}
	}
	bar := progressbar.NewOptions(targets, progressbar.OptionSetWriter(a.err),
		progressbar.OptionSetDescription("looking"), progressbar.OptionSetWidth(40),
		progressbar.OptionShowCount(), progressbar.OptionClearOnFinish(), progressbar.OptionSetPredictTime(true),
		progressbar.OptionSetTheme(progressbar.Theme{Saucer: "━", SaucerPadding: "·", BarStart: "", BarEnd: ""}))
	return func(v client.Survey) { _ = bar.Set(v.Done) }, func() { _ = bar.Finish() }
}

// scopeOf reads the host, the server and the group a survey was limited to.
func scopeOf(v *client.Survey) (host, server, group string) {
	rest := v.Scope
	if group, is := strings.CutPrefix(rest, "group "); is {
		return "", "", group
	}
	if after, ok := strings.CutPrefix(rest, "host "); ok {
		host, rest, _ = strings.Cut(after, " at ")
	}
	server, _ = strings.CutPrefix(rest, "server ")
	if server == rest {
		server = ""
	}
	return host, server, ""
}

// foundIn gives the open findings of what a survey looked at: of a part alone, when
// it was one. A finding about a server as a whole is of its hosts too when it
// stands for theirs.
func (a *app) foundIn(ctx context.Context, v *client.Survey) ([]client.Finding, error) {
	host, server, group := scopeOf(v)
	params := &client.ListFindingsParams{}
	if host != "" {
		params.Q = &host
	}
	if server != "" {
		params.Server = &server
	}
	if group != "" {
		params.Group = &[]string{group}
	}
	page, err := whole(a, ctx, 0, findingPart,
		func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response,
			error) {
			params.Cursor, params.Limit = cursor, size
			return cl.ListFindings(ctx, params)
		})
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(page.Items, func(f client.Finding) bool {
		return host != "" && f.Host != host && (f.StandsFor == nil || f.Host != "")
	}), nil
}

// surveyResult says what was found where the survey looked, and ends as --fail-at
// asks.
func (a *app) surveyResult(ctx context.Context, v *client.Survey) error {
	list, err := a.foundIn(ctx, v)
	if err != nil {
		return err
	}
	if err := a.surveyDoc(v); err != nil {
		return err
	}
	took := ""
	if v.FinishedAt != nil {
		took = " in " + v.FinishedAt.Sub(v.CreatedAt).Round(10*time.Millisecond).String()
	}
	a.say("Survey %d (%s) looked at %s%s: %d answered with a certificate, %s, %s opened, %d closed.",
		v.Id, clean(v.Scope), plural(v.Targets, "target"), took, v.Connected, plural(v.Changed, "change"),
		plural(v.Opened, "finding"), v.Closed)
	var counts client.SeverityCounts
	for _, f := range list {
		*map[client.Severity]*int{client.SeverityBroken: &counts.Broken, client.SeverityDue: &counts.Due,
			client.SeverityWeak: &counts.Weak, client.SeverityNote: &counts.Note}[f.Severity]++
	}
	if a.output == "table" && len(list) > 0 {
		a.say("")
		if err := a.findingLines(ctx, list); err != nil {
			return err
		}
		a.say("\nOpen findings: %s. One with its evidence: insegna finding show NUMBER", countText(counts))
	}
	return a.failOn(present(counts))
}

// countText counts findings by severity.
func countText(c client.SeverityCounts) string {
	return fmt.Sprintf("%d broken, %d due, %d weak, %d note", c.Broken, c.Due, c.Weak, c.Note)
}

// present lists the severities that have an open finding.
func present(c client.SeverityCounts) (list []check.Severity) {
	for i, n := range []int{c.Broken, c.Due, c.Weak, c.Note} {
		if n > 0 {
			list = append(list, check.Severities[i])
		}
	}
	return list
}

// surveyList lists the newest first.
func (a *app) surveyList() *cobra.Command {
	var limit int
	c := &cobra.Command{Use: "list", Short: "List surveys, newest first", Args: cobra.NoArgs,
		Example: "  insegna survey list",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			page, err := whole(a, c.Context(), limit,
				func(p *client.SurveyPage) (*[]client.Survey, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					return cl.ListSurveys(ctx, &client.ListSurveysParams{Cursor: cursor, Limit: size})
				})
			if err != nil {
				return err
			}
			if len(page.Items) == 0 {
				a.say("No survey yet. Start one with: insegna survey start")
			}
			defer a.more(page.NextCursor, len(page.Items))
			return print(a, page.Items, page.Items, []column[client.Survey]{
				{head: "Number", cell: func(v client.Survey) string { return fmt.Sprint(v.Id) }},
				{head: "Begun ", cell: func(v client.Survey) string { return moment(v.CreatedAt) }},
				{head: "State", cell: func(v client.Survey) string { return string(v.State) }},
				{head: "Scope", width: 24, cell: func(v client.Survey) string { return strings.Replace(scopeAndBy(v), ", ", "\n", 1) },
					raw: scopeAndBy},
				{head: "Looked", cell: func(v client.Survey) string { return fmt.Sprintf("%d/%d", v.Done, v.Targets) }},
				{head: "Changed", cell: func(v client.Survey) string { return fmt.Sprint(v.Changed) }},
				{head: "Opened", cell: func(v client.Survey) string { return fmt.Sprint(v.Opened) }},
				{head: "Closed", cell: func(v client.Survey) string { return fmt.Sprint(v.Closed) }},
			})
		})}
	c.Flags().IntVar(&limit, "limit", 0, limitHelp)
	return c
}

// scopeAndBy says what a survey looked at, and who began it where that is known.
func scopeAndBy(v client.Survey) string {
	if v.BegunBy == "" {
		return v.Scope
	}
	return v.Scope + ", by " + v.BegunBy
}

// surveySchedule tells what is looked at by itself.
func (a *app) surveySchedule() *cobra.Command {
	return &cobra.Command{Use: "schedule", Short: "Say what is looked at by itself, and when", Args: cobra.NoArgs,
		Long: "Says what is looked at without anybody's word, when that was last and when it will be next. The estate\nfile declares it, " +
			"under schedule; a server may have one of its own.",
		Example: "  insegna survey schedule",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			s, err := get[client.Schedule](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.GetSchedule(ctx)
			})
			if err != nil {
				return err
			}
			err = print(a, s, s.Parts, []column[client.WatchedPart]{
				{head: "What is looked at", width: 34, cell: func(p client.WatchedPart) string { return p.Scope }},
				{head: "Every", cell: func(p client.WatchedPart) string { return p.Every }},
				{head: "Last begun", cell: func(p client.WatchedPart) string {
					switch {
					case p.Runs:
						return "now"
					case p.Last == nil:
						return "never"
					}
					return moment(*p.Last)
				}},
				{head: "Next", cell: func(p client.WatchedPart) string {
					switch {
					case p.Next == nil:
						return "not by itself"
					case p.Next.Before(time.Now()):
						return "any moment"
					}
					return moment(*p.Next)
				}},
				{head: "Missed", cell: func(p client.WatchedPart) string { return fmt.Sprint(p.Missed) }},
			})
			if err != nil || a.output != "table" {
				return err
			}
			a.say("")
			if s.Files != "never" {
				a.say("Whether files of configurations have changed is seen every %s; their server is then read and looked at.", s.Files)
			}
			if s.Quiet != nil {
				now := ""
				if s.QuietNow {
					now = ", which it is now"
				}
				a.say("Nothing begins by itself from %s%s.", strings.Replace(*s.Quiet, "-", " to ", 1), now)
			}
			if s.Stale > 0 {
				a.say("Not looked at for more than two intervals, and stale until that is done: %s. Look now: insegna survey start",
					plural(s.Stale, "binding"))
			}
			return nil
		})}
}

// surveyChanges compares with the survey before, unless another one is named.
func (a *app) surveyChanges() *cobra.Command {
	c := &cobra.Command{Use: "changes [NUMBER] [SINCE]", Short: "Show what changed in a survey, or between two",
		Args: cobra.MaximumNArgs(2),
		Long: "Shows what changed in the survey NUMBER against the one before it, or against the survey SINCE.\nWithout " +
			"NUMBER, " +
			"the newest survey is meant.",
		Example: "  insegna survey changes\n  insegna survey changes 4 1",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			id, params, err := a.changesOf(c.Context(), cl, args)
			if err != nil {
				return err
			}
			d, err := get[client.SurveyChanges](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.GetSurveyChanges(ctx, id, params)
			})
			if err != nil {
				return err
			}
			return a.showSurveyChanges(d)
		})}
	return c
}

// changesOf reads which surveys are compared; none means the newest.
func (a *app) changesOf(ctx context.Context, cl *client.ClientWithResponses, args []string) (id int64,
	params *client.GetSurveyChangesParams, err error) {
	params = &client.GetSurveyChangesParams{}
	if len(args) == 2 {
		since, err := surveyID(args[1])
		if err != nil {
			return 0, nil, err
		}
		params.Since = &since
	}
	if len(args) > 0 {
		id, err = surveyID(args[0])
		return id, params, err
	}
	one := 1
	page, err := get[client.SurveyPage](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.ListSurveys(ctx, &client.ListSurveysParams{Limit: &one})
	})
	if err != nil {
		return 0, nil, err
	}
	if len(page.Items) == 0 {
		return 0, nil, fmt.Errorf("there is no survey yet; start one with: insegna survey start")
	}
	return page.Items[0].Id, params, nil
}

// showSurveyChanges lists what visitors meet otherwise than before, then
// findings opened and closed.
func (a *app) showSurveyChanges(d *client.SurveyChanges) error {
	a.say("Survey %d against %s: %s, %s opened, %d closed.", d.Survey, orBeginning(d.Since),
		plural(len(d.Changes), "change"), plural(len(d.Opened), "finding"), len(d.Closed))
	if len(d.Changes) > 0 || a.output != "table" {
		a.say("")
		err := print(a, d, d.Changes, []column[client.SurveyChange]{
			{head: "Where", width: 35, cell: func(v client.SurveyChange) string {
				return orWithoutSNI(v.Host) + "\n" + v.Server + " " + v.Endpoint
			}, raw: func(v client.SurveyChange) string { return v.Host + " " + v.Endpoint }},
			{head: "Before", width: 28, cell: func(v client.SurveyChange) string { return v.Before }},
			{head: "After", width: 33, cell: func(v client.SurveyChange) string { return v.After }},
		})
		if err != nil || a.output != "table" {
			return err
		}
	}
	for _, part := range []struct {
		title string
		list  []client.Finding
	}{{"Opened", d.Opened}, {"Closed", d.Closed}} {
		if len(part.list) > 0 {
			a.say("\n%s:", part.title)
			if err := a.findingTable(part.list); err != nil {
				return err
			}
		}
	}
	if d.Clipped {
		a.say("\nThere are more than are shown; narrow it by comparing neighbouring surveys.")
	}
	return nil
}

// orBeginning names survey 0.
func orBeginning(id int64) string {
	if id == 0 {
		return "the beginning"
	}
	return fmt.Sprintf("survey %d", id)
}

// orWithoutSNI names a look without a host name.
func orWithoutSNI(host string) string {
	if host == "" {
		return "(without SNI)"
	}
	return host
}
