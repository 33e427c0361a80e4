package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// certificateWithout tells what breaks when a certificate of a CA is gone.
func (a *app) certificateWithout() *cobra.Command {
	var audience string
	c := &cobra.Command{Use: "without FINGERPRINT", Short: "Foresee which hosts break for whom when a root or an intermediate is gone", Args: cobra.ExactArgs(1),
		Long: "Holds what servers send now against what each audience trusts, with the certificate and without it, and says\n" +
			"whether another chain that is known would help. With --for one audience alone drops it.",
		Example: "  insegna certificate list --kind ca\n  insegna certificate without 3f0a9c --for browsers",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			params := &client.WithoutCertificateParams{Audience: set(audience)}
			v, err := get[client.Without](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.WithoutCertificate(ctx, args[0], params)
			})
			if err != nil {
				return err
			}
			if a.output == "table" {
				a.sayWithout(v)
				if len(v.Items) == 0 {
					return nil
				}
			}
			return print(a, v, v.Items, []column[client.Breaks]{
				{head: "Hosts", width: 34, cell: func(b client.Breaks) string { return strings.Join(b.Hosts, "\n") },
					raw: func(b client.Breaks) string { return strings.Join(b.Hosts, " ") }},
				{head: "Break for", cell: func(b client.Breaks) string { return b.Audience }},
				{head: "Mandate", cell: func(b client.Breaks) string { return orEmpty(b.Mandate) }},
				{head: "Helps", width: 40, cell: func(b client.Breaks) string {
					if len(b.Helps) == 0 {
						return "nothing that is known: order another certificate"
					}
					return "sending " + strings.Join(b.Helps, "; ")
				}},
			})
		})}
	c.Flags().StringVar(&audience, "for", "", "audience that alone drops it")
	return c
}

// sayWithout tells the outcome in a sentence.
func (a *app) sayWithout(v *client.Without) {
	what := v.Name + " is gone"
	if v.Audience != nil {
		what = *v.Audience + " drops " + v.Name
	}
	hosts := map[string]bool{}
	for _, b := range v.Items {
		for _, h := range b.Hosts {
			hosts[h] = true
		}
	}
	if len(hosts) == 0 {
		a.say("When %s, nothing breaks: %s were held against it.", what, plural(v.Looked, "binding"))
	} else {
		a.say("When %s, %s break; %s were held against it.", what, plural(len(hosts), "host"), plural(v.Looked, "binding"))
	}
	if v.Unread > 0 {
		a.say("Of these %s could not be read, and are not judged.", fmt.Sprint(v.Unread))
	}
}
