package service_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

// crew is a service with a CA of its own, published where clients reach it without TLS.
type crew struct {
	*servicetest.Running
	t   *testing.T
	dir string // where openssl works
}

// newCrew declares the CA, and makes it as wished.
func newCrew(t *testing.T, mandates string, wish client.AuthorityWish) *crew {
	open, _, handler := listening(t)
	c := &crew{servicetest.Start(t), t, t.TempDir()}
	var h http.Handler = httpapi.Proofs(c.Service)
	handler.Store(&h)
	c.Apply(t, fmt.Sprintf(`estate: Ferries
audiences:
  - {name: browsers, roots: [root.pem]}
servers:
  - {name: quay, addresses: [127.0.0.1], ports: [1]}
hosts:
  - {name: a.crew.example, at: [quay]}
cas:
  - name: crew
    by: private
    publish: %s
    profiles:
      - {name: server, days: 30, names: ["*.crew.example", 10.0.0.0/8]}
      - {name: anything, usages: [server, client], subject: true}
      - {name: bridge, at_least: admin, keys: [rsa-3072]}
`, open.URL)+mandates, pkitest.CA("another", nil))
	resp, err := c.Client.MakeAuthorityWithResponse(t.Context(), "crew", wish)
	require.NoError(t, err)
	require.NotNil(t, resp.JSON201, string(resp.Body))
	if resp.JSON201.RootKey != nil {
		c.file("root.key", []byte(*resp.JSON201.RootKey))
	}
	for _, a := range resp.JSON201.Authority.Certificates {
		c.file(string(a.Role)+".pem", []byte(a.Pem))
	}
	return c
}

// file writes one where openssl works.
func (c *crew) file(name string, data []byte) {
	require.NoError(c.t, os.WriteFile(filepath.Join(c.dir, name), data, 0o600))
}

// run runs a program there, and gives what it says.
func (c *crew) run(line string) (string, error) {
	words := strings.Fields(line)
	x := exec.CommandContext(c.t.Context(), words[0], words[1:]...)
	x.Dir = c.dir
	out, err := x.CombinedOutput()
	return string(out), err
}

// must is run for what has to go well.
func (c *crew) must(line string) string {
	out, err := c.run(line)
	require.NoError(c.t, err, "%s: %s", line, out)
	return out
}

// sign has a request signed.
func (c *crew) sign(cl *client.ClientWithResponses, request, profile string) (*client.SignedRequest, string) {
	text, err := os.ReadFile(filepath.Join(c.dir, request))
	require.NoError(c.t, err)
	resp, err := cl.SignRequestWithResponse(c.t.Context(), "crew", client.SigningRequest{Request: string(text), Profile: ptrTo(profile)})
	require.NoError(c.t, err)
	require.NotEqual(c.t, http.StatusInternalServerError, resp.StatusCode(), string(resp.Body))
	return resp.JSON201, string(resp.Body)
}

