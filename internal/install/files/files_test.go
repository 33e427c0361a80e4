package files_test

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"insegna.example/internal/standin/process"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/install"
	"insegna.example/internal/install/files"
	"insegna.example/internal/kind/haproxy"
	"insegna.example/internal/kind/httpd"
	"insegna.example/internal/kind/nginx"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/reach"
	"insegna.example/internal/standin/sshd"
	"insegna.example/internal/standin/wire"
)

const host = "menu.lantern.example"

// pier is a real nginx with one site, and certificates for it.
type pier struct {
	dir, main, site, folder string
	plain, secure           netip.AddrPort
	root                    *pkitest.Entity
	nginx                   *process.Process
	t                       *testing.T // whose end is the server's
	httpd                   bool       // it is a real httpd, not nginx
	quay                    bool       // it is a real HAProxy
}

func freePort(t *testing.T) netip.AddrPort {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = l.Close() }()
	return netip.MustParseAddrPort(l.Addr().String())
}

func newPier(t *testing.T) *pier {
	dir, err := os.MkdirTemp("", "pier-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	p := &pier{dir: dir, main: dir + "/nginx.conf", site: dir + "/sites/menu", folder: dir + "/insegna/menu",
		plain: freePort(t), secure: freePort(t), root: pkitest.CA("Harbour Root", nil), t: t}
	user := ""
	if os.Geteuid() == 0 {
		user = "user root;\n"
	}
	require.NoError(t, os.MkdirAll(dir+"/sites", 0o755))
	p.put(t, p.main, user+"daemon off; pid "+dir+"/pid; error_log stderr; worker_processes 1;\nevents {}\nhttp "+
		"{\naccess_log off; client_body_temp_path "+dir+"/t1; proxy_temp_path "+dir+"/t2; fastcgi_temp_path "+dir+
		"/t3; uwsgi_temp_path "+dir+"/t4; scgi_temp_path "+dir+"/t5;\ninclude sites/*;\n}\n")
	return p
}

// newHouse is a pier with a real httpd.
func newHouse(t *testing.T) *pier {
	return newHouseOf(t, "mpm_event", "authz_core", "alias", "rewrite", "proxy", "proxy_http", "socache_shmcb", "ssl")
}

// newHouseOf is an httpd that has some modules, and could switch on those of Debian.
func newHouseOf(t *testing.T, modules ...string) *pier {
	p := newPier(t)
	require.NoError(t, os.Chmod(p.dir, 0o755))
	p.httpd, p.main, p.site = true, p.dir+"/httpd.conf", p.dir+"/sites/menu"
	head := ""
	require.NoError(t, os.Mkdir(p.dir+"/mods-enabled", 0o755))
	require.NoError(t, os.Symlink("/etc/apache2/mods-available", p.dir+"/mods-available"))
	for _, m := range modules {
		head += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%[1]s.so\n", m)
	}
	p.put(t, p.main,
		fmt.Sprintf("ServerRoot %[1]s\nServerName house.example\nDefaultRuntimeDir %[1]s\nPidFile %[1]s/pid\n"+
			"Mutex file:%[1]s default\nErrorLog %[1]s/error.log\n%[2]sStartServers 1\n"+
			"GracefulShutdownTimeout 1\nIncludeOptional mods-enabled/*.load\nIncludeOptional mods-enabled/*.conf\n"+
			"<IfModule ssl_module>\nSSLSessionCache none\n</IfModule>\nInclude sites/*\n", p.dir, head))
	return p
}

// siteText declares the site, with TLS when it names a certificate.
func (p *pier) siteText(certificate, key string) string {
	if p.httpd {
		text := fmt.Sprintf("Listen %s\n<VirtualHost %[1]s>\n  ServerName %[2]s\n</VirtualHost>\n", p.plain, host)
		if certificate != "" {
			text += fmt.Sprintf("Listen %s\n<VirtualHost %[1]s>\n  ServerName %[2]s\n  SSLEngine on\n"+
				"  SSLCertificateFile %[3]s\n  SSLCertificateKeyFile %[4]s\n</VirtualHost>\n", p.secure, host, certificate, key)
		}
		return text
	}
	text := fmt.Sprintf("server {\n  listen %s;\n  server_name %s;\n  root %s;\n}\n", p.plain, host, p.dir)
	if certificate != "" {
		text += fmt.Sprintf("server { listen %s ssl; server_name %s; ssl_certificate %s; ssl_certificate_key %s; }\n",
			p.secure, host, certificate, key)
	}
	return text
}

