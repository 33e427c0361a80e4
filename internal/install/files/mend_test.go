package files_test

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
	"insegna.example/internal/core/place"
	"insegna.example/internal/install"
	"insegna.example/internal/kind/nginx"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/reach"
)

// ill is what is wrong with a pier, each with an open key besides.
type ill string

const (
	shortList  ill = "an intermediate is missing"
	olderNamed ill = "the newer certificate is not named"
	otherKey   ill = "the key belongs to another certificate"
)

// codes are the rules that find it.
var codes = map[ill]check.Code{shortList: check.ChainIncomplete, olderNamed: check.WrongFile,
	otherKey: check.KeyOfAnotherCertificate}

// ailing is a pier with something wrong, and a plan to mend it.
type ailing struct {
	*pier
	sub, was, is *pkitest.Entity // an intermediate, and the certificates before and after
	spare        string          // a key that may be read by others
}

// whole gives all that visitors are sent, as fingerprints parted by blanks.
func (p *pier) whole() string {
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", p.secure.String(),
		&tls.Config{ServerName: host, InsecureSkipVerify: true})
	if err != nil {
		return ""
	}
	defer func() { _ = conn.Close() }()
	var out []string
	for _, c := range conn.ConnectionState().PeerCertificates {
		out = append(out, certs.FingerprintOf(c.Raw).String())
	}
	return strings.Join(out, " ")
}

func keyText(t *testing.T, e *pkitest.Entity) string {
	key, err := certs.KeyPEM(e.Key)
	require.NoError(t, err)
	return string(key)
}

// ail brings a pier into a state that is wrong, its server running with what was there
// before, and works out what mends it.
func (p *pier) ail(t *testing.T, what ill, n int) (*ailing, *install.Mended) {
	a := &ailing{pier: p, sub: pkitest.CA("Harbour Issuing", p.root), spare: p.dir + "/certs/spare.key"}
	a.was = pkitest.Leaf(a.sub, host)
	a.is = a.was
	if what == olderNamed {
		a.is = pkitest.Leaf(a.sub, host)
	}
	for _, dir := range []string{"/certs", "/insegna"} {
		require.NoError(t, os.RemoveAll(p.dir+dir))
	}
	old, key := p.dir+"/certs/old.pem", p.dir+"/certs/old.key"
	both := string(certs.PEM(a.was.Raw)) + string(certs.PEM(a.sub.Raw))
	if what == shortList {
		both = string(certs.PEM(a.was.Raw))
	}
	if p.quay {
		key = old
		p.put(t, old, both+keyText(t, a.was))
		p.put(t, p.main, p.quayText(n, "crt "+old))
	} else {
		p.put(t, old, both)
		p.put(t, key, keyText(t, a.was))
		p.put(t, p.site, p.siteText(old, key))
	}
	p.put(t, a.spare, keyText(t, pkitest.Leaf(p.root, "spare.example")))
	p.put(t, p.dir+"/certs/spare.pem", "")
	require.NoError(t, os.Chmod(a.spare, 0o644))
	fresh := p.nginx == nil
	if fresh {
		p.start(t)
	}
	for turn := 0; turn == 0 && !fresh || !p.serves(a.was.Certificate.Fingerprint.String()); turn++ {
		require.Less(t, turn, 10)
		out, err := exec.Command("/bin/sh", "-c", p.command("-s reload")).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	switch what {
	case olderNamed:
		if text := string(certs.PEM(a.is.Raw)) + string(certs.PEM(a.sub.Raw)); p.quay {
			p.put(t, p.dir+"/certs/newer.pem", text+keyText(t, a.is))
		} else {
			p.put(t, p.dir+"/certs/newer.pem", text)
			p.put(t, p.dir+"/certs/newer.key", keyText(t, a.is))
		}
	case otherKey:
		stranger := keyText(t, pkitest.Leaf(p.root, "stranger.example"))
		if p.quay {
			p.put(t, old, both+stranger)
		} else {
			p.put(t, key, stranger)
		}
		p.put(t, p.dir+"/certs/right.key", keyText(t, a.was))
	}
	planned, err := p.destination(reach.Local()).Mend(t.Context(), &install.Mending{Server: "pier",
		Version: fmt.Sprintf("v%d", n), Faults: []install.Fault{{Finding: 1, Code: codes[what], Host: host, At: p.secure,
			Place: place.Place{File: p.site, Line: 1}}, {Finding: 2, Code: check.KeyOpen, Subject: a.spare}},
		List: func(_ string, list, _ []*certs.Certificate) ([]*certs.Certificate, error) {
			return []*certs.Certificate{list[0], a.sub.Certificate}, nil
		},
		Fit: func(_ string, list []*certs.Certificate) error {
			if list[0].Fingerprint == a.is.Certificate.Fingerprint {
				return nil
			}
			return errors.New("it is another one")
		}})
	require.NoError(t, err)
	return a, planned
}

// list is a certificate with the intermediate behind it, or alone.
func (a *ailing) list(leaf *pkitest.Entity, alone bool) string {
	if alone {
		return leaf.Certificate.Fingerprint.String()
	}
	return leaf.Certificate.Fingerprint.String() + " " + a.sub.Certificate.Fingerprint.String()
}

// sends says whether visitors are sent a list, all of them before long.
func (a *ailing) sends(list string) bool {
	for good, deadline := 0, time.Now().Add(5*time.Second); time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		if good++; a.whole() != list {
			good = 0
		}
		if good == 5 {
			return true
		}
	}
	return false
}

