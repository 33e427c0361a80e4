package acme_test

import (
	"bytes"
	"io"
	"net/http"
	"strings"
	"testing"

	"insegna.example/internal/acme"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
)

// scripted answers every request with the same fuzzed reply, but for the
// directory.
type scripted struct {
	directory, body, header string
	status                  int
}

func (s scripted) RoundTrip(r *http.Request) (*http.Response, error) {
	h := http.Header{"Replay-Nonce": {"n"}, "Content-Type": {"application/problem+json"}, "Location": {s.header},
		"Retry-After": {s.header}, "Link": {s.header}}
	body, status := s.body, s.status
	if strings.HasSuffix(r.URL.Path, "/directory") {
		body, status = s.directory, 200
	}
	return &http.Response{StatusCode: status, Header: h, Body: io.NopCloser(bytes.NewReader([]byte(body))), Request: r},
		nil
}

// FuzzReplies gives a client every kind of reply for every kind of request: it
// must come back, with an error or with URLs that are the CA's own.
func FuzzReplies(f *testing.F) {
	good := `{"newNonce":"https://ca.example/n","newAccount":"https://ca.example/a","newOrder":"https://ca.example/o","revokeCert":"https://ca.example/r","keyChange":"https://ca.example/k","renewalInfo":"https://ca.example/i"}`
	for _, body := range []string{
		`{"status":"pending","identifiers":[{"type":"dns","value":"a.example"}],"authorizations":["https://ca.example/z/1"],"finalize":"https://ca.example/f/1"}`,
		`{"status":"valid","certificate":"https://ca.example/c/1","contact":["mailto:a@b.example"],"orders":"https://ca.example/l"}`,
		`{"status":"pending","challenges":[{"type":"http-01","url":"https://ca.example/h/1","token":"AAAAAAAAAAAAAAAAAAAAAAAAAA"}]}`,
		`{"type":"urn:ietf:params:acme:error:badNonce","detail":"x","subproblems":[{"type":"y","identifier":{"type":"dns","value":"z"}}]}`,
		`{"suggestedWindow":{"start":"2026-01-01T00:00:00Z","end":"2026-01-02T00:00:00Z"}}`,
		`{"orders":["https://ca.example/o/1"]}`, "[]", "", "{",
	} {
		f.Add(good, body, "https://ca.example/x", 200)
		f.Add(good, body, "Wed, 21 Oct 2026 07:28:00 GMT", 429)
		f.Add(body, body, "<https://ca.example/c/2>;rel=\"alternate\"", 400)
	}
	key := pkitest.NewKey()
	leaf := pkitest.Leaf(pkitest.CA("root", nil), "a.example")
	s := acme.Signer{Key: key, URL: "https://ca.example/acct/1"}
	f.Fuzz(func(t *testing.T, directory, body, header string, status int) {
		if status < 200 || status > 599 {
			return
		}
		c, err := acme.New("https://ca.example/directory", "insegna-fuzz/1", scripted{directory, body, header, status})
		if err != nil {
			t.Fatal(err)
		}
		c.Pause = 1
		ctx := t.Context()
		_, _ = c.Register(ctx, key, acme.NewAccount{TermsAgreed: true})
		names := []acme.Identifier{{Type: acme.DNS, Value: "a.example"}}
		for _, ask := range []func() (*acme.Order, error){
			func() (*acme.Order, error) { return c.NewOrder(ctx, s, acme.Wish{Names: names}) },
			func() (*acme.Order, error) { return c.Order(ctx, s, "https://ca.example/o/1") },
			func() (*acme.Order, error) { return c.Open(ctx, s, names, func(string) bool { return false }) },
		} {
			if o, err := ask(); err == nil && o != nil {
				for _, u := range append(o.Authorizations, o.Finalize, o.Certificate) {
					if u != "" && !strings.HasPrefix(strings.ToLower(u), "https://ca.example/") {
						t.Fatalf("%q was taken for a URL of the CA", u)
					}
				}
			}
		}
		_, _ = c.Authorization(ctx, s, "https://ca.example/z/1")
		_ = c.Accept(ctx, s, "https://ca.example/h/1")
		_, _ = c.Finalize(ctx, s, &acme.Order{URL: "https://ca.example/o/1", Finalize: "https://ca.example/f/1"}, []byte{1})
		chains, _ := c.Chains(ctx, s, "https://ca.example/c/1")
		for _, chain := range chains {
			_, _ = certs.ReadCertificates(chain)
		}
		_, _ = c.RenewalInfo(ctx, acme.CertificateID(leaf.Certificate))
		_ = c.Revoke(ctx, s, leaf.Raw, acme.Superseded)
		_ = c.ChangeKey(ctx, s, pkitest.NewKey())
		_ = c.Deactivate(ctx, s)
	})
}
