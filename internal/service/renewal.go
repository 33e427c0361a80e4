package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"insegna.example/internal/acme"
	"insegna.example/internal/acme/proof"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/issue"
	"insegna.example/internal/issue/acmesource"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// BudgetError says that a CA gives no more certificates for now.
type BudgetError struct {
	CA     string // by name
	Budget Budget // with what is used of it
}

// Error counts, so that it is seen what is left.
func (e *BudgetError) Error() string {
	return fmt.Sprintf("the budget of %s is spent: %d of %d certificates in %d days", e.CA, e.Budget.Used,
		e.Budget.Certificates, e.Budget.Days)
}

// Told implements fault.Error.
func (e *BudgetError) Told() fault.Told {
	return fault.Told{Class: fault.NotNow, Title: "Budget spent",
		Next: "wait until the oldest of them leaves the window, or rehearse instead"}
}

// RestError says that a CA wants to be left alone for a while.
type RestError struct {
	CA, Why string    // by name, and its reason
	Until   time.Time // when it may be asked again
}

// Error has the CA's own reason.
func (e *RestError) Error() string {
	return fmt.Sprintf("%s wants no more requests before %s; it said: %s", e.CA, instant(e.Until), e.Why)
}

// Told implements fault.Error.
func (e *RestError) Told() fault.Told {
	return fault.Told{Class: fault.NotNow, Title: "The CA limits its rate",
		Next: "wait until then, or order from another CA; what serves goes on serving"}
}

// instant writes a moment as errors and steps show it.
func instant(t time.Time) string { return t.UTC().Format("2 January 2006 15:04:05 UTC") }

// BeginOrder begins an order of a mandate, in earnest or in rehearsal.
func (s *Ordering) BeginOrder(ctx context.Context, mandate string, rehearsal bool) (*store.Order, error) {
	return s.beginAs(ctx, mandate, beginning{rehearsal: rehearsal})
}

// beginning says how an order is begun.
type beginning struct {
	rehearsal bool
	gone      string // a CA that is not asked; "" for none
	otherKey  bool   // whatever the mandate says, the key before is not used again
}

// beginAs begins an order of a mandate.
func (s *Ordering) beginAs(ctx context.Context, mandate string, how beginning) (*store.Order, error) {
	m, err := s.store.Mandate(ctx, mandate)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &UnknownError{"mandate", mandate, "mandate list"}
	} else if err != nil {
		return nil, err
	}
	list, why := []store.Mandate{*m}, map[int64]string{}
	list[0].Spec.ReuseKey = list[0].Spec.ReuseKey && !how.otherKey
	if !how.rehearsal || how.gone != "" {
		if why, err = s.choose(ctx, list, how.gone); err != nil {
			return nil, err
		}
	}
	begun, err := s.begin(ctx, list, why, how.rehearsal, false)
	if len(begun) == 0 {
		return nil, err
	}
	if begun[0].ID == 0 {
		return nil, store.ErrOrderRunning
	}
	return begun[0], nil
}

// begin begins the orders of mandates of one CA, in one transaction. When not
// all can be begun the error says why, and the orders are those of the first
// mandates. An order has no ID when one of its mandate is under way or, when
// that is asked for, the mandate is not due any more. Why a mandate is not ordered from
// its first CA is noted with its order.
func (s *Ordering) begin(ctx context.Context, list []store.Mandate, why map[int64]string, rehearsal, due bool) ([]*store.Order, error) {
	_, ca, _, err := s.ca(ctx, list[0].CA)
	if err != nil {
		return nil, err
	}
	account, err := s.askable(ctx, ca, list, rehearsal)
	if err != nil {
		return nil, err
	}
	for {
		orders, err := s.beginWithin(ctx, ca, account, list, rehearsal, due)
		if errors.Is(err, store.ErrOverAllowance) {
			continue
		}
		for _, o := range orders {
			if words := why[o.MandateID]; o.ID != 0 && words != "" {
				if noted := s.store.NoteSteps(ctx, store.OrderStep{OrderID: o.ID, Step: "source", Outcome: string(issue.Done), Words: words,
					At: time.Now().UTC()}); noted != nil {
					return orders, noted
				}
			}
		}
		return orders, err
	}
}

