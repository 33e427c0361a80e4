package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// servers groups the commands about servers.
func (a *app) servers() *cobra.Command {
	return group("server", "Servers and what their own configuration says", a.serverList(), a.serverShow(),
		a.serverSites(), a.serverMaterial(), a.serverChanges(), a.serverAnswer(), a.serverText(), a.serverTrust())
}

// serverList shows for each server whether its configuration could be read.
func (a *app) serverList() *cobra.Command {
	var query string
	var limit int
	c := &cobra.Command{Use: "list", Short: "List servers and how their configuration was read", Args: cobra.NoArgs,
		Example: "  insegna server list\n  insegna server list --query pier -o csv",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			params := &client.ListServersParams{}
			if query != "" {
				params.Q = &query
			}
			page, err := whole(a, c.Context(), limit,
				func(p *client.ServerPage) (*[]client.Server, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					return cl.ListServers(ctx, params)
				})
			if err != nil {
				return err
			}
			if len(page.Items) == 0 {
				a.say("No server fits. Servers are declared in the estate file; see: insegna estate show")
				if a.output == "table" {
					return nil
				}
			}
			err = print(a, page.Items, page.Items, serverColumns)
			a.more(page.NextCursor, len(page.Items))
			return err
		})}
	c.Flags().StringVar(&query, "query", "", "part of a name, kind, address or way")
	c.Flags().StringVar(&query, "server", "", "part of a server's name")
	c.Flags().IntVar(&limit, "limit", 0, limitHelp)
	return c
}

// serverColumns begin with the worst open finding.
var serverColumns = []column[client.Server]{
	{head: "Worst", cell: func(s client.Server) string { return worstOf(s) },
		raw: func(s client.Server) string { return worstRaw(s) }},
	{head: "Server", width: 16, cell: func(s client.Server) string { return s.Name + "\n" + s.Kind },
		raw: func(s client.Server) string { return s.Name }},
	{head: "Bindings", width: 14, cell: bindingCounts,
		raw: func(s client.Server) string { return fmt.Sprint(s.Bindings) }},
	{head: "Configuration", width: 48, cell: readText, raw: func(s client.Server) string { return s.Main }},
	{head: "Findings", cell: func(s client.Server) string { return fmt.Sprint(s.Findings) }},
	{head: "Kind", csv: true, cell: func(s client.Server) string { return s.Kind }},
	{head: "Reach", csv: true, cell: func(s client.Server) string { return s.Reach }},
	{head: "Broken", csv: true, cell: func(s client.Server) string { return fmt.Sprint(s.Broken) }},
	{head: "At odds", csv: true, cell: func(s client.Server) string { return fmt.Sprint(s.AtOdds) }},
	{head: "Trouble", csv: true, cell: func(s client.Server) string { return s.Trouble }},
}

// worstRaw is the severity as programs read it.
func worstRaw(s client.Server) string {
	if s.Worst == nil {
		return ""
	}
	return string(*s.Worst)
}

// worstOf is the severity with its mark.
func worstOf(s client.Server) string {
	if s.Worst == nil {
		return "= fine"
	}
	return marks[string(*s.Worst)]
}

// bindingCounts counts bindings, and those that are not agreed.
func bindingCounts(s client.Server) string {
	text := fmt.Sprint(s.Bindings)
	for _, c := range []struct {
		n    int
		word string
	}{{s.Broken, "broken"}, {s.AtOdds, "at odds"}, {s.Unknown, "unknown"}} {
		if c.n > 0 {
			text += fmt.Sprintf("\n%d %s", c.n, c.word)
		}
	}
	return text
}

// readText says how a server's configuration was read.
func readText(s client.Server) string {
	switch {
	case s.Reach == "":
		return "not reached: its declaration has no reach"
	case s.Trouble != "":
		return "not read: " + s.Trouble
	case !s.Read:
		return "not read yet: insegna survey start --server " + s.Name
	}
	text := fmt.Sprintf("%s in %s, %s (%s)", plural(s.Sites, "site"), plural(s.Files, "file"),
		plural(s.Listeners, "listener"), s.Reach)
	if s.LastRead != nil {
		text += "\nread " + moment(*s.LastRead)
	}
	if s.Loaded != nil {
		text += "\nloaded by the server " + moment(*s.Loaded)
	}
	return text
}

