package nginx

import (
	"fmt"
	"io/fs"
	"slices"

	"insegna.example/internal/kind"
)

// Settle implements kind.Settler. The versions of TLS are those of the site that answers
// when none is named, for they are agreed on before a name is known; the suites those of
// the site itself.
func (editing) Settle(fsys fs.FS, main string, list []kind.Settled) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	type one struct {
		site kind.Place
		name string
	}
	done := map[one]bool{}
	set := func(at kind.Place, name string, words ...string) error {
		if done[one{at, name}] { // for another site, or another finding of this one
			return nil
		}
		done[one{at, name}] = true
		return e.set(at, name, words...)
	}
	for _, s := range list {
		if s.Versions {
			for _, at := range slices.Compact([]kind.Place{s.Default, s.Site}) {
				if err := set(at, "ssl_protocols", "TLSv1.2", "TLSv1.3"); err != nil {
					return nil, err
				}
			}
		}
		if s.Suites {
			if err := set(s.Site, "ssl_ciphers", kind.Suites); err != nil {
				return nil, err
			}
		}
		if s.Stapling {
			if err := set(s.Site, "ssl_stapling", "on"); err != nil {
				return nil, err
			}
		}
	}
	return e.edits()
}

// set gives a directive of a site other words, or writes it into the site.
func (e *editor) set(site kind.Place, name string, words ...string) error {
	no := func(at kind.Place, remedy, format string, args ...any) error {
		return &kind.EditError{Place: at, Reason: fmt.Sprintf(format, args...), Remedy: remedy}
	}
	line := name
	for _, w := range words {
		line += " " + quoteWord(w)
	}
	d, _, _ := e.find(site)
	switch {
	case d == nil:
		return no(site, "write into it: "+line, "the site's block is not found in its file")
	case d.Close.Raw == "" || len(d.File.Problems) > 0:
		return no(d.Place(), "mend the file first", "the file cannot be read to its end")
	case e.used[d.File] > 1:
		return no(d.Place(), "write by hand: "+line, "the file %s is included more than once", d.File.Path)
	}
	o := e.named(d, name)
	if o == nil {
		e.touch(d.File)
		e.insert(d, lastOf(d, "listen", "server_name", "ssl_certificate", "ssl_certificate_key", "ssl_protocols"), line+";")
		return nil
	}
	if e.used[o.File] > 1 {
		return no(o.Place(), "write by hand: "+line, "the line is included by several sites")
	}
	e.touch(o.File)
	kept := o.Words[:1]
	for _, w := range words {
		kept = append(kept, Word{Text: w, Raw: quoteWord(w), Before: " "})
	}
	o.Words = kept
	return nil
}

// named finds a directive in a block or in what it includes; nil for none.
func (e *editor) named(block *Directive, name string) *Directive {
	for _, d := range block.Block {
		if d.Name() == name {
			return d
		}
		for _, f := range e.includes[d] {
			if found := e.named(&Directive{Block: f.Nodes}, name); found != nil {
				return found
			}
		}
	}
	return nil
}
