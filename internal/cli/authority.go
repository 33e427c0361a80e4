package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// caMake makes a CA of one's own.
func (a *app) caMake() *cobra.Command {
	var b client.AuthorityWish
	var organization, country, key, rootOut, file string
	var rootDays, issuingDays int
	var permitted []string
	c := &cobra.Command{Use: "make NAME", Short: "Make a CA of your own: a root, and a CA below it that issues", Args: cobra.ExactArgs(1),
		Long: "NAME is the name of a CA with by: private in the estate file. Both keys lie in the safe, encrypted. With\n" +
			"--root-key the root's key is written to a file under a passphrase instead, to be kept away from here: it is\n" +
			"needed again only to roll the CA over. With --permit every certificate of it is confined to these names, by\n" +
			"the certificates themselves.",
		Example: "  insegna ca make crew --organization \"Lantern Coast Ferries\" --permit crew.lanterncoast.example",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			b.Organization, b.Country = set(organization), set(country)
			if key != "" {
				kind := client.AuthorityWishKey(key)
				if !kind.Valid() {
					return usage{fmt.Errorf("unknown kind of key %q; expected ecdsa-p256, ecdsa-p384, ecdsa-p521, ed25519, rsa-2048, rsa-3072 or rsa-4096", key)}
				}
				b.Key = &kind
			}
			if rootDays > 0 {
				b.RootDays = &rootDays
			}
			if issuingDays > 0 {
				b.IssuingDays = &issuingDays
			}
			if len(permitted) > 0 {
				b.Permitted = &permitted
			}
			var err error
			if b.RootPassphrase, err = a.rootPassphrase(rootOut, file); err != nil {
				return err
			}
			v, err := get[client.MadeAuthority](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.MakeAuthority(ctx, args[0], b)
			})
			if err != nil {
				return err
			}
			if err := a.keepRootKey(rootOut, v.RootKey); err != nil {
				return err
			}
			return a.showAuthority(&v.Authority)
		})}
	l := c.Flags()
	l.StringVar(&organization, "organization", "", "in the names of its certificates")
	l.StringVar(&country, "country", "", "likewise; two letters")
	l.StringVar(&key, "key", "", "kind of both keys; ecdsa-p384 without this")
	l.IntVar(&rootDays, "root-days", 0, "life of the root; 3650 without this")
	l.IntVar(&issuingDays, "issuing-days", 0, "life of the CA below it; 1095 without this")
	l.StringArrayVar(&permitted, "permit", nil, "a domain, with all below it, or a range of addresses it may ever issue for; any without this")
	l.StringVar(&rootOut, "root-key", "", "write the root's key to this file under a passphrase, and keep none here")
	l.StringVar(&file, "new-passphrase-file", "", "file with that passphrase, - for standard input; or set "+newPassphraseVariable)
	return c
}

// rootPassphrase is what a root's key is to be written under, to a file that must not be
// there yet; nil where none is named.
func (a *app) rootPassphrase(out, file string) (*string, error) {
	if out == "" {
		return nil, nil
	}
	if _, err := os.Lstat(out); err == nil {
		return nil, fmt.Errorf("%s is there already; name another file", out)
	}
	f := converting{newFile: file}
	text, err := f.newPassphrase(a)
	if err != nil {
		return nil, err
	}
	word := string(text)
	return &word, nil
}

// keepRootKey writes a root's key that was handed out; nil for none.
func (a *app) keepRootKey(out string, key *string) error {
	if key == nil {
		return nil
	}
	if err := writeNew(out, []byte(*key), true, false); err != nil {
		return fmt.Errorf("%w; the root's key was handed out and is nowhere else: keep what follows in a file\n%s", err, *key)
	}
	a.say("The root's key is in %s, under its passphrase, and nowhere else. Keep it away from this machine.", out)
	return nil
}

