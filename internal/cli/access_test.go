package cli_test

import (
	"crypto"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

// TestSigningIn goes through set-up, sign-in and sign-out as a person at two
// terminals would, and looks at what is kept.
func TestSigningIn(t *testing.T) {
	dir, svc := t.TempDir(), servicetest.Start(t).URL
	admin := func(args ...string) result { return insegna(t, dir, svc, args...) }
	mine := t.TempDir()
	t.Setenv("INSEGNA_TOKEN", "")
	as := func(args ...string) result {
		return insegnaWith(t, mine, "", append([]string{"--service", svc}, args...)...)
	}
	require.NoError(t, os.WriteFile(filepath.Join(mine, "pass"), []byte("lamp pier gull rope\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(mine, "wrong"), []byte("gull rope lamp pier\n"), 0o600))

	r := as("today")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "nobody is signed in\n         sign in, or show a token: insegna sign-in")
	r = admin("person", "add", "tove", "--role", "operator")
	require.Contains(t, r.out, svc+"/set-up#", r.err)
	link := strings.TrimSpace(r.out[strings.Index(r.out, svc):])
	assert.Contains(t, admin("person", "list").out, "invited")
	assert.Equal(t, 2, as("set-up", svc).code)
	r = as("set-up", link, "--passphrase-file", "pass")
	assert.Contains(t, r.out, "Signed in to "+svc+" as tove (operator)", r.err)
	info, err := os.Stat(filepath.Join(mine, "insegna", "sign-ins.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	assert.Contains(t, as("whoami").out, "tove")
	assert.Contains(t, as("set-up", link, "--passphrase-file", "pass").err, "the link is not valid")

	r = as("estate", "apply", filepath.Join(fixture(t), "estate.yaml"))
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "tove is operator; this needs the role admin")
	r = as("token", "make", "night report", "--scope", "operator", "--days", "3")
	secret := strings.TrimSpace(r.out)
	assert.True(t, strings.HasPrefix(secret, "insegna_"), r.err)
	assert.Contains(t, insegnaWith(t, t.TempDir(), secret, "--service", svc, "whoami").out, "night report")
	assert.NotContains(t, as("token", "list", "-o", "json").out, secret)
	number := strings.Fields(strings.Split(as("token", "list", "-o", "csv").out, "\n")[1])[0]
	number, _, _ = strings.Cut(number, ",")
	asked := as("token", "revoke", number)
	assert.Equal(t, 2, asked.code)
	assert.Contains(t, asked.err, "nobody is here to ask; to go on, add --yes")
	assert.Equal(t, 0, as("token", "revoke", number, "--yes").code)
	gone := insegnaWith(t, t.TempDir(), secret, "--service", svc, "whoami")
	assert.Equal(t, 1, gone.code)
	assert.Contains(t, gone.err, "the token in INSEGNA_TOKEN is not in force")

	assert.Contains(t, as("sign-out").out, "Signed out of")
	assert.Equal(t, 1, as("whoami").code)
	assert.Contains(t, as("sign-in", "tove", "--passphrase-file", "wrong").err, "name or passphrase is wrong")
	assert.Contains(t, as("sign-in", "tove", "--passphrase-file", "pass").out, "as tove")
	require.NoError(t, os.Chmod(filepath.Join(mine, "insegna", "sign-ins.json"), 0o644))
	assert.Contains(t, as("whoami").err, "others may read")
	assert.Equal(t, 2, as("sign-in", "tove").code, "no terminal to ask at")
	assert.Contains(t, admin("person", "role", "tove", "viewer").out, "tove is viewer now")
	assert.Contains(t, admin("person", "remove", "tove", "--yes").out, "can no longer sign in")
	assert.Equal(t, 2, admin("person", "add", "x", "--role", "king").code)
}

// TestBeyondLoopbackOnlyByTLS starts the program with and without its own
// certificate.
func TestBeyondLoopbackOnlyByTLS(t *testing.T) {
	dir := t.TempDir()
	said := servicetest.FailedStart(t, "0.0.0.0:0", "--data", dir)
	assert.Contains(t, said, "plain http is not spoken beyond loopback")
	assert.Contains(t, said, "--tls-certificate")
	assert.Contains(t, servicetest.FailedStart(t, "127.0.0.1:0", "--data", dir, "--tls-key", "x"), "belong together")
	nobody := insegnaWith(t, dir, "insegna_x", "--service", "http://192.0.2.1:7420", "today")
	assert.Equal(t, 2, nobody.code)
	assert.Contains(t, nobody.err, "expected an https address")

	root := pkitest.CA("House Root", nil)
	leaf := pkitest.Leaf(root, "console.harbour.example")
	pair := leaf.TLS()
	key, err := certs.KeyPEM(pair.PrivateKey.(crypto.Signer))
	require.NoError(t, err)
	for name, data := range map[string][]byte{"c.pem": certs.PEM(leaf.Raw), "root.pem": certs.PEM(root.Raw),
		"k.pem": key} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
	}
	_, port, err := net.SplitHostPort(servicetest.FreeAddress(t))
	require.NoError(t, err)
	p := servicetest.StartProcessTLS(t, "0.0.0.0:"+port, root, "--data", dir+"/data", "--tls-certificate", dir+"/c.pem",
		"--tls-key", dir+"/k.pem")
	ask := func(host string) *http.Response {
		req, err := http.NewRequestWithContext(t.Context(), "GET", p.URL+"/api/v1/health", nil)
		require.NoError(t, err)
		req.Host = host
		resp, err := p.Client.Do(req)
		require.NoError(t, err)
		_ = resp.Body.Close()
		return resp
	}
	assert.Contains(t, p.Out(), "https://console.harbour.example:"+port+"/set-up#", "a link that works")
	assert.Equal(t, 200, ask("console.harbour.example").StatusCode)
	assert.Equal(t, 421, ask("evil.example").StatusCode)
	assert.NotEmpty(t, ask("console.harbour.example").Header.Get("Strict-Transport-Security"))
}
