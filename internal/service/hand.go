package service

import (
	"context"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/issue"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// waitingShown bounds the list of orders that wait for a person.
const waitingShown = 500

// Waiting gives the orders whose request a person carries, the oldest first.
func (s *Ordering) Waiting(ctx context.Context) ([]*OrderView, error) {
	rows, err := s.store.Waiting(ctx, waitingShown)
	list := make([]*OrderView, len(rows))
	for i := range rows {
		list[i] = ViewOrder(&rows[i])
	}
	return list, err
}

// RequestOf gives the request of an order, as PEM (RFC 7468).
func RequestOf(o *store.Order) string {
	if o.Request == nil {
		return ""
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: o.Request}))
}

// notWaiting says why nothing can be brought to an order.
func (s *Ordering) notWaiting(ctx context.Context, id int64) error {
	o, err := s.store.Order(ctx, id)
	if err != nil {
		return err
	}
	words := fmt.Sprintf("order %d does not wait for a person: it is %s", id, o.State)
	return &RefusedError{words, fmt.Sprintf("see how it stands: insegna order show %d", id)}
}

// MarkSent keeps that the request of an order was sent on, to whom, and until when a
// reply is expected: the CA's usual days where that is not said.
func (s *Ordering) MarkSent(ctx context.Context, id int64, to string, expected *time.Time) (*OrderView, error) {
	o, err := s.store.Order(ctx, id)
	if err != nil {
		return nil, err
	}
	now := time.Now().UTC()
	_, ca, _, err := s.ca(ctx, o.CA)
	var unknown *UnknownError
	if err != nil && !errors.As(err, &unknown) {
		return nil, err
	}
	if ca != nil && ca.Hand != nil {
		if to == "" {
			to = ca.Hand.To
		}
		if expected == nil && ca.Hand.Days > 0 {
			by := now.AddDate(0, 0, ca.Hand.Days)
			expected = &by
		}
	}
	if expected != nil && expected.Before(now) {
		return nil, &MaterialError{"the reply would be expected at a time that is past", "give a later day, or none"}
	}
	o.SentAt, o.SentTo, o.ExpectedAt = &now, to, expected
	err = s.store.Sent(ctx, id, to, now, expected, "the request was sent "+sentWords(o), &store.Act{Actor: actor(ctx), Action: "request.send",
		Subject: fmt.Sprintf("order %d", id), Detail: map[string]any{"to": to, "mandate": o.Mandate.Name}})
	if errors.Is(err, store.ErrNotFound) {
		return nil, s.notWaiting(ctx, id)
	} else if err != nil {
		return nil, err
	}
	return s.Order(ctx, id)
}

// GiveUp ends an order that waits for a person; its key is destroyed.
func (s *Ordering) GiveUp(ctx context.Context, id int64) (*OrderView, error) {
	o, err := s.store.Order(ctx, id)
	if err != nil {
		return nil, err
	}
	f := &store.OrderFailure{Kind: "given-up", Words: "given up by " + actor(ctx), Advice: "order it again: insegna mandate order " + o.Mandate.Name}
	err = s.store.GiveUp(ctx, id, f, time.Now().UTC(), &store.Act{Actor: actor(ctx), Action: "order.give-up", Subject: fmt.Sprintf("order %d", id),
		Detail: map[string]any{"mandate": o.Mandate.Name}})
	if errors.Is(err, store.ErrNotFound) {
		return nil, s.notWaiting(ctx, id)
	} else if err != nil {
		return nil, err
	}
	if o.Spec.KeyOn != "" {
		if err := s.dropDistantKeys(ctx); err != nil {
			return nil, err
		}
	}
	return s.Order(ctx, id)
}

