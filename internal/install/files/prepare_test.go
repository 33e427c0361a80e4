package files_test

import (
	"crypto/x509"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
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

// TestAPreparedHAProxyPassesOnWhatACAAsksFor does the same on a real HAProxy, which
// passes a CA's request on to who answers it.
func TestAPreparedHAProxyPassesOnWhatACAAsksFor(t *testing.T) {
	const front = quayHead + "frontend web\n    bind PLAIN\n"
	for name, config := range map[string]string{
		"a redirect of the whole front": front + "    http-request redirect scheme https code 301",
		"a redirect that counts late":   front + "\tredirect scheme https code 301 if !{ ssl_fc }\n\tdefault_backend gone\nbackend gone",
		"a rule before, and a denied path": front + "    acl mine req.hdr(host),field(1,:) -i HOST\n    http-request deny if { path_beg /. }\n" +
			"    use_backend here if mine\nbackend here\n    http-request return status 200 content-type text/plain string here",
		"everything passed on":   front + "    default_backend app\nbackend app\n    server one 127.0.0.1:9",
		"a listen of its own":    quayHead + "listen web\n    bind PLAIN\n    server one 127.0.0.1:9",
		"another is prepared":    front + "    http-request allow if { path_beg /x }\n    http-request return status 404",
		"the end has no newline": front + "    http-request return status 202",
	} {
		t.Run(name, func(t *testing.T) { prepared(t, newQuay(t), config, false) })
	}
	p := newQuay(t)
	p.put(t, p.main, quayHead+"frontend web\n  bind "+p.plain.String()+"\n  http-request redirect scheme https\n")
	_, err := p.destination(reach.Local()).Prepare(t.Context(), &install.Wish{Mandate: "menu", Server: "pier", Names: []string{host},
		PlainPort: p.plain.Port(), Leaf: pkitest.Leaf(p.root, host).Certificate})
	assert.ErrorContains(t, err, "a balancer serves no files, and nobody is named who answers a CA")
}

// quayHead is what a HAProxy needs to run by itself.
const quayHead = "global\n  hard-stop-after 1s\ndefaults\n  mode http\n  timeout client 5s\n  timeout server 5s\n  timeout connect 1s\n" +
	"  retries 0\n"

// listener answers a CA beside a server.
func (p *pier) listener(t *testing.T) string {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/.well-known/acme-challenge/a-token" {
			_, _ = io.WriteString(w, "proof")
		}
	}))
	t.Cleanup(s.Close)
	return s.Listener.Addr().String()
}

// TestAPlainHAProxyGoesToHTTPS gives a front that speaks plain http TLS as well.
func TestAPlainHAProxyGoesToHTTPS(t *testing.T) {
	for name, first := range map[string]bool{"at once": false, "prepared before": true} {
		t.Run(name, func(t *testing.T) { plainQuay(t, first) })
	}
}

// plainQuay takes a plain front of a HAProxy to https, and back.
func plainQuay(t *testing.T, first bool) {
	p := newQuay(t)
	p.put(t, p.main, quayHead+"frontend web\n  bind "+p.plain.String()+"\n  use_backend mine if { req.hdr(host),field(1,:) -i "+host+
		" }\n  default_backend other\nbackend mine\n  http-request return status 200 content-type text/plain string mine\n"+
		"backend other\n  http-request return status 203\n")
	i := &install.Installation{ID: 2, State: install.Staging}
	m, leaf := p.leaf(t)
	i.Material = m
	wish := &install.Wish{Mandate: "menu", Server: "pier", Names: []string{host}, Leaf: leaf, Version: "2", Port: p.secure.Port(),
		PlainPort: p.plain.Port(), Listener: p.listener(t)}
	d := p.destination(reach.Local())
	if first { // for the CA, and then for its certificate
		planned, err := d.Prepare(t.Context(), wish)
		require.NoError(t, err)
		for _, f := range planned.Plan.Files {
			require.NoError(t, os.WriteFile(f.Path, []byte(f.After), 0o644))
		}
	}
	p.start(t)
	planned, err := d.Plan(t.Context(), wish)
	require.NoError(t, err)
	assert.False(t, planned.Unasked)
	i.Plan, i.Bindings, i.Leaf = planned.Plan, planned.Bindings, leaf.Fingerprint.String()
	i.Bindings = slices.DeleteFunc(i.Bindings, func(b install.Binding) bool { return b.Neighbour })
	assert.Equal(t, []install.Binding{{Host: host, At: p.secure}}, i.Bindings)
	x := &trial{Connection: reach.Local()}
	x.run(t, p, i)
	require.Equal(t, install.Done, x.kept.State, "%v", x.steps)
	assert.True(t, p.serves(i.Leaf))
	led := fmt.Sprintf("301 https://%s:%d/any?x=1 ", host, p.secure.Port())
	assert.Eventually(t, func() bool { return strings.HasPrefix(p.get(t, host, "/any?x=1"), led) }, 5*time.Second, 10*time.Millisecond)
	assert.Equal(t, "200  proof", p.get(t, host, "/.well-known/acme-challenge/a-token"))
	assert.Equal(t, "203  ", p.get(t, "nobody.example", "/any"))
	x.kept.State, x.kept.Switched = install.Returning, true
	x.run(t, p, &x.kept)
	require.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
	assert.Eventually(t, func() bool { return p.get(t, host, "/any") == "200  mine" }, 5*time.Second, 10*time.Millisecond)
}

