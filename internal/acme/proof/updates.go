package proof

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/miekg/dns"
)

// Updates puts proofs up as TXT records by dynamic update.
type Updates struct {
	Primary   string        // address and port; the zone's other name servers are asked at the same port
	KeyName   string        // of the TSIG key, as the name server knows it
	Algorithm string        // such as hmac-sha256
	Secret    []byte        // decoded
	Servers   []string      // to wait for, address and port; those the zone names when empty
	Fixed     bool          // Servers are to be waited for in whatever zone a record lies
	Resolver  string        // address and port; finds the primary of a zone a CNAME leads to; "" for none
	Patience  time.Duration // until every name server must answer; 2 minutes when 0
}

const (
	recordLife = 60 // seconds, TTL
	// askTime bounds one question to one name server.
	askTime = 5 * time.Second
	// usualWait is how long all name servers of a zone may take to follow the
	// primary, unless the mandate says otherwise.
	usualWait = 2 * time.Minute
	// longestAlias bounds how many CNAMEs are followed from a name, as resolvers
	// do.
	longestAlias = 8
)

// LagError says that a name server does not show a record yet.
type LagError struct {
	Server, Name, Zone string        // the name server that lags, the record, its zone
	Serial, Ahead      uint32        // of the zone there, and at the primary
	Err                error         // it did not answer at all
	Waited             time.Duration // until it was given up
}

// Error gives both serials, which show whether the server is late or cut off.
func (e *LagError) Error() string {
	if e.Err != nil {
		return fmt.Sprintf("the name server %s of %s does not answer: %v", e.Server, e.Zone, e.Err)
	}
	return fmt.Sprintf("the name server %s does not show the TXT record of %s after %s: it has %s at serial %d, the "+
		"primary is at %d", e.Server, e.Name, e.Waited.Round(time.Second), e.Zone, e.Serial, e.Ahead)
}

// RefusedError says that the primary refused an update.
type RefusedError struct{ Server, Zone, Reason string }

// Error has the name server's own reason, as far as DNS can carry one.
func (e *RefusedError) Error() string {
	return fmt.Sprintf("the name server %s refuses to change %s: %s", e.Server, e.Zone, e.Reason)
}

// ask puts one question to one server, over UDP and, when that is lost or cut
// short, over TCP (RFC 7766). A name that does not exist is an answer.
func ask(ctx context.Context, server, name string, kind uint16) (*dns.Msg, error) {
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), kind)
	m.RecursionDesired = false
	var last error
	for _, network := range []string{"udp", "tcp"} {
		r, _, err := (&dns.Client{Net: network, Timeout: askTime}).ExchangeContext(ctx, m, server)
		if last = err; err != nil || r.Truncated {
			continue
		}
		if r.Rcode != dns.RcodeSuccess && r.Rcode != dns.RcodeNameError {
			return nil, fmt.Errorf("it answers %s for %s", dns.RcodeToString[r.Rcode], name)
		}
		return r, nil
	}
	if last == nil {
		last = errors.New("the answer is cut off")
	}
	return nil, last
}

// target is where a name's proof really goes: at the end of its CNAMEs, in which
// zone, and who takes changes of that.
type target struct{ name, zone, primary string }

// record finds where a name's proof goes. A CNAME may lead to a zone of another
// primary: it is found through the resolver, and the same key is used there.
func (u *Updates) record(ctx context.Context, host string) (target, error) {
	t := target{name: dns.Fqdn(Label + host), primary: u.Primary}
	for range longestAlias {
		r, err := ask(ctx, t.primary, t.name, dns.TypeTXT)
		if err == nil {
			if next := alias(r, t.name); next != "" {
				t.name = next
				continue
			}
			for _, rr := range append(r.Ns, r.Answer...) {
				if soa, ok := rr.(*dns.SOA); ok && r.Authoritative {
					t.zone = soa.Hdr.Name
					return t, nil
				}
			}
			cut := delegation(r, t.name)
			if t.zone, err = u.zone(ctx, t); err == nil && cut == "" {
				return t, nil
			}
			if cut != "" { // the name lies in a zone below, of other name servers
				elsewhere := u.primaryOf(ctx, t.name)
				if elsewhere == "" || elsewhere == t.primary {
					elsewhere = u.delegate(ctx, t.primary, cut, r)
				}
				if elsewhere == "" || elsewhere == t.primary {
					return t, &PublishError{"follow the delegation of " + t.name + " to " + cut, t.primary,
						errors.New("no address of that name server is found")}
				}
				t.primary = elsewhere
				continue
			}
		} else {
			err = &PublishError{"look for the zone of " + t.name, t.primary, err}
		}
		elsewhere := u.primaryOf(ctx, t.name)
		if elsewhere == "" || elsewhere == t.primary {
			return t, err
		}
		t.primary = elsewhere
	}
	return t, &PublishError{"follow the CNAMEs of " + Label + host, u.Primary, errors.New("there are too many")}
}

