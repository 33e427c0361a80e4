package bench_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
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
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/install"
	"insegna.example/internal/install/files"
	"insegna.example/internal/kind/nginx"
	"insegna.example/internal/reach"
)

// switches is how often each way is gone in the comparison of installations.
const switches = 15

// steady is how long an installation sees the new certificate alone before it
// is done. Both sides are measured without this wait, which would hide what
// they differ in.
const steady = 250 * time.Millisecond

// berth is a real nginx with one TLS site, whose certificate is exchanged.
type berth struct {
	dir, folder, command string
	at                   netip.AddrPort
	ca                   *authority
	cmd                  *exec.Cmd
	switched, seen       time.Time // of the last installation
}

const berthHost = "berth.bench.example"

func (b *bench) berth() (*berth, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	at := netip.MustParseAddrPort(l.Addr().String())
	_ = l.Close()
	dir := filepath.Join(b.dir, "berth")
	v := &berth{dir: dir, folder: dir + "/insegna/berth", at: at,
		command: fmt.Sprintf("/usr/sbin/nginx -p %s/ -c nginx.conf -e stderr", dir)}
	if v.ca, err = newAuthority(); err != nil {
		return nil, err
	}
	user := ""
	if os.Geteuid() == 0 {
		user = "user root;\n"
	}
	conf := fmt.Sprintf("%sdaemon off; pid nginx.pid; error_log stderr crit;\nevents {}\nhttp {\naccess_log off; "+
		"client_body_temp_path t1; proxy_temp_path t2; fastcgi_temp_path t3; uwsgi_temp_path t4; scgi_temp_path t5;\nserver "+
		"{ listen %s ssl; server_name %s; ssl_certificate %s; ssl_certificate_key %s; return 200; }\n}\n",
		user, at, berthHost, v.folder+"/now/certificates.pem", v.folder+"/now/private-key.pem")
	if err := os.MkdirAll(v.folder+"/versions", 0o755); err != nil {
		return nil, err
	}
	if err := os.WriteFile(dir+"/nginx.conf", []byte(conf), 0o644); err != nil {
		return nil, err
	}
	if _, err := v.lay("0"); err != nil {
		return nil, err
	}
	_ = os.Remove(v.folder + "/now")
	if err := os.Symlink("versions/0", v.folder+"/now"); err != nil {
		return nil, err
	}
	v.cmd = exec.CommandContext(b.ctx, "/bin/sh", "-c", "exec "+v.command)
	if err := v.cmd.Start(); err != nil {
		return nil, err
	}
	for range 200 {
		if v.served() != "" {
			return v, nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return nil, fmt.Errorf("nginx does not answer at %s", at)
}

// stop ends nginx in good order: killed, it would leave its workers behind.
func (v *berth) stop() {
	_ = v.cmd.Process.Signal(syscall.SIGTERM)
	_ = v.cmd.Wait()
}

// lay makes a certificate and puts it into a version's folder.
func (v *berth) lay(version string) (*install.Installation, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	leaf, err := v.ca.leaf(berthHost, key.Public())
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(leaf.Raw)
	i := &install.Installation{Material: install.Material{Chain: certs.PEM(leaf.Raw)}, Leaf: hex.EncodeToString(sum[:]),
		State: install.Staging}
	if i.Material.Key, err = certs.KeyPEM(key); err != nil {
		return nil, err
	}
	folder := filepath.Join(v.folder, "versions", version)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	if err := os.WriteFile(folder+"/certificates.pem", i.Material.Chain, 0o644); err != nil {
		return nil, err
	}
	return i, os.WriteFile(folder+"/private-key.pem", i.Material.Key, 0o600)
}

// planned lays a version and has its installation worked out.
func (v *berth) planned(ctx context.Context, version string) (*install.Installation, *files.Destination, error) {
	i, err := v.lay(version)
	if err != nil {
		return nil, nil, err
	}
	list, err := certs.ReadCertificates(i.Material.Chain)
	if err != nil {
		return nil, nil, err
	}
	way := &estate.Reach{Configuration: v.dir + "/nginx.conf",
		Commands: map[string]string{"test": v.command + " -t", "reload": v.command + " -s reload"}}
	to := nginx.Kind.Installs(reach.Local(), &estate.Server{Reach: way}).(*files.Destination)
	planned, err := to.Plan(ctx,
		&install.Wish{Mandate: "berth", Server: "berth", Names: []string{berthHost}, Leaf: list[0], Version: version})
	if err != nil {
		return nil, nil, err
	}
	i.Plan, i.Bindings = planned.Plan, planned.Bindings
	return i, to, nil
}

func (v *berth) served() string {
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: time.Second}, "tcp", v.at.String(),
		&tls.Config{ServerName: berthHost, InsecureSkipVerify: true})
	if err != nil {
		return ""
	}
	defer func() { _ = conn.Close() }()
	sum := sha256.Sum256(conn.ConnectionState().PeerCertificates[0].Raw)
	return hex.EncodeToString(sum[:])
}

