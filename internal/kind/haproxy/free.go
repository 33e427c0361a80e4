package haproxy

import (
	"fmt"
	"io/fs"
	"net"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/kind"
)

// Names of what is written for a CA's request.
const (
	wellKnown     = "/.well-known/acme-challenge/"
	proofsBackend = "insegna-proofs"
)

// inserted are lines that come before one of a file, or the words a line begins with
// instead of others.
type inserted struct {
	before  int // number of the line; one behind the last for the end
	lines   []string
	replace [2]string // in that line, where lines is nil
}

// Free works out the edits that let fronts pass what a CA asks for (RFC 8555 section
// 8.3) on to who answers beside the server, before all other rules: a balancer
// serves no files.
func (editing) Free(fsys fs.FS, main string, list []kind.Freed) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	for _, w := range list {
		f := e.frontAt(w.Site)
		if f == nil {
			return nil, refuse(w.Site, "read the configuration anew", "no section that speaks plain http stands there")
		}
		if err := e.passProofs(f, w.Hosts, w.Listener); err != nil {
			return nil, err
		}
	}
	return e.edits()
}

// frontAt is the section with a plain site; nil for none.
func (e *editor) frontAt(at kind.Place) *front {
	for _, f := range e.fronts {
		if f.site >= 0 && e.reader.out.Sites[f.site].Place == at {
			return f
		}
	}
	return nil
}

// ofHosts are conditions that hold for some hosts each, however their port is written: a
// line takes so many words, and so many bytes.
func ofHosts(hosts []string) (out []string) {
	const words, bytes = 40, 1200
	for _, part := range kind.Parted(hosts, words, bytes) {
		out = append(out, "{ req.hdr(host),field(1,:) -i "+strings.Join(part, " ")+" }")
	}
	return out
}

// passProofs writes the rules by which a CA's requests for some hosts go to who
// answers them, and others behind the first.
func (e *editor) passProofs(f *front, hosts []string, listener string, behind ...string) error {
	byHand := "add before every other rule: use_backend PROOFS if { path_beg " + wellKnown + " }, with a backend that answers"
	switch {
	case listener == "":
		return refuse(f.head.place, "let the service answer: write proof: {by: listener, at: ADDRESS:PORT} in the mandate, and "+
			"start it with --proofs; or "+byHand, "a balancer serves no files, and nobody is named who answers a CA")
	case f.mode() != kind.HTTP:
		return refuse(f.head.place, byHand, "the section passes bytes on, and sees no path")
	case f.head.file == nil:
		return refuse(f.head.place, byHand, "the section cannot be edited")
	}
	if f.passes(hosts) {
		return refuse(f.head.place, byHand, "the section has been prepared already, and the path does not go through all the same")
	}
	first, choosing := f.end(), f.end()
	for _, o := range f.list {
		switch o.arg(0) {
		case "http-request", "redirect":
			first = min(first, o.place.Line)
		case "use_backend", "default_backend":
			first, choosing = min(first, o.place.Line), min(choosing, o.place.Line)
		}
		if o.file != f.head.file {
			return refuse(o.place, byHand, "the section goes on in another file")
		}
	}
	if err := e.asRules(f, byHand); err != nil {
		return err
	}
	indent := f.indent(e)
	allow := []string{indent + "# What a CA asks for as proof of these names goes on before all other rules."}
	var choose []string
	for _, of := range ofHosts(hosts) {
		allow = append(allow, indent+"http-request allow if { path_beg "+wellKnown+" } "+of)
		choose = append(choose, indent+"use_backend "+proofsBackend+" if { path_beg "+wellKnown+" } "+of)
	}
	e.before(f.head.file, first, append(allow, behind...)...)
	e.before(f.head.file, choosing, choose...)
	return e.proofsAt(f, listener)
}

// passes says whether a section was prepared for some hosts.
func (f *front) passes(hosts []string) bool {
	return !slices.ContainsFunc(hosts, func(h string) bool {
		return !slices.ContainsFunc(f.list, func(o *statement) bool {
			return o.arg(0) == "use_backend" && o.arg(1) == proofsBackend && slices.Contains(o.args(2), h)
		})
	})
}

// asRules turns redirect lines, which count after all rules for requests, into such
// rules, so that what is allowed before gets past them.
func (e *editor) asRules(f *front, byHand string) error {
	for i, o := range f.list {
		if o.arg(0) != "redirect" {
			continue
		}
		if slices.ContainsFunc(f.list[i:], func(o *statement) bool { return o.arg(0) == "http-request" }) {
			return refuse(o.place, "write it as http-request redirect, where it is to count; or "+byHand,
				"it redirects before a CA's request could be passed on, and rules behind it count before it")
		}
		e.lines[f.head.file] = append(e.lines[f.head.file], inserted{before: o.place.Line, replace: [2]string{"redirect", "http-request redirect"}})
	}
	return nil
}

// proofsAt writes the section that leads to who answers a CA, unless it is there.
func (e *editor) proofsAt(f *front, listener string) error {
	for _, s := range e.sections {
		if s.kind != "backend" || s.name != proofsBackend {
			continue
		}
		if list := s.servers(); len(list) != 1 || list[0].arg(2) != listener {
			return refuse(s.head.place, "let it lead to "+listener, "the section %s leads elsewhere", proofsBackend)
		}
		return nil
	}
	if e.answering {
		return nil
	}
	e.answering = true
	e.before(f.head.file, strings.Count(f.head.file.text, "\n")+2, "", "backend "+proofsBackend, "    mode http", "    server insegna "+listener)
	return nil
}

