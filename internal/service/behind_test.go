package service_test

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/process"
)

// originName is what the fronts expect behind them.
const originName = "localhost"

// origins are what stands behind: each an address, and what is wrong with it.
func origins(t *testing.T, dir string) (names []string, at, trust map[string]string) {
	root := pkitest.CA("root", nil)
	middle := pkitest.CA("middle", root)
	low := pkitest.CA("low", middle)
	stranger := pkitest.CA("stranger", nil)
	at, trust = map[string]string{}, map[string]string{}
	pems := func(name string, list ...*pkitest.Entity) string {
		var text []byte
		for _, e := range list {
			text = append(text, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: e.Raw})...)
		}
		path := filepath.Join(dir, name+".pem")
		require.NoError(t, os.WriteFile(path, text, 0o644))
		return path
	}
	roots := pems("roots", root)
	add := func(name string, leaf *pkitest.Entity, trusted string, rest ...*pkitest.Entity) {
		c := leaf.TLS(rest...)
		l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{c}})
		require.NoError(t, err)
		s := &http.Server{ReadHeaderTimeout: time.Minute, ErrorLog: log.New(io.Discard, "", 0), Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			_, _ = io.WriteString(w, "origin")
		})}
		go func() { _ = s.Serve(l) }()
		t.Cleanup(func() { _ = s.Close() })
		names, at[name], trust[name] = append(names, name), l.Addr().String(), trusted
	}
	leaf := func(by *pkitest.Entity, change ...func(*x509.Certificate)) *pkitest.Entity {
		return pkitest.Leaf(by, originName, change...)
	}
	add("good", leaf(middle), roots, middle)
	add("direct", leaf(root), roots)
	add("ended", leaf(middle, pkitest.Valid(-90*day, -2*day)), roots, middle)
	add("early", leaf(middle, pkitest.Valid(2*day, 90*day)), roots, middle)
	add("other-name", pkitest.Leaf(middle, "elsewhere.example"), roots, middle)
	add("wildcard", leaf(middle, func(c *x509.Certificate) { c.DNSNames = []string{"*.front.example", originName} }), roots, middle)
	add("common-name", leaf(middle, func(c *x509.Certificate) { c.DNSNames = nil }), roots, middle)
	add("stranger", leaf(stranger), roots)
	add("unsent", leaf(middle), roots)
	add("unsent-known", leaf(middle), pems("both", root, middle))
	add("intermediate-alone", leaf(middle), pems("middle", middle), middle)
	add("deep", leaf(low), roots, low, middle)
	add("for-clients", leaf(middle, func(c *x509.Certificate) {
		c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
	}), roots, middle)
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &http.Server{ReadHeaderTimeout: time.Minute, Handler: http.NotFoundHandler()}
	go func() { _ = s.Serve(plain) }()
	t.Cleanup(func() { _ = s.Close() })
	names, at["plain"], trust["plain"] = append(names, "plain"), plain.Addr().String(), roots
	names, at["nobody"], trust["nobody"] = append(names, "nobody"), servicetest.FreeAddress(t), roots
	return names, at, trust
}

// day is a day.
const day = 24 * time.Hour

