package ca

import (
	"context"
	"crypto"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/http"
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
	p := a.checkCAA(c.of, c.kind, account)
	if p == nil && c.kind == "http-01" {
		p = a.overHTTP(ctx, c, authorization)
	} else if p == nil {
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
		r, _, err := (&dns.Client{Net: network, Timeout: 3 * time.Second}).Exchange(m, a.Resolver)
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
		req.Host = c.of.name.Value
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
