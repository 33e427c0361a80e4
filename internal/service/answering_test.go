package service_test

import (
	"bytes"
	"context"
	"crypto"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/acme"
	"insegna.example/internal/acme/proof"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/issue"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/nameserver"
)

// galley is a client of the network of a CA of one's own: what asks it over ACME.
type galley struct {
	*servicetest.Running
	at      string // the CA's folder
	roots   *x509.CertPool
	names   *nameserver.Server
	answers sync.Map // http-01, by token; tls-alpn-01, by name
}

// newGalley starts a CA that is asked over ACME, with more keys for it.
func newGalley(t *testing.T, keys string) *galley {
	g := &galley{Running: servicetest.Start(t)}
	var err error
	g.names, err = nameserver.Start(net.IPv4(127, 0, 0, 1))
	require.NoError(t, err)
	t.Cleanup(g.names.Close)
	web, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() {
		_ = httpapi.Serve(t.Context(), web, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if text, ok := g.answers.Load(strings.TrimPrefix(r.URL.Path, proof.WellKnown)); ok {
				_, _ = io.WriteString(w, text.(string))
			}
		}))
	}()
	alpn, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() {
		_ = proof.ServeALPN(t.Context(), alpn, func(_ context.Context, name string) (string, error) {
			if text, ok := g.answers.Load(name); ok {
				return text.(string), nil
			}
			return "", errors.New("nothing is up")
		})
	}()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := func(l net.Listener) uint16 { return netip.MustParseAddrPort(l.Addr().String()).Port() }
	g.Apply(t, fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: inside, roots: [root.pem]}\nservers:\n  - {name: quay, addresses: [127.0.0.1], ports: [1]}\n"+
		"hosts:\n  - {name: a.crew.example, at: [quay]}\ncas:\n  - name: crew\n    by: private\n    acme: {address: 'https://127.0.0.1:%d', resolver: '%s', http_port: %d, tls_port: %d%s}\n"+
		"    profiles:\n      - {name: crew, days: 60, names: ['*.crew.example', 127.0.0.0/8]}\n      - {name: bridge, days: 5, at_least: admin}\n      - {name: short, days: 6, names: ['*.crew.example'], keys: [ecdsa-p256]}\n",
		port(l), g.names.Address(), port(web), port(alpn), keys), pkitest.CA("root", nil))
	made, err := g.Client.MakeAuthorityWithResponse(t.Context(), "crew", client.AuthorityWish{})
	require.NoError(t, err)
	require.NotNil(t, made.JSON201, string(made.Body))
	roots, err := g.Roots(t.Context(), "crew")
	require.NoError(t, err)
	g.roots = x509.NewCertPool()
	g.roots.AddCert(roots[0].Certificate)
	go func() {
		_ = httpapi.ACMEServer(t.Context(), l, g.Service, nil, slog.New(slog.DiscardHandler))
	}()
	g.at = fmt.Sprintf("https://127.0.0.1:%d/acme/crew", port(l))
	return g
}

// client is an ACME client that trusts the CA's root and nothing else.
func (g *galley) client(t *testing.T) *acme.Client {
	c, err := acme.New(g.at+"/directory", "galley", &http.Transport{TLSClientConfig: &tls.Config{RootCAs: g.roots}})
	require.NoError(t, err)
	return c
}

// enter makes an account.
func (g *galley) enter(t *testing.T, c *acme.Client) acme.Signer {
	key := pkitest.NewKey()
	a, err := c.Register(t.Context(), key, acme.NewAccount{Contact: []string{"mailto:cook@crew.example"}})
	require.NoError(t, err)
	return acme.Signer{Key: key, URL: a.URL}
}

