// Package issue brings a certificate about: an order at a CA is taken step by
// step from its names to a checked certificate with its key.
//
// Every step is stored before the next begins and can be repeated, so that a
// process that dies anywhere goes on where it was: nothing is ordered twice
// and no key is lost. How things are stored and how proofs are put up is
// given to it.
package issue

import (
	"context"
	"fmt"
	"time"

	"insegna.example/internal/acme/proof"
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
	ID       int64
	Names    []string // the first is the main one
	KeyKind  string
	Replaces string // id of the certificate whose place it takes (RFC 9773)
	State    State
	URL      string // at the CA
	Key      []byte // PKCS#8; in the clear here only
	Request  []byte // PKCS#10
	Chain    []byte // PEM, leaf first
	Tries    int    // without an answer, in a row
	Since    time.Time
	Failure  *Failure
}

// Failure is why an order came to nothing.
type Failure struct {
	Kind   string    // the CA's, such as "rateLimited", or our own
	Words  string    // what was said, the CA's own words where it spoke
	Advice string    // what to do
	Again  time.Time // not to be tried before; zero when only a person can help
}

func (f *Failure) Error() string { return f.Words }

// Our own kinds of failure.
const (
	BadReply       = "bad-reply"       // the CA's answers cannot be used
	BadCertificate = "bad-certificate" // what it issued is not what was ordered
	NoAnswer       = "no-answer"
	TooLong        = "too-long"
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

// Records keep an order.
type Records interface {
	// Save keeps everything of an order before its next step, together with what
	// to tell people of the one done; an empty step for nothing.
	Save(ctx context.Context, o *Order, step, words string) error
	// Note tells people what happens; the same step again takes the place of the one before.
	Note(ctx context.Context, o *Order, step string, outcome Outcome, words string) error
	// Known says whether another order is under way at this URL.
	Known(ctx context.Context, o *Order, url string) bool
	// Publications are what an order has put up and not yet taken down.
	Publications(ctx context.Context, o *Order) ([]proof.Publication, error)
	// Publishing keeps what is about to be put up, and tells where; Withdrawn that
	// it was taken down.
	Publishing(ctx context.Context, o *Order, list []proof.Publication, places string) error
	Withdrawn(ctx context.Context, o *Order) error
}

// WaitError says that an order goes on later by itself.
type WaitError struct {
	Until time.Time
	Why   error
}

func (e *WaitError) Error() string {
	return fmt.Sprintf("goes on at %s: %v", e.Until.UTC().Format(time.RFC3339), e.Why)
}

// Unwrap gives the reason.
func (e *WaitError) Unwrap() error { return e.Why }

// advice says what to do about a CA's error (RFC 8555 section 6.7).
func advice(kind string) string {
	switch kind {
	case "caa":
		return "add the CA to the CAA record, or take another CA"
	case "connection":
		return "open port 80 from everywhere and see that every address of the name leads to a server of the mandate; insegna mandate check NAME tries it"
	case "dns":
		return "see that the name resolves at every name server; insegna mandate check NAME asks each"
	case "unauthorized", "incorrectResponse":
		return "another server or site answered; insegna mandate check NAME says which"
	case "rateLimited":
		return "wait; the order is tried again after the time the CA gives"
	case "rejectedIdentifier", "unsupportedIdentifier":
		return "take the names it refuses out of the mandate"
	case "userActionRequired":
		return "read the CA's terms and agree to them: insegna ca agree NAME"
	case "externalAccountRequired":
		return "enter the key id and MAC key the CA gave you: external_account in the estate file, insegna credential add NAME"
	case "accountDoesNotExist":
		return "the CA has forgotten the account; agree to its terms again: insegna ca agree NAME"
	case "badCSR", "badPublicKey":
		return "choose another kind of key in the mandate"
	case "alreadyReplaced":
		return "order once more; the certificate it should replace was replaced already"
	}
	return "try again later; if it stays, ask the CA with these words"
}
