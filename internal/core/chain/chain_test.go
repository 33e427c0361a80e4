package chain_test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"math/rand/v2"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/trust"
	"insegna.example/internal/pkitest"
)

// hierarchy is a generated set of CAs, a served list and what is known besides.
type hierarchy struct {
	roots, cas    []*pkitest.Entity
	served, known []*certs.Certificate
	anchors       []*certs.Certificate
}

// generate makes a hierarchy that is right or wrong in many ways at once.
func generate(r *rand.Rand) *hierarchy {
	h := &hierarchy{}
	for i := range 1 + r.IntN(3) {
		h.roots = append(h.roots, pkitest.CA(fmt.Sprintf("root %d", i), nil, twists(r, 10)...))
	}
	for i := range r.IntN(5) {
		var parent *pkitest.Entity
		if all := append(append([]*pkitest.Entity{}, h.roots...), h.cas...); r.IntN(8) > 0 {
			parent = all[r.IntN(len(all))]
		} else {
			parent = pkitest.CA("unknown root", nil)
		}
		name := fmt.Sprintf("ca %d", i)
		ca := pkitest.CA(name, parent, twists(r, 4)...)
		h.cas = append(h.cas, ca)
		if r.IntN(3) == 0 { // cross-signed: same name and key, other issuer
			other := h.roots[r.IntN(len(h.roots))]
			t := &x509.Certificate{Subject: pkix.Name{CommonName: name}, IsCA: true, BasicConstraintsValid: true,
				KeyUsage: x509.KeyUsageCertSign}
			h.cas = append(h.cas, pkitest.Issue(t, other, ca.Key))
		}
	}
	all := append(append([]*pkitest.Entity{}, h.roots...), h.cas...)
	leaf := pkitest.Leaf(all[len(all)-1-r.IntN(min(2, len(all)))],
		[]string{"a.lantern.example", "b.other.test", "lantern.example"}[r.IntN(3)], leafTwists(r)...)
	h.served = []*certs.Certificate{leaf.Certificate}
	for _, ca := range all {
		switch r.IntN(4) {
		case 0:
			h.known = append(h.known, ca.Certificate)
		case 1, 2:
			h.served = append(h.served, ca.Certificate)
		}
	}
	r.Shuffle(len(h.served)-1, func(i, j int) { h.served[i+1], h.served[j+1] = h.served[j+1], h.served[i+1] })
	for _, root := range h.roots {
		if r.IntN(4) > 0 {
			h.anchors = append(h.anchors, root.Certificate)
		}
	}
	return h
}

// twists changes a CA in one way, one time in n.
func twists(r *rand.Rand, n int) (out []func(*x509.Certificate)) {
	if r.IntN(n) > 0 {
		return nil
	}
	all := []func(*x509.Certificate){
		pkitest.Valid(-48*time.Hour, -time.Hour),
		pkitest.Valid(time.Hour, 48*time.Hour),
		func(t *x509.Certificate) { t.MaxPathLen, t.MaxPathLenZero = 0, true },
		func(t *x509.Certificate) { t.MaxPathLen = 1 },
		func(t *x509.Certificate) { t.IsCA = false },
		func(t *x509.Certificate) { t.BasicConstraintsValid, t.IsCA = false, false },
		func(t *x509.Certificate) { t.KeyUsage = x509.KeyUsageDigitalSignature },
		func(t *x509.Certificate) { t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth} },
		func(t *x509.Certificate) { t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageAny} },
		func(t *x509.Certificate) { t.PermittedDNSDomains = []string{"lantern.example"} },
		func(t *x509.Certificate) {
			t.ExcludedDNSDomains = []string{"a.lantern.example"}
			t.PermittedDNSDomainsCritical = true
		},
		func(t *x509.Certificate) {
			t.PermittedIPRanges = []*net.IPNet{{IP: net.IP{127, 0, 0, 0}, Mask: net.CIDRMask(8, 32)}}
		},
		func(t *x509.Certificate) { t.PermittedEmailAddresses = []string{"lantern.example"} },
		func(t *x509.Certificate) {
			t.ExtraExtensions = append(t.ExtraExtensions,
				pkix.Extension{Id: asn1.ObjectIdentifier{1, 2, 3, 4}, Critical: true, Value: []byte{5, 0}})
		},
		func(t *x509.Certificate) { // policyConstraints: requireExplicitPolicy 0
			t.ExtraExtensions = append(t.ExtraExtensions,
				pkix.Extension{Id: asn1.ObjectIdentifier{2, 5, 29, 36}, Critical: true, Value: []byte{0x30, 3, 0x80, 1, 0}})
		},
		func(t *x509.Certificate) {
			oid, _ := x509.OIDFromInts([]uint64{1, 2, 3, 7})
			t.Policies = []x509.OID{oid}
		},
	}
	return []func(*x509.Certificate){all[r.IntN(len(all))]}
}

