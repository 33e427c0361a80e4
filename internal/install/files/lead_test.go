package files_test

import (
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/install"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/reach"
)

// TestPlainHTTPIsLedToHTTPS mends what plain http does on real servers of each kind: no
// redirect, one for the time being, one that loses something, and the way of a CA that is
// barred. Visitors of the host are led with host, path and query, a CA gets what it asks
// for, others get what they got, and all of it is taken back.
func TestPlainHTTPIsLedToHTTPS(t *testing.T) {
	const second, other = "two.lantern.example", "other.lantern.example"
	nginx := func(rule string) string {
		return "server { listen PLAIN; server_name " + other + " " + second + "; return 202; }\n" +
			"server { listen PLAIN; server_name " + host + "; " + rule + " }\n"
	}
	httpd := func(rule string) string {
		return "<VirtualHost PLAIN>\n  ServerName " + other + "\n  Redirect 404 /\n</VirtualHost>\n" +
			"<VirtualHost PLAIN>\n  ServerName " + host + "\n" + rule + "</VirtualHost>\n"
	}
	quay := func(rule string) string {
		return "frontend plain\n  bind PLAIN\n  " + rule + "\n  http-request return status 202\n"
	}
	const mine = " if { req.hdr(host),field(1,:) -i " + host + " }"
	for name, c := range map[string]struct {
		pierOf  func(*testing.T) *pier
		plain   string
		code    check.Code
		changed string // a line that stands there afterwards
	}{
		"nginx, none":             {newPier, nginx("root WEB;"), check.RedirectMissing, "return 301 https://$host:PORT$request_uri;"},
		"nginx, to plain http":    {newPier, nginx("return 301 http://" + host + "/x;"), check.RedirectMissing, "return 301 https://$host:PORT$request_uri;"},
		"nginx, for the time":     {newPier, nginx("return https://$host:PORT$request_uri;"), check.RedirectTemporary, "{ listen PLAIN; server_name " + host + "; return 301 https://$host:PORT$request_uri; }"},
		"nginx, a rewrite":        {newPier, nginx("rewrite ^ https://" + host + ":PORT$request_uri? redirect;"), check.RedirectTemporary, "$request_uri? permanent;"},
		"nginx, the path is lost": {newPier, nginx("location / { return 301 https://$host:PORT/; }"), check.RedirectLoses, "location / { return 301 https://$host:PORT$request_uri; }"},
		"nginx, by who answers others": {newPier, "server { listen PLAIN default_server; server_name " + host +
			"; return 302 https://$host:PORT$request_uri; }\n", check.RedirectTemporary, "return 302 https://$host:PORT$request_uri; }"},
		"httpd, none":             {newHouse, httpd("  DocumentRoot WEB\n"), check.RedirectMissing, "RewriteRule ^ https://%1:PORT%{REQUEST_URI} [R=301,END]"},
		"httpd, for the time":     {newHouse, httpd("  Redirect / https://" + host + ":PORT/\n"), check.RedirectTemporary, "  Redirect permanent / https://"},
		"httpd, a rewrite":        {newHouse, httpd("  RewriteEngine on\n  RewriteRule ^ https://" + host + ":PORT%{REQUEST_URI} [L,R]\n"), check.RedirectTemporary, "[L,R=301]"},
		"httpd, the path is lost": {newHouse, httpd("  RedirectMatch 301 ^ https://" + host + ":PORT/\n"), check.RedirectLoses, "RewriteRule ^ https://%1:PORT%{REQUEST_URI} [R=301,END]"},
		"haproxy, none":           {newQuay, quay("http-request set-header X-Front plain"), check.RedirectMissing, "%[capture.req.uri] code 301 if !{ ssl_fc }"},
		"haproxy, for the time":   {newQuay, quay("http-request redirect location https://" + host + ":PORT%[capture.req.uri]" + mine), check.RedirectTemporary, "%[capture.req.uri] code 301 if { req.hdr"},
		"haproxy, for others too": {newQuay, quay("redirect location https://%[req.hdr(host),field(1,:)]:PORT%[capture.req.uri] code 307"), check.RedirectTemporary, "code 307"},
		"haproxy, the query is lost": {newQuay, quay("http-request redirect location https://" + host + ":PORT%[path] code 301" + mine), check.RedirectLoses,
			"\n  http-request redirect location https://%[req.hdr(host),field(1,:)]:PORT%[capture.req.uri] code 301 if { req.hdr(host)"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := c.pierOf(t)
			filled := func(s string) string {
				return strings.NewReplacer("PLAIN", p.plain.String(), "PORT", fmt.Sprint(p.secure.Port()), "WEB", p.dir).Replace(s)
			}
			a, _ := p.ail(t, olderNamed, 1)
			p.layPlain(t, filled(c.plain))
			asked := []string{"/any/file?x=1&y", "/.well-known/acme-challenge/token"}
			before := map[string]string{}
			for _, h := range []string{other, second, "nobody.example"} {
				for _, way := range asked {
					before[h+way] = p.get(t, h, way)
				}
			}
			proof := p.get(t, host, asked[1])
			planned, err := p.destination(reach.Local()).Mend(t.Context(), p.leading(c.code, nil))
			require.NoError(t, err)
			require.Equal(t, []int64{1}, numbersOf(planned.Mends), "%+v", planned.Left)
			i := &install.Installation{ID: 1, State: install.Staging, Plan: planned.Plan, Bindings: planned.Bindings}
			require.Len(t, i.Bindings, 1)
			assert.Equal(t, p.plain, i.Bindings[0].At)
			assert.Contains(t, i.Plan.Files[0].After, filled(c.changed))
			laid := a.state(t)
			x := &trial{Connection: reach.Local(), look: func() string {
				status, to, _ := strings.Cut(p.get(t, host, i.Bindings[0].Plain), " ")
				return status + " " + strings.Fields(to + " -")[0]
			}}
			x.run(t, p, i)
			require.Equal(t, install.Done, x.kept.State, "%v", x.steps)
			led := fmt.Sprintf("301 https://%s:%d%s ", host, p.secure.Port(), asked[0])
			require.Eventually(t, func() bool { return strings.HasPrefix(p.get(t, host, asked[0]), led) }, 5*time.Second, 20*time.Millisecond,
				"%s\n%s", p.get(t, host, asked[0]), i.Plan.Files[0].After)
			for q, was := range before {
				h, way, _ := strings.Cut(q, "/")
				assert.Equal(t, was, p.get(t, h, "/"+way), q)
			}
			if !strings.Contains(i.Plan.Files[0].After, "/ { return 301") && strings.HasPrefix(proof, "2") {
				assert.Equal(t, proof, p.get(t, host, asked[1]))
			}
			x.kept.State = install.Returning
			x.run(t, p, &x.kept)
			require.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
			assert.Equal(t, laid, a.state(t))
		})
	}
}

