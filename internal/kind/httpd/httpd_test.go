package httpd_test

import (
	"crypto/tls"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/httpd"
	"insegna.example/internal/truthtest"
)

// tree is a server's files; names without a slash lie in /etc/httpd/conf.
func tree(files map[string]string) fstest.MapFS {
	out := fstest.MapFS{}
	for name, text := range files {
		if !strings.Contains(name, "/") {
			name = "etc/httpd/conf/" + name
		}
		out[name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644, ModTime: time.Unix(1_700_000_000, 0)}
	}
	return out
}

func read(t *testing.T, files map[string]string) *kind.Reading {
	r, err := httpd.Read(tree(files), "/etc/httpd/conf/httpd.conf")
	require.NoError(t, err)
	return r
}

func told(r *kind.Reading) (out []string) {
	for _, p := range r.Problems {
		out = append(out, fmt.Sprintf("%s %s", p.Place, p.Message))
	}
	return out
}

// TestDebiansTree copies the tree the package installs, links and environment and
// all, switches TLS on as the package's tools do, and moves its folder and ports.
func TestDebiansTree(t *testing.T) {
	c := &truthtest.Truth{Server: server, Dir: t.TempDir(), Ports: map[string]int{"@1@": truthtest.FreePort(t),
		"@2@": truthtest.FreePort(t)},
		Names: []string{"a.example", "-"},
		Paths: []string{"/", "/.well-known/acme-challenge/token", "/any/other-path"}, Idle: ""}
	require.NoError(t, os.Chmod(filepath.Dir(c.Dir), 0o755))
	pairs := truthtest.Pairs(t)
	require.NoError(t, os.WriteFile(c.Dir+"/a.pem", pairs["a.pem"], 0o644))
	require.NoError(t, os.WriteFile(c.Dir+"/a.key", pairs["a.key"], 0o644))
	port := regexp.MustCompile(`\b(80|443)\b`)
	require.NoError(t, filepath.WalkDir("/etc/apache2", func(p string, e os.DirEntry, err error) error {
		to := filepath.Join(c.Dir, strings.TrimPrefix(p, "/etc/apache2"))
		switch {
		case err != nil || e.IsDir():
			return os.MkdirAll(to, 0o755)
		case e.Type()&os.ModeSymlink != 0:
			at, err := os.Readlink(p)
			require.NoError(t, err)
			return os.Symlink(at, to)
		}
		text, err := os.ReadFile(p)
		require.NoError(t, err)
		s := strings.ReplaceAll(string(text), "/etc/apache2", c.Dir)
		s = strings.ReplaceAll(s, "/etc/ssl/certs/ssl-cert-snakeoil.pem", c.Dir+"/a.pem")
		s = strings.ReplaceAll(s, "/etc/ssl/private/ssl-cert-snakeoil.key", c.Dir+"/a.key")
		if name := filepath.Base(p); name == "ports.conf" || strings.HasSuffix(filepath.Dir(p), "sites-available") {
			s = port.ReplaceAllStringFunc(s, func(n string) string {
				return strconv.Itoa(c.Ports[map[string]string{"80": "@1@", "443": "@2@"}[n]])
			})
		}
		return os.WriteFile(to, []byte(s), 0o644)
	}))
	for _, on := range []string{"mods-enabled/ssl.load", "mods-enabled/ssl.conf", "mods-enabled/socache_shmcb.load",
		"sites-enabled/default-ssl.conf"} {
		_ = os.Remove(filepath.Join(c.Dir, on))
		require.NoError(t, os.Symlink("../"+strings.Replace(on, "enabled", "available", 1), filepath.Join(c.Dir, on)))
	}
	require.NoError(t, os.Rename(c.Dir+"/apache2.conf", c.Dir+"/httpd.conf"))
	env := fmt.Sprintf("export APACHE_RUN_DIR=%[1]s\nexport APACHE_PID_FILE=$APACHE_RUN_DIR/pid\nexport "+
		"APACHE_LOCK_DIR=\"${APACHE_RUN_DIR}\"\n"+
		"APACHE_LOG_DIR='%[1]s'\nexport APACHE_RUN_USER=www-data\nexport APACHE_RUN_GROUP=www-data\n", c.Dir)
	require.NoError(t, os.WriteFile(c.Dir+"/envvars", []byte(env), 0o644))
	for line := range strings.Lines(env) {
		key, value, _ := strings.Cut(strings.TrimPrefix(strings.TrimSpace(line), "export "), "=")
		t.Setenv(key,
			strings.NewReplacer("$APACHE_RUN_DIR", c.Dir, "${APACHE_RUN_DIR}", c.Dir, `"`, "", "'", "").Replace(value))
	}
	require.NoError(t, os.Remove(filepath.Join(c.Dir, "sites-enabled/000-default.conf")))
	c.Idle = "(no name)"
	port80 := c.Ports["@1@"]
	c.Start(t)
	c.Compare(t)
	r := c.Read(t)
	require.Len(t, r.Sites, 2, "the virtual host, and the main server for the other port")
	require.Len(t, r.Idle, 1)
	assert.Equal(t,
		"switch it on: ln -s "+c.Dir+"/sites-available/000-default.conf "+c.Dir+"/sites-enabled/000-default.conf",
		r.Idle[0].SwitchOn)
	assert.Equal(t, "*:"+strconv.Itoa(port80), r.Listeners[0].String())
	require.Eventually(t, func() bool { return !c.Read(t).Loaded.IsZero() }, 5*time.Second, 50*time.Millisecond,
		"when it was started is read from its process")
}

