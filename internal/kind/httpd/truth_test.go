package httpd_test

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/httpd"
	"insegna.example/internal/standin/process"
)

const program = "/usr/sbin/apache2"

// head is what every configuration needs to run by itself.
const head = `ServerRoot @dir@
DefaultRuntimeDir @dir@
PidFile @dir@/pid
Mutex file:@dir@ default
ErrorLog @dir@/error.log
LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so
LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so
LoadModule authz_host_module /usr/lib/apache2/modules/mod_authz_host.so
LoadModule access_compat_module /usr/lib/apache2/modules/mod_access_compat.so
LoadModule mime_module /usr/lib/apache2/modules/mod_mime.so
LoadModule dir_module /usr/lib/apache2/modules/mod_dir.so
LoadModule alias_module /usr/lib/apache2/modules/mod_alias.so
LoadModule rewrite_module /usr/lib/apache2/modules/mod_rewrite.so
LoadModule proxy_module /usr/lib/apache2/modules/mod_proxy.so
LoadModule proxy_http_module /usr/lib/apache2/modules/mod_proxy_http.so
LoadModule socache_shmcb_module /usr/lib/apache2/modules/mod_socache_shmcb.so
LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so
LoadModule macro_module /usr/lib/apache2/modules/mod_macro.so
SSLSessionCache none
TypesConfig /etc/mime.types
ServerName main.example
`

// TestWhatHttpdServesIsWhatTheReaderSays starts a real httpd with every
// configuration of testdata/truth, connects with each name, and compares.
func TestWhatHttpdServesIsWhatTheReaderSays(t *testing.T) {
	_, err := os.Stat(program)
	require.NoError(t, err, "apache2 is not installed; make setup-test installs it")
	list, err := filepath.Glob("testdata/truth/*.txtar")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(list), 40)
	pairs := makePairs(t)
	for _, file := range list {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			c := unpack(t, archive, pairs)
			if c.refused != "" {
				c.compareRefusal(t)
				return
			}
			c.start(t)
			c.compare(t)
		})
	}
}

// truth is one configuration, unpacked and running.
type truth struct {
	dir     string
	names   []string // "-" asks without a name
	paths   []string // asked for in plain http
	refused string   // file:line httpd names, when it must refuse
	idle    string   // names of sites not in force
	ports   map[string]int
	args    []string // of the command
}

var portMark = regexp.MustCompile(`@[0-9]@`)

func unpack(t *testing.T, a *txtar.Archive, pairs map[string][]byte) *truth {
	c := &truth{dir: t.TempDir(), ports: map[string]int{},
		paths: []string{"/", "/.well-known/acme-challenge/token", "/any/other-path"}}
	for line := range strings.SplitSeq(string(a.Comment), "\n") {
		key, value, _ := strings.Cut(line, ": ")
		switch key {
		case "ask":
			c.names = strings.Fields(value)
		case "paths":
			c.paths = append(c.paths, strings.Fields(value)...)
		case "refused":
			c.refused = value
		case "idle":
			c.idle = value
		case "args":
			c.args = strings.Fields(value)
		}
	}
	require.NoError(t, os.Chmod(filepath.Dir(c.dir), 0o755)) // workers of another user read there
	for name, data := range pairs {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), data, 0o644))
	}
	for _, p := range c.paths[1:3] { // folders count where they are
		laid := filepath.Join(c.dir, "htdocs", p)
		require.NoError(t, os.MkdirAll(filepath.Dir(laid), 0o755))
		require.NoError(t, os.WriteFile(laid, []byte("laid"), 0o644))
	}
	for _, f := range a.Files {
		text := strings.Replace(string(f.Data), "@head@\n", head, 1)
		text = portMark.ReplaceAllStringFunc(text, func(mark string) string {
			if c.ports[mark] == 0 {
				c.ports[mark] = freePort(t)
			}
			return strconv.Itoa(c.ports[mark])
		})
		text = strings.ReplaceAll(text, "@dir@", c.dir)
		to := filepath.Join(c.dir, f.Name)
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		if target, is := strings.CutPrefix(text, "link: "); is {
			require.NoError(t, os.Symlink(strings.TrimSpace(target), to))
			continue
		}
		require.NoError(t, os.WriteFile(to, []byte(text), 0o644))
	}
	return c
}

func freePort(t *testing.T) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return l.Addr().(*net.TCPAddr).Port
}

func (c *truth) command(more ...string) *exec.Cmd {
	args := append([]string{"-d", c.dir, "-f", c.dir + "/httpd.conf"}, c.args...)
	cmd := exec.Command(program, append(args, more...)...)
	cmd.Env = append(os.Environ(), "SITE_HOME="+c.dir)
	return cmd
}

