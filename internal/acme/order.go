package acme

import (
	"context"
	"crypto"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
)

// NewOrder asks for a certificate. replaces is the id (CertificateID) of the
// one it takes the place of, "" for none (RFC 9773 section 5). A second request
// would be a second order to most CAs, and counts against their limits; so a
// reply that got lost is a LostError, and Open tells whether the order exists.
func (c *Client) NewOrder(ctx context.Context, s Signer, names []Identifier, replaces string) (*Order, error) {
	d, err := c.Directory(ctx)
	if err != nil {
		return nil, err
	}
	request := map[string]any{"identifiers": names}
	if replaces != "" && d.RenewalInfo != "" {
		request["replaces"] = replaces
	}
	r, err := c.ask(ctx, s, d.NewOrder, request, once)
	if err != nil {
		return nil, err
	}
	at := r.header.Get("Location")
	if err := c.own(at, "the order"); err != nil {
		return nil, err
	}
	o, err := c.order(at, &r)
	if err != nil {
		return nil, err
	}
	if !sameNames(o.Identifiers, names) {
		return nil, &ReplyError{d.NewOrder, "the order is for other names than those asked for"}
	}
	return o, nil
}

// sameNames compares identifiers as sets, case aside: a CA may order and write
// them as it likes.
func sameNames(a, b []Identifier) bool {
	key := func(list []Identifier) []string {
		out := make([]string, len(list))
		for i, n := range list {
			out[i] = n.Type + " " + strings.ToLower(n.Value)
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
		return nil, &ReplyError{at, fmt.Sprintf("the order's status is %q", clip(string(o.Status)))}
	}
	if o.Status == Pending || o.Status == Ready {
		if err := c.own(o.Finalize, "finalize"); err != nil {
			return nil, err
		}
	}
	if len(o.Authorizations) > 1000 {
		return nil, &ReplyError{at, "the order has more than 1000 authorizations"}
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
	r, err := c.post(ctx, s, at, nil)
	if err != nil {
		return nil, err
	}
	return c.order(at, &r)
}

// ordersLimit bounds how many of an account's orders are looked through.
const ordersLimit = 50

// Open finds an order of the account for the same names that was begun and is
// not finished: the one whose answer never came (section 7.1.2.1). Nil when
// there is none, or the CA does not tell.
func (c *Client) Open(ctx context.Context, s Signer, names []Identifier, known func(url string) bool) (*Order, error) {
	a, err := c.account(ctx, s, s.URL, map[string]any{})
	if err != nil || a.Orders == "" || c.own(a.Orders, "the list of orders") != nil {
		return nil, err
	}
	r, err := c.post(ctx, s, a.Orders, nil)
	if err != nil {
		return nil, nil // many CAs keep no list
	}
	var list struct {
		Orders []string `json:"orders"`
	}
	if err := r.decode(a.Orders, &list); err != nil {
		return nil, err
	}
	slices.Reverse(list.Orders)
	for _, at := range list.Orders[:min(len(list.Orders), ordersLimit)] {
		if known(at) || c.own(at, "an order") != nil {
			continue
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

// Authorization asks for one of an order's.
func (c *Client) Authorization(ctx context.Context, s Signer, at string) (*Authorization, error) {
	r, err := c.post(ctx, s, at, nil)
	if err != nil {
		return nil, err
	}
	a := &Authorization{URL: at, RetryAfter: r.retryAfter(time.Now(), leastPause)}
	if err := r.decode(at, a); err != nil {
		return nil, err
	}
	if len(a.Challenges) > 100 {
		return nil, &ReplyError{at, "it has more than 100 challenges"}
	}
	for _, ch := range a.Challenges {
		if err := c.own(ch.URL, "a challenge"); err != nil {
			return nil, err
		}
		if a.Status == Pending && !goodToken(ch.Token) && (ch.Type == HTTP01 || ch.Type == DNS01 || ch.Type == TLSALPN01) {
			return nil, &ReplyError{at, fmt.Sprintf("the token %q is not base64url of at least 128 bits", clip(ch.Token))}
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

// Accept tells the CA that a challenge can be validated (section 7.5.1).
func (c *Client) Accept(ctx context.Context, s Signer, challenge string) error {
	_, err := c.post(ctx, s, challenge, struct{}{})
	return err
}

// Finalize sends the certificate request of an order that is ready (section
// 7.4).
func (c *Client) Finalize(ctx context.Context, s Signer, o *Order, csr []byte) (*Order, error) {
	r, err := c.post(ctx, s, o.Finalize, map[string]any{"csr": base64.RawURLEncoding.EncodeToString(csr)})
	if err != nil {
		return nil, err
	}
	return c.order(o.URL, &r)
}

// chainsLimit bounds how many alternate chains are asked for.
const chainsLimit = 8

// Chains downloads a certificate's chain as PEM, and the alternates the CA
// offers (section 7.4.2). An alternate that cannot be had is left out.
func (c *Client) Chains(ctx context.Context, s Signer, at string) ([][]byte, error) {
	r, err := c.post(ctx, s, at, nil)
	if err != nil {
		return nil, err
	}
	chains := [][]byte{r.body}
	for _, alternate := range links(r.header, at, "alternate") {
		if len(chains) == chainsLimit || c.own(alternate, "an alternate chain") != nil {
			continue
		}
		if more, err := c.post(ctx, s, alternate, nil); err == nil {
			chains = append(chains, more.body)
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
		return &ReplyError{c.at, "it offers no revokeCert"}
	}
	_, err = c.post(ctx, s, d.RevokeCert,
		map[string]any{"certificate": base64.RawURLEncoding.EncodeToString(der), "reason": reason})
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
