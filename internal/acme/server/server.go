// Package server is the other side of the protocol (RFC 8555): a CA of one's own
// answers clients of the network. It holds every request against the protocol, proves
// names itself, and asks for the certificate to be issued; what may be issued, and how
// that is done and kept, is given to it.
//
// Objects are kept as they are between two requests, each change only over the version
// it was made from, so that of two requests at a time one counts.
package server

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"insegna.example/internal/acme"
)

// ErrNotFound and ErrChanged are those of Records: there is no such object; it is not
// what it was any more.
var (
	ErrNotFound = errors.New("there is no such object")
	ErrChanged  = errors.New("the object has changed meanwhile")
	ErrTaken    = errors.New("the key has an account already")
)

// Kinds of objects.
const (
	AccountKind       = "account"
	OrderKind         = "order"
	AuthorizationKind = "authorization"
)

// Object is one object as it is kept.
type Object struct {
	Kind, ID  string
	Owner     string    // the account's ID; its own for an account
	Key       string    // of an account: the thumbprint of its key (RFC 7638)
	Document  []byte    // JSON
	ExpiresAt time.Time // when it may be forgotten; zero for never
}

// Records keep objects of one CA.
type Records interface {
	Object(ctx context.Context, kind, id string) (doc []byte, version int, err error)
	AccountOf(ctx context.Context, key string) (id string, err error)
	// Add keeps new objects, all or none; ErrTaken where a key has an account.
	Add(ctx context.Context, list ...Object) error
	// Change keeps an object over a version; ErrChanged where it has another.
	Change(ctx context.Context, version int, o Object) error
	// OrdersOf lists the IDs of an account's orders, the newest first, from before one on.
	OrdersOf(ctx context.Context, account, before string, limit int) ([]string, error)
	// Since counts the orders an account has made since a time.
	Since(ctx context.Context, account string, t time.Time) (int, error)
}

// Known is what is known of an issued certificate.
type Known struct {
	DER       []byte
	Account   string // that ordered it; "" for one issued otherwise
	NotBefore time.Time
	NotAfter  time.Time
	Revoked   bool
}

// CA is the CA whose name it answers in.
type CA struct {
	Name     string
	Base     string            // URL of its folder, without a slash at its end
	Website  string            // for people; "" for none
	External bool              // accounts have to be bound to a customer
	PerHour  int               // orders of an account; 0 for no limit
	HTTPPort uint16            // where http-01 is looked at
	TLSPort  uint16            // where tls-alpn-01 is looked at
	Resolver string            // DNS server, address and port
	Profiles map[string]string // what may be asked for, with a word for people
	Records  Records
	Customer func(ctx context.Context, keyID string) (mac []byte, err error) // ErrNotFound for none
	Allows   func(profile, name string) error                                // says why a name may not be ordered
	Issue    func(ctx context.Context, account, order, profile string, csr *x509.CertificateRequest, names []string) (chain []byte, serial string, err error)
	Find     func(ctx context.Context, serial []byte) (*Known, error) // ErrNotFound for none
	KeyIDs   [][]byte                                                 // of the issuing certificates, former ones too
	Revoke   func(ctx context.Context, serial []byte, reason int) error
	Told     func(ctx context.Context, action, subject string, detail map[string]any) // for the journal
}

// RefusedError is a reason not to issue that is for the client.
type RefusedError struct{ Kind, Reason string }

// Error is the reason.
func (e *RefusedError) Error() string { return e.Reason }

// Desk is what the requests of all CAs share.
type Desk struct {
	Log *slog.Logger

	mu       sync.Mutex
	nonces   map[string]time.Time // given out and not used, with their ends
	order    []string             // in the order they were given out
	arrivals map[string][]time.Time
	looking  chan struct{} // places for looks at proofs
	busy     map[string]bool
}

// Bounds of a desk.
const (
	mostNonces   = 20_000
	nonceLife    = time.Hour
	mostLooks    = 32
	mostBody     = 64 << 10 // bytes of a request
	mostAccounts = 20       // made from one address in an hour
	mostHosts    = 10_000   // addresses remembered for that
	tokenBytes   = 32
)