// prove accepts the challenges of an order by one kind, answered or not.
func (g *galley) prove(t *testing.T, c *acme.Client, s acme.Signer, o *acme.Order, kind string, answered bool) *acme.Order {
	for _, at := range o.Authorizations {
		z, err := c.Authorization(t.Context(), s, at)
		require.NoError(t, err)
		ch := z.Challenge(kind)
		require.NotNil(t, ch, z.Offered())
		text, err := acme.KeyAuthorization(s.Key, ch.Token)
		require.NoError(t, err)
		if !answered {
			text = "nonsense"
		}
		switch kind {
		case acme.HTTP01:
			g.answers.Store(ch.Token, text)
		case acme.TLSALPN01:
			g.answers.Store(z.Identifier.Value, text)
		default:
			sum := sha256.Sum256([]byte(text))
			require.NoError(t, g.names.Set(proof.Label+z.Identifier.Value, fmt.Sprintf("%s%s. 1 IN TXT %q", proof.Label, z.Identifier.Value,
				base64.RawURLEncoding.EncodeToString(sum[:]))))
		}
		require.NoError(t, c.Accept(t.Context(), s, ch.URL))
	}
	for end := time.Now().Add(40 * time.Second); o.Status == acme.Pending && time.Now().Before(end); {
		time.Sleep(100 * time.Millisecond)
		var err error
		o, err = c.Order(t.Context(), s, o.URL)
		require.NoError(t, err)
	}
	return o
}

// wish is an order for names.
func wish(profile string, names ...string) acme.Wish {
	w := acme.Wish{Profile: profile}
	for _, n := range names {
		kind := acme.DNS
		if _, err := netip.ParseAddr(n); err == nil {
			kind = acme.IP
		}
		w.Names = append(w.Names, acme.Identifier{Type: kind, Value: n})
	}
	return w
}

// TestAnACMEServerOfOnesOwn orders as any client of the network does, by each proof, and
// revokes, rolls over and ends its account.
func TestAnACMEServerOfOnesOwn(t *testing.T) {
	t.Parallel()
	g := newGalley(t, "")
	c := g.client(t)
	d, err := c.Directory(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"crew": "for server, good for 60 days", "short": "for server, good for 6 days"}, d.Meta.Profiles, "and none that is for people")
	s := g.enter(t, c)
	again, err := c.Find(t.Context(), s.Key)
	require.NoError(t, err)
	assert.Equal(t, s.URL, again.URL)
	var last *certs.Certificate
	var lastKey crypto.Signer
	for kind, w := range map[string]acme.Wish{acme.HTTP01: wish("", "rota.crew.example", "127.0.0.1"), acme.TLSALPN01: wish("short", "berth.crew.example"),
		acme.DNS01: wish("crew", "*.crew.example", "deck.crew.example")} {
		o, err := c.NewOrder(t.Context(), s, w)
		require.NoError(t, err, kind)
		o = g.prove(t, c, s, o, kind, true)
		require.Equal(t, acme.Ready, o.Status, "%s: %+v", kind, o.Error)
		key := pkitest.NewKey()
		var names []string
		for _, n := range w.Names {
			names = append(names, n.Value)
		}
		csr, err := issue.Request(key, names, pkix.Name{}, false)
		require.NoError(t, err)
		o, err = c.Finalize(t.Context(), s, o, csr)
		require.NoError(t, err, kind)
		require.Equal(t, acme.Valid, o.Status)
		chains, err := c.Chains(t.Context(), s, o.Certificate)
		require.NoError(t, err)
		list, err := certs.ReadCertificates(chains[0])
		require.NoError(t, err)
		below := x509.NewCertPool()
		for _, above := range list[1:] {
			below.AddCert(above.Certificate)
		}
		_, err = list[0].Verify(x509.VerifyOptions{Roots: g.roots, Intermediates: below, DNSName: strings.ReplaceAll(names[0], "*", "any")})
		require.NoError(t, err)
		assert.ElementsMatch(t, names, list[0].Names())
		assert.Equal(t, w.Profile == "short", list[0].NotAfter.Before(time.Now().AddDate(0, 0, 7)))
		info, err := c.RenewalInfo(t.Context(), acme.CertificateID(list[0]))
		require.NoError(t, err)
		assert.True(t, info.Start.After(time.Now()) && info.End.Before(list[0].NotAfter), "%+v", info)
		last, lastKey = list[0], key
	}
	open, err := c.NewOrder(t.Context(), s, wish("", "late.crew.example"))
	require.NoError(t, err)
	found, err := c.Open(t.Context(), s, wish("", "late.crew.example").Names, func(string) bool { return false })
	require.NoError(t, err)
	assert.Equal(t, open.URL, found.URL, "orders are listed")
	bad := g.prove(t, c, s, open, acme.HTTP01, false)
	require.Equal(t, acme.Invalid, bad.Status)
	assert.Contains(t, bad.Error.Words(), `holds "nonsense", not the key authorization`)

	next := pkitest.NewKey()
	require.NoError(t, c.ChangeKey(t.Context(), s, next))
	_, err = c.NewOrder(t.Context(), s, wish("", "x.crew.example"))
	assert.ErrorContains(t, err, "the signature does not hold", "the former key is of no use")
	s.Key = next
	var p *acme.Problem
	other := g.enter(t, c)
	require.ErrorAs(t, c.Revoke(t.Context(), other, last.Raw, acme.KeyCompromise), &p)
	assert.Equal(t, "unauthorized", p.Kind(), "another account's")
	w := wish("", "x.crew.example")
	w.Replaces = acme.CertificateID(last)
	_, err = c.NewOrder(t.Context(), other, w)
	assert.ErrorContains(t, err, "not this account's")
	require.NoError(t, c.Revoke(t.Context(), acme.Signer{Key: lastKey}, last.Raw, acme.KeyCompromise), "by its own key")
	require.NoError(t, c.Revoke(t.Context(), s, last.Raw, acme.Superseded), "revoked already is fine for a client")
	info, err := c.RenewalInfo(t.Context(), acme.CertificateID(last))
	require.NoError(t, err)
	assert.True(t, info.End.Before(time.Now()), "what is revoked is to be renewed now")
	require.NoError(t, c.Deactivate(t.Context(), s))
	_, err = c.NewOrder(t.Context(), s, wish("", "x.crew.example"))
	assert.ErrorContains(t, err, "deactivated")
	var issued, kept int
	g.Query(t, "select count(*) from issued where account <> '' and by like 'acme %'", &issued)
	g.Query(t, "select count(*) from journal where action = 'ca.issue' and actor = 'acme'", &kept)
	assert.Equal(t, []int{3, 3}, []int{issued, kept})
	var expiring, lasting int
	g.Query(t, "select count(*) from acme_objects where kind <> 'account' and expires_at between now() + interval '25 days' and now() + interval '40 days'", &expiring)
	g.Query(t, "select count(*) from acme_objects where kind = 'account' and expires_at is null", &lasting)
	assert.Equal(t, []int{4 + 6, 2}, []int{expiring, lasting}, "what is kept has an end, but for accounts")
}