func (c *truth) start(t *testing.T) {
	var log bytes.Buffer
	cmd := c.command("-D", "FOREGROUND")
	cmd.Stdout, cmd.Stderr = &log, &log
	running, err := process.Start(cmd, syscall.SIGKILL)
	require.NoError(t, err)
	t.Cleanup(func() { running.Stop(syscall.SIGTERM) })
	require.Eventually(t, func() bool {
		select {
		case <-running.Done():
			said, _ := os.ReadFile(c.dir + "/error.log")
			t.Fatalf("httpd did not start: %s\n%s", log.String(), said)
		default:
		}
		for _, p := range c.ports {
			taken := false
			for _, a := range []string{"127.0.0.1", "127.0.0.2", "::1"} {
				conn, err := net.DialTimeout("tcp", net.JoinHostPort(a, strconv.Itoa(p)), time.Second)
				if taken = taken || err == nil; err == nil {
					_ = conn.Close()
				}
			}
			if !taken && !strings.Contains(t.Name(), "without-listen") {
				return false
			}
		}
		return true
	}, 20*time.Second, 5*time.Millisecond)
}

func (c *truth) read(t *testing.T) *kind.Reading {
	r, err := httpd.Read(os.DirFS("/"), filepath.Join(c.dir, "httpd.conf"))
	require.NoError(t, err)
	return r
}

// compareRefusal holds that the reader finds fault where httpd does.
func (c *truth) compareRefusal(t *testing.T) {
	out, err := c.command("-t").CombinedOutput()
	late := err == nil
	if late { // some faults show at the start only
		cmd := c.command("-D", "FOREGROUND")
		out, err = cmd.CombinedOutput()
		said, _ := os.ReadFile(c.dir + "/error.log")
		out = append(out, said...)
	}
	require.Error(t, err, "httpd takes it")
	file, line, _ := strings.Cut(c.refused, ":")
	found, r := "", c.read(t)
	assert.Equal(t, late, r.Ends() != nil, "the server's own test passes it: %t", late)
	for _, p := range r.Problems {
		if p.Effect == kind.Refused && filepath.Base(p.File) == file && (line == "" || strconv.Itoa(p.Line) == line) {
			found = p.Error()
		}
	}
	assert.NotEmpty(t, found, "httpd says %s", out)
	message, at := httpd.Kind.Tester.Refusal(string(out))
	assert.NotEmpty(t, message)
	if line != "" && at.Known() {
		assert.Equal(t, line, strconv.Itoa(at.Line), string(out))
	}
}

// compare connects to every port at several addresses with every name.
func (c *truth) compare(t *testing.T) {
	r := c.read(t)
	for _, p := range r.Problems {
		assert.NotEqual(t, kind.Refused, p.Effect, p.Error())
	}
	var idle []string
	for i := range r.Idle {
		idle = append(idle, r.Idle[i].MainName())
	}
	assert.Equal(t, c.idle, strings.Join(idle, " "))
	x := httpd.NewIndex(r)
	for _, port := range c.ports {
		for _, address := range []string{"127.0.0.1", "127.0.0.2", "::1"} {
			at := netip.AddrPortFrom(netip.MustParseAddr(address), uint16(port))
			for _, name := range c.names {
				c.compareOne(t, r, x, at, strings.Trim(name, "-"))
			}
		}
	}
}

func (c *truth) compareOne(t *testing.T, r *kind.Reading, x *httpd.Index, at netip.AddrPort, name string) {
	a := x.Answer(name, at)
	what := fmt.Sprintf("%q at %s: %s", name, at, a.Why)
	require.NotEmpty(t, a.Why)
	switch {
	case a.Listener == nil:
		_, err := net.DialTimeout("tcp", at.String(), time.Second)
		assert.Error(t, err, what)
	case !a.Listener.TLS:
		_, err := shake(at, name, 0)
		assert.Error(t, err, what)
		if name != "" {
			c.comparePlain(t, x, at, name)
		}
	default:
		c.compareLeaf(t, r, a.Pairs, at, name, what)
	}
}

// compareLeaf asks for both kinds of key: each pair of the site must be seen,
// and nothing else.
func (c *truth) compareLeaf(t *testing.T, r *kind.Reading, pairs []kind.Pair, at netip.AddrPort, name, what string) {
	var want, got []string
	for _, p := range pairs {
		m := r.Material[p.Certificate]
		require.NotNil(t, m, p.Certificate)
		require.NotEmpty(t, m.Chain, what)
		want = append(want, m.Chain[0])
		leaf, err := x509.ParseCertificate(r.Certificates[m.Chain[0]])
		require.NoError(t, err)
		assert.Equal(t, hexSum(leaf.RawSubjectPublicKeyInfo), r.Material[p.Key].Public, "the key belongs to it")
	}
	for _, suite := range []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256,
		tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256} {
		if leaf, err := shake(at, name, suite); err == nil {
			got = append(got, leaf)
		}
	}
	assert.ElementsMatch(t, want, got, "%s; seen %v", what, c.called(r, got))
}

