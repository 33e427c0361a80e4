package kind

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/names"
	"insegna.example/internal/core/place"
)

// Side is a configuration before or after edits.
type Side struct {
	Reading *Reading
	Answers Answers // of that reading
}

// Change is what somebody else than the names an installation is for would get
// differently.
type Change struct {
	Who    string // the host asked for, UnknownHost or NoHost
	At     string // the listener, as people write it
	Before string // what they get
	After  string // what they would get
}

// String tells the change in one sentence.
func (c *Change) String() string {
	return fmt.Sprintf("%s at %s: now %s, then %s", c.Who, c.At, c.Before, c.After)
}

// Visitors without a site of their own.
const (
	UnknownHost = "hosts without a site"
	NoHost      = "visitors who name no host"
)

// unknown is a host no configuration names (RFC 6761 section 6.4).
const unknown = "no-such-site.insegna.invalid"

// Compared is what two sides of an edit are compared for.
type Compared struct {
	Before, After Side
	Edits         *Edits
	Wanted        []Wanted               // sites that were edited, as they stood before
	Own           func(host string) bool // hosts that are to get something else
	Agreed        []string               // those who may be touched, as a Change names them
	Most          int                    // changes to tell

	sites map[place.Place]bool // that were edited, as they stood before
}

// visitor is somebody who asks, for a host or for none.
type visitor struct{ who, host string }

// Touched works out what an edit would change for others than the names it is
// for: at every listener it touches, every host that is configured and not
// covered by the new certificate, a host without a site, and no host at all, over
// TLS and in plain http. An address nothing listened at before touches nobody.
func (c *Compared) Touched() []Change {
	var out []Change
	c.sites = map[place.Place]bool{}
	for _, w := range c.Wanted {
		c.sites[w.Site] = true
	}
	visitors := c.Before.Reading.visitors(c.Own)
	for _, at := range c.endpoints() {
		for _, v := range visitors {
			if len(out) >= c.Most {
				return out
			}
			if change := c.at(v, at); change != nil && !slices.Contains(c.Agreed, v.who) {
				out = append(out, *change)
			}
		}
	}
	return out
}

// visitors are those who ask for other hosts than some: each that is configured, one
// without a site, and none.
func (r *Reading) visitors(own func(host string) bool) []visitor {
	list := []visitor{{UnknownHost, unknown}, {NoHost, ""}}
	met := map[string]bool{}
	for i := range r.Sites {
		for n := range r.Sites[i].Names {
			for _, host := range Hosts(&r.Sites[i].Names[n]) {
				if !met[host] && !own(host) {
					list = append(list, visitor{host, host})
				}
				met[host] = true
			}
		}
	}
	return list
}

// Hosts are host names a name stands for: itself, and one made up for a
// wildcard.
func Hosts(n *Name) []string {
	var out []string
	for _, covered := range n.Covers {
		if rest, wild := strings.CutPrefix(covered, "*."); wild {
			covered = "any-name." + rest
		}
		if host, err := names.Host(covered); err == nil {
			out = append(out, host)
		}
	}
	return out
}

// endpoints are addresses to ask at: one for each listener that an edited site
// is at before or after.
func (c *Compared) endpoints() []netip.AddrPort {
	fresh := map[place.Place]bool{} // what stands after the edits, and is edited or was not there
	for i := range c.After.Reading.Sites {
		fresh[c.After.Reading.Sites[i].Place] = true
	}
	for i := range c.Before.Reading.Sites {
		if at := c.Before.Reading.Sites[i].Place; !c.sites[at] {
			delete(fresh, c.Edits.Site(at))
		}
	}
	var out []netip.AddrPort
	for _, side := range []struct {
		*Reading
		mine map[place.Place]bool
	}{{c.Before.Reading, c.sites}, {c.After.Reading, fresh}} {
		for i := range side.Listeners {
			l := &side.Listeners[i]
			if !l.Network() || !slices.ContainsFunc(l.Sites, func(s int) bool { return side.mine[side.Sites[s].Place] }) {
				continue
			}
			for _, at := range l.samples(c.Before.Reading, c.After.Reading) {
				if !slices.Contains(out, at) {
					out = append(out, at)
				}
			}
		}
	}
	return out
}

