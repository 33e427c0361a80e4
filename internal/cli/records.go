package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/names"
)

func readAtMost(r io.Reader, limit int64) ([]byte, error) {
	return io.ReadAll(io.LimitReader(r, limit))
}

func (a *app) today() *cobra.Command {
	return &cobra.Command{Use: "today", Short: "Say how things stand", Args: cobra.NoArgs, Example: "  insegna today",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			t, err := get[client.Today](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetToday(ctx) })
			if err != nil {
				return err
			}
			if t.Estate == "" {
				a.say("No estate has been applied yet. Write an estate file and run: insegna estate apply FILE")
			} else {
				a.say("%s: %s broken, %d due, %d at odds, %d agreed; %s.\n", clean(t.Estate), plural(t.Bindings.Broken, "binding"),
					t.DueBindings, t.Bindings.AtOdds, t.Bindings.Agreed, surveyed(t.Survey))
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
			return a.findingTable(t.Worst)
		})}
}

// ordered tells what was ordered without anybody's word, and what failed.
func (a *app) ordered(list []client.Order) {
	for _, o := range list {
		if o.Failure != nil {
			a.note("✗",
				fmt.Sprintf("%s UTC: order %d of %s failed: %s", moment(*o.FinishedAt), o.Number, o.Mandate, o.Failure.Words))
			a.note("", "→ "+o.Failure.Advice)
			continue
		}
		a.note("✓",
			fmt.Sprintf("%s UTC: %s was ordered anew by itself, valid until %s", moment(*o.FinishedAt), o.Mandate,
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
			a.note("✓", fmt.Sprintf("%s UTC: %s was installed on %s by itself", moment(at), v.Mandate, v.Server))
		case client.InstallationStatePreviewed:
			a.note("◷",
				fmt.Sprintf("%s UTC: %s on %s waits for you: insegna installation show %d", moment(at), v.Mandate,
					v.Server, v.Number))
		default:
			a.note("✗",
				fmt.Sprintf("%s UTC: %s on %s: %s; see: insegna installation show %d", moment(at), v.Mandate, v.Server,
					v.State, v.Number))
		}
	}
	if len(list) > 0 {
		a.say("")
	}
}

func surveyed(v *client.Survey) string {
	if v == nil {
		return "never surveyed"
	}
	return fmt.Sprintf("surveyed %s UTC from %s", moment(v.CreatedAt), v.Vantage)
}

func (a *app) bindings() *cobra.Command {
	var host, server string
	var verdicts []string
	var limit int
	list := &cobra.Command{Use: "list", Short: "List bindings with their faces", Args: cobra.NoArgs,
		Example: "  insegna binding list --verdict broken,at-odds\n  insegna binding list --host " +
			"booking.lanterncoast.example -o json",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			params := &client.ListBindingsParams{Limit: &limit}
			if host != "" {
				params.Q = &host
			}
			if server != "" {
				params.Server = &server
			}
			var picked []client.Verdict
			for _, v := range verdicts {
				if !client.Verdict(v).Valid() {
					return usage{fmt.Errorf("unknown verdict %q; expected broken, at-odds, unknown or agreed", v)}
				}
				picked = append(picked, client.Verdict(v))
			}
			if picked != nil {
				params.Verdict = &picked
			}
			page, err := get[client.BindingPage](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ListBindings(ctx, params) })
			if err != nil {
				return err
			}
			err = print(a, page.Items, page.Items, bindingColumns)
			a.more(page.NextCursor, len(page.Items))
			a.say("\n%s", plateKey)
			return err
		})}
	f := list.Flags()
	f.StringVar(&host, "host", "", "part of a host, server or address")
	f.StringVar(&server, "server", "", "only this server")
	f.StringSliceVar(&verdicts, "verdict", nil, "broken, at-odds, unknown, agreed")
	f.IntVar(&limit, "limit", 100, "how many, at most 1000")
	return group("binding", "Hosts at endpoints with their three faces", list, a.bindingShow())
}

var bindingColumns = []column[client.Binding]{
	{head: "Verdict", cell: func(b client.Binding) string { return marks[string(b.Verdict)] },
		raw: func(b client.Binding) string { return string(b.Verdict) }},
	{head: "WCS", cell: func(b client.Binding) string { return plate(b.Faces) },
		raw: func(b client.Binding) string { return b.Faces.Text }},
	{head: "Host and place", width: 35, cell: func(b client.Binding) string {
		return b.Host + "\n" + b.Server + " " + b.Endpoint
	}, raw: func(b client.Binding) string { return b.Host + " " + b.Endpoint }},
	{head: "Cause", width: 45, cell: func(b client.Binding) string { return b.Cause }},
}