// NewDesk makes one.
func NewDesk(log *slog.Logger) *Desk {
	return &Desk{Log: log, nonces: map[string]time.Time{}, arrivals: map[string][]time.Time{}, looking: make(chan struct{}, mostLooks), busy: map[string]bool{}}
}

// random is a new name or token, of 256 bits.
func random() string {
	b := make([]byte, tokenBytes)
	_, _ = rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

// nonce gives one out (section 7.2). The oldest are forgotten where there are too many.
func (d *Desk) nonce() string {
	n := random()
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.order) >= mostNonces {
		delete(d.nonces, d.order[0])
		d.order = d.order[1:]
	}
	d.nonces[n] = time.Now().Add(nonceLife)
	d.order = append(d.order, n)
	return n
}

// spend uses a nonce up, and says whether it was good.
func (d *Desk) spend(n string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	end, ok := d.nonces[n]
	delete(d.nonces, n)
	return ok && time.Now().Before(end)
}

// arrives counts one more account from an address, and says whether that is too many.
func (d *Desk) arrives(host string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.arrivals) >= mostHosts {
		clear(d.arrivals)
	}
	var recent []time.Time
	for _, t := range d.arrivals[host] {
		if time.Since(t) < time.Hour {
			recent = append(recent, t)
		}
	}
	if len(recent) >= mostAccounts {
		return true
	}
	d.arrivals[host] = append(recent, time.Now())
	return false
}

// problem is an answer of trouble (section 6.7).
type problem struct {
	acme.Problem
	after time.Duration // Retry-After; 0 for none
	at    string        // Location; "" for none
}

// Error is what it says.
func (p *problem) Error() string { return p.Detail }

// refuse makes a problem.
func refuse(status int, kind, format string, args ...any) *problem {
	return &problem{Problem: acme.Problem{Type: "urn:ietf:params:acme:error:" + kind, Detail: fmt.Sprintf(format, args...), Status: status}}
}

// request is a signed request that keeps to section 6.2.
type request struct {
	path    string
	payload []byte
	key     *jose.JSONWebKey
	account *account // nil where it is signed by a key itself
	version int      // of the account
	host    string   // it comes from
	before  string   // page of a list
}

// empty says that it is a POST-as-GET (section 6.3).
func (q *request) empty() bool { return len(q.payload) == 0 }

// read decodes a payload.
func (q *request) read(into any) error {
	if err := json.Unmarshal(q.payload, into); err != nil {
		return refuse(400, "malformed", "the payload cannot be read: %v", err)
	}
	return nil
}

// Serve answers one request to a CA; path is what follows its Base.
func (d *Desk) Serve(w http.ResponseWriter, r *http.Request, c *CA, path string) {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Add("Link", "<"+c.Base+"/directory>;rel=\"index\"")
	var err error
	switch r.Method {
	case http.MethodGet, http.MethodHead:
		err = d.get(w, r, c, path)
	case http.MethodPost:
		w.Header().Set("Replay-Nonce", d.nonce())
		err = d.post(w, r, c, path)
	default:
		err = refuse(405, "malformed", "%s is no method of the protocol", r.Method)
	}
	if err == nil {
		return
	}
	var p *problem
	if !errors.As(err, &p) {
		if r.Context().Err() == nil {
			d.Log.Error("an ACME client was not answered", "ca", c.Name, "path", path, "error", err)
		}
		p = refuse(500, "serverInternal", "this did not work here; try again later")
		if errors.Is(err, ErrChanged) {
			p = refuse(503, "serverInternal", "another request changes the same; try again")
			p.after = time.Second
		}
	}
	if p.after > 0 {
		w.Header().Set("Retry-After", strconv.Itoa(int(p.after.Seconds())+1))
	}
	if p.at != "" {
		w.Header().Set("Location", p.at)
	}
	answer(w, p.Status, "application/problem+json", p.Problem)
}

// answer writes a document.
func answer(w http.ResponseWriter, status int, kind string, doc any) {
	w.Header().Set("Content-Type", kind)
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(doc)
}

