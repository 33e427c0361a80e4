package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
)

// givenFiles reads files as they are sent to the service.
func (a *app) givenFiles(ctx context.Context, paths []string) ([]client.GivenFile, error) {
	out := make([]client.GivenFile, len(paths))
	for i, p := range paths {
		data, err := inputOf(ctx, p)
		if err != nil {
			return nil, fmt.Errorf("cannot read a file: %w", err)
		}
		if len(data) > certs.ReadLimit {
			return nil, fmt.Errorf("%s has more than %d bytes; expected a certificate with its chain and its key", p, certs.ReadLimit)
		}
		name := filepath.Base(p)
		if p == "-" {
			name = "standard input"
		}
		out[i] = client.GivenFile{Name: name, Content: data}
	}
	return out, nil
}

// unlocked gives the passphrase files are opened with: it is seen here whether one is
// needed, so that it is asked for once and a wrong one is not sent.
func (o *opening) unlocked(ctx context.Context, a *app, files []client.GivenFile) (*string, error) {
	passphrase, err := o.given(a)
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		m := &certs.Material{}
		err := m.Read(f.Name, append([]byte{}, f.Content...), passphrase)
		var locked *certs.LockedError
		switch {
		case errors.As(err, &locked) && !locked.Tried:
			text, asked := a.passphrase("", "Passphrase of "+clean(locked.What))
			if asked != nil {
				return nil, fmt.Errorf("%w: %w", err, asked)
			}
			passphrase = append([]byte{}, text...)
		case errors.As(err, &locked):
			return nil, err
		}
	}
	if passphrase == nil {
		return nil, ctx.Err()
	}
	text := string(passphrase)
	return &text, ctx.Err()
}

// certificateTake takes a certificate with its key in.
func (a *app) certificateTake() *cobra.Command {
	var open opening
	var mandate, name string
	c := &cobra.Command{Use: "take FILE... (or - for standard input)",
		Short: "Take a certificate with its key into the safe, in any form, as the newest of a mandate", Args: cobra.MinimumNArgs(1),
		Long: "Reads PEM in any order, DER, PKCS#7, PKCS#12 and encrypted keys, from one file or several. The key is held\n" +
			"against the certificate, and the chain completed from what is given and what the estate knows. It becomes\n" +
			"the newest of --mandate, or of the mandate of its names, which is made where there is none: from then on\n" +
			"it is installed and renewed, or you are reminded, like any other.",
		Example: "  insegna certificate take .demo/kiosk.p12\n  insegna certificate take www.pem www.key --mandate www",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			files, err := a.givenFiles(c.Context(), args)
			if err != nil {
				return err
			}
			b := client.GivenMaterial{Files: files}
			if b.Passphrase, err = open.unlocked(c.Context(), a, files); err != nil {
				return err
			}
			which := strings.ToLower(strings.ReplaceAll(open.which, ":", ""))
			b.Certificate, b.Mandate, b.Name = set(which), set(mandate), set(name)
			v, err := get[client.TakenCertificate](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.TakeCertificate(ctx, b)
			})
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.json(v)
			}
			o := &v.Order
			a.say("Taken in as the newest certificate of %s (order %d), valid until %s: %s.", o.Mandate, o.Number, day(*o.NotAfter),
				strings.Join(o.Names, ", "))
			for _, w := range v.Words {
				a.note("  ! ", w)
			}
			a.say("What it would change on a server: insegna install %s --server NAME", o.Mandate)
			return nil
		})}
	c.Flags().StringVar(&mandate, "mandate", "", "whose newest it becomes; the one of its names without this")
	c.Flags().StringVar(&name, "name", "", "name of the mandate that is made; the certificate's main name without this")
	open.flags(c)
	return c
}

// set is a text that may be left out.
func set(text string) *string {
	if text == "" {
		return nil
	}
	return &text
}

