// Package bind runs a real BIND name server on loopback, as whoever starts it,
// with zones that can be updated with a key.
package bind

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"insegna.example/internal/standin/process"
)

// Program is Debian's.
const Program = "/usr/sbin/named"

// ErrNotInstalled says that there is no BIND on this machine.
var ErrNotInstalled = errors.New("BIND is not installed; run: apt-get install bind9")

// Config says what it serves.
type Config struct {
	Dir     string            // its own folder
	Address string            // address and port
	Zones   map[string]string // text of each zone's file, by name
	Masters map[string]string // zones it copies, and from where (address and port)
	KeyName string            // may change every zone
	Secret  string            // of the key, base64
	Notify  []string          // told of changes: address and port
}

// Server is a running BIND.
type Server struct {
	Address string
	process *process.Process
}

// Start writes the configuration and starts BIND in the foreground.
func Start(c Config) (*Server, error) {
	if _, err := os.Stat(Program); err != nil {
		return nil, ErrNotInstalled
	}
	if err := os.MkdirAll(c.Dir, 0o755); err != nil {
		return nil, err
	}
	text, err := c.text()
	if err != nil {
		return nil, err
	}
	conf := filepath.Join(c.Dir, "named.conf")
	if err := os.WriteFile(conf, []byte(text), 0o644); err != nil {
		return nil, err
	}
	cmd := exec.Command(Program, "-g", "-c", conf, "-n", "1")
	cmd.Dir = c.Dir
	log, err := os.Create(filepath.Join(c.Dir, "named.log"))
	if err != nil {
		return nil, err
	}
	defer func() { _ = log.Close() }()
	cmd.Stdout, cmd.Stderr = log, log
	s := &Server{Address: c.Address}
	if s.process, err = process.Start(cmd, syscall.SIGKILL); err != nil {
		return nil, err
	}
	if err := s.ready(log.Name()); err != nil {
		return nil, err
	}
	return s, nil
}

// ready waits until BIND takes connections, at most five seconds; its log tells
// why it did not.
func (s *Server) ready(log string) error {
	for range 200 {
		conn, err := (&net.Dialer{Timeout: time.Second}).DialContext(context.Background(), "tcp", s.Address)
		if err == nil {
			_ = conn.Close()
			return nil
		}
		select {
		case <-s.process.Done():
			said, _ := os.ReadFile(log)
			return fmt.Errorf("BIND did not start: %s", said[max(0, len(said)-600):])
		case <-time.After(25 * time.Millisecond):
		}
	}
	s.Stop()
	said, _ := os.ReadFile(log)
	return fmt.Errorf("BIND does not listen: %s", said[max(0, len(said)-600):])
}

// text is the configuration file, and writes the zones' files beside it.
func (c *Config) text() (string, error) {
	host, port, err := net.SplitHostPort(c.Address)
	if err != nil {
		return "", err
	}
	var text strings.Builder
	fmt.Fprintf(&text, "options { directory %q; pid-file \"named.pid\"; session-keyfile \"session.key\"; "+
		"managed-keys-directory %q; lock-file none; listen-on port %s { %s; }; listen-on-v6 { none; }; recursion no; "+
		"dnssec-validation no; empty-zones-enable no; notify explicit; notify-delay 0; allow-transfer { 127.0.0.0/8; }; "+
		"transfer-source %s; notify-source %s; };\n", c.Dir, c.Dir, port, host, host, host)
	fmt.Fprint(&text, "controls { };\n")
	if c.KeyName != "" {
		fmt.Fprintf(&text, "key %q { algorithm hmac-sha256; secret %q; };\n", c.KeyName, c.Secret)
	}
	for name, zone := range c.Zones {
		file := filepath.Join(c.Dir, name+".zone")
		_ = os.Remove(file + ".jnl") // of an earlier run
		if err := os.WriteFile(file, []byte(zone), 0o644); err != nil {
			return "", err
		}
		also := ""
		for _, n := range c.Notify {
			h, p, err := net.SplitHostPort(n)
			if err != nil {
				return "", err
			}
			also += fmt.Sprintf("%s port %s; ", h, p)
		}
		update := ""
		if c.KeyName != "" {
			update = fmt.Sprintf("update-policy { grant %s zonesub ANY; };", c.KeyName)
		}
		fmt.Fprintf(&text, "zone %q { type primary; file %q; also-notify { %s}; %s };\n", name, file, also, update)
	}
	for name, from := range c.Masters {
		h, p, err := net.SplitHostPort(from)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&text, "zone %q { type secondary; file %q; primaries { %s port %s; }; masterfile-format text; };\n",
			name, filepath.Join(c.Dir, name+".copy"), h, p)
	}
	return text.String(), nil
}

// Pause stops it from answering and from hearing of changes; Resume lets it go on.
func (s *Server) Pause() { s.process.Signal(syscall.SIGSTOP) }

// Resume ends a Pause.
func (s *Server) Resume() { s.process.Signal(syscall.SIGCONT) }

// Stop ends it.
func (s *Server) Stop() { s.process.Stop(syscall.SIGKILL) }
