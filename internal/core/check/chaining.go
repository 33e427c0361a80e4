package check

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/names"
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

// untrusted gives the code for the reason that decides why there is no path.
var untrusted = map[chain.Reason]Code{
	chain.ReasonSelfSigned: ChainUntrusted, chain.ReasonNoIssuer: IssuerUnknown, chain.ReasonSignature: IssuerOther,
	chain.ReasonNotCA: IssuerNoCA, chain.ReasonKeyUsage: IssuerMayNotSign, chain.ReasonPathLen: PathLength,
	chain.ReasonNames: NameConstraint, chain.ReasonExtUsage: NotForServers, chain.ReasonWeakSign: SignatureWeak,
	chain.ReasonCritical: CriticalExtension, chain.ReasonPolicy: PolicyMissing, chain.ReasonTooMany: PathTooLong,
}

// standing names the finding for one audience, "" when a served path stands.
func standing(s *Subject, v View) Code {
	r := v.Result
	if len(r.Paths) == 0 {
		if len(r.Failures) == 0 {
			return ChainUntrusted
		}
		why := r.Failures[0]
		if why.Reason == chain.ReasonSelfSigned && why.Cert == s.leaf() {
			return SelfSigned
		}
		return untrusted[why.Reason]
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

// explain opens one finding for all audiences in which paths fail alike, so
// that a chain wrong for three classes of clients is told once.
func explain(s *Subject, code Code, views []View) {
	who := Fact{"audience", audienceNames(views)}
	r := views[0].Result
	switch code {
	case "":
	case SelfSigned:
		s.add(SelfSigned, "the certificate signed itself; clients ("+who.Value+") will warn",
			"serve a certificate from a CA that these clients trust", who)
	case ChainEnded:
		s.ended(who, &views[0])
	case ChainIncomplete:
		cause := s.missingFrom(r)
		s.add(ChainIncomplete, "the server does not send "+cause, s.complete("the certificate file"), who,
			Fact{"sent", subjects(s.Chain)})
	default:
		s.add(code, "clients ("+who.Value+") do not trust it: "+firstFailure(r.Failures), s.untrustedRemedy(code, r.Failures),
			append([]Fact{who}, failureFacts(r.Failures)...)...)
	}
}

// ended tells of a path that stands but for the dates of a CA on it.
func (s *Subject) ended(who Fact, v *View) {
	why := v.Result.Why(s.At)
	remedy := "serve the CA's current intermediate certificates"
	switch c := why[0].Cert; {
	case v.Audience.Has(c):
		remedy = "serve a chain that leads to a root still in force; these clients have no newer one of " + c.CommonName()
	case why[0].Reason == chain.ReasonNotYet:
		remedy = "serve the CA's certificate that is in force now, and check the clocks"
	}
	s.add(ChainEnded, "a certificate on the path is out of date: "+firstFailure(why), remedy,
		append([]Fact{who}, failureFacts(why)...)...)
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

// untrustedRemedy goes by what decides why there is no path, and by whose fault
// it is: a certificate that is wrong is issued anew, a CA that may not issue it
// is another matter, and a list that lacks something is added to.
func (s *Subject) untrustedRemedy(code Code, list []chain.Failure) string {
	if len(list) == 0 {
		return "serve a certificate from a CA these clients trust"
	}
	c := list[0].Cert
	own := c == s.leaf()
	switch code {
	case IssuerUnknown:
		return unknownRemedy(c)
	case IssuerOther:
		return "put the certificate of " + c.IssuerName() + " that issued " + c.CommonName() +
			" in the place of the other one of that name"
	case IssuerNoCA:
		return "have the certificate issued by a CA; " + c.CommonName() + " is none"
	case IssuerMayNotSign:
		return "have the certificate issued by a CA whose key may sign certificates"
	case PathLength:
		return "have the certificate issued by a CA nearer to the root: below " + c.CommonName() + " no further CA may stand"
	case NameConstraint:
		return "have the certificate issued without that name, or by a CA that may vouch for it"
	case NotForServers:
		if own {
			return "have the certificate issued anew for TLS servers (extendedKeyUsage serverAuth)"
		}
		return "have the certificate issued by a CA that may issue for TLS servers"
	case SignatureWeak:
		if own {
			return "have the certificate issued anew with a signature over SHA-256"
		}
		return "serve the certificate of " + c.CommonName() + " that is signed over SHA-256, or have the CA give you one"
	case CriticalExtension:
		if own {
			return "have the certificate issued anew without that extension, or with it not critical"
		}
		return "have the certificate issued by a CA whose own certificate clients understand"
	case PolicyMissing:
		return "have the certificate issued under a policy that every CA of the path allows"
	case PathTooLong:
		return "send the leaf and the few certificates that lead to the root, and nothing else"
	}
	return "serve a certificate from a CA these clients trust, or add " + c.CommonName() +
		" to the audience's roots if they do have it"
}

// unknownRemedy is for an issuer nobody here has: it may be an intermediate that
// is not sent, or a root that is not trusted. The certificate may say where its
// issuer's lies (RFC 5280 section 4.2.2.1).
func unknownRemedy(c *certs.Certificate) string {
	where := ""
	if len(c.IssuingCertificateURL) > 0 {
		where = ", published at " + shown(c.IssuingCertificateURL[0]) + ","
	}
	return fmt.Sprintf("add the certificate of %s%s to the file, after %s; if that is a root, these clients do not "+
		"trust it: serve a certificate from a CA they trust", c.IssuerName(), where, c.CommonName())
}

// shown bounds a text out of a certificate that goes into a sentence.
func shown(text string) string {
	const most = 120
	if len(text) <= most {
		return text
	}
	return strings.ToValidUTF8(text[:most], "") + "…"
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

// complete says what makes a list in a file whole.
func (s *Subject) complete(file string) string {
	if s.namesake {
		return "put " + s.missing + " in the place of the other one of that name in " + file
	}
	return "add " + s.missing + " to " + file + ", after the leaf"
}

// missingFrom names the intermediates of the preferred path that were not sent,
// and whether others of their names were.
func (s *Subject) missingFrom(r *chain.Result) string {
	best := r.Best(s.At)
	if best == nil {
		best = &r.Paths[0]
	}
	var told, plain []string
	for _, c := range best.Certs[:len(best.Certs)-1] {
		if slices.ContainsFunc(s.Chain, func(o *certs.Certificate) bool { return o.Fingerprint == c.Fingerprint }) {
			continue
		}
		name := c.CommonName()
		if i := slices.IndexFunc(s.Chain, func(o *certs.Certificate) bool { return o.SubjectDN == c.SubjectDN }); i >= 0 {
			if s.Chain[i].IssuerDN != c.IssuerDN {
				name += " as " + c.IssuerName() + " issued it"
			}
			s.namesake = true
			plain = append(plain, name)
			told = append(told, name+" (another of that name is sent)")
			continue
		}
		told, plain = append(told, name), append(plain, name)
	}
	s.missing = "the intermediate " + strings.Join(plain, " and ")
	return "the intermediate " + strings.Join(told, " and ")
}

// composed judges the list's order and ballast. Where the host's own certificate
// is not the first, everything else is judged as if it were.
func composed(s *Subject) {
	sent := Fact{"sent", subjects(s.Chain)}
	s.readable(sent)
	if len(s.Chain) == 1 {
		return
	}
	list := s.Chain
	if at := s.ownAt(); at > 0 {
		s.add(ChainDisordered, fmt.Sprintf("the host's certificate stands at place %d; clients take the first", at+1),
			"put the host's certificate first in the file", sent)
		list = slices.Concat(list[at:at+1], list[:at], list[at+1:])
	}
	f := chain.FormOf(list)
	if len(f.Misordered) > 0 && !s.has(ChainDisordered) {
		s.add(ChainDisordered, f.Misordered[0].CommonName()+" stands before the certificate it certifies",
			"order the file: leaf, its issuer, that one's issuer", sent)
	}
	if strays := slices.DeleteFunc(f.Strays, s.onAnyPath); len(strays) > 0 {
		s.add(ChainStray, subjects(strays)+" belongs to no path from this certificate", "take it out of the file", sent)
	}
	if len(f.Duplicates) > 0 {
		s.add(ChainDuplicate, subjects(f.Duplicates)+" is sent more than once", "take the second copy out of the file", sent)
	}
	if f.Roots = slices.DeleteFunc(f.Roots, s.unanchored); len(f.Roots) > 0 {
		s.add(ChainRootSent, "the root "+subjects(f.Roots)+" is sent along",
			"take it out of the file: clients use their own copy", sent)
	}
}

// readable tells what of the list could not be judged: what is no certificate,
// and what is beyond the number that is looked at.
func (s *Subject) readable(sent Fact) {
	if len(s.unreadable) > 0 {
		places := make([]string, len(s.unreadable))
		for i, at := range s.unreadable {
			places[i] = strconv.Itoa(at + 1)
		}
		s.add(ChainUnreadable, "what is sent at place "+strings.Join(places, ", ")+
			" is no certificate; some clients break off there", "take it out of the certificate file", sent)
	}
	if n := len(s.Seen.Served); n > servedLimit {
		s.add(ChainTooLong, fmt.Sprintf("%d certificates are sent; the first %d were judged", n, servedLimit),
			"send the leaf and its intermediates only", Fact{"sent", fmt.Sprintf("%d certificates", n)})
	}
}

// ownAt is the place of the host's own certificate when another stands before
// it: the only one that covers the host, else the only one that is no CA. 0 when
// the first is it, or none can be told.
func (s *Subject) ownAt() int {
	if s.Host == "" || s.Coverage.Covered {
		if s.Host != "" || !s.leaf().IsCA {
			return 0
		}
		return chain.FormOf(s.Chain).LeafAt
	}
	at := 0
	for i, c := range s.Chain {
		if !names.Covers(c, s.Host).Covered {
			continue
		}
		if at > 0 && c.Fingerprint != s.Chain[at].Fingerprint {
			return 0
		}
		at = max(at, i)
	}
	if at == 0 {
		return chain.FormOf(s.Chain).LeafAt
	}
	return at
}

// unanchored says whether a root is none of those the clients have: then it is
// no copy of theirs that is sent.
func (s *Subject) unanchored(c *certs.Certificate) bool {
	return len(s.Views) > 0 && !slices.ContainsFunc(s.Views, func(v View) bool { return v.Audience.Has(c) })
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
