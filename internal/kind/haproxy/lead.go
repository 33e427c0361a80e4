package haproxy

import (
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/kind"
)

// Lead implements kind.Leader. A redirect for the time being that nobody else comes to is
// made permanent where it stands; else a rule of the front, before all others, leads those
// on who ask for these hosts without TLS.
func (editing) Lead(fsys fs.FS, main string, list []kind.Led) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	for _, w := range list {
		if err := e.lead(w); err != nil {
			return nil, err
		}
	}
	return e.edits()
}

// lead changes one front.
func (e *editor) lead(w kind.Led) error {
	rule := leadingRule(w.Hosts, w.Port)
	byHand := "write by hand, before every other rule: " + rule
	f := e.frontAt(w.Site)
	switch {
	case f == nil:
		return refuse(w.Site, "read the configuration anew", "no section that speaks plain http stands there")
	case f.mode() != kind.HTTP || f.head.file == nil:
		return refuse(w.Site, byHand, "the section passes bytes on, or cannot be edited")
	case e.permanent(w):
		return nil
	}
	first := f.end()
	for _, o := range f.list {
		switch o.arg(0) {
		case "http-request", "redirect", "use_backend", "default_backend":
			first = min(first, o.place.Line)
		}
		if o.file != f.head.file {
			return refuse(o.place, byHand, "the section goes on in another file")
		}
	}
	indent := f.indent(e)
	e.before(f.head.file, first,
		indent+"# Visitors are led to https, but for what a CA asks for as proof of these names.", indent+rule)
	return nil
}

// leadingRule leads hosts from plain http to https.
func leadingRule(hosts []string, port uint16) string {
	to := ""
	const usual = 443
	if port != usual {
		to = ":" + strconv.Itoa(int(port))
	}
	return "http-request redirect location https://%[req.hdr(host),field(1,:)]" + to + "%[capture.req.uri] code 301 if " +
		"!{ ssl_fc } " + ofHosts(hosts) + " !{ path_beg " + wellKnown + " }"
}

// permanent makes the redirect at a line permanent where that is all it lacks.
func (e *editor) permanent(w kind.Led) bool {
	if !w.Line.Known() || w.Loses {
		return false
	}
	for _, s := range e.sections {
		for _, o := range s.list {
			if o.place.AtLine() != w.Line.AtLine() || o.file == nil || !slices.ContainsFunc(o.words, func(x word) bool { return x.text == "redirect" }) {
				continue
			}
			at, text := e.text(o.file)
			if at == nil {
				return false
			}
			lines := strings.SplitAfter(text, "\n")
			line := lines[o.place.Line-1]
			i := slices.IndexFunc(o.words, func(x word) bool { return x.text == "code" })
			if i > 0 && i+1 < len(o.words) {
				line = line[:o.words[i+1].from] + "301" + line[o.words[i+1].to:]
			} else {
				i = slices.IndexFunc(o.words, func(x word) bool { return x.text == "redirect" })
				line = line[:o.words[i+2].to] + " code 301" + line[o.words[i+2].to:]
			}
			lines[o.place.Line-1] = line
			at.After = strings.Join(lines, "")
			return true
		}
	}
	return false
}
