package nginx_test

import (
	"io/fs"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/nginx"
)

// treeOf is a tree of files and, behind an arrow, links.
func treeOf(files map[string]string) fstest.MapFS {
	m := fstest.MapFS{}
	for p, text := range files {
		if to, ok := strings.CutPrefix(text, "-> "); ok {
			m[strings.TrimPrefix(p, "/")] = &fstest.MapFile{Data: []byte(to), Mode: os.ModeSymlink | 0o777}
			continue
		}
		m[strings.TrimPrefix(p, "/")] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	}
	return m
}

// wanted asks for every site in force whose main name is given.
func wanted(t *testing.T, tree fstest.MapFS, main string, names ...string) (out []kind.Wanted) {
	r, err := nginx.Read(tree, main)
	require.NoError(t, err)
	for _, name := range names {
		for _, s := range r.Sites {
			if s.MainName() == name {
				out = append(out,
					kind.Wanted{Site: s.Place, Certificate: "/k/now/chain.pem", Key: "/k/now/key.pem", Port: 443, Proofs: "/k/proofs"})
			}
		}
	}
	require.NotEmpty(t, out)
	return out
}

// edit gives the files an edit changes.
func edit(tree fs.FS, main string, list []kind.Wanted) ([]install.File, error) {
	edits, err := nginx.Edit(tree, main, list)
	if err != nil {
		return nil, err
	}
	return edits.Files, nil
}

// diff gives the lines that only one of two texts has, each with its sign.
func diff(before, after string) (out string) {
	count := func(s string) map[string]int {
		m := map[string]int{}
		for l := range strings.Lines(s) {
			m[l]++
		}
		return m
	}
	was, is := count(before), count(after)
	for l := range strings.Lines(before) {
		if was[l] > is[l] {
			out += "-" + l
			was[l]--
		}
	}
	for l := range strings.Lines(after) {
		if is[l] > was[l] {
			out += "+" + l
			is[l]--
		}
	}
	return out
}

const plainSite = `# Menu of the day.
server {
	listen 80 default_server; # everywhere
	listen [::]:80 default_server ipv6only=on;
	server_name menu.example www.menu.example;
	root /srv/menu;

	location ~ /\. { deny all; }
}
`

