package service_test

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/catest"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/ca"
)

// orderEstate declares a CA and a mandate proved by Insegna's own listener.
func orderEstate(town *catest.Town, port int, names string) (string, *pkitest.Entity) {
	return fmt.Sprintf(`estate: Ferries
audiences:
  - {name: browsers, roots: [root.pem]}
servers:
  - {name: quay, addresses: [127.0.0.1], ports: [1]}
hosts:
  - {name: a.lantern.example, at: [quay]}
cas:
  - {name: harbour, directory: %q, test_directory: %q, contact: [ops@lantern.example], roots: [root.pem], resolver: %q, http_port: %d, budget: {certificates: 3, days: 7}}
mandates:
  - {name: booking, names: [%s], ca: harbour, proof: {by: listener}}
`, town.Directory(), town.Directory(), town.Names.Address(), port, names), town.Root
}

// listening gives a port where proofs will be answered.
func listening(t *testing.T) (*httptest.Server, int, *atomic.Pointer[http.Handler]) {
	var h atomic.Pointer[http.Handler]
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if next := h.Load(); next != nil {
			(*next).ServeHTTP(w, r)
		}
	}))
	t.Cleanup(web.Close)
	return web, int(netip.MustParseAddrPort(web.Listener.Addr().String()).Port()), &h
}

// logged keeps what a service logs.
type logged struct {
	mu   sync.Mutex
	text strings.Builder
}

// Write implements io.Writer.
func (l *logged) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

// said gives what was logged so far.
func (l *logged) said() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// town starts a CA that looks for files where the service answers.
func town(t *testing.T, names string, change ...func(*ca.Config)) (*catest.Town, *servicetest.Running) {
	_, port, handler := listening(t)
	place := catest.Start(t, append(change, func(c *ca.Config) { c.HTTPPort = port })...)
	r := servicetest.Start(t)
	var h http.Handler = httpapi.Proofs(r.Service)
	handler.Store(&h)
	text, root := orderEstate(place, port, names)
	r.Apply(t, text, root)
	agree(t, r.Client, "harbour")
	return place, r
}

// TestAgreeingRidesTroubleOut agrees to the terms of a CA where every kind of
// request meets every kind of trouble that passes.
func TestAgreeingRidesTroubleOut(t *testing.T) {
	place, r := town(t, "a.lantern.example")
	var mu sync.Mutex
	met := map[string]ca.Trouble{}
	place.Faults.Set(ca.Fault{Storm: func(path string) ca.Trouble {
		mu.Lock()
		defer mu.Unlock()
		if met[path]++; met[path] >= ca.Troubles || met[path] == ca.Busy {
			return ca.None // a second's rest is for tests that look at it
		}
		return met[path]
	}})
	defer place.Faults.Set(ca.Fault{})
	agree(t, r.Client, "harbour")
	assert.NotZero(t, met["/new-account"])
}

func agree(t *testing.T, c *client.ClientWithResponses, name string) {
	list, err := c.ListCasWithResponse(t.Context())
	require.NoError(t, err)
	require.NotNil(t, list.JSON200, string(list.Body))
	require.Empty(t, list.JSON200.Items[0].Trouble)
	agreed, err := c.AgreeToTermsWithResponse(t.Context(), name,
		client.Agreement{Terms: list.JSON200.Items[0].Terms, TestTerms: list.JSON200.Items[0].TestTerms})
	require.NoError(t, err)
	require.NotNil(t, agreed.JSON200, string(agreed.Body))
}

func begin(t *testing.T, c *client.ClientWithResponses, mandate string, rehearsal bool) int64 {
	o, err := c.BeginOrderWithResponse(t.Context(), client.OrderRequest{Mandate: mandate, Rehearsal: &rehearsal})
	require.NoError(t, err)
	require.NotNil(t, o.JSON201, string(o.Body))
	return o.JSON201.Number
}

// ended waits for an order's end.
func ended(t *testing.T, c *client.ClientWithResponses, number int64) *client.Order {
	var last *client.Order
	require.Eventually(t, func() bool {
		o, err := c.GetOrderWithResponse(t.Context(), number)
		if err != nil || o.JSON200 == nil {
			return false
		}
		last = o.JSON200
		return last.FinishedAt != nil
	}, 30*time.Second, 50*time.Millisecond, "%+v", &last)
	return last
}

