package acme

import (
	"context"
	"crypto"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
)

// Wish is what is asked for with a new order.
type Wish struct {
	Names    []Identifier // all of them on one certificate
	Replaces string       // the id (CertificateID) of the one it takes the place of, "" for none (RFC 9773 section 5)
	Profile  string       // one of the directory's, "" for the CA's usual (Meta.Profiles)
}

// NewOrder asks for a certificate. A second request
// would be a second order to most CAs, and counts against their limits; so where
// an error is Passing it is not repeated, and Open tells whether the order exists.
func (c *Client) NewOrder(ctx context.Context, s Signer, w Wish) (*Order, error) {
	d, err := c.Directory(ctx)
	if err != nil {
		return nil, err
	}
	request := map[string]any{"identifiers": w.Names}
	if w.Replaces != "" && d.RenewalInfo != "" {
		request["replaces"] = w.Replaces
	}
	if w.Profile != "" {
		request["profile"] = w.Profile
	}
	r, err := c.ask(ctx, s, d.NewOrder, request)
	if err != nil {
		return nil, err
	}
	at, err := c.location(d.NewOrder, &r, "the order")
	if err != nil {
		return nil, err
	}
	o, err := c.order(at, &r)
	if _, passing := Passing(err); passing { // its address is known, so it can be asked
		o, err = c.Order(ctx, s, at)
	}
	if err != nil {
		return nil, err
	}
	if !sameNames(o.Identifiers, w.Names) {
		return nil, &ReplyError{URL: d.NewOrder, Reason: "the order is for other names than those asked for"}
	}
	return o, nil
}

// sameNames compares identifiers as sets, case and the writing of addresses aside: a
// CA may order and write them as it likes.
func sameNames(a, b []Identifier) bool {
	key := func(list []Identifier) []string {
		out := make([]string, len(list))
		for i, n := range list {
			out[i] = n.Type + " " + strings.ToLower(n.Value)
			if addr, err := netip.ParseAddr(n.Value); err == nil && n.Type == IP {
				out[i] = n.Type + " " + addr.String()
			}
		}
		slices.Sort(out)
		return slices.Compact(out)
	}
	return slices.Equal(key(a), key(b))
}

// order reads an order and holds it against the protocol: a status there is,
// and no URL that leads away from the CA.
func (c *Client) order(at string, r *reply) (*Order, error) {
	o := &Order{URL: at, RetryAfter: r.retryAfter(time.Now(), leastPause)}
	if err := r.decode(at, o); err != nil {
		return nil, err
	}
	switch o.Status {
	case Pending, Ready, Processing, Valid, Invalid:
	default:
		return nil, &ReplyError{URL: at, Reason: fmt.Sprintf("the order's status is %q", clip(string(o.Status)))}
	}
	if o.Status == Pending || o.Status == Ready {
		if err := c.own(o.Finalize, "finalize"); err != nil {
			return nil, err
		}
	}
	if len(o.Authorizations) > 1000 {
		return nil, &ReplyError{URL: at, Reason: "the order has more than 1000 authorizations"}
	}
	for _, a := range o.Authorizations {
		if err := c.own(a, "an authorization"); err != nil {
			return nil, err
		}
	}
	if o.Status == Valid {
		if err := c.own(o.Certificate, "the certificate"); err != nil {
			return nil, err
		}
	}
	return o, nil
}

// Order asks how an order stands.
func (c *Client) Order(ctx context.Context, s Signer, at string) (*Order, error) {
	var o *Order
	err := c.post(ctx, s, at, nil, func(r *reply) (err error) { o, err = c.order(at, r); return err })
	return o, err
}

// Bounds of looking through an account's orders.
const (
	ordersLimit      = 50 // that are asked
	ordersPagesLimit = 40
)

