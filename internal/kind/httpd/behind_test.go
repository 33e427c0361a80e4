package httpd_test

import (
	"fmt"
	"io/fs"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/httpd"
)

// TestWhatIsAskedOfServersBehind reads what virtual hosts pass on to, with what they
// and the main server say of it.
func TestWhatIsAskedOfServersBehind(t *testing.T) {
	const tls = "SSLProxyEngine on\n"
	for name, c := range map[string]struct{ outer, site, want string }{
		"plain":     {"", "ProxyPass / http://192.0.2.1/x", "[192.0.2.1:80]"},
		"no engine": {"", "ProxyPass / https://app.internal/", "[app.internal:443] tls, sends app.internal, expects app.internal, dates, fails"},
		"as usual": {"", tls + "ProxyPass / https://app.internal/",
			"[app.internal:443] tls, sends app.internal, expects app.internal, dates"},
		"an address sends no name": {"", tls + "ProxyPass / https://192.0.2.1:8443/", "[192.0.2.1:8443] tls, expects 192.0.2.1, dates"},
		"verified": {tls + "SSLProxyVerify require\nSSLProxyCACertificateFile ca.pem\n", "ProxyPass / https://app.internal/",
			"[app.internal:443] tls, sends app.internal, expects app.internal, dates, verified by /etc/httpd/ca.pem, depth 2"},
		"deeper": {"SSLProxyVerifyDepth 3\n", tls + "SSLProxyVerify require\nProxyPass / https://app.internal/",
			"[app.internal:443] tls, sends app.internal, expects app.internal, dates, verified by , depth 4"},
		"any name": {"", tls + "SSLProxyCheckPeerName off\nProxyPass / https://app.internal/", "[app.internal:443] tls, sends app.internal, dates"},
		"the common name alone": {"", tls + "SSLProxyCheckPeerName off\nSSLProxyCheckPeerCN on\nProxyPass / https://app.internal/",
			"[app.internal:443] tls, sends app.internal, expects app.internal, dates"},
		"not the common name": {"", tls + "SSLProxyCheckPeerCN off\nProxyPass / https://app.internal/",
			"[app.internal:443] tls, sends app.internal, dates"},
		"any dates": {"", tls + "SSLProxyCheckPeerExpire off\nProxyPass / https://192.0.2.1/", "[192.0.2.1:443] tls, expects 192.0.2.1"},
		"the visitor's name": {"ProxyPreserveHost On\n", tls + "ProxyPass / https://192.0.2.1/",
			"[192.0.2.1:443] tls, sends (asked for), expects (asked for), dates"},
		"an exception is none": {"", "ProxyPass /x !\nProxyPass / http://192.0.2.1/", "[192.0.2.1:80]"},
		"in a place":           {"", "<Location /a>\nProxyPass http://192.0.2.1:81/\n</Location>", "[192.0.2.1:81]"},
		"by a rule":            {"", "RewriteEngine on\nRewriteRule ^/(.*)$ http://192.0.2.1:82/$1 [P,L]", "[192.0.2.1:82]"},
		"a socket":             {"", "ProxyPass / unix:/run/a.sock|http://localhost/", "[unix:/run/a.sock]"},
		"an application":       {"", "ProxyPass / ajp://192.0.2.1/", "[192.0.2.1:8009]"},
		"worked out":           {"", "RewriteEngine on\nRewriteRule ^ http://%{HTTP:X-To}/ [P]", "[], unknown"},
		"a group": {"<Proxy balancer://nodes>\nBalancerMember https://192.0.2.1:1\nBalancerMember https://192.0.2.2:2\n" +
			"SSLProxyCheckPeerExpire off\n</Proxy>\n", tls + "ProxyPass / balancer://nodes/",
			"[192.0.2.1:1] tls, expects 192.0.2.1; [192.0.2.2:2] tls, expects 192.0.2.2"},
	} {
		r := read(t, map[string]string{"httpd.conf": "ServerRoot /etc/httpd\nListen 80\n" + c.outer + "<VirtualHost *:80>\nServerName a.example\n" +
			c.site + "\n</VirtualHost>\n"})
		got := ""
		for i, h := range r.Sites[len(r.Sites)-1].Hops {
			if i > 0 {
				got += "; "
			}
			got += fmt.Sprint(h.Servers)
			if h.TLS {
				got += " tls"
			}
			for _, p := range []struct{ label, value string }{{"sends", h.Sends}, {"expects", h.Name}} {
				if p.value != "" {
					got += ", " + p.label + " " + p.value
				}
			}
			if h.Dates {
				got += ", dates"
			}
			if h.Checked {
				got += fmt.Sprintf(", verified by %s, depth %d", h.Trust, h.Depth)
			}
			for _, p := range []struct{ label, value string }{{"fails", h.Fails}, {"unknown", h.Unknown}} {
				if p.value != "" {
					got += ", " + p.label
				}
			}
		}
		assert.Equal(t, c.want, got, name)
	}
}