// TestAMandateYieldsACertificate goes from a declared mandate to certificate
// and key in the safe, rehearses, spends the budget, and renews what is due.
func TestAMandateYieldsACertificate(t *testing.T) {
	t.Parallel()
	place, r := town(t, "a.lantern.example, www.lantern.example")
	o := ended(t, r.Client, begin(t, r.Client, "booking", true))
	require.Nil(t, o.Failure, "%+v", o.Failure)
	assert.Equal(t, client.OrderStateIssued, o.State)
	m, err := r.Client.GetMandateWithResponse(t.Context(), "booking")
	require.NoError(t, err)
	assert.Nil(t, m.JSON200.InForce, "a rehearsal brings nothing into force")
	assert.Equal(t, 0, m.JSON200.Budget.Used)

	number := begin(t, r.Client, "booking", false)
	twice, err := r.Client.BeginOrderWithResponse(t.Context(), client.OrderRequest{Mandate: "booking"})
	require.NoError(t, err)
	assert.Equal(t, 409, twice.StatusCode(), "one at a time")
	o = ended(t, r.Client, number)
	require.Nil(t, o.Failure, "%+v", o.Failure)
	var steps []string
	for _, s := range o.Steps {
		steps = append(steps, s.Step+" "+string(s.Outcome))
	}
	assert.Equal(t,
		[]string{"key done", "order done", "proof done", "validation done", "withdraw done", "request done",
			"certificate done"}, steps)
	chain, err := r.Client.GetOrderCertificateWithResponse(t.Context(), number)
	require.NoError(t, err)
	list, err := certs.ReadCertificates([]byte(chain.JSON200.Chain))
	require.NoError(t, err)
	assert.Len(t, list, 2)
	assert.Equal(t, []string{"a.lantern.example", "www.lantern.example"}, list[0].DNSNames)
	for _, table := range []string{"publications", "probes"} {
		var left int
		r.Query(t, "select count(*) from "+table, &left)
		assert.Zero(t, left, table)
	}
	var encrypted []byte
	r.Query(t, "select encrypted from orders where id = $1", &encrypted, number)
	assert.NotEmpty(t, encrypted)
	_, err = x509.ParsePKCS8PrivateKey(encrypted)
	assert.Error(t, err, "the key is not kept in the clear")

	m, err = r.Client.GetMandateWithResponse(t.Context(), "booking")
	require.NoError(t, err)
	assert.Equal(t, "in the window its CA suggests", m.JSON200.NextWhy)
	assert.True(t, m.JSON200.NextAt.After(time.Now().Add(55*24*time.Hour)))
	assert.Equal(t, 1, m.JSON200.Budget.Used)

	execSQL(t, r.Database, "update mandates set next_at = now() - interval '1 minute'")
	require.NoError(t, r.BeginDue(t.Context()))
	newest, err := r.Client.ListOrdersWithResponse(t.Context(), &client.ListOrdersParams{})
	require.NoError(t, err)
	renewed := ended(t, r.Client, newest.JSON200.Items[0].Number)
	require.Nil(t, renewed.Failure)
	assert.Equal(t, "insegna", renewed.By)
	assert.NotEqual(t, *o.Certificate, *renewed.Certificate)
	var replaces string
	r.Query(t, "select replaces from orders where id = $1", &replaces, renewed.Number)
	assert.NotEmpty(t, replaces, "the CA knows it as a renewal")
	text, root := orderEstate(place, place.HTTPPort, "a.lantern.example, www.lantern.example")
	head, mandates, _ := strings.Cut(text, "mandates:")
	r.Apply(t, head, root)
	r.Apply(t, head+"mandates:"+strings.Replace(mandates, "by: listener",
		"by: dns, server: 127.0.0.1, tsig: {name: k, credential: none}", 1), root)
	m, err = r.Client.GetMandateWithResponse(t.Context(), "booking")
	require.NoError(t, err)
	require.NotNil(t, m.JSON200.NextAt, "taken out of the file and back in, it is renewed all the same")
	failed := ended(t, r.Client, begin(t, r.Client, "booking", false))
	require.NotNil(t, failed.Failure)
	assert.Contains(t, failed.Failure.Words, `the safe has no credential "none"`)
	m, err = r.Client.GetMandateWithResponse(t.Context(), "booking")
	require.NoError(t, err)
	require.NotNil(t, m.JSON200.NextAt, "what is in force is not left to end in silence")
	assert.WithinDuration(t, time.Now().Add(24*time.Hour), *m.JSON200.NextAt, time.Minute)
	r.Apply(t, text, root)
	require.Nil(t, ended(t, r.Client, begin(t, r.Client, "booking", false)).Failure)
	spent, err := r.Client.BeginOrderWithResponse(t.Context(), client.OrderRequest{Mandate: "booking"})
	require.NoError(t, err)
	assert.Equal(t, 409, spent.StatusCode())
	assert.Contains(t, string(spent.Body), "3 of 3 certificates in 7 days")
	assert.Len(t, place.Issued(), 4)
}

