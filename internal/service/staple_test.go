package service

import (
	"crypto/x509"
	"io"
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

// TestTheCAIsAskedWhetherTheNewOneIsGood asks the responder the new certificate names, as
// its issuer in the list sent behind it answers.
func TestTheCAIsAskedWhetherTheNewOneIsGood(t *testing.T) {
	root := pkitest.CA("root", nil)
	issuer := pkitest.CA("issuer", root)
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		asked, err := ocsp.ParseRequest(body)
		assert.NoError(t, err)
		der, err := ocsp.CreateResponse(issuer.X509(), issuer.X509(), ocsp.Response{Status: ocsp.Good, SerialNumber: asked.SerialNumber,
			ThisUpdate: time.Now(), NextUpdate: time.Now().Add(time.Hour)}, issuer.Key)
		assert.NoError(t, err)
		_, _ = w.Write(der)
	}))
	defer srv.Close()
	leaf := pkitest.Leaf(issuer, "a.lantern.example", func(x *x509.Certificate) { x.OCSPServer = []string{srv.URL} })
	s := &Installing{base: base{cfg: &Config{Looker: look.New()}}}
	got, err := s.stapleOf(pkitest.List(leaf, issuer, root))(t.Context())
	require.NoError(t, err)
	assert.Equal(t, srv.URL, got.From)
	_, err = ocsp.ParseResponseForCert(got.Response, leaf.X509(), issuer.X509())
	assert.NoError(t, err)
	_, err = s.stapleOf(pkitest.List(leaf))(t.Context())
	assert.ErrorContains(t, err, "without its issuer")
	_, err = s.stapleOf(pkitest.List(leaf, root))(t.Context())
	assert.Error(t, err, "who did not issue it does not answer for it")
}