func (a *app) more(next *string, n int) {
	if next != nil {
		a.say("\nThe first %d are shown; there are more, see --limit and the filters.", n)
	}
}

func (a *app) certificates() *cobra.Command {
	return group("certificate", "Certificates met in the estate", a.certificateList(), a.certificateShow())
}

func (a *app) certificateList() *cobra.Command {
	var query, kind, sort string
	var within, limit int
	list := &cobra.Command{Use: "list", Short: "List certificates by the end of their validity", Args: cobra.NoArgs,
		Example: "  insegna certificate list --days-left 30\n  insegna certificate list --host booking --sort issuer -o csv",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			params := &client.ListCertificatesParams{Limit: &limit}
			if query != "" {
				params.Q = &query
			}
			if c.Flags().Changed("days-left") {
				params.DaysLeftMax = &within
			}
			k, s := client.ListCertificatesParamsKind(kind), client.ListCertificatesParamsSort(sort)
			if !k.Valid() || !s.Valid() {
				return usage{
					fmt.Errorf("unknown --kind %q or --sort %q; expected kind host, ca or all, and sort ends, name, issuer or seen, "+
						"with - in front to turn it round", kind, sort)}
			}
			params.Kind, params.Sort = &k, &s
			page, err := get[client.CertificatePage](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ListCertificates(ctx, params) })
			if err != nil {
				return err
			}
			if len(page.Items) == 0 {
				a.say("No certificate fits.")
			}
			err = print(a, page.Items, page.Items, []column[client.Certificate]{
				{head: "Certificate", cell: func(v client.Certificate) string { return v.Sha256[:12] },
					raw: func(v client.Certificate) string { return v.Sha256 }},
				{head: "Names", width: 32, cell: namesShort,
					raw: func(v client.Certificate) string { return strings.Join(v.Names, " ") }},
				{head: "Issuer", width: 22, cell: func(v client.Certificate) string { return v.Issuer }},
				{head: "Ends", cell: func(v client.Certificate) string { return day(v.NotAfter) }},
				{head: "Left", width: 8, cell: func(v client.Certificate) string { return left(v.DaysLeft) },
					raw: func(v client.Certificate) string { return fmt.Sprint(v.DaysLeft) }},
				{head: "Used", cell: func(v client.Certificate) string { return fmt.Sprint(v.Bindings) }},
			})
			a.more(page.NextCursor, len(page.Items))
			return err
		})}
	f := list.Flags()
	f.StringVar(&query, "host", "", "part of a name, issuer or fingerprint")
	f.IntVar(&within, "days-left", 30, "only those that end within so many days")
	f.StringVar(&kind, "kind", "host", "host, ca or all")
	f.StringVar(&sort, "sort", "ends", "ends, name, issuer or seen; - in front turns it round")
	f.IntVar(&limit, "limit", 100, "how many, at most 1000")
	return list
}

func namesShort(c client.Certificate) string {
	switch {
	case len(c.Names) == 0:
		return c.CommonName
	case len(c.Names) > 2:
		return strings.Join(c.Names[:2], ", ") + fmt.Sprintf(" and %d more", len(c.Names)-2)
	}
	return strings.Join(c.Names, ", ")
}

func (a *app) certificateShow() *cobra.Command {
	var asPEM bool
	c := &cobra.Command{Use: "show FINGERPRINT", Short: "Show one certificate: names, chain, places of use, history",
		Args:    cobra.ExactArgs(1),
		Long:    "Shows the certificate whose SHA-256 fingerprint begins with FINGERPRINT (8 digits or more).",
		Example: "  insegna certificate show 3fa94c0d11e2\n  insegna certificate show 3fa94c0d11e2 --pem",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			sha := strings.ToLower(strings.ReplaceAll(args[0], ":", ""))
			if len(sha) < 8 || len(sha) > 64 || strings.Trim(sha, "0123456789abcdef") != "" {
				return usage{
					fmt.Errorf("%q is no fingerprint; expected 8 to 64 hexadecimal digits, as insegna certificate list shows them",
						args[0])}
			}
			d, err := get[client.CertificateDetail](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetCertificate(ctx, sha) })
			if err != nil {
				return err
			}
			if asPEM {
				_, err := fmt.Fprint(a.out, d.Pem)
				return err
			}
			return a.showCertificate(d)
		})}
	c.Flags().BoolVar(&asPEM, "pem", false, "print the certificate as PEM")
	return c
}

