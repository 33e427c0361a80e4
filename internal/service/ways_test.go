package service_test

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

// ways is a service with an estate whose clients trust a root, with a CA below it that
// the estate knows.
type ways struct {
	*servicetest.Running
	t        *testing.T
	root, ca *pkitest.Entity
}

// newWays starts it, with mandates.
func newWays(t *testing.T, mandates string) *ways {
	w := &ways{Running: servicetest.Start(t), t: t, root: pkitest.CA("quay root", nil)}
	w.ca = pkitest.CA("quay ca", w.root)
	f := servicetest.File(`estate: Ferries
audiences:
  - {name: browsers, roots: [root.pem]}
intermediates: [ca.pem]
servers:
  - {name: quay, addresses: [127.0.0.1], ports: [1]}
hosts:
  - {name: a.lantern.example, at: [quay]}
cas:
  - {name: desk, by: hand, to: certificates desk, reply_days: 5}
`+mandates, w.root)
	(*f.Attachments)["ca.pem"] = string(certs.PEM(w.ca.Raw))
	resp, err := w.Client.ApplyEstateWithResponse(t.Context(), f)
	require.NoError(t, err)
	require.NotNil(t, resp.JSON200, string(resp.Body))
	return w
}

// given are files for the service.
func given(list ...[]byte) (out []client.GivenFile) {
	for i, data := range list {
		out = append(out, client.GivenFile{Name: "file " + string(rune('a'+i)), Content: data})
	}
	return out
}

// keyText is a key in PEM.
func keyText(t testing.TB, key crypto.Signer) []byte {
	text, err := certs.KeyPEM(key)
	require.NoError(t, err)
	return text
}

// taken takes material in.
func (w *ways) taken(b client.GivenMaterial) *client.TakenCertificate {
	resp, err := w.Client.TakeCertificateWithResponse(w.t.Context(), b)
	require.NoError(w.t, err)
	require.NotNil(w.t, resp.JSON201, string(resp.Body))
	return resp.JSON201
}

// counts are the rows that something not taken must not leave behind.
func (w *ways) counts() (out [3]int) {
	for i, table := range []string{"orders", "mandates", "order_steps"} {
		w.Query(w.t, "select count(*) from "+table, &out[i])
	}
	return out
}

