package service_test

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/acme/proof"
	"insegna.example/internal/catest"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/service"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/ca"
)

// trials gives what a pre-flight tried, as "name step code".
func trials(t *testing.T, c *client.ClientWithResponses, mandate string) (out []string, list []client.Trial) {
	got, err := c.CheckMandateWithResponse(t.Context(), mandate)
	require.NoError(t, err)
	require.NotNil(t, got.JSON200, string(got.Body))
	for _, x := range got.JSON200.Items {
		out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s %s", x.Name, x.Step, x.Code)))
		assert.Equal(t, x.Code == "", x.Remedy == "", "%+v", x)
	}
	return out, got.JSON200.Items
}

// TestProvedInTLSAndForAddresses orders by tls-alpn-01, for a host, for addresses, and
// by a profile of the CA; over http addresses too.
func TestProvedInTLSAndForAddresses(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	tlsPort := netip.MustParseAddrPort(l.Addr().String()).Port()
	place, r := town(t, "a.lantern.example", func(c *ca.Config) {
		c.TLSPort, c.Profiles = int(tlsPort), map[string]time.Duration{"short": 6 * 24 * time.Hour, "classic": 90 * 24 * time.Hour}
	})
	text, root := orderEstate(place, place.HTTPPort, "a.lantern.example")
	text = strings.Replace(text, "http_port:", fmt.Sprintf("tls_port: %d, http_port:", tlsPort), 1)
	text = strings.Replace(text, "certificates: 3", "certificates: 30", 1) +
		"  - {name: tls, names: [a.lantern.example, 127.0.0.1], ca: harbour, proof: {by: tls-alpn}, profile: short}\n" +
		"  - {name: plain, names: [127.0.0.1], ca: harbour, proof: {by: listener}}\n" +
		"  - {name: far, names: [a.lantern.example], ca: harbour, proof: {by: tls-alpn}, profile: long}\n"
	r.Apply(t, text, root)

	require.NoError(t, l.Close())
	said, list := trials(t, r.Client, "tls")
	assert.Equal(t, []string{"a.lantern.example profile", "a.lantern.example CAA", "a.lantern.example port port-closed", "127.0.0.1 port port-closed"}, said)
	assert.Contains(t, list[2].Remedy, "insegna serve --proofs-tls")
	other := pkitest.Leaf(place.Root, "a.lantern.example").TLS()
	astray, err := tls.Listen("tcp", l.Addr().String(), &tls.Config{Certificates: []tls.Certificate{other}})
	require.NoError(t, err)
	go func() {
		for c, err := astray.Accept(); err == nil; c, err = astray.Accept() {
			_ = c.(*tls.Conn).Handshake()
		}
	}()
	said, list = trials(t, r.Client, "tls")
	assert.Equal(t, "a.lantern.example tls tls-astray", said[2], "%+v", list)
	require.NoError(t, astray.Close())

	l, err = net.Listen("tcp", l.Addr().String())
	require.NoError(t, err)
	go func() { _ = httpapi.ProofsTLS(t.Context(), l, r.Service) }()
	said, list = trials(t, r.Client, "tls")
	assert.Equal(t, []string{"a.lantern.example profile", "a.lantern.example CAA", "a.lantern.example tls", "127.0.0.1 tls"}, said, "%+v", list)
	said, _ = trials(t, r.Client, "far")
	assert.Contains(t, said, "a.lantern.example profile no-profile")
	said, _ = trials(t, r.Client, "plain")
	assert.Equal(t, []string{"127.0.0.1 file"}, said, "no CAA of an address")

	for mandate, names := range map[string][]string{"tls": {"a.lantern.example", "127.0.0.1"}, "plain": {"127.0.0.1"}} {
		o := ended(t, r.Client, begin(t, r.Client, mandate, false))
		require.Nil(t, o.Failure, "%s: %+v", mandate, o.Failure)
		got, err := r.Client.GetOrderCertificateWithResponse(t.Context(), o.Number)
		require.NoError(t, err)
		chain, err := certs.ReadCertificates([]byte(got.JSON200.Chain))
		require.NoError(t, err)
		assert.Equal(t, names, chain[0].Names())
		assert.Equal(t, mandate == "tls", chain[0].NotAfter.Sub(chain[0].NotBefore) < 7*24*time.Hour, "the profile's life")
	}
	o := ended(t, r.Client, begin(t, r.Client, "far", false))
	require.NotNil(t, o.Failure)
	assert.Equal(t, "invalidProfile", o.Failure.Kind)
	assert.Contains(t, o.Failure.Advice, "insegna ca list")
	var left int
	r.Query(t, "select count(*) from publications", &left)
	assert.Zero(t, left)
	_, err = r.AnsweringTLS(t.Context(), "a.lantern.example")
	assert.ErrorIs(t, err, service.ErrNotFound, "nothing is shown after the order")
}

