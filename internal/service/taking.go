package service

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/core/names"
	"insegna.example/internal/core/trust"
	"insegna.example/internal/issue"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// NamedFile is a file somebody gave, with what they call it.
type NamedFile struct {
	Name string
	Data []byte
}

// TakeIn is a certificate with its key that somebody gives, in any form.
type TakeIn struct {
	Files      []NamedFile // one, or several that belong together
	Passphrase *secret     // of what is encrypted; nil where none was given
	Which      string      // first digits of the fingerprint of the certificate meant, "" where there is one
	Mandate    string      // whose newest it becomes; "" for the one of its names, which is made where there is none
	Name       string      // of a mandate that is made; "" for the certificate's main name
}

// MaterialError says why what was given is not taken.
type MaterialError struct{ Reason, Next string }

// Error gives the reason alone.
func (e *MaterialError) Error() string { return e.Reason }

// Told implements fault.Error.
func (e *MaterialError) Told() fault.Told {
	return fault.Told{Class: fault.NotTaken, Title: "Not taken", Next: e.Next}
}

// LockedMaterialError says that a passphrase is needed, or another one.
type LockedMaterialError struct{ *certs.LockedError }

// Told implements fault.Error.
func (e *LockedMaterialError) Told() fault.Told {
	return fault.Told{Class: fault.NotTaken, Title: "Passphrase", Next: "give the passphrase it was encrypted with"}
}

// Bounds of what is given at once.
const (
	mostFiles       = 20
	longestFileName = 255 // bytes
)

// read puts the files together.
func (in *TakeIn) read() (*certs.Material, error) {
	var passphrase []byte
	if in.Passphrase != nil {
		passphrase = append([]byte{}, *in.Passphrase...)
	}
	if len(in.Files) > mostFiles {
		return nil, &MaterialError{fmt.Sprintf("there are %d files", len(in.Files)), fmt.Sprintf("give at most %d that belong together", mostFiles)}
	}
	m := &certs.Material{}
	for i := range in.Files {
		f := &in.Files[i]
		f.Name = strings.ToValidUTF8(f.Name[:min(len(f.Name), longestFileName)], "") // it stands in the journal
		err := m.Read(f.Name, f.Data, passphrase)
		var locked *certs.LockedError
		switch {
		case errors.As(err, &locked):
			return nil, &LockedMaterialError{locked}
		case err != nil:
			return nil, &MaterialError{err.Error(), "give certificate and key as PEM, DER, PKCS#7 or PKCS#12"}
		}
	}
	return m, nil
}

// TakeIn keeps a certificate with its key as the newest of a mandate. Words say
// what was chosen and what is to be known of it.
func (s *Ordering) TakeIn(ctx context.Context, in *TakeIn) (*OrderView, []string, error) {
	material, err := in.read()
	if err != nil {
		return nil, nil, err
	}
	pair, err := material.Pair(in.Which)
	var unpaired *certs.PairError
	if errors.As(err, &unpaired) {
		return nil, nil, &MaterialError{unpaired.Reason, unpaired.Next}
	} else if err != nil {
		return nil, nil, err
	}
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, ErrNoEstate
	} else if err != nil {
		return nil, nil, err
	}
	now := time.Now().UTC()
	if err := usable(pair.Leaf, now); err != nil {
		return nil, nil, err
	}
	mandate, made, err := s.mandateFor(ctx, in, pair.Leaf, e)
	if err != nil {
		return nil, nil, err
	}
	list, words, err := s.chainOf(ctx, pair, e, &mandate.Spec)
	if err != nil {
		return nil, nil, err
	}
	if pair.Words != "" {
		words = append(words, pair.Words)
	}
	return s.keepTaken(ctx, in, pair, list, mandate, made, words)
}

// usable refuses what no server could use.
func usable(leaf *certs.Certificate, now time.Time) error {
	switch {
	case leaf.IsCA:
		return &MaterialError{"the certificate with that key is a CA's: " + leaf.CommonName(),
			"give a server's certificate; a CA of your own is taken in with: insegna ca take"}
	case !leaf.NotAfter.After(now):
		return &MaterialError{fmt.Sprintf("the certificate ended on %s", instant(leaf.NotAfter)), "give one that is in its dates"}
	case len(leaf.Names()) == 0:
		return &MaterialError{"the certificate names no host: it has no subject alternative names, and the common name (" +
			leaf.CommonName() + ") does not count (RFC 9525)", "have it issued again with its hosts as subject alternative names"}
	}
	return nil
}

