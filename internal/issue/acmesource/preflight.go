package acmesource

import (
	"cmp"
	"context"
	"crypto/tls"
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
	"syscall"
	"time"

	"github.com/miekg/dns"

	"insegna.example/internal/acme"
	"insegna.example/internal/acme/proof"
	"insegna.example/internal/core/names"
	"insegna.example/internal/issue"
)

// Trial is one thing a pre-flight tried, as the CA will.
type Trial struct {
	CA     string // it is for, where the mandate has several; "" else
	Name   string // the host
	Step   string // "address", "CAA", "port", "file", "tls", "record", "profile", "source" or "key"
	Code   string // of what is wrong; "" when it is well
	Seen   string // what was found
	Spot   string // file:line, record, or address and port
	Remedy string // what to do; "" when all is well
}

// Well says that nothing stands in the way.
func (t *Trial) Well() bool { return t.Code == "" }

// Codes of what a pre-flight finds.
const (
	NoAddress      = "no-address"
	WrongAddress   = "wrong-address"
	PortClosed     = "port-closed"
	IPv6Astray     = "ipv6-astray"
	PathPassed     = "path-passed-on"
	PathRedirected = "path-redirected"
	PathDenied     = "path-denied"
	PathAstray     = "path-astray" // something else is served there
	TLSAstray      = "tls-astray"  // TLS with acme-tls/1 leads elsewhere
	NotConforming  = "not-conforming"
	NoProfile      = "no-profile"
	OneNodeOnly    = "one-node-only"
	NotWritable    = "not-writable"
	NameserverLags = "name-server-lags"
	UpdateRefused  = "update-refused"
	CAAForbids     = "caa-forbids"
	DNSFails       = "dns-fails"
)

// Explained is why a server does not give out a file, from its configuration.
type Explained struct{ Code, Seen, Spot, Remedy string }

// Preflight tries what the CA will try, from where it stands.
type Preflight struct {
	Names      []string     // of the mandate
	Kind       string       // of challenge
	Resolver   string       // address and port
	HTTPPort   uint16       // where the CA looks for files
	TLSPort    uint16       // where it looks for proofs in TLS
	Identities []string     // of the CA in CAA records; none where it names none, as one of a network's own does
	Profile    string       // asked for; "" for the CA's usual
	Offers     []string     // profiles of the CA
	AccountURL string       // for CAA records that name an account; "" before there is one
	Prover     proof.Prover // puts a trial proof up and takes it down
	// Probe keeps what is about to be put up, and gives what forgets it again.
	Probe func(ctx context.Context, list []proof.Publication) (forget func(), err error)
	// ServerAt names the server of the estate at an address, "" for none, and
	// whether the proof is put up there.
	ServerAt func(netip.Addr) (name string, proves bool)
	// Explain looks into a server's configuration; nil when that is not known.
	Explain func(server, host string, at netip.AddrPort) *Explained
	Token   func() string // 256 random bits, base64url
}

const (
	// tryTime bounds one question of the pre-flight.
	tryTime = 5 * time.Second
	tries   = 4 // requests to one address, to meet more than one node behind it
	// mostHops is how many redirects are followed, as CAs do.
	mostHops = 10
	// bodyTaken is how much of a file is read in bytes; a key authorization is far
	// shorter.
	bodyTaken = 4096
)

// Run gives every trial, in the order of the names.
func (p *Preflight) Run(ctx context.Context) ([]Trial, error) {
	var out []Trial
	var list []proof.Publication
	if p.Profile != "" {
		out = append(out, p.profile())
	}
	for _, name := range p.Names {
		host, wildcard := strings.CutPrefix(name, "*.")
		if names.FormOf(name) != names.Address { // CAA is of the DNS (RFC 8738)
			out = append(out, p.caa(ctx, host, name, wildcard))
		}
		pub := proof.Publication{Kind: p.Kind, Name: host, Content: p.Token()}
		switch p.Kind {
		case acme.HTTP01:
			pub.Token = p.Token()
		case acme.TLSALPN01:
			pub.Content += "." + p.Token()
		}
		list = append(list, pub)
	}
	forget, err := p.Probe(ctx, list)
	if err != nil {
		return nil, err
	}
	defer forget()
	if err := p.Prover.Publish(ctx, list); err != nil {
		return append(out, notPublished(list[0].Name, err)), ctx.Err()
	}
	for _, pub := range list {
		if p.Kind == acme.DNS01 {
			out = append(out, p.record(ctx, pub))
			continue
		}
		out = append(out, p.everywhere(ctx, pub)...)
	}
	if h, ok := p.Prover.(*proof.Handed); ok && !slices.ContainsFunc(out, func(t Trial) bool { return t.Step == "record" && !t.Well() }) {
		out = append(out, p.conforms(ctx, h, list[0])...)
	}
	return out, ctx.Err()
}

