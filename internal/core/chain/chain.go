// Package chain builds the paths from what a server sent to the anchors of an
// audience, and says for every other attempt why it failed (RFC 5280 section 6).
//
// A served list is material, not a path: any order, duplicates, strays and the
// root may be in it. Every path that ends in an anchor is found; the one made
// of served certificates is preferred. Dates do not decide whether a path is
// built, they bound the time in which it stands: so one result answers for
// every moment and can be kept.
//
// Revocation is not looked at here. The judge is our own; crypto/x509 supplies
// parsing and single signature checks.
package chain

import (
	"fmt"
	"slices"
	"sort"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/trust"
)

// Reason tells apart why a path does not stand.
type Reason string

// The reasons, each with its section of RFC 5280.
const (
	ReasonNoIssuer   Reason = "no-issuer"          // the issuer's certificate is nowhere to be found
	ReasonSelfSigned Reason = "self-signed"        // ends in itself and is no anchor
	ReasonSignature  Reason = "signature"          // 6.1.3 (a)(1)
	ReasonWeakSign   Reason = "weak-signature"     // SHA-1 or MD5 signature
	ReasonNotYet     Reason = "not-yet-valid"      // 6.1.3 (a)(2)
	ReasonExpired    Reason = "expired"            // 6.1.3 (a)(2)
	ReasonNotCA      Reason = "not-a-ca"           // 6.1.4 (k), basicConstraints
	ReasonPathLen    Reason = "path-length"        // 6.1.4 (l), (m)
	ReasonKeyUsage   Reason = "key-usage"          // 6.1.4 (n)
	ReasonExtUsage   Reason = "extended-key-usage" // 4.2.1.12, nested along the path
	ReasonNames      Reason = "name-constraint"    // 6.1.3 (b), (c)
	ReasonCritical   Reason = "critical-extension" // 6.1.4 (o)
	ReasonPolicy     Reason = "policy"             // 6.1.3 (d)-(f)
	ReasonTooMany    Reason = "too-many-attempts"  // our own bound
)

// Failure is one rule that stopped one attempt at a path.
type Failure struct {
	Reason Reason             // to decide on; Detail is to be read
	Cert   *certs.Certificate // the certificate the rule fails on
	Detail string             // in words, without the certificate's name
	depth  int                // certificates of the path on which it was met
}

// String names the certificate and what is wrong with it.
func (f Failure) String() string { return fmt.Sprintf("%s: %s", f.Cert.CommonName(), f.Detail) }

// Path runs from the leaf to an anchor.
type Path struct {
	Certs  []*certs.Certificate // leaf first, anchor last
	Served bool                 // all of it but the anchor was sent by the server
	// From and Until bound the time in which every certificate is valid.
	From, Until time.Time
}

// StandsAt says whether every certificate of the path is valid at t.
func (p Path) StandsAt(t time.Time) bool { return !t.Before(p.From) && !t.After(p.Until) }

// Result is what one audience makes of one served list.
type Result struct {
	Paths []Path // all that end in an anchor, the preferred first
	// Failures are why there is no path: first the one that decides. Where a path
	// would reach an anchor but for rules that are broken on it, those rules are;
	// else it is what the longest path ended at. Empty when a path was found at
	// the first try.
	Failures []Failure
}

// Best is the preferred path that stands at t; nil if there is none.
func (r *Result) Best(t time.Time) *Path {
	for i := range r.Paths {
		if r.Paths[i].StandsAt(t) {
			return &r.Paths[i]
		}
	}
	return nil
}

// Why lists the failures that explain why no path stands at t: certificates
// out of date on paths that would end in an anchor, else all failures.
func (r *Result) Why(t time.Time) []Failure {
	var out []Failure
	for _, p := range r.Paths {
		for _, c := range p.Certs {
			if f, bad := dateFailure(c, t); bad {
				out = append(out, f)
			}
		}
	}
	if len(out) > 0 {
		return out
	}
	return r.Failures
}

// dateFailure holds a certificate against a moment. Both ends are part of the
// validity (RFC 5280 section 4.1.2.5).
func dateFailure(c *certs.Certificate, t time.Time) (Failure, bool) {
	const day = "2 January 2006 15:04"
	switch {
	case t.After(c.NotAfter):
		return Failure{Reason: ReasonExpired, Cert: c, Detail: "ended on " + c.NotAfter.UTC().Format(day) + " UTC"}, true
	case t.Before(c.NotBefore):
		return Failure{Reason: ReasonNotYet, Cert: c, Detail: "begins on " + c.NotBefore.UTC().Format(day) + " UTC"}, true
	}
	return Failure{}, false
}

