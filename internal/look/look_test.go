package look_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/look"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/standin/endpoint"
)

func looker() *look.Looker {
	l := look.New()
	l.ConnectTimeout, l.HandshakeTimeout = 2*time.Second, 1500*time.Millisecond
	return l
}

func start(t *testing.T, b endpoint.Behaviour) netip.AddrPort {
	e, err := endpoint.Start("127.0.0.1:0", b)
	require.NoError(t, err)
	t.Cleanup(e.Close)
	return netip.MustParseAddrPort(e.Address())
}

func TestEveryOutcomeIsToldApart(t *testing.T) {
	ca := pkitest.CA("ca", nil)
	leaf := pkitest.Leaf(ca, "a.lantern.example")
	big := bytes.Repeat([]byte{0x30}, look.MaterialLimit+10)
	long := make([][]byte, 900) // some 400 kB, more than crypto/tls takes
	for i := range long {
		long[i] = leaf.Raw
	}
	refused := netip.MustParseAddrPort("127.0.0.1:1")
	for _, c := range []struct {
		name    string
		at      netip.AddrPort
		outcome binding.Outcome
		detail  string
		served  int
	}{
		{"a good server", start(t, endpoint.TLS(&tls.Config{Certificates: []tls.Certificate{leaf.TLS(ca)}})),
			binding.Connected, "", 2},
		{"nobody", refused, binding.Refused, "connection refused", 0},
		{"silence", start(t, endpoint.Silent), binding.Silent, "not a byte", 0},
		{"drops", start(t, endpoint.Drips(50*time.Millisecond)), binding.Slow, "bytes until the deadline", 0},
		{"http", start(t, endpoint.Says("HTTP/1.1 400 Bad Request\r\n\r\n")), binding.PlainHTTP,
			`the server said "HTTP/1.1 400 Bad Request"`, 0},
		{"mail", start(t, endpoint.Says("220 mail.lantern.example\x1b[31m ESMTP\r\n")), binding.NotTLS,
			`220 mail.lantern.example·[31m ESMTP`, 0},
		{"hanging up", start(t, endpoint.Closes), binding.Closed, "connection ended after 0 bytes", 0},
		{"tearing down", start(t, endpoint.Resets), binding.Reset, "connection reset", 0},
		{"an alert", start(t, endpoint.Alerts(112)), binding.Alert, "unrecognized_name (112)", 0},
		{"rubbish for a certificate", start(t, endpoint.Serves([]byte("rubbish"), leaf.Raw)), binding.Connected,
			"plain TLS 1.2 hello", 2},
		{"a very long list", start(t, endpoint.Serves(long...)), binding.Connected, "plain TLS 1.2 hello", 900},
		{"too long a list", start(t, endpoint.Serves(big)), binding.TooLarge, "more than 1048576 bytes", 0},
		{"no certificate at all", start(t, endpoint.Serves()), binding.Malformed, "", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := looker()
			for way, o := range map[string]*binding.Observation{
				"from here": l.Look(t.Context(), c.at, "a.lantern.example"),
				"over a way that knows no deadlines": l.LookOver(t.Context(), func(ctx context.Context) (net.Conn, error) {
					conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", c.at.String())
					return timeless{conn}, err
				}, "a.lantern.example"),
			} {
				assert.Equal(t, c.outcome, o.Outcome, "%s: %s", way, o.Detail)
				assert.Contains(t, o.Detail, c.detail, way)
				assert.Len(t, o.Served, c.served, way)
			}
		})
	}
}

// timeless is a connection without deadlines, as one over SSH is.
type timeless struct{ net.Conn }

func (timeless) SetDeadline(time.Time) error      { return os.ErrNoDeadline }
func (timeless) SetReadDeadline(time.Time) error  { return os.ErrNoDeadline }
func (timeless) SetWriteDeadline(time.Time) error { return os.ErrNoDeadline }

