package service_test

import (
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"net/http"
	"slices"
	"strings"
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

// TestADrill has a CA gone, and a key: what hangs on it is rehearsed and then ordered
// elsewhere, with other keys, the worst first; the rest is told to people.
func TestADrill(t *testing.T) {
	t.Parallel()
	_, port, handler := listening(t)
	place := [2]*catest.Town{}
	for i := range place {
		place[i] = catest.Start(t, func(c *ca.Config) { c.HTTPPort = port })
	}
	r := servicetest.Start(t)
	var h http.Handler = httpapi.Proofs(r.Service)
	handler.Store(&h)
	root := pkitest.CA("root", nil)
	strange := pkitest.Leaf(pkitest.CA("Harbour Light Issuing CA", root), "c.lantern.example").TLS()
	at := servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &strange }).Port()
	text := fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: quay, addresses: [127.0.0.1], ports: [%d], without_sni: false}\n"+
		"hosts:\n  - {name: c.lantern.example, at: [quay]}\n  - {name: d.lantern.example, at: [quay]}\ncas:\n", at)
	for i, name := range []string{"harbour", "beacon"} {
		text += fmt.Sprintf("  - {name: %s, directory: %q, test_directory: %[2]q, roots: [%d.pem], resolver: %q, http_port: %d, budget: {certificates: 3, days: 7}}\n", name, place[i].Directory(), i,
			place[i].Names.Address(), port)
	}
	text += "mandates:\n  - {name: one, names: [a.lantern.example], ca: harbour, otherwise: [beacon], proof: {by: listener}, reuse_key: true}\n" +
		"  - {name: lone, names: [b.lantern.example], ca: harbour, proof: {by: listener}}\n  - {name: late, names: [d.lantern.example], ca: harbour, proof: {by: listener}}\n"
	applied, err := r.Client.ApplyEstateWithResponse(t.Context(), client.EstateFile{File: "estate.yaml", Text: text, Attachments: &map[string]string{
		"root.pem": string(certs.PEM(root.Raw)), "0.pem": string(certs.PEM(place[0].Root.Raw)), "1.pem": string(certs.PEM(place[1].Root.Raw))}})
	require.NoError(t, err)
	require.NotNil(t, applied.JSON200, string(applied.Body))
	list, err := r.Client.ListCasWithResponse(t.Context())
	require.NoError(t, err)
	for _, v := range list.JSON200.Items {
		agreed, err := r.Client.AgreeToTermsWithResponse(t.Context(), v.Name, client.Agreement{Terms: v.Terms})
		require.NoError(t, err)
		require.NotNil(t, agreed.JSON200, string(agreed.Body))
	}
	r.Survey(t)
	plan := func(kind client.DrillRequestKind, what string) (*client.Drill, string) {
		d, err := r.Client.PlanDrillWithResponse(t.Context(), client.DrillRequest{Kind: kind, What: what, Hours: 24})
		require.NoError(t, err)
		return d.JSON201, string(d.Body)
	}
	_, said := plan("ca", "nobody")
	assert.Contains(t, said, `there is no CA \"nobody\"`)
	_, said = plan("ca", "beacon")
	assert.Contains(t, said, "nothing hangs on it")
	for _, m := range []string{"one", "lone"} {
		o := ended(t, r.Client, begin(t, r.Client, m, false))
		require.Nil(t, o.Failure, "%+v", o.Failure)
	}
	d, said := plan("ca", "harbour")
	require.NotNil(t, d, said)
	var work []string
	for _, w := range d.Work {
		work = append(work, strings.Join(strings.Fields(w.Mandate+" "+w.Ca+" "+w.Person), " "))
	}
	assert.Equal(t, []string{"one beacon", "c.lantern.example no mandate renews the certificate of this host", "d.lantern.example the mandate late has the name, and is not installed there",
		"lone its mandate names no other CA (otherwise)"}, work)
	assert.Equal(t, []any{3, 0, []client.DrillCA{{Ca: "beacon", Certificates: 1}}}, []any{d.Persons, d.Late, d.ByCa})
	run := func(number int64, rehearsal bool) *client.Drill {
		got, err := r.Client.BeginDrillWithResponse(t.Context(), number, client.DrillBeginning{Rehearsal: rehearsal})
		require.NoError(t, err)
		require.NotNil(t, got.JSON200, string(got.Body))
		var last *client.Drill
		require.Eventually(t, func() bool {
			v, err := r.Client.GetDrillWithResponse(t.Context(), number)
			require.NoError(t, err)
			last = v.JSON200
			return last.Work[0].State == client.DrillWorkStateDone || last.Work[0].State == client.DrillWorkStateFailed
		}, 30*time.Second, 100*time.Millisecond, "%+v", &last)
		return last
	}
	issued := len(place[1].Issued())
	last := run(d.Number, true)
	require.Equal(t, client.DrillWorkStateDone, last.Work[0].State, "%+v", last.Work[0])
	assert.Equal(t, client.DrillWorkStatePlanned, last.Work[3].State)
	m, err := r.Client.GetMandateWithResponse(t.Context(), "one")
	require.NoError(t, err)
	assert.Equal(t, "harbour", m.JSON200.InForce.Ca, "a rehearsal brings nothing into force")
	twice, err := r.Client.BeginDrillWithResponse(t.Context(), d.Number, client.DrillBeginning{})
	require.NoError(t, err)
	assert.Equal(t, 409, twice.StatusCode())
	d, _ = plan("ca", "harbour")
	last = run(d.Number, false)
	o, err := r.Client.GetOrderWithResponse(t.Context(), *last.Work[0].Order)
	require.NoError(t, err)
	assert.Equal(t, "beacon", o.JSON200.Ca)
	i := slices.IndexFunc(o.JSON200.Steps, func(s client.OrderStep) bool { return s.Step == "source" })
	assert.Equal(t, "ordered from beacon; harbour is gone", o.JSON200.Steps[i].Words)
	assert.Len(t, place[1].Issued(), issued+2)

	public := func(order int64) (v []byte) {
		r.Query(t, "select public from orders where id = $1", &v, order)
		return v
	}
	d, said = plan("key", *o.JSON200.Certificate)
	require.NotNil(t, d, said)
	require.Len(t, d.Work, 1, "what has this key, and nothing else of its CA")
	last = run(d.Number, false)
	assert.NotEqual(t, public(o.JSON200.Number), public(*last.Work[0].Order), "though the mandate uses its key again")
	all, err := r.Client.ListDrillsWithResponse(t.Context())
	require.NoError(t, err)
	assert.Len(t, all.JSON200.Items, 3)
	assert.Equal(t, 3, all.JSON200.Items[1].Persons)
	execSQL(t, r.Database, "update drills set at = at - interval '2 days', begun_at = null where id = 1")
	old, err := r.Client.BeginDrillWithResponse(t.Context(), 1, client.DrillBeginning{})
	require.NoError(t, err)
	assert.Contains(t, string(old.Body), "planned more than a day ago")
}

