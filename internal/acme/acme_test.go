package acme_test

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"insegna.example/internal/acme"
	"insegna.example/internal/catest"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/standin/ca"
)

// account is a client with an account at a town's CA.
type account struct {
	*acme.Client
	acme.Signer
	town *catest.Town
}

func register(t testing.TB, town *catest.Town) *account {
	c, err := acme.New(town.Directory(), "insegna-test/1", town.Transport)
	c.Pause = time.Millisecond
	require.NoError(t, err)
	key := pkitest.NewKey()
	a, err := c.Register(t.Context(), key,
		acme.NewAccount{Contact: []string{"mailto:ops@lantern.example"}, TermsAgreed: true})
	require.NoError(t, err)
	return &account{c, acme.Signer{Key: key, URL: a.URL}, town}
}

func dnsNames(list ...string) (out []acme.Identifier) {
	for _, n := range list {
		out = append(out, acme.Identifier{Type: acme.DNS, Value: n})
	}
	return out
}

func request(t testing.TB, names ...string) (crypto.Signer, []byte) {
	key := pkitest.NewKey()
	csr, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{DNSNames: names}, key)
	require.NoError(t, err)
	return key, csr
}

// prove answers every pending authorization of an order over http.
func (a *account) prove(t testing.TB, o *acme.Order) {
	for _, at := range o.Authorizations {
		z, err := a.Authorization(t.Context(), a.Signer, at)
		require.NoError(t, err)
		if z.Status == acme.Valid {
			continue
		}
		c := z.Challenge(acme.HTTP01)
		text, err := acme.KeyAuthorization(a.Key, c.Token)
		require.NoError(t, err)
		a.town.Files.Store(c.Token, text)
		require.NoError(t, a.Accept(t.Context(), a.Signer, c.URL))
	}
}

// obtain goes from names to a leaf, as simply as the protocol allows.
func (a *account) obtain(t testing.TB, replaces string, names ...string) (*certs.Certificate, crypto.Signer, error) {
	o, err := a.NewOrder(t.Context(), a.Signer, acme.Wish{Names: dnsNames(names...), Replaces: replaces})
	if err != nil {
		return nil, nil, err
	}
	a.prove(t, o)
	for deadline := time.Now().Add(20 * time.Second); o.Status == acme.Pending && time.Now().Before(deadline); {
		require.NoError(t, acme.Pause(t.Context(), o.RetryAfter))
		if o, err = a.Order(t.Context(), a.Signer, o.URL); err != nil {
			return nil, nil, err
		}
	}
	if o.Status == acme.Invalid {
		return nil, nil, o.Error
	}
	key, csr := request(t, names...)
	if o, err = a.Finalize(t.Context(), a.Signer, o, csr); err != nil {
		return nil, nil, err
	}
	chains, err := a.Chains(t.Context(), a.Signer, o.Certificate)
	if err != nil {
		return nil, nil, err
	}
	list, err := certs.ReadCertificates(chains[0])
	if err != nil {
		return nil, nil, err
	}
	return list[0], key, nil
}

