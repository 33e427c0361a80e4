package files_test

import (
	"crypto/x509"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/install"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/reach"
)

// get asks in plain http and gives status, Location and body.
func (p *pier) get(t *testing.T, host, path string) string {
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+p.plain.String()+path, nil)
	require.NoError(t, err)
	req.Host = host
	resp, err := (&http.Transport{DisableKeepAlives: true}).RoundTrip(req)
	require.NoError(t, err)
	defer func() { _ = resp.Body.Close() }()
	body, _ := io.ReadAll(io.LimitReader(resp.Body, 512))
	if resp.StatusCode >= 400 {
		body = nil
	}
	return fmt.Sprint(resp.StatusCode, " ", resp.Header.Get("Location"), " ", string(body))
}

// TestAPreparedServerServesWhatACAAsksFor puts every kind of rule before the path
// of http-01, prepares the running server, and asks for the file a CA would: it
// comes, and everything else is answered as before.
func TestAPreparedServerServesWhatACAAsksFor(t *testing.T) {
	listen := "listen PLAIN; "
	for name, config := range map[string]string{
		"a redirect of the whole site": "server { " + listen + "server_name HOST; return 301 https://$host$request_uri; }",
		"a redirect by if and host": "server { " + listen +
			"server_name HOST; if ($host = HOST) { return 301 https://HOST/; } root WEB; }",
		"a rewrite of everything": "server { " + listen + "server_name HOST; rewrite ^(.*)$ https://HOST$1 permanent; }",
		"dot files denied":        "server { " + listen + "server_name HOST; root WEB; location ~ /\\. { deny all; } }",
		"everything passed on": "server { " + listen +
			"server_name HOST; location / { proxy_pass http://127.0.0.1:9; } }",
		"a password": "server { " + listen +
			"server_name HOST; root WEB; auth_basic x; auth_basic_user_file USERS; }",
		"a password around the sites": "auth_basic x; auth_basic_user_file USERS; server { " + listen +
			"server_name HOST; root WEB; }",
		"only some may come in": "server { " + listen + "server_name HOST; root WEB; allow 192.0.2.1; deny all; }",
		"another site is the default": "server { " + listen +
			"server_name other.lantern.example; return 301 https://other.lantern.example/; }\n" +
			"server { " + listen + "server_name HOST www.lantern.example; return 301 https://HOST$request_uri; }",
		"the default answers": "server { " + listen + "server_name _; return 301 https://$host$request_uri; }",
		"two sites": "server { " + listen + "server_name HOST; return 301 https://HOST/; }\nserver { " + listen +
			"server_name two.lantern.example; return 404; }",
	} {
		t.Run(name, func(t *testing.T) { prepared(t, newPier(t), config, name == "two sites") })
	}
}

// TestAPreparedHttpdServesWhatACAAsksFor does the same on a real httpd.
func TestAPreparedHttpdServesWhatACAAsksFor(t *testing.T) {
	for name, config := range map[string]string{
		"a redirect of the whole site": "<VirtualHost PLAIN>\n\tServerName HOST\n\tRedirect permanent / https://HOST/\n</VirtualHost>",
		"a rewrite of everything": "<VirtualHost PLAIN>\nServerName HOST\nRewriteEngine on\nRewriteCond %{HTTPS} off\n" +
			"RewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]\n</VirtualHost>",
		"everything passed on": "<VirtualHost \\\n PLAIN>\n ServerName HOST\n ProxyPass / http://127.0.0.1:9/\n</VirtualHost>",
		"all is denied": "<Directory />\n Require all denied\n</Directory>\n<VirtualHost PLAIN>\n ServerName HOST\n DocumentRoot WEB\n" +
			"</VirtualHost>",
		"another site is the first": "<VirtualHost PLAIN>\n ServerName other.lantern.example\n Redirect / https://other.lantern.example/\n" +
			"</VirtualHost>\n<VirtualHost PLAIN>\n ServerName HOST\n ServerAlias www.lantern.example\n RedirectMatch 301 (.*) https://HOST$1\n" +
			"</VirtualHost>",
		"the first answers": "<VirtualHost PLAIN>\n ServerName _\n RedirectMatch ^ https://HOST/\n</VirtualHost>",
		"two sites": "<VirtualHost PLAIN>\n ServerName HOST\n Redirect / https://HOST/\n</VirtualHost>\n<VirtualHost PLAIN>\n" +
			" ServerName two.lantern.example\n Redirect 404 /\n</VirtualHost>",
	} {
		t.Run(name, func(t *testing.T) { prepared(t, newHouse(t), "Listen PLAIN\n"+config, name == "two sites") })
	}
}

