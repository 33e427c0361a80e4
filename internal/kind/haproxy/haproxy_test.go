package haproxy_test

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/veil"
	"insegna.example/internal/install"
	"insegna.example/internal/install/files"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/haproxy"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/reach"
	"insegna.example/internal/standin/process"
	"insegna.example/internal/truthtest"
)

// house is a file system of memory with a main file.
func house(main string, more map[string]string) fstest.MapFS {
	out := fstest.MapFS{"etc/haproxy/haproxy.cfg": {Data: []byte(main), Mode: 0o644}}
	for name, text := range more {
		out[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
	}
	return out
}

const mainFile = "/etc/haproxy/haproxy.cfg"

// TestBadInputIsToldAndTheRestIsRead gives the reader what no server takes: each is
// told with its place, and what stands behind it is read all the same.
func TestBadInputIsToldAndTheRestIsRead(t *testing.T) {
	good := "frontend good\n  mode http\n  bind 127.0.0.1:8099\n"
	deep := strings.Repeat(".if 1\n", 30)
	for name, c := range map[string]struct {
		text, place, message string
		more                 map[string]string
	}{
		"no end of the last line": {text: good + "frontend b\n  bind :80", place: ":5:1", message: "the last line has no end"},
		"a quote":                 {text: "global\n  setenv A \"b\n" + good, place: ":2:12", message: "unmatched quote"},
		"a single quote":          {text: "global\n  setenv A 'b\n" + good, place: ":2:12", message: "unmatched quote"},
		"a hexadecimal":           {text: "global\n  setenv A \\xZZ\n" + good, place: ":2:12", message: "hexadecimal"},
		"a brace":                 {text: "global\n  setenv A \"${B\"\n" + good, place: ":2:13", message: "without a brace"},
		"too many words": {text: "global\n  setenv" + strings.Repeat(" x", 70) + "\n" + good, place: ":2:136",
			message: "too many words"},
		"a NUL":          {text: "global\n  a\x00b\n" + good, place: ":2:4", message: "NUL"},
		"out of section": {text: "maxconn 10\n" + good, place: ":1:1", message: "unknown keyword maxconn out of section"},
		"no name":        {text: "backend\n" + good, place: ":1:1", message: "the section backend has no name"},
		"an odd name":    {text: "backend a/b\n" + good, place: ":1:9", message: "has another character"},
		"conditions deep": {text: deep + good + strings.Repeat(".endif\n", 20), place: ":21:1",
			message: "too many nested .if"},
		"a condition": {text: ".if nonsense(1)\n.endif\n" + good, place: ":1:1", message: "cannot be understood"},
		"else twice":  {text: ".if 1\n.else\n.else\n.endif\n" + good, place: ":3:1", message: ".else after .else"},
		"an alert":    {text: ".alert \"not here\"\n" + good, place: ":1:1", message: "stops here by itself: not here"},
		"a variable": {text: "frontend x\n  bind \"$ADDRESS:80\"\n" + good, place: ":2:8",
			message: "the environment variable ADDRESS is not known here"},
		"no value": {text: "frontend x\n  bind :80 ssl crt\n" + good, place: ":2:16", message: "crt has no value"},
		"a list": {text: "frontend x\n  bind :80 ssl crt-list /l\n" + good, place: "/l:1:1", message: "too many '['",
			more: map[string]string{"l": "/a [ x ] [\n"}},
		"a list without a certificate": {text: "frontend x\n  bind :80 ssl crt-list /l\n" + good, place: "/l:2:1",
			message: "a line begins with a certificate", more: map[string]string{"l": "# c\n[ alpn h2 ] a\n"}},
		"a list that is not there": {text: "frontend x\n  bind :80 ssl crt-list /l\n" + good, place: ":2:25",
			message: "no such file"},
		"a store": {text: "frontend x\n  bind :80 ssl crt @s/a\n" + good, place: ":2:20", message: "no store has"},
		"a large certificate": {text: "frontend x\n  bind :80 ssl crt /big\n" + good, place: ":2:20",
			message: "at most 1 MB are read",
			more:    map[string]string{"big": strings.Repeat("x", 1<<20+1)}},
		"twice the same address": {text: "frontend x\n  mode http\n  bind 127.0.0.1:8099\n" + good, place: ":6:8",
			message: "is opened by " + mainFile + ":3 as well"},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := haproxy.Read(house(c.text, c.more), mainFile)
			require.NoError(t, err)
			if strings.HasPrefix(c.place, ":") {
				c.place = mainFile + c.place
			}
			found := false
			for _, p := range r.Problems {
				found = found || strings.HasPrefix(p.Error(), c.place+": ") && strings.Contains(p.Error(), c.message)
			}
			assert.True(t, found, "%s: %v", c.place, r.Problems)
			step, ok := haproxy.NewIndex(r).Plain("x.example", netip.MustParseAddrPort("127.0.0.1:8099"), "/")
			assert.True(t, ok, "the rest is read")
			assert.Equal(t, kind.Answered, step.Handling)
		})
	}
}