// TestOrdersTheServerRefuses asks for what no order may have, and for too many.
func TestOrdersTheServerRefuses(t *testing.T) {
	t.Parallel()
	g := newGalley(t, ", accounts: customers, orders_an_hour: 3")
	c := g.client(t)
	key := pkitest.NewKey()
	_, err := c.Register(t.Context(), key, acme.NewAccount{})
	assert.ErrorContains(t, err, "accounts here are bound to a customer")
	added, err := g.Client.AddCustomerWithResponse(t.Context(), "crew", "galley")
	require.NoError(t, err)
	require.NotNil(t, added.JSON200, string(added.Body))
	assert.Equal(t, g.at+"/directory", added.JSON200.Directory)
	mac, err := base64.RawURLEncoding.DecodeString(added.JSON200.Mac)
	require.NoError(t, err)
	for want, x := range map[string]acme.ExternalAccount{"no customer with the key id \"stoker\"": {KeyID: "stoker", MAC: mac},
		"or the binding does not hold": {KeyID: "galley", MAC: bytes.Repeat([]byte{7}, 32)}} {
		_, err = c.Register(t.Context(), key, acme.NewAccount{External: &x})
		assert.ErrorContains(t, err, want)
	}
	a, err := c.Register(t.Context(), key, acme.NewAccount{External: &acme.ExternalAccount{KeyID: "galley", MAC: mac}})
	require.NoError(t, err)
	s := acme.Signer{Key: key, URL: a.URL}
	for want, w := range map[string]acme.Wish{
		"www.lantern.example is none of *.crew.example":  wish("", "a.crew.example", "www.lantern.example"),
		"10.1.2.3 is none of":                            wish("", "10.1.2.3"),
		"there is no profile \"bridge\"":                 wish("bridge", "a.crew.example"),
		"it is no host name in small letters":            wish("", "A.crew.example"),
		"it stands twice":                                wish("", "a.crew.example", "a.crew.example"),
		"an order has 1 to 100 identifiers":              wish(""),
		"it is no address as RFC 5952 writes it":         {Names: []acme.Identifier{{Type: acme.IP, Value: "127.0.0.01"}}},
		"identifiers are of the type dns or ip":          {Names: []acme.Identifier{{Type: "email", Value: "a@crew.example"}}},
		"the certificate to replace was not issued here": {Names: wish("", "a.crew.example").Names, Replaces: "AAAA.BBBB"},
	} {
		_, err := c.NewOrder(t.Context(), s, w)
		var p *acme.Problem
		if assert.ErrorAs(t, err, &p, want) {
			assert.Contains(t, p.Words(), want)
			assert.Less(t, p.Status, 500)
		}
	}
	o, err := c.NewOrder(t.Context(), s, wish("short", "a.crew.example"))
	require.NoError(t, err)
	finalize := func(key crypto.Signer, names ...string) error {
		csr, err := issue.Request(key, names, pkix.Name{}, false)
		require.NoError(t, err)
		_, err = c.Finalize(t.Context(), s, o, csr)
		return err
	}
	assert.ErrorContains(t, finalize(pkitest.NewKey(), "a.crew.example"), "the order is pending", "nothing is issued unproved")
	o = g.prove(t, c, s, o, acme.HTTP01, true)
	require.Equal(t, acme.Ready, o.Status, "%+v", o.Error)
	for want, names := range map[string][]string{"the request is for": {"b.crew.example"}, "the order for dns a.crew.example": {"a.crew.example", "b.crew.example"},
		"names that were not ordered": {"a.crew.example", "cook@crew.example"}} {
		assert.ErrorContains(t, finalize(pkitest.NewKey(), names...), want)
	}
	assert.ErrorContains(t, finalize(key, "a.crew.example"), "the key of the account is not for certificates")
	now, err := c.Order(t.Context(), s, o.URL)
	require.NoError(t, err)
	assert.Equal(t, acme.Ready, now.Status, "a bad request leaves the order as it is")
	rsa, err := issue.NewKey("rsa-2048")
	require.NoError(t, err)
	o = now
	_ = finalize(rsa, "a.crew.example")
	now, err = c.Order(t.Context(), s, o.URL)
	require.NoError(t, err)
	assert.Equal(t, acme.Invalid, now.Status)
	assert.Contains(t, now.Error.Words(), "its key is of the kind rsa-2048")
	for range 2 {
		_, err = c.NewOrder(t.Context(), s, wish("", "a.crew.example"))
		require.NoError(t, err)
	}
	_, err = c.NewOrder(t.Context(), s, wish("", "a.crew.example"))
	var p *acme.Problem
	require.ErrorAs(t, err, &p)
	assert.True(t, p.Limits() && !p.RetryAfter.IsZero(), "%+v", p)
	list, err := g.Client.ListCustomersWithResponse(t.Context(), "crew")
	require.NoError(t, err)
	assert.Equal(t, 1, list.JSON200.Items[0].Accounts)
	removed, err := g.Client.RemoveCustomerWithResponse(t.Context(), "crew", "galley")
	require.NoError(t, err)
	require.Equal(t, 204, removed.StatusCode())
	_, err = c.Order(t.Context(), s, o.URL)
	assert.ErrorContains(t, err, "the account is revoked")
	var issued int
	g.Query(t, "select count(*) from issued where account <> ''", &issued)
	assert.Zero(t, issued)
}

