package nginx

import (
	"fmt"
	"io/fs"
	"regexp"
	"strings"

	"insegna.example/internal/kind"
)

// strictVariable holds what the header says; it is not sent while that is empty.
const strictVariable = "$insegna_strict"

// Pledge implements kind.Pledger. The header is added in the site, and again in every block
// of it that adds headers of its own, for such a block inherits none.
func (editing) Pledge(fsys fs.FS, main string, list []kind.Pledged) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if err := e.pledge(&list[i]); err != nil {
			return nil, err
		}
	}
	return e.edits()
}

// pledge changes one site.
func (e *editor) pledge(w *kind.Pledged) error {
	add := "add_header " + kind.StrictTransport + " " + strictVariable + " always;"
	no := func(at kind.Place, remedy, format string, args ...any) error {
		return &kind.EditError{Place: at, Reason: fmt.Sprintf(format, args...), Remedy: remedy}
	}
	byHand := "write it by hand: add_header " + kind.StrictTransport + " " + w.Value() + " always;"
	d, around, _ := e.find(w.Site)
	switch {
	case d == nil || len(around) == 0:
		return no(w.Site, byHand, "the site's block is not found in its file")
	case d.Close.Raw == "" || len(d.File.Problems) > 0:
		return no(d.Place(), "mend the file first", "the file cannot be read to its end")
	case e.used[d.File] > 1:
		return no(d.Place(), byHand, "the file %s is included more than once", d.File.Path)
	}
	var sent, set *Directive
	var blocks []*Directive
	var visit func(b *Directive)
	visit = func(b *Directive) {
		adds := false
		for _, c := range b.Block {
			switch {
			case c.Name() == "add_header" && strings.EqualFold(c.Arg(0), kind.StrictTransport) && c.Arg(1) != strictVariable:
				sent = c
			case c.Name() == "set" && c.Arg(0) == strictVariable && strings.HasPrefix(c.Arg(1), "max-age="):
				set = c
			}
			adds = adds || c.Name() == "add_header"
			visit(c)
		}
		if adds && b != d {
			blocks = append(blocks, b)
		}
	}
	visit(d)
	switch {
	case sent != nil:
		return no(sent.Place(), "change that line by hand", "the site sends the header already: %s", sent.Arg(1))
	case e.included(d, "add_header"):
		return no(d.Place(), byHand, "headers are added in files the site includes")
	case set != nil: // by an earlier mending
		e.put(set, 2, w.Value()) //nolint:mnd // its second argument
		return nil
	}
	var hosts []string
	for _, h := range w.Hosts {
		hosts = append(hosts, regexp.QuoteMeta(h))
	}
	outer, unit := indents(d)
	block := func(head, line string) string {
		return head + " {\n" + outer + unit + unit + line + "\n" + outer + unit + "}"
	}
	e.touch(d.File)
	for _, b := range blocks {
		e.insert(b, lastOf(b, "add_header"), add)
	}
	lines := []string{
		"# Browsers that have come to these names over TLS come over TLS alone from then on.",
		"set " + strictVariable + " $https:$host;",
	}
	for _, part := range alternatives(hosts) {
		lines = append(lines, block("if ("+strictVariable+" ~* ^on:("+part+")$)", "set "+strictVariable+" "+w.Value()+";"))
	}
	lines = append(lines, block("if ("+strictVariable+" !~ ^max-age=)", "set "+strictVariable+` "";`))
	if lastOf(d, "add_header") < 0 { // what stands around it is inherited no more
		for _, o := range e.inherited(around, "add_header") {
			if o.File != d.File && e.used[o.File] > 1 {
				return no(o.Place(), byHand, "headers are added in a file that is included more than once")
			}
			lines = append(lines, "add_header "+rawArgs(o)+";")
		}
	}
	e.insert(d, firstPlace(d), append(lines, add)...)
	return nil
}

// inherited are the directives of a name that the blocks around a site hand down: those of
// the nearest that has any.
func (e *editor) inherited(around []*Directive, name string) (out []*Directive) {
	var of func(list []*Directive)
	of = func(list []*Directive) {
		for _, d := range list {
			if d.Name() == name {
				out = append(out, d)
			}
			for _, f := range e.includes[d] {
				of(f.Nodes)
			}
		}
	}
	for i := len(around) - 1; i >= 0 && len(out) == 0; i-- {
		of(around[i].Block)
	}
	return out
}

// included says whether a directive of a name stands in a file that a block includes.
func (e *editor) included(block *Directive, name string) bool {
	for _, d := range block.Block {
		for _, f := range e.includes[d] {
			if e.declared(name, []*Directive{{Block: f.Nodes}}) {
				return true
			}
		}
		if e.included(d, name) {
			return true
		}
	}
	return false
}