// Save implements install.Records: it only looks at the clock.
func (v *berth) Save(_ context.Context, i *install.Installation, step string, _ install.Outcome, words string) error {
	switch i.State {
	case install.Switching:
		v.switched = time.Now()
	case install.Done:
		v.seen = time.Now()
	case install.Returning, install.Returned, install.Stuck:
		return fmt.Errorf("%s: %s", step, words)
	}
	return nil
}

// byHand tests, reloads and looks as a script would, until the reload is done:
// the old certificate is not seen any more. It gives the time of the commands
// alone, and until then.
func (v *berth) byHand(ctx context.Context, version string, i *install.Installation) (commands, seen time.Duration,
	err error) {
	if err := os.Symlink("versions/"+version, v.folder+"/.hand"); err != nil {
		return 0, 0, err
	}
	if err := os.Rename(v.folder+"/.hand", v.folder+"/now"); err != nil {
		return 0, 0, err
	}
	began := time.Now()
	for _, command := range []string{v.command + " -t", v.command + " -s reload"} {
		if out, err := exec.CommandContext(ctx, "/bin/sh", "-c", command).CombinedOutput(); err != nil {
			return 0, 0, fmt.Errorf("%s: %w: %s", command, err, strings.TrimSpace(string(out)))
		}
	}
	commands = time.Since(began)
	good := time.Now() // since when only the new one is seen
	for ; time.Since(good) < steady; time.Sleep(10 * time.Millisecond) {
		if v.served() != i.Leaf {
			good = time.Now()
		}
		if time.Since(began) > time.Minute {
			return 0, 0, fmt.Errorf("the certificate put up by hand is not seen")
		}
	}
	return commands, good.Sub(began), nil
}

// installing compares an installation, from the switch until the new
// certificate is seen for sure, with test and reload by hand.
func (b *bench) installing() error {
	v, err := b.berth()
	if err != nil {
		return err
	}
	defer v.stop()
	var against, alone []float64
	for n := range switches {
		version := fmt.Sprintf("hand-%d", n)
		hand, err := v.lay(version)
		if err != nil {
			return err
		}
		commands, seen, err := v.byHand(b.ctx, version, hand)
		if err != nil {
			return err
		}
		time.Sleep(200 * time.Millisecond) // until the old worker is gone
		i, to, err := v.planned(b.ctx, fmt.Sprintf("own-%d", n))
		if err != nil {
			return err
		}
		m := &install.Installer{Destination: to, Records: v,
			Look: func(context.Context, *install.Binding) (string, string) { return v.served(), "another" }}
		if err := m.Run(b.ctx, i); err != nil {
			return err
		}
		took := (v.seen.Sub(v.switched) - steady).Seconds()
		against, alone = append(against, took/seen.Seconds()), append(alone, took/commands.Seconds())
		time.Sleep(200 * time.Millisecond)
	}
	b.add("an installation from the switch to seen, against nginx -t and reload by hand", median(against), " times",
		"≤ 2", fmt.Sprintf("On a local nginx: rename of the link, the server's own test, reload, and looks until the old "+
			"certificate is gone (from then on only the new one is seen, for a quarter of a second that counts on neither "+
			"side), against `nginx -t` and reload run by hand, until that reload is done by the same measure. Rounds: %s. "+
			"nginx lets its old workers take connections for 100 ms after a reload; the two commands return long before, and "+
			"against them alone it is %s.", spread(against), spread(alone)), median(against) <= 2)
	return nil
}

