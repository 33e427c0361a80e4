package ca

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// problem is a problem document (RFC 8555 section 6.7).
type problem struct {
	Type        string      `json:"type"`
	Detail      string      `json:"detail"`
	Status      int         `json:"status"`
	Identifier  *identifier `json:"identifier,omitempty"`
	Subproblems []*problem  `json:"subproblems,omitempty"`
	Instance    string      `json:"instance,omitempty"`
	retryAfter  time.Duration
}

// Error is the detail alone.
func (p *problem) Error() string { return p.Detail }

// refuse makes a problem document of the protocol's namespace (section 6.7).
func refuse(status int, kind, format string, args ...any) *problem {
	return &problem{Type: "urn:ietf:params:acme:error:" + kind, Detail: fmt.Sprintf(format, args...), Status: status}
}

// request is a signed request whose signature holds.
type request struct {
	path    string
	payload []byte
	empty   bool // POST-as-GET
	page    int  // of a list, from 0
	key     *jose.JSONWebKey
	account *account // nil when signed with the key itself
}

// ServeHTTP implements http.Handler.
func (a *CA) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a.requests.Add(1)
	fault := a.Faults.get()
	trouble := None
	if fault.Storm != nil {
		trouble = fault.Storm(r.URL.Path)
	}
	switch trouble {
	case Broken:
		http.Error(w, "<h1>Internal Server Error</h1>", http.StatusInternalServerError)
		return
	case Busy:
		w.Header().Set("Retry-After", "1")
		http.Error(w, "<h1>Service Unavailable</h1>", http.StatusServiceUnavailable)
		return
	case LostBefore:
		panic(http.ErrAbortHandler)
	}
	buffered := httptest.NewRecorder()
	a.serve(buffered, r)
	body := buffered.Body.Bytes()
	fault = a.Faults.get()
	if fault.BeforeReply != nil {
		fault.BeforeReply(r.URL.Path)
	}
	if a.Faults.loses(r.URL.Path) {
		panic(http.ErrAbortHandler)
	}
	if fault.Replace != nil {
		if other, ok := fault.Replace(r.URL.Path, body); ok {
			body = other
		}
	}
	for k, v := range buffered.Header() {
		w.Header()[k] = v
	}
	switch trouble {
	case LostAfter:
		panic(http.ErrAbortHandler)
	case Cut:
		w.Header().Set("Content-Length", strconv.Itoa(len(body)))
		w.WriteHeader(buffered.Code)
		_, _ = w.Write(body[:len(body)/2])
		panic(http.ErrAbortHandler)
	case Garbled:
		body = append([]byte("{{"), body[:len(body)/2]...)
	}
	w.WriteHeader(buffered.Code)
	_, _ = w.Write(body)
}

// serve answers one request; every answer to a POST carries a fresh nonce, also
// an error (section 6.5).
func (a *CA) serve(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	a.mu.Lock()
	a.agent = r.UserAgent()
	a.mu.Unlock()
	w.Header().Set("Link", fmt.Sprintf("<%s/directory>;rel=\"index\"", a.base))
	var err error
	switch {
	case r.UserAgent() == "":
		err = refuse(400, "malformed", "a client must send a User-Agent")
	case r.Method == http.MethodGet || r.Method == http.MethodHead:
		err = a.get(w, r)
	case r.Method == http.MethodPost:
		w.Header().Set("Replay-Nonce", a.nonce())
		err = a.post(w, r)
	default:
		err = refuse(405, "malformed", "the method %s is not known here", r.Method)
	}
	if err == nil {
		return
	}
	var p *problem
	if !errors.As(err, &p) {
		p = refuse(500, "serverInternal", "%v", err)
	}
	if p.retryAfter > 0 {
		w.Header().Set("Retry-After", fmt.Sprint(int(p.retryAfter.Seconds())))
	}
	reply(w, p.Status, "application/problem+json", p)
}

// reply writes a document.
func reply(w http.ResponseWriter, status int, kind string, doc any) {
	body, err := json.Marshal(doc)
	if err != nil {
		status = 500
	}
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(status)
	_, _ = w.Write(body)
}