// get answers what is asked for without an account.
func (d *Desk) get(w http.ResponseWriter, r *http.Request, c *CA, path string) error {
	switch {
	case path == "/directory":
		meta := map[string]any{"externalAccountRequired": c.External}
		if c.Website != "" {
			meta["website"] = c.Website
		}
		if len(c.Profiles) > 0 {
			meta["profiles"] = c.Profiles
		}
		answer(w, 200, "application/json", map[string]any{"newNonce": c.Base + "/new-nonce", "newAccount": c.Base + "/new-account", "newOrder": c.Base + "/new-order",
			"revokeCert": c.Base + "/revoke-cert", "keyChange": c.Base + "/key-change", "renewalInfo": c.Base + "/renewal-info", "meta": meta})
		return nil
	case path == "/new-nonce":
		w.Header().Set("Replay-Nonce", d.nonce())
		if r.Method == http.MethodGet {
			w.WriteHeader(http.StatusNoContent)
		}
		return nil
	case strings.HasPrefix(path, "/renewal-info/"):
		return d.renewalInfo(w, r, c, strings.TrimPrefix(path, "/renewal-info/"))
	}
	return refuse(405, "malformed", "this is asked for by POST-as-GET (RFC 8555 section 6.3)")
}

// algorithms are the signatures taken.
var algorithms = []jose.SignatureAlgorithm{jose.ES256, jose.ES384, jose.ES512, jose.EdDSA, jose.RS256}

// post holds a request against section 6 before anything is done.
func (d *Desk) post(w http.ResponseWriter, r *http.Request, c *CA, path string) error {
	if kind, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";"); strings.TrimSpace(kind) != "application/jose+json" {
		return refuse(415, "malformed", "the content type is %.100q, not application/jose+json", kind)
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostBody))
	if err != nil {
		return refuse(413, "malformed", "the request cannot be read to its end, or is larger than %d bytes", mostBody)
	}
	q, err := d.verify(r.Context(), c, path, r.URL.RawQuery, body)
	if err != nil {
		return err
	}
	q.host, q.before = hostOf(r.RemoteAddr), r.URL.Query().Get("before")
	return d.act(w, r, c, q)
}

// hostOf is an address without its port.
func hostOf(remote string) string {
	if i := strings.LastIndexByte(remote, ':'); i > 0 {
		return remote[:i]
	}
	return remote
}

// verify holds a request against section 6.2: one signature in the flattened form, over
// the URL it was sent to, with a nonce of here, by a key that belongs to it. The nonce
// is used up whatever comes of it.
func (d *Desk) verify(ctx context.Context, c *CA, path, query string, body []byte) (*request, error) {
	var fields map[string]json.RawMessage
	if json.Unmarshal(body, &fields) != nil || fields["signatures"] != nil || fields["header"] != nil || fields["protected"] == nil {
		return nil, refuse(400, "malformed", "this is no flattened JWS with a protected header alone (RFC 8555 section 6.2)")
	}
	signed, err := jose.ParseSignedJSON(string(body), algorithms)
	if err != nil || len(signed.Signatures) != 1 {
		return nil, unsigned(err)
	}
	head := signed.Signatures[0].Protected
	if head.ExtraHeaders["crit"] != nil || head.ExtraHeaders["b64"] != nil {
		return nil, refuse(400, "malformed", "the JWS has headers the protocol does not know")
	}
	at := c.Base + path
	if query != "" {
		at += "?" + query
	}
	if to, _ := head.ExtraHeaders["url"].(string); to != at {
		return nil, refuse(403, "unauthorized", "the url in the header is %.300q, asked was %q", to, at)
	}
	if !d.spend(head.Nonce) {
		return nil, refuse(400, "badNonce", "the nonce is not one of those given out, or was used")
	}
	q := &request{path: path}
	byKey := path == "/new-account" || path == "/revoke-cert" && head.JSONWebKey != nil
	switch {
	case head.JSONWebKey != nil && head.KeyID != "":
		return nil, refuse(400, "malformed", "jwk and kid are both there")
	case byKey && head.JSONWebKey == nil, !byKey && head.KeyID == "":
		return nil, refuse(400, "malformed", "the header has to have %s", map[bool]string{true: "jwk", false: "kid"}[byKey])
	case byKey:
		if q.key = head.JSONWebKey; !q.key.Valid() || !q.key.IsPublic() {
			return nil, refuse(400, "badPublicKey", "the key cannot be used")
		}
		if p := weak(q.key.Key); p != nil {
			return nil, p
		}
	default:
		id, ok := strings.CutPrefix(head.KeyID, c.Base+"/account/")
		if !ok {
			return nil, refuse(400, "accountDoesNotExist", "there is no account %.300q here", head.KeyID)
		}
		if q.account, q.version, err = load[account](ctx, c, AccountKind, id); errors.Is(err, ErrNotFound) {
			return nil, refuse(400, "accountDoesNotExist", "there is no account %.300q here", head.KeyID)
		} else if err != nil {
			return nil, err
		}
		q.key = &q.account.Key
	}
	if q.payload, err = signed.Verify(q.key); err != nil {
		return nil, refuse(403, "unauthorized", "the signature does not hold")
	}
	if q.account != nil && q.account.Status != acme.Valid {
		return nil, refuse(401, "unauthorized", "the account is %s", q.account.Status)
	}
	return q, nil
}