// layPlain puts something else in the place of what the site does in plain http.
func (p *pier) layPlain(t *testing.T, text string) {
	at := p.site
	if p.quay {
		at = p.main
	}
	was, err := os.ReadFile(at)
	require.NoError(t, err)
	lines := strings.SplitAfter(string(was), "\n")
	switch {
	case p.quay:
		text = strings.Replace(string(was), "  bind "+p.plain.String()+"\n", "", 1) + text
	case p.httpd:
		text = lines[0] + text + strings.Join(lines[4:], "")
	default:
		text += strings.Join(lines[5:], "")
	}
	p.put(t, at, text)
	out, err := exec.Command("/bin/sh", "-c", p.command("-t")).CombinedOutput()
	require.NoError(t, err, "%s\n%s", out, text)
	before := p.get(t, host, "/")
	for turn := 0; turn == 0 || p.get(t, host, "/") == before && turn < 5; turn++ {
		out, err := exec.Command("/bin/sh", "-c", p.command("-s reload")).CombinedOutput()
		require.NoError(t, err, string(out))
		time.Sleep(200 * time.Millisecond)
	}
}

// leading is what is to be mended of plain http; unfit is why the certificate does not fit.
func (p *pier) leading(code check.Code, unfit error) *install.Mending {
	return &install.Mending{Server: "pier", Version: "v",
		Faults: []install.Fault{{Finding: 1, Code: code, Host: host, At: p.secure}},
		Fit:    func(string, []*certs.Certificate) error { return unfit },
		Plain:  func(string) uint16 { return p.plain.Port() },
		Proof:  func(string) (string, string) { return "menu", "" }}
}

