package authority_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"io"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ocsp"

	"insegna.example/internal/core/authority"
	"insegna.example/internal/core/certs"
)

var now = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

// made are a root and a CA below it.
func made(t *testing.T, rootPath int) (root, issuing *authority.Signer) {
	key := func() *ecdsa.PrivateKey {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		return k
	}
	parsed := func(der []byte, err error) *x509.Certificate {
		require.NoError(t, err)
		c, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		return c
	}
	rootKey, issuingKey := key(), key()
	a := authority.Authority{Subject: pkix.Name{CommonName: "root"}, From: now, Until: now.AddDate(10, 0, 0), PathLength: rootPath,
		Permitted: []string{"crew.example", "10.0.0.0/8"}}
	root = &authority.Signer{Certificate: parsed(a.Root(rootKey, rand.Reader)), Key: rootKey}
	b := authority.Authority{Subject: pkix.Name{CommonName: "issuing"}, From: now, Until: now.AddDate(20, 0, 0)}
	if rootPath == 0 {
		_, err := b.Below(root, issuingKey.Public(), rand.Reader)
		assert.ErrorContains(t, err, "root may have no CA below it")
		return root, nil
	}
	return root, &authority.Signer{Certificate: parsed(b.Below(root, issuingKey.Public(), rand.Reader)), Key: issuingKey}
}

// TestWhatIsSigned holds what a CA signs against RFC 5280.
func TestWhatIsSigned(t *testing.T) {
	root, issuing := made(t, 1)
	made(t, 0)
	for _, c := range []*x509.Certificate{root.Certificate, issuing.Certificate} {
		assert.True(t, c.IsCA)
		assert.Equal(t, x509.KeyUsageCertSign|x509.KeyUsageCRLSign|x509.KeyUsageDigitalSignature, c.KeyUsage)
		assert.Len(t, c.SubjectKeyId, 20)
		assert.Positive(t, c.SerialNumber.Sign())
		assert.LessOrEqual(t, len(c.SerialNumber.Bytes()), 20)
	}
	assert.Equal(t, []any{1, 0, true}, []any{root.Certificate.MaxPathLen, issuing.Certificate.MaxPathLen, issuing.Certificate.MaxPathLenZero})
	assert.True(t, root.Certificate.PermittedDNSDomainsCritical)
	assert.Equal(t, []string{"crew.example"}, root.Certificate.PermittedDNSDomains)
	assert.Equal(t, "10.0.0.0/8", root.Certificate.PermittedIPRanges[0].String())
	assert.Equal(t, root.Certificate.NotAfter, issuing.Certificate.NotAfter, "nothing outlives its issuer")
	assert.Equal(t, root.Certificate.SubjectKeyId, issuing.Certificate.AuthorityKeyId)

	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	w := &authority.Wish{Names: []string{"a.crew.example", "10.1.2.3", "ops@crew.example", "https://crew.example/x"}, Public: rsaKey.Public(), From: now,
		Until: now.AddDate(50, 0, 0), Usages: []string{"server", "client"}, Staple: true,
		Addresses: authority.Addresses{CRL: "http://x/crl", OCSP: "http://x/ocsp", Issuer: "http://x/issuer"}}
	der, err := authority.Issue(w, issuing, rand.Reader)
	require.NoError(t, err)
	c, err := certs.Parse(der)
	require.NoError(t, err)
	assert.Empty(t, c.Flaws)
	assert.True(t, c.MustStaple())
	assert.Equal(t, issuing.Certificate.NotAfter, c.NotAfter)
	assert.Equal(t, x509.KeyUsageDigitalSignature|x509.KeyUsageKeyEncipherment, c.KeyUsage, "of an RSA key")
	assert.Equal(t, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}, c.ExtKeyUsage)
	assert.Equal(t, [][]string{{"http://x/crl"}, {"http://x/ocsp"}, {"http://x/issuer"}}, [][]string{c.CRLDistributionPoints, c.OCSPServer, c.IssuingCertificateURL})
	assert.Equal(t, []string{"a.crew.example", "10.1.2.3"}, c.Names())
	require.NoError(t, c.CheckSignatureFrom(issuing.Certificate))
	other, err := authority.Issue(w, issuing, rand.Reader)
	require.NoError(t, err)
	again, err := certs.Parse(other)
	require.NoError(t, err)
	assert.NotEqual(t, c.SerialNumber, again.SerialNumber)

	w.From = issuing.Certificate.NotAfter.Add(time.Hour)
	_, err = authority.Issue(w, issuing, rand.Reader)
	assert.ErrorIs(t, err, authority.ErrShort)
	_, err = authority.Issue(w, issuing, io.LimitReader(rand.Reader, 3))
	assert.Error(t, err, "without chance nothing is signed")
	w.From, w.Subject = now, pkix.Name{}
	der, err = authority.SelfSign(w, rsaKey, rand.Reader)
	require.NoError(t, err)
	self, err := certs.Parse(der)
	require.NoError(t, err)
	assert.True(t, self.SelfSigned())
	assert.False(t, self.IsCA)
	assert.Equal(t, "a.crew.example", self.CommonName())
}

// TestRevocationIsSaid reads lists and answers as clients do.
func TestRevocationIsSaid(t *testing.T) {
	root, issuing := made(t, 1)
	serial := big.NewInt(77)
	der, err := issuing.List([]authority.Revoked{{Serial: serial, At: now.Add(-time.Hour), Reason: authority.Reasons["keyCompromise"]}}, 5, now, now.Add(time.Hour), rand.Reader)
	require.NoError(t, err)
	list, err := x509.ParseRevocationList(der)
	require.NoError(t, err)
	require.NoError(t, list.CheckSignatureFrom(issuing.Certificate))
	assert.Equal(t, []any{int64(5), 1, serial, 1}, []any{list.Number.Int64(), len(list.RevokedCertificateEntries), list.RevokedCertificateEntries[0].SerialNumber,
		list.RevokedCertificateEntries[0].ReasonCode})

	ask := func(by *authority.Signer, serial int64) *authority.Question {
		request, err := ocsp.CreateRequest(&x509.Certificate{SerialNumber: big.NewInt(serial)}, by.Certificate, nil)
		require.NoError(t, err)
		q, err := authority.ParseQuestion(request)
		require.NoError(t, err)
		return q
	}
	q := ask(issuing, 77)
	assert.True(t, q.Asks(issuing))
	assert.False(t, q.Asks(root))
	assert.NotEqual(t, q.Key(), ask(issuing, 78).Key())
	assert.NotEqual(t, q.Key(), ask(root, 77).Key())
	for want, c := range map[int]struct {
		issued  bool
		revoked *authority.Revoked
	}{ocsp.Good: {true, nil}, ocsp.Unknown: {false, nil}, ocsp.Revoked: {true, &authority.Revoked{At: now.Add(-time.Hour), Reason: 4}}} {
		der, err := issuing.Answer(q, c.issued, c.revoked, now, now.Add(time.Hour))
		require.NoError(t, err)
		a, err := ocsp.ParseResponse(der, issuing.Certificate)
		require.NoError(t, err)
		assert.Equal(t, []any{want, "77", now.Add(time.Hour)}, []any{a.Status, a.SerialNumber.String(), a.NextUpdate})
		if c.revoked != nil {
			assert.Equal(t, 4, a.RevocationReason)
		}
	}
	for _, junk := range [][]byte{nil, {0x30}, bytes.Repeat([]byte{0x30, 0x80}, 5000)} {
		_, err := authority.ParseQuestion(junk)
		assert.Error(t, err)
	}
}
