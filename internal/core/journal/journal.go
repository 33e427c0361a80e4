// Package journal is the record of who did what: entries that are only ever
// added, each carrying the hash of the one before, so that a changed, removed
// or inserted entry shows.
//
// It computes and checks the chain; keeping it is the store's work. Entries
// taken off the end leave no gap: whoever wants to see that keeps the newest
// hash elsewhere and gives it to the check.
package journal

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"time"
)

// Hash is the SHA-256 over an entry and the hash of the one before.
type Hash [sha256.Size]byte

// String is the hash in lower-case hexadecimal, as people compare it.
func (h Hash) String() string { return hex.EncodeToString(h[:]) }

// Entry is one act.
type Entry struct {
	ID      int64     // 1, 2, 3... without gaps
	At      time.Time // UTC, whole microseconds
	Actor   string    // who
	Action  string    // what, such as "estate.apply"
	Subject string    // to what
	Detail  string    // JSON
	Before  Hash      // of the entry before; zero for the first
	Hash    Hash      // over this entry and the hash before
}

// Sum gives the hash an entry must carry, over all its fields but the hash
// itself, each with its length in front so that none can run into the next.
func (e *Entry) Sum() Hash {
	h := sha256.New()
	number := func(n uint64) {
		var b [8]byte
		binary.BigEndian.PutUint64(b[:], n)
		h.Write(b[:])
	}
	h.Write(e.Before[:])
	number(uint64(e.ID))
	number(uint64(e.At.UnixMicro()))
	for _, text := range []string{e.Actor, e.Action, e.Subject, e.Detail} {
		number(uint64(len(text)))
		h.Write([]byte(text))
	}
	return Hash(h.Sum(nil))
}

// BrokenError says where a journal is not what was written.
type BrokenError struct {
	ID     int64  // of the first entry that does not fit
	Reason string // what does not fit
}

// Error names the first entry that does not fit those before it.
func (e *BrokenError) Error() string {
	return fmt.Sprintf("the journal is broken at entry %d: %s", e.ID, e.Reason)
}

// Check walks a journal from its first entry.
type Check struct {
	Entries int64 // walked through
	Head    Hash  // of the last entry seen
}

// Next checks the following entry. The error is a *BrokenError.
func (c *Check) Next(e *Entry) error {
	switch {
	case e.ID != c.Entries+1:
		return &BrokenError{c.Entries + 1, fmt.Sprintf("it is missing, entry %d follows", e.ID)}
	case e.Before != c.Head:
		return &BrokenError{e.ID, "it does not follow the entry before: one of the two was changed"}
	case e.Sum() != e.Hash:
		return &BrokenError{e.ID, "what it says is not what was written"}
	}
	c.Entries, c.Head = e.ID, e.Hash
	return nil
}