// fronts writes the configurations of three servers: for each origin and each way of
// verifying it a site of its own.
func fronts(t *testing.T, dir string, names []string, at, trust map[string]string, address map[string]string) (hosts []string) {
	modes := map[string][3]string{ // nginx, httpd, HAProxy
		"by-name": {"proxy_ssl_verify on; proxy_ssl_name " + originName + "; proxy_ssl_server_name on;",
			"SSLProxyVerify require\nProxyPreserveHost off\n", "ssl verify required sni str(" + originName + ")"},
		"by-chain": {"proxy_ssl_verify on; proxy_ssl_verify_depth 3; proxy_ssl_name " + originName + ";",
			"SSLProxyVerify require\nSSLProxyVerifyDepth 3\nSSLProxyCheckPeerName off\nSSLProxyCheckPeerCN off\n",
			"ssl verify required"},
		"visitor": {"proxy_ssl_verify on; proxy_ssl_name $host; proxy_ssl_server_name on;",
			"SSLProxyVerify require\nProxyPreserveHost on\n", "ssl verify required sni ssl_fc_sni"},
		"not": {"", "SSLProxyVerify none\n", "ssl verify none"},
		"not-dates": {"proxy_ssl_verify off;", "SSLProxyCheckPeerName off\nSSLProxyCheckPeerExpire off\n",
			"ssl verify none sni str(" + originName + ")"},
	}
	both := filepath.Join(dir, "front.both")
	var nginx, httpd, haproxy, backs strings.Builder
	for mode, says := range modes {
		for _, name := range names {
			host := name + "-" + mode + ".front.example"
			hosts = append(hosts, host)
			to := at[name]
			_, port, _ := net.SplitHostPort(to)
			fmt.Fprintf(&nginx, "server {\n  listen %s ssl;\n  server_name %s;\n  ssl_certificate %s;\n  ssl_certificate_key %s;\n  "+
				"%s\n  proxy_ssl_trusted_certificate %s;\n  location / { proxy_pass https://%s; }\n}\n", address["nginx"], host, both, both,
				says[0], trust[name], to)
			fmt.Fprintf(&httpd, "<VirtualHost %s>\nServerName %s\nSSLEngine on\nSSLCertificateFile %s\nSSLProxyEngine on\n"+
				"SSLProxyCACertificateFile %s\n%sProxyPass / https://%s:%s/\n</VirtualHost>\n", address["httpd"], host, both, trust[name],
				says[1], originName, port)
			fmt.Fprintf(&haproxy, "    use_backend %s if { ssl_fc_sni %s }\n", host, host)
			fmt.Fprintf(&backs, "backend %s\n    server s %s %s ca-file %s\n", host, to, says[2], trust[name])
		}
	}
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	write("nginx.conf", fmt.Sprintf("daemon off;\npid %s/n.pid;\nerror_log stderr crit;\nworker_processes 1;\nevents {}\nhttp {\n"+
		"access_log off;\nproxy_ssl_session_reuse off;\nclient_body_temp_path %[1]s/t1; proxy_temp_path %[1]s/t2; fastcgi_temp_path %[1]s/t3; uwsgi_temp_path "+
		"%[1]s/t4; scgi_temp_path %[1]s/t5;\nserver_names_hash_bucket_size 128;\n%s}\n", dir, nginx.String()))
	modules := ""
	for _, m := range []string{"mpm_event", "authz_core", "socache_shmcb", "ssl", "proxy", "proxy_http"} {
		modules += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
	}
	write("httpd.conf", fmt.Sprintf("ServerRoot %s\nServerName front.example\nDefaultRuntimeDir %[1]s\nPidFile %[1]s/h.pid\n"+
		"Mutex file:%[1]s default\nErrorLog /dev/null\n%sListen %s\nSSLSessionCache none\nStartServers 1\n%s", dir, modules,
		address["httpd"], httpd.String()))
	write("haproxy.cfg", fmt.Sprintf("global\n    log stderr local0 alert\ndefaults\n    mode http\n    timeout connect 2s\n    timeout "+
		"client 9s\n    timeout server 9s\n    retries 0\nfrontend f\n    bind %s ssl crt %s\n%s%s", address["haproxy"], both,
		haproxy.String(), backs.String()))
	return hosts
}

