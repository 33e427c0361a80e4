package ca

import (
	"bytes"
	"context"
	"crypto"
	"crypto/sha256"
	"crypto/tls"
	"encoding/asn1"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// thumbprint is the account's part of a key authorization (section 8.1).
func thumbprint(k *account) (string, error) {
	sum, err := k.key.Thumbprint(crypto.SHA256)
	return base64.RawURLEncoding.EncodeToString(sum), err
}

// validate looks whether a challenge is answered, once, and settles it.
func (a *CA) validate(c *challenge, authorization, account string) {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	var p *problem
	if c.of.name.Type == "dns" {
		p = a.checkCAA(c.of, c.kind, account)
	}
	switch {
	case p != nil:
	case c.kind == "http-01":
		p = a.overHTTP(ctx, c, authorization)
	case c.kind == "tls-alpn-01":
		p = a.overTLS(ctx, c, authorization)
	default:
		p = a.overDNS(c, authorization)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if c.problem = p; p != nil {
		c.status, c.of.status = "invalid", "invalid"
		return
	}
	c.status, c.of.status = "valid", "valid"
	if c.of.expires = time.Now().Add(time.Hour); a.Reuse > 0 {
		c.of.expires = time.Now().Add(a.Reuse)
	}
}

// ask puts one question to the resolver.
func (a *CA) ask(name string, kind uint16) ([]dns.RR, error) {
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), kind)
	for _, network := range []string{"udp", "tcp"} {
		r, err := a.exchange(m, network)
		if err != nil {
			return nil, err
		}
		if r.Truncated {
			continue
		}
		if r.Rcode != dns.RcodeSuccess && r.Rcode != dns.RcodeNameError {
			return nil, fmt.Errorf("%s for %s", dns.RcodeToString[r.Rcode], name)
		}
		return r.Answer, nil
	}
	return nil, fmt.Errorf("the answer for %s does not fit", name)
}

// exchange sends a question, over a socket that is free where there is one.
func (a *CA) exchange(m *dns.Msg, network string) (*dns.Msg, error) {
	c := &dns.Client{Net: network, Timeout: 3 * time.Second}
	if network == "udp" {
		if conn, ok := a.sockets.Get().(*dns.Conn); ok {
			if r, _, err := c.ExchangeWithConn(m, conn); err == nil {
				a.sockets.Put(conn)
				return r, nil
			}
			_ = conn.Close()
		}
	}
	conn, err := c.Dial(a.Resolver)
	if err != nil {
		return nil, err
	}
	r, _, err := c.ExchangeWithConn(m, conn)
	if err != nil || network != "udp" {
		_ = conn.Close()
		return r, err
	}
	a.sockets.Put(conn)
	return r, nil
}

// checkCAA climbs from the name to the root (RFC 8659, RFC 8657).
func (a *CA) checkCAA(z *authorization, kind, account string) *problem {
	for name := z.name.Value; name != ""; _, name, _ = strings.Cut(name, ".") {
		list, err := a.ask(name, dns.TypeCAA)
		if err != nil {
			return refuse(403, "caa", "the CAA records of %s cannot be had: %v", name, err)
		}
		var issue, wild []*dns.CAA
		for _, rr := range list {
			r, ok := rr.(*dns.CAA)
			if !ok {
				continue
			}
			switch strings.ToLower(r.Tag) {
			case "issue":
				issue = append(issue, r)
			case "issuewild":
				wild = append(wild, r)
			case "iodef":
			default:
				if r.Flag&128 != 0 {
					return refuse(403, "caa", "%s has a critical CAA property %q that is not known here", name, r.Tag)
				}
			}
		}
		if z.wildcard && len(wild) > 0 {
			issue = wild
		}
		if len(issue) == 0 && len(list) == 0 {
			continue
		}
		if len(issue) > 0 && !slices.ContainsFunc(issue, func(r *dns.CAA) bool { return a.permits(r.Value, kind, account) }) {
			return refuse(403, "caa", "the CAA records of %s do not permit %s to issue", name, a.Identity())
		}
		return nil
	}
	return nil
}

// permits holds one CAA value against this CA, with the account and the method
// it may name (RFC 8659 section 4.2, RFC 8657).
func (a *CA) permits(value, kind, account string) bool {
	parts := strings.Split(value, ";")
	if !strings.EqualFold(strings.TrimSpace(parts[0]), a.Identity()) {
		return false
	}
	for _, p := range parts[1:] {
		switch k, v, _ := strings.Cut(strings.TrimSpace(p), "="); strings.ToLower(k) {
		case "accounturi":
			if v != account {
				return false
			}
		case "validationmethods":
			if !slices.Contains(strings.Split(v, ","), kind) {
				return false
			}
		}
	}
	return true
}

// addresses gives where a name leads, IPv6 first as a CA prefers it.
func (a *CA) addresses(name string) (out []string, err error) {
	if addr, err := netip.ParseAddr(name); err == nil {
		return []string{addr.String()}, nil
	}
	for _, kind := range []uint16{dns.TypeAAAA, dns.TypeA} {
		list, err := a.ask(name, kind)
		if err != nil {
			return nil, err
		}
		for _, rr := range list {
			switch r := rr.(type) {
			case *dns.A:
				out = append(out, r.A.String())
			case *dns.AAAA:
				out = append(out, r.AAAA.String())
			}
		}
	}
	return out, nil
}

// dial connects to a name by the CA's own resolver: to the first address, or to
// the second when nothing takes the connection there.
func (a *CA) dial(ctx context.Context, network, at string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return nil, err
	}
	list, err := a.addresses(host)
	if err != nil || len(list) == 0 {
		return nil, fmt.Errorf("no address found for %s", host)
	}
	var last error
	for _, address := range list[:min(len(list), 2)] {
		conn, err := (&net.Dialer{Timeout: 4 * time.Second}).DialContext(ctx, network, net.JoinHostPort(address, port))
		if err == nil {
			return conn, nil
		}
		last = fmt.Errorf("%s: %w", address, err)
	}
	return nil, last
}

