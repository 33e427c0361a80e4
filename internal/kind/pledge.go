package kind

import (
	"fmt"
	"io/fs"
)

// Pledger is an Editor that can have sites tell browsers to come over TLS alone.
type Pledger interface {
	// Pledge works out the least change by which answers over TLS to hosts carry the header
	// Strict-Transport-Security (RFC 6797 section 6.1), and answers to all others are as they
	// were. A *EditError says why a site is not changed.
	Pledge(fsys fs.FS, main string, list []Pledged) (*Edits, error)
}

// Pledged is a site that sends the header.
type Pledged struct {
	Site     Place    // that answers over TLS
	Listener Place    // line that opens its address
	Hosts    []string // they ask for
	Days     int      // browsers keep to it; 0 ends what they keep to
}

// StrictTransport is the name of the header.
const StrictTransport = "Strict-Transport-Security"

// Value is what the header says.
func (p *Pledged) Value() string {
	const day = 86400 // seconds
	return fmt.Sprintf("max-age=%d", p.Days*day)
}
