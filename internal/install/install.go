// Package install carries a certificate with its chain and key to a server, and
// sees to it that visitors get it, or that all is as it was.
//
// Every state is stored before its first act and every act may be repeated, so
// that a process that dies anywhere finishes or goes back. How a certificate
// gets there is the destination's: the Installer keeps states and records, and
// looks. The first destination is in install/files.
package install

import (
	"context"
	"crypto"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"insegna.example/internal/core/certs"
)

// State is how far an installation has come.
type State string

// The states, in their order; Returning and Returned are the way back.
const (
	Previewed State = "previewed" // nothing was touched
	Staging   State = "staging"   // the new version is being laid beside the old
	Testing   State = "testing"   // the server tests a copy of what it is to take in
	Switching State = "switching" // the new takes the place of the old
	Reloading State = "reloading" // the server takes it in
	Looking   State = "looking"   // until the old certificate is gone
	Done      State = "done"      // new everywhere
	Rehearsed State = "rehearsed" // tested well, and nothing was changed
	Returning State = "returning"
	Returned  State = "returned" // old everywhere
	Stuck     State = "stuck"    // neither, and only a person can help
)

// Ended says whether nothing more happens by itself.
func (s State) Ended() bool {
	return s == Done || s == Rehearsed || s == Returned || s == Stuck || s == Previewed
}

// Binding is one host name at one address, looked at from outside.
type Binding struct {
	Host   string         `json:"host"`   // a name visitors use
	At     netip.AddrPort `json:"at"`     // address and port
	Before string         `json:"before"` // SHA-256 of the certificate it showed; "" when it showed none
	// it belongs to another site, and has to show what it showed, or what its own
	// files hold by now
	Neighbour bool     `json:"neighbour,omitempty"`
	Own       []string `json:"own,omitempty"` // SHA-256 of the certificates in a neighbour's files
	// Wants is what it has to show in the end, any of these, where that is not the
	// certificate installed
	Wants []string `json:"wants,omitempty"`
	// Whole says that it is the whole list that counts: the SHA-256 of each certificate
	// sent, parted by blanks
	Whole bool `json:"whole,omitempty"`
	// Stapled says that the CA's answer has to come along: what is shown ends with " stapled"
	// then
	Stapled bool `json:"stapled,omitempty"`
	// Header is the name of a header; what is shown is its value in an answer over TLS
	Header string `json:"header,omitempty"`
	// Plain is what is asked for in plain http; it shows the status of the answer, and where
	// it leads. "" for a look over TLS
	Plain string `json:"plain,omitempty"`
}

// Well says whether a binding shows what it should: the new certificate, or
// what a neighbour may show. A neighbour that showed nothing is not judged.
func (b *Binding) Well(shown, leaf string) bool {
	if b.Neighbour {
		return b.Before == "" || shown == b.Before || slices.Contains(b.Own, shown)
	}
	if len(b.Wants) > 0 {
		return slices.Contains(b.Wants, shown)
	}
	return shown == leaf
}

// String names the binding as visitors meet it.
func (b *Binding) String() string {
	if b.Plain != "" {
		return fmt.Sprintf("http://%s at %s", b.Host, b.At)
	}
	return fmt.Sprintf("%s at %s", b.Host, b.At)
}

// File is one file of a server's configuration before and after a change.
type File struct {
	Path   string `json:"path"`   // where the file itself lies, links followed
	Before string `json:"before"` // its text when the plan was made
	After  string `json:"after"`  // its text once it is done
}

// Link is a symbolic link that puts a file in force, where nothing is yet or in the
// place of a file.
type Link struct {
	Path string `json:"path"` // where it is laid
	To   string `json:"to"`   // the file it leads to, absolute; "" when what is there is only put aside
	// where the file whose place it takes is kept for the way back; "" when nothing is
	// there
	Kept string `json:"kept,omitempty"`
	Sum  string `json:"sum,omitempty"` // SHA-256 of that file when the plan was made
}

