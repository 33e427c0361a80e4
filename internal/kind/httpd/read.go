// Package httpd reads the configuration of Apache httpd: its syntax, what is
// defined, loaded, included and used as a macro, the listeners and virtual hosts,
// which of them answers for a name, and what becomes of a request in plain http.
//
// It reads and does not change; it does not know every directive, and does not
// replace httpd's own test. What it says about names and listeners is held against
// a running httpd by the tests. Written after httpd 2.4.
package httpd

import (
	"fmt"
	"io/fs"
	"maps"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/source"
)

// listenersLimit is how many addresses and ports are told.
const listenersLimit = 20_000

// idleLimit is how many files not in force are read.
const idleLimit = 2000

// Read reads the configuration that begins with the file main, an absolute path.
// Whatever is wrong in it is told in the reading's Problems; the error is one of
// the source itself, and then there is no reading.
func Read(fsys fs.FS, main string) (*kind.Reading, error) {
	if !path.IsAbs(main) {
		return nil, fmt.Errorf("the main file %q is no absolute path", main)
	}
	r := &reader{loader: newLoader(fsys, path.Clean(main)), hosts: source.Hosts(fsys),
		out: &kind.Reading{Kind: name, Main: path.Clean(main), Material: map[string]*kind.Material{},
			Certificates: map[string][]byte{}}}
	list, err := r.load()
	if err != nil {
		return nil, err
	}
	r.top(list)
	if err := r.idle(); err != nil {
		return nil, err
	}
	if err := r.material(); err != nil {
		return nil, err
	}
	r.settle()
	for _, f := range append(slices.Clone(r.order), r.started...) {
		r.out.Files = append(r.out.Files, r.fileOf(f, true))
	}
	for _, f := range r.idleFiles {
		r.out.Files = append(r.out.Files, r.fileOf(f, false))
	}
	for _, p := range slices.Sorted(maps.Keys(r.accessed)) {
		if f := r.accessed[p]; f != nil {
			r.out.Files = append(r.out.Files, *f)
		}
	}
	r.out.Loaded = source.Loaded(fsys, r.full(orElse(r.pid, "/run/apache2/apache2.pid")))
	r.out.Problems = r.problems
	slices.SortStableFunc(r.out.Problems, func(a, b kind.Problem) int {
		if c := strings.Compare(a.File, b.File); c != 0 {
			return c
		}
		return a.Line - b.Line
	})
	return r.out, r.lost
}