// TestAProgramIsTriedBeforeTheOrder holds a mandate whose records a program puts up, with
// and without the folder of programs.
func TestAProgramIsTriedBeforeTheOrder(t *testing.T) {
	t.Parallel()
	place := catest.Start(t)
	programs := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(programs, "idle"), []byte("#!/bin/sh\nexit 0\n"), 0o755))
	text, root := orderEstate(place, place.HTTPPort, "a.lantern.example")
	text = strings.Replace(text, "by: listener", fmt.Sprintf("by: program, program: idle, await: [%q]", place.Names.Address()), 1)
	without := servicetest.Start(t)
	without.Apply(t, text, root)
	got, err := without.Client.CheckMandateWithResponse(t.Context(), "booking")
	require.NoError(t, err)
	assert.Equal(t, 409, got.StatusCode())
	assert.Contains(t, string(got.Body), "insegna serve --programs FOLDER")
	r := servicetest.Start(t, func(c *service.Config) { c.Programs = programs })
	r.Apply(t, text, root)
	require.NoError(t, place.Names.Set("lantern.example", "lantern.example. 1 IN SOA ns. ops. 1 1 1 1 1"))
	said, _ := trials(t, r.Client, "booking")
	assert.Equal(t, []string{"a.lantern.example CAA", "a.lantern.example record name-server-lags"}, said, "it does not do what it says")
	assert.Zero(t, place.Orders())
}

