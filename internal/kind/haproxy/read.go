// Package haproxy reads the configuration of HAProxy: its syntax, environment and
// conditional parts, the bind lines with their certificates, lists and folders of
// these, which certificate answers for a name, and what becomes of a request in
// plain http; and it puts certificates there, live and on the disk.
//
// It does not know every keyword, and does not replace the server's own test. What
// it says about names and listeners is held against a running HAProxy by the tests.
// Written after HAProxy 2.6.
package haproxy

import (
	"fmt"
	"io/fs"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/source"
)

// listenersLimit is how many addresses and ports are told.
const listenersLimit = 20_000

// Read reads the configuration that begins with main, the absolute path of a file
// or of a folder of files. Whatever is wrong in it is told in the reading's
// Problems; the error is one of the source itself, and then there is no reading.
func Read(fsys fs.FS, main string) (*kind.Reading, error) {
	if !path.IsAbs(main) {
		return nil, fmt.Errorf("the main file %q is no absolute path", main)
	}
	r, err := read(fsys, main)
	if err != nil {
		return nil, err
	}
	if r.plainRoutes(); r.lost != nil {
		return nil, r.lost
	}
	if err := source.Trust(fsys, r.out); err != nil {
		return nil, err
	}
	for _, f := range append(slices.Clone(r.order), r.started...) {
		r.out.Files = append(r.out.Files, fileOf(f))
	}
	r.out.Loaded = source.Loaded(fsys, r.pid())
	r.out.Problems = r.problems
	slices.SortStableFunc(r.out.Problems, func(a, b kind.Problem) int {
		if c := strings.Compare(a.File, b.File); c != 0 {
			return c
		}
		return a.Line - b.Line
	})
	return r.out, nil
}

// read reads everything but what requests go through.
func read(fsys fs.FS, main string) (*reader, error) {
	r := &reader{loader: newLoader(fsys, path.Clean(main)), hosts: source.Hosts(fsys), lists: map[string]*list{},
		parsed: map[string]*certs.Certificate{},
		at:     map[netip.AddrPort]kind.Place{},
		out: &kind.Reading{Kind: name, Main: path.Clean(main), Material: map[string]*kind.Material{},
			Certificates: map[string][]byte{}}}
	if err := r.load(); err != nil {
		return nil, err
	}
	r.globals()
	for _, s := range r.sections {
		r.stores(s)
	}
	for _, s := range r.sections {
		if s.kind == "frontend" || s.kind == "listen" {
			r.front(s)
		}
	}
	if err := r.material(); err != nil {
		return nil, err
	}
	r.settle()
	return r, r.lost
}

// fileOf tells a file of the reading.
func fileOf(f *file) kind.File {
	out := kind.File{Path: f.path, Link: f.link, Text: f.text, InForce: true}
	if f.info != nil {
		out.Modified = f.info.ModTime().UTC()
	}
	return out
}

// pid is the file with the number of the main process.
func (r *reader) pid() string {
	if s := r.globally("pidfile"); s != nil {
		return s.arg(1)
	}
	return "/run/haproxy.pid"
}

// reader turns what is in force into the reading.
type reader struct {
	*loader
	out     *kind.Reading
	hosts   map[string][]netip.Addr // from the machine's hosts file
	fronts  []*front
	lists   map[string]*list // of certificates, read, by path
	entries []*entry         // by index of their site
	at      map[netip.AddrPort]kind.Place
	set     globals
	routes  *tree                         // of requests
	parsed  map[string]*certs.Certificate // by fingerprint
	kept    map[string]*entry             // certificates of stores, by @store/alias
}

// globals are settings of the global section.
type globals struct {
	crtBase, keyBase, caBase string
	defaultPath              []string
	bundles, keys            bool // further files beside a certificate are loaded
	shortened                bool // their names are made without .crt
	chains                   string
	unchecked                bool     // servers behind, where nothing else is said
	bind                     *options // of every bind line
}

// front is a frontend, or the front of a listen section.
type front struct {
	*section
	binds []*bind
	plain []int // listeners without TLS, by index
	site  int   // that answers there; -1 for none
	ways  []int // sites that pass on by the name asked for
}

