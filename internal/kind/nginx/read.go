// Package nginx reads the configuration of nginx: its complete syntax, what
// it includes, the listeners and sites of http and stream, and which site
// answers for a name.
//
// It reads and does not change; it does not know every directive, and does
// not replace nginx's own test. What it says about names and listeners is held
// against a running nginx by the tests. Written after nginx 1.22.
package nginx

import (
	"fmt"
	"io/fs"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/expression"
	"insegna.example/internal/kind/source"
)

// Read reads the configuration that begins with the file main, an absolute
// path. Whatever is wrong in it is told in the reading's Problems; the error
// is one of the source itself, and then there is no reading.
func Read(fsys fs.FS, main string) (*kind.Reading, error) {
	if !path.IsAbs(main) {
		return nil, fmt.Errorf("the main file %q is no absolute path", main)
	}
	t, err := load(fsys, path.Clean(main))
	if err != nil {
		return nil, err
	}
	r := &reader{tree: t, out: &kind.Reading{Kind: name, Main: path.Clean(main), Material: map[string]*kind.Material{},
		Certificates: map[string][]byte{}}, addresses: map[string]int{}, sslOn: map[int]bool{},
		hosts: source.Hosts(fsys), inline: map[string]string{}}
	if f := t.files[r.out.Main]; f != nil {
		r.main(f)
	}
	for _, step := range []func() error{r.idle, r.material, r.files} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	r.settle()
	r.loaded()
	r.out.Problems = t.problems
	slices.SortStableFunc(r.out.Problems, byPlace)
	return r.out, nil
}

// byPlace sorts problems as a person goes through the files.
func byPlace(a, b kind.Problem) int {
	if c := strings.Compare(a.File, b.File); c != 0 {
		return c
	}
	return a.Line - b.Line
}

// reader turns the tree into the reading.
type reader struct {
	*tree
	out       *kind.Reading  // the reading so far
	addresses map[string]int // index of a listener by family and address
	// sites with the directive "ssl on", which counts for a listener where such a site is the default
	sslOn     map[int]bool
	hosts     map[string][]netip.Addr // from the machine's hosts file
	pid       string                  // file with the main process's number
	idling    bool                    // reading files that are not in force
	inline    map[string]string       // certificates and keys in the configuration itself, by what they are called
	idleFiles []*File                 // of sites not in force
}

// protocols of the blocks that hold servers.
var protocols = map[string]kind.Protocol{"http": kind.HTTP, "stream": kind.TCP, "mail": kind.TCP}

// scope is what an http, stream or mail block hands down to its servers.
type scope struct {
	family             string                // http, stream or mail
	pairs              []pairs               // of this block and those around it, innermost last
	ssl                *Directive            // the ssl directive in force, nil for none
	refuse             bool                  // ssl_reject_handshake is on
	preread, passwords bool                  // ssl_preread is on; a file of passphrases is named
	groups             map[string]*Directive // upstreams
	outer              []*Directive          // what stands in the block itself
	behind             *behind               // what it says of servers behind; nil until it is asked
	versions, suites   *Directive            // ssl_protocols and ssl_ciphers, nil for none
}

// pairs are certificate and key directives of one block.
type pairs struct{ certificates, keys []*Directive }

// inherited gives certificates and keys each from the innermost block that
// has any.
func (s *scope) inherited() (certificates, keys []*Directive) {
	for _, p := range s.pairs {
		if len(p.certificates) > 0 {
			certificates = p.certificates
		}
		if len(p.keys) > 0 {
			keys = p.keys
		}
	}
	return certificates, keys
}

// main reads what stands outside all blocks, and goes into those that hold
// sites.
func (r *reader) main(f *File) {
	r.each(f.Nodes, func(d *Directive) {
		switch d.Name() {
		case "pid":
			r.pid = d.Arg(0)
		case "http", "stream", "mail":
			if d.Stop.Raw == "{" {
				r.block(d, &scope{family: d.Name(), groups: map[string]*Directive{}})
			}
		}
	})
}

