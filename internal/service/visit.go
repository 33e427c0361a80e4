package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/core/names"
	"insegna.example/internal/kind"
	"insegna.example/internal/look"
)

// VisitRequest says whom to visit and as whom.
type VisitRequest struct {
	Host      string           // as names.Host gives it
	Endpoints []netip.AddrPort // to visit; none asks DNS
	Found     string           // where the addresses come from, in words
	Astray    string           // what is wrong with how they were found
	Wanted    estate.Wanted    // by the estate, if it knows the host
	Audiences []string         // to judge trust for
	Judge     *check.Judge     // with the anchors of these
	Looker    *look.Looker     // with its limits
	Plain     uint16           // port of plain http; 0 for no look there
	Estate    *estate.Estate   // says which server answers there, so that what stands behind is visited too; nil for not
	Kinds     kind.Registry    // of its servers
}

// VisitStep is one step of a visit: what was seen, what was expected, what to do.
type VisitStep struct {
	// "dns", "http", "tls", "certificate", "chain", "trust", "https", "behind" or "addresses"
	Step     string `json:"step"`
	Endpoint string `json:"endpoint,omitempty"` // "" for a step before one is known
	Fine     bool   `json:"fine"`               // nothing to do
	Seen     string `json:"seen"`               // what was met
	Expected string `json:"expected,omitempty"` // what was wanted, where it differs
	Do       string `json:"do,omitempty"`       // the next step
}

// VisitReport is the walk a visitor takes to one name, at every address.
type VisitReport struct {
	Host     string          `json:"host"`  // visited
	At       time.Time       `json:"at"`    // in UTC
	Steps    []VisitStep     `json:"steps"` // in the order a visitor takes them
	Findings []check.Finding `json:"-"`     // behind the steps
}

// Visit looks at every endpoint of a host and reports step by step.
func Visit(ctx context.Context, r VisitRequest) (*VisitReport, error) {
	report := &VisitReport{Host: r.Host, At: time.Now().UTC()}
	var siblings []check.Sibling
	list := make([]string, len(r.Endpoints))
	for i, e := range r.Endpoints {
		list[i] = e.Addr().String()
	}
	slices.Sort(list)
	dns := VisitStep{Step: "dns", Fine: r.Astray == "",
		Seen: strings.Join(slices.Compact(list), ", ") + " (" + r.Found + ")"}
	if !dns.Fine {
		dns.Seen, dns.Do = r.Astray+"; visited is "+dns.Seen, "add A and AAAA records for "+r.Host
	}
	report.Steps = append(report.Steps, dns)
	report.plain(ctx, &r)
	for _, e := range r.Endpoints {
		seen := r.Looker.Look(ctx, e, r.Host)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		target := check.Target{Host: r.Host, Endpoint: e, Server: e.String(), Wanted: r.Wanted, Audiences: r.Audiences}
		j := r.Judge.Judge(target, seen, report.At, check.Around{})
		report.add(e, seen, j, r.Host)
		if j.Leaf() != nil {
			report.answer(ctx, &r, e)
		}
		if r.Estate != nil {
			report.behind(ctx, &r, e)
		}
		if leaf := j.Leaf(); leaf != nil && names.Covers(leaf, r.Host).Covered {
			siblings = append(siblings,
				check.Sibling{Endpoint: e, Server: e.String(), Leaf: leaf.Fingerprint, Begins: leaf.NotBefore, Ends: leaf.NotAfter})
		}
	}
	report.compare(siblings)
	return report, nil
}

// plain adds what each address does with plain http: a permanent redirect to
// https is expected, that keeps host, path and query.
func (v *VisitReport) plain(ctx context.Context, r *VisitRequest) {
	met := map[netip.Addr]bool{}
	for _, e := range r.Endpoints {
		if r.Plain == 0 || met[e.Addr()] {
			continue
		}
		met[e.Addr()] = true
		at := netip.AddrPortFrom(e.Addr(), r.Plain)
		s := VisitStep{Step: "http", Endpoint: at.String(),
			Expected: "a permanent redirect to https that keeps host, path and query"}
		got, err := r.Looker.Ask(ctx, at, "http", r.Host, check.Kept)
		switch {
		case errors.Is(err, look.ErrNobody):
			s.Fine, s.Seen = true, "nothing listens; visitors have to type https"
		case err != nil:
			s.Seen, s.Do = "no answer: "+err.Error(), "read the server's error log for this port"
			if timeout := net.Error(nil); errors.As(err, &timeout) && timeout.Timeout() {
				s.Do = "see the firewall, and whether the process behind the port is alive: visitors wait for nothing"
			}
		default:
			s.Seen = fmt.Sprintf("status %d", got.Status)
			if got.Location != "" {
				s.Seen += " to " + got.Location
			}
			_, s.Do = check.Led(r.Host, got.Status, got.Location)
			s.Fine = s.Do == ""
		}
		v.Steps = append(v.Steps, s)
	}
}