// bind is one bind line.
type bind struct {
	*statement
	options
	entries []*entry // in the order they are loaded
}

// options of a bind line, or of one entry of a list.
type options struct {
	tls, strict          bool
	only6                bool
	ciphers              string
	lowest, highest      int   // versions of TLS, 0 for those usual: 10 is 1.0
	certificates, listed []int // words that name certificates, and lists of them
}

// entry is a certificate that is loaded, from one place.
type entry struct {
	site     int // its index
	place    kind.Place
	pairs    []kind.Pair // several for a bundle
	filtered bool        // its list says for which names it is
	from     string      // the folder or list it comes from; "" for the bind line itself
	options  *options
}

// globally finds the last line with a keyword in the global sections.
func (r *reader) globally(keyword string) (found *statement) {
	for _, s := range r.sections {
		if s.kind != "global" {
			continue
		}
		for _, o := range s.list {
			if o.arg(0) == keyword {
				found = o
			}
		}
	}
	return found
}

// globals reads what counts for every bind line.
func (r *reader) globals() {
	g := &r.set
	g.bundles, g.keys, g.bind = true, true, &options{}
	r.kept = map[string]*entry{}
	text := func(keyword string) string {
		if s := r.globally(keyword); s != nil {
			return s.arg(1)
		}
		return ""
	}
	g.crtBase, g.caBase, g.keyBase, g.chains = text("crt-base"), text("ca-base"), text("key-base"),
		text("issuers-chain-path")
	g.unchecked = text("ssl-server-verify") == "none"
	if s := r.globally("default-path"); s != nil {
		g.defaultPath = s.args(1)
	}
	if s := r.globally("ssl-load-extra-files"); s != nil {
		has := func(w string) bool { return slices.Contains(s.args(1), w) }
		g.bundles, g.keys = has("bundle") || has("all"), has("key") || has("all")
	}
	g.shortened = r.globally("ssl-load-extra-del-ext") != nil
	g.bind.ciphers = text("ssl-default-bind-ciphers")
	if s := r.globally("ssl-default-bind-options"); s != nil {
		r.optionsOf(s, 1, g.bind)
	}
}

// valued are the keywords of a bind line that take a value.
var valued = map[string]bool{"crt": true, "crt-list": true, "ca-file": true, "ca-verify-file": true, "crl-file": true,
	"alpn": true, "npn": true, "ciphers": true, "ciphersuites": true, "curves": true, "ecdhe": true, "sigalgs": true,
	"client-sigalgs": true, "ssl-min-ver": true, "ssl-max-ver": true, "verify": true, "name": true, "interface": true,
	"mode": true, "user": true, "group": true, "uid": true, "gid": true, "id": true, "level": true, "maxconn": true,
	"backlog": true, "nice": true, "process": true, "thread": true, "shards": true, "tcp-ut": true, "mss": true,
	"namespace": true, "severity-output": true, "proto": true, "expose-fd": true, "tls-ticket-keys": true,
	"ca-sign-file": true, "ca-sign-pass": true, "ca-ignore-err": true, "crt-ignore-err": true, "quic-cc-algo": true, "default-crt": true, "guid-prefix": true, "label": true, "idle-ping": true,
	"ocsp-update": true,
	"quic-socket": true, "cc": true}

// versions are those of TLS, as keywords write them.
var versions = map[string]int{"SSLv3": 3, "TLSv1.0": 10, "TLSv1.1": 11, "TLSv1.2": 12, "TLSv1.3": 13,
	"sslv3": 3, "tlsv10": 10, "tlsv11": 11, "tlsv12": 12, "tlsv13": 13}

// tls13 is the newest version of TLS, as versions count.
const tls13 = 13