// TestWhatCannotBeLed says why visitors are not led, and leaves them what they get.
func TestWhatCannotBeLed(t *testing.T) {
	p := newPier(t)
	p.ail(t, olderNamed, 1)
	mend := func(plain string, m *install.Mending) install.Left {
		if plain != "" {
			p.layPlain(t, strings.ReplaceAll(plain, "PLAIN", p.plain.String()))
		}
		planned, err := p.destination(reach.Local()).Mend(t.Context(), m)
		require.NoError(t, err)
		require.Empty(t, planned.Mends)
		require.Empty(t, planned.Plan.Files)
		require.Len(t, planned.Left, 1)
		require.NotEmpty(t, planned.Left[0].Next)
		return planned.Left[0]
	}
	none := p.leading(check.RedirectMissing, nil)
	assert.Contains(t, mend("", p.leading(check.RedirectMissing, errors.New("it is over"))).Reason, "does not fit: it is over")
	assert.Contains(t, mend("", p.leading(check.ChallengeBlocked, nil)).Reason, "a CA gets its answer there already")
	elsewhere := mend("server { listen PLAIN; server_name "+host+"; return 301 https://shop.example$request_uri; }\n", none)
	assert.Contains(t, elsewhere.Reason, "leads visitors of "+host+" to shop.example, which is no name of its site")
	p.put(t, p.site, strings.ReplaceAll("server { listen PLAIN; server_name "+host+"; return 301 https://$host$request_uri; }\n",
		"PLAIN", p.plain.String())+strings.Join(strings.SplitAfter(p.siteText(p.dir+"/certs/old.pem", p.dir+"/certs/old.key"), "\n")[5:], ""))
	assert.Contains(t, mend("", none).Reason, "led to https already")
	p.put(t, p.site, "server { listen "+p.plain.String()+"; return 202; }\n")
	assert.Contains(t, mend("", none).Reason, "has TLS answer at")
}

// TestTheWayOfACAIsFreed mends what bars the files of http-01, on real servers.
func TestTheWayOfACAIsFreed(t *testing.T) {
	for name, c := range map[string]struct {
		pierOf func(*testing.T) *pier
		plain  string
	}{
		"nginx":   {newPier, "server { listen PLAIN; server_name " + host + "; return 301 https://$host:PORT$request_uri; }\n"},
		"httpd":   {newHouse, "<VirtualHost PLAIN>\n  ServerName " + host + "\n  Redirect permanent / https://" + host + ":PORT/\n</VirtualHost>\n"},
		"haproxy": {newQuay, "frontend plain\n  bind PLAIN\n  http-request redirect location https://" + host + ":PORT%[capture.req.uri] code 301\n"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := c.pierOf(t)
			a, _ := p.ail(t, olderNamed, 1)
			p.layPlain(t, strings.NewReplacer("PLAIN", p.plain.String(), "PORT", fmt.Sprint(p.secure.Port())).Replace(c.plain))
			listener, body := p.listener(t), "200  proof"
			order := p.leading(check.ChallengeBlocked, nil)
			order.Proof = func(string) (string, string) {
				if p.quay {
					return "menu", listener
				}
				return "menu", ""
			}
			planned, err := p.destination(reach.Local()).Mend(t.Context(), order)
			require.NoError(t, err)
			require.Equal(t, []int64{1}, numbersOf(planned.Mends), "%+v", planned.Left)
			i := &install.Installation{ID: 1, State: install.Staging, Plan: planned.Plan, Bindings: planned.Bindings}
			laid := a.state(t)
			x := &trial{Connection: reach.Local(), look: func() string { return strings.Fields(p.get(t, host, i.Bindings[0].Plain))[0] }}
			x.run(t, p, i)
			require.Equal(t, install.Done, x.kept.State, "%v", x.steps)
			if !p.quay {
				require.Len(t, i.Bindings, 1)
				p.put(t, p.folder+"/proofs/.well-known/acme-challenge/a-token", "proof")
				require.NoError(t, exec.Command("chmod", "-R", "a+rX", p.dir+"/insegna").Run())
			}
			assert.Eventually(t, func() bool { return p.get(t, host, "/.well-known/acme-challenge/a-token") == body }, 5*time.Second,
				20*time.Millisecond)
			assert.True(t, strings.HasPrefix(p.get(t, host, "/any"), "301 https://"), "the rest goes where it went")
			require.NoError(t, os.RemoveAll(p.dir+"/insegna"))
			x.kept.State = install.Returning
			x.run(t, p, &x.kept)
			require.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
			assert.Equal(t, laid, a.state(t))
		})
	}
}

