package binding

import (
	"net/netip"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/place"
)

// Configured is what a server's own configuration says about one host at one
// endpoint.
type Configured struct {
	Unknown string // why nothing can be said, "" otherwise; then nothing else is set

	Listener   string      // the address and port as the server has them, "" when none takes the endpoint
	ListenerAt place.Place // its line
	TLS        bool        // the listener speaks it
	Opens      string      // what the configuration opens instead, in words

	Site    string      // name of the site whose certificate is shown
	SiteAt  place.Place // where the site that answers is declared
	Why     string      // why that site answers
	Named   bool        // it is there for this host, not just as the default
	Refuses bool        // it ends handshakes on purpose
	RunTime bool        // its certificate is chosen by a variable for each connection
	Pairs   []Pair      // certificate and key of the site; several for several kinds of key

	Elsewhere []place.Place // sites with this host's name that listen elsewhere only
	Idle      []Idle        // sites for this host in files that are not in force
	Beside    *Beside       // the newest certificate for this host that lies beside the one named

	Hops  []Hop  // what stands behind the site that answers
	Plain *Plain // what plain http does for the host at the same address; nil where nothing takes it, or that is not asked

	Loaded time.Time // when the running server last took its configuration in; zero when not known
	Test   string    // what tests the configuration, as a person types it
	TakeIn string    // what makes the running server use it, as a person types it
	Words  *Words    // of this kind of server; nil takes neutral ones
}

// Plain is what a server does with a request for check.Kept in plain http.
type Plain struct {
	At      netip.AddrPort // it comes to
	Place   place.Place    // line that answers
	Unknown bool           // it depends on something only a request shows
	Closed  bool           // it is answered with an error: nobody is served there
	Status  int            // of the redirect; 0 when it does not redirect
	To      string         // where that leads
	Blocked *Blocked       // a CA does not get what it asks for; nil when it does, or nobody lets it ask there
}

// Blocked is what stands before the files of http-01 (RFC 8555 section 8.3).
type Blocked struct {
	Mandate      string      // that shows control of the host there
	Place        place.Place // line that answers
	Seen, Remedy string      // what becomes of the request, and what to do
}

// Pair is a certificate and key as configured and as they lie on disk.
type Pair struct {
	File      string               // of the certificate
	FileAt    place.Place          // the line that names the certificate's file
	Key       string               // file of the key
	KeyAt     place.Place          // the line that names it
	Chain     []*certs.Certificate // what the file holds, leaf first
	Fault     string               // why nothing of use is in the file
	Hidden    bool                 // the file is there and may not be read from here
	KeyFault  string               // why it cannot be used; "" for none
	KeyHidden bool                 // it may not be read, so nothing is said of it
	OtherKey  bool                 // the key belongs to another certificate
	Changed   time.Time            // when certificate or key was last written
	EachTime  bool                 // the files are read for each connection, no reload is needed
}

// Idle is a site that was written and is not switched on.
type Idle struct {
	At       place.Place // where the site is declared
	SwitchOn string      // what puts it in force, as a sentence begins: "switch it on: ..."
}

// Beside is a certificate file that no site names.
type Beside struct {
	File string             // path of a certificate nobody names
	Leaf *certs.Certificate // what is in it
}