func (p *pier) put(t *testing.T, path, text string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o640))
}

func (p *pier) command(more string) string {
	if p.quay {
		return p.quayCommand(more)
	}
	if p.httpd {
		switch more {
		case "":
			more = "-D FOREGROUND"
		case "-s reload":
			more = "-k graceful"
		}
		return "/usr/sbin/apache2 -d " + p.dir + " -f " + p.main + " " + more
	}
	return "/usr/sbin/nginx -p " + p.dir + " -c " + p.main + " -e stderr " + more
}

// copy is what the path of a copy of the configuration begins with.
func (p *pier) copy() string { return p.dir + "/.insegna-menu." }

// destination is the server as an estate file declares it.
func (p *pier) destination(over reach.Connection) *files.Destination {
	way := &estate.Reach{Configuration: p.main,
		Commands: map[string]string{"test": p.command("-t"), "reload": p.command("-s reload")}}
	if p.quay {
		return haproxy.Kind.Installs(over, &estate.Server{Reach: way}).(*files.Destination)
	}
	if p.httpd {
		return httpd.Kind.Installs(over, &estate.Server{Reach: way}).(*files.Destination)
	}
	return nginx.Kind.Installs(over, &estate.Server{Reach: way}).(*files.Destination)
}

// named gives the names of the files in a folder laid for a version: each second
// one is laid as earlier versions of the program did.
func named(version int) (certificates, key string) {
	if version%2 == 0 {
		return "chain.pem", "key.pem"
	}
	return "certificates.pem", "private-key.pem"
}

// own changes the destination's own part of a plan.
func own(i *install.Installation, key string, value any) {
	var m map[string]any
	_ = json.Unmarshal(i.Plan.Own, &m)
	m[key] = value
	i.Plan.Own, _ = json.Marshal(m)
}

// start runs nginx on the configuration as it lies.
func (p *pier) start(t *testing.T) {
	cmd := exec.Command("/bin/sh", "-c", "exec "+p.command(""))
	started, err := process.Start(cmd, syscall.SIGKILL)
	require.NoError(t, err)
	p.nginx = started
	p.t.Cleanup(func() { started.Stop(syscall.SIGTERM) })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", p.plain.String())
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 20*time.Second, 10*time.Millisecond)
}

// leaf makes a certificate for the site with its key, as files hold them.
func (p *pier) leaf(t *testing.T) (install.Material, *certs.Certificate) {
	e := pkitest.Leaf(p.root, host)
	key, err := certs.KeyPEM(e.Key)
	require.NoError(t, err)
	return install.Material{Chain: certs.PEM(e.Raw), Key: key}, e.Certificate
}

// served gives the SHA-256 of what visitors get; "" when nobody answers.
func (p *pier) served() string {
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", p.secure.String(),
		&tls.Config{ServerName: host, InsecureSkipVerify: true})
	if err != nil {
		return ""
	}
	defer func() { _ = conn.Close() }()
	sum := sha256.Sum256(conn.ConnectionState().PeerCertificates[0].Raw)
	return hex.EncodeToString(sum[:])
}

// serves says whether visitors get a certificate, all of them before long.
func (p *pier) serves(leaf string) bool {
	for good, deadline := 0, time.Now().Add(10*time.Second); time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		if good++; p.served() != leaf {
			good = 0
		}
		if good == 5 {
			return true
		}
	}
	return false
}

// Shapes a site has before an installation.
const (
	renewed   = "renewed"    // it shows what was installed before
	foreign   = "foreign"    // it shows a certificate that lies elsewhere
	plainOnly = "plain only" // it speaks plain http alone
)

