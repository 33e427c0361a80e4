// Package issue brings a certificate about: an order is taken step by step from
// its names to a checked certificate with its key.
//
// What a step has brought is stored before the next begins, unless the source can be
// asked for it again, and every step can be repeated, so that a
// process that dies anywhere goes on where it was: nothing is ordered twice
// and no key is lost. Where the certificate comes from is a Source, one folder
// each; how things are stored is given to it.
package issue

import (
	"context"
	"crypto"
	"crypto/x509/pkix"
	"fmt"
	"time"

	"insegna.example/internal/core/certs"
)

// State is how far an order has come.
type State string

// The states, in their order.
const (
	Begun      State = "begun"      // nothing was done yet
	Ordering   State = "ordering"   // the key is made; the CA may have been asked
	Proving    State = "proving"    // the CA has an order, control is being shown
	Finalizing State = "finalizing" // control is shown; the request may have been sent
	Fetching   State = "fetching"   // the certificate is made and is being fetched
	Issued     State = "issued"     // the certificate is checked and kept
	Failed     State = "failed"
)

// Order is one order, with everything it needs to go on.
type Order struct {
	ID       int64              // of the stored row
	Names    []string           // the first is the main one
	KeyKind  string             // such as ecdsa-p256
	Subject  pkix.Name          // of the request
	Profile  string             // of the CA, "" for its usual
	Staple   bool               // the certificate is to ask for stapled OCSP answers
	Former   []byte             // PKCS#8 of a key to be used again; nil for a new one
	Replaces string             // id of the certificate whose place it takes (RFC 9773)
	State    State              // how far it is
	URL      string             // what the source calls it
	Key      []byte             // PKCS#8; in the clear here only; nil where a Keymaker has it
	Request  []byte             // PKCS#10
	Chain    []byte             // PEM, leaf first
	Leaf     *certs.Certificate // the first of the chain; nil before
	Tries    int                // without an answer, in a row
	Since    time.Time          // when it was begun
	Failure  *Failure           // nil unless it failed

	told []Step // what is done and is stored with the next state
}

// Failure is why an order came to nothing.
type Failure struct {
	Kind   string    // the CA's, such as "rateLimited", or our own
	Words  string    // what was said, the CA's own words where it spoke
	Advice string    // what to do
	Again  time.Time // not to be tried before; zero when only a person can help
}

// Error is the cause alone; the advice stands beside it.
func (f *Failure) Error() string { return f.Words }

// Our own kinds of failure.
const (
	BadReply       = "bad-reply"       // the CA's answers cannot be used
	BadCertificate = "bad-certificate" // what it issued is not what was ordered
	NoAnswer       = "no-answer"
	TooLong        = "too-long"
	NoKey          = "no-key"        // it could not be made where it is to stay
	NotPublished   = "not-published" // the proof could not be put up
	NotSpread      = "not-spread"    // a name server lags
	NoProof        = "no-proof"      // the CA does not offer the proof wanted
	RateLimited    = "rateLimited"   // the CA's own kind: it wants fewer requests
)

// Outcome of a step.
type Outcome string

// Outcomes.
const (
	Doing Outcome = "doing"
	Done  Outcome = "done"
	Wrong Outcome = "failed"
)

// Step is what people are told of an order: what is done, how far, and more in words.
// The same step again takes the place of the one before.
type Step struct {
	Name    string
	Outcome Outcome
	Words   string
}

// Did is a step that is done.
func Did(name, words string) Step { return Step{name, Done, words} }

// Records keep an order.
type Records interface {
	// Save keeps everything of an order before its next step, together with what
	// to tell people of those done.
	Save(ctx context.Context, o *Order, told ...Step) error
}

// Keymaker makes and has the keys of orders in the place of the safe. Every act may be
// repeated.
type Keymaker interface {
	// Make makes an order's key, or finds the one made for it before. Nothing but what it
	// signs and its public half gets here. It gives words for the record.
	Make(ctx context.Context, o *Order) (crypto.Signer, string, error)
	// Drop destroys an order's key; that there is none is no error.
	Drop(ctx context.Context, o *Order) error
}

// Source is a way to a certificate, for one order. Every act may be repeated,
// also by a process that finds the order begun by one that died. Its errors are
// its own; Failure says what they mean.
type Source interface {
	// Ask asks for the certificate, or finds what was asked for before (resumed),
	// and keeps in the order's URL what it is called there. It gives words for
	// the record, as the acts below do; none when there is nothing to tell.
	Ask(ctx context.Context, o *Order, resumed bool) (string, error)
	// Prove shows what the source wants shown before it issues. Where there is
	// something to show, it keeps itself that it is shown, under the next state.
	Prove(ctx context.Context, o *Order) error
	// Request hands in the certificate request.
	Request(ctx context.Context, o *Order) (string, error)
	// Fetch brings what was issued: lists of certificates in PEM, the preferred
	// one first. A *WaitError says that it is not there yet; one without a time,
	// that somebody has to bring it.
	Fetch(ctx context.Context, o *Order) ([][]byte, error)
	// Withdraw takes back what was put up for the order, also by a process that
	// died.
	Withdraw(ctx context.Context, o *Order) error
	// Abandon ends at the source what was asked for and comes to nothing, as far as
	// it still waits there. It is the last act of a failed order; that it cannot be
	// done changes nothing.
	Abandon(ctx context.Context, o *Order)
	// Failure says what an error means for the order: why it came to nothing, or
	// that it is tried again (wait) at a time of the source (zero: soon); neither
	// when the fault is this service's own. Failures that may pass are tried again
	// at a time.
	Failure(err error, again time.Time) (f *Failure, wait bool, at time.Time)
}

// Rooted is a source that knows itself what its certificates end at, besides what
// is trusted anyway.
type Rooted interface{ Roots() []*certs.Certificate }

// WaitError says that an order goes on later by itself.
type WaitError struct {
	Until time.Time // when it goes on; zero when somebody has to do something first
	Why   error     // what it waits for
}

// Error tells when and why it goes on later.
func (e *WaitError) Error() string {
	if e.Until.IsZero() {
		return e.Why.Error()
	}
	return fmt.Sprintf("goes on at %s: %v", e.Until.UTC().Format(time.RFC3339), e.Why)
}

// Unwrap gives the reason.
func (e *WaitError) Unwrap() error { return e.Why }
