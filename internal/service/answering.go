package service

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"insegna.example/internal/acme/server"
	"insegna.example/internal/core/authority"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/issue"
	"insegna.example/internal/safe"
	"insegna.example/internal/store"
)

// ownCA finds a CA of one's own that is asked over ACME.
func (s *Issuing) ownCA(ctx context.Context, name string) (*estate.CA, *estate.Estate, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, ErrNoEstate
	} else if err != nil {
		return nil, nil, err
	}
	ca := e.CA(name)
	if ca == nil || ca.Private == nil || ca.Private.ACME == nil {
		return nil, nil, &UnknownError{"CA that is asked over ACME here", name, "ca list"}
	}
	return ca, e, nil
}

// ACME gives what answers clients of the network in the name of a CA of one's own.
func (s *Issuing) ACME(ctx context.Context, name string) (*server.CA, error) {
	ca, _, err := s.ownCA(ctx, name)
	if err != nil {
		return nil, err
	}
	if _, err := s.signer(ctx, name); err != nil {
		return nil, err
	}
	all, err := s.of(ctx, name)
	if err != nil {
		return nil, err
	}
	var keys [][]byte
	for _, one := range all {
		if one.Role == store.IssuingCA {
			keys = append(keys, one.certificate.SubjectKeyId)
		}
	}
	a := ca.Private.ACME
	v := &server.CA{Name: name, Base: ca.Folder(), External: a.Customers, PerHour: a.PerHour, HTTPPort: a.HTTPPort, TLSPort: a.TLSPort,
		Resolver: a.Resolver, Profiles: map[string]string{}, Records: &acmeRecords{s.store, name}, KeyIDs: keys}
	if v.Resolver == "" {
		v.Resolver = systemResolver()
	}
	if at := ca.Private.Publish; at != "" {
		v.Website = at + "/pki/" + url.PathEscape(name) + "/"
	}
	for _, p := range ca.Private.Profiles {
		if Operator.Includes(Role(p.AtLeast)) {
			v.Profiles[p.Name] = fmt.Sprintf("for %s, good for %d days", strings.Join(p.Usages, " and "), p.Days)
		}
	}
	v.Customer = func(ctx context.Context, id string) ([]byte, error) {
		c, err := s.store.ACMECustomer(ctx, name, id)
		if errors.Is(err, store.ErrNotFound) {
			return nil, server.ErrNotFound
		} else if err != nil {
			return nil, err
		}
		return s.safe.Decrypt(c.Encrypted, customerPurpose(name+" "+id))
	}
	v.Allows = func(profile, host string) error {
		p := ca.Private.Profile(profile)
		switch {
		case p == nil:
			return &ProfileError{name, profile, "there is no such profile"}
		case !Operator.Includes(Role(p.AtLeast)):
			return &ProfileError{name, p.Name, "it is for people alone"}
		case !p.Allows(host):
			return &ProfileError{name, p.Name, fmt.Sprintf("%s is none of %s", host, strings.Join(p.Names, ", "))}
		}
		return nil
	}
	v.Issue = func(ctx context.Context, account, order, profile string, csr *x509.CertificateRequest, list []string) ([]byte, string, error) {
		return s.issueOver(ctx, ca, account, order, profile, csr, list)
	}
	v.Find = func(ctx context.Context, serial []byte) (*server.Known, error) {
		i, err := s.store.IssuedOf(ctx, name, serial)
		if errors.Is(err, store.ErrNotFound) {
			return nil, server.ErrNotFound
		} else if err != nil {
			return nil, err
		}
		c, err := certs.Parse(i.Der)
		if err != nil {
			return nil, err
		}
		return &server.Known{DER: i.Der, Account: i.Account, NotBefore: c.NotBefore, NotAfter: c.NotAfter, Revoked: i.RevokedAt != nil}, nil
	}
	v.Revoke = func(ctx context.Context, serial []byte, reason int) error {
		for word, code := range authority.Reasons {
			if code == reason {
				return s.RevokeIssued(ctx, name, hex.EncodeToString(serial), word)
			}
		}
		return fmt.Errorf("%d is no reason", reason)
	}
	v.Told = func(ctx context.Context, action, subject string, detail map[string]any) {
		detail["ca"] = name
		if err := s.store.Note(ctx, &store.Act{Actor: "acme", Action: action, Subject: subject, Detail: detail}, time.Now().UTC()); err != nil {
			s.cfg.Log.Warn("the journal was not written", "action", action, "error", err)
		}
	}
	return v, nil
}

