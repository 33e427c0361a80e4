package haproxy

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/source"
)

// followsLimit bounds how often one listener may pass TLS on to another.
const followsLimit = 4

// Index answers which certificate is shown for a name, for one reading.
type Index struct {
	reading *kind.Reading
	tables  map[kind.Place]*table // one a bind line
	ports   map[uint16][]int      // listeners by port
	sites   map[kind.Place]int
	keys    *source.Keys

	parsed sync.Once // of what follows, which only requests need
	tree   *tree
}

// table is what names are looked up in, for one bind line.
type table struct {
	exact, wild map[string][]hit // the wildcards without their star
}

// hit is a certificate that is loaded for a name.
type hit struct {
	site int
	pair int // of the site's
	name *kind.Name
}

// NewIndex prepares the answers of a reading.
func NewIndex(r *kind.Reading) *Index {
	x := &Index{reading: r, tables: map[kind.Place]*table{}, ports: map[uint16][]int{}, sites: map[kind.Place]int{},
		keys: source.NewKeys(r)}
	for i := range r.Listeners {
		l := &r.Listeners[i]
		if l.TLS && x.tables[l.Place] == nil {
			x.tables[l.Place] = tableOf(r, l)
		}
		x.ports[l.Address.Port()] = append(x.ports[l.Address.Port()], i)
	}
	for i := range r.Sites {
		x.sites[r.Sites[i].Place] = i
	}
	return x
}

// tableOf fills the table of a bind line in the order certificates are loaded.
func tableOf(r *kind.Reading, l *kind.Listener) *table {
	t := &table{exact: map[string][]hit{}, wild: map[string][]hit{}}
	for _, s := range l.Sites {
		site := &r.Sites[s]
		for n := range site.Names {
			name := &site.Names[n]
			own := slices.IndexFunc(site.Pairs, func(p kind.Pair) bool { return p.Certificate == name.File })
			for p := range site.Pairs {
				if own < 0 || own == p {
					t.add(hit{s, p, name})
				}
			}
		}
	}
	return t
}

// add takes a name in; one that is left out is found with its site.
func (t *table) add(h hit) {
	if strings.HasPrefix(h.name.Text, "!") {
		return
	}
	if rest, wild := strings.CutPrefix(h.name.Text, "*"); wild {
		if rest != "" {
			t.wild[rest] = append(t.wild[rest], h)
		}
		return
	}
	t.exact[h.name.Text] = append(t.exact[h.name.Text], h)
}

// find gives the certificates a host may be shown: of each kind of key the first
// that is loaded for the name itself, or else for the wildcard one label up.
func (x *Index) find(t *table, host string) []hit {
	out := x.firsts(nil, t.exact[host], "")
	if dot := strings.IndexByte(host, '.'); dot >= 0 {
		out = x.firsts(out, t.wild[host[dot:]], host)
	}
	return out
}

// firsts adds the first of each kind of key that is not there; those of a site that
// leaves the host out are passed over.
func (x *Index) firsts(out, list []hit, host string) []hit {
	of := func(h hit) string { return x.keys.Of(&x.reading.Sites[h.site].Pairs[h.pair]) }
	for _, h := range list {
		if host != "" && slices.ContainsFunc(x.reading.Sites[h.site].Names,
			func(n kind.Name) bool { return n.Text == "!"+host }) {
			continue
		}
		if mine := of(h); !slices.ContainsFunc(out, func(o hit) bool { return of(o) == mine }) {
			out = append(out, h)
		}
	}
	return out
}

// listener finds the listener a connection comes to: the one with that very
// address before one for every address.
func (x *Index) listener(at netip.AddrPort) int {
	found := -1
	for _, i := range x.ports[at.Port()] {
		switch l := &x.reading.Listeners[i]; {
		case !l.Takes(at):
		case !l.Address.Addr().IsUnspecified():
			return i
		case found < 0 || !l.Both && x.reading.Listeners[found].Both:
			found = i
		}
	}
	return found
}

// Answer implements kind.Answers.
func (x *Index) Answer(host string, at netip.AddrPort) kind.Answer {
	i := x.listener(at)
	if i < 0 {
		return kind.Answer{Why: fmt.Sprintf("no bind line opens %s", at)}
	}
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	if _, err := netip.ParseAddr(host); err == nil {
		host = "" // nobody names an address (RFC 6066 section 3)
	}
	return x.answer(i, host, followsLimit)
}

