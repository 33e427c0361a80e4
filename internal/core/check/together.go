package check

import (
	"fmt"
	"strings"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/place"
)

// Shared is a finding that several bindings have for one reason: the same code, and the
// same remedy on one server, or the same certificate or issuer on any.
type Shared struct {
	Server    string            // as the estate names it: the first
	Servers   []string          // each once; at most sharedNamed
	On        int               // servers
	Code      Code              // one of those Foldable
	Key       string            // what the reason is, the same for all of them
	Cause     string            // of the first
	Leaf      certs.Fingerprint // of the first
	Names     int               // hosts that have it
	lastHost  string
	lastOn    string
	Severity  Severity    // the worst of them
	Remedy    string      // that of each
	Source    place.Place // in the server's configuration, of the first
	Endpoints []string    // where it was found, each once; at most sharedNamed
	Hosts     []string    // that are not answered; at most sharedNamed
	Bindings  int         // that have it
	Places    int         // endpoints that have it
	last      string      // endpoint added
}

// sharedNamed is how many hosts and endpoints a finding about all of them names.
const sharedNamed = 5

// Add counts one more binding. Those of one endpoint come one after the other, and so do
// those of one server.
func (s *Shared) Add(server, host, endpoint string, severity Severity, source place.Place) {
	if s.Bindings == 0 {
		s.Severity, s.Source = severity, source
	}
	if severity.Rank() < s.Severity.Rank() {
		s.Severity = severity
	}
	s.Bindings++
	if s.On == 0 || s.lastOn != server {
		s.lastOn = server
		if s.On++; len(s.Servers) < sharedNamed {
			s.Servers = append(s.Servers, server)
		}
	}
	if s.lastHost != host {
		s.lastHost = host
		s.Names++
	}
	if len(s.Hosts) < sharedNamed {
		s.Hosts = append(s.Hosts, host)
	}
	if s.last == endpoint {
		return
	}
	s.last = endpoint
	if s.Places++; len(s.Endpoints) < sharedNamed {
		s.Endpoints = append(s.Endpoints, endpoint)
	}
}

// sharedCauses say of several endpoints what the rules say of one.
var sharedCauses = map[Code]string{
	NothingListens: "nothing listens at %s", NoAnswer: "no answer from %s", NoRoute: "there is no way to %s",
	ConnectionReset:  "connections to %s are torn down before a certificate comes",
	ConnectionClosed: "connections to %s are ended before a certificate comes",
	Silent:           "connections to %s are accepted, and nothing or too little comes",
	PlainHTTP:        "%s speaks http where TLS is expected", NotTLS: "%s speaks something else than TLS",
}

// foldFrom is from how many bindings on what is not of their endpoint is told as one: fewer
// are mended one by one.
const foldFrom = 5

// Folds says whether it is told as one.
func (s *Shared) Folds() bool {
	if RuleOf(s.Code).Traits&AtEndpoint != 0 {
		return s.Bindings > 1
	}
	return s.Bindings >= foldFrom
}

// Together is the one finding about a server, or about several, that stands for those of
// their bindings. Its key tells it apart from others of its code there.
func Together(s *Shared) Found {
	if RuleOf(s.Code).Traits&AtEndpoint == 0 {
		f := Found{Subject: s.Key, Finding: Finding{Code: s.Code, Severity: s.Severity, Source: s.Source,
			Cause:    fmt.Sprintf("%s: the same at %d bindings of %s", s.Cause, s.Bindings, some(s.Servers, s.On)),
			Remedy:   s.Remedy + "; and so for the others",
			Evidence: []Fact{{"hosts", some(s.Hosts, s.Bindings)}, {"endpoints", some(s.Endpoints, s.Places)}}}}
		if RuleOf(s.Code).Traits&OfOneCertificate != 0 {
			f.Leaf, f.Remedy = s.Leaf, s.Remedy
		}
		return f
	}
	return Found{Subject: s.Key,
		Finding: Finding{Code: s.Code, Severity: s.Severity, Remedy: s.Remedy, Source: s.Source,
			Cause: fmt.Sprintf(sharedCauses[s.Code], some(s.Endpoints, s.Places)) +
				fmt.Sprintf(": %d bindings of %s are not served", s.Bindings, s.Server),
			Evidence: []Fact{{"hosts", some(s.Hosts, s.Bindings)}, {"endpoints", some(s.Endpoints, s.Places)}}}}
}

// some names a few of many.
func some(list []string, n int) string {
	text := strings.Join(list, ", ")
	if n > len(list) {
		text += fmt.Sprintf(" and %d more", n-len(list))
	}
	return text
}
