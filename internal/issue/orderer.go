package issue

import (
	"context"
	"crypto"
	"crypto/x509"
	"errors"
	"fmt"
	"time"

	"insegna.example/internal/acme"
	"insegna.example/internal/acme/proof"
	"insegna.example/internal/core/certs"
)

// Orderer takes orders at one CA. Safe for concurrent use.
type Orderer struct {
	Client   *acme.Client
	Account  acme.Signer
	Kind     string // of challenge
	Prover   proof.Prover
	Records  Records
	Anchors  []*certs.Certificate // what a chain has to end at
	Patience time.Duration        // for the CA; half an hour when 0
	Pace     time.Duration        // longest wait between tries, where the default is longer; 0 for the default
}

// again is when something that may pass is tried again.
func (m *Orderer) again() time.Time { return time.Now().Add(m.paced(againIn)) }

// paced is a wait, shortened to the machine's pace.
func (m *Orderer) paced(wait time.Duration) time.Duration {
	if m.Pace > 0 {
		return min(wait, m.Pace)
	}
	return wait
}

// Bounds of patience.
const (
	patience  = 30 * time.Minute
	mostTries = 8 // without an answer
	firstWait = 10 * time.Second
	lastWait  = 5 * time.Minute
	againIn   = time.Hour // after a failure that may pass
)

// Run takes an order as far as it goes: to Issued or Failed, both stored and
// without an error; a *WaitError when it goes on later; or the context's error.
func (m *Orderer) Run(ctx context.Context, o *Order) error {
	err := m.run(ctx, o)
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var lost *acme.LostError
	if errors.As(err, &lost) && o.Tries < mostTries {
		wait := m.paced(min(firstWait<<o.Tries, lastWait))
		o.Tries++
		if saved := m.Records.Save(ctx, o, "", ""); saved != nil {
			return saved
		}
		return &WaitError{time.Now().Add(wait), err}
	}
	if p := limited(err); p != nil && time.Until(p.RetryAfter) < patience && o.Tries < mostTries {
		o.Tries++
		if saved := m.Records.Save(ctx, o, "", ""); saved != nil {
			return saved
		}
		return &WaitError{p.RetryAfter, err}
	}
	f := m.failureOf(err)
	if f == nil {
		return err // of this service, not of the order
	}
	if err := m.withdraw(ctx, o); err != nil {
		var nowhere *Failure
		if !errors.As(err, &nowhere) {
			f.Words += "; besides, " + err.Error()
		} else if err := m.Records.Withdrawn(ctx, o); err != nil { // there was no place to put it up at
			return err
		}
	}
	o.State, o.Failure = Failed, f
	return m.Records.Save(ctx, o, "", "")
}

// limited gives a CA's refusal for the rate of requests that says when it ends;
// nil for any other error.
func limited(err error) *acme.Problem {
	var p *acme.Problem
	if errors.As(err, &p) && p.Limits() && !p.RetryAfter.IsZero() {
		return p
	}
	return nil
}

// failureOf says what is wrong with an order; nil when the fault is this
// service's own.
func (m *Orderer) failureOf(err error) *Failure {
	var own *Failure
	var p *acme.Problem
	var bad *acme.ReplyError
	var lost *acme.LostError
	var lag *proof.LagError
	var refused *proof.RefusedError
	var put *proof.PublishError
	again := m.again()
	switch {
	case errors.As(err, &own):
		return own
	case errors.As(err, &p):
		f := &Failure{Kind: p.Kind(), Words: p.Words(), Advice: advice(p.Kind()), Again: again}
		if p.Limits() {
			f.Kind, f.Advice = RateLimited, advice(RateLimited)
		}
		if p.RetryAfter.After(f.Again) || p.Limits() && !p.RetryAfter.IsZero() {
			f.Again = p.RetryAfter
		}
		return f
	case errors.As(err, &bad):
		return &Failure{BadReply, bad.Error(), "the CA has to mend this; try again later", again}
	case errors.As(err, &lost):
		return &Failure{NoAnswer, lost.Error(), "see that the CA can be reached from the service's machine", again}
	case errors.As(err, &lag):
		return &Failure{NotSpread, lag.Error(), "see why that name server does not follow the primary: notify, transfer, or the server itself", again}
	case errors.As(err, &refused):
		return &Failure{NotPublished, refused.Error(), "correct the key in the mandate or its rights at the name server", again}
	case errors.As(err, &put):
		return &Failure{NotPublished, err.Error(), "see that the service may write there", again}
	}
	return nil
}