// TestTheLastHopIsJudgedAsTheFrontJudgesIt sets what is said of what stands behind
// real fronts against what visitors get from them: for every way of verifying, and
// every fault an origin can have.
func TestTheLastHopIsJudgedAsTheFrontJudgesIt(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t)
	dir := t.TempDir()
	names, at, trust := origins(t, dir)
	root := pkitest.CA("public", nil)
	front := pkitest.Leaf(root, "*.front.example")
	address := map[string]string{}
	commands := map[string][]string{
		"nginx":   {"/usr/sbin/nginx", "-c", dir + "/nginx.conf", "-p", dir},
		"httpd":   {"/usr/sbin/apache2", "-DFOREGROUND", "-f", dir + "/httpd.conf"},
		"haproxy": {"/usr/sbin/haproxy", "-db", "-f", dir + "/haproxy.cfg"},
	}
	for kind := range commands {
		address[kind] = servicetest.FreeAddress(t)
	}
	key, err := x509.MarshalPKCS8PrivateKey(front.Key)
	require.NoError(t, err)
	both := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: front.Raw}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})...)
	require.NoError(t, os.WriteFile(dir+"/front.both", both, 0o600))
	hosts := fronts(t, dir, names, at, trust, address)
	estate := "estate: Ferries\naudiences:\n  - name: browsers\n    roots: [root.pem]\nservers:\n"
	refs := ""
	for kind, command := range commands {
		cmd := exec.Command(command[0], command[1:]...) //nolint:gosec // of this test
		cmd.Stderr = os.Stderr
		p, err := process.Start(cmd, syscall.SIGTERM)
		require.NoError(t, err)
		t.Cleanup(func() { p.Stop(syscall.SIGTERM) })
		_, port, _ := net.SplitHostPort(address[kind])
		file := map[string]string{"nginx": "nginx.conf", "httpd": "httpd.conf", "haproxy": "haproxy.cfg"}[kind]
		estate += fmt.Sprintf("  - name: %s\n    kind: %s\n    addresses: [127.0.0.1]\n    ports: [%s]\n    reach: {by: local, "+
			"configuration: %s/%s, test: 'true', reload: 'true'}\n", kind, kind, port, dir, file)
		refs += kind + ", "
	}
	estate += "hosts:\n"
	for _, h := range hosts {
		estate += fmt.Sprintf("  - {name: %s, at: [%s]}\n", h, strings.TrimSuffix(refs, ", "))
	}
	for kind := range commands {
		require.Eventually(t, func() bool {
			c, err := net.Dial("tcp", address[kind])
			if err == nil {
				_ = c.Close()
			}
			return err == nil
		}, 30*time.Second, 50*time.Millisecond, kind)
	}
	r.Apply(t, estate, root)
	r.Survey(t)
	said := map[string]string{}
	limit := 500
	list, err := r.Client.ListFindingsWithResponse(t.Context(), &client.ListFindingsParams{Limit: &limit})
	require.NoError(t, err)
	for _, f := range list.JSON200.Items {
		if f.Code == "last-hop-fails" {
			said[f.Server+" "+f.Host] = f.Cause
			assert.Equal(t, client.SeverityBroken, f.Severity)
		}
	}
	fails := 0
	for kind := range commands {
		for _, h := range hosts {
			visitor := &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{DisableKeepAlives: true,
				TLSClientConfig: &tls.Config{InsecureSkipVerify: true, ServerName: h}}}
			req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "https://"+address[kind]+"/", nil)
			require.NoError(t, err)
			req.Host = h
			resp, err := visitor.Do(req)
			require.NoError(t, err, "%s %s", kind, h)
			_ = resp.Body.Close()
			why, told := said[kind+" "+h]
			if failed := resp.StatusCode >= 500; failed != told {
				t.Errorf("%s %s: visitors get %d, and it is said: %q", kind, h, resp.StatusCode, why)
			} else if failed {
				fails++
			}
		}
	}
	assert.Greater(t, fails, 3*len(names), "enough of them fail")
}

