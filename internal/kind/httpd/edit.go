package httpd

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// Edit works out the least change that makes virtual hosts with TLS show
// certificates: other paths in the lines of certificate and key where these stand
// in the virtual host itself, lines of its own where it inherits them. A chain in
// a file of its own goes, for the new certificate brings its own. It gives the
// files that change, in the order of their paths; none when all is as wanted. A
// *kind.EditError says why a site is not changed.
func Edit(fsys fs.FS, main string, list []kind.Wanted) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	var links []install.Link
	if slices.ContainsFunc(list, func(w kind.Wanted) bool { return e.plain(w.Site) }) {
		if e, links, err = e.switchedOn(fsys, main, "ssl", "rewrite"); err != nil {
			return nil, err
		}
	}
	for _, w := range list {
		if err := e.site(w); err != nil {
			return nil, err
		}
	}
	return e.edits(links)
}

// plain says whether a site speaks plain http alone.
func (e *editor) plain(at kind.Place) bool {
	i := slices.IndexFunc(e.reading.Sites, func(s kind.Site) bool { return s.Place == at })
	return i >= 0 && len(e.reading.Sites[i].Pairs) == 0
}

// newEditor reads a configuration to change it.
func newEditor(fsys fs.FS, main string) (*editor, error) {
	main = path.Clean(main)
	reading, err := Read(fsys, main)
	if err != nil {
		return nil, err
	}
	l := newLoader(fsys, main)
	in, err := l.load()
	if err != nil {
		return nil, err
	}
	return &editor{loader: l, reading: reading, top: in, changes: map[*file][]change{}}, nil
}

// editor changes lines of files.
type editor struct {
	*loader
	reading *kind.Reading // the edits are based on
	top     []*Directive  // in force
	changes map[*file][]change
}

// change puts lines in the place of others; with last before first it inserts
// them in front of first.
type change struct {
	first, last int
	lines       []string
}

