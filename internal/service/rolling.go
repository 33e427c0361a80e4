package service

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"time"

	"insegna.example/internal/core/authority"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/store"
)

// Rolling is how a CA of one's own stands on its way from one root to the next.
type Rolling struct {
	Root, Former *certs.Certificate // in force, and the one before; nil for none
	Vouched      bool               // the former one vouches for the one in force
	Now, Old     int                // good certificates issued under each
	Ends         time.Time          // the last of those issued under former ones
	Waiting      []string           // audiences that trust the former root and not yet the one in force
	Moved        []string           // that trust the one in force
}

// Rolling tells how a CA stands.
func (s *Issuing) Rolling(ctx context.Context, name string) (*Rolling, error) {
	list, err := s.of(ctx, name)
	if err != nil {
		return nil, err
	}
	r := &Rolling{}
	for _, a := range list {
		switch {
		case a.Role == store.RootCA && a.RetiredAt == nil:
			r.Root = a.certificate
		case a.Role == store.RootCA && r.Former == nil: // the newest comes first
			r.Former = a.certificate
		case a.Role == store.CrossCA && a.RetiredAt == nil:
			r.Vouched = true
		}
	}
	if r.Root == nil {
		return nil, &UnknownError{"CA of your own", name, "ca list"}
	}
	if r.Now, r.Old, r.Ends, err = s.store.IssuedUnder(ctx, name, time.Now()); err != nil {
		return nil, err
	}
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range Audiences(e) {
		switch {
		case a.Has(r.Root):
			r.Moved = append(r.Moved, a.Name)
		case r.Former != nil && a.Has(r.Former):
			r.Waiting = append(r.Waiting, a.Name)
		}
	}
	return r, nil
}

// Roll gives a CA of one's own a new root and a new CA below it that issues from then on.
// The former root vouches for the new one, and servers send that along: whoever trusts
// either of them trusts what is issued. Where the former root's key is kept elsewhere it
// is given.
func (s *Issuing) Roll(ctx context.Context, m *MakeCA, given *TakeIn) ([]AuthorityView, []byte, error) {
	list, err := s.of(ctx, m.Name)
	if err != nil {
		return nil, nil, err
	}
	at := slices.IndexFunc(list, func(a *inUse) bool { return a.Role == store.RootCA && a.RetiredAt == nil })
	if at < 0 {
		return nil, nil, &UnknownError{"CA of your own", m.Name, "ca list"}
	}
	former := list[at]
	by, err := s.rootSigner(former, given)
	if err != nil {
		return nil, nil, err
	}
	old := former.certificate.Certificate
	if old.MaxPathLen >= 0 && old.MaxPathLen < rootPath {
		return nil, nil, &RefusedError{fmt.Sprintf("%s may have %d CA below it (its path length), and two are needed to vouch for another root", former.certificate.CommonName(), old.MaxPathLen),
			"make another CA under another name, have its root trusted, and move the mandates: insegna ca make NAME"}
	}
	now := time.Now().UTC()
	keyKind := m.Key
	if keyKind == "" {
		keyKind = kindOfPublic(former.certificate.PublicKey)
	}
	m.Key = keyKind
	root := &authority.Authority{Subject: s.subject(m, "Root", now), From: now.Add(-time.Hour), Until: now.Add(usualRootLife), PathLength: rootPath, Permitted: permittedOf(old)}
	if len(m.Organization) == 0 {
		root.Subject.Organization, root.Subject.Country = old.Subject.Organization, old.Subject.Country
	}
	below := &authority.Authority{Subject: s.subject(m, "Issuing", now), From: root.From, Until: now.Add(usualIssuingLife)}
	below.Subject.Organization, below.Subject.Country = root.Subject.Organization, root.Subject.Country
	for n := 2; slices.ContainsFunc(list, func(a *inUse) bool {
		return a.certificate.CommonName() == root.Subject.CommonName || a.certificate.CommonName() == below.Subject.CommonName
	}); n++ { // names tell them apart
		root.Subject.CommonName, below.Subject.CommonName = fmt.Sprintf("%s Root %d-%d", m.Name, now.Year(), n), fmt.Sprintf("%s Issuing %d-%d", m.Name, now.Year(), n)
	}
	made, err := s.makePair(m, root, below)
	if err != nil {
		return nil, nil, err
	}
	defer made.wipe()
	cross := &authority.Authority{Subject: root.Subject, From: root.From, Until: root.Until, PathLength: 1, Permitted: root.Permitted}
	crossDER, err := cross.Below(by, made.rootKey.Public(), rand.Reader)
	if errors.Is(err, authority.ErrShort) {
		return nil, nil, &RefusedError{fmt.Sprintf("%s ended on %s, and can vouch for no other", former.certificate.CommonName(), instant(former.certificate.NotAfter)),
			"make another CA under another name: insegna ca make NAME"}
	} else if err != nil {
		return nil, nil, err
	}
	made.rows, made.keys = append(made.rows, &store.Authority{Role: store.CrossCA, Certificate: crossDER, ParentID: &former.ID}), append(made.keys, nil)
	var handed []byte
	if m.Passphrase != nil {
		w := certs.Written{Form: certs.FormPEM, Passphrase: append([]byte{}, *m.Passphrase...)}
		if handed, err = w.Key(made.rootKey, rand.Reader); err != nil {
			return nil, nil, err
		}
		made.keys[0] = nil
	}
	if err := s.keep(ctx, m.Name, made, true, &store.Act{Actor: actor(ctx), Action: "ca.roll", Subject: m.Name, Detail: map[string]any{"root": made.print(0),
		"issuing": made.print(1), "vouched for by": former.certificate.Fingerprint.String(), "root key kept": m.Passphrase == nil}}); err != nil {
		return nil, nil, err
	}
	views, err := s.Authorities(ctx, m.Name)
	return views, handed, err
}

