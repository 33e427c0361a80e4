package bench_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/install"
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
	v := &berth{dir: dir, folder: dir + "/insegna/berth", at: at, command: fmt.Sprintf("/usr/sbin/nginx -p %s/ -c nginx.conf -e stderr", dir)}
	if v.ca, err = newAuthority(); err != nil {
		return nil, err
	}
	user := ""
	if os.Geteuid() == 0 {
		user = "user root;\n"
	}
	conf := fmt.Sprintf("%sdaemon off; pid nginx.pid; error_log stderr crit;\nevents {}\nhttp {\naccess_log off; client_body_temp_path t1; proxy_temp_path t2; fastcgi_temp_path t3; uwsgi_temp_path t4; scgi_temp_path t5;\nserver { listen %s ssl; server_name %s; ssl_certificate %s; ssl_certificate_key %s; return 200; }\n}\n",
		user, at, berthHost, install.Certificate(v.folder), install.Key(v.folder))
	if err := os.MkdirAll(v.folder+"/versions", 0o755); err != nil {
		return nil, err
	}
	if err := os.WriteFile(dir+"/nginx.conf", []byte(conf), 0o644); err != nil {
		return nil, err
	}
	if _, err := v.lay("0"); err != nil {
		return nil, err
	}
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
	i := &install.Installation{Folder: v.folder, Version: version, Chain: certs.PEM(leaf.Raw), Leaf: hex.EncodeToString(sum[:]), Test: v.command + " -t", Reload: v.command + " -s reload", Doors: []install.Door{{Host: berthHost, At: v.at}}, State: install.Staging}
	if i.Key, err = certs.KeyPEM(key); err != nil {
		return nil, err
	}
	folder := filepath.Join(v.folder, "versions", version)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	if err := os.WriteFile(folder+"/chain.pem", i.Chain, 0o644); err != nil {
		return nil, err
	}
	return i, os.WriteFile(folder+"/key.pem", i.Key, 0o600)
}

func (v *berth) served() string {
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: time.Second}, "tcp", v.at.String(), &tls.Config{ServerName: berthHost, InsecureSkipVerify: true})
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
func (v *berth) byHand(ctx context.Context, i *install.Installation) (commands, seen time.Duration, err error) {
	if err := os.Symlink("versions/"+i.Version, v.folder+"/.hand"); err != nil {
		return 0, 0, err
	}
	if err := os.Rename(v.folder+"/.hand", v.folder+"/now"); err != nil {
		return 0, 0, err
	}
	began := time.Now()
	for _, command := range []string{i.Test, i.Reload} {
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
	defer func() { _ = v.cmd.Process.Kill(); _ = v.cmd.Wait() }()
	var against, alone []float64
	for n := range switches {
		hand, err := v.lay(fmt.Sprintf("hand-%d", n))
		if err != nil {
			return err
		}
		commands, seen, err := v.byHand(b.ctx, hand)
		if err != nil {
			return err
		}
		time.Sleep(200 * time.Millisecond) // until the old worker is gone
		i, err := v.lay(fmt.Sprintf("own-%d", n))
		if err != nil {
			return err
		}
		i.Before = hand.Version
		m := &install.Machine{Server: reach.Local(), Records: v, Look: func(context.Context, *install.Door) (string, string) { return v.served(), "another" }}
		if err := m.Run(b.ctx, i); err != nil {
			return err
		}
		took := (v.seen.Sub(v.switched) - steady).Seconds()
		against, alone = append(against, took/seen.Seconds()), append(alone, took/commands.Seconds())
		time.Sleep(200 * time.Millisecond)
	}
	b.add("an installation from the switch to seen, against nginx -t and reload by hand", median(against), " times", "≤ 2", fmt.Sprintf("On a local nginx: rename of the link, the server's own test, reload, and looks until the old certificate is gone (from then on only the new one is seen, for a quarter of a second that counts on neither side), against `nginx -t` and reload run by hand, until that reload is done by the same measure. Rounds: %s. nginx lets its old workers take connections for 100 ms after a reload; the two commands return long before, and against them alone it is %s.", spread(against), spread(alone)), median(against) <= 2)
	return nil
}