// profile holds what is asked for against what the CA offers.
func (p *Preflight) profile() Trial {
	t := Trial{Name: p.Names[0], Step: "profile", Seen: "the CA offers the profile " + p.Profile}
	if !slices.Contains(p.Offers, p.Profile) {
		t.Code, t.Seen = NoProfile, fmt.Sprintf("the CA does not offer the profile %s; it offers %s", p.Profile,
			cmp.Or(strings.Join(p.Offers, ", "), "none"))
		t.Remedy = "name one of these in the mandate, or none"
	}
	return t
}

// conforms tries everything an order may need of a means of somebody else's.
func (p *Preflight) conforms(ctx context.Context, h *proof.Handed, pub proof.Publication) (out []Trial) {
	for _, held := range h.Conform(ctx, pub.Name, p.Token(), p.Token()) {
		t := Trial{Name: pub.Name, Step: "record", Spot: pub.Place(), Seen: "what puts records up " + held.What}
		if held.Wrong != "" {
			t.Code, t.Seen = NotConforming, "what puts records up does not do this: it "+held.What+"; "+held.Wrong
			t.Remedy = "mend it: docs/certificates.md says what it is asked and what it has to do"
		}
		out = append(out, t)
	}
	return out
}

// notPublished tells why a proof could not be put up, with the remedy for that
// case: no right to write, an update refused, a server that cannot be reached.
func notPublished(host string, err error) Trial {
	t := Trial{Name: host, Step: "file", Code: NotWritable, Seen: err.Error(),
		Remedy: "give the service's user the right to write there, or name another folder in the mandate"}
	var refused *proof.RefusedError
	var put *proof.PublishError
	var own *issue.Failure
	switch {
	case errors.As(err, &refused):
		t.Step, t.Code, t.Spot, t.Remedy = "record", UpdateRefused, refused.Server+" zone "+refused.Zone,
			"correct the key in the mandate and the safe, or its rights at the name server"
	case errors.As(err, &own):
		t.Seen, t.Remedy = own.Words, own.Advice
		if own.Kind != issue.NotPublished {
			t.Code = own.Kind
		}
	case errors.As(err, &put):
		t.Spot = put.Where
	}
	var placed PlacedError
	if errors.As(err, &placed) {
		t.Seen, t.Spot = placed.Place()
	}
	return t
}

// PlacedError is an error about a place in a configuration. Its text names the
// place; Place gives the words without it, and the place, for where the two are
// shown apart.
type PlacedError interface {
	error
	Place() (words, at string)
}

// record waits for a trial record at every authoritative name server, as the CA
// would ask them.
func (p *Preflight) record(ctx context.Context, pub proof.Publication) Trial {
	t := Trial{Name: pub.Name, Step: "record", Spot: pub.Place()}
	err := p.Prover.Await(ctx, []proof.Publication{pub})
	var lag *proof.LagError
	switch {
	case err == nil:
		t.Seen = "every authoritative name server shows a record put up for a moment"
	case errors.As(err, &lag):
		t.Code, t.Seen, t.Spot = NameserverLags, lag.Error(), lag.Server+" zone "+lag.Zone
		t.Remedy = "see why it does not follow the primary: notify, transfer, or the server itself"
	default:
		t.Code, t.Seen, t.Remedy = DNSFails, err.Error(), "see that the name server answers"
	}
	return t
}