// issueOver issues what was ordered over ACME, once for an order.
func (s *Issuing) issueOver(ctx context.Context, ca *estate.CA, account, order, profile string, csr *x509.CertificateRequest, list []string) (chain []byte, serial string, err error) {
	w := &Wish{Names: list, Subject: csr.Subject, Public: csr.PublicKey, Profile: profile}
	p, err := w.within(ca, Operator)
	var c *certs.Certificate
	if err == nil {
		c, err = s.issueAs(ctx, ca, w, p, &store.Issued{Account: account, ACMEOrder: &order, By: "acme " + account[:8]},
			&store.Act{Actor: "acme", Action: "ca.issue", Subject: ca.Name, Detail: map[string]any{"names": list, "profile": p.Name, "account": account}})
	}
	var profiled *ProfileError
	var refused *RefusedError
	switch {
	case errors.As(err, &profiled):
		return nil, "", &server.RefusedError{Kind: "rejectedIdentifier", Reason: profiled.Error()}
	case errors.As(err, &refused):
		return nil, "", &server.RefusedError{Kind: "serverInternal", Reason: refused.Error()}
	case err != nil:
		return nil, "", err
	}
	above, _, err := s.chain(ctx, ca.Name)
	if err != nil {
		return nil, "", err
	}
	chain = certs.PEM(c.Raw)
	for _, a := range above {
		chain = append(chain, certs.PEM(a.Raw)...)
	}
	return chain, hex.EncodeToString(c.SerialNumber.Bytes()), nil
}

// acmeRecords keep what clients of one CA have made.
type acmeRecords struct {
	store *store.Store
	ca    string
}

// told gives the errors their meaning there.
func told(err error) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return server.ErrNotFound
	case errors.Is(err, store.ErrVersion):
		return server.ErrChanged
	case errors.Is(err, store.ErrKeyUsed):
		return server.ErrTaken
	}
	return err
}

// Object implements server.Records.
func (r *acmeRecords) Object(ctx context.Context, kind, id string) ([]byte, int, error) {
	doc, version, err := r.store.ACMEObject(ctx, r.ca, kind, id)
	return doc, version, told(err)
}

// AccountOf implements server.Records.
func (r *acmeRecords) AccountOf(ctx context.Context, key string) (string, error) {
	id, err := r.store.ACMEAccountOf(ctx, r.ca, key)
	return id, told(err)
}

// row is an object as it is stored.
func (r *acmeRecords) row(o server.Object) store.ACMEObject {
	v := store.ACMEObject{CA: r.ca, Kind: o.Kind, ID: o.ID, Owner: o.Owner, Document: o.Document, CreatedAt: time.Now().UTC()}
	if o.Key != "" {
		v.Key = &o.Key
	}
	if !o.ExpiresAt.IsZero() {
		v.ExpiresAt = &o.ExpiresAt
	}
	return v
}

// Add implements server.Records.
func (r *acmeRecords) Add(ctx context.Context, list ...server.Object) error {
	rows := make([]store.ACMEObject, len(list))
	for i, o := range list {
		rows[i] = r.row(o)
	}
	return told(r.store.AddACMEObjects(ctx, rows))
}

// Change implements server.Records.
func (r *acmeRecords) Change(ctx context.Context, version int, o server.Object) error {
	return told(r.store.ChangeACMEObject(ctx, version, r.row(o)))
}

// OrdersOf implements server.Records.
func (r *acmeRecords) OrdersOf(ctx context.Context, account, before string, limit int) ([]string, error) {
	return r.store.ACMEOrdersOf(ctx, r.ca, account, before, limit)
}

// Since implements server.Records.
func (r *acmeRecords) Since(ctx context.Context, account string, t time.Time) (int, error) {
	return r.store.ACMEOrdersSince(ctx, r.ca, account, t)
}

// ownPairs are the certificates the listener for ACME shows, by host.
type ownPairs struct {
	mu    sync.Mutex
	pairs map[string]*tls.Certificate
}

// Lives of what the listener shows of itself.
const ownDays = 14

