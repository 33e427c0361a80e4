package haproxy

import (
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/kind"
)

// Lead implements kind.Leader. A redirect that nobody else comes to is corrected where it
// stands; else a rule of the front, before all others, leads those on who ask for these
// hosts without TLS.
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
	rules := leadingRules(w.Hosts, w.Port)
	byHand := "write by hand, before every other rule: " + rules[0]
	f := e.frontAt(w.Site)
	switch {
	case f == nil:
		return refuse(w.Site, "read the configuration anew", "no section that speaks plain http stands there")
	case f.mode() != kind.HTTP || f.head.file == nil:
		return refuse(w.Site, byHand, "the section passes bytes on, or cannot be edited")
	case e.corrected(w):
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
	e.before(f.head.file, first, indent+"# Visitors are led to https, but for what a CA asks for as proof of these names.")
	for _, rule := range rules {
		e.before(f.head.file, first, indent+rule)
	}
	return nil
}

// leadingRules lead hosts from plain http to https.
func leadingRules(hosts []string, port uint16) (out []string) {
	for _, of := range ofHosts(hosts) {
		out = append(out, "http-request redirect "+leadingWords(port)+" if !{ ssl_fc } "+of+" !{ path_beg "+wellKnown+" }")
	}
	return out
}

// leadingWords are the words of a redirect that keeps host, path and query.
func leadingWords(port uint16) string {
	to := ""
	const usual = 443
	if port != usual {
		to = ":" + strconv.Itoa(int(port))
	}
	return "location https://%[req.hdr(host),field(1,:)]" + to + "%[capture.req.uri] code 301"
}

// corrected gives the redirect at a line that leads for the time being, or loses what it
// should keep, other words; false where there is none.
func (e *editor) corrected(w kind.Led) bool {
	if !w.Line.Known() {
		return false
	}
	for _, s := range e.sections {
		for _, o := range s.list {
			if o.place.AtLine() == w.Line.AtLine() && o.file != nil {
				return e.correct(o, w)
			}
		}
	}
	return false
}

// correct changes one line.
func (e *editor) correct(o *statement, w kind.Led) bool {
	is := func(list ...string) int {
		return slices.IndexFunc(o.words, func(x word) bool { return slices.Contains(list, x.text) })
	}
	redirect, code, condition := is("redirect"), is("code"), is("if", "unless")
	if condition < 0 {
		condition = len(o.words)
	}
	if redirect < 0 || redirect+2 >= len(o.words) || code > 0 && code+1 >= condition {
		return false
	}
	at, text := e.text(o.file)
	if at == nil {
		return false
	}
	lines := strings.SplitAfter(text, "\n")
	line := lines[o.place.Line-1]
	switch {
	case w.Loses:
		line = line[:o.words[redirect+1].from] + leadingWords(w.Port) + line[o.words[condition-1].to:]
	case code > 0:
		line = line[:o.words[code+1].from] + "301" + line[o.words[code+1].to:]
	default:
		line = line[:o.words[redirect+2].to] + " code 301" + line[o.words[redirect+2].to:]
	}
	lines[o.place.Line-1] = line
	at.After = strings.Join(lines, "")
	return true
}
