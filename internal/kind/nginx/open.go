package nginx

import (
	"fmt"
	"io/fs"
	"slices"

	"insegna.example/internal/kind"
)

// Open implements kind.Opener: a listen line more, at the address and port of the
// listener, and spoken to as that is.
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
	return e.edits()
}

// open changes one site.
func (e *editor) open(w *kind.Opened) error {
	no := func(at kind.Place, remedy, format string, args ...any) error {
		return &kind.EditError{Place: at, Reason: fmt.Sprintf(format, args...), Remedy: remedy}
	}
	byHand := "write it by hand: listen " + w.Listener + " ssl;"
	d, around, _ := e.find(w.Site)
	site := slices.IndexFunc(e.reading.Sites, func(s kind.Site) bool { return s.Place == w.Site })
	at := slices.IndexFunc(e.reading.Listeners, func(l kind.Listener) bool {
		return l.String() == w.Listener && l.TLS && l.Network() && l.Protocol == kind.HTTP
	})
	switch {
	case d == nil || len(around) == 0 || site < 0:
		return no(w.Site, byHand, "the site's block is not found in its file")
	case d.Close.Raw == "" || len(d.File.Problems) > 0:
		return no(d.Place(), "mend the file first", "the file cannot be read to its end")
	case e.used[d.File] > 1:
		return no(d.Place(), byHand, "the file %s is included more than once", d.File.Path)
	case at < 0:
		return no(d.Place(), byHand, "no listener with TLS at %s is found", w.Listener)
	}
	l := &e.reading.Listeners[at]
	if err := e.keepDefault(&e.reading.Sites[site], l, no); err != nil {
		return err
	}
	e.touch(d.File)
	e.insert(d, lastOf(d, "listen"), "listen "+e.joining(l)+";")
	return nil
}