// TestWhyAnOrderFails holds the CA's own words, what to do and the next try;
// nothing unusable is kept as usable and no proof is left standing.
func TestWhyAnOrderFails(t *testing.T) {
	t.Parallel()
	place, r := town(t, "a.lantern.example, b.lantern.example")
	for name, c := range map[string]struct {
		fault             ca.Fault
		kind, words       string
		again             bool
		before, afterward func()
	}{
		"other names": {
			fault: ca.Fault{OtherNames: true}, kind: "bad-certificate", words: "the certificate is for elsewhere.example",
			again: true},
		"another key":   {fault: ca.Fault{OtherKey: true}, kind: "bad-certificate", words: "for another key", again: true},
		"ended already": {fault: ca.Fault{InThePast: true}, kind: "bad-certificate", words: "ended at", again: true},
		"no chain": {
			fault: ca.Fault{NoChain: true}, kind: "bad-certificate", words: "leads to none of the roots", again: true},
		"never ready": {fault: ca.Fault{Processing: true}, kind: "too-long", words: "has been processing", again: true},
		"nonsense": {
			fault: ca.Fault{Replace: func(path string, was []byte) ([]byte, bool) {
				return []byte(strings.ReplaceAll(string(was), `"token":"`, `"token":"!`)), strings.HasPrefix(path, "/authz/")
			}},
			kind: "bad-reply", words: "is not base64url", again: true},
		"CAA": {kind: "caa", words: "do not permit harbourlight.example", again: true,
			before: func() {
				require.NoError(t,
					place.Names.Set("b.lantern.example", `b.lantern.example. 1 IN CAA 0 issue "other.example"`,
						"b.lantern.example. 1 IN A 127.0.0.1"))
			},
			afterward: func() {
				require.NoError(t, place.Names.Set("b.lantern.example", "b.lantern.example. 1 IN A 127.0.0.1"))
			}},
	} {
		t.Run(name, func(t *testing.T) {
			if c.before != nil {
				c.before()
				defer c.afterward()
			}
			place.Faults.Set(c.fault)
			defer place.Faults.Set(ca.Fault{})
			o := ended(t, r.Client, begin(t, r.Client, "booking", false))
			require.NotNil(t, o.Failure)
			assert.Equal(t, c.kind, o.Failure.Kind)
			assert.Contains(t, o.Failure.Words, c.words)
			assert.NotEmpty(t, o.Failure.Advice)
			assert.Equal(t, c.again, o.Failure.Again != nil)
			assert.Nil(t, o.Certificate)
			none, err := r.Client.GetOrderCertificateWithResponse(t.Context(), o.Number)
			require.NoError(t, err)
			assert.Equal(t, 409, none.StatusCode())
			m, err := r.Client.GetMandateWithResponse(t.Context(), "booking")
			require.NoError(t, err)
			assert.Nil(t, m.JSON200.InForce)
			assert.True(t, m.JSON200.NextAt.After(time.Now().Add(30*time.Minute)), "no tight loop")
			var left int
			r.Query(t, "select count(*) from publications", &left)
			assert.Zero(t, left)
			assert.Zero(t, place.Pending(), "what failed does not wait at the CA")
		})
	}
}

