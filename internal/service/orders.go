package service

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"insegna.example/internal/acme"
	"insegna.example/internal/acme/proof"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/trust"
	"insegna.example/internal/issue"
	"insegna.example/internal/issue/acmesource"
	"insegna.example/internal/reach"
	"insegna.example/internal/safe"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// decodeCredential gives what a credential stands for: keys are handed out as base64.
func decodeCredential(text []byte) []byte {
	trimmed := strings.TrimSpace(string(text))
	for _, e := range []*base64.Encoding{base64.StdEncoding, base64.RawURLEncoding, base64.URLEncoding} {
		if b, err := e.DecodeString(trimmed); err == nil && len(b) >= 16 {
			return b
		}
	}
	return []byte(trimmed)
}

// OrderView is one order with its steps.
type OrderView struct {
	*store.Order
	Spec    *estate.Mandate   // as it was when the order began
	Failure *issue.Failure    // nil unless it failed
	Steps   []store.OrderStep // in order
}

// Order gives one order with its steps.
func (s *Ordering) Order(ctx context.Context, id int64) (*OrderView, error) {
	o, err := s.store.Order(ctx, id)
	if err != nil {
		return nil, err
	}
	v := ViewOrder(o)
	v.Steps, err = s.store.OrderSteps(ctx, id)
	return v, err
}

// ViewOrder gives an order without its steps.
func ViewOrder(o *store.Order) *OrderView {
	return &OrderView{Order: o, Spec: &o.Spec, Failure: (*issue.Failure)(o.Failure)}
}

// Orders lists orders, newest first, of one mandate or ("") of all.
func (s *Ordering) Orders(ctx context.Context, mandate string, before int64, limit int) ([]*OrderView, error) {
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
		list[i] = ViewOrder(&rows[i])
	}
	return list, nil
}

// orderJob takes an order on.
type orderJob struct {
	Number int64 `json:"number"` // of the order
}

// Kind implements work.Args.
func (orderJob) Kind() string { return "order" }

// formerEach is how often keys of former certificates are looked through.
const formerEach = 6 * time.Hour

// formerJob destroys the keys of former certificates beyond those that are kept.
type formerJob struct{}

// Kind implements work.Args.
func (formerJob) Kind() string { return "former_keys" }

// workTries is how often the job of an order or an installation is begun again
// after failures.
const workTries = 100

// register registers the jobs of orders.
func (s *Ordering) register() {
	work.Handle(s.jobs, work.Orders, workTries,
		func(ctx context.Context, j orderJob) error { return s.runOrder(ctx, j.Number) })
	work.Handle(s.jobs, work.Looks, 1, func(ctx context.Context, _ formerJob) error {
		return errors.Join(s.store.DropACMEObjects(ctx, time.Now().UTC()), s.DropFormerKeys(ctx))
	})
	s.jobs.Every(formerEach, formerJob{})
	s.registerDrills()
}

// runOrder takes an order as far as it goes.
func (s *Ordering) runOrder(ctx context.Context, id int64) error {
	row, err := s.store.Order(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	} else if err != nil {
		return err
	}
	if row.FinishedAt != nil { // by a process that died then
		s.ended(ctx, row)
		return nil
	}
	v := ViewOrder(row)
	o := &issue.Order{ID: id, Names: v.Spec.Names, KeyKind: v.Spec.Key, Replaces: row.Replaces,
		Subject: subjectOf(&v.Spec.Subject), Staple: v.Spec.Staple, Profile: v.Spec.Profile,
		State: issue.State(row.State), URL: row.URL, Request: row.Request, Tries: row.Tries, Since: row.CreatedAt}
	if row.Encrypted != nil {
		if o.Key, err = s.safe.Decrypt(row.Encrypted, orderPurpose(id)); err != nil {
			return err
		}
	}
	if v.Spec.ReuseKey && o.State == issue.Begun && !row.Rehearsal {
		if o.Former, err = s.formerKey(ctx, row); err != nil {
			return err
		}
	}
	records := &orderRecords{s: s, row: row}
	m, err := s.orderer(ctx, row, v.Spec, records)
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
		return records.Save(ctx, o)
	}
	if time.Now().Before(records.rest) {
		if err := records.waits(ctx, o, "the CA wants no more requests before "+instant(records.rest)); err != nil {
			return err
		}
		return &work.Later{At: records.rest}
	}
	if key := s.distantKeyOf(row); key != nil {
		defer key.Close()
		m.Keys = key
	}
	err = m.Run(ctx, o)
	var wait *issue.WaitError
	if errors.As(err, &wait) && wait.Until.IsZero() {
		return s.awaitPerson(ctx, o, row, records, wait)
	}
	if errors.As(err, &wait) {
		var p *acme.Problem
		// the CA limits its rate: nothing else is asked of it either
		if errors.As(err, &p) && row.AccountID != nil && (p.Limits() || !p.RetryAfter.IsZero()) {
			if err := s.store.RestAccount(ctx, *row.AccountID, wait.Until.UTC(), clipText(p.Words())); err != nil {
				return err
			}
		}
		if err := records.waits(ctx, o, wait.Error()); err != nil {
			return err
		}
		return &work.Later{At: wait.Until}
	}
	if err == nil {
		s.ended(ctx, row)
	}
	return err
}