// block reads an http or stream block: first what it hands down, wherever it
// stands, then the servers.
func (r *reader) block(d *Directive, s *scope) {
	var own pairs
	var servers []*Directive
	s.outer = d.Block
	r.each(d.Block, func(d *Directive) {
		switch d.Name() {
		case "server":
			servers = append(servers, d)
		case "ssl":
			s.ssl = d
		case "ssl_reject_handshake":
			s.refuse = d.Arg(0) == "on"
		case "upstream":
			s.groups[d.Arg(0)] = d
			r.group(d, s.family)
		case "map":
			r.chooser(d, s.family)
		case "ssl_preread":
			s.preread = d.Arg(0) == "on"
		case "ssl_password_file":
			s.passwords = true
		case "ssl_protocols":
			s.versions = d
		case "ssl_ciphers":
			s.suites = d
		}
		own.take(d)
	})
	s.pairs = append(s.pairs, own)
	for _, d := range servers {
		r.server(d, s)
	}
}

// take collects certificates and keys; the first key belongs to the first
// certificate, and so on.
func (p *pairs) take(d *Directive) {
	switch d.Name() {
	case "ssl_certificate":
		p.certificates = append(p.certificates, d)
	case "ssl_certificate_key":
		p.keys = append(p.keys, d)
	}
}

// listen is one listen directive of a server, read.
type listen struct {
	at       kind.Place       // its line
	text     string           // its first word, as written
	to       []netip.AddrPort // addresses it stands for
	socket   string           // path, "" for a network's
	unknown  string           // why its address cannot be told
	tls      bool             // it has ssl
	isDef    bool             // it is the default
	both     bool             // it takes IPv4 beside IPv6
	datagram bool             // it takes UDP or QUIC
}

// server reads one site: listeners, names, certificates, settings and what it
// answers over plain http.
func (r *reader) server(d *Directive, s *scope) {
	site := kind.Site{Place: d.Place(), Protocol: protocols[s.family], Refuses: s.refuse, Preread: s.preread,
		Passphrases: s.passwords}
	var own pairs
	var listens []listen
	ssl, versions, suites := s.ssl, s.versions, s.suites
	r.each(d.Block, func(d *Directive) {
		switch d.Name() {
		case "listen":
			listens = append(listens, r.listen(d))
		case "server_name":
			for i := range d.Args() {
				site.Names = append(site.Names, r.name(d, i+1))
			}
		case "ssl":
			ssl = d
		case "ssl_reject_handshake":
			site.Refuses = d.Arg(0) == "on"
		case "ssl_preread":
			site.Preread = d.Arg(0) == "on"
		case "ssl_password_file":
			site.Passphrases = true
		case "ssl_protocols":
			versions = d
		case "ssl_ciphers":
			suites = d
		case "proxy_pass":
			if s.family == "stream" {
				site.Through = &kind.Through{Place: d.Place(), To: d.Arg(0)}
			}
		}
		own.take(d)
	})
	inner := *s
	inner.pairs = append(slices.Clone(s.pairs), own)
	site.Pairs, site.KeyKinds = r.pairsOf(d, &inner), keyKindsOf(versions, suites)
	if len(listens) == 0 && s.family == "http" {
		listens = []listen{{at: d.Place(), text: "80", to: []netip.AddrPort{netip.AddrPortFrom(netip.IPv4Unspecified(), 80)}}}
	}
	for _, l := range listens {
		site.Listens = append(site.Listens, l.at)
		site.Asked = append(site.Asked, l.text)
	}
	site.Hops = r.hops(d, s)
	if s.family == "http" {
		site.Plain = r.routes(d, &site, listens, s.outer)
	}
	if r.idling {
		site.Plain = nil
		r.out.Idle = append(r.out.Idle, site)
		return
	}
	index := len(r.out.Sites)
	r.out.Sites = append(r.out.Sites, site)
	for _, l := range listens {
		r.attach(index, &l, s.family)
	}
	if ssl != nil && ssl.Arg(0) == "on" {
		r.sslOn[index] = true
	}
}

