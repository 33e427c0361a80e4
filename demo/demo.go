// Package demo is the demo estate: Lantern Coast Ferries, with three real nginx, one
// real Apache httpd,
// one real HAProxy, one of them reached over a real SSH server, a real BIND, a
// stand-in CA, and certificates from roots of its own, all on loopback.
//
// It carries deliberate faults; Faults lists them with the finding each must
// give, and a test compares that list with what a survey reports.
package demo

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"insegna.example/internal/standin/process"

	"insegna.example/internal/standin/bind"
	"insegna.example/internal/standin/ca"
	"insegna.example/internal/standin/sink"
	"insegna.example/internal/standin/sshd"
)

// Estate is the running demo estate.
type Estate struct {
	Dir  string // where its files are
	File string // the estate file
	Net  int    // third number of its addresses, 127.20.Net.x

	Unreachable error // why pier-2 is not reached over SSH; nil when it is

	ssh      *sshd.Setup
	cas      []*ca.CA
	names    *bind.Server
	sink     *sink.Sink
	claim    net.Listener
	mu       sync.Mutex
	children []*child
	failed   chan error
}

// Start makes the certificates, writes the configurations and starts the
// servers. Stop ends them.
func Start(ctx context.Context, dir string) (e *Estate, err error) {
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	e = &Estate{Dir: dir, File: filepath.Join(dir, "estate.yaml"), failed: make(chan error, 8)}
	defer func() {
		if err != nil {
			e.Stop()
		}
	}()
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return e, err
	}
	if err := e.claimNet(); err != nil {
		return e, err
	}
	if err := e.makeCertificates(time.Now()); err != nil {
		return e, fmt.Errorf("making the demo's certificates: %w", err)
	}
	if e.Unreachable = sshd.CanRun(); e.Unreachable == nil {
		if e.ssh, err = sshd.Prepare(e.path("pier-2", "ssh"), e.Addr(12)+":8022"); err != nil {
			return e, err
		}
	}
	if err := e.writeFiles(); err != nil {
		return e, err
	}
	if err := e.swap(".before"); err != nil {
		return e, err
	}
	for _, s := range e.servers() {
		if err := e.run(ctx, s); err != nil {
			return e, err
		}
	}
	if err := e.outside(); err != nil {
		return e, err
	}
	return e, e.swap(".after")
}

// Failed gives an error when a server ends that should not.
func (e *Estate) Failed() <-chan error { return e.failed }

// Addr is an address of the estate by its last number.
func (e *Estate) Addr(last int) string { return fmt.Sprintf("127.20.%d.%d", e.Net, last) }

// claimNet finds addresses no other demo uses: a listener held for the whole
// run is the claim. The addresses of the last run in this directory come
// first, so that a second start changes nothing; while servers of a killed
// run are still ending there, they are waited for.
func (e *Estate) claimNet() error {
	if text, err := os.ReadFile(e.path("net")); err == nil {
		last, _ := strconv.Atoi(strings.TrimSpace(string(text)))
		for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
			if e.claimed(last) {
				return nil
			}
		}
	}
	for n := range 200 {
		if e.claimed(n) {
			return os.WriteFile(e.path("net"), []byte(strconv.Itoa(n)+"\n"), 0o644)
		}
	}
	return errors.New("no free addresses for the demo in 127.20.0.0/16; stop other demos first")
}

// claimed takes the addresses of one number, if they are free.
func (e *Estate) claimed(n int) bool {
	e.Net = n
	l, err := net.Listen("tcp", net.JoinHostPort(e.Addr(1), "7400"))
	if err != nil {
		return false
	}
	if !e.portsFree() {
		_ = l.Close()
		return false
	}
	e.claim = l
	return true
}

// portsFree says whether the addresses' ports can be bound, which they cannot
// while servers of a killed demo are still ending.
func (e *Estate) portsFree() bool {
	for _, last := range []int{10, 11, 12, 20, 31, 32} {
		for _, port := range []string{"8022", "8080", "8443", "8444", "9443", "9445", "9446"} {
			l, err := net.Listen("tcp", net.JoinHostPort(e.Addr(last), port))
			if err != nil {
				return false
			}
			_ = l.Close()
		}
	}
	return true
}

// server is one process of the estate.
type server struct {
	name  string
	args  []string
	ready string // address it listens at once it is up
}

// Missing lists the programs the demo needs that are not installed.
func Missing() (programs []string) {
	for name, path := range map[string]string{"nginx": nginxPath, "apache2": httpdPath, "haproxy": haproxyPath,
		"bind9": bind.Program} {
		if _, err := os.Stat(path); err != nil {
			programs = append(programs, name)
		}
	}
	return programs
}