// orderPurpose binds the ciphertext of a key to its order.
func orderPurpose(id int64) string { return fmt.Sprintf("order key %d", id) }

// orderKey opens the private key of an order, as PEM.
func (s *Ordering) orderKey(o *store.Order) ([]byte, error) {
	key, err := s.orderSigner(o)
	if err != nil {
		return nil, err
	}
	return certs.KeyPEM(key)
}

// orderSigner opens the private key of an order.
func (s *Ordering) orderSigner(o *store.Order) (crypto.Signer, error) {
	if o.Spec.KeyOn != "" {
		return nil, &RefusedError{fmt.Sprintf("the key of order %d was made on %s and is kept there alone", o.ID, o.Spec.KeyOn),
			fmt.Sprintf("do there what needs it; the certificate alone: insegna order certificate %d", o.ID)}
	}
	if o.KeyGoneAt != nil {
		return nil, &RefusedError{fmt.Sprintf("the key of order %d was destroyed on %s, as one of a former certificate", o.ID,
			o.KeyGoneAt.UTC().Format("2 January 2006")), "take the newest certificate of the mandate: insegna mandate show " + o.Mandate.Name}
	}
	der, err := s.safe.Decrypt(o.Encrypted, orderPurpose(o.ID))
	if err != nil {
		return nil, err
	}
	key, err := x509.ParsePKCS8PrivateKey(der)
	if err != nil {
		return nil, errors.New("an order's key cannot be read")
	}
	return key.(crypto.Signer), nil
}

// orderer makes what takes an order on, over its CA's source.
func (s *Ordering) orderer(ctx context.Context, row *store.Order, spec *estate.Mandate,
	records *orderRecords) (*issue.Orderer, error) {
	e, ca, declaration, err := s.ca(ctx, row.CA)
	if err != nil {
		return nil, err
	}
	m := &issue.Orderer{Records: records, Anchors: anchorsFor(e, ca), Audiences: audiencesOf(e, spec), Paths: s.paths,
		Pace: func(ctx context.Context) time.Duration { return s.paceOr(ctx, row.MandateID) }}
	open := sources[ca.By]
	if open == nil {
		return nil, &RefusedError{fmt.Sprintf("%s is asked by %s, which this program cannot do", ca.Name, ca.By),
			"use the version of insegna that applied the estate file"}
	}
	m.Source, err = open(s, ctx, &asked{e, ca, declaration, row, spec, records})
	return m, err
}

// audiencesOf are the classes of clients the names of a mandate are for; the
// estate's first where it says nothing of a name.
func audiencesOf(e *estate.Estate, spec *estate.Mandate) (out []*trust.Audience) {
	wanted := map[string]bool{}
	for _, name := range spec.Names {
		h := e.Host(name)
		if h == nil || len(h.Audiences) == 0 {
			wanted[e.Audiences[0].Name] = true
			continue
		}
		for _, a := range h.Audiences {
			wanted[a] = true
		}
	}
	for _, a := range Audiences(e) {
		if wanted[a.Name] {
			out = append(out, a)
		}
	}
	return out
}