// TestAPlainHttpdGoesToHTTPS gives a plain virtual host TLS: its visitors are led
// there, what a CA asks for is served before, and whoever else it answers for gets
// what he got.
func TestAPlainHttpdGoesToHTTPS(t *testing.T) {
	p := newHouse(t)
	i := p.lay(t, plainOnly, 2)
	before := p.get(t, "nobody.example", "/any")
	x := &trial{Connection: reach.Local()}
	x.run(t, p, i)
	require.Equal(t, install.Done, x.kept.State, "%v", x.steps)
	assert.True(t, p.serves(i.Leaf))
	led := fmt.Sprintf("301 https://%s:%d/any?x=1 ", host, p.secure.Port())
	assert.True(t, strings.HasPrefix(p.get(t, host, "/any?x=1"), led), "%s: %s", led, p.get(t, host, "/any?x=1"))
	const token = "/.well-known/acme-challenge/a-token"
	p.put(t, p.folder+"/proofs"+token, "proof")
	require.NoError(t, os.Chmod(p.dir, 0o755))
	assert.Equal(t, "200  proof", p.get(t, host, token))
	assert.Equal(t, before, p.get(t, "nobody.example", "/any"))
}

// prepared starts a server, asks it for everything, prepares it, and asks again.
func prepared(t *testing.T, p *pier, config string, two bool) {
	const token = "/.well-known/acme-challenge/a-token"
	web, users := p.dir+"/web", p.dir+"/users"
	p.put(t, web+"/index.html", "front")
	p.put(t, users, "")
	p.put(t, p.site,
		strings.NewReplacer("PLAIN", p.plain.String(), "HOST", host, "WEB", web, "USERS", users).Replace(config)+"\n")
	p.start(t)
	asked := map[string]string{}
	hosts := []string{host, "two.lantern.example", "other.lantern.example", "www.lantern.example", "nobody.example"}
	for _, h := range hosts {
		for _, path := range []string{"/", "/any", "/.hidden", token} {
			asked[h+" "+path] = p.get(t, h, path)
		}
	}
	names := []string{host}
	if two {
		names = append(names, "two.lantern.example")
	}
	d := p.destination(reach.Local())
	wish := &install.Wish{Mandate: "menu", Server: "pier", Names: names, PlainPort: p.plain.Port(),
		Leaf: pkitest.Leaf(p.root, host, func(c *x509.Certificate) { c.DNSNames = names }).Certificate}
	planned, err := d.Prepare(t.Context(), wish)
	require.NoError(t, err)
	x := &records{}
	i := &install.Installation{Plan: planned.Plan, Bindings: planned.Bindings, State: install.Staging}
	require.NoError(t, (&install.Installer{Destination: d, Records: x}).Run(t.Context(), i))
	require.Equal(t, install.Done, i.State, "%s %v", i.Reason, x.steps)
	p.put(t, p.folder+"/proofs"+token, "proof")
	require.NoError(t, os.Chmod(p.dir, 0o755))
	for _, h := range hosts {
		for _, path := range []string{"/", "/any", "/.hidden", token} {
			want := asked[h+" "+path]
			if path == token && (h == host || h == "two.lantern.example" && two) {
				want = "200  proof"
			}
			assert.Eventually(t, func() bool { return p.get(t, h, path) == want }, 5*time.Second, 10*time.Millisecond,
				"%s%s: want %s", h, path, want)
		}
	}
	_, err = d.Prepare(t.Context(), wish)
	assert.ErrorContains(t, err, "is served by the sites of these names as it is", "once is enough")
	left, err := filepath.Glob(p.dir + "/.insegna*")
	require.NoError(t, err)
	assert.Empty(t, left)

	i.State, i.Switched = install.Returning, true
	require.NoError(t, (&install.Installer{Destination: d, Records: x}).Run(t.Context(), i))
	require.Equal(t, install.Returned, i.State, i.Reason)
	assert.Eventually(t, func() bool { return p.get(t, host, token) == asked[host+" "+token] }, 5*time.Second,
		10*time.Millisecond, "and back")
}

// TestWhereACertificateIsLookedAt has TLS passed on by one listener to another of
// the same server: from outside only the first is seen, on this machine both are.
func TestWhereACertificateIsLookedAt(t *testing.T) {
	for address, want := range map[string][]string{
		"192.0.2.10": {"192.0.2.10:444"}, "127.0.0.1": {"127.0.0.1:444", "127.0.0.1:8443"},
	} {
		p := newPier(t)
		_, leaf := p.leaf(t)
		p.put(t, p.main, "events {}\nstream { server { listen 444; ssl_preread on; proxy_pass 127.0.0.1:8443; } }\n"+
			"http { include sites/*; }\n")
		p.put(t, p.site,
			"server { listen 127.0.0.1:8443 ssl; server_name "+host+"; ssl_certificate a.pem; ssl_certificate_key a.key; }\n")
		planned, err := p.destination(reach.Local()).Plan(t.Context(), &install.Wish{Mandate: "menu", Server: "pier",
			Names: []string{host}, Leaf: leaf, Version: "1", Addresses: []netip.Addr{netip.MustParseAddr(address)}})
		require.NoError(t, err, address)
		var seen []string
		for _, b := range planned.Bindings {
			seen = append(seen, b.At.String())
		}
		assert.ElementsMatch(t, want, seen)
	}
}