// mended says whether all is as it should be for visitors and on the disk.
func (a *ailing) mended(t *testing.T) bool {
	if !a.sends(a.list(a.is, false)) {
		return false
	}
	info, err := os.Stat(a.spare)
	require.NoError(t, err)
	return info.Mode().Perm() == 0o640
}

// TestMendedOrOld mends on real servers of each kind while one thing goes wrong at one
// act, in 204 ways: it is mended everywhere or as it was everywhere, and nothing of
// either is left.
func TestMendedOrOld(t *testing.T) {
	t.Parallel() // with the next, for both wait most of the time
	kinds := []string{"error", "lost before", "lost after", "killed before", "killed after"}
	ills := []ill{shortList, olderNamed, otherKey}
	const lanes, runs = 4, 17
	ends := make(chan string, 3*lanes*runs)
	t.Run("all", func(t *testing.T) {
		for kind, pierOf := range map[string]func(*testing.T) *pier{"nginx": newPier, "httpd": newHouse, "haproxy": newQuay} {
			for lane := range lanes {
				t.Run(fmt.Sprintf("%s %d", kind, lane), func(t *testing.T) {
					t.Parallel()
					p := pierOf(t)
					random := rand.New(rand.NewPCG(uint64(lane), 11))
					for n := range runs {
						what, wrong, at := ills[n%len(ills)], kinds[random.IntN(len(kinds))], 1+random.IntN(18)
						a, planned := p.ail(t, what, n)
						ends <- a.carriedOut(t, what, planned, &trial{Connection: reach.Local(), kind: wrong, at: at},
							fmt.Sprintf("%s %d run %d: %s, %s at act %d", kind, lane, n, what, wrong, at))
					}
				})
			}
		}
	})
	close(ends)
	count := map[string]int{}
	for e := range ends {
		count[e]++
	}
	t.Log(count)
	assert.Equal(t, 3*lanes*runs, count["done"]+count["returned"])
	assert.Greater(t, count["done"], 60)
	assert.Greater(t, count["returned"], 20)
}

// carriedOut runs a plan through what goes wrong, and holds the end against the truth.
func (a *ailing) carriedOut(t *testing.T, what ill, planned *install.Mended, x *trial, words string) string {
	require.Len(t, planned.Mends, 2, "%s: %+v", words, planned.Left)
	require.Empty(t, planned.Left, words)
	i := &install.Installation{ID: 1, State: install.Staging, Plan: planned.Plan}
	for _, b := range planned.Bindings {
		require.Equal(t, what == shortList, b.Whole, words)
		if b.Before = a.was.Certificate.Fingerprint.String(); b.Whole {
			b.Before = a.whole()
		}
		i.Bindings = append(i.Bindings, b)
	}
	require.Len(t, i.Bindings, 1, words)
	x.look = a.served
	if i.Bindings[0].Whole {
		x.look = a.whole
	}
	require.True(t, a.sends(a.list(a.was, what == shortList)), words)
	before := a.state(t)
	x.run(t, a.pier, i)
	switch x.kept.State {
	case install.Done:
		assert.True(t, a.mended(t), "%s %v", words, x.steps)
		for _, e := range i.Plan.Files {
			text, err := os.ReadFile(e.Path)
			require.NoError(t, err)
			assert.Equal(t, e.After, string(text), words)
		}
	case install.Returned:
		assert.Equal(t, before, a.state(t), "%s %v", words, x.steps)
		assert.NotEmpty(t, x.kept.Reason, words)
		if what != otherKey { // with that a reload would have ended it
			assert.True(t, a.sends(a.list(a.was, what == shortList)), words)
		}
	default:
		assert.Fail(t, "neither new nor old", "%s: %s %v", words, x.kept.State, x.steps)
	}
	left, err := fs.Glob(os.DirFS(a.dir), ".insegna-*")
	require.NoError(t, err)
	assert.Empty(t, left, words)
	if x.kept.State == install.Returned {
		_, err := os.Stat(a.dir + "/insegna")
		assert.ErrorIs(t, err, fs.ErrNotExist, words)
	}
	return string(x.kept.State)
}

