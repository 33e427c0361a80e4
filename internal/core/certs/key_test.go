package certs_test

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
)

// TestAKeyIsComparedWithItsCertificate reads every container a server may keep
// its key in, with text and a certificate around it.
func TestAKeyIsComparedWithItsCertificate(t *testing.T) {
	ec, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	weak, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	pkcs8 := func(key any) []byte {
		der, err := x509.MarshalPKCS8PrivateKey(key)
		require.NoError(t, err)
		return der
	}
	sec1, err := x509.MarshalECPrivateKey(ec)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		label  string
		der    []byte
		public any
	}{
		"PKCS#8 ECDSA":   {"PRIVATE KEY", pkcs8(ec), &ec.PublicKey},
		"PKCS#8 RSA":     {"PRIVATE KEY", pkcs8(weak), &weak.PublicKey},
		"PKCS#8 Ed25519": {"PRIVATE KEY", pkcs8(ed), ed.Public()},
		"SEC 1":          {"EC PRIVATE KEY", sec1, &ec.PublicKey},
		"PKCS#1":         {"RSA PRIVATE KEY", x509.MarshalPKCS1PrivateKey(weak), &weak.PublicKey},
	} {
		t.Run(name, func(t *testing.T) {
			text := "a remark\r\n" + string(certs.PEM(pkitest.CA("x", nil).Raw)) +
				string(pem.EncodeToMemory(&pem.Block{Type: c.label, Bytes: c.der}))
			got, err := certs.PublicOf([]byte(text))
			require.NoError(t, err)
			spki, err := x509.MarshalPKIXPublicKey(c.public)
			require.NoError(t, err)
			assert.Equal(t, certs.FingerprintOf(spki), got)
		})
	}
	one, two := pkitest.Leaf(nil, "a.example"), pkitest.Leaf(nil, "a.example")
	der := pkcs8(one.TLS().PrivateKey)
	public, err := certs.PublicOf(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
	require.NoError(t, err)
	assert.Equal(t, one.Public(), public)
	assert.NotEqual(t, two.Public(), public)
}

func TestAKeyThatCannotBeReadSaysWhy(t *testing.T) {
	for text, want := range map[string]string{
		"":       "no private key in it",
		"no PEM": "no private key in it",
		string(certs.PEM(pkitest.CA("x",
			nil).Raw)): "no private key in it",
		string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY",
			Bytes: []byte{1, 2}})): "cannot be read",
		string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY",
			Bytes: []byte{1, 2}})): "cannot be read",
		string(pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY",
			Bytes: []byte{1, 2}})): "encrypted",
		string(pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY", Headers: map[string]string{"Proc-Type": "4,ENCRYPTED"},
			Bytes: []byte{1, 2}})): "encrypted",
	} {
		_, err := certs.PublicOf([]byte(text))
		assert.ErrorContains(t, err, want)
	}
}