func (a *app) showCertificate(d *client.CertificateDetail) error {
	c := d.Certificate
	facts := [][2]string{{"names", strings.Join(c.Names, ", ")}, {"subject", d.Subject}, {"issuer", d.IssuerName},
		{"valid", fmt.Sprintf("%s to %s UTC (%s)", moment(c.NotBefore), moment(c.NotAfter), left(c.DaysLeft))},
		{"key", c.Key}, {"signature", d.Signature}, {"serial", c.Serial}, {"sha256", c.Sha256},
		{"first seen", moment(c.FirstSeen) + " UTC"}}
	for _, v := range d.Audiences {
		facts = append(facts, [2]string{v.Audience, trustText(v)})
	}
	for i, f := range d.Files {
		label := ""
		if i == 0 {
			label = "lies in"
		}
		text := f.Server + " " + f.Path
		if f.Spot != "" {
			text += ", named at " + f.Spot
		}
		facts = append(facts, [2]string{label, text})
	}
	if a.output != "table" {
		return printFacts(a, d, facts)
	}
	rows := [][]string{{clean(c.CommonName), ""}}
	for _, f := range facts {
		rows = append(rows, []string{f[0], clean(f[1])})
	}
	a.table(rows, []int{28, 70})
	if len(d.Findings) > 0 {
		a.say("\nFindings:")
		if err := a.findingTable(d.Findings); err != nil {
			return err
		}
	}
	a.say("\nSeen at:")
	return print(a, nil, d.Sightings, []column[client.Sighting]{
		{head: "Host", width: 36, cell: func(s client.Sighting) string { return orWithoutSNI(s.Host) }},
		{head: "Server", width: 14, cell: func(s client.Sighting) string { return s.Server }},
		{head: "Endpoint", width: 22, cell: func(s client.Sighting) string { return s.Endpoint }},
		{head: "Since", cell: func(s client.Sighting) string { return day(s.FirstSeen) }},
		{head: "Now", cell: func(s client.Sighting) string {
			return map[bool]string{true: "yes", false: "until " + day(s.LastSeen)}[s.Current]
		}},
	})
}

func trustText(v client.AudienceView) string {
	path := make([]string, len(v.Path))
	for i, l := range v.Path {
		path[i] = l.CommonName
		if !l.Served && !l.Anchor {
			path[i] += " (not sent)"
		}
	}
	if v.Trusted {
		return "trusted: " + strings.Join(path, " → ")
	}
	return "not trusted: " + strings.Join(v.Failures, "; ")
}

// findingColumns keep host names whole.
var findingColumns = []column[client.Finding]{
	{head: "Finding", cell: func(f client.Finding) string {
		return fmt.Sprintf("%s\n#%d", marks[string(f.Severity)], f.Id)
	}},
	{head: "Where", width: 35, cell: whereFound},
	{head: "Cause and remedy", width: 48, cell: func(f client.Finding) string {
		return f.Code + ": " + f.Cause + "\n→ " + f.Remedy
	}},
}

// whereFound names host and endpoint, or the server, and the line of its
// configuration.
func whereFound(f client.Finding) string {
	text := "server " + f.Server
	if f.Endpoint != "" {
		text = orWithoutSNI(f.Host) + "\n" + f.Server + " " + f.Endpoint
	}
	if f.Source != nil {
		text += "\n" + shortSpot(*f.Source)
	}
	return text
}

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
		return nil, usage{fmt.Errorf("unknown state %q; expected open, closed or all", state)}
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
	var query, code, state string
	var severities []string
	var limit int
	list := &cobra.Command{Use: "list", Short: "List findings, worst first", Args: cobra.NoArgs,
		Example: "  insegna finding list --severity broken,due\n  insegna finding list --host booking.lanterncoast.example " +
			"--fail-at broken",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			if err := a.checkFailAt(); err != nil {
				return err
			}
			params, err := findingParams(query, code, state, severities)
			if err != nil {
				return err
			}
			params.Limit = &limit
			page, err := get[client.FindingPage](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ListFindings(ctx, params) })
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
	f.StringVar(&query, "host", "", "part of a host, server, address or cause")
	f.StringVar(&code, "code", "", "only findings with this code")
	f.StringVar(&state, "state", "open", "open, closed or all")
	f.StringSliceVar(&severities, "severity", nil, "broken, due, weak, note")
	f.IntVar(&limit, "limit", 100, "how many, at most 1000")
	a.failAtFlag(list)
	return group("finding", "What is wrong, with evidence and remedy", list, a.findingShow(), a.catalogue())
}

