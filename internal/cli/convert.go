package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
)

// Variables that may hold passphrases, in place of a file and of a question.
const (
	passphraseVariable    = "INSEGNA_PASSPHRASE"
	newPassphraseVariable = "INSEGNA_NEW_PASSPHRASE"
)

// opening is how files with keys are opened.
type opening struct {
	file  string // with the passphrase
	which string // first digits of a certificate's fingerprint
}

// flags adds those of opening.
func (o *opening) flags(c *cobra.Command) {
	c.Flags().StringVar(&o.file, "passphrase-file", "", "file with the passphrase of what is encrypted in its first line, - for standard "+
		"input; or set "+passphraseVariable+"; asked for without one")
	c.Flags().StringVar(&o.which, "certificate", "", "first digits of the fingerprint of the certificate meant, where there are several with a key")
}

// given gives the passphrase that was handed over; nil when there is none.
func (o *opening) given(a *app) ([]byte, error) {
	if o.file != "" {
		text, err := a.passphrase(o.file, "")
		return append([]byte{}, text...), err
	}
	if text, set := os.LookupEnv(passphraseVariable); set {
		return append([]byte{}, text...), nil
	}
	return nil, nil
}

// material reads files, and asks for a passphrase where one turns out to be
// needed.
func (o *opening) material(ctx context.Context, a *app, files []string) (*certs.Material, error) {
	passphrase, err := o.given(a)
	if err != nil {
		return nil, err
	}
	m := &certs.Material{}
	for _, f := range files {
		data, err := inputOf(ctx, f)
		if err != nil {
			return nil, fmt.Errorf("cannot read a file: %w", err)
		}
		err = m.Read(f, data, passphrase)
		var locked *certs.LockedError
		if errors.As(err, &locked) && !locked.Tried {
			text, asked := a.passphrase("", "Passphrase of "+clean(locked.What))
			if asked != nil {
				return nil, fmt.Errorf("%w: %w", err, asked)
			}
			err = m.Read(f, data, append([]byte{}, text...))
		}
		if err != nil {
			return nil, err
		}
	}
	return m, nil
}

// converting is what convert was asked for.
type converting struct {
	opening
	to, out, keyOut, alias, newFile string
	root, noKey, noChain, old, lock bool
	overwrite                       bool
}

// convert needs no service.
func (a *app) convert() *cobra.Command {
	var f converting
	c := &cobra.Command{Use: "convert FILE... (or - for standard input)",
		Short: "Turn certificates and keys from any form into any other", Args: cobra.MinimumNArgs(1),
		Long: "Reads PEM in any order, DER, PKCS#7, PKCS#12 and encrypted keys, old ones among them, from one file or\n" +
			"several; holds the key against the certificate, puts the chain in order, and writes it as it is wanted:\n" +
			"pem (one file, or two with --key-out), der (one certificate), pkcs7 (certificates), pkcs12 (with the key).\n" +
			"Needs no service. What was there is not written over, files with a key are made with mode 0600, and\n" +
			"what is left away is said.",
		Example: "  insegna convert .demo/kiosk.p12 --out kiosk.pem --key-out kiosk.key\n" +
			"  insegna convert kiosk.pem kiosk.key --to pkcs12 --alias kiosk --out kiosk.p12\n" +
			"  insegna convert bundle.p7b --out chain.pem",
		RunE: a.run(func(c *cobra.Command, args []string) error { return a.runConvert(c.Context(), &f, args) })}
	l := c.Flags()
	l.StringVar(&f.to, "to", string(certs.FormPEM), "pem, der, pkcs7 or pkcs12")
	l.StringVar(&f.out, "out", "", "file to write; standard output for certificates alone without one")
	l.StringVar(&f.keyOut, "key-out", "", "file for the private key, apart from the certificates")
	l.StringVar(&f.alias, "alias", "", "name of the key in PKCS#12; the one it had, or the main host name, without one")
	l.StringVar(&f.newFile, "new-passphrase-file", "", "file with the passphrase to write with, - for standard input; or set "+newPassphraseVariable)
	l.BoolVar(&f.lock, "encrypt-key", false, "write a key in PEM or DER under a passphrase")
	l.BoolVar(&f.root, "with-root", false, "leave the root in the chain; servers do not send it")
	l.BoolVar(&f.noKey, "without-key", false, "leave the private key away")
	l.BoolVar(&f.noChain, "without-chain", false, "leave all certificates away but the first")
	l.BoolVar(&f.old, "old", false, "for programs that know no other: PKCS#12 with triple DES, keys as RSA or EC PRIVATE KEY")
	l.BoolVar(&f.overwrite, "overwrite", false, "write over files that are there")
	f.flags(c)
	return c
}

