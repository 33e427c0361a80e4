package issue

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	forms "insegna.example/internal/core/names"
	"insegna.example/internal/core/trust"
)

// usualKey is the kind when none is asked for.
const usualKey = "ecdsa-p256"

// NewKey makes a private key of a kind of the estate file.
func NewKey(kind string) (crypto.Signer, error) {
	switch kind {
	case usualKey, "":
		return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case "ecdsa-p521":
		return ecdsa.GenerateKey(elliptic.P521(), rand.Reader)
	case "ed25519":
		_, key, err := ed25519.GenerateKey(rand.Reader)
		return key, err
	case "ecdsa-p384":
		return ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	case "rsa-2048":
		return rsa.GenerateKey(rand.Reader, 2048)
	case "rsa-3072":
		return rsa.GenerateKey(rand.Reader, 3072)
	case "rsa-4096":
		return rsa.GenerateKey(rand.Reader, 4096)
	}
	return nil, fmt.Errorf("unknown kind of key %q", kind)
}

// oidFeatures is the extension that says what a server has to do (RFC 7633), and
// stapling is what it says of stapled OCSP answers: status_request, 5.
var (
	oidFeatures = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 24}
	stapling    = []byte{0x30, 3, 2, 1, 5}
)

// Request makes a certificate request for names (RFC 2986): they are subject
// alternative names, of their forms; the subject stays empty where nothing of it is
// asked for.
func Request(key crypto.Signer, names []string, subject pkix.Name, staple bool) ([]byte, error) {
	r := &x509.CertificateRequest{Subject: subject}
	r.DNSNames, r.IPAddresses, r.EmailAddresses, r.URIs = forms.Alternatives(names)
	if staple {
		r.ExtraExtensions = []pkix.Extension{{Id: oidFeatures, Value: stapling}}
	}
	return x509.CreateCertificateRequest(rand.Reader, r, key)
}

// Checked is a certificate that is what was ordered.
type Checked struct {
	Leaf   *certs.Certificate   // of the chain that is trusted
	List   []*certs.Certificate // leaf first, without the anchor
	PEM    []byte               // the same
	Anchor string               // common name of what the chain ends at
	Until  time.Time            // the end of its validity
}

// clockSlack is how far a certificate's begin may lie ahead of our clock.
const clockSlack = 5 * time.Minute

// Check holds what a CA sent against what was ordered: names, public key, dates, and
// a path to an anchor. What is kept is that path, in its order.
func Check(paths *chain.Builder, pem []byte, names []string, key crypto.PublicKey, anchors []*certs.Certificate,
	now time.Time) (*Checked, error) {
	list, err := certs.ReadCertificates(pem)
	if err != nil {
		return nil, fmt.Errorf("what the CA sent cannot be read: %w", err)
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("what the CA sent holds no certificate")
	}
	leaf := list[0]
	spki, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		return nil, err
	}
	switch {
	case !bytes.Equal(spki, leaf.RawSubjectPublicKeyInfo):
		return nil, fmt.Errorf("the certificate is for another key than the one it was asked for")
	case !sameNames(leaf, names):
		return nil, fmt.Errorf("the certificate is for %s, ordered was %s", strings.Join(leaf.Names(), ", "),
			strings.Join(names, ", "))
	case leaf.NotBefore.After(now.Add(clockSlack)):
		return nil, fmt.Errorf("the certificate begins only at %s", leaf.NotBefore.UTC().Format(time.RFC3339))
	case !leaf.NotAfter.After(now):
		return nil, fmt.Errorf("the certificate ended at %s already", leaf.NotAfter.UTC().Format(time.RFC3339))
	case leaf.IsCA:
		return nil, fmt.Errorf("the certificate is a CA's")
	case !slices.Contains(leaf.ExtKeyUsage, x509.ExtKeyUsageServerAuth) &&
		len(leaf.ExtKeyUsage)+len(leaf.UnknownExtKeyUsage) > 0:
		return nil, fmt.Errorf("the certificate is not for servers")
	}
	result := paths.Build(list, trust.NewAudience("anchors", false, anchors))
	best := result.Best(now)
	if best == nil {
		why := "no issuer of it is there"
		if failures := result.Why(now); len(failures) > 0 {
			why = failures[0].String()
		}
		return nil, fmt.Errorf("the chain leads to none of the roots that are trusted: %s", why)
	}
	out := &Checked{Leaf: leaf, Until: best.Until, Anchor: best.Certs[len(best.Certs)-1].CommonName()}
	for i, c := range best.Certs {
		if i > 0 && i == len(best.Certs)-1 {
			break // clients have the anchor
		}
		out.List, out.PEM = append(out.List, c), append(out.PEM, certs.PEM(c.Raw)...)
	}
	return out, nil
}

// sameNames is true when the certificate covers the names ordered, all of them
// and nothing else, not even of another form.
func sameNames(leaf *certs.Certificate, names []string) bool {
	has := AllNames(leaf)
	want := slices.Clone(names)
	slices.Sort(has)
	slices.Sort(want)
	return slices.Equal(slices.Compact(has), want)
}

// AllNames are the subject alternative names of a certificate, of every form that a
// mandate may ask for, as a mandate writes them.
func AllNames(leaf *certs.Certificate) (out []string) {
	for _, n := range leaf.Names() {
		out = append(out, strings.ToLower(n))
	}
	out = append(out, leaf.EmailAddresses...)
	for _, u := range leaf.URIs {
		out = append(out, u.String())
	}
	return out
}
