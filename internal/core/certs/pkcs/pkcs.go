// Package pkcs reads and writes the containers that keys and certificates travel
// in: PKCS#7 (RFC 5652), encrypted PKCS#8 (RFC 5958, RFC 8018) and PKCS#12 (RFC
// 7292, RFC 9579), with the ciphers of today and, for reading, those of the
// last thirty years. It deals in bytes; what they are is for package certs.
//
// Containers come from strangers: BER is taken as well as DER, nothing nests
// deeper than a bound, and what a passphrase is made to cost is bounded before
// it is begun.
package pkcs

import (
	"encoding/asn1"
	"errors"
	"fmt"

	"golang.org/x/crypto/cryptobyte"
	tags "golang.org/x/crypto/cryptobyte/asn1"
)

// ErrPassphrase says that a passphrase does not open a container, or that it is
// damaged: most ciphers cannot tell one from the other.
var ErrPassphrase = errors.New("the passphrase does not fit, or the container is damaged")

// UnsupportedError names what a container uses and this package does not know.
type UnsupportedError struct{ What string }

// Error is a sentence without an end.
func (e *UnsupportedError) Error() string { return "it uses " + e.What + ", which is not supported" }

// BrokenError says where the bytes are not what they should be.
type BrokenError struct{ What string }

// Error is a sentence without an end.
func (e *BrokenError) Error() string { return "its " + e.What + " cannot be read" }

// CostError says that a container asks for more work than is done for one.
type CostError struct{ Asked, Most int }

// Error names both numbers.
func (e *CostError) Error() string {
	return fmt.Sprintf("it asks for %d rounds to turn the passphrase into a key; at most %d are done for one container", e.Asked, e.Most)
}

// mostRounds bounds the rounds of hashing for one container, over all of its
// parts: some seconds of a processor. What programs write asks for 2,000 to
// 1,300,000.
const mostRounds = 5_000_000

// Work is what may still be spent on one container.
type Work struct{ left int }

// NewWork is enough for any honest container.
func NewWork() *Work { return &Work{mostRounds} }

// spend takes rounds of work off what is left, or refuses before they are begun.
func (w *Work) spend(rounds, times int) error {
	if rounds < 1 || times < 1 || rounds > w.left/times {
		return &CostError{rounds, mostRounds}
	}
	w.left -= rounds * times
	return nil
}

// Tags of the forms read here.
var (
	explicit0 = tags.Tag(0).Constructed().ContextSpecific()
	implicit0 = tags.Tag(0).ContextSpecific()
)

// algorithm is an AlgorithmIdentifier (RFC 5280 section 4.1.1.2).
type algorithm struct {
	id         asn1.ObjectIdentifier
	parameters cryptobyte.String // whatever follows the identifier
}

// readAlgorithm reads one.
func readAlgorithm(in *cryptobyte.String) (a algorithm, ok bool) {
	ok = in.ReadASN1(&a.parameters, tags.SEQUENCE) && a.parameters.ReadASN1ObjectIdentifier(&a.id)
	return a, ok
}

// addAlgorithm writes an AlgorithmIdentifier; parameters nil for NULL.
func addAlgorithm(b *cryptobyte.Builder, id asn1.ObjectIdentifier, parameters func(*cryptobyte.Builder)) {
	b.AddASN1(tags.SEQUENCE, func(b *cryptobyte.Builder) {
		b.AddASN1ObjectIdentifier(id)
		if parameters == nil {
			b.AddASN1NULL()
			return
		}
		parameters(b)
	})
}

// octets reads an OCTET STRING, also one that BER has cut into parts.
func octets(in *cryptobyte.String, tag tags.Tag) ([]byte, bool) {
	var out cryptobyte.String
	if in.PeekASN1Tag(tag) {
		return out, in.ReadASN1(&out, tag)
	}
	var parts cryptobyte.String
	if !in.ReadASN1(&parts, tag|0x20) {
		return nil, false
	}
	var all []byte
	for !parts.Empty() {
		part, ok := octets(&parts, tags.OCTET_STRING)
		if !ok {
			return nil, false
		}
		all = append(all, part...)
	}
	return all, true
}
