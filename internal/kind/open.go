package kind

import (
	"io/fs"
	"net/netip"
)

// Opener is an Editor that can have a site answer at a listener where another one answers in
// its place.
type Opener interface {
	// Open works out the least change by which sites listen, with TLS, at listeners that are
	// there, and who answers for unknown names there stays. A *EditError says why a site is not
	// changed.
	Open(fsys fs.FS, main string, list []Opened) (*Edits, error)
}

// Opened is a site that comes to listen where it did not.
type Opened struct {
	Site     Place          // that has the names, in force
	Instead  Place          // the site that answers now
	Listener string         // that takes it, as Listener.String has it
	At       netip.AddrPort // where visitors come
}
