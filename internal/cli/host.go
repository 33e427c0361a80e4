package cli

import (
	"context"
	"fmt"
	"net/http"
	"path"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// host groups the commands about hosts that are taken in beside the estate file.
func (a *app) host() *cobra.Command {
	return group("host", "Hosts taken into the estate, beside what its file declares", a.hostAdd(), a.hostRemove(), a.hostStrict())
}

// hostAdd takes a host in.
func (a *app) hostAdd() *cobra.Command {
	var at, audiences, tags []string
	var inGroup, owner string
	c := &cobra.Command{Use: "add NAME", Short: "Take a host into the estate", Args: cobra.ExactArgs(1),
		Long: "Takes a host into the estate: it is looked at and judged as those the estate file declares. It\n" +
			"stays when the file is applied anew, until the file declares it itself.",
		Example: "  insegna host add old-shop.lanterncoast.example --at pier-1:8443",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			body := client.HostRequest{Name: args[0], At: at, Audiences: given(audiences), Tags: given(tags)}
			if inGroup != "" {
				body.Group = &inGroup
			}
			if owner != "" {
				body.Owner = &owner
			}
			if err := a.takenIn(c.Context(), body); err != nil {
				return err
			}
			a.say("Look at it with: insegna survey start --host %s", args[0])
			return nil
		})}
	c.Flags().StringArrayVar(&at, "at", nil, "a server, or SERVER:PORT; may be given several times")
	c.Flags().StringArrayVar(&audiences, "audience", nil, "a class of clients; without any the estate's first")
	c.Flags().StringVar(&inGroup, "group", "", "a group of the estate file")
	c.Flags().StringVar(&owner, "owner", "", "an owner of the estate file; without one the group's or the estate's")
	c.Flags().StringSliceVar(&tags, "tag", nil, "tags")
	_ = c.MarkFlagRequired("at")
	return c
}

// takenIn takes a host in, and says so.
func (a *app) takenIn(ctx context.Context, body client.HostRequest) error {
	h, err := get[client.EstateHost](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) { return cl.AddHost(ctx, body) })
	if err != nil {
		return err
	}
	if a.output != "table" {
		return print(a, h, []client.EstateHost{*h}, hostColumns)
	}
	a.say("%s is taken into the estate, at %s.", clean(h.Name), strings.Join(h.At, ", "))
	return nil
}

// hostRemove lets a host go that was taken in.
func (a *app) hostRemove() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "remove NAME", Short: "Let a host go that was taken in", Args: cobra.ExactArgs(1),
		Example: "  insegna host remove old-shop.lanterncoast.example",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if err := a.agreed(yes, fmt.Sprintf("Let %s go? Its findings close, and nobody looks at it any more.", args[0]),
				"insegna host remove "+args[0]+" --yes"); err != nil {
				return err
			}
			_, err := get[struct{}](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.RemoveHost(ctx, args[0])
			})
			if err == nil {
				a.say("%s is let go.", clean(args[0]))
			}
			return err
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// hostStrict has a host tell browsers to come over TLS alone.
func (a *app) hostStrict() *cobra.Command {
	var server string
	var days int
	var yes bool
	var also []string
	c := &cobra.Command{Use: "strict NAME", Short: "Have browsers come to a host over TLS alone, for some days", Args: cobra.ExactArgs(1),
		Long: "Has the host's sites send the header Strict-Transport-Security (RFC 6797), for answers over TLS to\n" +
			"this name and no other: browsers that have come once do not come in plain http any more, and\n" +
			"cannot get past a wrong certificate. Begin with a day: what browsers keep to cannot be called back\n" +
			"from those that do not come again. --days 0 ends it. Refused where the certificate does not fit, or\n" +
			"plain http is not led to https.",
		Example: "  insegna host strict menu.lanterncoast.example --days 1\n  insegna host strict menu.lanterncoast.example --days 180 --yes",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			body := client.MendRequest{Host: &args[0], StrictDays: &days, Also: given(also)}
			if server != "" {
				body.Server = &server
			}
			plan, err := get[client.MendPlan](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.PreviewMending(ctx, body)
			})
			if err != nil {
				return err
			}
			return a.mend(c.Context(), plan, &mendFlags{yes: yes, anew: fmt.Sprintf("insegna host strict %s --days %d", args[0], days)}, args)
		})}
	c.Flags().StringVar(&server, "server", "", "only on this server")
	c.Flags().IntVar(&days, "days", 1, "browsers keep to it")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	agreeing(c, &also)
	return c
}

// hostColumns are those of a declared host.
var hostColumns = []column[client.EstateHost]{
	{head: "Host", width: 40, cell: func(h client.EstateHost) string { return h.Name }},
	{head: "Wanted at", width: 26, cell: func(h client.EstateHost) string { return strings.Join(h.At, ", ") }},
	{head: "From", width: 18, cell: func(h client.EstateHost) string { return orEmpty(h.WantedIssuer) }},
	{head: "Declared", cell: func(h client.EstateHost) string {
		if h.By != nil {
			return "by " + *h.By
		}
		if h.File != nil {
			return fmt.Sprintf("%s:%d", path.Base(*h.File), h.Line)
		}
		return fmt.Sprint(h.Line)
	}},
}
