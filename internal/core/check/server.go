package check

import (
	"fmt"
	"slices"
	"strings"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/place"
)

// ServerFacts are what was learnt of one server as a whole.
type ServerFacts struct {
	Server    string        // as the estate names it
	Trouble   *Trouble      // it could not be read, and nothing else is known
	Refused   string        // what its own test says against the configuration
	Passed    bool          // its own test passes all the same: the refusal is what was read
	RefusedAt place.Place   // named there
	Untested  string        // why its own test could not be run
	Problems  []Problem     // what the reader found
	Keys      []OpenKey     // that others may read
	Unwanted  []Unlisted    // names configured there that the estate does not want there
	Lying     []Lying       // files of certificates and keys, sorted out
	Hops      []binding.Hop // what stands behind it
	Test      string        // command
}

// Trouble is why a server could not be read.
type Trouble struct {
	Code Code   // one of those Of(OfReach)
	Text string // the error, made harmless
}

// Problem is something wrong with a configuration.
type Problem struct {
	Effect Effect      // what follows for the server
	At     place.Place // file and line
	Text   string      // what is wrong there
}

// Effect says what a problem means for the server.
type Effect string

// The effects, worst first.
const (
	Refused Effect = "refused" // the server will not take this configuration
	Unread  Effect = "unread"  // it could not be read from here, so it is not known
	Suspect Effect = "suspect" // the server takes it, though hardly as it is meant
)

// OpenKey is a private key file that others may read or change.
type OpenKey struct {
	Placed
	Mode  string // as ls shows it
	Owner string // user and group; "" when not known
	// Usual is whose the server's other keys are, where that is another; "" where it is the
	// same, or not known
	Usual  string
	Closed bool // to all but its owner and group
}

// said gives cause and remedy.
func (k *OpenKey) said(server string) (cause, remedy string) {
	cause = fmt.Sprintf("the private key %s may be read by other users (mode %s", k.Name, k.Mode)
	remedy = "close it: chmod 600 " + k.Name
	switch {
	case k.Closed:
		user, _, _ := strings.Cut(k.Owner, ":")
		return fmt.Sprintf("the private key %s belongs to %s, who may read and change it; the other keys of %s belong to %s", k.Name, user, server,
			k.Usual), fmt.Sprintf("give it to them: chown %s %s", k.Usual, k.Name)
	case k.Usual != "":
		cause += fmt.Sprintf(", and belongs to %s, as no other key of %s does", k.Owner, server)
		remedy = fmt.Sprintf("close it: chown %s %s && chmod 600 %[2]s", k.Usual, k.Name)
	}
	return cause + ")", remedy
}

// Unlisted is a host that a server has a site for, and the estate does not want there.
type Unlisted struct {
	Placed
	Looked string    // address and port it was looked at; "" when it was not
	Found  []Finding // as is found of one that is wanted, worst first
}

// rank puts the worst first.
func (u *Unlisted) rank() int {
	if len(u.Found) == 0 {
		return Note.Rank()
	}
	return u.Found[0].Severity.Rank()
}

// unlistedTold is how much of what was found of one is told.
const unlistedTold = 5

// finding is what is told of one: as bad as what its visitors meet.
func (u *Unlisted) finding(server string) Finding {
	f := Finding{Code: NotInEstate, Severity: Note, Source: u.At,
		Cause:  fmt.Sprintf("%s has a site for %s, and the estate does not want it there", server, u.Name),
		Remedy: "have it taken in, add the host to the estate file, or take the site away"}
	switch {
	case u.Looked != "" && len(u.Found) == 0:
		f.Evidence = append(f.Evidence, Fact{"looked at", u.Looked + ", where nothing is wrong"})
	case u.Looked != "":
		f.Evidence = append(f.Evidence, Fact{"looked at", u.Looked})
	default:
		f.Evidence = append(f.Evidence, Fact{"looked at", "nowhere"})
	}
	for i := range u.Found {
		if found := &u.Found[i]; i < unlistedTold {
			f.Evidence = append(f.Evidence, Fact{string(found.Code), found.Cause})
		}
	}
	if len(u.Found) > 0 {
		worst := &u.Found[0]
		f.Severity = worst.Severity
		f.Cause += "; found there: " + worst.Cause
		f.Remedy += "; for what was found: " + worst.Remedy
	}
	return f
}

// Placed is a thing and where the configuration names it.
type Placed struct {
	Name string      // common name
	At   place.Place // line that names the file
}

// manyFindings is how many findings of one code a server gives one by one.
const manyFindings = 50

