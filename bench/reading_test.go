package bench_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/haproxy"
	"insegna.example/internal/kind/httpd"
	"insegna.example/internal/kind/nginx"
	"insegna.example/internal/standin/sshd"
	"insegna.example/internal/standin/wire"
)

const sitesPort = 29443

func siteName(i int) string { return fmt.Sprintf("site%d.bench.test", i) }

// sitesTree writes a configuration of so many sites, one a file, each with a
// certificate and key of its own.
func (b *bench) sitesTree(n int) (main string, err error) {
	dir := filepath.Join(b.dir, fmt.Sprintf("sites-%d", n))
	a, err := newAuthority()
	if err != nil {
		return "", err
	}
	for _, d := range []string{"sites-enabled", "vhosts", "tls"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o755); err != nil {
			return "", err
		}
	}
	write := func(name, text string) error { return os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600) }
	var list strings.Builder
	for i := range n {
		fmt.Fprintf(&list, "%s/tls/%d.both %s www.%[3]s\n", dir, i, siteName(i))
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return "", err
		}
		leaf, err := a.leaf(siteName(i), key.Public())
		if err != nil {
			return "", err
		}
		der, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return "", err
		}
		chain := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leaf.Raw})) +
			string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.ca.Raw}))
		private := string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
		for name, text := range map[string]string{
			fmt.Sprintf("tls/%d.pem", i):  chain,
			fmt.Sprintf("tls/%d.key", i):  private,
			fmt.Sprintf("tls/%d.both", i): chain + private,
			fmt.Sprintf("sites-enabled/%d",
				i): fmt.Sprintf("# site %[1]d\nserver {\n    listen 127.0.0.1:%[2]d ssl;\n    server_name %[3]s www.%[3]s;\n    "+
				"ssl_certificate tls/%[1]d.pem;\n    ssl_certificate_key tls/%[1]d.key;\n    location / {\n        proxy_pass "+
				"http://127.0.0.1:8080;\n    }\n}\n", i, sitesPort, siteName(i)),
			fmt.Sprintf("vhosts/%d.conf", i): fmt.Sprintf("# site %[1]d\n<VirtualHost 127.0.0.1:%[2]d>\n    ServerName %[3]s\n"+
				"    ServerAlias www.%[3]s\n    SSLEngine on\n    SSLCertificateFile tls/%[1]d.pem\n    SSLCertificateKeyFile "+
				"tls/%[1]d.key\n"+
				"    <Location />\n        Redirect permanent https://other.bench.test/\n    </Location>\n</VirtualHost>\n", i,
				sitesPort, siteName(i)),
		} {
			if err := write(name, text); err != nil {
				return "", err
			}
		}
	}
	if err := write("httpd.conf",
		fmt.Sprintf("ServerRoot %[1]s\nServerName main.bench.test\nDefaultRuntimeDir %[1]s\nPidFile %[1]s/pid\n"+
			"ErrorLog %[1]s/error.log\n%[2]sSSLSessionCache none\nListen 127.0.0.1:%[3]d\nInclude vhosts/*.conf\n", dir,
			modules("mpm_event", "authz_core", "alias", "socache_shmcb", "ssl"), sitesPort)); err != nil {
		return "", err
	}
	if err := write("list.txt", list.String()); err != nil {
		return "", err
	}
	if err := write("haproxy.cfg", fmt.Sprintf("defaults\n    mode http\n    timeout client 5s\n    timeout server 5s\n"+
		"    timeout connect 5s\nfrontend web\n    bind 127.0.0.1:%d ssl crt-list %s/list.txt\n    default_backend nodes\n"+
		"backend nodes\n    server one 127.0.0.1:8080\n", sitesPort, dir)); err != nil {
		return "", err
	}
	main = filepath.Join(dir, "nginx.conf")
	return main,
		write("nginx.conf", "pid nginx.pid; error_log stderr; daemon off;\nevents {}\nhttp {\n    access_log off; "+
			"server_names_hash_max_size 65536; server_names_hash_bucket_size 128;\n    client_body_temp_path t1; "+
			"proxy_temp_path t2; fastcgi_temp_path t3; uwsgi_temp_path t4; scgi_temp_path t5;\n    include sites-enabled/*;\n}\n")
}

