package nginx_test

import (
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/nginx"
)

const main = "/etc/nginx/nginx.conf"

// tree makes a file system of texts, by paths below /etc/nginx.
func tree(files map[string]string) fstest.MapFS {
	m := fstest.MapFS{}
	for name, text := range files {
		m["etc/nginx/"+name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	}
	return m
}

func read(t *testing.T, fsys fs.FS) *kind.Reading {
	r, err := nginx.Read(fsys, main)
	require.NoError(t, err)
	return r
}

func problems(r *kind.Reading) (out []string) {
	for _, p := range r.Problems {
		out = append(out, strings.TrimPrefix(p.Error(), "/etc/nginx/"))
	}
	return out
}

// TestPrintingGivesTheSameBytes takes every configuration of the truth test,
// those nginx refuses as well.
func TestPrintingGivesTheSameBytes(t *testing.T) {
	list, err := filepath.Glob("testdata/truth/*.txtar")
	require.NoError(t, err)
	for _, file := range list {
		a, err := txtar.ParseFile(file)
		require.NoError(t, err)
		for _, f := range a.Files {
			assert.Equal(t, string(f.Data), nginx.Parse("x", string(f.Data)).Print(), "%s %s", file, f.Name)
		}
	}
}

func TestEveryWordKnowsItsPlace(t *testing.T) {
	f := nginx.Parse("/a",
		"http {\n  server {\n\tserver_name a.test\n\t\t'b \\'c';\n  content_by_lua_block { if x then -- }\n y = \"}\" end "+
			"}\n }\n}")
	require.Empty(t, f.Problems)
	server := f.Nodes[0].Block[0]
	name := server.Block[0]
	assert.Equal(t, kind.Place{File: "/a", Line: 4, Column: 3}, name.WordPlace(2))
	assert.Equal(t, "b 'c", name.Arg(1))
	assert.Equal(t, "content_by_lua_block", server.Block[1].Name())
	assert.Equal(t, int32(7), server.Close.Line)
	assert.Empty(t, server.Block[1].Block)
}

// TestBadInputIsToldWithItsPlaceAndTheRestIsRead gives each kind of bad input
// beside a good site that must still be found.
func TestBadInputIsToldWithItsPlaceAndTheRestIsRead(t *testing.T) {
	const good = "server { listen 8443; server_name good.example; }"
	locked := &fstest.MapFile{Mode: 0}
	for name, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"unclosed block": {map[string]string{"bad.conf": "server {\n listen 1;\n"},
			`bad.conf:1:8: the block "server" opened here is never closed; expected "}" before the file ends`},
		"unclosed quote": {
			map[string]string{"bad.conf": "\nserver { server_name \"x; }\n"},
			`bad.conf:2:22: the quote opened here is never closed`},
		"missing semicolon": {
			map[string]string{"bad.conf": "server { listen 1 }"},
			`bad.conf:1:19: "}" before the directive "listen" is ended; expected ";"`},
		"include loop": {map[string]string{"bad.conf": "include bad.conf;"},
			`bad.conf:1:9: include loop: /etc/nginx/bad.conf → /etc/nginx/bad.conf; expected files that do not include each other`},
		"longer loop": {map[string]string{"bad.conf": "include x/1;", "x/1": "\ninclude x/*;", "x/2": "include bad.conf;"},
			`x/1:2:9: include loop: /etc/nginx/x/1 → /etc/nginx/x/1; expected files that do not include each other`},
		"missing file": {
			map[string]string{"bad.conf": "include gone;"},
			`bad.conf:1:9: /etc/nginx/gone: no such file; expected a readable file`},
		"binary junk": {map[string]string{"bad.conf": "\x7fELF\n\x01\x00\x00"},
			`bad.conf:2:2: the file holds a NUL byte: it is no configuration, and nothing of it is read; expected text`},
		"50 MB": {map[string]string{"bad.conf": strings.Repeat("a;\n", 50_000_000/3)},
			`nginx.conf:1:16: /etc/nginx/bad.conf: it holds 50.0 MB, and at most 4 MB are read; expected a readable file`},
		"nested braces": {map[string]string{"bad.conf": strings.Repeat("a{", 10_000) + strings.Repeat("}", 10_000)},
			`bad.conf:1:129: blocks are nested deeper than 64; what lies deeper is not read`},
		"climbs out": {map[string]string{"bad.conf": "include ../../../secret;"},
			`bad.conf:1:9: the path "../../../secret" climbs out of the file system; expected a path below the root`},
		"a bomb": {
			bomb(), `34:1:1: includes make more than 500000 directives of one block; what follows in it is not read`},
		"strange port": {map[string]string{"bad.conf": "server { listen 70000; }"},
			`bad.conf:1:10: the address of listen "70000" is found by name when nginx starts, so it is not known here; expected an IP address`},
	} {
		t.Run(name, func(t *testing.T) {
			c.files["good.conf"] = good
			c.files["nginx.conf"] = "http { include good.conf; include bad.conf; }"
			if name == "50 MB" || name == "longer loop" {
				c.files["nginx.conf"] = "http { include [b]ad.conf; include good.conf; }"
			}
			began := time.Now()
			r := read(t, tree(c.files))
			assert.Less(t, time.Since(began), 30*time.Second)
			assert.Contains(t, problems(r), c.want)
			var names []string
			for _, s := range r.Sites {
				names = append(names, s.MainName())
			}
			assert.Contains(t, names, "good.example", "the rest is read")
		})
	}
	fsys := tree(map[string]string{"nginx.conf": "http { include bad.conf; " + good + " }"})
	fsys["etc/nginx/bad.conf"] = locked
	r := read(t, deny{fsys, "bad.conf"})
	assert.Equal(t, []string{`nginx.conf:1:16: /etc/nginx/bad.conf: permission denied; expected a readable file`},
		problems(r))
	assert.Len(t, r.Sites, 1)
}

