package issue_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/trust"
	"insegna.example/internal/issue"
	"insegna.example/internal/pkitest"
)

// told is a source that has issued, and keeps nothing.
type told struct {
	issue.Source
	issue.Records
	chains [][]byte
}

func (s told) Fetch(context.Context, *issue.Order) ([][]byte, error) { return s.chains, nil }

func (s told) Save(context.Context, *issue.Order, string, string) error { return nil }

// TestOfSeveralChainsTheAudiencesCountsFirst offers a chain to each of two roots: the one
// the names' own audiences trust is kept, and the CA's first where that says
// nothing.
func TestOfSeveralChainsTheAudiencesCountsFirst(t *testing.T) {
	young, old := pkitest.CA("young", nil), pkitest.CA("old", nil)
	ca := pkitest.CA("ca", young)
	crossed := pkitest.Issue(&x509.Certificate{Subject: ca.Subject, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign}, old, ca.Key)
	leaf := pkitest.Leaf(ca, "a.lantern.example")
	key, err := x509.MarshalPKCS8PrivateKey(leaf.Key)
	require.NoError(t, err)
	of := func(by *pkitest.Entity) []byte { return append(certs.PEM(leaf.Raw), certs.PEM(by.Raw)...) }
	audience := func(roots ...*pkitest.Entity) *trust.Audience {
		return trust.NewAudience("x", true, pkitest.List(roots...))
	}
	for name, c := range map[string]struct {
		audiences []*trust.Audience
		kept      *pkitest.Entity
	}{
		"those with the old root": {[]*trust.Audience{audience(old)}, crossed},
		"those with the new root": {[]*trust.Audience{audience(young)}, ca},
		"those with both":         {[]*trust.Audience{audience(young, old)}, ca},
		"two, one has both":       {[]*trust.Audience{audience(young, old), audience(old)}, crossed},
		"nobody in particular":    {nil, ca},
	} {
		o := &issue.Order{State: issue.Fetching, Names: []string{"a.lantern.example"}, Key: key}
		source := told{chains: [][]byte{of(ca), of(crossed)}}
		m := &issue.Orderer{Source: source, Records: source, Anchors: pkitest.List(young, old), Audiences: c.audiences}
		require.NoError(t, m.Run(t.Context(), o), name)
		require.Equal(t, issue.Issued, o.State, name)
		list, err := certs.ReadCertificates(o.Chain)
		require.NoError(t, err)
		assert.Equal(t, c.kept.Fingerprint, list[1].Fingerprint, name)
	}
}

// TestWhatACASentIsHeldAgainstTheOrder gives certificates that are not what
// was ordered, each in its own way.
func TestWhatACASentIsHeldAgainstTheOrder(t *testing.T) {
	root, stranger := pkitest.CA("root", nil), pkitest.CA("stranger", nil)
	ca := pkitest.CA("ca", root)
	const host = "a.lantern.example"
	good := pkitest.Leaf(ca, host)
	pem := func(list ...*pkitest.Entity) (out []byte) {
		for _, e := range list {
			out = append(out, certs.PEM(e.Raw)...)
		}
		return out
	}
	with := func(change func(*x509.Certificate)) *pkitest.Entity { return pkitest.Leaf(ca, host, change) }
	ended := pkitest.Leaf(ca, host, pkitest.Valid(-90*24*time.Hour, -time.Hour))
	ahead := pkitest.Leaf(ca, host, pkitest.Valid(24*time.Hour, 90*24*time.Hour))
	email := with(func(c *x509.Certificate) { c.EmailAddresses = []string{"x@lantern.example"} })
	address := with(func(c *x509.Certificate) { c.IPAddresses = []net.IP{{192, 0, 2, 1}} })
	client := with(func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth} })
	more := with(func(c *x509.Certificate) { c.DNSNames = append(c.DNSNames, "b.lantern.example") })
	authority := with(func(c *x509.Certificate) { c.IsCA, c.KeyUsage = true, x509.KeyUsageCertSign })
	elsewhere := pkitest.Leaf(stranger, host)
	for name, c := range map[string]struct {
		sent []byte
		leaf *pkitest.Entity
		says string
	}{
		"nothing":              {nil, good, "certificate"},
		"no PEM":               {[]byte("<html>"), good, "cannot be read"},
		"another key":          {pem(pkitest.Leaf(ca, host), ca), good, "for another key"},
		"another name":         {pem(pkitest.Leaf(ca, "b.lantern.example"), ca), nil, "another key"},
		"one name more":        {pem(more, ca), more, "ordered was a.lantern.example"},
		"a mail address":       {pem(email, ca), email, "ordered was a.lantern.example"},
		"an address":           {pem(address, ca), address, "ordered was a.lantern.example"},
		"ended":                {pem(ended, ca), ended, "ended at"},
		"not begun":            {pem(ahead, ca), ahead, "begins only at"},
		"for clients":          {pem(client, ca), client, "not for servers"},
		"a CA":                 {pem(authority, ca), authority, "is a CA's"},
		"without its issuer":   {pem(good), good, "leads to none of the roots"},
		"of an unknown root":   {pem(elsewhere, stranger), elsewhere, "leads to none of the roots"},
		"issuer of a stranger": {pem(good, stranger), good, "leads to none of the roots"},
	} {
		t.Run(name, func(t *testing.T) {
			key := good.Key
			if c.leaf != nil {
				key = c.leaf.Key
			}
			got, err := issue.Check(c.sent, []string{host}, key.Public(), pkitest.List(root), pkitest.Now)
			assert.Nil(t, got)
			assert.ErrorContains(t, err, c.says)
		})
	}
	got, err := issue.Check(pem(good, stranger, root, ca), []string{host}, good.Key.Public(), pkitest.List(root), pkitest.Now)
	require.NoError(t, err, "any order, strays and the root may be in it")
	assert.Equal(t, string(pem(good, ca)), string(got.PEM), "kept is the path alone, in its order, without the root")
	assert.Equal(t, "root", got.Anchor)
	assert.True(t, got.Until.Equal(good.NotAfter))
}

// TestRequestsCarryTheNamesAlone reads back what is sent to a CA, for each
// kind of key.
func TestRequestsCarryTheNamesAlone(t *testing.T) {
	for kind, bits := range map[string]int{"ecdsa-p256": 256, "ecdsa-p384": 384, "rsa-2048": 2048} {
		key, err := issue.NewKey(kind)
		require.NoError(t, err)
		der, err := issue.Request(key, []string{"a.lantern.example", "*.lantern.example"}, pkix.Name{}, false)
		require.NoError(t, err)
		csr, err := x509.ParseCertificateRequest(der)
		require.NoError(t, err)
		require.NoError(t, csr.CheckSignature())
		assert.Equal(t, []string{"a.lantern.example", "*.lantern.example"}, csr.DNSNames)
		assert.Empty(t, csr.Subject.String())
		switch k := csr.PublicKey.(type) {
		case *ecdsa.PublicKey:
			assert.Equal(t, bits, k.Curve.Params().BitSize)
		case *rsa.PublicKey:
			assert.Equal(t, bits, k.N.BitLen())
		}
	}
	_, err := issue.NewKey("dsa")
	assert.ErrorContains(t, err, "unknown kind of key")
}