// TestTheNextCA orders from the CAs of a mandate in their order, and says why it is not
// the first.
func TestTheNextCA(t *testing.T) {
	t.Parallel()
	_, port, handler := listening(t)
	first := catest.Start(t, func(c *ca.Config) { c.HTTPPort = port })
	second := catest.Start(t, func(c *ca.Config) { c.HTTPPort = port })
	r := servicetest.Start(t)
	var h http.Handler = httpapi.Proofs(r.Service)
	handler.Store(&h)
	text, root := orderEstate(first, port, "a.lantern.example")
	text = strings.Replace(text, "certificates: 3", "certificates: 2", 1)
	line := text[strings.Index(text, "  - {name: harbour"):strings.Index(text, "mandates:")]
	next := strings.ReplaceAll(strings.Replace(line, "name: harbour", "name: beacon", 1), first.Directory(), second.Directory())
	text = strings.Replace(text, line, line+strings.Replace(next, "root.pem", "other.pem", 1), 1)
	text = strings.Replace(text, "ca: harbour,", "ca: harbour, otherwise: [beacon],", 1)
	applied, err := r.Client.ApplyEstateWithResponse(t.Context(), client.EstateFile{File: "estate.yaml", Text: text,
		Attachments: &map[string]string{"root.pem": string(certs.PEM(root.Raw)), "other.pem": string(certs.PEM(second.Root.Raw))}})
	require.NoError(t, err)
	require.NotNil(t, applied.JSON200, string(applied.Body))
	order := func() (*client.Order, string) {
		o := ended(t, r.Client, begin(t, r.Client, "booking", false))
		i := slices.IndexFunc(o.Steps, func(s client.OrderStep) bool { return s.Step == "source" })
		if i < 0 {
			return o, ""
		}
		return o, o.Steps[i].Words
	}
	list, err := r.Client.ListCasWithResponse(t.Context())
	require.NoError(t, err)
	i := slices.IndexFunc(list.JSON200.Items, func(v client.CA) bool { return v.Name == "beacon" })
	agreed, err := r.Client.AgreeToTermsWithResponse(t.Context(), "beacon", client.Agreement{Terms: list.JSON200.Items[i].Terms})
	require.NoError(t, err)
	require.NotNil(t, agreed.JSON200, string(agreed.Body))
	o, why := order()
	require.Nil(t, o.Failure, "%+v", o.Failure)
	assert.Equal(t, "ordered from beacon; nobody has agreed to the terms of harbour yet", why)
	m, err := r.Client.GetMandateWithResponse(t.Context(), "booking")
	require.NoError(t, err)
	assert.Greater(t, time.Until(*m.JSON200.NextAt), time.Hour, "that another CA gave it is no reason for one more: %s", m.JSON200.NextWhy)
	agreedFirst, err := r.Client.AgreeToTermsWithResponse(t.Context(), "harbour", client.Agreement{Terms: list.JSON200.Items[1-i].Terms})
	require.NoError(t, err)
	require.NotNil(t, agreedFirst.JSON200, string(agreedFirst.Body))

	// The one that gave it is asked when it wants it renewed, whatever the first is like.
	execSQL(t, r.Database, "update accounts set rest_until = now() + interval '1 day' where ca = 'harbour'")
	execSQL(t, r.Database, "update mandates set next_at = now() + interval '50 days', by_window = false, ask_at = now()")
	second.Faults.Set(ca.Fault{Renew: true})
	require.NoError(t, r.BeginDue(t.Context()))
	var note string
	r.Query(t, "select coalesce((select note from events where kind = 'asked'), '')", &note)
	assert.Contains(t, note, "beacon asks for renewal on")
	second.Faults.Set(ca.Fault{})
	execSQL(t, r.Database, "update accounts set rest_until = null")
	execSQL(t, r.Database, "update mandates set next_at = now() + interval '50 days', ask_at = now() + interval '1 day'")

	first.Faults.Set(ca.Fault{OtherNames: true})
	o, why = order()
	require.NotNil(t, o.Failure)
	assert.Empty(t, why, "the first is tried first")
	o, why = order()
	require.Nil(t, o.Failure, "%+v", o.Failure)
	assert.Contains(t, why, "ordered from beacon; harbour failed: the certificate is for elsewhere.example")
	first.Faults.Set(ca.Fault{})
	for range 2 {
		o, why = order()
		require.Nil(t, o.Failure, "%+v", o.Failure)
		assert.Empty(t, why, "after a certificate the first is asked again")
	}
	spent, err := r.Client.BeginOrderWithResponse(t.Context(), client.OrderRequest{Mandate: "booking"})
	require.NoError(t, err)
	assert.Contains(t, string(spent.Body), "the budget of harbour is spent: 2 of 2 certificates", "and that of the other too")

	third := strings.Replace(text, line, strings.Replace(line, "name: harbour", "name: third", 1)+line, 1)
	third = strings.Replace(third, "otherwise: [beacon]", "otherwise: [third]", 1)
	apply := func(text string) {
		v, err := r.Client.ApplyEstateWithResponse(t.Context(), client.EstateFile{File: "estate.yaml", Text: text,
			Attachments: &map[string]string{"root.pem": string(certs.PEM(root.Raw)), "other.pem": string(certs.PEM(second.Root.Raw))}})
		require.NoError(t, err)
		require.NotNil(t, v.JSON200, string(v.Body))
	}
	third = strings.ReplaceAll(third, "certificates: 2", "certificates: 20")
	apply(third)
	reached, goOn := make(chan struct{}), make(chan struct{})
	var once sync.Once
	first.Faults.Set(ca.Fault{BeforeReply: func(path string) {
		if strings.HasPrefix(path, "/cert/") {
			once.Do(func() { close(reached); <-goOn })
		}
	}})
	number := begin(t, r.Client, "booking", false)
	<-reached
	apply(strings.Replace(third, "ca: harbour, otherwise", "ca: beacon, otherwise", 1))
	close(goOn)
	require.Nil(t, ended(t, r.Client, number).Failure)
	m, err = r.Client.GetMandateWithResponse(t.Context(), "booking")
	require.NoError(t, err)
	assert.Equal(t, "what it asks for has changed", m.JSON200.NextWhy, "another CA is first by now, and the one it came from is none of its own any more")
}

// TestEveryCAOfAMandateIsTried tries before an order what each CA of the mandate will
// try, with its own eyes, and says for which something is in the way.
func TestEveryCAOfAMandateIsTried(t *testing.T) {
	t.Parallel()
	_, port, handler := listening(t)
	first := catest.Start(t, func(c *ca.Config) { c.HTTPPort = port })
	second := catest.Start(t, func(c *ca.Config) { c.HTTPPort = port })
	r := servicetest.Start(t)
	var h http.Handler = httpapi.Proofs(r.Service)
	handler.Store(&h)
	text, root := orderEstate(first, port, "a.lantern.example")
	line := text[strings.Index(text, "  - {name: harbour"):strings.Index(text, "mandates:")]
	next := strings.NewReplacer("name: harbour", "name: beacon", first.Directory(), second.Directory(),
		first.Names.Address(), second.Names.Address()).Replace(line)
	text = strings.Replace(strings.Replace(text, line, line+next, 1), "ca: harbour,", "ca: harbour, otherwise: [beacon],", 1)
	r.Apply(t, text, root)
	tried := func() (out []string) {
		_, list := trials(t, r.Client, "booking")
		for _, x := range list {
			out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s %s", x.Ca, x.Step, x.Code)))
		}
		return out
	}
	well := tried()
	assert.Contains(t, well, "harbour CAA")
	assert.Contains(t, well, "beacon CAA")
	assert.Zero(t, len(well)%2, "as much for each: %v", well)
	const zone = "lantern.example. 1 IN SOA ns. ops. 1 1 1 1 1"
	require.NoError(t, second.Names.Set("lantern.example", zone, "a.lantern.example. 1 IN A 127.0.0.1",
		`lantern.example. 1 IN CAA 0 issue "elsewhere.example"`))
	forbidden := tried()
	assert.Contains(t, forbidden, "harbour CAA", "the first sees no such record: %v", forbidden)
	assert.NotContains(t, forbidden, "beacon CAA")
	assert.Zero(t, first.Orders()+second.Orders(), "nothing was ordered")
	var stands int
	r.Query(t, "select count(*) from probes", &stands)
	assert.Zero(t, stands, "what was put up to try is taken down")
}

