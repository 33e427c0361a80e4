package nginx_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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

// TestAPlainSiteGetsTLS holds the whole text of what a plain site becomes.
func TestAPlainSiteGetsTLS(t *testing.T) {
	tree := treeOf(map[string]string{"/etc/nginx/nginx.conf": "events {}\nhttp {\n    include sites-enabled/*;\n}\n",
		"/etc/nginx/sites-available/menu": plainSite, "/etc/nginx/sites-enabled/menu": "-> ../sites-available/menu"})
	edits, err := nginx.Edit(tree, "/etc/nginx/nginx.conf", wanted(t, tree, "/etc/nginx/nginx.conf", "menu.example"))
	require.NoError(t, err)
	require.Len(t, edits, 1)
	assert.Equal(t, "/etc/nginx/sites-available/menu", edits[0].Path, "the file itself, not its link")
	assert.Equal(t, plainSite, edits[0].Before)
	assert.Equal(t, `# Menu of the day.
server {
	listen 80 default_server;
	listen [::]:80 default_server ipv6only=on;
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
	listen [::]:443 ssl ipv6only=on;
	server_name menu.example www.menu.example;
	ssl_certificate /k/now/chain.pem;
	ssl_certificate_key /k/now/key.pem;
	ssl_protocols TLSv1.2 TLSv1.3;
	ssl_ciphers ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-RSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384:ECDHE-RSA-AES256-GCM-SHA384:ECDHE-ECDSA-CHACHA20-POLY1305:ECDHE-RSA-CHACHA20-POLY1305;
	root /srv/menu;

	location ~ /\. { deny all; }
}
`, edits[0].After)
	tree["etc/nginx/sites-available/menu"].Data = []byte(edits[0].After)
	again, err := nginx.Edit(tree, "/etc/nginx/nginx.conf", wanted(t, tree, "/etc/nginx/nginx.conf", "menu.example")[1:])
	require.NoError(t, err)
	assert.Empty(t, again, "done once, it is done")
	r, err := nginx.Read(tree, "/etc/nginx/nginx.conf")
	require.NoError(t, err)
	assert.Empty(t, r.Problems)
	assert.Equal(t, kind.Redirects, r.Sites[0].Plain[0].Front.Handling)
	assert.Equal(t, kind.Serves, r.Sites[0].Plain[0].WellKnown.Handling)
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
			edits, err := nginx.Edit(tree, "/n.conf", wanted(t, tree, "/n.conf", "a.example"))
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

// TestSettingsThatAreThereStay adds nothing that is declared already, and one
// listener for several ports of an address.
func TestSettingsThatAreThereStay(t *testing.T) {
	tree := treeOf(map[string]string{"/n.conf": "events {}\nhttp {\nssl_protocols TLSv1.3;\nserver {\n    listen " +
		"127.0.0.1:80;\n    listen 127.0.0.1:8080;\n    server_name a.example;\n    ssl_ciphers HIGH;\n    root /srv;\n}\n}\n"})
	edits, err := nginx.Edit(tree, "/n.conf", wanted(t, tree, "/n.conf", "a.example"))
	require.NoError(t, err)
	for text, times := range map[string]int{"listen 127.0.0.1:443 ssl;": 1, "listen 127.0.0.1:80;": 1,
		"listen 127.0.0.1:8080;": 1, "ssl_protocols": 1, "ssl_ciphers": 1, "root /k/proofs;": 0, "root /srv;": 2} {
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
		"PROXY protocol":           {"server { listen 80 proxy_protocol; server_name a.example; }", "/n.conf:3", "PROXY protocol"},
		"port is plain": {"server { listen 80; server_name a.example; }\nserver { listen 443; server_name b.example; }",
			"/n.conf:4", "port 443 is spoken without TLS"},
		"socket alone": {"server { listen unix:/s; server_name a.example; }", "/n.conf:3", "no address of a network"},
		"half of the pair": {
			"ssl_certificate_key /a.key;\nserver { listen 443 ssl; server_name a.example; ssl_certificate /a.pem; }",
			"/n.conf:4", "only one of certificate and key"},
		"listen included": {
			"server { server_name a.example; include port; }", "/port:1", "listen line of the site is included"},
		"file not whole": {
			"server { listen 80; server_name a.example; }\nserver { listen 81; ", "/n.conf:3", "cannot be read to its end"},
	} {
		t.Run(name, func(t *testing.T) {
			tree := treeOf(map[string]string{"/n.conf": "events {}\nhttp {\n" + c.http + "\n}\n", "/pair": old,
				"/port": "listen 80;", "/again": "include site;",
				"/site": "server { listen 443 ssl; server_name a.example;" + old + " }"})
			_, err := nginx.Edit(tree, "/n.conf", wanted(t, tree, "/n.conf", "a.example"))
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
			edits, err := nginx.Edit(os.DirFS("/"), main, list)
			require.NoError(t, err)
			require.Len(t, edits, 1)
			require.NoError(t, os.WriteFile(main, []byte(edits[0].After), 0o644))
			out, err := exec.Command(program, "-t", "-p", dir, "-c", main, "-e", "stderr").CombinedOutput()
			require.NoError(t, err, "%s\n%s", out, edits[0].After)
			assert.NotContains(t, string(out), "warn")
			after, err := nginx.Read(os.DirFS("/"), main)
			require.NoError(t, err)
			assert.Empty(t, after.Problems)
			assert.Len(t, after.Sites, 2*len(r.Sites))
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
	edits, err := nginx.Edit(tree, main, wanted(t, tree, main, "menu.example"))
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
