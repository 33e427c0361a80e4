package install

import (
	"context"
	"io/fs"
	"net/netip"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/place"
)

// Mender is a Destination that can work out how faults of its server are mended
// there, with what lies on it and what is known.
type Mender interface {
	// Mend works out one plan for all faults it can mend, and changes nothing. A
	// *RefusedError says why nothing on the server can be changed.
	Mend(ctx context.Context, m *Mending) (*Mended, error)
}

// Mending is what a destination is to mend.
type Mending struct {
	Server    string       // its name
	Version   string       // of this plan, fit for a file's name
	Faults    []Fault      // in the order they are told
	Rehearsal bool         // it ends after the test
	Addresses []netip.Addr // of the server
	Agreed    []string     // others who may get something else by it, by name
	// List puts the list together that is to be sent for a host, from what is sent
	// and what lies beside it
	List func(host string, list, beside []*certs.Certificate) ([]*certs.Certificate, error)
	// Fit says why a list, leaf first, is not what visitors of a host need; nil when it
	// is
	Fit func(host string, list []*certs.Certificate) error
	// Plain is the port a host is asked for at in plain http
	Plain func(host string) uint16
	// Proof is the mandate that shows control of a host over plain http, "" for none, and
	// the address of what answers a CA beside servers, "" for files
	Proof func(host string) (mandate, listener string)
	// Days is how long browsers are told to come over TLS alone, for faults that are mended by
	// that; 0 ends what they keep to
	Days int
}

// Fault is one finding about a server.
type Fault struct {
	Finding int64          // its number
	Code    check.Code     // of its rule
	Means   check.Means    // by which it is to be mended; "" for its rule's
	Host    string         // it was found for; "" for none
	At      netip.AddrPort // where; the zero address for one about the server as a whole
	Subject string         // what it is about besides, such as a file
	Place   place.Place    // in the configuration; none when not known
}

// By is how it is to be mended.
func (f *Fault) By() check.Means {
	if f.Means != "" {
		return f.Means
	}
	rule := check.RuleOf(f.Code)
	return rule.Mends
}

// Mended is how faults are mended.
type Mended struct {
	Planned
	Mends []Mend // by the plan
	Left  []Left // not by it
}

// Mend is one fault a plan mends.
type Mend struct {
	Finding int64      `json:"finding"` // its number
	Code    check.Code `json:"code"`    // of its rule
	Host    string     `json:"host"`    // it was found for; "" for none
	Does    string     `json:"does"`    // in words
}

// Left is one fault a plan does not mend.
type Left struct {
	Fault
	Reason, Next string // why, and what to do
}

// Mode is a file whose permission bits change, and perhaps its owner.
type Mode struct {
	Path   string      `json:"path"`   // where the file itself lies, links followed
	Before fs.FileMode `json:"before"` // permission bits when the plan was made
	After  fs.FileMode `json:"after"`  // once it is done
	// From and To are user and group by number, as chown takes them; "" where they stay
	From string `json:"from,omitempty"`
	To   string `json:"to,omitempty"`
}

// Back is the way back.
func (m *Mode) Back() Mode {
	return Mode{Path: m.Path, Before: m.After, After: m.Before, From: m.To, To: m.From}
}
