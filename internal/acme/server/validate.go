package server

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"errors"
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

	"insegna.example/internal/acme"
	"insegna.example/internal/acme/proof"
)

// doc shows a challenge.
func (z *authorization) challengeDoc(c *CA, ch *challenge) map[string]any {
	doc := map[string]any{"type": ch.Kind, "url": c.Base + "/chall/" + z.ID + "/" + ch.Kind, "token": ch.Token, "status": ch.Status}
	if ch.Error != nil {
		doc["error"] = ch.Error
	}
	if ch.Status == acme.Valid {
		doc["validated"] = ch.Validated.UTC().Format(time.RFC3339)
	}
	return doc
}

// doc shows an authorization; once it is decided, the challenge that decided it.
func (z *authorization) doc(c *CA) map[string]any {
	var list []map[string]any
	for i := range z.Challenges {
		ch := &z.Challenges[i]
		if z.Status == acme.Valid && ch.Status != acme.Valid {
			continue
		}
		list = append(list, z.challengeDoc(c, ch))
	}
	status := z.Status
	if status == acme.Pending && time.Now().After(z.Expires) {
		status = acme.Invalid
	}
	doc := map[string]any{"identifier": z.Name, "status": status, "expires": z.Expires.UTC().Format(time.RFC3339), "challenges": list}
	if z.Wildcard {
		doc["wildcard"] = true
	}
	return doc
}

// ofAuthorization shows an authorization, or gives it up (sections 7.5 and 7.5.2).
func (d *Desk) ofAuthorization(ctx context.Context, w http.ResponseWriter, c *CA, q *request, id string) error {
	z, version, err := load[authorization](ctx, c, AuthorizationKind, id)
	if errors.Is(err, ErrNotFound) || err == nil && z.Account != q.account.ID {
		return nothing(q.path)
	} else if err != nil {
		return err
	}
	if !q.empty() {
		var body struct {
			Status acme.Status `json:"status"`
		}
		if err := q.read(&body); err != nil {
			return err
		}
		if body.Status != acme.Deactivated || z.Status != acme.Pending && z.Status != acme.Valid {
			return refuse(400, "malformed", "an authorization that is pending or valid can be deactivated, nothing else")
		}
		z.Status = acme.Deactivated
		if err := c.Records.Change(ctx, version, z.object()); err != nil {
			return err
		}
	}
	d.resume(c, z, q)
	if slices.ContainsFunc(z.Challenges, func(ch challenge) bool { return ch.Status == acme.Processing }) {
		w.Header().Set("Retry-After", "1")
	}
	answer(w, 200, "application/json", z.doc(c))
	return nil
}

// resume takes up looks that a process that has died left open.
func (d *Desk) resume(c *CA, z *authorization, q *request) {
	for i := range z.Challenges {
		if ch := &z.Challenges[i]; z.Status == acme.Pending && ch.Status == acme.Processing && time.Since(ch.Since) > lookTime+unfinished {
			d.look(c, z.ID, ch.Kind, q)
		}
	}
}

// accept shows a challenge, or begins to look at it (section 7.5.1).
func (d *Desk) accept(ctx context.Context, w http.ResponseWriter, c *CA, q *request, id, kind string) error {
	z, version, err := load[authorization](ctx, c, AuthorizationKind, id)
	if errors.Is(err, ErrNotFound) || err == nil && z.Account != q.account.ID {
		return nothing(q.path)
	} else if err != nil {
		return err
	}
	i := slices.IndexFunc(z.Challenges, func(ch challenge) bool { return ch.Kind == kind })
	if i < 0 {
		return nothing(q.path)
	}
	ch := &z.Challenges[i]
	w.Header().Add("Link", "<"+c.Base+"/authz/"+z.ID+">;rel=\"up\"")
	if !q.empty() && z.Status == acme.Pending && ch.Status == acme.Pending && time.Now().Before(z.Expires) {
		var body map[string]any
		if err := q.read(&body); err != nil {
			return err
		}
		ch.Status, ch.Since = acme.Processing, time.Now().UTC()
		if err := c.Records.Change(ctx, version, z.object()); err != nil {
			return err
		}
		d.look(c, z.ID, kind, q)
	}
	d.resume(c, z, q)
	if ch.Status == acme.Processing {
		w.Header().Set("Retry-After", "1")
	}
	answer(w, 200, "application/json", z.challengeDoc(c, ch))
	return nil
}

// Bounds of looking.
const (
	lookTime  = 30 * time.Second // for one challenge, with all tries
	tryTime   = 8 * time.Second  // for one try
	mostTries = 3
	mostHops  = 5
	mostRead  = 4096 // bytes of a file
)

