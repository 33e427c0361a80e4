package certs

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"time"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"

	"insegna.example/internal/core/certs/pkcs"
)

// What else is met where certificates should be.
const (
	KindRevoked Kind = "revocation list"
	KindPKCS7   Kind = "PKCS#7"
	KindPKCS12  Kind = "PKCS#12"
)

// Other is what can be said of an object that is no certificate.
type Other struct {
	Said     string         // in words, beyond its kind
	Contains []*Certificate // of a PKCS#7 container, in its order
	Public   *Fingerprint   // of a private key's public half
	Ends     time.Time      // when a revocation list says the next one comes; zero for never

	request *x509.CertificateRequest // read
}

// described says what an object is that is no certificate: its kind goes by the
// label in PEM, by the form in DER (label ""). The error is why it is not what it
// should be.
func described(kind Kind, b *pem.Block) (o Other, err error) {
	switch kind {
	case KindKey:
		return keyDescribed(b)
	case KindRevoked:
		return revokedDescribed(b.Bytes)
	case KindPKCS7:
		o.Contains, err = pkcs7(b.Bytes)
		o.Said = fmt.Sprintf("%d certificates in a PKCS#7 container, which web servers do not read", len(o.Contains))
	case KindPKCS12:
		o.Said = "key and certificates in a PKCS#12 container under a passphrase: insegna convert takes them out"
	case KindRequest:
		var r *x509.CertificateRequest
		if r, err = x509.ParseCertificateRequest(b.Bytes); err == nil {
			o.request = r
			o.Said = "for " + joined(r.DNSNames, nameOf(&r.Subject))
		}
	}
	return o, err
}

// joined lists a few names, or says another when there are none.
func joined(list []string, otherwise string) string {
	const most = 4
	switch {
	case len(list) == 0:
		return otherwise
	case len(list) > most:
		return fmt.Sprintf("%s and %d more", joined(list[:most], ""), len(list)-most)
	}
	text := list[0]
	for _, n := range list[1:] {
		text += ", " + n
	}
	return text
}

// keyDescribed tells what a private key is, without keeping it.
func keyDescribed(b *pem.Block) (Other, error) {
	public, err := publicOf(b)
	switch {
	case errors.Is(err, ErrEncrypted):
		return Other{Said: "encrypted: only who has its passphrase can tell which certificate it belongs to"}, nil
	case err != nil:
		return Other{}, err
	}
	return Other{Public: &public}, nil
}

// revokedDescribed reads a certificate revocation list (RFC 5280 section 5).
func revokedDescribed(der []byte) (Other, error) {
	list, err := x509.ParseRevocationList(der)
	if err != nil {
		return Other{}, fmt.Errorf("not a certificate revocation list: %w", err)
	}
	return Other{Said: fmt.Sprintf("of %s, of %s, %d certificates revoked", nameOf(&list.Issuer),
		list.ThisUpdate.UTC().Format("2 January 2006"), len(list.RevokedCertificateEntries)), Ends: list.NextUpdate}, nil
}

// pkcs7 takes the certificates out of a container.
func pkcs7(ber []byte) ([]*Certificate, error) {
	list, err := pkcs.Certificates(ber)
	if err != nil {
		return nil, fmt.Errorf("a PKCS#7 container: %w", err)
	}
	if len(list) == 0 {
		return nil, errors.New("a PKCS#7 container without certificates")
	}
	var out []*Certificate
	for _, der := range list {
		c, err := Parse(der)
		if err != nil {
			return out, err
		}
		out = append(out, c)
	}
	return out, nil
}

// derKind tells what DER data is that is no certificate; "" for nothing known.
// The label is the one the same bytes would have in PEM.
func derKind(data []byte) (Kind, string) {
	der, err := pkcs.DER(data) // some programs leave lengths open
	switch {
	case err != nil && bytes.HasPrefix(data, []byte{0x30, 0x80, 2, 1, 3}):
		return KindPKCS12, "" // as far as it goes
	case err != nil:
		return "", ""
	}
	in := cryptobyte.String(der)
	var body, first cryptobyte.String
	var tag tags.Tag
	if !in.ReadASN1(&body, tags.SEQUENCE) || !body.ReadAnyASN1Element(&first, &tag) {
		return "", ""
	}
	if version := []byte{2, 1, 3}; bytes.Equal(first, version) && body.PeekASN1Tag(tags.SEQUENCE) {
		return KindPKCS12, ""
	}
	if tag == tags.OBJECT_IDENTIFIER {
		return KindPKCS7, "PKCS7"
	}
	if _, err := x509.ParsePKCS8PrivateKey(data); err == nil {
		return KindKey, "PRIVATE KEY"
	}
	if _, err := x509.ParsePKCS1PrivateKey(data); err == nil {
		return KindKey, "RSA PRIVATE KEY"
	}
	if _, err := x509.ParseECPrivateKey(data); err == nil {
		return KindKey, "EC PRIVATE KEY"
	}
	if _, err := x509.ParseCertificateRequest(data); err == nil {
		return KindRequest, "CERTIFICATE REQUEST"
	}
	if _, err := x509.ParseRevocationList(data); err == nil {
		return KindRevoked, "X509 CRL"
	}
	if tag == tags.SEQUENCE && body.PeekASN1Tag(tags.OCTET_STRING) {
		return KindKey, "ENCRYPTED PRIVATE KEY" // RFC 5958 section 3
	}
	return "", ""
}

// cutShort says how much of DER data is there when it is less than it says of
// itself; "" when it is whole.
func cutShort(data []byte) string {
	if len(data) < 2 || data[1] < 0x80 {
		return ""
	}
	n := int(data[1] & 0x7F)
	if n == 0 || n > 4 || len(data) < 2+n {
		return ""
	}
	length := 0
	for _, b := range data[2 : 2+n] {
		length = length<<8 | int(b)
	}
	if whole := 2 + n + length; whole > len(data) {
		return fmt.Sprintf("DER data that is cut short: %d of %d bytes", len(data), whole)
	}
	return ""
}