// TestRecordsAreLeftForTheNextOrder has a mandate's records stay for its next order, go
// with that one's, and all go with the mandate; a rehearsal leaves none.
func TestRecordsAreLeftForTheNextOrder(t *testing.T) {
	t.Parallel()
	place := catest.Start(t)
	var mu sync.Mutex
	stands := map[string]bool{}
	calls := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var body struct{ Act, Record, Value string }
		assert.NoError(t, json.NewDecoder(r.Body).Decode(&body))
		mu.Lock()
		defer mu.Unlock()
		delete(stands, body.Value)
		if body.Act == proof.Publish {
			stands[body.Value] = true
		}
		var records []string
		for v := range stands {
			records = append(records, fmt.Sprintf("%s. 1 IN TXT %q", body.Record, v))
		}
		assert.NoError(t, place.Names.Set(body.Record, records...))
	}))
	t.Cleanup(calls.Close)
	standing := func() []string {
		mu.Lock()
		defer mu.Unlock()
		return slices.Sorted(maps.Keys(stands))
	}
	r := servicetest.Start(t)
	text, root := orderEstate(place, place.HTTPPort, "a.lantern.example")
	text = strings.Replace(text, "by: listener", fmt.Sprintf("by: call, url: %q, keep: true, await: [%q]", calls.URL, place.Names.Address()), 1)
	require.NoError(t, place.Names.Set("lantern.example", "lantern.example. 1 IN SOA ns. ops. 1 1 1 1 1"))
	r.Apply(t, text, root)
	agree(t, r.Client, "harbour")
	first := ended(t, r.Client, begin(t, r.Client, "booking", false))
	require.Nil(t, first.Failure, "%+v", first.Failure)
	left := standing()
	require.Len(t, left, 1, "it is left")
	i := slices.IndexFunc(first.Steps, func(s client.OrderStep) bool { return s.Step == "withdraw" })
	require.GreaterOrEqual(t, i, 0)
	assert.Equal(t, "the records are left for the next order, as the mandate says", first.Steps[i].Words)
	tried := ended(t, r.Client, begin(t, r.Client, "booking", true))
	require.Nil(t, tried.Failure, "%+v", tried.Failure)
	assert.Equal(t, left, standing(), "a rehearsal leaves none")
	second := ended(t, r.Client, begin(t, r.Client, "booking", false))
	require.Nil(t, second.Failure, "%+v", second.Failure)
	assert.Len(t, standing(), 2)
	var shared int
	r.Query(t, `with also as (insert into publications (order_id, kind, name, token, content)
		select $1, kind, name, token, content from publications where order_id = $2 returning 1) select count(*) from also`, &shared, second.Number, first.Number)
	require.Equal(t, 1, shared, "as where a CA asks for the same record again")
	require.NoError(t, r.BeginDue(t.Context()))
	assert.Len(t, standing(), 2, "what stands for the newest too stays")
	third := ended(t, r.Client, begin(t, r.Client, "booking", false))
	require.Nil(t, third.Failure, "%+v", third.Failure)
	require.Len(t, standing(), 3)
	require.NoError(t, r.BeginDue(t.Context()))
	require.Len(t, standing(), 1, "the records before go, the newest stays")
	assert.NotEqual(t, left, standing())
	require.NoError(t, r.BeginDue(t.Context()))
	assert.Len(t, standing(), 1, "and stays")
	r.Apply(t, strings.Replace(text, "keep: true, ", "", 1), root)
	require.NoError(t, r.BeginDue(t.Context()))
	assert.Empty(t, standing(), "nothing is left that nobody wants kept")
}
