package ca

import (
	"strings"
	"sync"
	"time"
)

// Faults are what can be switched on to see how a client bears it. Safe for
// concurrent use.
type Faults struct {
	mu sync.Mutex
	f  Fault
}

// Fault is a set of faults; the zero value is none.
type Fault struct {
	BadNonces int // so many requests are refused for their nonce
	// the next request whose path begins so is done, and its answer lost
	Lose        string
	Limited     time.Duration                                 // new orders are refused for so long
	Replace     func(path string, body []byte) ([]byte, bool) // writes another body in place of one
	Processing  bool                                          // orders never get beyond processing
	OtherNames  bool                                          // certificates are for another name
	OtherKey    bool                                          // certificates are for another key
	NoChain     bool                                          // the chain leads nowhere
	InThePast   bool                                          // certificates have ended before they began to be of use
	BeforeReply func(path string)                             // called when a request is done, before its answer
	Renew       bool                                          // renewal information says now
	Storm       func(path string) Trouble                     // what goes wrong with each request; nil for nothing
	// an account's orders come in pages of so many; 0 for one page
	PageOrders int
}

// Trouble is what goes wrong with one request.
type Trouble int

// The troubles.
const (
	None       Trouble = iota
	Broken             // status 500 from something that stands before the CA, and nothing is done
	Busy               // status 503 with Retry-After of a second, and nothing is done
	LostBefore         // the connection ends, and nothing is done
	LostAfter          // it is done, and the connection ends without an answer
	Cut                // it is done, and the answer ends half-way
	Garbled            // it is done, and the answer cannot be read
	Troubles           // how many there are
)

// Set switches faults on in place of those before.
func (f *Faults) Set(fault Fault) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.f = fault
}

// get is the fault in force.
func (f *Faults) get() Fault {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.f
}

// badNonce uses up one of the refusals for a bad nonce.
func (f *Faults) badNonce() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.f.BadNonces == 0 {
		return false
	}
	f.f.BadNonces--
	return true
}

// loses says, once, whether the answer to a request is to get lost after it was
// done.
func (f *Faults) loses(path string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.f.Lose == "" || !strings.HasPrefix(path, f.f.Lose) {
		return false
	}
	f.f.Lose = ""
	return true
}