// Open finds an order of the account for the same names that was begun and is
// not finished: the one whose answer never came (section 7.1.2.1). Nil when
// there is none, or the CA does not tell. A CA lists orders in no order that is
// promised, on as many pages as it likes; those at both ends are asked first.
func (c *Client) Open(ctx context.Context, s Signer, names []Identifier, known func(url string) bool) (*Order, error) {
	a, err := c.account(ctx, s, s.URL, map[string]any{})
	if err != nil || a.Orders == "" || c.own(a.Orders, "the list of orders") != nil {
		return nil, err
	}
	var list []string
	for at, page := a.Orders, 0; at != "" && page < ordersPagesLimit; page++ {
		more, next, err := c.ordersPage(ctx, s, at)
		if err != nil {
			break // many CAs keep no list
		}
		for _, url := range more {
			if !known(url) && c.own(url, "an order") == nil {
				list = append(list, url)
			}
		}
		at = next
	}
	for asked := 0; asked < ordersLimit && len(list) > 0; asked++ {
		at := list[len(list)-1]
		if asked%2 == 0 {
			list = list[:len(list)-1]
		} else {
			at, list = list[0], list[1:]
		}
		o, err := c.Order(ctx, s, at)
		var p *Problem
		if errors.As(err, &p) && !p.Limits() {
			continue // an old order the CA has forgotten
		} else if err != nil {
			return nil, err
		}
		if sameNames(o.Identifiers, names) && (o.Status == Pending || o.Status == Ready) {
			return o, nil
		}
	}
	return nil, nil
}

// ordersPage reads one page of an account's orders, and where the next one is;
// "" after the last.
func (c *Client) ordersPage(ctx context.Context, s Signer, at string) (list []string, next string, err error) {
	var doc struct {
		Orders []string `json:"orders"`
	}
	err = c.post(ctx, s, at, nil, func(r *reply) error {
		next = ""
		if to := links(r.header, at, "next"); len(to) > 0 && to[0] != at && c.own(to[0], "the next page") == nil {
			next = to[0]
		}
		return r.decode(at, &doc)
	})
	return doc.Orders, next, err
}

// Authorization asks for one of an order's.
func (c *Client) Authorization(ctx context.Context, s Signer, at string) (*Authorization, error) {
	a := &Authorization{}
	err := c.post(ctx, s, at, nil, func(r *reply) error {
		*a = Authorization{URL: at, RetryAfter: r.retryAfter(time.Now(), leastPause)}
		return r.decode(at, a)
	})
	if err != nil {
		return nil, err
	}
	if len(a.Challenges) > 100 {
		return nil, &ReplyError{URL: at, Reason: "it has more than 100 challenges"}
	}
	for _, ch := range a.Challenges {
		if err := c.own(ch.URL, "a challenge"); err != nil {
			return nil, err
		}
		if a.Status == Pending && !goodToken(ch.Token) && (ch.Type == HTTP01 || ch.Type == DNS01 || ch.Type == TLSALPN01) {
			return nil, &ReplyError{URL: at,
				Reason: fmt.Sprintf("the token %q is not base64url of at least 128 bits", clip(ch.Token))}
		}
	}
	return a, nil
}

// goodToken holds a token to its form (section 8.3): it becomes a file's name.
func goodToken(token string) bool {
	if len(token) < 22 || len(token) > 512 {
		return false
	}
	_, err := base64.RawURLEncoding.DecodeString(token)
	return err == nil
}

// Release gives up an authorization that is pending (RFC 8555 section 7.5.2), and
// with it the order: it does not wait at the CA for what nobody will prove.
func (c *Client) Release(ctx context.Context, s Signer, at string) error {
	return c.post(ctx, s, at, map[string]any{"status": Deactivated}, unread)
}

// Accept tells the CA that a challenge can be validated (section 7.5.1).
func (c *Client) Accept(ctx context.Context, s Signer, challenge string) error {
	return c.post(ctx, s, challenge, struct{}{}, unread)
}