// TestChangedTermsAreShownAndAgreedTo lets a CA change its terms under a running
// service, and gives its test directory terms of its own.
func TestChangedTermsAreShownAndAgreedTo(t *testing.T) {
	place, r := town(t, "a.lantern.example")
	assert.Regexp(t, `^insegna/\S+ \(net/http of go1\.`, place.Agent(), "its HTTP library is named too")
	place.ChangeTerms()
	o := ended(t, r.Client, begin(t, r.Client, "booking", false))
	require.NotNil(t, o.Failure)
	assert.Equal(t, "userActionRequired", o.Failure.Kind)
	assert.Contains(t, o.Failure.Words, "the terms of service have changed (see https://")
	assert.Contains(t, o.Failure.Words, "/agreement)")
	assert.Contains(t, o.Failure.Advice, "insegna ca agree harbour")
	list, err := r.Client.ListCasWithResponse(t.Context())
	require.NoError(t, err)
	shown := list.JSON200.Items[0]
	assert.True(t, strings.HasSuffix(shown.Terms, "/terms-2"), "without a restart: %s", shown.Terms)
	stale, err := r.Client.AgreeToTermsWithResponse(t.Context(), "harbour", client.Agreement{Terms: shown.Account.Terms})
	require.NoError(t, err)
	assert.Equal(t, 409, stale.StatusCode(), "nobody agrees to what the CA does not show any more")
	page, err := (&http.Client{Transport: place.Transport}).Get(strings.TrimSuffix(place.Directory(),
		"directory") + "agreement")
	require.NoError(t, err)
	_ = page.Body.Close()
	agree(t, r.Client, "harbour")
	execSQL(t, r.Database, "update mandates set failures = 0")
	o = ended(t, r.Client, begin(t, r.Client, "booking", false))
	require.Nil(t, o.Failure, "%+v", o.Failure)

	other := catest.Start(t)
	other.ChangeTerms()
	text, root := orderEstate(place, place.HTTPPort, "a.lantern.example")
	text = strings.Replace(text, "test_directory: "+fmt.Sprintf("%q", place.Directory()),
		"test_directory: "+fmt.Sprintf("%q", other.Directory()), 1)
	applied, err := r.Client.ApplyEstateWithResponse(t.Context(), client.EstateFile{File: "estate.yaml",
		Text: strings.Replace(text, "roots: [root.pem], resolver", "roots: [root.pem, other.pem], resolver", 1),
		Attachments: &map[string]string{"root.pem": string(certs.PEM(root.Raw)),
			"other.pem": string(certs.PEM(other.Root.Raw))}})
	require.NoError(t, err)
	require.NotNil(t, applied.JSON200, string(applied.Body))
	list, err = r.Client.ListCasWithResponse(t.Context())
	require.NoError(t, err)
	require.NotNil(t, list.JSON200.Items[0].TestTerms, "%+v", list.JSON200.Items[0])
	unread, err := r.Client.AgreeToTermsWithResponse(t.Context(), "harbour",
		client.Agreement{Terms: list.JSON200.Items[0].Terms})
	require.NoError(t, err)
	assert.Contains(t, string(unread.Body), "the terms of the test directory of harbour are at")
	agree(t, r.Client, "harbour")
}