// TestACAOfOnesOwn issues by mandate and from requests; openssl and curl, which know
// its root alone, take what it signs.
func TestACAOfOnesOwn(t *testing.T) {
	t.Parallel()
	c := newCrew(t, "mandates:\n  - {name: rota, names: [a.crew.example, 10.1.2.3], ca: crew}\n", client.AuthorityWish{Organization: ptrTo("Ferries")})
	assert.Contains(t, c.must("openssl verify -CAfile root.pem issuing.pem"), "OK")
	text := c.must("openssl x509 -in issuing.pem -noout -text")
	assert.Contains(t, text, "CA:TRUE, pathlen:0")
	assert.Contains(t, text, "Certificate Sign, CRL Sign")

	assert.Equal(t, client.OrderStateIssued, ended(t, c.Client, begin(t, c.Client, "rota", true)).State, "in rehearsal")
	o := ended(t, c.Client, begin(t, c.Client, "rota", false))
	require.Equal(t, client.OrderStateIssued, o.State, "%+v", o.Failure)
	allow(t, c.Running)
	out, err := c.Client.GiveCertificateWithResponse(t.Context(), o.Number, client.GiveRequest{Form: "pem", Apart: ptrTo(true), Reason: "x"})
	require.NoError(t, err)
	require.NotNil(t, out.JSON200)
	pair, err := tls.X509KeyPair(out.JSON200.Files[0].Content, out.JSON200.Files[1].Content)
	require.NoError(t, err)
	web := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "rota") }))
	web.TLS = &tls.Config{Certificates: []tls.Certificate{pair}}
	web.StartTLS()
	defer web.Close()
	port := web.Listener.Addr().String()[strings.LastIndex(web.Listener.Addr().String(), ":")+1:]
	curl := "curl -sS --resolve a.crew.example:" + port + ":127.0.0.1 https://a.crew.example:" + port + "/"
	assert.Equal(t, "rota", c.must(curl+" --cacert root.pem"))
	_, err = c.run(curl)
	assert.Error(t, err, "nobody else trusts it")
	c.file("leaf.pem", out.JSON200.Files[0].Content)

	list, err := c.Client.ListIssuedWithResponse(t.Context(), "crew", &client.ListIssuedParams{})
	require.NoError(t, err)
	require.Len(t, list.JSON200.Items, 1, "nothing is issued in its name in rehearsal")
	assert.Equal(t, []any{"server", o.Number, []string{"a.crew.example", "10.1.2.3"}},
		[]any{list.JSON200.Items[0].Profile, *list.JSON200.Items[0].Order, list.JSON200.Items[0].Names})

	req := "openssl req -new -nodes -newkey %s -keyout x.key -out %s.csr -subj /O=Crew/CN=x -addext subjectAltName=%s"
	for name, args := range map[string][2]string{"printer": {"rsa:2048", "DNS:printer.crew.example,IP:10.9.9.9"}, "outside": {"rsa:2048", "DNS:booking.example"},
		"above": {"rsa:2048", "DNS:crew.example"}, "weak": {"rsa:1024", "DNS:b.crew.example"}, "bridge": {"rsa:3072", "DNS:bridge.crew.example"},
		"curve": {"ec -pkeyopt ec_paramgen_curve:P-256", "DNS:bridge.crew.example"}} {
		c.must(fmt.Sprintf(req, args[0], name, args[1]))
	}
	c.must("openssl req -new -key x.key -out nameless.csr -subj /CN=x.crew.example")
	damaged, err := os.ReadFile(filepath.Join(c.dir, "printer.csr"))
	require.NoError(t, err)
	block, _ := pem.Decode(damaged)
	block.Bytes[len(block.Bytes)-1] ^= 1
	c.file("damaged.csr", pem.EncodeToMemory(block))
	operator, err := client.NewClientWithResponses(c.URL+"/api/v1", client.WithHTTPClient(c.Enter(t, "tove", client.RoleOperator)))
	require.NoError(t, err)
	for title, r := range map[string]struct {
		by               *client.ClientWithResponses
		request, profile string
		says             string
	}{
		"a name outside":      {c.Client, "outside", "server", "booking.example is none of *.crew.example"},
		"the parent itself":   {c.Client, "above", "server", "crew.example is none of"},
		"a weak key":          {c.Client, "weak", "anything", "an RSA key of 1024 bits is too weak"},
		"another kind of key": {c.Client, "curve", "bridge", "its key is of the kind ecdsa-p256; expected one of rsa-3072"},
		"another role":        {operator, "bridge", "bridge", "it is for the role admin and above"},
		"no such profile":     {c.Client, "printer", "tugboat", "there is no profile of crew"},
		"no names":            {c.Client, "nameless", "anything", "no name is asked for"},
		"not its own key's":   {c.Client, "damaged", "server", "not signed by its own key"},
		"no request":          {c.Client, "../" + filepath.Base(c.dir) + "/root.pem", "server", "there are 0 certificate requests"},
	} {
		if !strings.HasSuffix(r.request, ".pem") {
			r.request += ".csr"
		}
		got, said := c.sign(r.by, r.request, r.profile)
		assert.Nil(t, got, title)
		assert.Contains(t, said, r.says, title)
	}
	var count int
	c.Query(t, "select count(*) from issued", &count)
	assert.Equal(t, 1, count)
	for request, profile := range map[string]string{"printer": "server", "bridge": "bridge", "outside": "anything"} {
		got, said := c.sign(c.Client, request+".csr", profile)
		require.NotNil(t, got, said)
		c.file(request+".pem", []byte(got.Pem))
		assert.Contains(t, c.must("openssl verify -CAfile root.pem -untrusted issuing.pem "+request+".pem"), "OK")
		subject := c.must("openssl x509 -noout -subject -in " + request + ".pem")
		assert.Equal(t, profile == "anything", strings.Contains(subject, "Crew"), "the profile says what is kept: %s", subject)
	}

	again, err := c.Client.MakeAuthorityWithResponse(t.Context(), "crew", client.AuthorityWish{})
	require.NoError(t, err)
	assert.Contains(t, string(again.Body), "a CA of that name is in force already")
	renewSafe(t, c.Running)
	assert.Equal(t, client.OrderStateIssued, ended(t, c.Client, begin(t, c.Client, "rota", false)).State, "its keys are encrypted anew as well")
}