// get answers what may be asked without an account: directory, nonces, terms,
// renewal information, the CRL.
func (a *CA) get(w http.ResponseWriter, r *http.Request) error {
	switch path := r.URL.Path; {
	case path == "/directory":
		meta := map[string]any{"termsOfService": a.termsAt(), "caaIdentities": []string{a.Identity()},
			"externalAccountRequired": len(a.MACKeys) > 0}
		if len(a.Profiles) > 0 {
			offered := map[string]string{}
			for name, life := range a.Profiles {
				offered[name] = "certificates of " + life.String()
			}
			meta["profiles"] = offered
		}
		reply(w, 200, "application/json",
			map[string]any{"newNonce": a.base + "/new-nonce", "newAccount": a.base + "/new-account",
				"newOrder":   a.base + "/new-order",
				"revokeCert": a.base + "/revoke-cert", "keyChange": a.base + "/key-change",
				"renewalInfo": a.base + "/renewal-info", "meta": meta})
	case path == "/new-nonce":
		w.Header().Set("Replay-Nonce", a.nonce())
		if r.Method == http.MethodGet {
			w.WriteHeader(http.StatusNoContent)
		}
	case path == "/agreement":
		a.mu.Lock()
		a.disputed = nil
		a.mu.Unlock()
		_, _ = fmt.Fprintln(w, "You have agreed to the terms in force.")
	case path == "/terms", path == "/terms-2":
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = fmt.Fprintf(w, "The terms of %s: this CA stands in for another one. Trust nothing it issues.\n", a.Name)
	case path == "/crl":
		return a.crl(w)
	case strings.HasPrefix(path, "/renewal-info/"):
		return a.renewalInfo(w, strings.TrimPrefix(path, "/renewal-info/"))
	default:
		return refuse(405, "malformed", "this is asked for by POST-as-GET")
	}
	return nil
}

// nonce gives out a nonce that is good for one request.
func (a *CA) nonce() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b)
	n := base64.RawURLEncoding.EncodeToString(b)
	a.mu.Lock()
	defer a.mu.Unlock()
	a.nonces[n] = true
	return n
}

// post checks what every signed request has to keep to (RFC 8555 section 6).
func (a *CA) post(w http.ResponseWriter, r *http.Request) error {
	a.signed.Add(1)
	if r.Header.Get("Content-Type") != "application/jose+json" {
		return refuse(415, "malformed", "the content type is %q, not application/jose+json", r.Header.Get("Content-Type"))
	}
	body, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	if err != nil {
		return err
	}
	q, err := a.verify(r.URL, body)
	if err != nil {
		return err
	}
	q.page, _ = strconv.Atoi(r.URL.Query().Get("cursor"))
	return a.act(w, q)
}

// algorithms are the signatures taken (section 6.2 leaves the choice to the CA,
// RFC 7518 names them).
var algorithms = []jose.SignatureAlgorithm{jose.ES256, jose.ES384, jose.EdDSA, jose.RS256}

// verify holds a request against section 6: one signature, the URL it was sent
// to, a nonce given out and not used yet, a key that belongs to it. A nonce is
// used up even by a request that fails afterwards.
func (a *CA) verify(at *url.URL, body []byte) (*request, error) {
	var fields map[string]json.RawMessage
	if json.Unmarshal(body, &fields) != nil || fields["signatures"] != nil || fields["header"] != nil ||
		fields["protected"] == nil {
		return nil, refuse(400, "malformed", "not a flattened JWS with a protected header alone")
	}
	signed, err := jose.ParseSignedJSON(string(body), algorithms)
	if err != nil || len(signed.Signatures) != 1 {
		return nil, refuse(400, "badSignatureAlgorithm", "the JWS cannot be read: %v", err)
	}
	head := signed.Signatures[0].Protected
	if to, _ := head.ExtraHeaders["url"].(string); to != a.base+at.RequestURI() {
		return nil, refuse(403, "unauthorized", "the url in the header is %q, asked was %q", to, a.base+at.RequestURI())
	}
	a.mu.Lock()
	fresh := a.nonces[head.Nonce]
	delete(a.nonces, head.Nonce)
	a.mu.Unlock()
	if !fresh || a.Faults.badNonce() {
		return nil, refuse(400, "badNonce", "the nonce is not one of those given out")
	}
	q, err := a.signer(at.Path, &head)
	if err != nil {
		return nil, err
	}
	if q.payload, err = signed.Verify(q.key); err != nil {
		return nil, refuse(403, "unauthorized", "the signature does not hold")
	}
	q.empty = len(q.payload) == 0
	return q, nil
}