// modules loads modules of httpd.
func modules(names ...string) (out string) {
	for _, m := range names {
		out += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%[1]s.so\n", m)
	}
	return out
}

// shut is a machine whose certificates and keys may not be opened.
type shut struct{ fs.FS }

// Open implements fs.FS.
func (s shut) Open(p string) (fs.File, error) {
	if strings.Contains(p, "/tls/") {
		return nil, &fs.PathError{Op: "open", Path: p, Err: fs.ErrPermission}
	}
	return s.FS.Open(p)
}

// Stat implements fs.StatFS.
func (s shut) Stat(p string) (fs.FileInfo, error) { return fs.Stat(s.FS, p) }

// resolveAll reads a configuration and asks which site takes every name.
func resolveAll(by kind.Reader, main string, n int) (time.Duration, error) {
	return resolveOver(os.DirFS("/"), by, main, n)
}

func resolveOver(fsys fs.FS, by kind.Reader, main string, n int) (time.Duration, error) {
	began := time.Now()
	r, err := by.Read(fsys, main)
	if err != nil {
		return 0, err
	}
	x := by.Answers(r)
	at := netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), sitesPort)
	for i := range n {
		for _, name := range []string{siteName(i), "www." + siteName(i)} {
			if a := x.Answer(name, at); a.Site == nil || a.Site.MainName() != siteName(i) {
				return 0, fmt.Errorf("%s is answered by %+v", name, a)
			}
		}
	}
	took := time.Since(began)
	_, closed := fsys.(shut)
	if len(r.Sites) != n || len(r.Problems) > 0 || len(r.Certificates) != n+1 && !closed {
		return 0, fmt.Errorf("%d sites, %d certificates, %d problems", len(r.Sites), len(r.Certificates), len(r.Problems))
	}
	return took, nil
}

// reading compares reading ten thousand sites with nginx's own test of them.
func (b *bench) reading() error {
	const many, few = 10_000, 1_000
	main, err := b.sitesTree(many)
	if err != nil {
		return err
	}
	small, err := b.sitesTree(few)
	if err != nil {
		return err
	}
	var ratio, growth []float64
	for range rounds {
		began := time.Now()
		if out, err := exec.CommandContext(b.ctx, "/usr/sbin/nginx", "-t", "-e", "stderr", "-p", filepath.Dir(main), "-c",
			"nginx.conf").CombinedOutput(); err != nil {
			return fmt.Errorf("nginx -t: %w: %s", err, out)
		}
		test := time.Since(began)
		large, err := resolveAll(nginx.Kind.Reader, main, many)
		if err != nil {
			return err
		}
		little, err := resolveAll(nginx.Kind.Reader, small, few)
		if err != nil {
			return err
		}
		ratio, growth = append(ratio, large.Seconds()/test.Seconds()),
			append(growth, large.Seconds()/little.Seconds()/(many/few))
	}
	how := "10,000 sites in 10,000 files, each with certificate, chain and key of its own: all of them read, parsed, " +
		"keys matched with certificates, and the site of each of the 20,000 names worked out"
	b.add("reading 10,000 nginx sites and resolving every name, against nginx -t", median(ratio), " of its time",
		"≤ 0.10", how+", against `nginx -t` on the same tree. (A tree without TLS costs nginx hardly anything to test; "+
			"reading such a one takes about a third of that.) Rounds: "+spread(ratio)+".", median(ratio) <= 0.1)
	b.add("time a site with 10,000 sites, against with 1,000", median(growth), " times", "≤ 1.3 (linear)",
		"The same, a site, against a tree of 1,000. Rounds: "+spread(growth)+".", median(growth) <= 1.3)
	own, err := os.Executable()
	if err != nil {
		return err
	}
	out, err := exec.CommandContext(b.ctx, own, "rig", "read", main, strconv.Itoa(many)).Output()
	if err != nil {
		return fmt.Errorf("reading in a process of its own: %w", err)
	}
	peak, err := strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
	if err != nil {
		return err
	}
	b.figures = append(b.figures, figure{"memory of a process that reads these 10,000 sites",
		fmt.Sprintf("%.0f MB", peak), "< 300 MB", "The largest resident size (VmHWM) of a process that does nothing else.",
		peak < 300})
	if err := b.readingHttpd(filepath.Join(filepath.Dir(main), "httpd.conf"),
		filepath.Join(filepath.Dir(small), "httpd.conf"), many, few); err != nil {
		return err
	}
	return b.readingHAProxy(filepath.Join(filepath.Dir(main), "haproxy.cfg"),
		filepath.Join(filepath.Dir(small), "haproxy.cfg"), many, few)
}

