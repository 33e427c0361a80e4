package server

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"math/big"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"

	"insegna.example/internal/acme"
	"insegna.example/internal/core/names"
)

// Lives of what is made.
const (
	orderLife   = 24 * time.Hour
	keptAfter   = 30 * 24 * time.Hour // an order that has ended
	mostNames   = 100
	unfinished  = 30 * time.Second // an issuance whose process has died is taken up after
	retryPeriod = 2 * time.Second  // asked of clients that wait
)

// order is one order (section 7.1.3).
type order struct {
	ID        string            `json:"id"`
	Account   string            `json:"account"`
	Names     []acme.Identifier `json:"names"`
	Auths     []string          `json:"auths"`
	Profile   string            `json:"profile"`
	Replaces  string            `json:"replaces,omitempty"`
	Status    acme.Status       `json:"status"` // pending until it is finalized; then processing, valid or invalid
	Expires   time.Time         `json:"expires"`
	Request   []byte            `json:"request,omitempty"` // the certificate request, DER
	Since     time.Time         `json:"since"`             // it is being processed
	Chain     []byte            `json:"chain,omitempty"`   // PEM
	Serial    string            `json:"serial,omitempty"`
	Error     *acme.Problem     `json:"error,omitempty"`
	CreatedAt time.Time         `json:"created_at"`
}

// object is the order to be kept.
func (o *order) object() Object {
	return object(OrderKind, o.ID, o.Account, o, o.CreatedAt.Add(keptAfter))
}

// challenge is one way to show control (section 8).
type challenge struct {
	Kind      string        `json:"kind"`
	Token     string        `json:"token"`
	Status    acme.Status   `json:"status"`
	Since     time.Time     `json:"since"` // it was accepted
	Validated time.Time     `json:"validated"`
	Error     *acme.Problem `json:"error,omitempty"`
}

// authorization is one name to be proved (section 7.1.4).
type authorization struct {
	ID         string          `json:"id"`
	Account    string          `json:"account"`
	Name       acme.Identifier `json:"name"` // without the wildcard label
	Wildcard   bool            `json:"wildcard"`
	Status     acme.Status     `json:"status"`
	Expires    time.Time       `json:"expires"`
	Challenges []challenge     `json:"challenges"`
}

// object is the authorization to be kept.
func (z *authorization) object() Object {
	return object(AuthorizationKind, z.ID, z.Account, z, z.Expires.Add(keptAfter))
}

// newOrder makes an order (section 7.4).
func (d *Desk) newOrder(ctx context.Context, w http.ResponseWriter, c *CA, q *request) error {
	var body struct {
		Identifiers []acme.Identifier `json:"identifiers"`
		NotBefore   string            `json:"notBefore"`
		NotAfter    string            `json:"notAfter"`
		Replaces    string            `json:"replaces"`
		Profile     string            `json:"profile"`
	}
	if err := q.read(&body); err != nil {
		return err
	}
	if c.PerHour > 0 {
		n, err := c.Records.Since(ctx, q.account.ID, time.Now().Add(-time.Hour))
		if err != nil {
			return err
		}
		if n >= c.PerHour {
			p := refuse(429, "rateLimited", "an account may make %d orders an hour", c.PerHour)
			p.after = time.Hour / 4
			return p
		}
	}
	switch _, offered := c.Profiles[body.Profile]; {
	case len(body.Identifiers) == 0 || len(body.Identifiers) > mostNames:
		return refuse(400, "malformed", "an order has 1 to %d identifiers", mostNames)
	case body.NotBefore != "" || body.NotAfter != "":
		return refuse(400, "malformed", "notBefore and notAfter are not for an order to say here")
	case body.Profile != "" && !offered:
		return refuse(400, "invalidProfile", "there is no profile %.100q", body.Profile)
	}
	if p := c.refused(body.Profile, body.Identifiers); p != nil {
		return p
	}
	if body.Replaces != "" {
		if err := d.mayReplace(ctx, c, q.account.ID, body.Replaces); err != nil {
			return err
		}
	}
	now := time.Now().UTC()
	o := &order{ID: random(), Account: q.account.ID, Names: body.Identifiers, Profile: body.Profile, Replaces: body.Replaces, Status: acme.Pending,
		Expires: now.Add(orderLife).Truncate(time.Second), CreatedAt: now}
	var auths []*authorization
	list := []Object{{}}
	for _, n := range o.Names {
		z := authorize(q.account.ID, n, o.Expires)
		o.Auths = append(o.Auths, z.ID)
		auths = append(auths, z)
		list = append(list, z.object())
	}
	list[0] = o.object()
	if err := c.Records.Add(ctx, list...); err != nil {
		return err
	}
	w.Header().Set("Location", c.Base+"/order/"+o.ID)
	answer(w, 201, "application/json", o.doc(c, auths))
	return nil
}

