package check

import (
	"fmt"
	"net/netip"
	"time"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/core/place"
)

// wanting compares what is served with what the estate wants beyond the name.
func wanting(s *Subject) {
	if len(s.Chain) == 0 || s.has(OtherSiteAnswers) {
		return
	}
	c := s.leaf()
	if want := s.Wanted.Certificate; want != "" && want != c.Fingerprint.String() {
		s.add(OtherCertificate, "another certificate is served than the estate wants",
			"install the wanted certificate, or change the estate file",
			Fact{"wanted", want}, Fact{"served", c.Fingerprint.String()})
	}
	if want := s.Wanted.Issuer; want != "" && want != c.IssuerName() {
		s.add(OtherIssuer, fmt.Sprintf("the certificate comes from %s, wanted is %s", c.IssuerName(), want),
			"order it from the wanted CA, or change the estate file",
			Fact{"wanted issuer", want}, Fact{"served issuer", c.IssuerName()})
	}
	if o, orphaned := s.Around.Orphans[c.Fingerprint]; orphaned {
		s.add(NotRenewed,
			fmt.Sprintf("the mandate %s, which renewed the certificate, was removed on %s: nobody renews it before "+
				"it ends on %s", o.Mandate, o.Removed.UTC().Format(dayFormat), c.NotAfter.UTC().Format(dayFormat)),
			"make a mandate for these names again, or install a certificate that somebody renews", Fact{"mandate", o.Mandate})
	}
}

// Sibling is what one endpoint of a host serves.
type Sibling struct {
	Endpoint netip.AddrPort    // one of a host's endpoints
	Server   string            // as the estate names it
	Leaf     certs.Fingerprint // served there
	Begins   time.Time         // of its validity
	Ends     time.Time         // of its validity

	Configured *binding.Configured // nil when it is not read
}

// name tells one endpoint from the others: a server may have several.
func (s *Sibling) name() string {
	if at := s.Endpoint.String(); s.Server != at {
		return s.Server + " (" + at + ")"
	}
	return s.Server
}

// Siblings compares the endpoints of one host that serve certificates for it
// and gives, by index, a finding for each that serves an older one than the
// newest: a rotation under way is a note for as long as the older one is not
// due. Endpoints that serve no certificate for the host are left out by the
// caller; they have findings of their own.
func Siblings(host string, list []Sibling, at time.Time) map[int]Finding {
	newest := 0
	for i, s := range list {
		if s.Begins.After(list[newest].Begins) && !s.Begins.After(at) {
			newest = i
		}
	}
	out := map[int]Finding{}
	for i := range list {
		s, n := &list[i], &list[newest]
		if s.Leaf == n.Leaf || !s.Begins.Before(n.Begins) {
			continue
		}
		where, source, then := "on "+s.Server, place.Place{}, "reload it"
		if c := s.Configured; c != nil && c.Unknown == "" && len(c.Pairs) > 0 {
			where, source, then = fmt.Sprintf("as %s (named at %s) on %s", c.Pairs[0].File, c.Pairs[0].FileAt, s.Server),
				c.Pairs[0].FileAt, takeIn(c)
		}
		severity, when := Note, "before "+s.Ends.UTC().Format(dayFormat)
		switch left := s.Ends.Sub(at); {
		case left < 0:
			severity, when = Due, "now: the older one ended on "+s.Ends.UTC().Format(dayFormat)
		case left < lifetime.DueWindow(s.Begins, s.Ends):
			severity = Due
		}
		out[i] = Finding{
			Code: DiffersFromSiblings, Severity: severity, Source: source,
			Cause: fmt.Sprintf("%s serves the certificate of %s for %s; its sibling %s serves the one of %s",
				s.name(), s.Begins.UTC().Format(dayFormat), host, n.name(), n.Begins.UTC().Format(dayFormat)),
			Remedy: fmt.Sprintf("install the newer certificate %s, then %s, %s", where, then, when),
			Evidence: []Fact{{"served here", s.Leaf.String()}, {"served by " + n.name(), n.Leaf.String()},
				{"ends here", moment(s.Ends)}},
		}
	}
	return out
}
