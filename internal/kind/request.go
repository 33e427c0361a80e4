package kind

// Route is what a site does with plain http for one host.
type Route struct {
	Listener  string `json:"listener"`   // it was asked at
	Host      string `json:"host"`       // the name asked for
	Front     Step   `json:"front"`      // for the path /
	Other     Step   `json:"other"`      // for a path nobody has thought of
	WellKnown Step   `json:"well_known"` // for files below /.well-known/acme-challenge/ (RFC 8555 section 8.3)
}

// Handling is what happens to a request.
type Handling string

// The ways of handling a request.
const (
	Redirects Handling = "redirects"
	Serves    Handling = "serves files"
	Passes    Handling = "passes on"
	Answered  Handling = "answers" // with a fixed status
	Depends   Handling = "depends" // on something only a request shows
)

// Step is what is done with a request, and where that is written.
type Step struct {
	Place
	Handling Handling `json:"handling"`         // serves, redirects, passes on or answers
	Status   int      `json:"status,omitempty"` // of HTTP, 0 when it cannot be told
	To       string   `json:"to,omitempty"`     // where it is redirected or passed on to, or the folder
	Under    string   `json:"under,omitempty"`  // the path whose place To takes, when it is no root
	Hidden   *Place   `json:"hidden,omitempty"` // a rule made for this path that never gets it
}

// Hop is one way from a site to a server behind it.
type Hop struct {
	Place
	To      string   `json:"to"`                // as configured
	TLS     bool     `json:"tls"`               // it is spoken to over TLS
	Checked bool     `json:"checked"`           // the certificate behind is verified
	Name    string   `json:"name,omitempty"`    // asked for and expected there
	Servers []string `json:"servers,omitempty"` // addresses it stands for
}