// refused says which names may not be ordered, each in a subproblem of its own (section
// 6.7.1); nil where all may.
func (c *CA) refused(profile string, list []acme.Identifier) *problem {
	var bad []acme.Problem
	met := map[acme.Identifier]bool{}
	for _, n := range list {
		said := func(kind, format string, args ...any) {
			p := refuse(400, kind, format, args...).Problem
			p.Identifier = &acme.Identifier{Type: n.Type, Value: clip(n.Value)}
			bad = append(bad, p)
		}
		name, err := names.Alternative(n.Value)
		form := names.FormOf(name)
		a, notAddress := netip.ParseAddr(n.Value)
		switch {
		case n.Type != acme.DNS && n.Type != acme.IP:
			said("unsupportedIdentifier", "identifiers are of the type dns or ip")
		case met[n]:
			said("malformed", "it stands twice")
		case n.Type == acme.IP && (notAddress != nil || a.Zone() != "" || a.String() != n.Value):
			said("malformed", "it is no address as RFC 5952 writes it")
		case n.Type == acme.DNS && (err != nil || form != names.DNS || name != n.Value):
			said("rejectedIdentifier", "it is no host name in small letters and ASCII")
		default:
			if why := c.Allows(profile, n.Value); why != nil {
				said("rejectedIdentifier", "%s", why.Error())
			}
		}
		met[n] = true
	}
	if len(bad) == 0 {
		return nil
	}
	p := refuse(400, strings.TrimPrefix(bad[0].Type, "urn:ietf:params:acme:error:"), "%d of %d names cannot be ordered: %s: %s", len(bad), len(list), bad[0].Identifier.Value, bad[0].Detail)
	p.Subproblems = bad
	return p
}

// clip bounds a text that is said back.
func clip(text string) string {
	const most = 260
	if len(text) > most {
		text = text[:most] + "…"
	}
	return strings.ToValidUTF8(text, "�")
}

// authorize makes what a name is proved by.
func authorize(account string, n acme.Identifier, expires time.Time) *authorization {
	value, wildcard := strings.CutPrefix(n.Value, "*.")
	z := &authorization{ID: random(), Account: account, Name: acme.Identifier{Type: n.Type, Value: value}, Wildcard: wildcard, Status: acme.Pending, Expires: expires}
	kinds := []string{acme.HTTP01, acme.TLSALPN01, acme.DNS01}
	switch {
	case wildcard:
		kinds = []string{acme.DNS01}
	case n.Type == acme.IP: // RFC 8738 section 7
		kinds = kinds[:2]
	}
	token := random() // one for all: a proof is for its key authorization
	for _, kind := range kinds {
		z.Challenges = append(z.Challenges, challenge{Kind: kind, Token: token, Status: acme.Pending})
	}
	return z
}

// mayReplace holds an order's replaces against what was issued (RFC 9773 section 5).
func (d *Desk) mayReplace(ctx context.Context, c *CA, account, id string) error {
	k, err := c.named(ctx, id)
	if errors.Is(err, ErrNotFound) {
		return refuse(404, "malformed", "the certificate to replace was not issued here")
	} else if err != nil {
		return err
	}
	if k.Account != account {
		return refuse(403, "unauthorized", "the certificate to replace is not this account's")
	}
	return nil
}

