package files_test

import (
	"bufio"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/nginx"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/reach"
	"insegna.example/internal/standin/process"
)

// street is a generated configuration of several sites on a real nginx, one of
// which an installation is for.
type street struct {
	dir                string
	addresses          []netip.Addr // of the server
	plain, secure, own uint16       // ports; own is for nobody but this test
	hosts              []string     // to ask for, "" for none
	wanted             []string     // names of the certificate
	further            []string     // hosts of the site itself that the certificate does not list
	new                *pkitest.Entity
	root               *pkitest.Entity
	nginx              *process.Process
}

// lane keeps ports and addresses of streets that are tried side by side apart.
func newStreet(t *testing.T, lane int, root *pkitest.Entity, r *rand.Rand) *street {
	dir, err := os.MkdirTemp("", "street-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	base := uint16(21000 + 20*lane)
	s := &street{dir: dir, root: root, plain: base, secure: base + 1, own: base + 2}
	for i := range 2 {
		s.addresses = append(s.addresses, netip.AddrFrom4([4]byte{127, 60, byte(lane), byte(i + 1)}))
	}
	s.lay(t, r)
	return s
}

// pick takes one of several at random.
func pick[T any](r *rand.Rand, list ...T) T { return list[r.IntN(len(list))] }

// lay writes a configuration: listen forms, defaults, names of every form, plain
// and TLS sites, redirects, and one or several files.
func (s *street) lay(t *testing.T, r *rand.Rand) {
	put := func(path, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(s.dir+path), 0o755))
		require.NoError(t, os.WriteFile(s.dir+path, []byte(text), 0o644))
	}
	number := 2 + r.IntN(4)
	target := r.IntN(number)
	targetTLS := r.IntN(4) == 0
	forms := func(port uint16) []string {
		a, b := s.addresses[0], s.addresses[1]
		return []string{fmt.Sprint(port), fmt.Sprintf("*:%d", port), fmt.Sprintf("%s:%d", a, port),
			fmt.Sprintf("%s:%d", b, port), fmt.Sprintf("%d; listen [::]:%d", port, port),
			fmt.Sprintf("%s:%d; listen %s:%d", a, port, b, port)}
	}
	used := map[string]bool{}
	var sites []string
	for n := range number {
		id := fmt.Sprintf("site-%d", n)
		list := []string{fmt.Sprintf("s%d.test", n)}
		if more := pick(r, "", "", fmt.Sprintf("www.s%d.test", n), fmt.Sprintf(".t%d.test", n), fmt.Sprintf("*.u%d.test", n),
			fmt.Sprintf("~^r%d[0-9]+\\.test$", n), "_", `""`); more != "" {
			list = append(list, more)
		}
		if n != target && r.IntN(5) == 0 {
			list = []string{pick(r, "_", `""`, "*.test", "~^(.+)\\.test$")}
		}
		if r.IntN(3) == 0 {
			slices.Reverse(list)
		}
		speaks := pick(r, "plain", "plain", "tls", "tls", "both")
		if n == target {
			speaks = map[bool]string{true: pick(r, "tls", "both"), false: "plain"}[targetTLS]
		}
		var b strings.Builder
		fmt.Fprintf(&b, "server {\n")
		listen := func(port uint16, more string) {
			form := pick(r, forms(port)...)
			if r.IntN(4) == 0 && !used[fmt.Sprint(port)] { // one default a port keeps most of them valid
				used[fmt.Sprint(port)] = true
				more += " default_server"
			}
			fmt.Fprintf(&b, "    listen %s%s;\n", strings.ReplaceAll(form, ";", more+";"), more)
		}
		if speaks != "tls" {
			listen(s.plain, "")
		}
		if speaks != "plain" {
			listen(s.secure, pick(r, " ssl", " ssl", " ssl http2"))
			pair := id
			if r.IntN(6) > 0 || n == target {
				put("/"+pair+".pem", "")
				fmt.Fprintf(&b, "    ssl_certificate %s/%s.pem;\n    ssl_certificate_key %s/%[2]s.key;\n", s.dir, pair, s.dir)
			}
		}
		fmt.Fprintf(&b, "    server_name %s;\n", strings.Join(list, " "))
		switch kind := r.IntN(6); {
		case kind == 0:
			fmt.Fprintf(&b, "    location / { proxy_set_header Host $host; proxy_pass http://127.0.0.1:%d/%s; }\n", s.own, id)
		case kind == 1 && n != target:
			fmt.Fprintf(&b, "    return 301 https://elsewhere.test/%s$request_uri;\n", id)
		case kind == 2:
			fmt.Fprintf(&b,
				"    root %s/%s;\n    location ~ /\\. { deny all; }\n    location / { return 200 %[2]s$uri; }\n", s.dir, id)
		case kind == 3 && n != target:
			fmt.Fprintf(&b, "    return 200 %s;\n", id)
		default:
			fmt.Fprintf(&b, "    root %s/%s;\n", s.dir, id)
		}
		fmt.Fprintf(&b, "}\n")
		put("/"+id+"/index.html", id+"\n")
		put("/"+id+"/any", id+" any\n")
		sites = append(sites, b.String())
		for _, name := range list {
			name = strings.Trim(name, `"`)
			switch {
			case name == "" || name == "_":
				continue
			case strings.HasPrefix(name, "~^r"):
				s.hosts = append(s.hosts, fmt.Sprintf("r%d77.test", n))
				if n == target {
					s.further = append(s.further, fmt.Sprintf("r%d77.test", n))
				}
				continue
			case strings.HasPrefix(name, "~"):
				continue
			case strings.HasPrefix(name, "."):
				s.hosts = append(s.hosts, name[1:], "deep.name"+name)
				if n == target {
					s.further = append(s.further, "deep.name"+name)
				}
			case strings.HasPrefix(name, "*"):
				s.hosts = append(s.hosts, "any"+name[1:])
			default:
				s.hosts = append(s.hosts, name)
			}
			if n == target {
				if apex, both := strings.CutPrefix(name, "."); both {
					s.wanted = append(s.wanted, apex, "*."+apex)
				} else {
					s.wanted = append(s.wanted, name)
				}
			}
		}
		s.pair(t, id, list)
	}
	s.hosts = append(s.hosts, "unknown.invalid", "")
	s.new = pkitest.Leaf(s.root, s.wanted[0], func(x *x509.Certificate) { x.DNSNames = s.wanted })
	r.Shuffle(len(sites), func(i, j int) { sites[i], sites[j] = sites[j], sites[i] })
	include := ""
	if r.IntN(2) == 0 {
		for n, text := range sites {
			put(fmt.Sprintf("/available/%02d", n), text)
			require.NoError(t, os.MkdirAll(s.dir+"/enabled", 0o755))
			require.NoError(t, os.Symlink(fmt.Sprintf("../available/%02d", n), fmt.Sprintf("%s/enabled/%02d", s.dir, n)))
		}
		include = "include enabled/*;\n"
	} else {
		include = strings.Join(sites, pick(r, "", "\n", "# a comment\n"))
	}
	user := ""
	if os.Geteuid() == 0 {
		user = "user root;\n"
	}
	put("/nginx.conf",
		user+"daemon off; pid "+s.dir+"/pid; error_log stderr; worker_processes 1; worker_shutdown_timeout 1s;\n"+
			"events { worker_connections 256; }\nhttp {\naccess_log off; server_names_hash_bucket_size 128; "+
			"client_body_temp_path "+
			s.dir+"/t1; proxy_temp_path "+s.dir+"/t2; fastcgi_temp_path "+s.dir+"/t3; uwsgi_temp_path "+s.dir+
			"/t4; scgi_temp_path "+
			s.dir+"/t5;\nserver { listen 127.0.0.1:"+fmt.Sprint(s.own)+"; location / { return 200 $uri; } }\n"+include+"}\n")
}

