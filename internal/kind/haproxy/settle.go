package haproxy

import (
	"io/fs"
	"slices"
	"strings"

	"insegna.example/internal/kind"
)

// Settle implements kind.Settler: versions and suites are the bind line's, whatever the
// global section says.
func (editing) Settle(fsys fs.FS, main string, list []kind.Settled) (*kind.Edits, error) {
	e, err := newEditor(fsys, main)
	if err != nil {
		return nil, err
	}
	var lines []kind.Settled
	for _, s := range list {
		if s.Stapling {
			return nil, refuse(s.Site, "install the certificate with its answer: insegna install MANDATE; or have one issued without that demand",
				"it sends along what lies beside its certificate, and does not ask the CA itself")
		}
		i := slices.IndexFunc(lines, func(o kind.Settled) bool { return o.Listener.AtLine() == s.Listener.AtLine() })
		if i < 0 {
			i, lines = len(lines), append(lines, kind.Settled{Listener: s.Listener})
		}
		lines[i].Versions, lines[i].Suites = lines[i].Versions || s.Versions, lines[i].Suites || s.Suites
	}
	for _, s := range lines {
		if err := e.settle(s); err != nil {
			return nil, err
		}
	}
	return e.edits()
}

// oldVersions are words of a bind line that say which versions of TLS it speaks, and how
// many words follow each.
var oldVersions = map[string]int{"ssl-min-ver": 1, "ssl-max-ver": 1, "force-sslv3": 0, "force-tlsv10": 0, "force-tlsv11": 0,
	"no-tlsv12": 0, "no-tlsv13": 0}

// settle sets versions and suites of one bind line.
func (e *editor) settle(s kind.Settled) error {
	var b *bind
	for _, f := range e.fronts {
		for _, o := range f.binds {
			if o.place.AtLine() == s.Listener.AtLine() {
				b = o
			}
		}
	}
	switch {
	case b == nil || b.file == nil:
		return refuse(s.Listener, "read the configuration anew", "no bind line stands there")
	case slices.ContainsFunc(b.words, func(w word) bool { return w.unknown != "" }):
		return refuse(b.place, "write it by hand: ssl-min-ver TLSv1.2", "the bind line holds a variable that is not known here")
	}
	for _, o := range b.entries {
		if o.options != nil && (s.Suites && o.options.ciphers != "" || s.Versions && o.options.highest+o.options.lowest > 0) {
			return refuse(o.place, "take ciphers and versions out of the list", "the list has settings of its own for a certificate")
		}
	}
	at, text := e.text(b.file)
	if at == nil {
		return refuse(b.place, "write it by hand", "%s cannot be changed", b.file.path)
	}
	lines := strings.SplitAfter(text, "\n")
	line := lines[b.place.Line-1]
	end := b.words[len(b.words)-1].to
	more := ""
	if s.Versions {
		more += " ssl-min-ver TLSv1.2"
	}
	if s.Suites {
		more += " ciphers " + kind.Suites
	}
	line = line[:end] + more + line[end:]
	for i := len(b.words) - 1; i > 1; i-- { // from the last, so that places before stay
		follow, old := oldVersions[b.words[i].text]
		if old = old && s.Versions; !old && (b.words[i].text != "ciphers" || !s.Suites) {
			continue
		} else if !old {
			follow = 1
		}
		last := b.words[min(i+follow, len(b.words)-1)]
		line = line[:b.words[i-1].to] + line[last.to:]
	}
	lines[b.place.Line-1] = line
	at.After = strings.Join(lines, "")
	return nil
}
