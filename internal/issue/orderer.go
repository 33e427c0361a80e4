package issue

import (
	"cmp"
	"context"
	"crypto"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/trust"
)

// Orderer takes an order on over its source. Safe for concurrent use, though one
// order is for one process at a time.
type Orderer struct {
	Source  Source               // the way to the certificate
	Records Records              // store each state before its first request
	Anchors []*certs.Certificate // what a chain has to end at
	// Audiences are those the names are for: of several chains the one that the
	// most of them trust is kept, and of these the first.
	Audiences []*trust.Audience
	Paths     *chain.Builder                      // finds the way to an anchor
	Keys      Keymaker                            // makes the key and keeps it; nil: it is made here and goes into the safe
	Pace      func(context.Context) time.Duration // longest wait between tries, where the default is longer; nil for the default
}

// paced is a wait, shortened to the orderer's pace.
func (m *Orderer) paced(ctx context.Context, wait time.Duration) time.Duration {
	if m.Pace == nil {
		return wait
	}
	return min(wait, m.Pace(ctx))
}

// Bounds of patience.
const (
	mostTries = 8 // without an answer
	mostWait  = 30 * time.Minute
	firstWait = 10 * time.Second
	lastWait  = 5 * time.Minute
	againIn   = time.Hour // after a failure that may pass
)

// Run takes an order as far as it goes: to Issued or Failed, both stored and
// without an error; a *WaitError when it goes on later; or the context's error.
func (m *Orderer) Run(ctx context.Context, o *Order) error {
	err := m.run(ctx, o)
	var wait *WaitError
	if err == nil || errors.As(err, &wait) {
		return err
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	f, later, at := m.Source.Failure(err, time.Now().Add(m.paced(ctx, againIn)))
	if later && o.Tries < mostTries && time.Until(at) < mostWait {
		if at.IsZero() {
			at = time.Now().Add(m.paced(ctx, min(firstWait<<o.Tries, lastWait)))
		}
		o.Tries++
		if saved := m.save(ctx, o); saved != nil {
			return saved
		}
		return &WaitError{at, err}
	}
	if f == nil {
		return err // of this service, not of the order
	}
	if err := m.Source.Withdraw(ctx, o); err != nil {
		f.Words += "; besides, " + err.Error()
	}
	m.Source.Abandon(ctx, o)
	if m.Keys != nil {
		if err := m.Keys.Drop(ctx, o); err != nil {
			f.Words += "; besides, " + err.Error()
		}
	}
	o.State, o.Failure = Failed, f
	return m.save(ctx, o)
}

// save stores an order with what is to be told of it.
func (m *Orderer) save(ctx context.Context, o *Order) error {
	told := o.told
	o.told = nil
	return m.Records.Save(ctx, o, told...)
}

// run lets the source act until the order has ended.
func (m *Orderer) run(ctx context.Context, o *Order) error {
	resumed := o.State == Ordering
	for {
		var err error
		switch o.State {
		case Begun:
			err = m.prepare(ctx, o)
		case Ordering:
			if err = m.act(o, Proving, "order", func() (string, error) { return m.Source.Ask(ctx, o, resumed) }); err == nil && len(o.told) > 0 {
				err = m.save(ctx, o)
			}
		case Proving:
			if err = m.Source.Prove(ctx, o); err == nil {
				o.State = Finalizing
			}
		case Finalizing:
			// not stored by itself: the source tells whether it has had the request
			err = m.act(o, Fetching, "request", func() (string, error) { return m.Source.Request(ctx, o) })
		case Fetching:
			err = m.fetch(ctx, o)
		default:
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// act does an act of the source, which leads to the next state.
func (m *Orderer) act(o *Order, next State, step string, do func() (string, error)) error {
	words, err := do()
	if err != nil {
		return err
	}
	if o.State, o.Tries = next, 0; words != "" {
		o.told = append(o.told, Did(step, words))
	}
	return nil
}

// enter stores an order under its next state, with the step that led there.
func (m *Orderer) enter(ctx context.Context, o *Order, next State, step, words string) error {
	o.State, o.Tries = next, 0
	o.told = append(o.told, Did(step, words))
	return m.save(ctx, o)
}

// prepare makes the key and the request, and has them stored before the source
// hears of the order.
func (m *Orderer) prepare(ctx context.Context, o *Order) error {
	if o.KeyKind == "" {
		o.KeyKind = usualKey
	}
	key, words, err := m.key(ctx, o)
	if err != nil {
		return err
	}
	if o.Request, err = Request(key, o.Names, o.Subject, o.Staple); err != nil {
		return err
	}
	return m.enter(ctx, o, Ordering, "key", words)
}

// key makes the key, or takes the one before where that is to be used again.
func (m *Orderer) key(ctx context.Context, o *Order) (crypto.Signer, string, error) {
	if m.Keys != nil {
		return m.Keys.Make(ctx, o)
	}
	key, words, err := o.key()
	if err != nil {
		return nil, "", &Failure{Kind: "bad-key", Words: err.Error(), Advice: "choose another kind of key in the mandate"}
	}
	o.Key, err = x509.MarshalPKCS8PrivateKey(key)
	return key, words, err
}

// key makes a key for the safe.
func (o *Order) key() (crypto.Signer, string, error) {
	if o.Former != nil {
		key, err := x509.ParsePKCS8PrivateKey(o.Former)
		if s, ok := key.(crypto.Signer); err == nil && ok {
			return s, "the key of the certificate before is used again, as the mandate says", nil
		}
	}
	key, err := NewKey(o.KeyKind)
	return key, "a key of the kind " + o.KeyKind + " is made and encrypted", err
}

// fetch brings and checks the certificate: only what passes is kept.
func (m *Orderer) fetch(ctx context.Context, o *Order) error {
	chains, err := m.Source.Fetch(ctx, o)
	if err != nil {
		return err
	}
	asked, err := x509.ParseCertificateRequest(o.Request)
	if err != nil {
		return err
	}
	anchors := m.Anchors
	if r, ok := m.Source.(Rooted); ok {
		anchors = append(slices.Clip(anchors), r.Roots()...)
	}
	var chosen *Checked
	most := -1
	for _, c := range chains {
		got, wrong := Check(m.Paths, c, o.Names, asked.PublicKey, anchors, time.Now())
		switch {
		case wrong != nil && err == nil:
			err = wrong // of the chain the source prefers
		case wrong != nil:
		default:
			if n := m.trusting(got); n > most {
				chosen, most = got, n
			}
		}
		if most == len(m.Audiences) {
			break // none can do better
		}
	}
	if chosen == nil {
		return &Failure{BadCertificate, err.Error(), "nothing of it is kept as usable; ask the CA about " + o.URL,
			time.Now().Add(m.paced(ctx, againIn))}
	}
	o.Chain, o.Leaf = chosen.PEM, chosen.Leaf
	words := fmt.Sprintf("%s until %s, by %s, ending at %s", cmp.Or(chosen.Leaf.CommonName(), o.Names[0]),
		chosen.Leaf.NotAfter.UTC().Format("2 January 2006"), chosen.Leaf.IssuerName(), chosen.Anchor)
	if len(chains) > 1 {
		words += fmt.Sprintf("; %d chains were offered", len(chains))
	}
	return m.enter(ctx, o, Issued, "certificate", words)
}

// trusting counts the audiences that find a path in a chain as it would be sent. That
// its first certificate was signed by the second has been seen.
func (m *Orderer) trusting(c *Checked) (n int) {
	for _, a := range m.Audiences {
		if m.Paths.Issued(c.List, a).Best(time.Now()) != nil {
			n++
		}
	}
	return n
}