// attach puts a site at the listeners of one listen directive.
func (r *reader) attach(site int, l *listen, family string) {
	if l.datagram {
		return // no TLS over UDP here
	}
	targets := make([]kind.Listener, 0, 1)
	for _, at := range l.to {
		targets = append(targets, kind.Listener{Address: at, Both: l.both})
	}
	if l.socket != "" || l.unknown != "" {
		targets = append(targets, kind.Listener{Socket: l.socket, Unknown: l.unknown})
	}
	for _, to := range targets {
		to.Place, to.Protocol, to.Default = l.at, protocols[family], site
		key := family + " " + to.Address.String() + " " + to.Socket + " " + to.Unknown
		at, met := r.addresses[key]
		if !met {
			if at = len(r.out.Listeners); at == listenersLimit {
				r.problem(l.at, kind.Unread, fmt.Sprintf("at most %d listeners", listenersLimit),
					"too many addresses and ports; listen %s is not read to its end", shown(l.text))
				return
			}
			r.addresses[key] = at
			r.out.Listeners = append(r.out.Listeners, to)
		}
		o := &r.out.Listeners[at]
		if l.isDef {
			if o.Chosen && o.Default != site {
				r.problem(l.at, kind.Refused, "one default_server an address", "%s has a default_server already, in %s", o,
					r.out.Sites[o.Default].Place)
			} else {
				o.Default, o.Chosen = site, true
			}
		}
		o.TLS = o.TLS || l.tls
		if n := len(o.Sites); n == 0 || o.Sites[n-1] != site { // sites come one after the other
			o.Sites = append(o.Sites, site)
		}
	}
}

// listen reads the address and the parameters of a listen directive.
func (r *reader) listen(d *Directive) listen {
	l := listen{at: d.Place(), text: d.Arg(0)}
	for _, w := range d.Args() {
		switch w.Text {
		case "ssl":
			l.tls = true
		case "default_server", "default":
			l.isDef = true
		case "ipv6only=off":
			l.both = true
		case "udp", "quic":
			l.datagram = true
		}
	}
	if strings.HasPrefix(l.text, "unix:") {
		l.socket = strings.TrimPrefix(l.text, "unix:")
		return l
	}
	host, ports := splitListen(l.text)
	first, last, ok := portRange(ports)
	if !ok {
		r.problem(l.at, kind.Refused, "an address, a port, or address:port", "listen %s", shown(l.text))
		l.unknown = l.text
		return l
	}
	addresses := r.listenAddresses(host)
	if len(addresses) == 0 {
		r.problem(l.at, kind.Unread, "an IP address",
			"the address of listen %s is found by name when nginx starts, so it is not known here", shown(l.text))
		l.unknown = l.text
		return l
	}
	for p := first; p <= last && len(r.out.Listeners) < listenersLimit; p++ {
		for _, a := range addresses {
			l.to = append(l.to, netip.AddrPortFrom(a, uint16(p)))
		}
	}
	return l
}

// splitListen cuts "address:port", "address" or "port" in two; a missing port
// is 80.
func splitListen(text string) (host, ports string) {
	if strings.HasPrefix(text, "[") {
		if end := strings.IndexByte(text, ']'); end > 0 {
			host, ports = text[:end+1], strings.TrimPrefix(text[end+1:], ":")
		}
	} else if at := strings.LastIndexByte(text, ':'); at >= 0 {
		host, ports = text[:at], text[at+1:]
	} else if _, _, number := portRange(text); number {
		return "*", text
	} else {
		host = text
	}
	if ports == "" {
		ports = "80"
	}
	return host, ports
}

