package nginx

import (
	"fmt"
	"io/fs"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// What a site that had no TLS gets, where nothing else is declared for it:
// versions and suites of BCP 195 (RFC 9325 sections 3.1.1 and 4.2).
const (
	bcp195Protocols = "TLSv1.2 TLSv1.3"
	bcp195Ciphers   = kind.Suites
)

// wellKnown is the path of http-01 (RFC 8555 section 8.3), which a redirecting
// site keeps free.
const wellKnown = "/.well-known/acme-challenge/"

// Edit works out the least change that makes sites show certificates: in a
// site with TLS the lines of its certificate and key, in a plain one a TLS
// listener, these lines, what BCP 195 asks for, and a permanent redirect from
// plain http that leaves the path of http-01 free. Whoever comes for another
// name gets what they got. It gives the files that change, in the order of their
// paths; none when all is as wanted. A *kind.EditError says why a site is not
// changed.
func Edit(fsys fs.FS, main string, list []kind.Wanted) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	for _, w := range list {
		if err := e.site(w); err != nil {
			return nil, err
		}
	}
	return e.edits()
}

// newEditor reads a configuration to change it.
func newEditor(fsys fs.FS, main string) (*editor, error) {
	reading, err := Read(fsys, main)
	if err != nil {
		return nil, err
	}
	t, err := load(fsys, path.Clean(main))
	if err != nil {
		return nil, err
	}
	e := &editor{tree: t, reading: reading, before: map[*File]string{}, used: map[*File]int{}}
	for _, files := range t.includes {
		for _, f := range files {
			e.used[f]++
		}
	}
	return e, nil
}

// editor changes the directives of a tree.
type editor struct {
	*tree
	reading *kind.Reading    // the edits are based on
	before  map[*File]string // files that were touched, as they were
	used    map[*File]int    // how often a file is included
}