// asked is everything a source may need of an order.
type asked struct {
	estate      *estate.Estate  // in force
	ca          *estate.CA      // it is ordered from
	declaration int64           // number of the estate in force
	row         *store.Order    // as stored
	spec        *estate.Mandate // what is ordered
	records     *orderRecords   // store what happens
}

// sources make the ways to a certificate, by how a CA is asked.
var sources = map[string]func(*Ordering, context.Context, *asked) (issue.Source, error){
	estate.ByACME:    (*Ordering).acmeSource,
	estate.ByPrivate: (*Ordering).privateSource,
	estate.BySelf:    (*Ordering).selfSource,
	estate.ByHand:    (*Ordering).handSource,
}

// acmeSource makes the way over ACME: client, account, proofs.
func (s *Ordering) acmeSource(ctx context.Context, a *asked) (issue.Source, error) {
	directory, err := directoryOf(a.ca, a.row.Rehearsal)
	if err != nil {
		return nil, err
	}
	account, err := s.store.Account(ctx, directory)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &RefusedError{"there is no account at " + a.ca.Name + " any more", "agree to its terms: insegna ca agree " + a.ca.Name}
	} else if err != nil {
		return nil, err
	}
	out := &acmesource.Source{Kind: acmesource.KindOf(a.spec.Proof.By), Records: a.records, Patience: s.cfg.OrderPatience,
		Mandate: a.spec.Name, CA: a.ca.Name, Keep: a.spec.Proof.Keep && !a.row.Rehearsal}
	if out.Client, err = s.acmeClient(a.ca, directory, a.declaration); err != nil {
		return nil, err
	}
	if err := s.settleKey(ctx, out.Client, account); err != nil {
		return nil, err
	}
	if out.Account, err = s.accountSigner(account); err != nil {
		return nil, err
	}
	a.records.client = out.Client
	if account.RestUntil != nil {
		a.records.rest = *account.RestUntil
	}
	out.Prover, err = s.prover(ctx, a.estate, a.spec)
	return out, err
}

// prover gives the means of a mandate's proofs.
func (s *Ordering) prover(ctx context.Context, e *estate.Estate, spec *estate.Mandate) (proof.Prover, error) {
	switch p := &spec.Proof; p.By {
	case "dns":
		secret, err := s.credential(ctx, p.TSIG.Credential)
		if err != nil {
			return nil, err
		}
		return &proof.Updates{Primary: p.Server, KeyName: p.TSIG.Name, Algorithm: p.TSIG.Algorithm, Secret: secret,
			Servers: p.Await, Patience: s.cfg.SpreadPatience, Resolver: resolverOf(e.CA(spec.CA))}, nil
	case "program", "call":
		return s.handed(ctx, e, spec)
	case "listener", "tls-alpn", "": // the last: nothing is proved, and nothing stands anywhere
		return ownListener{}, nil
	}
	return &proof.Files{Folders: func(host string) ([]proof.Folder, error) { return s.folders(ctx, e, spec, host) }}, nil
}

// handed gives the means of a mandate whose records somebody else's program or HTTP
// call puts up.
func (s *Ordering) handed(ctx context.Context, e *estate.Estate, spec *estate.Mandate) (proof.Prover, error) {
	p, at := &spec.Proof, resolverOf(e.CA(spec.CA))
	h := &proof.Handed{Zones: proof.Updates{Primary: at, Resolver: at, Servers: p.Await, Fixed: true, Patience: s.cfg.SpreadPatience}}
	if p.By == "call" {
		var token []byte
		if p.Credential != "" {
			text, err := s.credentialText(ctx, p.Credential)
			if err != nil {
				return nil, err
			}
			token = []byte(strings.TrimSpace(string(text)))
		}
		h.Do = proof.Call(p.URL, token, proof.HandedTime)
		return h, nil
	}
	if s.cfg.Programs == "" {
		return nil, &RefusedError{fmt.Sprintf("the mandate %s proves by the program %s, and this service was given no folder of programs", spec.Name, p.Program),
			"start it with insegna serve --programs FOLDER, which holds that program"}
	}
	h.Do = proof.Program(s.cfg.Programs, p.Program, proof.HandedTime)
	return h, nil
}

