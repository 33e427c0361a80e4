package cli

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"insegna.example/client"
)

// install asks before it changes anything, unless told not to.
func (a *app) install() *cobra.Command {
	var server string
	var also []string
	var yes, only, everywhere bool
	c := &cobra.Command{Use: "install MANDATE",
		Short: "Install a mandate's certificate on a server: preview, ask, switch, reload, look", Args: cobra.ExactArgs(1),
		Long: "Shows each file that changes, as a diff, and the commands; asks; then lays the new version beside\nthe " +
			"old one, has the server test, switches, reloads, and looks from outside until the old\ncertificate is gone. When " +
			"anything goes wrong all is made as it was.\n\nWith --everywhere it goes to all servers of the mandate in a wave: " +
			"those furthest behind the\nvisitor first, of equal ones the first alone and then some together, and it stops at " +
			"the first\nfault.",
		Example: "  insegna install menu --server pier-1\n  insegna install menu --server pier-1 --preview\n  insegna install booking --everywhere",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if everywhere {
				return a.installEverywhere(c.Context(), args[0], also, yes, only)
			}
			v, err := a.previewInstallation(c.Context(), args[0], server, also)
			if err != nil {
				return err
			}
			if a.output == "table" || !only {
				a.showPreview(v)
			}
			if only {
				if a.output != "table" {
					return print(a, v, v.Files, fileColumns)
				}
				a.say("\nNothing was changed. Install it: insegna installation begin %d", v.Number)
				return nil
			}
			if err := a.agreed(yes, "Install this on "+v.Server+"?",
				"insegna installation begin "+fmt.Sprint(v.Number)); err != nil {
				return err
			}
			return a.beginInstallation(c.Context(), v.Number)
		})}
	c.Flags().StringVar(&server, "server", "", "where to; may be left out when the mandate names one")
	c.Flags().BoolVar(&everywhere, "everywhere", false, "on every server the mandate names, in a wave")
	c.MarkFlagsMutuallyExclusive("server", "everywhere")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Flags().BoolVar(&only, "preview", false, "show what changes, and change nothing")
	agreeing(c, &also)
	return c
}

// given is a list as the contract takes it: left out when it is empty.
func given(list []string) *[]string {
	if len(list) == 0 {
		return nil
	}
	return &list
}

// agreeing adds the flag that names others who may get something else.
func agreeing(c *cobra.Command, also *[]string) {
	c.Flags().StringArrayVar(also, "also", nil,
		"somebody else who may get something else by it, as the refusal names them; may be "+
			"given several times")
}

// fileColumns are the changes as CSV and JSON have them.
var fileColumns = []column[client.FileChange]{
	{head: "File", cell: func(f client.FileChange) string { return f.Path }},
	{head: "Diff", cell: func(f client.FileChange) string { return f.Diff }},
}

// previewInstallation has the service read the server anew and work out what
// would change.
func (a *app) previewInstallation(ctx context.Context, mandate, server string,
	also []string) (*client.Installation, error) {
	return get[client.Installation](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		body := client.InstallationRequest{Mandate: mandate, Also: given(also)}
		if server != "" {
			body.Server = &server
		}
		return cl.PreviewInstallation(ctx, body)
	})
}

// agreed asks at a terminal; in a script somebody has to have said yes.
func (a *app) agreed(yes bool, question, otherwise string) error {
	if yes {
		return nil
	}
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return usage{fmt.Errorf("nobody is here to ask; to go on, add --yes, or later: %s", otherwise)}
	}
	_, _ = fmt.Fprintf(a.err, "\n%s [y/N] ", question)
	line, _ := bufio.NewReader(os.Stdin).ReadString('\n')
	if l := strings.ToLower(strings.TrimSpace(line)); l != "y" && l != "yes" {
		return fmt.Errorf("nothing was changed; to go on later: %s", otherwise)
	}
	return nil
}