// shakes says whether a handshake of one version and suite comes about.
func (p *pier) shakes(version, suite uint16) bool {
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", p.secure.String(),
		&tls.Config{ServerName: host, InsecureSkipVerify: true, MinVersion: version, MaxVersion: version,
			CipherSuites: []uint16{suite}})
	if err == nil {
		_ = conn.Close()
	}
	return err == nil
}

// TestTLSIsSetAsBCP195HasIt takes old versions and weak suites away on real servers of
// each kind, whether these are declared in the site or around it, and takes that back.
func TestTLSIsSetAsBCP195HasIt(t *testing.T) {
	const weak, good = tls.TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA, tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256
	const suites = "ECDHE-ECDSA-AES128-SHA:@SECLEVEL=0"
	around := func(p *pier, what, lines string) {
		text, err := os.ReadFile(p.main)
		require.NoError(t, err)
		p.put(t, p.main, strings.Replace(string(text), what, what+lines, 1))
	}
	within := func(p *pier, what, lines string) {
		text, err := os.ReadFile(p.site)
		require.NoError(t, err)
		p.put(t, p.site, strings.Replace(string(text), what, lines+what, 1))
	}
	for name, c := range map[string]struct {
		pierOf func(*testing.T) *pier
		lay    func(p *pier)
	}{
		"nginx, in the site": {newPier, func(p *pier) {
			within(p, "ssl_certificate ", "ssl_protocols TLSv1.1 TLSv1.2; ssl_ciphers '"+suites+"'; ")
		}},
		"nginx, around it": {newPier, func(p *pier) {
			around(p, "http {\n", "ssl_protocols TLSv1.1 TLSv1.2;\nssl_ciphers "+suites+";\n")
		}},
		"httpd, in the site": {newHouse, func(p *pier) {
			within(p, "  SSLCertificateFile", "  SSLProtocol TLSv1.1 +TLSv1.2\n  sslCipherSuite "+suites+"\n")
		}},
		"httpd, around it": {newHouse, func(p *pier) {
			around(p, "<IfModule ssl_module>\n", "SSLProtocol TLSv1.1 +TLSv1.2\nSSLCipherSuite "+suites+"\n")
		}},
		"haproxy, in the line": {newQuay, func(p *pier) {
			around(p, p.dir+"/certs/old.pem", " ssl-min-ver TLSv1.1 ssl-max-ver TLSv1.2 ciphers "+suites+" alpn h2,http/1.1")
		}},
		"haproxy, around it": {newQuay, func(p *pier) {
			around(p, "global\n", "  ssl-default-bind-options ssl-min-ver TLSv1.1\n  ssl-default-bind-ciphers "+suites+"\n")
		}},
	} {
		t.Run(name, func(t *testing.T) {
			p := c.pierOf(t)
			a, _ := p.ail(t, shortList, 2)
			c.lay(p)
			for turn := 0; turn == 0 || !p.shakes(tls.VersionTLS11, weak); turn++ {
				require.Less(t, turn, 20)
				out, err := exec.Command("/bin/sh", "-c", p.command("-s reload")).CombinedOutput()
				require.NoError(t, err, string(out))
				time.Sleep(100 * time.Millisecond)
			}
			planned, err := p.destination(reach.Local()).Mend(t.Context(), &install.Mending{Server: "pier", Version: "v",
				Faults: []install.Fault{{Finding: 1, Code: check.TLSOld, Host: host, At: p.secure},
					{Finding: 2, Code: check.SuiteWeak, Host: host, At: p.secure}}})
			require.NoError(t, err)
			require.Equal(t, []int64{1, 2}, numbersOf(planned.Mends), "%+v", planned.Left)
			i := &install.Installation{ID: 1, State: install.Staging, Plan: planned.Plan, Bindings: planned.Bindings}
			before := a.state(t)
			x := &trial{Connection: reach.Local()}
			x.run(t, p, i)
			require.Equal(t, install.Done, x.kept.State, "%v", x.steps)
			comes := func(ok func() bool) {
				t.Helper()
				turn := 0
				require.Eventually(t, func() bool {
					if turn++; p.quay && turn%20 == 0 { // a signal that comes while it starts anew may get lost
						_ = exec.Command("/bin/sh", "-c", p.command("-s reload")).Run()
					}
					return ok()
				}, 15*time.Second, 50*time.Millisecond)
			}
			comes(func() bool { return !p.shakes(tls.VersionTLS11, weak) })
			assert.False(t, p.shakes(tls.VersionTLS12, weak))
			assert.True(t, p.shakes(tls.VersionTLS12, good))
			assert.True(t, p.shakes(tls.VersionTLS13, 0))
			x.kept.State = install.Returning
			x.run(t, p, &x.kept)
			require.Equal(t, install.Returned, x.kept.State, "%v", x.steps)
			assert.Equal(t, before, a.state(t))
			comes(func() bool { return p.shakes(tls.VersionTLS11, weak) })
		})
	}
}

