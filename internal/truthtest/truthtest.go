// Package truthtest runs configurations on real servers and holds what a reader
// says of them against what visitors get: for every listener, name and kind of key
// the certificate, and over plain http status and location. It is for tests alone.
package truthtest

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
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/big"
	mathrand "math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"insegna.example/internal/kind"
	"insegna.example/internal/standin/process"
)

// Server is a kind of server as it is run.
type Server struct {
	Kind    *kind.Kind
	Main    string            // file in the folder of a configuration
	Marks   map[string]string // lines that stand for others
	Least   int               // configurations there have to be
	Command func(c *Truth, more ...string) *exec.Cmd
	Run     []string // arguments that run it in the foreground
	Test    []string // arguments of its own test
	Log     string   // file in the folder, where it says more than on its output
	Pairs   func(*testing.T) map[string][]byte
	// Asked asks the running server for everything, and compares; nil for Compare
	Asked func(*testing.T, *Truth)
}

// Each runs every configuration of testdata/truth.
func (s *Server) Each(t *testing.T) {
	list, err := filepath.Glob("testdata/truth/*.txtar")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(list), s.Least)
	pairs := s.Pairs(t)
	for _, file := range list {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(file)
			require.NoError(t, err)
			c := s.Unpack(t, archive, pairs)
			if c.Refused != "" {
				c.compareRefusal(t)
				return
			}
			c.Start(t)
			c.Compare(t)
		})
	}
}

// Truth is one configuration, unpacked and running.
type Truth struct {
	Server  *Server
	Dir     string
	Names   []string // "-" asks without a name
	Paths   []string // asked for in plain http
	Refused string   // file:line the server names, when it must refuse
	Idle    string   // names of sites not in force
	Ports   map[string]int
	Args    []string // of the command
}

var portMark = regexp.MustCompile(`@[0-9]@`)

// Unpack lays a configuration.
func (s *Server) Unpack(t *testing.T, a *txtar.Archive, pairs map[string][]byte) *Truth {
	c := &Truth{Server: s, Dir: t.TempDir(), Ports: map[string]int{},
		Paths: []string{"/", "/.well-known/acme-challenge/token", "/any/other-path", "/any/other-path?kept=yes"}}
	for line := range strings.SplitSeq(string(a.Comment), "\n") {
		key, value, _ := strings.Cut(line, ": ")
		switch key {
		case "lay": // one of the pairs' files, at another path
			from, to, _ := strings.Cut(value, " ")
			require.Contains(t, pairs, from)
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(c.Dir, to)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(c.Dir, to), pairs[from], 0o644))
		case "ask":
			c.Names = strings.Fields(value)
		case "paths":
			c.Paths = append(c.Paths, strings.Fields(value)...)
		case "refused":
			c.Refused = value
		case "idle":
			c.Idle = value
		case "args":
			c.Args = strings.Fields(value)
		}
	}
	require.NoError(t, os.Chmod(filepath.Dir(c.Dir), 0o755)) // workers of another user read there
	for name, data := range pairs {
		require.NoError(t, os.WriteFile(filepath.Join(c.Dir, name), data, 0o644))
	}
	for _, p := range c.Paths[1:3] { // folders count where they are
		laid := filepath.Join(c.Dir, "htdocs", p)
		require.NoError(t, os.MkdirAll(filepath.Dir(laid), 0o755))
		require.NoError(t, os.WriteFile(laid, []byte("laid"), 0o644))
	}
	for _, f := range a.Files {
		text := string(f.Data)
		for mark, lines := range s.Marks {
			text = strings.Replace(text, mark+"\n", lines, 1)
		}
		text = portMark.ReplaceAllStringFunc(text, func(mark string) string {
			if c.Ports[mark] == 0 {
				c.Ports[mark] = FreePort(t)
			}
			return strconv.Itoa(c.Ports[mark])
		})
		text = strings.ReplaceAll(text, "@dir@", c.Dir)
		to := filepath.Join(c.Dir, f.Name)
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		if target, is := strings.CutPrefix(text, "link: "); is {
			require.NoError(t, os.Symlink(strings.TrimSpace(target), to))
			continue
		}
		require.NoError(t, os.WriteFile(to, []byte(text), 0o644))
	}
	return c
}

// portsGiven are the ports that FreePort has given: two listeners of one configuration at
// one port are another configuration.
var portsGiven sync.Map

