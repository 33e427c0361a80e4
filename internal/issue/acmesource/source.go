// Package acmesource is the way to a certificate over ACME (RFC 8555): orders at
// a CA's directory, control shown by proofs, and the pre-flight that tries
// beforehand what the CA will try.
package acmesource

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"insegna.example/internal/acme"
	"insegna.example/internal/acme/proof"
	"insegna.example/internal/core/names"
	"insegna.example/internal/issue"
)

// Records keep what this way has to remember of an order besides.
type Records interface {
	// Note tells people what happens.
	Note(ctx context.Context, o *issue.Order, told ...issue.Step) error
	// Known says whether another order is under way at this URL.
	Known(ctx context.Context, o *issue.Order, url string) bool
	// Publications are what an order has put up and not yet taken down.
	Publications(ctx context.Context, o *issue.Order) ([]proof.Publication, error)
	// Publishing keeps what is about to be put up, and gives all that stands for the
	// order then; Withdrawn keeps that it was taken down.
	Publishing(ctx context.Context, o *issue.Order, list []proof.Publication, told ...issue.Step) ([]proof.Publication, error)
	Withdrawn(ctx context.Context, o *issue.Order, told issue.Step) error
	// Proven keeps that control of every name is shown, and whether what was put up is down.
	Proven(ctx context.Context, o *issue.Order, down bool, told ...issue.Step) error
}

// Source takes one order at a CA's directory.
type Source struct {
	Client   *acme.Client  // of the CA
	Account  acme.Signer   // signs the requests
	Kind     string        // of challenge
	Prover   proof.Prover  // puts proofs up
	Records  Records       // note proofs before they are put up
	Patience time.Duration // for the CA; half an hour when 0
	Mandate  string        // name of the one the order is for, for advice
	CA       string        // name of the one that is asked, for advice
	Keep     bool          // what was put up is left for the next order once the CA has seen it

	at *acme.Order // as the CA has just told it, so that it is not asked again
}

// patience is how long a CA may take over a step of an order.
const patience = 30 * time.Minute

// againIn is after what time something the CA has to come to is tried again.
const againIn = time.Hour

// again is when something that may pass is tried again.
func again() time.Time { return time.Now().Add(againIn) }

// limited gives a CA's refusal for the rate of requests that says when it ends;
// nil for any other error.
func limited(err error) *acme.Problem {
	var p *acme.Problem
	if errors.As(err, &p) && p.Limits() && !p.RetryAfter.IsZero() {
		return p
	}
	return nil
}

// Failure implements issue.Source.
func (s *Source) Failure(err error, again time.Time) (f *issue.Failure, wait bool, at time.Time) {
	f = s.failureOf(err, again)
	if p := limited(err); p != nil {
		return f, true, p.RetryAfter
	}
	if at, passing := acme.Passing(err); passing {
		return f, true, at
	}
	return f, false, time.Time{}
}

// failureOf says what is wrong with an order; nil when the fault is this
// service's own.
func (s *Source) failureOf(err error, again time.Time) *issue.Failure {
	var own *issue.Failure
	var p *acme.Problem
	var bad *acme.ReplyError
	var lost *acme.LostError
	var lag *proof.LagError
	var refused *proof.RefusedError
	var put *proof.PublishError
	switch {
	case errors.As(err, &own):
		if !own.Again.IsZero() {
			own.Again = again // in the orderer's pace
		}
		return own
	case errors.As(err, &p):
		f := &issue.Failure{Kind: p.Kind(), Words: p.Words(), Advice: Advice(p.Kind(), s.Mandate, s.CA), Again: again}
		if p.Limits() {
			f.Kind, f.Advice = issue.RateLimited, Advice(issue.RateLimited, s.Mandate, s.CA)
		}
		if p.RetryAfter.After(f.Again) || p.Limits() && !p.RetryAfter.IsZero() {
			f.Again = p.RetryAfter
		}
		return f
	case errors.As(err, &bad):
		return &issue.Failure{Kind: issue.BadReply, Words: bad.Error(), Advice: "the CA has to mend this; try again later",
			Again: again}
	case errors.As(err, &lost):
		return &issue.Failure{Kind: issue.NoAnswer, Words: lost.Error(),
			Advice: "see that the CA can be reached from the service's machine", Again: again}
	case errors.As(err, &lag):
		return &issue.Failure{Kind: issue.NotSpread, Words: lag.Error(),
			Advice: "see why that name server does not follow the primary: notify, transfer, or the server itself", Again: again}
	case errors.As(err, &refused):
		return &issue.Failure{Kind: issue.NotPublished, Words: refused.Error(),
			Advice: "correct the key in the mandate or its rights at the name server", Again: again}
	case errors.As(err, &put):
		return &issue.Failure{Kind: issue.NotPublished, Words: err.Error(), Advice: "see that the service may write there",
			Again: again}
	}
	return nil
}