// pair writes a certificate and key for a site.
func (s *street) pair(t *testing.T, id string, list []string) {
	e := pkitest.Leaf(s.root, "old-"+id, func(x *x509.Certificate) {
		x.DNSNames = []string{"old-" + id + ".test"}
		for _, n := range list {
			if !strings.ContainsAny(n, `~"_`) {
				x.DNSNames = append(x.DNSNames, strings.TrimPrefix(n, "."))
			}
		}
	})
	key, err := certs.KeyPEM(e.Key)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(s.dir+"/"+id+".pem", certs.PEM(e.Raw), 0o644))
	require.NoError(t, os.WriteFile(s.dir+"/"+id+".key", key, 0o600))
}

// command is nginx on this configuration.
func (s *street) command(more string) string {
	return "/usr/sbin/nginx -p " + s.dir + " -c " + s.dir + "/nginx.conf -e stderr " + more
}

// start runs nginx until it answers.
func (s *street) start(t *testing.T) {
	started, err := process.Start(exec.Command("/bin/sh", "-c", "exec "+s.command("")), syscall.SIGTERM)
	require.NoError(t, err)
	s.nginx = started
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.own))
		if err == nil {
			_ = c.Close()
		}
		pid, _ := os.ReadFile(s.dir + "/pid")
		return err == nil && len(pid) > 0
	}, 20*time.Second, 5*time.Millisecond)
}

