package estate

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// ref reads one place a host is wanted at. Whether the server exists is
// checked in resolve, when all are read.
func (r *reader) ref(n *yaml.Node, into *[]Ref) {
	const expected = "a server's name, or name:port"
	text, ok := r.text(n, expected)
	if !ok {
		return
	}
	ref, err := ParseRef(text)
	switch {
	case err != nil:
		r.fault(r.place(n), expected, "%v", err)
	case slices.Contains(*into, ref):
		r.fault(r.place(n), "each place once", "%s stands twice", clip(text))
	default:
		*into = append(*into, ref)
	}
}

// resolve checks what needs the whole file: names that are used and names
// that are declared, once each.
func (r *reader) resolve() {
	e := r.estate
	audiences := r.once("audience", len(e.Audiences),
		func(i int) (string, Place) { return e.Audiences[i].Name, e.Audiences[i].Place })
	servers := r.once("server", len(e.Servers),
		func(i int) (string, Place) { return e.Servers[i].Name, e.Servers[i].Place })
	r.once("host", len(e.Hosts), func(i int) (string, Place) { return e.Hosts[i].Name, e.Hosts[i].Place })
	r.endpoints()
	r.resolveMandates(servers)
	r.resolveMending()
	r.resolveBelonging()
	r.resolveNotices()
	r.resolveHosts(audiences, servers)
}

// resolveHosts checks what hosts name.
func (r *reader) resolveHosts(audiences, servers map[string]int) {
	e := r.estate
	for i := range e.Hosts {
		h := &e.Hosts[i]
		if len(h.Audiences) == 0 && len(e.Audiences) > 0 {
			h.Audiences = []string{e.Audiences[0].Name}
		}
		for _, a := range h.Audiences {
			if _, ok := audiences[a]; !ok {
				r.fault(h.Place, "one of "+listed(audiences), "host %s names an unknown audience %q", h.Name, clip(a))
			}
		}
		for _, ref := range h.At {
			at, ok := servers[ref.Server]
			if !ok {
				r.fault(h.Place, "one of "+listed(servers), "host %s is wanted at an unknown server %q", h.Name, clip(ref.Server))
			} else if s := &e.Servers[at]; ref.Port != 0 && !s.AnswersAt(ref.Port) {
				r.fault(h.Place, "one of the server's ports", "host %s is wanted at %s, but server %s (line %d) has no port %d",
					h.Name, ref, s.Name, s.Place.Line, ref.Port)
			}
		}
	}
}

// once indexes names and faults the second of two that are the same.
func (r *reader) once(what string, n int, at func(int) (string, Place)) map[string]int {
	index := make(map[string]int, n)
	for i := range n {
		name, place := at(i)
		if first, twice := index[name]; twice && name != "" {
			_, before := at(first)
			where := fmt.Sprintf("line %d", before.Line)
			if before.File != place.File {
				where = before.AtLine().String()
			}
			r.fault(place, "each "+what+" once", "%s %q is declared again; first in %s", what, name, where)
			continue
		}
		index[name] = i
	}
	return index
}

// endpoints checks that no address and port belongs to two servers, and that
// the file does not expand beyond the limit.
func (r *reader) endpoints() {
	total := 0
	byAddress := map[netip.Addr][]*Server{}
	for i := range r.estate.Servers {
		s := &r.estate.Servers[i]
		for _, p := range s.Ports {
			total += len(s.Addresses) * (int(p.Last) - int(p.First) + 1)
		}
		for _, a := range s.Addresses {
			for _, other := range byAddress[a] {
				if p, both := sharedPort(s, other); both && other != s {
					r.fault(s.Place, "each endpoint under one server", "%s belongs to server %s (line %d) already",
						netip.AddrPortFrom(a, p), other.Name, other.Place.Line)
				}
			}
			byAddress[a] = append(byAddress[a], s)
		}
	}
	if total > endpointLimit {
		r.fault(Place{File: r.file, Line: 1, Column: 1}, fmt.Sprintf("at most %d", endpointLimit),
			"the file declares %d endpoints", total)
	}
}

// sharedPort finds a port two servers at one address both claim, which would
// make a look's result belong to either.
func sharedPort(a, b *Server) (uint16, bool) {
	for _, p := range a.Ports {
		for _, q := range b.Ports {
			if first := max(p.First, q.First); first <= min(p.Last, q.Last) {
				return first, true
			}
		}
	}
	return 0, false
}

// listed lists the names there are, for errors about one there is not; eight at
// most.
func listed(index map[string]int) string {
	all := make([]string, 0, len(index))
	for name := range index {
		all = append(all, name)
	}
	slices.Sort(all)
	if len(all) > 8 {
		return strings.Join(all[:8], ", ") + fmt.Sprintf(" and %d more", len(all)-8)
	}
	return strings.Join(all, ", ")
}