// lay brings the site into a shape, and works out an installation on it.
func (p *pier) lay(t *testing.T, shape string, version int) *install.Installation {
	if p.quay {
		return p.layQuay(t, shape, version)
	}
	require.NoError(t, os.RemoveAll(p.dir+"/insegna"))
	m, leaf := p.leaf(t)
	old := leaf.Fingerprint.String()
	text := p.siteText("", "")
	switch shape {
	case renewed:
		before := fmt.Sprint(version - 1)
		certificates, key := named(version)
		p.put(t, p.folder+"/versions/"+before+"/"+certificates, string(m.Chain))
		p.put(t, p.folder+"/versions/"+before+"/"+key, string(m.Key))
		require.NoError(t, os.Symlink("versions/"+before, p.folder+"/now"))
		text = p.siteText(p.folder+"/now/"+certificates, p.folder+"/now/"+key)
	case foreign:
		p.put(t, p.dir+"/old.pem", string(m.Chain))
		p.put(t, p.dir+"/old.key", string(m.Key))
		text = p.siteText(p.dir+"/old.pem", p.dir+"/old.key")
	case plainOnly:
		old = ""
	}
	p.put(t, p.site, text)
	if p.nginx == nil {
		p.start(t)
	} else {
		out, err := exec.Command("/bin/sh", "-c", p.command("-s reload")).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	require.True(t, p.serves(old))

	i := p.plan(t, version)
	for n := range i.Bindings {
		i.Bindings[n].Before = old
	}
	assert.Equal(t, shape == renewed, len(i.Plan.Files) == 0)
	assert.Equal(t, []install.Binding{{Host: host, At: p.secure, Before: old}}, i.Bindings)
	return i
}

// plan has an installation of a new certificate worked out.
func (p *pier) plan(t *testing.T, version int) *install.Installation {
	i := &install.Installation{ID: int64(version), State: install.Staging}
	var leaf *certs.Certificate
	i.Material, leaf = p.leaf(t)
	planned, err := p.destination(reach.Local()).Plan(t.Context(),
		&install.Wish{Mandate: "menu", Server: "pier", Names: []string{host}, Leaf: leaf, Version: fmt.Sprint(version),
			Port: p.secure.Port()})
	require.NoError(t, err)
	assert.Equal(t, len(planned.Plan.Files)+len(planned.Plan.Links) == 0, planned.Unasked)
	i.Plan, i.Bindings, i.Leaf = planned.Plan, planned.Bindings, leaf.Fingerprint.String()
	return i
}

// state is what the folder of the configuration holds but for the key material.
func (p *pier) state(t *testing.T) (out []string) {
	require.NoError(t, filepath.WalkDir(p.dir, func(at string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Dir(at) == p.dir && !strings.HasPrefix(d.Name(), ".") {
			return err
		}
		info, err := d.Info()
		require.NoError(t, err)
		text, _ := os.ReadFile(at)
		to, _ := os.Readlink(at)
		out = append(out, fmt.Sprintf("%s %s %s %x", at, info.Mode(), to, sha256.Sum256(text)))
		return nil
	}))
	return out
}

var errKilled = errors.New("killed")

// trial is a server on which one step goes wrong, and records that survive.
type trial struct {
	reach.Connection
	dial    func() reach.Connection // opens the way anew for each turn, where it can be dropped
	drop    func()                  // drops it
	kept    install.Installation
	steps   []string
	at, met int
	kind    string
	fired   bool
	cancel  context.CancelFunc
	dead    bool
	hide    bool          // the new certificate is never seen
	limit   time.Duration // of a command
	look    func() string // what visitors get; the leaf where it is nil
}

// act is one act on the server; do carries it out.
func (x *trial) act(name string, do func() error) error {
	if x.dead {
		return errKilled
	}
	x.met++
	if x.met != x.at || x.fired {
		return do()
	}
	x.fired = true
	switch x.kind {
	case "error":
		return errors.New("no space left on device")
	case "lost before":
		return &reach.LostError{Address: "pier", Err: net.ErrClosed}
	case "lost after":
		_ = do()
		return &reach.LostError{Address: "pier", Err: net.ErrClosed}
	case "dropped before":
		x.drop()
		return do()
	case "dropped during":
		go func() { time.Sleep(time.Duration(x.at%4) * time.Millisecond); x.drop() }()
		return do()
	case "killed before":
		x.dead = true
		x.cancel()
		return errKilled
	case "killed after":
		_ = do()
		x.dead = true
		x.cancel()
		return errKilled
	}
	return do()
}

func (x *trial) Write(path string, data []byte, as reach.Attributes) error {
	return x.act("write "+path, func() error { return x.Connection.Write(path, data, as) })
}

func (x *trial) Run(ctx context.Context, command string, limit time.Duration) (out *reach.Output, err error) {
	if x.kind == "test fails" && strings.HasSuffix(command, "-t") && len(x.steps) > 1 &&
		x.kept.State == install.Switching {
		return &reach.Output{Text: "nginx: [emerg] cannot load certificate\nnginx: configuration file test failed", Exit: 1},
			nil
	}
	if x.kind == "reload hangs" && strings.HasSuffix(command, "reload") && x.kept.State == install.Reloading {
		return nil, &reach.TimeError{Command: command, Limit: limit}
	}
	err = x.act("run "+command, func() (err error) { out, err = x.Connection.Run(ctx, command, limit); return err })
	return out, err
}

func (x *trial) Save(_ context.Context, i *install.Installation, step string, outcome install.Outcome,
	words string) error {
	return x.act("save", func() error {
		x.kept = *i
		x.steps = append(x.steps, step+" "+string(outcome)+": "+words)
		return nil
	})
}

// run carries an installation through whatever happens, as a worker would that
// is started again.
func (x *trial) run(t *testing.T, p *pier, i *install.Installation) {
	x.kept = *i
	if x.look == nil {
		x.look = p.served
	}
	for turn := 0; !x.kept.State.Ended(); turn++ {
		require.Less(t, turn, 10, "%v", x.steps)
		ctx, cancel := context.WithCancel(t.Context())
		x.cancel, x.dead = cancel, false
		if x.dial != nil {
			x.Connection = x.dial()
		}
		to := p.destination(x)
		to.Limit = x.limit
		m := &install.Installer{Destination: to, Records: x, Patience: 5 * time.Second,
			Look: func(context.Context, *install.Binding) (string, string) {
				if leaf := x.look(); !x.hide || leaf != i.Leaf || x.kept.State != install.Looking {
					return leaf, "a certificate"
				}
				return "", "another certificate"
			}}
		if x.hide {
			m.Patience = 300 * time.Millisecond
		}
		now := x.kept // as it was stored
		err := m.Run(ctx, &now)
		var wait *install.WaitError
		if err != nil && !errors.As(err, &wait) && ctx.Err() == nil {
			require.True(t, x.fired, "%v", err) // the records themselves failed
		}
		cancel()
		if x.dial != nil {
			_ = x.Connection.Close()
		}
	}
}

// TestDroppedOverSSH installs over a real SSH server whose connection drops at
// one act after the other, just before it and while it goes on: every time it is
// new everywhere in the end, and nothing half-written is left.
func TestDroppedOverSSH(t *testing.T) {
	if err := sshd.CanRun(); err != nil {
		require.NotErrorIs(t, err, sshd.ErrNotInstalled)
		t.Skip(err) // whoever runs this cannot log in at all
	}
	server, stop, err := sshd.StartFree()
	require.NoError(t, err)
	t.Cleanup(stop)
	relay, err := wire.New(server.Address)
	require.NoError(t, err)
	t.Cleanup(relay.Close)
	known, err := os.ReadFile(server.KnownHosts)
	require.NoError(t, err)
	_, port, _ := net.SplitHostPort(relay.Address())
	_, key, _ := strings.Cut(string(known), " ")
	knownHosts := filepath.Join(t.TempDir(), "known")
	require.NoError(t, os.WriteFile(knownHosts, []byte("[127.0.0.1]:"+port+" "+key), 0o600))
	dial := func() reach.Connection {
		m, err := reach.Dial(t.Context(),
			reach.SSH{Address: relay.Address(), User: server.User, Key: server.Key, KnownHosts: knownHosts})
		require.NoError(t, err)
		return m
	}
	p := newPier(t)
	fired := 0
	for at := 1; at <= 18; at++ {
		kinds := []string{"dropped during", "dropped before"}
		for n, kind := range kinds[:1+at%2] {
			shape := []string{plainOnly, foreign, renewed}[(at+n)%3]
			what := fmt.Sprintf("%s, %s act %d", shape, kind, at)
			i := p.lay(t, shape, 2*at+n)
			x := &trial{dial: dial, drop: relay.Drop, kind: kind, at: at}
			x.run(t, p, i)
			if x.fired {
				fired++
			}
			assert.Equal(t, install.Done, x.kept.State, "%s: %v", what, x.steps)
			assert.True(t, p.serves(i.Leaf), what)
			var left []string
			require.NoError(t, filepath.WalkDir(p.dir, func(at string, d fs.DirEntry, err error) error {
				if strings.HasPrefix(d.Name(), ".") {
					left = append(left, at)
				}
				return err
			}))
			assert.Empty(t, left, what)
		}
	}
	assert.Greater(t, fired, 18)
	assert.Greater(t, relay.Connections(), 27+14, "the way was opened anew")
}

// TestNewEverywhereOrOldEverywhere lets one thing go wrong at one act of an
// installation on a real nginx, in 240 ways: the end is told, it is true, and
// nothing is left behind.
func TestNewEverywhereOrOldEverywhere(t *testing.T) {
	newOrOld(t, newPier, []string{renewed, foreign, plainOnly}, 60)
}

// TestNewOrOldOnHttpd does the same on a real httpd, in 200 ways.
func TestNewOrOldOnHttpd(t *testing.T) {
	newOrOld(t, newHouse, []string{renewed, foreign, plainOnly}, 50)
}

// TestNewOrOldOnHAProxy does the same on a real HAProxy, in 200 ways, live through
// its socket and by reloads.
func TestNewOrOldOnHAProxy(t *testing.T) {
	newOrOld(t, newQuay, []string{renewed, foreign, inFolder, moreInList, moreInFolder, moreOnLine}, 50)
}

func newOrOld(t *testing.T, pierOf func(*testing.T) *pier, shapes []string, runs int) {
	kinds := []string{"error", "lost before", "lost after", "killed before", "killed after"}
	const lanes = 4
	ends := make(chan string, lanes*runs)
	t.Run("all", func(t *testing.T) {
		for lane := range lanes {
			t.Run(fmt.Sprint(lane), func(t *testing.T) {
				t.Parallel()
				p := pierOf(t)
				random := rand.New(rand.NewPCG(uint64(lane), 7))
				for n := range runs {
					shape, kind, at := shapes[random.IntN(len(shapes))], kinds[random.IntN(len(kinds))], 1+random.IntN(20)
					what := fmt.Sprintf("lane %d run %d: %s, %s at act %d", lane, n, shape, kind, at)
					i := p.lay(t, shape, 2+n)
					before, old := p.state(t), i.Bindings[0].Before
					x := &trial{Connection: reach.Local(), kind: kind, at: at}
					x.run(t, p, i)
					ends <- string(x.kept.State)
					switch x.kept.State {
					case install.Done:
						assert.True(t, p.serves(i.Leaf), what)
						left, err := filepath.Glob(p.copy() + "*")
						require.NoError(t, err)
						assert.Empty(t, left, what)
						to, err := os.Readlink(p.folder + "/now")
						require.NoError(t, err, what)
						assert.Equal(t, fmt.Sprintf("versions/%d", 2+n), to, what)
						for _, e := range i.Plan.Files {
							text, err := os.ReadFile(e.Path)
							require.NoError(t, err)
							assert.Equal(t, e.After, string(text), what)
						}
						key := "private-key.pem"
						if shape == renewed {
							_, key = named(2 + n)
						}
						if p.quay {
							key = "certificates-and-key.pem"
						}
						info, err := os.Stat(p.folder + "/now/" + key)
						require.NoError(t, err)
						assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm(), what)
					case install.Returned:
						assert.True(t, p.serves(old), what)
						assert.Equal(t, before, p.state(t), "%s %v", what, x.steps)
						for _, e := range i.Plan.Files {
							text, err := os.ReadFile(e.Path)
							require.NoError(t, err)
							assert.Equal(t, e.Before, string(text), what)
						}
						assert.NotEmpty(t, x.kept.Reason, what)
					default:
						assert.Fail(t, "neither new nor old", "%s: %s %v", what, x.kept.State, x.steps)
					}
				}
			})
		}
	})
	close(ends)
	count := map[string]int{}
	for e := range ends {
		count[e]++
	}
	t.Log(count)
	assert.Equal(t, lanes*runs, count["done"]+count["returned"])
	assert.Greater(t, count["done"], 40)
	assert.Greater(t, count["returned"], 15)
}

