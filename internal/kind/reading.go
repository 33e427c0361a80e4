package kind

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/place"
	"insegna.example/internal/install"
)

// Place is where something is written in a configuration.
type Place = place.Place

// Effect says what a problem means for the server.
type Effect string

// The effects, worst first.
const (
	Refused Effect = "refused" // the server will not take this configuration
	Unread  Effect = "unread"  // it could not be read from here, so it is not known
	Suspect Effect = "suspect" // the server takes it, though hardly as it is meant
)

// Problem is something wrong with a configuration. The rest of it is read all
// the same.
type Problem struct {
	Place
	Effect   Effect `json:"effect"`   // what follows for the server
	Message  string `json:"message"`  // what is wrong
	Expected string `json:"expected"` // "" when the message says it
	// Late says that the server's own test passes it, and the running server ends
	// when it takes the configuration in
	Late bool `json:"late,omitempty"`
}

// Error begins with the place.
func (p *Problem) Error() string {
	text := p.Full() + ": " + p.Message
	if p.Expected != "" {
		text += "; expected " + p.Expected
	}
	return text
}

// Ends gives the first thing for which a server would end at a reload although its
// own test passes; nil when there is none.
func (r *Reading) Ends() *Problem {
	for i := range r.Problems {
		if r.Problems[i].Late {
			return &r.Problems[i]
		}
	}
	return nil
}

// Reading is everything read from one server's configuration.
type Reading struct {
	Kind         string               `json:"kind"`         // name of the kind
	Main         string               `json:"main"`         // the file it begins with
	Files        []File               `json:"files"`        // in the order they were met
	Listeners    []Listener           `json:"listeners"`    // in the order they were met
	Sites        []Site               `json:"sites"`        // those in force, in the server's order
	Idle         []Site               `json:"idle"`         // in files that are not switched on
	Material     map[string]*Material `json:"material"`     // certificates and keys by path
	Certificates map[string][]byte    `json:"certificates"` // DER by SHA-256 in hexadecimal digits
	Problems     []Problem            `json:"problems"`     // sorted by place
	Loaded       time.Time            `json:"loaded"`       // when the running server last took it in; zero when not known
	// Choosers and Groups are what sites choose files and servers behind them by.
	Choosers []Chooser           `json:"choosers,omitempty"`
	Groups   map[string][]string `json:"groups,omitempty"` // servers by family and name
	// Trusted are the CAs hops are verified with, by path. They are not stored: what
	// is shown behind is judged when it is looked at.
	Trusted map[string]*Trusted `json:"-"`
}

// Trusted is a file or folder of CAs.
type Trusted struct {
	Certificates []*certs.Certificate
	Fault        string // why it could not be read, "" when it was
}

// Chooser gives a variable its value by what a visitor asks for.
type Chooser struct {
	Protocol Protocol    `json:"protocol"`          // of the sites that use it
	Name     string      `json:"name"`              // of the variable
	By       string      `json:"by"`                // what is compared
	Hosts    bool        `json:"hosts,omitempty"`   // keys are host names and wildcards
	Default  string      `json:"default,omitempty"` // without a key that fits
	Choices  [][2]string `json:"choices"`           // key and value, in their order
}

// Through is where a site passes bytes on to without ending TLS.
type Through struct {
	Place
	To string `json:"to"` // as written
}

// File is one file of a configuration.
type File struct {
	Path     string    `json:"path"`           // absolute
	Link     string    `json:"link,omitempty"` // where it leads, when it is a symbolic link
	Text     string    `json:"text"`           // as read
	Modified time.Time `json:"modified"`       // in UTC
	InForce  bool      `json:"in_force"`       // the running configuration includes it
}

// Protocol is what a listener or site speaks, inside TLS or without it.
type Protocol string

// The protocols.
const (
	HTTP Protocol = "http"
	TCP  Protocol = "tcp" // anything else: bytes are passed on as they are
)

// Listener is one address and port the server opens.
type Listener struct {
	Place
	Protocol Protocol       `json:"protocol"`          // http or a stream of bytes
	Address  netip.AddrPort `json:"address"`           // the zero address of its version stands for every one
	Socket   string         `json:"socket,omitempty"`  // path, when it is no network address
	Both     bool           `json:"both,omitempty"`    // takes IPv4 on an IPv6 address
	Unknown  string         `json:"unknown,omitempty"` // what is written, when its address is chosen elsewhere
	TLS      bool           `json:"tls"`               // it speaks TLS from the first byte
	Default  int            `json:"default"`           // index of the site that answers when none is named
	Chosen   bool           `json:"chosen"`            // the default is declared, not just the first
	Sites    []int          `json:"sites"`             // indexes of those at it
}