// TestAPlainSiteGetsTLS holds the whole text of what a plain site becomes: rules
// for its own names where others come to it as well, and a site of its own that
// redirects where nobody else does.
func TestAPlainSiteGetsTLS(t *testing.T) {
	const main = "/etc/nginx/nginx.conf"
	const suites = "\tssl_ciphers ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-RSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384:" +
		"ECDHE-RSA-AES256-GCM-SHA384:ECDHE-ECDSA-CHACHA20-POLY1305:ECDHE-RSA-CHACHA20-POLY1305;\n"
	for name, c := range map[string]struct{ before, first, after string }{
		"others come": {plainSite, "", `# Menu of the day.
server {
	listen 80 default_server; # everywhere
	listen [::]:80 default_server ipv6only=on;
	server_name menu.example www.menu.example;
	listen 443 ssl;
	listen [::]:443 ssl ipv6only=on;
	ssl_certificate /k/now/chain.pem;
	ssl_certificate_key /k/now/key.pem;
	ssl_protocols TLSv1.2 TLSv1.3;
` + suites + `	# Plain http of these names goes to https; other hosts get what they got.
	set $insegna_https $scheme:$http_host;
	if ($uri ~ ^/\.well-known/acme-challenge/) {
		set $insegna_https proof:$insegna_https;
	}
	if ($insegna_https ~* ^http:(menu\.example|www\.menu\.example)\.?(:[0-9]+)?$) {
		return 301 https://$host$request_uri;
	}
	if ($insegna_https ~* ^proof:http:(menu\.example|www\.menu\.example)\.?(:[0-9]+)?$) {
		rewrite ^ /.insegna-proofs$uri last;
	}
	location ^~ /.insegna-proofs/ {
		internal;
		alias /k/proofs/;
	}
	root /srv/menu;

	location ~ /\. { deny all; }
}
`},
		"nobody else comes": {strings.ReplaceAll(plainSite, " default_server", ""),
			"server { listen 80; listen [::]:80; server_name aaa.example; }\n", `# Menu of the day.
server {
	listen 80;
	listen [::]:80 ipv6only=on;
	server_name menu.example www.menu.example;
	location ^~ /.well-known/acme-challenge/ {
		root /k/proofs;
	}
	location / {
		return 301 https://$host$request_uri;
	}
}

server {
	listen 443 ssl; # everywhere
	listen [::]:443 ssl;
	server_name menu.example www.menu.example;
	ssl_certificate /k/now/chain.pem;
	ssl_certificate_key /k/now/key.pem;
	ssl_protocols TLSv1.2 TLSv1.3;
` + suites + `	root /srv/menu;

	location ~ /\. { deny all; }
}
`},
	} {
		t.Run(name, func(t *testing.T) {
			tree := treeOf(map[string]string{main: "events {}\nhttp {\n    include sites-enabled/*;\n}\n",
				"/etc/nginx/sites-enabled/aaa": c.first, "/etc/nginx/sites-available/menu": c.before,
				"/etc/nginx/sites-enabled/menu": "-> ../sites-available/menu"})
			edits, err := edit(tree, main, wanted(t, tree, main, "menu.example"))
			require.NoError(t, err)
			require.Len(t, edits, 1)
			assert.Equal(t, "/etc/nginx/sites-available/menu", edits[0].Path, "the file itself, not its link")
			assert.Equal(t, c.before, edits[0].Before)
			assert.Equal(t, c.after, edits[0].After)
			tree["etc/nginx/sites-available/menu"].Data = []byte(edits[0].After)
			again := wanted(t, tree, main, "menu.example")
			edits, err = edit(tree, main, again[len(again)-1:])
			require.NoError(t, err)
			assert.Empty(t, edits, "done once, it is done")
			r, err := nginx.Read(tree, main)
			require.NoError(t, err)
			assert.Empty(t, r.Problems)
			answers := nginx.NewIndex(r)
			for path, want := range map[string]kind.Handling{"/deck": kind.Redirects,
				"/.well-known/acme-challenge/token": kind.Serves} {
				step, ok := answers.Plain("www.menu.example", netip.MustParseAddrPort("192.0.2.1:80"), path)
				assert.True(t, ok)
				assert.Equal(t, want, step.Handling, path)
			}
			step, _ := answers.Plain("www.menu.example", netip.MustParseAddrPort("192.0.2.1:80"),
				"/.well-known/acme-challenge/token")
			assert.Equal(t, []string{"/k/proofs", ""}, []string{step.To, step.Under})
		})
	}
}

