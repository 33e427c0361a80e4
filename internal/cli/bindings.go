package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
	"insegna.example/internal/core/names"
)

// bindings groups the commands about bindings.
func (a *app) bindings() *cobra.Command {
	var host, server, query string
	var verdicts []string
	var limit int
	var belongs among
	list := &cobra.Command{Use: "list", Short: "List bindings with their faces", Args: cobra.NoArgs,
		Example: "  insegna binding list --verdict broken,at-odds\n  insegna binding list --host " +
			"booking.lanterncoast.example -o json",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			params := &client.ListBindingsParams{}
			if q := cmp.Or(query, host); q != "" {
				params.Q = &q
			}
			if server != "" {
				params.Server = &server
			}
			params.Group, params.Owner, params.Tag = given(belongs.groups), given(belongs.owners), given(belongs.tags)
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
			page, err := whole(a, c.Context(), limit,
				func(p *client.BindingPage) (*[]client.Binding, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					return cl.ListBindings(ctx, params)
				})
			if err != nil {
				return err
			}
			err = print(a, page.Items, page.Items, bindingColumns)
			a.more(page.NextCursor, len(page.Items))
			a.say("\n%s", plateKey)
			return err
		})}
	f := list.Flags()
	f.StringVar(&query, "query", "", "part of a host, server or address")
	f.StringVar(&host, "host", "", "part of a host")
	f.StringVar(&server, "server", "", "only this server")
	f.StringSliceVar(&verdicts, "verdict", nil, "broken, at-odds, unknown, agreed")
	f.IntVar(&limit, "limit", 0, limitHelp)
	belongs.flags(list)
	return group("binding", "Hosts at endpoints with their three faces", list, a.bindingShow())
}

// bindingShow tells everything about a host, one endpoint after the other.
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

// bindingFacts goes from what visitors meet inwards to cause and certificate.
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
	if v := b.Belongs; v != nil {
		facts = append(facts, [2]string{"belongs to", belongsTo(v)})
	}
	return append(facts, [2]string{"declared", fmt.Sprintf("line %d of the estate file", b.Line)})
}

// bindingColumns keep host names whole: a cut-off name is no help in a table of
// names.
var bindingColumns = []column[client.Binding]{
	{head: "Verdict", cell: func(b client.Binding) string { return marks[string(b.Verdict)] },
		raw: func(b client.Binding) string { return string(b.Verdict) }},
	{head: "WCS", cell: func(b client.Binding) string { return plate(b.Faces) },
		raw: func(b client.Binding) string { return b.Faces.Text }},
	{head: "Host and place", flat: "Host", width: 35, cell: func(b client.Binding) string {
		return b.Host + "\n" + b.Server + " " + b.Endpoint
	}, raw: func(b client.Binding) string { return b.Host }},
	{head: "Server", csv: true, cell: func(b client.Binding) string { return b.Server }},
	{head: "Endpoint", csv: true, cell: func(b client.Binding) string { return b.Endpoint }},
	{head: "Cause", width: 45, cell: func(b client.Binding) string { return b.Cause }},
	{head: "Remedy", csv: true, cell: func(b client.Binding) string { return b.Remedy }},
	{head: "Configured", csv: true, cell: func(b client.Binding) string { return orEmpty(b.Source) }},
	{head: "Outcome", csv: true, cell: func(b client.Binding) string { return orEmpty(b.Outcome) }},
	{head: "Protocol", csv: true, cell: func(b client.Binding) string { return orEmpty(b.Protocol) }},
	{head: "Issuer", csv: true, cell: func(b client.Binding) string { return orEmpty(b.Issuer) }},
	{head: "Certificate", csv: true, cell: func(b client.Binding) string { return orEmpty(b.Certificate) }},
	{head: "Belongs to", csv: true, cell: func(b client.Binding) string {
		if b.Belongs == nil {
			return ""
		}
		return belongsTo(b.Belongs)
	}},
	{head: "Days left", csv: true, cell: func(b client.Binding) string {
		if b.DaysLeft == nil {
			return ""
		}
		return fmt.Sprint(*b.DaysLeft)
	}},
}
