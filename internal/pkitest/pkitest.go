// Package pkitest makes certificates for tests and benchmarks.
package pkitest

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"math/big"
	"sync/atomic"
	"time"

	"insegna.example/internal/core/certs"
)

// Now is the time tests stand at; certificates are made around it.
var Now = time.Now().UTC().Truncate(time.Second)

// Entity is a certificate with its key.
type Entity struct {
	*certs.Certificate
	Key crypto.Signer // its private key
}

// serial makes every test certificate another one.
var serial atomic.Int64

// NewKey makes a P-256 key.
func NewKey() crypto.Signer {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	return key
}

// Issue makes a certificate from a template; by nil signs itself. What the
// template leaves open is filled in.
func Issue(t *x509.Certificate, by *Entity, key crypto.Signer) *Entity {
	if key == nil {
		key = NewKey()
	}
	if t.SerialNumber == nil {
		t.SerialNumber = big.NewInt(serial.Add(1) + 1000)
	}
	if t.NotBefore.IsZero() {
		t.NotBefore = Now.Add(-24 * time.Hour)
	}
	if t.NotAfter.IsZero() {
		t.NotAfter = Now.Add(60 * 24 * time.Hour)
	}
	parent, signer := t, key
	if by != nil {
		parent, signer = by.X509(), by.Key
	}
	der, err := x509.CreateCertificate(rand.Reader, t, parent, key.Public(), signer)
	if err != nil {
		panic(fmt.Sprintf("making %s: %v", t.Subject, err))
	}
	c, err := certs.Parse(der)
	if err != nil {
		panic(err)
	}
	return &Entity{c, key}
}

// X509 is the certificate as crypto/x509 knows it.
func (e *Entity) X509() *x509.Certificate { return e.Certificate.Certificate }

// CA makes a CA certificate; by nil makes a root.
func CA(name string, by *Entity, change ...func(*x509.Certificate)) *Entity {
	t := &x509.Certificate{Subject: pkix.Name{CommonName: name}, IsCA: true, BasicConstraintsValid: true,
		KeyUsage:  x509.KeyUsageCertSign,
		NotBefore: Now.AddDate(-1, 0, 0), NotAfter: Now.AddDate(5, 0, 0)}
	for _, c := range change {
		c(t)
	}
	return Issue(t, by, nil)
}

// Leaf makes a server's certificate.
func Leaf(by *Entity, host string, change ...func(*x509.Certificate)) *Entity {
	t := &x509.Certificate{Subject: pkix.Name{CommonName: host}, DNSNames: []string{host}, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	for _, c := range change {
		c(t)
	}
	return Issue(t, by, nil)
}

// Valid sets a certificate's dates relative to Now.
func Valid(from, until time.Duration) func(*x509.Certificate) {
	return func(t *x509.Certificate) { t.NotBefore, t.NotAfter = Now.Add(from), Now.Add(until) }
}

// TLS makes a key pair for a server, with the rest of the list behind the leaf.
func (e *Entity) TLS(rest ...*Entity) tls.Certificate {
	c := tls.Certificate{Certificate: [][]byte{e.Raw}, PrivateKey: e.Key}
	for _, r := range rest {
		c.Certificate = append(c.Certificate, r.Raw)
	}
	return c
}

// List gives the certificates of entities.
func List(list ...*Entity) []*certs.Certificate {
	out := make([]*certs.Certificate, len(list))
	for i, e := range list {
		out[i] = e.Certificate
	}
	return out
}

// DER gives the encodings of entities.
func DER(list ...*Entity) [][]byte {
	out := make([][]byte, len(list))
	for i, e := range list {
		out[i] = e.Raw
	}
	return out
}

// Body is the part of a certificate that is signed (RFC 5280 section 4.1), as it
// stands, to be changed in ways crypto/x509 does not make.
type Body struct {
	Version    int `asn1:"optional,explicit,default:0,tag:0"` // 0 for version 1
	Serial     *big.Int
	Algorithm  pkix.AlgorithmIdentifier
	Issuer     asn1.RawValue
	Validity   asn1.RawValue
	Subject    asn1.RawValue
	Key        asn1.RawValue
	Extensions []pkix.Extension `asn1:"omitempty,optional,explicit,tag:3"`
}

// Forge changes the body of a certificate and has it signed anew; the signer's
// key is ECDSA P-256.
func Forge(e, by *Entity, change func(*Body)) *Entity {
	var body Body
	must := func(err error) {
		if err != nil {
			panic(err)
		}
	}
	_, err := asn1.Unmarshal(e.RawTBSCertificate, &body)
	must(err)
	change(&body)
	tbs, err := asn1.Marshal(body)
	must(err)
	digest := sha256.Sum256(tbs)
	signature, err := by.Key.Sign(rand.Reader, digest[:], crypto.SHA256)
	must(err)
	der, err := asn1.Marshal(struct {
		Body      asn1.RawValue
		Algorithm pkix.AlgorithmIdentifier
		Signature asn1.BitString
	}{asn1.RawValue{FullBytes: tbs}, body.Algorithm, asn1.BitString{Bytes: signature, BitLength: 8 * len(signature)}})
	must(err)
	c, err := certs.Parse(der)
	must(err)
	return &Entity{c, e.Key}
}