// TestTheLeastChange holds the lines that change in sites of many shapes.
func TestTheLeastChange(t *testing.T) {
	const pair = "+    ssl_certificate /k/now/chain.pem;\n+    ssl_certificate_key /k/now/key.pem;\n"
	for name, c := range map[string]struct{ http, want string }{
		"other paths": {
			"server { listen 443 ssl; server_name a.example;\n    ssl_certificate \"/old one.pem\"; # ours\n    " +
				"ssl_certificate_key /old.key;\n}\n",
			"-    ssl_certificate \"/old one.pem\"; # ours\n-    ssl_certificate_key /old.key;\n+    ssl_certificate " +
				"/k/now/chain.pem; # ours\n+    ssl_certificate_key /k/now/key.pem;\n"},
		"as wanted": {
			"server { listen 443 ssl; server_name a.example; ssl_certificate /k/now/chain.pem; ssl_certificate_key " +
				"'/k/now/key.pem'; }\n", ""},
		"inherited": {
			"ssl_certificate /all.pem; ssl_certificate_key /all.key;\nserver {\n    listen 443 ssl;\n    server_name " +
				"a.example; # main\n    root /srv;\n}\n", pair},
		"both ports": {
			"server {\n    listen 80;\n    listen 443 ssl;\n    server_name a.example;\n    ssl_certificate /old.pem;\n    " +
				"ssl_certificate_key /old.key;\n}\n",
			"-    ssl_certificate /old.pem;\n-    ssl_certificate_key /old.key;\n" + pair},
		"key outside": {
			"ssl_certificate_key /all.key;\nserver {\n    listen 443 ssl;\n    server_name a.example;\n    " +
				"ssl_certificate /old.pem;\n}\n", "-    ssl_certificate /old.pem;\n" + pair},
		"certificate outside": {
			"ssl_certificate /all.pem;\nserver {\n    listen 443 ssl;\n    server_name a.example;\n    " +
				"ssl_certificate_key /old.key;\n}\n", "-    ssl_certificate_key /old.key;\n" + pair},
		"on one line": {
			"server { listen 443 ssl; server_name a.example; root /srv; }\nssl_certificate /all.pem; ssl_certificate_key " +
				"/all.key;\n",
			"-server { listen 443 ssl; server_name a.example; root /srv; }\n+server { listen 443 ssl; server_name a.example; " +
				"ssl_certificate /k/now/chain.pem; ssl_certificate_key /k/now/key.pem; root /srv; }\n"},
		"nothing behind": {
			"server { listen 443 ssl; server_name a.example;}\nssl_certificate /all.pem; ssl_certificate_key /all.key;\n",
			"-server { listen 443 ssl; server_name a.example;}\n+server { listen 443 ssl; server_name a.example; " +
				"ssl_certificate /k/now/chain.pem; ssl_certificate_key /k/now/key.pem; }\n"},
	} {
		t.Run(name, func(t *testing.T) {
			main := "events {}\nhttp {\n" + c.http + "}\n"
			tree := treeOf(map[string]string{"/n.conf": main})
			edits, err := edit(tree, "/n.conf", wanted(t, tree, "/n.conf", "a.example"))
			require.NoError(t, err)
			if c.want == "" {
				assert.Empty(t, edits)
				return
			}
			require.Len(t, edits, 1)
			assert.Equal(t, c.want, diff(edits[0].Before, edits[0].After))
		})
	}
}

// TestTLSIsTakenWhereOthersTakeIt joins the listeners that are there, in their
// form, and opens others only where nobody listens.
func TestTLSIsTakenWhereOthersTakeIt(t *testing.T) {
	const pair = " ssl_certificate /b.pem; ssl_certificate_key /b.key; server_name b.example; }\n"
	for name, c := range map[string]struct {
		around, plain string
		want          []string // listen lines for TLS
	}{
		"for all addresses": {"server { listen 443 ssl http2;" + pair, "192.0.2.1:80", []string{"443 ssl http2"}},
		"for its own":       {"server { listen 192.0.2.1:443 ssl;" + pair, "192.0.2.1:80", []string{"192.0.2.1:443 ssl"}},
		"for another": {"server { listen 192.0.2.2:443 ssl;" + pair, "192.0.2.1:80",
			[]string{"192.0.2.1:443 ssl"}},
		"closer than for all": {"server { listen 192.0.2.1:443 ssl proxy_protocol; listen 443 ssl;" + pair, "80",
			[]string{"192.0.2.1:443 ssl proxy_protocol", "443 ssl"}},
		"one by one": {"server { listen 192.0.2.1:443 ssl;" + pair, "80",
			[]string{"192.0.2.1:443 ssl", "192.0.2.2:443 ssl"}},
		"both families in one": {"server { listen [::]:443 ssl ipv6only=off;" + pair, "80", []string{"[::]:443 ssl"}},
		"both families wanted": {
			"server { listen 443 ssl;" + pair, "[::]:80 ipv6only=off", []string{"[::]:443 ssl", "443 ssl"}},
		"nobody":          {"", "[::]:80 ipv6only=off", []string{"[::]:443 ssl ipv6only=off"}},
		"at another port": {"server { listen 8443 ssl;" + pair, "192.0.2.1:80", []string{"192.0.2.1:443 ssl"}},
	} {
		t.Run(name, func(t *testing.T) {
			tree := treeOf(map[string]string{"/n.conf": "events {}\nhttp {\n" + c.around + "server {\n    listen " + c.plain +
				";\n    server_name a.example;\n    root /srv;\n}\n}\n"})
			list := wanted(t, tree, "/n.conf", "a.example")
			list[0].Addresses = []netip.Addr{netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("192.0.2.2"),
				netip.MustParseAddr("2001:db8::2")}
			edits, err := edit(tree, "/n.conf", list)
			require.NoError(t, err)
			var got []string
			for line := range strings.Lines(edits[0].After[len(c.around)+20:]) {
				if l, ok := strings.CutPrefix(strings.TrimSpace(line), "listen "); ok && strings.Contains(l, "443") {
					got = append(got, strings.TrimSuffix(l, ";"))
				}
			}
			assert.ElementsMatch(t, c.want, got, edits[0].After)
		})
	}
}