// optionsOf reads keywords from a word on.
func (r *reader) optionsOf(s *statement, from int, o *options) {
	for i := from; i < len(s.words); i++ {
		w := s.arg(i)
		switch w {
		case "ssl":
			o.tls = true
		case "strict-sni":
			o.strict = true
		case "no-strict-sni":
			o.strict = false
		case "v6only":
			o.only6 = true
		case "v4v6":
			o.only6 = false
		case "no-tlsv13":
			o.highest = tls13 - 1
		case "crt", "default-crt":
			o.certificates = append(o.certificates, i+1)
		case "crt-list":
			o.listed = append(o.listed, i+1)
		case "ciphers":
			o.ciphers = s.arg(i + 1)
		case "ssl-min-ver":
			o.lowest = versions[s.arg(i+1)]
		case "ssl-max-ver":
			o.highest = versions[s.arg(i+1)]
		case "ca-file", "crl-file":
			r.clients(s, i)
		default:
			if v, forced := strings.CutPrefix(w, "force-"); forced && versions[v] > 0 {
				o.lowest, o.highest = versions[v], versions[v]
			}
		}
		if !valued[w] {
			continue
		}
		if i++; s.arg(i) == "" {
			r.problem(s.at(i-1), kind.Refused, "a value", "%s has no value", w)
		}
	}
}

// clients tells a file of CAs that is not there; visitors' certificates are checked
// by it.
func (r *reader) clients(s *statement, i int) {
	p := s.arg(i + 1)
	if p == "" || strings.HasPrefix(p, "@") {
		return
	}
	if !path.IsAbs(p) && r.set.caBase != "" {
		p = path.Join(r.set.caBase, p)
	}
	p = r.absolute(p, s)
	if _, err := fs.Stat(r.fs, source.InFS(p)); err != nil {
		if kind.Lost(err) {
			r.lost = err
		}
		r.problem(s.at(i+1), effectOf(err), "", "%s %s: %v", s.arg(i), p, source.Worded(err))
	}
}

// keyKinds are the kinds of key that can be used with the options of a bind line,
// and those of an entry before them.
func (r *reader) keyKinds(of ...*options) []string {
	var ciphers string
	highest := 0
	for _, o := range of {
		if o == nil {
			continue
		}
		if ciphers == "" {
			ciphers = o.ciphers
		}
		if highest == 0 {
			highest = o.highest
		}
	}
	if highest == 0 || highest >= tls13 || ciphers == "" {
		return nil
	}
	return source.SuiteKinds(ciphers)
}

// absolute makes a path absolute: relative ones begin where default-path says, and
// else in the folder the server was started in.
func (r *reader) absolute(p string, s *statement) string {
	if path.IsAbs(p) {
		return path.Clean(p)
	}
	folder := r.begins
	if way := r.set.defaultPath; len(way) > 0 {
		switch way[0] {
		case "config":
			folder = path.Dir(s.file.path)
		case "parent":
			folder = path.Dir(path.Dir(s.file.path))
		case "origin":
			if len(way) > 1 {
				folder = way[1]
			}
		}
	}
	if folder == "" {
		folder = path.Dir(r.main)
		r.problem(s.place, kind.Unread, "an absolute path, or default-path",
			"%s begins in the folder the server was started in, which is not known here; %s is taken", p, folder)
	}
	return path.Join(folder, p)
}

// front reads the bind lines of a section.
func (r *reader) front(s *section) {
	f := &front{section: s, site: -1}
	r.fronts = append(r.fronts, f)
	for _, o := range s.list {
		if o.arg(0) != "bind" {
			continue
		}
		b := &bind{statement: o}
		b.strict, b.only6 = r.set.bind.strict, r.set.bind.only6
		r.optionsOf(o, 2, &b.options)
		f.binds = append(f.binds, b)
		r.loads(b)
		r.listeners(f, b)
	}
}

// loads loads the certificates of a bind line in their order.
func (r *reader) loads(b *bind) {
	if !b.tls {
		return
	}
	words := append(slices.Clone(b.certificates), b.listed...)
	slices.Sort(words)
	for _, i := range words {
		if b.arg(i) == "" {
			continue
		}
		if slices.Contains(b.listed, i) {
			b.entries = append(b.entries, r.list(b, i)...)
		} else {
			b.entries = append(b.entries, r.certificate(b, i)...)
		}
	}
}

// based puts the folder of certificates before a path.
func (r *reader) based(p string, s *statement) string {
	if !path.IsAbs(p) && r.set.crtBase != "" {
		p = r.set.crtBase + "/" + p
	}
	return r.absolute(p, s)
}

// kinds of key in the names of bundles, in the order they are loaded
// (ssl_sock_load_cert).
var bundleEnds = []string{".dsa", ".ecdsa", ".rsa"}

