package binding

import (
	"fmt"
	"net/netip"
)

// Words are how a kind of server calls what causes and remedies speak of. Each
// is a part of a sentence. What is nil or empty is said in neutral words.
type Words struct {
	Listener string                                     // what opens a port: "listener"
	Plain    string                                     // what a listener without TLS lacks: "does not speak TLS"
	Open     func(at netip.AddrPort, exact bool) string // what opens an endpoint for TLS; exact names the address too
	TLS      string                                     // what gives a plain listener TLS
	KeepTLS  string                                     // what keeps a TLS listener from losing it at the next reload
	Name     func(host string) string                   // what makes a site answer for a host
	Refuses  string                                     // what makes a site refuse handshakes: a directive
	Rule     string                                     // what chooses by path inside a site: "rule"
	FreePath func(path string) string                   // what lets a site serve a path before all else
	Unmove   string                                     // what keeps a redirect from taking that path along
}

// Neutral are the words for a kind that brings none.
var Neutral = &Words{
	Listener: "listener", Plain: "does not speak TLS",
	Open: func(at netip.AddrPort, exact bool) string {
		if exact {
			return fmt.Sprintf("add a TLS listener at %s", at)
		}
		return fmt.Sprintf("add a TLS listener on port %d", at.Port())
	},
	TLS:     "switch TLS on there, with certificate and key",
	KeepTLS: "switch TLS on there again, or the next reload ends it",
	Name: func(host string) string {
		return fmt.Sprintf("add %s to the names of the site that should answer, or a site for it", host)
	},
	Refuses:  "refusing handshakes",
	Rule:     "rule",
	FreePath: func(path string) string { return "serve " + path + " from a folder before all other rules" },
	Unmove:   "take that path out of the redirect",
}

// Said gives the words to use.
func (c *Configured) Said() *Words {
	if c.Words == nil {
		return Neutral
	}
	return c.Words
}