// TestTheDefaultStays says default_server of the site that has been the first at
// a listener, where another one before it joins.
func TestTheDefaultStays(t *testing.T) {
	const secured = "server {\n    listen 443 ssl;\n    server_name b.example; ssl_certificate /b.pem; " +
		"ssl_certificate_key /b.key;\n}\n"
	const plain = "server {\n    listen 80;\n    server_name a.example;\n    root /srv;\n}\n"
	const declared = "server {\n    listen 443 ssl default_server;\n    server_name b.example;"
	for text, want := range map[string]bool{plain + secured: true, secured + plain: false} {
		tree := treeOf(map[string]string{"/n.conf": "events {}\nhttp {\n" + text + "}\n"})
		edits, err := edit(tree, "/n.conf", wanted(t, tree, "/n.conf", "a.example"))
		require.NoError(t, err)
		assert.Equal(t, want, strings.Contains(edits[0].After, declared), edits[0].After)
		assert.Equal(t, map[bool]int{true: 1}[want], strings.Count(edits[0].After, "default_server"))
	}
}

// TestTwoSitesAtOnce says it once where two sites of one edit join before it, and
// both join the listener.
func TestTwoSitesAtOnce(t *testing.T) {
	tree := treeOf(map[string]string{"/n.conf": `events {}
http {
server { listen 80 default_server; server_name other.example; }
server { listen 80; server_name a.example; root /srv; }
server { listen 80; server_name c.example; root /srv; }
server { listen 443 ssl; server_name b.example; ssl_certificate /b.pem; ssl_certificate_key /b.key; }
}
`})
	edits, err := edit(tree, "/n.conf", wanted(t, tree, "/n.conf", "a.example", "c.example"))
	require.NoError(t, err)
	assert.Contains(t, edits[0].After, "server { listen 443 ssl default_server; server_name b.example;")
	assert.Equal(t, 2, strings.Count(edits[0].After, "default_server"))
	assert.Equal(t, 3, strings.Count(edits[0].After, "listen 443 ssl"))
	assert.Equal(t, 2, strings.Count(edits[0].After, "return 301"))
}

// TestSettingsThatAreThereStay adds nothing that is declared already, and one
// listener for several ports of an address.
func TestSettingsThatAreThereStay(t *testing.T) {
	tree := treeOf(map[string]string{"/n.conf": "events {}\nhttp {\nssl_protocols TLSv1.3;\nserver {\n    listen " +
		"127.0.0.1:80;\n    listen 127.0.0.1:8080;\n    server_name a.example;\n    ssl_ciphers HIGH;\n    root /srv;\n}\n}\n"})
	edits, err := edit(tree, "/n.conf", wanted(t, tree, "/n.conf", "a.example"))
	require.NoError(t, err)
	for text, times := range map[string]int{"listen 127.0.0.1:443 ssl;": 1, "listen 127.0.0.1:80;": 1,
		"listen 127.0.0.1:8080;": 1, "ssl_protocols": 1, "ssl_ciphers": 1, "/k/proofs": 0, "root /srv;": 1} {
		assert.Equal(t, times, strings.Count(edits[0].After, text), "%s\n%s", text, edits[0].After)
	}
}