// TestWhereThingsStand holds that places are those of the files, through includes,
// continued lines and macros.
func TestWhereThingsStand(t *testing.T) {
	r := read(t,
		map[string]string{"httpd.conf": "Listen 80\nListen \\\n 443\nLoadModule ssl_module x\nInclude conf/sites/*.conf\n" +
			"<Macro M $n>\n<VirtualHost *:443>\nServerName $n\nSSLEngine on\nSSLCertificateFile " +
			"$n.pem\n</VirtualHost>\n</Macro>\n\nUse M m.example\nUse M n.example\n",
			"etc/httpd/conf/sites/a.conf": "# a\n<VirtualHost *:80>\n  ServerName a.example\n ServerAlias b.example \\\n  " +
				"*.c.example\n</VirtualHost>\n"})
	require.Len(t, r.Sites, 3)
	assert.Equal(t, "/etc/httpd/conf/sites/a.conf:2", r.Sites[0].Place.String())
	assert.Equal(t, "/etc/httpd/conf/sites/a.conf:3", r.Sites[0].Names[0].Place.String())
	assert.Equal(t, "/etc/httpd/conf/sites/a.conf:4", r.Sites[0].Names[2].Place.String())
	assert.Equal(t, []string{"*.c.example"}, r.Sites[0].Names[2].Covers)
	assert.Equal(t, "/etc/httpd/conf/httpd.conf:14", r.Sites[1].Place.String())
	assert.Equal(t, "/etc/httpd/conf/httpd.conf:15", r.Sites[2].Place.String())
	assert.Equal(t, "/etc/httpd/n.example.pem", r.Sites[2].Pairs[0].Certificate)
	assert.Equal(t, "/etc/httpd/conf/httpd.conf:2", r.Listeners[1].Place.String())
	a := httpd.NewIndex(r).Answer("N.Example.", netip.MustParseAddrPort("192.0.2.1:443"))
	require.True(t, a.Named)
	assert.Equal(t, r.Sites[2].Place, a.Site.Place)
}

