// Package draft puts together what was found of an estate, as an estate file to correct:
// where each line comes from stands beside it, what could not be told stands as a comment.
//
// It computes alone. What is found, and where, internal/draft brings.
package draft

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"insegna.example/internal/core/estate"
)

// Draft is an estate as far as it was found.
type Draft struct {
	Name    string    // of the estate
	Roots   []string  // files of the first audience
	Public  bool      // they are public CAs
	Servers []*Server // in the order they were found

	hosts     map[string]*Host
	wildcards map[estate.Ref][]string // that sites are for, which are no names of one host
	untold    []string
}

// Server is a server that was found.
type Server struct {
	Name, Kind string
	Addresses  []netip.Addr
	Ports      []uint16      // TLS is spoken at, at each of the addresses
	Reach      *estate.Reach // nil when there is no way to it
	Usual      *estate.Reach // what counts for it where the file says nothing
	Commands   []string      // keys of reach, in the order they are written
	Plain      bool          // it speaks no TLS yet, so that a look without a host brings nothing
	From       string        // where it was found
}

// Host is a name that was found.
type Host struct {
	Name  string
	At    []estate.Ref
	From  []string // where it was found
	Doubt string   // why it is only a comment; "" for one that is watched
}

// badInName is what the name of a server does not hold.
var badInName = regexp.MustCompile(`[^a-zA-Z0-9._-]+`)

// longestName is the length of a server's name at most.
const longestName = 63

// Add takes a server in, under a name of its own. An endpoint belongs to the first server that
// has it: where another has one of a server's addresses and ports, it is left out there, and
// false given when nothing is left.
func (d *Draft) Add(s *Server) bool {
	s.Addresses = slices.DeleteFunc(slices.Clone(s.Addresses), func(a netip.Addr) bool {
		for _, port := range s.Ports {
			if o := d.At(a, port); o != nil && slices.Contains(o.Ports, port) {
				d.Untold("%s is to answer at %s as %s is: only one of them can", s.From, netip.AddrPortFrom(a, port), o.From)
				return true
			}
		}
		return false
	})
	if len(s.Addresses) == 0 {
		return false
	}
	base := strings.Trim(badInName.ReplaceAllString(s.Name, "-"), "-._")
	if base = cmp.Or(base, "server"); len(base) > longestName-4 {
		base = base[:longestName-4]
	}
	s.Name = base
	for n := 2; slices.ContainsFunc(d.Servers, func(o *Server) bool { return o.Name == s.Name }); n++ {
		s.Name = fmt.Sprintf("%s-%d", base, n)
	}
	slices.SortFunc(s.Addresses, netip.Addr.Compare)
	slices.Sort(s.Ports)
	s.Ports = slices.Compact(s.Ports)
	d.Servers = append(d.Servers, s)
	return true
}

// At finds the servers with an address, those first that answer at a port there.
func (d *Draft) At(addr netip.Addr, port uint16) (found *Server) {
	for _, s := range d.Servers {
		if !slices.Contains(s.Addresses, addr) {
			continue
		}
		if slices.Contains(s.Ports, port) {
			return s
		}
		if found == nil {
			found = s
		}
	}
	return found
}

// Seen gives the server at an address, where it answers at a port, and takes it in when
// nothing is known of it.
func (d *Draft) Seen(at netip.AddrPort, from string) *Server {
	s := d.At(at.Addr(), at.Port())
	if s == nil || s.Kind != "" && !slices.Contains(s.Ports, at.Port()) {
		s = &Server{Name: "at-" + strings.NewReplacer(".", "-", ":", "-").Replace(at.Addr().String()), Addresses: []netip.Addr{at.Addr()},
			Ports: []uint16{at.Port()}, From: from}
		d.Add(s)
	} else if !slices.Contains(s.Ports, at.Port()) {
		s.Ports = append(s.Ports, at.Port())
		slices.Sort(s.Ports)
	}
	return s
}

// Found notes that a host, by its name in ASCII, is served somewhere.
func (d *Draft) Found(name string, at estate.Ref, from string) {
	h := d.host(name, from)
	if h.Doubt != "" {
		h.Doubt, h.At, h.From = "", nil, []string{from}
	}
	if !slices.Contains(h.At, at) {
		h.At = append(h.At, at)
	}
}

// Doubt notes that a host was met of which it is not known that it is to be watched, and
// why; what is known of it better stays.
func (d *Draft) Doubt(name string, at []estate.Ref, from, why string) {
	if had := d.hosts[name]; had != nil && had.Doubt == "" {
		return
	}
	h := d.host(name, from)
	if h.Doubt == "" {
		h.Doubt, h.At = why, at
	}
}

