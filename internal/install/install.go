// Package install puts a certificate with its chain and key where a server
// reads them, and sees to it that visitors get it, or that all is as it was.
//
// Every state is stored before its first act and every act may be repeated, so
// that a process that dies anywhere finishes or goes back. It does not know
// how a configuration is written (conf does), nor where things are kept.
//
// On the server a mandate has a folder: below versions one folder for each
// certificate with chain.pem and key.pem, and now, a link to the one in use.
// Certificate and key change together, by one rename of that link.
package install

import (
	"context"
	"fmt"
	"net/netip"
	"path"
	"time"

	"insegna.example/internal/kind"
	"insegna.example/internal/reach"
)

// State is how far an installation has come.
type State string

// The states, in their order; Returning and Returned are the way back.
const (
	Previewed State = "previewed" // nothing was touched
	Staging   State = "staging"   // the new version is being laid beside the old
	Testing   State = "testing"   // the server tests a copy of what it is to take in
	Switching State = "switching" // link and files change; the server tests them
	Reloading State = "reloading"
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
	Host   string         `json:"host"`
	At     netip.AddrPort `json:"at"`
	Before string         `json:"before"` // SHA-256 of the certificate it showed; "" when it showed none
}

func (d *Binding) String() string { return fmt.Sprintf("%s at %s", d.Host, d.At) }

// Installation is one certificate going to one server.
type Installation struct {
	ID             int64
	Folder         string // of the mandate, on the server
	Version        string // name of the new version's folder
	Before         string // of the one in use; "" for none
	Chain, Key     []byte // PEM
	Leaf           string // SHA-256 of the new certificate
	Edits          []kind.Edit
	Test, Reload   string // commands
	Copy           string // what the path of a copy of the configuration, to be tested, begins with: in the folder of the main file
	Bindings       []Binding
	State          State
	Rehearsal      bool // ends before anything is changed
	Switched       bool // something may have been changed
	Tries          int  // without a way to the server, in a row
	Reason, Advice string
}

// Certificate and Key are the paths a configuration names.
func Certificate(folder string) string { return path.Join(folder, "now", "chain.pem") }

// Key is the path of the private key.
func Key(folder string) string { return path.Join(folder, "now", "key.pem") }

// Copy is a copy of a configuration as an installation makes it, with the new
// version in the place of the one in use, for the server to test.
type Copy struct {
	Text      []byte
	Test      string                   // the command that tests it
	Translate func(said string) string // what was said of it, with the places it was copied from
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
	Until time.Time
	Why   error
}

func (e *WaitError) Error() string {
	return fmt.Sprintf("goes on at %s: %v", e.Until.UTC().Format(time.RFC3339), e.Why)
}

// Unwrap gives the reason.
func (e *WaitError) Unwrap() error { return e.Why }

// ChangedError says that something is not as the preview showed it.
type ChangedError struct{ What string }

func (e *ChangedError) Error() string {
	return e.What + " is not as the preview showed it"
}

// fault is a step that went wrong on the server, with what to do.
type fault struct {
	words, advice string
	said          string // by a command
}

func (e *fault) Error() string { return e.words }

// Installer carries installations out on one server. Safe for concurrent use,
// though one server is for one installation at a time.
type Installer struct {
	Server   reach.Connection
	Records  Records
	Copy     func(i *Installation, at string) (*Copy, error)           // nil where the server's test can be led to no copy; the error says why there is none
	Look     func(ctx context.Context, d *Binding) (leaf, seen string) // SHA-256, "" for none, and what was seen in words
	Patience time.Duration                                             // until the old certificate is gone; half a minute when 0
	Limit    time.Duration                                             // of a command; half a minute when 0
	Keep     int                                                       // versions that stay; 5 when 0
}

// Bounds of an installation's steps.
const (
	commandLimit = 30 * time.Second
	patience     = 30 * time.Second
	steady       = 250 * time.Millisecond // that only the new one is seen
	between      = 10 * time.Millisecond  // looks; longer the longer the old one is seen
	longest      = time.Second
	keep         = 5
	mostTries    = 40 // without a way to the server
	againIn      = 5 * time.Second
	fileLimit    = 4 << 20
)