// TestHostileInputIsBounded gives the reader what is large, deep or goes round.
func TestHostileInputIsBounded(t *testing.T) {
	var hosts strings.Builder
	for n := range 200_000 {
		fmt.Fprintf(&hosts, "n%d.example backend%d\n", n, n)
	}
	for name, text := range map[string]string{
		"50 MB of lines": "global\n" + strings.Repeat("  # nothing here, line after line\n", 1_500_000),
		"many sections":  strings.Repeat("frontend x\n  bind :80\n", 200_000),
		"many ports":     "frontend x\n  bind :1-65535,127.0.0.1:1-65535\n",
		"deep condition": ".if " + strings.Repeat("!", 100_000) + "1\n.endif\n.if " + strings.Repeat("(", 100_000) +
			"\n.endif\n",
		"variables": "global\n" + strings.Repeat("  setenv A \"$A$A$A$A\"\n", 40),
		"many hosts": "frontend x\n  mode http\n  bind :80\n  acl a hdr(host) -i -f /hosts\n  acl b hdr_end(host) -f /hosts\n" +
			"  http-request deny if a b\n  use_backend %[hdr(host),map_dom(/hosts)] if { hdr(host),map(/hosts) -m found }\n",
		"many rules": "frontend x\n  mode http\n  bind :80\n" +
			strings.Repeat("  use_backend y if { hdr(host) a.example } !{ path /x }\n", 100_000),
		"junk": strings.Repeat("\x01\xff{}[]!@#$%^&*()\n", 100_000),
	} {
		t.Run(name, func(t *testing.T) {
			start := time.Now()
			r, err := haproxy.Read(house(text, map[string]string{"hosts": hosts.String()}), mainFile)
			require.NoError(t, err)
			assert.LessOrEqual(t, len(r.Problems), 500)
			assert.Less(t, time.Since(start), 30*time.Second)
		})
	}
}

// FuzzRead reads whatever comes; it has to end, and what it says has to hold
// together.
func FuzzRead(f *testing.F) {
	list, err := filepath.Glob("testdata/truth/*.txtar")
	require.NoError(f, err)
	for _, file := range list {
		a, err := txtar.ParseFile(file)
		require.NoError(f, err)
		text, more := "", ""
		for _, o := range a.Files {
			if o.Name == "haproxy.cfg" {
				text = strings.NewReplacer("@head@\n", head, "@dir@", "").Replace(string(o.Data))
			} else {
				more = strings.ReplaceAll(string(o.Data), "@dir@", "")
			}
		}
		for n := range 9 {
			text = strings.ReplaceAll(text, fmt.Sprintf("@%d@", n), fmt.Sprint(8440+n))
		}
		f.Add(text, more)
	}
	both := pairs(f)
	f.Fuzz(func(t *testing.T, text, more string) {
		r, err := haproxy.Read(house(text, map[string]string{"list.txt": more, "certs/one.pem": more, "hosts.map": more,
			"a.both": string(both["a.both"]), "b.both": string(both["b.both"])}), mainFile)
		require.NoError(t, err)
		x := haproxy.NewIndex(r)
		for i := range r.Listeners {
			l := &r.Listeners[i]
			require.NotEmpty(t, l.Sites)
			require.Contains(t, l.Sites, l.Default)
			for _, host := range []string{"a.example", "x.b.example", ""} {
				a := x.Answer(host, l.Address)
				require.NotEmpty(t, a.Why)
				_, _ = x.Plain(host, l.Address, "/.well-known/acme-challenge/token")
			}
		}
	})
}

