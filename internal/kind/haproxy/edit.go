package haproxy

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/source"
)

// editing implements kind.Editor and kind.Adder.
type editing struct{}

// Edit works out the least change that makes bind lines show certificates. A
// certificate they name keeps its path, where a link to the new one comes to lie, so
// that the running server can take it in without a reload; what lies beside it and
// belongs to the old one is put aside. Where no certificate is for the names a line
// of its list, a link in its folder or a word of the bind line is added.
func (editing) Edit(fsys fs.FS, main string, list []kind.Wanted) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	for _, w := range list {
		if w.More {
			err = e.add(w)
		} else {
			err = e.exchange(w, list)
		}
		if err != nil {
			return nil, err
		}
	}
	return e.edits()
}

// newEditor reads a configuration to change it.
func newEditor(fsys fs.FS, main string) (*editor, error) {
	r, err := read(fsys, path.Clean(main))
	if err != nil {
		return nil, err
	}
	if r.plainRoutes(); r.lost != nil {
		return nil, r.lost
	}
	return &editor{reader: r, out: &kind.Edits{Sites: map[kind.Place]kind.Place{}}, texts: map[string]*install.File{},
		lines: map[*file][]inserted{}}, nil
}

// edits gives the files that change, and where sites stand then.
func (e *editor) edits() (*kind.Edits, error) {
	for f, list := range e.lines {
		if err := e.insert(f, list); err != nil {
			return nil, err
		}
	}
	for _, p := range e.order {
		e.out.Files = append(e.out.Files, *e.texts[p])
	}
	slices.SortFunc(e.out.Files, func(a, b install.File) int { return strings.Compare(a.Path, b.Path) })
	return e.out, e.lost
}

// editor works out one change.
type editor struct {
	*reader
	out       *kind.Edits
	texts     map[string]*install.File // files that change
	order     []string
	lines     map[*file][]inserted // that come new
	answering bool                 // a section that leads to who answers a CA comes new
}

// refuse makes the error for what stands in the way.
func refuse(at kind.Place, remedy, format string, args ...any) error {
	return &kind.EditError{Place: at, Reason: fmt.Sprintf(format, args...), Remedy: remedy}
}

// exchange puts the new certificate in the place of one that is loaded.
func (e *editor) exchange(w kind.Wanted, list []kind.Wanted) error {
	i := slices.IndexFunc(e.entries, func(o *entry) bool { return o != nil && o.place == w.Site })
	if i < 0 {
		if f := e.frontAt(w.Site); f != nil {
			return e.secure(f, w)
		}
		return refuse(w.Site, "read the configuration anew", "no certificate is loaded there")
	}
	o := e.entries[i]
	if len(o.pairs) > 1 {
		return refuse(o.place, "leave it one certificate, or replace the files by hand",
			"a bundle of %d certificates is loaded there", len(o.pairs))
	}
	if other := e.otherKind(o, list); other != nil {
		return refuse(o.place, "leave the names one certificate, or replace the files by hand",
			"%s and %s are shown for the same names, to visitors with different kinds of key",
			o.pairs[0].Certificate, other.pairs[0].Certificate)
	}
	p := o.pairs[0].Certificate
	if m := e.reader.out.Material[p]; m == nil || m.Hidden && len(m.Chain) == 0 {
		return refuse(o.place, "let the service read it", "%s cannot be read from here", p)
	}
	if e.out.Loaded(p) {
		return nil
	}
	e.out.Loads = append(e.out.Loads, kind.Load{Path: p})
	if p != w.Certificate && !e.leads(p, w.Certificate) {
		if err := e.aside(p, w.Certificate, w); err != nil {
			return refuse(o.place, "let the service read it", "%s cannot be read from here: %v", p, err)
		}
	}
	for _, end := range besideEnds {
		if end == ".key" { // one in the certificate's own file counts before it
			continue
		}
		if err := e.besides(p+end, end, w); err != nil {
			return refuse(o.place, "take it away by hand", "%s belongs to the old certificate: %v", p+end, err)
		}
	}
	return nil
}

// besides puts aside what lies beside a certificate and belongs to the old one. The CA's
// answer for the new one takes its place where there is one.
func (e *editor) besides(p, end string, w kind.Wanted) error {
	ours := p == w.Certificate+end || e.leads(p, w.Certificate+end) // it goes with the version
	_, err := fs.Stat(e.fs, source.InFS(p))
	switch gone := errors.Is(err, fs.ErrNotExist); {
	case gone && !(ours && e.leads(p, w.Certificate+end)):
		return nil
	case err != nil && !gone:
		return err
	}
	to := ""
	if end == ".ocsp" {
		to = w.Staple
		e.out.Stapled = e.out.Stapled || to != ""
	}
	if ours {
		return nil
	}
	return e.aside(p, to, w)
}

// leads says whether a link leads to a file.
func (e *editor) leads(p, to string) bool {
	at, err := fs.ReadLink(e.fs, source.InFS(p))
	return err == nil && at == to
}

// aside notes that a file is put aside, and a link may take its place.
func (e *editor) aside(p, to string, w kind.Wanted) error {
	data, _, err := source.ReadFile(e.fs, p, fileLimit)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(data)
	clear(data)
	e.out.Links = append(e.out.Links, install.Link{Path: p, To: to, Sum: hex.EncodeToString(sum[:]),
		Kept: path.Join(w.Aside, fmt.Sprintf("%d-%s", len(e.out.Links)+1, path.Base(p)))})
	return nil
}

