package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// certificates groups the commands about certificates.
func (a *app) certificates() *cobra.Command {
	return group("certificate", "Certificates met in the estate", a.certificateList(), a.certificateShow(), a.certificateTake(), a.certificateMove(), a.certificateWithout())
}

// certificateList lists by the end of validity, soonest first.
func (a *app) certificateList() *cobra.Command {
	var query, host, kind, sort string
	var within, limit int
	var belongs among
	list := &cobra.Command{Use: "list", Short: "List certificates by the end of their validity", Args: cobra.NoArgs,
		Example: "  insegna certificate list --days-left 30\n  insegna certificate list --host booking --sort issuer -o csv",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			params := &client.ListCertificatesParams{}
			if q := cmp.Or(query, host); q != "" {
				params.Q = &q
			}
			if c.Flags().Changed("days-left") {
				params.DaysLeftMax = &within
			}
			params.Group, params.Owner, params.Tag = given(belongs.groups), given(belongs.owners), given(belongs.tags)
			k, s := client.ListCertificatesParamsKind(kind), client.ListCertificatesParamsSort(sort)
			if !k.Valid() || !s.Valid() {
				return usage{
					fmt.Errorf("unknown --kind %q or --sort %q; expected kind host, ca or all, and sort ends, name, issuer or seen, "+
						"with - in front to turn it round", kind, sort)}
			}
			params.Kind, params.Sort = &k, &s
			page, err := whole(a, c.Context(), limit,
				func(p *client.CertificatePage) (*[]client.Certificate, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					return cl.ListCertificates(ctx, params)
				})
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
				{head: "Name count", csv: true, cell: func(v client.Certificate) string { return fmt.Sprint(v.NameCount) }},
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
	f.StringVar(&query, "query", "", "part of a name, issuer or fingerprint")
	f.StringVar(&host, "host", "", "part of a name")
	f.IntVar(&within, "days-left", 30, "only those that end within so many days")
	f.StringVar(&kind, "kind", "host", "host, ca or all")
	f.StringVar(&sort, "sort", "ends", "ends, name, issuer or seen; - in front turns it round")
	f.IntVar(&limit, "limit", 0, limitHelp)
	belongs.flags(list)
	return list
}

// namesShort gives two names and how many more.
func namesShort(c client.Certificate) string {
	switch {
	case len(c.Names) == 0:
		return c.CommonName
	case c.NameCount > 2:
		return strings.Join(c.Names[:2], ", ") + fmt.Sprintf(" and %d more", c.NameCount-2)
	}
	return strings.Join(c.Names, ", ")
}

// certificateShow takes the beginning of a fingerprint, as lists show it.
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

// showCertificate tells names, validity, trust for each audience, where it is
// served and in which files it lies.
func (a *app) showCertificate(d *client.CertificateDetail) error {
	c := d.Certificate
	facts := [][2]string{{"names", strings.Join(c.Names, ", ")}, {"subject", d.Subject}, {"issuer", d.IssuerName},
		{"valid", fmt.Sprintf("%s to %s (%s)", moment(c.NotBefore), moment(c.NotAfter), left(c.DaysLeft))},
		{"key", c.Key}, {"signature", d.Signature}, {"serial", c.Serial}, {"sha256", c.Sha256},
		{"first seen", moment(c.FirstSeen)}}
	if r := d.Rhythm; r != nil {
		facts = append(facts, [2]string{"usually replaced", fmt.Sprintf("%d days before the end (%s, last on %s by %s); key: %s", r.DaysBefore, plural(r.Times, "time"),
			day(r.Last), r.Issuer, r.Key)})
	}
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

// trustText is the path to a root, or why none was found; what a server did not
// send is marked.
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