// TestWhatLiesBesideACertificateIsPutAside has files of the old certificate beside it,
// with which the server would not take the new one.
func TestWhatLiesBesideACertificateIsPutAside(t *testing.T) {
	made := pairs(t)
	a := txtar.Parse([]byte("ask: a.example\nlay: a.both certs/a.pem\nlay: b.both certs/b.pem\n-- haproxy.cfg --\n@head@\nfrontend web\n" +
		"    bind 127.0.0.1:@1@ ssl crt @dir@/certs\n    http-request return\n"))
	c := server.Unpack(t, a, made)
	root := pkitest.CA("root", nil)
	leaf := pkitest.Leaf(root, "a.example", func(x *x509.Certificate) {
		x.DNSNames = []string{"a.example",
			"www.a.example"}
	})
	for _, end := range []string{".ocsp", ".issuer"} {
		require.NoError(t, os.WriteFile(c.Dir+"/certs/a.pem"+end, []byte("of the old certificate"), 0o644))
	}
	require.NoError(t, os.Symlink(c.Dir+"/gone", c.Dir+"/certs/a.pem.sctl")) // the server takes that for nothing
	was := state(t, c.Dir)
	to := destination(c)
	planned, err := to.Plan(t.Context(), &install.Wish{Mandate: "menu", Server: "quay", Names: leaf.DNSNames,
		Leaf:    leaf.Certificate,
		Version: "1"})
	require.NoError(t, err)
	assert.False(t, planned.Unasked)
	assert.Len(t, planned.Plan.Links, 3)
	key, err := certs.KeyPEM(leaf.Key)
	require.NoError(t, err)
	_, err = to.Stage(t.Context(), &planned.Plan, &install.Material{Chain: certs.PEM(leaf.Raw), Key: key})
	require.NoError(t, err)
	said, err := to.Switch(t.Context(), &planned.Plan)
	require.NoError(t, err, "what belonged to the old certificate would be refused")
	assert.Contains(t, said, c.Dir+"/certs/a.pem.ocsp is put aside as "+c.Dir+"/insegna/menu/before/1/")
	list, err := filepath.Glob(c.Dir + "/certs/*")
	require.NoError(t, err)
	assert.Len(t, list, 3)
	_, err = to.Switch(t.Context(), &planned.Plan)
	require.NoError(t, err, "it may be done again")
	for range 2 {
		_, err = to.Back(t.Context(), &planned.Plan)
		require.NoError(t, err)
	}
	require.NoError(t, to.Clear(t.Context(), &planned.Plan, false))
	assert.Equal(t, was, state(t, c.Dir))
}