// Network says whether it listens at an address and port that are known.
func (l *Listener) Network() bool { return l.Socket == "" && l.Unknown == "" }

// Takes says whether a connection to an address and port comes to this
// listener, when no closer one is there.
func (l *Listener) Takes(at netip.AddrPort) bool {
	if !l.Network() || l.Address.Port() != at.Port() {
		return false
	}
	own := l.Address.Addr()
	if own == at.Addr() {
		return true
	}
	return own.IsUnspecified() && (own.Is4() == at.Addr().Is4() || l.Both)
}

// String is how people write the address: a socket's path, a wildcard as *, or
// address and port.
func (l *Listener) String() string {
	switch {
	case l.Socket != "":
		return "unix:" + l.Socket
	case l.Unknown != "":
		return l.Unknown
	case l.Address.Addr().IsUnspecified() && (l.Address.Addr().Is4() || l.Both):
		return fmt.Sprintf("*:%d", l.Address.Port())
	}
	return l.Address.String()
}

// Name is one name a site answers to.
type Name struct {
	Place
	Text string `json:"text"` // as written
	// what a certificate has to list for it: host names, or wildcards of one label (RFC 9525 section 6.3); none when no certificate can list all it matches
	Covers  []string `json:"covers,omitempty"`
	Ignored bool     `json:"ignored,omitempty"` // at every listener another site has it already
	// Listed says that it is not written in the configuration: its certificate lists it
	Listed bool `json:"listed,omitempty"`
}

// Host is the one host name it stands for; "" when it stands for several or
// for none.
func (n *Name) Host() string {
	if len(n.Covers) != 1 || strings.HasPrefix(n.Covers[0], "*.") {
		return ""
	}
	return n.Covers[0]
}

// Site is one site a configuration declares.
type Site struct {
	Place
	Protocol Protocol `json:"protocol"`          // of its listeners
	Names    []Name   `json:"names"`             // as declared
	Pairs    []Pair   `json:"pairs"`             // certificates with their keys
	Refuses  bool     `json:"refuses,omitempty"` // ends handshakes instead of showing a certificate
	// Passphrases are named for its keys, so that these may be encrypted
	Passphrases bool `json:"passphrases,omitempty"`
	// KeyKinds are the kinds of key its cipher suites leave to be used; none for all
	KeyKinds []string `json:"key_kinds,omitempty"`
	Plain    []Route  `json:"plain"`               // what it does for visitors without TLS
	Hops     []Hop    `json:"hops"`                // what stands behind it
	Through  *Through `json:"through,omitempty"`   // it does not end TLS itself, and passes it on
	Preread  bool     `json:"preread,omitempty"`   // it reads the name a visitor asks for before passing on
	Listens  []Place  `json:"listens"`             // where its listen lines are
	Asked    []string `json:"asked"`               // the addresses it listens at, as written
	SwitchOn string   `json:"switch_on,omitempty"` // of one not in force: what puts it in force
	// the link that does, where it is one
	Link *install.Link `json:"link,omitempty"`
}

// MainName is the name to call the site by.
func (s *Site) MainName() string {
	if len(s.Names) == 0 || s.Names[0].Text == "" {
		return "(no name)"
	}
	return s.Names[0].Text
}

// OnlyRedirects says whether all a plain site does is to redirect, for each of
// its names and whatever is asked for.
func (s *Site) OnlyRedirects() bool {
	for i := range s.Plain {
		if r := &s.Plain[i]; r.Front.Handling != Redirects || r.Other.Handling != Redirects {
			return false
		}
	}
	return len(s.Plain) > 0
}

// Pair is a certificate with its key as a site names them.
type Pair struct {
	Place              // of the certificate
	Certificate string `json:"certificate"`           // path
	Key         string `json:"key"`                   // path, "" when none is named
	Chain       string `json:"chain,omitempty"`       // path of what is sent behind the certificate, where that is a file of its own
	KeyPlace    Place  `json:"key_place"`             // the line that names the key
	AtRunTime   bool   `json:"at_run_time,omitempty"` // chosen by a variable for each connection; the paths are as written
	// in an answer: so chosen, the paths are worked out, and read for each connection
	EachTime bool `json:"-"`
}

