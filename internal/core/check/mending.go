package check

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/core/names"
	"insegna.example/internal/core/trust"
)

// Means is how a finding mends itself: what has to be done on the server it was
// made at.
type Means string

// The means.
const (
	ByReload   Means = "reload"   // the server takes in what lies there
	BySwitch   Means = "switch"   // a site that is written is put in force
	ByList     Means = "list"     // the list of certificates is written anew
	ByName     Means = "name"     // another certificate that lies there is named
	ByKey      Means = "key"      // the key that fits, and lies there, is named
	ByMode     Means = "mode"     // a file is closed to others
	BySettings Means = "settings" // versions and suites of TLS are set
	ByStapling Means = "stapling" // the CA's answer is sent along
	ByLead     Means = "lead"     // visitors of plain http are led to https
	ByPath     Means = "path"     // the path a CA asks for is freed
	ByOpening  Means = "opening"  // the site that has the name listens there too
	ByPledge   Means = "pledge"   // browsers are told to come over TLS alone
	ByTaking   Means = "taking"   // the host is taken into the estate
	BySibling  Means = "sibling"  // the certificate comes from a server that has it
	ByRenewal  Means = "renewal"  // a new certificate is installed
)

// meansSaid says in words what each does, on which kinds of server.
var meansSaid = map[Means]string{
	ByReload:   "the server is reloaded",
	BySwitch:   "the site is linked into force",
	ByList:     "the corrected list is written into the file",
	ByName:     "the certificate that lies there, and its key, are named",
	ByKey:      "the key that fits, and lies there, is named",
	ByMode:     "the file is closed to others, and given to whom the other keys belong",
	BySettings: "versions and suites are set as BCP 195 has them",
	ByStapling: "stapling is switched on where the server asks the CA itself, and its answer is seen",
	ByLead:     "visitors of plain http are led to https, but for what a CA asks for",
	ByPath:     "what a CA asks for is served before all other rules",
	ByOpening:  "the site that has the name comes to listen there too",
	ByPledge:   "browsers are told to come over TLS alone",
	ByTaking:   "the host is taken into the estate, when that is said of it",
	BySibling:  "certificate and key are taken from a server that has them",
	ByRenewal:  "a certificate that fits is installed: one that lies there, a sibling's, or a mandate's",
}

// String says what is done, without a full stop.
func (m Means) String() string { return meansSaid[m] }

// mendedByFit are the rules that a certificate mends which lies on the server and fits as
// Fit has it.
var mendedByFit = []Code{NameNotCovered, Expired, EndsSoon, SelfSigned, ChainUntrusted, IssuerNoCA, IssuerMayNotSign,
	PathLength, NameConstraint, NotForServers, SignatureWeak, CriticalExtension, PolicyMissing, OtherIssuer, OtherCertificate}

// Before gives what is tried on the server before a certificate is sought elsewhere for a
// finding that needs one: one that lies there, or a site that has the name. "" for nothing.
func (c Code) Before() Means {
	switch {
	case slices.Contains(mendedByFit, c):
		return ByName
	case c == OtherSiteAnswers:
		return ByOpening
	}
	return ""
}

// OnServer says whether it is a change of the server alone, with what lies there
// or is known.
func (m Means) OnServer() bool { return m != "" && m != BySibling && m != ByRenewal && m != ByTaking }

// Mending says in one sentence, without a full stop, how findings of a rule mend
// themselves, or why a person has to.
func (r *Rule) Mending() string {
	if r.Mends != "" {
		if first := r.Code.Before(); first == ByOpening {
			return "yes: " + first.String() + "; where none has, " + r.Mends.String()
		}
		return "yes: " + r.Mends.String()
	}
	return "no: " + r.Person
}

// NoListError says that no list of certificates can be put together.
type NoListError struct {
	Leaf *certs.Certificate // it would begin with
	Why  string             // by the first audience
}

// Error names the certificate.
func (e *NoListError) Error() string {
	return "no path from " + e.Leaf.CommonName() + " to a root of these clients is known: " + e.Why
}

// List puts the list together that a server is to send for a certificate (RFC 8446
// section 4.4.2): the leaf, then each issuer behind the one it certifies, for every
// audience in turn, without roots, duplicates and strays. What is needed comes out
// of the list there is, of what lies beside it and of what is known. A *NoListError
// says that an audience has no path.
func (j *Judge) List(audiences []string, list, beside []*certs.Certificate, at time.Time) ([]*certs.Certificate,
	error) {
	var asked []*trust.Audience
	for _, name := range audiences {
		if a := j.audiences[name]; a != nil {
			asked = append(asked, a)
		}
	}
	if len(asked) == 0 && len(j.order) > 0 {
		asked = j.order[:1]
	}
	out := []*certs.Certificate{list[0]}
	for _, a := range asked {
		r := j.builder.Build(list, a, beside...)
		best := r.Best(at)
		if best == nil {
			why := "nothing was found to start from"
			if failures := r.Why(at); len(failures) > 0 {
				why = firstFailure(failures)
			}
			return nil, &NoListError{list[0], why}
		}
		for _, c := range best.Certs[1:] {
			if !a.Has(c) && !slices.ContainsFunc(out, func(o *certs.Certificate) bool { return o.Fingerprint == c.Fingerprint }) {
				out = append(out, c)
			}
		}
	}
	return out, nil
}

// Fit says why a list, leaf first, is not what visitors of a host need now: its names,
// its dates, what the estate wants, and the way to a root of each audience. nil when it
// is.
func (j *Judge) Fit(t Target, list, beside []*certs.Certificate, at time.Time) error {
	leaf := list[0]
	const day = "2 January 2006"
	switch {
	case t.Host != "" && !names.Covers(leaf, t.Host).Covered:
		return fmt.Errorf("it is not for %s", t.Host)
	case at.Before(leaf.NotBefore):
		return fmt.Errorf("it begins on %s", leaf.NotBefore.UTC().Format(day))
	case leaf.NotAfter.Sub(at) < lifetime.LastMoments(leaf.NotBefore, leaf.NotAfter):
		return fmt.Errorf("it ends on %s", leaf.NotAfter.UTC().Format(day))
	case t.Wanted.Issuer != "" && t.Wanted.Issuer != leaf.IssuerName():
		return fmt.Errorf("it comes from %s, and the estate wants %s", leaf.IssuerName(), t.Wanted.Issuer)
	case t.Wanted.Certificate != "" && t.Wanted.Certificate != leaf.Fingerprint.String():
		return errors.New("the estate wants another one")
	}
	_, err := j.List(t.Audiences, list, beside, at)
	return err
}