// getServer fetches one server with its listeners.
func (a *app) getServer(ctx context.Context, name string) (*client.ServerDetail, error) {
	return get[client.ServerDetail](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.GetServer(ctx, name)
	})
}

// serverShow tells one server: the way to it, listeners, default sites,
// problems.
func (a *app) serverShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME",
		Short: "Show one server: listeners, default sites, what is wrong with its configuration", Args: cobra.ExactArgs(1),
		Example: "  insegna server show pier-1",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			d, err := a.getServer(c.Context(), args[0])
			if err != nil {
				return err
			}
			s := d.Server
			facts := [][2]string{{"server", s.Name + ", " + s.Kind}, {"findings", fmt.Sprintf("%s %d", worstOf(s), s.Findings)},
				{"bindings", strings.ReplaceAll(bindingCounts(s), "\n", ", ")}, {"configuration", readText(s)},
				{"main file", s.Main}}
			for _, c := range d.Commands {
				facts = append(facts, [2]string{c.Key, c.Command})
			}
			facts = append(facts, [2]string{"declared", fmt.Sprintf("line %d of the estate file", s.Line)})
			if err := printFacts(a, d, facts); err != nil || a.output != "table" {
				return err
			}
			if len(d.Listeners) > 0 {
				a.say("\nListeners:")
				if err := print(a, nil, d.Listeners, listenerColumns); err != nil {
					return err
				}
			}
			if len(d.Problems) > 0 {
				a.say("\nProblems:")
				return print(a, nil, d.Problems, []column[client.ConfigurationProblem]{
					{head: "Effect", cell: func(p client.ConfigurationProblem) string { return string(p.Effect) }},
					{head: "Where", width: 36, cell: func(p client.ConfigurationProblem) string {
						return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
					}},
					{head: "Message", width: 46, cell: func(p client.ConfigurationProblem) string { return p.Message }},
				})
			}
			return nil
		})}
}

// listenerColumns tell where a default site was chosen from where it is merely
// the first, which changes when a file is renamed.
var listenerColumns = []column[client.Listener]{
	{head: "Listener", width: 24, cell: func(l client.Listener) string { return l.Address }},
	{head: "Speaks", cell: func(l client.Listener) string {
		return map[bool]string{true: "TLS", false: "plain"}[l.Tls] + " " + string(l.Protocol)
	}},
	{head: "Sites", cell: func(l client.Listener) string { return fmt.Sprint(l.Sites) }},
	{head: "Default site", width: 34, cell: func(l client.Listener) string {
		return l.DefaultSite + map[bool]string{true: "", false: " (the first)"}[l.Chosen]
	}},
}

// serverSites lists sites with what lies behind each.
func (a *app) serverSites() *cobra.Command {
	var query string
	var idle bool
	var limit int
	c := &cobra.Command{Use: "sites NAME", Short: "List the sites a server's configuration declares",
		Args: cobra.ExactArgs(1),
		Example: "  insegna server sites pier-1\n  insegna server sites pier-2 --idle\n  insegna server sites pier-1 " +
			"--query booking -o json",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			params := &client.ListSitesParams{}
			if query != "" {
				params.Q = &query
			}
			if idle {
				force := false
				params.InForce = &force
			}
			page, err := whole(a, c.Context(), limit,
				func(p *client.SitePage) (*[]client.Site, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					return cl.ListSites(ctx, args[0], params)
				})
			if err != nil {
				return err
			}
			if len(page.Items) == 0 {
				a.say("No site fits.")
				if a.output == "table" {
					return nil
				}
			}
			err = print(a, page.Items, page.Items, siteColumns)
			a.more(page.NextCursor, len(page.Items))
			return err
		})}
	c.Flags().StringVar(&query, "query", "", "part of a name, file or address")
	c.Flags().BoolVar(&idle, "idle", false, "only sites in files that are not switched on")
	c.Flags().IntVar(&limit, "limit", 0, limitHelp)
	return c
}

