package cli

import (
	"context"
	"fmt"
	"net/http"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// caCustomers are the verbs of customers of a CA of one's own.
func (a *app) caCustomers() *cobra.Command {
	return group("customer", "Customers of a CA of your own: to whom accounts of ACME clients are bound", a.customerList(), a.customerAdd(), a.customerRemove())
}

// customerList lists them.
func (a *app) customerList() *cobra.Command {
	return &cobra.Command{Use: "list CA", Short: "List the customers of a CA of your own, and where clients ask it", Args: cobra.ExactArgs(1),
		Example: "  insegna ca customer list crew",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			v, err := get[client.CustomerList](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ListCustomers(ctx, args[0]) })
			if err != nil {
				return err
			}
			if a.output == "table" {
				a.say("Clients ask %s at %s", args[0], v.Directory)
			}
			return print(a, v, v.Items, []column[client.Customer]{
				{head: "Customer", width: 30, cell: func(r client.Customer) string { return r.Name }},
				{head: "Accounts", cell: func(r client.Customer) string { return fmt.Sprint(r.Accounts) }},
				{head: "Added", width: 30, cell: func(r client.Customer) string { return moment(r.At) + " by " + r.By }},
			})
		})}
}

// customerAdd makes one.
func (a *app) customerAdd() *cobra.Command {
	return &cobra.Command{Use: "add CA NAME", Short: "Make a customer, or give one another key; the key is shown this once", Args: cobra.ExactArgs(2),
		Long:    "Prints what an ACME client needs to bind its account to the customer (RFC 8555 section 7.3.4).",
		Example: "  insegna ca customer add crew galley",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			v, err := get[client.CustomerKey](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.AddCustomer(ctx, args[0], args[1])
			})
			if err != nil {
				return err
			}
			return printFacts(a, v, [][2]string{{"directory", v.Directory}, {"key id", v.KeyId}, {"MAC key", v.Mac}})
		})}
}

// customerRemove forgets one.
func (a *app) customerRemove() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "remove CA NAME", Short: "Forget a customer and end its accounts; its certificates stay good", Args: cobra.ExactArgs(2),
		Example: "  insegna ca customer remove crew galley",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if err := a.agreed(yes, fmt.Sprintf("Remove the customer %s of %s? Its clients cannot renew then.", args[1], args[0]),
				fmt.Sprintf("insegna ca customer remove %s %s --yes", args[0], args[1])); err != nil {
				return err
			}
			_, err := get[struct{}](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.RemoveCustomer(ctx, args[0], args[1])
			})
			if err == nil {
				a.say("%s is no customer of %s any more, and its accounts have ended.", args[1], args[0])
			}
			return err
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