// TestWhatIsToldOfAConfiguration tells what the server would refuse or do
// otherwise than it is meant.
func TestWhatIsToldOfAConfiguration(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		want string
	}{
		"a name that is never reached": {
			"Listen 80\n<VirtualHost *:80>\nServerName a\nServerAlias *.x\n</VirtualHost>\n<VirtualHost *:80>\nServerName " +
				"b.x\n</VirtualHost>",
			"/etc/httpd/conf/httpd.conf:7 the name b.x is not reached: the virtual host at /etc/httpd/conf/httpd.conf:2 has it " +
				"already"},
		"a port nothing opens": {"Listen 80\n<VirtualHost *:443>\nServerName a\n</VirtualHost>",
			"/etc/httpd/conf/httpd.conf:2 no Listen opens an address of this virtual host (*:443)"},
		"a module that is missing": {"Listen 443\n<VirtualHost *:443>\nSSLEngine on\n</VirtualHost>",
			"/etc/httpd/conf/httpd.conf:3 SSLEngine needs the module ssl, which is not loaded"},
		"a certificate managed by the server": {
			"LoadModule ssl_module x\nListen 443\nMDomain a.example\n<VirtualHost *:443>\nServerName a.example\nSSLEngine " +
				"on\n</VirtualHost>",
			"/etc/httpd/conf/httpd.conf:3 the server orders the certificate of a.example itself (MDomain), so its files are " +
				"not known here"},
		"an address that is a name": {"Listen 443\n<VirtualHost www.a.example:443>\n</VirtualHost>",
			"/etc/httpd/conf/httpd.conf:2 the address www.a.example:443 is found by name when the server starts, so it is not " +
				"known here"},
		"a variable nobody defines": {
			"Listen ${DOOR}\n", "/etc/httpd/conf/httpd.conf:1 the variable ${DOOR} is not defined here"},
		"a version up to the last number": {"Listen 80\n<IfVersion >= 2.4.58>\n</IfVersion>",
			"/etc/httpd/conf/httpd.conf:2 the server's exact version is not known here; 2.4.60 is taken for it"},
		"a path out of the root": {"Listen 80\nInclude ../../../x\n",
			"/etc/httpd/conf/httpd.conf:2 the path \"../../../x\" climbs out of the file system"},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Contains(t, told(read(t, map[string]string{"httpd.conf": c.text})), c.want)
		})
	}
}

// TestHostileConfigurationsEnd reads what grows or nests without end: the rest is
// still read, in bounded time, and what was left out is told.
func TestHostileConfigurationsEnd(t *testing.T) {
	const site = "Listen 80\n<VirtualHost *:80>\nServerName a.example\n</VirtualHost>\n"
	bomb := "<Macro m0>\nServerAdmin a@a\n</Macro>\n"
	for i := range 30 {
		bomb += fmt.Sprintf("<Macro m%d>\n%s</Macro>\n", i+1, strings.Repeat(fmt.Sprintf("Use m%d\n", i), 8))
	}
	for name, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"deep sections": {
			map[string]string{"httpd.conf": site + strings.Repeat("<Location />\n", 5000)}, "sections stand more than 100 deep"},
		"variables in a circle": {
			map[string]string{"httpd.conf": site + "Define A ${B}x\nDefine B ${A}\nServerAdmin ${A}${A}\n"}, ""},
		"macros that multiply": {
			map[string]string{"httpd.conf": site + bomb + "Use m30\n"}, "includes and macros make more than"},
		"junk": {
			map[string]string{"httpd.conf": site + "<<<>>> \x00\xff\n\\\n\"\n<\n</>\n'x\nUse\nDefine\nInclude\n<If>\n"},
			"section"},
		"a file too large": {
			map[string]string{"httpd.conf": site + "Include big\n", "etc/httpd/big": strings.Repeat("# x\n", 13<<20)},
			"at most 4 MB are read"},
		"a line too long": {
			map[string]string{"httpd.conf": site + "ServerAdmin " + strings.Repeat("${A}", 900_000) + "\n"}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			r := read(t, c.files)
			require.NotEmpty(t, r.Sites)
			assert.Equal(t, "a.example", r.Sites[0].MainName())
			assert.Contains(t, strings.Join(told(r), "\n"), c.want)
			x := httpd.NewIndex(r)
			_, known := x.Plain("a.example", netip.MustParseAddrPort("192.0.2.1:80"), "/")
			assert.True(t, known)
		})
	}
}

