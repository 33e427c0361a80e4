// Package wire is a stand-in for a bad network: a relay in front of a TCP
// server that delays, cuts or hangs.
package wire

import (
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"
)

// Relay passes connections on to a server. Its fields say what goes wrong and
// are set before the first connection.
type Relay struct {
	CutAfter int64         // bytes from the server after which a connection ends; 0: never
	Hang     bool          // stay silent instead of ending it
	Delay    time.Duration // of everything the server says

	to          string
	listener    net.Listener
	connections atomic.Int64
	stop        chan struct{}
	open        sync.WaitGroup

	mu   sync.Mutex
	live map[net.Conn]bool
}

// New starts a relay on loopback to an address. Close ends it.
func New(to string) (*Relay, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	r := &Relay{to: to, listener: l, stop: make(chan struct{}), live: map[net.Conn]bool{}}
	r.open.Go(r.accept)
	return r, nil
}

// Address is where it listens.
func (r *Relay) Address() string { return r.listener.Addr().String() }

// Connections counts those it has taken.
func (r *Relay) Connections() int { return int(r.connections.Load()) }

// Drop ends the connections there are; new ones are taken.
func (r *Relay) Drop() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for c := range r.live {
		_ = c.Close()
	}
}

// keep adds a connection to those that can be dropped, or takes it away.
func (r *Relay) keep(c net.Conn, is bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if is {
		r.live[c] = true
	} else {
		delete(r.live, c)
	}
}

// Close ends the relay and every connection.
func (r *Relay) Close() {
	close(r.stop)
	_ = r.listener.Close()
	r.open.Wait()
}

// accept joins every connection to one of its own, through which bytes pass
// until the wire is cut.
func (r *Relay) accept() {
	for {
		in, err := r.listener.Accept()
		if err != nil {
			return
		}
		r.connections.Add(1)
		out, err := net.Dial("tcp", r.to)
		if err != nil {
			_ = in.Close()
			continue
		}
		go func() { _, _ = io.Copy(out, in); _ = out.Close() }()
		r.open.Go(func() { r.back(in, out) })
	}
}

// back passes on what the server says, until the cut.
func (r *Relay) back(in, out net.Conn) {
	r.keep(in, true)
	defer func() { r.keep(in, false); _ = in.Close(); _ = out.Close() }()
	go func() { <-r.stop; _ = out.Close() }()
	var from io.Reader = out
	if r.CutAfter > 0 {
		from = io.LimitReader(out, r.CutAfter)
	}
	type piece struct {
		data []byte
		due  time.Time
	}
	pieces := make(chan piece, 1024)
	go func() {
		defer close(pieces)
		for {
			buffer := make([]byte, 32<<10)
			n, err := from.Read(buffer)
			if n > 0 {
				pieces <- piece{buffer[:n], time.Now().Add(r.Delay)}
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range pieces {
		time.Sleep(time.Until(p.due))
		if _, err := in.Write(p.data); err != nil {
			return
		}
	}
	if r.Hang {
		<-r.stop
	}
}