// named finds a certificate by its id (RFC 9773 section 4.1).
func (c *CA) named(ctx context.Context, id string) (*Known, error) {
	aki, number, ok := strings.Cut(id, ".")
	key, errKey := base64.RawURLEncoding.DecodeString(aki)
	serial, errSerial := base64.RawURLEncoding.DecodeString(number)
	if !ok || errKey != nil || errSerial != nil || !slices.ContainsFunc(c.KeyIDs, func(id []byte) bool { return bytes.Equal(id, key) }) || len(serial) > 21 {
		return nil, ErrNotFound
	}
	return c.Find(ctx, new(big.Int).SetBytes(serial).Bytes())
}

// renewalInfo suggests when to renew: in the twelfth of its life after two thirds, or at
// once where it was revoked (RFC 9773 section 4.2).
func (d *Desk) renewalInfo(w http.ResponseWriter, r *http.Request, c *CA, id string) error {
	k, err := c.named(r.Context(), id)
	if errors.Is(err, ErrNotFound) {
		return refuse(404, "malformed", "the certificate was not issued here")
	} else if err != nil {
		return err
	}
	life := k.NotAfter.Sub(k.NotBefore)
	const share = 12
	start := k.NotBefore.Add(life * 2 / 3)
	end := start.Add(life / share)
	if k.Revoked {
		end = time.Now().Add(-time.Hour)
		start = end.Add(-time.Hour)
	}
	w.Header().Set("Retry-After", "21600")
	answer(w, 200, "application/json", map[string]any{"suggestedWindow": map[string]string{"start": start.UTC().Format(time.RFC3339), "end": end.UTC().Format(time.RFC3339)}})
	return nil
}

// authorizations reads those of an order.
func (d *Desk) authorizations(ctx context.Context, c *CA, o *order) ([]*authorization, error) {
	out := make([]*authorization, len(o.Auths))
	for i, id := range o.Auths {
		z, _, err := load[authorization](ctx, c, AuthorizationKind, id)
		if err != nil {
			return nil, err
		}
		out[i] = z
	}
	return out, nil
}

// state works out how an order stands (section 7.1.6).
func (o *order) state(auths []*authorization) acme.Status {
	if o.Status != acme.Pending {
		return o.Status
	}
	if time.Now().After(o.Expires) {
		return acme.Invalid
	}
	all := acme.Ready
	for _, z := range auths {
		switch z.Status {
		case acme.Valid:
		case acme.Pending:
			if all == acme.Ready {
				all = acme.Pending
			}
		default:
			all = acme.Invalid
		}
	}
	return all
}

// doc shows an order.
func (o *order) doc(c *CA, auths []*authorization) map[string]any {
	urls := make([]string, len(o.Auths))
	var failed []acme.Problem
	for i, z := range auths {
		urls[i] = c.Base + "/authz/" + z.ID
		for _, ch := range z.Challenges {
			if ch.Error != nil {
				p := *ch.Error
				p.Identifier = &z.Name
				failed = append(failed, p)
			}
		}
	}
	status := o.state(auths)
	doc := map[string]any{"status": status, "expires": o.Expires.UTC().Format(time.RFC3339), "identifiers": o.Names, "authorizations": urls,
		"finalize": c.Base + "/order/" + o.ID + "/finalize"}
	switch {
	case o.Error != nil:
		doc["error"] = o.Error
	case len(failed) > 0 && status == acme.Invalid:
		p := failed[0]
		p.Detail, p.Identifier, p.Subproblems = fmt.Sprintf("%d of %d names could not be proved", len(failed), len(auths)), nil, failed
		doc["error"] = p
	}
	if status == acme.Valid {
		doc["certificate"] = c.Base + "/cert/" + o.ID
	}
	if o.Profile != "" {
		doc["profile"] = o.Profile
	}
	if o.Replaces != "" {
		doc["replaces"] = o.Replaces
	}
	return doc
}

