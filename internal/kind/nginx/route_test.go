package nginx_test

import (
	"encoding/pem"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/nginx"
)

// TestWhatPlainHTTPDoes tells handling, target and line for the front page and for
// the file a CA asks for, also where a running server would not show why.
func TestWhatPlainHTTPDoes(t *testing.T) {
	const host = "a.example"
	for name, c := range map[string]struct {
		rules           string // begins in line 4
		front, well     kind.Step
		frontAt, wellAt int
		hiddenAt        int
	}{
		"files": {"root /srv/a;", kind.Step{Handling: kind.Serves, To: "/srv/a"},
			kind.Step{Handling: kind.Serves, To: "/srv/a"}, 4, 4, 0},
		"a redirect hides the location made for a CA": {
			"return 301 https://$host$request_uri;\nlocation ^~ /.well-known/ { root /x; }",
			kind.Step{Handling: kind.Redirects, Status: 301, To: "https://a.example/"},
			kind.Step{Handling: kind.Redirects, Status: 301, To: "https://a.example/.well-known/acme-challenge/token"}, 4, 4, 5},
		"a location made for a CA stands": {
			"location / { return 302 https://b.example; }\nlocation ^~ /.well-known/acme-challenge/ {\n alias /x/; }",
			kind.Step{Handling: kind.Redirects, Status: 302, To: "https://b.example"},
			kind.Step{Handling: kind.Serves, To: "/x/"}, 4, 6, 0},
		"dot files are denied": {"location /.well-known/ { root /x; }\nlocation ~ /\\. { deny all; }",
			kind.Step{Handling: kind.Serves}, kind.Step{Handling: kind.Answered, Status: 403}, 3, 5, 4},
		"the application gets it": {"location / { proxy_pass http://app; }",
			kind.Step{Handling: kind.Passes, To: "http://app"}, kind.Step{Handling: kind.Passes, To: "http://app"}, 4, 4, 0},
		"a condition only a request shows": {"if ($http_user_agent ~ bot) { return 403; }\nreturn 301 https://$host/;",
			kind.Step{Handling: kind.Depends, Status: 403}, kind.Step{Handling: kind.Depends, Status: 403}, 4, 4, 0},
		"a condition that sets something only": {"if ($http_cookie) { set $x 1; }\nreturn 308 https://c.example;",
			kind.Step{Handling: kind.Redirects, Status: 308, To: "https://c.example"},
			kind.Step{Handling: kind.Redirects, Status: 308, To: "https://c.example"}, 5, 5, 0},
		"a rewrite that keeps the path": {"rewrite ^/(?<rest>.*)$ https://b.example/$rest permanent;",
			kind.Step{Handling: kind.Redirects, Status: 301, To: "https://b.example/"},
			kind.Step{Handling: kind.Redirects, Status: 301, To: "https://b.example/.well-known/acme-challenge/token"}, 4, 4, 0},
		"a rewrite without a scheme is none": {
			"rewrite ^/$ /index.php last;\nlocation = /index.php { fastcgi_pass unix:/run/php; }",
			kind.Step{Handling: kind.Passes, To: "unix:/run/php"}, kind.Step{Handling: kind.Serves}, 5, 3, 0},
		"the negated condition": {"if ($request_uri !~ ^/\\.well-known/) { return 301 https://a.example; }\nroot /y;",
			kind.Step{Handling: kind.Redirects, Status: 301, To: "https://a.example"},
			kind.Step{Handling: kind.Serves, To: "/y"}, 4, 5, 0},
		"a status of its own": {
			"return 444;", kind.Step{Handling: kind.Answered, Status: 444},
			kind.Step{Handling: kind.Answered, Status: 444}, 4, 4, 0},
		"an address alone": {
			"return https://b.example/;", kind.Step{Handling: kind.Redirects, Status: 302, To: "https://b.example/"},
			kind.Step{Handling: kind.Redirects, Status: 302, To: "https://b.example/"}, 4, 4, 0},
		"from an included file": {
			"include redirect;", kind.Step{Handling: kind.Redirects, Status: 301, To: "https://a.example/x"},
			kind.Step{Handling: kind.Redirects, Status: 301, To: "https://a.example/x"}, 2, 2, 0},
	} {
		t.Run(name, func(t *testing.T) {
			r := read(t,
				tree(map[string]string{"nginx.conf": "http {\n include a.conf;\n}",
					"a.conf":   "# the site\n\nserver { listen 8080; server_name " + host + ";\n" + c.rules + "\n}",
					"redirect": "\nreturn 301 https://$server_name/x;"}))
			require.Empty(t, problems(r))
			require.Len(t, r.Sites[0].Plain, 1)
			got := r.Sites[0].Plain[0]
			for _, pair := range []struct {
				want, got kind.Step
				at        int
			}{{c.front, got.Front, c.frontAt}, {c.well, got.WellKnown, c.wellAt}} {
				assert.Equal(t, pair.want.Handling, pair.got.Handling)
				assert.Equal(t, pair.want.Status, pair.got.Status)
				assert.Equal(t, pair.want.To, pair.got.To)
				assert.Equal(t, pair.at, pair.got.Line)
			}
			if c.hiddenAt == 0 {
				assert.Nil(t, got.WellKnown.Hidden)
			} else if assert.NotNil(t, got.WellKnown.Hidden) {
				assert.Equal(t, c.hiddenAt, got.WellKnown.Hidden.Line)
			}
		})
	}
}

// TestEachNameIsAskedOnItsOwn holds that conditions on the host count.
func TestEachNameIsAskedOnItsOwn(t *testing.T) {
	r := read(t, tree(map[string]string{"nginx.conf": `http { server { listen 80; server_name a.example www.a.example *.b.example;
		if ($host = www.a.example) { return 301 https://a.example$request_uri; } return 404; } }`}))
	var got []string
	for _, p := range r.Sites[0].Plain {
		got = append(got, p.Host+" "+string(p.Front.Handling))
	}
	assert.Equal(t, []string{"a.example answers", "www.a.example redirects", "any.b.example answers"}, got)
}