// beginWithin begins what of a list the budget has room for.
func (s *Ordering) beginWithin(ctx context.Context, ca *estate.CA, account *store.Account, list []store.Mandate,
	rehearsal, due bool) ([]*store.Order, error) {
	var short error
	var most *store.Allowance
	if b, err := s.budget(ctx, ca); err != nil {
		return nil, err
	} else if left := b.Left(); !rehearsal && left >= 0 && left < len(list) {
		b.Used += left
		list, short = list[:left], &BudgetError{ca.Name, b}
	}
	if !rehearsal && ca.Budget.Certificates > 0 {
		most = &store.Allowance{CA: ca.Name, Since: budgetSince(ca), Most: ca.Budget.Certificates}
	}
	if len(list) == 0 {
		return nil, short
	}
	// locked in one order by all
	list = slices.SortedFunc(slices.Values(list), func(a, b store.Mandate) int { return cmp.Compare(a.ID, b.ID) })
	replaced, err := s.replaced(ctx, list, account, rehearsal)
	if err != nil {
		return nil, err
	}
	action := "order.begin"
	if rehearsal {
		action = "order.rehearse"
	}
	var accountID *int64
	if account != nil {
		accountID = &account.ID
	}
	now := time.Now().UTC()
	orders, acts := make([]*store.Order, len(list)), make([]*store.Act, len(list))
	for i, m := range list {
		orders[i] = &store.Order{MandateID: m.ID, CA: m.CA, AccountID: accountID, Rehearsal: rehearsal, Spec: m.Spec,
			State: string(issue.Begun), Replaces: replaced[m.ID], By: actor(ctx), CreatedAt: now}
		acts[i] = &store.Act{Actor: actor(ctx), Action: action, Subject: m.Name, Detail: map[string]any{"ca": m.CA}}
	}
	err = s.store.BeginOrders(ctx, orders, acts, due, most, func(ctx context.Context, tx store.Tx, ids []int64) error {
		jobs := make([]orderJob, len(ids))
		for i, id := range ids {
			jobs[i] = orderJob{id}
		}
		return work.Add(ctx, s.jobs, tx, jobs...)
	})
	if err != nil {
		return nil, err
	}
	return orders, short
}

// agreed gives the account orders of a CA go through, unless nobody has agreed
// to its terms or it wants to be left alone.
func (s *Ordering) agreed(ctx context.Context, ca *estate.CA, rehearsal bool) (*store.Account, error) {
	directory, err := directoryOf(ca, rehearsal)
	if err != nil {
		return nil, err
	}
	a, err := s.store.Account(ctx, directory)
	if errors.Is(err, store.ErrNotFound) || err == nil && a.URL == "" {
		return nil, &RefusedError{"nobody has agreed to the terms of " + ca.Name + " yet",
			"read and agree to them: insegna ca agree " + ca.Name}
	} else if err != nil {
		return nil, err
	}
	if a.RestUntil != nil && time.Now().Before(*a.RestUntil) {
		return nil, &RestError{ca.Name, a.RestWhy, *a.RestUntil}
	}
	return a, nil
}

// replaced names, by mandate, the certificates that orders through an account
// take the place of (RFC 9773 section 5).
func (s *Ordering) replaced(ctx context.Context, list []store.Mandate, account *store.Account,
	rehearsal bool) (map[int64]string, error) {
	out := map[int64]string{}
	if rehearsal || account == nil {
		return out, nil
	}
	ids := make([]int64, len(list))
	for i, m := range list {
		ids[i] = m.ID
	}
	before, err := s.store.InForce(ctx, ids)
	for id, o := range before {
		if o.AccountID == nil || *o.AccountID != account.ID {
			continue
		}
		if chain, err := certs.ReadCertificates(o.Chain); err == nil && len(chain) > 0 {
			out[id] = acme.CertificateID(chain[0])
		}
	}
	return out, err
}

