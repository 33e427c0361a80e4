package httpd

import (
	"fmt"
	"net/netip"
	"strings"
	"sync"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/source"
)

// Index answers which virtual host takes a name, for one reading.
type Index struct {
	reading *kind.Reading
	tables  []table          // one a listener
	ports   map[uint16][]int // listeners by port
	keys    *source.Keys     // kinds of key of certificates

	parsed sync.Once // of what follows, which only plain http needs
	tree   *served
}

// table is what the virtual hosts of one listener are compared by: the first that
// has a name in any of its forms takes it.
type table struct {
	exact map[string]int // place in the listener's order by name
	wild  []pattern      // in that order
}

// pattern is a name with * or ?.
type pattern struct {
	order int
	text  string
}

// tableOf prepares a listener's table.
func tableOf(r *kind.Reading, l *kind.Listener) table {
	t := table{exact: map[string]int{}}
	for order, s := range l.Sites {
		t.add(order, &r.Sites[s])
	}
	return t
}

// add takes the names of one site in.
func (t *table) add(order int, site *kind.Site) {
	for i := range site.Names {
		text := site.Names[i].Text
		if strings.ContainsAny(text, "*?") {
			t.wild = append(t.wild, pattern{order, text})
		} else if _, had := t.exact[text]; !had && text != "" {
			t.exact[text] = order
		}
	}
}

// find gives the place of the site that takes a host; -1 for none.
func (t *table) find(host string) int {
	best, found := t.exact[host]
	if !found {
		best = -1
	}
	for _, p := range t.wild {
		if best >= 0 && p.order >= best {
			break
		}
		if wildMatch(p.text, host) {
			return p.order
		}
	}
	return best
}

// wildMatch compares with * for any text and ? for any one sign
// (ap_strcasecmp_match); both are in lower case.
func wildMatch(pattern, text string) bool {
	p, t, star, mark := 0, 0, -1, 0
	for t < len(text) {
		switch {
		case p < len(pattern) && (pattern[p] == '?' || pattern[p] == text[t] && pattern[p] != '*'):
			p++
			t++
		case p < len(pattern) && pattern[p] == '*':
			star, mark = p, t
			p++
		case star >= 0:
			mark++
			p, t = star+1, mark
		default:
			return false
		}
	}
	for p < len(pattern) && pattern[p] == '*' {
		p++
	}
	return p == len(pattern)
}

// NewIndex prepares the answers of a reading.
func NewIndex(r *kind.Reading) *Index {
	x := &Index{reading: r, tables: make([]table, len(r.Listeners)), ports: map[uint16][]int{}, keys: source.NewKeys(r)}
	for i := range r.Listeners {
		l := &r.Listeners[i]
		x.tables[i] = tableOf(r, l)
		x.ports[l.Address.Port()] = append(x.ports[l.Address.Port()], i)
	}
	return x
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
		case found < 0 || !l.Both:
			found = i
		}
	}
	return found
}

// Answer implements kind.Answers: the virtual hosts of the closest address, the
// first of them that has the name, and else the first of all.
func (x *Index) Answer(host string, at netip.AddrPort) kind.Answer {
	i := x.listener(at)
	if i < 0 {
		return kind.Answer{Why: fmt.Sprintf("no Listen opens %s", at)}
	}
	l := &x.reading.Listeners[i]
	a := kind.Answer{Listener: l}
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	order := -1
	if host != "" {
		order = x.tables[i].find(host)
	}
	switch {
	case order >= 0:
		a.Site, a.Named = &x.reading.Sites[l.Sites[order]], true
		a.Why = fmt.Sprintf("its name %s matches", x.nameOf(a.Site, host))
	case len(l.Sites) == 1:
		a.Site = &x.reading.Sites[l.Default]
		a.Why = fmt.Sprintf("it is the only site at %s", l)
	default:
		a.Site = &x.reading.Sites[l.Default]
		what := "no name is asked for"
		if host != "" {
			what = "no virtual host there has the name " + host
		}
		a.Why = what + ", and it is the first one at " + l.String()
	}
	// One that shows no certificate of its own leaves the visitor with that of the
	// first.
	if a.Shown = a.Site; len(a.Site.Pairs) == 0 {
		a.Shown = &x.reading.Sites[l.Default]
	}
	a.Pairs = x.keys.Usable(a.Shown, x.keys.Lasting(a.Shown.Pairs))
	return a
}

// nameOf is the name of a site that matches a host.
func (x *Index) nameOf(site *kind.Site, host string) string {
	for i := range site.Names {
		if text := site.Names[i].Text; text == host || strings.ContainsAny(text, "*?") && wildMatch(text, host) {
			return text
		}
	}
	return host
}

// elsewhereMost is how many sites Elsewhere gives.
const elsewhereMost = 3

// Elsewhere implements kind.Answers.
func (x *Index) Elsewhere(host string) (out []kind.Place) {
	met := map[int]bool{}
	for i := range x.tables {
		order := x.tables[i].find(host)
		if order < 0 || len(out) >= elsewhereMost {
			continue
		}
		if s := x.reading.Listeners[i].Sites[order]; !met[s] {
			met[s] = true
			out = append(out, x.reading.Sites[s].Place)
		}
	}
	return out
}

// Idle implements kind.Answers.
func (x *Index) Idle(host string) []*kind.Site {
	var out []*kind.Site
	for i := range x.reading.Idle {
		t := table{exact: map[string]int{}}
		if t.add(0, &x.reading.Idle[i]); t.find(host) == 0 {
			out = append(out, &x.reading.Idle[i])
		}
	}
	return out
}
