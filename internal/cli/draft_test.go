package cli_test

import (
	"crypto/tls"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/bind"
	"insegna.example/internal/standin/nameserver"
	"insegna.example/internal/standin/process"
	"insegna.example/internal/standin/sshd"
)

// moored is a folder with a root, and a running nginx with sites of every sort.
type moored struct {
	dir, conf string
	address   netip.Addr
	port      int
	root      *pkitest.Entity
}

func put(t *testing.T, path string, data string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(data), 0o644))
}

// moor runs it at an address of its own, so that other tests' servers are told apart.
func moor(t *testing.T, address string) *moored {
	m := &moored{dir: t.TempDir(), address: netip.MustParseAddr(address), root: pkitest.CA("Harbour Root", nil)}
	l, err := net.Listen("tcp", address+":0")
	require.NoError(t, err)
	m.port = l.Addr().(*net.TCPAddr).Port
	require.NoError(t, l.Close())
	m.conf = m.dir + "/jetty/nginx.conf"
	put(t, m.dir+"/root.pem", string(certs.PEM(m.root.Raw)))
	leaf := pkitest.Leaf(m.root, "a.lantern.example")
	key, err := certs.KeyPEM(leaf.Key)
	require.NoError(t, err)
	put(t, m.dir+"/jetty/a.pem", string(certs.PEM(leaf.Raw)))
	put(t, m.dir+"/jetty/a.key", string(key))
	put(t, m.conf, "daemon off; pid "+m.dir+"/pid; error_log stderr;\nevents {}\nhttp {\naccess_log off; client_body_temp_path "+m.dir+"/t1; proxy_temp_path "+m.dir+
		"/t2; fastcgi_temp_path "+m.dir+"/t3; uwsgi_temp_path "+m.dir+"/t4; scgi_temp_path "+m.dir+"/t5;\nssl_certificate a.pem; ssl_certificate_key a.key;\ninclude sites-enabled/*;\n}\n")
	secure, plain := fmt.Sprintf("%s:%d", m.address, m.port), fmt.Sprintf("%s:%d", m.address, m.port+1)
	put(t, m.dir+"/jetty/sites-available/b", "server { listen "+secure+" ssl; server_name idle.lantern.example; }\n")
	put(t, m.dir+"/jetty/sites-enabled/a", "server { listen "+secure+" ssl; server_name A.lantern.example bücher.lantern.example; }\n"+
		"server { listen "+secure+" ssl; server_name *.wild.lantern.example ~^hostile\\x0a: _; }\n"+
		"server { listen "+plain+"; server_name plain.lantern.example; }\n")
	cmd := exec.Command("/usr/sbin/nginx", "-p", m.dir, "-c", m.conf, "-e", "stderr")
	cmd.Stderr = os.Stderr
	p, err := process.Start(cmd, syscall.SIGKILL)
	require.NoError(t, err)
	t.Cleanup(func() { p.Stop(syscall.SIGTERM) })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", secure)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 20*time.Second, 20*time.Millisecond)
	return m
}

// drawn runs the command and reads what it wrote.
func drawn(t *testing.T, dir string, args ...string) (*estate.Estate, string) {
	out := filepath.Join(t.TempDir(), "estate.yaml")
	r := insegnaWith(t, dir, "", append([]string{"estate", "draft", "--out", out}, args...)...)
	require.Zero(t, r.code, "%s %s", r.out, r.err)
	text, err := os.ReadFile(out)
	require.NoError(t, err)
	e, err := estate.Parse(out, text, registry.Kinds.Declared(), os.ReadFile)
	require.NoError(t, err, "%s", text)
	return e, string(text)
}

// hostsAt are the hosts at an address.
func hostsAt(e *estate.Estate, at netip.Addr) (out []string) {
	for i := range e.Hosts {
		for p := range e.Endpoints(&e.Hosts[i]) {
			if p.Addr() == at {
				out = append(out, fmt.Sprintf("%s %d", e.Hosts[i].Name, p.Port()))
			}
		}
	}
	return out
}

