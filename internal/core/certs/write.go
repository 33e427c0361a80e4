package certs

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"

	"insegna.example/internal/core/certs/pkcs"
)

// Form is how certificates and keys are written.
type Form string

// The forms.
const (
	FormPEM    Form = "pem"    // RFC 7468: certificates first, their own first
	FormDER    Form = "der"    // one certificate, or one key
	FormPKCS7  Form = "pkcs7"  // certificates alone, RFC 5652, in PEM
	FormPKCS12 Form = "pkcs12" // certificates with the key, RFC 7292
)

// Forms are all of them.
var Forms = []Form{FormPEM, FormDER, FormPKCS7, FormPKCS12}

// Written says how to write.
type Written struct {
	Form       Form
	Passphrase []byte // the key is encrypted with; nil for none. A PKCS#12 container always has one, "" among them
	Alias      string // in a PKCS#12 container
	// Old is for programs that know no other: PKCS#12 with triple DES and SHA-1,
	// keys in the clear as PKCS#1 or SEC 1 ("RSA PRIVATE KEY")
	Old bool
}

// FormError says why something cannot be written in a form.
type FormError struct {
	Form         Form
	Reason, Next string
}

// Error gives the reason and what to do.
func (e *FormError) Error() string { return e.Reason + "; " + e.Next }

// Certificates writes a list, the server's own first.
func (w *Written) Certificates(list []*Certificate) ([]byte, error) {
	ders := make([][]byte, len(list))
	for i, c := range list {
		ders[i] = c.Raw
	}
	switch w.Form {
	case FormDER:
		if len(list) != 1 {
			return nil, &FormError{w.Form, fmt.Sprintf("DER holds one certificate, there are %d", len(list)),
				"leave the chain away, or choose pkcs7 or pem"}
		}
		return ders[0], nil
	case FormPKCS7:
		der, err := pkcs.Container(ders)
		if err != nil {
			return nil, err
		}
		return pem.EncodeToMemory(&pem.Block{Type: "PKCS7", Bytes: der}), nil
	case FormPKCS12:
		return nil, &FormError{w.Form, "PKCS#12 is written with a key", "choose pkcs7 for certificates alone"}
	}
	var out []byte
	for _, der := range ders {
		out = append(out, PEM(der)...)
	}
	return out, nil
}

// Key writes a private key in PEM or DER: as PKCS#8, under the passphrase where
// there is one.
func (w *Written) Key(key crypto.Signer, random io.Reader) ([]byte, error) {
	label, der, err := w.keyDER(key, random)
	if err != nil || w.Form == FormDER {
		return der, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: label, Bytes: der}), nil
}

// keyDER gives a key in DER with the label it has in PEM.
func (w *Written) keyDER(key crypto.Signer, random io.Reader) (string, []byte, error) {
	if w.Old {
		if w.Passphrase != nil {
			return "", nil, &FormError{w.Form, "the old forms of a key are not encrypted here: their encryption is weak",
				"leave the old form or the passphrase away"}
		}
		switch k := key.(type) {
		case *rsa.PrivateKey:
			return "RSA PRIVATE KEY", x509.MarshalPKCS1PrivateKey(k), nil
		case *ecdsa.PrivateKey:
			der, err := x509.MarshalECPrivateKey(k)
			return "EC PRIVATE KEY", der, err
		}
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil || w.Passphrase == nil {
		return "PRIVATE KEY", der, err
	}
	sealed, err := pkcs.SealKey(der, w.Passphrase, random)
	clear(der)
	return "ENCRYPTED PRIVATE KEY", sealed, err
}

// Store writes key and certificates in one PKCS#12 container.
func (w *Written) Store(key crypto.Signer, list []*Certificate, random io.Reader) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	defer clear(der)
	ders := make([][]byte, len(list))
	for i, c := range list {
		ders[i] = c.Raw
	}
	return pkcs.Write(der, ders, w.Alias, w.Passphrase, w.Old, random)
}