// readingHAProxy compares reading a list of the same certificates with HAProxy's own
// test of it.
func (b *bench) readingHAProxy(main, small string, many, few int) error {
	var ratio, growth []float64
	for range rounds {
		began := time.Now()
		if out, err := exec.CommandContext(b.ctx, "/usr/sbin/haproxy", "-c", "-f", main).CombinedOutput(); err != nil {
			return fmt.Errorf("haproxy -c: %w: %s", err, out)
		}
		test := time.Since(began)
		large, err := resolveAll(haproxy.Kind.Reader, main, many)
		if err != nil {
			return err
		}
		little, err := resolveAll(haproxy.Kind.Reader, small, few)
		if err != nil {
			return err
		}
		ratio, growth = append(ratio, large.Seconds()/test.Seconds()),
			append(growth, large.Seconds()/little.Seconds()/float64(many/few))
	}
	b.add("reading a HAProxy list of 10,000 certificates and resolving every name, against haproxy -c", median(ratio),
		" of its time", "≤ 0.20", "10,000 distinct certificates with chain and key in one file each, all of them read, parsed "+
			"and matched, and the one of each of 20,000 names worked out, against `haproxy -c` on the same list. Rounds: "+
			spread(ratio)+".", median(ratio) <= 0.2)
	b.add("time a certificate of a HAProxy list with 10,000, against with 1,000", median(growth), " times",
		"≤ 1.3 (linear)",
		"The same, a certificate, against a list of 1,000. Rounds: "+spread(growth)+".", median(growth) <= 1.3)
	return nil
}

// readingHttpd compares reading the same sites as virtual hosts with httpd's own
// test of them.
func (b *bench) readingHttpd(main, small string, many, few int) error {
	var ratio, whole, growth []float64
	for range rounds {
		began := time.Now()
		if out, err := exec.CommandContext(b.ctx, "/usr/sbin/apache2", "-f", main, "-t").CombinedOutput(); err != nil {
			return fmt.Errorf("apache2 -t: %w: %s", err, out)
		}
		test := time.Since(began)
		large, err := resolveAll(httpd.Kind.Reader, main, many)
		if err != nil {
			return err
		}
		little, err := resolveAll(httpd.Kind.Reader, small, few)
		if err != nil {
			return err
		}
		alone, err := resolveOver(shut{os.DirFS("/")}, httpd.Kind.Reader, main, many)
		if err != nil {
			return err
		}
		ratio, whole, growth = append(ratio, alone.Seconds()/test.Seconds()), append(whole, large.Seconds()/test.Seconds()),
			append(growth, large.Seconds()/little.Seconds()/float64(many/few))
	}
	b.add("reading 10,000 httpd sites and resolving every name, against httpd -t", median(ratio), " of its time", "≤ 1",
		"The same 10,000 sites as virtual hosts in 10,000 files, read and resolved, against `apache2 -t` on the same tree. "+
			"That opens "+
			"neither certificates nor keys, so they are kept shut here too; with all 20,000 of them opened, parsed and matched "+
			"it is "+fmt.Sprintf("%.2f", median(whole))+" of the time of the test. Rounds: "+spread(ratio)+".",
		median(ratio) <= 1)
	b.add("time an httpd site with 10,000 sites, against with 1,000", median(growth), " times", "≤ 1.3 (linear)",
		"The same, a site, against a tree of 1,000. Rounds: "+spread(growth)+".", median(growth) <= 1.3)
	return nil
}

