package acme

import (
	"context"
	"crypto"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/go-jose/go-jose/v4"
)

// ExternalAccount is the CA's own customer record a new account is bound to
// (RFC 8555 section 7.3.4).
type ExternalAccount struct {
	KeyID string // the CA's number for the customer
	MAC   []byte // the key the CA gave with it, decoded
}

// NewAccount says what is asked for with a new account.
type NewAccount struct {
	Contact     []string         // mailto: URLs
	TermsAgreed bool             // a person agreed to the CA's terms
	External    *ExternalAccount // nil where the CA asks for none
}

// Register makes an account for a key, or gives the one that is there: asked
// again it changes nothing (section 7.3).
func (c *Client) Register(ctx context.Context, key crypto.Signer, n NewAccount) (*Account, error) {
	d, err := c.Directory(ctx)
	if err != nil {
		return nil, err
	}
	request := map[string]any{"contact": n.Contact}
	if n.TermsAgreed {
		request["termsOfServiceAgreed"] = true
	}
	if n.External != nil {
		if request["externalAccountBinding"], err = bind(key, *n.External, d.NewAccount); err != nil {
			return nil, err
		}
	}
	return c.account(ctx, Signer{Key: key}, d.NewAccount, request)
}

// bind makes the proof that the holder of the MAC key wants this account.
func bind(key crypto.Signer, x ExternalAccount, at string) (json.RawMessage, error) {
	jwk, err := json.Marshal(jose.JSONWebKey{Key: key.Public()})
	if err != nil {
		return nil, err
	}
	o := (&jose.SignerOptions{}).WithHeader("url", at).WithHeader("kid", x.KeyID)
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.HS256, Key: x.MAC}, o)
	if err != nil {
		return nil, fmt.Errorf("the MAC key of the external account cannot be used: %w", err)
	}
	signed, err := signer.Sign(jwk)
	if err != nil {
		return nil, err
	}
	return json.RawMessage(signed.FullSerialize()), nil
}

// account sends a request that is answered with an account.
func (c *Client) account(ctx context.Context, s Signer, at string, request any) (*Account, error) {
	a := &Account{}
	err := c.post(ctx, s, at, request, func(r *reply) (err error) {
		*a = Account{URL: s.URL}
		if a.URL == "" {
			if a.URL, err = c.location(at, r, "the account"); err != nil {
				return err
			}
		}
		return r.decode(at, a)
	})
	if err != nil {
		return nil, err
	}
	if a.Status != Valid {
		return nil, &ReplyError{URL: at, Reason: fmt.Sprintf("the account is %q, not valid", clip(string(a.Status)))}
	}
	return a, nil
}

// Find gives the account of a key without making one.
func (c *Client) Find(ctx context.Context, key crypto.Signer) (*Account, error) {
	d, err := c.Directory(ctx)
	if err != nil {
		return nil, err
	}
	return c.account(ctx, Signer{Key: key}, d.NewAccount, map[string]any{"onlyReturnExisting": true})
}

// SetContact replaces the account's contact addresses (section 7.3.2).
func (c *Client) SetContact(ctx context.Context, s Signer, contact []string) (*Account, error) {
	return c.account(ctx, s, s.URL, map[string]any{"contact": contact})
}

// Deactivate ends the account for good (section 7.3.6). From then on the CA
// refuses its requests as unauthorized: so it does when it is asked again because
// the reply got lost.
func (c *Client) Deactivate(ctx context.Context, s Signer) error {
	lost := false
	return c.patiently(ctx, func() error {
		_, err := c.ask(ctx, s, s.URL, map[string]any{"status": Deactivated})
		var p *Problem
		if lost && errors.As(err, &p) && p.Kind() == "unauthorized" {
			return nil
		}
		_, lost = Passing(err)
		return err
	})
}

// ChangeKey replaces the account's key (section 7.3.5). Once done it cannot be
// asked for again with the old key; so when the reply got lost, the account is
// looked for by its new one.
func (c *Client) ChangeKey(ctx context.Context, s Signer, next crypto.Signer) error {
	d, err := c.Directory(ctx)
	if err != nil {
		return err
	}
	if d.KeyChange == "" {
		return &ReplyError{URL: c.at, Reason: "it offers no keyChange"}
	}
	payload, err := json.Marshal(map[string]any{"account": s.URL, "oldKey": jose.JSONWebKey{Key: s.Key.Public()}})
	if err != nil {
		return err
	}
	inner, err := sign(Signer{Key: next}, d.KeyChange, "", payload)
	if err != nil {
		return err
	}
	_, err = c.ask(ctx, s, d.KeyChange, json.RawMessage(inner))
	if _, passing := Passing(err); passing {
		if a, found := c.Find(ctx, next); found == nil && a.URL == s.URL {
			return nil
		}
	}
	return err
}

// KeyAuthorization is what shows, with a challenge's token, that the account
// asks (section 8.1).
func KeyAuthorization(key crypto.Signer, token string) (string, error) {
	print, err := (&jose.JSONWebKey{Key: key.Public()}).Thumbprint(crypto.SHA256)
	if err != nil {
		return "", err
	}
	return token + "." + base64.RawURLEncoding.EncodeToString(print), nil
}