// ownListener answers from the records: what is kept there is published.
type ownListener struct{}

// Kept implements proof.Kept.
func (ownListener) Kept() {}

// Publish has nothing to do: the service's own listener answers from the store,
// where the proof is noted already.
func (ownListener) Publish(context.Context, []proof.Publication) error { return nil }

// Await has nothing to wait for.
func (ownListener) Await(context.Context, []proof.Publication) error { return nil }

// Withdraw has nothing to take down.
func (ownListener) Withdraw(context.Context, []proof.Publication) error { return nil }

// Answering gives the content of a proof for the service's own listener;
// store.ErrNotFound when there is none.
func (s *Ordering) Answering(ctx context.Context, host, token string) (string, error) {
	return s.store.Answering(ctx, strings.ToLower(host), token)
}

// AnsweringTLS gives the key authorization a CA is to be shown in TLS for a name;
// store.ErrNotFound when there is none.
func (s *Ordering) AnsweringTLS(ctx context.Context, name string) (string, error) {
	return s.store.AnsweringTLS(ctx, name)
}

// folders finds where the servers of a mandate serve a host's files.
func (s *Ordering) folders(ctx context.Context, e *estate.Estate, spec *estate.Mandate,
	host string) ([]proof.Folder, error) {
	var list []proof.Folder
	for _, name := range spec.Proof.Servers {
		server := e.Server(name)
		if server == nil || server.Reach == nil {
			return nil, &issue.Failure{Kind: issue.NotPublished,
				Words:  fmt.Sprintf("there is no way to the server %s any more", name),
				Advice: "declare reach for it in the estate file, or prove on another server"}
		}
		folder := path.Join(spec.Proof.Folder, proof.WellKnown)
		if spec.Proof.Folder == "" {
			found, err := s.rootOf(ctx, name, host, e.CA(spec.CA))
			if err != nil {
				return nil, err
			}
			folder = found
		}
		list = append(list,
			proof.Folder{Server: name, Path: folder,
				Open: func(ctx context.Context) (reach.Connection, error) { return open(ctx, server.Reach) }})
	}
	return list, nil
}

// orderRecords keep one order in the store, its key encrypted.
type orderRecords struct {
	s   *Ordering    // stores them
	row *store.Order // being carried out

	client *acme.Client // of the order's CA, once it is known
	rest   time.Time    // until when that CA wants to be left alone
}

// steps are what people are told, as it is stored.
func steps(o *issue.Order, told []issue.Step) []store.OrderStep {
	now := time.Now().UTC()
	out := make([]store.OrderStep, len(told))
	for i, t := range told {
		out[i] = store.OrderStep{OrderID: o.ID, Step: t.Name, Outcome: string(t.Outcome), Words: t.Words, At: now}
	}
	return out
}

// update has the row be as the order is.
func (r *orderRecords) update(o *issue.Order) error {
	row := r.row
	row.State, row.URL, row.Request, row.Replaces, row.Tries = string(o.State), o.URL, o.Request, o.Replaces, o.Tries
	if o.Key != nil && row.Encrypted == nil {
		var err error
		if row.Encrypted, err = r.s.safe.Encrypt(safe.Secret(o.Key), orderPurpose(o.ID)); err != nil {
			return err
		}
	}
	if o.Request != nil && row.Public == nil {
		var err error
		if row.Public, err = publicHalf(o.Request); err != nil {
			return err
		}
	}
	if o.Leaf != nil {
		until := o.Leaf.NotAfter.UTC()
		row.Chain, row.Leaf, row.NotAfter = o.Chain, o.Leaf.Fingerprint[:], &until
	}
	if o.Failure != nil {
		row.Failure = (*store.OrderFailure)(o.Failure)
	}
	row.Waits = false
	return nil
}

