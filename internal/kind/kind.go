// Package kind is what all kinds of server say alike, and what a kind has to
// bring. The folders below hold one kind each and everything particular to it;
// the registry (kind/registry) lists them. Nobody else names a kind.
//
// A reader is a pure function of an fs.FS, so that it works alike over local
// files, SSH, an archive or a test's map. It does not judge: that is
// core/check's work. Paths are absolute, with slashes; a file system's root
// stands for "/". A file system may tell that it failed as a whole, rather than
// in one file, by an error with the method Lost() bool; a reader then gives up,
// so that nothing half-read is taken for the whole.
package kind

import (
	"fmt"
	"io/fs"
	"net/netip"
	"slices"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/place"
	"insegna.example/internal/core/veil"
	"insegna.example/internal/install"
	"insegna.example/internal/reach"
)

// Kind is one kind of server. Parts it lacks are nil; Lacks says so in words.
type Kind struct {
	Declared estate.Kind    // what an estate file may say of it
	Title    string         // as people call it
	Hops     int            // how far behind the visitor it usually stands: 0 at the edge
	Words    *binding.Words // of its remedies; nil takes neutral ones

	Plain veil.Plain // directives whose values are no secrets; nil for none

	Mains []string // other usual main files, such as of other systems

	// Running tells from the words a process was started with whether it is a server of this
	// kind, and with which configuration; nil: that cannot be told
	Running func(words []string) *Running

	Reader Reader // nil: its configuration cannot be read yet
	Tester Tester // nil: no test is known
	// Lenient says that its own test passes what ends the running server at a
	// reload, such as a key that belongs to another certificate: what the reader
	// finds of that (Problem.Late) counts beside the test.
	Lenient  bool
	Installs Installs // nil: nothing can be installed yet
}

// Places are all usual main files of its configuration.
func (k *Kind) Places() []string {
	if k.Reader == nil || k.Declared.Main == "" {
		return nil
	}
	return append([]string{k.Declared.Main}, k.Mains...)
}

// Name is what an estate file calls the kind.
func (k *Kind) Name() string { return k.Declared.Name }

// Running is a server that runs.
type Running struct {
	Main     string            // the main file of its configuration, absolute
	Commands map[string]string // of its reach, where they are not the usual ones
	Untold   string            // what of these a person has to write, in words; "" for nothing
}

// Reader reads a kind's configuration and answers for it.
type Reader interface {
	// Read reads the configuration that begins with the file main, an absolute
	// path. Whatever is wrong in it is told in the reading's Problems; the error
	// is one of the source itself, and then there is no reading.
	Read(fsys fs.FS, main string) (*Reading, error)
	// Answers prepares the answers of a reading, also of a stored one.
	Answers(r *Reading) Answers
}

// Answers tell which site answers, for one reading. Safe for concurrent use.
type Answers interface {
	// Answer tells which site answers for a host at an address and port, which
	// certificates it shows, and why; an empty host is a visitor who names none.
	Answer(host string, at netip.AddrPort) Answer
	// Plain tells what becomes of a request for a path that comes in plain http to
	// an address and port, for a host; an empty host is a visitor who names none.
	// It is false when no site that speaks plain http answers there.
	Plain(host string, at netip.AddrPort, path string) (Step, bool)
	// Elsewhere finds the places of sites in force that have a host's name at
	// any listener; a few of them are enough.
	Elsewhere(host string) []place.Place
	// Idle finds the sites in files not in force that name a host.
	Idle(host string) []*Site
}

// Tester understands a kind's own test of a configuration, and how a
// configuration is taken in.
type Tester interface {
	// Command is what tests the configuration, as the estate file has it.
	Command(way *estate.Reach) string
	// TakeIn is what makes the running server use it, as a person types it.
	TakeIn(way *estate.Reach) string
	// Refusal gives what the test says against a configuration, without marks of
	// time and process, and the place it names; "" when it says nothing of use.
	Refusal(said string) (message string, at place.Place)
}

// Installs makes the destination over which certificates get to a server.
type Installs func(over reach.Connection, server *estate.Server) install.Destination

// Part is something a kind may bring.
type Part string

// The parts, as LackError says them.
const (
	Read    Part = "reading its configuration"
	Install Part = "installing certificates"
)

// Has says whether the kind brings a part.
func (k *Kind) Has(p Part) bool {
	switch p {
	case Read:
		return k.Reader != nil
	case Install:
		return k.Installs != nil
	}
	return false
}

// Parts are all parts a kind may bring.
var Parts = []Part{Read, Install}

// LackError says that something is not possible yet for a kind of server.
type LackError struct {
	Kind *Kind // that lacks it
	Part Part  // what it lacks
}

// Error is the one sentence for everything a kind lacks.
func (e *LackError) Error() string {
	return fmt.Sprintf("%s is not possible for %s yet", e.Part, e.Kind.Title)
}

// Needs gives a *LackError when the kind does not bring a part.
func (k *Kind) Needs(p Part) error {
	if k.Has(p) {
		return nil
	}
	return &LackError{k, p}
}

// Registry lists the kinds of server, in the order people are shown them.
type Registry []*Kind

// Of finds a kind by name. One that is not registered, such as one a stored
// estate names and this program does not know, brings nothing.
func (r Registry) Of(name string) *Kind {
	if at := slices.IndexFunc(r, func(k *Kind) bool { return k.Name() == name }); at >= 0 {
		return r[at]
	}
	return &Kind{Declared: estate.Kind{Name: name}, Title: "the kind " + name}
}

// Plain says of a directive that for some kind its values are no secrets.
func (r Registry) Plain(directive string) bool {
	return slices.ContainsFunc(r, func(k *Kind) bool { return k.Plain != nil && k.Plain(directive) })
}

// Declared are the kinds as an estate file may name them.
func (r Registry) Declared() estate.Kinds {
	out := make(estate.Kinds, len(r))
	for i, k := range r {
		out[i] = k.Declared
	}
	return out
}