// TestWhatIsNotMended says of each fault why not, and mends the others all the same.
func TestWhatIsNotMended(t *testing.T) {
	p := newPier(t)
	a, _ := p.ail(t, otherKey, 1)
	mend := func(faults ...install.Fault) (*install.Mended, error) {
		return p.destination(reach.Local()).Mend(t.Context(), &install.Mending{Server: "pier", Version: "v", Faults: faults,
			List: func(_ string, list, _ []*certs.Certificate) ([]*certs.Certificate, error) {
				return nil, &check.NoListError{Leaf: list[0], Why: "its issuer is not known"}
			},
			Fit: func(string, []*certs.Certificate) error { return errors.New("it is not for it") }})
	}
	all := []install.Fault{{Finding: 1, Code: check.KeyOfAnotherCertificate, Host: host, At: p.secure},
		{Finding: 2, Code: check.ChainIncomplete, Host: host, At: p.secure},
		{Finding: 3, Code: check.WrongFile, Host: host, At: p.secure},
		{Finding: 4, Code: check.SiteNotEnabled, Host: "other.example", At: p.secure},
		{Finding: 5, Code: check.NotReloaded, Host: host, At: freePort(t)},
		{Finding: 6, Code: check.KeyOpen, Subject: p.dir + "/certs/gone.key"},
		{Finding: 7, Code: check.KeyOpen, Subject: a.spare}}
	planned, err := mend(all...)
	require.NoError(t, err)
	reasons := map[int64]string{}
	for _, l := range planned.Left {
		reasons[l.Finding] = l.Reason
		assert.NotEmpty(t, l.Next, l.Code)
	}
	for finding, part := range map[int64]string{2: "no path from " + host, 3: "no certificate that fits " + host,
		4: "no site for other.example is written", 5: "no line of the configuration has TLS answer at", 6: "the file is not found"} {
		assert.Contains(t, reasons[finding], part)
	}
	assert.Equal(t, []int64{1, 7}, numbersOf(planned.Mends))

	bad, err := mend(install.Fault{Finding: 8, Code: check.NotReloaded, Host: host, At: p.secure}, all[6])
	require.NoError(t, err)
	assert.Equal(t, []int64{7}, numbersOf(bad.Mends))
	require.Len(t, bad.Left, 1)
	assert.Contains(t, bad.Left[0].Reason, "would be shown, and does not fit: it is not for it")
	assert.Len(t, bad.Plan.Acts, 2, "nothing is done for what is not mended")

	require.NoError(t, os.Remove(p.dir+"/certs/right.key"))
	planned, err = mend(all[0], all[4], all[6])
	require.NoError(t, err)
	assert.Equal(t, []int64{7}, numbersOf(planned.Mends), "a reload would end nothing here, and has nothing to take in")
	assert.Equal(t, "no key that fits "+p.dir+"/certs/old.pem lies there", planned.Left[0].Reason)
	assert.Equal(t, []install.Act{{Does: "close", What: a.spare + ": mode 0644 → 0640"}, {Does: "test", What: p.command("-t")}},
		planned.Plan.Acts, "for a mode nothing is reloaded")

	p.put(t, p.site, p.siteText(p.dir+"/certs/old.pem", p.dir+"/certs/old.key")+"server { nonsense")
	_, err = mend(all[0])
	require.NoError(t, err, "a configuration that is refused already is for its own test to say")
}

// numbersOf are the findings that are mended, in order.
func numbersOf(list []install.Mend) (out []int64) {
	for _, m := range list {
		out = append(out, m.Finding)
	}
	slices.Sort(out)
	return out
}