// certificate loads what a word of a bind line names: a file, a folder of files or
// a bundle.
func (r *reader) certificate(b *bind, i int) []*entry {
	if strings.HasPrefix(b.arg(i), "@") {
		if e := r.kept[b.arg(i)]; e != nil {
			return []*entry{r.entry(b.at(i), b, e.pairs...)}
		}
		r.problem(b.at(i), kind.Refused, "load in a crt-store", "no store has the certificate %s", b.arg(i))
		return nil
	}
	p := r.based(b.arg(i), b.statement)
	info, err := fs.Stat(r.fs, source.InFS(p))
	switch {
	case kind.Lost(err):
		r.lost = err
		return nil
	case err == nil && info.IsDir():
		return r.loadFolder(b, i, p)
	case err == nil:
		return []*entry{r.entry(b.at(i), b, pairAt(b.at(i), p))}
	}
	if pairs := r.bundle(b.at(i), p); len(pairs) > 0 {
		return []*entry{r.entry(b.at(i), b, pairs...)}
	}
	r.problem(b.at(i), effectOf(err), "a file of certificate and key, or a folder of such",
		"the certificate %s: %v", p, source.Worded(err))
	return []*entry{r.entry(b.at(i), b, pairAt(b.at(i), p))}
}

// pairAt is a certificate with its key in one file.
func pairAt(at kind.Place, p string) kind.Pair {
	return kind.Pair{Place: at, Certificate: p, Key: p, KeyPlace: at}
}

// bundle finds the files of a bundle.
func (r *reader) bundle(at kind.Place, p string) (out []kind.Pair) {
	if !r.set.bundles {
		return nil
	}
	for _, end := range bundleEnds {
		if info, err := fs.Stat(r.fs, source.InFS(p+end)); err == nil && !info.IsDir() {
			out = append(out, pairAt(at, p+end))
		} else if kind.Lost(err) {
			r.lost = err
		}
	}
	return out
}

// besideEnds are endings of files in a folder that hold no certificate of their own
// (crtlist_load_cert_dir).
var besideEnds = []string{".issuer", ".ocsp", ".sctl", ".key"}

// loadFolder loads the files of a folder by name.
func (r *reader) loadFolder(b *bind, i int, dir string) (out []*entry) {
	entries, err := fs.ReadDir(r.fs, source.InFS(dir))
	if err != nil {
		if kind.Lost(err) {
			r.lost = err
		}
		r.problem(b.at(i), effectOf(err), "", "the folder %s cannot be listed: %v", dir, source.Worded(err))
		return nil
	}
	for _, e := range entries {
		p := path.Join(dir, e.Name())
		if dot := strings.LastIndexByte(e.Name(), '.'); dot >= 0 &&
			(dot == 0 || e.Name()[0] == '.' || slices.Contains(besideEnds, e.Name()[dot:])) {
			continue
		}
		if !e.Type().IsRegular() {
			switch info, err := fs.Stat(r.fs, source.InFS(p)); {
			case kind.Lost(err):
				r.lost = err
				return out
			case err != nil:
				r.problem(b.at(i), effectOf(err), "", "the certificate %s: %v", p, source.Worded(err))
				continue
			case !info.Mode().IsRegular():
				continue
			}
		}
		at := kind.Place{File: p, Line: 1, Column: 1}
		loaded := r.entry(at, b, pairAt(at, p))
		loaded.from = dir
		out = append(out, loaded)
	}
	return out
}

// entry makes a site of a certificate that is loaded.
func (r *reader) entry(at kind.Place, b *bind, pairs ...kind.Pair) *entry {
	e := &entry{site: len(r.out.Sites), place: at, pairs: pairs}
	r.entries = append(r.entries, e)
	r.out.Sites = append(r.out.Sites, kind.Site{Place: at, Protocol: kind.TCP, Pairs: pairs,
		Listens: []kind.Place{b.place}})
	return e
}