// String tells what is done.
func (x *Link) String() string {
	switch {
	case x.To == "":
		return x.Path + " is put aside as " + x.Kept
	case x.Kept != "":
		return x.Path + " → " + x.To + ", and what was there is kept as " + x.Kept
	}
	return x.Path + " → " + x.To
}

// Plan is what an installation changes, worked out beforehand by its
// destination and stored as it made it.
type Plan struct {
	Where string          `json:"where"`           // what a person looks at when everything else fails
	Acts  []Act           `json:"acts"`            // what is done, in its order, for people
	Files []File          `json:"files"`           // of the configuration that change
	Links []Link          `json:"links,omitempty"` // that are laid
	Modes []Mode          `json:"modes,omitempty"` // of files, that change
	Own   json.RawMessage `json:"own"`             // the destination's own
}

// Act is one thing an installation does.
type Act struct {
	Does string `json:"does"` // a word, such as new, link, test or reload
	What string `json:"what"` // the thing it is done to
}

// Wish is what a destination is to plan for.
type Wish struct {
	Mandate   string             // its name
	Server    string             // its name
	Names     []string           // the certificate is for
	Leaf      *certs.Certificate // its certificate
	Rehearsal bool               // it ends after the test
	Version   string             // of this certificate among the mandate's, fit for a file's name

	Port      uint16            // for https where a site has none yet; 0 when nothing is said
	Addresses []netip.Addr      // of the server
	Ports     func(uint16) bool // whether the server is declared to answer at a port; nil when nothing is declared
	OtherPort uint16            // declared, to fall back on
	Agreed    []string          // others who may get something else by it, by name
	PlainPort uint16            // where a CA asks for the files of http-01
	Listener  string            // address and port of what answers a CA beside the server; "" for nobody
	// Staple gives the CA's answer that the certificate is good, for servers that send a
	// file of it along; the error says why there is none. nil where nobody asks
	Staple func(context.Context) (*Staple, error)
	// KeyThere says that the key of this version was made on the server, and stays there
	KeyThere bool
}

// Staple is a CA's answer that a certificate is good (RFC 6960).
type Staple struct {
	Response []byte    `json:"response"` // DER
	Until    time.Time `json:"until"`    // in force
	From     string    `json:"from"`     // who gave it
}

// Planned is what a destination has worked out.
type Planned struct {
	Plan     Plan      // to be stored
	Bindings []Binding // where the new certificate is to be seen, and neighbours that keep theirs
	Notes    []string  // what a person should know before
	There    bool      // it lies there already, and nothing of the configuration changes
	Unasked  bool      // it may be carried out without a person: nothing but the certificate changes
}

// Material is what is installed.
type Material struct {
	Chain []byte // PEM, leaf first, then its issuers
	Key   []byte // PEM; nil where it was made on the server
}

// Destination is where and how a certificate is put on a server. Every act may
// be repeated, also after one that broke off half-way. An error with the method
// Lost() bool that is true says that the way to the server broke off: the act is
// tried again later.
type Destination interface {
	// Plan works out what has to change, and changes nothing. A *RefusedError says
	// why it cannot be done and what to do first.
	Plan(ctx context.Context, w *Wish) (*Planned, error)
	// Prepare works out what lets the server serve the files of http-01 for the
	// wish's names at its plain port, and changes nothing; no material goes with
	// it. A *RefusedError says why it cannot be done.
	Prepare(ctx context.Context, w *Wish) (*Planned, error)
	// Stage lays the new material where nothing uses it yet. It gives words for
	// the record, as the acts below do.
	Stage(ctx context.Context, p *Plan, m *Material) (string, error)
	// Try has the server test what it is to take in, and changes nothing.
	Try(ctx context.Context, p *Plan) (string, error)
	// Switch puts the new in the place of the old, and has the server test it.
	Switch(ctx context.Context, p *Plan) (string, error)
	// TakeIn makes the running server use what lies there.
	TakeIn(ctx context.Context, p *Plan) (string, error)
	// Back puts the old in its place again, before the server takes it in.
	Back(ctx context.Context, p *Plan) (string, error)
	// Clear takes away what is not needed any more: after an installation that is
	// done (kept) versions too old, otherwise what was staged.
	Clear(ctx context.Context, p *Plan, kept bool) error
}