// TestWhatACAPublishes asks openssl about what was revoked and what not.
func TestWhatACAPublishes(t *testing.T) {
	t.Parallel()
	c := newCrew(t, "", client.AuthorityWish{Key: ptrTo(client.AuthorityWishKey("rsa-2048"))})
	var serials []string
	for _, name := range []string{"good", "lost"} {
		c.must("openssl req -new -nodes -newkey rsa:2048 -keyout x.key -out x.csr -subj /CN=x -addext subjectAltName=DNS:" + name + ".crew.example")
		got, said := c.sign(c.Client, "x.csr", "server")
		require.NotNil(t, got, said)
		c.file(name+".pem", []byte(got.Pem))
		serials = append(serials, got.Serial)
	}
	leaf, err := certs.ReadCertificates(must(os.ReadFile(filepath.Join(c.dir, "good.pem"))))
	require.NoError(t, err)
	responder, crl := leaf[0].OCSPServer[0], leaf[0].CRLDistributionPoints[0]
	ask := func(name string) string {
		return c.must("openssl ocsp -issuer issuing.pem -CAfile root.pem -cert " + name + ".pem -url " + responder + " -resp_text -no_nonce")
	}
	fetched := func() string {
		c.file("list.crl", body(t, crl, "application/pkix-crl"))
		assert.Contains(t, c.must("openssl crl -in list.crl -inform DER -CAfile issuing.pem -noout -verify"), "verify OK")
		return c.must("openssl crl -in list.crl -inform DER -noout -text")
	}
	assert.Contains(t, ask("lost"), "lost.pem: good")
	assert.Contains(t, fetched(), "No Revoked Certificates")

	revoke := func(serial, reason string) int {
		resp, err := c.Client.RevokeIssuedWithResponse(t.Context(), "crew", client.Revocation{Serial: serial, Reason: ptrTo(client.RevocationReason(reason))})
		require.NoError(t, err)
		return resp.StatusCode()
	}
	assert.Equal(t, http.StatusNoContent, revoke(serials[1], "keyCompromise"))
	assert.Equal(t, http.StatusNoContent, revoke(serials[1], "superseded"), "once more changes nothing")
	assert.Equal(t, http.StatusNotFound, revoke("0102", "superseded"))
	said := ask("lost")
	assert.Contains(t, said, "lost.pem: revoked")
	assert.Contains(t, said, "keyCompromise")
	assert.Contains(t, ask("good"), "good.pem: good")
	assert.Contains(t, strings.ToLower(fetched()), "serial number: "+serials[1])
	number := func() string { return c.must("openssl crl -in list.crl -inform DER -noout -crlnumber") }
	before := number()
	fetched()
	assert.Equal(t, before, number(), "one that is young and true is not signed anew")

	other := pkitest.CA("other", nil)
	c.file("other.pem", certs.PEM(other.Raw))
	c.file("foreign.pem", certs.PEM(pkitest.Leaf(other, "x.example").Raw))
	out, _ := c.run("openssl ocsp -issuer other.pem -CAfile root.pem -cert foreign.pem -url " + responder)
	assert.Contains(t, out, "unauthorized (6)")
	c.must("openssl ocsp -issuer issuing.pem -serial 77 -reqout unknown.req -no_nonce")
	get := responder + "/" + strings.NewReplacer("+", "%2B", "/", "%2F", "=", "%3D").Replace(base64Of(must(os.ReadFile(filepath.Join(c.dir, "unknown.req")))))
	c.file("unknown.resp", body(t, get, "application/ocsp-response"))
	assert.Contains(t, c.must("openssl ocsp -respin unknown.resp -issuer issuing.pem -serial 77 -CAfile root.pem"), "77: unknown")
	resp, err := http.Post(responder, "application/ocsp-request", bytes.NewReader(bytes.Repeat([]byte{0x30}, 100_000)))
	require.NoError(t, err)
	junk, err := io.ReadAll(resp.Body)
	require.NoError(t, resp.Body.Close())
	require.NoError(t, err)
	assert.Equal(t, []byte{0x30, 3, 0x0a, 1, 1}, junk, "malformedRequest")

	root := strings.TrimSuffix(crl[:strings.Index(crl, "/pki/")], "/") + "/pki/crew"
	assert.Equal(t, string(must(os.ReadFile(filepath.Join(c.dir, "root.pem")))), string(body(t, root+"/root.pem", "application/x-pem-file")))
	assert.Contains(t, string(body(t, root+"/", "text/html; charset=utf-8")), "update-ca-certificates")
	for _, path := range []string{"/pki/nobody/root.pem", "/pki/crew/9/list.crl", "/pki/nobody/"} {
		resp, err := http.Get(root[:strings.Index(root, "/pki/")] + path)
		require.NoError(t, err)
		require.NoError(t, resp.Body.Close())
		assert.Equal(t, http.StatusNotFound, resp.StatusCode, path)
	}
}

