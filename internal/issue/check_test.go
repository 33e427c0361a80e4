package issue_test

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
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

func (s told) Save(context.Context, *issue.Order, ...issue.Step) error { return nil }

// TestOfSeveralChainsTheAudiencesCountsFirst offers a chain to each of two roots: the one
// the names' own audiences trust is kept, and the CA's first where that says
// nothing.
func TestOfSeveralChainsTheAudiencesCountsFirst(t *testing.T) {
	young, old := pkitest.CA("young", nil), pkitest.CA("old", nil)
	ca := pkitest.CA("ca", young)
	crossed := pkitest.Issue(&x509.Certificate{Subject: ca.Subject, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign}, old, ca.Key)
	leaf := pkitest.Leaf(ca, "a.lantern.example")
	request, err := issue.Request(leaf.Key, []string{"a.lantern.example"}, pkix.Name{}, false)
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
		o := &issue.Order{State: issue.Fetching, Names: []string{"a.lantern.example"}, Request: request}
		source := told{chains: [][]byte{of(ca), of(crossed)}}
		m := &issue.Orderer{Source: source, Records: source, Anchors: pkitest.List(young, old), Audiences: c.audiences, Paths: paths()}
		require.NoError(t, m.Run(t.Context(), o), name)
		require.Equal(t, issue.Issued, o.State, name)
		list, err := certs.ReadCertificates(o.Chain)
		require.NoError(t, err)
		assert.Equal(t, c.kept.Fingerprint, list[1].Fingerprint, name)
	}
}

// paths finds ways to anchors.
func paths() *chain.Builder { return chain.NewBuilder(chain.NewKnown()) }

// elsewhere makes keys in the place of the safe, and issues for them.
type elsewhere struct {
	issue.Records
	ca            *pkitest.Entity
	key           crypto.Signer
	makes, signs  error
	drops, issues error
	saved, gone   []string
}

func (e *elsewhere) Make(context.Context, *issue.Order) (crypto.Signer, string, error) {
	return e, "made there", e.makes
}

func (e *elsewhere) Drop(_ context.Context, o *issue.Order) error {
	e.gone = append(e.gone, o.Names[0])
	return e.drops
}

func (e *elsewhere) Public() crypto.PublicKey { return e.key.Public() }

func (e *elsewhere) Sign(r io.Reader, digest []byte, opts crypto.SignerOpts) ([]byte, error) {
	if e.signs != nil {
		return nil, e.signs
	}
	return e.key.Sign(r, digest, opts)
}

func (e *elsewhere) Save(_ context.Context, o *issue.Order, told ...issue.Step) error {
	for _, t := range told {
		e.saved = append(e.saved, t.Name+" "+t.Words)
	}
	if o.Key != nil {
		return errors.New("a key came here")
	}
	return nil
}

func (e *elsewhere) Ask(context.Context, *issue.Order, bool) (string, error) { return "", nil }
func (e *elsewhere) Prove(context.Context, *issue.Order) error               { return nil }
func (e *elsewhere) Request(context.Context, *issue.Order) (string, error)   { return "", nil }
func (e *elsewhere) Withdraw(context.Context, *issue.Order) error            { return nil }
func (e *elsewhere) Abandon(context.Context, *issue.Order)                   {}
func (e *elsewhere) Failure(err error, _ time.Time) (*issue.Failure, bool, time.Time) {
	var f *issue.Failure
	errors.As(err, &f)
	return f, false, time.Time{}
}

func (e *elsewhere) Fetch(_ context.Context, o *issue.Order) ([][]byte, error) {
	if e.issues != nil {
		return nil, e.issues
	}
	asked, err := x509.ParseCertificateRequest(o.Request)
	if err != nil {
		return nil, err
	}
	like := pkitest.Leaf(e.ca, o.Names[0]).X509()
	der, err := x509.CreateCertificate(rand.Reader, like, e.ca.X509(), asked.PublicKey, e.ca.Key)
	return [][]byte{certs.PEM(der)}, err
}

// TestAKeyMadeElsewhereStaysThere takes orders whose key something else makes: no key
// comes here, what fails is destroyed there, also where it was the key that failed, and
// that it could not be destroyed is told.
func TestAKeyMadeElsewhereStaysThere(t *testing.T) {
	no := func(words string) error { return &issue.Failure{Kind: issue.NoKey, Words: words} }
	for name, c := range map[string]struct {
		e    elsewhere
		says string // how it failed; "" for not
	}{
		"well":                {elsewhere{}, ""},
		"cannot be made":      {elsewhere{makes: no("no room")}, "no room"},
		"cannot sign":         {elsewhere{signs: no("no hand")}, "no hand"},
		"the CA does not":     {elsewhere{issues: no("refused")}, "refused"},
		"nor goes it away":    {elsewhere{issues: no("refused"), drops: errors.New("it cannot be reached")}, "refused; besides, it cannot be reached"},
		"neither made nor so": {elsewhere{makes: no("no room"), drops: errors.New("it cannot be reached")}, "no room; besides, it cannot be reached"},
	} {
		e := &c.e
		e.ca, e.key = pkitest.CA("ca", nil), pkitest.NewKey()
		o := &issue.Order{State: issue.Begun, Names: []string{"a.lantern.example"}}
		m := &issue.Orderer{Source: e, Records: e, Keys: e, Anchors: pkitest.List(e.ca), Paths: paths()}
		require.NoError(t, m.Run(t.Context(), o), name)
		assert.Nil(t, o.Key, name)
		if c.says == "" {
			require.Nil(t, o.Failure, name)
			assert.Equal(t, issue.Issued, o.State)
			assert.Equal(t, "key made there", e.saved[0])
			assert.Len(t, e.saved, 2, "each is told once: the key and the certificate")
			assert.Empty(t, e.gone)
			continue
		}
		require.NotNil(t, o.Failure, name)
		assert.Equal(t, c.says, o.Failure.Words, name)
		assert.Equal(t, []string{"a.lantern.example"}, e.gone, name)
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
			got, err := issue.Check(paths(), c.sent, []string{host}, key.Public(), pkitest.List(root), pkitest.Now)
			assert.Nil(t, got)
			assert.ErrorContains(t, err, c.says)
		})
	}
	got, err := issue.Check(paths(), pem(good, stranger, root, ca), []string{host}, good.Key.Public(), pkitest.List(root), pkitest.Now)
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