// ofOrder shows an order, or finalizes it.
func (d *Desk) ofOrder(ctx context.Context, w http.ResponseWriter, c *CA, q *request, id string, finalize bool) error {
	o, version, err := load[order](ctx, c, OrderKind, id)
	if errors.Is(err, ErrNotFound) || err == nil && o.Account != q.account.ID {
		return nothing(q.path)
	} else if err != nil {
		return err
	}
	auths, err := d.authorizations(ctx, c, o)
	if err != nil {
		return err
	}
	switch {
	case finalize:
		if err := d.finalize(ctx, c, q, o, version, auths); err != nil {
			return err
		}
	case !q.empty():
		return refuse(400, "malformed", "POST-as-GET has an empty payload")
	case o.Status == acme.Processing && time.Since(o.Since) > unfinished: // whoever did it has died
		o.Since = time.Now().UTC()
		if err := c.Records.Change(ctx, version, o.object()); err != nil {
			return err
		}
		if err := d.issue(ctx, c, o, version+1); err != nil {
			return err
		}
	}
	w.Header().Set("Location", c.Base+"/order/"+o.ID)
	if s := o.state(auths); s == acme.Processing || s == acme.Pending {
		w.Header().Set("Retry-After", "1")
	}
	answer(w, 200, "application/json", o.doc(c, auths))
	return nil
}

// finalize issues what was ordered (section 7.4).
func (d *Desk) finalize(ctx context.Context, c *CA, q *request, o *order, version int, auths []*authorization) error {
	var body struct {
		CSR string `json:"csr"`
	}
	if err := q.read(&body); err != nil {
		return err
	}
	if s := o.state(auths); s != acme.Ready {
		return refuse(403, "orderNotReady", "the order is %s", s)
	}
	der, err := base64.RawURLEncoding.DecodeString(body.CSR)
	if err != nil {
		return refuse(400, "badCSR", "the request is not base64url")
	}
	csr, p := requested(der, o, q.key)
	if p != nil {
		return p
	}
	for _, z := range auths { // those whose proof is older than the order lives are asked for again
		if time.Now().After(z.Expires) {
			return refuse(403, "orderNotReady", "the authorization of %s has ended", z.Name)
		}
	}
	o.Status, o.Request, o.Since = acme.Processing, csr.Raw, time.Now().UTC()
	if err := c.Records.Change(ctx, version, o.object()); err != nil {
		return err
	}
	return d.issue(ctx, c, o, version+1)
}

// requested holds a certificate request against its order (section 7.4) and the account's
// key (section 11.1).
func requested(der []byte, o *order, accountKey *jose.JSONWebKey) (*x509.CertificateRequest, *problem) {
	csr, err := x509.ParseCertificateRequest(der)
	if err != nil {
		return nil, refuse(400, "badCSR", "the request cannot be read")
	}
	if err := csr.CheckSignature(); err != nil {
		return nil, refuse(400, "badCSR", "the request is not signed by its own key")
	}
	var want, have []string
	for _, n := range o.Names {
		want = append(want, n.Type+" "+n.Value)
	}
	for _, n := range csr.DNSNames {
		have = append(have, acme.DNS+" "+strings.ToLower(n))
	}
	for _, ip := range csr.IPAddresses {
		have = append(have, acme.IP+" "+ip.String())
	}
	slices.Sort(want)
	slices.Sort(have)
	cn := strings.ToLower(csr.Subject.CommonName)
	switch {
	case !slices.Equal(want, slices.Compact(have)):
		return nil, refuse(400, "badCSR", "the request is for %s, the order for %s", clip(strings.Join(have, ", ")), strings.Join(want, ", "))
	case len(csr.EmailAddresses)+len(csr.URIs) > 0:
		return nil, refuse(400, "badCSR", "the request has names that were not ordered")
	case cn != "" && !slices.Contains(want, acme.DNS+" "+cn) && !slices.Contains(want, acme.IP+" "+cn):
		return nil, refuse(400, "badCSR", "the common name is none of the names")
	case same(&jose.JSONWebKey{Key: csr.PublicKey}, accountKey):
		return nil, refuse(400, "badCSR", "the key of the account is not for certificates")
	}
	return csr, nil
}

