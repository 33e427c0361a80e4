package chain_test

import (
	"crypto/x509"
	"testing"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/pkitest"
)

// TestMaterialIsPutInOrder puts what lies about behind a leaf, as far as it leads.
func TestMaterialIsPutInOrder(t *testing.T) {
	old, young := pkitest.CA("old", nil), pkitest.CA("young", nil)
	ca := pkitest.CA("ca", young)
	crossed := pkitest.Issue(&x509.Certificate{Subject: young.Subject, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}, old, young.Key)
	leaf, stray := pkitest.Leaf(ca, "a.example"), pkitest.Leaf(old, "b.example")
	namesake := pkitest.CA("ca", old) // of the same name, with another key
	for title, c := range map[string]struct{ material, list, left []*pkitest.Entity }{
		"in any order":      {[]*pkitest.Entity{young, stray, ca}, []*pkitest.Entity{leaf, ca, young}, []*pkitest.Entity{stray}},
		"twice the same":    {[]*pkitest.Entity{ca, ca, young, leaf}, []*pkitest.Entity{leaf, ca, young}, nil},
		"a namesake":        {[]*pkitest.Entity{namesake, old}, []*pkitest.Entity{leaf}, []*pkitest.Entity{namesake, old}},
		"both namesakes":    {[]*pkitest.Entity{namesake, ca}, []*pkitest.Entity{leaf, ca}, []*pkitest.Entity{namesake}},
		"crossed, no root":  {[]*pkitest.Entity{old, crossed, ca}, []*pkitest.Entity{leaf, ca, crossed, old}, nil},
		"crossed and root":  {[]*pkitest.Entity{crossed, young, ca}, []*pkitest.Entity{leaf, ca, young}, []*pkitest.Entity{crossed}},
		"nothing beside it": {nil, []*pkitest.Entity{leaf}, nil},
		"its root alone":    {[]*pkitest.Entity{young}, []*pkitest.Entity{leaf}, []*pkitest.Entity{young}},
	} {
		list, left := chain.Order(leaf.Certificate, pkitest.List(c.material...))
		assert.Equal(t, prints(pkitest.List(c.list...)), prints(list), title)
		assert.Equal(t, prints(pkitest.List(c.left...)), prints(left), title)
	}
}

// prints tell certificates apart.
func prints(list []*certs.Certificate) (out []string) {
	for _, c := range list {
		out = append(out, c.CommonName()+" "+c.Fingerprint.String()[:8])
	}
	return out
}
