// Package kind says what a server's own configuration says: which listeners
// it opens, which sites it declares, which certificate, chain and key files
// they name, and where each of these is written.
//
// Here are the words all kinds of server share; the folders below read one
// kind each. A reader is a pure function of an fs.FS, so that it works alike
// over local files, SSH, an archive or a test's map. It does not judge: that is
// core/check's work.
//
// Paths are absolute, with slashes; a file system's root stands for "/". A
// file system may tell that it failed as a whole, rather than in one file, by
// an error with the method Lost() bool; a reader then gives up, so that nothing
// half-read is taken for the whole.
package kind

import (
	"errors"
	"fmt"
	"net/netip"
	"time"
)

// Place is a position in a file; lines and columns count from 1, columns in
// bytes.
type Place struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

func (p Place) String() string { return fmt.Sprintf("%s:%d", p.File, p.Line) }

// Effect says what a problem means for the server.
type Effect string

// The gravities, worst first.
const (
	Refused Effect = "refused" // the server will not take this configuration
	Unread  Effect = "unread"  // it could not be read from here, so it is not known
	Suspect Effect = "suspect" // the server takes it, though hardly as it is meant
)

// Problem is something wrong with a configuration. The rest of it is read all
// the same.
type Problem struct {
	Place
	Effect   Effect `json:"effect"`
	Message  string `json:"message"`
	Expected string `json:"expected"` // "" when the message says it
}

func (p *Problem) Error() string {
	text := fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Message)
	if p.Expected != "" {
		text += "; expected " + p.Expected
	}
	return text
}

// Reading is everything read from one server's configuration.
type Reading struct {
	Kind         string               `json:"kind"`
	Main         string               `json:"main"` // the file it begins with
	Files        []File               `json:"files"`
	Listeners    []Listener           `json:"listeners"`
	Sites        []Site               `json:"sites"` // those in force, in the server's order
	Idle         []Site               `json:"idle"`  // in files that are not switched on
	Material     map[string]*Material `json:"material"`
	Certificates map[string][]byte    `json:"certificates"` // DER by SHA-256 in hexadecimal digits
	Problems     []Problem            `json:"problems"`
	Loaded       time.Time            `json:"loaded"` // when the running server last took it in; zero when not known
}

// File is one file of a configuration.
type File struct {
	Path     string    `json:"path"`
	Link     string    `json:"link,omitempty"` // where it leads, when it is a symbolic link
	Text     string    `json:"text"`
	Modified time.Time `json:"modified"`
	InForce  bool      `json:"in_force"`
}

// Listener is one address and port the server opens.
type Listener struct {
	Place
	Family  string         `json:"family"`            // "http" or "stream"
	Address netip.AddrPort `json:"address"`           // the zero address of its version stands for every one
	Socket  string         `json:"socket,omitempty"`  // path, when it is no network address
	Both    bool           `json:"both,omitempty"`    // takes IPv4 on an IPv6 address
	Unknown string         `json:"unknown,omitempty"` // what is written, when its address is chosen elsewhere
	TLS     bool           `json:"tls"`
	Default int            `json:"default"` // index of the site that answers when none is named
	Chosen  bool           `json:"chosen"`  // the default is declared, not just the first
	Sites   []int          `json:"sites"`
}

// Takes says whether a connection to an address and port comes to this
// listener, when no closer one is there.
func (l *Listener) Takes(at netip.AddrPort) bool {
	if l.Socket != "" || l.Unknown != "" || l.Address.Port() != at.Port() {
		return false
	}
	own := l.Address.Addr()
	if own == at.Addr() {
		return true
	}
	return own.IsUnspecified() && (own.Is4() == at.Addr().Is4() || l.Both)
}

func (l *Listener) String() string {
	switch {
	case l.Socket != "":
		return "unix:" + l.Socket
	case l.Unknown != "":
		return l.Unknown
	case l.Address.Addr().IsUnspecified() && l.Address.Addr().Is4():
		return fmt.Sprintf("*:%d", l.Address.Port())
	}
	return l.Address.String()
}

