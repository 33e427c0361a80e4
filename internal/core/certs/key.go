package certs

import (
	"bytes"
	"crypto"
	"crypto/sha256"
	"crypto/x509"
	"encoding/pem"
	"errors"
)

// ErrEncrypted says that a private key is protected by a passphrase.
var ErrEncrypted = errors.New("the private key is encrypted")

// ErrNoKey says that a file holds no private key.
var ErrNoKey = errors.New("no private key in it")

// PublicOf gives the SHA-256 over the public half (SubjectPublicKeyInfo) of
// the first private key of a PEM file: PKCS#8 (RFC 5958), PKCS#1 or SEC 1. The
// key itself is not kept. The error is ErrEncrypted, ErrNoKey, or tells what
// is wrong with the key.
func PublicOf(data []byte) (Fingerprint, error) {
	for rest := data; ; {
		var b *pem.Block
		if b, rest = pem.Decode(rest); b == nil {
			return Fingerprint{}, ErrNoKey
		}
		if kindOf(b.Type) == KindKey {
			return publicOf(b)
		}
	}
}

// publicOf takes the fingerprint of a private key's public half, and wipes the
// key from memory on its way out. An encrypted key is not asked to be opened:
// it gives ErrEncrypted.
func publicOf(b *pem.Block) (Fingerprint, error) {
	defer clear(b.Bytes)
	if b.Type == "ENCRYPTED PRIVATE KEY" || bytes.Contains([]byte(b.Headers["Proc-Type"]), []byte("ENCRYPTED")) {
		return Fingerprint{}, ErrEncrypted
	}
	var key any
	var err error
	switch b.Type {
	case "RSA PRIVATE KEY":
		key, err = x509.ParsePKCS1PrivateKey(b.Bytes)
	case "EC PRIVATE KEY":
		key, err = x509.ParseECPrivateKey(b.Bytes)
	default:
		key, err = x509.ParsePKCS8PrivateKey(b.Bytes)
	}
	if err != nil {
		return Fingerprint{}, errors.New("the private key in it cannot be read")
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return Fingerprint{}, errors.New("the private key in it is of a kind that cannot sign")
	}
	spki, err := x509.MarshalPKIXPublicKey(signer.Public())
	if err != nil {
		return Fingerprint{}, errors.New("the private key in it is of an unknown kind")
	}
	return sha256.Sum256(spki), nil
}

// Public is the SHA-256 over the certificate's SubjectPublicKeyInfo, to be
// compared with that of a private key.
func (c *Certificate) Public() Fingerprint { return sha256.Sum256(c.RawSubjectPublicKeyInfo) }

// KeyPEM writes a private key as PKCS#8 in PEM (RFC 5958, RFC 7468).
func KeyPEM(key crypto.Signer) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}