// listeners makes the listeners of a bind line.
func (r *reader) listeners(f *front, b *bind) {
	asked := b.arg(1)
	if asked == "" {
		r.problem(b.place, kind.Refused, "an address and port", "bind names no address")
		return
	}
	var sites []int
	for _, e := range b.entries {
		site := &r.out.Sites[e.site]
		site.Protocol = f.mode()
		site.Asked = append(site.Asked, asked)
		site.KeyKinds = r.keyKinds(e.options, &b.options, r.set.bind)
		if !slices.Contains(sites, e.site) {
			sites = append(sites, e.site)
		}
	}
	if b.tls && (len(sites) == 0 || b.strict) { // whoever has no certificate is turned away
		r.entries = append(r.entries, nil)
		sites = append([]int{len(r.out.Sites)}, sites...)
		r.out.Sites = append(r.out.Sites, kind.Site{Place: b.place, Protocol: f.mode(), Refuses: true,
			Listens: []kind.Place{b.place}, Asked: []string{asked}})
	}
	for text := range strings.SplitSeq(asked, ",") {
		for _, l := range r.addresses(b, text) {
			l.Place, l.Protocol, l.TLS = b.place, f.mode(), b.tls
			switch {
			case b.tls:
				l.Sites = sites
			case f.mode() == kind.TCP:
				l.Sites = r.passing(f, b)
			default:
				l.Sites = []int{r.plainSite(f, b)}
				f.plain = append(f.plain, len(r.out.Listeners))
			}
			l.Default = l.Sites[0]
			if l.Network() {
				if had, taken := r.at[l.Address]; taken && had != b.place {
					r.problem(b.at(1), kind.Suspect, "an address and port of its own",
						"%s is opened by %s as well, and connections come to either", l.String(), had)
				}
				r.at[l.Address] = b.place
			}
			r.out.Listeners = append(r.out.Listeners, l)
		}
	}
}

// plainSite is the site of a front without TLS.
func (r *reader) plainSite(f *front, b *bind) int {
	if f.site < 0 {
		f.site = len(r.out.Sites)
		r.entries = append(r.entries, nil)
		r.out.Sites = append(r.out.Sites, kind.Site{Place: f.head.place, Protocol: f.mode()})
	}
	site := &r.out.Sites[f.site]
	if !slices.Contains(site.Listens, b.place) {
		site.Listens = append(site.Listens, b.place)
		site.Asked = append(site.Asked, b.arg(1))
	}
	return f.site
}

// addresses reads one address of a bind line, which may stand for several ports.
func (r *reader) addresses(b *bind, text string) (out []kind.Listener) {
	family, rest := "", text
	if head, tail, has := strings.Cut(text, "@"); has {
		family, rest = head, tail
	}
	switch {
	case b.words[1].unknown != "":
		return []kind.Listener{{Unknown: b.arg(1)}}
	case family == "unix" || family == "" && strings.HasPrefix(rest, "/"):
		return []kind.Listener{{Socket: rest}}
	case family == "abns" || family == "abnsz":
		return []kind.Listener{{Socket: "@" + rest}}
	case strings.HasPrefix(family, "quic") || family == "fd" || family == "sockpair" || family == "uxst" ||
		strings.HasPrefix(family, "udp") || strings.HasPrefix(family, "rhttp") || family == "uxdg":
		return []kind.Listener{{Unknown: text}}
	}
	colon := strings.LastIndexByte(rest, ':')
	if colon < 0 {
		r.problem(b.at(1), kind.Refused, "address:port", "missing port in %s", text)
		return nil
	}
	host, ports := rest[:colon], rest[colon+1:]
	first, last, ok := portsOf(ports)
	if !ok {
		r.problem(b.at(1), kind.Refused, "a port from 1 to 65535, or two with a dash", "invalid port %s in %s",
			shown(ports), text)
		return nil
	}
	addr, ok := r.address(strings.Trim(host, "[]"), family)
	if !ok {
		r.problem(b.at(1), kind.Refused, "an address of this machine", "invalid address %s in %s", shown(host), text)
		return nil
	}
	for p := first; p <= last; p++ {
		if len(r.out.Listeners)+len(out) >= listenersLimit {
			r.problem(b.at(1), kind.Unread, "", "more than %d addresses and ports are not told", listenersLimit)
			return out
		}
		out = append(out, kind.Listener{Address: netip.AddrPortFrom(addr, uint16(p)), //nolint:gosec // checked
			Both: addr == netip.IPv6Unspecified() && !b.only6})
	}
	return out
}