// TestTheAccountAtACA changes its contact and its key, takes certificates back by the
// account and by their own key, orders another in the same step, and ends it.
func TestTheAccountAtACA(t *testing.T) {
	t.Parallel()
	place, r := town(t, "a.lantern.example")
	text, root := orderEstate(place, place.HTTPPort, "a.lantern.example")
	text = strings.Replace(strings.Replace(text, "certificates: 3", "certificates: 30", 1), "proof: {by: listener}", "proof: {by: listener}, reuse_key: true", 1)
	r.Apply(t, strings.Replace(text, "ops@", "night@", 1), root)
	account := func() client.Account {
		list, err := r.Client.ListAccountsWithResponse(t.Context())
		require.NoError(t, err)
		require.Len(t, list.JSON200.Items, 1)
		return list.JSON200.Items[0]
	}
	was := account()
	assert.Equal(t, []any{"harbour", "mailto:ops@lantern.example", "mailto:night@lantern.example", true},
		[]any{was.Ca, was.Contact, was.ContactDeclared, was.Declared})
	told, err := r.Client.TellContactWithResponse(t.Context(), "harbour")
	require.NoError(t, err)
	require.Equal(t, 204, told.StatusCode(), string(told.Body))
	assert.Equal(t, account().ContactDeclared, account().Contact)
	assert.Equal(t, []string{"mailto:night@lantern.example"}, place.Contact(was.Url))

	key := func() (v []byte) { r.Query(t, "select encrypted from accounts", &v); return v }
	first := key()
	roll := func() (int, string) {
		got, err := r.Client.RollKeyWithResponse(t.Context(), "harbour")
		require.NoError(t, err)
		return got.StatusCode(), string(got.Body)
	}
	status, body := roll()
	require.Equal(t, 204, status, body)
	assert.NotEqual(t, first, key())
	one := ended(t, r.Client, begin(t, r.Client, "booking", false))
	require.Nil(t, one.Failure, "with the new key: %+v", one.Failure)

	for name, lose := range map[string]ca.Fault{"done, and its answer lost": {Lose: "/key-change"}, "never done": {Storm: func(path string) ca.Trouble {
		if path == "/key-change" || path == "/new-account" {
			return ca.Busy
		}
		return ca.None
	}}} {
		place.Faults.Set(lose)
		status, body = roll()
		place.Faults.Set(ca.Fault{})
		if name == "never done" {
			assert.Equal(t, 409, status, body)
			assert.True(t, *account().KeyOpen)
			_, body = roll()
			assert.Contains(t, body, "is being given a new key")
			r.Query(t, "update accounts set next_at = now() - interval '1 hour' returning id", new(int64))
		}
		o := ended(t, r.Client, begin(t, r.Client, "booking", false))
		require.Nil(t, o.Failure, "%s: %+v", name, o.Failure)
		assert.Nil(t, account().KeyOpen, name)
	}

	revoke := func(number int64, b client.OrderRevocation) *client.RevokedOrder {
		got, err := r.Client.RevokeOrderWithResponse(t.Context(), number, b)
		require.NoError(t, err)
		require.NotNil(t, got.JSON200, string(got.Body))
		return got.JSON200
	}
	public := func(number int64) (v []byte) {
		r.Query(t, "select public from orders where id = $1", &v, number)
		return v
	}
	second := ended(t, r.Client, begin(t, r.Client, "booking", false))
	assert.Equal(t, public(one.Number), public(second.Number), "the key is used again")
	v := revoke(second.Number, client.OrderRevocation{Reason: client.OrderRevocationReasonKeyCompromise, Replace: ptr(true)})
	assert.Equal(t, []any{"keyCompromise", true}, []any{*v.Order.RevokedFor, v.Order.RevokedAt != nil})
	third := ended(t, r.Client, *v.Next)
	require.Nil(t, third.Failure, "%+v", third.Failure)
	assert.NotEqual(t, public(second.Number), public(third.Number), "never again after it was taken back")
	assert.Equal(t, 1, place.RevokedFor(*second.Certificate))
	revoke(second.Number, client.OrderRevocation{Reason: client.OrderRevocationReasonSuperseded}) // again, as after a lost answer
	assert.Equal(t, 1, place.RevokedFor(*second.Certificate))
	held, err := r.Client.EndAccountWithResponse(t.Context(), "harbour", nil)
	require.NoError(t, err)
	assert.Contains(t, string(held.Body), "mandates order from harbour (1)")
	assert.Nil(t, account().EndedAt, "a mandate orders from it")
	done, err := r.Client.EndAccountWithResponse(t.Context(), "harbour", &client.EndAccountParams{Used: ptr(true)})
	require.NoError(t, err)
	require.Equal(t, 204, done.StatusCode(), string(done.Body))
	assert.NotNil(t, account().EndedAt)
	assert.Empty(t, key(), "its key is destroyed")
	lost, err := r.Client.RevokeOrderWithResponse(t.Context(), third.Number, client.OrderRevocation{Reason: client.OrderRevocationReasonSuperseded})
	require.NoError(t, err)
	assert.Contains(t, string(lost.Body), "--by-key")
	revoke(third.Number, client.OrderRevocation{Reason: client.OrderRevocationReasonSuperseded, ByKey: ptr(true)})
	assert.Equal(t, 4, place.RevokedFor(*third.Certificate))
	none, err := r.Client.BeginOrderWithResponse(t.Context(), client.OrderRequest{Mandate: "booking"})
	require.NoError(t, err)
	assert.Contains(t, string(none.Body), "nobody has agreed to the terms of harbour yet")
	agree(t, r.Client, "harbour")
	assert.NotEqual(t, was.Url, account().Url)
	last := ended(t, r.Client, begin(t, r.Client, "booking", false))
	require.Nil(t, last.Failure, "with a new account: %+v", last.Failure)
}

