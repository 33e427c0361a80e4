package haproxy

import (
	"io/fs"
	"slices"
	"strings"

	"insegna.example/internal/kind"
)

// strictVariable keeps the name asked for until the answer goes out.
const strictVariable = "txn.insegna_host"

// Pledge implements kind.Pledger: rules of the front, which count for whatever answers.
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

// pledge changes one front.
func (e *editor) pledge(w *kind.Pledged) error {
	var rules []string
	for _, part := range kind.Parted(w.Hosts, 40, 1200) { //nolint:mnd // as ofHosts
		rules = append(rules, "http-after-response set-header "+kind.StrictTransport+" "+w.Value()+" if { ssl_fc } { var("+strictVariable+
			") -m str "+strings.Join(part, " ")+" }")
	}
	byHand := "write it by hand: http-response set-header " + kind.StrictTransport + " " + w.Value()
	var f *front
	for _, o := range e.fronts {
		if slices.ContainsFunc(o.binds, func(b *bind) bool { return b.place.AtLine() == w.Listener.AtLine() }) {
			f = o
		}
	}
	switch {
	case f == nil:
		return refuse(w.Listener, "read the configuration anew", "no bind line stands there")
	case f.mode() != kind.HTTP || f.head.file == nil:
		return refuse(f.head.place, byHand, "the section passes bytes on, or cannot be edited")
	}
	first := f.end()
	for _, o := range f.list {
		switch o.arg(0) {
		case "http-request", "redirect", "use_backend", "default_backend", "http-response", "http-after-response":
			first = min(first, o.place.Line)
		}
		if o.file != f.head.file {
			return refuse(o.place, byHand, "the section goes on in another file")
		}
		if !slices.ContainsFunc(o.words, func(x word) bool { return strings.EqualFold(x.text, kind.StrictTransport) }) {
			continue
		}
		if o.arg(0) == "http-after-response" && slices.ContainsFunc(o.words, func(x word) bool { return strings.Contains(x.text, strictVariable) }) &&
			len(w.Hosts) > 0 && slices.ContainsFunc(o.words, func(x word) bool { return x.text == w.Hosts[0] }) {
			return e.again(o, w)
		}
		if !slices.ContainsFunc(o.words, func(x word) bool { return strings.Contains(x.text, strictVariable) }) {
			return refuse(o.place, "change that line by hand", "the header is set already")
		}
	}
	indent := f.indent(e)
	e.before(f.head.file, first, indent+"# Browsers that have come to these names over TLS come over TLS alone from then on.",
		indent+"http-request set-var("+strictVariable+") req.hdr(host),field(1,:),lower")
	for _, rule := range rules {
		e.before(f.head.file, first, indent+rule)
	}
	return nil
}

// again gives a rule that is there another value.
func (e *editor) again(o *statement, w *kind.Pledged) error {
	at, text := e.text(o.file)
	i := slices.IndexFunc(o.words, func(x word) bool { return strings.HasPrefix(x.text, "max-age=") })
	if at == nil || i < 0 {
		return refuse(o.place, "change it by hand", "the line cannot be changed")
	}
	lines := strings.SplitAfter(text, "\n")
	line := lines[o.place.Line-1]
	lines[o.place.Line-1] = line[:o.words[i].from] + w.Value() + line[o.words[i].to:]
	at.After = strings.Join(lines, "")
	return nil
}