func (m *Orderer) run(ctx context.Context, o *Order) error {
	resumed := o.State == Ordering
	var at *acme.Order // as the CA just told it
	for {
		var err error
		switch o.State {
		case Begun:
			err = m.prepare(ctx, o)
		case Ordering:
			at, err = m.order(ctx, o, resumed)
		case Proving:
			at, err = m.prove(ctx, o, at)
		case Finalizing:
			at, err = m.finalize(ctx, o, at)
		case Fetching:
			err = m.fetch(ctx, o, at)
		default:
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// enter stores an order under its next state, with the step that led there.
func (m *Orderer) enter(ctx context.Context, o *Order, next State, step, words string) error {
	o.State, o.Tries = next, 0
	return m.Records.Save(ctx, o, step, words)
}

// prepare makes the key and the request, and has them stored before the CA
// hears of the order.
func (m *Orderer) prepare(ctx context.Context, o *Order) error {
	if o.KeyKind == "" {
		o.KeyKind = usualKey
	}
	key, err := NewKey(o.KeyKind)
	if err != nil {
		return &Failure{Kind: "bad-key", Words: err.Error(), Advice: "choose another kind of key in the mandate"}
	}
	if o.Key, err = x509.MarshalPKCS8PrivateKey(key); err != nil {
		return err
	}
	if o.Request, err = Request(key, o.Names); err != nil {
		return err
	}
	return m.enter(ctx, o, Ordering, "key", "a key of the kind "+o.KeyKind+" is made and encrypted")
}

func identifiers(names []string) []acme.Identifier {
	list := make([]acme.Identifier, len(names))
	for i, n := range names {
		list[i] = acme.Identifier{Type: acme.DNS, Value: n}
	}
	return list
}

// order asks for the order, or finds the one asked for before this process
// died.
func (m *Orderer) order(ctx context.Context, o *Order, resumed bool) (at *acme.Order, err error) {
	names := identifiers(o.Names)
	if resumed {
		known := func(url string) bool { return m.Records.Known(ctx, o, url) }
		if at, err = m.Client.Open(ctx, m.Account, names, known); err != nil {
			return nil, err
		}
	}
	if at == nil {
		at, err = m.Client.NewOrder(ctx, m.Account, names, o.Replaces)
		var p *acme.Problem
		if errors.As(err, &p) && p.Kind() == "alreadyReplaced" && o.Replaces != "" {
			o.Replaces = "" // it is renewed all the same
			at, err = m.Client.NewOrder(ctx, m.Account, names, "")
		}
		if err != nil {
			return nil, err
		}
	}
	o.URL = at.URL
	return at, m.enter(ctx, o, Proving, "order", "the CA has the order as "+o.URL)
}

// until asks how an order stands until it has left a status, never faster than
// the CA wants.
func (m *Orderer) until(ctx context.Context, o *Order, at *acme.Order, left acme.Status) (*acme.Order, error) {
	wait := m.Patience
	if wait == 0 {
		wait = patience
	}
	for deadline := time.Now().Add(wait); at.Status == left; {
		if time.Now().After(deadline) {
			return nil, &Failure{TooLong, fmt.Sprintf("the order has been %s for %s", at.Status, wait), "try again later; if it stays, ask the CA about " + o.URL, m.again()}
		}
		if err := acme.Pause(ctx, at.RetryAfter); err != nil {
			return nil, err
		}
		var err error
		if at, err = m.Client.Order(ctx, m.Account, o.URL); err != nil {
			return nil, err
		}
	}
	return at, nil
}

// prove shows control of every name that is not shown yet.
func (m *Orderer) prove(ctx context.Context, o *Order, at *acme.Order) (*acme.Order, error) {
	var err error
	if at == nil {
		if at, err = m.Client.Order(ctx, m.Account, o.URL); err != nil {
			return nil, err
		}
	}
	if at.Status == acme.Pending {
		accept, err := m.publish(ctx, o, at)
		if err != nil {
			return nil, err
		}
		for _, c := range accept {
			if err := m.Client.Accept(ctx, m.Account, c); err != nil {
				return nil, err
			}
		}
		if err := m.Records.Note(ctx, o, "validation", Doing, "the CA is looking"); err != nil {
			return nil, err
		}
		if at, err = m.until(ctx, o, at, acme.Pending); err != nil {
			return nil, err
		}
	}
	if at.Status == acme.Invalid {
		return nil, m.whyInvalid(ctx, at)
	}
	if err := m.Records.Note(ctx, o, "validation", Done, "the CA has seen the proof of every name"); err != nil {
		return nil, err
	}
	if err := m.withdraw(ctx, o); err != nil {
		// The certificate does not wait for that; what is left is taken down later.
		if err := m.Records.Note(ctx, o, "withdraw", Wrong, err.Error()); err != nil {
			return nil, err
		}
	}
	return at, m.enter(ctx, o, Finalizing, "", "")
}

// publish puts up the proofs of all names still pending, waits until they can
// be seen, and gives the challenges to accept.
func (m *Orderer) publish(ctx context.Context, o *Order, at *acme.Order) (accept []string, err error) {
	var list []proof.Publication
	for _, url := range at.Authorizations {
		z, err := m.Client.Authorization(ctx, m.Account, url)
		if err != nil {
			return nil, err
		}
		if z.Status != acme.Pending {
			continue
		}
		c := z.Challenge(m.Kind)
		if c == nil {
			return nil, &Failure{NoProof, fmt.Sprintf("for %s the CA offers %s, the mandate proves by %s", z.Identifier, z.Offered(), m.Kind), "choose another proof in the mandate", time.Time{}}
		}
		p := proof.Publication{Kind: m.Kind, Name: z.Identifier.Value}
		if m.Kind == acme.DNS01 {
			p.Content, err = acme.DNSValue(m.Account.Key, c.Token)
		} else {
			p.Token = c.Token
			p.Content, err = acme.KeyAuthorization(m.Account.Key, c.Token)
		}
		if err != nil {
			return nil, err
		}
		list = append(list, p)
		if c.Status == acme.Pending {
			accept = append(accept, c.URL)
		}
	}
	if len(list) == 0 {
		return nil, nil
	}
	places := ""
	for i, p := range list {
		if i > 0 {
			places += "\n"
		}
		places += p.Place()
	}
	if err := m.Records.Publishing(ctx, o, list, places); err != nil {
		return nil, err
	}
	if err := m.Prover.Publish(ctx, list); err != nil {
		return nil, err
	}
	if err := m.Prover.Await(ctx, list); err != nil {
		return nil, err
	}
	return accept, m.Records.Note(ctx, o, "proof", Done, places)
}

// withdraw takes down what was put up, also by a process that died.
func (m *Orderer) withdraw(ctx context.Context, o *Order) error {
	list, err := m.Records.Publications(ctx, o)
	if err != nil || len(list) == 0 {
		return err
	}
	if err := m.Prover.Withdraw(ctx, list); err != nil {
		return err
	}
	return m.Records.Withdrawn(ctx, o)
}

// whyInvalid gives the CA's reason for each name it did not accept.
func (m *Orderer) whyInvalid(ctx context.Context, at *acme.Order) error {
	if at.Error != nil && len(at.Error.Subproblems) > 0 {
		return first(at.Error)
	}
	p := &acme.Problem{}
	for _, url := range at.Authorizations {
		z, err := m.Client.Authorization(ctx, m.Account, url)
		if err != nil {
			return err
		}
		for _, c := range z.Challenges {
			if c.Error != nil {
				sub := *c.Error
				sub.Identifier = &z.Identifier
				p.Subproblems = append(p.Subproblems, sub)
			}
		}
	}
	if len(p.Subproblems) > 0 {
		p.Detail = fmt.Sprintf("%d of %d names could not be validated", len(p.Subproblems), len(at.Authorizations))
		return first(p)
	}
	if at.Error != nil {
		return at.Error
	}
	return &Failure{BadReply, "the CA calls the order invalid and gives no reason", "try again later; if it stays, ask the CA about " + at.URL, m.again()}
}

// first gives a problem the type of its first part, which says more.
func first(p *acme.Problem) *acme.Problem {
	out := *p
	out.Type = p.Subproblems[0].Type
	return &out
}

// finalize sends the request, unless the CA has had it already.
func (m *Orderer) finalize(ctx context.Context, o *Order, at *acme.Order) (*acme.Order, error) {
	var err error
	if at == nil {
		if at, err = m.Client.Order(ctx, m.Account, o.URL); err != nil {
			return nil, err
		}
	}
	if at.Status == acme.Ready {
		if at, err = m.Client.Finalize(ctx, m.Account, at, o.Request); err != nil {
			return nil, err
		}
	}
	if at, err = m.until(ctx, o, at, acme.Processing); err != nil {
		return nil, err
	}
	switch at.Status {
	case acme.Valid:
		return at, m.enter(ctx, o, Fetching, "request", "the certificate request is sent")
	case acme.Invalid:
		return nil, m.whyInvalid(ctx, at)
	}
	return nil, &Failure{BadReply, fmt.Sprintf("after the request the CA calls the order %s", at.Status), "try again later; if it stays, ask the CA about " + o.URL, m.again()}
}

// fetch downloads and checks the certificate: only what passes is kept.
func (m *Orderer) fetch(ctx context.Context, o *Order, at *acme.Order) error {
	var err error
	if at == nil {
		if at, err = m.Client.Order(ctx, m.Account, o.URL); err != nil {
			return err
		}
	}
	if at.Status != acme.Valid {
		return &Failure{BadReply, fmt.Sprintf("the order was valid and is %s now", at.Status), "try again later", m.again()}
	}
	chains, err := m.Client.Chains(ctx, m.Account, at.Certificate)
	if err != nil {
		return err
	}
	key, err := x509.ParsePKCS8PrivateKey(o.Key)
	if err != nil {
		return err
	}
	var chosen *Checked
	for _, c := range chains {
		var wrong error
		if chosen, wrong = Check(c, o.Names, key.(crypto.Signer), m.Anchors, time.Now()); wrong == nil {
			break
		}
		if err == nil {
			err = wrong // of the chain the CA prefers
		}
	}
	if chosen == nil {
		return &Failure{BadCertificate, err.Error(), "nothing of it is kept as usable; ask the CA about " + o.URL, m.again()}
	}
	o.Chain = chosen.PEM
	words := fmt.Sprintf("%s until %s, by %s, ending at %s", chosen.Leaf.CommonName(), chosen.Leaf.NotAfter.UTC().Format("2 January 2006"), chosen.Leaf.IssuerName(), chosen.Anchor)
	if len(chains) > 1 {
		words += fmt.Sprintf("; %d chains were offered", len(chains))
	}
	return m.enter(ctx, o, Issued, "certificate", words)
}
