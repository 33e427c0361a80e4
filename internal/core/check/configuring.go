package check

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/core/names"
	"insegna.example/internal/core/place"
)

// configuring sets what the server's own configuration says against what was
// seen. It runs last: where it knows the cause of what others found, it puts
// one finding with file and line in their place.
func configuring(s *Subject) {
	c := s.Around.Configured
	if c == nil || c.Unknown != "" {
		return
	}
	switch {
	case c.Listener == "":
		noListener(s, c)
	case !c.TLS:
		plainListener(s, c)
	case s.has(NothingListens):
		notOpened(s, c)
	case !c.Named && (len(c.Idle) > 0 || !s.Coverage.Covered && len(s.Chain) > 0):
		unnamed(s, c)
	default:
		named(s, c)
	}
}

// drop takes out the findings that another one is the cause of, and gives the
// worst of them; nil when none was there.
func (s *Subject) drop(cause Code) (worst *Finding) {
	rule := RuleOf(cause)
	codes := rule.Stands()
	kept := s.findings[:0:0]
	for _, f := range s.findings {
		if !slices.Contains(codes, f.Code) {
			kept = append(kept, f)
		} else if worst == nil || f.Severity.Rank() < worst.Severity.Rank() {
			worst = &f
		}
	}
	s.findings = kept
	return worst
}

// amend changes a finding that is there already.
func (s *Subject) amend(code Code, source place.Place, cause, remedy string) {
	for i := range s.findings {
		if f := &s.findings[i]; f.Code == code {
			f.Source, f.Cause, f.Remedy = source, cause, remedy
		}
	}
}

// addAt adds a finding with its place in the server's configuration.
func (s *Subject) addAt(source place.Place, code Code, cause, remedy string, evidence ...Fact) {
	s.addAsAt(source, code, RuleOf(code).Severity, cause, remedy, evidence...)
}

// addAsAt adds one with a severity of its own.
func (s *Subject) addAsAt(source place.Place, code Code, severity Severity, cause, remedy string, evidence ...Fact) {
	s.addAs(code, severity, cause, remedy, evidence...)
	s.findings[len(s.findings)-1].Source = source
}

// takeIn is how the server takes its configuration in.
func takeIn(c *binding.Configured) string {
	if c.Test == "" {
		return c.TakeIn
	}
	return c.Test + " && " + c.TakeIn
}

// noListener judges a host for which no listener is configured at its endpoint:
// its site may not be in force, or nothing listens at all, or something nobody
// configured answers.
func noListener(s *Subject, c *binding.Configured) {
	at, w := s.Endpoint.String(), c.Said()
	switch {
	case len(c.Idle) > 0:
		notEnabled(s, c, "nothing listens for it")
	case s.has(NothingListens):
		where, source := "the site that should answer", place.Place{}
		if len(c.Elsewhere) > 0 {
			source = c.Elsewhere[0]
			where = "the site at " + source.String()
		}
		s.amend(NothingListens, source,
			fmt.Sprintf("nothing listens at %s: no %s of %s opens it (%s)", at, w.Listener, s.Server, c.Opens),
			fmt.Sprintf("%s to %s, then %s", w.Open(s.Endpoint, false), where, takeIn(c)))
	case s.Seen.Outcome == binding.Connected:
		s.add(NotConfigured, fmt.Sprintf("%s answers, and no %s of %s opens it (%s)", at, w.Listener, s.Server, c.Opens),
			"find out which program owns the port; if it is this server, its configuration has changed since it was loaded, "+
				"and the next reload closes the port")
	}
}

// plainListener judges a listener configured without TLS. When visitors meet
// TLS all the same, the running server is older than its file.
func plainListener(s *Subject, c *binding.Configured) {
	w := c.Said()
	switch {
	case s.has(PlainHTTP):
		s.amend(PlainHTTP, c.ListenerAt,
			fmt.Sprintf("%s speaks http where TLS is expected: the %s at %s %s", s.Endpoint, w.Listener, c.ListenerAt, w.Plain),
			fmt.Sprintf("%s, then %s", w.TLS, takeIn(c)))
	case s.Seen.Outcome == binding.Connected:
		s.addAt(c.ListenerAt, NotReloaded,
			fmt.Sprintf("the %s at %s %s, and the server still speaks TLS: it has not loaded this configuration", w.Listener,
				c.ListenerAt, w.Plain), w.KeepTLS)
	}
}