// called names certificates by the files they lie in.
func (c *truth) called(r *kind.Reading, list []string) (out []string) {
	for _, f := range list {
		for p, m := range r.Material {
			if len(m.Chain) > 0 && m.Chain[0] == f {
				out = append(out, filepath.Base(p))
			}
		}
	}
	return out
}

func hexSum(b []byte) string { s := sha256.Sum256(b); return hex.EncodeToString(s[:]) }

// shake gives the fingerprint of the leaf served; suite asks for a kind of key.
func shake(at netip.AddrPort, name string, suite uint16) (string, error) {
	cfg := &tls.Config{InsecureSkipVerify: true, ServerName: strings.ToLower(name)}
	if suite != 0 {
		cfg.MaxVersion, cfg.CipherSuites = tls.VersionTLS12, []uint16{suite}
	}
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", at.String(), cfg)
	if err != nil {
		return "", err
	}
	defer func() { _ = conn.Close() }()
	return hexSum(conn.ConnectionState().PeerCertificates[0].Raw), nil
}

// comparePlain asks over plain http for the front page, for the file a CA would ask
// for, and for others.
func (c *truth) comparePlain(t *testing.T, x *httpd.Index, at netip.AddrPort, name string) {
	for _, p := range c.paths {
		step, known := x.Plain(name, at, p)
		status, location := get(t, at, name, p)
		what := fmt.Sprintf("%s at %s%s: %+v, seen %d %s", name, at, p, step, status, location)
		require.True(t, known, what)
		assert.Positive(t, step.Line, what)
		switch step.Handling {
		case kind.Redirects:
			assert.Equal(t, step.Status, status, what)
			assert.Equal(t, step.To, location, what)
		case kind.Answered:
			assert.Equal(t, step.Status, status, what)
		case kind.Passes:
			assert.Contains(t, []int{502, 503}, status, what)
		case kind.Serves:
			assert.Contains(t, []int{200, 404}, status, what)
			if p != "/" {
				c.compareFile(t, at, name, p, &step)
			}
		case kind.Depends:
			assert.Contains(t, t.Name(), "only-a-request-shows", what)
		default:
			t.Errorf("nothing said: %s", what)
		}
	}
}

// compareFile lays a file where the step says it lies, and fetches it.
func (c *truth) compareFile(t *testing.T, at netip.AddrPort, name, p string, step *kind.Step) {
	rest, ok := strings.CutPrefix(p, step.Under)
	if !ok || !strings.HasPrefix(step.To, c.dir) {
		return
	}
	file := filepath.Join(step.To, rest)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte("laid"), 0o644))
	status, _ := get(t, at, name, p)
	assert.Equal(t, 200, status, "%s at %s lies at %s", p, name, file)
	if !strings.HasPrefix(file, filepath.Join(c.dir, "htdocs")) {
		require.NoError(t, os.Remove(file))
	}
}

func get(t *testing.T, at netip.AddrPort, host, path string) (int, string) {
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+at.String()+path, nil)
	require.NoError(t, err)
	req.Host = host + ":" + strconv.Itoa(int(at.Port()))
	resp, err := (&http.Transport{DisableKeepAlives: true}).RoundTrip(req)
	require.NoError(t, err)
	_ = resp.Body.Close()
	return resp.StatusCode, resp.Header.Get("Location")
}

// makePairs makes certificates with their keys: a.pem to d.pem with ECDSA, r.pem
// and s.pem with RSA; both.pem is a.pem with its key.
func makePairs(t *testing.T) map[string][]byte {
	out := map[string][]byte{}
	for i, name := range []string{"a", "b", "c", "d", "r", "s"} {
		var key any
		var public any
		if name == "r" || name == "s" {
			k, err := rsa.GenerateKey(rand.Reader, 2048)
			require.NoError(t, err)
			key, public = k, &k.PublicKey
		} else {
			k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
			require.NoError(t, err)
			key, public = k, &k.PublicKey
		}
		template := &x509.Certificate{SerialNumber: big.NewInt(int64(i + 1)), Subject: pkix.Name{CommonName: name},
			NotAfter: time.Now().Add(time.Hour)}
		der, err := x509.CreateCertificate(rand.Reader, template, template, public, key)
		require.NoError(t, err)
		raw, err := x509.MarshalPKCS8PrivateKey(key)
		require.NoError(t, err)
		out[name+".pem"] = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
		out[name+".key"] = pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})
	}
	out["both.pem"] = append(bytes.Clone(out["a.pem"]), out["a.key"]...)
	return out
}
