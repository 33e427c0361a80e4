package service

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"path"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"insegna.example/internal/acme"
	"insegna.example/internal/acme/proof"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/issue"
	"insegna.example/internal/reach"
	"insegna.example/internal/store"
	"insegna.example/internal/vault"
	"insegna.example/internal/work"
)

// decodeSecret gives what a secret stands for: keys are handed out as base64.
func decodeSecret(text []byte) []byte {
	trimmed := strings.TrimSpace(string(text))
	for _, e := range []*base64.Encoding{base64.StdEncoding, base64.RawURLEncoding, base64.URLEncoding} {
		if b, err := e.DecodeString(trimmed); err == nil && len(b) >= 16 {
			return b
		}
	}
	return []byte(trimmed)
}

// BudgetError says that a CA gives no more certificates for now.
type BudgetError struct {
	CA     string
	Budget Budget
}

func (e *BudgetError) Error() string {
	return fmt.Sprintf("the budget of %s is spent: %d of %d certificates in %d days", e.CA, e.Budget.Used, e.Budget.Certificates, e.Budget.Days)
}

// BeginOrder begins an order of a mandate, in earnest or in rehearsal.
func (s *Service) BeginOrder(ctx context.Context, mandate string, rehearsal bool) (*store.Order, error) {
	m, err := s.store.Mandate(ctx, mandate)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &UnknownError{"mandate", mandate, "mandate list"}
	} else if err != nil {
		return nil, err
	}
	return s.beginOrder(ctx, m, rehearsal)
}

func (s *Service) beginOrder(ctx context.Context, m *store.Mandate, rehearsal bool) (*store.Order, error) {
	_, ca, _, err := s.ca(ctx, m.CA)
	if err != nil {
		return nil, err
	}
	directory, err := directoryOf(ca, rehearsal)
	if err != nil {
		return nil, err
	}
	a, err := s.store.Account(ctx, directory)
	if errors.Is(err, store.ErrNotFound) || err == nil && a.URL == "" {
		return nil, &RefusedError{"nobody has agreed to the terms of " + ca.Name + " yet", "read and agree to them: insegna ca agree " + ca.Name}
	} else if err != nil {
		return nil, err
	}
	if b, err := s.budget(ctx, ca); err != nil {
		return nil, err
	} else if !rehearsal && b.Left() == 0 {
		return nil, &BudgetError{ca.Name, b}
	}
	o := &store.Order{MandateID: m.ID, CA: m.CA, AccountID: &a.ID, Rehearsal: rehearsal, Spec: m.Spec, State: string(issue.Begun), By: actor(ctx), CreatedAt: time.Now().UTC()}
	if before, err := s.store.InForce(ctx, m.ID); err == nil && !rehearsal {
		if list, err := certs.ReadCertificates(before.Chain); err == nil && len(list) > 0 && before.AccountID != nil && *before.AccountID == a.ID {
			o.Replaces = acme.CertificateID(list[0])
		}
	}
	action := "order.begin"
	if rehearsal {
		action = "order.rehearse"
	}
	act := &store.Act{Actor: o.By, Action: action, Subject: m.Name, Detail: map[string]any{"ca": m.CA}}
	err = s.store.BeginOrder(ctx, o, act, func(ctx context.Context, tx pgx.Tx, id int64) error { return s.jobs.AddOrder(ctx, tx, id) })
	return o, err
}

// OrderView is one order with its steps.
type OrderView struct {
	*store.Order
	Spec    *estate.Mandate
	Failure *issue.Failure
	Steps   []store.OrderStep
}

// Order gives one order with its steps.
func (s *Service) Order(ctx context.Context, id int64) (*OrderView, error) {
	o, err := s.store.Order(ctx, id)
	if err != nil {
		return nil, err
	}
	v, err := ViewOrder(o)
	if err != nil {
		return nil, err
	}
	v.Steps, err = s.store.OrderSteps(ctx, id)
	return v, err
}

// ViewOrder gives an order without its steps.
func ViewOrder(o *store.Order) (*OrderView, error) {
	v := &OrderView{Order: o, Spec: &estate.Mandate{}}
	if err := json.Unmarshal([]byte(o.Spec), v.Spec); err != nil {
		return nil, err
	}
	if o.Failure != nil {
		v.Failure = &issue.Failure{}
		if err := json.Unmarshal([]byte(*o.Failure), v.Failure); err != nil {
			return nil, err
		}
	}
	return v, nil
}

