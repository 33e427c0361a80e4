// Package look is the network's side: it looks at an endpoint as a visitor
// would and brings back what was sent, valid or not. It judges nothing.
//
// Every look is bounded in time and memory: a deadline for the connection, one
// for the handshake, and a limit on the certificate material kept. The usual
// look is a full handshake with crypto/tls; when the server sends what that
// stack will not take, a hand-built ClientHello asks once more (hello.go).
package look

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"time"
	"unicode"

	"insegna.example/internal/core/binding"
)

// MaterialLimit is the most certificate material kept from one look, in bytes.
const MaterialLimit = 1 << 20

// Looker looks at endpoints. Safe for concurrent use.
type Looker struct {
	ConnectTimeout   time.Duration // until the connection stands
	HandshakeTimeout time.Duration // from there until the certificate is had
	dialer           net.Dialer    // of all looks
}

// New makes a looker with the usual deadlines.
func New() *Looker {
	return &Looker{ConnectTimeout: 4 * time.Second, HandshakeTimeout: 5 * time.Second}
}

// Look opens one connection and shakes hands, with host as SNI unless it is
// "" or an IP address (RFC 6066 section 3). The observation is never nil; when
// the context ends first its outcome is Slow or Filtered with the detail
// "stopped", and the caller should not keep it.
func (l *Looker) Look(ctx context.Context, endpoint netip.AddrPort, host string) *binding.Observation {
	return l.LookOver(ctx, func(ctx context.Context) (net.Conn, error) {
		return l.dialer.DialContext(ctx, "tcp", endpoint.String())
	}, host)
}

// Dial opens a connection to what is looked at.
type Dial func(context.Context) (net.Conn, error)

// LookOver is a look over connections that are opened another way, such as from
// another machine.
func (l *Looker) LookOver(ctx context.Context, dial Dial, host string) *binding.Observation {
	o, err := l.shake(ctx, dial, host)
	if err == nil || !worthAsking(o) || ctx.Err() != nil {
		return o
	}
	if second := l.ask(ctx, dial, host); second.Outcome == binding.Connected || second.Outcome == binding.TooLarge {
		if second.Outcome == binding.TooLarge {
			return second
		}
		second.Detail = clean("only a plain TLS 1.2 hello was answered usefully; the full handshake said: " + err.Error())
		return second
	}
	return o
}

// worthAsking says whether a second look with the hand-built hello may bring
// more than the full handshake did.
func worthAsking(o *binding.Observation) bool {
	return o.Outcome == binding.Malformed || o.Outcome == binding.TooLarge || o.Outcome == binding.Alert &&
		o.Alert == alertHandshakeFailure
}

const (
	// alertHandshakeFailure is what servers answer that share no parameters with
	// us (RFC 8446 section 6.2).
	alertHandshakeFailure = 40
	remoteError           = "remote error" // the Op of an alert received by crypto/tls
)

// shake does one full handshake and keeps what it brought. The error is for
// choosing what to try next; the observation says already what was met.
func (l *Looker) shake(ctx context.Context, dial Dial, host string) (*binding.Observation, error) {
	o := &binding.Observation{At: time.Now().UTC()}
	conn, err := l.connect(ctx, dial, o)
	if err != nil {
		return o, err
	}
	defer func() { _ = conn.Close() }()
	defer stopWith(ctx, conn)()
	tc := tls.Client(conn, config(host))
	began := time.Now()
	err = tc.HandshakeContext(ctx)
	o.Handshake = time.Since(began)
	if err != nil {
		o.Outcome, o.Alert, o.Detail = classify(err, conn)
		return o, err
	}
	keep(o, tc.ConnectionState())
	return o, nil
}

// connect dials and sets the handshake's deadline on the connection.
func (l *Looker) connect(ctx context.Context, dial Dial, o *binding.Observation) (*watched, error) {
	dialCtx, cancel := context.WithTimeout(ctx, l.ConnectTimeout)
	defer cancel()
	began := time.Now()
	conn, err := dial(dialCtx)
	o.Connect = time.Since(began)
	if err != nil {
		o.Outcome, o.Detail = unconnected(err, l.ConnectTimeout)
		return nil, err
	}
	w := &watched{Conn: conn}
	if err := conn.SetDeadline(time.Now().Add(l.HandshakeTimeout)); err != nil {
		w.end = time.AfterFunc(l.HandshakeTimeout, w.late) // it knows no deadlines
	}
	return w, nil
}

// Reached says whether a connection comes about, and nothing else is said over it.
func (l *Looker) Reached(ctx context.Context, dial Dial) *binding.Observation {
	o := &binding.Observation{At: time.Now().UTC()}
	conn, err := l.connect(ctx, dial, o)
	if err == nil {
		_ = conn.Close()
		o.Outcome = binding.Connected
	}
	return o
}

// stopWith ends the connection when the context ends; the result undoes it.
func stopWith(ctx context.Context, conn *watched) func() bool {
	return context.AfterFunc(ctx, conn.late)
}

// config offers everything crypto/tls can speak: what is too old or too weak
// is judged, not refused.
func config(host string) *tls.Config {
	if _, err := netip.ParseAddr(host); err == nil {
		host = ""
	}
	return &tls.Config{
		ServerName:         host,
		InsecureSkipVerify: true, // judged in core/chain; a look must see invalid chains too
		MinVersion:         tls.VersionTLS10,
		NextProtos:         []string{"h2", "http/1.1"},
		CipherSuites:       everySuite,
	}
}

