package service

import (
	"context"
	"crypto"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/install"
	"insegna.example/internal/issue"
	"insegna.example/internal/kind"
	"insegna.example/internal/store"
)

// reached is a server as the estate in force declares it. The error, a *RefusedError,
// says that there is no way to it.
func (s *Ordering) reached(ctx context.Context, server string) (*estate.Server, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	at := e.Server(server)
	if at == nil || at.Reach == nil {
		return nil, &RefusedError{"there is no way to " + server + ", where the key is to be made",
			"declare reach for it in the estate file"}
	}
	return at, nil
}

// keymaker opens the server that a mandate's keys are made on. The error, a
// *RefusedError, says why they cannot be.
func (s *Ordering) keymaker(ctx context.Context, server string) (install.Keymaker, func(), error) {
	at, err := s.reached(ctx, server)
	if err != nil {
		return nil, nil, err
	}
	return s.keymakerAt(ctx, at)
}

// formerKeymaker opens the server of a key by the configuration it had when the key's
// order was begun, beside which the key was made; nil where that is the one it has.
func (s *Ordering) formerKeymaker(ctx context.Context, key *store.DistantKey) (install.Keymaker, func(), error) {
	at, err := s.reached(ctx, key.Server)
	if err != nil {
		return nil, nil, err
	}
	o, err := s.store.Order(ctx, key.Order)
	if err != nil {
		return nil, nil, err
	}
	d, err := s.store.DeclaredWhen(ctx, o.CreatedAt)
	if err != nil {
		return nil, nil, err
	}
	then, err := d.Estate(s.cfg.Kinds.Declared())
	if err != nil { // by rules that came later
		return nil, nil, nil //nolint:nilerr // that is no reason to keep anything
	}
	was := then.Server(key.Server)
	if was == nil || was.Reach == nil || was.Reach.Configuration == at.Reach.Configuration {
		return nil, nil, nil
	}
	way := *at.Reach
	way.Configuration = was.Reach.Configuration
	moved := *at
	moved.Reach = &way
	return s.keymakerAt(ctx, &moved)
}

// keymakerAt opens a server as it is declared.
func (s *Ordering) keymakerAt(ctx context.Context, at *estate.Server) (install.Keymaker, func(), error) {
	k := s.cfg.Kinds.Of(at.Kind)
	if err := k.Needs(kind.Install); err != nil {
		return nil, nil, &RefusedError{fmt.Sprintf("%v, and %s is declared as %s", err, at.Name, at.Kind),
			"leave key_on out of the mandate"}
	}
	over, err := open(ctx, at.Reach)
	if err != nil {
		return nil, nil, &RefusedError{err.Error(), "see the way to it: insegna server show " + at.Name}
	}
	out, can := k.Installs(over, at).(install.Keymaker)
	if !can {
		_ = over.Close()
		return nil, nil, &RefusedError{fmt.Sprintf("no key can be made on %s, which is declared as %s", at.Name, at.Kind),
			"leave key_on out of the mandate"}
	}
	return out, func() { _ = over.Close() }, nil
}

// distantKey is the key of an order that is made on a server and stays there.
type distantKey struct {
	s     *Ordering
	row   *store.Order
	close []func() // ways to the server that are open
}

// distantKeyOf makes what makes the key of an order; nil where the safe keeps it.
func (s *Ordering) distantKeyOf(row *store.Order) *distantKey {
	if row.Spec.KeyOn == "" {
		return nil
	}
	return &distantKey{s: s, row: row}
}

// Close ends the ways to the server.
func (k *distantKey) Close() {
	if k != nil {
		for _, end := range k.close {
			end()
		}
	}
}

// keyFailure is what it means for an order that its key cannot be made or used.
func keyFailure(server string, err error) error {
	f := &issue.Failure{Kind: issue.NoKey, Words: server + ": " + err.Error(),
		Advice: "see the way to it: insegna server show " + server,
		Again:  time.Now().Add(firstRetry)}
	var refused *RefusedError
	var fault *install.FaultError
	switch {
	case errors.As(err, &refused):
		f.Words, f.Advice = refused.Reason, refused.Next
	case errors.As(err, &fault) && fault.Advice != "":
		f.Advice = fault.Advice
	}
	return f
}

