package nginx_test

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

	"insegna.example/internal/standin/process"
	"insegna.example/internal/truthtest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/nginx"
)

const program = "/usr/sbin/nginx"

// TestWhatNginxServesIsWhatTheReaderSays starts a real nginx with every
// configuration of testdata/truth, connects with each name, and compares.
func TestWhatNginxServesIsWhatTheReaderSays(t *testing.T) {
	needNginx(t)
	list, err := filepath.Glob("testdata/truth/*.txtar")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(list), 30)
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

// TestDebiansDefaultTree copies the tree the package installs, links and all,
// and moves nothing but its folder and port 80.
func TestDebiansDefaultTree(t *testing.T) {
	needNginx(t)
	_, err := os.Stat("/etc/nginx/sites-available/default")
	require.NoError(t, err, "this machine's nginx tree is not Debian's")
	c := &truth{dir: t.TempDir(), ports: map[string]int{"@1@": freePort(t)}, names: []string{"a.example", "-"}}
	port := regexp.MustCompile(`\b80( default_server)`)
	require.NoError(t, filepath.WalkDir("/etc/nginx", func(p string, e os.DirEntry, err error) error {
		to := filepath.Join(c.dir, strings.TrimPrefix(p, "/etc/nginx"))
		switch {
		case err != nil || e.IsDir():
			return os.MkdirAll(to, 0o755)
		case e.Type()&os.ModeSymlink != 0:
			at, err := os.Readlink(p)
			require.NoError(t, err)
			return os.Symlink(strings.ReplaceAll(at, "/etc/nginx", c.dir), to)
		}
		text, err := os.ReadFile(p)
		if err != nil {
			return nil // not for this user
		}
		s := strings.ReplaceAll(string(text), "/etc/nginx", c.dir)
		s = port.ReplaceAllString(strings.ReplaceAll(s, "[::]:80", "[::1]:80"), strconv.Itoa(c.ports["@1@"])+"$1")
		s = regexp.MustCompile(`(pid|_log) [^;]*;`).ReplaceAllString(s, "$1 "+c.dir+"/x$1;")
		s = strings.Replace(s, "http {",
			"daemon off;\nhttp {\n client_body_temp_path t1; proxy_temp_path t2; fastcgi_temp_path t3; uwsgi_temp_path t4; "+
				"scgi_temp_path t5;", 1)
		return os.WriteFile(to, []byte(s), 0o644)
	}))
	require.NoError(t, os.Symlink("/usr/lib/nginx/modules", filepath.Join(c.dir, "modules")))
	c.start(t)
	r := c.compare(t)
	require.Len(t, r.Sites, 1)
	assert.Equal(t, filepath.Join(c.dir, "sites-enabled/default"), r.Sites[0].File)
	for _, f := range r.Files {
		if f.Path == r.Sites[0].File {
			assert.Equal(t, filepath.Join(c.dir, "sites-available/default"), f.Link)
		}
	}
	assert.Empty(t, r.Idle, "what is linked is not counted as switched off")
}

// truth is one configuration, unpacked and running.
type truth struct {
	dir     string
	names   []string // "-" asks without a name
	refused string   // file:line nginx names, when it must refuse
	ports   map[string]int
}

var portMark = regexp.MustCompile(`@([0-9])(\+[0-9])?@`)

func unpack(t *testing.T, a *txtar.Archive, pairs map[string][]byte) *truth {
	c := &truth{dir: t.TempDir(), ports: map[string]int{}}
	for line := range strings.SplitSeq(string(a.Comment), "\n") {
		if ask, ok := strings.CutPrefix(line, "ask: "); ok {
			c.names = strings.Fields(ask)
		} else if at, ok := strings.CutPrefix(line, "refused: "); ok {
			c.refused = at
		}
	}
	require.NoError(t, os.Chmod(filepath.Dir(c.dir), 0o755)) // workers of another user read there
	for name, data := range pairs {
		require.NoError(t, os.WriteFile(filepath.Join(c.dir, name), data, 0o644))
	}
	for _, f := range a.Files {
		text := portMark.ReplaceAllStringFunc(string(f.Data), func(mark string) string {
			m := portMark.FindStringSubmatch(mark)
			base := "@" + m[1] + "@"
			if c.ports[base] == 0 {
				c.ports[base] = freePort(t)
			}
			plus, _ := strconv.Atoi(strings.TrimPrefix(m[2], "+"))
			c.ports[mark] = c.ports[base] + plus
			return strconv.Itoa(c.ports[mark])
		})
		text = strings.ReplaceAll(text, "@dir@", c.dir)
		to := filepath.Join(c.dir, f.Name)
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		require.NoError(t, os.WriteFile(to, []byte(text), 0o644))
	}
	return c
}