// Finalize sends the certificate request of an order that is ready (section
// 7.4). The CA may refuse a second one, for then the order is not ready any more;
// so where the answer is lost or cut, the order itself tells what became of it.
func (c *Client) Finalize(ctx context.Context, s Signer, o *Order, csr []byte) (*Order, error) {
	request := map[string]any{"csr": base64.RawURLEncoding.EncodeToString(csr)}
	at := o
	err := c.patiently(ctx, func() error {
		if at == nil {
			now, err := c.Order(ctx, s, o.URL)
			if err != nil {
				return err
			}
			if at = now; at.Status != Ready {
				return nil
			}
		}
		sent := at
		at = nil
		r, err := c.ask(ctx, s, sent.Finalize, request)
		if err == nil {
			at, err = c.order(o.URL, &r)
		}
		return err
	})
	return at, err
}

// chainsLimit bounds how many alternate chains are asked for.
const chainsLimit = 8

// Chains downloads a certificate's chain as PEM, and the alternates the CA
// offers (section 7.4.2). An alternate that cannot be had is left out.
func (c *Client) Chains(ctx context.Context, s Signer, at string) ([][]byte, error) {
	var chains [][]byte
	var header http.Header
	chain := func(at string) error {
		return c.post(ctx, s, at, nil, func(r *reply) error {
			if _, err := certs.ReadCertificates(r.body); err != nil {
				return &ReplyError{URL: at, Reason: "it is no list of certificates: " + clip(err.Error()), Passing: true}
			}
			chains = append(chains, r.body)
			if header == nil {
				header = r.header
			}
			return nil
		})
	}
	if err := chain(at); err != nil {
		return nil, err
	}
	for _, alternate := range links(header, at, "alternate") {
		if len(chains) < chainsLimit && c.own(alternate, "an alternate chain") == nil {
			_ = chain(alternate) // left out
		}
	}
	return chains, nil
}

// links reads the Link headers of a relation (RFC 8288).
func links(h http.Header, base, relation string) (out []string) {
	from, err := url.Parse(base)
	if err != nil {
		return nil
	}
	for _, header := range h.Values("Link") {
		for _, link := range strings.Split(header, ",") {
			target, rest, ok := strings.Cut(strings.TrimSpace(link), ">")
			target, opened := strings.CutPrefix(target, "<")
			if !ok || !opened || !slices.ContainsFunc(strings.Split(rest, ";"), func(p string) bool {
				k, v, _ := strings.Cut(strings.TrimSpace(p), "=")
				return strings.EqualFold(k, "rel") &&
					slices.Contains(strings.Fields(strings.ToLower(strings.Trim(v, `"`))), relation)
			}) {
				continue
			}
			if u, err := from.Parse(target); err == nil {
				out = append(out, u.String())
			}
		}
	}
	return out
}

// Reasons to revoke (RFC 5280 section 5.3.1).
const (
	Unspecified          = 0
	KeyCompromise        = 1
	AffiliationChanged   = 3
	Superseded           = 4
	CessationOfOperation = 5
)

// Revoke takes a certificate back (section 7.6), signed by the account or, with
// no account's URL, by the certificate's own key. One that is revoked already
// is fine.
func (c *Client) Revoke(ctx context.Context, s Signer, der []byte, reason int) error {
	d, err := c.Directory(ctx)
	if err != nil {
		return err
	}
	if d.RevokeCert == "" {
		return &ReplyError{URL: c.at, Reason: "it offers no revokeCert"}
	}
	err = c.post(ctx, s, d.RevokeCert,
		map[string]any{"certificate": base64.RawURLEncoding.EncodeToString(der), "reason": reason}, unread)
	if p, ok := err.(*Problem); ok && p.Kind() == "alreadyRevoked" {
		return nil
	}
	return err
}

// DNSValue is what the TXT record of a dns-01 challenge holds (section 8.4).
func DNSValue(key crypto.Signer, token string) (string, error) {
	text, err := KeyAuthorization(key, token)
	sum := sha256.Sum256([]byte(text))
	return base64.RawURLEncoding.EncodeToString(sum[:]), err
}