// TestWhatIsTakenInIsTheNewestOfItsMandate takes certificates with their keys in, and
// out again.
func TestWhatIsTakenInIsTheNewestOfItsMandate(t *testing.T) {
	t.Parallel()
	w := newWays(t, "mandates:\n  - {name: booking, names: [b.lantern.example], ca: desk}\n")
	leaf := pkitest.Leaf(w.ca, "a.lantern.example")
	form := certs.Written{Form: certs.FormPKCS12, Passphrase: []byte("kiosk"), Old: true}
	p12, err := form.Store(leaf.Key, pkitest.List(leaf), rand.Reader)
	require.NoError(t, err)
	word := "kiosk"

	v := w.taken(client.GivenMaterial{Files: given(p12), Passphrase: &word})
	assert.Equal(t, client.OrderWayTaken, v.Order.Way)
	assert.Equal(t, "a.lantern.example", v.Order.Mandate)
	assert.Equal(t, leaf.Fingerprint.String(), *v.Order.Certificate)
	assert.Equal(t, []string{"the mandate a.lantern.example was made for it: it reminds you before the certificate ends"}, v.Words)
	chain, err := w.Client.GetOrderCertificateWithResponse(t.Context(), v.Order.Number)
	require.NoError(t, err)
	assert.Equal(t, string(certs.PEM(leaf.Raw))+string(certs.PEM(w.ca.Raw)), chain.JSON200.Chain, "completed from what the estate knows")
	m, err := w.Client.GetMandateWithResponse(t.Context(), "a.lantern.example")
	require.NoError(t, err)
	assert.Equal(t, "by-hand", m.JSON200.Ca)
	require.NotNil(t, m.JSON200.NextAt)
	assert.True(t, m.JSON200.NextAt.Before(leaf.NotAfter))

	newer := pkitest.Leaf(w.ca, "a.lantern.example")
	again := w.taken(client.GivenMaterial{Files: given(keyText(t, newer.Key), certs.PEM(newer.Raw))})
	assert.Equal(t, "a.lantern.example", again.Order.Mandate, "of the same names")
	assert.Empty(t, again.Words)
	lone := pkitest.Leaf(pkitest.CA("stranger", nil), "b.lantern.example")
	doubted := w.taken(client.GivenMaterial{Files: given(keyText(t, lone.Key), certs.PEM(lone.Raw)), Mandate: ptrTo("booking")})
	assert.Equal(t, "booking", doubted.Order.Mandate)
	require.Len(t, doubted.Words, 1)
	assert.Contains(t, doubted.Words[0], "clients (browsers) will not trust it")

	before := w.counts()
	ended := pkitest.Leaf(w.ca, "a.lantern.example", pkitest.Valid(-48*time.Hour, -time.Hour))
	nameless := pkitest.Issue(&x509.Certificate{}, w.ca, nil)
	pair := func(e *pkitest.Entity) client.GivenMaterial {
		return client.GivenMaterial{Files: given(keyText(t, e.Key), certs.PEM(e.Raw))}
	}
	for title, c := range map[string]struct {
		b    client.GivenMaterial
		says string
	}{
		"no passphrase":      {client.GivenMaterial{Files: given(p12)}, "is under a passphrase"},
		"another passphrase": {client.GivenMaterial{Files: given(p12), Passphrase: ptrTo("gull")}, "does not open"},
		"cut":                {client.GivenMaterial{Files: given(p12[:300]), Passphrase: &word}, "cut short"},
		"no key":             {client.GivenMaterial{Files: given(certs.PEM(leaf.Raw))}, "no private key"},
		"key of another":     {client.GivenMaterial{Files: given(certs.PEM(leaf.Raw), keyText(t, newer.Key))}, "belongs to none of the certificates"},
		"ended":              {pair(ended), "the certificate ended on"},
		"a CA":               {pair(w.ca), "is a CA's"},
		"no name":            {pair(nameless), "names no host"},
		"not for the mandate": {client.GivenMaterial{Files: given(keyText(t, leaf.Key), certs.PEM(leaf.Raw)), Mandate: ptrTo("booking")},
			"wants b.lantern.example"},
		"too many files":  {client.GivenMaterial{Files: given(make([][]byte, 21)...)}, "give at most 20"},
		"unknown mandate": {client.GivenMaterial{Files: given(keyText(t, leaf.Key), certs.PEM(leaf.Raw)), Mandate: ptrTo("nobody")}, "no mandate"},
	} {
		resp, err := w.Client.TakeCertificateWithResponse(t.Context(), c.b)
		require.NoError(t, err)
		assert.NotEqual(t, http.StatusInternalServerError, resp.StatusCode(), title)
		assert.Nil(t, resp.JSON201, title)
		assert.Contains(t, string(resp.Body), c.says, title)
	}
	assert.Equal(t, before, w.counts(), "nothing half kept")

	refused, err := w.Client.GiveCertificateWithResponse(t.Context(), again.Order.Number, client.GiveRequest{Form: "pem", Reason: "x"})
	require.NoError(t, err)
	assert.Equal(t, http.StatusForbidden, refused.StatusCode(), "without the permission")
	allow(t, w.Running)
	for title, g := range map[string]client.GiveRequest{"pem": {Form: "pem"}, "apart": {Form: "pem", Apart: ptrTo(true)}, "der": {Form: "der"},
		"pkcs7": {Form: "pkcs7"}, "pkcs12": {Form: "pkcs12", Passphrase: ptrTo("out")}, "locked": {Form: "pem", Passphrase: ptrTo("out")},
		"old": {Form: "pkcs12", Passphrase: ptrTo("out"), Old: ptrTo(true), WithRoot: ptrTo(true)}} {
		g.Reason = "kiosks"
		out, err := w.Client.GiveCertificateWithResponse(t.Context(), again.Order.Number, g)
		require.NoError(t, err)
		require.NotNil(t, out.JSON200, string(out.Body))
		m := &certs.Material{}
		for _, f := range out.JSON200.Files {
			require.NoError(t, m.Read(f.Name, f.Content, []byte("out")), title)
		}
		p, err := m.Pair("")
		require.NoError(t, err, title)
		assert.Equal(t, newer.Fingerprint, p.Leaf.Fingerprint, title)
		assert.Equal(t, map[string]int{"der": 0, "old": 2}[title] == len(p.Others) || len(p.Others) == 1, true, title)
	}
	open, err := w.Client.GiveCertificateWithResponse(t.Context(), again.Order.Number, client.GiveRequest{Form: "pkcs12", Reason: "x"})
	require.NoError(t, err)
	assert.Contains(t, string(open.Body), "under a passphrase, and none was given")
	w.Apply(t, "estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: quay, addresses: [127.0.0.1], ports: [1]}\n"+
		"hosts:\n  - {name: a.lantern.example, at: [quay]}\n", pkitest.CA("another root", nil))
	rootless, err := w.Client.GiveCertificateWithResponse(t.Context(), again.Order.Number, client.GiveRequest{Form: "pem", Reason: "x", WithRoot: ptrTo(true)})
	require.NoError(t, err)
	assert.Equal(t, http.StatusConflict, rootless.StatusCode())
	assert.Contains(t, string(rootless.Body), "the root above quay ca is not known here")
	assert.Contains(t, string(rootless.Body), "declare quay root with roots of a CA or an audience")
	var given, taken int
	w.Query(t, "select count(*) from journal where action = 'certificate.give' and detail::text like '%kiosks%'", &given)
	w.Query(t, "select count(*) from journal where action = 'certificate.take'", &taken)
	assert.Equal(t, [2]int{7, 3}, [2]int{given, taken})
}