// freePort finds three neighbouring free ports and gives the first.
func freePort(t *testing.T) int {
	for range 50 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		p := l.Addr().(*net.TCPAddr).Port
		_ = l.Close()
		free := p < 65000
		for i := 1; free && i < 3; i++ {
			l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", p+i))
			if free = err == nil; free {
				_ = l.Close()
			}
		}
		if free {
			return p
		}
	}
	t.Fatal("no free ports")
	return 0
}

func (c *truth) args(more ...string) []string {
	return append([]string{"-p", c.dir, "-c", "nginx.conf", "-e", "stderr"}, more...)
}

func (c *truth) start(t *testing.T) {
	var log bytes.Buffer
	cmd := exec.Command(program, c.args()...)
	cmd.Stderr = &log
	running, err := process.Start(cmd, syscall.SIGKILL)
	require.NoError(t, err)
	t.Cleanup(func() { running.Stop(os.Interrupt) })
	require.Eventually(t, func() bool {
		select {
		case <-running.Done():
			t.Fatalf("nginx did not start: %s", log.String())
		default:
		}
		for _, p := range c.ports {
			if !c.takes(fmt.Sprintf("127.0.0.1:%d", p)) && !c.takes(fmt.Sprintf("[::1]:%d", p)) {
				return false
			}
		}
		return true
	}, 20*time.Second, 5*time.Millisecond)
}

func (c *truth) takes(address string) bool {
	conn, err := net.DialTimeout("tcp", address, time.Second)
	if err == nil {
		_ = conn.Close()
	}
	return err == nil
}

func (c *truth) read(t *testing.T) *kind.Reading {
	r, err := nginx.Read(os.DirFS("/"), filepath.Join(c.dir, "nginx.conf"))
	require.NoError(t, err)
	return r
}

// compareRefusal holds that the reader finds fault where nginx does.
func (c *truth) compareRefusal(t *testing.T) {
	out, err := exec.Command(program, c.args("-t")...).CombinedOutput()
	require.Error(t, err, "nginx takes it")
	file, line, _ := strings.Cut(c.refused, ":")
	found := ""
	for _, p := range c.read(t).Problems {
		if p.Effect == kind.Refused && filepath.Base(p.File) == file && (line == "" || strconv.Itoa(p.Line) == line) {
			found = p.Error()
		}
	}
	assert.NotEmpty(t, found, "nginx says %s", out)
	if line != "" {
		assert.Contains(t, string(out), c.refused)
	}
}

// compare connects to every port of both families with every name.
func (c *truth) compare(t *testing.T) *kind.Reading {
	r := c.read(t)
	for _, p := range r.Problems {
		assert.NotEqual(t, kind.Refused, p.Effect, p.Error())
	}
	x := nginx.NewIndex(r)
	for _, port := range c.ports {
		for _, address := range []string{"127.0.0.1", "127.0.0.2", "::1"} {
			at := netip.AddrPortFrom(netip.MustParseAddr(address), uint16(port))
			for _, name := range c.names {
				c.compareOne(t, r, x, at, strings.Trim(name, "-"))
			}
		}
	}
	return r
}