// Waits after failures in a row: an hour, twice as long each time, a day at
// most; all shorter where the certificate in force lives less than a day. A CA
// that limits its rate is left alone until the time it gives, though one
// mandate's limit does not hold up all others for more than a day.
const (
	firstRetry = time.Hour
	lastRetry  = 24 * time.Hour
	tries      = int64(lastRetry / firstRetry) // there is time for in a life
)

// pace is the first wait after a failure of a mandate: a share of the life of
// its certificate in force, an hour at most.
func pace(inForce *store.Order) time.Duration {
	if inForce == nil {
		return firstRetry
	}
	chain, err := certs.ReadCertificates(inForce.Chain)
	if err != nil || len(chain) == 0 {
		return firstRetry
	}
	return paceFor(chain[0])
}

// paceFor is the pace of a mandate that has this certificate.
func paceFor(leaf *certs.Certificate) time.Duration {
	return min(leaf.NotAfter.Sub(leaf.NotBefore)/time.Duration(tries), firstRetry)
}

// paceOr is the pace of one mandate; the usual one where that cannot be known.
func (s *Ordering) paceOr(ctx context.Context, mandate int64) time.Duration {
	if pace, _, err := s.paceOf(ctx, mandate); err == nil {
		return pace
	}
	return firstRetry
}

// paceOf is the pace of one mandate.
func (s *Ordering) paceOf(ctx context.Context, mandate int64) (time.Duration, bool, error) {
	before, err := s.store.InForce(ctx, []int64{mandate})
	o, there := before[mandate]
	if !there {
		return firstRetry, false, err
	}
	return pace(&o), true, nil
}

// soonest is how near something due must be for a turn of its own to be planned;
// what is due later is found by the looks that come each minute.
const soonest = time.Hour

// plan plans a turn for what is due, when that is soon.
func (s *Ordering) plan(ctx context.Context, at time.Time) {
	if time.Until(at) > soonest {
		return
	}
	if err := s.jobs.At(ctx, at, dueJob{}); err != nil && ctx.Err() == nil {
		s.cfg.Log.Warn("no look is planned for what is due; one comes within a minute", "error", err)
	}
}

// settle says when a mandate is due next, now that an order of it ends; nil
// after a rehearsal.
func (r *orderRecords) settle(ctx context.Context, o *issue.Order) (*store.Next, error) {
	row, f := r.row, o.Failure
	if f != nil && f.Kind == issue.RateLimited && row.AccountID != nil {
		until := earlier(f.Again, time.Now().Add(lastRetry)).UTC()
		if err := r.s.store.RestAccount(ctx, *row.AccountID, until, clipText(f.Words)); err != nil {
			return nil, err
		}
	}
	if row.Rehearsal {
		return nil, nil
	}
	if f == nil {
		return r.renewal(ctx, o.Leaf), nil
	}
	next := &store.Next{Failures: row.Mandate.Failures + 1}
	first, renews, err := r.s.paceOf(ctx, row.MandateID)
	if err != nil {
		return nil, err
	}
	last := min(lastRetry, first*time.Duration(tries))
	if !f.Again.IsZero() {
		again := time.Now().UTC().Add(min(first<<min(next.Failures-1, 10), last))
		if f.Again.After(again) || f.Kind == issue.RateLimited {
			again = f.Again.UTC()
		}
		next.At, next.Why = &again, "tried again after a failure ("+f.Kind+")"
		return next, nil
	}
	next.Why = "waits for a person: " + clipText(f.Advice)
	if renews { // it will end: nobody's silence stops its renewal
		again := time.Now().UTC().Add(last)
		next.At, next.Why = &again, "waits for a person, tried again each day: "+clipText(f.Advice)
	}
	return next, nil
}

// earlier is the first of two times.
func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// byWindow is why something is due when its CA says so.
const byWindow = "in the window its CA suggests"

