package check

import (
	"crypto/sha256"
	"net/netip"
	"slices"
	"time"

	"github.com/maypok86/otter/v2"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
	"insegna.example/internal/core/trust"
)

// Target is what was looked at and what is wanted there.
type Target struct {
	Host      string         // "" for the look without SNI
	Endpoint  netip.AddrPort // where the look goes
	Server    string         // as the estate names it
	Wanted    estate.Wanted  // by the estate file
	Audiences []string       // of the host; none for the estate's first
}

// Around is what is known of the other looks at the same endpoint.
type Around struct {
	Default    certs.Fingerprint   // leaf served without SNI; zero when unknown
	Hosts      []string            // hosts wanted there
	Configured *binding.Configured // what the server's own configuration says of the host; nil when it is not read
	// Orphans are the certificates of mandates that were removed
	Orphans map[certs.Fingerprint]Orphan
}

// Orphan is a certificate that nobody renews any more.
type Orphan struct {
	Mandate string    // that did
	Removed time.Time // in UTC
}

// Judgement is everything that can be said of one look.
type Judgement struct {
	Chain    []*certs.Certificate // the served list, leaf first; empty when none came
	Faces    binding.Faces        // how the three agree
	Hurt     bool                 // visitors are hurt now
	Verdict  binding.Verdict      // follows from faces and findings
	Findings []Finding            // worst first
	Views    []View               // one an audience
	Judged   []Speaks             // what could be judged this time; what else is open stays open
}

// Leaf is the certificate served for the name; nil when none came.
func (j *Judgement) Leaf() *certs.Certificate {
	if len(j.Chain) == 0 {
		return nil
	}
	return j.Chain[0]
}

// Has says whether a finding was made.
func (j *Judgement) Has(code Code) bool {
	return slices.ContainsFunc(j.Findings, func(f Finding) bool { return f.Code == code })
}

// View is what one audience makes of the served list.
type View struct {
	Audience *trust.Audience // class of clients
	Result   *chain.Result   // every path, and why the others failed
}

// Subject is what a rule sees.
type Subject struct {
	Target
	At       time.Time            // the moment it is judged for
	Seen     *binding.Observation // what the look brought
	Chain    []*certs.Certificate // as served, leaf first
	Views    []View               // one for each audience
	Around   Around               // what is known beside the look
	Coverage names.Coverage       // of the host by the leaf
	findings []Finding            // so far, worst first at the end
	missing  string               // from the list served, when chain-incomplete was found
	namesake bool                 // another certificate of that name is in the list
	// unreadable are the places in the list served, from 0, of what is no certificate
	unreadable []int
	judge      *Judge // whose memory is used
	apart      bool   // it lies in a file, and nobody sends anything with it
}

// leaf is the first certificate served; rules that need one run only when there
// is one.
func (s *Subject) leaf() *certs.Certificate { return s.Chain[0] }

// add adds a finding with the usual severity of its rule.
func (s *Subject) add(code Code, cause, remedy string, evidence ...Fact) {
	s.addAs(code, RuleOf(code).Severity, cause, remedy, evidence...)
}

// addAs adds a finding with a severity of its own.
func (s *Subject) addAs(code Code, severity Severity, cause, remedy string, evidence ...Fact) {
	s.findings = append(s.findings,
		Finding{Code: code, Severity: severity, Cause: cause, Remedy: remedy, Evidence: evidence})
}

// has says whether a finding was added.
func (s *Subject) has(code Code) bool {
	return slices.ContainsFunc(s.findings, func(f Finding) bool { return f.Code == code })
}

// public says whether a public CA issued the leaf, as far as the audiences
// asked about can tell.
func (s *Subject) public() bool {
	for _, v := range s.Views {
		if v.Audience.Public && len(v.Result.Paths) > 0 {
			return true
		}
	}
	return false
}

// servedLimit is how many certificates of a served list are judged; clients
// give up far earlier.
const servedLimit = 50

// remembered bounds what a Judge keeps of certificates and lists it has met.
const remembered = 4096

// Judge holds the audiences and what was already worked out: certificates
// parsed, lists judged, links checked. Safe for concurrent use.
type Judge struct {
	audiences map[string]*trust.Audience // by name
	// as declared; the first is asked when a target names none
	order   []*trust.Audience
	builder *chain.Builder                                      // of paths
	parsed  *otter.Cache[certs.Fingerprint, *certs.Certificate] // certificates by fingerprint
	results *otter.Cache[resultKey, *chain.Result]              // of path building, for lists met before
}

// resultKey tells results of path building apart: by the whole list served, in
// its order, and the audience.
type resultKey struct {
	list     [sha256.Size]byte // SHA-256 over the whole list
	audience string            // by name
}

// NewJudge makes a judge; the first audience is the one asked when a target
// names none. The roots of every audience count as known: to a client that does
// not have one of them it is a root it does not trust.
func NewJudge(audiences []*trust.Audience, known *chain.Known) *Judge {
	j := &Judge{audiences: map[string]*trust.Audience{}, order: audiences, builder: chain.NewBuilder(known)}
	for _, a := range audiences {
		j.audiences[a.Name] = a
		for _, c := range a.Anchors {
			known.Add(c)
		}
	}
	j.parsed = otter.Must(&otter.Options[certs.Fingerprint, *certs.Certificate]{MaximumSize: remembered})
	j.results = otter.Must(&otter.Options[resultKey, *chain.Result]{MaximumSize: remembered})
	return j
}