// secure gives a section that speaks plain http TLS as well: a bind line with the
// certificate at the port for https, and a redirect for visitors of its names, but
// for what a CA asks for. Whoever else it answers gets what he got.
func (e *editor) secure(f *front, w kind.Wanted) error {
	byHand := "add by hand: bind :443 ssl crt " + quoted(w.Certificate)
	site := &e.reader.out.Sites[f.site]
	var hosts []string
	for i := range site.Names {
		if h := site.Names[i].Host(); h != "" {
			hosts = append(hosts, h)
		}
	}
	switch {
	case f.mode() != kind.HTTP || f.head.file == nil:
		return refuse(w.Site, byHand, "the section passes bytes on, or cannot be edited")
	case w.Port == 0:
		return refuse(w.Site, "name one in the mandate, such as install: [SERVER:443]", "no port for https is known")
	case len(hosts) == 0:
		return refuse(w.Site, byHand, "the section asks for no name that the certificate could be for")
	}
	for _, host := range hosts {
		w := &walk{tree: e.routes, visitor: &visitor{host: host, sni: host, path: "/", tls: true, vars: map[string]sample{}}}
		if step, done := w.section(f.section); done && step.Handling == kind.Redirects {
			return refuse(step.Place, "let it count for plain http alone: if !{ ssl_fc }",
				"visitors of %s would be redirected over TLS too, and go round in circles", host)
		}
	}
	indent := f.indent(e)
	line := 0
	var binds []string
	for _, b := range f.binds {
		if b.file != f.head.file || b.tls {
			return refuse(b.place, byHand, "the section has a bind line with TLS, or in another file")
		}
		line = max(line, b.place.Line)
		if slices.Contains(b.args(2), "id") {
			return refuse(b.place, byHand, "the bind line has a number of its own, which no second one can have")
		}
		more := "" // what else the line says of its listener, such as accept-proxy
		if n := len(b.words); n > 2 {
			more = strings.Split(b.file.text, "\n")[b.place.Line-1][b.words[1].to:b.words[n-1].to]
		}
		for _, text := range strings.Split(b.arg(1), ",") {
			host, _, err := net.SplitHostPort(text)
			if err != nil {
				return refuse(b.place, byHand, "%s is no address and port", text)
			}
			at := net.JoinHostPort(host, strconv.Itoa(int(w.Port)))
			binds = append(binds, fmt.Sprintf("%sbind %s%s ssl crt %s alpn h2,http/1.1", indent, at, more, quoted(w.Certificate)))
		}
	}
	if len(binds) == 0 {
		return refuse(w.Site, byHand, "the section has no bind line")
	}
	e.before(f.head.file, line+1, binds...)
	leads := []string{indent + "# Visitors are led to https, but for what a CA asks for as proof of these names."}
	for _, rule := range leadingRules(hosts, w.Port) {
		leads = append(leads, indent+rule)
	}
	if w.Listener != "" && !f.passes(hosts) {
		if err := e.passProofs(f, hosts, w.Listener, leads...); err != nil {
			return err
		}
	} else {
		first := f.end()
		for _, o := range f.list {
			switch o.arg(0) {
			case "http-request", "redirect", "use_backend", "default_backend":
				first = min(first, o.place.Line)
			}
		}
		e.before(f.head.file, first, leads...)
	}
	e.out.Loads = append(e.out.Loads, kind.Load{Path: w.Certificate})
	return nil
}

// end is the number of the line behind the last of a section.
func (f *front) end() int {
	last := f.head.place.Line
	for _, o := range f.list {
		if o.file == f.head.file {
			last = max(last, o.place.Line)
		}
	}
	return last + 1
}

// indent is what stands before the lines of a section.
func (f *front) indent(*editor) string {
	for _, o := range f.list {
		lines := strings.Split(f.head.file.text, "\n")
		if o.file == f.head.file && o.place.Line <= len(lines) {
			line := lines[o.place.Line-1]
			return line[:len(line)-len(strings.TrimLeft(line, " \t"))]
		}
	}
	return "    "
}

// before notes lines that come before one of a file.
func (e *editor) before(f *file, line int, lines ...string) {
	e.lines[f] = append(e.lines[f], inserted{before: line, lines: lines})
}

// insert writes new lines into a file, from the last to the first, and notes where
// sites stand then.
func (e *editor) insert(f *file, list []inserted) error {
	at, text := e.text(f)
	if at == nil {
		return refuse(kind.Place{File: f.path, Line: 1}, "write it by hand", "%s cannot be changed", f.path)
	}
	end := "\n"
	if strings.Contains(text, "\r\n") {
		end = "\r\n"
	}
	lines := strings.SplitAfter(text, "\n")
	if n := len(lines); lines[n-1] == "" {
		lines = lines[:n-1]
	} else {
		lines[n-1] += end
	}
	for i := range lines {
		for _, x := range list {
			if x.lines == nil && x.before == i+1 {
				lines[i] = strings.Replace(lines[i], x.replace[0], x.replace[1], 1)
			}
		}
	}
	var out strings.Builder
	moved := make([]int, len(lines)+2) // how many lines come before each
	n := 0
	for i := 0; i <= len(lines); i++ {
		for _, x := range list {
			if x.lines != nil && (x.before == i+1 || i == len(lines) && x.before > i+1) {
				for _, l := range x.lines {
					out.WriteString(l + end)
					n++
				}
			}
		}
		moved[i+1] = n
		if i < len(lines) {
			out.WriteString(lines[i])
		}
	}
	at.After = out.String()
	for i := range e.reader.out.Sites {
		was := e.reader.out.Sites[i].Place
		if was.File == f.path && was.Line < len(moved) && moved[was.Line] > 0 {
			is := was
			is.Line += moved[was.Line]
			e.out.Sites[was] = is
		}
	}
	return nil
}