// rootSigner opens the key of a root: in the safe, or as somebody gives it.
func (s *Issuing) rootSigner(root *inUse, given *TakeIn) (*authority.Signer, error) {
	if root.Encrypted != nil {
		by, err := s.open(root)
		if err != nil {
			return nil, err
		}
		return &by.Signer, nil
	}
	if given == nil || len(given.Files) == 0 {
		return nil, &RefusedError{fmt.Sprintf("the key of %s is not in the safe", root.certificate.CommonName()),
			"bring the file it is kept in: insegna ca roll " + root.CA + " --root-key FILE"}
	}
	m, err := given.read()
	if err != nil {
		return nil, err
	}
	for _, k := range m.Keys {
		spki, err := x509.MarshalPKIXPublicKey(k.Signer.Public())
		if err == nil && bytes.Equal(spki, root.certificate.RawSubjectPublicKeyInfo) {
			return &authority.Signer{Certificate: root.certificate.Certificate, Key: crypto.Signer(k.Signer)}, nil
		}
	}
	return nil, &MaterialError{"the file holds no key of " + root.certificate.CommonName(), "give the file that insegna ca make wrote with --root-key"}
}

// permittedOf are the names a CA's certificate is confined to.
func permittedOf(c *x509.Certificate) []string {
	out := slices.Clone(c.PermittedDNSDomains)
	for _, n := range c.PermittedIPRanges {
		out = append(out, n.String())
	}
	return out
}

// EndRolling ends that the former root vouches for the one in force: for when whoever has
// to trusts the new one. Audiences that do not yet keep it from that.
func (s *Issuing) EndRolling(ctx context.Context, name string, agreed bool) ([]AuthorityView, error) {
	r, err := s.Rolling(ctx, name)
	switch {
	case err != nil:
		return nil, err
	case !r.Vouched:
		return nil, &RefusedError{fmt.Sprintf("no former root vouches for that of %s", name), "see it: insegna ca show " + name}
	case len(r.Waiting) > 0 && !agreed:
		return nil, &RefusedError{fmt.Sprintf("the audiences %s trust %s and not yet %s", joinWords(r.Waiting), r.Former.CommonName(), r.Root.CommonName()),
			"have them trust it, and declare it in their roots: insegna ca root " + name + "; or agree to it: insegna ca roll " + name + " --finish --yes"}
	}
	defer s.forget()
	if err := s.store.RetireCross(ctx, name, &store.Act{Actor: actor(ctx), Action: "ca.rolled", Subject: name, Detail: map[string]any{"waiting": r.Waiting}}, time.Now().UTC()); err != nil {
		return nil, err
	}
	return s.Authorities(ctx, name)
}