// TestWhatIsNotChanged refuses, with the place and a remedy, whatever it cannot
// change without guessing.
func TestWhatIsNotChanged(t *testing.T) {
	const old = " ssl_certificate /a.pem; ssl_certificate_key /a.key;"
	for name, c := range map[string]struct{ http, place, reason string }{
		"two pairs": {
			"server { listen 443 ssl; server_name a.example;" + old + "\nssl_certificate /b.pem; ssl_certificate_key /b.key; }",
			"/n.conf:4", "shows 2 certificates"},
		"by variable": {
			"server { listen 443 ssl; server_name a.example; ssl_certificate /$ssl_server_name.pem; ssl_certificate_key " +
				"/a.key; }", "/n.conf:3", "by a variable"},
		"refuses TLS": {
			"server { listen 443 ssl; server_name a.example; ssl_reject_handshake on; }", "/n.conf:3", "refuses TLS on purpose"},
		"only redirects": {
			"server { listen 80; server_name a.example; return 301 https://b.example$request_uri; }", "/n.conf:3",
			"only redirects to"},
		"shared lines": {
			"server { listen 443 ssl; server_name a.example; include pair; }\nserver { listen 443 ssl; server_name b.example; " +
				"include pair; }", "/pair:1", "included by several sites"},
		"file included twice":      {"include site;\ninclude site;", "/site:1", "included more than once"},
		"included from two places": {"include site;\ninclude again;", "/site:1", "included more than once"},
		"PROXY protocol": {
			"server { listen 80 proxy_protocol; server_name a.example; }", "/n.conf:3", "PROXY protocol"},
		"port is plain": {"server { listen 80; server_name a.example; }\nserver { listen 443; server_name b.example; }",
			"/n.conf:4", "port 443 is spoken without TLS"},
		"socket alone": {"server { listen unix:/s; server_name a.example; }", "/n.conf:3", "no address of a network"},
		"listen included": {
			"server { server_name a.example; include port; }", "/port:1", "listen line of the site is included"},
		"file not whole": {
			"server { listen 80; server_name a.example; }\nserver { listen 81; ", "/n.conf:3", "cannot be read to its end"},
	} {
		t.Run(name, func(t *testing.T) {
			tree := treeOf(map[string]string{"/n.conf": "events {}\nhttp {\n" + c.http + "\n}\n", "/pair": old,
				"/port": "listen 80;", "/again": "include site;",
				"/site": "server { listen 443 ssl; server_name a.example;" + old + " }"})
			_, err := edit(tree, "/n.conf", wanted(t, tree, "/n.conf", "a.example"))
			var refused *kind.EditError
			require.ErrorAs(t, err, &refused)
			assert.Contains(t, refused.Reason, c.reason)
			assert.True(t, strings.HasPrefix(refused.Place.String(), c.place), refused.Place)
			assert.NotEmpty(t, refused.Remedy)
		})
	}
}

// TestNginxTakesWhatIsEdited has the real nginx test what becomes of every
// configuration the reader's tests know, and of Debian's own.
func TestNginxTakesWhatIsEdited(t *testing.T) {
	needNginx(t)
	dir := t.TempDir()
	for name, data := range makePairs(t) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
	}
	for name, http := range map[string]string{
		"plain":  strings.ReplaceAll(plainSite, "default_server", ""),
		"nested": "    map $host $x { default 1; }\n" + strings.ReplaceAll(plainSite, "\n", "\n    "),
		"bare":   "server { server_name a.example; location / { proxy_pass http://127.0.0.1:1; } }\n",
		"two": "server {\n  listen 127.0.0.1:81;\n  server_name a.example;\n}\nserver {\n  listen 127.0.0.1:81;\n  " +
			"server_name b.example;\n}\n",
	} {
		t.Run(name, func(t *testing.T) {
			main := filepath.Join(dir, name+".conf")
			text := "pid " + dir + "/pid; error_log stderr;\nevents {}\nhttp {\naccess_log off;\n" + http + "}\n"
			require.NoError(t, os.WriteFile(main, []byte(text), 0o644))
			r, err := nginx.Read(os.DirFS("/"), main)
			require.NoError(t, err)
			var list []kind.Wanted
			for _, s := range r.Sites {
				list = append(list,
					kind.Wanted{Site: s.Place, Certificate: dir + "/a.pem", Key: dir + "/a.key", Port: 8443, Proofs: dir})
			}
			edits, err := edit(os.DirFS("/"), main, list)
			require.NoError(t, err)
			require.Len(t, edits, 1)
			require.NoError(t, os.WriteFile(main, []byte(edits[0].After), 0o644))
			out, err := exec.Command(program, "-t", "-p", dir, "-c", main, "-e", "stderr").CombinedOutput()
			require.NoError(t, err, "%s\n%s", out, edits[0].After)
			assert.NotContains(t, string(out), "warn")
			after, err := nginx.Read(os.DirFS("/"), main)
			require.NoError(t, err)
			assert.Empty(t, after.Problems)
			assert.True(t, after.Listeners[len(after.Listeners)-1].TLS)
		})
	}
}

