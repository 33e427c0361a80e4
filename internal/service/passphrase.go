package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"runtime"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/maypok86/otter/v2"
	"golang.org/x/crypto/argon2"

	"insegna.example/internal/core/fault"
	"insegna.example/internal/safe"
)

// newSecret makes 32 random bytes and their text form.
func newSecret() (secret []byte, text string) {
	secret = make([]byte, 32)
	_, _ = rand.Read(secret) // never fails, crypto/rand's contract
	return secret, base64.RawURLEncoding.EncodeToString(secret)
}

// secretOf reads a secret that was given out; any other length is none of ours.
func secretOf(text string) ([]byte, error) {
	b, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil && len(b) != 32 {
		err = errors.New("not 32 bytes")
	}
	return b, err
}

// PassphraseError says why a passphrase is not taken.
type PassphraseError struct{ Reason string }

// Error says what is wrong with it, without it.
func (e *PassphraseError) Error() string { return "the passphrase " + e.Reason }

// Told implements fault.Error.
func (e *PassphraseError) Told() fault.Told {
	return fault.Told{Class: fault.NotTaken, Title: "Not taken", Next: ""}
}

// Lengths of a passphrase, in characters.
const (
	shortestPassphrase = 12
	longestPassphrase  = 200
)

// goodPassphrase asks for length, not for kinds of characters, and refuses what
// is no secret: the name itself, one character repeated.
func goodPassphrase(p safe.Secret, name string) error {
	text := string(p)
	n := utf8.RuneCountInString(text)
	kinds := map[rune]bool{}
	for _, r := range text {
		kinds[r] = true
	}
	switch {
	case !utf8.ValidString(text):
		return &PassphraseError{"is no UTF-8 text"}
	case n < shortestPassphrase:
		return &PassphraseError{fmt.Sprintf("is too short; at least %d characters are expected, such as four words",
			shortestPassphrase)}
	case n > longestPassphrase:
		return &PassphraseError{fmt.Sprintf("is too long; at most %d characters are expected", longestPassphrase)}
	case len(kinds) < 5, n < 2*len(name) && strings.Contains(strings.ToLower(text), name):
		return &PassphraseError{"is too easy to guess; four words that do not belong together make a good one"}
	}
	return nil
}

// Cost of argon2id (RFC 9106): 19 MiB, 2 passes, 1 lane; the parameters are
// kept with each hash.
const (
	argonMemory = 19 * 1024
	argonPasses = 2
	argonLanes  = 1
	argonSize   = 32
	argonForm   = "$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s"
)

// hashing bounds what signing in can take of processors and memory: a few hash side
// by side, a bounded number waits, of these a few for each address, and who does
// not wait any more takes no turn. Safe for concurrent use.
type hashing struct {
	places chan struct{} // one for each that hashes

	mu      sync.Mutex
	waiting int            // or hashing
	from    map[string]int // of these by address
}

// Bounds of hashing. Half of the processors are left for everything else.
const (
	mostHashing     = 24
	mostHashingFrom = 3
)

// newHashing leaves half of the processors alone.
func newHashing() *hashing {
	return &hashing{places: make(chan struct{}, max(1, runtime.GOMAXPROCS(0)/2)), from: map[string]int{}}
}

// ErrManySignIn says that too many sign in at once.
var ErrManySignIn = fault.New(fault.Busy, "Busy", "too many sign in at once", "try again in a moment")

// do does something that hashes, once it is its turn; the error is ErrManySignIn
// when too many wait, or the context's when it ended first.
func (h *hashing) do(ctx context.Context, from string, what func()) error {
	h.mu.Lock()
	if h.waiting >= mostHashing || h.from[from] >= mostHashingFrom {
		h.mu.Unlock()
		return ErrManySignIn
	}
	h.waiting++
	h.from[from]++
	h.mu.Unlock()
	defer func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.waiting--
		if h.from[from]--; h.from[from] == 0 {
			delete(h.from, from)
		}
	}()
	select {
	case h.places <- struct{}{}:
		defer func() { <-h.places }()
	case <-ctx.Done():
		return ctx.Err()
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	began := time.Now()
	what()
	if h.crowded() { // the machine is for others as well
		time.Sleep(min(breather*time.Since(began), longestBreather))
	}
	return nil
}

// How long a place rests after a turn when others wait, in times of the turn, and
// at most.
const (
	breather        = 3
	longestBreather = 200 * time.Millisecond
)

// crowded says whether others wait.
func (h *hashing) crowded() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.waiting > cap(h.places)+1
}

// hash hashes a new passphrase.
func (h *hashing) hash(ctx context.Context, from string, p safe.Secret) (kept string, err error) {
	return kept, h.do(ctx, from, func() { kept = hashPassphrase(p) })
}