// TestAClientThatBreaksTheProtocol sends requests that leave out each MUST of RFC 8555
// section 6, and reaches for what is another account's: each is refused with its kind, and
// none changes anything.
func TestAClientThatBreaksTheProtocol(t *testing.T) {
	t.Parallel()
	g := newGalley(t, "")
	c := g.client(t)
	victim, thief := g.enter(t, c), g.enter(t, c)
	o, err := c.NewOrder(t.Context(), victim, wish("", "a.crew.example"))
	require.NoError(t, err)
	web := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: g.roots}}}
	nonce := func() string {
		r, err := web.Head(g.at + "/new-nonce")
		require.NoError(t, err)
		_ = r.Body.Close()
		return r.Header.Get("Replay-Nonce")
	}
	send := func(method, at, kind string, body []byte) (int, string, http.Header) {
		q, err := http.NewRequestWithContext(t.Context(), method, at, bytes.NewReader(body))
		require.NoError(t, err)
		q.Header.Set("Content-Type", kind)
		r, err := web.Do(q)
		require.NoError(t, err)
		defer func() { _ = r.Body.Close() }()
		text, err := io.ReadAll(io.LimitReader(r.Body, 1<<20))
		require.NoError(t, err)
		return r.StatusCode, string(text), r.Header
	}
	const jws = "application/jose+json"
	type how struct {
		key             crypto.Signer
		kid, url, nonce string
		jwk             bool
		payload         string
	}
	signed := func(h how) []byte {
		opts := (&jose.SignerOptions{EmbedJWK: h.jwk}).WithHeader("url", h.url)
		if h.nonce != "" {
			opts = opts.WithHeader("nonce", h.nonce)
		}
		if h.kid != "" {
			opts = opts.WithHeader("kid", h.kid)
		}
		sig, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: h.key}, opts)
		require.NoError(t, err)
		out, err := sig.Sign([]byte(h.payload))
		require.NoError(t, err)
		return []byte(out.FullSerialize())
	}
	order := g.at + "/new-order"
	const asked = `{"identifiers":[{"type":"dns","value":"a.crew.example"}]}`
	good := how{key: thief.Key, kid: thief.URL, url: order, payload: asked}
	at := func(change func(*how)) func() (int, string, http.Header) {
		return func() (int, string, http.Header) {
			h := good
			h.nonce = nonce()
			change(&h)
			return send("POST", h.url, jws, signed(h))
		}
	}
	used := nonce()
	state := func() (v string) {
		g.Query(t, "select string_agg(id || version, ',' order by kind, id) from acme_objects", &v)
		return v
	}
	status, text, _ := at(func(h *how) { h.nonce = used })()
	require.Equal(t, 201, status, text)
	before := state()
	full := func(change func(map[string]any)) func() (int, string, http.Header) {
		return func() (int, string, http.Header) {
			h := good
			h.nonce = nonce()
			var doc map[string]any
			require.NoError(t, json.Unmarshal(signed(h), &doc))
			change(doc)
			body, err := json.Marshal(doc)
			require.NoError(t, err)
			return send("POST", order, jws, body)
		}
	}
	for name, c := range map[string]struct {
		do   func() (int, string, http.Header)
		code int
		kind string
	}{
		"a nonce twice":   {at(func(h *how) { h.nonce = used }), 400, "badNonce"},
		"no nonce":        {at(func(h *how) { h.nonce = "" }), 400, "badNonce"},
		"a nonce made up": {at(func(h *how) { h.nonce = "AAAA" }), 400, "badNonce"},
		"another url": {func() (int, string, http.Header) {
			h := good
			h.nonce, h.url = nonce(), g.at+"/new-account"
			return send("POST", order, jws, signed(h))
		}, 403, "unauthorized"},
		"jwk where kid belongs":            {at(func(h *how) { h.kid, h.jwk = "", true }), 400, "malformed"},
		"both":                             {at(func(h *how) { h.jwk = true }), 400, "malformed"},
		"kid where jwk belongs":            {at(func(h *how) { h.url, h.payload = g.at+"/new-account", "{}" }), 400, "malformed"},
		"another's kid":                    {at(func(h *how) { h.kid = victim.URL }), 403, "unauthorized"},
		"a kid of elsewhere":               {at(func(h *how) { h.kid = "https://ca.example/account/1" }), 400, "accountDoesNotExist"},
		"another's order":                  {at(func(h *how) { h.url, h.payload = o.URL, "" }), 404, "malformed"},
		"finalize another's":               {at(func(h *how) { h.url, h.payload = o.Finalize, `{"csr":""}` }), 404, "malformed"},
		"another's authz":                  {at(func(h *how) { h.url, h.payload = o.Authorizations[0], `{"status":"deactivated"}` }), 404, "malformed"},
		"another's account":                {at(func(h *how) { h.url, h.payload = victim.URL, `{"status":"deactivated"}` }), 404, "malformed"},
		"another's orders":                 {at(func(h *how) { h.url, h.payload = victim.URL+"/orders", "" }), 404, "malformed"},
		"a payload no POST-as-GET has":     {at(func(h *how) { h.url = thief.URL + "/orders" }), 400, "malformed"},
		"no JSON":                          {at(func(h *how) { h.payload = "nonsense" }), 400, "malformed"},
		"a status no account gives itself": {at(func(h *how) { h.url, h.payload = thief.URL, `{"status":"revoked"}` }), 400, "malformed"},
		"a contact for many":               {at(func(h *how) { h.url, h.payload = thief.URL, `{"contact":["mailto:a@crew.example,b@crew.example"]}` }), 400, "invalidContact"},
		"a contact of another kind":        {at(func(h *how) { h.url, h.payload = thief.URL, `{"contact":["tel:1"]}` }), 400, "unsupportedContact"},
		"dates":                            {at(func(h *how) { h.payload = strings.Replace(asked, "{", `{"notAfter":"2030-01-01T00:00:00Z",`, 1) }), 400, "malformed"},
		"another type": {func() (int, string, http.Header) {
			h := good
			h.nonce = nonce()
			return send("POST", order, "application/json", signed(h))
		}, 415, "malformed"},
		"by GET":           {func() (int, string, http.Header) { return send("GET", o.URL, "", nil) }, 405, "malformed"},
		"by PUT":           {func() (int, string, http.Header) { return send("PUT", o.URL, jws, nil) }, 405, "malformed"},
		"too large":        {func() (int, string, http.Header) { return send("POST", order, jws, make([]byte, 1<<20)) }, 413, "malformed"},
		"no JWS":           {func() (int, string, http.Header) { return send("POST", order, jws, []byte("{}")) }, 400, "malformed"},
		"a header outside": {full(func(d map[string]any) { d["header"] = map[string]any{"kid": victim.URL} }), 400, "malformed"},
		"the general form": {full(func(d map[string]any) { d["signatures"] = []any{} }), 400, "malformed"},
		"another payload": {full(func(d map[string]any) {
			d["payload"] = base64.RawURLEncoding.EncodeToString([]byte(strings.Replace(asked, "a.", "b.", 1)))
		}), 403, "unauthorized"},
		"no algorithm": {full(func(d map[string]any) {
			raw, err := base64.RawURLEncoding.DecodeString(d["protected"].(string))
			require.NoError(t, err)
			d["protected"] = base64.RawURLEncoding.EncodeToString([]byte(strings.Replace(string(raw), `"ES256"`, `"none"`, 1)))
		}), 400, "badSignatureAlgorithm"},
		"a MAC in place of a signature": {func() (int, string, http.Header) {
			sig, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.HS256, Key: bytes.Repeat([]byte{1}, 32)},
				(&jose.SignerOptions{}).WithHeader("url", order).WithHeader("nonce", nonce()).WithHeader("kid", thief.URL))
			require.NoError(t, err)
			out, err := sig.Sign([]byte(asked))
			require.NoError(t, err)
			return send("POST", order, jws, []byte(out.FullSerialize()))
		}, 400, "badSignatureAlgorithm"},
	} {
		status, text, head := c.do()
		var p acme.Problem
		assert.Equal(t, c.code, status, "%s: %s", name, text)
		if assert.NoError(t, json.Unmarshal([]byte(text), &p), "%s: %s", name, text) {
			assert.Equal(t, c.kind, p.Kind(), "%s: %s", name, text)
			assert.NotEmpty(t, p.Detail, name)
		}
		assert.Equal(t, "application/problem+json", head.Get("Content-Type"), name)
	}
	assert.Equal(t, before, state(), "nothing was changed")
	status, _, _ = send("GET", strings.Replace(g.at, "crew", "nobody", 1)+"/directory", "", nil)
	assert.Equal(t, 404, status)
}