// renewal chooses when a certificate is to be renewed: in the window its CA
// suggests (RFC 9773), else some time before its end.
func (r *orderRecords) renewal(ctx context.Context, leaf *certs.Certificate) *store.Next {
	if days := r.row.Spec.RenewDays; days > 0 {
		at := leaf.NotAfter.AddDate(0, 0, -days).UTC()
		return &store.Next{At: &at, Why: fmt.Sprintf("%d days before its end, as the mandate says", days)}
	}
	life := leaf.NotAfter.Sub(leaf.NotBefore)
	at := momentIn(leaf.NotAfter.Add(-life/3), leaf.NotAfter.Add(-life/4)) // those ordered together are not due together
	next := &store.Next{At: &at, Why: "some time after two thirds of its life"}
	if r.client == nil {
		return next
	}
	info, err := r.client.RenewalInfo(ctx, acme.CertificateID(leaf))
	switch {
	case err != nil:
		again := time.Now().Add(firstRetry).UTC()
		next.AskAt = &again
	case info != nil:
		at = momentIn(info.Start, info.End)
		if soonest := time.Now().Add(paceFor(leaf)).UTC(); at.Before(soonest) {
			at = soonest // a CA that says "now" of what it has just issued is not asked for ever
		}
		if from := r.s.followedFrom(ctx, r.row, leaf, at); at.Before(from) {
			at = from
		}
		next.Why, next.ByWindow, next.AskAt = byWindow, true, &info.AskAgain
	}
	return next
}

// followedFrom is when what an order has brought may be renewed because its CA
// wants it to be, at a time or later; zero where that is late enough. A CA that goes
// on saying "now" of what it has just issued is followed less and less often: after
// twice the time the certificate before had.
func (s *Ordering) followedFrom(ctx context.Context, o *store.Order, leaf *certs.Certificate, wanted time.Time) time.Time {
	life := leaf.NotAfter.Sub(leaf.NotBefore)
	if !wanted.Before(o.CreatedAt.Add(max(paceFor(leaf), 2*life/windowShare))) {
		return time.Time{}
	}
	before, err := s.store.IssuedBefore(ctx, o)
	if err != nil {
		return time.Time{}
	}
	had := o.CreatedAt.Sub(before)
	if had >= life/windowShare {
		return time.Time{}
	}
	return o.CreatedAt.Add(max(paceFor(leaf), 2*had)).UTC()
}

// windowShare is the part of its life a certificate has had when its renewal is
// nothing out of the way.
const windowShare = 3

// askAtOnce and askSide are how many mandates one turn asks CAs about, and how
// many of them side by side.
const askAtOnce, askSide = 500, 16

// askAgain asks CAs for the windows they suggest now: one that has moved away
// from when a mandate is due moves that (RFC 9773 section 4.3.2).
func (s *Ordering) askAgain(ctx context.Context) error {
	list, err := s.store.ToAsk(ctx, time.Now().UTC(), askAtOnce)
	if err != nil {
		return err
	}
	var all errgroup.Group
	all.SetLimit(askSide)
	for _, m := range list {
		all.Go(func() error { return s.askFor(ctx, &m) })
	}
	return all.Wait()
}