// edits gives the files that change, each by the path its links lead to, and where
// sites stand then.
func (e *editor) edits(links []install.Link) (*kind.Edits, error) {
	out := &kind.Edits{Links: links, Sites: map[kind.Place]kind.Place{}}
	for f, list := range e.changes {
		at, err := kind.Resolved(e.fs, f.path)
		if err != nil {
			return nil, err
		}
		slices.SortStableFunc(list, func(a, b change) int { return a.first - b.first })
		out.Files = append(out.Files, install.File{Path: at, Before: f.text, After: changed(f.text, list)})
		for i := range e.reading.Sites {
			if was := e.reading.Sites[i].Place; was.File == f.path {
				is := was
				for _, c := range list {
					if c.first <= was.Line {
						is.Line += len(c.lines) - (c.last - c.first + 1)
					}
				}
				out.Sites[was] = is
			}
		}
	}
	slices.SortFunc(out.Files, func(a, b install.File) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// changed makes the changes in a text, line ends as they are in it.
func changed(text string, list []change) string {
	lines := strings.SplitAfter(text, "\n")
	var b strings.Builder
	next := 1
	for _, c := range list {
		for ; next < c.first; next++ {
			b.WriteString(lines[next-1])
		}
		end := "\n"
		if strings.HasSuffix(lines[min(c.first, len(lines))-1], "\r\n") || strings.HasSuffix(lines[0], "\r\n") {
			end = "\r\n"
		}
		if s := b.String(); c.first > len(lines) && !strings.HasSuffix(s, "\n") { // the last line has no end
			b.WriteString(end)
		}
		for _, l := range c.lines {
			b.WriteString(l + end)
		}
		next = max(next, c.last+1)
	}
	for ; next <= len(lines); next++ {
		b.WriteString(lines[next-1])
	}
	return b.String()
}

// site changes one site.
func (e *editor) site(w kind.Wanted) error {
	i := slices.IndexFunc(e.reading.Sites, func(s kind.Site) bool { return s.Place == w.Site })
	if i < 0 {
		return no(w.Site, "read the configuration anew", "no virtual host in force is declared there")
	}
	site := &e.reading.Sites[i]
	at := slices.IndexFunc(e.top, func(d *Directive) bool { return d.Name == "virtualhost" && d.Place == w.Site })
	switch tls := slices.ContainsFunc(e.reading.Listeners,
		func(l kind.Listener) bool { return l.TLS && slices.Contains(l.Sites, i) }); {
	case at < 0:
		return no(w.Site, "give the names a virtual host of their own",
			"the main server answers there, whose lines count for every virtual host")
	case e.top[at].Macro:
		return no(w.Site, "write the lines into the macro by hand", "the virtual host comes out of a macro")
	case !tls && (len(site.Pairs) > 0 || settingsOf(e.top[at].Block).engine != nil):
		return no(w.Site, "set SSLEngine on in the first virtual host of its address, or give it another address",
			"the virtual host says something of TLS, and its address speaks plain http all the same")
	case !tls:
		return e.secure(e.top[at], site, w)
	case len(site.Pairs) > 1:
		return no(site.Pairs[1].Place, "leave the site one pair, or write the lines by hand",
			"the site shows %d certificates", len(site.Pairs))
	case len(site.Pairs) == 0:
		return no(w.Site, "add SSLEngine on, SSLCertificateFile and SSLCertificateKeyFile by hand",
			"the virtual host has no certificate of its own")
	}
	return e.exchange(e.top[at], &site.Pairs[0], w, no)
}

// refusal makes the error for something that stands in the way.
type refusal func(at kind.Place, remedy, format string, args ...any) error

// no is that refusal.
func no(at kind.Place, remedy, format string, args ...any) error {
	return &kind.EditError{Place: at, Reason: fmt.Sprintf(format, args...), Remedy: remedy}
}

// exchange puts other paths in the place of a site's certificate and key.
func (e *editor) exchange(d *Directive, p *kind.Pair, w kind.Wanted, no refusal) error {
	if p.Certificate == w.Certificate && p.Key == w.Key && (p.Chain == "" || w.Keep) {
		return nil
	}
	own := settingsOf(d.Block)
	var certificate, key *Directive
	if len(own.certificates) > 0 {
		certificate = own.certificates[0]
	}
	if len(own.keys) > 0 {
		key = own.keys[0]
	}
	if w.Keep {
		own.chain = nil
	}
	if err := e.editable(no, d, certificate, key, own.chain); err != nil {
		return err
	}
	if !w.Keep && p.Chain != "" && own.chain == nil {
		return no(p.Place, "move SSLCertificateChainFile into the virtual hosts that need it",
			"the chain %s is sent by every virtual host, also behind the new certificate", p.Chain)
	}
	var missing []string
	if certificate == nil {
		missing = append(missing, "SSLCertificateFile "+quoted(w.Certificate))
	} else if !w.Keep {
		e.put(certificate, w.Certificate)
	}
	if key == nil {
		missing = append(missing, "SSLCertificateKeyFile "+quoted(w.Key))
	} else {
		e.put(key, w.Key)
	}
	if own.chain != nil {
		e.change(own.chain.node, change{own.chain.node.line, own.chain.node.last, nil})
	}
	if len(missing) > 0 {
		e.add(d, certificate, missing)
	}
	return nil
}

// editable says why directives, of which some may be nil, are not changed where they
// stand.
func (e *editor) editable(no refusal, list ...*Directive) error {
	for _, o := range list {
		if o == nil {
			continue
		}
		switch f := e.files[o.node.file]; {
		case o.Macro:
			return no(o.Place, "write the lines into the virtual host itself", "%s comes out of a macro", o.Place)
		case e.used[f] > 1:
			return no(o.Place, "write the lines into the virtual host itself", "the file %s is included more than once", f.path)
		case len(f.problems) > 0:
			return no(o.Place, "mend the file first", "the file cannot be read to its end")
		}
	}
	return nil
}

// change notes a change of the file a node stands in.
func (e *editor) change(n *node, c change) {
	f := e.files[n.file]
	e.changes[f] = append(e.changes[f], c)
}

// lineOf is a line of a file as it is written.
func (e *editor) lineOf(n *node, line int) string {
	return strings.Split(e.files[n.file].text, "\n")[line-1]
}

// put writes another path behind a directive's name, which stays as it is written.
func (e *editor) put(d *Directive, to string) {
	if d.Arg(0) == to {
		return
	}
	n := d.node
	e.change(n, change{n.line, n.last, []string{indentOf(e.lineOf(n, n.line)) + n.name + " " + quoted(to)}})
}

// add writes lines into a virtual host: behind a directive that stands in it, or
// before its end.
func (e *editor) add(d, behind *Directive, lines []string) {
	n, at := d.node, d.node.last
	indent, _ := e.within(d)
	if behind != nil {
		n, at = behind.node, behind.node.last+1
		indent = indentOf(e.lineOf(n, n.line))
	}
	for i := range lines {
		lines[i] = indent + lines[i]
	}
	e.change(n, change{at, at - 1, lines})
}

// within gives the blanks that directives of a virtual host begin with, and one
// step more.
func (e *editor) within(d *Directive) (outer, inner string) {
	own := indentOf(e.lineOf(d.node, d.node.line))
	outer = own + "    "
	for _, o := range d.Block {
		if o.node.file == d.node.file {
			outer = indentOf(e.lineOf(d.node, o.node.line))
			break
		}
	}
	if step, ok := strings.CutPrefix(outer, own); ok && step != "" {
		return outer, outer + step
	}
	return outer, outer + "    "
}

// indentOf are the blanks a line begins with.
func indentOf(line string) string { return line[:len(line)-len(strings.TrimLeft(line, " \t"))] }

// quoted writes a word so that httpd takes it as it is.
func quoted(s string) string {
	if s != "" && !strings.ContainsAny(s, " \t\"'\\$#<>") {
		return s
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}