// Orders lists orders, newest first, of one mandate or ("") of all.
func (s *Service) Orders(ctx context.Context, mandate string, before int64, limit int) ([]*OrderView, error) {
	var id int64
	if mandate != "" {
		m, err := s.store.Mandate(ctx, mandate)
		if errors.Is(err, store.ErrNotFound) {
			return nil, &UnknownError{"mandate", mandate, "mandate list"}
		} else if err != nil {
			return nil, err
		}
		id = m.ID
	}
	rows, err := s.store.Orders(ctx, id, before, limit)
	if err != nil {
		return nil, err
	}
	list := make([]*OrderView, len(rows))
	for i := range rows {
		if list[i], err = ViewOrder(&rows[i]); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// runOrder takes an order as far as it goes.
func (s *Service) runOrder(ctx context.Context, id int64) error {
	row, err := s.store.Order(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && row.FinishedAt != nil {
		return nil
	} else if err != nil {
		return err
	}
	v, err := ViewOrder(row)
	if err != nil {
		return err
	}
	o := &issue.Order{ID: id, Names: v.Spec.Names, KeyKind: v.Spec.Key, Replaces: row.Replaces, State: issue.State(row.State), URL: row.URL, Request: row.Request, Tries: row.Tries, Since: row.CreatedAt}
	if row.Sealed != nil {
		if o.Key, err = s.vault.Open(row.Sealed, orderPurpose(id)); err != nil {
			return err
		}
	}
	records := &orderRecords{s: s, row: row}
	m, err := s.machine(ctx, row, v.Spec, records)
	if err != nil {
		var refused *RefusedError
		var unknown *UnknownError
		if !errors.As(err, &refused) && !errors.As(err, &unknown) {
			return err
		}
		o.State, o.Failure = issue.Failed, &issue.Failure{Kind: "refused", Words: err.Error()}
		if refused != nil {
			o.Failure.Advice = refused.Next
		}
		if err := records.Save(ctx, o, "", ""); err != nil {
			return err
		}
		return s.settle(ctx, records, o)
	}
	err = m.Run(ctx, o)
	var wait *issue.WaitError
	if errors.As(err, &wait) {
		if err := records.Note(ctx, o, "waiting", issue.Doing, wait.Error()); err != nil {
			return err
		}
		return &work.Later{At: wait.Until}
	}
	if err != nil {
		return err
	}
	return s.settle(ctx, records, o)
}

func orderPurpose(id int64) string { return fmt.Sprintf("order key %d", id) }

// machine makes what takes an order: client, account, proofs.
func (s *Service) machine(ctx context.Context, row *store.Order, spec *estate.Mandate, records *orderRecords) (*issue.Machine, error) {
	e, ca, declaration, err := s.ca(ctx, row.CA)
	if err != nil {
		return nil, err
	}
	directory, err := directoryOf(ca, row.Rehearsal)
	if err != nil {
		return nil, err
	}
	a, err := s.store.Account(ctx, directory)
	if err != nil {
		return nil, err
	}
	m := &issue.Machine{Kind: acme.HTTP01, Records: records, Anchors: anchorsFor(e, ca), Patience: s.cfg.OrderPatience}
	if m.Account, err = s.accountSigner(a); err != nil {
		return nil, err
	}
	if m.Client, err = s.acmeClient(ca, directory, declaration); err != nil {
		return nil, err
	}
	records.client = m.Client
	if spec.Proof.By == "dns" {
		m.Kind = acme.DNS01
	}
	m.Prover, err = s.prover(ctx, e, spec)
	return m, err
}

// prover gives the means of a mandate's proofs.
func (s *Service) prover(ctx context.Context, e *estate.Estate, spec *estate.Mandate) (proof.Prover, error) {
	switch p := &spec.Proof; p.By {
	case "dns":
		secret, err := s.secret(ctx, p.TSIG.Secret)
		if err != nil {
			return nil, err
		}
		return &proof.Updates{Primary: p.Server, KeyName: p.TSIG.Name, Algorithm: p.TSIG.Algorithm, Secret: secret, Servers: p.Await, Patience: s.cfg.SpreadPatience}, nil
	case "listener":
		return ownListener{}, nil
	}
	return &proof.Files{Folders: func(host string) ([]proof.Folder, error) { return s.folders(ctx, e, spec, host) }}, nil
}

// ownListener answers from the records: what is kept there is published.
type ownListener struct{}

func (ownListener) Publish(context.Context, []proof.Publication) error  { return nil }
func (ownListener) Await(context.Context, []proof.Publication) error    { return nil }
func (ownListener) Withdraw(context.Context, []proof.Publication) error { return nil }

// Answering gives the content of a proof for the service's own listener;
// store.ErrNotFound when there is none.
func (s *Service) Answering(ctx context.Context, host, token string) (string, error) {
	return s.store.Answering(ctx, strings.ToLower(host), token)
}

// folders finds where the servers of a mandate serve a host's files.
func (s *Service) folders(ctx context.Context, e *estate.Estate, spec *estate.Mandate, host string) ([]proof.Folder, error) {
	var list []proof.Folder
	for _, name := range spec.Proof.Servers {
		server := e.Server(name)
		if server == nil || server.Reach == nil {
			return nil, &issue.Failure{Kind: issue.NotPublished, Words: fmt.Sprintf("there is no way to the server %s any more", name), Advice: "declare reach for it in the estate file, or prove on another server"}
		}
		folder := path.Join(spec.Proof.Folder, proof.WellKnown)
		if spec.Proof.Folder == "" {
			found, err := s.rootOf(ctx, name, host, e.CA(spec.CA))
			if err != nil {
				return nil, err
			}
			folder = found
		}
		list = append(list, proof.Folder{Server: name, Path: folder, Open: func(ctx context.Context) (reach.Machine, error) { return open(ctx, server.Reach) }})
	}
	return list, nil
}

// orderRecords keep one order in the store, its key sealed.
type orderRecords struct {
	s   *Service
	row *store.Order

	client *acme.Client // of the order's CA, once it is known
}

// Save implements issue.Records.
func (r *orderRecords) Save(ctx context.Context, o *issue.Order, step, words string) error {
	row := r.row
	row.State, row.URL, row.Request, row.Replaces, row.Tries = string(o.State), o.URL, o.Request, o.Replaces, o.Tries
	if o.Key != nil && row.Sealed == nil {
		var err error
		if row.Sealed, err = r.s.vault.Seal(vault.Secret(o.Key), orderPurpose(o.ID)); err != nil {
			return err
		}
	}
	if o.Chain != nil {
		list, err := certs.ReadCertificates(o.Chain)
		if err != nil {
			return err
		}
		until := list[0].NotAfter.UTC()
		row.Chain, row.Leaf, row.NotAfter = o.Chain, list[0].Fingerprint[:], &until
	}
	if o.Failure != nil {
		text, err := json.Marshal(o.Failure)
		if err != nil {
			return err
		}
		f := string(text)
		row.Failure = &f
	}
	if o.State == issue.Issued || o.State == issue.Failed {
		now := time.Now().UTC()
		row.FinishedAt = &now
	}
	if step == "" {
		return r.s.store.SaveOrder(ctx, row, nil)
	}
	return r.s.store.SaveOrder(ctx, row, &store.OrderStep{OrderID: o.ID, Step: step, Outcome: string(issue.Done), Words: words, At: time.Now().UTC()})
}

// Note implements issue.Records.
func (r *orderRecords) Note(ctx context.Context, o *issue.Order, step string, outcome issue.Outcome, words string) error {
	return r.s.store.NoteStep(ctx, store.OrderStep{OrderID: o.ID, Step: step, Outcome: string(outcome), Words: words, At: time.Now().UTC()})
}

// Known implements issue.Records.
func (r *orderRecords) Known(ctx context.Context, o *issue.Order, url string) bool {
	known, err := r.s.store.KnownOrder(ctx, o.ID, url)
	return known || err != nil
}

// Publications implements issue.Records.
func (r *orderRecords) Publications(ctx context.Context, o *issue.Order) ([]proof.Publication, error) {
	rows, err := r.s.store.Publications(ctx, o.ID)
	list := make([]proof.Publication, len(rows))
	for i, p := range rows {
		list[i] = proof.Publication{Kind: p.Kind, Name: p.Name, Token: p.Token, Content: p.Content}
	}
	return list, err
}

// Publishing implements issue.Records.
func (r *orderRecords) Publishing(ctx context.Context, o *issue.Order, list []proof.Publication, places string) error {
	rows := make([]store.Publication, len(list))
	for i, p := range list {
		rows[i] = store.Publication{OrderID: o.ID, Kind: p.Kind, Name: p.Name, Token: p.Token, Content: p.Content}
	}
	return r.s.store.Publish(ctx, rows, store.OrderStep{OrderID: o.ID, Step: "proof", Outcome: string(issue.Doing), Words: places, At: time.Now().UTC()})
}

// Withdrawn implements issue.Records.
func (r *orderRecords) Withdrawn(ctx context.Context, o *issue.Order) error {
	return r.s.store.Withdrawn(ctx, o.ID, time.Now().UTC())
}

// Waits after failures in a row: an hour, twice as long each time, a day at most.
const (
	firstRetry = time.Hour
	lastRetry  = 24 * time.Hour
)

// settle says when a mandate is due next, after an order has ended.
func (s *Service) settle(ctx context.Context, r *orderRecords, o *issue.Order) error {
	row := r.row
	if o.State == issue.Failed {
		if err := s.store.NoteStep(ctx, store.OrderStep{OrderID: o.ID, Step: "failure", Outcome: string(issue.Wrong), Words: o.Failure.Words + "\n" + o.Failure.Advice, At: time.Now().UTC()}); err != nil {
			return err
		}
	}
	if row.Rehearsal {
		return nil
	}
	if o.State == issue.Failed {
		failures := row.Mandate.Failures + 1
		if o.Failure.Again.IsZero() {
			if _, err := s.store.InForce(ctx, row.MandateID); err == nil { // it will end: nobody's silence stops its renewal
				again := time.Now().UTC().Add(lastRetry)
				return s.store.SetNext(ctx, row.MandateID, &again, "waits for a person, tried again each day: "+clipText(o.Failure.Advice), failures)
			} else if !errors.Is(err, store.ErrNotFound) {
				return err
			}
			return s.store.SetNext(ctx, row.MandateID, nil, "waits for a person: "+clipText(o.Failure.Advice), failures)
		}
		again := time.Now().UTC().Add(min(firstRetry<<min(failures-1, 10), lastRetry))
		if o.Failure.Again.After(again) || o.Failure.Kind == "rateLimited" {
			again = o.Failure.Again.UTC()
		}
		return s.store.SetNext(ctx, row.MandateID, &again, "tried again after a failure ("+o.Failure.Kind+")", failures)
	}
	at, why := r.renewal(ctx, o)
	return s.store.SetNext(ctx, row.MandateID, &at, why, 0)
}

// renewal chooses when a certificate is to be renewed: in the window its CA
// suggests (RFC 9773), else some time before its end.
func (r *orderRecords) renewal(ctx context.Context, o *issue.Order) (time.Time, string) {
	list, err := certs.ReadCertificates(o.Chain)
	if err != nil || len(list) == 0 {
		return time.Now().Add(lastRetry), "its certificate cannot be read"
	}
	leaf := list[0]
	if v, err := ViewOrder(r.row); err == nil && v.Spec.RenewDays > 0 {
		return leaf.NotAfter.AddDate(0, 0, -v.Spec.RenewDays).UTC(), fmt.Sprintf("%d days before its end, as the mandate says", v.Spec.RenewDays)
	}
	if r.client != nil {
		if info, err := r.client.RenewalInfo(ctx, acme.CertificateID(leaf)); err == nil && info != nil {
			return momentIn(info.Start, info.End), "in the window its CA suggests"
		}
	}
	life := leaf.NotAfter.Sub(leaf.NotBefore)
	return leaf.NotAfter.Add(-life / 3).UTC(), "a third of its life before its end"
}

// momentIn is a random moment of a window, so that not all come at once.
func momentIn(start, end time.Time) time.Time {
	n, err := rand.Int(rand.Reader, big.NewInt(max(int64(end.Sub(start)), 1)))
	if err != nil {
		return start
	}
	return start.Add(time.Duration(n.Int64())).UTC()
}

// Bounds of the orders one look for what is due begins.
const (
	dueAtOnce     = 100
	dueSideBySide = 8
)

// BeginDue begins an order for each mandate that is due, and takes down proofs
// that were left standing.
func (s *Service) BeginDue(ctx context.Context) error {
	if err := s.sweep(ctx); err != nil {
		s.cfg.Log.Warn("proofs are left standing", "error", err)
	}
	list, err := s.store.Due(ctx, time.Now().UTC(), dueAtOnce)
	if err != nil {
		return err
	}
	var group errgroup.Group
	group.SetLimit(dueSideBySide)
	for i := range list {
		group.Go(func() error { return s.beginOne(ctx, &list[i]) })
	}
	return group.Wait()
}

// beginOne begins the order of a mandate that is due; one that cannot be begun
// is due again later.
func (s *Service) beginOne(ctx context.Context, m *store.Mandate) error {
	_, err := s.beginOrder(ctx, m, false)
	if err == nil || errors.Is(err, store.ErrOrderRunning) {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	later := time.Now().UTC().Add(firstRetry)
	return s.store.SetNext(ctx, m.ID, &later, "could not be ordered: "+clipText(err.Error()), m.Failures+1)
}

// sweep takes down what orders that have ended could not.
func (s *Service) sweep(ctx context.Context) error {
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

func (s *Service) sweepOrder(ctx context.Context, id int64) error {
	v, err := s.Order(ctx, id)
	if err != nil {
		return err
	}
	e, _, err := s.estateInForce(ctx)
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
	if err := prover.Withdraw(ctx, left); err != nil {
		return err
	}
	return records.Withdrawn(ctx, o)
}