// bomb doubles with each of its files.
func bomb() map[string]string {
	files := map[string]string{"bad.conf": "include 1; include 1;", "40": "a;"}
	for i := 1; i < 40; i++ {
		files[fmt.Sprint(i)] = fmt.Sprintf("include %d; include %d;", i+1, i+1)
	}
	return files
}

// deny refuses one file, or loses the whole source at it.
type deny struct {
	fs.FS
	name string
}

func (d deny) Stat(name string) (fs.FileInfo, error) {
	if strings.HasSuffix(name, "lost.conf") {
		return nil, gone{errors.New("connection lost")}
	}
	return fs.Stat(d.FS, name)
}

func (d deny) Open(name string) (fs.File, error) {
	if strings.HasSuffix(name, d.name) {
		if strings.HasSuffix(name, "lost.conf") {
			return nil, gone{errors.New("connection lost")}
		}
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrPermission}
	}
	return d.FS.Open(name)
}

type gone struct{ error }

func (gone) Lost() bool { return true }

func TestALostSourceGivesNoReadingAtAll(t *testing.T) {
	fsys := tree(map[string]string{"nginx.conf": "http { server { listen 1; } include lost.conf; }", "lost.conf": ""})
	r, err := nginx.Read(deny{fsys, "lost.conf"}, main)
	assert.ErrorContains(t, err, "connection lost")
	assert.Nil(t, r)
}

// TestFilesNotInForce finds sites that were written and not switched on.
func TestFilesNotInForce(t *testing.T) {
	fsys := tree(map[string]string{
		"nginx.conf":        "http { include conf.d/*.conf; include sites-enabled/*; }",
		"conf.d/a.conf":     "server { listen 8443; server_name a.example; }",
		"conf.d/b.conf.off": "server { listen 8443; server_name b.example; }",
		"sites-available/c": "server { listen 8443; server_name c.example; ssl_certificate c.pem; }",
		"sites-available/d": "server { listen 8443; server_name d.example; }",
		"sites-available/e": "", "sites-enabled/.x": "server { server_name x.example; }",
	})
	fsys["etc/nginx/sites-enabled/d"] = &fstest.MapFile{Data: []byte("../sites-available/d"), Mode: fs.ModeSymlink | 0o777}
	r := read(t, fsys)
	x := nginx.NewIndex(r)
	require.Len(t, r.Sites, 2)
	assert.Equal(t, "/etc/nginx/sites-enabled/d", r.Sites[1].File)
	assert.Len(t, r.Idle, 2)
	require.Len(t, x.Idle("c.example"), 1)
	assert.Equal(t, "/etc/nginx/sites-available/c:1", x.Idle("c.example")[0].Place.String())
	assert.Empty(t, x.Idle("d.example"), "it is linked")
	assert.Empty(t, problems(r), "what is wrong with a file not in force is nobody's concern")
	assert.Contains(t, x.Answer("c.example", netip.MustParseAddrPort("127.0.0.1:8443")).Why,
		"no site there has the name c.example, and it is the first site at *:8443")
}

