package service

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
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

// hashing bounds how many passphrases are hashed side by side, and so the
// memory that signing in can take.
var hashing = make(chan struct{}, 4)

// argon computes one hash at a time for each place, so that attempts cannot use
// up the memory.
func argon(p safe.Secret, salt []byte, passes, memory uint32, lanes uint8, size uint32) []byte {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	return argon2.IDKey(p, salt, passes, memory, lanes, size)
}

// hashPassphrase stores its parameters with the hash, which can then be raised
// later.
func hashPassphrase(p safe.Secret) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	e := base64.RawStdEncoding
	return fmt.Sprintf(argonForm, argonMemory, argonPasses, argonLanes, e.EncodeToString(salt),
		e.EncodeToString(argon(p, salt, argonPasses, argonMemory, argonLanes, argonSize)))
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
	return subtle.ConstantTimeCompare(argon(p, salt, passes, memory, lanes, uint32(len(want))), want) == 1
}

// throttle slows down whoever guesses: after freeTries failures in a row a
// name or an address waits, twice as long after each further one.
type throttle struct {
	failures *otter.Cache[string, failures] // by name and by address
}

// failures are the failed attempts for a name or an address.
type failures struct {
	n     int       // in a row
	until time.Time // when the next attempt is taken
}

const (
	// freeTries may fail before anybody waits.
	freeTries = 5
	// longestWait bounds how long somebody can keep another from signing in.
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
func (t *throttle) begin(_ context.Context, now time.Time, keys ...string) error {
	for _, k := range keys {
		if f, ok := t.failures.GetIfPresent(k); ok && now.Before(f.until) {
			return &ThrottledError{f.until.Sub(now)}
		}
	}
	for _, k := range keys {
		t.failures.Compute(k, func(f failures, _ bool) (failures, otter.ComputeOp) {
			if f.n++; f.n >= freeTries {
				f.until = now.Add(min(time.Second<<min(f.n-freeTries, 20), longestWait))
			}
			return f, otter.WriteOp
		})
	}
	return nil
}

// succeeded forgets what failed before.
func (t *throttle) succeeded(keys ...string) {
	for _, k := range keys {
		t.failures.Invalidate(k)
	}
}
