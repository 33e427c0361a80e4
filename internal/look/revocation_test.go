package look_test

import (
	"bytes"
	"crypto/x509"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ocsp"

	"insegna.example/internal/look"
	"insegna.example/internal/pkitest"
)

// TestAResponderIsAskedAndNotBelieved lets responders answer anything: what a server could
// not send along is not kept, and why is said.
func TestAResponderIsAskedAndNotBelieved(t *testing.T) {
	root, other := pkitest.CA("root", nil), pkitest.CA("other", nil)
	now := time.Now().UTC()
	good := ocsp.Response{Status: ocsp.Good, ThisUpdate: now.Add(-time.Hour), NextUpdate: now.Add(time.Hour)}
	changed := func(change func(*ocsp.Response)) ocsp.Response {
		r := good
		change(&r)
		return r
	}
	for name, c := range map[string]struct {
		says   ocsp.Response
		by     *pkitest.Entity
		answer http.HandlerFunc // in the place of that
		words  string           // of the error; "" for none
	}{
		"good":    {good, root, nil, ""},
		"unknown": {changed(func(r *ocsp.Response) { r.Status = ocsp.Unknown }), root, nil, "does not know it"},
		"revoked": {changed(func(r *ocsp.Response) { r.Status, r.RevokedAt = ocsp.Revoked, now.Add(-time.Hour) }), root, nil,
			"it was revoked at"},
		"of another one":   {changed(func(r *ocsp.Response) { r.SerialNumber = big.NewInt(7) }), root, nil, "no response for it"},
		"by another CA":    {good, other, nil, "no response for it"},
		"of the past":      {changed(func(r *ocsp.Response) { r.NextUpdate = now.Add(-time.Minute) }), root, nil, "in force until"},
		"of times to come": {changed(func(r *ocsp.Response) { r.ThisUpdate = now.Add(20 * time.Minute) }), root, nil, "for a time to come"},
		"without an end":   {changed(func(r *ocsp.Response) { r.NextUpdate = time.Time{} }), root, nil, "does not say how long"},
		"not for now":      {good, root, func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(ocsp.TryLaterErrorResponse) }, "try later"},
		"an error":         {good, root, http.NotFound, "answers with status 404"},
		"led elsewhere": {good, root, func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://127.0.0.1:1/", http.StatusTemporaryRedirect)
		},
			"answers with status 307"},
		"large": {good, root, func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(make([]byte, 1<<20)) }, "more than 64 KB"},
		"junk":  {good, root, func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("<html>")) }, "no response for it"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var leaf *pkitest.Entity
			srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if c.answer != nil {
					c.answer(w, r)
					return
				}
				assert.Equal(t, "application/ocsp-request", r.Header.Get("Content-Type"))
				body, err := io.ReadAll(r.Body)
				assert.NoError(t, err)
				asked, err := ocsp.ParseRequest(body)
				assert.NoError(t, err)
				says := c.says
				if says.SerialNumber == nil {
					says.SerialNumber = asked.SerialNumber
				}
				der, err := ocsp.CreateResponse(c.by.X509(), c.by.X509(), says, c.by.Key)
				assert.NoError(t, err)
				_, _ = io.Copy(w, bytes.NewReader(der))
			}))
			defer srv.Close()
			leaf = pkitest.Leaf(root, "a.lantern.example", func(x *x509.Certificate) { x.OCSPServer = []string{srv.URL + "/ocsp"} })
			s, err := look.New().Staple(t.Context(), leaf.X509(), root.X509(), now)
			if c.words != "" {
				require.ErrorContains(t, err, c.words)
				assert.ErrorContains(t, err, srv.URL)
				assert.Nil(t, s)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, srv.URL+"/ocsp", s.From)
			assert.WithinDuration(t, good.NextUpdate, s.Until, time.Second)
			_, err = ocsp.ParseResponseForCert(s.Response, leaf.X509(), root.X509())
			assert.NoError(t, err)
		})
	}
	for at, words := range map[string]string{"": "names no responder", "https://127.0.0.1/": "http:// is expected",
		"file:///etc/passwd": "http:// is expected", "http://127.0.0.1:1/": "connection refused"} {
		leaf := pkitest.Leaf(root, "a.lantern.example", func(x *x509.Certificate) {
			if at != "" {
				x.OCSPServer = []string{at}
			}
		})
		_, err := look.New().Staple(t.Context(), leaf.X509(), root.X509(), now)
		assert.ErrorContains(t, err, words)
	}
}