// issue has the certificate issued and kept with its order.
func (d *Desk) issue(ctx context.Context, c *CA, o *order, version int) error {
	csr, err := x509.ParseCertificateRequest(o.Request)
	if err != nil {
		return err
	}
	list := make([]string, len(o.Names))
	for i, n := range o.Names {
		list[i] = n.Value
	}
	ctx = context.WithoutCancel(ctx) // a client that hangs up does not leave it half done
	var no *RefusedError
	o.Chain, o.Serial, err = c.Issue(ctx, o.Account, o.ID, o.Profile, csr, list)
	switch {
	case errors.As(err, &no):
		p := refuse(403, no.Kind, "%s", no.Reason)
		o.Status, o.Error = acme.Invalid, &p.Problem
	case err != nil:
		return err // it stays processing, and is taken up again
	default:
		o.Status = acme.Valid
	}
	o.Request = nil
	if err := c.Records.Change(ctx, version, o.object()); err != nil {
		return err
	}
	if no != nil && no.Kind == "badCSR" {
		return refuse(400, no.Kind, "%s", no.Reason)
	}
	return nil
}

// download gives the chain (section 7.4.2).
func (d *Desk) download(ctx context.Context, w http.ResponseWriter, c *CA, q *request, id string) error {
	o, _, err := load[order](ctx, c, OrderKind, id)
	if errors.Is(err, ErrNotFound) || err == nil && (o.Account != q.account.ID || o.Status != acme.Valid) {
		return nothing(q.path)
	} else if err != nil {
		return err
	}
	if !q.empty() {
		return refuse(400, "malformed", "POST-as-GET has an empty payload")
	}
	w.Header().Set("Content-Type", "application/pem-certificate-chain")
	_, _ = w.Write(o.Chain)
	return nil
}

// reasons are those a client may give (RFC 5280 section 5.3.1).
var reasons = []int{0, 1, 3, 4, 5, 9}

// revoke takes a certificate back (section 7.6): for the account that ordered it, or for
// whoever holds its key.
func (d *Desk) revoke(ctx context.Context, w http.ResponseWriter, c *CA, q *request) error {
	var body struct {
		Certificate string `json:"certificate"`
		Reason      int    `json:"reason"`
	}
	if err := q.read(&body); err != nil {
		return err
	}
	der, err := base64.RawURLEncoding.DecodeString(body.Certificate)
	if err != nil {
		return refuse(400, "malformed", "the certificate is not base64url")
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return refuse(400, "malformed", "the certificate cannot be read")
	}
	if !slices.Contains(reasons, body.Reason) {
		return refuse(400, "badRevocationReason", "taken are the reasons 0, 1, 3, 4, 5 and 9")
	}
	serial := leaf.SerialNumber.Bytes()
	k, err := c.Find(ctx, serial)
	if errors.Is(err, ErrNotFound) || err == nil && !bytes.Equal(k.DER, der) {
		return refuse(404, "malformed", "the certificate was not issued here")
	} else if err != nil {
		return err
	}
	if q.account != nil && k.Account != q.account.ID || q.account == nil && !same(q.key, &jose.JSONWebKey{Key: leaf.PublicKey}) {
		return refuse(403, "unauthorized", "neither did this account order the certificate, nor is this its key")
	}
	if k.Revoked {
		return refuse(400, "alreadyRevoked", "it was revoked before")
	}
	if err := c.Revoke(ctx, serial, body.Reason); err != nil {
		return err
	}
	w.WriteHeader(http.StatusOK)
	return nil
}
