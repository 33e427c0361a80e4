package binding

import (
	"time"

	"insegna.example/internal/core/certs"
)

// Configured is what a server's own configuration says about one host at one
// endpoint. Spots are "file:line" in that configuration.
type Configured struct {
	Unknown string // why nothing can be said, "" otherwise; then nothing else is set

	Listener     string // the address and port as the server has them, "" when none takes the endpoint
	ListenerSpot string
	TLS          bool   // the listener speaks it
	Opens        string // what the configuration opens instead, in words

	Site     string // name of the site whose certificate is shown
	SiteSpot string
	Why      string // why that site answers
	Named    bool   // it is there for this host, not just as the default
	Refuses  bool   // it ends handshakes on purpose
	RunTime  bool   // its certificate is chosen by a variable for each connection
	Pairs    []Pair

	Elsewhere []string                     // spots of sites with this host's name that listen elsewhere only
	Idle      []Idle                       // sites for this host in files that are not in force
	Beside    *Beside                      // the newest certificate for this host that lies beside the one named
	Others    map[certs.Fingerprint]string // leaf to spot: what the other sites of the listener name

	Loaded time.Time // when the running server last took its configuration in; zero when not known
	Test   string    // command that tests the configuration
	Reload string    // command that takes it in
}

// Pair is a certificate and key as configured and as they lie on disk.
type Pair struct {
	File, Spot   string // of the certificate
	Key, KeySpot string
	Chain        []*certs.Certificate // what the file holds, leaf first
	Fault        string               // why nothing of use is in the file
	Hidden       bool                 // the file is there and may not be read from here
	KeyFault     string
	KeyHidden    bool
	Stranger     bool      // the key belongs to another certificate
	Changed      time.Time // when certificate or key was last written
}

// Idle is a site that was written and is not switched on.
type Idle struct {
	Spot   string
	File   string // the file it is in
	Folder string // where files in force are, "" when renaming puts it in force
}

// Beside is a certificate file that no site names.
type Beside struct {
	File string
	Leaf *certs.Certificate
}