// TestModulesAreSwitchedOnAsDebianDoes plans the links for what an edit takes: with
// what a module depends on, and none that is there, or that the layout has no place
// for.
func TestModulesAreSwitchedOnAsDebianDoes(t *testing.T) {
	main := "ServerRoot /etc/apache2\nListen 80\nLoadModule mime_module x\nIncludeOptional mods-enabled/*.load\n" +
		"IncludeOptional mods-enabled/*.conf\n<VirtualHost *:80>\n  ServerName a.example\n</VirtualHost>\n"
	files := map[string]string{
		"etc/apache2/apache2.conf":                       main,
		"etc/apache2/mods-available/ssl.load":            "# Depends: setenvif mime socache_shmcb\nLoadModule ssl_module y\n",
		"etc/apache2/mods-available/ssl.conf":            "<IfModule ssl_module>\nListen 443\n</IfModule>\n",
		"etc/apache2/mods-available/socache_shmcb.load":  "LoadModule socache_shmcb_module y\n",
		"etc/apache2/mods-available/setenvif.load":       "LoadModule setenvif_module y\n",
		"etc/apache2/mods-available/mime.load":           "LoadModule mime_module y\n",
		"etc/apache2/mods-available/rewrite.load":        "LoadModule rewrite_module y\n",
		"etc/apache2/mods-enabled/authz_core.load":       "LoadModule authz_core_module y\n",
		"etc/apache2/mods-available/unrelated_thing.txt": "",
	}
	wanted := kind.Wanted{Site: kind.Place{File: "/etc/apache2/apache2.conf", Line: 6, Column: 1}, Certificate: "/n/c.pem", Key: "/n/k.pem",
		Port: 443, Proofs: "/n/proofs"}
	links := func(fsys fs.FS) (out []string, text string) {
		edits, err := httpd.Edit(fsys, "/etc/apache2/apache2.conf", []kind.Wanted{wanted})
		require.NoError(t, err)
		for _, l := range edits.Links {
			out = append(out, l.String())
		}
		require.Len(t, edits.Files, 1)
		return out, edits.Files[0].After
	}
	debian := fstest.MapFS{}
	for name, text := range files {
		debian[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	}
	got, text := links(debian)
	const to = " → ../mods-available/"
	var want []string
	for _, name := range []string{"ssl.load", "ssl.conf", "setenvif.load", "socache_shmcb.load", "rewrite.load"} {
		want = append(want, "/etc/apache2/mods-enabled/"+name+to+name)
	}
	assert.Equal(t, want, got)
	assert.NotContains(t, text, "Listen 443", "what the module brings opens the port")
	for _, name := range []string{"ssl.load", "socache_shmcb.load", "rewrite.load"} {
		debian["etc/apache2/mods-enabled/"+name] = debian["etc/apache2/mods-available/"+name]
	}
	got, text = links(debian)
	assert.Empty(t, got, "it is loaded already")
	assert.Contains(t, text, "Listen 443")

	delete(debian, "etc/apache2/mods-enabled/ssl.load")
	delete(debian, "etc/apache2/mods-available/ssl.load")
	_, err := httpd.Edit(debian, "/etc/apache2/apache2.conf", []kind.Wanted{wanted})
	assert.ErrorContains(t, err, "mod_ssl is not loaded")
}
