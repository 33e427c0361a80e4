// Package estate is the model of everything under watch and the file that
// declares it.
//
// The file is YAML with a strict schema of our own (schema.json): an unknown
// key, a duplicate, a bad address is an error that names file, line and
// column. Parsing reads no files itself; the files a declaration mentions
// come through an argument.
package estate

import (
	"fmt"
	"iter"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/place"
)

// Place is where something is declared.
type Place = place.Place

// Estate is one declared estate.
type Estate struct {
	Name          string               // as people call it
	Audiences     []Audience           // the first is the default of every host
	Intermediates []*certs.Certificate // to fill gaps in served lists with
	Servers       []Server             // in the order of the file
	Hosts         []Host               // in the order of the file
	CAs           []CA                 // in the order of the file
	Mandates      []Mandate            // in the order of the file
	Mending       []MendingRule        // findings that mend themselves; none unless declared
	Schedule      Schedule             // of surveys
	Owner         string               // of what names none; "" for nobody
	Groups        []Group              // in the order of the file
	Owners        []Owner              // in the order of the file
	Notices       *Notices             // nil when nobody is told
}

// Audience is a class of clients with its trust anchors.
type Audience struct {
	Name    string               // by which hosts refer to it
	Public  bool                 // its anchors are public CAs
	Roots   []string             // files, as the estate names them
	Anchors []*certs.Certificate // what was in them
	Place   Place                // in the estate file
}

// Server is a machine or device that answers at addresses and ports.
type Server struct {
	Name       string       // unique in the estate
	Kind       string       // name of a registered kind
	Addresses  []netip.Addr // visitors may reach it at
	Ports      []PortRange  // at each of them
	WithoutSNI bool         // also look at each endpoint once without a host name
	Reach      *Reach       // nil when there is no way to it
	AllHosts   bool         // every host its configuration has a site for with TLS is watched
	// Every is how often it is looked at by itself, 0 for never; nil as the estate has it
	Every *time.Duration
	Owner string // of the server as a whole; "" for the estate's
	Place Place  // in the estate file
}

// Reach says how to get at a server's own configuration. Paths and commands
// are of the machine the server runs on, but for Key and KnownHosts, which are
// of the machine the service runs on.
type Reach struct {
	By            string            // "local" or "ssh"
	Address       string            // ssh: host:port
	User          string            // ssh
	Key           string            // ssh: private key file; "" asks the agent
	KnownHosts    string            // ssh: "" is the service's user's own
	Configuration string            // the main file
	Commands      map[string]string // by their key, those of the server's kind
}

// String says the way in a few words.
func (r *Reach) String() string {
	switch {
	case r == nil:
		return ""
	case r.By == "ssh":
		return "ssh " + r.User + "@" + r.Address
	}
	return r.By
}

// PortRange is one or more neighbouring ports, both ends included.
type PortRange struct{ First, Last uint16 }

// String writes a range as the estate file has it.
func (p PortRange) String() string {
	if p.First == p.Last {
		return fmt.Sprint(p.First)
	}
	return fmt.Sprintf("%d-%d", p.First, p.Last)
}

// Endpoints yields every address and port of the server.
func (s *Server) Endpoints() iter.Seq[netip.AddrPort] {
	return func(yield func(netip.AddrPort) bool) {
		for _, a := range s.Addresses {
			for _, r := range s.Ports {
				for p := int(r.First); p <= int(r.Last); p++ {
					if !yield(netip.AddrPortFrom(a, uint16(p))) {
						return
					}
				}
			}
		}
	}
}

// AnswersAt says whether a port is among those declared for the server.
func (s *Server) AnswersAt(p uint16) bool {
	for _, r := range s.Ports {
		if r.First <= p && p <= r.Last {
			return true
		}
	}
	return false
}

// Host is a host name, where it is wanted, and what is wanted there.
type Host struct {
	Name      string   // as names.Host gives it
	At        []Ref    // servers, perhaps with one port
	Audiences []string // by name; none means the first
	Wanted    Wanted   // of its certificate
	Group     string   // "" for none
	Owner     string   // "" for the group's
	Tags      []string // in the order of the file
	Place     Place    // in the estate file
	By        string   // who has taken it in here; "" for one of the file
}

// Ref names the endpoints a host is wanted at: all of a server, or those on
// one port.
type Ref struct {
	Server string // by name
	Port   uint16 // 0: all ports
}

// ParseRef reads "server" or "server:port".
func ParseRef(text string) (Ref, error) {
	name, port, ported := strings.Cut(text, ":")
	if !ported {
		return Ref{Server: text}, nil
	}
	p, err := strconv.ParseUint(port, 10, 16)
	if err != nil || p == 0 {
		return Ref{}, fmt.Errorf("bad port in %q", clip(text))
	}
	return Ref{name, uint16(p)}, nil
}

// MarshalText implements encoding.TextMarshaler.
func (r Ref) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (r *Ref) UnmarshalText(text []byte) (err error) {
	*r, err = ParseRef(string(text))
	return err
}

// String writes a reference as the estate file has it; without a port it means
// every port of the server.
func (r Ref) String() string {
	if r.Port == 0 {
		return r.Server
	}
	return fmt.Sprintf("%s:%d", r.Server, r.Port)
}

// Wanted says which certificate should be served for a host. Empty means
// any that covers the name and is trusted.
type Wanted struct {
	Issuer      string // common name of the issuing CA
	Certificate string // SHA-256 of the very certificate, 64 hexadecimal digits
}

// Endpoints yields where the host is wanted, in the order of its references.
func (e *Estate) Endpoints(h *Host) iter.Seq[netip.AddrPort] {
	return func(yield func(netip.AddrPort) bool) {
		for _, ref := range h.At {
			server := e.Server(ref.Server)
			if server == nil {
				continue
			}
			for ep := range server.Endpoints() {
				if (ref.Port == 0 || ref.Port == ep.Port()) && !yield(ep) {
					return
				}
			}
		}
	}
}

// Server finds a server by name; nil when it is not declared.
func (e *Estate) Server(name string) *Server {
	for i := range e.Servers {
		if e.Servers[i].Name == name {
			return &e.Servers[i]
		}
	}
	return nil
}

// Host finds a host by its stored name; nil when it is not declared.
func (e *Estate) Host(name string) *Host {
	for i := range e.Hosts {
		if e.Hosts[i].Name == name {
			return &e.Hosts[i]
		}
	}
	return nil
}