// allow lets the keeper take private keys out.
func allow(t *testing.T, r *servicetest.Running) {
	people, err := r.Client.ListPeopleWithResponse(t.Context())
	require.NoError(t, err)
	for _, p := range people.JSON200.Items {
		if p.Role == client.RoleAdmin {
			resp, err := r.Client.ChangePersonWithResponse(t.Context(), p.Name, client.PersonChange{Keys: ptrTo(true)})
			require.NoError(t, err)
			require.Less(t, resp.StatusCode(), 300, string(resp.Body))
		}
	}
}

// signedBy signs a request as a CA would, with its names unless others are said.
func signedBy(t testing.TB, request string, by *pkitest.Entity, change ...func(*x509.Certificate)) []byte {
	block, _ := pem.Decode([]byte(request))
	require.NotNil(t, block)
	r, err := x509.ParseCertificateRequest(block.Bytes)
	require.NoError(t, err)
	require.NoError(t, r.CheckSignature())
	cert := &x509.Certificate{Subject: r.Subject, DNSNames: r.DNSNames, IPAddresses: r.IPAddresses, EmailAddresses: r.EmailAddresses, URIs: r.URIs,
		SerialNumber: pkitest.Leaf(by, "x").SerialNumber, NotBefore: pkitest.Now.Add(-time.Hour), NotAfter: pkitest.Now.Add(80 * 24 * time.Hour),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true}
	for _, c := range change {
		c(cert)
	}
	der, err := x509.CreateCertificate(rand.Reader, cert, by.X509(), r.PublicKey, by.Key)
	require.NoError(t, err)
	return der
}

// waits waits until an order waits for a person, and gives it.
func (w *ways) waits(number int64) (out *client.Order) {
	require.Eventually(w.t, func() bool {
		o, err := w.Client.GetOrderWithResponse(w.t.Context(), number)
		if err == nil && o.JSON200 != nil {
			out = o.JSON200
		}
		return out != nil && out.Waits
	}, 20*time.Second, 50*time.Millisecond)
	return out
}

// late counts the open findings about requests that nobody carries.
func (w *ways) late() (n int) {
	require.NoError(w.t, w.BeginDue(w.t.Context()))
	for _, f := range w.Findings(w.t) {
		if strings.HasPrefix(f, "request-waits") {
			n++
		}
	}
	return n
}

// replied brings something back, and gives what is said.
func (w *ways) replied(b client.Reply) (*client.Order, string) {
	resp, err := w.Client.TakeReplyWithResponse(w.t.Context(), b)
	require.NoError(w.t, err)
	require.NotEqual(w.t, http.StatusInternalServerError, resp.StatusCode(), string(resp.Body))
	return resp.JSON200, string(resp.Body)
}