// Save implements issue.Records.
func (r *orderRecords) Save(ctx context.Context, o *issue.Order, told ...issue.Step) error {
	row := r.row
	if err := r.update(o); err != nil {
		return err
	}
	if o.State == issue.Failed {
		told = append(told, issue.Step{Name: "failure", Outcome: issue.Wrong, Words: o.Failure.Words + "\n" + o.Failure.Advice})
	}
	if o.State != issue.Issued && o.State != issue.Failed {
		return r.s.store.SaveOrder(ctx, row, nil, steps(o, told)...)
	}
	now := time.Now().UTC()
	row.FinishedAt = &now
	next, err := r.settle(ctx, o)
	if err != nil {
		return err
	}
	if err := r.s.store.SaveOrder(ctx, row, next, steps(o, told)...); err != nil {
		return err
	}
	r.log(o, next)
	if next != nil && next.At != nil {
		r.s.plan(ctx, *next.At)
	}
	return nil
}

// log tells how an order ended, and when its mandate is due next.
func (r *orderRecords) log(o *issue.Order, next *store.Next) {
	with := []any{"order", o.ID, "mandate", r.row.Mandate.Name, "ca", r.row.Spec.CA, "by", r.row.By, "rehearsal",
		r.row.Rehearsal}
	if next != nil && next.At != nil {
		with = append(with, "next", next.At.UTC().Format(time.RFC3339))
	}
	if o.Failure != nil {
		r.s.cfg.Log.Warn("an order failed", append(with, "reason", o.Failure.Words, "advice", o.Failure.Advice)...)
		return
	}
	if r.row.NotAfter != nil {
		with = append(with, "until", r.row.NotAfter.UTC().Format(time.RFC3339))
	}
	r.s.cfg.Log.Info("a certificate was issued", with...)
}

// Note implements acmesource.Records.
func (r *orderRecords) Note(ctx context.Context, o *issue.Order, told ...issue.Step) error {
	return r.s.store.NoteSteps(ctx, steps(o, told)...)
}

// waits tells what an order waits for.
func (r *orderRecords) waits(ctx context.Context, o *issue.Order, words string) error {
	return r.Note(ctx, o, issue.Step{Name: "waiting", Outcome: issue.Doing, Words: words})
}

// Known implements acmesource.Records.
func (r *orderRecords) Known(ctx context.Context, o *issue.Order, url string) bool {
	known, err := r.s.store.KnownOrder(ctx, o.ID, url)
	return known || err != nil
}

// Publications implements acmesource.Records.
func (r *orderRecords) Publications(ctx context.Context, o *issue.Order) ([]proof.Publication, error) {
	rows, err := r.s.store.Publications(ctx, o.ID)
	return standing(rows), err
}

// standing is what stands somewhere, without whose it is.
func standing(rows []store.Publication) []proof.Publication {
	list := make([]proof.Publication, len(rows))
	for i, p := range rows {
		list[i] = proof.Publication{Kind: p.Kind, Name: p.Name, Token: p.Token, Content: p.Content}
	}
	return list
}

// Publishing implements acmesource.Records.
func (r *orderRecords) Publishing(ctx context.Context, o *issue.Order, list []proof.Publication, told ...issue.Step) ([]proof.Publication, error) {
	rows := make([]store.Publication, len(list))
	for i, p := range list {
		rows[i] = store.Publication{OrderID: o.ID, Kind: p.Kind, Name: p.Name, Token: p.Token, Content: p.Content}
	}
	all, err := r.s.store.Publish(ctx, o.ID, rows, steps(o, told)...)
	return standing(all), err
}

// Withdrawn implements acmesource.Records.
func (r *orderRecords) Withdrawn(ctx context.Context, o *issue.Order, told issue.Step) error {
	return r.s.store.Withdrawn(ctx, steps(o, []issue.Step{told})[0])
}

// Proven implements acmesource.Records.
func (r *orderRecords) Proven(ctx context.Context, o *issue.Order, down bool, told ...issue.Step) error {
	if err := r.update(o); err != nil {
		return err
	}
	return r.s.store.SaveProven(ctx, r.row, down, steps(o, told)...)
}