// caTake takes an existing CA in.
func (a *app) caTake() *cobra.Command {
	var open opening
	c := &cobra.Command{Use: "take NAME FILE...", Short: "Take an existing CA in: its issuing certificate with its key, and the root above it",
		Args: cobra.MinimumNArgs(2), Example: "  insegna ca take crew issuing.p12 root.pem",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			files, err := a.givenFiles(c.Context(), args[1:])
			if err != nil {
				return err
			}
			b := client.GivenMaterial{Files: files, Certificate: set(open.which)}
			if b.Passphrase, err = open.unlocked(c.Context(), a, files); err != nil {
				return err
			}
			v, err := get[client.Authority](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.TakeAuthority(ctx, args[0], b)
			})
			if err != nil {
				return err
			}
			return a.showAuthority(v)
		})}
	open.flags(c)
	return c
}

// caShow shows the certificates of a CA of one's own.
func (a *app) caShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show the certificates of a CA of your own", Args: cobra.ExactArgs(1), Example: "  insegna ca show crew",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			v, err := a.authority(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.showAuthority(v)
		})}
}

// authority fetches a CA of one's own.
func (a *app) authority(ctx context.Context, name string) (*client.Authority, error) {
	return get[client.Authority](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetAuthority(ctx, name) })
}

// showAuthority lists its certificates.
func (a *app) showAuthority(v *client.Authority) error {
	if err := print(a, v, v.Certificates, []column[client.AuthorityCertificate]{
		{head: "Number", cell: func(c client.AuthorityCertificate) string { return fmt.Sprint(c.Number) }},
		{head: "Role", cell: func(c client.AuthorityCertificate) string {
			if c.RetiredAt != nil {
				return string(c.Role) + ", former"
			}
			return string(c.Role)
		}, raw: func(c client.AuthorityCertificate) string { return string(c.Role) }},
		{head: "Certificate", width: 28, cell: func(c client.AuthorityCertificate) string { return c.Subject + "\n" + c.Sha256[:12] },
			raw: func(c client.AuthorityCertificate) string { return c.Sha256 }},
		{head: "Ends", cell: func(c client.AuthorityCertificate) string { return day(c.NotAfter) },
			raw: func(c client.AuthorityCertificate) string { return c.NotAfter.UTC().Format(time.RFC3339) }},
		{head: "Key", width: 22, cell: func(c client.AuthorityCertificate) string {
			if c.KeyKept {
				return c.Key + "\nin the safe"
			}
			return c.Key + "\nkept elsewhere"
		}, raw: func(c client.AuthorityCertificate) string { return c.Key }},
	}); err != nil || a.output != "table" {
		return err
	}
	a.say("\nMachines trust it by its root: insegna ca root %s, or %s/pki/%s/", v.Name, strings.TrimSuffix(a.address, "/"), v.Name)
	return nil
}

// caRoot prints the roots of a CA of one's own.
func (a *app) caRoot() *cobra.Command {
	var out string
	c := &cobra.Command{Use: "root NAME", Short: "Print the root of a CA of your own, for machines to trust", Args: cobra.ExactArgs(1),
		Example: "  insegna ca root crew --out crew-root.pem",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			v, err := a.authority(c.Context(), args[0])
			if err != nil {
				return err
			}
			var text string
			for _, one := range v.Certificates {
				if one.Role == client.AuthorityCertificateRoleRoot {
					text += one.Pem
				}
			}
			if out != "" {
				return writeNew(out, []byte(text), false, false)
			}
			_, err = fmt.Fprint(a.out, text)
			return err
		})}
	c.Flags().StringVar(&out, "out", "", "write it to this file, which must not be there yet")
	return c
}