// troubleRemedies are next steps for ways to a server that failed, by what
// failed.
var troubleRemedies = map[Code]string{
	HostKeyChanged: "find out why the machine shows another key before anything else; if it is right, correct the known " +
		"host",
	HostKeyUnknown: "compare the key with the machine itself, then: insegna server trust NAME",
	LoginRefused:   "add the service's public key to the authorized keys of that user",
	ConnectionLost: "survey the server again; look at the machine and the network if it happens again",
	NotReached:     "correct what the message names, then survey the server again",
}

// Server gives the findings about a server as a whole.
func Server(f *ServerFacts) []Found {
	var out []Found
	add := func(subject string, finding Finding) { out = append(out, Found{Finding: finding, Subject: subject}) }
	if t := f.Trouble; t != nil {
		add("", Finding{Code: t.Code, Severity: Weak,
			Cause:  fmt.Sprintf("the configuration of %s was not read: %s", f.Server, t.Text),
			Remedy: strings.ReplaceAll(troubleRemedies[t.Code], "NAME", f.Server)})
		return out
	}
	if f.Refused != "" {
		cause := fmt.Sprintf("%s refuses its configuration and can neither reload nor start: %s", f.Server, f.Refused)
		if f.Passed {
			cause = fmt.Sprintf("a reload would end %s, although its own test passes: %s", f.Server, f.Refused)
		}
		add("", Finding{Code: ConfigurationRefused, Severity: Broken, Source: f.RefusedAt, Cause: cause,
			Remedy: "mend that, then " + f.Test, Evidence: append([]Fact{f.refusedBy()}, readAs(f.Problems)...)})
	}
	if f.Untested != "" {
		add("", Finding{Code: TestNotRun, Severity: Weak,
			Cause:  fmt.Sprintf("the configuration test of %s could not be run: %s", f.Server, f.Untested),
			Remedy: "correct the key test of the server's reach in the estate file", Evidence: []Fact{{"command", f.Test}}})
	}
	problems(f, add)
	several(len(f.Keys), func(i int) (string, Finding) {
		k := f.Keys[i]
		cause, remedy := k.said(f.Server)
		found := Finding{Code: KeyOpen, Severity: Weak, Source: k.At, Cause: cause, Remedy: remedy, Evidence: []Fact{{"mode", k.Mode}}}
		if k.Owner != "" {
			found.Evidence = append(found.Evidence, Fact{"owner", k.Owner})
		}
		return k.Name, found
	}, add)
	slices.SortStableFunc(f.Unwanted, func(a, b Unlisted) int { return a.rank() - b.rank() })
	several(len(f.Unwanted), func(i int) (string, Finding) { return f.Unwanted[i].Name, f.Unwanted[i].finding(f.Server) }, add)
	hopsOfServer(f.Hops, add)
	leftOvers(f, add)
	return out
}

// refusedBy says who refuses a configuration.
func (f *ServerFacts) refusedBy() Fact {
	if f.Passed {
		return Fact{"passed by", f.Test + ", which does not open certificates and keys"}
	}
	return Fact{"said by", f.Test}
}

// readAs is what the reader makes of a configuration that is refused: where a
// quote or a block was opened, not where the server noticed.
func readAs(list []Problem) (out []Fact) {
	const most = 5
	for _, p := range list {
		if p.Effect == Refused && len(out) < most {
			out = append(out, Fact{"read at " + p.At.String(), p.Text})
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
		if p.Effect != Refused || f.Untested != "" {
			list = append(list, p)
		}
	}
	several(len(list), func(i int) (string, Finding) {
		p := list[i]
		finding := Finding{Code: ConfigurationSuspect, Severity: Note, Source: p.At, Cause: p.Text,
			Remedy: "correct that line, then " + f.Test}
		switch p.Effect {
		case Refused:
			finding.Code, finding.Severity = ConfigurationRefused, Broken
		case Unread:
			finding.Code, finding.Severity, finding.Remedy = ConfigurationUnread, Weak,
				"see to it that it can be read; until then some answers may be wrong"
		}
		return p.At.String() + " " + p.Text, finding
	}, add)
}

// Further ends the cause of a finding that stands for more than it names.
const Further = "more of this kind"

// several adds findings one by one, and the rest in one.
func several(n int, at func(int) (string, Finding), add func(string, Finding)) {
	for i := range n {
		subject, f := at(i)
		if i == manyFindings-1 && n > manyFindings {
			f.Cause += fmt.Sprintf("; and %d "+Further, n-manyFindings)
			add("more", f)
			return
		}
		add(strings.TrimSpace(subject), f)
	}
}