// ACMECertificate is what the listener for ACME shows as a host: issued by the very CA
// that is asked there, and anew after half of its life. For any other host there is none.
func (s *Issuing) ACMECertificate(ctx context.Context, host string) (*tls.Certificate, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	var first *estate.CA
	var own string
	for i := range e.CAs {
		ca := &e.CAs[i]
		if ca.Private == nil || ca.Private.ACME == nil {
			continue
		}
		u, err := url.Parse(ca.Private.ACME.Address)
		if err != nil {
			continue
		}
		if name := u.Hostname(); first == nil || strings.EqualFold(name, host) {
			if first, own = ca, name; strings.EqualFold(name, host) {
				break
			}
		}
	}
	if first == nil {
		return nil, &RefusedError{"no CA of the estate is asked over ACME here", "declare acme with its address for a CA by: private"}
	}
	s.own.mu.Lock()
	defer s.own.mu.Unlock()
	chain, _, err := s.chain(ctx, first.Name)
	if err != nil {
		return nil, err
	}
	if had := s.own.pairs[own]; had != nil && time.Until(had.Leaf.NotAfter) > ownDays*24*time.Hour/2 && slices.EqualFunc(had.Certificate[1:], chain,
		func(der []byte, c *certs.Certificate) bool { return bytes.Equal(der, c.Raw) }) { // else the CA was rolled over since
		return had, nil
	}
	key, err := issue.NewKey("ecdsa-p256")
	if err != nil {
		return nil, err
	}
	p := &estate.Profile{Name: "its own listener", Days: ownDays, Usages: estate.Usages[:1]}
	c, err := s.issue(ctx, first, &Wish{Names: []string{own}, Public: key.Public()}, p, nil,
		&store.Act{Actor: actor(ctx), Action: "ca.issue", Subject: first.Name, Detail: map[string]any{"names": []string{own}, "profile": p.Name}})
	if err != nil {
		return nil, err
	}
	pair := &tls.Certificate{Certificate: [][]byte{c.Raw}, PrivateKey: key, Leaf: c.Certificate}
	for _, a := range chain {
		pair.Certificate = append(pair.Certificate, a.Raw)
	}
	s.own.pairs[own] = pair
	return pair, nil
}

// customerPurpose binds the ciphertext of a MAC key to its CA and customer.
func customerPurpose(name string) string { return "acme customer " + name }

// Customers lists the customers of a CA of one's own.
func (s *Issuing) Customers(ctx context.Context, ca string) ([]store.ACMECustomer, error) {
	if _, _, err := s.ownCA(ctx, ca); err != nil {
		return nil, err
	}
	return s.store.ACMECustomers(ctx, ca)
}

// AddCustomer makes a customer, or gives one another key, and hands the key out: it is
// shown this once.
func (s *Issuing) AddCustomer(ctx context.Context, ca, name string) (mac string, err error) {
	if _, _, err := s.ownCA(ctx, ca); err != nil {
		return "", err
	}
	if !credentialName.MatchString(name) {
		return "", &TokenError{fmt.Sprintf("%q is no name for a customer; expected letters, digits, dot, dash or underscore", name)}
	}
	secret, _ := newSecret()
	encrypted, err := s.safe.Encrypt(safe.Secret(secret), customerPurpose(ca+" "+name))
	if err != nil {
		return "", err
	}
	return base64.RawURLEncoding.EncodeToString(secret), s.store.AddACMECustomer(ctx, &store.ACMECustomer{CA: ca, Name: name, Encrypted: encrypted, By: actor(ctx), At: time.Now().UTC()},
		&store.Act{Actor: actor(ctx), Action: "customer.add", Subject: name, Detail: map[string]any{"ca": ca}})
}

// RemoveCustomer forgets a customer and ends its accounts.
func (s *Issuing) RemoveCustomer(ctx context.Context, ca, name string) error {
	err := s.store.RemoveACMECustomer(ctx, ca, name, &store.Act{Actor: actor(ctx), Action: "customer.remove", Subject: name, Detail: map[string]any{"ca": ca}},
		time.Now().UTC())
	if errors.Is(err, store.ErrNotFound) {
		return &UnknownError{"customer of " + ca, name, "ca customer list " + ca}
	}
	return err
}
