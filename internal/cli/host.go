package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// host groups the commands about hosts that are taken in beside the estate file.
func (a *app) host() *cobra.Command {
	return group("host", "Hosts taken into the estate, beside what its file declares", a.hostAdd(), a.hostRemove())
}

// hostAdd takes a host in.
func (a *app) hostAdd() *cobra.Command {
	var at, audiences []string
	c := &cobra.Command{Use: "add NAME", Short: "Take a host into the estate", Args: cobra.ExactArgs(1),
		Long: "Takes a host into the estate: it is looked at and judged as those the estate file declares. It\n" +
			"stays when the file is applied anew, until the file declares it itself.",
		Example: "  insegna host add old-shop.lanterncoast.example --at pier-1:8443",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			body := client.HostRequest{Name: args[0], At: at, Audiences: given(audiences)}
			if err := a.takenIn(c.Context(), body); err != nil {
				return err
			}
			a.say("Look at it with: insegna survey start --host %s", args[0])
			return nil
		})}
	c.Flags().StringArrayVar(&at, "at", nil, "a server, or SERVER:PORT; may be given several times")
	c.Flags().StringArrayVar(&audiences, "audience", nil, "a class of clients; without any the estate's first")
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

// hostColumns are those of a declared host.
var hostColumns = []column[client.EstateHost]{
	{head: "Host", width: 40, cell: func(h client.EstateHost) string { return h.Name }},
	{head: "Wanted at", width: 26, cell: func(h client.EstateHost) string { return strings.Join(h.At, ", ") }},
	{head: "From", width: 18, cell: func(h client.EstateHost) string { return orEmpty(h.WantedIssuer) }},
	{head: "Line", cell: func(h client.EstateHost) string {
		if h.By != nil {
			return "by " + *h.By
		}
		return fmt.Sprint(h.Line)
	}},
}
