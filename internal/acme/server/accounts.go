package server

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/mail"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"

	"insegna.example/internal/acme"
)

// account is one account (section 7.1.2).
type account struct {
	ID       string          `json:"id"`
	Key      jose.JSONWebKey `json:"key"`
	Status   acme.Status     `json:"status"`
	Contact  []string        `json:"contact"`
	Customer string          `json:"customer,omitempty"` // it is bound to
}

// doc shows an account.
func (k *account) doc(c *CA) map[string]any {
	contact := k.Contact
	if contact == nil {
		contact = []string{}
	}
	return map[string]any{"status": k.Status, "contact": contact, "orders": c.Base + "/account/" + k.ID + "/orders"}
}

// object is the account to be kept.
func (k *account) object() (Object, error) {
	print, err := thumbprint(&k.Key)
	if err != nil {
		return Object{}, err
	}
	o := object(AccountKind, k.ID, k.ID, k, time.Time{})
	o.Key = print
	return o, nil
}

// newAccount makes an account, or gives the one the key has (section 7.3).
func (d *Desk) newAccount(ctx context.Context, w http.ResponseWriter, c *CA, q *request) error {
	var body struct {
		Contact  []string        `json:"contact"`
		Existing bool            `json:"onlyReturnExisting"`
		External json.RawMessage `json:"externalAccountBinding"`
	}
	if err := q.read(&body); err != nil {
		return err
	}
	print, err := thumbprint(q.key)
	if err != nil {
		return err
	}
	there := func() error {
		id, err := c.Records.AccountOf(ctx, print)
		if err != nil {
			return err
		}
		k, _, err := load[account](ctx, c, AccountKind, id)
		if err != nil {
			return err
		}
		if k.Status != acme.Valid {
			return refuse(401, "unauthorized", "the account is %s", k.Status)
		}
		w.Header().Set("Location", c.Base+"/account/"+k.ID)
		answer(w, 200, "application/json", k.doc(c))
		return nil
	}
	if err := there(); !errors.Is(err, ErrNotFound) {
		return err
	}
	if body.Existing {
		return refuse(400, "accountDoesNotExist", "there is no account with this key")
	}
	if err := checkContact(body.Contact); err != nil {
		return err
	}
	k := &account{ID: random(), Key: *q.key, Status: acme.Valid, Contact: body.Contact}
	if len(body.External) > 0 {
		if k.Customer, err = d.bound(ctx, c, body.External, q.key); err != nil {
			return err
		}
	} else if c.External {
		return refuse(403, "externalAccountRequired", "accounts here are bound to a customer: ask who keeps this CA for a key id and its MAC key")
	}
	if d.arrives(q.host) {
		p := refuse(429, "rateLimited", "too many accounts were made from your address")
		p.after = time.Hour
		return p
	}
	o, err := k.object()
	if err != nil {
		return err
	}
	if err := c.Records.Add(ctx, o); errors.Is(err, ErrTaken) { // by another request at the same time
		return there()
	} else if err != nil {
		return err
	}
	c.Told(ctx, "acme.account", k.ID, map[string]any{"contact": k.Contact, "customer": k.Customer, "from": q.host})
	w.Header().Set("Location", c.Base+"/account/"+k.ID)
	answer(w, 201, "application/json", k.doc(c))
	return nil
}

// checkContact takes mailto addresses alone, one each and without header fields
// (section 7.3).
func checkContact(list []string) error {
	const most = 10
	if len(list) > most {
		return refuse(400, "invalidContact", "at most %d addresses are kept", most)
	}
	for _, c := range list {
		at, ok := strings.CutPrefix(c, "mailto:")
		if !ok {
			return refuse(400, "unsupportedContact", "%.200q is no mailto: address", c)
		}
		if a, err := mail.ParseAddress(at); err != nil || a.Address != at || strings.ContainsAny(at, "?,") || len(at) > 254 {
			return refuse(400, "invalidContact", "%.200q is no single address", c)
		}
	}
	return nil
}

// bound holds an external account binding against section 7.3.4, and gives the customer.
func (d *Desk) bound(ctx context.Context, c *CA, raw json.RawMessage, key *jose.JSONWebKey) (string, error) {
	signed, err := jose.ParseSignedJSON(string(raw), []jose.SignatureAlgorithm{jose.HS256, jose.HS384, jose.HS512})
	if err != nil || len(signed.Signatures) != 1 {
		return "", refuse(400, "malformed", "the external account binding cannot be read")
	}
	head := signed.Signatures[0].Protected
	if url, _ := head.ExtraHeaders["url"].(string); url != c.Base+"/new-account" || head.Nonce != "" {
		return "", refuse(400, "malformed", "the external account binding has another url, or a nonce")
	}
	mac, err := c.Customer(ctx, head.KeyID)
	if errors.Is(err, ErrNotFound) {
		return "", refuse(401, "unauthorized", "there is no customer with the key id %.100q, or the binding does not hold", head.KeyID)
	} else if err != nil {
		return "", err
	}
	payload, err := signed.Verify(mac)
	if err != nil {
		return "", refuse(401, "unauthorized", "there is no customer with the key id %.100q, or the binding does not hold", head.KeyID)
	}
	var inner jose.JSONWebKey
	if inner.UnmarshalJSON(payload) != nil || !same(&inner, key) {
		return "", refuse(400, "malformed", "the external account binding is for another key")
	}
	return head.KeyID, nil
}