// Wildcard notes that a site is for a wildcard, which is no name of one host.
func (d *Draft) Wildcard(name string, at estate.Ref, from string) {
	if d.wildcards == nil {
		d.wildcards = map[estate.Ref][]string{}
	}
	d.wildcards[at] = append(d.wildcards[at], name)
	d.Untold("%s: the wildcard %s at %s: which hosts it is for", from, name, at)
}

// wild says whether a site for a wildcard is for a host somewhere.
func (d *Draft) wild(host string, at estate.Ref) bool {
	_, parent, _ := strings.Cut(host, ".")
	return slices.Contains(d.wildcards[at], "*."+parent)
}

// host finds or makes one.
func (d *Draft) host(name, from string) *Host {
	if d.hosts == nil {
		d.hosts = map[string]*Host{}
	}
	h := d.hosts[name]
	if h == nil {
		h = &Host{Name: name}
		d.hosts[name] = h
	}
	if !slices.Contains(h.From, from) {
		h.From = append(h.From, from)
	}
	return h
}

// Watched says whether a host is one that is watched.
func (d *Draft) Watched(name string) bool { return d.hosts[name] != nil && d.hosts[name].Doubt == "" }

// Hosts are those found, by name; the watched ones, or the others.
func (d *Draft) Hosts(watched bool) (out []*Host) {
	for _, name := range slices.Sorted(maps.Keys(d.hosts)) {
		if h := d.hosts[name]; (h.Doubt == "") == watched {
			out = append(out, h)
		}
	}
	return out
}

// untoldMost bounds how much of what could not be told is written.
const untoldMost = 200

// Untold notes something that could not be told.
func (d *Draft) Untold(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if !slices.Contains(d.untold, text) {
		d.untold = append(d.untold, text)
	}
}

// Change is one difference between a draft and an estate file.
type Change struct {
	Is   string // "new" or "gone"
	Host string
	At   string // server:port, as the side that has it calls it
	From string // where it was found, or stands in the file
}

// Against compares with an estate: what was found and is not in it, and what it has at the
// addresses that were read and was not found. Servers are the same by their addresses,
// whatever they are called.
func (d *Draft) Against(e *estate.Estate) (out []Change) {
	type binding struct {
		host string
		at   netip.AddrPort
	}
	declared := map[binding]bool{}
	for i := range e.Hosts {
		for at := range e.Endpoints(&e.Hosts[i]) {
			declared[binding{e.Hosts[i].Name, at}] = true
		}
	}
	drafted, read := map[binding]bool{}, map[netip.Addr]*Server{}
	for _, s := range d.Servers {
		for _, a := range s.Addresses {
			if s.Kind != "" {
				read[a] = s
			}
		}
	}
	for _, h := range d.Hosts(true) {
		for _, ref := range h.At {
			fresh := false
			for _, s := range d.Servers {
				for _, a := range s.Addresses {
					if b := (binding{h.Name, netip.AddrPortFrom(a, ref.Port)}); s.Name == ref.Server {
						drafted[b] = true
						fresh = fresh || !declared[b]
					}
				}
			}
			if fresh {
				out = append(out, Change{"new", h.Name, ref.String(), sources(h.From)})
			}
		}
	}
	for i := range e.Hosts {
		h := &e.Hosts[i]
		for _, ref := range h.At {
			s := e.Server(ref.Server)
			for at := range s.Endpoints() {
				own := read[at.Addr()]
				if ref.Port != 0 && ref.Port != at.Port() || own == nil || drafted[binding{h.Name, at}] ||
					d.wild(h.Name, estate.Ref{Server: d.At(at.Addr(), at.Port()).Name, Port: at.Port()}) {
					continue
				}
				from := h.Place.String()
				if met := d.hosts[h.Name]; met != nil && met.Doubt != "" {
					from += "; met: " + met.Doubt
				}
				out = append(out, Change{"gone", h.Name, fmt.Sprintf("%s:%d", ref.Server, at.Port()), from})
			}
		}
	}
	return out
}

// Own picks the addresses of a machine that a listener at all of them means: those others can
// reach, or else those of the machine itself.
func Own(list []netip.Addr) (out []netip.Addr) {
	for _, a := range list {
		if a = a.Unmap().WithZone(""); !a.IsLoopback() && !a.IsLinkLocalUnicast() && !a.IsMulticast() && !a.IsUnspecified() && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	if len(out) == 0 {
		out = []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1})}
	}
	return out
}
