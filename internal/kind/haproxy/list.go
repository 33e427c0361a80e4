package haproxy

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/source"
)

// list is a list of certificates (crt-list).
type list struct {
	file    *file
	lines   []listLine
	entries []*entry
}

// listLine is one line of a list that names a certificate.
type listLine struct {
	place   kind.Place
	path    string
	options []word // between brackets
	filters []word // behind them
	// the bracket is not closed, so that options are taken for names
	unclosed bool
}

// lineOfList cuts a line of a list: blanks part words, and brackets hold options
// (crtlist_parse_line).
func lineOfList(text string) (l listLine, err error) {
	var words []word
	opened, closed := -1, -1
	start := -1
	end := func(at int) {
		if start >= 0 {
			words = append(words, word{text: text[start:at], from: start, to: at})
		}
		start = -1
	}
	for i := 0; i <= len(text); i++ {
		switch {
		case i == len(text) || strings.IndexByte(" \t\r\n\v\f", text[i]) >= 0:
			end(i)
		case text[i] == '[':
			if end(i); opened >= 0 {
				return l, errors.New("too many '['")
			} else if len(words) == 0 {
				return l, errors.New("a line begins with a certificate")
			}
			opened = len(words)
		case text[i] == ']':
			if end(i); closed >= 0 || opened < 0 {
				return l, errors.New("too many ']'")
			}
			closed = len(words)
		case start < 0:
			start = i
		}
	}
	switch {
	case len(words) == 0:
		return l, nil
	case closed < 0:
		l.unclosed = opened >= 0
		opened, closed = 1, 1
	}
	l.path, l.options = words[0].text, words[opened:closed]
	l.place.Column = words[0].from + 1
	l.filters = append(slices.Clone(words[1:opened]), words[closed:]...)
	return l, nil
}

// parseList cuts a whole list; told is given what is wrong with a line.
func parseList(f *file, told func(line int, message string)) (out []listLine) {
	n := 0
	for text := range strings.SplitSeq(f.text, "\n") {
		n++
		if strings.HasPrefix(text, "#") || strings.TrimSpace(text) == "" {
			continue
		}
		l, err := lineOfList(text)
		if err != nil {
			told(n, err.Error())
			continue
		}
		l.place.File, l.place.Line = f.path, n
		out = append(out, l)
	}
	return out
}

// list loads what a list of certificates names; several bind lines share it.
func (r *reader) list(b *bind, i int) []*entry {
	p := r.absolute(b.arg(i), b.statement)
	if had := r.lists[p]; had != nil {
		for _, e := range had.entries {
			if s := &r.out.Sites[e.site]; !slices.Contains(s.Listens, b.place) {
				s.Listens = append(s.Listens, b.place)
			}
		}
		return had.entries
	}
	l := &list{}
	r.lists[p] = l
	f, err := r.read(p)
	if err != nil {
		r.problem(b.at(i), effectOf(err), "", "the list of certificates %s cannot be read: %v", p, err)
		return nil
	}
	f.list = true
	l.file = f
	if !slices.Contains(r.order, f) {
		r.order = append(r.order, f)
	}
	l.lines = parseList(f, func(line int, message string) {
		r.problem(kind.Place{File: p, Line: line, Column: 1}, kind.Refused, "certificate [options] names", "%s", message)
	})
	for n := range l.lines {
		if e := r.listed(b, p, &l.lines[n]); e != nil {
			l.entries = append(l.entries, e)
		}
	}
	return l.entries
}

// listed loads one line of a list.
func (r *reader) listed(b *bind, from string, l *listLine) *entry {
	p := l.path
	if strings.HasPrefix(p, "@") {
		e := r.kept[p]
		if e == nil {
			r.problem(l.place, kind.Refused, "load in a crt-store", "no store has the certificate %s", p)
			return nil
		}
		return r.filtered(r.entry(l.place, b, e.pairs...), from, l)
	}
	at := *b.statement
	at.place = l.place
	p = r.based(p, &at)
	pairs := []kind.Pair{pairAt(l.place, p)}
	switch info, err := fs.Stat(r.fs, source.InFS(p)); {
	case kind.Lost(err):
		r.lost = err
		return nil
	case err != nil:
		if found := r.bundle(l.place, p); len(found) > 0 {
			pairs = found
			break
		}
		r.problem(l.place, effectOf(err), "a file of certificate and key", "the certificate %s: %v", p, source.Worded(err))
	case info.IsDir():
		r.problem(l.place, kind.Refused, "a file of certificate and key", "%s is a folder", p)
	}
	return r.filtered(r.entry(l.place, b, pairs...), from, l)
}