// Advice says what to do about a CA's error (RFC 8555 section 6.7), for a mandate
// and a CA of these names.
func Advice(kind, mandate, ca string) string {
	switch kind {
	case "caa":
		return "add the CA to the CAA record, or take another CA"
	case "connection":
		return "open port 80 from everywhere and see that every address of the name leads to a server of the mandate; " +
			"insegna mandate check " + mandate + " tries it"
	case "dns":
		return "see that the name resolves at every name server; insegna mandate check " + mandate + " asks each"
	case "unauthorized", "incorrectResponse":
		return "another server or site answered; insegna mandate check " + mandate + " says which"
	case "rateLimited":
		return "wait; the order is tried again after the time the CA gives"
	case "rejectedIdentifier", "unsupportedIdentifier":
		return "take the names it refuses out of the mandate"
	case "userActionRequired":
		return "read the CA's terms and what it shows, and agree to them: insegna ca agree " + ca
	case "externalAccountRequired":
		return "declare the key id the CA gave you under external_account of " + ca +
			" in the estate file, and keep its MAC key in " +
			"the safe under the credential named there: insegna credential add"
	case "accountDoesNotExist":
		return "the CA has forgotten the account; agree to its terms again: insegna ca agree " + ca
	case "invalidProfile":
		return "name a profile it offers in the mandate, or none: insegna ca list"
	case "tls":
		return "see that the CA's connections with acme-tls/1 reach the service's own listener; insegna mandate check " + mandate + " tries it"
	case "badCSR", "badPublicKey":
		return "choose another kind of key in the mandate"
	case "alreadyReplaced":
		return "order once more; the certificate it should replace was replaced already"
	}
	return "try again later; if it stays, ask the CA with these words"
}

// identifiers are the names as the protocol has them (RFC 8555 section 7.1.3, RFC
// 8738 section 3).
func identifiers(list []string) []acme.Identifier {
	out := make([]acme.Identifier, len(list))
	for i, n := range list {
		out[i] = acme.Identifier{Type: acme.DNS, Value: n}
		if names.FormOf(n) == names.Address {
			out[i].Type = acme.IP
		}
	}
	return out
}

// KindOf is the kind of challenge a proof of the estate file answers.
func KindOf(by string) string {
	switch by {
	case "dns", "program", "call":
		return acme.DNS01
	case "tls-alpn":
		return acme.TLSALPN01
	}
	return acme.HTTP01
}

// Bounds of asking for an order in one go.
const (
	mostAsked     = 4                // times more
	longestAsking = 10 * time.Second // that a CA may ask to be waited for in between
)

// refusesReplacing says whether a CA may have refused an order for the
// certificate it was to replace: one that was replaced already, or that belongs to
// another account (RFC 9773 section 5). What speaks of the names or of the account
// does not change without it.
func refusesReplacing(err error) bool {
	var p *acme.Problem
	if !errors.As(err, &p) || p.Limits() {
		return false
	}
	switch p.Kind() {
	case "alreadyReplaced", "malformed", "unauthorized":
		return true
	}
	return false
}

// Ask implements issue.Source: it asks for the order, or finds the one asked for
// before this process died, or whose reply got lost.
func (s *Source) Ask(ctx context.Context, o *issue.Order, resumed bool) (string, error) {
	wish := acme.Wish{Names: identifiers(o.Names), Replaces: o.Replaces, Profile: o.Profile}
	known := func(url string) bool { return s.Records.Known(ctx, o, url) }
	var at *acme.Order
	var err error
	for round := 0; ; round++ {
		if resumed || round > 0 {
			if at, err = s.Client.Open(ctx, s.Account, wish.Names, known); err != nil {
				return "", err
			}
			if at != nil {
				break
			}
		}
		if at, err = s.Client.NewOrder(ctx, s.Account, wish); err == nil {
			break
		}
		again, passing := acme.Passing(err)
		switch {
		case round == mostAsked:
			return "", err
		case passing && time.Until(again) <= longestAsking:
			if round == 0 && again.IsZero() {
				continue
			}
			if err := acme.Pause(ctx, again); err != nil {
				return "", err
			}
		case o.Replaces != "" && refusesReplacing(err):
			o.Replaces, wish.Replaces = "", "" // it is renewed all the same
		default:
			return "", err
		}
	}
	o.URL, s.at = at.URL, at
	return "the CA has the order as " + o.URL, nil
}

