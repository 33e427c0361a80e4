package chain

import (
	"crypto/x509"
	"fmt"
	"sort"
	"sync"

	"github.com/maypok86/otter/v2"

	"insegna.example/internal/core/certs"
)

// rememberedLinks bounds the memory of links, in entries of about 100 bytes.
const rememberedLinks = 32768

// link is one signature to be checked; the pair of fingerprints decides its
// result for good.
type link struct{ issuer, child certs.Fingerprint }

// links remembers which certificate's key signed which certificate.
type links struct {
	memo *otter.Cache[link, outcome] // nil remembers nothing
}

// outcome is what a signature's check gave, kept because chains of an estate
// share most of their links.
type outcome struct {
	reason Reason // "" when the signature is good
	detail string // what is wrong with the signature
}

// newLinks makes a memory of bounded size: a survey of many endpoints must not
// grow with the certificates strangers serve.
func newLinks() *links {
	return &links{otter.Must(&otter.Options[link, outcome]{MaximumSize: rememberedLinks})}
}

// check says whether issuer's key signed child; reason is "" when it did. Only
// links between CAs are remembered: a leaf's is part of its list's result.
func (l *links) check(issuer, child *certs.Certificate) (Reason, string) {
	if !child.IsCA || l.memo == nil {
		o := signed(issuer, child)
		return o.reason, o.detail
	}
	key := link{issuer.Fingerprint, child.Fingerprint}
	if o, ok := l.memo.GetIfPresent(key); ok {
		return o.reason, o.detail
	}
	o := signed(issuer, child)
	l.memo.Set(key, o)
	return o.reason, o.detail
}

// signed checks one signature. Hashes clients refuse are refused before any
// arithmetic is done.
func signed(issuer, child *certs.Certificate) outcome {
	switch child.SignatureAlgorithm {
	case x509.SHA1WithRSA, x509.ECDSAWithSHA1, x509.DSAWithSHA1, x509.MD5WithRSA, x509.MD2WithRSA:
		return outcome{ReasonWeakSign,
			fmt.Sprintf("is signed with %s, which clients no longer accept", child.SignatureAlgorithm)}
	}
	if issuer.PublicKey == nil {
		return outcome{ReasonSignature, "the issuer's key is of a kind that is not understood"}
	}
	if err := issuer.CheckSignature(child.SignatureAlgorithm, child.RawTBSCertificate, child.Signature); err != nil {
		return outcome{ReasonSignature, "its signature was not made by the key of " + issuer.CommonName() +
			otherKey(issuer, child)}
	}
	return outcome{}
}

// otherKey tells, where both certificates say so, that another certificate of
// the same name is the issuer (RFC 5280 section 4.2.1.1).
func otherKey(issuer, child *certs.Certificate) string {
	if len(child.AuthorityKeyId) == 0 || len(issuer.SubjectKeyId) == 0 ||
		string(child.AuthorityKeyId) == string(issuer.SubjectKeyId) {
		return ""
	}
	return fmt.Sprintf(": another certificate of that name issued it (key identifier %X, not %X)",
		clipped(child.AuthorityKeyId), clipped(issuer.SubjectKeyId))
}

// clipped bounds what is shown of a key identifier; 20 octets are usual.
func clipped(id []byte) []byte { return id[:min(len(id), 20)] }

// Known is the set of intermediates the operator declared. What other servers
// send is not among them: a verdict must not depend on what was met before.
// Safe for concurrent use.
type Known struct {
	mu        sync.RWMutex                      // guards the map
	bySubject map[certs.DN][]*certs.Certificate // by subject
	count     int                               // of certificates, of maxKnown
}

// maxKnown and maxSameSubject bound what a search may have to go through.
const (
	maxKnown       = 20000
	maxSameSubject = 16
)

// NewKnown makes a set with these certificates.
func NewKnown(list ...*certs.Certificate) *Known {
	k := &Known{bySubject: map[certs.DN][]*certs.Certificate{}}
	for _, c := range list {
		k.Add(c)
	}
	return k
}

// Add takes a CA certificate into the set; anything else is passed over.
func (k *Known) Add(c *certs.Certificate) {
	if !c.IsCA || k.has(c) {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	same := k.bySubject[c.SubjectDN]
	if k.count < maxKnown && len(same) < maxSameSubject && !contains(same, c) {
		k.bySubject[c.SubjectDN] = append(same[:len(same):len(same)], c)
		k.count++
	}
}

// has says whether a certificate is among those known already.
func (k *Known) has(c *certs.Certificate) bool { return contains(k.named(c.SubjectDN), c) }

// named gives the known certificates with a subject.
func (k *Known) named(subject certs.DN) []*certs.Certificate {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.bySubject[subject]
}

// prefer sorts the paths: served ones first, then the longer lasting, then
// the shorter.
func (s *search) prefer() {
	sort.SliceStable(s.result.Paths, func(i, j int) bool {
		a, b := s.result.Paths[i], s.result.Paths[j]
		if a.Served != b.Served {
			return a.Served
		}
		if !a.Until.Equal(b.Until) {
			return a.Until.After(b.Until)
		}
		return len(a.Certs) < len(b.Certs)
	})
}
