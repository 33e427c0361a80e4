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
	Paths    []Path    // all that end in an anchor, the preferred first
	Failures []Failure // one for each attempt that did not, first met first
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
		return Failure{ReasonExpired, c, "ended on " + c.NotAfter.UTC().Format(day) + " UTC"}, true
	case t.Before(c.NotBefore):
		return Failure{ReasonNotYet, c, "begins on " + c.NotBefore.UTC().Format(day) + " UTC"}, true
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

// Build finds every path from served[0] to an anchor of the audience, over
// the rest of the served list and the known intermediates.
func (b *Builder) Build(served []*certs.Certificate, audience *trust.Audience) *Result {
	s := &search{b: b, served: served, audience: audience, result: &Result{}}
	leaf := served[0]
	if audience.Has(leaf) {
		s.accept([]*certs.Certificate{leaf})
		return s.result
	}
	if critical := unknownCritical(leaf); critical != "" {
		s.fail(ReasonCritical, leaf, critical)
		return s.result
	}
	s.extend(append(make([]*certs.Certificate, 0, 4), leaf))
	s.prefer()
	return s.result
}

// search is one depth-first walk from a leaf towards the anchors.
type search struct {
	b        *Builder             // whose memory it uses
	served   []*certs.Certificate // as the server sent them
	audience *trust.Audience      // whose anchors end a path
	result   *Result              // what was found so far
	attempts int                  // links tried, of maxAttempts
}

// fail keeps why a path ended. What a hostile list makes beyond maxFailures is
// dropped.
func (s *search) fail(r Reason, c *certs.Certificate, detail string) {
	if len(s.result.Failures) < maxFailures {
		s.result.Failures = append(s.result.Failures, Failure{r, c, detail})
	}
}

// extend tries every issuer of the path's last certificate.
func (s *search) extend(path []*certs.Certificate) {
	last := path[len(path)-1]
	found := false
	for _, anchor := range s.audience.Named(last.RawIssuer) {
		found = true
		if s.link(path, anchor) {
			s.accept(append(path[:len(path):len(path)], anchor))
		}
	}
	for candidate := range s.issuers(last) {
		found = true
		if !onPath(path, candidate) && !s.audience.Has(candidate) && s.link(path, candidate) {
			s.extend(append(path[:len(path):len(path)], candidate))
		}
	}
	if found && !last.SelfIssued() {
		return
	}
	switch {
	case last.SelfIssued() && len(path) == 1:
		s.fail(ReasonSelfSigned, last, "signed by itself, and not an anchor of "+s.audience.Name)
	case last.SelfIssued():
		s.fail(ReasonSelfSigned, last, "is a root that "+s.audience.Name+" does not trust")
	default:
		s.fail(ReasonNoIssuer, last, fmt.Sprintf("its issuer %q was not sent and is not known", last.IssuerName()))
	}
}

// issuers yields served, then known certificates whose subject is the
// certificate's issuer, each once.
func (s *search) issuers(c *certs.Certificate) func(func(*certs.Certificate) bool) {
	return func(yield func(*certs.Certificate) bool) {
		for i, o := range s.served {
			if i > 0 && string(o.RawSubject) == string(c.RawIssuer) && !yield(o) {
				return
			}
		}
		for _, o := range s.b.known.named(c.RawIssuer) {
			if !contains(s.served, o) && !yield(o) {
				return
			}
		}
	}
}

// link checks whether issuer may follow the path: the signature, and the
// rules an issuer must keep by itself.
func (s *search) link(path []*certs.Certificate, issuer *certs.Certificate) bool {
	if s.attempts++; s.attempts > maxAttempts || len(path) >= maxDepth {
		if s.attempts == maxAttempts+1 || len(path) >= maxDepth {
			s.fail(ReasonTooMany, path[0], "the material allows more paths than are tried")
		}
		return false
	}
	if f := mayIssue(issuer, path); f != nil {
		s.fail(f.Reason, f.Cert, f.Detail)
		return false
	}
	child := path[len(path)-1]
	if reason, detail := s.b.links.check(issuer, child); reason != "" {
		s.fail(reason, child, detail)
		return false
	}
	return true
}

// accept keeps a path that reached an anchor and keeps the rules of a whole
// path, which need every certificate from the anchor down.
func (s *search) accept(path []*certs.Certificate) {
	if f := wholePath(path); f != nil {
		s.fail(f.Reason, f.Cert, f.Detail)
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
		if string(p.RawSubject) == string(c.RawSubject) &&
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
