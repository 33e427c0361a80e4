package service

import (
	"context"
	"crypto"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/store"
)

// Give is how a certificate with its key is handed out.
type Give struct {
	certs.Written
	Apart  bool   // the key in a file of its own
	Root   bool   // with the root at the end of the chain, where that is known
	Reason string // for the journal
}

// GiveOut hands out the certificate an order brought, with its key, in the form the
// taker wants; the journal says who took it, and why.
func (s *Ordering) GiveOut(ctx context.Context, order int64, g *Give) ([]NamedFile, error) {
	if !mayTakeKeys(ctx) {
		return nil, &AccessError{Caller: CallerOf(ctx), Keys: true}
	}
	o, err := s.Order(ctx, order)
	if err != nil {
		return nil, err
	}
	if o.Chain == nil {
		return nil, &RefusedError{fmt.Sprintf("order %d has brought no certificate", order),
			fmt.Sprintf("see how it stands: insegna order show %d", order)}
	}
	list, err := certs.ReadCertificates(o.Chain)
	if err != nil {
		return nil, err
	}
	if g.Root {
		if list, err = s.withRoot(ctx, list); err != nil {
			return nil, err
		}
	}
	key, err := s.orderSigner(o.Order)
	if err != nil {
		return nil, err
	}
	if g.Alias == "" {
		g.Alias = o.Mandate.Name
	}
	files, err := g.files(o.Mandate.Name, list, key)
	var unfit *certs.FormError
	if errors.As(err, &unfit) {
		return nil, &MaterialError{unfit.Reason, unfit.Next}
	} else if err != nil {
		return nil, err
	}
	return files, s.store.Note(ctx, &store.Act{Actor: actor(ctx), Action: "certificate.give", Subject: fmt.Sprintf("order %d", order),
		Detail: map[string]any{"mandate": o.Mandate.Name, "reason": g.Reason, "form": string(g.Form), "encrypted": g.Passphrase != nil,
			"certificate": hex.EncodeToString(o.Leaf)}}, time.Now().UTC())
}

// withRoot adds the root a chain ends at, which an audience or a CA has.
func (s *Ordering) withRoot(ctx context.Context, list []*certs.Certificate) ([]*certs.Certificate, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	var anchors []*certs.Certificate
	for i := range e.Audiences {
		anchors = append(anchors, e.Audiences[i].Anchors...)
	}
	for i := range e.CAs {
		anchors = append(anchors, e.CAs[i].Anchors...)
		if e.CAs[i].By != estate.ByPrivate {
			continue
		}
		_, roots, err := s.issuing.chain(ctx, e.CAs[i].Name)
		if err != nil {
			return nil, err
		}
		anchors = append(anchors, roots...)
	}
	whole, _ := chain.Order(list[0], append(list[1:len(list):len(list)], anchors...))
	if last := whole[len(whole)-1]; !last.SelfSigned() {
		return nil, &RefusedError{fmt.Sprintf("the root above %s is not known here", last.CommonName()),
			fmt.Sprintf("declare %s with roots of a CA or an audience in the estate file; or take the chain without its root", last.IssuerName())}
	}
	return whole, nil
}

// files writes them.
func (g *Give) files(name string, list []*certs.Certificate, key crypto.Signer) ([]NamedFile, error) {
	if g.Form == certs.FormPKCS12 {
		if g.Passphrase == nil {
			return nil, &certs.FormError{Form: g.Form, Reason: "PKCS#12 is written under a passphrase, and none was given", Next: "give one"}
		}
		data, err := g.Store(key, list, rand.Reader)
		return []NamedFile{{name + ".p12", data}}, err
	}
	if g.Form == certs.FormDER {
		list = list[:1]
	}
	chain, err := g.Certificates(list)
	if err != nil {
		return nil, err
	}
	private, err := g.Key(key, rand.Reader)
	if err != nil {
		return nil, err
	}
	endings := map[certs.Form][2]string{certs.FormPEM: {".pem", ".key"}, certs.FormDER: {".der", ".key.der"}, certs.FormPKCS7: {".p7b", ".key"}}[g.Form]
	if g.Form == certs.FormPEM && !g.Apart {
		return []NamedFile{{name + endings[0], append(chain, private...)}}, nil
	}
	return []NamedFile{{name + endings[0], chain}, {name + endings[1], private}}, nil
}