// TestWhatGoesWrongOnTheServer ends where it began, and says why.
func TestWhatGoesWrongOnTheServer(t *testing.T) {
	p := newPier(t)
	for name, c := range map[string]struct {
		shape, reason string
		before        func(i *install.Installation, x *trial)
	}{
		"the test fails before": {renewed, "the server's own test fails before anything was changed",
			func(i *install.Installation, _ *trial) { own(i, "test", "echo broken; false") }},
		"the test fails behind": {
			foreign, "cannot load certificate", func(_ *install.Installation, x *trial) { x.kind = "test fails" }},
		"the key does not fit": {renewed, "the server's own test of a staged copy fails",
			func(i *install.Installation, _ *trial) { other, _ := p.leaf(t); i.Material.Key = other.Key }},
		"the edit is refused": {foreign, p.site + ":8", func(i *install.Installation, _ *trial) {
			i.Plan.Files[0].After += "\nserver { listen 1; nonsense on; }\n"
		}},
		"the reload hangs": {
			plainOnly, "did not end within", func(_ *install.Installation, x *trial) { x.kind = "reload hangs" }},
		"every reload hangs": {
			renewed, "did not end within 5s", func(i *install.Installation, x *trial) {
				own(i, "reload", "sleep 60")
				x.limit = 5 * time.Second
			}},
		"a neighbour shows it": {
			foreign, "the neighbour www.lantern.example at", func(i *install.Installation, _ *trial) {
				i.Bindings = append(i.Bindings, install.Binding{Host: "www.lantern.example", At: p.secure,
					Before: i.Bindings[0].Before, Neighbour: true})
			}},
		"the new one is not seen": {
			foreign, "is not seen: menu.lantern.example at", func(_ *install.Installation, x *trial) { x.hide = true }},
		"changed since preview": {
			foreign, "is not as the preview showed it",
			func(i *install.Installation, _ *trial) { i.Plan.Files[0].Before += "# by hand\n" }},
		"another version was put": {
			renewed, "now is not as the preview showed it", func(i *install.Installation, _ *trial) { own(i, "before", "99") }},
	} {
		t.Run(name, func(t *testing.T) {
			i := p.lay(t, c.shape, 50)
			before, old := p.state(t), i.Bindings[0].Before
			x := &trial{Connection: reach.Local()}
			c.before(i, x)
			x.run(t, p, i)
			assert.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
			assert.Contains(t, x.kept.Reason, c.reason)
			assert.NotEmpty(t, x.kept.Advice)
			assert.Equal(t, before, p.state(t))
			assert.True(t, p.serves(old))
		})
	}
}

