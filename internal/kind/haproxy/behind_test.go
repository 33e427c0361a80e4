package haproxy_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/install/files"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/haproxy"
)

// asked writes what is asked of a server behind, in a line.
func asked(h *kind.Hop) string {
	text := fmt.Sprint(h.Servers)
	if h.TLS {
		text += " tls"
	}
	for _, p := range []struct{ label, value string }{{"sends", h.Sends}, {"expects", h.Name}, {"trusts", h.Trust},
		{"unknown", h.Unknown}} {
		if p.value != "" {
			text += fmt.Sprintf(", %s %s", p.label, p.value)
		}
	}
	if h.Checked {
		text += ", verified"
	}
	if h.Proxied {
		text += ", proxied"
	}
	if h.Hosts != nil {
		text += fmt.Sprint(", for ", h.Hosts)
	}
	return text
}

// TestWhatIsAskedOfServersBehind reads server lines, with what their section, its
// defaults and the whole say.
func TestWhatIsAskedOfServersBehind(t *testing.T) {
	const head = "global\n  ca-base /ca\n%s\ndefaults\n  mode http\n  default-server %s\nfrontend f\n  bind :80\n  default_backend b\n" +
		"backend b\n"
	for name, c := range map[string]struct{ global, usual, lines, want string }{
		"plain":                 {"", "", "server a 192.0.2.1:8080", "[192.0.2.1:8080]"},
		"verified by default":   {"", "", "server a 192.0.2.1:443 ssl ca-file x.pem", "[192.0.2.1:443] tls, trusts /ca/x.pem, verified"},
		"not, says the whole":   {"  ssl-server-verify none", "", "server a 192.0.2.1:443 ssl", "[192.0.2.1:443] tls"},
		"not, says the line":    {"", "", "server a 192.0.2.1:443 ssl verify none sni str(x.example)", "[192.0.2.1:443] tls, sends x.example"},
		"a name of its own":     {"", "", "server a 192.0.2.1:443 ssl verify required ca-file /x verifyhost y.example", "[192.0.2.1:443] tls, expects y.example, trusts /x, verified"},
		"the name sent counts":  {"", "", "server a 192.0.2.1:443 ssl ca-file /x verifyhost y.example sni str(x.example)", "[192.0.2.1:443] tls, sends x.example, expects x.example, trusts /x, verified"},
		"the visitor's name":    {"", "", "server a 192.0.2.1:443 ssl ca-file /x sni req.hdr(host)", "[192.0.2.1:443] tls, sends (asked for), expects (asked for), trusts /x, verified"},
		"and by SNI":            {"", "", "server a 192.0.2.1:443 ssl verify none sni ssl_fc_sni", "[192.0.2.1:443] tls, sends (asked for)"},
		"a name worked out":     {"", "", "server a 192.0.2.1:443 ssl verify none sni var(txn.x)", "[192.0.2.1:443] tls, unknown the name asked for there is worked out for each request"},
		"from the defaults":     {"", "ssl verify none send-proxy", "server a 192.0.2.1:443", "[192.0.2.1:443] tls, proxied"},
		"its own line counts":   {"", "ssl verify none send-proxy", "server a 192.0.2.1:443 no-ssl no-send-proxy", "[192.0.2.1:443]"},
		"the section's default": {"", "", "default-server ssl verify none\n  server a 192.0.2.1:443", "[192.0.2.1:443] tls"},
		"of the system":         {"", "", "server a 192.0.2.1:443 ssl ca-file @system-ca", "[192.0.2.1:443] tls, trusts /etc/ssl/certs/ca-certificates.crt, verified"},
		"a socket":              {"", "", "server a unix@/run/app.sock", "[unix:/run/app.sock]"},
		"IPv6":                  {"", "", "server a ipv6@[2001:db8::1]:443", "[[2001:db8::1]:443]"},
		"a name":                {"", "", "server a app.internal:8080", "[app.internal:8080]"},
		"no port":               {"", "", "server a 192.0.2.1", "[], unknown its address or port is worked out when it is needed"},
		"a template":            {"", "", "server-template a 3 app.internal:8080", "[app.internal:8080]"},
		"disabled":              {"", "", "server a 192.0.2.1:1 disabled\n  server b 192.0.2.2:2", "[192.0.2.2:2]"},
	} {
		r, err := haproxy.Read(house(fmt.Sprintf(head, c.global, c.usual)+"  "+c.lines+"\n", nil), mainFile)
		require.NoError(t, err)
		require.Len(t, r.Sites, 1, name)
		require.Len(t, r.Sites[0].Hops, 1, name)
		assert.Equal(t, c.want, asked(&r.Sites[0].Hops[0]), name)
		assert.Equal(t, "b", r.Sites[0].Hops[0].Group, name)
	}
}

