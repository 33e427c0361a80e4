// Package certs reads certificates and says what is in them.
//
// It is for facts: fingerprints, names, keys, dates, and the containers a
// certificate arrives in (PEM, RFC 7468, and DER). It judges nothing; chains
// are judged in core/chain, names in core/names, dates in core/lifetime.
package certs

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
)

// Fingerprint is the SHA-256 of a certificate's DER encoding.
type Fingerprint [sha256.Size]byte

// FingerprintOf hashes one DER certificate.
func FingerprintOf(der []byte) Fingerprint { return sha256.Sum256(der) }

// String is the fingerprint in 64 lower-case hexadecimal digits.
func (f Fingerprint) String() string { return hex.EncodeToString(f[:]) }

// ParseFingerprint reads 64 hexadecimal digits, with or without colons and an
// optional "sha256:" in front.
func ParseFingerprint(s string) (Fingerprint, error) {
	var f Fingerprint
	plain := strings.ReplaceAll(strings.TrimPrefix(strings.ToLower(strings.TrimSpace(s)), "sha256:"), ":", "")
	raw, err := hex.DecodeString(plain)
	if err != nil || len(raw) != len(f) {
		return f, fmt.Errorf("%q is not a SHA-256 fingerprint: expected 64 hexadecimal digits", s)
	}
	copy(f[:], raw)
	return f, nil
}

// Certificate is one parsed certificate with its fingerprint.
type Certificate struct {
	*x509.Certificate
	Fingerprint Fingerprint // SHA-256 of the DER
	SubjectDN   DN          // as it is compared
	IssuerDN    DN          // as it is compared
	// Flaws are the rules of X.509 it breaks so that strict readers refuse it;
	// everything that could be read of it is there all the same.
	Flaws []string
	// SetAside are the extensions that could not be read: nothing they say is in
	// the certificate's other fields, so nobody may take them for absent.
	SetAside []pkix.Extension
}

// Parse reads one DER certificate, also one that breaks rules of the form (see
// Flaws). The error says that it is none at all.
func Parse(der []byte) (*Certificate, error) {
	x, err := x509.ParseCertificate(der)
	c := &Certificate{Certificate: x}
	if err != nil {
		if c = mended(der, err); c == nil {
			return nil, fmt.Errorf("not an X.509 certificate: %w", err)
		}
	}
	c.Fingerprint, c.SubjectDN, c.IssuerDN = FingerprintOf(der), ParseDN(c.RawSubject), ParseDN(c.RawIssuer)
	return c, nil
}

// NamesUnread says that there are subject alternative names that could not be
// read, besides those that could.
func (c *Certificate) NamesUnread() bool {
	return slices.ContainsFunc(c.SetAside, func(e pkix.Extension) bool { return e.Id.Equal(oidAltName) })
}

// CommonName is the subject's common name, or the whole subject when it has none.
func (c *Certificate) CommonName() string { return nameOf(&c.Subject) }

// IssuerName is the issuer's common name, or the whole issuer when it has none.
func (c *Certificate) IssuerName() string { return nameOf(&c.Issuer) }

// nameOf prefers the common name, which is what people call a certificate; one
// without it is told by its whole distinguished name.
func nameOf(n *pkix.Name) string {
	if n.CommonName != "" {
		return n.CommonName
	}
	return n.String()
}

// Names lists the subject alternative names a TLS client compares: DNS names
// as written, then IP addresses (RFC 9525 section 6.2).
func (c *Certificate) Names() []string {
	out := make([]string, 0, len(c.DNSNames)+len(c.IPAddresses))
	out = append(out, c.DNSNames...)
	for _, ip := range c.IPAddresses {
		out = append(out, net.IP(ip).String())
	}
	return out
}

// SelfIssued says whether subject and issuer are the same name (RFC 5280
// section 3.2); a self-signed certificate always is.
func (c *Certificate) SelfIssued() bool { return c.SubjectDN == c.IssuerDN }

// SelfSigned says whether the certificate's own key made its signature. One
// signed with a hash nobody computes any more counts when it says so itself.
func (c *Certificate) SelfSigned() bool {
	if !c.SelfIssued() {
		return false
	}
	err := c.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature)
	var weak x509.InsecureAlgorithmError
	return err == nil || errors.As(err, &weak) && string(c.AuthorityKeyId) == string(c.SubjectKeyId)
}

// Key names the kind of a public key and its size in bits.
type Key struct {
	Kind string // "RSA", "ECDSA", "Ed25519" or "unknown"
	Bits int    // modulus or curve size; 0 when unknown
}

// String is the key as an engineer says it: "RSA 2048", "ECDSA P-256".
func (k Key) String() string {
	switch k.Kind {
	case "ECDSA":
		return fmt.Sprintf("ECDSA P-%d", k.Bits)
	case "RSA":
		return fmt.Sprintf("RSA %d", k.Bits)
	}
	return k.Kind
}

// Key tells what kind of public key the certificate holds.
func (c *Certificate) Key() Key {
	switch k := c.PublicKey.(type) {
	case *rsa.PublicKey:
		return Key{"RSA", k.N.BitLen()}
	case *ecdsa.PublicKey:
		return Key{"ECDSA", k.Curve.Params().BitSize}
	case ed25519.PublicKey:
		return Key{"Ed25519", 256}
	}
	return Key{Kind: "unknown"}
}

var (
	// oidTLSFeature is the extension that promises a stapled OCSP answer (RFC
	// 7633).
	oidTLSFeature = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 24}
	// oidSCTList is the extension with signed certificate timestamps (RFC 6962
	// section 3.3).
	oidSCTList = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 11129, 2, 4, 2}
)

// MustStaple says whether the certificate asks for a stapled OCSP response
// (TLS feature status_request, RFC 7633).
func (c *Certificate) MustStaple() bool {
	const statusRequest = 5
	for _, e := range c.Extensions {
		var features []int
		if !e.Id.Equal(oidTLSFeature) {
			continue
		}
		if _, err := asn1.Unmarshal(e.Value, &features); err != nil {
			return false
		}
		for _, f := range features {
			if f == statusRequest {
				return true
			}
		}
	}
	return false
}

// HasSCTs says whether signed certificate timestamps are embedded (RFC 6962
// section 3.3).
func (c *Certificate) HasSCTs() bool {
	for _, e := range c.Extensions {
		if e.Id.Equal(oidSCTList) {
			return true
		}
	}
	return false
}
