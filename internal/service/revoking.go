package service

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/acme"
	"insegna.example/internal/core/authority"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/store"
)

// Revoke is what somebody wants done about a certificate.
type Revoke struct {
	Reason  string // one of authority.Reasons
	ByKey   bool   // asked for with the certificate's own key, where the account is lost
	Replace bool   // the mandate is ordered anew at once
}

// Revoked is what was done.
type Revoked struct {
	*OrderView        // what was taken back
	Next       *int64 // the order that brings another certificate; nil where none was begun
	Left       string // why none was begun though that was asked for
}

// RevokeOrder takes the certificate of an order back at its CA (RFC 8555 section 7.6),
// and orders another where that is asked for. Done twice it changes nothing more.
func (s *Ordering) RevokeOrder(ctx context.Context, id int64, r Revoke) (*Revoked, error) {
	code, known := authority.Reasons[r.Reason]
	if !known {
		return nil, &MaterialError{fmt.Sprintf("%q is no reason to revoke", r.Reason),
			"give one of " + strings.Join(slices.Sorted(maps.Keys(authority.Reasons)), ", ")}
	}
	o, err := s.store.Order(ctx, id)
	if err != nil {
		return nil, err
	}
	list, err := certs.ReadCertificates(o.Chain)
	if err != nil || len(list) == 0 {
		return nil, &RefusedError{fmt.Sprintf("order %d has brought no certificate", id), fmt.Sprintf("see how it stands: insegna order show %d", id)}
	}
	if time.Now().After(list[0].NotAfter) {
		return nil, &RefusedError{"the certificate ended on " + list[0].NotAfter.UTC().Format("2 January 2006") + "; nobody trusts it any more",
			"order another: insegna mandate order " + o.Mandate.Name}
	}
	_, ca, declaration, err := s.ca(ctx, o.CA)
	if err != nil {
		return nil, err
	}
	act := &store.Act{Actor: actor(ctx), Action: "order.revoke", Subject: fmt.Sprintf("order %d", id),
		Detail: map[string]any{"mandate": o.Mandate.Name, "ca": o.CA, "reason": r.Reason, "by_key": r.ByKey}}
	switch {
	case o.Way == store.Taken && !r.ByKey && ca.By != estate.ByACME, ca.By == estate.ByHand:
		return nil, &RefusedError{fmt.Sprintf("the certificate of order %d did not come from a CA this service can ask", id),
			"have its CA (" + list[0].IssuerName() + ") revoke it"}
	case ca.By == estate.BySelf:
		return nil, &RefusedError{"a certificate that signs itself is revoked by nobody", "take it off the machines that trust it"}
	case ca.By == estate.ByPrivate:
		err = s.issuing.RevokeIssued(ctx, ca.Name, hex.EncodeToString(list[0].SerialNumber.Bytes()), r.Reason)
	default:
		err = s.revokeOver(ctx, o, ca, declaration, list[0].Raw, code, r.ByKey)
	}
	if err != nil {
		return nil, err
	}
	if err := s.store.Revoked(ctx, id, r.Reason, act, time.Now().UTC()); err != nil {
		return nil, err
	}
	out := &Revoked{}
	if out.OrderView, err = s.Order(ctx, id); err != nil || !r.Replace {
		return out, err
	}
	next, err := s.BeginOrder(ctx, o.Mandate.Name, false)
	switch {
	case err == nil:
		out.Next = &next.ID
	case ctx.Err() != nil:
		return out, err
	default:
		out.Left = err.Error() // it is revoked all the same
	}
	return out, nil
}

// revokeOver asks an ACME CA, by the account that ordered it or by the certificate's
// own key.
func (s *Ordering) revokeOver(ctx context.Context, o *store.Order, ca *estate.CA, declaration int64, der []byte, code int, byKey bool) error {
	directory, err := directoryOf(ca, o.Rehearsal)
	if err != nil {
		return err
	}
	c, err := s.acmeClient(ca, directory, declaration)
	if err != nil {
		return err
	}
	var signer acme.Signer
	if byKey {
		if signer.Key, err = s.orderSigner(o); err != nil {
			return err
		}
	} else {
		a, err := s.store.Account(ctx, directory)
		if errors.Is(err, store.ErrNotFound) || err == nil && a.URL == "" {
			return &RefusedError{"there is no account at " + ca.Name, "ask with the certificate's own key: insegna order revoke " + fmt.Sprint(o.ID) + " --by-key"}
		} else if err != nil {
			return err
		}
		if err := s.settleKey(ctx, c, a); err != nil {
			return s.caTrouble(ca, err)
		}
		if signer, err = s.accountSigner(a); err != nil {
			return err
		}
	}
	if err := c.Revoke(ctx, signer, der, code); err != nil {
		var p *acme.Problem
		if errors.As(err, &p) && p.Kind() == "unauthorized" && !byKey {
			return &RefusedError{ca.Name + ": " + err.Error(), "ask with the certificate's own key: insegna order revoke " + fmt.Sprint(o.ID) + " --by-key"}
		}
		return s.caTrouble(ca, err)
	}
	return nil
}