// TestARootMayBeKeptElsewhere confines a CA, hands its root's key out, and takes a CA
// in that was made by other means.
func TestARootMayBeKeptElsewhere(t *testing.T) {
	t.Parallel()
	c := newCrew(t, "mandates:\n  - {name: rota, names: [a.crew.example], ca: crew}\n  - {name: wide, names: [booking.example], ca: crew, profile: anything}\n",
		client.AuthorityWish{Permitted: &[]string{"crew.example", "10.0.0.0/8"}, RootPassphrase: ptrTo("lamp pier gull rope")})
	c.file("word", []byte("lamp pier gull rope\n"))
	assert.Contains(t, c.must("openssl pkey -in root.key -passin file:word -noout -text"), "Private-Key")
	var kept int
	c.Query(t, "select count(*) from authorities where encrypted is not null", &kept)
	assert.Equal(t, 1, kept, "the root's key is nowhere here")
	assert.Contains(t, c.must("openssl x509 -in root.pem -noout -text"), "DNS:crew.example")
	assert.Equal(t, client.OrderStateIssued, ended(t, c.Client, begin(t, c.Client, "rota", false)).State)
	o := ended(t, c.Client, begin(t, c.Client, "wide", false))
	require.NotNil(t, o.Failure)
	assert.Contains(t, o.Failure.Words, "booking.example", "it is confined, whatever the profile says")
	var count int
	c.Query(t, "select count(*) from issued", &count)
	assert.Equal(t, 1, count, "what its constraints forbid is never signed for anybody")

	old := pkitest.CA("old root", nil)
	below := pkitest.CA("old issuing", old)
	take := func(name string, files ...[]byte) (*client.Authority, string) {
		resp, err := c.Client.TakeAuthorityWithResponse(t.Context(), name, client.GivenMaterial{Files: given(files...)})
		require.NoError(t, err)
		return resp.JSON201, string(resp.Body)
	}
	got, said := take("works", keyText(t, below.Key), certs.PEM(below.Raw))
	assert.Nil(t, got)
	assert.Contains(t, said, "the root old root above it is not there")
	leaf := pkitest.Leaf(below, "a.crew.example")
	got, said = take("works", keyText(t, leaf.Key), certs.PEM(leaf.Raw), certs.PEM(below.Raw))
	assert.Nil(t, got)
	assert.Contains(t, said, "is not a CA's")
	got, said = take("works", keyText(t, below.Key), certs.PEM(below.Raw), certs.PEM(old.Raw))
	require.NotNil(t, got, said)
	assert.Len(t, got.Certificates, 2)
	_, said = take("works", keyText(t, below.Key), certs.PEM(below.Raw), certs.PEM(old.Raw))
	assert.Contains(t, said, "a CA of that name is in force already")
}

// must gives a value that has to be there.
func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// base64Of is the form an OCSP request has in a path.
func base64Of(data []byte) string {
	return base64.StdEncoding.EncodeToString(data)
}