func leafTwists(r *rand.Rand) []func(*x509.Certificate) {
	all := []func(*x509.Certificate){
		nil, nil, nil, nil, nil, nil,
		pkitest.Valid(-48*time.Hour, -time.Hour),
		func(t *x509.Certificate) { t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning} },
		func(t *x509.Certificate) { t.IPAddresses = []net.IP{net.ParseIP("127.0.0.1")} },
		func(t *x509.Certificate) { t.EmailAddresses = []string{"harbour@lantern.example"} },
		func(t *x509.Certificate) {
			oid, _ := x509.OIDFromInts([]uint64{1, 2, 3, 7})
			t.Policies = []x509.OID{oid}
		},
		func(t *x509.Certificate) { t.DNSNames = []string{"*.lantern.example"} },
	}
	if f := all[r.IntN(len(all))]; f != nil {
		return []func(*x509.Certificate){f}
	}
	return nil
}

// TestEveryDecisionAgainstTheStandardLibrary compares the answer "a path
// stands" with crypto/x509 on generated hierarchies. Both must occur often.
func TestEveryDecisionAgainstTheStandardLibrary(t *testing.T) {
	r := rand.New(rand.NewPCG(20, 26))
	stands, falls := 0, 0
	for i := range 800 {
		h := generate(r)
		result := chain.NewBuilder(chain.NewKnown(h.known...)).Build(h.served,
			trust.NewAudience("browsers", false, h.anchors))
		ours := result.Best(pkitest.Now) != nil
		theirs := verify(h)
		if theirs == nil {
			stands++
		} else {
			falls++
			assert.NotEmpty(t, result.Why(pkitest.Now), "hierarchy %d: refused without a reason", i)
		}
		if !assert.Equal(t, theirs == nil, ours, "hierarchy %d: standard library says %v, we say %v", i, theirs,
			result.Why(pkitest.Now)) {
			return
		}
	}
	assert.Greater(t, stands, 150)
	assert.Greater(t, falls, 150)
}

// TestWhatWasJustIssuedIsJudgedLikeAnything holds that of a certificate which the second
// of the list has just signed all is checked but that signature.
func TestWhatWasJustIssuedIsJudgedLikeAnything(t *testing.T) {
	r := rand.New(rand.NewPCG(18, 5))
	stands, falls := 0, 0
	for i := range 1500 {
		h := generate(r)
		if len(h.served) < 2 || strings.Contains(h.served[0].SignatureAlgorithm.String(), "SHA1") ||
			h.served[1].CheckSignature(h.served[0].SignatureAlgorithm, h.served[0].RawTBSCertificate, h.served[0].Signature) != nil {
			continue
		}
		b, audience := chain.NewBuilder(chain.NewKnown(h.known...)), trust.NewAudience("browsers", false, h.anchors)
		issued := b.Issued(h.served, audience).Best(pkitest.Now) != nil
		if !assert.Equal(t, b.Build(h.served, audience).Best(pkitest.Now) != nil, issued, "hierarchy %d", i) {
			return
		}
		if issued {
			stands++
		} else {
			falls++
		}
	}
	assert.Greater(t, stands, 50)
	assert.Greater(t, falls, 50)
}

func verify(h *hierarchy) error {
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	for _, c := range h.anchors {
		roots.AddCert(c.Certificate)
	}
	for _, c := range append(append([]*certs.Certificate{}, h.served[1:]...), h.known...) {
		if c.IsCA { // what is known are CAs; a served non-CA is refused either way
			between.AddCert(c.Certificate)
		}
	}
	_, err := h.served[0].Certificate.Verify(x509.VerifyOptions{Roots: roots, Intermediates: between,
		CurrentTime: pkitest.Now})
	return err
}

func build(served []*certs.Certificate, anchors ...*pkitest.Entity) *chain.Result {
	return chain.NewBuilder(chain.NewKnown()).Build(served, trust.NewAudience("browsers", true, pkitest.List(anchors...)))
}

func TestSelfIssuedCertificatesDoNotCountForThePathLength(t *testing.T) {
	root := pkitest.CA("root", nil)
	limited := pkitest.CA("limited", root, func(t *x509.Certificate) { t.MaxPathLen, t.MaxPathLenZero = 0, true })
	rolled := pkitest.CA("limited", limited) // the CA's new key, signed by its old one: self-issued
	leaf := pkitest.Leaf(rolled, "a.lantern.example")
	r := build(pkitest.List(leaf, rolled, limited), root)
	require.Len(t, r.Paths, 1)
	assert.Len(t, r.Paths[0].Certs, 4)

	below := pkitest.CA("below", limited)
	r = build(pkitest.List(pkitest.Leaf(below, "a.lantern.example"), below, limited), root)
	assert.Empty(t, r.Paths)
	assert.Equal(t, chain.ReasonPathLen, r.Failures[0].Reason)
	assert.Contains(t, r.Failures[0].String(), "limited: allows 0 intermediates below it, the path has 1")
}

