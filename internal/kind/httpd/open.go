package httpd

import (
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/kind"
)

// Open implements kind.Opener: an address more behind VirtualHost.
func (editing) Open(fsys fs.FS, main string, list []kind.Opened) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if err := e.open(&list[i]); err != nil {
			return nil, err
		}
	}
	return e.edits(nil)
}

// open changes one virtual host.
func (e *editor) open(w *kind.Opened) error {
	byHand := "write " + w.At.String() + " behind its VirtualHost by hand"
	find := func(at kind.Place) *Directive {
		i := slices.IndexFunc(e.top, func(d *Directive) bool { return d.Name == "virtualhost" && d.Place == at })
		if i < 0 {
			return nil
		}
		return e.top[i]
	}
	d, instead := find(w.Site), find(w.Instead)
	if d == nil || instead == nil {
		return no(w.Site, byHand, "the main server answers there, which has no addresses of its own")
	}
	if err := e.editable(no, d); err != nil {
		return err
	}
	address := ""
	for _, word := range strings.Fields(instead.node.args) {
		switch port := ":" + strconv.Itoa(int(w.At.Port())); {
		case word == w.At.String():
			address = word
		case address == "" && (word == "*"+port || word == "_default_"+port):
			address = word
		}
	}
	head, rest, whole := strings.Cut(strings.TrimRight(e.lineOf(d.node, d.node.line), "\r\n"), ">")
	switch {
	case address == "":
		return no(instead.Place, byHand, "its addresses are not written as numbers")
	case !whole:
		return no(d.Place, byHand, "its first line goes on in the next")
	case !slices.Contains(strings.Fields(d.node.args), address):
		e.change(d.node, change{d.node.line, d.node.line, []string{strings.TrimRight(head, " \t") + " " + address + ">" + rest}})
	}
	return nil
}