// pauses are the times between tries: what a client has just put up may take a moment.
var pauses = []time.Duration{2 * time.Second, 5 * time.Second}

// look looks at a proof in a place of its own, and settles it. One that finds no place
// stays processing, and is taken up when it is asked for again.
func (d *Desk) look(c *CA, id, kind string, q *request) {
	print, err := thumbprint(&q.account.Key)
	if err != nil {
		return
	}
	d.mu.Lock()
	if d.busy[id+kind] {
		d.mu.Unlock()
		return
	}
	select {
	case d.looking <- struct{}{}:
	default:
		d.mu.Unlock()
		return
	}
	d.busy[id+kind] = true
	d.mu.Unlock()
	go func() {
		defer func() {
			d.mu.Lock()
			delete(d.busy, id+kind)
			d.mu.Unlock()
			<-d.looking
		}()
		ctx, cancel := context.WithTimeout(context.Background(), lookTime)
		defer cancel()
		if err := d.settle(ctx, c, id, kind, print); err != nil {
			d.Log.Warn("a proof could not be looked at; it is taken up again", "ca", c.Name, "error", err)
		}
	}()
}

// settle looks at a proof and keeps what came of it.
func (d *Desk) settle(ctx context.Context, c *CA, id, kind, print string) error {
	z, _, err := load[authorization](ctx, c, AuthorizationKind, id)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(z.Challenges, func(ch challenge) bool { return ch.Kind == kind })
	if i < 0 || z.Status != acme.Pending {
		return nil
	}
	want := z.Challenges[i].Token + "." + print
	var p *problem
	for try := range mostTries {
		if p = c.proves(ctx, z, kind, z.Challenges[i].Token, want); p == nil || try == mostTries-1 {
			break
		}
		select {
		case <-time.After(pauses[try]):
			continue
		case <-ctx.Done():
		}
		break
	}
	keep, cancel := context.WithTimeout(context.WithoutCancel(ctx), tryTime)
	defer cancel()
	for range mostTries { // over whatever else was changed meanwhile
		var version int
		if z, version, err = load[authorization](keep, c, AuthorizationKind, id); err != nil {
			return err
		}
		if z.Status != acme.Pending {
			return nil
		}
		ch := &z.Challenges[i]
		if p == nil {
			ch.Status, z.Status, ch.Validated = acme.Valid, acme.Valid, time.Now().UTC()
		} else {
			ch.Status, z.Status, ch.Error = acme.Invalid, acme.Invalid, &p.Problem
		}
		if err = c.Records.Change(keep, version, z.object()); !errors.Is(err, ErrChanged) {
			return err
		}
	}
	return err
}

// proves looks once.
func (c *CA) proves(ctx context.Context, z *authorization, kind, token, want string) *problem {
	ctx, cancel := context.WithTimeout(ctx, tryTime)
	defer cancel()
	switch kind {
	case acme.HTTP01:
		return c.overHTTP(ctx, z.Name.Value, token, want)
	case acme.TLSALPN01:
		return c.overTLS(ctx, z.Name.Value, want)
	}
	return c.overDNS(ctx, z.Name.Value, want)
}

// ask puts one question to the resolver.
func (c *CA) ask(ctx context.Context, name string, kind uint16) ([]dns.RR, error) {
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), kind)
	var last error
	for _, network := range []string{"udp", "tcp"} {
		r, _, err := (&dns.Client{Net: network, Timeout: tryTime / 2}).ExchangeContext(ctx, m, c.Resolver)
		if last = err; err != nil || r.Truncated {
			continue
		}
		if r.Rcode != dns.RcodeSuccess && r.Rcode != dns.RcodeNameError {
			return nil, fmt.Errorf("the name server answers %s", dns.RcodeToString[r.Rcode])
		}
		return r.Answer, nil
	}
	if last == nil {
		last = errors.New("the answer is cut off")
	}
	return nil, last
}

// dial connects to where a name leads, by the CA's own resolver: IPv6 first, then IPv4
// where nothing takes the connection.
func (c *CA) dial(ctx context.Context, network, at string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return nil, err
	}
	var list []string
	if _, err := netip.ParseAddr(host); err == nil {
		list = []string{host}
	} else {
		for _, kind := range []uint16{dns.TypeAAAA, dns.TypeA} {
			found, err := c.ask(ctx, host, kind)
			if err != nil {
				return nil, fmt.Errorf("looking up %s: %w", host, err)
			}
			first := true
			for _, rr := range found {
				switch r := rr.(type) {
				case *dns.A:
					if first {
						list, first = append(list, r.A.String()), false
					}
				case *dns.AAAA:
					if first {
						list, first = append(list, r.AAAA.String()), false
					}
				}
			}
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%s has neither A nor AAAA record", host)
	}
	var last error
	for _, address := range list {
		conn, err := (&net.Dialer{Timeout: tryTime / 2}).DialContext(ctx, network, net.JoinHostPort(address, port))
		if err == nil {
			return conn, nil
		}
		last = fmt.Errorf("%s: %w", address, err)
	}
	return nil, last
}

