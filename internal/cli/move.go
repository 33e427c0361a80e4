package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// certificateMove takes a certificate with its key from one server to another.
func (a *app) certificateMove() *cobra.Command {
	var from, to, mandate, name string
	var also []string
	var yes bool
	c := &cobra.Command{Use: "move HOST --from SERVER --to SERVER", Short: "Take a certificate with its key from one server to another, of any kind", Args: cobra.ExactArgs(1),
		Long: "Reads the certificate and its key where the first server has them (which needs the permission to take private\n" +
			"keys and stands in the journal), keeps them in the safe as the newest of a mandate, and installs them on the\n" +
			"second one in the form that one wants: with preview, test, reload and look, like any other.",
		Example: "  insegna certificate move timetable.lanterncoast.example --from pier-1 --to pier-2",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if err := a.agreed(yes, fmt.Sprintf("Take the private key of %s from %s into the safe?", args[0], from),
				fmt.Sprintf("insegna certificate move %s --from %s --to %s --yes", args[0], from, to)); err != nil {
				return err
			}
			v, err := get[client.TakenCertificate](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.TakeFromServer(ctx, from, client.TakenFrom{Host: args[0], Mandate: set(mandate), Name: set(name)})
			})
			if err != nil {
				return err
			}
			a.say("Taken from %s as the newest certificate of %s (order %d), valid until %s: %s.", from, v.Order.Mandate, v.Order.Number, day(*v.Order.NotAfter),
				strings.Join(v.Order.Names, ", "))
			for _, w := range v.Words {
				a.note("  ! ", w)
			}
			i, err := a.previewInstallation(c.Context(), v.Order.Mandate, to, also)
			if err != nil {
				return fmt.Errorf("%w\nit lies in the safe now; once that is mended: insegna install %s --server %s", err, v.Order.Mandate, to)
			}
			a.showPreview(i)
			if err := a.agreed(yes, "Install this on "+i.Server+"?", "insegna installation begin "+fmt.Sprint(i.Number)); err != nil {
				return err
			}
			return a.beginInstallation(c.Context(), i.Number)
		})}
	l := c.Flags()
	l.StringVar(&from, "from", "", "server it is taken from")
	l.StringVar(&to, "to", "", "server it is installed on")
	l.StringVar(&mandate, "mandate", "", "whose newest it becomes; the one of its names without this")
	l.StringVar(&name, "name", "", "name of the mandate that is made; the certificate's main name without this")
	l.BoolVar(&yes, "yes", false, "do not ask")
	agreeing(c, &also)
	for _, f := range []string{"from", "to"} {
		_ = c.MarkFlagRequired(f)
	}
	return c
}