// orElse gives the first text unless it is empty.
func orElse(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// reader turns what is in force into the reading.
type reader struct {
	*loader
	out       *kind.Reading
	hosts     map[string][]netip.Addr // from the machine's hosts file
	listens   []listen
	mainly    *vhost   // the main server
	virtual   []*vhost // in their order
	pid       string   // file with the main process's number
	idleFiles []*file  // of sites not in force
	behind    *behind  // what the main server says of servers behind; nil until it is asked
	// sections that declare balancers, by name; nil until they are asked for
	balancers map[string][]*Directive
}

// listen is one Listen directive.
type listen struct {
	at   kind.Place
	text string
	addr netip.Addr // the zero address of IPv6 for every one
	port uint16
	// protocol is what it is for; https for port 443 where nothing is said
	protocol string
}

// vhost is a virtual host, or the main server.
type vhost struct {
	d     *Directive // nil for the main server
	block []*Directive
	site  kind.Site
	at    []bound // addresses it is for
	own   settings
	named bool // it has a ServerName, its first name
	tls   bool // SSLEngine is on for it
}

// bound is one address of a virtual host; the zero Addr stands for every one, and
// port 0 for every port.
type bound struct {
	addr netip.Addr
	port uint16
}

// settings are directives of a block that virtual hosts inherit.
type settings struct {
	engine                             *Directive
	certificates, keys                 []*Directive
	chain, versions, suites, passwords *Directive
}

// top reads what stands outside all sections.
func (r *reader) top(list []*Directive) {
	r.mainly = &vhost{block: list,
		site: kind.Site{Place: kind.Place{File: r.main, Line: 1, Column: 1}, Protocol: kind.HTTP}}
	r.mainly.own = settingsOf(list)
	for _, d := range list {
		switch d.Name {
		case "listen":
			r.listen(d)
		case "pidfile":
			r.pid = d.Arg(0)
		case "servername":
			r.names(r.mainly, d)
			r.mainly.site.Place = d.Place
		case "virtualhost":
			if d.Section {
				r.virtual = append(r.virtual, r.host(d))
			}
		}
	}
	r.inherit(r.mainly, nil)
	for _, v := range r.virtual {
		r.nameless(v)
	}
	for _, v := range r.virtual {
		r.inherit(v, r.mainly)
	}
	if len(r.listens) == 0 && len(list) > 0 {
		r.late(kind.Place{File: r.main, Line: 1, Column: 1}, "Listen", "no Listen directive is in force")
	}
	r.attach()
}

// settingsOf collects what a block says of TLS.
func settingsOf(list []*Directive) (s settings) {
	for _, d := range list {
		switch d.Name {
		case "sslengine":
			s.engine = d
		case "sslcertificatefile":
			s.certificates = append(s.certificates, d)
		case "sslcertificatekeyfile":
			s.keys = append(s.keys, d)
		case "sslcertificatechainfile":
			s.chain = d
		case "sslprotocol":
			s.versions = d
		case "sslciphersuite":
			if len(d.Args) == 1 || strings.EqualFold(d.Arg(0), "SSL") {
				s.suites = d
			}
		case "sslpassphrasedialog":
			s.passwords = d
		}
	}
	return s
}

// host reads a virtual host.
func (r *reader) host(d *Directive) *vhost {
	v := &vhost{d: d, block: d.Block, site: kind.Site{Place: d.Place, Protocol: kind.HTTP}, own: settingsOf(d.Block)}
	v.site.Listens = []kind.Place{d.Place}
	if len(d.Args) == 0 {
		r.problem(d.Place, kind.Refused, "an address", "<VirtualHost> names no address")
	}
	for _, text := range d.Args {
		v.site.Asked = append(v.site.Asked, text)
		v.at = append(v.at, r.bounds(d, text)...)
	}
	for _, o := range d.Block {
		if o.Name == "servername" || o.Name == "serveralias" {
			r.names(v, o)
		}
	}
	return v
}

// bounds reads one address of a virtual host.
func (r *reader) bounds(d *Directive, text string) []bound {
	host, ports := text, ""
	if strings.HasPrefix(text, "[") {
		end := strings.IndexByte(text, ']')
		if end < 0 {
			r.problem(d.Place, kind.Refused, "an address in brackets", "the address %s is not closed", text)
			return nil
		}
		host, ports = text[1:end], strings.TrimPrefix(text[end+1:], ":")
	} else if at := strings.LastIndexByte(text, ':'); at >= 0 {
		host, ports = text[:at], text[at+1:]
	}
	port := 0
	if ports != "" && ports != "*" {
		var err error
		if port, err = strconv.Atoi(ports); err != nil || port < 1 || port > 65535 {
			r.problem(d.Place, kind.Refused, "a port from 1 to 65535, or *", "the port %s of <VirtualHost> is none", ports)
			return nil
		}
	}
	if host == "*" || host == "" || strings.EqualFold(host, "_default_") {
		return []bound{{port: uint16(port)}}
	}
	if a, err := netip.ParseAddr(host); err == nil {
		if a = a.WithZone(""); a.IsUnspecified() {
			a = netip.Addr{}
		}
		return []bound{{a, uint16(port)}}
	}
	if len(r.hosts[host]) == 0 {
		r.problem(d.Place, kind.Unread, "an IP address",
			"the address %s is found by name when the server starts, so it is not known here", text)
	}
	var out []bound
	for _, a := range r.hosts[host] {
		out = append(out, bound{a, uint16(port)})
	}
	return out
}

// names reads a ServerName, the last of which counts, or a ServerAlias.
func (r *reader) names(v *vhost, d *Directive) {
	if d.Name == "serveralias" {
		for _, text := range d.Args {
			text = strings.ToLower(text)
			v.site.Names = append(v.site.Names, kind.Name{Place: d.Place, Text: text, Covers: covers(text, true)})
		}
		return
	}
	text := strings.ToLower(d.Arg(0))
	if _, rest, ok := strings.Cut(text, "://"); ok {
		text = rest
	}
	text, _, _ = strings.Cut(text, ":")
	n := kind.Name{Place: d.Place, Text: text, Covers: covers(text, false)}
	if v.named {
		v.site.Names[0] = n
	} else {
		v.site.Names = append([]kind.Name{n}, v.site.Names...)
	}
	v.named = true
}

// nameless gives a virtual host for every address that says no name that of the
// main server, as httpd does.
func (r *reader) nameless(v *vhost) {
	if !v.named && slices.ContainsFunc(v.at, func(b bound) bool { return !b.addr.IsValid() }) &&
		len(r.mainly.site.Names) > 0 {
		v.site.Names = append([]kind.Name{r.mainly.site.Names[0]}, v.site.Names...)
	}
}

// covers lists what a certificate has to list for a name; wild ones only among
// aliases.
func covers(text string, alias bool) []string {
	rest, leading := strings.CutPrefix(text, "*.")
	switch {
	case !strings.ContainsAny(text, "*?"):
		if text == "" {
			return nil
		}
		return []string{text}
	case alias && leading && rest != "" && !strings.ContainsAny(rest, "*?"):
		return []string{text}
	}
	return nil
}

// isOn says whether SSLEngine is on.
func isOn(d *Directive) bool { return d != nil && strings.EqualFold(d.Arg(0), "on") }

// inherit finishes a virtual host with what the main server hands down.
func (r *reader) inherit(v, outer *vhost) {
	s := v.own
	if outer != nil {
		o := outer.own
		s.certificates, s.keys = overlaid(o.certificates, s.certificates), overlaid(o.keys, s.keys)
		for _, p := range []struct{ mine, theirs **Directive }{{&s.engine, &o.engine}, {&s.chain, &o.chain},
			{&s.versions, &o.versions}, {&s.suites, &o.suites}, {&s.passwords, &o.passwords}} {
			if *p.mine == nil {
				*p.mine = *p.theirs
			}
		}
	}
	hasModule := r.hasModule("ssl_module")
	if s.engine != nil && !hasModule {
		r.problem(s.engine.Place, kind.Refused, "LoadModule ssl_module",
			"SSLEngine needs the module ssl, which is not loaded")
	}
	v.tls = (isOn(s.engine) || s.engine == nil && r.https(v)) && hasModule
	v.site.Passphrases = s.passwords != nil && !strings.EqualFold(s.passwords.Arg(0), "builtin")
	v.site.KeyKinds = keyKindsOf(s.versions, s.suites)
	for i, c := range s.certificates {
		p := kind.Pair{Place: c.Place, Certificate: r.pathOf(c.Arg(0))}
		if i < len(s.keys) {
			p.Key, p.KeyPlace = r.pathOf(s.keys[i].Arg(0)), s.keys[i].Place
		} else {
			p.Key, p.KeyPlace = p.Certificate, p.Place // it lies in the same file
		}
		if s.chain != nil {
			p.Chain = r.full(s.chain.Arg(0))
		}
		if v.tls {
			v.site.Pairs = append(v.site.Pairs, p)
		}
	}
	if v.tls && len(v.site.Pairs) == 0 {
		at := v.site.Place
		if v.own.engine != nil {
			at = v.own.engine.Place
		}
		if managed := r.managed(v); managed != nil {
			r.problem(managed.Place, kind.Unread, "",
				"the server orders the certificate of %s itself (MDomain), so its files are not known here", v.site.MainName())
		} else if v.d != nil || len(r.virtual) == 0 {
			r.late(at, "SSLCertificateFile", "SSLEngine is on, and no certificate is named")
		}
	}
	v.site.Hops = r.hops(v)
}

// overlaid puts a virtual host's certificates or keys in the place of those of the
// main server: the first for the first, and so on; what it has fewer stays.
func overlaid(outer, own []*Directive) []*Directive {
	out := slices.Clone(outer)
	for i, d := range own {
		if i < len(out) {
			out[i] = d
		} else {
			out = append(out, d)
		}
	}
	return out
}

// https says whether the Listen of a virtual host's address or port is for https:
// then TLS is on unless SSLEngine says otherwise.
func (r *reader) https(v *vhost) bool {
	for _, exact := range []bool{true, false} {
		for _, b := range v.at {
			for i := range r.listens {
				l := &r.listens[i]
				same := b.addr == l.addr || !b.addr.IsValid() && l.addr.IsUnspecified()
				if l.port == b.port && (same || !exact) {
					return strings.EqualFold(l.protocol, "https")
				}
			}
		}
	}
	return false
}

// managed finds the directive by which the server gets a site's certificate by
// itself (mod_md).
func (r *reader) managed(v *vhost) *Directive {
	for _, d := range r.mainly.block {
		if d.Name != "mdomain" && d.Name != "mdomainset" {
			continue
		}
		for _, a := range d.Args {
			for i := range v.site.Names {
				if strings.EqualFold(a, v.site.Names[i].Text) {
					return d
				}
			}
		}
	}
	return nil
}

// pathOf is the path of a certificate or key; what an engine or store has stays
// as written.
func (r *reader) pathOf(text string) string {
	if strings.HasPrefix(text, "pkcs11:") {
		return text
	}
	return r.full(text)
}

// keyKindsOf are the kinds of key that can be used where TLS 1.3 is left out and
// the suites are written one by one; nil for all.
func keyKindsOf(versions, suites *Directive) []string {
	if versions == nil || suites == nil {
		return nil
	}
	on := false
	for _, w := range versions.Args {
		word := strings.TrimLeft(strings.ToLower(w), "+-")
		switch {
		case strings.HasPrefix(w, "-") && (word == "all" || word == "tlsv1.3"):
			on = false
		case !strings.HasPrefix(w, "-") && (word == "all" || word == "tlsv1.3"):
			on = true
		case !strings.HasPrefix(w, "-") && !strings.HasPrefix(w, "+"):
			on = false // a word alone sets the list anew
		}
	}
	if on {
		return nil
	}
	return source.SuiteKinds(suites.Args[len(suites.Args)-1])
}

// listen reads a Listen directive.
func (r *reader) listen(d *Directive) {
	text := d.Arg(0)
	l := listen{at: d.Place, text: text, addr: netip.IPv6Unspecified()}
	host, ports := "", text
	if strings.HasPrefix(text, "[") {
		if end := strings.IndexByte(text, ']'); end > 0 {
			host, ports = text[1:end], strings.TrimPrefix(text[end+1:], ":")
		}
	} else if at := strings.LastIndexByte(text, ':'); at >= 0 {
		host, ports = text[:at], text[at+1:]
	}
	port, err := strconv.Atoi(ports)
	if err != nil || port < 1 || port > 65535 {
		r.problem(d.Place, kind.Refused, "a port, or address:port", "Listen %s names no port", text)
		return
	}
	if l.port, l.protocol = uint16(port), d.Arg(1); l.protocol == "" && port == 443 {
		l.protocol = "https"
	}
	switch a, err := netip.ParseAddr(host); {
	case host == "" || host == "*":
	case err == nil:
		l.addr = a.WithZone("")
	case len(r.hosts[host]) > 0:
		l.addr = r.hosts[host][0]
	default:
		r.problem(d.Place, kind.Unread, "an IP address",
			"the address of Listen %s is found by name when the server starts, so it is not known here", text)
		r.out.Listeners = append(r.out.Listeners, kind.Listener{Place: d.Place, Protocol: kind.HTTP, Unknown: text})
		return
	}
	r.listens = append(r.listens, l)
}

// chain are the virtual hosts of one address, among which a name is looked for.
type chain struct {
	bound
	hosts []int // indexes of virtual hosts
}

// chains sorts the virtual hosts by their addresses, as httpd does: a new address
// comes before those there are, one for every port behind them.
func chains(list []*vhost) []*chain {
	var out []*chain
	for i, v := range list {
		for _, b := range v.at {
			c := chainFor(out, b.addr, b.port)
			if c == nil || c.port != b.port {
				if c = (&chain{bound: b}); b.port == 0 {
					out = append(out, c)
				} else {
					out = append([]*chain{c}, out...)
				}
			}
			if n := len(c.hosts); n == 0 || c.hosts[n-1] != i {
				c.hosts = append(c.hosts, i)
			}
		}
	}
	return out
}

// chainFor finds the chain of an address and port: its own before one for every
// address.
func chainFor(list []*chain, addr netip.Addr, port uint16) *chain {
	for _, c := range list {
		if c.addr == addr && (c.port == 0 || port == 0 || c.port == port) {
			return c
		}
	}
	return nil
}

// attach makes the listeners: one for each Listen, and one more for each address of
// its port that has virtual hosts of its own.
func (r *reader) attach() {
	list := chains(r.virtual)
	index := map[*vhost]int{}
	site := func(v *vhost) int {
		i, met := index[v]
		if !met {
			i = len(r.out.Sites)
			index[v] = i
			r.out.Sites = append(r.out.Sites, v.site)
		}
		return i
	}
	for _, v := range r.virtual {
		site(v)
	}
	met := map[netip.AddrPort]bool{}
	add := func(l *listen, addr netip.Addr) {
		at := netip.AddrPortFrom(addr, l.port)
		if met[at] || len(r.out.Listeners) >= listenersLimit {
			return
		}
		met[at] = true
		own := addr
		if addr.IsUnspecified() {
			own = netip.Addr{}
		}
		c := chainFor(list, own, l.port)
		if c == nil {
			c = chainFor(list, netip.Addr{}, l.port)
		}
		o := kind.Listener{Place: l.at, Protocol: kind.HTTP, Address: at, Both: addr == netip.IPv6Unspecified()}
		if c == nil {
			o.Default = site(r.mainly)
			o.Sites, o.TLS = []int{o.Default}, r.mainly.tls
		} else {
			for _, h := range c.hosts {
				o.Sites = append(o.Sites, site(r.virtual[h]))
			}
			o.Default, o.TLS = o.Sites[0], r.virtual[c.hosts[0]].tls
		}
		r.out.Listeners = append(r.out.Listeners, o)
	}
	for i := range r.listens {
		l := &r.listens[i]
		if add(l, l.addr); !l.addr.IsUnspecified() {
			continue
		}
		for _, c := range list {
			if c.addr.IsValid() && (c.port == 0 || c.port == l.port) && (l.addr.Is6() || c.addr.Is4()) {
				add(l, c.addr)
			}
		}
	}
	r.plainRoutes(index)
}

// settle tells names that nobody is led to, addresses nothing listens at, and keys
// nobody can open.
func (r *reader) settle() {
	type seen struct{ taken, free int }
	counts := map[*kind.Name]*seen{}
	first := map[*kind.Name]*kind.Site{}
	for i := range r.out.Listeners {
		l := &r.out.Listeners[i]
		t := tableOf(r.out, l)
		for order, s := range l.Sites {
			site := &r.out.Sites[s]
			for n := range site.Names {
				mine := &site.Names[n]
				if counts[mine] == nil {
					counts[mine] = &seen{}
				}
				counts[mine].free++
				if len(mine.Covers) == 0 {
					continue
				}
				if by := t.find(strings.Replace(mine.Covers[0], "*", "any-name", 1)); by >= 0 && by < order {
					counts[mine].taken++
					first[mine] = &r.out.Sites[l.Sites[by]]
				}
			}
		}
	}
	for i := range r.out.Sites {
		for n := range r.out.Sites[i].Names {
			mine := &r.out.Sites[i].Names[n]
			c := counts[mine]
			if c == nil || c.taken == 0 {
				continue
			}
			r.problem(mine.Place, kind.Suspect, "each name at one virtual host of an address",
				"the name %s is not reached: the virtual host at %s has it already", mine.Text, first[mine].Place)
			mine.Ignored = c.taken == c.free
		}
	}
	reached := map[int]bool{}
	for i := range r.out.Listeners {
		for _, s := range r.out.Listeners[i].Sites {
			reached[s] = true
		}
	}
	for i, v := range r.virtual {
		if !reached[i] && len(v.at) > 0 {
			r.problem(v.site.Place, kind.Suspect, "Listen for its port",
				"no Listen opens an address of this virtual host (%s)", strings.Join(v.site.Asked, " "))
		}
	}
	r.unopened()
}

// absent tells a file that is not there, which the server's own test sees.
func (r *reader) absent(at kind.Place, p string) bool {
	m := r.out.Material[p]
	if m == nil || m.Fault != source.Missing {
		return false
	}
	r.problem(at, kind.Refused, "a file", "%s: %s", p, m.Fault)
	return true
}

// late notes what the server's own test passes, and what ends it at a reload.
func (r *reader) late(at kind.Place, expected, format string, args ...any) {
	if len(r.problems) < problemsLimit {
		p := problemAt(at, kind.Refused, expected, format, args...)
		p.Late = true
		r.problems = append(r.problems, p)
	}
}

// unopened tells the certificates and keys with which the server does not start:
// its own test does not open them, and a reload with one of them ends it.
func (r *reader) unopened() {
	told := map[string]bool{}
	tell := func(at kind.Place, expected, format string, args ...any) {
		if text := at.String() + fmt.Sprintf(format, args...); !told[text] {
			told[text] = true
			r.late(at, expected, format, args...)
		}
	}
	for _, s := range r.out.Sites {
		for i := range s.Pairs {
			p := &s.Pairs[i]
			certificate, key := r.out.Material[p.Certificate], r.out.Material[p.Key]
			if r.absent(p.Place, p.Certificate) || r.absent(p.KeyPlace, p.Key) {
				continue
			}
			switch {
			case certificate == nil || certificate.Hidden && len(certificate.Chain) == 0:
			case len(certificate.Chain) == 0:
				tell(p.Place, "a certificate as PEM", "%s: %s", p.Certificate, orElse(certificate.Fault, "no certificate in it"))
			case key == nil:
			case key.Fault == certs.ErrEncrypted.Error():
				if !s.Passphrases {
					tell(p.KeyPlace, "SSLPassPhraseDialog with a program, or a key that is not encrypted",
						"the key %s is encrypted, and nobody is there to type its passphrase", p.Key)
				}
			case key.Hidden:
			case key.Public == "":
				tell(p.KeyPlace, "a private key as PEM", "%s: %s", p.Key, orElse(key.Fault, certs.ErrNoKey.Error()))
			default:
				if c, err := certs.Parse(r.out.Certificates[certificate.Chain[0]]); err == nil &&
					c.Public().String() != key.Public {
					tell(p.KeyPlace, "the key of that certificate", "the key %s belongs to another certificate than %s", p.Key,
						p.Certificate)
				}
			}
		}
	}
}

// material reads the certificate and key files the sites name, and those beside
// them.
func (r *reader) material() error {
	named := map[string]bool{}
	for _, list := range [][]kind.Site{r.out.Sites, r.out.Idle} {
		for _, s := range list {
			for _, p := range s.Pairs {
				for _, f := range []string{p.Certificate, p.Key, p.Chain} {
					if strings.HasPrefix(f, "/") {
						named[f] = true
					}
				}
			}
		}
	}
	if err := source.Material(r.fs, r.out, named, nil); err != nil {
		return err
	}
	return source.Trust(r.fs, r.out)
}

// idle reads the files beside those in force that are not: in an included folder
// under a name the pattern leaves out, or in the folder NAME-available beside
// NAME-enabled.
func (r *reader) idle() error {
	inForce := map[string]bool{}
	for p := range r.inForce {
		inForce[p] = true
		if r.links[p] {
			inForce[source.LinkTarget(r.fs, p)] = true
		}
	}
	var paths []string
	met := map[string]bool{}
	for _, pattern := range r.patterns {
		dir := path.Dir(pattern)
		for _, d := range []string{dir, strings.TrimSuffix(dir, "-enabled") + "-available"} {
			if met[d] || strings.ContainsAny(d, "*?[") || d != dir && !strings.HasSuffix(dir, "-enabled") {
				continue
			}
			met[d] = true
			entries, err := fs.ReadDir(r.fs, source.InFS(d))
			if kind.Lost(err) {
				return err
			}
			for _, e := range entries {
				if p := path.Join(d, e.Name()); !e.IsDir() && !inForce[p] && !strings.HasPrefix(e.Name(), ".") &&
					len(paths) < idleLimit {
					paths = append(paths, p)
				}
			}
		}
	}
	own, told := r.order, r.problems
	defer func() { r.order, r.problems = own, told }() // what is wrong with them is nobody's concern yet
	r.prefetch(paths, kind.Place{})
	for _, p := range paths {
		f := r.files[p]
		if f == nil || r.lost != nil {
			continue
		}
		var list []*Directive
		r.run(f.nodes, &list, &frame{trail: []string{p}})
		words, link := r.switchedOn(p)
		before := len(r.out.Idle)
		for _, d := range list {
			if d.Name == "virtualhost" && d.Section {
				v := r.host(d)
				r.inherit(v, r.mainly)
				v.site.SwitchOn, v.site.Link = words, link
				r.out.Idle = append(r.out.Idle, v.site)
			}
		}
		if len(r.out.Idle) > before {
			r.idleFiles = append(r.idleFiles, f)
		}
	}
	return r.lost
}

// switchedOn says what puts a file in force: a link in NAME-enabled for one in
// NAME-available, otherwise a name that is included.
func (r *reader) switchedOn(p string) (words string, link *install.Link) {
	if stem, ok := strings.CutSuffix(path.Dir(p), "-available"); ok {
		name := path.Base(p)
		at := path.Join(stem+"-enabled", name)
		if !slices.ContainsFunc(r.patterns, func(p string) bool { return source.MatchesPath(p, at) }) && !strings.HasSuffix(name, ".conf") {
			at += ".conf" // as the tools of Debian name them, and include no others
		}
		return fmt.Sprintf("switch it on: ln -s %s %s", p, at), &install.Link{Path: at, To: beside(at, p)}
	}
	return fmt.Sprintf("give %s a name that is included", p), nil
}

// fileOf is a configuration file as the reading keeps it.
func (r *reader) fileOf(f *file, inForce bool) kind.File {
	out := kind.File{Path: f.path, Text: f.text, InForce: inForce}
	if info := r.infos[f.path]; info != nil {
		out.Modified = info.ModTime().UTC()
	}
	if r.links[f.path] {
		if to := source.LinkTarget(r.fs, f.path); to != f.path {
			out.Link = to
		}
	}
	return out
}

// beside is a path as a link in the folder next to its own leads there, as the tools
// of Debian write it.
func beside(link, p string) string {
	if path.Dir(path.Dir(link)) != path.Dir(path.Dir(p)) {
		return p
	}
	return path.Join("..", path.Base(path.Dir(p)), path.Base(p))
}