// portRange reads a port or a range, which listen allows.
func portRange(text string) (first, last int, ok bool) {
	from, to, ranged := strings.Cut(text, "-")
	if !ranged {
		to = from
	}
	first, errA := strconv.Atoi(from)
	last, errB := strconv.Atoi(to)
	return first, last, errA == nil && errB == nil && first >= 1 && last <= 65535 && first <= last
}

// listenAddresses turns the host of a listen line into addresses; a name goes
// by the machine's hosts file, and none means any address.
func (r *reader) listenAddresses(host string) []netip.Addr {
	if host == "*" || host == "" {
		return []netip.Addr{netip.IPv4Unspecified()}
	}
	if a, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
		return []netip.Addr{a.WithZone("")}
	}
	return r.hosts[host]
}

// goodName is what server_name takes, as problems say it.
const goodName = "a name, *.name, .name, name.* or ~expression"

// name reads one name of a server_name directive.
func (r *reader) name(d *Directive, word int) kind.Name {
	text := d.Words[word].Text
	n := kind.Name{Place: d.WordPlace(word), Text: text}
	switch {
	case strings.HasPrefix(text, "~"):
		if _, err := expression.Compile(text[1:]); err != nil {
			r.problem(n.Place, kind.Unread, "",
				"the regular expression %s is not understood here, so what it matches is not known", shown(text))
		}
		return n
	case text == "$hostname":
		if name, ok := source.Hostname(r.fs); ok {
			n.Text, n.Covers = name, covers(name)
		} else {
			r.problem(n.Place, kind.Unread, "", "the machine's name, which $hostname stands for, is not known")
		}
		return n
	}
	n.Text = strings.ToLower(text)
	if matchingOf(n.Text) == exact && (text == "." || strings.HasPrefix(text, "*") && !strings.HasPrefix(text, "*.")) {
		r.problem(n.Place, kind.Refused, goodName, "invalid name %s", shown(text))
		n.Ignored = true
	}
	n.Covers = covers(n.Text)
	if strings.Contains(text, "/") || strings.Contains(text, ":") {
		r.problem(n.Place, kind.Suspect, "a host name alone", "the name %s can never match a host", shown(text))
	}
	return n
}

// inlineData is what a certificate or key that stands in the configuration itself
// begins with.
const inlineData = "data:"

// named is what a certificate or key is called: its path, the place of one that
// stands in the configuration itself, or as written what an engine or store has.
func (r *reader) named(text string, at kind.Place) string {
	if data, inline := strings.CutPrefix(text, inlineData); inline {
		name := "inline at " + at.String()
		r.inline[name] = data
		return name
	}
	if strings.HasPrefix(text, "engine:") || strings.HasPrefix(text, "store:") {
		return text
	}
	full, _ := r.full(text)
	return full
}

// pairsOf gives the certificates in force for a server with their keys, which
// belong together by their order.
func (r *reader) pairsOf(server *Directive, s *scope) []kind.Pair {
	certificates, keys := s.inherited()
	list := make([]kind.Pair, 0, len(certificates))
	for i, c := range certificates {
		p := kind.Pair{Place: c.Place(), Certificate: c.Arg(0)}
		p.AtRunTime = strings.Contains(p.Certificate, "$")
		if !p.AtRunTime {
			p.Certificate = r.named(p.Certificate, p.Place)
		}
		if i < len(keys) {
			p.Key, p.KeyPlace = keys[i].Arg(0), keys[i].Place()
			p.AtRunTime = p.AtRunTime || strings.Contains(p.Key, "$")
			if !strings.Contains(p.Key, "$") {
				p.Key = r.named(p.Key, p.KeyPlace)
			}
		} else {
			r.problem(p.Place, kind.Refused, "an ssl_certificate_key for each ssl_certificate",
				"no key is named for %s", c.Arg(0))
		}
		list = append(list, p)
	}
	return list
}