// answer is that of one listener; left bounds how often one may pass on to
// another.
func (x *Index) answer(i int, host string, left int) kind.Answer {
	l := &x.reading.Listeners[i]
	a := kind.Answer{Listener: l, Site: &x.reading.Sites[l.Default]}
	if !l.TLS {
		return x.passed(a, host, left)
	}
	t := x.tables[l.Place]
	if hits := x.find(t, host); host != "" && len(hits) > 0 {
		a.Site, a.Named = &x.reading.Sites[hits[0].site], true
		for _, h := range hits {
			a.Pairs = append(a.Pairs, x.reading.Sites[h.site].Pairs[h.pair])
		}
		a.Why = fmt.Sprintf("it is loaded for the name %s (%s)", hits[0].name.Text, hits[0].name.Place)
	} else {
		what := "no name is asked for"
		if host != "" {
			what = "no certificate there is loaded for " + host
		}
		switch {
		case a.Site.Refuses && len(l.Sites) == 1:
			a.Why = what + ", and the bind line names no certificate"
		case a.Site.Refuses:
			a.Why = what + ", and strict-sni turns such visitors away"
		default:
			a.Why = what + ", and it is the first certificate of " + l.String()
			a.Pairs = a.Site.Pairs[:min(1, len(a.Site.Pairs))]
		}
	}
	a.Shown = a.Site
	a.Pairs = x.keys.Usable(a.Shown, a.Pairs)
	return a
}

// passed is the answer of a listener without TLS: what passes TLS on to a listener
// of this very server is answered there.
func (x *Index) passed(a kind.Answer, host string, left int) kind.Answer {
	l := a.Listener
	a.Shown = a.Site
	a.Why = fmt.Sprintf("the section listens at %s", l)
	a.Named = true
	if l.Protocol != kind.TCP {
		return a
	}
	x.parse()
	way, known := x.tree.tcp(l.Place, host, l)
	if !known {
		return kind.Answer{Listener: l, Unsure: true, Why: "where it passes on to depends on more than the name asked for"}
	}
	if s, ok := x.sites[way]; ok {
		a.Site = &x.reading.Sites[s]
		a.Shown = a.Site
	}
	if a.Site.Through == nil {
		return a
	}
	a.Why = fmt.Sprintf("%s passes on to %s (%s)", l, a.Site.Through.To, a.Site.Place)
	to, err := netip.ParseAddrPort(a.Site.Through.To)
	if err != nil || left == 0 {
		return a
	}
	if next := x.listener(to); next >= 0 && x.reading.Listeners[next].TLS &&
		(to.Addr().IsLoopback() || x.reading.Listeners[next].Address == to) {
		in := x.answer(next, host, left-1)
		in.Listener, in.Why = l, fmt.Sprintf("%s passes on to %s, where %s", l, to, in.Why)
		return in
	}
	return a
}

// parse reads the rules of the reading's files once.
func (x *Index) parse() { x.parsed.Do(func() { x.tree = treeOf(x.reading) }) }

// elsewhereMost is how many sites Elsewhere gives.
const elsewhereMost = 3

// Elsewhere implements kind.Answers.
func (x *Index) Elsewhere(host string) (out []kind.Place) {
	met := map[int]bool{}
	for i := range x.reading.Listeners {
		t := x.tables[x.reading.Listeners[i].Place]
		if t == nil || len(out) >= elsewhereMost {
			continue
		}
		for _, h := range x.find(t, strings.ToLower(host)) {
			if !met[h.site] {
				out = append(out, x.reading.Sites[h.site].Place)
			}
			met[h.site] = true
		}
	}
	return out[:min(len(out), elsewhereMost)]
}

// Idle implements kind.Answers: there is nothing that could be switched on.
func (*Index) Idle(string) []*kind.Site { return nil }

// Plain implements kind.Answers.
func (x *Index) Plain(host string, at netip.AddrPort, path string) (kind.Step, bool) {
	i := x.listener(at)
	if i < 0 || x.reading.Listeners[i].TLS || x.reading.Listeners[i].Protocol != kind.HTTP {
		return kind.Step{}, false
	}
	x.parse()
	return x.tree.ask(&x.reading.Listeners[i], host, at, path), true
}
