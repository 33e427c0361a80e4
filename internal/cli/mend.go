package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// mendsItself says whether a finding mends itself, and how it is told to.
func mendsItself(f *client.Finding) string {
	if !f.Mending.Can {
		return "no: " + f.Mending.Says
	}
	return fmt.Sprintf("yes: %s (insegna finding mend %d)", f.Mending.Says, f.Id)
}

// mendFlags are what findingMend is told.
type mendFlags struct {
	server, code, host            string
	all, yes, preview, rehearsals bool
	also                          []string
	anew                          string // how else than by insegna finding mend it is asked for
}

// findingMend has findings mended, as installations.
func (a *app) findingMend() *cobra.Command {
	var with mendFlags
	c := &cobra.Command{Use: "mend [NUMBER...]",
		Short: "Mend findings: preview, ask, test, switch, reload, look",
		Long: "Works out what mends the findings, one plan for each server: each file as a diff, each command,\n" +
			"who else is looked at. Asks, then tests a copy, switches, reloads and looks; when anything goes\n" +
			"wrong all is made as it was. Then the server is surveyed, and each finding closes or says why not.\n" +
			"Where a certificate is missing it is ordered and installed as insegna https does it. What only a\n" +
			"person can do is listed with the reason. The way back is that of any installation.",
		Example: "  insegna finding mend 12\n  insegna finding mend --server pier-1\n  insegna finding mend --code not-reloaded " +
			"--yes\n  insegna finding mend --all --rehearse",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			body, err := with.request(args)
			if err != nil {
				return err
			}
			plan, err := get[client.MendPlan](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.PreviewMending(ctx, *body)
			})
			if err != nil {
				return err
			}
			switch {
			case with.preview && a.output != "table":
				return print(a, plan, mendRows(plan), mendColumns)
			case with.preview:
				a.showMending(plan)
				a.say("\nNothing was changed. Mend it: insegna finding mend%s", with.again(args))
				return nil
			}
			return a.mend(c.Context(), plan, &with, args)
		})}
	f := c.Flags()
	f.StringVar(&with.server, "server", "", "all of this server")
	f.StringVar(&with.code, "code", "", "all with this code")
	f.StringVar(&with.host, "host", "", "all of hosts with this part of a name")
	f.BoolVar(&with.all, "all", false, "all of the estate")
	f.BoolVar(&with.yes, "yes", false, "do not ask")
	f.BoolVar(&with.preview, "preview", false, "show what changes, and change nothing")
	f.BoolVar(&with.rehearsals, "rehearse", false, "stage and test it on each server, and take it away again")
	c.MarkFlagsMutuallyExclusive("preview", "rehearse")
	agreeing(c, &with.also)
	return c
}

// request makes the call's body of arguments and flags.
func (w *mendFlags) request(args []string) (*client.MendRequest, error) {
	body := &client.MendRequest{Also: given(w.also)}
	var numbers []int64
	for _, arg := range args {
		id, err := strconv.ParseInt(strings.TrimPrefix(arg, "#"), 10, 64)
		if err != nil || id < 1 {
			return nil, usage{fmt.Errorf("%q is no finding; expected a number as insegna finding list shows them", arg)}
		}
		numbers = append(numbers, id)
	}
	narrowed := w.server+w.code+w.host != ""
	switch {
	case len(numbers) > 0 && (narrowed || w.all):
		return nil, usage{errors.New("expected numbers, or flags that say which, not both")}
	case w.all && narrowed:
		return nil, usage{errors.New("expected --all, or flags that say which, not both")}
	case len(numbers) == 0 && !narrowed && !w.all:
		return nil, usage{errors.New("which ones? give numbers as insegna finding list shows them, --server, --code, --host, " +
			"or --all")}
	}
	if len(numbers) > 0 {
		body.Findings = &numbers
	}
	for to, text := range map[**string]string{&body.Server: w.server, &body.Code: w.code, &body.Host: w.host} {
		if text != "" {
			*to = &text
		}
	}
	if w.rehearsals {
		body.Rehearse = &w.rehearsals
	}
	return body, nil
}

// again is how the same is asked for without --preview.
func (w *mendFlags) again(args []string) string {
	out := ""
	for _, arg := range args {
		out += " " + strings.TrimPrefix(arg, "#")
	}
	for flag, text := range map[string]string{"--server": w.server, "--code": w.code, "--host": w.host} {
		if text != "" {
			out += " " + flag + " " + text
		}
	}
	if w.all {
		out += " --all"
	}
	return out
}