// TestWhatASiteHasToDoWithItsFiles reads certificates and keys as they lie.
func TestWhatASiteHasToDoWithItsFiles(t *testing.T) {
	pairs := makePairs(t)
	fsys := tree(map[string]string{"nginx.conf": `http {
		server { listen 443 ssl; server_name a.example; ssl_certificate a.pem; ssl_certificate_key b.key; }
		server { listen 443 ssl; server_name b.example; ssl_certificate gone.pem; ssl_certificate_key junk; }
		server { listen 443 ssl; server_name c.example; ssl_certificate $host.pem; ssl_certificate_key $host.key; }
	}`, "junk": "not a key", "notes.txt": "x", "spare.crt": string(pairs["d.pem"]), "notes.pem": "no certificate"})
	for name, data := range pairs {
		fsys["etc/nginx/"+name] = tree(map[string]string{name: string(data)})["etc/nginx/"+name]
	}
	delete(fsys, "etc/nginx/d.pem")
	r := read(t, fsys)
	a := r.Material["/etc/nginx/a.pem"]
	require.Len(t, a.Chain, 1)
	assert.NotEmpty(t, r.Certificates[a.Chain[0]])
	assert.NotEqual(t, r.Material["/etc/nginx/b.key"].Public, "", "a key's public half is known")
	assert.Equal(t, "no such file", r.Material["/etc/nginx/gone.pem"].Fault)
	assert.Contains(t, r.Material["/etc/nginx/junk"].Fault, "expected certificates as PEM")
	assert.True(t, r.Sites[2].Pairs[0].AtRunTime)
	assert.Equal(t, "$host.pem", r.Sites[2].Pairs[0].Certificate, "what is chosen at run time is not guessed")
	spare := r.Material["/etc/nginx/spare.crt"]
	require.NotNil(t, spare, "what lies beside a named one is known")
	assert.False(t, spare.Named)
	assert.Nil(t, r.Material["/etc/nginx/notes.pem"])
	assert.Nil(t, r.Material["/etc/nginx/notes.txt"])
	for path, m := range r.Material {
		assert.Equal(t, uint32(0o644), m.Mode|map[bool]uint32{true: 0o644}[m.Fault != ""], path)
	}
}

// TestAKeyUnderAPassphrase reads a certificate beside its encrypted key: the
// certificate is known, and what starts unattended needs the passphrase named.
func TestAKeyUnderAPassphrase(t *testing.T) {
	pairs := makePairs(t)
	sealed := string(pairs["a.pem"]) +
		string(pem.EncodeToMemory(&pem.Block{Type: "ENCRYPTED PRIVATE KEY", Bytes: []byte{1}}))
	for config, told := range map[string]bool{
		"ssl_certificate both.pem; ssl_certificate_key both.pem;":                            true,
		"ssl_certificate both.pem; ssl_certificate_key both.pem; ssl_password_file phrases;": false,
		"ssl_certificate a.pem; ssl_certificate_key a.key;":                                  false,
	} {
		fsys := tree(
			map[string]string{"nginx.conf": "http { server { listen 443 ssl; server_name a.example; " + config + " } }",
				"both.pem": sealed, "a.pem": string(pairs["a.pem"]), "a.key": string(pairs["a.key"])})
		r := read(t, fsys)
		var problems []string
		for i := range r.Problems {
			problems = append(problems, r.Problems[i].Error())
		}
		assert.Equal(t, told, strings.Contains(strings.Join(problems, "\n"), "expected ssl_password_file"), "%s %s",
			config, problems)
		assert.Len(t, r.Material[r.Sites[0].Pairs[0].Certificate].Chain, 1, config)
	}
}

// TestVariablesThatWouldNeverEnd asks for files named by maps that grow without
// end, or by patterns that lead all over the machine.
func TestVariablesThatWouldNeverEnd(t *testing.T) {
	var maps strings.Builder
	for i := range 9 {
		fmt.Fprintf(&maps, "map $ssl_server_name $m%d { default %s; }\n", i, strings.Repeat(fmt.Sprintf("$m%d", i+1), 60))
	}
	pairs := makePairs(t)
	fsys := tree(map[string]string{"nginx.conf": "http { " + maps.String() + `
		server { listen 443 ssl; server_name a.example; ssl_certificate $m0.pem; ssl_certificate_key $m0.key; }
		server { listen 444 ssl; server_name b.example; ssl_certificate /$x/$y/$z.pem; ssl_certificate_key /$x/$y/$z.key; }
		server { listen 445 ssl; server_name c.example; ssl_certificate keys/$x/c.pem; ssl_certificate_key keys/$x/c.key; } }`,
		"keys/one/c.pem": string(pairs["a.pem"]), "keys/one/c.key": string(pairs["a.key"])})
	fsys["far/away/file.pem"] = fsys["etc/nginx/keys/one/c.pem"]
	r := read(t, fsys)
	x := nginx.NewIndex(r)
	for port, host := range map[uint16]string{443: "a.example", 444: "b.example"} {
		a := x.Answer(host, netip.AddrPortFrom(netip.MustParseAddr("192.0.2.1"), port))
		require.Len(t, a.Pairs, 1)
		assert.True(t, a.Pairs[0].AtRunTime, "%s is not worked out", host)
	}
	assert.Nil(t, r.Material["/far/away/file.pem"])
	assert.NotNil(t, r.Material["/etc/nginx/keys/one/c.pem"], "one folder deep is looked into")
}