func (a *app) findingShow() *cobra.Command {
	return &cobra.Command{Use: "show ID", Short: "Show one finding with its evidence", Args: cobra.ExactArgs(1),
		Example: "  insegna finding show 3",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(strings.TrimPrefix(args[0], "#"), 10, 64)
			if err != nil || id < 1 {
				return usage{fmt.Errorf("%q is no finding; expected a number as insegna finding list shows them", args[0])}
			}
			f, err := get[client.Finding](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetFinding(ctx, id) })
			if err != nil {
				return err
			}
			facts := [][2]string{{"finding", f.Code}, {"severity", marks[string(f.Severity)]},
				{"where", strings.ReplaceAll(whereFound(*f), "\n", ", ")}, {"declared", f.Place}, {"configured", orEmpty(f.Source)},
				{"cause", f.Cause}, {"remedy", f.Remedy}, {"opened", moment(f.OpenedAt) + " UTC"}}
			if f.ClosedAt != nil {
				facts = append(facts, [2]string{"closed", moment(*f.ClosedAt) + " UTC"})
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

// printFacts writes one thing as a list of facts.
func printFacts(a *app, doc any, facts [][2]string) error {
	return print(a, doc, facts, []column[[2]string]{
		{head: "Fact", width: 28, cell: func(f [2]string) string { return f[0] }},
		{head: "Value", width: 70, cell: func(f [2]string) string { return f[1] }},
	})
}

func (a *app) bindingShow() *cobra.Command {
	return &cobra.Command{Use: "show HOST",
		Short: "Show a host's bindings, from the visitor inwards, with all that is known", Args: cobra.ExactArgs(1),
		Example: "  insegna binding show booking.lanterncoast.example",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			host, err := names.Host(args[0])
			if err != nil {
				return usage{err}
			}
			most := 1000
			page, err := get[client.BindingPage](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.ListBindings(ctx, &client.ListBindingsParams{Q: &host, Limit: &most})
			})
			if err != nil {
				return err
			}
			own := slices.DeleteFunc(page.Items, func(b client.Binding) bool { return b.Host != host })
			if len(own) == 0 {
				return fmt.Errorf("the estate has no host %s; see: insegna estate show", host)
			}
			if a.output != "table" {
				return print(a, own, own, bindingColumns)
			}
			for i, b := range own {
				if i > 0 {
					a.say("")
				}
				if err := printFacts(a, b, bindingFacts(b)); err != nil {
					return err
				}
			}
			return nil
		})}
}

func bindingFacts(b client.Binding) [][2]string {
	facts := [][2]string{{"binding", b.Host + " at " + b.Server + " " + b.Endpoint},
		{"verdict", marks[string(b.Verdict)]}, {"faces", plate(b.Faces) + "  " + b.Faces.Text},
		{"seen", strings.Join(slices.DeleteFunc([]string{orEmpty(b.Outcome), orEmpty(b.Protocol), orEmpty(b.Group)},
			func(s string) bool { return s == "" }), ", ")}}
	if b.Cause != "" {
		facts = append(facts, [2]string{"cause", b.Cause}, [2]string{"remedy", b.Remedy},
			[2]string{"configured", orEmpty(b.Source)})
	}
	if b.Certificate != nil && b.DaysLeft != nil {
		facts = append(facts, [2]string{"certificate", *b.Certificate}, [2]string{"issuer", orEmpty(b.Issuer)},
			[2]string{"left", left(*b.DaysLeft)})
	}
	return append(facts, [2]string{"declared", fmt.Sprintf("line %d of the estate file", b.Line)})
}

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
}

func (a *app) catalogue() *cobra.Command {
	return &cobra.Command{Use: "catalogue", Short: "List every finding that can be made", Args: cobra.NoArgs,
		Example: "  insegna finding catalogue",
		RunE: a.run(func(*cobra.Command, []string) error {
			rows := make([]catalogueRow, len(check.Rules))
			for i, r := range check.Rules {
				rows[i] = catalogueRow{string(r.Code), string(r.Severity), r.Meaning}
			}
			return print(a, rows, rows, []column[catalogueRow]{
				{head: "Finding", cell: func(r catalogueRow) string { return r.Code }},
				{head: "Severity", cell: func(r catalogueRow) string { return marks[r.Severity] },
					raw: func(r catalogueRow) string { return r.Severity }},
				{head: "Meaning", width: 60, cell: func(r catalogueRow) string { return r.Meaning }},
			})
		})}
}

// catalogueRow is what people are told of a rule.
type catalogueRow struct{ Code, Severity, Meaning string }