// TestARuntimeSocketThatIsNone lets the socket hang, close, talk of something else,
// refuse and be missing: what is not the certificate's fault ends in a reload, and
// nothing waits for ever.
func TestARuntimeSocketThatIsNone(t *testing.T) {
	made := pairs(t)
	for name, c := range map[string]struct {
		answer   func(net.Conn, string)
		reloaded bool
		words    string
	}{
		"missing": {nil, true, "no such file or directory"},
		"hangs":   {func(net.Conn, string) { time.Sleep(4 * time.Second) }, true, "did not answer within"},
		"closes":  {func(net.Conn, string) {}, true, "answers nothing to show ssl cert"},
		"talks of something else": {func(c net.Conn, _ string) { _, _ = c.Write([]byte("Permission denied\n")) }, true,
			"answers Permission denied to show ssl cert"},
		"does not know the certificate": {func(c net.Conn, _ string) {
			_,
				_ = c.Write([]byte("# filename\n/other.pem\n"))
		}, true,
			"the running server does not know"},
		"talks without end": {func(c net.Conn, _ string) {
			for {
				if _, err := c.Write(bytes.Repeat([]byte("x"), 1<<16)); err != nil {
					return
				}
			}
		}, true, "answers xxx"},
		"refuses": {func(c net.Conn, said string) {
			switch {
			case strings.HasPrefix(said, "show"):
				_, _ = c.Write([]byte("# filename\n" + strings.TrimPrefix(said, "show ") + "/"))
			case strings.HasPrefix(said, "set"):
				_, _ = c.Write([]byte("Transaction created\n"))
			case strings.HasPrefix(said, "commit"):
				_, _ = c.Write([]byte("inconsistencies between private key and certificate\nCan't commit!\n"))
			}
		}, false, "inconsistencies between private key and certificate"},
	} {
		t.Run(name, func(t *testing.T) {
			a := txtar.Parse([]byte("ask: a.example\nlay: a.both a.pem\n-- haproxy.cfg --\n@head@\nfrontend web\n" +
				"    bind 127.0.0.1:@1@ ssl crt @dir@/a.pem\n    http-request return\n"))
			h := server.Unpack(t, a, made)
			var said []string
			if c.answer != nil {
				l, err := net.Listen("unix", h.Dir+"/admin.sock")
				require.NoError(t, err)
				t.Cleanup(func() { _ = l.Close() })
				go func() {
					for {
						conn, err := l.Accept()
						if err != nil {
							return
						}
						buf := make([]byte, 1<<16)
						n, _ := conn.Read(buf)
						said = append(said, string(buf[:n]))
						if name == "refuses" && strings.HasPrefix(string(buf[:n]), "show") {
							_, _ = conn.Write([]byte("# filename\n" + h.Dir + "/a.pem\n"))
						} else {
							c.answer(conn, string(buf[:n]))
						}
						_ = conn.Close()
					}
				}()
			}
			to := destination(h).(*files.Destination)
			to.Reload, to.Limit = "touch "+h.Dir+"/reloaded", 2*time.Second
			leaf := pkitest.Leaf(pkitest.CA("root", nil), "a.example",
				func(x *x509.Certificate) { x.DNSNames = []string{"a.example", "www.a.example"} })
			key, err := certs.KeyPEM(leaf.Key)
			require.NoError(t, err)
			planned, err := to.Plan(t.Context(), &install.Wish{Mandate: "menu", Names: leaf.DNSNames,
				Leaf: leaf.Certificate, Version: "1"})
			require.NoError(t, err)
			_, err = to.Stage(t.Context(), &planned.Plan, &install.Material{Chain: certs.PEM(leaf.Raw), Key: key})
			require.NoError(t, err)
			_, err = to.Switch(t.Context(), &planned.Plan)
			require.NoError(t, err)
			words, err := to.TakeIn(t.Context(), &planned.Plan)
			if !c.reloaded {
				var f *install.FaultError
				require.ErrorAs(t, err, &f)
				assert.Contains(t, f.Words, c.words)
				assert.NotContains(t, f.Words, "PRIVATE KEY")
				assert.True(t, strings.HasPrefix(said[len(said)-1], "abort ssl cert"), "%q", said)
				return
			}
			require.NoError(t, err)
			assert.Contains(t, words, c.words)
			_, err = os.Stat(h.Dir + "/reloaded")
			assert.NoError(t, err)
		})
	}
}