// Bounds that keep hostile material from costing more than a moment.
const (
	maxDepth    = 10  // certificates in a path, anchor included
	maxAttempts = 150 // links tried for one leaf and audience
	maxFailures = 32  // failures kept
)

// Builder builds paths. It remembers every link (this certificate signed that
// one) it has checked, so that an issuer met a thousand times costs one
// signature check. Safe for concurrent use.
type Builder struct {
	links *links // signatures checked before
	known *Known // certificates that may fill a gap
}

// NewBuilder makes a builder over a set of known intermediates.
func NewBuilder(known *Known) *Builder { return &Builder{links: newLinks(), known: known} }

// Once finds the paths of a list that is asked about this one time: nothing is
// known besides, and nothing is remembered.
func Once(served []*certs.Certificate, audience *trust.Audience) *Result {
	return (&Builder{links: &links{}, known: NewKnown()}).Build(served, audience)
}

// Issued finds the paths of a list whose first certificate was signed by the key of the
// second this very moment, and seen to be: all is checked but that signature.
func (b *Builder) Issued(served []*certs.Certificate, audience *trust.Audience) *Result {
	return b.build(search{b: b, served: served, audience: audience, signed: true})
}

// Build finds every path from served[0] to an anchor of the audience, over
// the rest of the served list and the known intermediates. Where there is none,
// it goes over the same material once more, past every rule but the signatures,
// to tell what stands in the way from what leads nowhere. What lies beside the
// list is known for this one question.
func (b *Builder) Build(served []*certs.Certificate, audience *trust.Audience, beside ...*certs.Certificate) *Result {
	return b.build(search{b: b, served: served, beside: beside, audience: audience})
}

// build searches as asked, and past the rules where that finds nothing.
func (b *Builder) build(asked search) *Result {
	s, past := &asked, asked
	s.result = &Result{}
	s.begin()
	if len(s.result.Paths) == 0 {
		past.result, past.past = &Result{}, true
		past.begin()
		s.result.Failures = deciding(past.blocking, past.result.Failures)
	}
	s.prefer()
	return s.result
}

// deciding orders why there is no path: what alone keeps one from an anchor,
// else the end of the longest attempt.
func deciding(blocking, failures []Failure) []Failure {
	sort.SliceStable(failures, func(i, j int) bool {
		a, b := failures[i], failures[j]
		if a.depth != b.depth {
			return a.depth > b.depth
		}
		return rank(a.Reason) < rank(b.Reason)
	})
	return slices.Concat(blocking, failures)
}

// endings are how an attempt can end without an anchor, what says most first.
// The rules that are broken besides come last, but for one: what no CA issued
// is trusted by nobody, whatever roots they have.
var endings = []Reason{ReasonNotCA, ReasonSelfSigned, ReasonNoIssuer, ReasonSignature, ReasonTooMany}

// rank is a reason's place among the endings.
func rank(r Reason) int {
	if i := slices.Index(endings, r); i >= 0 {
		return i
	}
	return len(endings)
}

// search is one depth-first walk from a leaf towards the anchors.
type search struct {
	b        *Builder             // whose memory it uses
	served   []*certs.Certificate // as the server sent them
	beside   []*certs.Certificate // known for this search alone
	audience *trust.Audience      // whose anchors end a path
	result   *Result              // what was found so far
	attempts int                  // links tried, of maxAttempts
	signed   bool                 // the second of served has just signed the first, and that was seen
	past     bool                 // goes on past broken rules, and keeps them
	blocking []Failure            // past: the fewest broken rules on a way to an anchor
}

// begin starts the walk at the leaf.
func (s *search) begin() {
	leaf := s.served[0]
	path := append(make([]*certs.Certificate, 0, 4), leaf)
	if s.audience.Has(leaf) {
		s.accept(path, nil)
		return
	}
	var broken []Failure
	if critical := unknownCritical(leaf); critical != "" {
		if !s.past {
			return
		}
		broken = []Failure{{Reason: ReasonCritical, Cert: leaf, Detail: critical}}
	}
	s.extend(path, broken)
}

// fail keeps why a path ended. What a hostile list makes beyond maxFailures is
// dropped.
func (s *search) fail(depth int, r Reason, c *certs.Certificate, detail string) {
	if len(s.result.Failures) < maxFailures {
		s.result.Failures = append(s.result.Failures, Failure{r, c, detail, depth})
	}
}

// extend tries every issuer of the path's last certificate; broken are the
// rules broken so far.
func (s *search) extend(path []*certs.Certificate, broken []Failure) {
	last := path[len(path)-1]
	found := false
	for _, anchor := range s.audience.Named(last.IssuerDN) {
		found = true
		if more, ok := s.link(path, anchor, true); ok {
			s.accept(append(path[:len(path):len(path)], anchor), slices.Concat(broken, more))
		}
	}
	for candidate := range s.issuers(last) {
		if onPath(path, candidate) || s.audience.Has(candidate) {
			found = found || !last.SelfIssued()
			continue
		}
		found = true
		if more, ok := s.link(path, candidate, false); ok {
			s.extend(append(path[:len(path):len(path)], candidate), slices.Concat(broken, more))
		}
	}
	if s.past && (!found || last.SelfIssued()) {
		s.ended(path, broken, found)
	}
}