// FreePort gives a port nobody listens at, each only once, below those the system gives to
// connections, which other tests make meanwhile.
func FreePort(t *testing.T) int {
	for range 100 {
		port := 10_000 + mathrand.IntN(20_000)
		if _, before := portsGiven.LoadOrStore(port, true); before {
			continue
		}
		l, err := net.Listen("tcp", ":"+strconv.Itoa(port))
		if err == nil {
			require.NoError(t, l.Close())
			return port
		}
	}
	t.Fatal("no free port")
	return 0
}

// Start runs the server until the test ends, and waits for its ports.
func (c *Truth) Start(t *testing.T) {
	var log bytes.Buffer
	cmd := c.Server.Command(c, c.Server.Run...)
	cmd.Stdout, cmd.Stderr = &log, &log
	running, err := process.Start(cmd, syscall.SIGKILL)
	require.NoError(t, err)
	t.Cleanup(func() { running.Stop(syscall.SIGTERM) })
	require.Eventually(t, func() bool {
		select {
		case <-running.Done():
			return true
		default:
		}
		for _, p := range c.Ports {
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
	}, 15*time.Second, 5*time.Millisecond)
	select {
	case <-running.Done():
		said, _ := os.ReadFile(filepath.Join(c.Dir, c.Server.Log))
		t.Fatalf("it did not start: %s\n%s", log.String(), said)
	default:
	}
}

// Read reads the configuration.
func (c *Truth) Read(t *testing.T) *kind.Reading {
	r, err := c.Server.Kind.Reader.Read(c.FS(), filepath.Join(c.Dir, c.Server.Main))
	require.NoError(t, err)
	return r
}

// compareRefusal holds that the reader finds fault where the server does.
func (c *Truth) compareRefusal(t *testing.T) {
	out, err := c.Server.Command(c, c.Server.Test...).CombinedOutput()
	late := err == nil && c.Server.Kind.Lenient
	if late { // some faults show at the start only
		cmd := c.Server.Command(c, c.Server.Run...)
		out, err = cmd.CombinedOutput()
		said, _ := os.ReadFile(filepath.Join(c.Dir, c.Server.Log))
		out = append(out, said...)
	}
	require.Error(t, err, "the server takes it")
	file, line, _ := strings.Cut(c.Refused, ":")
	line, other, _ := strings.Cut(line, " ") // the line the server names, where that is another
	found, r := "", c.Read(t)
	assert.Equal(t, late, r.Ends() != nil, "the server's own test passes it: %t", late)
	for _, p := range r.Problems {
		if p.Effect == kind.Refused && filepath.Base(p.File) == file && (line == "" || strconv.Itoa(p.Line) == line) {
			found = p.Error()
		}
	}
	assert.NotEmpty(t, found, "the server says %s", out)
	message, at := c.Server.Kind.Tester.Refusal(string(out))
	assert.NotEmpty(t, message)
	if line != "" && at.Known() && filepath.Base(at.File) == file {
		assert.Contains(t, []string{line, other}, strconv.Itoa(at.Line), string(out))
	}
}

// Compare connects to every port at several addresses with every name.
func (c *Truth) Compare(t *testing.T) {
	r := c.Read(t)
	for _, p := range r.Problems {
		assert.NotEqual(t, kind.Refused, p.Effect, p.Error())
	}
	var idle []string
	for i := range r.Idle {
		idle = append(idle, r.Idle[i].MainName())
	}
	assert.Equal(t, c.Idle, strings.Join(idle, " "))
	x := c.Server.Kind.Reader.Answers(r)
	for _, port := range c.Ports {
		for _, address := range []string{"127.0.0.1", "127.0.0.2", "::1"} {
			at := netip.AddrPortFrom(netip.MustParseAddr(address), uint16(port))
			for _, name := range c.Names {
				c.compareOne(t, r, x, at, strings.Trim(name, "-"))
			}
		}
	}
}

func (c *Truth) compareOne(t *testing.T, r *kind.Reading, x kind.Answers, at netip.AddrPort, name string) {
	a := x.Answer(name, at)
	what := fmt.Sprintf("%q at %s: %s", name, at, a.Why)
	require.NotEmpty(t, a.Why)
	switch {
	case a.Listener == nil:
		_, err := net.DialTimeout("tcp", at.String(), time.Second)
		assert.Error(t, err, what)
	case !a.Listener.TLS && (a.Listener.Protocol == kind.HTTP || len(a.Pairs) == 0):
		_, err := Shake(at, name, 0)
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
func (c *Truth) compareLeaf(t *testing.T, r *kind.Reading, pairs []kind.Pair, at netip.AddrPort, name, what string) {
	var want, got []string
	for _, p := range pairs {
		m := r.Material[p.Certificate]
		require.NotNil(t, m, p.Certificate)
		require.NotEmpty(t, m.Chain, what)
		want = append(want, m.Chain[0])
		leaf, err := x509.ParseCertificate(r.Certificates[m.Chain[0]])
		require.NoError(t, err)
		assert.Equal(t, Sum(leaf.RawSubjectPublicKeyInfo), r.Material[p.Key].Public, "the key belongs to it")
	}
	for _, suite := range []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256,
		tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256} {
		if leaf, err := Shake(at, name, suite); err == nil {
			got = append(got, leaf)
		}
	}
	assert.ElementsMatch(t, want, got, "%s; seen %v", what, c.Called(r, got))
}

// Called names certificates by the files they lie in.
func (c *Truth) Called(r *kind.Reading, list []string) (out []string) {
	for _, f := range list {
		for p, m := range r.Material {
			if len(m.Chain) > 0 && m.Chain[0] == f {
				out = append(out, filepath.Base(p))
			}
		}
	}
	return out
}

// Sum is a SHA-256 in hexadecimal digits.
func Sum(b []byte) string { s := sha256.Sum256(b); return hex.EncodeToString(s[:]) }

// Shake gives the fingerprint of the leaf served; suite asks for a kind of key.
func Shake(at netip.AddrPort, name string, suite uint16) (string, error) {
	cfg := &tls.Config{InsecureSkipVerify: true, ServerName: strings.ToLower(name)}
	if suite != 0 {
		cfg.MaxVersion, cfg.CipherSuites = tls.VersionTLS12, []uint16{suite}
	}
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", at.String(), cfg)
	if err != nil {
		return "", err
	}
	defer func() { _ = conn.Close() }()
	return Sum(conn.ConnectionState().PeerCertificates[0].Raw), nil
}

// comparePlain asks over plain http for the front page, for the file a CA would ask
// for, and for others.
func (c *Truth) comparePlain(t *testing.T, x kind.Answers, at netip.AddrPort, name string) {
	for _, p := range c.Paths {
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
			if p != "/" && !strings.Contains(p, "?") {
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
func (c *Truth) compareFile(t *testing.T, at netip.AddrPort, name, p string, step *kind.Step) {
	rest, ok := strings.CutPrefix(p, step.Under)
	if !ok || !strings.HasPrefix(step.To, c.Dir) {
		return
	}
	file := filepath.Join(step.To, rest)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte("laid"), 0o644))
	status, _ := get(t, at, name, p)
	assert.Equal(t, 200, status, "%s at %s lies at %s", p, name, file)
	if !strings.HasPrefix(file, filepath.Join(c.Dir, "htdocs")) {
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
	if errors.Is(err, io.EOF) {
		return 444, "" // nginx's own: the connection is closed without an answer
	}
	require.NoError(t, err)
	_ = resp.Body.Close()
	return resp.StatusCode, resp.Header.Get("Location")
}

// Pairs makes certificates with their keys: a.pem to d.pem with ECDSA, r.pem
// and s.pem with RSA; both.pem is a.pem with its key.
func Pairs(t *testing.T) map[string][]byte {
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

// FS is the machine's file system, with the configuration's own files below /root of
// it in the place of the machine's: root/etc/hosts is /etc/hosts.
func (c *Truth) FS() fs.FS { return over{os.DirFS("/"), os.DirFS(filepath.Join(c.Dir, "root"))} }

// over implements fs.FS: what is in the upper one counts.
type over struct{ lower, upper fs.FS }

// at is the file system a name is looked for in.
func (o over) at(name string) fs.FS {
	if _, err := fs.Stat(o.upper, name); err == nil && name != "." {
		return o.upper
	}
	return o.lower
}

// Open implements fs.FS.
func (o over) Open(name string) (fs.File, error) { return o.at(name).Open(name) }

// Stat implements fs.StatFS.
func (o over) Stat(name string) (fs.FileInfo, error) { return fs.Stat(o.at(name), name) }

// ReadDir implements fs.ReadDirFS.
func (o over) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(o.at(name), name) }

// ReadLink implements fs.ReadLinkFS.
func (o over) ReadLink(name string) (string, error) { return fs.ReadLink(o.at(name), name) }

// Lstat implements fs.ReadLinkFS.
func (o over) Lstat(name string) (fs.FileInfo, error) { return fs.Lstat(o.at(name), name) }