// TestALeafDoesNotEscapeNameConstraintsBySelfIssuing holds the exemption of RFC
// 5280 section 6.1.3 (b) to what it is for: a CA's new key signed by its old one,
// never the certificate at the end, whatever name it takes.
func TestALeafDoesNotEscapeNameConstraintsBySelfIssuing(t *testing.T) {
	root := pkitest.CA("root", nil)
	ferries := pkitest.CA("ferries", root,
		func(t *x509.Certificate) {
			t.PermittedDNSDomainsCritical, t.PermittedDNSDomains = true, []string{"ferries.example"}
		})
	named := func(name string) func(*x509.Certificate) {
		return func(t *x509.Certificate) { t.Subject = pkix.Name{CommonName: name} }
	}
	inside := pkitest.Leaf(ferries, "a.ferries.example", named("ferries"))
	require.True(t, inside.SelfIssued())
	assert.Len(t, build(pkitest.List(inside, ferries), root).Paths, 1)
	for _, name := range []string{"ferries", "somebody"} {
		r := build(pkitest.List(pkitest.Leaf(ferries, "a.trains.example", named(name)), ferries), root)
		require.Empty(t, r.Paths, name)
		assert.Equal(t, chain.ReasonNames, r.Failures[0].Reason, name)
	}
	rolled := pkitest.CA("ferries", ferries, func(t *x509.Certificate) { t.DNSNames = []string{"elsewhere.example"} })
	assert.Len(t, build(pkitest.List(pkitest.Leaf(rolled, "a.ferries.example"), rolled, ferries), root).Paths, 1)
	r := build(pkitest.List(pkitest.Leaf(rolled, "a.trains.example"), rolled, ferries), root)
	assert.Empty(t, r.Paths, "the constraint reaches through the CA's new key")
}

// TestTheLongestPath holds the bound from both sides: a path of ten certificates
// is found, one of eleven is not, and why is told.
func TestTheLongestPath(t *testing.T) {
	of := func(length int) *chain.Result {
		root := pkitest.CA("root", nil)
		last := root
		var list []*pkitest.Entity
		for i := range length - 2 {
			last = pkitest.CA(fmt.Sprintf("link %d", i), last)
			list = append([]*pkitest.Entity{last}, list...)
		}
		return build(pkitest.List(append([]*pkitest.Entity{pkitest.Leaf(last, "a.lantern.example")}, list...)...), root)
	}
	r := of(10)
	require.Len(t, r.Paths, 1)
	assert.Len(t, r.Paths[0].Certs, 10)
	r = of(11)
	require.Empty(t, r.Paths)
	assert.Equal(t, chain.ReasonTooMany, r.Failures[0].Reason)
}

func TestDirectoryNameConstraintsAreApplied(t *testing.T) {
	// permitted: directoryName O=Ferries
	dir, err := asn1.Marshal(pkix.Name{Organization: []string{"Ferries"}}.ToRDNSequence())
	require.NoError(t, err)
	general := append([]byte{0xA4, byte(len(dir))}, dir...)
	tree := append([]byte{0x30, byte(len(general))}, general...)
	permitted := append([]byte{0xA0, byte(len(tree))}, tree...)
	value := append([]byte{0x30, byte(len(permitted))}, permitted...)
	root := pkitest.CA("root", nil)
	ca := pkitest.CA("ca", root, func(t *x509.Certificate) {
		t.ExtraExtensions = []pkix.Extension{{Id: asn1.ObjectIdentifier{2, 5, 29, 30}, Critical: true, Value: value}}
	})
	inside := pkitest.Leaf(ca, "a.lantern.example",
		func(t *x509.Certificate) { t.Subject = pkix.Name{Organization: []string{"Ferries"}} })
	outside := pkitest.Leaf(ca, "a.lantern.example",
		func(t *x509.Certificate) { t.Subject = pkix.Name{Organization: []string{"Trains"}} })
	assert.Len(t, build(pkitest.List(inside, ca), root).Paths, 1)
	r := build(pkitest.List(outside, ca), root)
	require.Empty(t, r.Paths)
	assert.Equal(t, chain.ReasonNames, r.Failures[0].Reason)
}

