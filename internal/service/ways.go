package service

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"time"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/issue"
	"insegna.example/internal/issue/acmesource"
	"insegna.example/internal/issue/ownsource"
	"insegna.example/internal/safe"
	"insegna.example/internal/store"
)

// askable says whether a CA can be asked now, however it is asked; the account is
// nil where it knows none.
func (s *Ordering) askable(ctx context.Context, ca *estate.CA, list []store.Mandate, rehearsal bool) (*store.Account, error) {
	switch {
	case ca.By == estate.ByACME:
		return s.agreed(ctx, ca, rehearsal)
	case ca.By == estate.ByPrivate:
		return nil, s.mayIssue(ctx, ca, list)
	case ca.By == estate.ByHand && rehearsal:
		return nil, &RefusedError{fmt.Sprintf("%s is asked by hand, and there is nobody to rehearse with", ca.Name),
			"rehearse with " + estate.SelfSigned + " as its CA, or order: insegna mandate order " + list[0].Name}
	}
	return nil, nil
}

// mayIssue says why a CA of one's own does not issue for mandates.
func (s *Ordering) mayIssue(ctx context.Context, ca *estate.CA, list []store.Mandate) error {
	if _, err := s.issuing.signer(ctx, ca.Name); err != nil {
		return err
	}
	role := Admin // what is due by itself was allowed when the mandate was made
	if c := CallerOf(ctx); c != nil {
		role = c.role()
	}
	for i := range list {
		p := ca.Private.Profile(list[i].Spec.Profile)
		switch {
		case p == nil:
			return &RefusedError{fmt.Sprintf("%s has no profile %q any more", ca.Name, list[i].Spec.Profile), "name one it has in the mandate " + list[i].Name}
		case !role.Includes(Role(p.AtLeast)):
			return &RefusedError{fmt.Sprintf("the profile %s of %s is for the role %s and above", p.Name, ca.Name, p.AtLeast), "have somebody of that role order it"}
		}
	}
	return nil
}

// selfSource makes the way of certificates that sign themselves.
func (s *Ordering) selfSource(context.Context, *asked) (issue.Source, error) {
	return &ownsource.Self{}, nil
}

// handSource makes the way by hand.
func (s *Ordering) handSource(_ context.Context, a *asked) (issue.Source, error) {
	return &ownsource.Hand{To: a.ca.Hand.To, Reply: a.row.Reply, Sent: sentWords(a.row)}, nil
}

// sentWords tells when and where a request was sent; "" before.
func sentWords(o *store.Order) string {
	if o.SentAt == nil {
		return ""
	}
	words := "on " + o.SentAt.UTC().Format("2 January 2006")
	if o.SentTo != "" {
		words += " to " + o.SentTo
	}
	if o.ExpectedAt != nil {
		words += ", a reply is expected by " + o.ExpectedAt.UTC().Format("2 January 2006")
	}
	return words
}

// awaitPerson keeps that an order goes no further by itself.
func (s *Ordering) awaitPerson(ctx context.Context, o *issue.Order, row *store.Order, r *orderRecords, wait *issue.WaitError) error {
	if row.Waits { // told already
		return nil
	}
	if err := r.waits(ctx, o, wait.Error()); err != nil {
		return err
	}
	row.State, row.Waits = string(o.State), true
	return s.store.SaveOrder(ctx, row, nil)
}

// formerKey is the key of the certificate before, for a mandate that keeps its key;
// nil where there is none.
func (s *Ordering) formerKey(ctx context.Context, row *store.Order) ([]byte, error) {
	before, err := s.store.InForce(ctx, []int64{row.MandateID})
	o, there := before[row.MandateID]
	if err != nil || !there || o.Encrypted == nil || o.RevokedAt != nil { // what was taken back is replaced with another key
		return nil, err
	}
	return s.safe.Decrypt(o.Encrypted, orderPurpose(o.ID))
}

// subjectOf is a mandate's subject as a request has it.
func subjectOf(s *estate.Subject) pkix.Name {
	one := func(v string) []string {
		if v == "" {
			return nil
		}
		return []string{v}
	}
	return pkix.Name{CommonName: s.CommonName, Organization: one(s.Organization), OrganizationalUnit: one(s.Unit), Country: one(s.Country),
		Province: one(s.Province), Locality: one(s.Locality)}
}

// publicHalf is the SHA-256 over the key a request is for.
func publicHalf(request []byte) ([]byte, error) {
	r, err := x509.ParseCertificateRequest(request)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(r.RawSubjectPublicKeyInfo)
	return sum[:], nil
}

// checkOwn is the pre-flight of a mandate whose CA wants nothing proved.
func (s *Ordering) checkOwn(ctx context.Context, m *MandateView, ca *estate.CA) ([]acmesource.Trial, error) {
	t := acmesource.Trial{Name: m.Spec.Names[0], Step: "source", Seen: map[string]string{estate.BySelf: "it signs itself, and nobody is asked",
		estate.ByHand: ca.Name + " is asked by hand: a person sends the request and brings the reply back", estate.ByPrivate: ca.Name + " is your own, and wants no proof of the names"}[ca.By]}
	if _, err := s.askable(ctx, ca, []store.Mandate{m.Mandate}, false); err != nil {
		var refused *RefusedError
		if !errors.As(err, &refused) {
			return nil, err
		}
		t.Code, t.Seen, t.Remedy = "cannot-issue", refused.Reason, refused.Next
	}
	return []acmesource.Trial{t}, nil
}

// DropFormerKeys destroys the keys of former certificates beyond those that are kept, in
// the safe and on servers.
func (s *Ordering) DropFormerKeys(ctx context.Context) error {
	const atOnce = 1000
	_, err := s.store.DropFormerKeys(ctx, estate.KeptUsually, atOnce, time.Now().UTC(), func(orders []int64) *store.Act {
		return &store.Act{Actor: actor(ctx), Action: "key.destroy", Subject: fmt.Sprintf("%d former keys", len(orders)),
			Detail: map[string]any{"orders": orders}}
	})
	return errors.Join(err, s.dropDistantKeys(ctx))
}

// secret is what came with a request and is not to be shown.
type secret = safe.Secret