// ended tells how an attempt ends whose last certificate has no issuer here.
func (s *search) ended(path []*certs.Certificate, broken []Failure, found bool) {
	last := path[len(path)-1]
	for _, f := range broken {
		s.fail(len(path), f.Reason, f.Cert, f.Detail)
	}
	switch {
	case last.SelfSigned() && len(path) == 1:
		s.fail(1, ReasonSelfSigned, last, "signed by itself, and not an anchor of "+s.audience.Name)
	case last.SelfSigned():
		s.fail(len(path), ReasonSelfSigned, last, "is a root that "+s.audience.Name+" does not trust")
	case !found:
		s.fail(len(path), ReasonNoIssuer, last, fmt.Sprintf("its issuer %q was not sent and is not known", last.IssuerName()))
	}
}

// issuers yields served, then known certificates whose subject is the
// certificate's issuer, each once.
func (s *search) issuers(c *certs.Certificate) func(func(*certs.Certificate) bool) {
	return func(yield func(*certs.Certificate) bool) {
		for i, o := range s.served {
			if i > 0 && o.SubjectDN == c.IssuerDN && !contains(s.served[:i], o) && !yield(o) {
				return
			}
		}
		for _, o := range s.b.known.named(c.IssuerDN) {
			if !contains(s.served, o) && !yield(o) {
				return
			}
		}
		for _, o := range s.beside {
			if o.SubjectDN == c.IssuerDN && o.IsCA && !contains(s.served, o) && !s.b.known.has(o) && !yield(o) {
				return
			}
		}
	}
}

// link checks whether issuer may follow the path: the signature, and the rules
// an issuer must keep by itself. Past the rules, it gives those that are broken.
func (s *search) link(path []*certs.Certificate, issuer *certs.Certificate, anchor bool) ([]Failure, bool) {
	if s.attempts++; s.attempts > maxAttempts || len(path) >= maxDepth {
		if s.attempts == maxAttempts+1 || len(path) >= maxDepth {
			s.fail(maxDepth, ReasonTooMany, path[0], "the material allows more paths than are tried")
		}
		return nil, false
	}
	broken := mayIssue(issuer, path, anchor)
	if len(broken) > 0 && !s.past {
		return nil, false
	}
	child := path[len(path)-1]
	if s.signed && len(path) == 1 && len(s.served) > 1 && issuer.Fingerprint == s.served[1].Fingerprint {
		return broken, true
	}
	switch reason, detail := s.b.links.check(issuer, child); {
	case reason == ReasonWeakSign && s.past:
		broken = append(broken, Failure{Reason: reason, Cert: child, Detail: detail})
	case reason != "":
		s.fail(len(path), reason, child, detail)
		return nil, false
	}
	return broken, true
}

// accept keeps a path that reached an anchor and keeps the rules of a whole
// path, which need every certificate from the anchor down.
func (s *search) accept(path []*certs.Certificate, broken []Failure) {
	if f := wholePath(path); f != nil {
		broken = append(broken, *f)
	}
	if len(broken) > 0 {
		if s.blocking == nil || len(broken) < len(s.blocking) {
			s.blocking = broken
		}
		return
	}
	p := Path{Certs: path, Served: true, From: path[0].NotBefore, Until: path[0].NotAfter}
	for _, c := range path[1:] {
		p.From, p.Until = later(p.From, c.NotBefore), earlier(p.Until, c.NotAfter)
	}
	for _, c := range path[:len(path)-1] {
		p.Served = p.Served && contains(s.served, c)
	}
	s.result.Paths = append(s.result.Paths, p)
}

// later and earlier bound a result in time.
func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// earlier is later's counterpart.
func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// onPath stops a search that goes round in circles.
func onPath(path []*certs.Certificate, c *certs.Certificate) bool {
	for _, p := range path {
		// The same subject and key twice is a loop, even in another certificate.
		if p.SubjectDN == c.SubjectDN &&
			string(p.RawSubjectPublicKeyInfo) == string(c.RawSubjectPublicKeyInfo) {
			return true
		}
	}
	return false
}

// contains compares whole certificates, by fingerprint.
func contains(list []*certs.Certificate, c *certs.Certificate) bool {
	for _, o := range list {
		if o.Fingerprint == c.Fingerprint {
			return true
		}
	}
	return false
}