// TestADraftOfThisMachine finds a server that runs with a configuration of its own, and what
// it serves; what it does not serve over TLS, or not by one name, stands as a comment with
// where it was met. The same over SSH, from a copy, and later against what was written.
func TestADraftOfThisMachine(t *testing.T) {
	m := moor(t, "127.77.0.1")
	if os.Geteuid() == 0 { // whoever it is, he calls himself a server
		const nobody = 65534
		put(t, m.dir+"/evil/nginx.conf", "events {}\nhttp { server { listen 127.77.0.1:2 ssl; server_name evil.lantern.example; } }\n")
		cmd := exec.Command("/bin/sleep", "100")
		cmd.Args[0] = "nginx: master process /tmp/evil -c " + m.dir + "/evil/nginx.conf"
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}, Pdeathsig: syscall.SIGKILL}
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	}
	e, text := drawn(t, m.dir, "--roots", "root.pem", "--name", "Ferries: \"all\"")
	assert.Equal(t, "Ferries: \"all\"", e.Name)
	assert.False(t, e.Audiences[0].Public)
	assert.NotContains(t, text, "evil")
	jetty := e.Server("jetty")
	require.NotNil(t, jetty, text)
	wanted := []string{fmt.Sprintf("a.lantern.example %d", m.port), fmt.Sprintf("xn--bcher-kva.lantern.example %d", m.port)}
	assert.Equal(t, wanted, hostsAt(e, m.address))
	assert.Equal(t, m.conf, jetty.Reach.Configuration)
	for _, key := range []string{"test", "reload"} {
		out, err := exec.Command("/bin/sh", "-c", jetty.Reach.Commands[key]).CombinedOutput()
		assert.NoError(t, err, "%s: %s", key, out)
	}
	for _, part := range []string{"a.lantern.example   # " + m.dir + "/jetty/sites-enabled/a:1",
		"#  - name: plain.lantern.example   # its site speaks plain http alone, at " + fmt.Sprintf("%s:%d", m.address, m.port+1),
		"#  - name: idle.lantern.example   # its site is written and not switched on; " + m.dir + "/jetty/sites-available/b:1",
		"the wildcard *.wild.lantern.example at jetty:", `the name "~^hostile\\x0a:"`} {
		assert.Contains(t, text, part)
	}
	// Later: one more, and one less.
	before := m.dir + "/before.yaml"
	put(t, before, text)
	against := func() (out []string) {
		r := insegnaWith(t, m.dir, "", "estate", "draft", "--against", before, "--output", "csv")
		require.Zero(t, r.code, r.err)
		for line := range strings.Lines(r.out) {
			if strings.Contains(line, "jetty:") {
				f := strings.Split(line, ",")
				out = append(out, f[0]+" "+f[1])
			}
		}
		return out
	}
	assert.Empty(t, against())
	e, text = drawn(t, m.dir, "--roots", "root.pem", "--main", "jetty/nginx.conf")
	assert.Len(t, e.Servers, 1, text)
	assert.Equal(t, jetty.Reach.Commands, e.Servers[0].Reach.Commands, "it runs so")
	put(t, m.dir+"/other/nginx.conf", "events {}\nhttp { server { listen "+m.address.String()+":1 ssl; server_name a.lantern.example; } }\n")
	e, text = drawn(t, m.dir, "--roots", "root.pem", "--main", "other/nginx.conf")
	assert.Equal(t, []string{"a.lantern.example 1"}, hostsAt(e, m.address))
	assert.Contains(t, text, "nginx was not seen to run")
	assert.NotContains(t, text, "test:", "the usual one")
	put(t, m.dir+"/jetty/sites-enabled/a", fmt.Sprintf("server { listen %s:%d ssl; server_name bücher.lantern.example fresh.lantern.example *.lantern.invalid; }\n", m.address, m.port))
	assert.ElementsMatch(t, []string{"new fresh.lantern.example", "gone a.lantern.example"}, against())

	// A copy tells no addresses for what listens at all of them.
	put(t, m.dir+"/jetty/sites-enabled/a", "server { listen 8443 ssl; server_name a.lantern.example; }\n")
	for _, at := range []string{m.dir + "/jetty", m.conf} {
		r := insegnaWith(t, m.dir, "", "estate", "draft", "--configuration", at)
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.err, "name them: --configuration "+at+"@ADDRESS")
		e, _ = drawn(t, m.dir, "--roots", "root.pem", "--configuration", at+"@192.0.2.7,2001:db8::7")
		assert.Equal(t, []string{"a.lantern.example 8443"}, hostsAt(e, netip.MustParseAddr("192.0.2.7")))
		assert.Nil(t, e.Servers[0].Reach, "there is no way to it")
	}
	root := t.TempDir()
	put(t, root+"/etc/haproxy/haproxy.cfg", "defaults\n  mode http\nfrontend f\n  bind 192.0.2.8:443 ssl crt /etc/haproxy/site.pem\n")
	pair, err := os.ReadFile(m.dir + "/jetty/a.pem")
	require.NoError(t, err)
	key, err := os.ReadFile(m.dir + "/jetty/a.key")
	require.NoError(t, err)
	put(t, root+"/etc/haproxy/site.pem", string(pair)+string(key))
	e, _ = drawn(t, m.dir, "--roots", "root.pem", "--configuration", root)
	assert.Equal(t, []string{"a.lantern.example 443"}, hostsAt(e, netip.MustParseAddr("192.0.2.8")))
	assert.Equal(t, "haproxy", e.Servers[0].Kind)

	// Over SSH the host key is shown, and asked about.
	if err := sshd.CanRun(); err != nil {
		t.Skip(err)
	}
	s, stop, err := sshd.StartFree()
	require.NoError(t, err)
	t.Cleanup(stop)
	known := filepath.Join(t.TempDir(), "known")
	over := []string{"--roots", "root.pem", "--server", s.User + "@" + s.Address, "--key", s.Key, "--known-hosts", known}
	r := insegnaWith(t, m.dir, "", append([]string{"estate", "draft"}, over...)...)
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.err, "SHA256:", "it is shown")
	assert.NoFileExists(t, known)
	put(t, m.dir+"/jetty/sites-enabled/a", fmt.Sprintf("server { listen %s:%d ssl; server_name a.lantern.example; }\n", m.address, m.port))
	e, text = drawn(t, m.dir, append(over, "--yes")...)
	require.NotNil(t, e.Server("jetty"), text)
	assert.Equal(t, "ssh", e.Server("jetty").Reach.By)
	assert.Equal(t, known, e.Server("jetty").Reach.KnownHosts)
	assert.Equal(t, wanted[:1], hostsAt(e, m.address))
}