// shown quotes a text that may be empty.
func shown(s string) string { return strconv.Quote(s) }

// portsOf reads a port or a range of ports.
func portsOf(text string) (first, last int, ok bool) {
	one, other, several := strings.Cut(text, "-")
	first, err := strconv.Atoi(one)
	last = first
	if several && err == nil {
		last, err = strconv.Atoi(other)
	}
	const most = 65535
	return first, last, err == nil && first >= 1 && last <= most && first <= last
}

// address reads the host of an address.
func (r *reader) address(host, family string) (netip.Addr, bool) {
	switch {
	case host == "" || host == "*":
		if family == "ipv6" || family == "tcp6" {
			return netip.IPv6Unspecified(), true
		}
		return netip.IPv4Unspecified(), true
	case host == "::":
		return netip.IPv6Unspecified(), true
	}
	if a, err := netip.ParseAddr(host); err == nil {
		return a.WithZone(""), true
	}
	for _, a := range r.hosts[host] {
		if family == "" || (family == "ipv6") == a.Is6() {
			return a, true
		}
	}
	return netip.Addr{}, false
}

// material reads the files of certificates and keys, and finds the key files beside
// those that hold none.
func (r *reader) material() error {
	named := map[string]bool{}
	for _, e := range r.entries {
		if e == nil {
			continue
		}
		for _, p := range e.pairs {
			named[p.Certificate], named[p.Key] = true, true
		}
	}
	if err := source.Material(r.fs, r.out, named, nil); err != nil {
		return err
	}
	keys := map[string]bool{}
	for _, e := range r.entries {
		if e == nil || !r.set.keys {
			continue
		}
		for i := range e.pairs {
			p := &e.pairs[i]
			if m := r.out.Material[p.Certificate]; p.Key == p.Certificate && m != nil && m.Public == "" && len(m.Chain) > 0 {
				p.Key = r.keyOf(p.Certificate)
				keys[p.Key] = true
			}
		}
	}
	if len(keys) > 0 {
		for k := range keys {
			if _, err := fs.Stat(r.fs, source.InFS(k)); err != nil && !kind.Lost(err) {
				delete(keys, k)
			}
		}
		if err := source.Material(r.fs, r.out, keys, nil); err != nil {
			return err
		}
	}
	return r.chains()
}

// keyOf is the file a key is looked for in beside a certificate.
func (r *reader) keyOf(p string) string {
	if r.set.shortened {
		p = strings.TrimSuffix(p, ".crt")
	}
	return p + ".key"
}

// chains finds, for certificates that come alone, the issuers that are put behind
// them (issuers-chain-path).
func (r *reader) chains() error {
	dir := r.set.chains
	if dir == "" {
		return nil
	}
	entries, err := fs.ReadDir(r.fs, source.InFS(dir))
	if kind.Lost(err) {
		return err
	}
	files := map[string]bool{}
	for _, e := range entries {
		if !e.IsDir() {
			files[path.Join(dir, e.Name())] = true
		}
	}
	if err := source.Material(r.fs, r.out, files, nil); err != nil {
		return err
	}
	issuers := map[string]string{} // file by subject
	for p := range files {
		if c := r.leaf(p); c != nil {
			issuers[string(c.RawSubject)] = p
		}
	}
	for _, e := range r.entries {
		for i := 0; e != nil && i < len(e.pairs); i++ {
			p := &e.pairs[i]
			if m := r.out.Material[p.Certificate]; m == nil || len(m.Chain) != 1 {
				continue
			}
			if c := r.leaf(p.Certificate); c != nil && string(c.RawIssuer) != string(c.RawSubject) {
				p.Chain = issuers[string(c.RawIssuer)]
			}
		}
	}
	return nil
}

// leaf is the first certificate of a file; nil when there is none.
func (r *reader) leaf(p string) *certs.Certificate {
	m := r.out.Material[p]
	if m == nil || len(m.Chain) == 0 {
		return nil
	}
	c, had := r.parsed[m.Chain[0]]
	if !had {
		c, _ = certs.Parse(r.out.Certificates[m.Chain[0]]) // nil for one that is none
		r.parsed[m.Chain[0]] = c
	}
	return c
}