// TestALinkThatLeadsToNothingIsLaidAnew switches a site on whose link leads to a name its
// file no longer has, for which the server refuses its whole configuration, and takes that
// back.
func TestALinkThatLeadsToNothingIsLaidAnew(t *testing.T) {
	for name, pierOf := range map[string]func(*testing.T) *pier{"nginx": newPier, "httpd": newHouse} {
		t.Run(name, func(t *testing.T) {
			p := pierOf(t)
			a, _ := p.ail(t, olderNamed, 1) // there is a running server, with a certificate
			text, err := os.ReadFile(p.main)
			require.NoError(t, err)
			link, file := p.dir+"/sites-enabled/menu", p.dir+"/sites-available/menu"
			p.put(t, p.main, strings.Replace(string(text), "sites/*", "sites-enabled/*", 1))
			site, err := os.ReadFile(p.site)
			require.NoError(t, err)
			p.put(t, file, string(site))
			require.NoError(t, os.Mkdir(p.dir+"/sites-enabled", 0o755))
			require.NoError(t, os.Symlink("../sites-available/menu-of-last-year", link))
			order := p.leading(check.SiteNotEnabled, nil)
			planned, err := p.destination(reach.Local()).Mend(t.Context(), order)
			require.NoError(t, err)
			require.Equal(t, []int64{1}, numbersOf(planned.Mends), "%+v", planned.Left)
			require.Len(t, planned.Notes, 1)
			assert.Contains(t, planned.Notes[0], link+" leads to ../sites-available/menu-of-last-year, where nothing is, and comes to lead to ")
			i := &install.Installation{ID: 1, State: install.Staging, Plan: planned.Plan, Bindings: planned.Bindings}
			before := a.state(t)
			x := &trial{Connection: reach.Local()}
			x.run(t, p, i)
			require.Equal(t, install.Done, x.kept.State, "%v", x.steps)
			to, err := filepath.EvalSymlinks(link)
			require.NoError(t, err)
			assert.Equal(t, file, to)
			x.kept.State = install.Returning
			x.run(t, p, &x.kept)
			require.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
			assert.Equal(t, before, a.state(t))
			to, err = os.Readlink(link)
			require.NoError(t, err)
			assert.Equal(t, "../sites-available/menu-of-last-year", to)

			again := *i // somebody has laid it anew meanwhile
			require.NoError(t, os.Remove(link))
			require.NoError(t, os.Symlink("elsewhere", link))
			again.State = install.Staging
			x = &trial{Connection: reach.Local()}
			x.run(t, p, &again)
			assert.Contains(t, x.kept.Reason, link+" is not as the preview showed it")
		})
	}
}

// TestManyHostsAreLedAtOnce leads more hosts than one line takes.
func TestManyHostsAreLedAtOnce(t *testing.T) {
	for name, pierOf := range map[string]func(*testing.T) *pier{"nginx": newPier, "haproxy": newQuay, "httpd": newHouse} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := pierOf(t)
			var hosts []string
			for i := range 150 {
				hosts = append(hosts, fmt.Sprintf("site-number-%03d.of-the-harbour.lantern.example", i))
			}
			leaf := pkitest.Leaf(p.root, host, func(x *x509.Certificate) { x.DNSNames = append([]string{host}, hosts...) })
			file, key := p.dir+"/certs/all.pem", p.dir+"/certs/all.key"
			p.put(t, key, keyText(t, leaf))
			p.put(t, file, string(certs.PEM(leaf.Raw)))
			switch all := strings.Join(append([]string{host}, hosts...), " "); {
			case p.quay:
				p.put(t, file, string(certs.PEM(leaf.Raw))+keyText(t, leaf))
				p.put(t, p.main, p.quayText(1, "crt "+file))
			case p.httpd:
				p.put(t, p.site, strings.ReplaceAll(p.siteText(file, key), "  ServerName "+host+"\n", "  ServerName "+host+"\n  ServerAlias "+all+"\n"))
			default:
				p.put(t, p.main, strings.Replace(readFile(t, p.main), "http {", "http { server_names_hash_max_size 4096; server_names_hash_bucket_size 128;", 1))
				p.put(t, p.site, strings.ReplaceAll(p.siteText(file, key), "server_name "+host, "server_name "+all))
			}
			order := p.leading(check.RedirectMissing, nil)
			order.Faults = nil
			for i, h := range hosts {
				order.Faults = append(order.Faults, install.Fault{Finding: int64(i + 1), Code: check.RedirectMissing, Host: h, At: p.secure})
			}
			planned, err := p.destination(reach.Local()).Mend(t.Context(), order)
			require.NoError(t, err)
			require.Len(t, planned.Mends, len(hosts), "%+v", planned.Left)
			for _, f := range planned.Plan.Files {
				require.NoError(t, os.WriteFile(f.Path, []byte(f.After), 0o644))
			}
			p.start(t)
			for _, h := range []string{hosts[0], hosts[77], hosts[149]} {
				require.Eventually(t, func() bool {
					return strings.HasPrefix(p.get(t, h, "/x?y"), fmt.Sprintf("301 https://%s:%d/x?y ", h, p.secure.Port()))
				}, 5*time.Second, 50*time.Millisecond, h)
			}
			assert.False(t, strings.HasPrefix(p.get(t, host, "/"), "301"), "nobody asked for it")
		})
	}
}

func readFile(t *testing.T, path string) string {
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(text)
}