// answer adds what the site behind the handshake answers.
func (v *VisitReport) answer(ctx context.Context, r *VisitRequest, e netip.AddrPort) {
	s := VisitStep{Step: "https", Endpoint: e.String(), Expected: "an answer of the site"}
	got, err := r.Looker.Ask(ctx, e, "https", r.Host, "/")
	switch {
	case err != nil:
		s.Seen, s.Do = "no answer behind the handshake: "+err.Error(), "read the server's error log"
	default:
		s.Seen = fmt.Sprintf("status %d", got.Status)
		if got.Location != "" {
			s.Seen += " to " + got.Location
		}
		if got.HSTS != "" {
			s.Seen += ", HSTS " + got.HSTS
		} else if got.Status < 400 { // offered, and nothing that is wrong
			s.Seen += ", without HSTS (insegna host strict has it)"
		}
		s.Do = answerFault(got, r.Host, e.Port())
		s.Fine = s.Do == ""
	}
	v.Steps = append(v.Steps, s)
}

// answerFault says what to do about an answer of an https page; "" when it is
// as it should be. It was asked for "/".
func answerFault(a *look.Answer, host string, port uint16) string {
	to, err := url.Parse(a.Location)
	moved := a.Status >= 300 && a.Status <= 399 && a.Location != ""
	switch {
	case a.Status >= 500:
		return "the last hop fails: see what the server passes requests on to"
	case moved && err != nil:
		return "send a Location that is a URL"
	case moved && strings.EqualFold(to.Scheme, "http"):
		return "redirect to https: visitors are sent back to plain http, and may go round in circles"
	case moved && to.RequestURI() == "/" && to.Fragment == "" && (to.Host == "" ||
		strings.EqualFold(to.Hostname(), host) && cmp.Or(to.Port(), "443") == fmt.Sprint(port)):
		return "serve the page: it redirects to itself"
	}
	return ""
}

// behind adds what stands behind the site that answers, looked at from there.
func (v *VisitReport) behind(ctx context.Context, r *VisitRequest, e netip.AddrPort) {
	server, list, err := behindNow(ctx, r.Kinds, r.Estate, r.Host, e)
	if err != nil {
		v.Steps = append(v.Steps, VisitStep{Step: "behind", Endpoint: e.String(), Fine: true,
			Seen: "not known, for " + server + " was not read: " + err.Error()})
		return
	}
	const most = 20
	for i := range list[:min(len(list), most)] {
		h := &list[i]
		s := VisitStep{Step: "behind", Endpoint: e.String(), Fine: true, Expected: "what " + server + " takes at " + h.At.String()}
		switch {
		case h.Fault != "":
			s.Fine, s.Seen, s.Do = false, check.HopAt(h)+": "+h.Why, check.HopRemedy(h, &binding.Configured{})
		case h.Unknown != "":
			s.Seen = check.HopAt(h) + " is not known: " + h.Unknown
		case h.Unseen != "":
			s.Fine, s.Seen = false, check.HopAt(h)+": "+h.Unseen+", and "+server+" does not look at that"
			s.Do = check.HopRemedy(h, &binding.Configured{})
		case h.Shown != "":
			s.Seen = check.HopAt(h) + " shows " + h.Shown
		default:
			s.Seen = check.HopAt(h) + " takes connections, without TLS"
		}
		v.Steps = append(v.Steps, s)
	}
}

// compare adds a step when the addresses of the host do not serve the same.
func (v *VisitReport) compare(siblings []check.Sibling) {
	if len(siblings) < 2 {
		return
	}
	s := VisitStep{Step: "addresses", Fine: true, Seen: "all serve the same certificate",
		Expected: "the same certificate at every address"}
	for _, d := range siblings[1:] {
		if d.Leaf != siblings[0].Leaf {
			s.Seen = "different certificates, none older than another"
		}
	}
	differing := check.Siblings(v.Host, siblings, v.At)
	for i := range siblings {
		f, differs := differing[i]
		if !differs {
			continue
		}
		if s.Do == "" {
			s.Seen = ""
		} else {
			s.Seen, s.Do = s.Seen+"; ", s.Do+"; "
		}
		s.Fine = s.Fine && f.Severity == check.Note
		s.Seen, s.Do = s.Seen+f.Cause, s.Do+f.Remedy
		v.Findings = append(v.Findings, f)
	}
	v.Steps = append(v.Steps, s)
}