func TestAnExpiredIntermediateIsHarmlessWhenAnotherPathStands(t *testing.T) {
	root := pkitest.CA("root", nil)
	expired := pkitest.CA("ca", root, pkitest.Valid(-48*time.Hour, -time.Hour))
	fresh := pkitest.Issue(&x509.Certificate{Subject: pkix.Name{CommonName: "ca"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}, root, expired.Key)
	leaf := pkitest.Leaf(expired, "a.lantern.example")
	r := build(pkitest.List(leaf, expired, fresh), root)
	require.Len(t, r.Paths, 2)
	best := r.Best(pkitest.Now)
	require.NotNil(t, best)
	assert.Equal(t, fresh.Fingerprint, best.Certs[1].Fingerprint)
	assert.Equal(t, chain.ReasonExpired, build(pkitest.List(leaf, expired), root).Why(pkitest.Now)[0].Reason)
}

func TestWhatIsServedIsPreferredToWhatIsKnown(t *testing.T) {
	root := pkitest.CA("root", nil)
	ca := pkitest.CA("ca", root)
	leaf := pkitest.Leaf(ca, "a.lantern.example")
	known := chain.NewKnown(ca.Certificate, leaf.Certificate)
	alone := chain.NewBuilder(known).Build(pkitest.List(leaf), trust.NewAudience("browsers", true, pkitest.List(root)))
	require.Len(t, alone.Paths, 1)
	assert.False(t, alone.Paths[0].Served)
	whole := chain.NewBuilder(known).Build(pkitest.List(leaf, ca), trust.NewAudience("browsers", true, pkitest.List(root)))
	assert.True(t, whole.Paths[0].Served)
}

func TestReasonsAreToldApart(t *testing.T) {
	root, other := pkitest.CA("root", nil), pkitest.CA("root", nil) // same name, another key
	self := pkitest.Leaf(nil, "a.lantern.example")
	for name, c := range map[string]struct {
		served []*certs.Certificate
		reason chain.Reason
	}{
		"nobody knows the issuer": {
			pkitest.List(pkitest.Leaf(pkitest.CA("lost", root), "a.lantern.example")), chain.ReasonNoIssuer},
		"the signature does not fit": {pkitest.List(pkitest.Leaf(other, "a.lantern.example")), chain.ReasonSignature},
		"signed by itself":           {pkitest.List(self), chain.ReasonSelfSigned},
		"not meant for TLS servers": {
			pkitest.List(pkitest.Leaf(root, "a.lantern.example",
				func(t *x509.Certificate) { t.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageEmailProtection} })),
			chain.ReasonExtUsage},
		"issued by another host's": {pkitest.List(pkitest.Leaf(self, "b.lantern.example"), self), chain.ReasonNotCA},
		"a critical unknown extension": {pkitest.List(pkitest.Leaf(root, "a.lantern.example", func(t *x509.Certificate) {
			t.ExtraExtensions = []pkix.Extension{{Id: asn1.ObjectIdentifier{1, 2, 3, 4}, Critical: true, Value: []byte{5, 0}}}
		})), chain.ReasonCritical},
	} {
		t.Run(name, func(t *testing.T) {
			r := build(c.served, root)
			require.Empty(t, r.Paths)
			require.NotEmpty(t, r.Failures)
			assert.Equal(t, c.reason, r.Failures[0].Reason)
		})
	}
}

// TestHostileMaterialIsBounded serves many CAs of one name that sign each
// other, which makes the number of possible paths explode.
func TestHostileMaterialIsBounded(t *testing.T) {
	var list []*pkitest.Entity
	last := pkitest.CA("maze 0", nil)
	for i := range 40 {
		last = pkitest.CA(fmt.Sprintf("maze %d", (i+1)%3), last)
		list = append(list, last)
	}
	served := pkitest.List(append([]*pkitest.Entity{pkitest.Leaf(last, "a.lantern.example")}, list...)...)
	began := time.Now()
	r := build(served, pkitest.CA("root", nil))
	assert.Empty(t, r.Paths)
	assert.Less(t, len(r.Failures), 40)
	assert.Less(t, time.Since(began), 5*time.Second, "a bound of attempts keeps this in milliseconds")
}

func TestFormOfAServedList(t *testing.T) {
	root := pkitest.CA("root", nil)
	a := pkitest.CA("a", root)
	b := pkitest.CA("b", a)
	stray := pkitest.CA("stray", pkitest.CA("other root", nil))
	leaf := pkitest.Leaf(b, "a.lantern.example")

	f := chain.FormOf(pkitest.List(leaf, b, a))
	assert.Equal(t, chain.Form{}, f)
	f = chain.FormOf(pkitest.List(leaf, a, b, b, stray, root))
	assert.Equal(t, pkitest.List(a), f.Misordered)
	assert.Equal(t, pkitest.List(b), f.Duplicates)
	assert.Equal(t, pkitest.List(stray), f.Strays)
	assert.Equal(t, pkitest.List(root), f.Roots)
	assert.Equal(t, 2, chain.FormOf(pkitest.List(a, b, leaf)).LeafAt)
}