// Matching is how a site's name is compared with a host.
type Matching string

// The ways, in the order of their precedence.
const (
	Exact    Matching = "exact"
	Leading  Matching = "leading wildcard"
	Trailing Matching = "trailing wildcard"
	Regex    Matching = "regular expression"
)

// Name is one name a site answers to.
type Name struct {
	Place
	Text     string   `json:"text"` // as written
	Matching Matching `json:"matching"`
	Ignored  bool     `json:"ignored,omitempty"` // at every listener another site has it already
}

// Site is one site a configuration declares.
type Site struct {
	Place
	Family  string   `json:"family"` // "http" or "stream"
	Names   []Name   `json:"names"`
	Pairs   []Pair   `json:"pairs"`
	Refuses bool     `json:"refuses,omitempty"` // ends handshakes instead of showing a certificate
	Plain   []Route  `json:"plain"`
	Hops    []Hop    `json:"hops"`
	Listens []Place  `json:"listens"`
	Asked   []string `json:"asked"` // the addresses it listens at, as written
}

// MainName is the name to call the site by.
func (s *Site) MainName() string {
	if len(s.Names) == 0 || s.Names[0].Text == "" {
		return "(no name)"
	}
	return s.Names[0].Text
}

// Pair is a certificate with its key as a site names them.
type Pair struct {
	Place              // of the certificate
	Certificate string `json:"certificate"` // path
	Key         string `json:"key"`         // path, "" when none is named
	KeyPlace    Place  `json:"key_place"`
	AtRunTime   bool   `json:"at_run_time,omitempty"` // chosen by a variable for each connection; the paths are as written
}

// Material is what a certificate or key file holds.
type Material struct {
	Path     string    `json:"path"`
	Mode     uint32    `json:"mode"` // permission bits
	Modified time.Time `json:"modified"`
	Chain    []string  `json:"chain,omitempty"`  // fingerprints of the certificates, in file order
	Public   string    `json:"public,omitempty"` // SHA-256 of the private key's public half
	Fault    string    `json:"fault,omitempty"`  // why nothing of use could be read
	Named    bool      `json:"named"`            // by a site; others lie beside such a file
}

// Route is what a site does with plain http for one host.
type Route struct {
	Listener  string `json:"listener"`
	Host      string `json:"host"`
	Front     Step   `json:"front"`      // for the path /
	WellKnown Step   `json:"well_known"` // for files below /.well-known/acme-challenge/ (RFC 8555 section 8.3)
}

// Handling is what happens to a request.
type Handling string

// The deeds.
const (
	Redirects Handling = "redirects"
	Serves    Handling = "serves files"
	Passes    Handling = "passes on"
	Answers   Handling = "answers" // with a fixed status
	Depends   Handling = "depends" // on something only a request shows
)

// Step is what is done with a request, and where that is written.
type Step struct {
	Place
	Handling Handling `json:"handling"`
	Status   int      `json:"status,omitempty"`
	To       string   `json:"to,omitempty"`     // location, folder, or where it is passed on to
	Under    string   `json:"under,omitempty"`  // the path whose place To takes, when it is no root
	Hidden   *Place   `json:"hidden,omitempty"` // a location made for this path that never gets it
}

// Hop is one way from a site to a server behind it.
type Hop struct {
	Place
	To      string   `json:"to"`
	TLS     bool     `json:"tls"`
	Checked bool     `json:"checked"`        // the certificate behind is verified
	Name    string   `json:"name,omitempty"` // asked for and expected there
	Servers []string `json:"servers,omitempty"`
}

// Answer is which site answers for a host, and why.
type Answer struct {
	Listener *Listener
	Site     *Site // nil when none can be told
	Why      string
	By       *Name // the name that won; nil for a default
	Unsure   bool  // it depends on something that cannot be worked out here
}

// Lost says whether an error means that the source of files failed as a whole.
func Lost(err error) bool {
	var l interface{ Lost() bool }
	return errors.As(err, &l) && l.Lost()
}