// edits gives the files that changed, each by the path its links lead to: a
// link in sites-enabled is not to be written over.
func (e *editor) edits() (*kind.Edits, error) {
	out := &kind.Edits{Sites: map[kind.Place]kind.Place{}}
	for f, before := range e.before {
		after := f.Print()
		if after == before {
			continue
		}
		at, err := kind.Resolved(e.fs, f.Path)
		if err != nil {
			return nil, err
		}
		out.Files = append(out.Files, install.File{Path: at, Before: before, After: after})
		f.moved(out.Sites)
	}
	slices.SortFunc(out.Files, func(a, b install.File) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// moved notes where the sites of a changed file stand once it is printed.
func (f *File) moved(sites map[kind.Place]kind.Place) {
	var b strings.Builder
	var visit func(list []*Directive)
	visit = func(list []*Directive) {
		for _, d := range list {
			for i := range d.Words {
				b.WriteString(d.Words[i].Before)
				if i == 0 && d.Name() == "server" {
					text := b.String()
					sites[d.Place()] = kind.Place{File: f.Path, Line: 1 + strings.Count(text, "\n"),
						Column: len(text) - strings.LastIndexByte(text, '\n')}
				}
				b.WriteString(d.Words[i].Raw)
			}
			b.WriteString(d.Stop.Before + d.Stop.Raw + d.Opaque)
			visit(d.Block)
			b.WriteString(d.Close.Before + d.Close.Raw)
		}
	}
	visit(f.Nodes)
}

// parent is where a directive stands.
type parent struct {
	list *[]*Directive // the directives around it
	next *string       // what stands before whatever closes the list
	file *File         // they stand in
}

// find looks for the site's block and the blocks around it, outermost first.
func (e *editor) find(at kind.Place) (site *Directive, around []*Directive, where parent) {
	var visit func(p parent, outer []*Directive) bool
	visit = func(p parent, outer []*Directive) bool {
		for _, d := range *p.list {
			if d.Name() == "server" && d.Place() == at {
				site, around, where = d, slices.Clone(outer), p
				return true
			}
			if d.Stop.Raw == "{" && visit(parent{&d.Block, &d.Close.Before, d.File}, append(outer, d)) {
				return true
			}
			for _, f := range e.includes[d] {
				if visit(parent{&f.Nodes, &f.Rest, f}, outer) {
					return true
				}
			}
		}
		return false
	}
	if f := e.files[e.reading.Main]; f != nil {
		visit(parent{&f.Nodes, &f.Rest, f}, nil)
	}
	return site, around, where
}

// site changes one site to show a certificate. What it finds in its way is told
// with place and remedy, and nothing is changed then.
func (e *editor) site(w kind.Wanted) error {
	no := func(at kind.Place, remedy, format string, args ...any) error {
		return &kind.EditError{Place: at, Reason: fmt.Sprintf(format, args...), Remedy: remedy}
	}
	i := slices.IndexFunc(e.reading.Sites, func(s kind.Site) bool { return s.Place == w.Site })
	if i < 0 {
		return no(w.Site, "read the configuration anew", "no site in force is declared there")
	}
	site := &e.reading.Sites[i]
	d, around, where := e.find(w.Site)
	switch {
	case d == nil || len(around) == 0:
		return no(w.Site, "write the lines by hand", "the site's block is not found in its file")
	case d.Close.Raw == "" || len(d.File.Problems) > 0:
		return no(d.Place(), "mend the file first", "the file cannot be read to its end")
	case e.used[d.File] > 1:
		return no(d.Place(), "write the lines by hand", "the file %s is included more than once", d.File.Path)
	case site.Refuses:
		return no(d.Place(), "take ssl_reject_handshake out, or leave the site out of the mandate",
			"the site refuses TLS on purpose")
	}
	if e.speaksTLS(i) {
		return e.exchange(site, d, w, no)
	}
	if site.Protocol != kind.HTTP {
		return no(d.Place(), "add ssl to its listen line by hand", "a stream site without TLS is not changed")
	}
	return e.addTLS(site, d, around, where, w, no)
}

// speaksTLS goes by the listeners a site is at, for TLS may be switched on
// beside the site itself.
func (e *editor) speaksTLS(site int) bool {
	return slices.ContainsFunc(e.reading.Listeners,
		func(l kind.Listener) bool { return l.TLS && slices.Contains(l.Sites, site) })
}

// refusal makes the error for something that stands in the way.
type refusal func(at kind.Place, remedy, format string, args ...any) error

// exchange puts other paths in the place of a TLS site's certificate and key.
func (e *editor) exchange(site *kind.Site, d *Directive, w kind.Wanted, no refusal) error {
	inside := func(p kind.Place) *Directive { return e.inside(d, p) }
	switch {
	case len(site.Pairs) > 1:
		return no(site.Pairs[1].Place, "leave the site one pair, or write the lines by hand",
			"the site shows %d certificates", len(site.Pairs))
	case len(site.Pairs) == 1 && site.Pairs[0].AtRunTime:
		return no(site.Pairs[0].Place, "write the lines by hand",
			"the certificate is chosen by a variable for each connection")
	}
	behind := lastOf(d, "listen", "server_name")
	missing := []string{"ssl_certificate " + quoteWord(w.Certificate) + ";",
		"ssl_certificate_key " + quoteWord(w.Key) + ";"}
	if len(site.Pairs) == 1 {
		p := site.Pairs[0]
		if p.Certificate == w.Certificate && p.Key == w.Key {
			return nil
		}
		certificate, key := inside(p.Place), inside(p.KeyPlace)
		for _, at := range []*Directive{certificate, key} {
			if at != nil && e.used[at.File] > 1 {
				return no(at.Place(), "write the lines into the site itself", "these lines are included by several sites")
			}
		}
		if key != nil {
			e.put(key, 1, w.Key)
			missing = missing[:1]
			behind = max(behind, slices.Index(d.Block, key)-1)
		}
		if certificate != nil {
			if !w.Keep {
				e.put(certificate, 1, w.Certificate)
			}
			missing = missing[1:]
			behind = max(behind, slices.Index(d.Block, certificate))
		}
	}
	if len(missing) == 0 {
		return nil
	}
	e.touch(d.File)
	e.insert(d, behind, missing...)
	return nil
}

// inside finds the directive at a place in a block or in what it includes.
func (e *editor) inside(block *Directive, at kind.Place) *Directive {
	for _, d := range block.Block {
		if d.Place() == at {
			return d
		}
		for _, f := range e.includes[d] {
			if found := e.inside(&Directive{Block: f.Nodes}, at); found != nil {
				return found
			}
		}
	}
	return nil
}

// addTLS gives a plain site TLS, and leads its visitors of plain http there.
// Where nobody else comes to the site in plain http, a site before it does that;
// where others do, since it answers for hosts without a site, rules in the site
// itself tell its own names apart.
func (e *editor) addTLS(site *kind.Site, d *Directive, around []*Directive, where parent, w kind.Wanted,
	no refusal) error {
	lines, root, served, err := e.fit(site, d, w, no)
	if err != nil {
		return err
	}
	secured := e.secured(site, &w)
	if err := e.keepDefaults(site, w.Port, no); err != nil {
		return err
	}
	pair, err := e.pairLines(site, d, w, no)
	if err != nil {
		return err
	}
	e.touch(d.File)
	add, others := slices.Clone(secured), e.othersCome(site)
	switch {
	case !others:
		e.redirectBefore(d, where, lines, root, w.Port)
		turn(lines, secured)
		add = add[min(len(lines), len(add)):]
	case len(lines) == 0:
		add = append([]string{"listen 80;"}, add...) // what goes without saying until another one is written
	}
	add = append(add, pair...)
	for _, setting := range [][2]string{{"ssl_protocols", bcp195Protocols}, {"ssl_ciphers", bcp195Ciphers}} {
		if !e.declared(setting[0], append(slices.Clone(around), d)) {
			add = append(add, setting[0]+" "+setting[1]+";")
		}
	}
	if others {
		add = append(add, e.ownNamesOnly(site, d, root, served, w.Port)...)
	}
	e.insert(d, firstPlace(d), add...)
	return nil
}

// fit gives what a plain site brings for TLS: its listen lines, and the folder the
// files of http-01 lie in, served already or not. The error says why it cannot be
// given any.
func (e *editor) fit(site *kind.Site, d *Directive, w kind.Wanted, no refusal) (lines []*Directive, root string,
	served bool, err error) {
	if w.Port == 0 {
		return nil, "", false, no(d.Place(), "declare the port under ports of the server in the estate file",
			"no port is known for https here")
	}
	if site.OnlyRedirects() {
		return nil, "", false,
			no(site.Plain[0].Front.Place, "choose the site it redirects to", "the site only redirects to %s",
				site.Plain[0].Front.To)
	}
	if lines, err = plainListens(d, no); err != nil {
		return nil, "", false, err
	}
	for _, asked := range site.Listens {
		if asked.File != d.File.Path {
			return nil, "", false,
				no(asked, "write the listen line into the site itself", "a listen line of the site is included")
		}
	}
	if len(lines) == 0 && len(site.Listens) > 0 && site.Listens[0] != d.Place() {
		return nil, "", false,
			no(d.Place(), "add a listen line at an address and port", "the site listens at no address of a network")
	}
	for _, l := range e.reading.Listeners {
		if !l.TLS && l.Address.Port() == w.Port && l.Socket == "" && l.Unknown == "" {
			return nil, "", false, no(l.Place, "choose another port for https", "port %d is spoken without TLS there", w.Port)
		}
	}
	if root, served = proofsRoot(site, w.Proofs); root == "" {
		return nil, "", false,
			no(d.Place(), "give the site a root", "the site has no folder the files of http-01 could lie in")
	}
	return lines, root, served, nil
}

// pairLines exchanges the certificate and key a plain site declares already, and
// gives the lines that are missing.
func (e *editor) pairLines(site *kind.Site, d *Directive, w kind.Wanted, no refusal) (missing []string, err error) {
	certificate, key := false, false
	for _, p := range site.Pairs {
		for _, line := range []struct {
			at   kind.Place
			to   string
			have *bool
		}{{p.Place, w.Certificate, &certificate}, {p.KeyPlace, w.Key, &key}} {
			c := e.inside(d, line.at)
			switch {
			case c == nil:
				continue
			case e.used[c.File] > 1:
				return nil, no(c.Place(), "write the lines into the site itself", "these lines are included by several sites")
			case *line.have:
				return nil, no(c.Place(), "leave the site one pair, or write the lines by hand", "the site names %d certificates",
					len(site.Pairs))
			}
			e.put(c, 1, line.to)
			*line.have = true
		}
	}
	if !certificate {
		missing = append(missing, "ssl_certificate "+quoteWord(w.Certificate)+";")
	}
	if !key {
		missing = append(missing, "ssl_certificate_key "+quoteWord(w.Key)+";")
	}
	return missing, nil
}

// firstPlace is the index of the directive new lines stand behind: the last of
// listen and server_name, though before every rule that could end a request.
func firstPlace(d *Directive) int {
	at := lastOf(d, "listen", "server_name")
	for i, c := range d.Block {
		switch c.Name() {
		case "return", "if", "set", "rewrite", "break":
			return min(at, i-1)
		}
	}
	return at
}

// redirectBefore puts a site before another that takes plain http in its place.
func (e *editor) redirectBefore(d *Directive, where parent, lines []*Directive, root string, port uint16) {
	indent, _ := indents(d)
	first := &Directive{File: d.File, Words: []Word{{Raw: redirecting(d, lines, root, port), Before: d.Words[0].Before}}}
	d.Words[0].Before = "\n" + indent
	*where.list = slices.Insert(*where.list, slices.Index(*where.list, d), first)
}

// othersCome says whether a plain site is asked for hosts that no certificate for
// its names lists: it is the default of a listener, or has a name that stands for
// more than one host (a wildcard takes names of any depth here).
func (e *editor) othersCome(site *kind.Site) bool {
	for _, n := range site.Names {
		if n.Host() == "" && n.Text != "_" {
			return true
		}
	}
	for i := range e.reading.Listeners {
		if l := &e.reading.Listeners[i]; l.Network() && !l.TLS && e.reading.Sites[l.Default].Place == site.Place {
			return true
		}
	}
	return false
}

// ownVariable is what the rules in a site go by.
const ownVariable = "$insegna_https"

// ownProofs is the path, for this server alone, that requests of a CA for the
// site's own names are led to.
const ownProofs = "/.insegna-proofs/"

// ownNamesOnly gives the rules that lead a site's own names from plain http to
// https, and leave the path of http-01 free for them, in a site that others come
// to as well. Where the site does not serve that path, a location of their own
// does.
func (e *editor) ownNamesOnly(site *kind.Site, d *Directive, root string, served bool, port uint16) []string {
	outer, unit := indents(d)
	block := func(head, line string) string {
		return head + " {\n" + outer + unit + unit + line + "\n" + outer + unit + "}"
	}
	own := ownPatterns(site)
	list := leadingRules(d, own, port)
	if served {
		return list
	}
	for _, part := range alternatives(own) {
		list = append(list,
			block("if ("+ownVariable+" ~* ^proof:http:("+part+`)\.?(:[0-9]+)?$)`, "rewrite ^ "+strings.TrimSuffix(ownProofs, "/")+"$uri last;"))
	}
	return append(list,
		block("location ^~ "+ownProofs,
			"internal;\n"+outer+unit+unit+"alias "+quoteWord(strings.TrimSuffix(root, "/")+"/")+";"))
}

// alternatives are expressions for one of some texts each: a word has so many bytes.
func alternatives(list []string) (out []string) {
	const bytes = 3000
	for _, part := range kind.Parted(list, len(list), bytes) {
		out = append(out, strings.Join(part, "|"))
	}
	return out
}

// leadingRules lead those from plain http to https who ask for hosts that expressions stand
// for, but for the path of http-01.
func leadingRules(d *Directive, own []string, port uint16) []string {
	outer, unit := indents(d)
	block := func(head, line string) string {
		return head + " {\n" + outer + unit + unit + line + "\n" + outer + unit + "}"
	}
	out := []string{
		"# Plain http of these names goes to https; other hosts get what they got.",
		"set " + ownVariable + " $scheme:$http_host;",
		block("if ($uri ~ ^"+strings.ReplaceAll(wellKnown, ".", `\.`)+")", "set "+ownVariable+" proof:"+ownVariable+";"),
	}
	for _, part := range alternatives(own) {
		out = append(out, block("if ("+ownVariable+" ~* ^http:("+part+`)\.?(:[0-9]+)?$)`, "return 301 "+httpsOf(port)+";"))
	}
	return out
}

// ownPatterns are expressions for the names of a site that a certificate lists.
func ownPatterns(site *kind.Site) []string {
	var list []string
	for i := range site.Names {
		for _, c := range site.Names[i].Covers {
			text := regexp.QuoteMeta(c)
			if rest, wild := strings.CutPrefix(c, "*."); wild {
				text = `[^.:]+\.` + regexp.QuoteMeta(rest)
			}
			if !slices.Contains(list, text) {
				list = append(list, text)
			}
		}
	}
	return list
}

// httpsOf is where a visitor of plain http is led.
func httpsOf(port uint16) string {
	to := "https://$host"
	if port != 443 {
		to += ":" + strconv.Itoa(int(port))
	}
	return to + "$request_uri"
}

// plainListens are the listen lines of a site that speaks no TLS. Sockets of the
// machine are left out; a listener behind the PROXY protocol is refused, for
// nobody outside could reach a new one beside it.
func plainListens(d *Directive, no refusal) (lines []*Directive, err error) {
	for _, l := range d.Block {
		if l.Name() != "listen" || strings.HasPrefix(l.Arg(0), "unix:") {
			continue
		}
		for _, a := range l.Args() {
			if a.Text == "proxy_protocol" {
				return nil, no(l.Place(), "write the lines by hand",
					"what stands in front of this listener speaks the PROXY protocol")
			}
		}
		lines = append(lines, l)
	}
	return lines, nil
}

// secured gives the listen lines with which a plain site takes TLS wherever it
// takes plain http. It joins the listeners that take such connections already,
// in their form: a closer address would take them away from all other sites. Where
// some addresses have listeners of their own, others of the server get theirs too;
// one for all addresses would need a restart, for the running server holds theirs.
func (e *editor) secured(site *kind.Site, w *kind.Wanted) []string {
	var out []string
	add := func(text string) {
		if !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	for i := range e.reading.Listeners {
		l := &e.reading.Listeners[i]
		if !l.Network() || l.TLS || !e.at(l, site) {
			continue
		}
		for _, own := range families(l) {
			there := e.taking(netip.AddrPortFrom(own, w.Port))
			for _, t := range there {
				add("listen " + e.joining(t) + ";")
			}
			if len(there) == 0 {
				both := e.bothFamilies(l, own, w.Port)
				add("listen " + listenText(netip.AddrPortFrom(own, w.Port)) + " ssl" + both + ";")
				if l.Both && both != "" {
					break // the other family is taken by it as well
				}
			}
			if !own.IsUnspecified() || slices.ContainsFunc(there, func(t *kind.Listener) bool {
				return t.Address.Addr().IsUnspecified()
			}) {
				continue
			}
			for _, a := range w.Addresses {
				at := netip.AddrPortFrom(a, w.Port)
				if len(there) > 0 && a.Is4() == own.Is4() &&
					!slices.ContainsFunc(there, func(t *kind.Listener) bool { return t.Address == at }) {
					add("listen " + listenText(at) + " ssl;")
				}
			}
		}
	}
	return out
}

// at says whether a site is at a listener.
func (e *editor) at(l *kind.Listener, site *kind.Site) bool {
	return slices.ContainsFunc(l.Sites, func(s int) bool { return e.reading.Sites[s].Place == site.Place })
}

// families are the addresses a listener stands for, one a family of addresses.
func families(l *kind.Listener) []netip.Addr {
	if l.Both {
		return []netip.Addr{l.Address.Addr(), netip.IPv4Unspecified()}
	}
	return []netip.Addr{l.Address.Addr()}
}

// taking gives the TLS listeners that take connections to an address and port:
// for an address of its own the closest one, for all addresses of a family every
// one at them.
func (e *editor) taking(at netip.AddrPort) []*kind.Listener {
	var out []*kind.Listener
	var wide *kind.Listener
	for i := range e.reading.Listeners {
		l := &e.reading.Listeners[i]
		switch {
		case !l.TLS || !l.Network() || l.Protocol != kind.HTTP || l.Address.Port() != at.Port():
		case l.Address.Addr() == at.Addr():
			if !at.Addr().IsUnspecified() {
				return []*kind.Listener{l}
			}
			out = append(out, l)
		case l.Takes(at):
			wide = l
		case at.Addr().IsUnspecified() && !l.Address.Addr().IsUnspecified() && l.Address.Addr().Is4() == at.Addr().Is4():
			out = append(out, l)
		}
	}
	if wide != nil && !slices.ContainsFunc(out, func(l *kind.Listener) bool { return l.Address == at }) {
		out = append(out, wide)
	}
	return out
}

// listenText writes an address and port as listen takes it.
func listenText(at netip.AddrPort) string {
	if at.Addr() == netip.IPv4Unspecified() {
		return strconv.Itoa(int(at.Port()))
	}
	return at.String()
}

// joining writes what a listen line says to be at a listener that is there: its
// address, and how it is spoken to.
func (e *editor) joining(l *kind.Listener) string {
	text := listenText(l.Address) + " ssl"
	if d := e.line(l.Place); d != nil {
		for _, a := range d.Args() {
			if a.Text == "http2" || a.Text == "proxy_protocol" {
				text += " " + a.Text
			}
		}
	}
	return text
}

// bothFamilies is what a new listener says of the families of its addresses: as
// the plain one does, unless another listener has one of them.
func (e *editor) bothFamilies(l *kind.Listener, own netip.Addr, port uint16) string {
	if own != netip.IPv6Unspecified() {
		return ""
	}
	d := e.line(l.Place)
	if d == nil || l.Both && len(e.taking(netip.AddrPortFrom(netip.IPv4Unspecified(), port))) > 0 {
		return ""
	}
	for _, a := range d.Args() {
		if strings.HasPrefix(a.Text, "ipv6only=") {
			return " " + a.Text
		}
	}
	return ""
}

// line finds the directive at a place.
func (e *editor) line(at kind.Place) *Directive {
	f := e.files[at.File]
	if f == nil {
		return nil
	}
	var find func(list []*Directive) *Directive
	find = func(list []*Directive) *Directive {
		for _, d := range list {
			if d.Place() == at {
				return d
			}
			if found := find(d.Block); found != nil {
				return found
			}
		}
		return nil
	}
	return find(f.Nodes)
}

// keepDefaults declares the site that answers for unknown names at each listener
// a plain site joins, where that is so far the first one there and would no
// longer be.
func (e *editor) keepDefaults(site *kind.Site, port uint16, no refusal) error {
	for i := range e.reading.Listeners {
		if l := &e.reading.Listeners[i]; l.TLS && l.Network() && l.Address.Port() == port {
			if err := e.keepDefault(site, l, no); err != nil {
				return err
			}
		}
	}
	return nil
}

// keepDefault does so at one listener.
func (e *editor) keepDefault(site *kind.Site, l *kind.Listener, no refusal) error {
	mine := slices.IndexFunc(e.reading.Sites, func(s kind.Site) bool { return s.Place == site.Place })
	if l.Chosen || l.Default < mine {
		return nil
	}
	def := &e.reading.Sites[l.Default]
	lines := e.linesAt(def, l)
	if len(lines) == 0 || slices.ContainsFunc(lines, func(d *Directive) bool { return e.used[d.File] > 1 }) {
		return no(def.Place, "add default_server to its listen line by hand",
			"unknown names at %s get the site %s because it is the first there, and it would no longer be", l, def.MainName())
	}
	if slices.ContainsFunc(lines[0].Args(), func(w Word) bool { return w.Text == "default_server" }) {
		return nil // by another site of this edit
	}
	e.touch(lines[0].File)
	lines[0].Words = append(lines[0].Words, Word{Raw: "default_server", Text: "default_server", Before: " "})
	return nil
}

// linesAt are the listen lines of a site that name a listener alone.
func (e *editor) linesAt(site *kind.Site, l *kind.Listener) []*Directive {
	var out []*Directive
	for n, at := range site.Listens {
		d := e.line(at)
		if d == nil || d.Name() != "listen" || n >= len(site.Asked) {
			continue
		}
		host, ports := splitListen(d.Arg(0))
		first, last, ok := portRange(ports)
		addresses := []netip.Addr{netip.IPv4Unspecified()}
		if host != "*" && host != "" {
			a, err := netip.ParseAddr(strings.Trim(host, "[]"))
			if err != nil {
				continue
			}
			addresses[0] = a.WithZone("")
		}
		if ok && first == last && uint16(first) == l.Address.Port() && addresses[0] == l.Address.Addr() {
			out = append(out, d)
		}
	}
	return out
}

// proofsRoot is the folder the files of http-01 lie under: the one the site
// serves them from already, else the one wanted; "" when neither is known.
func proofsRoot(site *kind.Site, wanted string) (root string, served bool) {
	if len(site.Plain) > 0 {
		if s := site.Plain[0].WellKnown; s.Handling == kind.Serves && s.Under == "" && path.IsAbs(s.To) &&
			!strings.Contains(s.To, "$") {
			return s.To, true
		}
	}
	return wanted, false
}

// redirecting writes the site that takes plain http in the place of another:
// the path of http-01 stays free, all else goes to https, with host, path and
// query.
func redirecting(d *Directive, listens []*Directive, root string, port uint16) string {
	indent, unit := indents(d)
	var b strings.Builder
	b.WriteString("server {\n")
	line := func(deep int, text string) { b.WriteString(indent + strings.Repeat(unit, deep) + text + "\n") }
	for _, l := range listens {
		line(1, "listen "+rawArgs(l)+";")
	}
	for _, n := range d.Block {
		if n.Name() == "server_name" {
			line(1, "server_name "+rawArgs(n)+";")
		}
	}
	line(1, "location ^~ "+wellKnown+" {")
	line(2, "root "+quoteWord(root)+";")
	line(1, "}")
	line(1, "location / {")
	line(2, "return 301 "+httpsOf(port)+";")
	line(1, "}")
	line(0, "}")
	return b.String()
}

// turn makes the listen lines of a site the ones it takes TLS at; those that are
// too many go.
func turn(lines []*Directive, secured []string) {
	for i, l := range lines {
		if i >= len(secured) {
			l.Words, l.Stop = nil, Mark{}
			continue
		}
		l.Words = []Word{{Raw: strings.TrimSuffix(secured[i], ";"), Before: l.Words[0].Before}}
	}
}

// declared says whether one of some blocks, or what it includes, holds a
// directive of a name.
func (e *editor) declared(name string, blocks []*Directive) bool {
	for _, b := range blocks {
		for _, d := range b.Block {
			if d.Name() == name {
				return true
			}
			for _, f := range e.includes[d] {
				if e.declared(name, []*Directive{{Block: f.Nodes}}) {
					return true
				}
			}
		}
	}
	return false
}

// touch keeps a file's text from before its first change.
func (e *editor) touch(f *File) {
	if _, met := e.before[f]; !met {
		e.before[f] = f.Text
	}
}

// put writes another word in the place of one.
func (e *editor) put(d *Directive, word int, text string) {
	e.touch(d.File)
	d.Words[word].Raw, d.Words[word].Text = quoteWord(text), text
}

// lastOf is the index of the last directive of some names, -1 when there is none.
func lastOf(d *Directive, names ...string) int {
	last := -1
	for i, c := range d.Block {
		if slices.Contains(names, c.Name()) {
			last = i
		}
	}
	return last
}

// insert writes lines into a block behind one of its directives (-1: first), as
// the block is written; a comment at the end of that line stays there.
func (e *editor) insert(d *Directive, behind int, lines ...string) {
	next := &d.Close.Before
	if behind+1 < len(d.Block) {
		if c := d.Block[behind+1]; len(c.Words) > 0 {
			next = &c.Words[0].Before
		} else {
			next = &c.Stop.Before
		}
	}
	outer, unit := indents(d)
	before := " "
	if end := strings.IndexByte(*next, '\n'); end >= 0 {
		before = (*next)[:end] + "\n" + outer + unit
		*next = (*next)[end:]
	} else if *next == "" {
		*next = " "
	}
	fresh := make([]*Directive, 0, len(lines))
	for _, l := range lines {
		if strings.HasPrefix(l, "#") && !strings.Contains(before, "\n") {
			continue // a comment would take the rest of the line with it
		}
		fresh = append(fresh, &Directive{File: d.File, Words: []Word{{Raw: l, Before: before}}})
		if strings.Contains(before, "\n") {
			before = "\n" + outer + unit
		}
	}
	d.Block = slices.Insert(d.Block, behind+1, fresh...)
}

// indents gives how a block is indented, and by what more its content is.
func indents(d *Directive) (outer, unit string) {
	tail := func(s string) (string, bool) {
		i := strings.LastIndexByte(s, '\n')
		return s[i+1:], i >= 0
	}
	if len(d.Words) > 0 {
		if t, ok := tail(d.Words[0].Before); (ok || strings.TrimSpace(t) == "") && strings.TrimSpace(t) == "" {
			outer = t
		}
	}
	unit = "    "
	for _, c := range d.Block {
		if len(c.Words) == 0 {
			continue
		}
		if t, ok := tail(c.Words[0].Before); ok && strings.HasPrefix(t, outer) && len(t) > len(outer) &&
			strings.TrimSpace(t) == "" {
			return outer, t[len(outer):]
		}
	}
	return outer, unit
}

// rawArgs are a directive's arguments as written.
func rawArgs(d *Directive) string {
	var list []string
	for _, a := range d.Args() {
		list = append(list, a.Raw)
	}
	return strings.Join(list, " ")
}

// quoteWord writes a word so that nginx takes it as it is.
func quoteWord(s string) string {
	if s != "" && !strings.ContainsAny(s, " \t\r\n;{}\"'\\$#") {
		return s
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}