// TestARequestIsCarriedByHand sends requests out, and brings back everything but the
// right reply before that.
func TestARequestIsCarriedByHand(t *testing.T) {
	t.Parallel()
	w := newWays(t, `mandates:
  - {name: booking, names: [a.lantern.example, 10.1.2.3, ops@lantern.example, "https://lantern.example/ferry"], ca: desk, key: rsa-2048, subject: {organization: Ferries, country: NO}, must_staple: true}
  - {name: other, names: [b.lantern.example], ca: by-hand, reuse_key: true}
`)
	o := w.waits(begin(t, w.Client, "booking", false))
	second := w.waits(begin(t, w.Client, "other", false))
	require.NotNil(t, o.Request)
	block, _ := pem.Decode([]byte(*o.Request))
	r, err := x509.ParseCertificateRequest(block.Bytes)
	require.NoError(t, err)
	assert.Equal(t, "O=Ferries,C=NO", r.Subject.String())
	assert.Equal(t, [][]string{{"a.lantern.example"}, {"ops@lantern.example"}}, [][]string{r.DNSNames, r.EmailAddresses})
	assert.Equal(t, []string{"10.1.2.3", "https://lantern.example/ferry"}, []string{r.IPAddresses[0].String(), r.URIs[0].String()})
	assert.True(t, bytes.Contains(block.Bytes, []byte{0x30, 3, 2, 1, 5}), "it is to ask for a staple")
	rehearsal := true
	refused, err := w.Client.BeginOrderWithResponse(t.Context(), client.OrderRequest{Mandate: "booking", Rehearsal: &rehearsal})
	require.NoError(t, err)
	assert.Contains(t, string(refused.Body), "nobody to rehearse with")

	assert.Equal(t, 2, w.late(), "neither was sent")
	list, err := w.Client.ListOrdersWithResponse(t.Context(), &client.ListOrdersParams{Waiting: ptrTo(true)})
	require.NoError(t, err)
	require.Len(t, list.JSON200.Items, 2)
	sent, err := w.Client.MarkSentWithResponse(t.Context(), o.Number, client.SentRequest{})
	require.NoError(t, err)
	require.NotNil(t, sent.JSON200, string(sent.Body))
	assert.Equal(t, "certificates desk", *sent.JSON200.SentTo, "as the CA's declaration says")
	assert.WithinDuration(t, time.Now().AddDate(0, 0, 5), *sent.JSON200.ExpectedAt, time.Hour)
	assert.Equal(t, 1, w.late(), "one is with its CA")
	var id int64
	w.Query(t, "update orders set expected_at = now() - interval '1 hour' where id = $1 returning id", &id, o.Number)
	assert.Equal(t, 2, w.late(), "the reply has not come")
	past, err := w.Client.MarkSentWithResponse(t.Context(), o.Number, client.SentRequest{ExpectedAt: ptrTo(time.Now().Add(-time.Hour))})
	require.NoError(t, err)
	assert.Contains(t, string(past.Body), "at a time that is past")

	before := w.counts()
	names := func(list ...string) func(*x509.Certificate) { return func(c *x509.Certificate) { c.DNSNames = list } }
	for title, c := range map[string]struct {
		b    client.Reply
		says string
	}{
		"the request itself": {client.Reply{Files: given([]byte(*o.Request))}, "a certificate request, which is what is sent"},
		"to another request": {client.Reply{Files: given(certs.PEM(pkitest.Leaf(w.ca, "a.lantern.example").Raw))}, "the reply to another request"},
		"of another order":   {client.Reply{Files: given(certs.PEM(signedBy(t, *second.Request, w.ca))), Order: &o.Number}, "is the reply to the request of order"},
		"other names":        {client.Reply{Files: given(certs.PEM(signedBy(t, *o.Request, w.ca, names("c.lantern.example"))))}, "ordered was"},
		"one name less":      {client.Reply{Files: given(certs.PEM(signedBy(t, *o.Request, w.ca, func(c *x509.Certificate) { c.URIs = nil })))}, "ordered was"},
		"of an unknown CA":   {client.Reply{Files: given(certs.PEM(signedBy(t, *o.Request, pkitest.CA("gull", nil))))}, "bring the certificate of gull as well"},
		"ended": {client.Reply{Files: given(certs.PEM(signedBy(t, *o.Request, w.ca, func(c *x509.Certificate) {
			c.NotBefore, c.NotAfter = pkitest.Now.Add(-2*time.Hour), pkitest.Now.Add(-time.Hour)
		})))}, "ended at"},
		"nothing": {client.Reply{Files: given([]byte("dear sirs"))}, "neither PEM nor DER"},
	} {
		got, said := w.replied(c.b)
		assert.Nil(t, got, title)
		assert.Contains(t, said, c.says, title)
	}
	assert.Equal(t, before, w.counts(), "nothing half kept")
	assert.True(t, w.waits(o.Number).Waits)
	renewSafe(t, w.Running)

	bag := certs.Written{Form: certs.FormPKCS7}
	der := signedBy(t, *o.Request, w.ca)
	reply, err := certs.Parse(der)
	require.NoError(t, err)
	p7, err := bag.Certificates(append(pkitest.List(w.root, w.ca, pkitest.Leaf(w.ca, "stray.example")), reply))
	require.NoError(t, err)
	got, said := w.replied(client.Reply{Files: given(p7)})
	require.NotNil(t, got, said)
	assert.Equal(t, o.Number, got.Number, "found among all that wait")
	done := ended(t, w.Client, o.Number)
	assert.Equal(t, client.OrderStateIssued, done.State)
	assert.Equal(t, reply.Fingerprint.String(), *done.Certificate)
	got, said = w.replied(client.Reply{Files: given(certs.PEM(der))})
	assert.Nil(t, got)
	assert.Contains(t, said, "which is issued and waits no more")

	got, said = w.replied(client.Reply{Files: given(signedBy(t, *second.Request, w.ca))}) // in DER, its CA known
	require.NotNil(t, got, said)
	assert.Equal(t, client.OrderStateIssued, ended(t, w.Client, second.Number).State)
	third := w.waits(begin(t, w.Client, "other", false))
	key := func(request string) any {
		b, _ := pem.Decode([]byte(request))
		r, err := x509.ParseCertificateRequest(b.Bytes)
		require.NoError(t, err)
		return r.PublicKey
	}
	assert.Equal(t, key(*second.Request), key(*third.Request), "the mandate keeps its key")
	gone, err := w.Client.EndOrderWithResponse(t.Context(), third.Number)
	require.NoError(t, err)
	require.NotNil(t, gone.JSON200, string(gone.Body))
	assert.Equal(t, "given-up", gone.JSON200.Failure.Kind)
	assert.NotNil(t, gone.JSON200.KeyGoneAt)
	again, err := w.Client.GetMandateWithResponse(t.Context(), "other")
	require.NoError(t, err)
	require.NotNil(t, again.JSON200.NextAt, "what is in force will end: nobody's giving up stops that")
	assert.True(t, again.JSON200.NextAt.Before(pkitest.Now.AddDate(0, 0, 79)))
	gone, err = w.Client.EndOrderWithResponse(t.Context(), third.Number)
	require.NoError(t, err)
	assert.Contains(t, string(gone.Body), "does not wait for a person")
	got, said = w.replied(client.Reply{Files: given(certs.PEM(signedBy(t, *third.Request, w.ca)))})
	assert.Nil(t, got)
	assert.Contains(t, said, "waits no more")
}