// TestKilledAtEveryStep kills the service with SIGKILL at every request of an
// order, when the CA has done it and before its answer arrives, and starts it
// again: one order, one certificate, and the key that fits it.
func TestKilledAtEveryStep(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	web := httptest.NewServer(http.FileServer(http.Dir(folder)))
	defer web.Close()
	port := int(netip.MustParseAddrPort(web.Listener.Addr().String()).Port())
	place := catest.Start(t, func(c *ca.Config) { c.HTTPPort = port })
	listen, dsn, data := servicetest.FreeAddress(t), servicetest.Database(t), t.TempDir()
	start := func() *servicetest.Process {
		return servicetest.StartProcess(t, listen, "--data", data, "--database", dsn)
	}
	p := start()
	cl, err := client.NewClientWithResponses(p.URL + "/api/v1")
	require.NoError(t, err)
	text, root := orderEstate(place, port, "a.lantern.example")
	for old, next := range map[string]string{"certificates: 3": "certificates: 100",
		"by: listener": "by: http, servers: [quay], folder: " + folder,
		"name: quay,":  "name: quay, kind: nginx, reach: {by: local},"} {
		text = strings.Replace(text, old, next, 1)
	}
	applied, err := cl.ApplyEstateWithResponse(t.Context(), servicetest.File(text, root))
	require.NoError(t, err)
	require.NotNil(t, applied.JSON200, string(applied.Body))
	agree(t, cl, "harbour")
	issued, steps := 0, 0
	for at := 1; ; at++ {
		var met atomic.Int64
		dead := make(chan struct{})
		running := p
		place.Faults.Set(ca.Fault{BeforeReply: func(path string) {
			if path != "/directory" && path != "/new-nonce" && met.Add(1) == int64(at) {
				running.Kill()
				close(dead)
			}
		}})
		orders := place.Orders()
		begun, err := cl.BeginOrderWithResponse(t.Context(), client.OrderRequest{Mandate: "booking"})
		if err == nil { // else it died before it could answer
			require.NotNil(t, begun.JSON201, string(begun.Body))
		}
		select {
		case <-dead:
			steps++
			place.Faults.Set(ca.Fault{})
			p = start()
		case <-ran(t, cl, issued+1):
			place.Faults.Set(ca.Fault{})
		}
		newest, err := cl.ListOrdersWithResponse(t.Context(), &client.ListOrdersParams{})
		require.NoError(t, err)
		require.Len(t, newest.JSON200.Items, issued+1)
		o := ended(t, cl, newest.JSON200.Items[0].Number)
		require.Nil(t, o.Failure, "killed at request %d: %+v", at, o.Failure)
		issued++
		assert.Len(t, place.Issued(), issued, "killed at request %d", at)
		assert.Equal(t, orders+1, place.Orders(), "killed at request %d", at)
		left, err := filepath.Glob(folder + "/.well-known/acme-challenge/*")
		require.NoError(t, err)
		assert.Empty(t, left, "killed at request %d", at)
		if met.Load() < int64(at) {
			break // the order had no such request: every step was met
		}
	}
	assert.GreaterOrEqual(t, steps, 7, "order, authorization, challenge, polls, finalize, certificate")
}