// TestADraftOfNames goes by zone files, a zone that is handed over, lists, certificates and a
// range: what leads to somebody who answers is watched, all else stands as a comment with why.
func TestADraftOfNames(t *testing.T) {
	dir := t.TempDir()
	root := pkitest.CA("Harbour Root", nil)
	put(t, dir+"/root.pem", string(certs.PEM(root.Raw)))
	leaf := pkitest.Leaf(root, "a.lantern.example")
	pair := leaf.TLS()
	at := servicetest.Serve(t, "127.77.1.1:0", func() *tls.Certificate { return &pair })
	port := fmt.Sprint(at.Port())
	put(t, dir+"/zones/db.lantern", "$ORIGIN lantern.example.\n$TTL 1h\n@ IN SOA ns hostmaster (\n  1 ; serial\n  2h 1h\n  4w 1h )\n  NS ns\n"+
		"a A 127.77.1.1\nwww CNAME a\nloop CNAME loop2\nloop2 CNAME loop\nout CNAME cdn.example.org.\n*.w A 127.77.1.1\n_x._tcp SRV 0 0 1 a\nsilent A 127.77.1.9\n$INCLUDE more\n")
	put(t, dir+"/zones/more", "more IN A 127.77.1.1\n")
	put(t, dir+"/zones/bare", "@ 3600 IN SOA ns h 1 2 3 4 5\nb IN A 127.77.1.1\n")
	names, err := nameserver.Start(net.IPv4(127, 0, 0, 1))
	require.NoError(t, err)
	t.Cleanup(names.Close)
	for _, n := range []string{"listed.lantern.example", "of-a-certificate.lantern.example"} {
		require.NoError(t, names.Set(n+".", n+". 60 IN A 127.77.1.1"))
	}
	require.NoError(t, names.Set("cdn.example.org.", "cdn.example.org. 60 IN A 127.77.1.1"))
	put(t, dir+"/names", "# a list\nLISTED.lantern.example.\n")
	put(t, dir+"/certificates/deep/x.pem", string(certs.PEM(pkitest.Leaf(root, "of-a-certificate.lantern.example").Raw)))
	put(t, dir+"/certificates/ca.pem", string(certs.PEM(root.Raw)))
	common := []string{"--roots", "root.pem", "--public", "--port", port, "--resolver", names.Address()}
	watched := func(args ...string) ([]string, string) {
		e, text := drawn(t, dir, append(slices.Clone(common), args...)...)
		assert.True(t, e.Audiences[0].Public)
		var out []string
		for _, name := range hostsAt(e, at.Addr()) {
			short, _, _ := strings.Cut(name, ".")
			out = append(out, short)
		}
		return out, text
	}
	list, text := watched("--zone", "zones/db.lantern")
	assert.Equal(t, []string{"a", "more", "www"}, list)
	assert.Contains(t, text, "a.lantern.example   # db.lantern\n")
	assert.Contains(t, text, "#  - name: silent.lantern.example   # it leads to 127.77.1.9:"+port+", which does not speak TLS: ")
	assert.Contains(t, text, "# - db.lantern: the wildcard *.w.lantern.example")
	assert.Contains(t, text, "#  - name: loop.lantern.example")
	assert.NotContains(t, text, "_x")
	list, _ = watched("--zone", "zones/bare", "--origin", "lantern.example")
	assert.Equal(t, []string{"b"}, list)
	list, _ = watched("--names", "names", "--certificates", "certificates")
	assert.Equal(t, []string{"listed", "of-a-certificate"}, list)
	b, err := bind.Start(bind.Config{Dir: t.TempDir(), Address: freeAddress(t), Zones: map[string]string{"lantern.example": "$TTL 60\n@ SOA ns h 1 2 3 4 5\n@ NS ns\nns A 127.77.1.8\nhanded A 127.77.1.1\n"}})
	require.NoError(t, err)
	t.Cleanup(b.Stop)
	list, text = watched("--transfer", "lantern.example@"+b.Address)
	assert.Equal(t, []string{"handed"}, list)
	assert.Contains(t, text, "handed.lantern.example   # lantern.example at "+b.Address)
	list, text = watched("--range", "127.77.1.0/29", "--allow", "127.77.0.0/16")
	assert.Equal(t, []string{"a"}, list)
	assert.Contains(t, text, "- name: at-127-77-1-1   # seen in 127.77.1.0/29")
	// What several of them have is one.
	list, text = watched("--range", "127.77.1.0/29", "--allow", "127.77.0.0/16", "--zone", "zones/db.lantern")
	assert.Equal(t, []string{"a", "more", "www"}, list)
	assert.Equal(t, 1, strings.Count(text, "at-127-77-1-1   #"))

	for _, c := range []struct {
		args []string
		said string
		code int
	}{
		{[]string{"--range", "127.77.1.0/29"}, "127.77.1.0/29 is not among the ranges you say are yours to look through", 1},
		{[]string{"--range", "127.77.1.0/29", "--allow", "127.77.1.0/30"}, "is not among the ranges", 1},
		{[]string{"--range", "127.0.0.0/8", "--allow", "127.0.0.0/8"}, "divide it", 1},
		{[]string{"--range", "127.77.1.1"}, "expected a range such as 192.0.2.0/28", 2},
		{[]string{"--zone", "zones/bare"}, "zones/bare does not say which zone it is; it has no $ORIGIN, so add --origin ZONE", 1},
		{[]string{"--zone", "zones/none"}, "no such file", 1},
		{[]string{"--zone", "root.pem", "--origin", "x"}, "dns:", 1},
		{[]string{"--names", "root.pem"}, "root.pem:1: ", 1},
		{[]string{"--certificates", "zones"}, "holds no certificate of a server among 3 files", 1},
		{[]string{"--transfer", "lantern.example"}, "expected ZONE@SERVER[:PORT]", 2},
		{[]string{"--transfer", "other.example@" + b.Address}, "does not hand over other.example", 1},
		{[]string{"--configuration", "zones@127.0.0.1"}, "holds no main file of a server; expected one of ", 1},
		{[]string{"--main", "root.pem"}, "root.pem is not called as the main file of a server is, and none runs with it", 1},
		{[]string{"--main", "none/nginx.conf"}, "no server was found on this machine", 1},
		{[]string{"--server", "@x"}, "expected [USER@]HOST[:PORT]", 2},
		{[]string{"--server", "a@127.77.1.9:1"}, "127.77.1.9:1", 1},
		{[]string{"--resolver", "x", "--names", "names"}, "expected HOST:PORT", 2},
		{[]string{"--port", "0", "--names", "names"}, "expected a port from 1 to 65535", 2},
		{[]string{"--roots", "none.pem", "--names", "names"}, "none.pem: no such file", 1},
		{[]string{"--out", "names"}, "is there already", 2},
		{[]string{"--against", "names"}, "names:2:1: found", 1},
		{[]string{"--names", "nobody"}, "no such file", 1},
	} {
		r := insegnaWith(t, dir, "", append([]string{"estate", "draft"}, c.args...)...)
		assert.Equal(t, c.code, r.code, "%v %s", c.args, r.err)
		assert.Contains(t, r.err, c.said, c.args)
	}
	put(t, dir+"/nobody", "nobody.lantern.example\n")
	r := insegnaWith(t, dir, "", append(append([]string{"estate", "draft"}, common...), "--names", "nobody")...)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "no host was found that TLS is spoken for; 1 host of which that is not known stand in the draft as comments")
	assert.Contains(t, r.out, "#  - name: nobody.lantern.example   # it leads to 127.0.0.1:"+port+", which does not speak TLS: connection refused; nobody")
}