// TestAPlainHttpdGoesToHTTPS gives a plain virtual host TLS: its visitors are led
// there, what a CA asks for is served before, and whoever else it answers for gets
// what he got.
func TestAPlainHttpdGoesToHTTPS(t *testing.T) {
	modules := []string{"mpm_event", "authz_core", "alias"}
	for name, p := range map[string]*pier{"all is there": newHouse(t), "modules are switched on": newHouseOf(t, modules...)} {
		t.Run(name, func(t *testing.T) {
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
			on := p.links(t)
			if name != "all is there" {
				assert.Equal(t, []string{"mime.conf", "mime.load", "rewrite.load", "setenvif.conf", "setenvif.load", "socache_shmcb.load",
					"ssl.conf", "ssl.load"}, on, "as the tools of Debian leave them")
			}
			x.kept.State, x.kept.Switched = install.Returning, true
			x.run(t, p, &x.kept)
			require.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
			assert.Empty(t, p.links(t), "and each is undone by the way back")
			assert.Equal(t, before, p.get(t, host, "/any"))
		})
	}
}

// links are the modules that are switched on by links.
func (p *pier) links(t *testing.T) (out []string) {
	list, err := os.ReadDir(p.dir + "/mods-enabled")
	require.NoError(t, err)
	for _, e := range list {
		out = append(out, e.Name())
	}
	return out
}

// prepared starts a server, asks it for everything, prepares it, and asks again.
func prepared(t *testing.T, p *pier, config string, two bool) {
	const token = "/.well-known/acme-challenge/a-token"
	web, users := p.dir+"/web", p.dir+"/users"
	p.put(t, web+"/index.html", "front")
	p.put(t, users, "")
	site, listener := p.site, ""
	if p.quay {
		site, listener = p.main, p.listener(t)
	}
	p.put(t, site,
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
	wish := &install.Wish{Mandate: "menu", Server: "pier", Names: names, PlainPort: p.plain.Port(), Listener: listener,
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
	assert.Eventually(t, func() bool {
		if p.quay { // a signal that comes while it starts anew may get lost
			_ = exec.Command("/bin/sh", "-c", p.command("-s reload")).Run()
		}
		return p.get(t, host, token) == asked[host+" "+token]
	}, 5*time.Second, 100*time.Millisecond, "and back")
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

// TestAWildcardSparesSitesWithACertificateOfTheirOwn plans a wildcard on servers that
// show one, and beside it certificates made for single names: these stay, and that is
// told; what the wildcard's mandate lists by name is exchanged all the same.
func TestAWildcardSparesSitesWithACertificateOfTheirOwn(t *testing.T) {
	for name, p := range map[string]*pier{"nginx": newPier(t), "httpd": newHouse(t), "haproxy": newQuay(t)} {
		t.Run(name, func(t *testing.T) {
			old := pkitest.Leaf(p.root, "*.lantern.example")
			own := pkitest.Leaf(p.root, "own.lantern.example")
			p.put(t, p.dir+"/certs/wild.pem", both(t, old))
			p.put(t, p.dir+"/certs/own.pem", both(t, own))
			site := func(name, pem string) string {
				if p.httpd {
					return fmt.Sprintf("<VirtualHost %s>\n  ServerName %s\n  SSLEngine on\n  SSLCertificateFile %s\n</VirtualHost>\n", p.secure,
						name, pem)
				}
				return fmt.Sprintf("server { listen %s ssl; server_name %s; ssl_certificate %s; ssl_certificate_key %[3]s; }\n", p.secure, name,
					pem)
			}
			wild, single := p.dir+"/certs/wild.pem", p.dir+"/certs/own.pem"
			p.put(t, p.site, "Listen "+p.secure.String()+"\n"+site("any.lantern.example", wild)+site("own.lantern.example", single))
			if !p.httpd {
				p.put(t, p.site, site("any.lantern.example", wild)+site("own.lantern.example", single))
			}
			if p.quay {
				p.put(t, p.main, p.quayText(1, "crt "+wild+" crt "+single))
			}
			plan := func(names ...string) (*install.Planned, error) {
				leaf := pkitest.Leaf(p.root, names[0], func(c *x509.Certificate) { c.DNSNames = names })
				return p.destination(reach.Local()).Plan(t.Context(), &install.Wish{Mandate: "menu", Server: "pier", Names: names,
					Leaf: leaf.Certificate, Version: "1", Port: p.secure.Port()})
			}
			planned, err := plan("*.lantern.example")
			require.NoError(t, err)
			text := fmt.Sprint(planned.Plan.Files, planned.Plan.Links)
			assert.Contains(t, strings.Join(planned.Notes, "\n"), "keeps "+single+", which lists its name")
			assert.NotContains(t, strings.Join(planned.Notes, "\n"), "keeps "+wild)
			if p.quay {
				assert.Contains(t, text, wild)
				assert.NotContains(t, text, single)
			}
			both, err := plan("*.lantern.example", "own.lantern.example")
			require.NoError(t, err)
			assert.NotContains(t, strings.Join(both.Notes, "\n"), "keeps "+single)
		})
	}
}