// question asks the resolver the CA's side would ask.
func (p *Preflight) question(ctx context.Context, name string, kind uint16) ([]dns.RR, error) {
	m := new(dns.Msg).SetQuestion(dns.Fqdn(name), kind)
	var last error
	for _, network := range []string{"udp", "tcp"} {
		r, _, err := (&dns.Client{Net: network, Timeout: tryTime}).ExchangeContext(ctx, m, p.Resolver)
		if last = err; err != nil || r.Truncated {
			continue
		}
		if r.Rcode != dns.RcodeSuccess && r.Rcode != dns.RcodeNameError {
			return nil, fmt.Errorf("the name server %s answers %s", p.Resolver, dns.RcodeToString[r.Rcode])
		}
		return r.Answer, nil
	}
	if last == nil {
		last = errors.New("the answer is cut off")
	}
	return nil, last
}

// caa climbs from the name to the root (RFC 8659 section 3) and reads the
// first records it meets, with accounts and methods (RFC 8657).
func (p *Preflight) caa(ctx context.Context, host, shown string, wildcard bool) Trial {
	t := Trial{Name: shown, Step: "CAA"}
	for at := host; at != ""; _, at, _ = strings.Cut(at, ".") {
		list, err := p.question(ctx, at, dns.TypeCAA)
		if err != nil {
			t.Code, t.Seen, t.Spot = DNSFails, fmt.Sprintf("the CAA records of %s cannot be had: %v", at, err), at+" CAA"
			t.Remedy = "mend the name server: a CA that cannot ask does not issue"
			return t
		}
		var records []*dns.CAA
		for _, rr := range list {
			if r, ok := rr.(*dns.CAA); ok {
				records = append(records, r)
			}
		}
		if len(records) == 0 {
			continue
		}
		t.Spot = at + " CAA"
		return p.judgeCAA(t, at, records, wildcard)
	}
	t.Seen = "no CAA record; every CA may issue"
	return t
}

// judgeCAA judges the CAA records that apply to a name (RFC 8659 sections 3 and
// 4): for wildcards issuewild counts before issue, and an unknown critical
// property forbids everything.
func (p *Preflight) judgeCAA(t Trial, at string, records []*dns.CAA, wildcard bool) Trial {
	if len(p.Identities) == 0 {
		t.Seen = at + " has CAA records; the CA names nothing it goes by in them (caaIdentities), and does not look at them"
		return t
	}
	tag := "issue"
	for _, r := range records {
		known := slices.Contains([]string{"issue", "issuewild", "iodef", "issuemail", "contactemail", "contactphone"},
			strings.ToLower(r.Tag))
		if r.Flag&128 != 0 && !known {
			t.Code, t.Seen = CAAForbids, fmt.Sprintf("%s has the critical property %q, which CAs do not know", at, r.Tag)
			t.Remedy = "take that record away"
			return t
		}
		if wildcard && strings.EqualFold(r.Tag, "issuewild") {
			tag = "issuewild"
		}
	}
	asked, says := 0, ""
	for _, r := range records {
		if !strings.EqualFold(r.Tag, tag) {
			continue
		}
		asked++
		says += fmt.Sprintf("%s %q ", tag, r.Value)
		if why := p.permits(r.Value); why == "" {
			t.Seen = fmt.Sprintf("%s permits it: %s %q", at, tag, r.Value)
			return t
		} else if why != otherCA {
			says += "(" + why + ") "
		}
	}
	if asked == 0 {
		t.Seen = at + " has CAA records, none of which restricts this"
		return t
	}
	ca := "the CA"
	if len(p.Identities) > 0 {
		ca = p.Identities[0]
	}
	t.Code, t.Seen = CAAForbids, fmt.Sprintf("%s permits others only: %s", at, strings.TrimSpace(says))
	t.Remedy = fmt.Sprintf("add to %s: CAA 0 %s %q, or take a CA that is permitted", at, tag, ca)
	return t
}

// otherCA stands for a CA whose CAA names are not known.
const otherCA = "another CA"