// delegation is the name server an answer sends on to, when the name lies below a
// zone cut (RFC 1034 section 4.3.2); "" when it does not.
func delegation(r *dns.Msg, name string) string {
	if r.Authoritative || len(r.Answer) > 0 {
		return ""
	}
	for _, rr := range r.Ns {
		if ns, ok := rr.(*dns.NS); ok && dns.IsSubDomain(ns.Hdr.Name, name) {
			return ns.Ns
		}
	}
	return ""
}

// delegate is where the name server of a delegation can be asked; "" when it cannot be told.
func (u *Updates) delegate(ctx context.Context, primary, host string, r *dns.Msg) string {
	_, port, err := net.SplitHostPort(primary)
	list, found := u.addresses(ctx, primary, host, r.Extra)
	if err != nil || found != nil || len(list) == 0 {
		return ""
	}
	return net.JoinHostPort(list[0], port)
}

// primaryOf asks the resolver for the primary of the zone a name lies in (RFC
// 1035 section 3.3.13, MNAME), at the port of the mandate's own; "" when it cannot
// be told.
func (u *Updates) primaryOf(ctx context.Context, name string) string {
	_, port, err := net.SplitHostPort(u.Primary)
	if err != nil || u.Resolver == "" {
		return ""
	}
	for at := name; at != ""; _, at, _ = strings.Cut(at, ".") {
		r, err := u.resolve(ctx, at, dns.TypeSOA)
		if err != nil {
			return ""
		}
		for _, rr := range append(r.Answer, r.Ns...) {
			soa, ok := rr.(*dns.SOA)
			if !ok || soa.Hdr.Name == "." {
				continue
			}
			for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
				found, err := u.resolve(ctx, soa.Ns, kind)
				if err != nil {
					continue
				}
				for _, rr := range found.Answer {
					switch a := rr.(type) {
					case *dns.A:
						return net.JoinHostPort(a.A.String(), port)
					case *dns.AAAA:
						return net.JoinHostPort(a.AAAA.String(), port)
					}
				}
			}
			return ""
		}
	}
	return ""
}

// resolve asks the resolver, as any client does.
func (u *Updates) resolve(ctx context.Context, name string, kind uint16) (*dns.Msg, error) {
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), kind)
	r, _, err := (&dns.Client{Net: "udp", Timeout: askTime}).ExchangeContext(ctx, m, u.Resolver)
	return r, err
}

// alias follows the CNAMEs of one answer; "" when the name is none.
func alias(r *dns.Msg, name string) (next string) {
	for _, rr := range r.Answer {
		if c, ok := rr.(*dns.CNAME); ok && strings.EqualFold(c.Hdr.Name, name) {
			name, next = c.Target, c.Target
		}
	}
	return next
}

// zone finds the zone a name lies in by asking for SOA records from the name
// upwards. Only an authoritative answer counts.
func (u *Updates) zone(ctx context.Context, t target) (string, error) {
	for at := t.name; at != ""; _, at, _ = strings.Cut(at, ".") {
		r, err := ask(ctx, t.primary, at, dns.TypeSOA)
		if err != nil {
			return "", &PublishError{"look for the zone of " + t.name, t.primary, err}
		}
		for _, rr := range append(r.Answer, r.Ns...) {
			if soa, ok := rr.(*dns.SOA); ok && r.Authoritative {
				return soa.Hdr.Name, nil
			}
		}
	}
	return "", &PublishError{"change " + t.name, t.primary, errors.New("it serves no zone that holds this name")}
}

// change sends one update for each zone (RFC 2136), so that the records of an
// order appear together.
func (u *Updates) change(ctx context.Context, list []Publication, what string, do func(*dns.Msg, dns.RR)) error {
	type place struct{ zone, primary string }
	zones := map[place]*dns.Msg{}
	for _, p := range list {
		t, err := u.record(ctx, p.Name)
		if err != nil {
			return err
		}
		at := place{t.zone, t.primary}
		m := zones[at]
		if m == nil {
			m = new(dns.Msg).SetUpdate(t.zone)
			zones[at] = m
		}
		do(m, &dns.TXT{Hdr: dns.RR_Header{Name: t.name, Rrtype: dns.TypeTXT, Class: dns.ClassINET, Ttl: recordLife},
			Txt: []string{p.Content}})
	}
	key := dns.CanonicalName(u.KeyName)
	client := &dns.Client{Net: "tcp", Timeout: askTime,
		TsigSecret: map[string]string{key: base64.StdEncoding.EncodeToString(u.Secret)}}
	for at, m := range zones {
		m.SetTsig(key, dns.Fqdn(u.Algorithm), 300, time.Now().Unix())
		r, _, err := client.ExchangeContext(ctx, m, at.primary)
		switch {
		case r != nil && r.Rcode != dns.RcodeSuccess:
			return &RefusedError{at.primary, at.zone, refusal(r)}
		case err != nil:
			return &PublishError{what, at.primary, err}
		}
	}
	return nil
}