// Judge judges one observation, given what is known around it.
func (j *Judge) Judge(t Target, seen *binding.Observation, at time.Time, around Around) *Judgement {
	s := &Subject{Target: t, At: at, Seen: seen, Around: around, judge: j}
	key, err := j.material(s)
	switch {
	case err != nil:
		unreadable(s, err)
	case len(s.Chain) > 0:
		s.Views = j.views(s, key)
		s.Coverage = names.Covers(s.leaf(), t.Host)
	}
	if t.Host != "" {
		for _, rule := range families {
			rule(s)
		}
	}
	Sort(s.findings)
	return s.judgement()
}

// Parse reads a DER certificate, or remembers having read it.
func (j *Judge) Parse(der []byte) (*certs.Certificate, error) {
	f := certs.FingerprintOf(der)
	if c, ok := j.parsed.GetIfPresent(f); ok {
		return c, nil
	}
	c, err := certs.Parse(der)
	if err != nil {
		return nil, err
	}
	j.parsed.Set(f, c)
	return c, nil
}

// material parses the served list and gives the key under which results for
// this very list are remembered.
func (j *Judge) material(s *Subject) (key [sha256.Size]byte, err error) {
	list := s.Seen.Served
	if len(list) > servedLimit {
		list = list[:servedLimit]
	}
	var prints [4 * sha256.Size]byte
	joined := prints[:0]
	for i, der := range list {
		c, err := j.Parse(der)
		if err != nil {
			if i == 0 {
				return key, err
			}
			s.unreadable = append(s.unreadable, i) // a later one only matters if a path needs it
			continue
		}
		s.Chain = append(s.Chain, c)
		joined = append(joined, c.Fingerprint[:]...)
	}
	return sha256.Sum256(joined), nil
}

// views builds the paths for each audience of the host. A host that names none
// is judged for the first of the estate, so that its chain is never left
// unjudged.
func (j *Judge) views(s *Subject, key [sha256.Size]byte) []View {
	views := make([]View, 0, len(s.Audiences))
	for _, name := range s.Audiences {
		if a := j.audiences[name]; a != nil {
			views = append(views, View{a, j.result(s.Chain, key, a)})
		}
	}
	if len(views) == 0 && len(j.order) > 0 {
		views = append(views, View{j.order[0], j.result(s.Chain, key, j.order[0])})
	}
	return views
}

// result builds paths or remembers them.
func (j *Judge) result(list []*certs.Certificate, key [sha256.Size]byte, a *trust.Audience) *chain.Result {
	k := resultKey{key, a.Name}
	if r, ok := j.results.GetIfPresent(k); ok {
		return r
	}
	r := j.builder.Build(list, a)
	j.results.Set(k, r)
	return r
}

// judgement sums the findings up. A configured face that could not be read is
// left out of Judged, so that findings about it neither close nor open.
func (s *Subject) judgement() *Judgement {
	hurt := len(s.findings) > 0 && s.findings[0].Severity == Broken
	faces := binding.Faces{Wanted: binding.Agrees, Configured: s.configuredFace(), Served: s.servedFace()}
	judged := []Speaks{OfServed, OfConfigured}
	if c := s.Around.Configured; c != nil && c.Unknown != "" {
		judged = judged[:1]
	}
	return &Judgement{Judged: judged, Hurt: hurt, Chain: s.Chain, Faces: faces, Verdict: binding.Judge(faces, hurt),
		Findings: s.findings, Views: s.Views}
}

// servedFace compares what is served with what is wanted: the name, a validity
// that is not at its end, and the issuer or certificate where the estate says so.
func (s *Subject) servedFace() binding.Face {
	switch {
	case len(s.Chain) == 0:
		return binding.Missing
	case s.Host == "":
		return binding.Agrees
	case !fit(s, s.leaf()), s.hasAny(With(ServedDiffers)):
		return binding.Differs
	}
	return binding.Agrees
}

// hasAny says whether one of some findings was added.
func (s *Subject) hasAny(codes []Code) bool {
	return slices.ContainsFunc(s.findings, func(f Finding) bool { return slices.Contains(codes, f.Code) })
}

// Ask gives every audience's view of a served list, leaf first; what cannot be
// parsed is left out.
func (j *Judge) Ask(served [][]byte) []View {
	var list []*certs.Certificate
	for _, der := range served {
		if c, err := j.Parse(der); err == nil {
			list = append(list, c)
		}
	}
	if len(list) == 0 {
		return nil
	}
	views := make([]View, 0, len(j.order))
	for _, a := range j.order {
		views = append(views, View{a, j.builder.Build(list, a)})
	}
	return views
}

// Inspect judges certificates that lie in a file, leaf first, as if they were
// served; host may be "" when the names are not in question.
func (j *Judge) Inspect(der [][]byte, host string, at time.Time) *Judgement {
	s := &Subject{Target: Target{Host: host}, At: at, apart: true,
		Seen: &binding.Observation{Outcome: binding.Connected, Served: der}}
	key, err := j.material(s)
	if err != nil {
		unreadable(s, err)
		return s.judgement()
	}
	for _, a := range j.order {
		s.Views = append(s.Views, View{a, j.result(s.Chain, key, a)})
	}
	if s.Coverage = names.Covers(s.leaf(), host); host == "" {
		s.Coverage.Covered = true
	}
	for _, rule := range []func(*Subject){naming, dating, chaining, keying} {
		rule(s)
	}
	Sort(s.findings)
	return s.judgement()
}