// mandateFor finds the mandate whose newest a certificate becomes, or writes one.
func (s *Ordering) mandateFor(ctx context.Context, in *TakeIn, leaf *certs.Certificate, e *estate.Estate) (m *store.Mandate, made *estate.Mandate, err error) {
	has := issue.AllNames(leaf)
	if in.Mandate != "" {
		m, err := s.store.Mandate(ctx, in.Mandate)
		if errors.Is(err, store.ErrNotFound) {
			return nil, nil, &UnknownError{"mandate", in.Mandate, "mandate list"}
		} else if err != nil {
			return nil, nil, err
		}
		for _, n := range m.Spec.Names {
			if !slices.Contains(has, n) && !(names.FormOf(n) == names.DNS && names.Covers(leaf, n).Covered) {
				return nil, nil, &MaterialError{fmt.Sprintf("the certificate is for %s, and the mandate %s wants %s", joinedNames(has), m.Name, n),
					"leave the mandate away: one of its own is made; or change the names of the mandate"}
			}
		}
		return m, nil, nil
	}
	same, err := s.store.MandateOfNames(ctx, has)
	if err != nil {
		return nil, nil, err
	}
	if len(same) == 1 {
		return &same[0], nil, nil
	} else if len(same) > 1 {
		return nil, nil, &MaterialError{fmt.Sprintf("the mandates %s and %s are both for these names", same[0].Name, same[1].Name),
			"say which one's newest it becomes"}
	}
	name := in.Name
	if name == "" {
		name = strings.Trim(strings.NewReplacer("*", "wildcard", ":", "-").Replace(has[0]), ".-")
		name = strings.Trim(name[:min(len(name), 63)], ".-")
	}
	text, err := estate.MandateText(&estate.Mandate{Name: name, Names: has, CA: estate.HandMade, Key: kindOfKey(leaf)})
	if err != nil {
		return nil, nil, err
	}
	list, err := estate.ParseMandate(text, e)
	if err != nil {
		return nil, nil, err
	}
	made = &list[0]
	return &store.Mandate{Name: made.Name, CA: made.CA, Spec: *made}, made, nil
}

// kindOfKey is the kind a mandate asks for to have a key like this one again.
func kindOfKey(leaf *certs.Certificate) string {
	k := leaf.Key()
	switch leaf.PublicKeyAlgorithm {
	case x509.RSA:
		for _, bits := range []int{2048, 3072, 4096} {
			if k.Bits <= bits {
				return fmt.Sprintf("rsa-%d", bits)
			}
		}
		return "rsa-4096"
	case x509.Ed25519:
		return "ed25519"
	}
	if kind := fmt.Sprintf("ecdsa-p%d", k.Bits); slices.Contains(estate.KeyKinds, kind) {
		return kind
	}
	return estate.KeyKinds[0]
}

// joinedNames lists a few names.
func joinedNames(list []string) string {
	const most = 4
	if len(list) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
	}
	return strings.Join(list, ", ")
}

// How far above a certificate its issuers are looked for among those met, and how many
// of one name are tried.
const (
	highest   = 6
	namesakes = 20
)

// above gives the CA certificates met in the estate that may stand above a certificate
// and those given with it, by their names.
func (s *Ordering) above(ctx context.Context, leaf *certs.Certificate, given []*certs.Certificate) ([]*certs.Certificate, error) {
	asked := map[string]bool{}
	var met []*certs.Certificate
	next := append([]*certs.Certificate{leaf}, given...)
	for range highest {
		var found []*certs.Certificate
		for _, c := range next {
			if c.SelfSigned() || asked[c.IssuerName()] {
				continue
			}
			asked[c.IssuerName()] = true
			ders, err := s.store.CAsNamed(ctx, c.IssuerName(), time.Now(), namesakes)
			if err != nil {
				return nil, err
			}
			for _, der := range ders {
				if ca, err := certs.Parse(der); err == nil && ca.SubjectDN == c.IssuerDN && !among(given, ca) {
					found = append(found, ca)
				}
			}
		}
		met, next = append(met, found...), found
	}
	return met, nil
}

// among says whether a certificate is one of a list.
func among(list []*certs.Certificate, c *certs.Certificate) bool {
	return slices.ContainsFunc(list, func(o *certs.Certificate) bool { return o.Fingerprint == c.Fingerprint })
}