// serverMaterial lists the files of certificates and keys on a server.
func (a *app) serverMaterial() *cobra.Command {
	var query string
	var unused bool
	var limit int
	c := &cobra.Command{Use: "material NAME", Short: "List the files of certificates and keys on a server, and what each is good for",
		Args: cobra.ExactArgs(1),
		Long: "Lists the files of certificates and keys a server's sites name, and those that lie beside them: which is\n" +
			"used and where, which is newer than the one in use, which can go, which key fits nothing, which key may be\n" +
			"read by everybody, and on which other servers the same key lies.",
		Example: "  insegna server material pier-1\n  insegna server material pier-1 --unused -o csv",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			params := &client.ListMaterialParams{}
			if query != "" {
				params.Q = &query
			}
			if unused {
				params.Unused = &unused
			}
			page, err := whole(a, c.Context(), limit,
				func(p *client.MaterialPage) (*[]client.Material, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					return cl.ListMaterial(ctx, args[0], params)
				})
			if err != nil {
				return err
			}
			if len(page.Items) == 0 {
				a.say("No file fits.")
				if a.output == "table" {
					return nil
				}
			}
			err = print(a, page.Items, page.Items, materialColumns)
			a.more(page.NextCursor, len(page.Items))
			return err
		})}
	c.Flags().StringVar(&query, "query", "", "part of a path or name")
	c.Flags().BoolVar(&unused, "unused", false, "only what lies there for nothing")
	c.Flags().IntVar(&limit, "limit", 0, limitHelp)
	return c
}

// serverChanges tells what changed between readings.
func (a *app) serverChanges() *cobra.Command {
	var limit int
	c := &cobra.Command{Use: "changes NAME", Short: "Tell what changed on a server between its readings, the newest first",
		Args: cobra.ExactArgs(1),
		Long: "Tells what changed in a server's configuration between two readings, in its own terms: sites with their\n" +
			"names, addresses, certificates and what stands behind them, listeners, files, and what lies in the files of\n" +
			"certificates and keys.",
		Example: "  insegna server changes pier-1\n  insegna server changes quay-lb --limit 1 -o json",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			params := &client.ListReadingChangesParams{}
			page, err := whole(a, c.Context(), limit,
				func(p *client.ReadingChangePage) (*[]client.ReadingChange, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					if size != nil {
						few := min(*size, changesAtOnce)
						params.Limit = &few
					}
					return cl.ListReadingChanges(ctx, args[0], params)
				})
			if err != nil {
				return err
			}
			if len(page.Items) == 0 {
				a.say("It has read the same since it was first read.")
				if a.output == "table" {
					return nil
				}
			}
			var rows []readingDifference
			for _, r := range page.Items {
				for _, d := range r.Changes {
					rows = append(rows, readingDifference{r.Until, d})
				}
				if r.Further > 0 {
					rows = append(rows, readingDifference{r.Until,
						client.ReadingDifference{Which: fmt.Sprintf("and %d more", r.Further)}})
				}
			}
			err = print(a, page.Items, rows, differenceColumns)
			a.more(page.NextCursor, len(page.Items))
			return err
		})}
	c.Flags().IntVar(&limit, "limit", 0, "how many readings; 0 for all")
	return c
}

// changesAtOnce is how many readings one call compares.
const changesAtOnce = 20

// readingDifference is one difference with the time it was first read.
type readingDifference struct {
	at time.Time
	client.ReadingDifference
}

// differenceColumns show how a thing was and is.
var differenceColumns = []column[readingDifference]{
	{head: "Read", width: 16, cell: func(d readingDifference) string { return d.at.UTC().Format("2006-01-02 15:04") }},
	{head: "What", width: 30, cell: func(d readingDifference) string {
		text := strings.TrimSpace(string(d.What) + " " + shortSpot(d.Which))
		if d.Spot != nil && !strings.HasPrefix(*d.Spot, d.Which) {
			text += "\n" + shortSpot(*d.Spot)
		}
		return text
	}, raw: func(d readingDifference) string { return string(d.What) + " " + d.Which }},
	{head: "Before", width: 26, cell: func(d readingDifference) string { return wordOr(d.Before, "not there") }},
	{head: "After", width: 26, cell: func(d readingDifference) string { return wordOr(d.After, "gone") }},
}