// signer finds whose key a request is to be signed with: the account named by
// kid, or the key in jwk itself where no account exists yet (RFC 8555 section
// 6.2). The signature is not looked at here.
func (a *CA) signer(path string, head *jose.Header) (*request, error) {
	q := &request{path: path}
	byKey := path == "/new-account" || path == "/revoke-cert" && head.JSONWebKey != nil
	switch {
	case head.JSONWebKey != nil && head.KeyID != "":
		return nil, refuse(400, "malformed", "jwk and kid are both there")
	case byKey && head.JSONWebKey == nil:
		return nil, refuse(400, "malformed", "this is signed with jwk")
	case !byKey && head.KeyID == "":
		return nil, refuse(400, "malformed", "this is signed with kid")
	case byKey:
		q.key = head.JSONWebKey
	default:
		if q.account = a.byURL(head.KeyID); q.account == nil {
			return nil, refuse(400, "accountDoesNotExist", "no account %s", head.KeyID)
		}
		if q.account.status != "valid" {
			return nil, refuse(401, "unauthorized", "the account is %s", q.account.status)
		}
		q.key = q.account.key
	}
	return q, nil
}

// byURL finds an account by its kid.
func (a *CA) byURL(url string) *account {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, k := range a.accounts {
		if k.url == url {
			return k
		}
	}
	return nil
}

// read decodes a payload strictly.
func (q *request) read(into any) error {
	d := json.NewDecoder(bytes.NewReader(q.payload))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		return refuse(400, "malformed", "the payload: %v", err)
	}
	return nil
}

