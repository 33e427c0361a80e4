// Package check is the catalogue of findings: pure rules over what a look
// brought back. One file holds one family of rules.
//
// A rule sees a Subject and may add findings; it reads no clock and keeps no
// state. Judge runs all rules and gives the binding's verdict. To add a rule,
// write it in its family's file, list it there, and give its code a row in
// Rules: every other list of codes is derived from that table.
package check

import (
	"cmp"
	"slices"

	"insegna.example/internal/core/place"
)

// Severity ranks findings by what they do to visitors.
type Severity string

// The severities, worst first.
const (
	Broken Severity = "broken" // visitors are hurt now
	Due    Severity = "due"    // hurts at a known date
	Weak   Severity = "weak"   // works, below good practice
	Note   Severity = "note"
)

// Severities in order, worst first.
var Severities = []Severity{Broken, Due, Weak, Note}

// Rank orders severities: 0 is the worst.
func (s Severity) Rank() int { return slices.Index(Severities, s) }

// Finding is one rule that is not met at one target.
type Finding struct {
	Code     Code        // of the rule that found it
	Severity Severity    // how bad; perhaps another than the rule's usual one
	Cause    string      // what is wrong, one sentence without a full stop
	Remedy   string      // what to do, one sentence without a full stop
	Evidence []Fact      // what was seen, in the order to read it
	Source   place.Place // in the server's own configuration; none when that is not the matter or not known
}

// Fact is one piece of evidence: a label and what was seen.
type Fact struct {
	Label string `json:"label"` // what it is
	Value string `json:"value"` // as text made harmless
}

// Sort orders findings worst first, then by code.
func Sort(list []Finding) {
	slices.SortStableFunc(list, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.Severity.Rank(), b.Severity.Rank()), cmp.Compare(a.Code, b.Code))
	})
}