// written is one file that was written.
type written struct {
	File   string   `json:"file"`
	Holds  []string `json:"holds"`            // in its order
	Omits  []string `json:"omits,omitempty"`  // what was read and is not in it, with why
	Sha256 string   `json:"sha256,omitempty"` // of the first certificate
}

// runConvert does it.
func (a *app) runConvert(ctx context.Context, f *converting, files []string) error {
	form := certs.Form(f.to)
	if !slices.Contains(certs.Forms, form) {
		return usage{fmt.Errorf("unknown form %q; expected pem, der, pkcs7 or pkcs12", f.to)}
	}
	m, err := f.material(ctx, a, files)
	if err != nil {
		return err
	}
	w := certs.Written{Form: form, Alias: f.alias, Old: f.old}
	var pair *certs.Pair
	if withKey := !f.noKey && (len(m.Keys) > 0 || f.keyOut != "" || form == certs.FormPKCS12); withKey {
		if pair, err = m.Pair(f.which); err != nil {
			return err
		}
	}
	list, omits, err := f.ordered(m, pair)
	if err != nil {
		return err
	}
	if pair != nil && (form == certs.FormPKCS12 || f.lock) {
		if w.Passphrase, err = f.newPassphrase(a); err != nil {
			return err
		}
		if w.Alias == "" {
			w.Alias = pair.Alias
		}
		if w.Alias == "" && len(list[0].Names()) > 0 {
			w.Alias = list[0].Names()[0]
		}
	}
	return a.writeConverted(f, &w, pair, list, omits)
}

// newPassphrase is what keys are written under; typed, it is asked for twice.
func (f *converting) newPassphrase(a *app) ([]byte, error) {
	if text, set := os.LookupEnv(newPassphraseVariable); set && f.newFile == "" {
		return append([]byte{}, text...), nil
	}
	text, err := a.passphrase(f.newFile, "New passphrase")
	if err != nil {
		return nil, fmt.Errorf("a passphrase to write with is needed: %w", err)
	}
	if f.newFile == "" {
		again, err := a.passphrase("", "Again")
		if err != nil {
			return nil, err
		}
		if again != text {
			return nil, errors.New("the two are not the same; nothing was written")
		}
	}
	return append([]byte{}, text...), nil
}

// ordered gives the certificates as they are written: the pair's own first, with
// its chain; without a pair those of the only leaf, or all as they came.
func (f *converting) ordered(m *certs.Material, pair *certs.Pair) (list []*certs.Certificate, omits []string, err error) {
	leaf, others := (*certs.Certificate)(nil), m.Certificates
	switch {
	case pair != nil:
		leaf, others = pair.Leaf, pair.Others
		if pair.Words != "" {
			omits = append(omits, pair.Words)
		}
	case len(m.Certificates) == 0:
		_, err = m.Pair("")
		return nil, nil, err
	default:
		for i, c := range m.Certificates {
			if c.IsCA || !strings.HasPrefix(c.Fingerprint.String(), f.which) {
				continue
			}
			if leaf != nil {
				leaf, others = nil, m.Certificates
				break
			}
			leaf, others = c, slices.Delete(slices.Clone(m.Certificates), i, i+1)
		}
	}
	if pair == nil {
		for _, k := range m.Keys {
			omits = append(omits, "the private key of "+k.Where)
		}
	}
	for _, r := range m.Requests {
		omits = append(omits, "a certificate request for "+strings.Join(r.DNSNames, ", "))
	}
	omits = append(omits, m.Others...)
	if leaf == nil { // a bundle of CAs, or of servers: nothing is left away of it
		return m.Certificates, omits, nil
	}
	list, strays := chain.Order(leaf, others)
	for _, c := range strays {
		omits = append(omits, "not of its chain: "+c.CommonName())
	}
	if last := len(list) - 1; last > 0 && list[last].SelfSigned() && !f.root {
		omits = append(omits, "the root: "+list[last].CommonName())
		list = list[:last]
	}
	if f.noChain {
		for _, c := range list[1:] {
			omits = append(omits, "of the chain: "+c.CommonName())
		}
		list = list[:1]
	}
	return list, omits, nil
}

