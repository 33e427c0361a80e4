package main_test

import (
	"bufio"
	"cmp"
	"crypto/tls"
	"encoding/json"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/servicetest"
)

func TestMain(m *testing.M) { servicetest.Main(m) }

// demo is a demo running as a process.
type demo struct {
	cmd     *exec.Cmd
	console string
	said    []string
}

func build(t *testing.T) string {
	path := filepath.Join(filepath.Dir(servicetest.Program(t)), "demo")
	out, err := exec.Command("go", "build", "-o", path, "insegna.example/demo/run").CombinedOutput()
	require.NoError(t, err, string(out))
	return path
}

// start runs a demo and waits for its welcome.
func start(t *testing.T, program, dir string, as *syscall.Credential) *demo {
	d := &demo{cmd: exec.Command(program, "--dir", dir, "--insegna", servicetest.Program(t))}
	d.cmd.Dir = dir
	d.cmd.Env = append(os.Environ(), "HOME="+dir)
	d.cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as, Pdeathsig: syscall.SIGKILL}
	out, err := d.cmd.StdoutPipe()
	require.NoError(t, err)
	d.cmd.Stderr = d.cmd.Stdout
	require.NoError(t, d.cmd.Start())
	t.Cleanup(func() { _ = d.cmd.Process.Kill(); _ = d.cmd.Wait() })
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		d.said = append(d.said, lines.Text())
		if url, ok := strings.CutPrefix(lines.Text(), "The console: "); ok {
			d.console = url
		}
		if strings.HasPrefix(lines.Text(), "Ctrl-C") {
			go func() {
				for lines.Scan() {
				}
			}()
			return d
		}
	}
	require.Fail(t, "the demo ended before it was ready", strings.Join(d.said, "\n"))
	return nil
}

func answers(url string) bool {
	resp, err := http.Get(url + "/api/v1/ready")
	if err == nil {
		_ = resp.Body.Close()
	}
	return err == nil && resp.StatusCode == http.StatusOK
}

func newDir(t *testing.T) string {
	dir, err := os.MkdirTemp("", "insegna-demo-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// left counts processes that still work in a demo's directory.
func left(dir string) (n int) {
	found, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, f := range found {
		text, _ := os.ReadFile(f)
		if strings.Contains(string(text), dir) {
			n++
		}
	}
	return n
}

// TestTwoDemosAKillAndASecondStart runs two demos at once, kills one with
// SIGKILL, starts it again on the same directory, and ends both with Ctrl-C.
func TestTwoDemosAKillAndASecondStart(t *testing.T) {
	program := build(t)
	one, two := newDir(t), newDir(t)
	first, second := start(t, program, one, nil), start(t, program, two, nil)
	assert.NotEqual(t, first.console, second.console)
	assert.True(t, answers(first.console) && answers(second.console))
	said := strings.Join(first.said, "\n")
	assert.Contains(t, said, "Open findings: 14 broken, 6 due, 7 weak, 7 note")
	assert.Contains(t, said, "draft.yaml: 25 hosts on 6 servers; not watched, and as comments with why: 3 hosts.")
	assert.Regexp(t, `gone +deck-plans\.lanterncoast\.example .*met: its site speaks plain http`, said)
	assert.Equal(t, 13, strings.Count(said, "\n  bin/insegna "), "one to sign in, and twelve to try")

	out, err := exec.Command(program, "--dir", one, "--insegna", servicetest.Program(t)).CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out), "a demo is running in "+one+" already")

	require.NoError(t, first.cmd.Process.Kill())
	_ = first.cmd.Wait()
	again := start(t, program, one, nil)
	assert.True(t, answers(again.console))
	assert.Contains(t, strings.Join(again.said, "\n"), "nothing to change", "what was applied is still there")

	fromPlainToHTTPS(t, second, two)
	renewsWhatIsDue(t, second, two)
	draftsItself(t, again, one)

	for _, d := range []*demo{again, second} {
		require.NoError(t, d.cmd.Process.Signal(os.Interrupt))
		require.NoError(t, d.cmd.Wait())
		assert.False(t, answers(d.console))
	}
	for _, dir := range []string{one, two} {
		assert.Eventually(t, func() bool { return left(dir) == 0 }, 20*time.Second, 50*time.Millisecond,
			"processes are left of %s", dir)
	}
}