// permits says why a CAA value does not allow the order; "" when it does.
func (p *Preflight) permits(value string) string {
	parts := strings.Split(value, ";")
	if !slices.ContainsFunc(p.Identities, func(id string) bool {
		return strings.EqualFold(id, strings.TrimSpace(parts[0]))
	}) {
		return otherCA
	}
	for _, part := range parts[1:] {
		k, v, _ := strings.Cut(strings.TrimSpace(part), "=")
		switch strings.ToLower(strings.TrimSpace(k)) {
		case "accounturi":
			if strings.TrimSpace(v) != p.AccountURL {
				return "for another account"
			}
		case "validationmethods":
			if !slices.Contains(strings.Split(strings.ReplaceAll(v, " ", ""), ","), p.Kind) {
				return "not for " + p.Kind
			}
		}
	}
	return ""
}

// everywhere looks for a file, or for a proof in TLS, at every address of a host.
func (p *Preflight) everywhere(ctx context.Context, pub proof.Publication) []Trial {
	if a, err := netip.ParseAddr(pub.Name); err == nil {
		return []Trial{p.look(ctx, pub, a)}
	}
	var addresses []netip.Addr
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		list, err := p.question(ctx, pub.Name, kind)
		if err != nil {
			return []Trial{{Name: pub.Name, Step: "address", Code: DNSFails, Seen: err.Error(),
				Spot: pub.Name + " " + dns.TypeToString[kind], Remedy: "see that the name server answers"}}
		}
		for _, rr := range list {
			switch r := rr.(type) {
			case *dns.A:
				a, _ := netip.AddrFromSlice(r.A.To4())
				addresses = append(addresses, a)
			case *dns.AAAA:
				a, _ := netip.AddrFromSlice(r.AAAA.To16())
				addresses = append(addresses, a)
			}
		}
	}
	if len(addresses) == 0 {
		return []Trial{{Name: pub.Name, Step: "address", Code: NoAddress, Seen: "the name has neither A nor AAAA record",
			Spot: pub.Name + " A", Remedy: "add the address of its server to the zone"}}
	}
	var out []Trial
	four := false
	for _, a := range addresses {
		t := p.look(ctx, pub, a)
		four = four || a.Is4() && t.Well()
		out = append(out, t)
	}
	for i := range out {
		if a := addresses[i]; a.Is6() && !out[i].Well() && four && out[i].Code != OneNodeOnly {
			out[i].Code = IPv6Astray
			out[i].Seen = "over IPv6, which CAs try first: " + out[i].Seen
			out[i].Remedy = fmt.Sprintf("let the server answer at [%s]:%d too, or take the AAAA record of %s away", a,
				p.port(), pub.Name)
			out[i].Spot = pub.Name + " AAAA " + a.String()
		}
	}
	return out
}

// port is where the CA looks.
func (p *Preflight) port() uint16 {
	if p.Kind == acme.TLSALPN01 {
		return p.TLSPort
	}
	return p.HTTPPort
}

// look looks at one address for what the CA looks for there.
func (p *Preflight) look(ctx context.Context, pub proof.Publication, a netip.Addr) Trial {
	at := netip.AddrPortFrom(a, p.port())
	if p.Kind == acme.TLSALPN01 {
		return p.inTLS(ctx, pub, at)
	}
	return p.at(ctx, pub, at)
}

// inTLS looks for a proof in TLS at one address (RFC 8737 section 3).
func (p *Preflight) inTLS(ctx context.Context, pub proof.Publication, at netip.AddrPort) Trial {
	server, _ := p.ServerAt(at.Addr())
	t := Trial{Name: pub.Name, Step: "tls", Spot: at.String()}
	conn, err := (&net.Dialer{Timeout: tryTime}).DialContext(ctx, "tcp", at.String())
	if err != nil {
		return p.closed(t, pub, at, server, err)
	}
	defer func() { _ = conn.Close() }()
	_ = conn.SetDeadline(time.Now().Add(tryTime))
	client := tls.Client(conn, &tls.Config{ServerName: proof.ServerName(pub.Name), NextProtos: []string{proof.ALPN}, MinVersion: tls.VersionTLS12,
		InsecureSkipVerify: true}) // what it shows is judged below
	err = client.HandshakeContext(ctx)
	why := ""
	if err != nil {
		why = "the handshake with " + proof.ALPN + " fails: " + err.Error()
	} else {
		state := client.ConnectionState()
		why = proof.ALPNAstray(&state, pub.Name, pub.Content)
	}
	if why == "" {
		t.Seen = orAddress(server, at) + " leads to the service's own listener, which shows the proof"
		return t
	}
	t.Code, t.Seen = TLSAstray, fmt.Sprintf("%s: %s", orAddress(server, at), why)
	t.Remedy = "start the service with --proofs-tls, and lead connections with " + proof.ALPN + " to its listener from there: docs/certificates.md"
	return t
}