const (
	// nginxPath is where Debian's package puts nginx; only these servers are
	// started, never those of the machine.
	nginxPath = "/usr/sbin/nginx"
	// httpdPath is where Debian's package puts Apache httpd.
	httpdPath = "/usr/sbin/apache2"
	// haproxyPath is where Debian's package puts HAProxy.
	haproxyPath = "/usr/sbin/haproxy"
)

// servers lists what is started, each with the address that answers once it is
// ready.
func (e *Estate) servers() []server {
	list := []server{{"quay-lb", []string{haproxyPath, "-W", "-db", "-f", e.path("quay-lb", "haproxy.cfg")},
		e.Addr(10) + ":8443"}}
	for name, ready := range map[string]string{"pier-1": e.Addr(11) + ":8443", "pier-2": e.Addr(12) + ":8443",
		"kiosk-gw": e.Addr(31) + ":9445", "crew-gw": e.Addr(32) + ":8443"} {
		list = append(list, server{name, []string{nginxPath, "-p", e.path(name), "-c", "nginx.conf", "-e", "stderr"}, ready})
	}
	list = append(list, server{"freight-1", []string{httpdPath, "-d", e.path("freight-1"), "-f",
		e.path("freight-1", "httpd.conf"), "-D", "FOREGROUND"}, e.Addr(20) + ":8443"})
	if e.ssh != nil {
		list = append(list, server{"the SSH server of pier-2", e.ssh.Args(), e.ssh.Address})
	}
	return list
}

// path is a path below the demo's folder.
func (e *Estate) path(parts ...string) string {
	return filepath.Join(append([]string{e.Dir}, parts...)...)
}

// child is a started server, with what it said in case it does not stay.
type child struct {
	name    string
	process *process.Process
	log     bytes.Buffer

	wanted atomic.Bool // its end
}

// run starts one server; it ends with this process, even when that is killed.
func (e *Estate) run(ctx context.Context, s server) error {
	if err := awaitFree(ctx, s.ready); err != nil {
		return fmt.Errorf("starting %s: %w", s.name, err)
	}
	c := &child{name: s.name}
	cmd := exec.Command(s.args[0], s.args[1:]...)
	cmd.Stderr = &c.log
	var err error
	if c.process, err = process.Start(cmd, syscall.SIGTERM); err != nil {
		return fmt.Errorf("starting %s: %w", s.name, err)
	}
	e.mu.Lock()
	e.children = append(e.children, c)
	e.mu.Unlock()
	if err := awaitPort(ctx, s.ready, c); err != nil {
		return err
	}
	go func() {
		<-c.process.Done()
		if c.wanted.Load() {
			return
		}
		select {
		case e.failed <- fmt.Errorf("the demo's server %s ended: %s", c.name, c.lastWords()):
		default:
		}
	}()
	return nil
}

// lastWords is the last line it wrote, which is where servers say why they
// stop.
func (c *child) lastWords() string {
	lines := strings.Split(strings.TrimSpace(c.log.String()), "\n")
	return lines[len(lines)-1]
}

// lateReader is the server that opens its ports before it reads its keys, so that
// it is up only when it shakes hands.
const lateReader = "freight-1"

// awaitFree waits until nobody answers at an address any more: a server of a demo that was
// killed a moment ago would be taken for the one that is started.
func awaitFree(ctx context.Context, address string) error {
	for deadline := time.Now().Add(15 * time.Second); ; {
		conn, err := net.DialTimeout("tcp", address, time.Second)
		if err != nil {
			return nil
		}
		_ = conn.Close()
		if time.Now().After(deadline) {
			return fmt.Errorf("another program answers at %s; stop that one", address)
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// awaitPort waits until the server takes connections, or tells why it ended
// instead.
func awaitPort(ctx context.Context, address string, c *child) error {
	for deadline := time.Now().Add(15 * time.Second); time.Now().Before(deadline); {
		conn, err := net.DialTimeout("tcp", address, time.Second)
		if err == nil && c.name == lateReader {
			_ = conn.Close()
			conn, err = tls.DialWithDialer(&net.Dialer{Timeout: 5 * time.Second}, "tcp", address,
				&tls.Config{InsecureSkipVerify: true})
		}
		if err == nil {
			return conn.Close()
		}
		select {
		case <-c.process.Done():
			return fmt.Errorf("the demo's server %s did not start: %s", c.name, c.lastWords())
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return fmt.Errorf("the demo's server %s does not listen at %s", c.name, address)
}

// Stop ends every server and gives the addresses back.
func (e *Estate) Stop() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, c := range e.children {
		c.process.Signal(syscall.SIGTERM)
	}
	for _, c := range e.children {
		select {
		case <-c.process.Done():
		case <-time.After(5 * time.Second):
			c.process.Signal(syscall.SIGKILL)
		}
	}
	e.children = nil
	e.stopOutside()
	if e.claim != nil {
		_ = e.claim.Close()
	}
}