// note prints a text behind a mark, on as many lines as it needs.
func (a *app) note(mark, text string) {
	width := utf8.RuneCountInString(mark)
	if mark == "" {
		width = 1
	}
	if text = clean(text); a.width > 0 {
		text = wrapped(text, a.width-width-2)
	}
	for i, line := range strings.Split(text, "\n") {
		if i > 0 {
			mark = ""
		}
		a.say("%*s  %s", -width, mark, line)
	}
}

// showPreview prints what will change.
func (a *app) showPreview(v *client.Installation) {
	a.say("%s", heading(v))
	a.say("")
	for _, f := range v.Mends {
		a.note(numbered(f.Finding), strings.TrimSpace(f.Host+" "+f.Code)+": "+f.Does)
	}
	if len(v.Mends) > 0 {
		a.say("")
	}
	edited := len(v.Files) == 0
	edit := func() {
		for _, f := range v.Files {
			a.say("  edit    %s", f.Path)
		}
		edited = true
	}
	for _, act := range v.Acts {
		if act.Does == "test" && !edited {
			edit()
		}
		a.note(fmt.Sprintf("  %-6s", clean(act.Does)), act.What)
	}
	if !edited {
		edit()
	}
	for _, d := range v.Bindings {
		if d.Plain != nil {
			a.say("  look    http://%s%s at %s, which is answered with: %s", clean(d.Host), clean(*d.Plain), d.Address,
				cmp.Or(clean(d.Before), "nothing"))
			continue
		}
		if d.Header != nil {
			a.say("  look    https://%s at %s, which sends %s: %s", clean(d.Host), d.Address, clean(*d.Header), cmp.Or(clean(d.Before), "not at all"))
			continue
		}
		shows := "shows no certificate"
		if first, more, _ := strings.Cut(d.Before, " "); first != "" {
			shows = "shows " + first[:12]
			if more != "" {
				shows += fmt.Sprintf(" and %d more", 1+strings.Count(more, " "))
			}
		}
		if d.Neighbour {
			shows += " and is to go on so"
		}
		a.say("  look    %s at %s, which %s", clean(d.Host), d.Address, shows)
	}
	a.showNotes(v.Server, v.Notes, reloads(v.Acts))
	a.showDiffs(v.Files)
	if len(v.Files) == 0 {
		a.say("\nNo file of the configuration changes.")
	}
}

// heading says what an installation is.
func heading(v *client.Installation) string {
	switch {
	case asked(v):
		return v.Mends[0].Host + ", on " + v.Server
	case len(v.Mends) > 0:
		return fmt.Sprintf("Mending %s on %s", counted(len(v.Mends), "finding"), v.Server)
	case v.Certificate == nil || v.Order == nil:
		return "Installing on " + v.Server
	}
	return fmt.Sprintf("Installing the certificate of order %d (%s) for %s on %s", *v.Order, (*v.Certificate)[:12], v.Mandate,
		v.Server)
}

// whatFor names what an installation brings: a mandate's certificate, or findings
// mended.
func whatFor(v *client.Installation) string {
	if asked(v) {
		return "for " + v.Mends[0].Host
	}
	if len(v.Mends) > 0 {
		return "mends " + counted(len(v.Mends), "finding")
	}
	return v.Mandate
}

