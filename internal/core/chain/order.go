package chain

import (
	"slices"

	"insegna.example/internal/core/certs"
)

// Order puts material behind a leaf in the order of issuing, as far as it leads:
// each certificate's key signed the one before. What stands at its end, where that
// is a root, is among it. Left is what belongs to no such way. Of several issuers
// of one name the one that ends last is taken.
func Order(leaf *certs.Certificate, material []*certs.Certificate) (list, left []*certs.Certificate) {
	list = []*certs.Certificate{leaf}
	for last := leaf; !last.SelfSigned(); {
		var issuer *certs.Certificate
		for _, c := range material {
			if c.SubjectDN == last.IssuerDN && !contains(list, c) && (issuer == nil || c.NotAfter.After(issuer.NotAfter)) &&
				signed(c, last).reason == "" {
				issuer = c
			}
		}
		if issuer == nil {
			break
		}
		list, last = append(list, issuer), issuer
	}
	for _, c := range material {
		if !contains(list, c) {
			left = append(left, c)
		}
	}
	return slices.Clip(list), left
}