// mount lays a small file system of memory over a folder.
func mount(t *testing.T, at, options string) {
	require.NoError(t, os.MkdirAll(at, 0o755))
	if err := syscall.Mount("none", at, "tmpfs", 0, options); err != nil {
		t.Skipf("whoever runs this cannot mount: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(at, 0) })
}

// TestAFullDisk has no room for the new version.
func TestAFullDisk(t *testing.T) {
	p := newPier(t)
	i := p.lay(t, foreign, 3)
	mount(t, p.dir+"/insegna", "size=16k")
	require.ErrorIs(t, os.WriteFile(p.dir+"/insegna/filler", make([]byte, 1<<20), 0o600), syscall.ENOSPC)
	before := p.state(t)
	x := &trial{Connection: reach.Local()}
	x.run(t, p, i)
	assert.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
	assert.Contains(t, x.kept.Reason, "no space left on device")
	assert.Equal(t, before, p.state(t))
	assert.True(t, p.serves(i.Bindings[0].Before))
}

// TestAReadOnlyDisk lets the link be renamed, and not the site be written.
func TestAReadOnlyDisk(t *testing.T) {
	p := newPier(t)
	mount(t, p.dir+"/sites", "size=64k")
	i := p.lay(t, foreign, 3)
	before := p.state(t)
	require.NoError(t, syscall.Mount("none", p.dir+"/sites", "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	x := &trial{Connection: reach.Local()}
	x.run(t, p, i)
	assert.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
	assert.Contains(t, x.kept.Reason, "read-only file system")
	assert.NotEmpty(t, x.kept.Advice)
	assert.Equal(t, before, p.state(t))
	assert.True(t, p.serves(i.Bindings[0].Before))
}

// TestAServerThatDoesNotRun cannot take anything in: it says so, and its files
// are as they were when it starts again.
func TestAServerThatDoesNotRun(t *testing.T) {
	p := newPier(t)
	i := p.lay(t, plainOnly, 3)
	before := p.state(t)
	p.nginx.Signal(syscall.SIGTERM)
	require.Eventually(t, func() bool { _, err := os.Stat(p.dir + "/pid"); return err != nil }, 10*time.Second,
		10*time.Millisecond)
	x := &trial{Connection: reach.Local()}
	x.run(t, p, i)
	assert.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
	assert.Contains(t, x.kept.Reason, p.dir+"/pid")
	assert.Contains(t, x.kept.Advice, "see that the server runs")
	assert.Equal(t, before, p.state(t))
	p.start(t)
	assert.Equal(t, "", p.served())
}

// TestASiteThatIsNotSwitchedOn says that, and the very step.
func TestASiteThatIsNotSwitchedOn(t *testing.T) {
	p := newPier(t)
	p.put(t, p.main, "events {}\nhttp { include sites-enabled/*; }\n")
	p.put(t, p.dir+"/sites-available/menu", "server { listen 80; server_name "+host+"; }\n")
	require.NoError(t, os.Mkdir(p.dir+"/sites-enabled", 0o755))
	_, leaf := p.leaf(t)
	_, err := p.destination(reach.Local()).Plan(t.Context(),
		&install.Wish{Mandate: "menu", Server: "pier", Names: []string{host}, Leaf: leaf, Version: "1", Port: 443})
	var refused *install.RefusedError
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, refused.Reason, p.dir+"/sites-available/menu:1: the site "+host+" is not switched on")
	assert.Contains(t, refused.Next, "ln -s ")
	assert.Contains(t, refused.Next, p.command("-s reload"))
	assert.True(t, refused.Preparable)
}

// TestASiteIsSwitchedOn prepares a running server for a site that is written and
// not in force, with a rule in it that stands before the proof: the server takes
// it in, the others are answered as before, and the way back leads back. What lies
// where the link should is nobody else's to replace.
func TestASiteIsSwitchedOn(t *testing.T) {
	p := newPier(t)
	link, file := p.dir+"/sites-enabled/menu", p.dir+"/sites-available/menu"
	main, err := os.ReadFile(p.main)
	require.NoError(t, err)
	p.put(t, p.main, strings.Replace(string(main), "sites/*", "sites-enabled/*", 1))
	p.put(t, p.dir+"/sites-enabled/other", "server { listen "+p.plain.String()+
		"; server_name other.lantern.example; return 404; }\n")
	p.put(t, file,
		"server { listen "+p.plain.String()+"; server_name "+host+
			"; location = / { return 302 /menu; } location ~ /\\. { deny all; } }\n")
	p.start(t)
	assert.Contains(t, p.get(t, host, "/"), "404")
	_, leaf := p.leaf(t)
	wish := &install.Wish{Mandate: "menu", Server: "pier", Names: []string{host}, Leaf: leaf, PlainPort: p.plain.Port()}
	d := p.destination(reach.Local())
	_, err = d.Prepare(t.Context(), wish)
	assert.ErrorContains(t, err, "others would get something else: hosts without a site", "it would be the first")
	require.NoError(t, os.Rename(p.dir+"/sites-enabled/other", p.dir+"/sites-enabled/a"))
	before := p.state(t)
	planned, err := d.Prepare(t.Context(), wish)
	require.NoError(t, err)
	assert.Equal(t, []install.Link{{Path: link, To: file}}, planned.Plan.Links)
	assert.Equal(t, before, p.state(t))

	i := &install.Installation{Plan: planned.Plan, Bindings: planned.Bindings, State: install.Staging}
	x := &records{}
	require.NoError(t, (&install.Installer{Destination: d, Records: x}).Run(t.Context(), i))
	require.Equal(t, install.Done, i.State, "%s %v", i.Reason, x.steps)
	require.NoError(t, os.Chmod(p.dir, 0o755))
	p.put(t, p.folder+"/proofs/.well-known/acme-challenge/a-token", "proof")
	assert.Eventually(t, func() bool { return p.get(t, host, "/.well-known/acme-challenge/a-token") == "200  proof" },
		5*time.Second, 10*time.Millisecond)
	assert.Eventually(t, func() bool { return strings.HasPrefix(p.get(t, host, "/"), "302") }, 5*time.Second,
		10*time.Millisecond)
	assert.Contains(t, p.get(t, "other.lantern.example", "/"), "404")
	require.NoError(t, os.RemoveAll(p.dir+"/insegna"))

	i.State, i.Switched = install.Returning, true
	require.NoError(t, (&install.Installer{Destination: d, Records: x}).Run(t.Context(), i))
	require.Equal(t, install.Returned, i.State, i.Reason)
	assert.Equal(t, before, p.state(t))
	assert.Eventually(t, func() bool { return strings.Contains(p.get(t, host, "/"), "404") }, 5*time.Second,
		10*time.Millisecond)

	// Something else has come to lie there since the preview, and before the next.
	require.NoError(t, os.Symlink("elsewhere", link))
	i.State, i.Switched = install.Staging, false
	require.NoError(t, (&install.Installer{Destination: d, Records: x}).Run(t.Context(), i))
	assert.Contains(t, i.Reason, link+" is not as the preview showed it")
	_, err = d.Prepare(t.Context(), wish)
	assert.ErrorContains(t, err, link+" is there already")
	to, err := os.Readlink(link)
	require.NoError(t, err)
	assert.Equal(t, "elsewhere", to)
	// Where links are laid in vain, that is said.
	require.NoError(t, os.Remove(link))
	p.put(t, p.main, strings.Replace(string(main), "sites/*", "sites-enabled/a*", 1))
	_, err = d.Prepare(t.Context(), wish)
	assert.ErrorContains(t, err, link+" would not be included")
}

// TestARehearsalChangesNothing stages and tests a version, and takes it away.
func TestARehearsalChangesNothing(t *testing.T) {
	p := newPier(t)
	for _, shape := range []string{renewed, foreign, plainOnly} {
		i := p.lay(t, shape, 7)
		i.Rehearsal = true
		before := p.state(t)
		x := &trial{Connection: reach.Local()}
		x.run(t, p, i)
		assert.Equal(t, install.Rehearsed, x.kept.State, "%v", x.steps)
		assert.Contains(t, x.steps[len(x.steps)-1], "the server's own test of a staged copy passes; nothing was changed")
		assert.Equal(t, before, p.state(t))
		assert.True(t, p.serves(i.Bindings[0].Before))
	}
}

// TestTheWayBackAndOldVersions installs again and again: the last few versions
// stay, and what was done can be taken back.
func TestTheWayBackAndOldVersions(t *testing.T) {
	p := newPier(t)
	i := p.lay(t, foreign, 1)
	first := &trial{Connection: reach.Local()}
	first.run(t, p, i)
	require.Equal(t, install.Done, first.kept.State, "%v", first.steps)
	for v := 2; v <= 9; v++ {
		next := p.plan(t, v)
		x := &trial{Connection: reach.Local()}
		x.run(t, p, next)
		require.Equal(t, install.Done, x.kept.State, "%v", x.steps)
		time.Sleep(20 * time.Millisecond) // folders are told apart by their age
	}
	list, err := filepath.Glob(p.folder + "/versions/*")
	require.NoError(t, err)
	assert.Len(t, list, 5)
	assert.Contains(t, list, p.folder+"/versions/8")

	i = p.lay(t, foreign, 1)
	x := &trial{Connection: reach.Local()}
	x.run(t, p, i)
	taken := x.kept
	taken.State, taken.Reason = install.Returning, "taken back by marit"
	back := &trial{Connection: reach.Local()}
	back.run(t, p, &taken)
	assert.Equal(t, install.Returned, back.kept.State, "%v", back.steps)
	assert.True(t, p.serves(i.Bindings[0].Before))
	_, err = os.Stat(p.dir + "/insegna")
	assert.ErrorIs(t, err, fs.ErrNotExist, "nothing is left behind")

	i = p.lay(t, foreign, 1)
	x = &trial{Connection: reach.Local()}
	x.run(t, p, i)
	p.put(t, p.site, "# by hand\n"+i.Plan.Files[0].After)
	taken = x.kept
	taken.State, taken.Reason = install.Returning, "taken back by marit"
	stuck := &trial{Connection: reach.Local()}
	stuck.run(t, p, &taken)
	assert.Equal(t, install.Stuck, stuck.kept.State, "what was written by hand is not lost")
	assert.Contains(t, stuck.kept.Reason, p.site+" is not as the preview showed it")
	assert.Equal(t, i.Leaf, p.served(), "and the new one serves on")
}

// TestAServerThatAReloadWouldEnd leaves a key that belongs to another certificate
// on a real httpd, whose own test passes that: nothing is planned, what was planned
// before goes back, and the server runs on.
func TestAServerThatAReloadWouldEnd(t *testing.T) {
	p := newHouse(t)
	i := p.lay(t, foreign, 2)
	old := i.Bindings[0].Before
	other, _ := p.leaf(t)
	p.put(t, p.dir+"/other.pem", string(other.Chain))
	p.put(t, p.dir+"/other.key", string(i.Material.Key))
	p.put(t, p.dir+"/sites/other", fmt.Sprintf("<VirtualHost %s>\n  ServerName other.example\n  SSLEngine on\n"+
		"  SSLCertificateFile %s/other.pem\n  SSLCertificateKeyFile %[2]s/other.key\n</VirtualHost>\n", p.secure, p.dir))
	out, err := exec.Command("/bin/sh", "-c", p.command("-t")).CombinedOutput()
	require.NoError(t, err, "%s", out)

	x := &trial{Connection: reach.Local()}
	x.run(t, p, i)
	assert.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
	assert.Contains(t, x.kept.Reason,
		"a reload would end the server all the same: "+p.dir+"/sites/other:5:1: the key "+p.dir+
			"/other.key belongs to another certificate")
	assert.True(t, p.serves(old))
	_, err = p.destination(reach.Local()).Plan(t.Context(), &install.Wish{Mandate: "menu", Server: "pier",
		Names: []string{host}, Leaf: pkitest.Leaf(p.root, host).Certificate, Version: "3", Port: p.secure.Port()})
	var refused *install.RefusedError
	require.ErrorAs(t, err, &refused)
	assert.Contains(t, refused.Reason, "a reload would end the server, although its own test passes")
}