// TestALookOverAnotherWayEndsWithItsContext cancels looks over connections that know
// no deadlines, and tells only whether a connection comes about where nothing is said.
func TestALookOverAnotherWayEndsWithItsContext(t *testing.T) {
	at := start(t, endpoint.Silent)
	dial := func(ctx context.Context) (net.Conn, error) {
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", at.String())
		return timeless{conn}, err
	}
	ctx, cancel := context.WithCancel(t.Context())
	l := look.New()
	l.HandshakeTimeout = time.Minute
	time.AfterFunc(50*time.Millisecond, cancel)
	done := make(chan *binding.Observation, 1)
	go func() { done <- l.LookOver(ctx, dial, "a.lantern.example") }()
	select {
	case o := <-done:
		assert.NotEqual(t, binding.Connected, o.Outcome)
	case <-time.After(20 * time.Second):
		t.Fatal("the look goes on")
	}
	assert.Equal(t, binding.Connected, l.Reached(t.Context(), dial).Outcome)
	refused := l.Reached(t.Context(), func(context.Context) (net.Conn, error) { return nil, syscall.ECONNREFUSED })
	assert.Equal(t, binding.Refused, refused.Outcome)
	assert.Equal(t, "connection refused", refused.Detail)
}

func TestWhatIsBroughtBack(t *testing.T) {
	var asked []string
	var mu sync.Mutex
	ca := pkitest.CA("ca", nil)
	named, other := pkitest.Leaf(ca, "a.lantern.example"), pkitest.Leaf(nil, "default.lantern.example")
	cfg := &tls.Config{NextProtos: []string{"h2"}, GetCertificate: func(h *tls.ClientHelloInfo) (*tls.Certificate, error) {
		mu.Lock()
		asked = append(asked, h.ServerName)
		mu.Unlock()
		pair := other.TLS()
		if h.ServerName != "" {
			pair = named.TLS(ca, other)
			pair.OCSPStaple = []byte("staple")
		}
		return &pair, nil
	}}
	at := start(t, endpoint.TLS(cfg))
	o := looker().Look(t.Context(), at, "a.lantern.example")
	require.Equal(t, binding.Connected, o.Outcome)
	assert.Equal(t, pkitest.DER(named, ca, other), o.Served, "the list as sent, strays and all, in order")
	assert.Equal(t, "TLS 1.3", binding.VersionName(o.Version))
	assert.Equal(t, "X25519MLKEM768", binding.GroupName(o.Group))
	assert.Equal(t, "h2", o.ALPN)
	assert.Equal(t, []byte("staple"), o.Stapled)
	assert.Equal(t, pkitest.DER(other), looker().Look(t.Context(), at, "").Served)
	looker().Look(t.Context(), at, "127.0.0.1")
	assert.Equal(t, []string{"a.lantern.example", "", ""}, asked, "an address is never sent as SNI")

	old := start(t,
		endpoint.TLS(&tls.Config{Certificates: []tls.Certificate{other.TLS()}, MinVersion: tls.VersionTLS10,
			MaxVersion: tls.VersionTLS10}))
	assert.Equal(t, "TLS 1.0", binding.VersionName(looker().Look(t.Context(), old, "x.test").Version))
}

// TestSilentEndpointsDoNotSlowTheOthers fills a pool with more silent
// endpoints than it has places; the others must all be done before the first
// silent one is given up.
func TestSilentEndpointsDoNotSlowTheOthers(t *testing.T) {
	for name, asked := range map[string]func() bool{"nobody asks": nobody, "people ask": people} {
		t.Run(name, func(t *testing.T) { t.Parallel(); silentDoNotSlow(t, asked) })
	}
}

// nobody and people are who asks for something while a pool looks.
func nobody() bool { return false }
func people() bool { return true }

func silentDoNotSlow(t *testing.T, asked func() bool) {
	leaf := pkitest.Leaf(nil, "a.lantern.example")
	silent := start(t, endpoint.Silent)
	good := start(t, endpoint.TLS(&tls.Config{Certificates: []tls.Certificate{leaf.TLS()}}))
	l := look.New()
	l.HandshakeTimeout = 10 * time.Second // the others have to be done by then, on a busy machine too
	pool := look.NewPool(l, asked)
	var silentDone, goodDone []time.Time
	var mu sync.Mutex
	var all sync.WaitGroup
	note := func(at netip.AddrPort, list *[]time.Time) {
		o, err := pool.Look(t.Context(), at, "a.lantern.example")
		assert.NoError(t, err)
		mu.Lock()
		defer mu.Unlock()
		if *list = append(*list, time.Now()); at == good {
			assert.Equal(t, binding.Connected, o.Outcome)
		}
	}
	for range 50 {
		all.Go(func() { note(silent, &silentDone) })
	}
	for range 100 {
		all.Go(func() { note(good, &goodDone) })
	}
	all.Wait()
	for _, g := range goodDone {
		assert.True(t, g.Before(silentDone[0]), "a good endpoint waited for a silent one")
	}
}