// TestACopyMeansTheSame writes configurations as one text: it reads as the
// many files do, every line knows where it comes from, and what cannot be read
// all is not copied.
func TestACopyMeansTheSame(t *testing.T) {
	tree := treeOf(map[string]string{
		"/etc/nginx/nginx.conf": "events {}\nhttp {\n  include conf.d/*.conf; # all\n  include none/*;\n  " +
			"include\n    sites-enabled/*;\n  server { listen 81; server_name last.example; }\n}\n",
		"/etc/nginx/conf.d/a.conf": "server { listen 80; server_name a.example; include snippets/tls.conf; }",
		"/etc/nginx/conf.d/b.conf": "# b\nserver {\n  listen 80;\n  include snippets/tls.conf;\n  server_name " +
			"b.example;\n}\n# end",
		"/etc/nginx/snippets/tls.conf":    "ssl_certificate /k/now/chain.pem;\nssl_certificate_key '/k/now/key.pem';",
		"/etc/nginx/sites-available/menu": plainSite,
		"/etc/nginx/sites-enabled/menu":   "-> ../sites-available/menu",
	})
	edits, err := edit(tree, main, wanted(t, tree, main, "menu.example"))
	require.NoError(t, err)
	require.Len(t, edits, 1)
	words := map[string]string{"/k/now/chain.pem": "/k/versions/7/chain.pem", "/k/now/key.pem": "/k/versions/7/key.pem"}
	flat, err := nginx.Copy(tree, main, edits, words)
	require.NoError(t, err)
	assert.NotContains(t, flat.Text, "include")
	assert.NotContains(t, flat.Text, "/k/now/")
	assert.Equal(t, 3, strings.Count(flat.Text, "/k/versions/7/chain.pem"))

	tree["etc/nginx/sites-available/menu"] = &fstest.MapFile{Data: []byte(edits[0].After), Mode: 0o644}
	many, err := nginx.Read(tree, main)
	require.NoError(t, err)
	one, err := nginx.Read(treeOf(map[string]string{main: flat.Text}), main)
	require.NoError(t, err)
	require.Len(t, one.Sites, len(many.Sites))
	for i := range many.Sites {
		from, ok := flat.Place(one.Sites[i].Place.Line)
		require.True(t, ok)
		assert.Equal(t, many.Sites[i].Place.String(), from.String())
		require.Len(t, one.Sites[i].Names, len(many.Sites[i].Names))
		for n, name := range many.Sites[i].Names {
			assert.Equal(t, name.Text, one.Sites[i].Names[n].Text)
			from, _ := flat.Place(one.Sites[i].Names[n].Place.Line)
			assert.Equal(t, name.Place.String(), from.String())
		}
	}
	assert.Len(t, one.Listeners, len(many.Listeners))
	line := 1 + strings.Count(flat.Text[:strings.Index(flat.Text, "last.example")], "\n")
	assert.Equal(t, "unknown name in /etc/nginx/nginx.conf:7, the staged copy",
		flat.Translate("unknown name in /c:"+strconv.Itoa(line)+", /c", "/c"))

	tree["etc/nginx/conf.d/c.conf"] = &fstest.MapFile{Mode: os.ModeNamedPipe}
	_, err = nginx.Copy(tree, main, edits, words)
	var part *kind.Problem
	require.ErrorAs(t, err, &part)
	assert.Contains(t, err.Error(), "/etc/nginx/conf.d/c.conf: it is no ordinary file")
	tree["etc/nginx/conf.d/c.conf"] = &fstest.MapFile{Data: []byte("include gone.conf;\n")}
	flat, err = nginx.Copy(tree, main, nil, nil)
	require.NoError(t, err)
	assert.Contains(t, flat.Text, "include gone.conf;", "nginx is to complain of it")
}