// notOpened is a listener that is configured and not there.
func notOpened(s *Subject, c *binding.Configured) {
	cause, remedy := fmt.Sprintf("nothing listens at %s, though %s opens it: the server does not run", s.Endpoint,
		c.ListenerAt), "start the server; before that, "+c.Test
	if !c.Loaded.IsZero() {
		cause = fmt.Sprintf("nothing listens at %s, though %s opens it: the server runs and has not loaded that", s.Endpoint,
			c.ListenerAt)
		remedy = takeIn(c)
	}
	s.amend(NothingListens, c.ListenerAt, cause, remedy)
}

// unnamed is a host no site has the name of, so that the default answers.
func unnamed(s *Subject, c *binding.Configured) {
	if len(c.Idle) > 0 {
		notEnabled(s, c, fmt.Sprintf("%s (%s) answers instead", c.Site, c.SiteAt))
		return
	}
	s.drop(OtherSiteAnswers)
	remedy := fmt.Sprintf("%s, then %s", c.Said().Name(s.Host), takeIn(c))
	if len(c.Elsewhere) > 0 {
		remedy = fmt.Sprintf("the site at %s has this name and listens elsewhere: %s to it, then %s", c.Elsewhere[0],
			c.Said().Open(s.Endpoint, true), takeIn(c))
	}
	s.addAt(c.SiteAt, OtherSiteAnswers,
		fmt.Sprintf("another site answers for %s: %s (%s), because %s", s.Host, c.Site, c.SiteAt, c.Why), remedy,
		Fact{"names in the certificate", namesOf(s)})
}

// notEnabled is a site that was written and not switched on.
func notEnabled(s *Subject, c *binding.Configured, instead string) {
	idle := c.Idle[0]
	severity := Weak
	if len(s.Chain) == 0 || !s.Coverage.Covered {
		severity = Broken
	}
	s.drop(SiteNotEnabled)
	remedy := fmt.Sprintf("%s, then %s", idle.SwitchOn, takeIn(c))
	s.addAsAt(idle.At, SiteNotEnabled, severity,
		fmt.Sprintf("the site for %s is written in %s and not switched on; %s", s.Host, idle.At, instead), remedy)
}

// named is a host whose site answers.
func named(s *Subject, c *binding.Configured) {
	if c.RunTime || len(c.Pairs) == 0 {
		if c.Refuses && s.has(TLSRefused) {
			s.amend(TLSRefused, c.SiteAt,
				fmt.Sprintf("the site at %s refuses every handshake (%s)", c.SiteAt, c.Said().Refuses),
				fmt.Sprintf("add a site for %s", s.Host))
		}
		return
	}
	for i := range c.Pairs {
		onDisk(s, c, &c.Pairs[i])
	}
	if len(s.Chain) == 0 {
		return
	}
	p := c.Pairs[0]
	match := false
	for _, o := range c.Pairs {
		if len(o.Chain) > 0 && o.Chain[0].Fingerprint == s.leaf().Fingerprint {
			p, match = o, true
		}
	}
	switch {
	case match:
		wrongFile(s, c, &p)
		chainOnDisk(s, c, &p)
		pointAt(s, c, &p)
	case len(p.Chain) > 0 && stale(c, &p):
		notReloaded(s, c, &p)
	case len(p.Chain) > 0:
		s.addAt(p.FileAt, ServedFromElsewhere,
			fmt.Sprintf("what is served is not what %s holds, though the server has loaded its configuration since that was "+
				"written", p.File),
			fmt.Sprintf("find out what else answers at %s: another process, or a machine in between", s.Endpoint),
			Fact{"served", s.leaf().Fingerprint.String()}, Fact{"on disk", p.Chain[0].Fingerprint.String()},
			Fact{"loaded", moment(c.Loaded)})
	}
}