// orderRequest prints the request of an order.
func (a *app) orderRequest() *cobra.Command {
	var out string
	c := &cobra.Command{Use: "request NUMBER", Short: "Print the certificate request of an order, to send it to a CA", Args: cobra.ExactArgs(1),
		Example: "  insegna order request 7 --out harbour.csr",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "order")
			if err != nil {
				return err
			}
			o, err := a.orderOf(c.Context(), id)
			switch {
			case err != nil:
				return err
			case o.Request == nil:
				return fmt.Errorf("order %d has made no request yet; see how it stands: insegna order show %d", id, id)
			case a.output == "json":
				return a.json(o)
			case out == "":
				_, err = fmt.Fprint(a.out, *o.Request)
				return err
			}
			if err := writeNew(out, []byte(*o.Request), false, false); err != nil {
				return err
			}
			a.say("The request for %s is in %s. Once it is sent: insegna order sent %d --to WHOM", strings.Join(o.Names, ", "), out, id)
			return nil
		})}
	c.Flags().StringVar(&out, "out", "", "write it to this file, which must not be there yet")
	return c
}

// orderSent keeps that a request was sent.
func (a *app) orderSent() *cobra.Command {
	var to, by string
	c := &cobra.Command{Use: "sent NUMBER", Short: "Say that the request of an order was sent, to whom, and when a reply is expected",
		Args: cobra.ExactArgs(1), Example: "  insegna order sent 7 --to \"certificates desk\" --expected-by 2026-12-15",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "order")
			if err != nil {
				return err
			}
			b := client.SentRequest{To: set(to)}
			if by != "" {
				at, err := time.ParseInLocation(time.DateOnly, by, zone)
				if err != nil {
					return usage{fmt.Errorf("%q is no day; expected one such as 2026-12-15", by)}
				}
				at = at.AddDate(0, 0, 1).Add(-time.Second).UTC()
				b.ExpectedAt = &at
			}
			o, err := get[client.Order](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.MarkSent(ctx, id, b) })
			if err != nil {
				return err
			}
			words := fmt.Sprintf("Order %d of %s waits for the reply", id, o.Mandate)
			if o.SentTo != nil {
				words += " of " + *o.SentTo
			}
			if o.ExpectedAt != nil {
				words += ", expected by " + day(*o.ExpectedAt)
			}
			a.say("%s. When it is there: insegna order reply FILE", words)
			return nil
		})}
	c.Flags().StringVar(&to, "to", "", "whom; as the CA's declaration says without this")
	c.Flags().StringVar(&by, "expected-by", "", "day until when a reply is expected")
	return c
}

// orderReply brings back what a CA sent.
func (a *app) orderReply() *cobra.Command {
	var open opening
	var order int64
	c := &cobra.Command{Use: "reply FILE... (or - for standard input)", Short: "Bring back what a CA sent: it is matched to its request among all that wait",
		Args: cobra.MinimumNArgs(1),
		Long: "Reads the reply in any container, finds the waiting request whose key it is for, holds its names, dates and\n" +
			"chain against the order, and keeps it, or says why not.",
		Example: "  insegna order reply .demo/reply.p7b",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			files, err := a.givenFiles(c.Context(), args)
			if err != nil {
				return err
			}
			b := client.Reply{Files: files}
			if b.Passphrase, err = open.unlocked(c.Context(), a, files); err != nil {
				return err
			}
			if order > 0 {
				b.Order = &order
			}
			o, err := get[client.Order](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.TakeReply(ctx, b) })
			if err != nil {
				return err
			}
			return a.followOrder(c.Context(), o)
		})}
	c.Flags().Int64Var(&order, "order", 0, "number of the order it has to be for")
	open.flags(c)
	return c
}