// got is what one visitor gets.
type got struct {
	leaf string // SHA-256 of the certificate; "" in plain http, or what became of the handshake
	says string // status, Location and body
}

// ask asks as one visitor does: over TLS with a name or without one, or in plain
// http, where no name is a request of HTTP/1.0.
func (s *street) ask(at netip.AddrPort, secured bool, host, path string) (g got) {
	conn, err := net.DialTimeout("tcp", at.String(), 5*time.Second)
	if err != nil {
		return got{"", "nothing listens"}
	}
	defer func() { _ = conn.Close() }()
	_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
	if secured {
		c := tls.Client(conn, &tls.Config{ServerName: host, InsecureSkipVerify: true})
		if err := c.Handshake(); err != nil {
			return got{"no handshake", ""}
		}
		sum := sha256.Sum256(c.ConnectionState().PeerCertificates[0].Raw)
		g.leaf, conn = hex.EncodeToString(sum[:]), c
	}
	if host == "" {
		_, _ = fmt.Fprintf(conn, "GET %s HTTP/1.0\r\n\r\n", path)
	} else {
		_, _ = fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", path, host)
	}
	resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
	if err != nil {
		return got{g.leaf, "no answer"}
	}
	body, _ := io.ReadAll(io.LimitReader(resp.Body, 4096))
	if resp.StatusCode >= 400 {
		body = nil
	}
	g.says = fmt.Sprint(resp.StatusCode, " ", resp.Header.Get("Location"), " ", string(body))
	return g
}

// visit is one question to a street.
type visit struct {
	at      netip.AddrPort
	secured bool
	host    string
	path    string
}

// challenge is a file a CA asks for.
const challenge = "/.well-known/acme-challenge/a-token"

// all asks everything: every host, no host and an unknown one, at every address,
// in plain http and over TLS.
func (s *street) all() map[visit]got {
	out := map[visit]got{}
	for _, a := range append(slices.Clone(s.addresses), netip.MustParseAddr("::1"), netip.MustParseAddr("127.60.200.9")) {
		for _, host := range s.hosts {
			for _, path := range []string{"/", "/any", challenge} {
				v := visit{netip.AddrPortFrom(a, s.plain), false, host, path}
				out[v] = s.ask(v.at, v.secured, v.host, v.path)
			}
			v := visit{netip.AddrPortFrom(a, s.secure), true, host, "/"}
			out[v] = s.ask(v.at, v.secured, v.host, v.path)
		}
	}
	return out
}