// onDisk tells files that will stop the server at its next reload or start.
func onDisk(s *Subject, c *binding.Configured, p *binding.Pair) {
	ahead := "; the server will refuse the next reload or start"
	if p.EachTime {
		ahead = "; handshakes for " + s.Host + " fail"
	}
	if p.Fault != "" && !p.Hidden {
		s.addAt(p.FileAt, CertificateFileBad,
			fmt.Sprintf("the certificate file %s, named at %s, cannot be used: %s%s", p.File, p.FileAt, p.Fault, ahead),
			"put the certificate there or correct that line, then "+c.Test)
	}
	switch {
	case p.KeyFault != "" && !p.KeyHidden:
		s.addAt(p.KeyAt, KeyFileBad,
			fmt.Sprintf("the key file %s, named at %s, cannot be used: %s%s", p.Key, p.KeyAt, p.KeyFault, ahead),
			"put the key there or correct that line, then "+c.Test)
	case p.OtherKey:
		s.addAt(p.KeyAt, KeyOfAnotherCertificate,
			fmt.Sprintf("the key %s, named at %s, belongs to another certificate than %s%s", p.Key, p.KeyAt, p.File, ahead),
			fmt.Sprintf("put the key of that certificate in the place of %s, then %s", p.Key, takeIn(c)))
	}
}

// stale says whether the files may be newer than what the server has loaded.
func stale(c *binding.Configured, p *binding.Pair) bool {
	const slack = 2 * time.Second // moments of processes are known to the second
	return !p.EachTime && (c.Loaded.IsZero() || p.Changed.IsZero() || p.Changed.Add(slack).After(c.Loaded))
}

// moment writes a time as evidence, to the second and in UTC.
func moment(t time.Time) string {
	if t.IsZero() {
		return "not known"
	}
	return t.UTC().Format(time.RFC3339)
}

// notReloaded is a certificate that lies on disk and is not served yet.
func notReloaded(s *Subject, c *binding.Configured, p *binding.Pair) {
	fresh, old := p.Chain[0], s.leaf()
	severity := Due
	cause := fmt.Sprintf("%s holds the certificate of %s, and the server still serves the one of %s: it has not been "+
		"reloaded", p.File,
		fresh.NotBefore.UTC().Format(dayFormat), old.NotBefore.UTC().Format(dayFormat))
	if fit(s, fresh) {
		if worst := s.drop(NotReloaded); worst != nil && worst.Severity == Broken {
			severity = Broken
			cause += "; " + worst.Cause
		}
	}
	remedy := takeIn(c)
	if p.OtherKey {
		remedy = "put the right key in place first, then " + remedy
	}
	s.addAsAt(p.FileAt, NotReloaded, severity, cause, remedy, Fact{"served", old.Fingerprint.String()},
		Fact{"on disk", fresh.Fingerprint.String()},
		Fact{"written", moment(p.Changed)}, Fact{"loaded", moment(c.Loaded)})
}

// fit says whether a certificate is what is wanted at the subject's host now,
// and not about to end. Both faces are held against it.
func fit(s *Subject, c *certs.Certificate) bool {
	return names.Covers(c, s.Host).Covered && !s.At.Before(c.NotBefore) &&
		c.NotAfter.Sub(s.At) >= lifetime.LastMoments(c.NotBefore, c.NotAfter) &&
		(s.Wanted.Issuer == "" || s.Wanted.Issuer == c.IssuerName()) &&
		(s.Wanted.Certificate == "" || s.Wanted.Certificate == c.Fingerprint.String())
}