// filtered gives an entry the options and names of its line.
func (r *reader) filtered(e *entry, from string, l *listLine) *entry {
	e.from = from
	if l.unclosed {
		r.problem(l.place, kind.Suspect, "]", "a bracket is not closed, and the options behind it are taken for names")
	}
	if len(l.options) > 0 {
		e.options = &options{}
		s := &statement{place: l.place, words: l.options, file: &file{path: l.place.File}}
		r.optionsOf(s, 0, e.options)
	}
	e.filtered = len(l.filters) > 0
	site := &r.out.Sites[e.site]
	for _, w := range l.filters {
		at := l.place
		at.Column = w.from + 1
		site.Names = append(site.Names, nameOf(w.text, at))
	}
	return e
}

// nameOf makes a name of a text: with ! in front it is left out, with * it is any
// one label more.
func nameOf(text string, at kind.Place) kind.Name {
	n := kind.Name{Place: at, Text: strings.ToLower(text)}
	switch {
	case strings.HasPrefix(text, "!") || text == "*" || text == "":
	case !strings.HasPrefix(text, "*"):
		n.Covers = []string{n.Text}
	case strings.HasPrefix(text, "*."):
		n.Covers = []string{n.Text}
	}
	return n
}

// stores reads the certificates a crt-store loads (since HAProxy 3.0).
func (r *reader) stores(s *section) {
	if s.kind != "crt-store" {
		return
	}
	bases := map[string]string{}
	for _, o := range s.list {
		switch o.arg(0) {
		case "crt-base", "key-base":
			bases[o.arg(0)] = o.arg(1)
			continue
		case "load":
		default:
			continue
		}
		values := map[string]string{}
		for i := 1; i+1 < len(o.words); i += 2 {
			values[o.arg(i)] = o.arg(i + 1)
		}
		based := func(p, base string) string {
			if !path.IsAbs(p) && base != "" {
				p = path.Join(base, p)
			}
			return r.absolute(p, o)
		}
		crt := values["crt"]
		pair := pairAt(o.place, based(crt, orElse(bases["crt-base"], r.set.crtBase)))
		if key := values["key"]; key != "" {
			pair.Key = based(key, orElse(bases["key-base"], r.set.keyBase))
		}
		r.kept["@"+s.name+"/"+orElse(values["alias"], crt)] = &entry{pairs: []kind.Pair{pair}}
	}
}

// orElse gives the first text unless it is empty.
func orElse(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}

// settle gives certificates without a list's names those they list, and tells what
// the server would refuse of them and what no visitor gets.
func (r *reader) settle() {
	for _, e := range r.entries {
		if e == nil {
			continue
		}
		site := &r.out.Sites[e.site]
		site.Pairs = e.pairs
		for i := range e.pairs {
			r.pair(e, &e.pairs[i])
			if e.filtered {
				continue
			}
			at := kind.Place{File: e.pairs[i].Certificate, Line: 1, Column: 1}
			for _, text := range r.namesOf(e.pairs[i].Certificate) {
				n := nameOf(text, at)
				n.Listed = true
				site.Names = append(site.Names, n)
			}
		}
	}
	r.shadowed()
}

// namesOf are the names a certificate is loaded for: the DNS names it lists, and
// the common names of its subject.
func (r *reader) namesOf(p string) []string {
	c := r.leaf(p)
	if c == nil {
		return nil
	}
	var out []string
	for _, list := range [][]string{c.DNSNames, commonNames(c)} {
		for _, n := range list {
			if n = strings.ToLower(n); !slices.Contains(out, n) && n != "" {
				out = append(out, n)
			}
		}
	}
	return out
}

