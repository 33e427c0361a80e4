package service

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/trust"
	"insegna.example/internal/store"
)

// Without is what would break if a certificate of a CA were gone.
type Without struct {
	Certificate *certs.Certificate
	Audience    string   // that alone drops it; "" where it is gone for all
	Looked      int      // bindings that were held against it
	Unread      int      // bindings whose certificates could not be read
	Broken      []Breaks // worst first
}

// Breaks is what breaks for one audience where servers send one list.
type Breaks struct {
	Hosts    []string
	Bindings int
	Audience string
	Mandate  string   // whose certificate it is; "" for none
	Issuer   string   // of the certificate
	Why      string   // that audience finds no path then
	Helps    []string // certificates to send in its place, by name; none where nothing known helps
}

// Without says which hosts break for whom when a root or an intermediate is gone, or an
// audience drops it: before it happens, and whether another chain would help. What is
// judged are the lists servers send now.
func (s *Surveying) Without(ctx context.Context, prefix, audience string) (*Without, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNoEstate
	} else if err != nil {
		return nil, err
	}
	gone, err := s.anyCA(ctx, e, prefix)
	if err != nil {
		return nil, err
	}
	all := Audiences(e)
	if audience != "" && !slices.ContainsFunc(all, func(a *trust.Audience) bool { return a.Name == audience }) {
		return nil, &UnknownError{"audience", audience, "estate export"}
	}
	w := &withoutLook{gone: gone, now: s.cfg.Clock(), before: map[string]*trust.Audience{}, after: map[string]*trust.Audience{}, parsed: map[string]*certs.Certificate{},
		audience: audience}
	for _, a := range all {
		left := a
		if audience == "" || a.Name == audience {
			left = trust.NewAudience(a.Name, a.Public, slices.DeleteFunc(slices.Clone(a.Anchors), w.same))
		}
		w.before[a.Name], w.after[a.Name] = a, left
	}
	if err := s.store.CACertificates(ctx, func(der []byte) {
		if c, err := certs.Parse(der); err == nil && !w.same(c) && !c.SelfSigned() {
			w.known = append(w.known, c)
		}
	}); err != nil {
		return nil, err
	}
	for _, c := range e.Intermediates {
		if !w.same(c) {
			w.known = append(w.known, c)
		}
	}
	w.alone, w.beside = chain.NewBuilder(chain.NewKnown()), chain.NewBuilder(chain.NewKnown(w.known...))
	mandates, err := s.store.InForceOf(ctx)
	if err != nil {
		return nil, err
	}
	out := &Without{Certificate: gone, Audience: audience}
	err = s.store.ServedLists(ctx, func(l *store.ServedList) error {
		served, err := w.read(ctx, s.store, l.Certificates)
		if err != nil {
			return err
		}
		if out.Looked += l.Bindings; served == nil {
			out.Unread += l.Bindings
			return nil
		}
		for name, hosts := range byAudience(e, l.Hosts) {
			if b := w.judge(served, name); b != nil {
				b.Hosts, b.Bindings, b.Mandate = hosts, l.Bindings, mandates[string(l.Certificates[0])]
				out.Broken = append(out.Broken, *b)
			}
		}
		return ctx.Err()
	})
	if err != nil {
		return nil, err
	}
	slices.SortFunc(out.Broken, func(a, b Breaks) int {
		return cmp.Or(cmp.Compare(len(b.Hosts), len(a.Hosts)), strings.Compare(a.Hosts[0], b.Hosts[0]), strings.Compare(a.Audience, b.Audience))
	})
	return out, nil
}