// signedIn gives what runs a command of the program as the demo's admin.
func (d *demo) signedIn(t *testing.T, dir string) func(args ...string) string {
	config := t.TempDir()
	insegna := func(args ...string) string {
		cmd := exec.Command(servicetest.Program(t), append(args, "--service", d.console)...)
		cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	insegna("sign-in", "marit", "--passphrase-file", filepath.Join(dir, "people", "marit"))
	return insegna
}

// wishes are findings that come of what only a person can say: which CA is wanted, who visits,
// and that a CA looks at another port than 80.
var wishes = []string{"other-issuer", "challenge-blocked", "redirect-missing", "redirect-temporary", "redirect-loses"}

// draftsItself drafts the demo's servers, applies that in place of the estate file that was
// written by hand, and finds the same but for what nobody can see.
func draftsItself(t *testing.T, d *demo, dir string) {
	insegna := d.signedIn(t, dir)
	hand := findingsOf(t, insegna)
	before, err := estate.Parse(dir+"/estate.yaml", []byte(readText(t, dir+"/estate.yaml")), registry.Kinds.Declared(), func(p string) ([]byte, error) {
		return os.ReadFile(filepath.Join(dir, p))
	})
	require.NoError(t, err)
	args := []string{"estate", "draft", "--roots", dir + "/pki/harbour-root.pem", "--public", "--out", dir + "/again.yaml"}
	for i := range before.Servers {
		args = append(args, "--main", before.Servers[i].Reach.Configuration)
	}
	insegna(args...)
	after, err := estate.Parse("again.yaml", []byte(readText(t, dir+"/again.yaml")), registry.Kinds.Declared(), os.ReadFile)
	require.NoError(t, err)
	inHouse := func(host string) bool {
		return before.Host(host) != nil && before.Host(host).Audiences[0] == "in-house"
	}
	insegna("estate", "apply", dir+"/again.yaml", "--yes")
	insegna("survey", "start")
	drafted := findingsOf(t, insegna)
	same := 0
	for f := range hand {
		switch {
		case drafted[f]:
			same++
		case f.host != "" && after.Host(f.host) == nil || inHouse(f.host) || slices.Contains(wishes, f.code):
		default:
			assert.Equal(t, "not-in-estate", f.code, "what is drafted is in the estate; else it was lost: %v", f)
		}
	}
	assert.GreaterOrEqual(t, same, 20)
	for f := range drafted {
		assert.True(t, hand[f] || inHouse(f.host), "the draft alone has %v", f)
	}
	for i := range before.Hosts { // whoever is not drafted is met, or cannot be
		if h := &before.Hosts[i]; after.Host(h.Name) == nil {
			assert.Contains(t, "www deck-plans events kiosk kiosk-admin moorings", strings.Split(h.Name, ".")[0])
		}
	}
}

// finding is a finding as two surveys tell it alike.
type finding struct{ code, host, at string }

func findingsOf(t *testing.T, insegna func(args ...string) string) map[finding]bool {
	var list []client.Finding
	require.NoError(t, json.Unmarshal([]byte(insegna("finding", "list", "-o", "json")), &list))
	out := map[finding]bool{}
	for _, f := range list {
		if f.Host != "" || f.Endpoint == "" {
			out[finding{f.Code, f.Host, cmp.Or(f.Endpoint, f.Server)}] = true
		}
	}
	return out
}

func readText(t *testing.T, path string) string {
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(data)
}

// renewsWhatIsDue renews a certificate that ends in days and is served out of
// the wrong file: its finding closes by itself.
func renewsWhatIsDue(t *testing.T, d *demo, dir string) {
	insegna := d.signedIn(t, dir)
	const host = "parcels.lanterncoast.example"
	assert.Contains(t, insegna("finding", "list", "--host", host), "wrong-file")
	said := insegna("https", host, "--server", "pier-1", "--yes")
	for _, want := range []string{"-    ssl_certificate parcels.pem;",
		"+    ssl_certificate " + dir + "/pier-1/insegna/parcels/now/certificates.pem;",
		"the server's own test of a staged copy passes", host + " at", "agreed"} {
		assert.Contains(t, said, want)
	}
	assert.Equal(t, 2, strings.Count(said, "\n-    "), "two lines change, no more")
	assert.NotContains(t, insegna("finding", "list", "--host", host), "wrong-file")
	trail := insegna("mandate", "show", "parcels", "-o", "csv")
	for _, link := range []string{"ordered", "proved", "issued", "installed", "reloaded", "seen"} {
		assert.Contains(t, trail, "done,"+link+",")
	}
}

// fromPlainToHTTPS takes the demo's plain site to https with one command, sees
// what visitors get, and takes it back.
func fromPlainToHTTPS(t *testing.T, d *demo, dir string) {
	insegna := d.signedIn(t, dir)
	site := filepath.Join(dir, "pier-1", "sites-available", "deck-plans")
	before, err := os.ReadFile(site)
	require.NoError(t, err)
	_, rest, ok := strings.Cut(string(before), "listen ")
	require.True(t, ok)
	plain, _, _ := strings.Cut(rest, ";")
	address, _, err := net.SplitHostPort(plain)
	require.NoError(t, err)
	visit := func() (status int, to string) {
		client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		req, err := http.NewRequest("GET", "http://"+plain+"/deck/5?bar=open", nil)
		require.NoError(t, err)
		req.Host = "deck-plans.lanterncoast.example"
		resp, err := client.Do(req)
		require.NoError(t, err)
		_ = resp.Body.Close()
		return resp.StatusCode, resp.Header.Get("Location")
	}
	said := insegna("https", "deck-plans.lanterncoast.example", "--server", "pier-1", "--yes")
	for _, want := range []string{"+    listen " + address + ":8446 ssl;",
		"anchorage.lanterncoast.example: chain-missing-on-disk", "✓  look         the new certificate is seen",
		"on pier-1: agreed"} {
		assert.Contains(t, said, want)
	}
	status, to := visit()
	assert.Equal(t, 301, status)
	assert.Equal(t, "https://deck-plans.lanterncoast.example:8446/deck/5?bar=open", to, "host, path and query are kept")
	conn, err := tls.Dial("tcp", address+":8446",
		&tls.Config{ServerName: "deck-plans.lanterncoast.example", InsecureSkipVerify: true})
	require.NoError(t, err)
	assert.Equal(t, []string{"deck-plans.lanterncoast.example"}, conn.ConnectionState().PeerCertificates[0].DNSNames)
	_ = conn.Close()
	walk := insegna("visit", "deck-plans.lanterncoast.example", "--estate", filepath.Join(dir, "estate.yaml"),
		"-o", "json")
	for _, want := range []string{address + ":8080",
		"status 301 to https://deck-plans.lanterncoast.example:8446/insegna-visit?kept=yes", `"step": "https"`,
		`"seen": "status 200, without HSTS (insegna host strict has it)"`} {
		assert.Contains(t, walk, want)
	}
	assert.NotContains(t, walk, `"fine": false`)
	assert.Contains(t, insegna("https", "--list", "-o", "csv"), ",deck-plans.lanterncoast.example,pier-1,")
	_, number, _ := strings.Cut(said, "insegna installation return ")
	number, _, _ = strings.Cut(number, "\n")
	assert.Contains(t, insegna("installation", "return", number, "--yes"), "Old everywhere")
	after, err := os.ReadFile(site)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
	status, _ = visit()
	assert.NotEqual(t, 301, status)
}

// TestTheClock lets certificates of a minute be renewed and installed for two
// minutes and a half, under traffic, while a worker is killed, a server is stopped and the
// CA is away: nobody meets a failed request or an expired certificate.
func TestTheClock(t *testing.T) {
	dir := newDir(t)
	out, err := exec.Command(build(t), "--dir", dir, "--insegna", servicetest.Program(t), "--clock", "2m30s", "--life", "1m",
		"--disturb").CombinedOutput()
	require.NoError(t, err, string(out))
	text, err := os.ReadFile(filepath.Join(dir, "clock.json"))
	require.NoError(t, err)
	var report struct {
		Disturbed []string
		Servers   []struct {
			Server                                     string
			Renewals, Requests, Failed, Aside, Expired int
		}
	}
	require.NoError(t, json.Unmarshal(text, &report))
	assert.Len(t, report.Disturbed, 6, "three things go wrong, and end")
	require.Len(t, report.Servers, 4)
	for _, s := range report.Servers {
		assert.GreaterOrEqual(t, s.Renewals, 5, s.Server)
		assert.Greater(t, s.Requests, 2000, s.Server)
		assert.Zero(t, s.Failed, s.Server)
		assert.Zero(t, s.Expired, s.Server)
		assert.Equal(t, s.Server == "tock", s.Aside > 0, "%s: the visitors do come", s.Server)
	}
	assert.Eventually(t, func() bool { return left(dir) == 0 }, 20*time.Second, 50*time.Millisecond, "processes are left")
}

// TestAsAnOrdinaryUser runs the demo without root's rights.
func TestAsAnOrdinaryUser(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Log("this run is an ordinary user's already: TestTwoDemosAKillAndASecondStart has shown it")
		return
	}
	nobody, err := user.Lookup("nobody")
	require.NoError(t, err)
	uid, err := strconv.ParseUint(nobody.Uid, 10, 32)
	require.NoError(t, err)
	gid, err := strconv.ParseUint(nobody.Gid, 10, 32)
	require.NoError(t, err)
	dir := newDir(t)
	require.NoError(t, os.Chown(dir, int(uid), int(gid)))
	d := start(t, build(t), dir, &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)})
	assert.Contains(t, strings.Join(d.said, "\n"), "Open findings: 14 broken, 6 due, 7 weak, 7 note")
	assert.Contains(t, strings.Join(d.said, "\n"),
		"pier-2 is reached as a local server, not over SSH: user nobody has no login shell.")
	require.NoError(t, d.cmd.Process.Signal(os.Interrupt))
	require.NoError(t, d.cmd.Wait())
}