// orderGiveUp ends an order that waits.
func (a *app) orderGiveUp() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "end NUMBER", Short: "End an order that waits for a person; its key is destroyed", Args: cobra.ExactArgs(1),
		Example: "  insegna order end 7",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "order")
			if err != nil {
				return err
			}
			if err := a.agreed(yes, fmt.Sprintf("End order %d and destroy its key? A reply to its request is of no use then.", id),
				fmt.Sprintf("insegna order end %d --yes", id)); err != nil {
				return err
			}
			o, err := get[client.Order](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.EndOrder(ctx, id) })
			if err == nil {
				a.say("Order %d of %s has ended.", id, o.Mandate)
			}
			return err
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// orderExport hands out certificate and key in any form.
func (a *app) orderExport() *cobra.Command {
	var f converting
	var reason string
	var yes bool
	c := &cobra.Command{Use: "export NUMBER", Short: "Hand out the certificate an order brought, with its chain and its key, in any form",
		Args: cobra.ExactArgs(1),
		Long: "For servers that Insegna does not install on. Needs the permission to take private keys (insegna person\n" +
			"keys), and stands in the journal with its reason. Files are made with mode 0600, and none is written over.",
		Example: "  insegna order export 3 --to pkcs12 --alias kiosk --out kiosk.p12 --reason \"kiosk terminals\"",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "order")
			switch {
			case err != nil:
				return err
			case strings.TrimSpace(reason) == "":
				return usage{errors.New("a private key is taken out for a reason; say it with --reason, it stands in the journal")}
			case f.out == "":
				return usage{errors.New("a private key is written to a file; give --out FILE")}
			}
			return a.export(c.Context(), id, &f, reason, yes)
		})}
	l := c.Flags()
	l.StringVar(&f.to, "to", string(certs.FormPEM), "pem, der, pkcs7 or pkcs12")
	l.StringVar(&f.out, "out", "", "file to write")
	l.StringVar(&f.keyOut, "key-out", "", "file for the private key, apart from the certificates")
	l.StringVar(&f.alias, "alias", "", "name of the key in PKCS#12; the mandate's without one")
	l.StringVar(&f.newFile, "new-passphrase-file", "", "file with the passphrase to write with, - for standard input; or set "+newPassphraseVariable)
	l.BoolVar(&f.lock, "encrypt-key", false, "write a key in PEM or DER under a passphrase")
	l.BoolVar(&f.root, "with-root", false, "with the root at the end of the chain")
	l.BoolVar(&f.old, "old", false, "for programs that know no other: PKCS#12 with triple DES, keys as RSA or EC PRIVATE KEY")
	l.StringVar(&reason, "reason", "", "why; it stands in the journal")
	l.BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// export asks, fetches and writes.
func (a *app) export(ctx context.Context, id int64, f *converting, reason string, yes bool) error {
	form := client.GiveRequestForm(f.to)
	if !form.Valid() {
		return usage{fmt.Errorf("unknown form %q; expected pem, der, pkcs7 or pkcs12", f.to)}
	}
	if two := form == client.GiveRequestFormDer || form == client.GiveRequestFormPkcs7; two && f.keyOut == "" {
		return usage{fmt.Errorf("%s holds no key beside the certificates; give --key-out FILE for it", f.to)}
	}
	for _, path := range []string{f.out, f.keyOut} { // before the key leaves the safe
		if _, err := os.Lstat(path); path != "" && err == nil {
			return fmt.Errorf("%s is there already; name another file", path)
		}
	}
	again := fmt.Sprintf("insegna order export %d --to %s --out %s --reason %s --yes", id, f.to, f.out, strconv.Quote(reason))
	if err := a.agreed(yes, fmt.Sprintf("Take certificate and private key of order %d out of the safe?", id), again); err != nil {
		return err
	}
	apart := f.keyOut != ""
	b := client.GiveRequest{Form: form, Reason: reason, Apart: &apart, WithRoot: &f.root, Old: &f.old, Alias: set(f.alias)}
	if form == client.GiveRequestFormPkcs12 || f.lock {
		text, err := f.newPassphrase(a)
		if err != nil {
			return err
		}
		word := string(text)
		b.Passphrase = &word
	}
	v, err := get[client.GivenFiles](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GiveCertificate(ctx, id, b) })
	if err != nil {
		return err
	}
	paths := []string{f.out, f.keyOut}
	for i, file := range v.Files {
		if err := writeNew(paths[i], file.Content, true, false); err != nil {
			return fmt.Errorf("%w; it was taken out, and the journal says so", err)
		}
		a.say("Written: %s", paths[i])
	}
	return nil
}
