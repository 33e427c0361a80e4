package nginx

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
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
	bcp195Ciphers   = "ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-RSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384:ECDHE-RSA-AES256-GCM-SHA384:ECDHE-ECDSA-CHACHA20-POLY1305:ECDHE-RSA-CHACHA20-POLY1305"
)

// wellKnown is the path of http-01 (RFC 8555 section 8.3), which a redirecting
// site keeps free.
const wellKnown = "/.well-known/acme-challenge/"

// Edit works out the least change that makes sites show certificates: in a
// site with TLS the lines of its certificate and key, in a plain one a TLS
// listener, these lines, what BCP 195 asks for, and a permanent redirect from
// plain http that leaves the path of http-01 free. It gives the files that
// change, in the order of their paths; none when all is as wanted. A
// *kind.EditError says why a site is not changed.
func Edit(fsys fs.FS, main string, list []kind.Wanted) ([]install.File, error) {
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
	for _, w := range list {
		if err := e.site(w); err != nil {
			return nil, err
		}
	}
	return e.edits()
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
func (e *editor) edits() ([]install.File, error) {
	var out []install.File
	for f, before := range e.before {
		after := f.Print()
		if after == before {
			continue
		}
		at, err := resolved(e.fs, f.Path)
		if err != nil {
			return nil, err
		}
		out = append(out, install.File{Path: at, Before: before, After: after})
	}
	slices.SortFunc(out, func(a, b install.File) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// linksDeep is how many links in a row are followed.
const linksDeep = 16

// resolved follows the links of a path's last part, which is where sites are
// switched on.
func resolved(fsys fs.FS, p string) (string, error) {
	for range linksDeep {
		to, err := fs.ReadLink(fsys, inFS(p))
		if errors.Is(err, fs.ErrInvalid) || err != nil && !kind.Lost(err) {
			return p, nil // no link, or a source that knows none
		} else if err != nil {
			return "", err
		}
		if !path.IsAbs(to) {
			to = path.Join(path.Dir(p), to)
		}
		p = path.Clean(to)
	}
	return "", fmt.Errorf("%s leads through more than %d links", p, linksDeep)
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
	if len(site.Pairs) == 1 {
		p := site.Pairs[0]
		if p.Certificate == w.Certificate && p.Key == w.Key {
			return nil
		}
		certificate, key := inside(p.Place), inside(p.KeyPlace)
		if certificate != nil && key != nil {
			for _, at := range []*Directive{certificate, key} {
				if e.used[at.File] > 1 {
					return no(at.Place(), "write the lines into the site itself", "these lines are included by several sites")
				}
			}
			e.put(certificate, 1, w.Certificate)
			e.put(key, 1, w.Key)
			return nil
		}
		if certificate != nil || key != nil {
			return no(d.Place(), "write both lines into the site",
				"only one of certificate and key is declared in the site itself")
		}
	}
	e.touch(d.File)
	at := lastOf(d, "listen", "server_name")
	e.insert(d, at, "ssl_certificate "+quoteWord(w.Certificate)+";", "ssl_certificate_key "+quoteWord(w.Key)+";")
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

// addTLS gives a plain site TLS, and puts a site before it that redirects.
func (e *editor) addTLS(site *kind.Site, d *Directive, around []*Directive, where parent, w kind.Wanted,
	no refusal) error {
	if w.Port == 0 {
		return no(d.Place(), "declare the port under ports of the server in the estate file",
			"no port is known for https here")
	}
	if site.OnlyRedirects() {
		return no(site.Plain[0].Front.Place, "choose the site it redirects to", "the site only redirects to %s",
			site.Plain[0].Front.To)
	}
	lines, secured, err := plainListens(d, w.Port, no)
	if err != nil {
		return err
	}
	for _, asked := range site.Listens {
		if asked.File != d.File.Path {
			return no(asked, "write the listen line into the site itself", "a listen line of the site is included")
		}
	}
	if len(lines) == 0 && len(site.Listens) > 0 && site.Listens[0] != d.Place() {
		return no(d.Place(), "add a listen line at an address and port", "the site listens at no address of a network")
	}
	for _, l := range e.reading.Listeners {
		if !l.TLS && l.Address.Port() == w.Port && l.Socket == "" && l.Unknown == "" {
			return no(l.Place, "choose another port for https", "port %d is spoken without TLS there", w.Port)
		}
	}
	root := proofsRoot(site, w.Proofs)
	if root == "" {
		return no(d.Place(), "give the site a root", "the site has no folder the files of http-01 could lie in")
	}
	e.touch(d.File)
	indent, _ := indents(d)
	first := &Directive{File: d.File, Words: []Word{{Raw: redirecting(d, lines, root, w.Port), Before: d.Words[0].Before}}}
	d.Words[0].Before = "\n" + indent
	*where.list = slices.Insert(*where.list, slices.Index(*where.list, d), first)
	turn(lines, secured)
	add := []string{"ssl_certificate " + quoteWord(w.Certificate) + ";", "ssl_certificate_key " + quoteWord(w.Key) + ";"}
	if len(lines) == 0 {
		add = append([]string{fmt.Sprintf("listen %d ssl;", w.Port)}, add...)
	}
	for _, setting := range [][2]string{{"ssl_protocols", bcp195Protocols}, {"ssl_ciphers", bcp195Ciphers}} {
		if !e.declared(setting[0], append(slices.Clone(around), d)) {
			add = append(add, setting[0]+" "+setting[1]+";")
		}
	}
	e.insert(d, lastOf(d, "listen", "server_name"), add...)
	return nil
}

// plainListens are the listen lines of a site that speaks no TLS, and the
// address each is to take TLS at: its own host with the port wanted. Sockets of
// the machine are left out; a listener behind the PROXY protocol is refused, for
// nobody outside could reach a new one beside it.
func plainListens(d *Directive, port uint16, no refusal) (lines []*Directive, secured []string, err error) {
	for _, l := range d.Block {
		if l.Name() != "listen" || strings.HasPrefix(l.Arg(0), "unix:") {
			continue
		}
		for _, a := range l.Args() {
			if a.Text == "proxy_protocol" {
				return nil, nil, no(l.Place(), "write the lines by hand",
					"what stands in front of this listener speaks the PROXY protocol")
			}
		}
		address := strconv.Itoa(int(port))
		if host, _ := splitListen(l.Arg(0)); host != "*" || strings.HasPrefix(l.Arg(0), "*") {
			address = host + ":" + address
		}
		lines, secured = append(lines, l), append(secured, address)
	}
	return lines, secured, nil
}

// proofsRoot is the folder the files of http-01 lie under: the one the site
// serves them from already, else the one wanted; "" when neither is known.
func proofsRoot(site *kind.Site, wanted string) string {
	if len(site.Plain) > 0 {
		if s := site.Plain[0].WellKnown; s.Handling == kind.Serves && s.Under == "" && path.IsAbs(s.To) &&
			!strings.Contains(s.To, "$") {
			return s.To
		}
	}
	return wanted
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
	to := "https://$host"
	if port != 443 {
		to += ":" + strconv.Itoa(int(port))
	}
	line(2, "return 301 "+to+"$request_uri;")
	line(1, "}")
	line(0, "}")
	return b.String()
}

// turn makes listen lines speak TLS at other addresses; one that would say the
// same as another goes.
func turn(lines []*Directive, addresses []string) {
	for i, l := range lines {
		if slices.Contains(addresses[:i], addresses[i]) {
			l.Words, l.Stop = nil, Mark{}
			continue
		}
		keep := []Word{l.Words[0], {Raw: addresses[i], Text: addresses[i], Before: " "},
			{Raw: "ssl", Text: "ssl", Before: " "}}
		for _, a := range l.Args() {
			if strings.HasPrefix(a.Text, "ipv6only=") {
				keep = append(keep, a)
			}
		}
		l.Words = keep
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
	fresh := make([]*Directive, len(lines))
	for i, l := range lines {
		fresh[i] = &Directive{File: d.File, Words: []Word{{Raw: l, Before: before}}}
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