// told gives the order as the CA has just told it, or asks.
func (s *Source) told(ctx context.Context, o *issue.Order) (*acme.Order, error) {
	if at := s.at; at != nil {
		s.at = nil
		return at, nil
	}
	return s.Client.Order(ctx, s.Account, o.URL)
}

// until asks how an order stands until it has left a status, never faster than
// the CA wants.
func (s *Source) until(ctx context.Context, o *issue.Order, at *acme.Order, left acme.Status) (*acme.Order, error) {
	wait := s.Patience
	if wait == 0 {
		wait = patience
	}
	for deadline := time.Now().Add(wait); at.Status == left; {
		if time.Now().After(deadline) {
			return nil, &issue.Failure{Kind: issue.TooLong, Words: fmt.Sprintf("the order has been %s for %s", at.Status, wait),
				Advice: "try again later; if it stays, ask the CA about " + o.URL, Again: again()}
		}
		if err := acme.Pause(ctx, at.RetryAfter); err != nil {
			return nil, err
		}
		var err error
		if at, err = s.Client.Order(ctx, s.Account, o.URL); err != nil {
			return nil, err
		}
	}
	return at, nil
}

// Prove implements issue.Source: it shows control of every name that is not
// shown yet.
func (s *Source) Prove(ctx context.Context, o *issue.Order) error {
	at, err := s.told(ctx, o)
	if err != nil {
		return err
	}
	var stands []proof.Publication
	if at.Status == acme.Pending {
		var accept []string
		if stands, accept, err = s.publish(ctx, o, at); err != nil {
			return err
		}
		for _, c := range accept {
			if err := s.Client.Accept(ctx, s.Account, c); err != nil {
				return err
			}
		}
		if at, err = s.until(ctx, o, at, acme.Pending); err != nil {
			return err
		}
	}
	if at.Status == acme.Invalid {
		return s.whyInvalid(ctx, at)
	}
	s.at = at
	told := []issue.Step{issue.Did("validation", "the CA has seen the proof of every name")}
	down := false
	if s.Keep {
		told = append(told, issue.Did("withdraw", "the records are left for the next order, as the mandate says"))
	} else if n, err := s.takeDown(ctx, o, stands); err != nil {
		// The certificate does not wait for that; what is left is taken down later.
		told = append(told, issue.Step{Name: "withdraw", Outcome: issue.Wrong, Words: err.Error()})
	} else if down = n > 0; down {
		told = append(told, TakenDown)
	}
	o.State, o.Tries = issue.Finalizing, 0
	return s.Records.Proven(ctx, o, down, told...)
}

// publish puts up the proofs of all names still pending, waits until they can
// be seen, and gives what stands for the order then and the challenges to accept.
func (s *Source) publish(ctx context.Context, o *issue.Order, at *acme.Order) (stands []proof.Publication, accept []string, err error) {
	var list []proof.Publication
	for _, url := range at.Authorizations {
		z, err := s.Client.Authorization(ctx, s.Account, url)
		if err != nil {
			return nil, nil, err
		}
		if z.Status != acme.Pending {
			continue
		}
		c := z.Challenge(s.Kind)
		if c == nil {
			return nil, nil, &issue.Failure{Kind: issue.NoProof,
				Words:  fmt.Sprintf("for %s the CA offers %s, the mandate proves by %s", z.Identifier, z.Offered(), s.Kind),
				Advice: "choose another proof in the mandate"}
		}
		p := proof.Publication{Kind: s.Kind, Name: z.Identifier.Value}
		if a, err := netip.ParseAddr(p.Name); err == nil {
			p.Name = a.String() // as this program writes it
		}
		switch s.Kind {
		case acme.DNS01:
			p.Content, err = acme.DNSValue(s.Account.Key, c.Token)
		case acme.HTTP01:
			p.Token = c.Token
			fallthrough
		default:
			p.Content, err = acme.KeyAuthorization(s.Account.Key, c.Token)
		}
		if err != nil {
			return nil, nil, err
		}
		list = append(list, p)
		if c.Status == acme.Pending {
			accept = append(accept, c.URL)
		}
	}
	if len(list) == 0 {
		return nil, nil, nil
	}
	places := ""
	for i, p := range list {
		if i > 0 {
			places += "\n"
		}
		places += p.Place()
	}
	asked := []issue.Step{issue.Did("proof", places), {Name: "validation", Outcome: issue.Doing, Words: "the CA is asked to look"}}
	if _, kept := s.Prover.(proof.Kept); kept {
		stands, err = s.Records.Publishing(ctx, o, list, asked...)
		return stands, accept, err
	}
	if stands, err = s.Records.Publishing(ctx, o, list, issue.Step{Name: "proof", Outcome: issue.Doing, Words: places}); err != nil {
		return nil, nil, err
	}
	if err := s.Prover.Publish(ctx, list); err != nil {
		return nil, nil, err
	}
	if err := s.Prover.Await(ctx, list); err != nil {
		return nil, nil, err
	}
	return stands, accept, s.Records.Note(ctx, o, asked...)
}

