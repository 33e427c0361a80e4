package httpapi_test

import (
	"crypto/sha256"
	"crypto/tls"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/pkitest"
)

// TestTheServicesOwnCertificateIsTakenInAnew replaces the files under a running
// service, half first: it never stops serving, and serves what fits.
func TestTheServicesOwnCertificateIsTakenInAnew(t *testing.T) {
	dir := t.TempDir()
	root := pkitest.CA("House Root", nil)
	lay := func(file string, data []byte) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), data, 0o600))
	}
	made := func(host string) (certificate, key []byte, print certs.Fingerprint) {
		leaf := pkitest.Leaf(root, host)
		key, err := certs.KeyPEM(leaf.Key)
		require.NoError(t, err)
		return certs.PEM(leaf.Raw), key, leaf.Fingerprint
	}
	certificate, key, first := made("console.harbour.example")
	lay("c.pem", certificate)
	lay("k.pem", key)
	pair, err := httpapi.OpenPair(dir+"/c.pem", dir+"/k.pem")
	require.NoError(t, err)
	pair.Each = 0
	l, err := httpapi.Listen("127.0.0.1:0", pair)
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	go func() { _ = http.Serve(l, http.NotFoundHandler()) }()
	served := func() certs.Fingerprint {
		conn, err := tls.Dial("tcp", l.Addr().String(), &tls.Config{InsecureSkipVerify: true})
		require.NoError(t, err)
		defer func() { _ = conn.Close() }()
		return sha256.Sum256(conn.ConnectionState().PeerCertificates[0].Raw)
	}
	assert.Equal(t, first, served())
	assert.True(t, pair.Covers("console.harbour.example"))
	next, nextKey, second := made("night.harbour.example")
	lay("c.pem", next)
	assert.Equal(t, first, served(), "the key does not fit yet")
	lay("c.pem", next[:40])
	assert.Equal(t, first, served(), "half a file")
	require.NoError(t, os.Remove(dir+"/c.pem"))
	assert.Equal(t, first, served(), "no file")
	lay("c.pem", next)
	lay("k.pem", nextKey)
	assert.Equal(t, second, served())
	assert.True(t, pair.Covers("night.harbour.example"))
	assert.False(t, pair.Covers("console.harbour.example"))
	for name, args := range map[string][2]string{"another key": {dir + "/c.pem", dir + "/old.pem"},
		"no such file": {dir + "/none.pem", dir + "/k.pem"}, "swapped": {dir + "/k.pem", dir + "/c.pem"}} {
		lay("old.pem", key)
		_, err := httpapi.OpenPair(args[0], args[1])
		require.Error(t, err, name)
		assert.Contains(t, err.Error(), "expected PEM files of one certificate chain and its key", name)
		assert.NotContains(t, err.Error(), "PRIVATE", name)
	}
}