// Make implements issue.Keymaker.
func (k *distantKey) Make(ctx context.Context, o *issue.Order) (crypto.Signer, string, error) {
	server := k.row.Spec.KeyOn
	maker, end, err := k.s.keymaker(ctx, server)
	if err != nil {
		return nil, "", keyFailure(server, err)
	}
	k.close = append(k.close, end)
	key, err := maker.MakeKey(ctx, k.row.Mandate.Name, strconv.FormatInt(o.ID, 10), o.KeyKind)
	if err != nil {
		return nil, "", keyFailure(server, err)
	}
	return &toldSigner{key, server}, fmt.Sprintf("a key of the kind %s is made on %s, and stays there", o.KeyKind, server), nil
}

// Drop implements issue.Keymaker.
func (k *distantKey) Drop(ctx context.Context, o *issue.Order) error {
	return k.s.dropDistantKey(ctx, &store.DistantKey{Order: o.ID, Mandate: k.row.Mandate.Name, Server: k.row.Spec.KeyOn}, false)
}

// dropDistantKey destroys the key of an order on its server, and tells it. One that was
// made for sure and is not there is told as that.
func (s *Ordering) dropDistantKey(ctx context.Context, key *store.DistantKey, made bool) error {
	maker, end, err := s.keymaker(ctx, key.Server)
	if err != nil {
		return err
	}
	defer end()
	version := strconv.FormatInt(key.Order, 10)
	there, err := maker.DropKey(ctx, key.Mandate, version)
	if err != nil {
		return err
	}
	if !there && made {
		former, end, err := s.formerKeymaker(ctx, key)
		if err != nil {
			return err
		}
		if former != nil {
			defer end()
			if there, err = former.DropKey(ctx, key.Mandate, version); err != nil {
				return err
			}
		}
	}
	if !there && made {
		s.cfg.Log.Warn("a key that was to be destroyed is not where it was made; look whether its server's configuration was moved",
			"order", key.Order, "server", key.Server, "mandate", key.Mandate)
	}
	if !there && !made { // it never came to one, and nothing is to be told
		return s.store.DistantKeyGone(ctx, key.Order, time.Now().UTC(), nil)
	}
	return s.store.DistantKeyGone(ctx, key.Order, time.Now().UTC(), &store.Act{Actor: actor(ctx), Action: "key.destroy",
		Subject: fmt.Sprintf("order %d", key.Order), Detail: map[string]any{"server": key.Server, "mandate": key.Mandate, "found": there}})
}

// toldSigner says of what goes wrong what it means for the order.
type toldSigner struct {
	crypto.Signer
	server string
}

// Sign implements crypto.Signer.
func (t *toldSigner) Sign(r io.Reader, digest []byte, opts crypto.SignerOpts) ([]byte, error) {
	out, err := t.Signer.Sign(r, digest, opts)
	if err != nil {
		return nil, keyFailure(t.server, err)
	}
	return out, nil
}

// canMakeKey tries whether a mandate's key can be made where it is to stay: one is made,
// signs a request, and is destroyed. The error, a *issue.Failure, says what is in the way.
func (s *Ordering) canMakeKey(ctx context.Context, spec *estate.Mandate) error {
	if spec.KeyOn == "" {
		return nil
	}
	maker, end, err := s.keymaker(ctx, spec.KeyOn)
	if err != nil {
		return keyFailure(spec.KeyOn, err)
	}
	defer end()
	version := install.KeyTrial + rand.Text()[:8] // somebody else may try at the same moment
	key, err := maker.MakeKey(ctx, spec.Name, version, spec.Key)
	if err == nil {
		_, err = issue.Request(key, spec.Names, subjectOf(&spec.Subject), spec.Staple)
	}
	_, left := maker.DropKey(context.WithoutCancel(ctx), spec.Name, version)
	if err := errors.Join(err, left); err != nil {
		return keyFailure(spec.KeyOn, err)
	}
	return nil
}

// dropDistantKeys destroys the keys on servers that nobody needs any more: of orders that
// failed, of rehearsals, and of former certificates beyond those that are kept. What
// cannot be reached is tried again later.
func (s *Ordering) dropDistantKeys(ctx context.Context) error {
	const atOnce = 200
	list, err := s.store.DistantKeys(ctx, estate.KeptUsually, atOnce, time.Now().UTC())
	if err != nil {
		return err
	}
	unreached := map[string]bool{}
	for _, k := range list {
		if unreached[k.Server] {
			continue
		}
		if err := s.dropDistantKey(ctx, &k, true); err != nil {
			unreached[k.Server] = true
			s.cfg.Log.Warn("a key that is not needed any more still lies on its server", "order", k.Order, "server", k.Server,
				"error", err)
		}
	}
	return nil
}
