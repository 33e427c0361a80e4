// Package nameserver is a small name server that answers from a list of
// records, for tests that need names to lead somewhere. Zones, updates and
// signatures are for a real one.
package nameserver

import (
	"net"
	"strings"
	"sync"

	"github.com/miekg/dns"
)

// Server answers from its records. Safe for concurrent use.
type Server struct {
	servers []*dns.Server
	address string

	mu      sync.Mutex
	records map[string][]dns.RR
	fails   map[string]bool // names it cannot look up
	any     net.IP
}

// Start listens on loopback. Every name without records of its own leads to
// any; nil for none.
func Start(any net.IP) (*Server, error) {
	s := &Server{records: map[string][]dns.RR{}, fails: map[string]bool{}, any: any}
	udp, tcp, err := bothWays()
	if err != nil {
		return nil, err
	}
	s.address = udp.LocalAddr().String()
	for _, d := range []*dns.Server{{PacketConn: udp, Handler: s}, {Listener: tcp, Handler: s}} {
		s.servers = append(s.servers, d)
		go func() { _ = d.ActivateAndServe() }()
	}
	return s, nil
}

// bothWays finds a port that is free for UDP and TCP.
func bothWays() (udp net.PacketConn, tcp net.Listener, err error) {
	const tries = 20
	for range tries {
		if udp, err = net.ListenPacket("udp", "127.0.0.1:0"); err != nil {
			return nil, nil, err
		}
		if tcp, err = net.Listen("tcp", udp.LocalAddr().String()); err == nil {
			return udp, tcp, nil
		}
		_ = udp.Close()
	}
	return nil, nil, err
}

// Address is where it listens.
func (s *Server) Address() string { return s.address }

// Close ends it.
func (s *Server) Close() {
	for _, d := range s.servers {
		_ = d.Shutdown()
	}
}

// Set replaces the records of a name, written as in a zone file.
func (s *Server) Set(name string, records ...string) error {
	var list []dns.RR
	for _, text := range records {
		rr, err := dns.NewRR(text)
		if err != nil {
			return err
		}
		list = append(list, rr)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.records[dns.CanonicalName(name)] = list
	return nil
}

// Fail has it answer SERVFAIL for a name (RFC 1035 section 4.1.1).
func (s *Server) Fail(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.fails[dns.CanonicalName(name)] = true
}

// ServeDNS implements dns.Handler.
func (s *Server) ServeDNS(w dns.ResponseWriter, q *dns.Msg) {
	m := new(dns.Msg).SetReply(q)
	m.Authoritative = true
	s.mu.Lock()
	for _, question := range q.Question {
		if s.fails[dns.CanonicalName(question.Name)] {
			m.Rcode = dns.RcodeServerFailure
		}
		list, known := s.records[dns.CanonicalName(question.Name)]
		for _, rr := range list {
			if t := rr.Header().Rrtype; t == question.Qtype || t == dns.TypeCNAME {
				m.Answer = append(m.Answer, rr)
			}
		}
		if !known && s.any != nil && question.Qtype == dns.TypeA && !strings.HasPrefix(question.Name, "_") {
			m.Answer = append(m.Answer,
				&dns.A{Hdr: dns.RR_Header{Name: question.Name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 1}, A: s.any})
		}
	}
	s.mu.Unlock()
	_ = w.WriteMsg(m)
}