// add appends the steps of one endpoint, up to the one where it ends.
func (v *VisitReport) add(e netip.AddrPort, o *binding.Observation, j *check.Judgement, host string) {
	v.Findings = append(v.Findings, j.Findings...)
	tls := VisitStep{Step: "tls", Endpoint: e.String(), Fine: o.Outcome == binding.Connected, Seen: spokenWith(o),
		Expected: "a TLS 1.2 or 1.3 handshake"}
	leaf := j.Leaf()
	if leaf == nil {
		v.step(tls, j.Findings, nil)
		return
	}
	v.step(tls, j.Findings, check.At(check.StepTLS))
	v.step(VisitStep{Step: "certificate", Endpoint: e.String(), Fine: true, Seen: described(leaf, v.At),
		Expected: "a certificate for " + host + " within its dates"}, j.Findings,
		check.At(check.StepLeaf))
	v.step(VisitStep{Step: "chain", Endpoint: e.String(), Fine: true, Seen: sentList(j.Chain),
		Expected: "leaf, then each issuer, without the root"}, j.Findings,
		check.At(check.StepList))
	for _, view := range j.Views {
		s := VisitStep{Step: "trust", Endpoint: e.String(), Fine: true, Expected: "a path to a root of " + view.Audience.Name}
		if best := view.Result.Best(v.At); best != nil {
			s.Seen = "trusted by " + view.Audience.Name + " through " + best.Certs[len(best.Certs)-1].CommonName()
		} else {
			s.Seen = "not trusted by " + view.Audience.Name
		}
		v.step(s, j.Findings, check.At(check.StepTrust))
	}
}

// step adds a step, marked by the findings that belong to it: those of some
// codes, or all.
func (v *VisitReport) step(s VisitStep, findings []check.Finding, codes []check.Code) {
	for _, f := range findings {
		if codes != nil && !slices.Contains(codes, f.Code) {
			continue
		}
		s.Fine = s.Fine && f.Severity == check.Note
		s.Seen += "; " + f.Cause
		if s.Do != "" {
			s.Do += "; "
		}
		s.Do += f.Remedy
	}
	v.Steps = append(v.Steps, s)
}

// spokenWith tells version, key exchange and protocol.
func spokenWith(o *binding.Observation) string {
	if o.Outcome != binding.Connected {
		return string(o.Outcome)
	}
	text := binding.VersionName(o.Version)
	if g := binding.GroupName(o.Group); g != "" {
		text += ", key exchange " + g
	}
	if o.ALPN != "" {
		text += ", " + o.ALPN
	}
	return text
}

// described tells a certificate in one line.
func described(c *certs.Certificate, at time.Time) string {
	list := c.Names()
	shown := strings.Join(list[:min(len(list), 4)], ", ")
	if len(list) > 4 {
		shown += fmt.Sprintf(" and %d more", len(list)-4)
	}
	return fmt.Sprintf("%s, from %s, %s, %d days left", shown, c.IssuerName(), c.Key(), lifetime.DaysLeft(c.NotAfter, at))
}

// sentList names what was sent, in order.
func sentList(list []*certs.Certificate) string {
	out := make([]string, len(list))
	for i, c := range list {
		out[i] = c.CommonName()
	}
	return strings.Join(out, " → ")
}

// ParseVisit reads NAME or NAME:PORT; IPv6 addresses with a port are in brackets.
func ParseVisit(text string) (host string, _ uint16, err error) {
	name, port := text, uint16(443)
	if i := strings.LastIndexByte(text, ':'); i >= 0 && !strings.Contains(text[:i], ":") ||
		strings.HasPrefix(text, "[") && strings.Contains(text, "]:") {
		i := strings.LastIndexByte(text, ':')
		var p int
		if _, err := fmt.Sscanf(text[i+1:], "%d", &p); err != nil || p < 1 || p > 65535 || fmt.Sprint(p) != text[i+1:] {
			return "", 0, fmt.Errorf("%q has no good port; expected NAME or NAME:PORT with a port from 1 to 65535", text)
		}
		name, port = text[:i], uint16(p)
	}
	host, err = names.Host(name)
	return host, port, err
}