// Reply takes what a CA sent back, in any container, finds the request it belongs to
// among all that wait, checks it, and has the order go on. Given an order, it has to
// be that one's.
func (s *Ordering) Reply(ctx context.Context, in *TakeIn, order int64) (*OrderView, error) {
	m, err := in.read()
	if err != nil {
		return nil, err
	}
	if len(m.Certificates) == 0 {
		what := "no certificate"
		if len(m.Requests) > 0 {
			what = "a certificate request, which is what is sent to a CA"
		}
		return nil, &MaterialError{"the reply holds " + what, "give what the CA sent back: its certificate, with the chain where that came too"}
	}
	row, leaf, err := s.requestOf(ctx, m, order)
	if err != nil {
		return nil, err
	}
	checked, err := s.checkReply(ctx, row, leaf, m)
	if err != nil {
		return nil, err
	}
	var all []byte
	for _, c := range checked {
		all = append(all, certs.PEM(c.Raw)...)
	}
	now := time.Now().UTC()
	err = s.store.Replied(ctx, row.ID, all, now, fmt.Sprintf("%s until %s, by %s", leaf.CommonName(), leaf.NotAfter.UTC().Format("2 January 2006"),
		leaf.IssuerName()), &store.Act{Actor: actor(ctx), Action: "reply.take", Subject: fmt.Sprintf("order %d", row.ID),
		Detail: map[string]any{"mandate": row.Mandate.Name, "certificate": hex.EncodeToString(leaf.Fingerprint[:])}},
		func(ctx context.Context, tx store.Tx) error { return work.Add(ctx, s.jobs, tx, orderJob{row.ID}) })
	if errors.Is(err, store.ErrNotFound) {
		return nil, s.notWaiting(ctx, row.ID)
	} else if err != nil {
		return nil, err
	}
	return s.Order(ctx, row.ID)
}

// requestOf finds the waiting order one of the certificates is for, by its key.
func (s *Ordering) requestOf(ctx context.Context, m *certs.Material, order int64) (*store.Order, *certs.Certificate, error) {
	var other *store.Order
	var of *certs.Certificate
	for _, c := range m.Certificates {
		public := c.Public()
		rows, err := s.store.OrdersOfKey(ctx, public[:])
		if err != nil {
			return nil, nil, err
		}
		for i := range rows {
			if rows[i].Waits && (order == 0 || rows[i].ID == order) {
				return &rows[i], c, nil
			}
			if other == nil {
				other, of = &rows[i], c
			}
		}
	}
	shown := m.Certificates[0]
	for _, c := range m.Certificates {
		if !c.IsCA {
			shown = c
			break
		}
	}
	what := fmt.Sprintf("the certificate (%s, by %s)", joinedNames(issue.AllNames(shown)), shown.IssuerName())
	switch {
	case other == nil:
		next := "see what waits: insegna order list --waiting"
		if list, err := s.store.Waiting(ctx, 5); err == nil && len(list) > 0 {
			var ids []string
			for i := range list {
				ids = append(ids, fmt.Sprintf("%d for %s", list[i].ID, list[i].Mandate.Name))
			}
			next = "waiting are the orders " + strings.Join(ids, ", ") + ": ask the CA for the reply to one of these"
		}
		return nil, nil, &MaterialError{what + " is for a key that no request here has: it is the reply to another request", next}
	case order != 0 && other.ID != order:
		return nil, nil, &MaterialError{fmt.Sprintf("%s is the reply to the request of order %d, not of order %d", what, other.ID, order),
			fmt.Sprintf("bring it for that one, or bring another one for order %d", order)}
	}
	return nil, nil, &MaterialError{fmt.Sprintf("the certificate for %s is the reply to the request of order %d, which is %s and waits no more",
		joinedNames(issue.AllNames(of)), other.ID, other.State), fmt.Sprintf("see it: insegna order show %d", other.ID)}
}

// checkReply holds a reply against its order, with a chain from what came and what the
// estate knows.
func (s *Ordering) checkReply(ctx context.Context, row *store.Order, leaf *certs.Certificate, m *certs.Material) ([]*certs.Certificate, error) {
	e, ca, _, err := s.ca(ctx, row.CA)
	if err != nil {
		return nil, err
	}
	asked, err := x509.ParseCertificateRequest(row.Request)
	if err != nil {
		return nil, err
	}
	met, err := s.above(ctx, leaf, m.Certificates)
	if err != nil {
		return nil, err
	}
	list, _ := chain.Order(leaf, slices.Concat(m.Certificates, e.Intermediates, met))
	var all []byte
	for _, c := range list {
		all = append(all, certs.PEM(c.Raw)...)
	}
	if _, err := issue.Check(s.paths, all, row.Spec.Names, asked.PublicKey, anchorsFor(e, ca), time.Now()); err != nil {
		next := "ask the CA for a certificate for " + joinedNames(row.Spec.Names)
		if strings.Contains(err.Error(), "roots") {
			above := list[len(list)-1].IssuerName()
			next = fmt.Sprintf("bring the certificate of %s as well, where the CA sent it; where it is the root, declare it with roots of ", above)
			if row.CA == estate.HandMade {
				next += "an audience in the estate file"
			} else {
				next += fmt.Sprintf("the CA %s or of an audience in the estate file", row.CA)
			}
		}
		return nil, &MaterialError{err.Error(), next}
	}
	return list, nil
}