// loaded is how many visitors come without a pause while certificates are
// installed under load, and installs how many are.
const loaded, installs = 8, 15

// underLoad counts the requests that fail while certificates are installed.
func (b *bench) underLoad() error {
	v, err := b.berth()
	if err != nil {
		return err
	}
	defer v.stop()
	ctx, stop := context.WithCancel(b.ctx)
	defer stop()
	var sent, failed atomic.Int64
	var all sync.WaitGroup
	for n := range loaded {
		web := &http.Client{Timeout: 10 * time.Second,
			Transport: &http.Transport{DisableKeepAlives: n%2 == 0,
				TLSClientConfig: &tls.Config{ServerName: berthHost, InsecureSkipVerify: true}}}
		all.Go(func() {
			for ctx.Err() == nil {
				resp, err := web.Get("https://" + v.at.String() + "/")
				if sent.Add(1); err != nil || resp.StatusCode != http.StatusOK {
					failed.Add(1)
				}
				if err == nil {
					_, _ = io.Copy(io.Discard, resp.Body)
					_ = resp.Body.Close()
				}
			}
		})
	}
	for n := range installs {
		i, to, err := v.planned(b.ctx, fmt.Sprintf("load-%d", n))
		if err != nil {
			return err
		}
		m := &install.Installer{Destination: to, Records: v,
			Look: func(context.Context, *install.Binding) (string, string) { return v.served(), "another" }}
		if err := m.Run(b.ctx, i); err != nil {
			return err
		}
	}
	stop()
	all.Wait()
	b.figures = append(b.figures,
		figure{"requests that fail while certificates are installed under load",
			fmt.Sprintf("%d of %d", failed.Load(), sent.Load()), "0",
			fmt.Sprintf("%d visitors ask a local nginx without a pause, half of them on connections they keep, while %d "+
				"certificates are installed one after the other, each with a reload.", loaded, installs), failed.Load() == 0})
	return nil
}

// clocks are the last runs of make clock, and what each of them is.
var clocks = []struct{ file, name string }{
	{"../docs/clock-calm.json", "the clock, calm"},
	{"../docs/clock-disturbed.json", "the clock, disturbed"},
}

// clock adds what the visitors met in the last runs of make clock, which are
// too long to be measured anew each time.
func (b *bench) clock() error {
	for _, c := range clocks {
		text, err := os.ReadFile(c.file)
		if err != nil {
			return fmt.Errorf("%w; make clock REPORT=docs writes it", err)
		}
		var run struct {
			Day, Length, Life string
			Disturbed         []string
			Servers           []struct{ Renewals, Requests, Failed, Aside, Expired int }
		}
		if err := json.Unmarshal(text, &run); err != nil {
			return err
		}
		requests, failed, expired, aside, fewest := 0, 0, 0, 0, 1<<30
		for _, s := range run.Servers {
			requests, failed, expired, aside, fewest = requests+s.Requests, failed+s.Failed, expired+s.Expired, aside+s.Aside,
				min(fewest, s.Renewals)
		}
		how := fmt.Sprintf("`make clock` on %s: certificates of %s on two real nginx, an httpd and a HAProxy for %s, two workers, steady visitors "+
			"of three kinds (a connection each, kept connections, plain http) who check status, trust, name and dates.",
			run.Day, run.Life, run.Length)
		if len(run.Disturbed) > 0 {
			how += fmt.Sprintf(" Disturbed: %s. %d requests to the server that was down on purpose are aside.",
				strings.Join(run.Disturbed, "; "), aside)
		}
		b.figures = append(b.figures,
			figure{c.name + ": requests that fail", fmt.Sprintf("%d of %d", failed, requests), "0", how, failed == 0},
			figure{c.name + ": visitors who meet an expired certificate", fmt.Sprint(expired), "0", "Counted in the same run.",
				expired == 0},
			figure{c.name + ": renewals on each server, at least", fmt.Sprint(fewest), "≥ 5",
				"Different certificates that visitors saw, less one.", fewest >= 5})
	}
	return nil
}