// overHTTP fetches the file (section 8.3). Redirects are followed to http and https at
// the usual ports.
func (c *CA) overHTTP(ctx context.Context, name, token, want string) *problem {
	client := &http.Client{
		Transport: &http.Transport{DialContext: c.dial, DisableKeepAlives: true, ResponseHeaderTimeout: tryTime,
			TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}, // names are about to be proved
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > mostHops {
				return fmt.Errorf("more than %d redirects", mostHops)
			}
			if p := r.URL.Port(); p != "" && p != "443" && p != "80" && p != strconv.Itoa(int(c.HTTPPort)) {
				return fmt.Errorf("redirected to port %s", p)
			}
			return nil
		}}
	host := proof.HostOf(name)
	at := &url.URL{Scheme: "http", Host: host, Path: proof.WellKnown + token}
	if c.HTTPPort != 80 {
		at.Host += ":" + strconv.Itoa(int(c.HTTPPort))
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return refuse(400, "malformed", "%v", err)
	}
	r.Host = host
	r.Header.Set("User-Agent", "insegna")
	resp, err := client.Do(r)
	if err != nil {
		return refuse(400, "connection", "fetching %s: %v", at, errors.Unwrap(err))
	}
	defer func() { _ = resp.Body.Close() }()
	body, err := io.ReadAll(io.LimitReader(resp.Body, mostRead))
	switch got := strings.TrimRight(string(body), " \t\r\n"); {
	case err != nil:
		return refuse(400, "connection", "fetching %s: %v", at, err)
	case resp.StatusCode != http.StatusOK:
		return refuse(403, "unauthorized", "%s answers with status %d", resp.Request.URL, resp.StatusCode)
	case got != want && resp.Request.URL.Hostname() != strings.Trim(host, "[]"): // of a host that was not asked about nothing is told
		return refuse(403, "unauthorized", "the file at %s, where it is redirected to, does not hold the key authorization", resp.Request.URL)
	case got != want:
		return refuse(403, "unauthorized", "the file at %s holds %.80q, not the key authorization", resp.Request.URL, got)
	}
	return nil
}

// overTLS looks for the certificate that shows it (RFC 8737 section 3).
func (c *CA) overTLS(ctx context.Context, name, want string) *problem {
	conn, err := c.dial(ctx, "tcp", net.JoinHostPort(name, strconv.Itoa(int(c.TLSPort))))
	if err != nil {
		return refuse(400, "connection", "connecting to %s: %v", name, err)
	}
	defer func() { _ = conn.Close() }()
	_ = conn.SetDeadline(time.Now().Add(tryTime))
	t := tls.Client(conn, &tls.Config{ServerName: proof.ServerName(name), NextProtos: []string{proof.ALPN}, MinVersion: tls.VersionTLS12, InsecureSkipVerify: true})
	if err := t.HandshakeContext(ctx); err != nil {
		return refuse(400, "tls", "the handshake with %s: %v", name, err)
	}
	state := t.ConnectionState()
	if why := proof.ALPNAstray(&state, name, want); why != "" {
		return refuse(403, "unauthorized", "%s: %s", name, why)
	}
	return nil
}

// overDNS looks for the record (section 8.4); CNAMEs the resolver has not followed are.
func (c *CA) overDNS(ctx context.Context, name, want string) *problem {
	sum := sha256.Sum256([]byte(want))
	value := base64.RawURLEncoding.EncodeToString(sum[:])
	at := proof.Label + name
	const longest = 8 // chain of CNAMEs
	for range longest {
		list, err := c.ask(ctx, at, dns.TypeTXT)
		if err != nil {
			return refuse(400, "dns", "looking up TXT of %s: %v", at, err)
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
		if next == "" || slices.ContainsFunc(list, func(rr dns.RR) bool { return rr.Header().Rrtype == dns.TypeTXT }) {
			return refuse(403, "unauthorized", "no TXT record of %s is the right one, of %d found", at, len(list))
		}
		at = next
	}
	return refuse(400, "dns", "the CNAMEs of %s go on and on", name)
}