// showMending shows a plan: what changes on each server, what needs a certificate, and
// what is left for a person.
func (a *app) showMending(plan *client.MendPlan) {
	for i := range plan.Installations {
		if i > 0 {
			a.say("")
		}
		a.showPreview(&plan.Installations[i])
	}
	if len(plan.Renewals) > 0 {
		a.say("\nNeeds a certificate first:")
	}
	for i := range plan.Renewals {
		r := &plan.Renewals[i]
		how := "a mandate is made and ordered"
		if r.Mandate != "" {
			how = "the mandate " + r.Mandate + " is ordered"
		}
		a.note(fmt.Sprintf("  #%-5d", r.Findings[0].Finding), fmt.Sprintf("%s on %s: %s: %s, and installed", r.Host, r.Server,
			codesOf(r.Findings), how))
	}
	if len(plan.Taken) > 0 {
		a.say("\nTaken into the estate, and looked at from then on:")
	}
	for i := range plan.Taken {
		h := &plan.Taken[i]
		a.note(fmt.Sprintf("  #%-5d", h.About.Finding), fmt.Sprintf("%s, at %s", h.Host, strings.Join(h.At, ", ")))
	}
	a.showLeft(plan.Left)
}

// codesOf lists the codes of findings, each once.
func codesOf(list []client.FindingRef) string {
	var out []string
	for _, f := range list {
		if !slices.Contains(out, f.Code) {
			out = append(out, f.Code)
		}
	}
	return strings.Join(out, ", ")
}

// numbered is a finding's number before its line; a dot where no finding asks for it.
func numbered(finding int64) string {
	if finding == 0 {
		return "  ·     "
	}
	return fmt.Sprintf("  #%-5d", finding)
}

// showLeft lists what needs a person.
func (a *app) showLeft(list []client.LeftFinding) {
	if len(list) > 0 {
		a.say("\nNeeds a person:")
	}
	for _, l := range list {
		where := l.About.Host
		if where == "" {
			where = "server " + l.About.Server
		}
		a.note(numbered(l.About.Finding), fmt.Sprintf("%s: %s: %s", where, l.About.Code, l.Reason))
		a.note("       ", "→ "+l.Next)
	}
}

// mend asks, carries a plan out, and tells what became of each finding.
func (a *app) mend(ctx context.Context, plan *client.MendPlan, with *mendFlags, args []string) error {
	if a.output == "table" {
		a.showMending(plan)
	}
	if len(plan.Installations)+len(plan.Renewals)+len(plan.Taken) == 0 {
		if a.output != "table" {
			if err := print(a, plan, mendRows(plan), mendColumns); err != nil {
				return err
			}
		}
		if len(args) == 0 {
			return nil
		}
		return errors.New("nothing of it mends itself; see the reasons above")
	}
	if len(plan.Installations) > 0 && !with.rehearsals {
		n := 0
		for i := range plan.Installations {
			n += max(1, len(plan.Installations[i].Mends))
		}
		question, again := fmt.Sprintf("Mend %s on %s?", counted(n, "finding"), counted(len(plan.Installations), "server")), "insegna finding mend"+with.again(args)
		if with.anew != "" {
			question, again = "Do that?", with.anew
		}
		if err := a.agreed(with.yes, question, again+" --yes"); err != nil {
			return err
		}
	}
	var failed []error
	var mended []int64
	for i := range plan.Taken {
		if with.rehearsals {
			break
		}
		h := &plan.Taken[i]
		if err := a.agreed(with.yes, fmt.Sprintf("Take %s into the estate?", h.Host), "insegna finding mend"+with.again(args)+" --yes"); err != nil {
			return err
		}
		if err := a.takenIn(ctx, client.HostRequest{Name: h.Host, At: h.At}); err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", h.Host, err))
			continue
		}
		if err := a.lookedAt(ctx, client.SurveyRequest{Server: &h.About.Server}); err != nil {
			failed = append(failed, err)
		}
		mended = append(mended, h.About.Finding)
	}
	for i := range plan.Installations {
		v := &plan.Installations[i]
		if err := a.beginInstallation(ctx, v.Number); err != nil {
			failed = append(failed, fmt.Errorf("on %s: %w", v.Server, err))
			continue
		}
		for _, f := range v.Mends {
			if f.Finding > 0 {
				mended = append(mended, f.Finding)
			}
		}
	}
	if with.rehearsals {
		return errors.Join(failed...)
	}
	for i := range plan.Renewals {
		r := &plan.Renewals[i]
		if err := a.renewed(ctx, r, with); err != nil {
			failed = append(failed, fmt.Errorf("%s on %s: %w", r.Host, r.Server, err))
			continue
		}
		for _, f := range r.Findings {
			mended = append(mended, f.Finding)
		}
	}
	for i := range plan.Installations {
		if err := a.surveyedAfter(ctx, plan.Installations[i].Number); err != nil {
			failed = append(failed, err)
		}
	}
	return errors.Join(append(failed, a.outcomes(ctx, mended))...)
}