// TestMendingTouchesNobodyElse lets a site of generated configurations name the newer
// certificate that lies beside its own, and asks every name, an unknown one and none at
// every listener before and after: who was shown the older one is shown the newer, and
// everybody else gets what they got.
func TestMendingTouchesNobodyElse(t *testing.T) {
	t.Parallel()
	const wanted, lanes = 36, 3
	root := pkitest.CA("Street Root", nil)
	ends := make(chan string, 10*wanted)
	t.Run("streets", func(t *testing.T) {
		for lane := range lanes {
			t.Run(fmt.Sprint(lane), func(t *testing.T) {
				t.Parallel()
				for seed, tried := uint64(lane), 0; tried < wanted/lanes && !t.Failed(); seed += lanes {
					s := newStreet(t, lane+5, root, rand.New(rand.NewPCG(seed, 17)))
					if exec.Command("/bin/sh", "-c", s.command("-t -q")).Run() == nil {
						tried++
						t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) { ends <- s.newer(t) })
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
	assert.Greater(t, count["mended"], wanted/3)
	assert.Less(t, count["refused"], wanted/4)
}

// newer has one site of a street name a newer certificate.
func (s *street) newer(t *testing.T) string {
	s.start(t)
	defer s.nginx.Stop(syscall.SIGTERM)
	before := s.all()
	reading, err := nginx.Read(os.DirFS("/"), s.dir+"/nginx.conf")
	require.NoError(t, err)
	answers := nginx.NewIndex(reading)
	for v, was := range before {
		if !v.secured || v.host == "" || !slices.Contains(s.addresses, v.at.Addr()) || len(was.leaf) != len(root256) {
			continue
		}
		a := answers.Answer(v.host, v.at)
		if !a.Named || a.Shown == nil || len(a.Pairs) != 1 {
			continue
		}
		file := a.Pairs[0].Certificate
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		list, err := certs.ReadCertificates(text)
		require.NoError(t, err)
		if !names.Covers(list[0], v.host).Covered {
			continue
		}
		fresh := pkitest.Leaf(s.root, "newer", func(x *x509.Certificate) { x.DNSNames = list[0].DNSNames })
		beside := strings.TrimSuffix(file, ".pem") + "-newer"
		require.NoError(t, os.WriteFile(beside+".pem", certs.PEM(fresh.Raw), 0o644))
		require.NoError(t, os.WriteFile(beside+".key", []byte(keyText(t, fresh)), 0o600))
		way := &estate.Reach{Configuration: s.dir + "/nginx.conf",
			Commands: map[string]string{"test": s.command("-t"), "reload": s.command("-s reload")}}
		to := nginx.Kind.Installs(reach.Local(), &estate.Server{Reach: way})
		planned, err := to.(install.Mender).Mend(t.Context(), &install.Mending{Server: "street", Version: "v",
			Faults: []install.Fault{{Finding: 1, Code: check.WrongFile, Host: v.host, At: v.at}}, Addresses: s.addresses,
			Fit: func(_ string, list []*certs.Certificate) error {
				if list[0].Fingerprint != fresh.Certificate.Fingerprint {
					return errors.New("another one")
				}
				return nil
			}})
		require.NoError(t, err)
		if len(planned.Mends) == 0 {
			t.Log(planned.Left[0].Reason)
			return "refused"
		}
		i := &install.Installation{Plan: planned.Plan, Bindings: planned.Bindings, State: install.Staging}
		for n := range i.Bindings {
			i.Bindings[n].Before, _ = s.leafAt(t.Context(), &i.Bindings[n])
		}
		x := &records{}
		require.NoError(t, (&install.Installer{Destination: to, Records: x, Look: s.leafAt}).Run(t.Context(), i))
		require.Equal(t, install.Done, i.State, "%s\n%v\n%s", i.Reason, x.steps, s.text(t))
		seen := 0
		for v, is := range s.all() {
			want := before[v]
			if want.leaf == list[0].Fingerprint.String() {
				want.leaf = fresh.Certificate.Fingerprint.String()
				seen++
			}
			assert.Equal(t, want, is, "%s %s%s secured=%v\n%s", v.at, v.host, v.path, v.secured, s.text(t))
		}
		assert.Positive(t, seen)
		return "mended"
	}
	return "no site with a certificate of its own"
}

// root256 is as long as a SHA-256 in hexadecimal digits.
const root256 = "0000000000000000000000000000000000000000000000000000000000000000"