// TestTheWholeLifeOfAnAccount goes from the directory to revocation and the
// account's end.
func TestTheWholeLifeOfAnAccount(t *testing.T) {
	mac := bytes.Repeat([]byte{7}, 32)
	town := catest.Start(t, func(c *ca.Config) { c.MACKeys = map[string][]byte{"customer-1": mac} })
	c, err := acme.New(town.Directory(), "insegna-test/1", town.Transport)
	require.NoError(t, err)
	d, err := c.Directory(t.Context())
	require.NoError(t, err)
	assert.True(t, d.Meta.ExternalAccountRequired)
	assert.Equal(t, []string{"harbourlight.example"}, d.Meta.CAAIdentities)
	key := pkitest.NewKey()
	ask := acme.NewAccount{Contact: []string{"mailto:ops@lantern.example"}}
	_, err = c.Register(t.Context(), key, ask)
	assert.ErrorContains(t, err, "terms of service have to be agreed", "nobody agreed")
	ask.TermsAgreed = true
	_, err = c.Register(t.Context(), key, ask)
	assert.ErrorContains(t, err, "bound to a customer")
	ask.External = &acme.ExternalAccount{KeyID: "customer-1", MAC: bytes.Repeat([]byte{8}, 32)}
	_, err = c.Register(t.Context(), key, ask)
	assert.ErrorContains(t, err, "not signed with the key")
	ask.External.MAC = mac
	_, err = c.Find(t.Context(), key)
	assert.ErrorContains(t, err, "accountDoesNotExist")
	made, err := c.Register(t.Context(), key, ask)
	require.NoError(t, err)
	again, err := c.Register(t.Context(), key, ask)
	require.NoError(t, err)
	assert.Equal(t, made.URL, again.URL, "asked again, the same account")
	a := &account{c, acme.Signer{Key: key, URL: made.URL}, town}
	changed, err := a.SetContact(t.Context(), a.Signer, []string{"mailto:night@lantern.example"})
	require.NoError(t, err)
	assert.Equal(t, []string{"mailto:night@lantern.example"}, changed.Contact)

	o, err := a.NewOrder(t.Context(), a.Signer, acme.Wish{Names: dnsNames("a.lantern.example", "b.lantern.example")})
	require.NoError(t, err)
	open, err := a.Open(t.Context(), a.Signer, dnsNames("B.lantern.example", "a.lantern.example"),
		func(string) bool { return false })
	require.NoError(t, err)
	assert.Equal(t, o.URL, open.URL, "an order whose answer was lost is found")
	taken, err := a.Open(t.Context(), a.Signer, o.Identifiers, func(url string) bool { return url == o.URL })
	require.NoError(t, err)
	assert.Nil(t, taken, "another's order is left alone")
	leaf, leafKey, err := a.obtain(t, "", "a.lantern.example", "b.lantern.example")
	require.NoError(t, err)
	assert.Equal(t, []string{"a.lantern.example", "b.lantern.example"}, leaf.DNSNames)
	assert.Equal(t, leafKey.Public(), leaf.PublicKey)

	id := acme.CertificateID(leaf)
	info, err := a.RenewalInfo(t.Context(), id)
	require.NoError(t, err)
	assert.True(t, info.Start.After(time.Now().Add(50*24*time.Hour)) && info.End.After(info.Start), "%v", info)
	assert.WithinDuration(t, time.Now().Add(6*time.Hour), info.AskAgain, time.Minute)
	next, _, err := a.obtain(t, id, "a.lantern.example", "b.lantern.example")
	require.NoError(t, err)
	_, err = a.NewOrder(t.Context(), a.Signer, acme.Wish{Names: dnsNames("a.lantern.example", "b.lantern.example"), Replaces: id})
	assert.ErrorContains(t, err, "alreadyReplaced")

	fresh := pkitest.NewKey()
	town.Faults.Set(ca.Fault{Lose: "/key-change"})
	require.NoError(t, a.ChangeKey(t.Context(), a.Signer, fresh), "done, though the reply was lost")
	_, err = a.Order(t.Context(), a.Signer, o.URL)
	assert.Error(t, err, "the old key is no longer one")
	a.Signer.Key = fresh
	require.NoError(t, a.Revoke(t.Context(), a.Signer, leaf.Raw, acme.Superseded))
	require.NoError(t, a.Revoke(t.Context(), a.Signer, leaf.Raw, acme.Superseded), "revoked already is fine")
	assert.Error(t, c.Revoke(t.Context(), acme.Signer{Key: leafKey}, next.Raw, acme.KeyCompromise),
		"another certificate's key")
	resp, err := (&http.Client{Transport: town.Transport}).Get(leaf.CRLDistributionPoints[0])
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	assert.Equal(t, 200, resp.StatusCode)
	town.Faults.Set(ca.Fault{Lose: strings.TrimPrefix(a.Signer.URL, strings.TrimSuffix(town.Directory(), "/directory"))})
	require.NoError(t, a.Deactivate(t.Context(), a.Signer), "done, though the reply was lost")
	assert.Error(t, a.Deactivate(t.Context(), a.Signer), "it is no account any more")
	_, err = a.NewOrder(t.Context(), a.Signer, acme.Wish{Names: dnsNames("a.lantern.example")})
	assert.ErrorContains(t, err, "deactivated")
}

// TestTheCAsOwnWords holds that its reasons come through whole, per name.
func TestTheCAsOwnWords(t *testing.T) {
	town := catest.Start(t)
	a := register(t, town)
	_, err := a.NewOrder(t.Context(), a.Signer, acme.Wish{Names: dnsNames("fine.lantern.example", "under_score.example", "nodots")})
	require.ErrorContains(t, err, "under_score.example: not a name a certificate can be issued for")
	assert.ErrorContains(t, err, "nodots: not a name")
	require.NoError(t, town.Names.Set("caa.lantern.example", `caa.lantern.example. 60 IN CAA 0 issue "other.example"`))
	_, _, err = a.obtain(t, "", "caa.lantern.example")
	assert.ErrorContains(t, err, "the CAA records of caa.lantern.example do not permit harbourlight.example")
	town.Faults.Set(ca.Fault{Limited: 90 * time.Second})
	_, err = a.NewOrder(t.Context(), a.Signer, acme.Wish{Names: dnsNames("more.lantern.example")})
	var p *acme.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, "rateLimited", p.Kind())
	assert.WithinDuration(t, time.Now().Add(90*time.Second), p.RetryAfter, 10*time.Second)
}