// renewSafe makes a new key for the safe, and encrypts everything with it.
func renewSafe(t *testing.T, r *servicetest.Running) {
	begin := true
	for range 20 {
		resp, err := r.Client.RenewSafeKeyWithResponse(t.Context(), client.SafeRenewal{Begin: &begin})
		require.NoError(t, err)
		require.NotNil(t, resp.JSON200, string(resp.Body))
		if begin = false; resp.JSON200.Left == 0 {
			return
		}
	}
	require.Fail(t, "something is left with the old key while requests wait")
}

// TestACertificateSignsItself orders one for a lab, in rehearsal and in earnest.
func TestACertificateSignsItself(t *testing.T) {
	t.Parallel()
	w := newWays(t, "mandates:\n  - {name: lab, names: [printer, 10.1.2.3], ca: self-signed, key: ed25519}\n")
	o := ended(t, w.Client, begin(t, w.Client, "lab", true))
	assert.Equal(t, client.OrderStateIssued, o.State, "%+v", o.Failure)
	o = ended(t, w.Client, begin(t, w.Client, "lab", false))
	require.Equal(t, client.OrderStateIssued, o.State, "%+v", o.Failure)
	chain, err := w.Client.GetOrderCertificateWithResponse(t.Context(), o.Number)
	require.NoError(t, err)
	list, err := certs.ReadCertificates([]byte(chain.JSON200.Chain))
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.True(t, list[0].SelfSigned())
	assert.Equal(t, []string{"printer", "10.1.2.3"}, list[0].Names())
	tried, err := w.Client.CheckMandateWithResponse(t.Context(), "lab")
	require.NoError(t, err)
	assert.True(t, tried.JSON200.Well)
}