// closed says that nothing takes a connection at an address.
func (p *Preflight) closed(t Trial, pub proof.Publication, at netip.AddrPort, server string, err error) Trial {
	t.Step, t.Code, t.Seen = "port", PortClosed,
		fmt.Sprintf("nothing takes a connection at %s: %v", at, errors.Unwrap(err))
	t.Remedy = fmt.Sprintf("open port %d in the machine's firewall and in the network's", at.Port())
	if errors.Is(err, syscall.ECONNREFUSED) { // the machine answers, and nothing takes the port
		t.Remedy = fmt.Sprintf("start the server, or give it a listener without TLS at port %d", at.Port())
		if p.Kind == acme.TLSALPN01 {
			t.Remedy = fmt.Sprintf("start the server, or the service's own listener at that port: insegna serve --proofs-tls :%d", at.Port())
		}
	}
	if server == "" && names.FormOf(pub.Name) != names.Address {
		t.Step, t.Code, t.Spot = "address", WrongAddress, fmt.Sprintf("%s %s %s", pub.Name, family(at.Addr()), at.Addr())
		t.Remedy = fmt.Sprintf("%s is no server of the estate; correct the record, or declare the server", at.Addr())
	}
	return t
}

// at looks for the file at one address.
func (p *Preflight) at(ctx context.Context, pub proof.Publication, at netip.AddrPort) Trial {
	server, proves := p.ServerAt(at.Addr())
	t := Trial{Name: pub.Name, Step: "file", Spot: at.String()}
	conn, err := (&net.Dialer{Timeout: tryTime}).DialContext(ctx, "tcp", at.String())
	if err != nil {
		return p.closed(t, pub, at, server, err)
	}
	_ = conn.Close()
	good := 0
	var bad *got
	for range tries {
		g := p.fetch(ctx, pub, at)
		if g.err == nil && g.status == http.StatusOK && g.body == pub.Content {
			good++
		} else {
			bad = g
		}
	}
	switch {
	case good == tries:
		t.Seen = fmt.Sprintf("%s gives the file out", orAddress(server, at))
		return t
	case good > 0:
		t.Code, t.Seen = OneNodeOnly,
			fmt.Sprintf("of %d requests to %s %d got the file: only some of the nodes behind it have it", tries, at, good)
		t.Remedy = "add the other nodes to the servers of the mandate's proof"
		return t
	}
	return p.astray(t, pub, at, server, proves, bad)
}

// family is the record an address came from.
func family(a netip.Addr) string {
	if a.Is4() {
		return "A"
	}
	return "AAAA"
}

// orAddress names an endpoint by its server where the estate has one.
func orAddress(server string, at netip.AddrPort) string {
	if server == "" {
		return at.String()
	}
	return server + " at " + at.String()
}

// astray says why an address does not give the file out.
func (p *Preflight) astray(t Trial, pub proof.Publication, at netip.AddrPort, server string, proves bool,
	bad *got) Trial {
	t.Seen = fmt.Sprintf("%s answers %s", orAddress(server, at), bad)
	if server == "" && names.FormOf(pub.Name) != names.Address {
		t.Step, t.Code, t.Spot = "address", WrongAddress, fmt.Sprintf("%s %s %s", pub.Name, family(at.Addr()), at.Addr())
		t.Remedy = fmt.Sprintf("%s is no server of the estate; correct the record, or declare the server", at.Addr())
		return t
	}
	if x := p.Explain(server, pub.Name, at); x != nil && x.Code != "" {
		t.Code, t.Spot, t.Remedy = x.Code, x.Spot, x.Remedy
		t.Seen += "; " + x.Seen
		return t
	}
	if !proves {
		t.Code = OneNodeOnly
		t.Seen += ", where the mandate puts no file"
		t.Remedy = fmt.Sprintf("add %s to the servers of the mandate's proof", server)
		return t
	}
	switch {
	case bad.to != "":
		t.Code, t.Remedy = PathRedirected, "let "+proof.WellKnown+" be served where it is asked for"
	case bad.status == http.StatusForbidden:
		t.Code, t.Remedy = PathDenied, "permit "+proof.WellKnown+" before the rule that denies it"
	case bad.status == http.StatusBadGateway || bad.status == http.StatusGatewayTimeout:
		t.Code, t.Remedy = PathPassed, "keep "+proof.WellKnown+" from the application"
	default:
		t.Code, t.Remedy = PathAstray,
			"see which site of "+server+" answers for this name over plain http, and which folder it serves; name it with "+
				"folder in the mandate"
	}
	return t
}