// chainOf completes the chain from what was given, what the estate knows and what was met
// in it, the way that the most of the names' audiences trust; where none does, it is put in order
// as far as it leads, and that is said.
func (s *Ordering) chainOf(ctx context.Context, pair *certs.Pair, e *estate.Estate, spec *estate.Mandate) (list []*certs.Certificate, words []string, err error) {
	judge, err := s.declaring.currentJudge(ctx)
	if err != nil {
		return nil, nil, err
	}
	met, err := s.above(ctx, pair.Leaf, pair.Others)
	if err != nil {
		return nil, nil, err
	}
	material := append(slices.Clip(pair.Others), met...)
	ders := [][]byte{pair.Leaf.Raw}
	for _, c := range material {
		ders = append(ders, c.Raw)
	}
	now := time.Now()
	wanted := audiencesOf(e, spec)
	var doubts []string // and what else is to be told
	for _, v := range judge.Ask(ders) {
		if !slices.ContainsFunc(wanted, func(a *trust.Audience) bool { return a.Name == v.Audience.Name }) {
			continue
		}
		best := v.Result.Best(now)
		if best == nil {
			why := "no issuer of it is known"
			if failures := v.Result.Why(now); len(failures) > 0 {
				why = failures[0].String()
			}
			doubts = append(doubts, fmt.Sprintf("clients (%s) will not trust it: %s", v.Audience.Name, why))
			continue
		}
		if list == nil {
			list = best.Certs
			if len(list) > 1 {
				list = list[:len(list)-1] // clients have the anchor
			}
		}
	}
	if list == nil {
		list, _ = chain.Order(pair.Leaf, material)
		if last := len(list) - 1; last > 0 && list[last].SelfSigned() {
			list = list[:last]
		}
	}
	for _, c := range met {
		if among(list, c) {
			doubts = append(doubts, fmt.Sprintf("its chain is completed with %s, which was met in the estate", c.CommonName()))
		}
	}
	return list, doubts, nil
}

// keepTaken keeps it, and has done what follows a new certificate.
func (s *Ordering) keepTaken(ctx context.Context, in *TakeIn, pair *certs.Pair, list []*certs.Certificate, m *store.Mandate,
	made *estate.Mandate, words []string) (*OrderView, []string, error) {
	key, err := x509.MarshalPKCS8PrivateKey(pair.Key)
	if err != nil {
		return nil, nil, err
	}
	defer clear(key)
	now, until := time.Now().UTC(), pair.Leaf.NotAfter.UTC()
	public := pair.Leaf.Public()
	var pem []byte
	for _, c := range list {
		pem = append(pem, certs.PEM(c.Raw)...)
	}
	files := make([]string, len(in.Files))
	for i, f := range in.Files {
		files[i] = f.Name
	}
	row := &store.Order{MandateID: m.ID, CA: m.CA, Spec: m.Spec, Way: store.Taken, Chain: pem, Leaf: pair.Leaf.Fingerprint[:], NotAfter: &until,
		Public: public[:], By: actor(ctx), CreatedAt: now, FinishedAt: &now, State: string(issue.Issued), Mandate: *m}
	next := (&orderRecords{s: s, row: row}).renewal(ctx, pair.Leaf)
	taken := &store.TakenIn{Mandate: made, Order: row, Next: next,
		Words: fmt.Sprintf("taken in from %s: %s until %s, by %s", strings.Join(files, ", "), pair.Leaf.CommonName(), until.Format("2 January 2006"),
			pair.Leaf.IssuerName()),
		Enqueue: func(ctx context.Context, tx store.Tx, id int64) error { return work.Add(ctx, s.jobs, tx, orderJob{id}) },
		Encrypt: func(id int64) ([]byte, error) { return s.safe.Encrypt(secret(key), orderPurpose(id)) }}
	if made != nil {
		taken.Acts = append(taken.Acts, &store.Act{Actor: actor(ctx), Action: "mandate.add", Subject: made.Name,
			Detail: map[string]any{"names": made.Names, "ca": made.CA}})
	}
	taken.Acts = append(taken.Acts, &store.Act{Actor: actor(ctx), Action: "certificate.take", Subject: m.Name,
		Detail: map[string]any{"certificate": pair.Leaf.Fingerprint.String(), "files": files}})
	if err := s.store.TakeIn(ctx, taken); err != nil {
		return nil, nil, err
	}
	v, err := s.Order(ctx, row.ID)
	if err != nil {
		return nil, nil, err
	}
	if made != nil {
		words = append(words, fmt.Sprintf("the mandate %s was made for it: it reminds you before the certificate ends", made.Name))
	}
	return v, words, nil
}
