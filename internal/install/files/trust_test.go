package files_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/haproxy"
	"insegna.example/internal/kind/httpd"
	"insegna.example/internal/kind/nginx"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/reach"
)

// TestOneCAMoreForThoseBehind adds one to the file servers behind are verified with, on
// every kind, and takes it away again. A file by which visitors may be let in, the
// machine's own, a folder and what is not there are not touched.
func TestOneCAMoreForThoseBehind(t *testing.T) {
	front := "defaults\n  mode http\nfrontend f\n  bind 127.0.0.1:8443 ssl crt /x.pem%s\n  default_backend b\nbackend b\n" +
		"  # DIR/cas.pem is ours\n  server s 127.0.0.1:1 ssl verify required ca-file %s\n"
	for name, c := range map[string]struct {
		kind  *kind.Kind
		text  string
		file  string
		words string // why not; "" for none
		next  string
	}{
		"haproxy": {haproxy.Kind, strings.Replace(strings.Replace(front, "%s", "", 1), "%s", "DIR/cas.pem", 1), "DIR/cas.pem", "", ""},
		"haproxy, visitors": {haproxy.Kind, strings.Replace(strings.Replace(front, "%s", " ca-file DIR/cas.pem verify optional", 1), "%s",
			"DIR/cas.pem", 1), "DIR/cas.pem", "conf:4: DIR/cas.pem is named here too", "a file of their own"},
		"nginx": {nginx.Kind, "http { server { listen 127.0.0.1:8080; location / { proxy_pass https://127.0.0.1:1; proxy_ssl_verify on;\n" +
			"proxy_ssl_trusted_certificate DIR/cas.pem; } } }", "DIR/cas.pem", "", ""},
		"nginx, visitors": {nginx.Kind, "http { server { listen 127.0.0.1:8080;\nproxy_ssl_trusted_certificate DIR/cas.pem; ssl_client_certificate " +
			"DIR/cas.pem; } }", "DIR/cas.pem", "conf:2: DIR/cas.pem is named here too", "a file of their own"},
		"httpd": {httpd.Kind, "ServerRoot DIR\nListen 127.0.0.1:8080\nsslproxycacertificatefile DIR/cas.pem\n", "DIR/cas.pem", "", ""},
		"httpd, visitors": {httpd.Kind, "ServerRoot DIR\nListen 127.0.0.1:8080\nSSLProxyCACertificateFile DIR/cas.pem\nSSLCACertificateFile \\\n  cas.pem\n", "DIR/cas.pem",
			"conf:5: DIR/cas.pem is named here too", "a file of their own"},
		"the machine's": {haproxy.Kind, front, "/etc/ssl/certs/ca-certificates.crt", "is for the whole machine", "a file of its own"},
		"a folder":      {haproxy.Kind, front, "DIR/cas", "cannot be read as a file", "by hand"},
		"gone":          {haproxy.Kind, front, "DIR/gone.pem", "is not there", "by hand"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			at := func(s string) string { return strings.ReplaceAll(s, "DIR", dir) }
			write := func(name, text string) { require.NoError(t, os.WriteFile(dir+"/"+name, []byte(text), 0o644)) }
			root, other := pkitest.CA("root", nil), pkitest.CA("other", nil)
			before := strings.TrimRight("# ours\n"+string(certs.PEM(root.Raw)), "\n") // its last line is not ended
			write("conf", at(c.text))
			write("cas.pem", before)
			require.NoError(t, os.Mkdir(dir+"/cas", 0o755))
			over := reach.Local()
			d := c.kind.Installs(over, &estate.Server{Reach: &estate.Reach{Configuration: dir + "/conf",
				Commands: map[string]string{"test": "true", "reload": "touch " + dir + "/reloaded"}}})
			planned, err := d.(install.Truster).Trust(t.Context(), &install.Trusting{Server: "front", File: at(c.file), CA: other.Certificate})
			if c.words != "" {
				var refused *install.RefusedError
				require.ErrorAs(t, err, &refused)
				assert.Contains(t, refused.Reason, at(c.words))
				assert.Contains(t, refused.Next, c.next)
				return
			}
			require.NoError(t, err)
			require.Len(t, planned.Plan.Files, 1)
			for _, act := range []func() (string, error){
				func() (string, error) { return d.Stage(t.Context(), &planned.Plan, &install.Material{}) },
				func() (string, error) { return d.Switch(t.Context(), &planned.Plan) },
				func() (string, error) { return d.TakeIn(t.Context(), &planned.Plan) }} {
				_, err := act()
				require.NoError(t, err)
			}
			data, err := os.ReadFile(dir + "/cas.pem")
			require.NoError(t, err)
			assert.Equal(t, before+"\n"+string(certs.PEM(other.Raw)), string(data))
			assert.FileExists(t, dir+"/reloaded")
			_, err = d.Back(t.Context(), &planned.Plan)
			require.NoError(t, err)
			data, err = os.ReadFile(dir + "/cas.pem")
			require.NoError(t, err)
			assert.Equal(t, before, string(data))
		})
	}
}