// samples are addresses whose connections come to a listener: its own, or one
// made up (RFC 5737, RFC 3849) and every closer one of its port for a listener
// at all of them.
func (l *Listener) samples(readings ...*Reading) []netip.AddrPort {
	if !l.Address.Addr().IsUnspecified() {
		return []netip.AddrPort{l.Address}
	}
	var out []netip.AddrPort
	for _, text := range []string{"192.0.2.1", "2001:db8::1"} {
		if at := netip.AddrPortFrom(netip.MustParseAddr(text), l.Address.Port()); l.Takes(at) {
			out = append(out, at)
		}
	}
	for _, r := range readings {
		for i := range r.Listeners {
			if o := &r.Listeners[i]; o.Network() && !o.Address.Addr().IsUnspecified() && l.Takes(o.Address) {
				out = append(out, o.Address)
			}
		}
	}
	return out
}

// at compares what one visitor gets at an address before and after.
func (c *Compared) at(v visitor, at netip.AddrPort) *Change {
	was, is := c.Before.Answers.Answer(v.host, at), c.After.Answers.Answer(v.host, at)
	if was.Listener == nil || was.Unsure && is.Unsure {
		return nil
	}
	var before, after string
	if was.Listener.TLS {
		before, after = c.tls(v, &was, &is)
	} else {
		before, after = c.plain(v, at, &was, &is)
	}
	if before == after {
		return nil
	}
	return &Change{Who: v.who, At: was.Listener.String(), Before: before, After: after}
}

// edited says whether a site, as it stood before, is one of those edited.
func (c *Compared) edited(s *Site) bool {
	return s != nil && c.sites[s.Place]
}

// tls gives in words what certificate and site a visitor gets over TLS before
// and after; the same words where nothing changes. A site whose own certificate
// is exchanged goes on showing its own, unless a host that was covered no longer
// is.
func (c *Compared) tls(v visitor, was, is *Answer) (before, after string) {
	if is.Listener == nil || !is.Listener.TLS {
		return "TLS", "none"
	}
	before, after = c.site(was.Site, false), c.site(is.Site, true)
	if before != after || c.edited(was.Shown) && is.Shown != nil && is.Shown.Place == c.Edits.Site(was.Shown.Place) &&
		!c.covered(was, v.host) {
		return before, after
	}
	return before + " with " + c.shown(was, false), after + " with " + c.shown(is, true)
}

// covered says whether a certificate that is configured covers a host.
func (c *Compared) covered(a *Answer, host string) bool {
	if host == "" || host == unknown {
		return false
	}
	for _, p := range a.Pairs {
		m := c.Before.Reading.Material[p.Certificate]
		if m == nil || len(m.Chain) == 0 {
			continue
		}
		if leaf, err := certs.Parse(c.Before.Reading.Certificates[m.Chain[0]]); err == nil &&
			names.Covers(leaf, host).Covered {
			return true
		}
	}
	return false
}

// shown names the certificates a visitor gets.
func (c *Compared) shown(a *Answer, after bool) string {
	if a.Shown == nil || a.Shown.Refuses {
		return "no certificate, the handshake is refused"
	}
	var list []string
	for _, p := range a.Pairs {
		if after && c.Edits.Loaded(p.Certificate) {
			list = append(list, "that comes to "+p.Certificate)
			continue
		}
		list = append(list, p.Certificate)
	}
	if len(list) == 0 {
		return "no certificate"
	}
	return "the certificate " + strings.Join(list, " and ")
}

// site names a site by where it stands after the edits, so that one that moved
// down its file is the same.
func (c *Compared) site(s *Site, after bool) string {
	switch {
	case s == nil:
		return "no site"
	case after:
		return "the site " + s.Place.String()
	}
	return "the site " + c.Edits.Site(s.Place).String()
}

// plain gives in words what a visitor gets in plain http before and after.
func (c *Compared) plain(v visitor, at netip.AddrPort, was, is *Answer) (before, after string) {
	if is.Listener == nil || is.Listener.TLS {
		return "plain http", "none"
	}
	before, after = c.site(was.Site, false), c.site(is.Site, true)
	if before == after && !c.edited(was.Site) || was.Site == nil || was.Site.Protocol != HTTP {
		return before, after
	}
	for _, p := range Ways {
		a, known := c.Before.Answers.Plain(v.host, at, p)
		b, still := c.After.Answers.Plain(v.host, at, p)
		if one, other := a.words(known), b.words(still); one != other {
			return p + " " + one, p + " " + other
		}
	}
	return before, after
}

// words say what a step does, without where it is written.
func (s *Step) words(known bool) string {
	if !known {
		return "is not answered"
	}
	out := string(s.Handling)
	if s.Status != 0 {
		out = fmt.Sprintf("%s %d", out, s.Status)
	}
	return strings.TrimSpace(out + " " + s.To)
}