// otherKind finds a certificate that is to be replaced as well, and is shown for the
// same names to visitors with another kind of key; nil when there is none.
func (e *editor) otherKind(o *entry, list []kind.Wanted) *entry {
	keys := source.NewKeys(e.reader.out)
	mine := e.reader.out.Sites[o.site]
	for _, other := range e.entries {
		if other == nil || other == o || !slices.ContainsFunc(list,
			func(w kind.Wanted) bool { return w.Site == other.place }) {
			continue
		}
		site := e.reader.out.Sites[other.site]
		together := slices.ContainsFunc(mine.Listens, func(p kind.Place) bool { return slices.Contains(site.Listens, p) })
		same := slices.ContainsFunc(mine.Names, func(n kind.Name) bool {
			return slices.ContainsFunc(site.Names, func(m kind.Name) bool { return m.Text == n.Text })
		})
		if together && same && keys.Of(&o.pairs[0]) != keys.Of(&other.pairs[0]) {
			return other
		}
	}
	return nil
}

// More implements kind.Adder: bind lines with TLS at the ports that are meant.
func (editing) More(r *kind.Reading, meant func(port uint16) bool) (out []kind.Place) {
	for i := range r.Listeners {
		if l := &r.Listeners[i]; l.TLS && l.Network() && meant(l.Address.Port()) && !slices.Contains(out, l.Place) {
			out = append(out, l.Place)
		}
	}
	return out
}

// add loads one certificate more at a bind line.
func (e *editor) add(w kind.Wanted) error {
	var b *bind
	for _, f := range e.fronts {
		for _, o := range f.binds {
			if o.place == w.Site {
				b = o
			}
		}
	}
	if b == nil {
		return refuse(w.Site, "read the configuration anew", "no bind line stands there")
	}
	for _, i := range b.listed {
		l := e.lists[e.absolute(b.arg(i), b.statement)]
		if l == nil || l.file == nil {
			continue
		}
		e.append(l.file, w.Certificate)
		return nil
	}
	for _, i := range b.certificates {
		dir := e.based(b.arg(i), b.statement)
		if info, err := fs.Stat(e.fs, source.InFS(dir)); err != nil || !info.IsDir() {
			continue
		}
		e.link(dir, w)
		return nil
	}
	if len(b.certificates) == 0 {
		return refuse(b.place, "add crt "+quoted(w.Certificate)+" to it by hand", "the bind line names no certificate")
	}
	last := b.words[b.certificates[len(b.certificates)-1]]
	at, text := e.text(b.file)
	if at == nil {
		return refuse(b.place, "write it by hand", "%s is changed in two ways", b.file.path)
	}
	lines := strings.SplitAfter(text, "\n")
	line := lines[b.place.Line-1]
	lines[b.place.Line-1] = line[:last.to] + " crt " + quoted(w.Certificate) + line[last.to:]
	at.After = strings.Join(lines, "")
	e.out.Loads = append(e.out.Loads, kind.Load{Path: w.Certificate})
	return nil
}

// text gives a file that is to be changed, as it will be so far.
func (e *editor) text(f *file) (*install.File, string) {
	p, err := kind.Resolved(e.fs, f.path)
	if err != nil {
		return nil, ""
	}
	if e.texts[p] == nil {
		e.texts[p] = &install.File{Path: p, Before: f.text, After: f.text}
		e.order = append(e.order, p)
	}
	return e.texts[p], e.texts[p].After
}

// append adds a line to a list.
func (e *editor) append(f *file, certificate string) {
	if slices.ContainsFunc(e.out.Loads, func(l kind.Load) bool { return l.Into == f.path }) {
		return // another bind line has the same list
	}
	at, text := e.text(f)
	if at == nil {
		return
	}
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	at.After = text + certificate + "\n"
	e.out.Loads = append(e.out.Loads, kind.Load{Path: certificate, Into: at.Path, Line: certificate})
}

// link adds a link to a folder, by a name behind that of the first certificate, which
// visitors without a name are shown.
func (e *editor) link(dir string, w kind.Wanted) {
	if slices.ContainsFunc(e.out.Loads, func(l kind.Load) bool { return l.Into == dir }) {
		return
	}
	mandate := path.Base(path.Dir(path.Dir(w.Certificate)))
	first := ""
	taken := map[string]bool{}
	if entries, err := fs.ReadDir(e.fs, source.InFS(dir)); err == nil {
		for _, o := range entries {
			taken[o.Name()] = true
		}
	}
	for _, o := range e.entries {
		if name := path.Base(o.file()); o != nil && o.from == dir && (first == "" || name < first) {
			first = name
		}
	}
	name := mandate + ".pem"
	for _, prefix := range []string{"insegna-", "z-insegna-", "~insegna-"} {
		if name > first && !taken[name] {
			break
		}
		name = prefix + mandate + ".pem"
	}
	p := path.Join(dir, name)
	e.out.Links = append(e.out.Links, install.Link{Path: p, To: w.Certificate})
	e.out.Loads = append(e.out.Loads, kind.Load{Path: p, Into: dir})
}

// file is the file of an entry's first certificate.
func (o *entry) file() string {
	if o == nil || len(o.pairs) == 0 {
		return ""
	}
	return o.pairs[0].Certificate
}