// caSign issues from a request.
func (a *app) caSign() *cobra.Command {
	var profile, out string
	c := &cobra.Command{Use: "sign NAME REQUEST", Short: "Have a CA of your own issue from a certificate request", Args: cobra.ExactArgs(2),
		Long:    "The key is whoever's made the request. The names have to be those its profile allows.",
		Example: "  insegna ca sign crew printer.csr --out printer.pem",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			data, err := inputOf(c.Context(), args[1])
			if err != nil {
				return fmt.Errorf("cannot read the request: %w", err)
			}
			if !strings.Contains(string(data), "-----BEGIN") {
				return errors.New("the request is not PEM; openssl req -inform DER -in FILE writes it as PEM")
			}
			v, err := get[client.SignedRequest](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.SignRequest(ctx, args[0], client.SigningRequest{Request: string(data), Profile: set(profile)})
			})
			switch {
			case err != nil:
				return err
			case a.output == "json":
				return a.json(v)
			case out == "":
				_, err = fmt.Fprint(a.out, v.Pem)
				return err
			}
			if err := writeNew(out, []byte(v.Pem), false, false); err != nil {
				return err
			}
			a.say("Issued until %s, serial number %s: %s", day(v.NotAfter), v.Serial, out)
			return nil
		})}
	c.Flags().StringVar(&profile, "profile", "", "of the CA; its first without this")
	c.Flags().StringVar(&out, "out", "", "write certificate and chain to this file, which must not be there yet")
	return c
}

// caIssued lists what a CA of one's own has issued.
func (a *app) caIssued() *cobra.Command {
	var limit int
	c := &cobra.Command{Use: "issued NAME", Short: "List what a CA of your own has issued, the newest first", Args: cobra.ExactArgs(1),
		Example: "  insegna ca issued crew",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			params := &client.ListIssuedParams{}
			page, err := whole(a, c.Context(), limit,
				func(p *client.IssuedPage) (*[]client.IssuedByAuthority, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					return cl.ListIssued(ctx, args[0], params)
				})
			if err != nil {
				return err
			}
			if len(page.Items) == 0 && a.output == "table" {
				a.say("It has issued nothing yet.")
				return nil
			}
			err = print(a, page.Items, page.Items, []column[client.IssuedByAuthority]{
				{head: "Serial number", width: 32, cell: func(v client.IssuedByAuthority) string { return v.Serial }},
				{head: "Names", width: 28, cell: func(v client.IssuedByAuthority) string { return strings.Join(v.Names, "\n") },
					raw: func(v client.IssuedByAuthority) string { return strings.Join(v.Names, " ") }},
				{head: "Ends", cell: func(v client.IssuedByAuthority) string { return day(v.NotAfter) }},
				{head: "For", width: 18, cell: func(v client.IssuedByAuthority) string {
					words := v.By
					if v.Order != nil {
						words = fmt.Sprintf("order %d", *v.Order)
					}
					if v.RevokedAt != nil {
						words += "\n✗ revoked " + day(*v.RevokedAt)
						if v.Reason != nil {
							words += ", " + *v.Reason
						}
					}
					return words
				}},
			})
			a.more(page.NextCursor, len(page.Items))
			return err
		})}
	c.Flags().IntVar(&limit, "limit", 0, limitHelp)
	return c
}

// caRevoke revokes a certificate of a CA of one's own.
func (a *app) caRevoke() *cobra.Command {
	var reason string
	var yes bool
	c := &cobra.Command{Use: "revoke NAME SERIAL", Short: "Revoke a certificate that a CA of your own has issued", Args: cobra.ExactArgs(2),
		Example: "  insegna ca revoke crew 4f2c… --reason superseded",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			word := client.RevocationReason(reason)
			if !word.Valid() {
				return usage{fmt.Errorf("unknown reason %q; expected unspecified, keyCompromise, affiliationChanged, superseded, cessationOfOperation or privilegeWithdrawn", reason)}
			}
			if err := a.agreed(yes, "Revoke it? It cannot be made good again.", fmt.Sprintf("insegna ca revoke %s %s --yes", args[0], args[1])); err != nil {
				return err
			}
			_, err := get[struct{}](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.RevokeIssued(ctx, args[0], client.Revocation{Serial: args[1], Reason: &word})
			})
			if err == nil {
				a.say("Revoked; the revocation list and OCSP say so from now on. Install another certificate where it was used.")
			}
			return err
		})}
	c.Flags().StringVar(&reason, "reason", "unspecified", "unspecified, keyCompromise, affiliationChanged, superseded, cessationOfOperation or privilegeWithdrawn")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
