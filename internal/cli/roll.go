package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// caRoll gives a CA of one's own a new root.
func (a *app) caRoll() *cobra.Command {
	var open opening
	var rootKey, rootOut, file string
	var finish, yes bool
	c := &cobra.Command{Use: "roll NAME", Short: "Give a CA of your own a new root without breaking anybody", Args: cobra.ExactArgs(1),
		Long: "Makes a new root and a new CA below it that issues from then on. The former root vouches for the new one, and\n" +
			"servers send that along: whoever trusts either of them trusts what is issued. Have machines trust the new root\n" +
			"(insegna ca root NAME), declare it in the audiences, and then end that with --finish. Shows what is there and\n" +
			"what is to be done, and asks.",
		Example: "  insegna ca roll crew\n  insegna ca roll crew --root-key crew-root.key\n  insegna ca roll crew --finish",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			v, err := get[client.Rolling](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetRolling(ctx, args[0]) })
			if err != nil {
				return err
			}
			a.sayRolling(args[0], v)
			if finish {
				return a.endRolling(c.Context(), args[0], v, yes)
			}
			b := client.RollingWish{}
			if rootKey != "" {
				files, err := a.givenFiles(c.Context(), []string{rootKey})
				if err != nil {
					return err
				}
				b.Files = &files
				if b.Passphrase, err = open.unlocked(c.Context(), a, files); err != nil {
					return err
				}
			}
			if b.RootPassphrase, err = a.rootPassphrase(rootOut, file); err != nil {
				return err
			}
			if err := a.agreed(yes, fmt.Sprintf("Give %s a new root? %s vouches for it from then on.", args[0], v.Root), fmt.Sprintf("insegna ca roll %s --yes", args[0])); err != nil {
				return err
			}
			made, err := get[client.MadeAuthority](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.RollAuthority(ctx, args[0], b)
			})
			if err != nil {
				return err
			}
			if err := a.keepRootKey(rootOut, made.RootKey); err != nil {
				return err
			}
			a.say("Have machines trust the new root: insegna ca root %s. When they do: insegna ca roll %[1]s --finish", args[0])
			return a.showAuthority(&made.Authority)
		})}
	l := c.Flags()
	l.StringVar(&rootKey, "root-key", "", "file with the former root's key, where it is not in the safe")
	l.StringVar(&rootOut, "new-root-key", "", "write the new root's key to this file under a passphrase, and keep none here")
	l.StringVar(&file, "new-passphrase-file", "", "file with that passphrase, - for standard input; or set "+newPassphraseVariable)
	l.BoolVar(&finish, "finish", false, "end that the former root vouches for the one in force")
	l.BoolVar(&yes, "yes", false, "do not ask, also where audiences trust the former root alone")
	open.flags(c)
	return c
}

// sayRolling tells how a CA stands between two roots.
func (a *app) sayRolling(name string, v *client.Rolling) {
	a.say("The root of %s is %s, which ends on %s; %s good under it.", name, v.Root, day(*v.RootEnds), plural(v.Issued, "certificate"))
	if v.Former != nil {
		words := "does not vouch for it any more"
		if v.Vouched {
			words = "vouches for it"
		}
		a.say("The root before, %s, %s.", *v.Former, words)
	}
	if v.IssuedBefore > 0 {
		a.say("%s good under former ones, the last until %s.", plural(v.IssuedBefore, "certificate"), day(*v.LastEnds))
	}
	if len(v.Moved) > 0 {
		a.say("Audiences that trust it: %s.", strings.Join(v.Moved, ", "))
	}
	if len(v.Waiting) > 0 {
		a.say("Audiences that trust the root before alone: %s.", strings.Join(v.Waiting, ", "))
	}
}

// endRolling ends it.
func (a *app) endRolling(ctx context.Context, name string, v *client.Rolling, yes bool) error {
	if err := a.agreed(yes, fmt.Sprintf("End that a former root vouches for %s? Whoever trusts that one alone is warned as certificates are renewed.", v.Root),
		fmt.Sprintf("insegna ca roll %s --finish --yes", name)); err != nil {
		return err
	}
	ended, err := get[client.Authority](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.EndRolling(ctx, name, &client.EndRollingParams{Agreed: &yes})
	})
	if err != nil {
		return err
	}
	return a.showAuthority(ended)
}