// TestHowAFrontIsPrepared writes the lines that let a CA's request through, and says
// why where they cannot be written.
func TestHowAFrontIsPrepared(t *testing.T) {
	const head = "defaults\n  mode http\n"
	const cond = "if { path_beg /.well-known/acme-challenge/ } { req.hdr(host),field(1,:) -i a.example }"
	const behind = "\nbackend insegna-proofs\n    mode http\n    server insegna 192.0.2.9:80\n"
	const note = "# What a CA asks for as proof of these names goes on before all other rules.\n"
	for name, c := range map[string]struct{ text, want, no string }{
		"before its rules": {head + "frontend f\n\tbind :80\n\tdefault_backend b\n\thttp-request deny\nbackend b\n  http-request return\n",
			head + "frontend f\n\tbind :80\n\t" + note + "\thttp-request allow " + cond + "\n\tuse_backend insegna-proofs " + cond +
				"\n\tdefault_backend b\n\thttp-request deny\nbackend b\n  http-request return\n" + behind, ""},
		"a redirect that counts late": {head + "frontend f\r\n  bind :80\r\n  redirect scheme https\r\n",
			head + "frontend f\r\n  bind :80\r\n  " + note[:len(note)-1] + "\r\n  http-request allow " + cond +
				"\r\n  http-request redirect scheme https\r\n  use_backend insegna-proofs " + cond +
				"\r\n\r\nbackend insegna-proofs\r\n    mode http\r\n    server insegna 192.0.2.9:80\r\n", ""},
		"a redirect before a rule": {head + "frontend f\n  bind :80\n  redirect scheme https if { path / }\n  http-request deny\n", "",
			"it redirects before a CA's request could be passed on"},
		"bytes": {"defaults\n  mode tcp\nfrontend f\n  bind :80\n  default_backend b\nbackend b\n  server x 192.0.2.1:80\n", "",
			"no section that speaks plain http stands there"},
		"led elsewhere": {head + "frontend f\n  bind :80\n  http-request return\nbackend insegna-proofs\n  server x 192.0.2.8:80\n", "",
			"the section insegna-proofs leads elsewhere"},
		"once is enough": {head + "frontend f\n  bind :80\n  use_backend insegna-proofs " + cond + "\nbackend insegna-proofs\n  server x 192.0.2.9:80\n",
			"", "the section has been prepared already"},
	} {
		fsys := house(c.text, nil)
		r, err := haproxy.Read(fsys, mainFile)
		require.NoError(t, err)
		at := haproxy.Kind.Installs(machine{files: fsys}, &estate.Server{Reach: &estate.Reach{Configuration: mainFile}})
		freed := kind.Freed{Site: r.Sites[0].Place, Hosts: []string{"a.example"}, Listener: "192.0.2.9:80"}
		edits, err := at.(*files.Destination).Editor.Free(fsys, mainFile, []kind.Freed{freed})
		if c.no != "" {
			require.ErrorContains(t, err, c.no, name)
			var no *kind.EditError
			require.ErrorAs(t, err, &no)
			assert.True(t, no.Known(), name)
			assert.NotEmpty(t, no.Remedy, name)
			continue
		}
		require.NoError(t, err, name)
		require.Len(t, edits.Files, 1, name)
		assert.Equal(t, c.want, edits.Files[0].After, name)
		after, err := haproxy.Read(kind.Overlaid(fsys, edits.Files), mainFile)
		require.NoError(t, err)
		for i := range r.Sites {
			assert.Equal(t, edits.Site(r.Sites[i].Place), after.Sites[i].Place, "%s: sites are known by their new place", name)
		}
	}
}

// TestHowAFrontGoesToHTTPS keeps what the bind line says of its listener, and refuses
// where visitors would go round in circles.
func TestHowAFrontGoesToHTTPS(t *testing.T) {
	const head = "defaults\n  mode http\nfrontend f\n  bind 192.0.2.1:80 accept-proxy # plain\n  %s\n" +
		"  use_backend b if { req.hdr(host) -i a.example }\nbackend b\n  http-request return\n"
	for rule, no := range map[string]string{
		"":                                       "",
		"redirect scheme https if !{ ssl_fc }":   "",
		"redirect scheme https":                  "go round in circles",
		"http-request redirect prefix https://x": "go round in circles",
	} {
		fsys := house(fmt.Sprintf(head, rule), nil)
		r, err := haproxy.Read(fsys, mainFile)
		require.NoError(t, err)
		to := haproxy.Kind.Installs(machine{files: fsys}, &estate.Server{Reach: &estate.Reach{Configuration: mainFile}})
		edits, err := to.(*files.Destination).Editor.Edit(fsys, mainFile,
			[]kind.Wanted{{Site: r.Sites[0].Place, Certificate: "/n/c.pem", Port: 443}})
		if no != "" {
			require.ErrorContains(t, err, no, rule)
			continue
		}
		require.NoError(t, err, rule)
		assert.Contains(t, edits.Files[0].After, "\n  bind 192.0.2.1:443 accept-proxy ssl crt /n/c.pem alpn h2,http/1.1\n", rule)
	}
}
