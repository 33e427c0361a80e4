package kind

import (
	"net"
	"strconv"
	"strings"
)

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

// Hop is one way from a site to a server behind it, and what the server asks of
// that one.
type Hop struct {
	Place
	To      string   `json:"to"`                // as configured
	Group   string   `json:"group,omitempty"`   // hops of a site with the same one stand in for each other
	Hosts   []string `json:"hosts,omitempty"`   // it is for these alone; none for every host of the site
	TLS     bool     `json:"tls"`               // it is spoken to over TLS
	Checked bool     `json:"checked"`           // the chain of the certificate behind is verified
	Dates   bool     `json:"dates,omitempty"`   // its dates are, chain or not
	Sends   string   `json:"sends,omitempty"`   // the name asked for there (RFC 6066 section 3); "" for none
	Name    string   `json:"name,omitempty"`    // the name its certificate has to be for; "" when any will do
	Trust   string   `json:"trust,omitempty"`   // file or folder of the CAs it is verified with
	Depth   int      `json:"depth,omitempty"`   // most certificates on its path, leaf and root counted; 0 for any number
	Proxied bool     `json:"proxied,omitempty"` // a PROXY header goes before everything else
	Servers []string `json:"servers,omitempty"` // addresses it stands for: host and port, or unix: and a path
	Fails   string   `json:"fails,omitempty"`   // why nothing can come of it, whatever stands behind
	Unknown string   `json:"unknown,omitempty"` // why it cannot be told what is asked of which address
}

// Visitors stands for the name a visitor asks for, in what a hop sends and expects.
const Visitors = "(asked for)"

// Behind is the address of a server behind: host and port, the usual one where none
// is written; false when it is none.
func Behind(text, usual string) (string, bool) {
	if path, is := strings.CutPrefix(text, "unix:"); is {
		path, _, _ = strings.Cut(path, ":")
		return "unix:" + path, strings.HasPrefix(path, "/")
	}
	host, port, err := net.SplitHostPort(text)
	if err != nil {
		host, port = strings.Trim(text, "[]"), usual
	}
	if host == "" || port == "" || strings.ContainsAny(host, "$%{}@*/ ") {
		return "", false
	}
	if n, err := strconv.ParseUint(port, 10, 16); err != nil || n == 0 {
		return "", false
	}
	return net.JoinHostPort(host, port), true
}