// same compares keys by their thumbprints (RFC 7638).
func same(a, b *jose.JSONWebKey) bool {
	x, errX := thumbprint(a)
	y, errY := thumbprint(b)
	return errX == nil && errY == nil && x == y
}

// ofAccount shows, changes or ends an account (sections 7.3.2 and 7.3.6).
func (d *Desk) ofAccount(ctx context.Context, w http.ResponseWriter, c *CA, q *request) error {
	k := q.account
	if !q.empty() {
		var body struct {
			Contact *[]string   `json:"contact"`
			Status  acme.Status `json:"status"`
		}
		if err := q.read(&body); err != nil {
			return err
		}
		if body.Contact != nil {
			if err := checkContact(*body.Contact); err != nil {
				return err
			}
			k.Contact = *body.Contact
		}
		if body.Status != "" && body.Status != acme.Valid {
			if body.Status != acme.Deactivated {
				return refuse(400, "malformed", "an account can be deactivated, and nothing else be made of its status")
			}
			k.Status = acme.Deactivated
		}
		if err := d.changeAccount(ctx, c, q); err != nil {
			return err
		}
	}
	answer(w, 200, "application/json", k.doc(c))
	return nil
}

// changeAccount keeps an account as it is now.
func (d *Desk) changeAccount(ctx context.Context, c *CA, q *request) error {
	o, err := q.account.object()
	if err != nil {
		return err
	}
	return c.Records.Change(ctx, q.version, o)
}

// keyChange replaces an account's key (section 7.3.5).
func (d *Desk) keyChange(ctx context.Context, w http.ResponseWriter, c *CA, q *request) error {
	signed, err := jose.ParseSignedJSON(string(q.payload), algorithms)
	if err != nil || len(signed.Signatures) != 1 || signed.Signatures[0].Protected.JSONWebKey == nil {
		return refuse(400, "malformed", "the inner JWS cannot be read, or has no jwk")
	}
	head := signed.Signatures[0].Protected
	if p := weak(head.JSONWebKey.Key); p != nil {
		return p
	}
	inner, err := signed.Verify(head.JSONWebKey)
	if url, _ := head.ExtraHeaders["url"].(string); err != nil || url != c.Base+"/key-change" || head.Nonce != "" || head.KeyID != "" {
		return refuse(400, "malformed", "the inner JWS does not hold, has another url, or a nonce")
	}
	var body struct {
		Account string          `json:"account"`
		OldKey  jose.JSONWebKey `json:"oldKey"`
	}
	if json.Unmarshal(inner, &body) != nil || body.Account != c.Base+"/account/"+q.account.ID || !same(&body.OldKey, &q.account.Key) {
		return refuse(400, "malformed", "the inner payload names another account or key")
	}
	print, err := thumbprint(head.JSONWebKey)
	if err != nil {
		return err
	}
	q.account.Key = *head.JSONWebKey
	if err := d.changeAccount(ctx, c, q); errors.Is(err, ErrTaken) {
		p := refuse(409, "malformed", "the new key has an account already")
		if id, err := c.Records.AccountOf(ctx, print); err == nil {
			p.at = c.Base + "/account/" + id
		}
		return p
	} else if err != nil {
		return err
	}
	answer(w, 200, "application/json", q.account.doc(c))
	return nil
}

// ordersPage is how many orders a page lists.
const ordersPage = 50

// ordersOf lists an account's orders (section 7.1.2.1).
func (d *Desk) ordersOf(ctx context.Context, w http.ResponseWriter, c *CA, q *request) error {
	if !q.empty() {
		return refuse(400, "malformed", "this is asked for by POST-as-GET")
	}
	list, err := c.Records.OrdersOf(ctx, q.account.ID, q.before, ordersPage+1)
	if err != nil {
		return err
	}
	if len(list) > ordersPage {
		list = list[:ordersPage]
		w.Header().Add("Link", "<"+c.Base+"/account/"+q.account.ID+"/orders?before="+list[ordersPage-1]+">;rel=\"next\"")
	}
	urls := make([]string, len(list))
	for i, id := range list {
		urls[i] = c.Base + "/order/" + id
	}
	answer(w, 200, "application/json", map[string]any{"orders": urls})
	return nil
}