// TestKeysOfFormerCertificatesAreDestroyed keeps as many as the mandate says.
func TestKeysOfFormerCertificatesAreDestroyed(t *testing.T) {
	t.Parallel()
	w := newWays(t, "mandates:\n  - {name: lab, names: [a.lantern.example], ca: self-signed, keep: 2}\n  - {name: usual, names: [b.lantern.example], ca: self-signed}\n")
	var numbers []int64
	for range 5 {
		for _, name := range []string{"lab", "usual"} {
			o := ended(t, w.Client, begin(t, w.Client, name, false))
			if name == "lab" {
				numbers = append(numbers, o.Number)
			}
		}
	}
	require.NoError(t, w.DropFormerKeys(t.Context()))
	allow(t, w.Running)
	for i, n := range numbers {
		resp, err := w.Client.GiveCertificateWithResponse(t.Context(), n, client.GiveRequest{Form: "pem", Reason: "x"})
		require.NoError(t, err)
		if i < 2 {
			assert.Contains(t, string(resp.Body), "was destroyed on", "of 5 the newest and two more are kept")
			continue
		}
		require.NotNil(t, resp.JSON200, string(resp.Body))
	}
	var left int
	w.Query(t, "select count(*) from orders o join mandates m on m.id = o.mandate_id where m.name = 'usual' and o.encrypted is not null", &left)
	assert.Equal(t, 4, left, "three more where the mandate says nothing")
	var detail string
	w.Query(t, "select detail::text from journal where action = 'key.destroy' order by id desc limit 1", &detail)
	assert.True(t, strings.Contains(detail, "orders"), detail)
}

// TestAChainIsCompletedFromWhatWasMet has a server of the estate show an intermediate:
// what is taken in, and what comes back from a CA, needs to bring it no more, and no
// other of its name is taken for it.
func TestAChainIsCompletedFromWhatWasMet(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t)
	root := pkitest.CA("quay root", nil)
	upper := pkitest.CA("quay upper", root)
	lower := pkitest.CA("quay lower", upper)
	impostor := pkitest.CA("quay lower", pkitest.CA("quay upper", nil))
	var at []string
	for _, ca := range [][]*pkitest.Entity{{lower, upper}, {impostor}} {
		shown := pkitest.Leaf(ca[0], "a.lantern.example").TLS(ca...)
		at = append(at, fmt.Sprint(servicetest.Serve(t, "127.0.0.1:0", func() *tls.Certificate { return &shown }).Port()))
	}
	w := &ways{Running: r, t: t, root: root, ca: lower}
	text := "estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: quay, addresses: [127.0.0.1], ports: [" +
		strings.Join(at, ", ") + "]}\nhosts:\n  - {name: a.lantern.example, at: [quay]}\ncas:\n  - {name: desk, by: hand}\nmandates:\n" +
		"  - {name: booking, names: [c.lantern.example], ca: desk}\n"
	r.Apply(t, text, root)
	leaf := pkitest.Leaf(lower, "b.lantern.example")
	alone := client.GivenMaterial{Files: given(keyText(t, leaf.Key), certs.PEM(leaf.Raw))}
	before := w.taken(alone)
	assert.Contains(t, strings.Join(before.Words, "\n"), "clients (browsers) will not trust it", "nothing was met yet")
	o := w.waits(begin(t, r.Client, "booking", false))
	reply := client.Reply{Files: given(certs.PEM(signedBy(t, *o.Request, lower)))}
	_, said := w.replied(reply)
	assert.Contains(t, said, "bring the certificate of quay lower as well")

	r.Survey(t)
	after := w.taken(alone)
	assert.ElementsMatch(t, []string{"its chain is completed with quay lower, which was met in the estate",
		"its chain is completed with quay upper, which was met in the estate"}, after.Words)
	whole := func(order int64, leaf []byte) {
		got, err := r.Client.GetOrderCertificateWithResponse(t.Context(), order)
		require.NoError(t, err)
		require.NotNil(t, got.JSON200, string(got.Body))
		assert.Equal(t, string(certs.PEM(leaf))+string(certs.PEM(lower.Raw))+string(certs.PEM(upper.Raw)), got.JSON200.Chain)
	}
	whole(after.Order.Number, leaf.Raw)
	got, said := w.replied(reply)
	require.NotNil(t, got, said)
	assert.Equal(t, client.OrderStateIssued, ended(t, r.Client, o.Number).State)
	block, _ := pem.Decode(reply.Files[0].Content)
	whole(o.Number, block.Bytes)
	stray := pkitest.Leaf(impostor, "d.lantern.example")
	doubted := w.taken(client.GivenMaterial{Files: given(keyText(t, stray.Key), certs.PEM(stray.Raw))})
	assert.Contains(t, strings.Join(doubted.Words, "\n"), "clients (browsers) will not trust it", "the impostor leads nowhere")
}