// TestALostReplyOrABadNonceCostsOneRequest counts them at the CA, for every
// kind of request.
func TestALostReplyOrABadNonceCostsOneRequest(t *testing.T) {
	town := catest.Start(t)
	cost := func(fault ca.Fault) int64 {
		a := register(t, town)
		before, _ := town.Requests()
		orders := town.Orders()
		town.Faults.Set(fault)
		_, _, err := a.obtain(t, "", "a.lantern.example", "b.lantern.example")
		town.Faults.Set(ca.Fault{})
		require.NoError(t, err, "%+v", fault)
		assert.Equal(t, orders+1, town.Orders(), "%+v", fault)
		after, _ := town.Requests()
		return after - before
	}
	usual := cost(ca.Fault{})
	assert.Equal(t, usual+1, cost(ca.Fault{BadNonces: 1}))
	for _, path := range []string{"/authz/", "/chall/", "/order/", "/cert/"} {
		assert.Equal(t, usual+1, cost(ca.Fault{Lose: path}), path)
	}
	a := register(t, town)
	orders := town.Orders()
	town.Faults.Set(ca.Fault{Lose: "/new-order"})
	_, err := a.NewOrder(t.Context(), a.Signer, acme.Wish{Names: dnsNames("a.lantern.example")})
	var lost *acme.LostError
	require.ErrorAs(t, err, &lost, "an order is not asked for twice")
	assert.Equal(t, orders+1, town.Orders())
	town.Faults.Set(ca.Fault{BadNonces: 100})
	_, err = a.NewOrder(t.Context(), a.Signer, acme.Wish{Names: dnsNames("a.lantern.example")})
	assert.ErrorContains(t, err, "badNonce", "no endless trying")
}

// stingy is a CA whose answers bring no nonce: each has to be asked for.
type stingy struct{ http.RoundTripper }

func (s stingy) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := s.RoundTripper.RoundTrip(r)
	if err == nil && r.Method == http.MethodPost {
		resp.Header.Del("Replay-Nonce")
	}
	return resp, err
}

// TestNobodyTakesAnothersNonce has many ask side by side at a CA that gives nonces to
// those who ask for one, and to nobody else.
func TestNobodyTakesAnothersNonce(t *testing.T) {
	town := catest.Start(t)
	a := register(t, town)
	o, err := a.NewOrder(t.Context(), a.Signer, acme.Wish{Names: dnsNames("a.lantern.example")})
	require.NoError(t, err)
	c, err := acme.New(town.Directory(), "insegna-test/1", stingy{town.Transport})
	require.NoError(t, err)
	const sides, each = 100, 20
	_, before := town.Requests()
	var all errgroup.Group
	for range sides {
		all.Go(func() error {
			for range each {
				if _, err := c.Order(t.Context(), a.Signer, o.URL); err != nil {
					return err
				}
			}
			return nil
		})
	}
	require.NoError(t, all.Wait())
	_, after := town.Requests()
	assert.Equal(t, int64(sides*each), after-before, "none is used twice")
}

// TestAHostileCA holds that every unusable answer ends with its reason.
func TestAHostileCA(t *testing.T) {
	town := catest.Start(t)
	on := func(path string, body func(string) string) ca.Fault {
		return ca.Fault{Replace: func(at string, was []byte) ([]byte, bool) {
			return []byte(body(string(was))), strings.HasPrefix(at, path)
		}}
	}
	with := func(old, text string) func(string) string {
		return func(was string) string { return strings.ReplaceAll(was, old, text) }
	}
	always := func(text string) func(string) string { return func(string) string { return text } }
	base := strings.TrimSuffix(town.Directory(), "/directory")
	for name, c := range map[string]struct {
		fault ca.Fault
		says  string
	}{
		"no JSON": {on("/order/", always("{")), "no document of the expected form"},
		"wrong types": {
			on("/order/", always(`{"status":7,"identifiers":{}}`)), "no document of the expected form"},
		"an array": {on("/authz/", always(`[]`)), "no document of the expected form"},
		"10 MB":    {on("/new-order", always(strings.Repeat("x", 10<<20))), "larger than 1024 KB"},
		"a foreign finalize": {
			on("/new-order", with(base+"/order", "https://elsewhere.example/order")), "no https address of the CA"},
		"a relative URL": {on("/new-order", with(base+"/authz", "/authz")), "no https address of the CA"},
		"plain http":     {on("/new-order", with("https://", "http://")), "no https address of the CA"},
		"another status": {on("/new-order", with(`"pending"`, `"fine"`)), `the order's status is "fine"`},
		"other names":    {on("/new-order", with("a.lantern", "z.lantern")), "other names than those asked for"},
		"a token that is a path": {
			on("/authz/", func(was string) string { return replaceTokens(was, "../../../etc/cron.d/x-aaaaaaaaaaaa") }),
			"is not base64url"},
		"a short token": {
			on("/authz/", func(was string) string { return replaceTokens(was, "abc") }), "is not base64url"},
		"a foreign challenge": {
			on("/authz/", with(base+"/chall", "https://elsewhere.example/chall")), "no https address of the CA"},
		"a foreign certificate": {
			on("/order/", with(base+"/cert", "https://elsewhere.example/cert")), "no https address of the CA"},
		"no certificate": {on("/cert/", always("hello")), "certificate"},
	} {
		t.Run(name, func(t *testing.T) {
			a := register(t, town)
			town.Faults.Set(c.fault)
			defer town.Faults.Set(ca.Fault{})
			leaf, err := try(t, a)
			assert.Nil(t, leaf)
			assert.ErrorContains(t, err, c.says)
		})
	}
	for name, body := range map[string]string{"no JSON": "x", "nothing": "{}",
		"relative": strings.ReplaceAll(`{"newNonce":"/n","newAccount":"/a","newOrder":"/o"}`, "'", ""),
		"types":    `{"newNonce":7}`} {
		town.Faults.Set(on("/directory", always(body)))
		c, err := acme.New(town.Directory(), "insegna-test/1", town.Transport)
		require.NoError(t, err)
		c.Pause = time.Millisecond
		_, err = c.Directory(t.Context())
		assert.Error(t, err, name)
	}
	_, err := acme.New("http://127.0.0.1/directory", "x", nil)
	assert.ErrorContains(t, err, "no https address")
}