// ran closes when so many orders have ended; never when the service dies.
func ran(t *testing.T, c *client.ClientWithResponses, n int) <-chan struct{} {
	done := make(chan struct{})
	go func() {
		for range 600 {
			list, err := c.ListOrdersWithResponse(t.Context(), &client.ListOrdersParams{})
			if err != nil {
				return
			}
			if list.JSON200 != nil && len(list.JSON200.Items) == n && list.JSON200.Items[0].FinishedAt != nil {
				close(done)
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	}()
	return done
}

// TestNoSecretIsEverShown runs an order with every kind of secret as a process
// and searches all that was said, answered and logged for each.
func TestNoSecretIsEverShown(t *testing.T) {
	t.Parallel()
	mac := []byte("the MAC key of a customer, 32 byte")
	proofs := servicetest.FreeAddress(t)
	place := catest.Start(t, func(c *ca.Config) {
		c.HTTPPort = int(netip.MustParseAddrPort(proofs).Port())
		c.MACKeys = map[string][]byte{"customer-1": mac}
	})
	dsn, data := servicetest.Database(t), t.TempDir()
	p := servicetest.StartProcess(t, servicetest.FreeAddress(t), "--data", data, "--database", dsn, "--proofs", proofs,
		"--log-level", "debug")
	var said strings.Builder
	transport := roundTrip(func(r *http.Request) (*http.Response, error) {
		resp, err := http.DefaultTransport.RoundTrip(r)
		if err == nil {
			resp.Body = tee(resp.Body, &said)
			for k, v := range resp.Header {
				if k != "Set-Cookie" {
					said.WriteString(strings.Join(v, " "))
				}
			}
		}
		return resp, err
	})
	cl, err := client.NewClientWithResponses(p.URL+"/api/v1", client.WithHTTPClient(&http.Client{Transport: transport}))
	require.NoError(t, err)
	text, root := orderEstate(place, int(netip.MustParseAddrPort(proofs).Port()), "a.lantern.example")
	text = strings.Replace(text, "contact:",
		"external_account: {key_id: customer-1, credential: harbour-mac}, contact:", 1)
	_, err = cl.ApplyEstateWithResponse(t.Context(), servicetest.File(text, root))
	require.NoError(t, err)
	put, err := cl.AddCredentialWithResponse(t.Context(), "harbour-mac", client.CredentialValue{Value: string(mac)})
	require.NoError(t, err)
	require.Equal(t, 204, put.StatusCode(), string(put.Body))
	agree(t, cl, "harbour")
	place.Faults.Set(ca.Fault{OtherKey: true})
	require.NotNil(t, ended(t, cl, begin(t, cl, "booking", false)).Failure)
	place.Faults.Set(ca.Fault{})
	require.Nil(t, ended(t, cl, begin(t, cl, "booking", false)).Failure)
	for _, ask := range []func() error{
		func() error { _, err := cl.ListCredentialsWithResponse(t.Context()); return err },
		func() error { _, err := cl.ListJournalWithResponse(t.Context(), nil); return err },
		func() error { _, err := cl.ListTokensWithResponse(t.Context()); return err },
		func() error { _, err := cl.ListMandatesWithResponse(t.Context(), nil); return err },
		func() error { _, err := cl.ListOrdersWithResponse(t.Context(), nil); return err },
		func() error { _, err := cl.CheckMandateWithResponse(t.Context(), "booking"); return err },
	} {
		require.NoError(t, ask())
	}
	key, err := os.ReadFile(data + "/safe.key")
	require.NoError(t, err)
	p.Signal(os.Interrupt)
	all := said.String() + p.Log()
	assert.Contains(t, all, "booking")
	secrets := map[string]string{"MAC key": string(mac), "passphrase": servicetest.KeeperPassphrase,
		"token": servicetest.Token(p.URL)}
	for line := range strings.Lines(string(key)) {
		if f := strings.Fields(line); len(f) > 0 && !strings.HasPrefix(line, "#") && len(f[len(f)-1]) > 20 {
			secrets["safe key"] = f[len(f)-1]
		}
	}
	assert.NotEmpty(t, secrets["safe key"])
	for what, s := range secrets {
		assert.NotContains(t, all, s, what)
	}
	assert.NotContains(t, all, "PRIVATE KEY")
	for rest := []byte(all); ; {
		var b *pem.Block
		if b, rest = pem.Decode(rest); b == nil {
			break
		}
		assert.Equal(t, "CERTIFICATE", b.Type)
	}
}
