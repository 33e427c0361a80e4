package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/names"
	"insegna.example/internal/kind"
	"insegna.example/internal/store"
)

// TakeFrom takes the certificate that a server has for a host, with its key, into the safe,
// as the newest of a mandate: the first half of moving it to another server. Who asks needs
// the permission to take private keys.
func (s *Ordering) TakeFrom(ctx context.Context, server, host string, in *TakeIn) (*OrderView, []string, error) {
	if !mayTakeKeys(ctx) {
		return nil, nil, &AccessError{Caller: CallerOf(ctx), Keys: true}
	}
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, ErrNoEstate
	} else if err != nil {
		return nil, nil, err
	}
	at := e.Server(server)
	if at == nil {
		return nil, nil, &UnknownError{"server", server, "server list"}
	}
	if at.Reach == nil {
		return nil, nil, &RefusedError{"there is no way to " + server, "declare reach for it in the estate file; or bring the files: insegna certificate take FILE..."}
	}
	c, err := s.reading.anew(ctx, server)
	if err != nil {
		return nil, nil, err
	}
	p := pairFor(c.reading, host)
	if p == nil {
		return nil, nil, &RefusedError{fmt.Sprintf("%s names no certificate with its key that is for %s", server, host), "see what it has: insegna server sites " + server}
	}
	in.Which = c.reading.Sent(p)[0]
	if on, err := s.store.KeyStaysOn(ctx, in.Which); err != nil {
		return nil, nil, err
	} else if on != "" {
		return nil, nil, &RefusedError{fmt.Sprintf("the key of what %s has for %s was made on %s and is kept there alone", server, host, on),
			"order a certificate for the other server with a mandate of its own"}
	}
	over, err := open(ctx, at.Reach)
	if err != nil {
		return nil, nil, err
	}
	defer func() { _ = over.Close() }()
	if err := s.store.Note(ctx, &store.Act{Actor: actor(ctx), Action: "key.take", Subject: server, Detail: map[string]any{"host": host, "key": p.Key,
		"certificate": in.Which}}, time.Now().UTC()); err != nil {
		return nil, nil, err
	}
	for _, file := range slices.Compact([]string{p.Certificate, p.Chain, p.Key}) {
		if file == "" || slices.ContainsFunc(in.Files, func(f NamedFile) bool { return f.Name == server+":"+file }) {
			continue
		}
		text, err := readFrom(over, file)
		if err != nil {
			return nil, nil, &RefusedError{fmt.Sprintf("%s on %s cannot be read: %v", file, server, err), "give the user of reach the right to read it; or bring the files: insegna certificate take FILE..."}
		}
		in.Files = append(in.Files, NamedFile{Name: server + ":" + file, Data: text})
	}
	return s.TakeIn(ctx, in)
}

// pairFor finds the certificate with its key that a server has for a host: in a site of its
// name before others, of these the newest; nil for none.
func pairFor(r *kind.Reading, host string) (best *kind.Pair) {
	var begins *certs.Certificate
	named := false
	for i := range r.Sites {
		own := slices.ContainsFunc(r.Sites[i].Names, func(n kind.Name) bool { return slices.Contains(n.Covers, host) || n.Text == host })
		for n := range r.Sites[i].Pairs {
			p := &r.Sites[i].Pairs[n]
			sent := r.Sent(p)
			if len(sent) == 0 || p.Key == "" {
				continue
			}
			c, err := certs.Parse(r.Certificates[sent[0]])
			key := r.Material[p.Key]
			if err != nil || !names.Covers(c, host).Covered || key == nil || key.Public != c.Public().String() {
				continue
			}
			if best == nil || own && !named || own == named && c.NotBefore.After(begins.NotBefore) {
				best, begins, named = p, c, own
			}
		}
	}
	return best
}