// anyCA finds a certificate of a CA by the beginning of its fingerprint: among those that
// were met, the audiences' roots, and those of CAs of one's own.
func (s *Surveying) anyCA(ctx context.Context, e *estate.Estate, prefix string) (*certs.Certificate, error) {
	var found []*certs.Certificate
	add := func(c *certs.Certificate) {
		if strings.HasPrefix(c.Fingerprint.String(), strings.ToLower(prefix)) && !slices.ContainsFunc(found, func(o *certs.Certificate) bool { return o.Fingerprint == c.Fingerprint }) {
			found = append(found, c)
		}
	}
	rows, err := s.store.CertificatesWithPrefix(ctx, strings.ToLower(prefix))
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		c, err := certs.Parse(r.Der)
		if err != nil {
			return nil, err
		}
		add(c)
	}
	for i := range e.Audiences {
		for _, c := range e.Audiences[i].Anchors {
			add(c)
		}
	}
	for i := range e.CAs {
		for _, c := range e.CAs[i].Anchors {
			add(c)
		}
	}
	for _, c := range e.Intermediates {
		add(c)
	}
	switch {
	case len(found) == 0:
		return nil, &UnknownError{"certificate", prefix, "certificate list --kind all"}
	case len(found) > 1:
		return nil, &AmbiguousError{prefix}
	case !found[0].IsCA:
		return nil, &RefusedError{fmt.Sprintf("%s is no certificate of a CA: nothing but its own bindings hangs on it", found[0].CommonName()),
			"see where it is: insegna certificate show " + prefix}
	}
	return found[0], nil
}

// byAudience parts hosts by those they are for.
func byAudience(e *estate.Estate, hosts []string) map[string][]string {
	out := map[string][]string{}
	for _, name := range hosts {
		h := e.Host(name)
		if h == nil || len(h.Audiences) == 0 {
			out[e.Audiences[0].Name] = append(out[e.Audiences[0].Name], name)
			continue
		}
		for _, a := range h.Audiences {
			out[a] = append(out[a], name)
		}
	}
	return out
}

// withoutLook is one question of what breaks.
type withoutLook struct {
	gone          *certs.Certificate
	audience      string
	now           time.Time
	before, after map[string]*trust.Audience
	known         []*certs.Certificate          // that may help
	alone, beside *chain.Builder                // over what is sent; and over what is known too
	parsed        map[string]*certs.Certificate // by SHA-256
}

// same says whether a certificate is the one that is gone. A root is gone with its key:
// another certificate of the same name and key is no way round it where it is dropped.
func (w *withoutLook) same(c *certs.Certificate) bool {
	return c.Fingerprint == w.gone.Fingerprint ||
		w.gone.SelfSigned() && c.SelfSigned() && c.SubjectDN == w.gone.SubjectDN && bytes.Equal(c.RawSubjectPublicKeyInfo, w.gone.RawSubjectPublicKeyInfo)
}

// read gives a served list; nil where something of it cannot be read.
func (w *withoutLook) read(ctx context.Context, st *store.Store, prints [][]byte) ([]*certs.Certificate, error) {
	var missing [][]byte
	for _, p := range prints {
		if w.parsed[string(p)] == nil {
			missing = append(missing, p)
		}
	}
	if len(missing) > 0 {
		ders, err := st.DERs(ctx, missing)
		if err != nil {
			return nil, err
		}
		for print, der := range ders {
			if c, err := certs.Parse(der); err == nil {
				w.parsed[print] = c
			}
		}
	}
	out := make([]*certs.Certificate, len(prints))
	for i, p := range prints {
		if out[i] = w.parsed[string(p)]; out[i] == nil {
			return nil, nil
		}
	}
	return out, nil
}

// judge holds a served list against what an audience trusts, before and after; nil where
// nothing changes for it.
func (w *withoutLook) judge(served []*certs.Certificate, audience string) *Breaks {
	before := w.alone.Build(served, w.before[audience]).Best(w.now)
	if before == nil {
		return nil // it is broken already, and told as that
	}
	if !slices.ContainsFunc(before.Certs, w.same) {
		return nil
	}
	left := served
	if w.audience == "" {
		left = slices.DeleteFunc(slices.Clone(served), w.same)
	}
	result := w.alone.Build(left, w.after[audience])
	if result.Best(w.now) != nil {
		return nil
	}
	b := &Breaks{Audience: audience, Issuer: served[0].IssuerName(), Why: "no path is left"}
	if why := result.Why(w.now); len(why) > 0 {
		b.Why = why[0].String()
	}
	if other := w.beside.Build(left, w.after[audience]).Best(w.now); other != nil {
		for _, c := range other.Certs[1:] {
			if !w.after[audience].Has(c) && !slices.ContainsFunc(left, func(l *certs.Certificate) bool { return l.Fingerprint == c.Fingerprint }) {
				b.Helps = append(b.Helps, c.CommonName()+", from "+c.IssuerName())
			}
		}
	}
	return b
}