// wordOr is an optional text, or a word for none.
func wordOr(p *string, none string) string {
	if p == nil {
		return none
	}
	return *p
}

// materialColumns show a file and what it is good for.
var materialColumns = []column[client.Material]{
	{head: "File", width: 30, cell: func(m client.Material) string { return shortSpot(m.Path) },
		raw: func(m client.Material) string { return m.Path }},
	{head: "Holds", width: 27, cell: func(m client.Material) string {
		var parts []string
		if m.CommonName != nil {
			parts = append(parts, *m.CommonName)
		}
		if m.DaysLeft != nil {
			parts = append(parts, left(*m.DaysLeft))
		}
		if m.HasKey {
			parts = append(parts, "a private key")
		}
		if m.Open {
			parts = append(parts, "open to everybody ("+m.Mode+")")
		}
		if len(m.SameKeyOn) > 0 {
			parts = append(parts, "the same key on "+strings.Join(m.SameKeyOn, ", "))
		}
		return strings.Join(parts, "\n")
	}},
	{head: "State", width: 10, cell: func(m client.Material) string {
		if m.CanGo {
			return "can go"
		}
		return string(m.State)
	}, raw: func(m client.Material) string { return string(m.State) }},
	{head: "Why", width: 30, cell: func(m client.Material) string { return m.Why }},
}

// siteColumns show what a site shows or does.
var siteColumns = []column[client.Site]{
	{head: "Site", width: 38, cell: func(s client.Site) string {
		text := strings.Join(firstOf(s.Names, 3), "\n")
		if !s.InForce {
			text += "\nnot switched on"
		}
		return text + "\n" + shortSpot(s.Spot)
	}, raw: func(s client.Site) string { return strings.Join(s.Names, " ") + " " + s.Spot }},
	{head: "Listens", width: 19, cell: func(s client.Site) string { return strings.Join(firstOf(s.Listens, 4), "\n") },
		raw: func(s client.Site) string { return strings.Join(s.Listens, " ") }},
	{head: "Certificate, or what plain http does", width: 37, cell: siteText},
}

// firstOf keeps a long list short, and says so.
func firstOf(list []string, n int) []string {
	switch {
	case len(list) == 0:
		return []string{"(no name)"}
	case len(list) > n:
		return append(list[:n:n], fmt.Sprintf("and %d more", len(list)-n))
	}
	return list
}

// siteText says which certificate a site shows, or what it does without one.
func siteText(s client.Site) string {
	var lines []string
	for _, c := range s.Certificates {
		text := shortSpot(c.File) + "\n"
		if c.DaysLeft != nil {
			text += left(*c.DaysLeft) + ", from " + orEmpty(c.Issuer)
		} else {
			text += c.Fault
		}
		switch c.KeyState {
		case "fits":
		case "stranger":
			text += "; its key belongs to another certificate"
		default:
			text += "; its key: " + c.KeyState
		}
		lines = append(lines, text)
	}
	if s.Refuses {
		lines = append(lines, "refuses handshakes")
	}
	for i, p := range s.Plain {
		if len(s.Certificates) > 0 || i == 2 {
			break
		}
		lines = append(lines, p.Front)
		if p.WellKnown != p.Front {
			lines = append(lines, "for a CA: "+p.WellKnown)
		}
	}
	if len(lines) == 0 {
		lines = append(lines, "no certificate")
	}
	return strings.Join(append(lines, behindText(s.Hops)...), "\n")
}