// FuzzRead holds that no text makes the reader fail, and that what it says of the
// stored files is what it said of the server's.
func FuzzRead(f *testing.F) {
	list, err := filepath.Glob("testdata/truth/*.txtar")
	require.NoError(f, err)
	for _, p := range list {
		text, err := os.ReadFile(p)
		require.NoError(f, err)
		f.Add(strings.NewReplacer("@1@", "80", "@2@", "443", "@head@", head, "@dir@", "/etc/httpd").Replace(string(text)))
	}
	f.Fuzz(func(t *testing.T, text string) {
		r := read(t, map[string]string{"httpd.conf": text, "etc/httpd/conf/a.conf": "Define X 1\n"})
		x := httpd.NewIndex(r)
		for i := range r.Listeners {
			at := r.Listeners[i].Address
			for _, host := range []string{"", "a.example", "x.a.example"} {
				a := x.Answer(host, at)
				if a.Listener == nil || a.Listener.TLS {
					continue
				}
				for _, route := range a.Site.Plain {
					if route.Host == host && route.Listener == a.Listener.String() {
						step, _ := x.Plain(host, at, "/")
						assert.Equal(t, route.Front, step)
					}
				}
			}
		}
	})
}

// TestWhatIsSentBehindTheCertificate compares the whole list a real httpd sends
// with what is read, where the chain lies in the file, in one of its own, and in
// both.
func TestWhatIsSentBehindTheCertificate(t *testing.T) {
	pairs := truthtest.Pairs(t)
	for name, lines := range map[string]string{
		"alone":    "SSLCertificateFile a.pem",
		"in it":    "SSLCertificateFile a-and-b.pem",
		"its own":  "SSLCertificateFile a.pem\nSSLCertificateChainFile c.pem",
		"both":     "SSLCertificateFile a-and-b.pem\nSSLCertificateChainFile c.pem",
		"the same": "SSLCertificateFile a-and-b.pem\nSSLCertificateChainFile a-and-b.pem",
	} {
		t.Run(name, func(t *testing.T) {
			c := server.Unpack(t, &txtar.Archive{Comment: []byte("ask: a.example\n"), Files: []txtar.File{
				{Name: "a-and-b.pem", Data: append(slices.Clone(pairs["a.pem"]), pairs["b.pem"]...)},
				{Name: "httpd.conf",
					Data: []byte("@head@\nListen @1@\n<VirtualHost *:@1@>\nServerName a.example\nSSLEngine on\n" + lines +
						"\nSSLCertificateKeyFile a.key\n</VirtualHost>\n")}}}, pairs)
			c.Start(t)
			r := c.Read(t)
			conn, err := tls.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", c.Ports["@1@"]), &tls.Config{InsecureSkipVerify: true})
			require.NoError(t, err)
			defer func() { _ = conn.Close() }()
			var sent []string
			for _, cert := range conn.ConnectionState().PeerCertificates {
				sent = append(sent, truthtest.Sum(cert.Raw))
			}
			require.Len(t, r.Sites[0].Pairs, 1)
			assert.Equal(t, sent, r.Sent(&r.Sites[0].Pairs[0]), "seen %v", c.Called(r, sent))
		})
	}
}

// closed is a tree in which keys may not be read from here.
type closed struct{ fs.FS }

func (c closed) Open(p string) (fs.File, error) {
	if strings.HasSuffix(p, ".key") {
		return nil, &fs.PathError{Op: "open", Path: p, Err: fs.ErrPermission}
	}
	return c.FS.Open(p)
}

func (c closed) Stat(p string) (fs.FileInfo, error) { return fs.Stat(c.FS, p) }

// TestAKeyThatMayNotBeReadIsNotCalledWrong reads as a user without the right to
// open keys: they are told as hidden, not as what would end the server.
func TestAKeyThatMayNotBeReadIsNotCalledWrong(t *testing.T) {
	pairs := truthtest.Pairs(t)
	r, err := httpd.Read(
		closed{tree(map[string]string{"etc/httpd/a.pem": string(pairs["a.pem"]), "etc/httpd/a.key": string(pairs["b.key"]),
			"httpd.conf": "LoadModule ssl_module x\nListen 443\n<VirtualHost *:443>\nServerName a\nSSLEngine " +
				"on\nSSLCertificateFile a.pem\nSSLCertificateKeyFile a.key\n</VirtualHost>\n"})},
		"/etc/httpd/conf/httpd.conf")
	require.NoError(t, err)
	assert.Empty(t, told(r))
	assert.True(t, r.Material["/etc/httpd/a.key"].Hidden)
	assert.Equal(t, "permission denied", r.Material["/etc/httpd/a.key"].Fault)
}