// TestOneAddressIsNotFlooded counts the connections that are open at one
// address at the same time.
func TestOneAddressIsNotFlooded(t *testing.T) {
	most := mostAtOnce(t, 300*time.Millisecond, nobody)
	assert.LessOrEqual(t, most, 64)
	assert.Greater(t, most, 32, "those that wait make room for others")
	assert.Less(t, mostAtOnce(t, 3*time.Millisecond, people), 16, "few look while people ask")
}

// mostAtOnce lets 300 look at an endpoint that takes a while, and gives how many did at once.
func mostAtOnce(t *testing.T, takes time.Duration, asked func() bool) int {
	var mu sync.Mutex
	now, most := 0, 0
	at := start(t, func(ctx context.Context, conn net.Conn) {
		mu.Lock()
		if now++; now > most {
			most = now
		}
		mu.Unlock()
		_, _ = conn.Read(make([]byte, 4096))
		select {
		case <-ctx.Done():
		case <-time.After(takes):
		}
		mu.Lock()
		now--
		mu.Unlock()
	})
	pool := look.NewPool(looker(), asked)
	var all sync.WaitGroup
	for range 300 {
		all.Go(func() { _, _ = pool.Look(t.Context(), at, "a.lantern.example") })
	}
	all.Wait()
	return most
}

// TestIPv6 looks at the other family.
func TestIPv6(t *testing.T) {
	leaf := pkitest.Leaf(nil, "a.lantern.example")
	e, err := endpoint.Start("[::1]:0", endpoint.TLS(&tls.Config{Certificates: []tls.Certificate{leaf.TLS()}}))
	if err != nil {
		t.Logf("this machine has no IPv6 loopback: %v", err)
		return
	}
	defer e.Close()
	o := looker().Look(t.Context(), netip.MustParseAddrPort(e.Address()), "a.lantern.example")
	assert.Equal(t, binding.Connected, o.Outcome, o.Detail)
}

func TestALookEndsWithItsContext(t *testing.T) {
	at := start(t, endpoint.Silent)
	l := look.New()
	l.HandshakeTimeout = time.Minute
	ctx, cancel := context.WithCancel(t.Context())
	time.AfterFunc(50*time.Millisecond, cancel)
	_, err := look.NewPool(l, nobody).Look(ctx, at, "a.lantern.example")
	assert.ErrorIs(t, err, context.Canceled)
}

// FuzzFlight lets a server answer anything.
func FuzzFlight(f *testing.F) {
	leaf := pkitest.Leaf(nil, "a.lantern.example")
	f.Add([]byte{21, 3, 3, 0, 2, 2, 40})
	f.Add([]byte("HTTP/1.1 400 Bad Request\r\n"))
	f.Add(append([]byte{22, 3, 3, 0, 48, 2, 0, 0, 44, 3, 3}, leaf.Raw...))
	var mu sync.Mutex
	var answer []byte
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(f, err)
	go func() {
		for {
			conn, err := l.Accept()
			if errors.Is(err, net.ErrClosed) {
				return
			}
			mu.Lock()
			data := answer
			mu.Unlock()
			_, _ = conn.Write(data)
			_ = conn.(*net.TCPConn).CloseWrite()
			_ = conn.Close()
		}
	}()
	at := netip.MustParseAddrPort(l.Addr().String())
	lk := look.New()
	lk.HandshakeTimeout = 300 * time.Millisecond
	f.Fuzz(func(t *testing.T, data []byte) {
		mu.Lock()
		answer = data
		mu.Unlock()
		if o := lk.Look(context.Background(), at, "a.test"); o.Outcome == "" {
			t.Fatal("a look without an outcome")
		}
	})
}