// refusal puts the codes of RFC 2136 and RFC 8945 into words that say what is
// to be corrected.
func refusal(r *dns.Msg) string {
	if t := r.IsTsig(); t != nil && t.Error != 0 {
		switch t.Error {
		case dns.RcodeBadSig:
			return "the key's secret is another one there (BADSIG)"
		case dns.RcodeBadKey:
			return "it knows no key of that name (BADKEY)"
		case dns.RcodeBadTime:
			return "its clock and ours differ too much (BADTIME)"
		}
	}
	switch r.Rcode {
	case dns.RcodeRefused:
		return "the key may not change this name (REFUSED)"
	case dns.RcodeNotAuth:
		return "it does not accept the key, or is not the primary of the zone (NOTAUTH)"
	}
	return dns.RcodeToString[r.Rcode]
}

// Publish implements Prover. Other records of the same name stay.
func (u *Updates) Publish(ctx context.Context, list []Publication) error {
	return u.change(ctx, list, "put the record up", func(m *dns.Msg, rr dns.RR) { m.Insert([]dns.RR{rr}) })
}

// Withdraw implements Prover.
func (u *Updates) Withdraw(ctx context.Context, list []Publication) error {
	return u.change(ctx, list, "take the record down", func(m *dns.Msg, rr dns.RR) { m.Remove([]dns.RR{rr}) })
}

// Await implements Prover: every authoritative name server shows every record.
func (u *Updates) Await(ctx context.Context, list []Publication) error {
	wait := u.Patience
	if wait == 0 {
		wait = usualWait
	}
	began := time.Now()
	for _, p := range list {
		t, err := u.record(ctx, p.Name)
		if err != nil {
			return err
		}
		servers, err := u.servers(ctx, t)
		if err != nil {
			return err
		}
		for _, s := range servers {
			if err := u.shows(ctx, s, t, p.Content, began, wait); err != nil {
				return err
			}
		}
	}
	return nil
}

// servers gives the address of each name server of a zone, the primary among
// them.
func (u *Updates) servers(ctx context.Context, t target) ([]string, error) {
	if len(u.Servers) > 0 && (u.Fixed || t.primary == u.Primary) {
		return u.Servers, nil
	}
	r, err := ask(ctx, t.primary, t.zone, dns.TypeNS)
	if err != nil {
		return nil, &PublishError{"ask for the name servers of " + t.zone, t.primary, err}
	}
	_, port, err := net.SplitHostPort(t.primary)
	if err != nil {
		return nil, err
	}
	list := []string{t.primary}
	for _, rr := range r.Answer {
		ns, ok := rr.(*dns.NS)
		if !ok {
			continue
		}
		addresses, err := u.addresses(ctx, t.primary, ns.Ns, r.Extra)
		if err != nil || len(addresses) == 0 {
			return nil, &LagError{Server: ns.Ns, Zone: t.zone, Err: fmt.Errorf("no address of it is found")}
		}
		for _, a := range addresses {
			if at := net.JoinHostPort(a, port); !slices.Contains(list, at) {
				list = append(list, at)
			}
		}
	}
	return list, nil
}

// addresses finds where a name server can be asked: the glue that came along,
// or else its address records.
func (u *Updates) addresses(ctx context.Context, primary, host string, glue []dns.RR) (out []string, err error) {
	take := func(list []dns.RR) {
		for _, rr := range list {
			if !strings.EqualFold(rr.Header().Name, host) {
				continue
			}
			switch a := rr.(type) {
			case *dns.A:
				out = append(out, a.A.String())
			case *dns.AAAA:
				out = append(out, a.AAAA.String())
			}
		}
	}
	if take(glue); len(out) > 0 {
		return out, nil
	}
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		if r, err := ask(ctx, primary, host, kind); err == nil {
			take(r.Answer)
		}
	}
	if len(out) > 0 {
		return out, nil
	}
	return net.DefaultResolver.LookupHost(ctx, strings.TrimSuffix(host, "."))
}

// shows waits until a name server answers with a record.
func (u *Updates) shows(ctx context.Context, server string, t target, content string, began time.Time,
	wait time.Duration) error {
	for {
		r, err := ask(ctx, server, t.name, dns.TypeTXT)
		if err == nil && slices.ContainsFunc(r.Answer, func(rr dns.RR) bool { return shown(rr, content) }) {
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if time.Since(began) > wait {
			lag := &LagError{Server: server, Name: t.name, Zone: t.zone, Err: err, Waited: time.Since(began)}
			lag.Serial, lag.Ahead = serial(ctx, server, t.zone), serial(ctx, t.primary, t.zone)
			return lag
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// serial is a zone's serial at a server, to tell a late one from one cut off; 0
// when it does not answer.
func serial(ctx context.Context, server, zone string) uint32 {
	if r, err := ask(ctx, server, zone, dns.TypeSOA); err == nil {
		for _, rr := range r.Answer {
			if soa, ok := rr.(*dns.SOA); ok {
				return soa.Serial
			}
		}
	}
	return 0
}