// TestTheServerBehindIsSeen reads where sites pass requests on to, and what is asked
// there: said by the location, its site, or all of them.
func TestTheServerBehindIsSeen(t *testing.T) {
	const verify = "proxy_ssl_verify on; proxy_ssl_trusted_certificate ca.pem; "
	for name, c := range map[string]struct {
		outer, site string
		want        []string
	}{
		"a group, and another machine": {"upstream ferries { server 192.0.2.1:8443; server 192.0.2.2:8443 down; server 192.0.2.3; }",
			"proxy_ssl_verify on; location / { proxy_pass https://ferries/x; } location /api { proxy_pass http://192.0.2.3; }",
			[]string{"[192.0.2.1:8443 192.0.2.3:80] tls, expects ferries, depth 3", "[192.0.2.3:80]"}},
		"nothing said": {"", "location / { proxy_pass https://app.internal; }", []string{"[app.internal:443] tls"}},
		"the name is sent": {"", "proxy_ssl_server_name on; location / { proxy_pass https://app.internal:8443/x; }",
			[]string{"[app.internal:8443] tls, sends app.internal"}},
		"another name, for all": {"proxy_ssl_name o.example; proxy_ssl_server_name on; " + verify, "location / { proxy_pass https://192.0.2.1; }",
			[]string{"[192.0.2.1:443] tls, sends o.example, expects o.example, trusts /etc/nginx/ca.pem, depth 3"}},
		"the visitor's": {"", verify + "proxy_ssl_name $host; proxy_ssl_server_name on; location / { proxy_pass https://192.0.2.1; }",
			[]string{"[192.0.2.1:443] tls, sends (asked for), expects (asked for), trusts /etc/nginx/ca.pem, depth 3"}},
		"the site's": {"", verify + "proxy_ssl_name $server_name; proxy_ssl_verify_depth 2; location / { proxy_pass https://192.0.2.1; }",
			[]string{"[192.0.2.1:443] tls, expects a.example, trusts /etc/nginx/ca.pem, depth 4"}},
		"a name worked out": {"", verify + "proxy_ssl_name $arg_x; location / { proxy_pass https://192.0.2.1; }",
			[]string{"[192.0.2.1:443] tls, trusts /etc/nginx/ca.pem, depth 3, unknown"}},
		"the location switches it off": {"", verify + "location / { proxy_ssl_verify off; proxy_pass https://192.0.2.1; }",
			[]string{"[192.0.2.1:443] tls"}},
		"an address worked out": {"", "location / { proxy_pass http://$arg_x; }", []string{"[], unknown"}},
		"a socket":              {"", "location / { proxy_pass http://unix:/run/app.sock:/x; }", []string{"[unix:/run/app.sock]"}},
		"over gRPC":             {"", "location / { grpc_ssl_verify on; grpc_pass grpcs://192.0.2.1; }", []string{"[192.0.2.1:443] tls, expects 192.0.2.1, depth 3"}},
		"in a condition":        {"", "location / { if ($host) { proxy_pass http://192.0.2.1; } }", []string{"[192.0.2.1:80]"}},
	} {
		r := read(t, tree(map[string]string{"nginx.conf": "http { " + c.outer + " server { server_name a.example; " + c.site + " } }"}))
		var got []string
		for _, h := range r.Sites[0].Hops {
			text := fmt.Sprint(h.Servers)
			if h.TLS {
				text += " tls"
			}
			for _, p := range []struct{ label, value string }{{"sends", h.Sends}, {"expects", h.Name}} {
				if p.value != "" {
					text += ", " + p.label + " " + p.value
				}
			}
			if h.Trust != "" && h.Checked {
				text += ", trusts " + h.Trust
			}
			if h.Checked {
				text += fmt.Sprintf(", depth %d", h.Depth)
			}
			if h.Unknown != "" {
				text += ", unknown"
			}
			got = append(got, text)
		}
		assert.Equal(t, c.want, got, name)
	}
	r := read(t, tree(map[string]string{"nginx.conf": "stream { server { listen 1; proxy_ssl on; proxy_protocol on; proxy_pass 192.0.2.1:5; } }"}))
	h := r.Sites[0].Hops[0]
	assert.True(t, h.TLS && h.Proxied, "bytes are passed on inside TLS, behind a PROXY header")
	plain := read(t, tree(map[string]string{"nginx.conf": "http { server { } }"}))
	assert.Equal(t, "*:80", plain.Listeners[0].String(), "a site without listen is at port 80")
}

// FuzzParse holds that any text prints as it was and that reading it ends.
func FuzzParse(f *testing.F) {
	list, _ := filepath.Glob("testdata/truth/*.txtar")
	for _, file := range list {
		if a, err := txtar.ParseFile(file); err == nil {
			for _, p := range a.Files {
				f.Add(string(p.Data))
			}
		}
	}
	f.Add("a_by_lua_block { [==[ } ]==] -- }\n}")
	f.Add("http{server{listen[::]:1-3 ssl;server_name ~(?<x>a+)+$ .b;if ($host ~* ^a){rewrite ^ $scheme://x/$1? last;}}}")
	f.Fuzz(func(t *testing.T, text string) {
		parsed := nginx.Parse("/x", text)
		if got := parsed.Print(); got != text {
			t.Fatalf("printed %q", got)
		}
		r, err := nginx.Read(tree(map[string]string{"nginx.conf": text}), main)
		if err != nil {
			t.Fatal(err)
		}
		x := nginx.NewIndex(r)
		for _, l := range r.Listeners {
			if l.Address.IsValid() {
				x.Answer("a.b.example", l.Address)
			}
		}
	})
}