// KeyTrial begins the version of a key that is made to try. What a process that died has
// left of such is destroyed with another key, an hour later at the earliest.
const KeyTrial = "trial-"

// Keymaker is a Destination on which keys can be made and kept. Both acts may
// be repeated.
type Keymaker interface {
	// MakeKey makes the key of a version of a mandate, or finds the one made before, of a
	// kind such as ecdsa-p256. A *FaultError says why it cannot.
	MakeKey(ctx context.Context, mandate, version, kind string) (crypto.Signer, error)
	// DropKey destroys it, also where it was laid for the server, unless that is in use, and
	// says whether it was there.
	DropKey(ctx context.Context, mandate, version string) (there bool, err error)
}

// Truster is a Destination that can have its server take one CA more of those who stand
// behind it.
type Truster interface {
	// Trust works out what lets it, and changes nothing. A *RefusedError says why it
	// cannot be done.
	Trust(ctx context.Context, w *Trusting) (*Planned, error)
}

// Trusting is a CA that a server is to take.
type Trusting struct {
	Server    string             // its name
	Addresses []netip.Addr       // of the server
	File      string             // of the CAs it verifies those behind it with
	CA        *certs.Certificate // one more
}

// Installation is one certificate going to one server.
type Installation struct {
	ID             int64     // of the stored row
	Plan           Plan      // the destination's own
	Material       Material  // certificates and key
	Leaf           string    // SHA-256 of the new certificate
	Bindings       []Binding // that must show it in the end
	State          State     // how far it is
	Rehearsal      bool      // ends before anything is changed
	Switched       bool      // something may have been changed
	Asked          bool      // the way back was asked for by a person
	Tries          int       // without a way to the server, in a row
	Reason, Advice string    // why it went back or is stuck, and what to do
}

// Outcome of a step.
type Outcome string

// Outcomes.
const (
	Doing Outcome = "doing"
	Well  Outcome = "done"
	Wrong Outcome = "failed"
)

// Records keep an installation.
type Records interface {
	// Save keeps the state before its first act, with what to tell people of the
	// step before; an empty step for nothing.
	Save(ctx context.Context, i *Installation, step string, outcome Outcome, words string) error
}

// WaitError says that an installation goes on later by itself.
type WaitError struct {
	Until time.Time // when it goes on
	Why   error     // what it waits for
}

// Error tells when it goes on, not yet how it ended.
func (e *WaitError) Error() string {
	return fmt.Sprintf("goes on at %s: %v", e.Until.UTC().Format(time.RFC3339), e.Why)
}

// Unwrap gives the reason.
func (e *WaitError) Unwrap() error { return e.Why }

// ChangedError says that something is not as the preview showed it.
type ChangedError struct{ What string }

// Error names what somebody else changed since the preview; it is left as it
// is.
func (e *ChangedError) Error() string {
	return e.What + " is not as the preview showed it"
}

// RefusedError says why a destination plans nothing, and what to do first.
type RefusedError struct {
	Reason, Next string
	Preparable   bool // Prepare can do what is to be done first
}

// Error is a reason people read; advice stands beside it.
func (e *RefusedError) Error() string { return e.Reason }

// FaultError is an act that went wrong on the server, with what to do.
type FaultError struct {
	Words, Advice string // of the server, and what to do
	Said          string // by a command
}

// Error has the server's own words where there are any.
func (e *FaultError) Error() string { return e.Words }

// lost says whether an error means that the way to the server broke off.
func lost(err error) bool {
	var l interface{ Lost() bool }
	return errors.As(err, &l) && l.Lost()
}