func replaceTokens(doc, token string) string {
	for {
		before, rest, ok := strings.Cut(doc, `"token":"`)
		if !ok {
			return doc
		}
		_, after, _ := strings.Cut(rest, `"`)
		doc = before + `"tok":"x","token" :"` + token + `"` + after
	}
}

// try is obtain without its requirements.
func try(t *testing.T, a *account) (*certs.Certificate, error) {
	o, err := a.NewOrder(t.Context(), a.Signer, acme.Wish{Names: dnsNames("a.lantern.example")})
	if err != nil {
		return nil, err
	}
	for _, at := range o.Authorizations {
		if _, err := a.Authorization(t.Context(), a.Signer, at); err != nil {
			return nil, err
		}
	}
	leaf, _, err := a.obtain(t, "", "a.lantern.example")
	return leaf, err
}

// TestTheStandInIsStrict sends what a lax client would.
func TestTheStandInIsStrict(t *testing.T) {
	town := catest.Start(t)
	post := func(path, kind, agent, body string) string {
		req, err := http.NewRequestWithContext(t.Context(), "POST", strings.TrimSuffix(town.Directory(), "/directory")+path,
			strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", kind)
		req.Header.Set("User-Agent", agent)
		resp, err := (&http.Client{Transport: town.Transport}).Do(req)
		require.NoError(t, err)
		defer func() { _ = resp.Body.Close() }()
		assert.GreaterOrEqual(t, resp.StatusCode, 400)
		var text bytes.Buffer
		_, err = text.ReadFrom(resp.Body)
		require.NoError(t, err)
		return text.String()
	}
	assert.Contains(t, post("/new-order", "application/json", "x/1", "{}"), "content type")
	assert.Contains(t, post("/new-order", "application/jose+json", "", "{}"), "User-Agent")
	assert.Contains(t, post("/new-order", "application/jose+json", "x/1", "{}"), "flattened JWS")
	a := register(t, town)
	_, err := a.NewOrder(t.Context(), acme.Signer{Key: a.Key}, acme.Wish{Names: dnsNames("a.lantern.example")})
	assert.ErrorContains(t, err, "signed with kid")
	_, err = a.NewOrder(t.Context(), acme.Signer{Key: pkitest.NewKey(), URL: a.URL}, acme.Wish{Names: dnsNames("a.lantern.example")})
	assert.ErrorContains(t, err, "signature does not hold")
	o, err := a.NewOrder(t.Context(), a.Signer, acme.Wish{Names: dnsNames("a.lantern.example")})
	require.NoError(t, err)
	_, csr := request(t, "a.lantern.example")
	_, err = a.Finalize(t.Context(), a.Signer, o, csr)
	assert.ErrorContains(t, err, "orderNotReady")
	a.prove(t, o)
	require.Eventually(t, func() bool {
		n, err := a.Order(t.Context(), a.Signer, o.URL)
		return err == nil && n.Status == acme.Ready
	}, 10*time.Second, 50*time.Millisecond)
	_, csr = request(t, "a.lantern.example", "b.lantern.example")
	_, err = a.Finalize(t.Context(), a.Signer, o, csr)
	assert.ErrorContains(t, err, "badCSR")
	other := register(t, town)
	_, err = other.Order(t.Context(), other.Signer, o.URL)
	assert.ErrorContains(t, err, "nothing of yours")
}