// readAlone reads in this process and prints its largest size.
func readAlone(main, n string) error {
	sites, err := strconv.Atoi(n)
	if err != nil {
		return err
	}
	if _, err := resolveAll(nginx.Kind.Reader, main, sites); err != nil {
		return err
	}
	peak, err := highWater(os.Getpid())
	fmt.Println(peak)
	return err
}

// reached compares a survey that reads ten servers over SSH with one that
// reads one of them.
func (b *bench) reached() error {
	if err := sshd.CanRun(); err != nil {
		return err
	}
	const servers, delay = 10, 25 * time.Millisecond
	dir := filepath.Join(b.dir, "reached")
	main, err := b.sitesTree(20)
	if err != nil {
		return err
	}
	s, err := sshd.Prepare(dir, "127.0.0.1:29022")
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(b.ctx)
	wait, err := s.Start(ctx)
	if err != nil {
		cancel()
		return err
	}
	defer func() { cancel(); wait() }()
	estate, err := b.farAway(s, main, servers, delay)
	if err != nil {
		return err
	}
	a, err := newAuthority()
	if err != nil {
		return err
	}
	var ratio []float64
	for i := range rounds {
		one, err := b.surveyReading(fmt.Sprintf("reached-1-%d", i), estate(1), a)
		if err != nil {
			return err
		}
		ten, err := b.surveyReading(fmt.Sprintf("reached-10-%d", i), estate(servers), a)
		if err != nil {
			return err
		}
		ratio = append(ratio, ten.Seconds()/one.Seconds())
	}
	b.add("a survey that reads ten servers over SSH, against one server", median(ratio), " times",
		"≤ 3 (side by side; 10 is one after the other)",
		"Ten servers with 20 sites each behind a real OpenSSH server, every answer of theirs delayed by 25 ms as over a "+
			"distance; whole surveys, alternately. What is left over one is work of the two cores (ten key exchanges). Rounds: "+spread(ratio)+".", median(ratio) <= 3)
	return nil
}

// farAway puts relays in front of the SSH server and gives the estate file of
// the first n servers.
func (b *bench) farAway(s *sshd.Setup, main string, n int, delay time.Duration) (func(int) string, error) {
	known, err := os.ReadFile(s.KnownHosts)
	if err != nil {
		return nil, err
	}
	_, key, _ := strings.Cut(string(known), " ")
	var hosts strings.Builder
	declared := make([]string, n)
	for i := range declared {
		r, err := wire.New(s.Address)
		if err != nil {
			return nil, err
		}
		context.AfterFunc(b.ctx, r.Close)
		r.Delay = delay
		at := netip.MustParseAddrPort(r.Address())
		fmt.Fprintf(&hosts, "[127.0.0.1]:%d %s", at.Port(), key)
		declared[i] = fmt.Sprintf("  - {name: s%d, kind: nginx, addresses: [127.30.1.%d], ports: [9], without_sni: false, "+
			"reach: {by: ssh, address: '%s', user: %s, key: %s, known_hosts: %s, configuration: %s, test: 'true', reload: "+
			"'true'}}\n",
			i, i+1, at, s.User, s.Key, s.KnownHosts, main)
	}
	return func(n int) string {
		return "estate: Bench\naudiences:\n  - {name: bench, public: true, roots: [root.pem]}\nservers:\n" +
			strings.Join(declared[:n], "") + "hosts:\n  - {name: a.bench.test, at: [s0]}\n"
	}, os.WriteFile(s.KnownHosts, []byte(hosts.String()), 0o600)
}

func (b *bench) surveyReading(name, estate string, a *authority) (time.Duration, error) {
	s, err := b.open(name, nil)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	if err := b.apply(s, estate, string(a.pem())); err != nil {
		return 0, err
	}
	took, v, err := b.surveyed(s)
	if err == nil && v.ServersRead != v.Servers {
		err = fmt.Errorf("the survey went wrong: %+v", v)
	}
	return took, err
}