// TestAHundredCertificatesGoLiveUnderLoad replaces the certificates of a list one
// after the other while visitors come: none of them fails, each name shows its new
// certificate, the server was never reloaded, and shows the same when it is started
// anew.
func TestAHundredCertificatesGoLiveUnderLoad(t *testing.T) {
	const many = 100
	root := pkitest.CA("root", nil)
	pool := x509.NewCertPool()
	pool.AddCert(root.Certificate.Certificate)
	text, list := "-- haproxy.cfg --\n@head@\nfrontend web\n    bind 127.0.0.1:@1@ ssl crt-list @dir@/list.txt\n    http-request return\n", ""
	for n := range many {
		list += fmt.Sprintf("@dir@/certs/%d.pem\n", n)
	}
	c := server.Unpack(t, txtar.Parse([]byte(text+"-- list.txt --\n"+list)), nil)
	require.NoError(t, os.MkdirAll(c.Dir+"/certs", 0o755))
	made := func(n int) (*pkitest.Entity, []byte) {
		e := pkitest.Leaf(root, fmt.Sprintf("n%d.example", n))
		key, err := certs.KeyPEM(e.Key)
		require.NoError(t, err)
		return e, append(certs.PEM(e.Raw), key...)
	}
	for n := range many {
		_, data := made(n)
		require.NoError(t, os.WriteFile(fmt.Sprintf("%s/certs/%d.pem", c.Dir, n), data, 0o600))
	}
	run := func() *process.Process {
		started, err := process.Start(exec.Command(program, "-db", "-f", c.Dir+"/haproxy.cfg"), syscall.SIGKILL)
		require.NoError(t, err)
		return started
	}
	at := fmt.Sprintf("127.0.0.1:%d", c.Ports["@1@"])
	visit := func(n int) (string, error) {
		name := fmt.Sprintf("n%d.example", n)
		client := &http.Client{Timeout: time.Minute, Transport: &http.Transport{DisableKeepAlives: true,
			TLSClientConfig: &tls.Config{ServerName: name, RootCAs: pool}}}
		resp, err := client.Get("https://" + at + "/")
		if err != nil {
			return "", err
		}
		_, err = io.Copy(io.Discard, resp.Body)
		_ = resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			err = errors.New(resp.Status)
		}
		return truthtest.Sum(resp.TLS.PeerCertificates[0].Raw), err
	}
	running := run()
	require.Eventually(t, func() bool { _, err := visit(0); return err == nil }, 20*time.Second, 10*time.Millisecond)

	var visits, failed atomic.Int64
	stop := make(chan struct{})
	var all sync.WaitGroup
	for lane := range 2 {
		all.Go(func() {
			for n := lane; ; n += 7 {
				select {
				case <-stop:
					return
				default:
				}
				if _, err := visit(n % many); err != nil {
					failed.Add(1)
					t.Log(err)
				}
				visits.Add(1)
			}
		})
	}
	leaves := map[int]string{}
	for n := range many {
		e, _ := made(n)
		key, err := certs.KeyPEM(e.Key)
		require.NoError(t, err)
		to := destination(c).(*files.Destination)
		to.Reload, to.Test = "false", "true"
		planned, err := to.Plan(t.Context(), &install.Wish{Mandate: fmt.Sprintf("m%d", n), Names: e.DNSNames,
			Leaf:    e.Certificate,
			Version: "1"})
		require.NoError(t, err)
		_, err = to.Stage(t.Context(), &planned.Plan, &install.Material{Chain: certs.PEM(e.Raw), Key: key})
		require.NoError(t, err)
		_, err = to.Switch(t.Context(), &planned.Plan)
		require.NoError(t, err)
		_, err = to.TakeIn(t.Context(), &planned.Plan)
		require.NoError(t, err)
		leaves[n] = truthtest.Sum(e.Raw)
	}
	close(stop)
	all.Wait()
	assert.Zero(t, failed.Load(), "of %d visits", visits.Load())
	assert.Greater(t, visits.Load(), int64(many))
	for range 2 { // as it runs, and as it starts from the disk
		for n := range many {
			leaf, err := visit(n)
			require.NoError(t, err)
			assert.Equal(t, leaves[n], leaf, n)
		}
		running.Stop(syscall.SIGTERM)
		running = run()
		require.Eventually(t, func() bool { _, err := visit(0); return err == nil }, 10*time.Second, 10*time.Millisecond)
	}
	running.Stop(syscall.SIGTERM)
}

// TestALostSourceGivesNoReading lets the way to the files break off anywhere.
func TestALostSourceGivesNoReading(t *testing.T) {
	made := pairs(t)
	fsys := house("global\n  setenv A b\nfrontend x\n  bind :443 ssl crt /certs crt-list /list crt /a.pem\n  use_backend %[hdr(host),map(/m)]\n",
		map[string]string{"certs/a.pem": string(made["a.both"]), "list": "/b.pem\n", "b.pem": string(made["b.both"]),
			"a.pem": string(made["c.both"]), "m": "a b\n",
			"etc/systemd/system/haproxy.service": "ExecStart=haproxy -f " + mainFile + "\n"})
	whole, err := haproxy.Read(fsys, mainFile)
	require.NoError(t, err)
	require.Len(t, whole.Sites, 3)
	for n := 0; ; n++ {
		l := &breaking{FS: fsys, left: n}
		r, err := haproxy.Read(l, mainFile)
		if l.left >= 0 {
			require.NoError(t, err)
			assert.Greater(t, n, 20)
			return
		}
		if err == nil { // when it began is not known then, and nothing else is missing
			assert.Equal(t, whole.Sites, r.Sites, "after %d", n)
			continue
		}
		assert.Nil(t, r, "after %d", n)
	}
}

