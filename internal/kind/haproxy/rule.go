package haproxy

import (
	"io/fs"
	"net/netip"
	"strings"
	"sync"

	"insegna.example/internal/kind"
)

// truth is what is known of a condition.
type truth int

// What a condition may come to.
const (
	no truth = iota
	yes
	perhaps // it depends on what is not known here
)

// truthOf makes one of what is known.
func truthOf(b bool) truth {
	if b {
		return yes
	}
	return no
}

// not turns a condition round.
func (t truth) not() truth {
	switch t {
	case yes:
		return no
	case no:
		return yes
	}
	return perhaps
}

// tree are the sections of a configuration as requests go through them.
type tree struct {
	*loader
	fronts map[kind.Place]*section // by the place of their bind lines and of themselves
	backs  map[string]*section     // by name
	acls   map[*section]map[string][]*statement
	maps   map[string]*mapped
	cut    sync.Map // fetches by their text

	mu sync.Mutex // maps are read when they are first asked for
}

// newTree prepares the sections of a loader.
func newTree(l *loader) *tree {
	t := &tree{loader: l, fronts: map[kind.Place]*section{}, backs: map[string]*section{},
		acls: map[*section]map[string][]*statement{}, maps: map[string]*mapped{}}
	for _, s := range l.sections {
		t.acls[s] = map[string][]*statement{}
		for _, o := range s.list {
			switch o.arg(0) {
			case "bind":
				t.fronts[o.place] = s
			case "acl":
				t.acls[s][o.arg(1)] = append(t.acls[s][o.arg(1)], o)
			}
		}
		if s.kind == "backend" || s.kind == "listen" {
			t.backs[s.name] = s
		}
	}
	t.kept()
	return t
}

// kept keeps what every request asks for again.
func (t *tree) kept() {
	for _, s := range t.sections {
		for _, o := range s.list {
			o.texts = append([]string{}, o.args(0)...)
		}
	}
	for _, s := range t.sections {
		all := map[string][]ruled{}
		for _, at := range []*section{s.defaults, s} {
			if at == nil {
				continue
			}
			for _, o := range at.list {
				all[o.arg(0)] = append(all[o.arg(0)], ruled{o, at})
			}
		}
		s.ruled = all
	}
}

// fetchOf cuts an expression, or remembers having cut it.
func (t *tree) fetchOf(text string) fetched {
	if had, met := t.cut.Load(text); met {
		return had.(fetched) //nolint:forcetypeassert // nothing else is stored
	}
	f := fetchOf(text)
	t.cut.Store(text, f)
	return f
}

// treeOf reads the files of a reading again.
func treeOf(r *kind.Reading) *tree {
	l := newLoader(nothing{}, r.Main)
	l.stored = map[string]string{}
	for i := range r.Files {
		l.stored[r.Files[i].Path] = r.Files[i].Text
	}
	if l.load() != nil { // a reading is no source that could be lost
		return newTree(newLoader(nothing{}, r.Main))
	}
	return newTree(l)
}

// nothing is the source of a reading that is read again: all it has is stored.
type nothing struct{}

// Open implements fs.FS.
func (nothing) Open(p string) (fs.File, error) {
	return nil, &fs.PathError{Op: "open", Path: p, Err: fs.ErrNotExist}
}

// rules are the lines of a section with some keywords, those of its defaults before
// its own.
func (s *section) rules(keywords ...string) (out []ruled) {
	if s.ruled != nil && len(keywords) == 1 {
		return s.ruled[keywords[0]]
	}
	for _, at := range []*section{s.defaults, s} {
		if at == nil {
			continue
		}
		for _, o := range at.list {
			for _, k := range keywords {
				if o.arg(0) == k {
					out = append(out, ruled{o, at})
				}
			}
		}
	}
	return out
}

// ruled is a line with the section whose acls count for it.
type ruled struct {
	*statement
	in *section
}

// condition gives the words of a line before its condition, and that itself.
func (r ruled) condition(from int) (before, cond []string, unless bool) {
	words := r.args(from)
	for i, w := range words {
		if w == "if" || w == "unless" {
			return words[:i], words[i+1:], w == "unless"
		}
	}
	return words, nil, false
}

// holds evaluates the condition of a line for a visitor; a line without one holds.
func (t *tree) holds(v *visitor, r ruled, from int) truth {
	_, cond, unless := r.condition(from)
	if cond == nil {
		return yes
	}
	out := t.either(v, r.in, cond)
	if unless {
		out = out.not()
	}
	return out
}

// either evaluates terms parted by || and or; terms beside each other must all
// hold.
func (t *tree) either(v *visitor, in *section, words []string) truth {
	out, all := no, yes
	for i := 0; i <= len(words); i++ {
		if i == len(words) || words[i] == "||" || words[i] == "or" {
			if out == no || all == yes {
				out = max(out, all)
				if all == yes {
					return yes
				}
			}
			all = yes
			continue
		}
		w, negated := words[i], false
		for strings.HasPrefix(w, "!") {
			w, negated = w[1:], !negated
		}
		if w == "" && i+1 < len(words) { // "! name"
			i++
			w = words[i]
		}
		var is truth
		if w == "{" {
			end := i + 1
			for end < len(words) && words[end] != "}" {
				end++
			}
			is = t.test(v, words[i+1:end])
			i = end
		} else {
			is = t.acl(v, in, w)
		}
		if negated {
			is = is.not()
		}
		if is == no || all == no {
			all = no
		} else if is == perhaps {
			all = perhaps
		}
	}
	return out
}

// inherent are the acls every section has.
var inherent = map[string][]string{
	"TRUE": {"always_true"}, "FALSE": {"always_false"}, "HTTP": {"req.proto_http"},
	"METH_GET": {"method", "GET", "HEAD"}, "METH_POST": {"method", "POST"}, "METH_HEAD": {"method", "HEAD"},
	"METH_OPTIONS": {"method", "OPTIONS"}, "METH_PUT": {"method", "PUT"}, "METH_DELETE": {"method", "DELETE"},
	"METH_CONNECT": {"method", "CONNECT"}, "METH_TRACE": {"method", "TRACE"}, "METH_PATCH": {"method", "PATCH"},
	"HTTP_URL_SLASH": {"url_beg", "/"}, "HTTP_CONTENT": {"always_false"}, "WAIT_END": {"always_true"},
}

// acl evaluates an acl by its name: one of its lines has to hold.
func (t *tree) acl(v *visitor, in *section, name string) truth {
	lines := t.acls[in][name]
	if len(lines) == 0 {
		if words, ok := inherent[name]; ok {
			return t.test(v, words)
		}
		return perhaps
	}
	out := no
	for _, o := range lines {
		switch t.test(v, o.args(2)) {
		case yes:
			return yes
		case perhaps:
			out = perhaps
		}
	}
	return out
}

// visitor is a request as it goes through a section.
type visitor struct {
	host    string // as its Host header has it, perhaps with a port
	sni     string
	uri     string // as asked
	path    string // as rules have changed it
	query   string // what stands behind the question mark
	at      netip.AddrPort
	tls     bool // it speaks TLS to whom it is passed on to
	lost    bool // the path was changed by something that is not known here
	strange bool // so was the host
	vars    map[string]sample
}
