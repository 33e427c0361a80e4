// Package endpoint is a stand-in for TLS endpoints that misbehave: one that is
// silent, one that drips, one that speaks http, and so on. It is for tests,
// benchmarks and for trying out Insegna without hurting a real server.
//
// It is no server for anything else: it answers a handshake and hangs up.
package endpoint

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"net"
	"sync"
	"time"
)

// Behaviour is how an endpoint treats one connection, which it need not close.
type Behaviour func(context.Context, net.Conn)

// Endpoint is a listening stand-in.
type Endpoint struct {
	listener net.Listener
	cancel   context.CancelFunc
	done     sync.WaitGroup
}

// Start listens on a loopback address such as "127.0.0.1:0".
func Start(address string, b Behaviour) (*Endpoint, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(context.Background())
	e := &Endpoint{listener: l, cancel: cancel}
	e.done.Go(func() { e.serve(ctx, b) })
	return e, nil
}

// Address is where it listens.
func (e *Endpoint) Address() string { return e.listener.Addr().String() }

// Close stops listening and ends every connection.
func (e *Endpoint) Close() {
	e.cancel()
	_ = e.listener.Close()
	e.done.Wait()
}

// serve gives every connection to the behaviour, and closes it when the
// endpoint stops.
func (e *Endpoint) serve(ctx context.Context, b Behaviour) {
	for {
		conn, err := e.listener.Accept()
		if err != nil {
			return
		}
		e.done.Go(func() {
			defer func() { _ = conn.Close() }()
			defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
			b(ctx, conn)
		})
	}
}

// TLS shakes hands properly and hangs up after the client does.
func TLS(cfg *tls.Config) Behaviour {
	return func(ctx context.Context, conn net.Conn) {
		tc := tls.Server(conn, cfg)
		if tc.HandshakeContext(ctx) == nil {
			_, _ = tc.Read(make([]byte, 1))
		}
	}
}

// Silent accepts and says nothing.
func Silent(ctx context.Context, _ net.Conn) { <-ctx.Done() }

// Says sends a text and hangs up, as a plain http or mail server would.
func Says(text string) Behaviour {
	return func(_ context.Context, conn net.Conn) {
		readHello(conn)
		_, _ = conn.Write([]byte(text))
	}
}

// Closes hangs up as soon as the hello came.
func Closes(_ context.Context, conn net.Conn) { readHello(conn) }

// Resets tears the connection down.
func Resets(_ context.Context, conn net.Conn) {
	readHello(conn)
	if tc, ok := conn.(*net.TCPConn); ok {
		_ = tc.SetLinger(0)
	}
}

// Drips begins a handshake record and then sends a byte at a time.
func Drips(every time.Duration) Behaviour {
	return func(ctx context.Context, conn net.Conn) {
		readHello(conn)
		_, _ = conn.Write([]byte{22, 3, 3, 0x40, 0})
		tick := time.NewTicker(every)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
				if _, err := conn.Write([]byte{2}); err != nil {
					return
				}
			}
		}
	}
}

// Alerts refuses with a fatal TLS alert.
func Alerts(number uint8) Behaviour {
	return func(_ context.Context, conn net.Conn) {
		readHello(conn)
		_, _ = conn.Write([]byte{21, 3, 3, 0, 2, 2, number})
	}
}

// Serves answers with a TLS 1.2 ServerHello, a Certificate message holding this
// list as it is, valid or not, and ServerHelloDone; then it falls silent.
func Serves(list ...[]byte) Behaviour {
	return func(ctx context.Context, conn net.Conn) {
		readHello(conn)
		hello := append([]byte{3, 3}, make([]byte, 32)...)
		hello = append(hello, 0, 0xC0, 0x2B, 0)
		var certificates []byte
		for _, der := range list {
			certificates = append(append(certificates, length24(len(der))...), der...)
		}
		flight := message(2, hello)
		flight = append(flight, message(11, append(length24(len(certificates)), certificates...))...)
		flight = append(flight, message(14, nil)...)
		for len(flight) > 0 {
			n := min(len(flight), 1<<14)
			if _, err := conn.Write(append([]byte{22, 3, 3, byte(n >> 8), byte(n)}, flight[:n]...)); err != nil {
				return
			}
			flight = flight[n:]
		}
		<-ctx.Done()
	}
}

// message frames a handshake message (RFC 8446 section 4).
func message(kind byte, body []byte) []byte {
	return append(append([]byte{kind}, length24(len(body))...), body...)
}

// length24 writes a length of three bytes.
func length24(n int) []byte { return binary.BigEndian.AppendUint32(nil, uint32(n))[1:] }

// readHello takes what the client sends first, and does not read it.
func readHello(conn net.Conn) {
	_ = conn.SetReadDeadline(time.Now().Add(5 * time.Second))
	_, _ = conn.Read(make([]byte, 4096))
	_ = conn.SetReadDeadline(time.Time{})
}