// Withdraw implements issue.Source: it takes down what was put up.
func (s *Source) Withdraw(ctx context.Context, o *issue.Order) error {
	n, err := s.takeDown(ctx, o, nil)
	if err != nil || n == 0 {
		return err
	}
	return s.Records.Withdrawn(ctx, o, TakenDown)
}

// TakenDown is told once nothing stands anywhere for an order.
var TakenDown = issue.Did("withdraw", "the proofs are taken down")

// takeDown takes down what stands for an order, asking for it where nothing is given,
// and says how many proofs that were.
func (s *Source) takeDown(ctx context.Context, o *issue.Order, stands []proof.Publication) (int, error) {
	if len(stands) == 0 {
		var err error
		if stands, err = s.Records.Publications(ctx, o); err != nil || len(stands) == 0 {
			return 0, err
		}
	}
	err := s.Prover.Withdraw(ctx, stands)
	var nowhere *issue.Failure
	if err != nil && !errors.As(err, &nowhere) { // otherwise there was no place to put it up at
		return 0, err
	}
	return len(stands), nil
}

// Abandon implements issue.Source: authorizations that are still pending are given
// up, so that the order does not wait at the CA (RFC 8555 section 7.5.2).
func (s *Source) Abandon(ctx context.Context, o *issue.Order) {
	if o.URL == "" {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, abandonTime)
	defer cancel()
	at, err := s.Client.Order(ctx, s.Account, o.URL)
	if err != nil || at.Status != acme.Pending && at.Status != acme.Invalid {
		return
	}
	for _, url := range at.Authorizations {
		z, err := s.Client.Authorization(ctx, s.Account, url)
		var bad *acme.ReplyError
		switch {
		case err == nil && z.Status != acme.Pending: // one that is valid is good for the next order
		case err == nil, errors.As(err, &bad):
			_ = s.Client.Release(ctx, s.Account, url)
		default:
			return
		}
	}
}

// abandonTime bounds what is spent on an order that has failed.
const abandonTime = 10 * time.Second

// whyInvalid gives the CA's reason for each name it did not accept.
func (s *Source) whyInvalid(ctx context.Context, at *acme.Order) error {
	if at.Error != nil && len(at.Error.Subproblems) > 0 {
		return first(at.Error)
	}
	p := &acme.Problem{}
	for _, url := range at.Authorizations {
		z, err := s.Client.Authorization(ctx, s.Account, url)
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
	return &issue.Failure{Kind: issue.BadReply, Words: "the CA calls the order invalid and gives no reason",
		Advice: "try again later; if it stays, ask the CA about " + at.URL, Again: again()}
}

// first gives a problem the type of its first part, which says more.
func first(p *acme.Problem) *acme.Problem {
	out := *p
	out.Type = p.Subproblems[0].Type
	return &out
}

// Request implements issue.Source: it sends the request, unless the CA has had
// it already.
func (s *Source) Request(ctx context.Context, o *issue.Order) (string, error) {
	at, err := s.told(ctx, o)
	if err != nil {
		return "", err
	}
	if at.Status == acme.Ready {
		if at, err = s.Client.Finalize(ctx, s.Account, at, o.Request); err != nil {
			return "", err
		}
	}
	if at, err = s.until(ctx, o, at, acme.Processing); err != nil {
		return "", err
	}
	switch at.Status {
	case acme.Valid:
		s.at = at
		return "the certificate request is sent", nil
	case acme.Invalid:
		return "", s.whyInvalid(ctx, at)
	}
	return "", &issue.Failure{Kind: issue.BadReply,
		Words:  fmt.Sprintf("after the request the CA calls the order %s", at.Status),
		Advice: "try again later; if it stays, ask the CA about " + o.URL, Again: again()}
}

// Fetch implements issue.Source.
func (s *Source) Fetch(ctx context.Context, o *issue.Order) ([][]byte, error) {
	at, err := s.told(ctx, o)
	if err != nil {
		return nil, err
	}
	if at.Status != acme.Valid {
		return nil, &issue.Failure{Kind: issue.BadReply, Words: fmt.Sprintf("the order was valid and is %s now", at.Status),
			Advice: "try again later", Again: again()}
	}
	return s.Client.Chains(ctx, s.Account, at.Certificate)
}
