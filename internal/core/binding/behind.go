package binding

import (
	"net"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/place"
)

// Hop is the last hop of a binding: one way from its site to one server behind it,
// what the front asks and expects there, and what a look from there brought.
type Hop struct {
	At      place.Place `json:"at"`                // the line that leads there
	Group   string      `json:"group"`             // hops with the same one stand in for each other
	Address string      `json:"address"`           // host and port, or unix: and a path
	For     string      `json:"for,omitempty"`     // the host it is for; "" when it is the same for every host
	TLS     bool        `json:"tls"`               // it is spoken to over TLS
	Checked bool        `json:"checked"`           // the chain shown there is verified
	Dates   bool        `json:"dates"`             // its dates are, chain or not
	Sends   string      `json:"sends"`             // the name asked for (RFC 6066 section 3); "" for none
	Name    string      `json:"name"`              // the name the certificate has to be for; "" when any will do
	Trust   string      `json:"trust"`             // file or folder of the CAs it is verified with
	Depth   int         `json:"depth"`             // most certificates on its path, leaf and root counted; 0 for any number
	Fails   string      `json:"fails,omitempty"`   // why nothing can come of it, whatever stands there
	Unknown string      `json:"unknown,omitempty"` // why it could not be looked at, or not judged

	Outcome Outcome     `json:"outcome"`          // of the look
	Detail  string      `json:"detail"`           // what was seen, in words
	Looked  time.Time   `json:"looked"`           // in UTC
	Leaf    string      `json:"leaf"`             // SHA-256 of the certificate shown there, "" for none
	Shown   string      `json:"shown"`            // that certificate in words
	Fault   HopFault    `json:"fault,omitempty"`  // why the front takes nothing from there; "" when it does
	Why     string      `json:"why,omitempty"`    // that in words
	Unseen  string      `json:"unseen,omitempty"` // what is wrong there and the front does not look at
	Origin  string      `json:"-"`                // the server it is, by name; "" when it is not of the estate
	Site    place.Place `json:"-"`                // its site that answers there
}

// HopFault is why a last hop fails.
type HopFault string

// The faults of a last hop.
const (
	HopDown  HopFault = "down"   // no answer that the front could use
	HopDates HopFault = "dates"  // the certificate there has ended or not begun
	HopName  HopFault = "name"   // it is for other names
	HopChain HopFault = "chain"  // it leads to no CA the front trusts
	HopNoWay HopFault = "no-way" // the front cannot ask at all
)

// Own says whether a hop does not leave the machine.
func (h *Hop) Own() bool {
	host, _, err := net.SplitHostPort(h.Address)
	return err != nil || strings.HasPrefix(h.Address, "unix:") || host == "localhost" || host == "127.0.0.1" || host == "::1"
}

// Behind is what a look at a last hop brought, to be judged.
type Behind struct {
	Chain   []*certs.Certificate // as shown there, leaf first
	Trusted []*certs.Certificate // in the front's list of CAs
	NoTrust string               // why that cannot be read, "" when it was
	At      time.Time            // the moment it is judged for
}