// overHTTP fetches the file (section 8.3). It follows redirects to http and
// https, and tries the first address alone, or the second when nothing takes
// the connection there.
func (a *CA) overHTTP(ctx context.Context, c *challenge, want string) *problem {
	hops := 0
	client := &http.Client{
		// as CAs do: names are about to be proved
		Transport: &http.Transport{DialContext: a.dial, DisableKeepAlives: true,
			TLSClientConfig: &tls.Config{InsecureSkipVerify: true}},
		CheckRedirect: func(r *http.Request, _ []*http.Request) error {
			if hops++; hops > 10 {
				return fmt.Errorf("more than 10 redirects")
			}
			if p := r.URL.Port(); p != "" && p != "443" && p != "80" && p != strconv.Itoa(a.HTTPPort) {
				return fmt.Errorf("redirected to port %s", p)
			}
			return nil
		},
	}
	at := (&url.URL{Scheme: "http", Host: net.JoinHostPort(c.of.name.Value, strconv.Itoa(a.HTTPPort)),
		Path: "/.well-known/acme-challenge/" + c.token}).String()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return refuse(400, "malformed", "%v", err)
	}
	if a.HTTPPort != 80 {
		if req.Host = c.of.name.Value; strings.Contains(req.Host, ":") {
			req.Host = "[" + req.Host + "]"
		}
	}
	resp, err := client.Do(req)
	if err != nil {
		return refuse(400, "connection", "fetching %s: %v", at, err)
	}
	defer func() { _ = resp.Body.Close() }()
	body, err := io.ReadAll(io.LimitReader(resp.Body, 4096))
	if err != nil {
		return refuse(400, "connection", "fetching %s: %v", at, err)
	}
	if resp.StatusCode != http.StatusOK {
		return refuse(403, "unauthorized", "invalid response from %s: %d", resp.Request.URL, resp.StatusCode)
	}
	if got := strings.TrimRight(string(body), " \t\r\n"); got != want {
		return refuse(403, "unauthorized", "the file at %s holds %q, not the key authorization", resp.Request.URL,
			got[:min(len(got), 60)])
	}
	return nil
}

// oidIdentifier is the extension of a proof in TLS (RFC 8737 section 3).
var oidIdentifier = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 31}

// overTLS looks for the certificate (RFC 8737 section 3, RFC 8738 section 6).
func (a *CA) overTLS(ctx context.Context, c *challenge, want string) *problem {
	name := c.of.name.Value
	conn, err := a.dial(ctx, "tcp", net.JoinHostPort(name, strconv.Itoa(a.TLSPort)))
	if err != nil {
		return refuse(400, "connection", "connecting to %s for tls-alpn-01: %v", name, err)
	}
	defer func() { _ = conn.Close() }()
	_ = conn.SetDeadline(time.Now().Add(4 * time.Second))
	server := name
	if c.of.name.Type == "ip" {
		server, _ = dns.ReverseAddr(name)
		server = strings.TrimSuffix(server, ".")
	}
	client := tls.Client(conn, &tls.Config{ServerName: server, NextProtos: []string{"acme-tls/1"}, MinVersion: tls.VersionTLS12, InsecureSkipVerify: true})
	if err := client.HandshakeContext(ctx); err != nil {
		return refuse(400, "tls", "the handshake with %s for tls-alpn-01: %v", name, err)
	}
	state := client.ConnectionState()
	if state.NegotiatedProtocol != "acme-tls/1" {
		return refuse(403, "unauthorized", "%s does not speak acme-tls/1", name)
	}
	leaf := state.PeerCertificates[0]
	if alone := append(slices.Clone(leaf.DNSNames), textsOf(leaf.IPAddresses)...); len(alone) != 1 || !strings.EqualFold(alone[0], name) {
		return refuse(403, "unauthorized", "the certificate of %s is for %s, and has to be for it alone", name, strings.Join(alone, ", "))
	}
	sum := sha256.Sum256([]byte(want))
	value, err := asn1.Marshal(sum[:])
	if err != nil {
		return refuse(500, "serverInternal", "%v", err)
	}
	for _, e := range leaf.Extensions {
		if e.Id.Equal(oidIdentifier) && e.Critical && bytes.Equal(e.Value, value) {
			return nil
		}
	}
	return refuse(403, "unauthorized", "the certificate of %s does not hold the key authorization", name)
}

// textsOf writes addresses.
func textsOf(list []net.IP) (out []string) {
	for _, ip := range list {
		out = append(out, ip.String())
	}
	return out
}

// overDNS looks for the record (section 8.4); the resolver follows CNAMEs.
func (a *CA) overDNS(c *challenge, want string) *problem {
	sum := sha256.Sum256([]byte(want))
	value := base64.RawURLEncoding.EncodeToString(sum[:])
	name := "_acme-challenge." + c.of.name.Value
	for range 8 {
		list, err := a.ask(name, dns.TypeTXT)
		if err != nil {
			return refuse(400, "dns", "looking up TXT of %s: %v", name, err)
		}
		next := ""
		for _, rr := range list {
			switch r := rr.(type) {
			case *dns.TXT:
				if strings.Join(r.Txt, "") == value {
					return nil
				}
			case *dns.CNAME:
				next = r.Target
			}
		}
		if next == "" {
			return refuse(403, "unauthorized", "no TXT record of %s is the right one, of %d found", name, len(list))
		}
		name = next
	}
	return refuse(400, "dns", "the CNAMEs of %s go round", name)
}