// renewed takes a host to a certificate of its CA.
func (a *app) renewed(ctx context.Context, r *client.Renewal, with *mendFlags) error {
	a.say("\n%s on %s needs a certificate (%s)", r.Host, r.Server, codesOf(r.Findings))
	v, err := a.httpsBegun(ctx, []string{r.Host}, r.Server, r.Mandate, with.also, 0)
	if err != nil {
		return err
	}
	if v, err = a.httpsOrdered(ctx, v, with.yes); err != nil {
		return err
	}
	_, err = a.httpsInstalled(ctx, v, with.yes)
	return err
}

// surveyTries is how often it is asked for the survey that follows.
const surveyTries = 50

// surveyedAfter waits for the survey that looks at a server after an installation.
func (a *app) surveyedAfter(ctx context.Context, number int64) error {
	for range surveyTries {
		v, err := a.installationOf(ctx, number)
		if err != nil || v.State != client.InstallationStateDone {
			return err
		}
		if v.Survey != nil {
			caller, err := a.caller()
			if err != nil {
				return err
			}
			return client.FollowSurvey(ctx, caller, a.calls(), *v.Survey, func(client.Survey) error { return nil })
		}
		if err := pauseFor(ctx, between); err != nil {
			return err
		}
	}
	return nil
}

// outcomes says of each finding whether it is closed.
func (a *app) outcomes(ctx context.Context, list []int64) error {
	slices.Sort(list)
	var open []string
	var rows []client.Finding
	for _, id := range slices.Compact(list) {
		f, err := get[client.Finding](a, ctx,
			func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetFinding(ctx, id) })
		if err != nil {
			return err
		}
		rows = append(rows, *f)
		if f.ClosedAt == nil {
			open = append(open, fmt.Sprintf("#%d %s: %s: %s", f.Id, strings.ReplaceAll(whereFound(*f), "\n", ", "), f.Code, f.Cause))
		}
	}
	if a.output == "json" {
		if err := a.json(rows); err != nil {
			return err
		}
	}
	if len(open) < len(rows) {
		a.say("\n%s closed, as the survey afterwards has seen.", counted(len(rows)-len(open), "finding"))
	}
	if len(open) > 0 {
		return fmt.Errorf("%s still open:\n%s", counted(len(open), "finding"), strings.Join(open, "\n"))
	}
	return nil
}

// mendRow is one finding of a plan for programs.
type mendRow struct {
	Finding                     int64
	Code, Host, Server, By, Why string
}

// mendRows are the findings of a plan, one by one.
func mendRows(plan *client.MendPlan) (out []mendRow) {
	for i := range plan.Installations {
		v := &plan.Installations[i]
		for _, f := range v.Mends {
			out = append(out, mendRow{f.Finding, f.Code, f.Host, v.Server, "installation " + strconv.FormatInt(v.Number, 10), f.Does})
		}
	}
	for _, r := range plan.Renewals {
		for _, f := range r.Findings {
			out = append(out, mendRow{f.Finding, f.Code, f.Host, f.Server, "renewal", r.Mandate})
		}
	}
	for _, l := range plan.Left {
		out = append(out, mendRow{l.About.Finding, l.About.Code, l.About.Host, l.About.Server, "a person", l.Reason + "; " + l.Next})
	}
	return out
}

// mendColumns are stable: programs go by their names.
var mendColumns = []column[mendRow]{
	{head: "finding", cell: func(r mendRow) string { return strconv.FormatInt(r.Finding, 10) }},
	{head: "code", cell: func(r mendRow) string { return r.Code }},
	{head: "host", cell: func(r mendRow) string { return r.Host }},
	{head: "server", cell: func(r mendRow) string { return r.Server }},
	{head: "by", cell: func(r mendRow) string { return r.By }},
	{head: "why", cell: func(r mendRow) string { return r.Why }},
}
