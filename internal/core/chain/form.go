package chain

import "insegna.example/internal/core/certs"

// Form says how a served list is put together, apart from whether it is
// trusted (RFC 8446 section 4.4.2: the leaf first, each following certificate
// certifying one before it, the root may be left out).
type Form struct {
	Misordered []*certs.Certificate // stand before the certificate they certify
	Duplicates []*certs.Certificate // sent more than once
	Strays     []*certs.Certificate // belong to no path from the leaf
	Roots      []*certs.Certificate // self-signed roots: every client has its own copy
	LeafAt     int                  // where the only non-CA certificate stands when it is not first; else 0
}

// FormOf examines a served list, leaf first.
func FormOf(served []*certs.Certificate) Form {
	var f Form
	reached := reachable(served)
	for i, c := range served {
		switch {
		case contains(served[:i], c):
			f.Duplicates = append(f.Duplicates, c)
		case i == 0:
		case !reached[i]:
			f.Strays = append(f.Strays, c)
		case c.SelfSigned():
			f.Roots = append(f.Roots, c)
		case !certifiesOne(c, served[:i]):
			f.Misordered = append(f.Misordered, c)
		}
	}
	f.LeafAt = misplacedLeaf(served)
	return f
}

// reachable marks the certificates met when walking from the leaf along
// issuer names.
func reachable(served []*certs.Certificate) []bool {
	reached := make([]bool, len(served))
	reached[0] = true
	for grew := true; grew; {
		grew = false
		for i, c := range served {
			for j, o := range served {
				if reached[i] && !reached[j] && c.IssuerDN == o.SubjectDN {
					reached[j], grew = true, true
				}
			}
		}
	}
	return reached
}

// certifiesOne says whether a certificate could have issued one of those before
// it, by names alone.
func certifiesOne(c *certs.Certificate, before []*certs.Certificate) bool {
	for _, b := range before {
		if b.IssuerDN == c.SubjectDN {
			return true
		}
	}
	return false
}

// misplacedLeaf finds the one end entity of a list that begins with a CA, as
// files do that were put together in the wrong order. 0 when the first is a
// leaf, or when several could be meant.
func misplacedLeaf(served []*certs.Certificate) int {
	if !served[0].IsCA {
		return 0
	}
	at := 0
	for i, c := range served {
		if !c.IsCA {
			if at != 0 {
				return 0
			}
			at = i
		}
	}
	return at
}