// wrongFile is a newer certificate that lies beside the one a site names.
func wrongFile(s *Subject, c *binding.Configured, p *binding.Pair) {
	on := p.Chain[0]
	b := c.Beside
	if b == nil || !b.Leaf.NotBefore.After(on.NotBefore) || !fit(s, b.Leaf) || b.Leaf.SelfIssued() ||
		b.Leaf.IssuerName() != on.IssuerName() && s.Wanted.Issuer == "" && !on.SelfIssued() {
		return
	}
	severity := Due
	cause := fmt.Sprintf("%s names %s; the newer certificate for %s, of %s, lies in %s, and no site names that", p.FileAt,
		p.File, s.Host, b.Leaf.NotBefore.UTC().Format(dayFormat), b.File)
	if worst := s.drop(WrongFile); worst != nil {
		severity = worst.Severity
		cause += "; " + worst.Cause
	}
	s.addAsAt(p.FileAt, WrongFile, severity, cause, fmt.Sprintf("name %s and its key there, then %s", b.File, takeIn(c)),
		Fact{"named", on.Fingerprint.String()}, Fact{"beside", b.Leaf.Fingerprint.String()})
}

// chainOnDisk is a file that has lost its intermediates since it was loaded.
func chainOnDisk(s *Subject, c *binding.Configured, p *binding.Pair) {
	if s.has(ChainIncomplete) || sameList(s.Chain, p.Chain) {
		return
	}
	disk := &Subject{Target: s.Target, At: s.At, Seen: s.Seen, Chain: p.Chain, judge: s.judge}
	for _, v := range s.Views {
		disk.Views = append(disk.Views, View{v.Audience, s.judge.builder.Build(p.Chain, v.Audience, s.Chain...)})
	}
	trusted(disk)
	for _, f := range disk.findings {
		if f.Code == ChainIncomplete {
			missing := disk.missing
			s.addAt(p.FileAt, ChainMissingOnDisk,
				fmt.Sprintf("%s, named at %s, has lost %s; the running server still sends what it had, until its next reload",
					p.File, p.FileAt, missing),
				fmt.Sprintf("add %s to %s, after the leaf, then %s", missing, p.File, takeIn(c)), Fact{"sent", subjects(s.Chain)},
				Fact{"on disk", subjects(p.Chain)})
		}
	}
}

// sameList compares what lies in a file with what was served, in order.
func sameList(a, b []*certs.Certificate) bool {
	return slices.EqualFunc(a, b, func(a, b *certs.Certificate) bool { return a.Fingerprint == b.Fingerprint })
}

// pointAt names file and line in the findings about the certificate served.
func pointAt(s *Subject, c *binding.Configured, p *binding.Pair) {
	for i := range s.findings {
		f := &s.findings[i]
		if f.Source.Known() || RuleOf(f.Code).Traits&AboutCertificate == 0 {
			continue
		}
		f.Source = p.FileAt
		if f.Code == ChainIncomplete {
			f.Remedy = s.complete(fmt.Sprintf("%s (named at %s)", p.File, p.FileAt)) + ", then " + takeIn(c)
		}
		if f.Code == IssuerUnknown {
			f.Remedy = strings.Replace(f.Remedy, "to the file", fmt.Sprintf("to %s (named at %s)", p.File, p.FileAt), 1)
		}
		f.Evidence = append(f.Evidence, Fact{"certificate file", p.File})
	}
}

// pairShown is the pair whose certificate was served, of those a site has for
// several kinds of key; the first when none of them was.
func (s *Subject) pairShown(pairs []binding.Pair) *binding.Pair {
	for i, o := range pairs {
		if len(o.Chain) > 0 && len(s.Chain) > 0 && o.Chain[0].Fingerprint == s.leaf().Fingerprint {
			return &pairs[i]
		}
	}
	return &pairs[0]
}

// configuredFace compares what is configured with what is wanted.
func (s *Subject) configuredFace() binding.Face {
	c := s.Around.Configured
	switch {
	case c == nil || c.Unknown != "" || c.RunTime:
		return binding.Unread
	case c.Listener == "" || !c.TLS || c.Refuses || len(c.Pairs) == 0 || !c.Named && len(c.Idle) > 0:
		return binding.Missing
	}
	switch p := s.pairShown(c.Pairs); {
	case p.Hidden:
		return binding.Unread
	case len(p.Chain) == 0 || !c.Named && !names.Covers(p.Chain[0], s.Host).Covered:
		return binding.Missing
	case p.OtherKey || !fit(s, p.Chain[0]) || s.has(WrongFile) || s.has(ChainMissingOnDisk):
		return binding.Differs
	}
	return binding.Agrees
}
