package check

import (
	"fmt"
	"strings"
)

// ServerFacts are what was learnt of one server as a whole.
type ServerFacts struct {
	Server      string
	Trouble     *Trouble  // it could not be read, and nothing else is known
	Refused     string    // what its own test says against the configuration
	RefusedSpot string    // file:line named there
	Untested    string    // why its own test could not be run
	Problems    []Problem // what the reader found
	Keys        []OpenKey
	Unwanted    []Spotted // names configured there that the estate does not want there
	Test        string    // command
}

// Trouble is why a server could not be read.
type Trouble struct{ Code, Text string }

// Codes of trouble.
const (
	HostKeyChanged = "host-key-changed"
	HostKeyUnknown = "host-key-unknown"
	LoginRefused   = "login-refused"
	ConnectionLost = "connection-lost"
	NotReached     = "not-reached"
)

// Troubles are all of them.
var Troubles = []string{HostKeyChanged, HostKeyUnknown, LoginRefused, ConnectionLost, NotReached}

// Problem is something wrong with a configuration.
type Problem struct{ Effect, Spot, Text string }

// OpenKey is a private key file that others may read.
type OpenKey struct {
	Spotted
	Mode string
}

// Spotted is a thing and where the configuration names it.
type Spotted struct{ Name, Spot string }

// ServerFinding is a finding about a server; Subject tells several of one code
// apart.
type ServerFinding struct {
	Finding
	Subject string
}

// manyFindings is how many findings of one code a server gives one by one.
const manyFindings = 50

var troubleRemedies = map[string]string{
	HostKeyChanged: "find out why the machine shows another key before anything else; if it is right, correct the known host",
	HostKeyUnknown: "compare the key with the machine itself, then add it to the known hosts",
	LoginRefused:   "add the service's public key to the authorized keys of that user",
	ConnectionLost: "survey the server again; look at the machine and the network if it happens again",
	NotReached:     "correct what the message names, then survey the server again",
}

// Server gives the findings about a server as a whole.
func Server(f *ServerFacts) []ServerFinding {
	var out []ServerFinding
	add := func(subject string, finding Finding) { out = append(out, ServerFinding{finding, subject}) }
	if t := f.Trouble; t != nil {
		add("", Finding{Code: t.Code, Severity: Weak, Cause: fmt.Sprintf("the configuration of %s was not read: %s", f.Server, t.Text), Remedy: troubleRemedies[t.Code]})
		return out
	}
	if f.Refused != "" {
		add("", Finding{Code: "configuration-refused", Severity: Broken, Source: f.RefusedSpot, Cause: fmt.Sprintf("%s refuses its configuration and can neither reload nor start: %s", f.Server, f.Refused),
			Remedy: "mend that, then " + f.Test, Evidence: append([]Fact{{"said by", f.Test}}, readAs(f.Problems)...)})
	}
	if f.Untested != "" {
		add("", Finding{Code: "test-not-run", Severity: Weak, Cause: fmt.Sprintf("the configuration test of %s could not be run: %s", f.Server, f.Untested), Remedy: "correct the key test of the server's reach in the estate file", Evidence: []Fact{{"command", f.Test}}})
	}
	problems(f, add)
	several(len(f.Keys), func(i int) (string, Finding) {
		k := f.Keys[i]
		return k.Name, Finding{Code: "key-open", Severity: Weak, Source: k.Spot, Cause: fmt.Sprintf("the private key %s may be read by other users (mode %s)", k.Name, k.Mode), Remedy: "close it: chmod 600 " + k.Name}
	}, add)
	several(len(f.Unwanted), func(i int) (string, Finding) {
		u := f.Unwanted[i]
		return u.Name, Finding{Code: "not-in-estate", Severity: Note, Source: u.Spot, Cause: fmt.Sprintf("%s has a site for %s, and the estate does not want it there", f.Server, u.Name),
			Remedy: "add the host to the estate file, or take the site away"}
	}, add)
	return out
}

// readAs is what the reader makes of a configuration that is refused: where a
// quote or a block was opened, not where the server noticed.
func readAs(list []Problem) (out []Fact) {
	const most = 5
	for _, p := range list {
		if p.Effect == "refused" && len(out) < most {
			out = append(out, Fact{"read at " + p.Spot, p.Text})
		}
	}
	return out
}

// problems turns what the reader found into findings. Whether a server takes a
// configuration is for its own test to say; only without it does the reader's
// word count.
func problems(f *ServerFacts, add func(string, Finding)) {
	var list []Problem
	for _, p := range f.Problems {
		if p.Effect != "refused" || f.Untested != "" {
			list = append(list, p)
		}
	}
	several(len(list), func(i int) (string, Finding) {
		p := list[i]
		finding := Finding{Code: "configuration-suspect", Severity: Note, Source: p.Spot, Cause: p.Text, Remedy: "correct that line, then " + f.Test}
		switch p.Effect {
		case "refused":
			finding.Code, finding.Severity = "configuration-refused", Broken
		case "unread":
			finding.Code, finding.Severity, finding.Remedy = "configuration-unread", Weak, "see to it that it can be read; until then some answers may be wrong"
		}
		return p.Spot + " " + p.Text, finding
	}, add)
}

// several adds findings one by one, and the rest in one.
func several(n int, at func(int) (string, Finding), add func(string, Finding)) {
	for i := range n {
		subject, f := at(i)
		if i == manyFindings-1 && n > manyFindings {
			f.Cause += fmt.Sprintf("; and %d more of this kind", n-manyFindings)
			add("more", f)
			return
		}
		add(strings.TrimSpace(subject), f)
	}
}
