// Package fault says how an error is told to whoever asked for something: its
// class, a title, and what to do next. An error carries that itself; whoever
// shows it, as a problem document or on a terminal, needs no list of errors.
package fault

import "errors"

// Class is what an error means for a request.
type Class string

// The classes.
const (
	BadRequest    Class = "bad request"   // it cannot be read as what it should be
	NotTaken      Class = "not taken"     // it can be read, and what it says does not hold
	NotSignedIn   Class = "not signed in" // nobody is known to ask
	NotAllowed    Class = "not allowed"   // who asks may not
	NotFound      Class = "not found"
	NotNow        Class = "not now"  // how things stand is in the way
	TooMany       Class = "too many" // attempts in a time
	Busy          Class = "busy"     // too much is asked at once
	EndedByCaller Class = "ended"    // nobody waits for the answer any more
)

// Told is what is said besides the error's own text.
type Told struct {
	Class Class  // of the error, from which HTTP's status and the exit code follow
	Title string // a few words that do not change
	Next  string // what to do, "" when the text says it
}

// Error is an error that knows how it is told.
type Error interface {
	error
	Told() Told
}

// Of finds the error in a chain that knows how it is told; nil when none does.
// What was wrapped around it is for the log.
func Of(err error) Error {
	var e Error
	if errors.As(err, &e) {
		return e
	}
	return nil
}

// plain is an error that is always the same.
type plain struct {
	told Told   // how it is told
	text string // the sentence
}

// Error implements error.
func (e *plain) Error() string { return e.text }

// Told implements Error.
func (e *plain) Told() Told { return e.told }

// New makes an error that is always the same, to be compared with errors.Is.
func New(class Class, title, text, next string) error { return &plain{Told{class, title, next}, text} }