// behindText says what stands behind a site, what fails first.
func behindText(hops []client.Hop) (lines []string) {
	const most = 3
	n := 0
	for _, bad := range []bool{true, false} {
		for _, h := range hops {
			for _, l := range h.Looks {
				if (l.State == client.HopLookStateFails) != bad {
					continue
				}
				if n++; n > most {
					continue
				}
				text := "behind: " + l.Address
				if l.Host != nil {
					text += " for " + *l.Host
				}
				switch l.State {
				case client.HopLookStateFine:
					text += map[bool]string{true: " over TLS", false: " in plain"}[h.Tls]
				case client.HopLookStateUnknown:
					text += " is not known: " + l.Said
				case client.HopLookStateUnwatched:
					text += ": " + l.Said + ", and nobody looks"
				default:
					text += " fails: " + l.Said
				}
				lines = append(lines, text)
			}
		}
	}
	if n > most {
		lines = append(lines, fmt.Sprintf("behind: and %d more", n-most))
	}
	return lines
}

// shortSpot keeps the end of a long path, which tells files apart.
func shortSpot(spot string) string {
	parts := strings.Split(spot, "/")
	const kept = 3
	if len(parts) <= kept+1 {
		return spot
	}
	return "…/" + strings.Join(parts[len(parts)-kept:], "/")
}

// serverAnswer asks which site would answer, by the configuration as read.
func (a *app) serverAnswer() *cobra.Command {
	var at string
	c := &cobra.Command{Use: "answer NAME [HOST]", Short: "Say which site answers for a host at each listener, and why",
		Args: cobra.RangeArgs(1, 2),
		Long: "Says which site of a server answers for a host at each of its listeners, and why. Without HOST: for a " +
			"visitor who names none.",
		Example: "  insegna server answer kiosk-gw moorings.lanterncoast.example\n  insegna server answer pier-1 " +
			"booking.lanterncoast.example --at 127.20.0.11:8443",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			params := &client.ListAnswersParams{}
			if len(args) == 2 {
				params.Host = &args[1]
			}
			if at != "" {
				params.At = &at
			}
			list, err := get[client.SiteAnswers](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.ListAnswers(ctx, args[0], params)
			})
			if err != nil {
				return err
			}
			if a.output == "table" && time.Since(list.ReadAt) > time.Minute {
				a.say("Its configuration cannot be read now; this is how it was at %s.\n", moment(list.ReadAt))
			}
			return print(a, list.Items, list.Items, []column[client.SiteAnswer]{
				{head: "Listener", width: 20, cell: func(s client.SiteAnswer) string {
					return s.Listener + "\n" + map[bool]string{true: "TLS", false: "plain"}[s.Tls]
				}, raw: func(s client.SiteAnswer) string { return s.Listener }},
				{head: "Site", width: 36, cell: func(s client.SiteAnswer) string {
					if s.Site == nil {
						return "none"
					}
					return firstOf(s.Site.Names, 1)[0] + "\n" + shortSpot(s.Site.Spot)
				}},
				{head: "Why", width: 38, cell: func(s client.SiteAnswer) string {
					if s.Plain != nil {
						return s.Why + "\n" + s.Plain.Front
					}
					return s.Why
				}},
			})
		})}
	c.Flags().StringVar(&at, "at", "", "address and port; every listener when left out")
	return c
}

// serverText shows a file with remarks at the lines they are about.
func (a *app) serverText() *cobra.Command {
	return &cobra.Command{Use: "text NAME [FILE]",
		Short: "Show a server's configuration as it was read, with remarks to its lines", Args: cobra.RangeArgs(1, 2),
		Long: "Shows one file of a server's configuration with remarks to its lines; without FILE, lists the files.\nValues " +
			"that look like secrets are hidden.",
		Example: "  insegna server text pier-1\n  insegna server text pier-1 timetable",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			d, err := a.getServer(c.Context(), args[0])
			if err != nil {
				return err
			}
			if len(args) == 1 {
				if len(d.Files) == 0 {
					a.say("%s", readText(d.Server))
				}
				return print(a, d.Files, d.Files, []column[client.FileName]{
					{head: "File", width: 56, cell: func(f client.FileName) string { return f.Path }},
					{head: "In force", cell: func(f client.FileName) string {
						return map[bool]string{true: "yes", false: "no"}[f.InForce]
					}},
					{head: "Link to", width: 28, cell: func(f client.FileName) string { return shortSpot(orEmpty(f.Link)) },
						raw: func(f client.FileName) string { return orEmpty(f.Link) }},
				})
			}
			path, err := fileNamed(d, args[1])
			if err != nil {
				return err
			}
			f, err := get[client.ConfigurationFile](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.GetConfigurationFile(ctx, args[0], &client.GetConfigurationFileParams{Path: path})
			})
			if err != nil {
				return err
			}
			if a.output != "table" {
				return print(a, f, f.Marks, []column[client.LineMark]{
					{head: "line", cell: func(m client.LineMark) string { return fmt.Sprint(m.Line) }},
					{head: "kind", cell: func(m client.LineMark) string { return string(m.Kind) }},
					{head: "text", cell: func(m client.LineMark) string { return m.Text }},
				})
			}
			a.marked(f)
			return nil
		})}
}

