// Package sshd runs the real OpenSSH server on loopback, for the demo and for
// tests: one user, who started it, with one key, and files made anew.
package sshd

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// Program is where Debian puts it.
const Program = "/usr/sbin/sshd"

// Setup is a server's files, in a folder of its own.
type Setup struct {
	Address    string // where it listens
	User       string // who may log in
	Key        string // private key file of that user
	KnownHosts string // file with the server's host key
	config     string
}

// ErrNotInstalled says that the server is not there at all.
var ErrNotInstalled = errors.New("the OpenSSH server is not installed; make setup-test installs it")

// CanRun says why the server cannot be used here, nil when it can: it must be
// installed, and whoever starts it needs a login shell, since they alone can
// log in.
func CanRun() error {
	if _, err := os.Stat(Program); err != nil {
		return ErrNotInstalled
	}
	me, err := user.Current()
	if err != nil {
		return err
	}
	users, err := os.Open("/etc/passwd")
	if err != nil {
		return err
	}
	defer func() { _ = users.Close() }()
	for lines := bufio.NewScanner(users); lines.Scan(); {
		if f := strings.Split(lines.Text(), ":"); len(f) == 7 && f[0] == me.Username &&
			!strings.HasSuffix(f[6], "nologin") && !strings.HasSuffix(f[6], "false") {
			return nil
		}
	}
	return fmt.Errorf("user %s has no login shell", me.Username)
}

// Prepare writes keys and configuration below dir, an absolute path; keys that
// are there are kept.
func Prepare(dir, address string) (*Setup, error) {
	me, err := user.Current()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	if os.Geteuid() == 0 { // where it leaves its rights behind
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
			return nil, err
		}
	}
	s := &Setup{Address: address, User: me.Username, Key: filepath.Join(dir, "user_key"),
		KnownHosts: filepath.Join(dir, "known_hosts"), config: filepath.Join(dir, "sshd_config")}
	host, err := keyAt(filepath.Join(dir, "host_key"))
	if err != nil {
		return nil, err
	}
	own, err := keyAt(s.Key)
	if err != nil {
		return nil, err
	}
	name, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	for file, text := range map[string]string{
		s.KnownHosts:                          fmt.Sprintf("[%s]:%s %s", name, port, ssh.MarshalAuthorizedKey(host)),
		filepath.Join(dir, "authorized_keys"): string(ssh.MarshalAuthorizedKey(own)),
		s.config: fmt.Sprintf(`ListenAddress %s
HostKey %[2]s/host_key
PidFile %[2]s/sshd.pid
AuthorizedKeysFile %[2]s/authorized_keys
StrictModes no
UsePAM no
UseDNS no
PermitRootLogin prohibit-password
PasswordAuthentication no
KbdInteractiveAuthentication no
MaxStartups 100
Subsystem sftp internal-sftp
LogLevel ERROR
`, address, dir),
	} {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// keyAt reads or makes a key and gives its public half.
func keyAt(path string) (ssh.PublicKey, error) {
	if data, err := os.ReadFile(path); err == nil {
		signer, err := ssh.ParsePrivateKey(data)
		if err != nil {
			return nil, err
		}
		return signer.PublicKey(), nil
	}
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
		return nil, err
	}
	return ssh.NewPublicKey(public)
}

// Args is the command line that runs the server in the foreground.
func (s *Setup) Args() []string { return []string{Program, "-D", "-e", "-f", s.config} }

// Set adds lines to its configuration, for its next start.
func (s *Setup) Set(lines string) error {
	f, err := os.OpenFile(s.config, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteString(lines)
	return errors.Join(err, f.Close())
}

// Start runs it until ctx ends; wait returns when it has ended.
func (s *Setup) Start(ctx context.Context) (wait func(), err error) {
	args := s.Args()
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	done := make(chan struct{})
	go func() { _ = cmd.Wait(); close(done) }()
	for deadline := time.Now().Add(15 * time.Second); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		if conn, err := net.DialTimeout("tcp", s.Address, time.Second); err == nil {
			_ = conn.Close()
			return func() { <-done }, nil
		}
	}
	return nil, fmt.Errorf("the OpenSSH server does not listen at %s", s.Address)
}

// StartFree prepares a server in a temporary folder at a free loopback port and
// runs it; stop ends it and takes the folder away.
func StartFree() (s *Setup, stop func(), err error) {
	dir, err := os.MkdirTemp("", "sshd")
	if err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	stop = func() { cancel(); _ = os.RemoveAll(dir) }
	defer func() {
		if err != nil {
			stop()
		}
	}()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	address := l.Addr().String()
	if err = l.Close(); err != nil {
		return nil, nil, err
	}
	if s, err = Prepare(dir, address); err != nil {
		return nil, nil, err
	}
	wait, err := s.Start(ctx)
	if err != nil {
		return nil, nil, err
	}
	return s, func() { cancel(); wait(); _ = os.RemoveAll(dir) }, nil
}