// got is what one request brought.
type got struct {
	err    error  // no answer came
	status int    // of the last answer
	body   string // its first bytes
	to     string // where it was redirected to in the end
}

// String says what came instead of the proof, to stand after "answers".
func (g *got) String() string {
	switch {
	case g.err != nil && g.to != "":
		return fmt.Sprintf("with a redirect to %s, which fails: %v", g.to, g.err)
	case g.err != nil:
		return "with an error: " + g.err.Error()
	case g.to != "":
		return fmt.Sprintf("with a redirect to %s, which has status %d", g.to, g.status)
	case g.status == http.StatusOK:
		return "with another content"
	}
	return fmt.Sprintf("with status %d", g.status)
}

// dialer connects to the given address first, whatever the name resolves to,
// and follows names by the resolver after a redirect.
func (p *Preflight) dialer(at netip.AddrPort) func(ctx context.Context, network, to string) (net.Conn, error) {
	first := true
	return func(ctx context.Context, network, to string) (net.Conn, error) {
		d := &net.Dialer{Timeout: tryTime}
		if first {
			first = false
			return d.DialContext(ctx, network, at.String())
		}
		host, port, err := net.SplitHostPort(to)
		if err != nil {
			return nil, err
		}
		list, err := p.question(ctx, host, dns.TypeA)
		if err != nil {
			return nil, err
		}
		for _, rr := range list {
			if a, ok := rr.(*dns.A); ok {
				return d.DialContext(ctx, network, net.JoinHostPort(a.A.String(), port))
			}
		}
		return nil, fmt.Errorf("no address for %s", host)
	}
}

// fetch asks for the file as a CA would: at this very address, following
// redirects to wherever they lead.
func (p *Preflight) fetch(ctx context.Context, pub proof.Publication, at netip.AddrPort) *got {
	g := &got{}
	// as CAs do
	c := &http.Client{Timeout: 2 * tryTime,
		Transport: &http.Transport{DialContext: p.dialer(at), DisableKeepAlives: true,
			TLSClientConfig: &tls.Config{InsecureSkipVerify: true}},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			if len(via) > mostHops {
				return fmt.Errorf("CAs follow no more than %d redirects", mostHops)
			}
			if g.to = r.URL.String(); len(g.to) > 300 {
				g.to = g.to[:300] + "…"
			}
			port := r.URL.Port()
			if port != "" && port != "80" && port != "443" && port != strconv.Itoa(int(p.HTTPPort)) {
				return fmt.Errorf("CAs do not follow to port %s", port)
			}
			return nil
		}}
	host := proof.HostOf(pub.Name)
	at80 := host
	if p.HTTPPort != 80 {
		at80 += ":" + strconv.Itoa(int(p.HTTPPort))
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet,
		(&url.URL{Scheme: "http", Host: at80, Path: proof.WellKnown + pub.Token}).String(), nil)
	if err != nil {
		g.err = err
		return g
	}
	req.Host = host
	resp, err := c.Do(req)
	if err != nil {
		g.err = err
		var inner *url.Error
		if errors.As(err, &inner) {
			g.err = inner.Err
		}
		return g
	}
	defer func() { _ = resp.Body.Close() }()
	body, err := io.ReadAll(io.LimitReader(resp.Body, bodyTaken))
	g.status, g.body, g.err = resp.StatusCode, strings.TrimRight(string(body), " \t\r\n"), err
	return g
}