// plan works the installation out.
func (s *street) plan(t *testing.T, agreed ...string) (*install.Planned, error) {
	way := &estate.Reach{Configuration: s.dir + "/nginx.conf",
		Commands: map[string]string{"test": s.command("-t"), "reload": s.command("-s reload")}}
	d := nginx.Kind.Installs(reach.Local(), &estate.Server{Reach: way})
	return d.Plan(t.Context(), &install.Wish{Mandate: "target", Server: "street", Names: s.wanted, Leaf: s.new.Certificate,
		Version: "1", Port: s.secure, Addresses: s.addresses, Agreed: agreed})
}

// leafAt looks as an installation does.
func (s *street) leafAt(_ context.Context, b *install.Binding) (leaf, seen string) {
	g := s.ask(b.At, true, b.Host, "/")
	return g.leaf, g.leaf
}

// installed carries the plan out on the running nginx.
func (s *street) installed(t *testing.T, p *install.Planned) {
	key, err := certs.KeyPEM(s.new.Key)
	require.NoError(t, err)
	way := &estate.Reach{Configuration: s.dir + "/nginx.conf",
		Commands: map[string]string{"test": s.command("-t"), "reload": s.command("-s reload")}}
	i := &install.Installation{Plan: p.Plan, Bindings: p.Bindings, Leaf: s.new.Fingerprint.String(),
		State:    install.Staging,
		Material: install.Material{Chain: certs.PEM(s.new.Raw), Key: key}}
	for n := range i.Bindings {
		i.Bindings[n].Before, _ = s.leafAt(t.Context(), &i.Bindings[n])
	}
	x := &records{}
	m := &install.Installer{Destination: nginx.Kind.Installs(reach.Local(), &estate.Server{Reach: way}), Records: x,
		Look: s.leafAt}
	require.NoError(t, m.Run(t.Context(), i))
	require.Equal(t, install.Done, i.State, "%s\n%v\n%s", i.Reason, x.steps, s.text(t))
}

// records keep what is told.
type records struct{ steps []string }

// Save implements install.Records.
func (r *records) Save(_ context.Context, _ *install.Installation, step string, o install.Outcome, words string) error {
	r.steps = append(r.steps, fmt.Sprint(step, " ", o, ": ", words))
	return nil
}

// text is the whole configuration, for a report.
func (s *street) text(t *testing.T) string {
	out, err := exec.Command("/bin/sh", "-c", s.command("-T 2>&1 | grep -v '^#'")).CombinedOutput()
	require.NoError(t, err)
	return string(out)
}

// judge compares what everybody got before with what they get after.
func (s *street) judge(t *testing.T, before, after map[visit]got, old string) {
	newLeaf := s.new.Fingerprint.String()
	seen := 0
	for v, was := range before {
		is := after[v]
		name := fmt.Sprintf("%s %s%s secured=%v", v.at, v.host, v.path, v.secured)
		if v.host == "" || !names.Covers(s.new.Certificate, v.host).Covered {
			switch {
			case was == is || v.secured && was.says == "nothing listens":
			case v.secured && slices.Contains(s.further, v.host): // the site's own, though nothing can list it
			case v.secured && was.says == is.says && was.leaf == old && is.leaf == newLeaf: // the site's own, exchanged
			default:
				assert.Equal(t, was, is, "somebody else is touched: %s", name)
			}
			continue
		}
		if v.secured {
			if is.leaf == newLeaf {
				seen++
			}
			continue
		}
		if was.says == "nothing listens" || was == is ||
			!slices.Contains(append(s.addresses, netip.IPv6Loopback()), v.at.Addr()) {
			continue // the estate does not know the address
		}
		switch v.path {
		case challenge:
			assert.Equal(t, "200  proof", is.says, "%s, was %s", name, was.says)
		default:
			assert.Equal(t, fmt.Sprintf("301 https://%s:%d%s ", v.host, s.secure, v.path),
				is.says[:min(len(is.says), len(v.host)+len(v.path)+len("301 https://:21000 "))], name)
			over := after[visit{netip.AddrPortFrom(v.at.Addr(), s.secure), true, v.host, "/"}]
			assert.Equal(t, newLeaf, over.leaf, "led to https, where the certificate is not shown: %s", name)
			if v.path == "/" {
				assert.Equal(t, was.says, over.says, "another page: %s", name)
			}
		}
	}
	assert.Positive(t, seen, "nobody sees the new certificate")
}

