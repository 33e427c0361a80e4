package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
	"insegna.example/internal/service"
)

// safe groups the commands about the safe.
func (a *app) safe() *cobra.Command {
	return group("safe", "The safe that keeps private keys and credentials", a.safeShow(), a.safeRenewKey())
}

// safeShow says which key encrypts.
func (a *app) safeShow() *cobra.Command {
	return &cobra.Command{Use: "show", Short: "Say which key encrypts, and what earlier ones still hold",
		Args: cobra.NoArgs, Example: "  insegna safe show",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			v, err := get[client.SafeState](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetSafe(ctx) })
			if err != nil {
				return err
			}
			return printFacts(a, v, [][2]string{{"key", v.Key}, {"kept in", v.Source}, {"secrets", fmt.Sprint(v.Secrets)},
				{"with earlier keys", fmt.Sprint(v.Left)}})
		})}
}

// safeRenewKey retires a key: a new one is made, and everything encrypted with it,
// part by part.
func (a *app) safeRenewKey() *cobra.Command {
	var goOn, yes bool
	c := &cobra.Command{Use: "renew-key", Short: "Make a new key, and encrypt everything with it", Args: cobra.NoArgs,
		Long: "The new key is put in front of the old one in the safe's file; then what the old one encrypted is\n" +
			"encrypted with the new one. It can be broken off at any time, and --continue goes on. At the end the\n" +
			"old line is not needed any more, but for backups of the database from before.",
		Example: "  insegna safe renew-key\n  insegna safe renew-key --continue",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			if !goOn {
				if err := a.agreed(yes, "Make a new key for the safe?", "insegna safe renew-key --yes"); err != nil {
					return err
				}
			}
			begin := !goOn
			for waited := false; ; {
				v, err := get[client.SafeState](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
					return cl.RenewSafeKey(ctx, client.SafeRenewal{Begin: &begin})
				})
				if err != nil {
					return fmt.Errorf("%w\nTo go on: insegna safe renew-key --continue", err)
				}
				done := v.Secrets - v.Left
				fmt.Fprintf(a.err, "%d of %d secrets are encrypted with key %s\n", done, v.Secrets, v.Key)
				if v.Left == 0 {
					a.say("Everything is encrypted with key %s. The earlier lines of %s are not needed any more, but for backups "+
						"of the database from before: take a copy, then take them out.", v.Key, v.Source)
					return nil
				}
				if begin = false; waited {
					if err := pauseFor(c.Context(), time.Second); err != nil { // orders under way come when they have ended
						return err
					}
				}
				waited = v.Left < 50
			}
		})}
	c.Flags().BoolVar(&goOn, "continue", false, "make no new key; go on with what is left")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// pauseFor waits, or ends with the context.
func pauseFor(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// recover lets somebody in again who lost their passphrase, for who may read the
// data directory: no other admin is needed.
func (a *app) recover() *cobra.Command {
	var cfg service.Config
	c := &cobra.Command{Use: "recover NAME", Short: "Print a one-time link for somebody, on the service's own machine",
		Args: cobra.ExactArgs(1),
		Long: "For an admin who lost the passphrase when no other admin is there. It goes to the database itself, so\n" +
			"it needs no sign-in, and the right to read the data directory; the service may run meanwhile. The\n" +
			"person's sessions and tokens end, and the journal says so.",
		Example: "  sudo insegna recover marit --data /var/lib/insegna",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			i, err := service.Recover(c.Context(), cfg, args[0])
			if errors.Is(err, os.ErrPermission) {
				return fmt.Errorf("%w; run it as the user of the service, or as root", err)
			} else if err != nil {
				return err
			}
			return a.invited(&client.Invitation{Name: args[0], Code: i.Code, ExpiresAt: i.ExpiresAt})
		})}
	c.Flags().StringVar(&cfg.Data, "data", dataDir(), "data directory of the service")
	c.Flags().StringVar(&cfg.Database, "database", os.Getenv("INSEGNA_DATABASE"),
		"the service's PostgreSQL, where it is not its own; better set INSEGNA_DATABASE")
	return c
}