// same compares a passphrase with what is kept of one, which is looked up once it is its
// turn: who is turned away costs nothing.
func (h *hashing) same(ctx context.Context, from string, p safe.Secret, kept func() (string, error)) (same bool, err error) {
	var failed error
	err = h.do(ctx, from, func() {
		var of string
		if of, failed = kept(); failed == nil {
			same = samePassphrase(p, of)
		}
	})
	return same, cmp.Or(err, failed)
}

// hashPassphrase stores its parameters with the hash, which can then be raised
// later.
func hashPassphrase(p safe.Secret) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	e := base64.RawStdEncoding
	return fmt.Sprintf(argonForm, argonMemory, argonPasses, argonLanes, e.EncodeToString(salt),
		e.EncodeToString(argon2.IDKey(p, salt, argonPasses, argonMemory, argonLanes, argonSize)))
}

// standInHash is checked when there is nobody of a name, so that the answer
// takes as long: no passphrase has it, since it was drawn at random.
const standInHash = "$argon2id$v=19$m=19456,t=2,p=1$8Y0mF4u2r1wq0pS9cTzL5A$Jm3m0cV2C1p7Y1l8nQx0r6w9uT5sZbHkD4fGaEoNvRI"

// samePassphrase compares with the parameters the hash was made with, in
// constant time.
func samePassphrase(p safe.Secret, kept string) bool {
	var memory, passes uint32
	var lanes uint8
	parts := strings.Split(kept, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &lanes); err != nil {
		return false
	}
	salt, errSalt := base64.RawStdEncoding.DecodeString(parts[4])
	want, errWant := base64.RawStdEncoding.DecodeString(parts[5])
	if errSalt != nil || errWant != nil {
		return false
	}
	return subtle.ConstantTimeCompare(argon2.IDKey(p, salt, passes, memory, lanes, uint32(len(want))), want) == 1
}

// throttle slows down whoever guesses: after a few failures in a row an address
// waits, twice as long after each further one. A name by itself never waits: who
// guesses elsewhere does not keep its person out.
type throttle struct {
	failures *otter.Cache[string, failures] // by key
}

// attempt is what an attempt is counted under, and how many may fail before
// anybody waits.
type attempt struct {
	key  string
	free int
}

// attempts are what signing in as somebody from an address is counted under: many
// people may come from one address.
func attempts(name, from string) []attempt {
	return []attempt{{"name " + name + " from " + from, freeTries}, {"address " + from, 4 * freeTries}}
}

// network is what an address is counted as: whoever has one of IPv6 has a whole
// network of 64 bits (RFC 6177).
func network(address string) string {
	const subnet = 64
	addr, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	if addr = addr.Unmap().WithZone(""); addr.Is6() {
		if p, err := addr.Prefix(subnet); err == nil {
			return p.String()
		}
	}
	return addr.String()
}

// failures are the failed attempts for a name or an address.
type failures struct {
	n     int       // in a row
	until time.Time // when the next attempt is taken
}

const (
	// freeTries may fail before anybody waits.
	freeTries = 5
	// longestWait bounds how long an address waits.
	longestWait = 15 * time.Minute
)

// newThrottle remembers for a day, and a bounded number of names.
func newThrottle() *throttle {
	return &throttle{
		otter.Must(&otter.Options[string, failures]{MaximumSize: 100_000,
			ExpiryCalculator: otter.ExpiryWriting[string, failures](24 * time.Hour)})}
}

// ThrottledError says how long to wait before trying again.
type ThrottledError struct{ Wait time.Duration }

// Error says how long to wait.
func (e *ThrottledError) Error() string {
	return fmt.Sprintf("too many failed attempts; try again in %s", e.Wait.Round(time.Second))
}

// Told implements fault.Error.
func (e *ThrottledError) Told() fault.Told {
	return fault.Told{Class: fault.TooMany, Title: "Too many attempts", Next: ""}
}

// begin counts an attempt as failed until succeeded is called, so that
// attempts side by side count as well.
func (t *throttle) begin(now time.Time, list []attempt) error {
	for _, a := range list {
		if f, ok := t.failures.GetIfPresent(a.key); ok && now.Before(f.until) {
			return &ThrottledError{f.until.Sub(now)}
		}
	}
	for _, a := range list {
		t.failures.Compute(a.key, func(f failures, _ bool) (failures, otter.ComputeOp) {
			if f.n++; f.n >= a.free {
				f.until = now.Add(min(time.Second<<min(f.n-a.free, 20), longestWait))
			}
			return f, otter.WriteOp
		})
	}
	return nil
}

// succeeded forgets what failed before.
func (t *throttle) succeeded(list []attempt) {
	for _, a := range list {
		t.failures.Invalidate(a.key)
	}
}