// body fetches something of a kind.
func body(t testing.TB, url, kind string) []byte {
	r, err := http.NewRequestWithContext(context.Background(), http.MethodGet, url, nil)
	require.NoError(t, err)
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	data, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, resp.StatusCode, "%s: %s", url, data)
	assert.Equal(t, kind, resp.Header.Get("Content-Type"))
	return data
}

// TestAnotherRoot rolls a CA over: whoever trusts the former root or the new one trusts what
// is issued from then on, by openssl's word, until that is ended.
func TestAnotherRoot(t *testing.T) {
	t.Parallel()
	c := newCrew(t, "", client.AuthorityWish{Permitted: &[]string{"crew.example"}, RootPassphrase: ptrTo("lamp pier gull rope")})
	c.must("openssl req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout a.key -subj /CN=a.crew.example -addext subjectAltName=DNS:a.crew.example -out a.csr")
	before, said := c.sign(c.Client, "a.csr", "server")
	require.NotNil(t, before, said)
	none, err := c.Client.RollAuthorityWithResponse(t.Context(), "crew", client.RollingWish{})
	require.NoError(t, err)
	assert.Contains(t, string(none.Body), "the key of crew Root "+time.Now().UTC().Format("2006")+" is not in the safe")
	key, err := os.ReadFile(filepath.Join(c.dir, "root.key"))
	require.NoError(t, err)
	given := []client.GivenFile{{Name: "root.key", Content: key}}
	made, err := c.Client.RollAuthorityWithResponse(t.Context(), "crew", client.RollingWish{Files: &given, Passphrase: ptrTo("lamp pier gull rope")})
	require.NoError(t, err)
	require.NotNil(t, made.JSON201, string(made.Body))
	roots, cross := 0, 0
	for _, a := range made.JSON201.Authority.Certificates {
		switch {
		case a.Role == "root" && a.RetiredAt == nil:
			c.file("new.pem", []byte(a.Pem))
			roots++
		case a.Role == "cross" && a.RetiredAt == nil:
			cross++
		}
	}
	assert.Equal(t, []int{1, 1}, []int{roots, cross})
	after, said := c.sign(c.Client, "a.csr", "server")
	require.NotNil(t, after, said)
	verify := func(root string, s *client.SignedRequest) error {
		leaf, rest, _ := strings.Cut(s.Pem, "-----END CERTIFICATE-----\n")
		c.file("leaf.pem", []byte(leaf+"-----END CERTIFICATE-----\n"))
		c.file("rest.pem", []byte(rest))
		out, err := c.run("openssl verify -x509_strict -CAfile " + root + " -untrusted rest.pem leaf.pem")
		if err != nil {
			return errors.New(out)
		}
		return nil
	}
	for _, root := range []string{"root.pem", "new.pem"} {
		assert.NoError(t, verify(root, after), root)
	}
	assert.NoError(t, verify("root.pem", before), "what was issued before stays good")
	list, err := http.Get(c.URL + "/pki/crew/root.pem")
	require.NoError(t, err)
	defer func() { _ = list.Body.Close() }()
	text, err := io.ReadAll(list.Body)
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(string(text), "BEGIN CERTIFICATE"), "both are handed out")
	state, err := c.Client.GetRollingWithResponse(t.Context(), "crew")
	require.NoError(t, err)
	assert.Equal(t, []any{true, 1, 1}, []any{state.JSON200.Vouched, state.JSON200.Issued, state.JSON200.IssuedBefore})
	strange, err := c.Client.RollAuthorityWithResponse(t.Context(), "crew", client.RollingWish{Files: &given, Passphrase: ptrTo("lamp pier gull rope")})
	require.NoError(t, err)
	require.NotNil(t, strange.JSON201, "the new root's key is in the safe, and needs no file: %s", strange.Body)
	ended, err := c.Client.EndRollingWithResponse(t.Context(), "crew", nil)
	require.NoError(t, err)
	require.NotNil(t, ended.JSON200, string(ended.Body))
	last, said := c.sign(c.Client, "a.csr", "server")
	require.NotNil(t, last, said)
	assert.Error(t, verify("new.pem", last), "no root but the newest vouches for it any more")
	twice, err := c.Client.EndRollingWithResponse(t.Context(), "crew", nil)
	require.NoError(t, err)
	assert.Equal(t, 409, twice.StatusCode())
}