// writeConverted writes the files, the certificates first.
func (a *app) writeConverted(f *converting, w *certs.Written, pair *certs.Pair, list []*certs.Certificate, omits []string) error {
	var certificates, key []byte
	var err error
	if w.Form == certs.FormPKCS12 {
		if f.keyOut != "" {
			return usage{errors.New("PKCS#12 keeps the key with the certificates; leave --key-out away")}
		}
		if pair == nil {
			return usage{errors.New("PKCS#12 is written with a key; for certificates alone choose --to pkcs7")}
		}
		certificates, err = w.Store(pair.Key, list, rand.Reader)
	} else {
		if certificates, err = w.Certificates(list); err == nil && pair != nil {
			key, err = w.Key(pair.Key, rand.Reader)
		}
	}
	if err != nil {
		return err
	}
	names := make([]string, len(list))
	for i, c := range list {
		names[i] = "certificate of " + c.CommonName()
	}
	first := written{File: f.out, Holds: names, Omits: omits, Sha256: list[0].Fingerprint.String()}
	files := []written{first}
	switch {
	case w.Form == certs.FormPKCS12:
		files[0].Holds = append([]string{"private key under a passphrase, alias " + w.Alias}, names...)
	case key == nil:
	case f.keyOut != "":
		files = append(files, written{File: f.keyOut, Holds: []string{keyWords(w)}})
	case w.Form == certs.FormPEM:
		certificates = append(certificates, key...)
		files[0].Holds = append(slices.Clone(names), keyWords(w))
		key = nil
	default:
		return usage{fmt.Errorf("%s holds no key beside the certificates; give --key-out FILE for it, or --without-key", w.Form)}
	}
	secret := pair != nil && f.keyOut == ""
	if f.out == "" {
		if secret {
			return usage{errors.New("a private key is written to a file; give --out FILE, or --without-key")}
		}
		if _, err := a.out.Write(certificates); err != nil {
			return err
		}
		for _, o := range omits {
			fmt.Fprintln(a.err, "Left away: "+clean(o))
		}
	} else if err := writeNew(f.out, certificates, secret, f.overwrite); err != nil {
		return err
	}
	if key != nil {
		if err := writeNew(f.keyOut, key, true, f.overwrite); err != nil {
			return err
		}
	}
	if f.out == "" {
		return nil
	}
	return a.showWritten(files)
}

// keyWords tells how a key was written.
func keyWords(w *certs.Written) string {
	if w.Passphrase != nil {
		return "private key under a passphrase"
	}
	return "private key in the clear"
}

// showWritten tells what was written where.
func (a *app) showWritten(files []written) error {
	return print(a, files, files, []column[written]{
		{head: "Written", width: 32, cell: func(v written) string { return v.File }},
		{head: "Holds", width: 36, cell: func(v written) string { return strings.Join(v.Holds, "\n") },
			raw: func(v written) string { return strings.Join(v.Holds, "; ") }},
		{head: "Left away", width: 28, cell: func(v written) string { return strings.Join(v.Omits, "\n") },
			raw: func(v written) string { return strings.Join(v.Omits, "; ") }},
	})
}

// writeNew writes a file that is not there yet, or over one where that was said;
// it is there whole or not at all. A secret is for its owner alone.
func writeNew(file string, data []byte, secret, over bool) error {
	mode := os.FileMode(0o644)
	if secret {
		mode = 0o600
	}
	if !over {
		if _, err := os.Lstat(file); err == nil {
			return fmt.Errorf("%s is there already; name another file, or add --overwrite", file)
		}
	}
	next := file + ".new"
	out, err := os.OpenFile(next, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return fmt.Errorf("cannot write: %w", err)
	}
	_, err = out.Write(data)
	if err = errors.Join(err, out.Sync(), out.Close()); err == nil {
		if over {
			err = os.Rename(next, file)
		} else if err = os.Link(next, file); err == nil { // never over one that came meanwhile
			err = os.Remove(next)
		}
	}
	if err != nil {
		_ = os.Remove(next)
	}
	return err
}
