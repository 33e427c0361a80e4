// Package trust holds audiences: classes of clients with the anchors they
// trust. Whether a path to an anchor exists is core/chain's question.
package trust

import "insegna.example/internal/core/certs"

// Audience is a class of clients.
type Audience struct {
	Name string // as the estate has it
	// Public says that the anchors are public CAs, so that the limits for
	// publicly trusted certificates apply to what they issue.
	Public    bool
	Anchors   []*certs.Certificate              // of this class of clients
	bySubject map[certs.DN][]*certs.Certificate // the same, by subject
}

// NewAudience makes an audience; the same anchor given twice counts once.
func NewAudience(name string, public bool, anchors []*certs.Certificate) *Audience {
	a := &Audience{Name: name, Public: public, bySubject: map[certs.DN][]*certs.Certificate{}}
	for _, c := range anchors {
		if !a.Has(c) {
			a.Anchors = append(a.Anchors, c)
			a.bySubject[c.SubjectDN] = append(a.bySubject[c.SubjectDN], c)
		}
	}
	return a
}

// Has says whether a certificate is an anchor of this audience.
func (a *Audience) Has(c *certs.Certificate) bool {
	for _, anchor := range a.bySubject[c.SubjectDN] {
		if anchor.Fingerprint == c.Fingerprint {
			return true
		}
	}
	return false
}

// Named lists the anchors with this subject.
func (a *Audience) Named(subject certs.DN) []*certs.Certificate { return a.bySubject[subject] }