// TestWhatIsShownOfServersBehind has a server with very many of them, one that wants a
// PROXY header first, one that goes silent, and one whose list of CAs cannot be read:
// each is told, in bounded time, and nothing that was not looked at is called fine.
func TestWhatIsShownOfServersBehind(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t)
	dir := t.TempDir()
	root := pkitest.CA("root", nil)
	leaf := pkitest.Leaf(root, originName).TLS()
	listen := func(serve func(net.Conn)) string {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { _ = l.Close() })
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go func() { serve(c); _ = c.Close() }()
			}
		}()
		return l.Addr().String()
	}
	proxied := listen(func(c net.Conn) {
		line := make([]byte, len("PROXY UNKNOWN\r\n"))
		if _, err := io.ReadFull(c, line); err == nil && string(line) == "PROXY UNKNOWN\r\n" {
			_ = tls.Server(c, &tls.Config{Certificates: []tls.Certificate{leaf}}).Handshake()
		}
	})
	silent := listen(func(c net.Conn) { _, _ = io.Copy(io.Discard, c) })
	require.NoError(t, os.WriteFile(dir+"/ca.pem", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: root.Raw}), 0o644))
	var many strings.Builder
	for i := range 260 {
		fmt.Fprintf(&many, "  server s%d 127.0.0.1:%d\n", i, 1+i)
	}
	var sections strings.Builder
	for i := range 6 { // more than are led to from one section
		lines := strings.Split(many.String(), "\n")
		fmt.Fprintf(&sections, "backend many%d\n%s\n", i, strings.Join(lines[i*50:min(i*50+50, len(lines))], "\n"))
	}
	at := servicetest.FreeAddress(t)
	_, port, _ := net.SplitHostPort(at)
	require.NoError(t, os.WriteFile(dir+"/haproxy.cfg", []byte(fmt.Sprintf("defaults\n  mode http\nfrontend f\n  bind %s\n  use_backend few if { path / }\n"+
		"  use_backend many0 if { path /0 }\n  use_backend many1 if { path /1 }\n  use_backend many2 if { path /2 }\n"+
		"  use_backend many3 if { path /3 }\n  use_backend many4 if { path /4 }\n  use_backend many5 if { path /5 }\n  default_backend few\n"+
		"backend few\n  server proxied %s ssl verify required ca-file %[3]s/ca.pem sni str(%s) send-proxy\n"+
		"  server silent %s ssl verify none\n  server unread %[2]s ssl verify required ca-file %[3]s/gone.pem send-proxy\n%[6]s", at, proxied,
		dir, originName, silent, sections.String())), 0o644))
	r.Apply(t, fmt.Sprintf("estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n  - {name: lb, kind: haproxy, "+
		"addresses: [127.0.0.1], ports: [%s], reach: {by: local, configuration: %s/haproxy.cfg, test: 'true', reload: 'true'}}\nhosts:\n"+
		"  - {name: a.example, at: [lb]}\n", port, dir), root)
	r.Survey(t)
	sites, err := r.Client.ListSitesWithResponse(t.Context(), "lb", nil)
	require.NoError(t, err)
	require.NotEmpty(t, sites.JSON200.Items)
	states, said := map[client.HopLookState]int{}, map[string]string{}
	for _, h := range sites.JSON200.Items[0].Hops {
		for _, l := range h.Looks {
			states[l.State]++
			said[h.Spot] = string(l.State) + " " + l.Said
		}
	}
	at2 := func(line int) string { return said[fmt.Sprintf("%s/haproxy.cfg:%d", dir, line)] }
	assert.Contains(t, at2(14), "fine localhost, by root, until ")
	assert.Contains(t, at2(15), "fails no handshake comes about: not a byte until the deadline")
	assert.Contains(t, at2(16), "unknown the CAs it is verified with, "+dir+"/gone.pem, cannot be read: no such file")
	assert.Equal(t, 1, states[client.HopLookStateFine])
	assert.Equal(t, 198, states[client.HopLookStateFails], "what is beyond the looks of one reading is not called anything else")
	assert.Equal(t, 1+63, states[client.HopLookStateUnknown], "%v", states)
}