// askFor asks a CA when it wants one certificate renewed (RFC 9773). A CA that
// is to be left alone is not asked.
func (s *Ordering) askFor(ctx context.Context, m *store.Mandate) error {
	again := time.Now().Add(firstRetry).UTC()
	info, name, from, err := s.windowOf(ctx, m)
	var rest *RestError
	if errors.As(err, &rest) {
		return s.store.Asked(ctx, m.ID, rest.Until.UTC(), nil, "")
	}
	if err != nil || info == nil {
		if err != nil && ctx.Err() == nil {
			s.cfg.Log.Warn("a CA does not say when it wants a certificate renewed", "mandate", m.Name, "error", err)
		}
		return s.store.Asked(ctx, m.ID, again, nil, "")
	}
	at, why := momentIn(info.Start, info.End), byWindow
	if at.Before(from) {
		at = from
	}
	if m.NextAt != nil && !m.NextAt.After(info.End) && !(m.NextAt.Before(info.Start) && m.ByWindow) ||
		m.NextAt != nil && m.ByWindow && at.Equal(*m.NextAt) {
		return s.store.Asked(ctx, m.ID, info.AskAgain, nil, "")
	}
	if info.Explanation != "" {
		why += ", which has moved: " + info.Explanation
	}
	earlier := m.NextAt != nil && at.Before(*m.NextAt)
	if err := s.store.Asked(ctx, m.ID, info.AskAgain, &at, clipText(why)); err != nil {
		return err
	}
	if earlier {
		if err := s.store.AddEvents(ctx, store.Event{At: time.Now().UTC(), Kind: store.RenewalAsked, MandateID: &m.ID,
			Note: clipText(fmt.Sprintf("%s asks for renewal on %s, earlier than was planned (%s): %s", name, at.UTC().Format("2 January 2006 15:04 UTC"),
				m.NextAt.UTC().Format("2 January 2006"), why))}); err != nil {
			return err
		}
	}
	s.plan(ctx, at)
	return nil
}

// windowOf asks the CA that gave a mandate's certificate in force, by name, and tells how
// soon that may be followed. One that has ended is not asked about. The error is a
// *RestError where that CA is to be left alone.
func (s *Ordering) windowOf(ctx context.Context, m *store.Mandate) (info *acme.RenewalInfo, name string, from time.Time, err error) {
	before, err := s.store.InForce(ctx, []int64{m.ID})
	o, there := before[m.ID]
	if err != nil || !there {
		return nil, "", from, err
	}
	chain, err := certs.ReadCertificates(o.Chain)
	if err != nil || len(chain) == 0 || time.Now().After(chain[0].NotAfter) {
		return nil, o.CA, from, err
	}
	_, ca, declaration, err := s.ca(ctx, o.CA)
	if err != nil || ca.By != estate.ByACME || o.Way == store.Taken {
		return nil, o.CA, from, err
	}
	var rest *RestError
	if _, err := s.agreed(ctx, ca, false); errors.As(err, &rest) {
		return nil, o.CA, from, err
	}
	c, err := s.acmeClient(ca, ca.ACME.Directory, declaration)
	if err != nil {
		return nil, o.CA, from, err
	}
	limited, cancel := context.WithTimeout(ctx, caPatience)
	defer cancel()
	if info, err = c.RenewalInfo(limited, acme.CertificateID(chain[0])); info == nil || err != nil {
		return nil, o.CA, from, err
	}
	return info, o.CA, s.followedFrom(ctx, &o, chain[0], info.Start), nil
}

// momentIn is a random moment of a window, so that not all come at once.
func momentIn(start, end time.Time) time.Time {
	n, err := rand.Int(rand.Reader, big.NewInt(max(int64(end.Sub(start)), 1)))
	if err != nil {
		return start
	}
	return start.Add(time.Duration(n.Int64())).UTC()
}

// dueAtOnce is how many orders are begun in one transaction.
const dueAtOnce = 100