// everySuite offers old cipher suites too: a server that has nothing better is
// to be seen, and judged afterwards.
var everySuite = func() (ids []uint16) {
	for _, s := range append(tls.CipherSuites(), tls.InsecureCipherSuites()...) {
		ids = append(ids, s.ID)
	}
	return ids
}()

// keep takes from a finished handshake what the judge needs. One that brought
// no certificate is malformed.
func keep(o *binding.Observation, cs tls.ConnectionState) {
	o.Outcome, o.Version, o.Suite, o.Group = binding.Connected, cs.Version, cs.CipherSuite, uint16(cs.CurveID)
	o.ALPN, o.Stapled, o.SCTs = cs.NegotiatedProtocol, cs.OCSPResponse, len(cs.SignedCertificateTimestamps)
	o.Served = make([][]byte, len(cs.PeerCertificates))
	for i, c := range cs.PeerCertificates {
		o.Served[i] = c.Raw
	}
	if len(o.Served) == 0 {
		o.Outcome, o.Detail = binding.Malformed, "the handshake brought no certificate"
	}
}

// watched remembers the first bytes received, to tell what is spoken.
type watched struct {
	net.Conn
	first    [48]byte    // bytes received
	received int         // in all
	end      *time.Timer // ends one that knows no deadlines; nil for others
	over     atomic.Bool // it did
}

// late ends whatever waits on the connection.
func (w *watched) late() {
	if w.Conn.SetDeadline(time.Unix(1, 0)) != nil {
		w.over.Store(true)
		_ = w.Conn.Close()
	}
}

// Close also ends the timer.
func (w *watched) Close() error {
	if w.end != nil {
		w.end.Stop()
	}
	return w.Conn.Close()
}

// Write tells of a time that ran out as connections with deadlines do.
func (w *watched) Write(p []byte) (int, error) {
	n, err := w.Conn.Write(p)
	return n, w.told(err)
}

// told is an error, or that the time ran out.
func (w *watched) told(err error) error {
	if err != nil && w.over.Load() {
		return os.ErrDeadlineExceeded
	}
	return err
}

// Read keeps the first bytes received, by which a server that does not speak
// TLS is recognised.
func (w *watched) Read(p []byte) (int, error) {
	n, err := w.Conn.Read(p)
	if w.received < len(w.first) {
		copy(w.first[w.received:], p[:n])
	}
	w.received += n
	return n, w.told(err)
}

// start gives those bytes.
func (w *watched) start() string { return string(w.first[:min(w.received, len(w.first))]) }

// unconnected tells by the error why no connection came about. A time that ran
// out means a filter, not a closed port.
func unconnected(err error, limit time.Duration) (binding.Outcome, string) {
	switch {
	case errors.Is(err, context.Canceled):
		return binding.Filtered, "stopped"
	case errors.Is(err, syscall.ECONNREFUSED):
		return binding.Refused, "connection refused"
	case errors.Is(err, syscall.ECONNRESET):
		return binding.Reset, "connection reset while connecting"
	case isTimeout(err):
		return binding.Filtered, fmt.Sprintf("no answer within %s", limit)
	}
	return binding.Unreachable, clean(err.Error())
}

// isTimeout covers the network's time limits and the look's own.
func isTimeout(err error) bool {
	var ne net.Error
	return errors.As(err, &ne) && ne.Timeout() || errors.Is(err, context.DeadlineExceeded)
}

// classify tells apart how a handshake failed.
func classify(err error, conn *watched) (binding.Outcome, uint8, string) {
	var op *net.OpError
	var header tls.RecordHeaderError
	switch {
	case errors.As(err, &op) && op.Op == remoteError:
		var alert uint8
		_, _ = fmt.Sscan(fmt.Sprintf("%d", op.Err), &alert)
		return binding.Alert, alert, "TLS alert " + binding.AlertName(alert)
	case errors.Is(err, context.Canceled):
		return binding.Slow, 0, "stopped"
	case errors.As(err, &header):
		outcome, detail := spoken(conn.start())
		return outcome, 0, detail
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		return binding.Reset, 0, fmt.Sprintf("connection reset after %d bytes", conn.received)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return binding.Closed, 0, fmt.Sprintf("connection ended after %d bytes", conn.received)
	case isTimeout(err) && conn.received == 0:
		return binding.Silent, 0, "not a byte until the deadline"
	case isTimeout(err):
		return binding.Slow, 0, fmt.Sprintf("%d bytes until the deadline", conn.received)
	case strings.Contains(err.Error(), "exceeds maximum"):
		return binding.TooLarge, 0, clean(err.Error())
	}
	return binding.Malformed, 0, clean(err.Error())
}

// spoken says what a server speaks that does not answer with TLS records.
func spoken(start string) (binding.Outcome, string) {
	line, _, _ := strings.Cut(start, "\n")
	said := fmt.Sprintf("the server said %q", clean(line))
	if strings.HasPrefix(start, "HTTP/") || strings.HasPrefix(start, "<!") || strings.HasPrefix(start, "<html") {
		return binding.PlainHTTP, said
	}
	return binding.NotTLS, said
}

// clean makes a text from outside one short printable line.
func clean(s string) string {
	s = strings.Map(func(c rune) rune {
		if !unicode.IsPrint(c) {
			return '·'
		}
		return c
	}, strings.ToValidUTF8(strings.TrimRight(s, "\r\n\x00"), "·"))
	if len(s) > 200 {
		s = strings.ToValidUTF8(s[:197], "") + "..."
	}
	return s
}
