package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// accounts are the verbs of accounts at CAs.
func (a *app) accounts() *cobra.Command {
	return group("account", "Accounts at CAs: their contact, their keys, their end", a.accountList(), a.accountContact(), a.accountKey(), a.accountEnd())
}

// accountList lists the accounts.
func (a *app) accountList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the accounts at CAs, those that have ended too", Args: cobra.NoArgs,
		Example: "  insegna account list",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			list, err := get[client.AccountList](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ListAccounts(ctx) })
			if err != nil {
				return err
			}
			if len(list.Items) == 0 && a.output == "table" {
				a.say("There is no account yet; one is made when somebody agrees to a CA's terms: insegna ca agree NAME")
				return nil
			}
			return print(a, list, list.Items, []column[client.Account]{
				{head: "CA", width: 16, cell: func(v client.Account) string {
					if v.Test {
						return v.Ca + "\n(test)"
					}
					return v.Ca
				}, raw: func(v client.Account) string { return v.Ca }},
				{head: "Account", width: 36, cell: func(v client.Account) string { return v.Url }},
				{head: "Contact", width: 22, cell: contactOf},
				{head: "State", width: 22, cell: accountState},
			})
		})}
}

// contactOf tells the contact a CA was told, and where the estate file has another.
func contactOf(v client.Account) string {
	told := strings.ReplaceAll(v.Contact, "mailto:", "")
	if told == "" {
		told = "none known"
	}
	if v.EndedAt == nil && v.Declared && v.Contact != v.ContactDeclared {
		told += "; the estate has another: insegna account contact " + v.Ca
	}
	return told
}

// accountState tells how an account stands.
func accountState(v client.Account) string {
	switch {
	case v.EndedAt != nil:
		return "deactivated " + day(*v.EndedAt)
	case v.KeyOpen != nil && *v.KeyOpen:
		return "is being given a new key"
	case v.RestsUntil != nil:
		return "the CA wants no requests before " + moment(*v.RestsUntil)
	case !v.Declared:
		return "the estate declares this CA no more"
	}
	return "good since " + day(v.AgreedAt)
}

// onAccount makes a verb that does one thing with the accounts at a CA.
func (a *app) onAccount(c *cobra.Command, done string, do func(ctx context.Context, cl calls, ca string) (*http.Response, error)) *cobra.Command {
	c.Args = cobra.ExactArgs(1)
	c.RunE = a.run(func(c *cobra.Command, args []string) error {
		_, err := get[struct{}](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return do(ctx, cl, args[0]) })
		if err == nil {
			a.say(done, args[0])
		}
		return err
	})
	return c
}

// accountContact tells a CA the contact of the estate file.
func (a *app) accountContact() *cobra.Command {
	return a.onAccount(&cobra.Command{Use: "contact CA", Short: "Tell a CA the contact the estate file declares", Example: "  insegna account contact harbour-light"},
		"%s was told the contact of the estate file.",
		func(ctx context.Context, cl calls, ca string) (*http.Response, error) { return cl.TellContact(ctx, ca) })
}

// accountKey gives the accounts at a CA new keys.
func (a *app) accountKey() *cobra.Command {
	return a.onAccount(&cobra.Command{Use: "key CA", Short: "Give the accounts at a CA new keys", Example: "  insegna account key harbour-light",
		Long: "The new key is kept in the safe before the CA hears of it. Certificates are not touched."},
		"The accounts at %s have new keys; the old ones are destroyed.",
		func(ctx context.Context, cl calls, ca string) (*http.Response, error) { return cl.RollKey(ctx, ca) })
}

// accountEnd deactivates the accounts at a CA.
func (a *app) accountEnd() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "end CA", Short: "Deactivate the accounts at a CA for good; their keys are destroyed", Args: cobra.ExactArgs(1),
		Long:    "Certificates stay good until they end; they can be revoked with their own keys alone from then on.",
		Example: "  insegna account end old-ca",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if err := a.agreed(yes, fmt.Sprintf("Deactivate the accounts at %s and destroy their keys? That cannot be undone.", args[0]),
				fmt.Sprintf("insegna account end %s --yes", args[0])); err != nil {
				return err
			}
			_, err := get[struct{}](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.EndAccount(ctx, args[0], &client.EndAccountParams{Used: &yes})
			})
			if err == nil {
				a.say("The accounts at %s are deactivated.", args[0])
			}
			return err
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask, also where mandates order from it")
	return c
}

// orderRevoke takes a certificate back at its CA.
func (a *app) orderRevoke() *cobra.Command {
	var b client.OrderRevocation
	var reason string
	var byKey, replace, yes bool
	c := &cobra.Command{Use: "revoke NUMBER", Short: "Take the certificate of an order back at its CA, and order another with --replace", Args: cobra.ExactArgs(1),
		Long: "Signed by the account that ordered it or, with --by-key, by the certificate's own key, where the account is\n" +
			"lost. With --replace the mandate is ordered anew at once, with a new key, and installed where this one is.",
		Example: "  insegna order revoke 3 --reason keyCompromise --replace",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "order")
			if err != nil {
				return err
			}
			if b.Reason = client.OrderRevocationReason(reason); !b.Reason.Valid() {
				return usage{fmt.Errorf("unknown reason %q; expected unspecified, keyCompromise, affiliationChanged, superseded, cessationOfOperation or privilegeWithdrawn", reason)}
			}
			b.ByKey, b.Replace = &byKey, &replace
			if err := a.agreed(yes, fmt.Sprintf("Revoke the certificate of order %d? Visitors of whoever serves it are warned from then on.", id),
				fmt.Sprintf("insegna order revoke %d --reason %s --yes", id, reason)); err != nil {
				return err
			}
			v, err := get[client.RevokedOrder](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.RevokeOrder(ctx, id, b) })
			if err != nil {
				return err
			}
			a.say("The certificate of order %d (%s) is revoked.", id, v.Order.Mandate)
			switch {
			case v.Left != nil:
				return fmt.Errorf("no other was ordered: %s", *v.Left)
			case v.Next == nil:
				return nil
			}
			next, err := get[client.Order](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetOrder(ctx, *v.Next) })
			if err != nil {
				return err
			}
			return a.followOrder(c.Context(), next)
		})}
	c.Flags().StringVar(&reason, "reason", "unspecified", "keyCompromise, affiliationChanged, superseded, cessationOfOperation, privilegeWithdrawn or unspecified")
	c.Flags().BoolVar(&byKey, "by-key", false, "ask with the certificate's own key in place of the account")
	c.Flags().BoolVar(&replace, "replace", false, "order another at once")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