// act does what a request asks. Objects are found by their path and belong to
// the account that made them.
func (a *CA) act(w http.ResponseWriter, q *request) error {
	switch q.path {
	case "/new-account":
		return a.newAccount(w, q)
	case "/new-order":
		return a.newOrder(w, q)
	case "/revoke-cert":
		return a.revoke(w, q)
	case "/key-change":
		return a.keyChange(w, q)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if strings.HasPrefix(q.path, "/account/") && a.base+strings.TrimSuffix(q.path, "/orders") == q.account.url {
		return a.ofAccount(w, q)
	}
	path, part, _ := strings.Cut(strings.TrimPrefix(q.path, "/"), "/")
	id, rest, _ := strings.Cut(part, "/")
	switch o := a.objects["/"+path+"/"+id].(type) {
	case *order:
		if o.by != q.account {
			break
		}
		if rest == "finalize" {
			return a.finalize(w, q, o)
		}
		return a.show(w, q, o.path, a.orderDoc(o))
	case *authorization:
		if o.by != q.account {
			break
		}
		if q.empty {
			return a.show(w, q, o.path, a.authorizationDoc(o))
		}
		var body struct{ Status string }
		if err := q.read(&body); err != nil || body.Status != "deactivated" {
			return refuse(400, "malformed", "an authorization can be deactivated, nothing else")
		}
		o.status = body.Status
		reply(w, 200, "application/json", a.authorizationDoc(o))
		return nil
	case *challenge:
		if o.of.by == q.account {
			return a.accept(w, q, o)
		}
	case *issued:
		if o.by == q.account && q.empty {
			return a.download(w, o, rest)
		}
	}
	return refuse(404, "malformed", "there is nothing of yours at %s", q.path)
}

// show answers a POST-as-GET.
func (a *CA) show(w http.ResponseWriter, q *request, path string, doc any) error {
	if !q.empty {
		return refuse(400, "malformed", "POST-as-GET has an empty payload")
	}
	if strings.HasPrefix(path, "/order/") {
		w.Header().Set("Retry-After", "1")
	}
	reply(w, 200, "application/json", doc)
	return nil
}

// newAccount makes an account, or gives the one its key has (section 7.3).
func (a *CA) newAccount(w http.ResponseWriter, q *request) error {
	var body struct {
		Contact              []string        `json:"contact"`
		TermsOfServiceAgreed bool            `json:"termsOfServiceAgreed"`
		OnlyReturnExisting   bool            `json:"onlyReturnExisting"`
		External             json.RawMessage `json:"externalAccountBinding"`
	}
	if err := q.read(&body); err != nil {
		return err
	}
	sum, err := q.key.Thumbprint(crypto.SHA256)
	if err != nil {
		return refuse(400, "badPublicKey", "the key has no thumbprint")
	}
	print := base64.RawURLEncoding.EncodeToString(sum)
	a.mu.Lock()
	defer a.mu.Unlock()
	known := a.accounts[print]
	switch {
	case known != nil && known.status != "valid":
		return refuse(401, "unauthorized", "the account is %s", known.status)
	case known != nil:
		w.Header().Set("Location", known.url)
		reply(w, 200, "application/json", known.doc())
		return nil
	case body.OnlyReturnExisting:
		return refuse(400, "accountDoesNotExist", "there is no account with this key")
	case !body.TermsOfServiceAgreed:
		p := refuse(403, "userActionRequired", "the terms of service have to be agreed to: %s/terms", a.base)
		return p
	}
	if err := checkContact(body.Contact); err != nil {
		return err
	}
	if len(a.MACKeys) > 0 {
		if body.External == nil {
			return refuse(403, "externalAccountRequired", "an account here is bound to a customer's")
		}
		if err := a.checkBinding(body.External, q.key); err != nil {
			return err
		}
	}
	k := &account{thumbprint: print, key: q.key, status: "valid", contact: body.Contact, external: body.External}
	k.url = a.base + a.path("account")
	a.accounts[print] = k
	w.Header().Set("Location", k.url)
	reply(w, 201, "application/json", k.doc())
	return nil
}

// doc shows an account.
func (k *account) doc() map[string]any {
	return map[string]any{"status": k.status, "contact": k.contact, "termsOfServiceAgreed": true,
		"orders": k.url + "/orders"}
}

// checkContact takes mailto addresses alone, one each and without header fields
// (section 7.3).
func checkContact(list []string) error {
	for _, c := range list {
		at, ok := strings.CutPrefix(c, "mailto:")
		if !ok {
			return refuse(400, "unsupportedContact", "%q is no mailto: address", c)
		}
		if _, err := mail.ParseAddress(at); err != nil || strings.ContainsAny(at, "?,") {
			return refuse(400, "invalidContact", "%q is no single address", c)
		}
	}
	return nil
}

// checkBinding holds an external account binding to RFC 8555 section 7.3.4.
func (a *CA) checkBinding(raw json.RawMessage, key *jose.JSONWebKey) error {
	signed, err := jose.ParseSignedJSON(string(raw), []jose.SignatureAlgorithm{jose.HS256})
	if err != nil {
		return refuse(400, "malformed", "the external account binding cannot be read")
	}
	head := signed.Signatures[0].Protected
	if url, _ := head.ExtraHeaders["url"].(string); url != a.base+"/new-account" || head.Nonce != "" {
		return refuse(400, "malformed", "the external account binding has another url, or a nonce")
	}
	mac, ok := a.MACKeys[head.KeyID]
	if !ok {
		return refuse(401, "unauthorized", "no customer has the key id %q", head.KeyID)
	}
	payload, err := signed.Verify(mac)
	if err != nil {
		return refuse(401, "unauthorized", "the external account binding is not signed with the key of %q", head.KeyID)
	}
	var bound jose.JSONWebKey
	if bound.UnmarshalJSON(payload) != nil || !sameKey(&bound, key) {
		return refuse(400, "malformed", "the external account binding is for another key")
	}
	return nil
}

// sameKey compares keys by their thumbprints (RFC 7638).
func sameKey(a, b *jose.JSONWebKey) bool {
	x, errX := a.Thumbprint(crypto.SHA256)
	y, errY := b.Thumbprint(crypto.SHA256)
	return errX == nil && errY == nil && bytes.Equal(x, y)
}

// ordersPage answers with one page of an account's orders, oldest first, and a
// link to the next (RFC 8555 section 7.1.2.1).
func (a *CA) ordersPage(w http.ResponseWriter, q *request, list []string) error {
	size := a.Faults.get().PageOrders
	if size == 0 {
		return a.show(w, q, q.path, map[string]any{"orders": list})
	}
	from := min(q.page*size, len(list))
	to := min(from+size, len(list))
	if to < len(list) {
		w.Header().Add("Link", fmt.Sprintf("<%s?cursor=%d>;rel=\"next\"", q.path, q.page+1))
	}
	return a.show(w, q, q.path, map[string]any{"orders": list[from:to]})
}

// ofAccount answers at an account's own URL; the caller holds the lock.
func (a *CA) ofAccount(w http.ResponseWriter, q *request) error {
	k := q.account
	if strings.HasSuffix(q.path, "/orders") {
		list := make([]string, len(k.orders))
		for i, o := range k.orders {
			list[i] = a.base + o
		}
		return a.ordersPage(w, q, list)
	}
	if !q.empty {
		var body struct {
			Contact *[]string `json:"contact"`
			Status  string    `json:"status"`
		}
		if err := q.read(&body); err != nil {
			return err
		}
		if body.Contact != nil {
			if err := checkContact(*body.Contact); err != nil {
				return err
			}
			k.contact = *body.Contact
		}
		if body.Status == "deactivated" {
			k.status = body.Status
		}
	}
	reply(w, 200, "application/json", k.doc())
	return nil
}

// keyChange replaces an account's key (section 7.3.5).
func (a *CA) keyChange(w http.ResponseWriter, q *request) error {
	signed, err := jose.ParseSignedJSON(string(q.payload), algorithms)
	if err != nil || len(signed.Signatures) != 1 || signed.Signatures[0].Protected.JSONWebKey == nil {
		return refuse(400, "malformed", "the inner JWS cannot be read")
	}
	head := signed.Signatures[0].Protected
	inner, err := signed.Verify(head.JSONWebKey)
	if url, _ := head.ExtraHeaders["url"].(string); err != nil || url != a.base+"/key-change" || head.Nonce != "" {
		return refuse(400, "malformed", "the inner JWS does not hold, has another url, or a nonce")
	}
	var body struct {
		Account string          `json:"account"`
		OldKey  jose.JSONWebKey `json:"oldKey"`
	}
	if json.Unmarshal(inner, &body) != nil || body.Account != q.account.url || !sameKey(&body.OldKey, q.account.key) {
		return refuse(400, "malformed", "the inner payload names another account or key")
	}
	sum, err := head.JSONWebKey.Thumbprint(crypto.SHA256)
	if err != nil {
		return err
	}
	print := base64.RawURLEncoding.EncodeToString(sum)
	a.mu.Lock()
	defer a.mu.Unlock()
	if other := a.accounts[print]; other != nil {
		w.Header().Set("Location", other.url)
		return refuse(409, "malformed", "the new key has an account already")
	}
	delete(a.accounts, q.account.thumbprint)
	q.account.key, q.account.thumbprint = head.JSONWebKey, print
	a.accounts[print] = q.account
	reply(w, 200, "application/json", q.account.doc())
	return nil
}

// revoke takes a certificate back (section 7.6).
func (a *CA) revoke(w http.ResponseWriter, q *request) error {
	var body struct {
		Certificate string `json:"certificate"`
		Reason      *int   `json:"reason"`
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
		return refuse(400, "malformed", "no certificate")
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	i := a.issued[leaf.SerialNumber.String()]
	switch {
	case i == nil || !bytes.Equal(i.der, der):
		return refuse(404, "malformed", "this certificate was not issued here")
	case !i.revoked.IsZero():
		return refuse(400, "alreadyRevoked", "it was revoked at %s", i.revoked)
	case q.account != nil && i.by != q.account:
		return refuse(403, "unauthorized", "it is another account's")
	case q.account == nil && !sameKey(q.key, &jose.JSONWebKey{Key: leaf.PublicKey}):
		return refuse(403, "unauthorized", "the request is not signed with its key")
	}
	if body.Reason != nil {
		if r := *body.Reason; r < 0 || r > 10 || r == 7 {
			return refuse(400, "badRevocationReason", "there is no reason %d", r)
		}
		i.reason = *body.Reason
	}
	i.revoked = time.Now()
	w.WriteHeader(200)
	return nil
}
