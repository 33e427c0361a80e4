// Package authority makes what a CA of one's own signs: its root and issuing
// certificates, certificates of servers, revocation lists and OCSP answers (RFC
// 5280, RFC 6960), and certificates that sign themselves. Keys, times and chance
// are arguments; what may be issued to whom is decided by its callers.
package authority

import (
	"bytes"
	"crypto"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"time"

	"insegna.example/internal/core/names"
)

// Signer is a CA with its key.
type Signer struct {
	Certificate *x509.Certificate
	Key         crypto.Signer
}

// Wish is what a server's certificate is to be.
type Wish struct {
	Names       []string // as names.Alternative gives them
	Subject     pkix.Name
	Public      crypto.PublicKey
	From, Until time.Time
	Usages      []string // server, client
	Staple      bool     // it says that it is good with a stapled answer only (RFC 7633)
	Addresses   Addresses
}

// Addresses tell clients where a CA publishes what; "" for nowhere.
type Addresses struct{ CRL, OCSP, Issuer string }

// usages by the words of a profile.
var usages = map[string]x509.ExtKeyUsage{"server": x509.ExtKeyUsageServerAuth, "client": x509.ExtKeyUsageClientAuth}

// mustStaple is the extension of RFC 7633 that asks for a stapled answer.
var mustStaple = pkix.Extension{Id: asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 24}, Value: []byte{0x30, 3, 2, 1, 5}}

// ErrShort says that a CA ends before what it is to sign begins to be of use.
var ErrShort = errors.New("the CA's own certificate ends too soon")

// Issue signs a certificate for a server. It never outlives its issuer.
func Issue(w *Wish, by *Signer, random io.Reader) ([]byte, error) {
	t, err := w.template(random)
	if err != nil {
		return nil, err
	}
	if t.NotAfter.After(by.Certificate.NotAfter) {
		t.NotAfter = by.Certificate.NotAfter
	}
	if !t.NotAfter.After(t.NotBefore) {
		return nil, ErrShort
	}
	return x509.CreateCertificate(random, t, by.Certificate, w.Public, by.Key)
}

// SelfSign makes a certificate that signs itself: for a lab, trusted by nobody who
// was not told to.
func SelfSign(w *Wish, key crypto.Signer, random io.Reader) ([]byte, error) {
	t, err := w.template(random)
	if err != nil {
		return nil, err
	}
	if t.Subject.String() == "" && len(w.Names) > 0 { // an issuer has a name (RFC 5280 section 4.1.2.4)
		t.Subject.CommonName = clipped(w.Names[0])
	}
	return x509.CreateCertificate(random, t, t, key.Public(), key)
}

// clipped bounds a common name (RFC 5280 appendix A.1).
func clipped(name string) string { return name[:min(len(name), 64)] }

// template is a server's certificate before it is signed.
func (w *Wish) template(random io.Reader) (*x509.Certificate, error) {
	serial, err := Serial(random)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial, Subject: w.Subject, NotBefore: w.From, NotAfter: w.Until,
		KeyUsage: x509.KeyUsageDigitalSignature, BasicConstraintsValid: true}
	if _, ok := w.Public.(*rsa.PublicKey); ok {
		t.KeyUsage |= x509.KeyUsageKeyEncipherment
	}
	for _, u := range w.Usages {
		t.ExtKeyUsage = append(t.ExtKeyUsage, usages[u])
	}
	t.DNSNames, t.IPAddresses, t.EmailAddresses, t.URIs = names.Alternatives(w.Names)
	if w.Staple {
		t.ExtraExtensions = append(t.ExtraExtensions, mustStaple)
	}
	w.Addresses.tell(t)
	return t, nil
}

// tell puts addresses into a certificate.
func (a *Addresses) tell(t *x509.Certificate) {
	for _, p := range []struct {
		into *[]string
		at   string
	}{{&t.CRLDistributionPoints, a.CRL}, {&t.OCSPServer, a.OCSP}, {&t.IssuingCertificateURL, a.Issuer}} {
		if p.at != "" {
			*p.into = []string{p.at}
		}
	}
}

// Serial is a number of 127 random bits, positive and unlike any other (RFC 5280
// section 4.1.2.2).
func Serial(random io.Reader) (*big.Int, error) {
	b := make([]byte, 16)
	if _, err := io.ReadFull(random, b); err != nil {
		return nil, err
	}
	b[0] = b[0]&0x7f | 0x40
	return new(big.Int).SetBytes(b), nil
}

// Authority is what a CA's own certificate is to be.
type Authority struct {
	Subject     pkix.Name
	From, Until time.Time
	PathLength  int      // CAs that may stand below it; below zero for any
	Permitted   []string // names it may issue for: a domain with all below it, a range of addresses; any where empty
	Addresses   Addresses
}

// Root makes the certificate of a root.
func (a *Authority) Root(key crypto.Signer, random io.Reader) ([]byte, error) {
	t, err := a.template(key.Public(), random)
	if err != nil {
		return nil, err
	}
	return x509.CreateCertificate(random, t, t, key.Public(), key)
}

// Below makes the certificate of a CA below another one.
func (a *Authority) Below(by *Signer, public crypto.PublicKey, random io.Reader) ([]byte, error) {
	t, err := a.template(public, random)
	if err != nil {
		return nil, err
	}
	switch {
	case by.Certificate.MaxPathLenZero:
		return nil, fmt.Errorf("%s may have no CA below it (its path length is 0)", by.Certificate.Subject.CommonName)
	case bytes.Equal(t.RawSubject, by.Certificate.RawSubject) && len(t.RawSubject) > 0:
		return nil, errors.New("a CA below another one has another name")
	}
	if t.NotAfter.After(by.Certificate.NotAfter) {
		t.NotAfter = by.Certificate.NotAfter
	}
	if !t.NotAfter.After(t.NotBefore) {
		return nil, ErrShort
	}
	return x509.CreateCertificate(random, t, by.Certificate, public, by.Key)
}

// template is a CA's certificate before it is signed.
func (a *Authority) template(public crypto.PublicKey, random io.Reader) (*x509.Certificate, error) {
	serial, err := Serial(random)
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial, Subject: a.Subject, NotBefore: a.From, NotAfter: a.Until,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign | x509.KeyUsageDigitalSignature, IsCA: true, BasicConstraintsValid: true,
		MaxPathLen: max(a.PathLength, 0), MaxPathLenZero: a.PathLength == 0}
	if a.PathLength < 0 {
		t.MaxPathLen = -1
	}
	if t.SubjectKeyId, err = keyID(public); err != nil {
		return nil, err
	}
	for _, p := range a.Permitted {
		t.PermittedDNSDomainsCritical = true // name constraints are (RFC 5280 section 4.2.1.10)
		if _, within, err := net.ParseCIDR(p); err == nil {
			t.PermittedIPRanges = append(t.PermittedIPRanges, within)
		} else {
			t.PermittedDNSDomains = append(t.PermittedDNSDomains, p)
		}
	}
	a.Addresses.tell(t)
	return t, nil
}

// keyID is a subject key identifier: the first 160 bits of SHA-256 over the key
// (RFC 7093 section 2).
func keyID(public crypto.PublicKey) ([]byte, error) {
	spki, err := x509.MarshalPKIXPublicKey(public)
	if err != nil {
		return nil, err
	}
	var info struct {
		Algorithm pkix.AlgorithmIdentifier
		Key       asn1.BitString
	}
	if _, err := asn1.Unmarshal(spki, &info); err != nil {
		return nil, err
	}
	sum := sha256.Sum256(info.Key.Bytes)
	return sum[:20], nil
}