// fileNamed finds the one file a text means: its path, or the end of it.
func fileNamed(d *client.ServerDetail, text string) (string, error) {
	var found []string
	for _, f := range d.Files {
		if f.Path == text {
			return text, nil
		}
		if strings.HasSuffix(f.Path, "/"+text) {
			found = append(found, f.Path)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return "", fmt.Errorf("the configuration of %s has no file %q; see: insegna server text %s", d.Server.Name, text,
			d.Server.Name)
	}
	return "", usage{fmt.Errorf("%q may be %s; give more of the path", text, strings.Join(found, " or "))}
}

// remarkIndent is how far remarks stand in.
const remarkIndent = 10

// marked writes a file with line numbers and the remarks below their lines.
func (a *app) marked(f *client.ConfigurationFile) {
	state := "in force"
	if !f.InForce {
		state = "not switched on"
	}
	a.say("%s, %s", clean(f.Path), state)
	if f.Link != nil {
		a.say("a link to %s", clean(*f.Link))
	}
	at := 0
	for i, line := range strings.Split(strings.TrimSuffix(f.Text, "\n"), "\n") {
		a.say("%5d  %s", i+1, cleanDiff(strings.TrimSuffix(line, "\r")))
		for ; at < len(f.Marks) && f.Marks[at].Line == i+1; at++ {
			mark := "↳"
			if f.Marks[at].Kind == "problem" {
				mark = "✗"
			}
			text := clean(f.Marks[at].Text)
			if a.width > 0 {
				text = wrapped(text, a.width-remarkIndent)
			}
			a.say("       %s %s", mark, strings.ReplaceAll(text, "\n", "\n         "))
		}
	}
}

// serverTrust shows a machine's host key, asks, and has the service keep it.
func (a *app) serverTrust() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "trust NAME", Short: "Show a server's SSH host key, ask, and keep it as known",
		Args: cobra.ExactArgs(1),
		Long: "Asks the machine for its host key without logging in. Compare the fingerprint with the machine itself\n" +
			"(ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub) before you agree: whoever answers there now is\n" +
			"trusted from then on.",
		Example: "  insegna server trust pier-2",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			k, err := get[client.HostKey](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetHostKey(ctx, args[0]) })
			switch {
			case err != nil:
				return err
			case k.Known:
				a.say("The host key of %s is known already: %s (%s)", args[0], clean(k.Seen), clean(k.At))
				return nil
			case k.Changed:
				return fmt.Errorf("%s shows %s, and %s says otherwise: find out why before anything else; when the machine was "+
					"set up anew, take that line out", args[0], k.Seen, k.At)
			}
			a.say("%s shows the host key %s", args[0], clean(k.Seen))
			if err := a.agreed(yes, "Is that the machine's own key, and to be trusted?",
				"insegna server trust "+args[0]+" --yes"); err != nil {
				return err
			}
			k, err = get[client.HostKey](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.TrustHostKey(ctx, args[0], client.HostKeyTrust{Seen: k.Seen})
			})
			if err != nil {
				return err
			}
			a.say("It is kept in %s. Read the server: insegna survey start --server %s", clean(k.At), args[0])
			return nil
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