// unsigned says why a JWS cannot be read.
func unsigned(err error) *problem {
	if err != nil && strings.Contains(err.Error(), "signature algorithm") {
		p := refuse(400, "badSignatureAlgorithm", "taken are ES256, ES384, ES512, EdDSA and RS256")
		return p
	}
	return refuse(400, "malformed", "the JWS cannot be read")
}

// weak says why a key is not taken; nil for one that is good.
func weak(key any) *problem {
	if k, ok := key.(interface{ Size() int }); ok && k.Size() < 256 { // RSA of less than 2048 bits
		return refuse(400, "badPublicKey", "an RSA key has to have 2048 bits at least")
	}
	return nil
}

// act does what a request asks for.
func (d *Desk) act(w http.ResponseWriter, r *http.Request, c *CA, q *request) error {
	ctx := r.Context()
	switch q.path {
	case "/new-account":
		return d.newAccount(ctx, w, c, q)
	case "/new-order":
		return d.newOrder(ctx, w, c, q)
	case "/revoke-cert":
		return d.revoke(ctx, w, c, q)
	case "/key-change":
		return d.keyChange(ctx, w, c, q)
	}
	part, id, _ := strings.Cut(strings.TrimPrefix(q.path, "/"), "/")
	id, rest, _ := strings.Cut(id, "/")
	switch {
	case q.account == nil:
	case part == "account" && id == q.account.ID && rest == "":
		return d.ofAccount(ctx, w, c, q)
	case part == "account" && id == q.account.ID && rest == "orders":
		return d.ordersOf(ctx, w, c, q)
	case part == "order" && rest == "", part == "order" && rest == "finalize":
		return d.ofOrder(ctx, w, c, q, id, rest != "")
	case part == "authz" && rest == "":
		return d.ofAuthorization(ctx, w, c, q, id)
	case part == "chall":
		return d.accept(ctx, w, c, q, id, rest)
	case part == "cert" && rest == "":
		return d.download(ctx, w, c, q, id)
	}
	return nothing(q.path)
}

// nothing says that there is nothing of the account's at a path.
func nothing(path string) *problem {
	return refuse(404, "malformed", "there is nothing of this account at %.200q", path)
}

// load reads an object; ErrNotFound for none.
func load[T any](ctx context.Context, c *CA, kind, id string) (*T, int, error) {
	if len(id) == 0 || len(id) > 100 {
		return nil, 0, ErrNotFound
	}
	doc, version, err := c.Records.Object(ctx, kind, id)
	if err != nil {
		return nil, 0, err
	}
	v := new(T)
	return v, version, json.Unmarshal(doc, v)
}

// object is an object to be kept.
func object(kind, id, owner string, doc any, expires time.Time) Object {
	text, err := json.Marshal(doc)
	if err != nil { // these are structs of texts
		panic(err)
	}
	return Object{Kind: kind, ID: id, Owner: owner, Document: text, ExpiresAt: expires}
}

// thumbprint tells a key (RFC 7638).
func thumbprint(key *jose.JSONWebKey) (string, error) {
	sum, err := key.Thumbprint(crypto.SHA256)
	if err != nil {
		return "", refuse(400, "badPublicKey", "the key cannot be used")
	}
	return base64.RawURLEncoding.EncodeToString(sum), nil
}