// TestWhatBreaksWithout foresees what breaks for whom when a root or an intermediate goes:
// another chain that is known is named, and what is broken already is not told again.
func TestWhatBreaksWithout(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t)
	root, other := pkitest.CA("Root", nil), pkitest.CA("Other Root", nil)
	issuing := pkitest.CA("Issuing", root)
	cross := func(by *pkitest.Entity, of *pkitest.Entity, serial int64) *pkitest.Entity { // the same key, vouched for by another
		return pkitest.Issue(&x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: of.CommonName()}, NotBefore: pkitest.Now.Add(-time.Hour),
			NotAfter: time.Now().AddDate(1, 0, 0), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign, SubjectKeyId: of.X509().SubjectKeyId}, by, of.Key)
	}
	over := cross(other, issuing, 77)
	leaf := pkitest.Leaf(issuing, "a.lantern.example")
	broken := pkitest.Leaf(issuing, "old.lantern.example", pkitest.Valid(-100*24*time.Hour, -24*time.Hour))
	serve := func(e *pkitest.Entity, rest ...*pkitest.Entity) uint16 {
		pair := e.TLS(rest...)
		return servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &pair }).Port()
	}
	text := fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem, other.pem]}\n  - {name: kiosks, roots: [root.pem]}\nintermediates: [over.pem]\nservers:\n"+
		"  - {name: quay, addresses: [127.0.0.1], ports: [%d], without_sni: false}\n  - {name: pier, addresses: [127.0.0.1], ports: [%d], without_sni: false}\n"+
		"hosts:\n  - {name: a.lantern.example, at: [quay], audiences: [browsers, kiosks]}\n  - {name: old.lantern.example, at: [pier]}\n", serve(leaf, issuing), serve(broken, issuing))
	applied, err := r.Client.ApplyEstateWithResponse(t.Context(), client.EstateFile{File: "estate.yaml", Text: text, Attachments: &map[string]string{
		"root.pem": string(certs.PEM(root.Raw)), "other.pem": string(certs.PEM(other.Raw)), "over.pem": string(certs.PEM(over.Raw))}})
	require.NoError(t, err)
	require.NotNil(t, applied.JSON200, string(applied.Body))
	r.Survey(t)
	without := func(e *pkitest.Entity, audience string) []string {
		p := &client.WithoutCertificateParams{}
		if audience != "" {
			p.Audience = &audience
		}
		got, err := r.Client.WithoutCertificateWithResponse(t.Context(), e.Certificate.Fingerprint.String()[:16], p)
		require.NoError(t, err)
		require.NotNil(t, got.JSON200, string(got.Body))
		assert.Equal(t, 2, got.JSON200.Looked)
		out := []string{}
		for _, b := range got.JSON200.Items {
			out = append(out, fmt.Sprintf("%s %s %s", strings.Join(b.Hosts, ","), b.Audience, strings.Join(b.Helps, ";")))
			assert.NotEmpty(t, b.Why)
		}
		return out
	}
	helps := "a.lantern.example browsers Issuing, from Other Root"
	assert.Equal(t, []string{helps, "a.lantern.example kiosks "}, without(root, ""), "a root gone for all")
	assert.Equal(t, []string{"a.lantern.example kiosks "}, without(root, "kiosks"), "one audience drops it")
	assert.Equal(t, []string{helps}, without(root, "browsers"))
	assert.Equal(t, []string{helps, "a.lantern.example kiosks "}, without(issuing, ""), "an intermediate gone")
	assert.Empty(t, without(other, ""), "what no path goes over")
	for want, ask := range map[string][2]string{"there is no audience": {root.Certificate.Fingerprint.String(), "sailors"}, "is no certificate of a CA": {leaf.Certificate.Fingerprint.String(), ""},
		"there is no certificate": {"0000000000", ""}} {
		p := &client.WithoutCertificateParams{}
		if ask[1] != "" {
			p.Audience = &ask[1]
		}
		got, err := r.Client.WithoutCertificateWithResponse(t.Context(), ask[0], p)
		require.NoError(t, err)
		assert.Contains(t, string(got.Body), want)
	}
}