// proofs lays the file a CA asks for wherever the plan or a site has a folder for
// it.
func (s *street) proofs(t *testing.T) {
	roots, err := filepath.Glob(s.dir + "/site-*")
	require.NoError(t, err)
	for _, root := range append(roots, s.dir+"/insegna/target/proofs") {
		if info, err := os.Stat(root); err == nil && !info.IsDir() {
			continue
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(root+challenge), 0o755))
		require.NoError(t, os.WriteFile(root+challenge, []byte("proof"), 0o644))
	}
}

// TestNobodyElseIsTouched installs on hundreds of generated configurations, and
// asks every name, an unknown one and none at every listener before and after:
// only the names of the certificate get something else.
func TestNobodyElseIsTouched(t *testing.T) {
	const wanted, lanes = 320, 4
	root := pkitest.CA("Street Root", nil)
	var mu sync.Mutex
	count := map[string]int{}
	note := func(what string) { mu.Lock(); count[what]++; mu.Unlock() }
	t.Run("streets", func(t *testing.T) {
		for lane := range lanes {
			t.Run(fmt.Sprint(lane), func(t *testing.T) {
				t.Parallel()
				for seed := uint64(lane); seed < 4*wanted && t.Context().Err() == nil && !t.Failed(); seed += lanes {
					mu.Lock()
					enough := count["tried"] >= wanted
					mu.Unlock()
					if enough {
						return
					}
					r := rand.New(rand.NewPCG(seed, 13))
					s := newStreet(t, lane, root, r)
					if exec.Command("/bin/sh", "-c", s.command("-t -q")).Run() != nil {
						note("refused by nginx")
						continue
					}
					note("tried")
					t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) { s.try(t, note) })
				}
			})
		}
	})
	t.Log(count)
	assert.GreaterOrEqual(t, count["tried"], 300)
	assert.Less(t, count["not planned"], count["tried"]/4)
}

// try installs on a street and judges what came of it.
func (s *street) try(t *testing.T, note func(string)) {
	s.start(t)
	defer s.nginx.Stop(syscall.SIGTERM)
	s.proofs(t)
	before := s.all()
	text := s.text(t)
	planned, err := s.plan(t)
	var refused *install.RefusedError
	if errors.As(err, &refused) {
		note("not planned")
		t.Log(refused.Reason)
		assert.Contains(t, refused.Next, "--also")
		_, err := s.plan(t, append(s.hosts, kind.UnknownHost, kind.NoHost)...)
		assert.NoError(t, err, "a person agrees to it")
		return
	}
	require.NoError(t, err)
	var old string
	if data, err := filepath.Glob(s.dir + "/site-*.pem"); err == nil {
		for _, p := range data {
			if raw, err := os.ReadFile(p); err == nil && strings.Contains(string(raw), "CERTIFICATE") {
				if list, err := certs.ReadCertificates(raw); err == nil && names.Covers(list[0], s.wanted[0]).Covered {
					old = list[0].Fingerprint.String()
				}
			}
		}
	}
	s.installed(t, planned)
	note("installed")
	s.judge(t, before, s.all(), old)
	if t.Failed() {
		t.Logf("BEFORE\n%s\nAFTER\n%s", text, s.text(t))
	}
}