// breaking is a source that is lost after some calls.
type breaking struct {
	fs.FS
	left int
}

type lostError struct{}

func (lostError) Error() string { return "lost" }
func (lostError) Lost() bool    { return true }

func (b *breaking) ok() bool { b.left--; return b.left >= 0 }

func (b *breaking) Open(name string) (fs.File, error) {
	if !b.ok() {
		return nil, lostError{}
	}
	return b.FS.Open(name)
}

func (b *breaking) Stat(name string) (fs.FileInfo, error) {
	if !b.ok() {
		return nil, lostError{}
	}
	return fs.Stat(b.FS, name)
}

func (b *breaking) ReadDir(name string) ([]fs.DirEntry, error) {
	if !b.ok() {
		return nil, lostError{}
	}
	return fs.ReadDir(b.FS, name)
}

func (b *breaking) ReadLink(name string) (string, error) { return "", fs.ErrInvalid }

func (b *breaking) Lstat(name string) (fs.FileInfo, error) { return b.Stat(name) }

// TestATestIsLedToACopy leads the command with one file and with several.
func TestATestIsLedToACopy(t *testing.T) {
	e := haproxy.Kind.Installs(reach.Local(), &estate.Server{Reach: &estate.Reach{}}).(*files.Destination).Editor
	for command, want := range map[string]string{
		"/usr/sbin/haproxy -c -f /m":                  "/usr/sbin/haproxy -c -f /o",
		"haproxy -c -q -f /m -f /conf.d":              "haproxy -c -q -f /o",
		"haproxy -f /conf.d -f /m -c":                 "haproxy -f /o -c",
		"sudo haproxy -c -f /m && echo -f x":          "",
		"systemctl cat haproxy":                       "",
		"sudo -n /usr/sbin/haproxy -W -c -f /m -- /x": "sudo -n /usr/sbin/haproxy -W -c -f /o -- /x",
	} {
		assert.Equal(t, want, e.OnFile(command, "/m", "/o"), command)
	}
}

// TestSecretsOfAConfigurationAreHidden shows a configuration to somebody who may not
// see its secrets; what is none stays to be read.
func TestSecretsOfAConfigurationAreHidden(t *testing.T) {
	text := `global
    setenv API_TOKEN hunter-token
    ca-base /etc/ssl/certs
userlist staff
    user joe insecure-password hunter-plain
    user ann password $6$hunterhash$abcdefgh
frontend web
    bind :443 ssl crt /etc/haproxy/site.pem alpn h2 ca-sign-file /a ca-sign-pass hunter-sign
    bind :444 ssl crt-list /etc/haproxy/list.txt tls-ticket-keys /etc/haproxy/tickets
    stats auth admin:hunter-stats
    http-request set-header Authorization "Basic hunterbasic"
    http-request set-header X-Api-Key hunter-header
    http-request deny if { req.hdr(X-Secret) -m str hunter-compare }
    server s1 10.0.0.1:80 check
    cookie SRV insert indirect
`
	hidden := veil.Text(text, registry.Kinds.Plain)
	assert.NotContains(t, hidden, "hunter", hidden)
	for _, stays := range []string{"crt /etc/haproxy/site.pem alpn h2", "crt-list /etc/haproxy/list.txt",
		"ca-base /etc/ssl/certs",
		"server s1 10.0.0.1:80 check", "user joe", "http-request set-header Authorization",
		"tls-ticket-keys /etc/haproxy/tickets", "cookie SRV insert indirect"} {
		assert.Contains(t, hidden, stays)
	}
	assert.Equal(t, strings.Count(text, "\n"), strings.Count(hidden, "\n"), "lines stay lines")

	r, err := haproxy.Read(house("frontend web\n  mode http\n  bind :80\n  acl known req.hdr(X-Api-Key) -f /keys\n"+
		"  http-request deny if { req.cook(session) -f /sessions }\n  http-request deny unless { hdr(host) -f /hosts }\n",
		map[string]string{"keys": "hunter\n", "sessions": "hunter\n", "hosts": "a.example\n"}), mainFile)
	require.NoError(t, err)
	var kept []string
	for _, f := range r.Files {
		kept = append(kept, f.Path)
	}
	assert.Equal(t, []string{mainFile, "/hosts"}, kept, "files of what only few know are not kept")
}
