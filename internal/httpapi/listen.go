package httpapi

import (
	"cmp"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"
)

// ListenError says why the service cannot listen.
type ListenError struct {
	Address string // as given
	Err     error  // of the system
}

// Error says which addresses are possible, for beyond loopback a certificate is
// needed.
func (e *ListenError) Error() string {
	if errors.Is(e.Err, syscall.EADDRINUSE) {
		return fmt.Sprintf("the address %s is in use by another program; stop that one, or choose another with --listen",
			e.Address)
	}
	return fmt.Sprintf("cannot listen at %s: %s; expected a loopback address and a free port, such as 127.0.0.1:7420, or "+
		"with --tls-certificate and --tls-key any address of this machine", e.Address, e.Err)
}

// Unwrap gives the system's error.
func (e *ListenError) Unwrap() error { return e.Err }

// Listen opens the service's port. Without a certificate only loopback is
// allowed: passphrases and tokens do not cross a network in the clear.
func Listen(address string, pair *Pair) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, &ListenError{address, errors.New("no host and port")}
	}
	if pair == nil && !loopback(host) {
		return nil, &ListenError{address, errors.New("plain http is not spoken beyond loopback")}
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, &ListenError{address, err}
	}
	if pair != nil {
		l = tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS12, NextProtos: []string{"h2", "http/1.1"},
			GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return pair.current() }})
	}
	return l, nil
}

// loopback tells addresses only this machine reaches.
func loopback(host string) bool {
	addr, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return host == "localhost" || err == nil && addr.IsLoopback()
}

// Pair is the service's own certificate and key, taken in again when one of
// the files changed.
type Pair struct {
	Each time.Duration // the least time between two looks at the files; set before it is used

	certificate, key string // paths

	mu     sync.Mutex       // guards what follows
	pair   *tls.Certificate // in use
	looked time.Time        // at the files
	was    [2]time.Time     // when the files were changed that it was read from
}

// OpenPair reads the service's own certificate and key.
func OpenPair(certificate, key string) (*Pair, error) {
	p := &Pair{Each: lookEach, certificate: certificate, key: key}
	_, err := p.current()
	if err != nil {
		return nil, fmt.Errorf("cannot use --tls-certificate %s with --tls-key %s: %w; expected PEM files of one "+
			"certificate chain and its key", certificate, key, err)
	}
	return p, nil
}

// lookEach is how often the files of the service's own certificate are looked at.
const lookEach = 10 * time.Second

// current takes a renewed pair in without a restart. One that cannot be read
// leaves the old one in use.
func (p *Pair) current() (*tls.Certificate, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.pair != nil && time.Since(p.looked) < p.Each {
		return p.pair, nil
	}
	p.looked = time.Now()
	var now [2]time.Time
	for i, path := range []string{p.certificate, p.key} {
		if info, err := os.Stat(path); err == nil {
			now[i] = info.ModTime()
		}
	}
	if p.pair != nil && now == p.was {
		return p.pair, nil
	}
	pair, err := tls.LoadX509KeyPair(p.certificate, p.key)
	if err != nil {
		if p.pair != nil {
			return p.pair, nil // half-written: the one before is served on
		}
		return nil, err
	}
	p.pair, p.was = &pair, now
	return p.pair, nil
}

// Covers says whether the certificate is for a host.
func (p *Pair) Covers(host string) bool {
	pair, err := p.current()
	return err == nil && pair.Leaf != nil && pair.Leaf.VerifyHostname(strings.Trim(host, "[]")) == nil
}

// Reached is under which host and port a listener is reached: at all addresses of
// a machine by a name its certificate covers, or else over loopback.
func Reached(at net.Addr, pair *Pair) string {
	host, port, err := net.SplitHostPort(at.String())
	if err != nil {
		return at.String()
	}
	if addr, err := netip.ParseAddr(host); err == nil && addr.IsUnspecified() {
		host = "127.0.0.1"
		if pair != nil {
			host = cmp.Or(pair.name(), host)
		}
	}
	return net.JoinHostPort(host, port)
}

// name is the first name of the certificate that is no wildcard; "" for none.
func (p *Pair) name() string {
	c, err := p.current()
	if err != nil {
		return ""
	}
	for _, name := range c.Leaf.DNSNames {
		if !strings.HasPrefix(name, "*.") {
			return name
		}
	}
	return ""
}
