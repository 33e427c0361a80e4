package check

import (
	"fmt"
	"slices"
	"strings"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
)

// chaining judges the way from the served list to each audience's anchors,
// and how the list is put together.
func chaining(s *Subject) {
	if len(s.Chain) == 0 || s.has(OtherSiteAnswers) {
		return
	}
	trusted(s)
	composed(s)
}

// trusted groups audiences by what stops them, so that one ill gives one
// finding.
func trusted(s *Subject) {
	groups := map[Code][]View{}
	var order []Code
	for _, v := range s.Views {
		code := standing(s, v)
		if _, met := groups[code]; !met {
			order = append(order, code)
		}
		groups[code] = append(groups[code], v)
	}
	for _, code := range order {
		explain(s, code, groups[code])
	}
}

// standing names the finding for one audience, "" when a served path stands.
func standing(s *Subject, v View) Code {
	r := v.Result
	if len(r.Paths) == 0 {
		if s.leaf().SelfIssued() && hasReason(r.Failures, chain.ReasonSelfSigned) {
			return SelfSigned
		}
		return ChainUntrusted
	}
	best := r.Best(s.At)
	switch {
	case best == nil && s.At.After(s.leaf().NotAfter), best == nil && s.At.Before(s.leaf().NotBefore):
		best = &r.Paths[0] // the leaf's dates are another finding
	case best == nil:
		return ChainEnded
	}
	if !best.Served {
		return ChainIncomplete
	}
	return ""
}

// hasReason says whether any path ended for a reason.
func hasReason(list []chain.Failure, r chain.Reason) bool {
	for _, f := range list {
		if f.Reason == r {
			return true
		}
	}
	return false
}

// explain opens one finding for all audiences in which paths fail alike, so
// that a chain wrong for three classes of clients is told once.
func explain(s *Subject, code Code, views []View) {
	who := Fact{"audience", audienceNames(views)}
	r := views[0].Result
	switch code {
	case SelfSigned:
		s.add(SelfSigned, "the certificate signed itself; clients ("+who.Value+") will warn",
			"serve a certificate from a CA that these clients trust", who)
	case ChainUntrusted:
		s.add(ChainUntrusted, "no path leads to a root that clients ("+who.Value+") trust: "+firstFailure(r.Failures),
			untrustedRemedy(r.Failures), append([]Fact{who}, failureFacts(r.Failures)...)...)
	case ChainEnded:
		why := r.Why(s.At)
		s.add(ChainEnded, "a certificate on the path is out of date: "+firstFailure(why),
			"serve the CA's current intermediate certificates", append([]Fact{who}, failureFacts(why)...)...)
	case ChainIncomplete:
		missing := missingFrom(r, s)
		s.missing = missing
		s.add(ChainIncomplete, "the server does not send "+missing,
			"add "+missing+" to the certificate file, after the leaf", who, Fact{"sent", subjects(s.Chain)})
	}
}

// audienceNames lists audiences as a person reads them, in the order of the
// estate file.
func audienceNames(views []View) string {
	list := make([]string, len(views))
	for i, v := range views {
		list[i] = v.Audience.Name
	}
	return strings.Join(list, ", ")
}

// untrustedRemedy goes by why paths ended: a missing issuer can be served, an
// unknown root cannot.
func untrustedRemedy(list []chain.Failure) string {
	if hasReason(list, chain.ReasonNoIssuer) {
		return "serve the issuer's certificate after the leaf, or a certificate from a CA this audience trusts"
	}
	return "serve a certificate from a CA this audience trusts"
}

// firstFailure is the failure told in the cause; the others stand in the
// evidence.
func firstFailure(list []chain.Failure) string {
	if len(list) == 0 {
		return "nothing was found to start from"
	}
	return list[0].String()
}

// failureFacts are the first few failures as evidence: enough to see what was
// tried, not all a strange list can produce.
func failureFacts(list []chain.Failure) []Fact {
	facts := make([]Fact, 0, min(len(list), 6))
	for _, f := range list[:min(len(list), 6)] {
		facts = append(facts, Fact{string(f.Reason), f.String()})
	}
	return facts
}

// missingFrom names the intermediates of the preferred path that were not sent.
func missingFrom(r *chain.Result, s *Subject) string {
	best := r.Best(s.At)
	if best == nil {
		best = &r.Paths[0]
	}
	var out []string
	for _, c := range best.Certs[:len(best.Certs)-1] {
		sent := false
		for _, o := range s.Chain {
			sent = sent || o.Fingerprint == c.Fingerprint
		}
		if !sent {
			out = append(out, c.CommonName())
		}
	}
	return "the intermediate " + strings.Join(out, " and ")
}

// composed judges the list's order and ballast.
func composed(s *Subject) {
	if len(s.Chain) == 1 {
		return
	}
	f := chain.FormOf(s.Chain)
	if f.LeafAt == 0 && len(f.Misordered)+len(f.Strays)+len(f.Duplicates)+len(f.Roots) == 0 {
		return
	}
	sent := Fact{"sent", subjects(s.Chain)}
	if f.LeafAt > 0 {
		s.add(ChainDisordered, fmt.Sprintf("the host's certificate stands at place %d; clients take the first", f.LeafAt+1),
			"put the host's certificate first in the file", sent)
	} else if len(f.Misordered) > 0 {
		s.add(ChainDisordered, f.Misordered[0].CommonName()+" stands before the certificate it certifies",
			"order the file: leaf, its issuer, that one's issuer", sent)
	}
	if strays := slices.DeleteFunc(f.Strays, s.onAnyPath); len(strays) > 0 {
		s.add(ChainStray, subjects(strays)+" belongs to no path from this certificate", "take it out of the file", sent)
	}
	if len(f.Duplicates) > 0 {
		s.add(ChainDuplicate, subjects(f.Duplicates)+" is sent more than once", "take the second copy out of the file", sent)
	}
	if len(f.Roots) > 0 {
		s.add(ChainRootSent, "the root "+subjects(f.Roots)+" is sent along",
			"take it out of the file: clients use their own copy", sent)
	}
}

// onAnyPath says whether a certificate is part of a path, though what links it
// to the leaf was not sent.
func (s *Subject) onAnyPath(c *certs.Certificate) bool {
	for _, v := range s.Views {
		for _, p := range v.Result.Paths {
			if slices.ContainsFunc(p.Certs, func(o *certs.Certificate) bool { return o.Fingerprint == c.Fingerprint }) {
				return true
			}
		}
	}
	return false
}

// subjects lists certificates by name, eight at most.
func subjects(list []*certs.Certificate) string {
	out := make([]string, 0, len(list))
	for i, c := range list {
		if i == 8 {
			out = append(out, fmt.Sprintf("and %d more", len(list)-8))
			break
		}
		out = append(out, c.CommonName())
	}
	return strings.Join(out, ", ")
}