// beginDue begins an order for each mandate that is due, and takes down proofs
// that were left standing.
func (s *Ordering) beginDue(ctx context.Context) error {
	if err := s.sweep(ctx); err != nil {
		s.cfg.Log.Warn("proofs are left standing", "error", err)
	}
	for {
		list, err := s.store.Due(ctx, time.Now().UTC(), dueAtOnce)
		if err != nil {
			return err
		}
		why, err := s.choose(ctx, list, "")
		if err != nil {
			return err
		}
		byCA := map[string][]store.Mandate{}
		for _, m := range list {
			byCA[m.CA] = append(byCA[m.CA], m)
		}
		for _, some := range byCA {
			if some, err = s.installable(ctx, some); err != nil {
				return err
			}
			if len(some) == 0 {
				continue
			}
			begun, err := s.begin(ctx, some, why, false, true)
			if err == nil {
				continue
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err := s.postpone(ctx, some[len(begun):], err); err != nil {
				return err
			}
		}
		if len(list) < dueAtOnce {
			return nil
		}
	}
}

// triedAtOnce is how many mandates are tried side by side before they are ordered.
const triedAtOnce = 4

// installable leaves out the mandates whose certificates could not be installed
// where they are now, and makes these due again later: nothing is ordered before
// every local means is known to be good. What a server is in the middle of passes,
// so that it is tried twice.
func (s *Ordering) installable(ctx context.Context, list []store.Mandate) ([]store.Mandate, error) {
	found := make([]error, len(list))
	var all errgroup.Group
	all.SetLimit(triedAtOnce)
	for i := range list {
		if len(list[i].Servers) == 0 {
			continue
		}
		all.Go(func() error {
			refused, err := s.notReady(ctx, list[i].Name)
			if refused != nil {
				select {
				case <-time.After(secondTry):
				case <-ctx.Done():
					return ctx.Err()
				}
				refused, err = s.notReady(ctx, list[i].Name)
			}
			found[i] = refused
			return err
		})
	}
	if err := all.Wait(); err != nil {
		return nil, err
	}
	var ready []store.Mandate
	for i := range list {
		if found[i] == nil {
			ready = append(ready, list[i])
		} else if err := s.postpone(ctx, list[i:i+1], found[i]); err != nil {
			return nil, err
		}
	}
	return ready, nil
}

// secondTry is how long after the first one a mandate is tried again.
const secondTry = 2 * time.Second

// notReady says why a mandate's next certificate could not be installed where its
// last one is; nil when it could.
func (s *Ordering) notReady(ctx context.Context, name string) (refused, err error) {
	m, err := s.Mandate(ctx, name)
	if err != nil || len(m.InUse.Installed) == 0 {
		return nil, err
	}
	err = s.ready(ctx, m, m.InUse.Installed)
	var why *RefusedError
	if errors.As(err, &why) {
		return why, nil
	}
	return nil, err
}

// postpone makes mandates whose orders cannot be begun due again later.
func (s *Ordering) postpone(ctx context.Context, list []store.Mandate, why error) error {
	var rest *RestError
	for _, m := range list {
		first, _, err := s.paceOf(ctx, m.ID)
		if err != nil {
			return err
		}
		later := time.Now().UTC().Add(first)
		if errors.As(why, &rest) {
			later = rest.Until.UTC()
		}
		s.plan(ctx, later)
		if err := s.store.SetNext(ctx, m.ID,
			store.Next{At: &later, Why: "could not be ordered: " + clipText(why.Error()), Failures: m.Failures}); err != nil {
			return err
		}
	}
	return nil
}

// sweep takes down what orders that have ended could not.
func (s *Ordering) sweep(ctx context.Context) error {
	ids, err := s.store.LeftOver(ctx, dueAtOnce)
	if err != nil {
		return err
	}
	var all []error
	for _, id := range ids {
		all = append(all, s.sweepOrder(ctx, id))
	}
	s.swept.Do(func() { all = append(all, s.sweepProbes(ctx)) }) // of a process that died; later ones are in use
	return errors.Join(all...)
}

// sweepOrder takes down proofs of an order that ended and could not, or whose records
// were left for the next one, which has come; not those that stand for another order too.
func (s *Ordering) sweepOrder(ctx context.Context, id int64) error {
	v, err := s.Order(ctx, id)
	if err != nil {
		return err
	}
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return err
	}
	records := &orderRecords{s: s, row: v.Order}
	prover, err := s.prover(ctx, e, v.Spec)
	if err != nil {
		return err
	}
	o := &issue.Order{ID: id}
	left, err := records.Publications(ctx, o)
	if err != nil {
		return err
	}
	others, err := s.store.PublishedBeside(ctx, id)
	if err != nil {
		return err
	}
	left = slices.DeleteFunc(left, func(p proof.Publication) bool {
		return slices.Contains(others, store.Publication{Kind: p.Kind, Name: p.Name, Token: p.Token, Content: p.Content})
	})
	if err := prover.Withdraw(ctx, left); err != nil {
		return err
	}
	return records.Withdrawn(ctx, o, acmesource.TakenDown)
}