// Sent are the fingerprints of what is sent with a pair: what its file holds, or the
// leaf with what a file of its own holds.
func (r *Reading) Sent(p *Pair) []string {
	m := r.Material[p.Certificate]
	if m == nil || len(m.Chain) == 0 {
		return nil
	}
	if behind := r.Material[p.Chain]; behind != nil && p.Chain != p.Certificate {
		return append([]string{m.Chain[0]}, behind.Chain...)
	}
	return m.Chain
}

// Material is what a certificate or key file holds.
type Material struct {
	Path     string    `json:"path"`             // absolute
	Mode     uint32    `json:"mode"`             // permission bits
	Modified time.Time `json:"modified"`         // in UTC
	Chain    []string  `json:"chain,omitempty"`  // fingerprints of the certificates, in file order
	Public   string    `json:"public,omitempty"` // SHA-256 of the private key's public half
	Fault    string    `json:"fault,omitempty"`  // why nothing of use could be read
	Hidden   bool      `json:"hidden,omitempty"` // it is there and cannot be looked into from here, or is encrypted
	Named    bool      `json:"named"`            // by a site; others lie beside such a file
	// Mentioned is where the configuration names it otherwise; nil for nowhere
	Mentioned *Place `json:"mentioned,omitempty"`
	Owner     *Owner `json:"owner,omitempty"` // nil when not known
}

// Owner is whose a file is.
type Owner struct {
	UID   int    `json:"uid"`
	GID   int    `json:"gid"`
	User  string `json:"user,omitempty"`  // its name on that machine, where that is known there
	Group string `json:"group,omitempty"` // the same
	// Folder says that the folder is that user's too, who so keeps it there himself
	Folder bool `json:"folder,omitempty"`
}

// String is user and group, by name where they have one.
func (o *Owner) String() string {
	return cmp.Or(o.User, strconv.Itoa(o.UID)) + ":" + cmp.Or(o.Group, strconv.Itoa(o.GID))
}

// Is says whether another file is the same user's and group's.
func (o *Owner) Is(p *Owner) bool { return o.UID == p.UID && o.GID == p.GID }

// Foreign gives whose the other private keys are where one belongs to another user, who is
// not root and does not keep it in a folder of his own: he may read it, and put another in its
// place. nil where that is not so, or not known.
func (r *Reading) Foreign(file string) *Owner {
	m, usual := r.Material[file], r.KeyOwner()
	if m == nil || m.Owner == nil || usual == nil || m.Owner.UID == 0 || m.Owner.UID == usual.UID || m.Owner.Folder {
		return nil
	}
	return usual
}

// closedTo are the permission bits of those who neither own a file nor are of its group.
const closedTo = 0o007

// KeyOwner is whose the private keys are that sites in force name, and which are closed to
// others, so that the server is known to read what is theirs: root's where it has any. What
// users keep in folders of their own does not count. nil where there is no such key, or they
// are not of one user and group.
func (r *Reading) KeyOwner() (found *Owner) {
	several := false
	for i := range r.Sites {
		for _, p := range r.Sites[i].Pairs {
			m := r.Material[p.Key]
			if m == nil || m.Public == "" || m.Owner == nil || m.Mode&closedTo != 0 || m.Owner.UID != 0 && m.Owner.Folder {
				continue
			}
			switch {
			case found == nil || found.UID != 0 && m.Owner.UID == 0:
				found, several = m.Owner, false
			case found.UID != 0 || m.Owner.UID == 0:
				several = several || !found.Is(m.Owner)
			}
		}
	}
	if several {
		return nil
	}
	return found
}

// Answer is which site answers for a host, and why.
type Answer struct {
	Listener *Listener // nil when none takes such a connection
	Site     *Site     // nil when none can be told
	Shown    *Site     // whose certificates a visitor gets: the site's own, or the listener's where it has none
	Pairs    []Pair    // these certificates
	Why      string    // one sentence
	Named    bool      // it is there for this host, not just as the default
	Unsure   bool      // it depends on something that cannot be worked out here
}

// Lost says whether an error means that the source of files failed as a whole.
func Lost(err error) bool {
	var l interface{ Lost() bool }
	return errors.As(err, &l) && l.Lost()
}