// counted writes a number of things.
func counted(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// showNotes tells what a person should know before, and what else a reload takes in.
func (a *app) showNotes(server string, list []string, reloads bool) {
	switch {
	case len(list) > 0 && !reloads:
		a.say("\nBesides, on %s:", server)
	case len(list) > 0:
		a.say("\nBesides, on %s, where a reload takes in everything that lies there:", server)
	}
	for _, n := range list {
		a.note("  ◷", n)
	}
}

// showDiffs shows the lines that go and come in files of a configuration.
func (a *app) showDiffs(list []client.FileChange) {
	for _, f := range list {
		a.say("")
		for line := range strings.Lines(f.Diff) {
			a.say("%s", cleanDiff(strings.TrimSuffix(line, "\n")))
		}
	}
}

// beginInstallation carries out a preview and follows it to its end.
func (a *app) beginInstallation(ctx context.Context, number int64) error {
	v, err := get[client.Installation](a, ctx,
		func(ctx context.Context, cl calls) (*http.Response, error) { return cl.BeginInstallation(ctx, number) })
	if err != nil {
		return err
	}
	return a.followInstallation(ctx, v)
}

// followInstallation prints the steps as they come, until it has ended.
func (a *app) followInstallation(ctx context.Context, v *client.Installation) error {
	a.say("\nInstallation %d (%s) on %s", v.Number, whatFor(v), v.Server)
	for printed := 0; ; {
		var err error
		if v, err = a.installationOf(ctx, v.Number); err != nil {
			return err
		}
		printed = a.stepsFrom(v.Steps, printed, v.FinishedAt != nil)
		if v.FinishedAt != nil {
			if a.output == "json" {
				if err := a.json(v); err != nil {
					return err
				}
			}
			return a.installationEnd(v)
		}
		select {
		case <-time.After(between):
		case <-ctx.Done():
			return fmt.Errorf("the installation goes on without this command; see: insegna installation show %d --follow",
				v.Number)
		}
	}
}

// installationOf fetches one installation with its steps.
func (a *app) installationOf(ctx context.Context, number int64) (*client.Installation, error) {
	return get[client.Installation](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.GetInstallation(ctx, number)
	})
}

// installationEnd says in one sentence how it ended, and what the way back is.
// What a person asked to be taken back is no failure.
func (a *app) installationEnd(v *client.Installation) error {
	switch v.State {
	case client.InstallationStateRehearsed:
		a.say("Rehearsed: the server's own test passes, and nothing was changed.")
	case client.InstallationStateDone:
		came := "Taken in by the server, and looked at nowhere."
		if len(v.Mends) > 0 {
			a.say("New everywhere: what lies on %s is what visitors get. The way back: insegna installation return %d", v.Server,
				v.Number)
			return nil
		}
		if slices.ContainsFunc(v.Bindings, func(b client.InstallationBinding) bool { return !b.Neighbour }) {
			came = "New everywhere: visitors get the new certificate."
		}
		a.say("%s The way back: insegna installation return %d", came, v.Number)
	case client.InstallationStateReturned:
		if v.AskedBack {
			a.say("Old everywhere: all is as it was before installation %d.", v.Number)
			return nil
		}
		return errors.New("old everywhere, all is as it was: " + v.Reason + "\n" + v.Advice)
	case client.InstallationStateStuck:
		return errors.New("neither new nor old everywhere: " + v.Reason + "\n" + v.Advice)
	}
	return nil
}

// installations groups the commands about installations.
func (a *app) installations() *cobra.Command {
	return group("installation", "Installations of certificates on servers, step by step", a.installationList(),
		a.installationShow(), a.installationBegin(), a.installationReturn())
}