func (c *truth) compareOne(t *testing.T, r *kind.Reading, x *nginx.Index, at netip.AddrPort, name string) {
	a := x.Answer(name, at)
	what := fmt.Sprintf("%q at %s: %s", name, at, a.Why)
	require.NotEmpty(t, a.Why)
	switch site := a.Shown; {
	case a.Unsure && strings.Contains(a.Why, "TLS is passed on as it comes"):
		assert.Regexp(t, `to "[^"]*:443", and ended there$`, what)
	case a.Unsure:
		assert.Contains(t, r.Problems[0].Message, "is not understood here", what)
	case a.Listener == nil:
		_, err := net.DialTimeout("tcp", at.String(), time.Second)
		assert.Error(t, err, what)
	case !a.Listener.TLS:
		_, err := shake(at, name, 0)
		assert.Error(t, err, what)
		if a.Listener.Protocol == kind.HTTP && name != "" {
			c.comparePlain(t, x, a, at, name)
		}
	case site.Refuses:
		_, err := shake(at, name, 0)
		assert.ErrorContains(t, err, "unrecognized name", what)
	case len(a.Pairs) > 0 && a.Pairs[0].AtRunTime:
		leaf, err := shake(at, name, 0)
		require.NoError(t, err, what)
		assert.NotEmpty(t, leaf)
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
		require.Empty(t, m.Fault)
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
	assert.ElementsMatch(t, want, got, what)
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

// comparePlain asks over plain http for the front page and for the file a CA
// would ask for.
func (c *truth) comparePlain(t *testing.T, x kind.Answers, a kind.Answer, at netip.AddrPort, name string) {
	for _, route := range a.Site.Plain {
		if route.Host != name {
			continue
		}
		kept, _ := x.Plain(name, at, "/any/other-path?kept=yes")
		for path, step := range map[string]kind.Step{"/": route.Front, "/.well-known/acme-challenge/token": route.WellKnown,
			"/any/other-path": route.Other, "/any/other-path?kept=yes": kept} {
			status, location := get(t, at, name, path)
			what := fmt.Sprintf("%s%s: %+v, seen %d %s", name, path, step, status, location)
			assert.Positive(t, step.Line, what)
			switch step.Handling {
			case kind.Redirects:
				assert.Equal(t, step.Status, status, what)
				assert.Equal(t, step.To, location, what)
			case kind.Answered:
				assert.Equal(t, step.Status, status, what)
			case kind.Passes:
				assert.Equal(t, http.StatusBadGateway, status, what)
			case kind.Serves:
				assert.Contains(t, []int{200, 403, 404}, status, what)
			default:
				t.Errorf("nothing said: %s", what)
			}
		}
	}
}

func get(t *testing.T, at netip.AddrPort, host, path string) (int, string) {
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+at.String()+path, nil)
	require.NoError(t, err)
	req.Host = host
	resp, err := (&http.Transport{DisableKeepAlives: true}).RoundTrip(req)
	if err != nil {
		return 444, "" // nginx's own: the connection is closed without an answer
	}
	_ = resp.Body.Close()
	return resp.StatusCode, resp.Header.Get("Location")
}

func needNginx(t *testing.T) {
	_, err := os.Stat(program)
	require.NoError(t, err, "nginx is not installed; make setup-test installs it")
}

// makePairs makes certificates with their keys: a.pem to d.pem with ECDSA, r.pem with RSA.
func makePairs(t *testing.T) map[string][]byte {
	out := map[string][]byte{}
	for i, name := range []string{"a", "b", "c", "d", "r"} {
		var key any
		var public any
		if name == "r" {
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
	return out
}

// server is nginx as the edits of every configuration are tried on it.
var server = &truthtest.Server{Kind: nginx.Kind, Main: "nginx.conf", Test: []string{"-t"}, Log: "none", Pairs: makePairs,
	Command: func(c *truthtest.Truth, more ...string) *exec.Cmd {
		return exec.Command(program, append([]string{"-p", c.Dir, "-c", "nginx.conf", "-e", "stderr"}, more...)...)
	},
	Asked: func(t *testing.T, c *truthtest.Truth) {
		(&truth{dir: c.Dir, names: c.Names, ports: c.Ports}).compare(t)
	}}

// TestVisitorsOfEveryConfigurationAreLed leads every host of every configuration from
// plain http to https.
func TestVisitorsOfEveryConfigurationAreLed(t *testing.T) { server.LeadEverywhere(t) }

// TestTLSOfEveryConfigurationIsSet sets versions and suites everywhere.
func TestTLSOfEveryConfigurationIsSet(t *testing.T) { server.SettleEverywhere(t) }

// TestEveryConfigurationIsPledged has every host send the header of RFC 6797.
func TestEveryConfigurationIsPledged(t *testing.T) { server.PledgeEverywhere(t) }
