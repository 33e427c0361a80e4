// Package ownsource is the ways to a certificate that ask nobody over the network:
// one that signs itself, one from a CA of one's own, and one that a person carries
// a request for and brings back.
package ownsource

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"time"

	"insegna.example/internal/core/authority"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/issue"
)

// own is what all of them have in common: nothing is proved, nothing stands
// anywhere, and what fails was this program's.
type own struct{}

// Ask implements issue.Source.
func (own) Ask(context.Context, *issue.Order, bool) (string, error) { return "", nil }

// Prove implements issue.Source.
func (own) Prove(context.Context, *issue.Order) error { return nil }

// Request implements issue.Source.
func (own) Request(context.Context, *issue.Order) (string, error) { return "", nil }

// Withdraw implements issue.Source.
func (own) Withdraw(context.Context, *issue.Order) error { return nil }

// Abandon implements issue.Source.
func (own) Abandon(context.Context, *issue.Order) {}

// Failure implements issue.Source.
func (own) Failure(err error, _ time.Time) (*issue.Failure, bool, time.Time) {
	var f *issue.Failure
	if errors.As(err, &f) {
		return f, false, time.Time{}
	}
	return nil, false, time.Time{}
}

// Life is how long a certificate that signs itself is good: as long as those of
// public CAs at most, so that renewal is practised.
const Life = 90 * 24 * time.Hour

// backdated is how far before now a certificate begins, for clocks that are behind.
const backdated = 5 * time.Minute

// Self makes certificates that sign themselves. One for each order.
type Self struct {
	own
	made []*certs.Certificate
}

// Fetch implements issue.Source.
func (s *Self) Fetch(_ context.Context, o *issue.Order) ([][]byte, error) {
	key, err := x509.ParsePKCS8PrivateKey(o.Key)
	if err != nil {
		return nil, err
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, errors.New("the key of the order cannot sign")
	}
	now := time.Now().UTC()
	der, err := authority.SelfSign(&authority.Wish{Names: o.Names, Subject: o.Subject, Public: signer.Public(), From: now.Add(-backdated),
		Until: now.Add(Life), Usages: []string{"server"}, Staple: o.Staple}, signer, rand.Reader)
	if err != nil {
		return nil, err
	}
	c, err := certs.Parse(der)
	if err != nil {
		return nil, err
	}
	s.made = []*certs.Certificate{c}
	return [][]byte{certs.PEM(der)}, nil
}

// Roots implements issue.Rooted: it ends at itself.
func (s *Self) Roots() []*certs.Certificate { return s.made }

// Hand waits for a person.
type Hand struct {
	own
	To    string // where requests are sent, "" where that is not said
	Reply []byte // what was brought back; nil before
	Sent  string // in words, when and where; "" before
}

// Fetch implements issue.Source.
func (h *Hand) Fetch(context.Context, *issue.Order) ([][]byte, error) {
	if h.Reply != nil {
		return [][]byte{h.Reply}, nil
	}
	words := "the request is ready to be sent"
	switch {
	case h.Sent != "":
		words = "the request was sent " + h.Sent + "; the reply is to be brought back"
	case h.To != "":
		words += " to " + h.To
	}
	return nil, &issue.WaitError{Why: errors.New(words)}
}

// Private issues from a CA of one's own.
type Private struct {
	own
	// Issue signs what an order asks for, or gives what was signed for it before: the
	// certificate with its chain, in PEM
	Issue func(ctx context.Context, o *issue.Order) ([]byte, error)
	Root  []*certs.Certificate // what its certificates end at
}

// Fetch implements issue.Source.
func (p *Private) Fetch(ctx context.Context, o *issue.Order) ([][]byte, error) {
	chain, err := p.Issue(ctx, o)
	if err != nil {
		return nil, fmt.Errorf("a CA of one's own: %w", err)
	}
	return [][]byte{chain}, nil
}

// Roots implements issue.Rooted.
func (p *Private) Roots() []*certs.Certificate { return p.Root }