// installationList lists previews too: one that waits for a person is easily
// forgotten.
func (a *app) installationList() *cobra.Command {
	var mandate string
	var limit int
	c := &cobra.Command{Use: "list", Short: "List installations and previews, newest first", Args: cobra.NoArgs,
		Example: "  insegna installation list --mandate menu",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			params := &client.ListInstallationsParams{}
			if mandate != "" {
				params.Mandate = &mandate
			}
			page, err := whole(a, c.Context(), limit,
				func(p *client.InstallationPage) (*[]client.Installation, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					return cl.ListInstallations(ctx, params)
				})
			if err != nil {
				return err
			}
			err = print(a, page.Items, page.Items, []column[client.Installation]{
				{head: "No.", cell: func(v client.Installation) string { return fmt.Sprint(v.Number) }},
				{head: "Mandate", width: 16, cell: func(v client.Installation) string { return whatFor(&v) },
					raw: func(v client.Installation) string { return v.Mandate }},
				{head: "Server", width: 14, cell: func(v client.Installation) string { return v.Server }},
				{head: "Certificate", cell: func(v client.Installation) string {
					if v.Certificate == nil {
						return "as it is"
					}
					return (*v.Certificate)[:12]
				},
					raw: func(v client.Installation) string { return orEmpty(v.Certificate) }},
				{head: "By", width: 10, cell: func(v client.Installation) string { return v.By }},
				{head: "State", width: 34, cell: func(v client.Installation) string {
					if v.State == client.InstallationStatePreviewed {
						return "previewed; begin it: insegna installation begin " + fmt.Sprint(v.Number)
					}
					if v.Rehearsal {
						return clean(rehearsedOn(&v))
					}
					if v.Reason != "" {
						return string(v.State) + ": " + v.Reason
					}
					return string(v.State)
				}, raw: func(v client.Installation) string { return string(v.State) }},
			})
			a.more(page.NextCursor, len(page.Items))
			return err
		})}
	c.Flags().StringVar(&mandate, "mandate", "", "of one mandate")
	c.Flags().IntVar(&limit, "limit", 0, limitHelp)
	return c
}

// installationShow shows what changes and, once begun, how far it is.
func (a *app) installationShow() *cobra.Command {
	var follow bool
	c := &cobra.Command{Use: "show NUMBER", Short: "Show an installation: what changes or changed, and its steps",
		Args: cobra.ExactArgs(1), Example: "  insegna installation show 3 --follow",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "installation")
			if err != nil {
				return err
			}
			v, err := a.installationOf(c.Context(), id)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return print(a, v, v.Steps, stepColumns)
			}
			a.showPreview(v)
			if v.State == client.InstallationStatePreviewed {
				a.say("\nNothing was changed. Install it: insegna installation begin %d", v.Number)
				return nil
			}
			if follow {
				return a.followInstallation(c.Context(), v)
			}
			a.say("\nInstallation %d (%s) on %s, begun by %s", v.Number, whatFor(v), v.Server, v.By)
			a.stepsFrom(v.Steps, 0, true)
			return a.installationEnd(v)
		})}
	c.Flags().BoolVar(&follow, "follow", false, "stay until it has ended")
	return c
}

// installationBegin carries out a preview made before, perhaps by somebody
// else.
func (a *app) installationBegin() *cobra.Command {
	return &cobra.Command{Use: "begin NUMBER", Short: "Carry out what was previewed", Args: cobra.ExactArgs(1),
		Example: "  insegna installation begin 3",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "installation")
			if err != nil {
				return err
			}
			return a.beginInstallation(c.Context(), id)
		})}
}

// installationReturn asks first, for visitors get the old certificate again.
func (a *app) installationReturn() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "return NUMBER",
		Short: "Take back what was installed: files, link and certificate as they were", Args: cobra.ExactArgs(1),
		Example: "  insegna installation return 3",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "installation")
			if err != nil {
				return err
			}
			if err := a.agreed(yes, fmt.Sprintf("Make everything as it was before installation %d?", id),
				fmt.Sprintf("insegna installation return %d --yes", id)); err != nil {
				return err
			}
			v, err := get[client.Installation](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ReturnInstallation(ctx, id) })
			if err != nil {
				return err
			}
			return a.followInstallation(c.Context(), v)
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// asked says whether an installation does what somebody has asked for, and no finding.
func asked(v *client.Installation) bool { return len(v.Mends) > 0 && v.Mends[0].Finding == 0 }

// reloads says whether a server takes in what lies there by what is done.
func reloads(acts []client.InstallationAct) bool {
	return slices.ContainsFunc(acts, func(a client.InstallationAct) bool { return a.Does == "reload" || a.Does == "live" })
}