// commonNames are the common names of a certificate's subject (RFC 5280 section
// 4.1.2.6); the server takes them for host names beside those that are meant so.
func commonNames(c *certs.Certificate) (out []string) {
	for _, a := range c.Subject.Names {
		if text, ok := a.Value.(string); ok && a.Type.String() == "2.5.4.3" {
			out = append(out, text)
		}
	}
	return out
}

// pair tells what the server refuses of a certificate with its key.
func (r *reader) pair(e *entry, p *kind.Pair) {
	m, k := r.out.Material[p.Certificate], r.out.Material[p.Key]
	if slices.ContainsFunc(r.problems, func(o kind.Problem) bool {
		return o.Place == e.place && o.Effect == kind.Refused
	}) || m == nil || m.Hidden {
		return
	}
	switch {
	case len(m.Chain) == 0:
		r.problem(e.place, kind.Refused, "certificates in PEM, and their key", "%s holds no certificate: %s", p.Certificate,
			orElse(m.Fault, "none was found"))
	case k == nil || k.Public == "" && !k.Hidden:
		r.problem(e.place, kind.Refused, "the key in "+p.Certificate+" or in "+r.keyOf(p.Certificate),
			"no private key found in %s", p.Certificate)
	case k.Hidden && k.Fault != "" && p.Key == p.Certificate:
		r.problem(e.place, kind.Refused, "a key that is not encrypted", "the key in %s: %s", p.Key, k.Fault)
	case k.Public != "":
		if c := r.leaf(p.Certificate); c != nil && certs.FingerprintOf(c.RawSubjectPublicKeyInfo).String() != k.Public {
			r.problem(e.place, kind.Refused, "the key of that certificate",
				"the key in %s belongs to another certificate than %s",
				p.Key, p.Certificate)
		}
	}
}

// shadowed tells certificates whose names another one at the same listeners has
// before them, and marks these names.
func (r *reader) shadowed() {
	done := map[kind.Place]bool{}
	type seen struct{ taken, free int }
	counts := map[*kind.Name]*seen{}
	keys := source.NewKeys(r.out)
	lost := map[[2]int]int{} // names one site loses to another
	var order [][2]int
	for i := range r.out.Listeners {
		l := &r.out.Listeners[i]
		if !l.TLS || done[l.Place] {
			continue
		}
		done[l.Place] = true
		first := map[string]int{} // site by name and kind of key
		for _, s := range l.Sites {
			site := &r.out.Sites[s]
			for n := range site.Names {
				name := &site.Names[n]
				if strings.HasPrefix(name.Text, "!") || len(site.Pairs) == 0 {
					continue
				}
				c := counts[name]
				if c == nil {
					c = &seen{}
					counts[name] = c
				}
				c.free++
				pair := &site.Pairs[0]
				for j := range site.Pairs {
					if site.Pairs[j].Certificate == name.File {
						pair = &site.Pairs[j]
					}
				}
				key := name.Text + " " + keys.Of(pair)
				theirs, had := first[key]
				if !had {
					first[key] = s
				} else if theirs != s {
					if c.taken++; lost[[2]int{s, theirs}] == 0 {
						order = append(order, [2]int{s, theirs})
					}
					lost[[2]int{s, theirs}]++
				}
			}
		}
	}
	for n, c := range counts {
		n.Ignored = c.taken > 0 && c.taken == c.free
	}
	for _, x := range order {
		mine, theirs := &r.out.Sites[x[0]], &r.out.Sites[x[1]]
		if mine.Pairs[0].Certificate == theirs.Pairs[0].Certificate {
			continue
		}
		r.problem(mine.Place, kind.Suspect,
			"one certificate for each name: take the other file away, or let this one's come before it",
			"%s is not shown for %s: %s is loaded before it (%s)", mine.Pairs[0].Certificate, several(mine, lost[x]),
			theirs.Pairs[0].Certificate, theirs.Place)
	}
}

// several names how many names of a site are meant.
func several(s *kind.Site, n int) string {
	switch {
	case n == 1 && len(s.Names) == 1:
		return s.Names[0].Text
	case n == len(s.Names):
		return fmt.Sprintf("any of its %d names", n)
	}
	return fmt.Sprintf("%d of its %d names", n, len(s.Names))
}