func freeAddress(t *testing.T) string { return servicetest.FreeAddress(t) }

// TestFromNothingToFindings types what the guide begins with, on a machine with a server of
// its own: the findings are there, and somebody can sign in.
func TestFromNothingToFindings(t *testing.T) {
	guide, err := os.ReadFile("../../docs/guide.md")
	require.NoError(t, err)
	_, block, _ := strings.Cut(string(guide), "three commands\n\n```sh\n")
	block, _, _ = strings.Cut(block, "```")
	commands := strings.Split(strings.TrimSpace(block), "\n")
	require.Equal(t, []string{"insegna estate draft --out estate.yaml", "insegna serve --apply estate.yaml", "insegna set-up LINK --name marit"}, commands)
	m := moor(t, "127.77.2.1")
	run := func(command string, more ...string) result {
		return insegnaWith(t, m.dir, "", append(strings.Fields(strings.TrimPrefix(command, "insegna ")), more...)...)
	}
	r := run(commands[0], "--roots", "root.pem", "--main", m.conf) // other tests' servers run here too
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "estate.yaml: 2 hosts on 1 server; not watched, and as comments with why: 2 hosts.")
	file := m.dir + "/estate.yaml"
	listen := servicetest.FreeAddress(t)
	serve := []string{"--data", t.TempDir(), "--database", servicetest.Database(t), "--apply"}
	p := servicetest.StartProcess(t, listen, append(serve, file)...)
	assert.Eventually(t, func() bool { return strings.Contains(p.Out(), "All of it: http://"+listen) }, 30*time.Second, 50*time.Millisecond, "%s", p.Log())
	assert.Contains(t, p.Out(), "Applied "+file+": 4 changes. Looking at 3 targets.")
	assert.Regexp(t, `✗ broken  xn--bcher-kva.lantern.example on [a-zA-Z0-9.-]+: another site answers for xn--bcher-kva`, p.Out())
	p.Kill()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	put(t, file, string(text[:strings.Index(string(text), "  - name: xn--")])) // one host less
	p = servicetest.StartProcess(t, listen, append(serve, file)...)
	assert.Contains(t, p.Out(), file+" is not applied: it would take away host xn--bcher-kva.lantern.example, which is in force and stays so.")
	p.Kill()
	assert.Contains(t, servicetest.FailedStart(t, listen, append(serve, m.dir+"/none.yaml")...), "no such file")
}
