package nginx

import (
	"fmt"
	"io/fs"
	"regexp"
	"slices"

	"insegna.example/internal/kind"
)

// Lead implements kind.Leader. A return line that nobody else comes to is corrected where
// it stands; else rules of the site itself, before all that could end a request, lead its
// visitors on who ask for these hosts in plain http.
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

// lead changes one site.
func (e *editor) lead(w kind.Led) error {
	to := httpsOf(w.Port)
	byHand := "write by hand, before every other rule: return 301 " + to + ";"
	no := func(at kind.Place, remedy, format string, args ...any) error {
		return &kind.EditError{Place: at, Reason: fmt.Sprintf(format, args...), Remedy: remedy}
	}
	d, around, _ := e.find(w.Site)
	switch {
	case d == nil || len(around) == 0:
		return no(w.Site, byHand, "the site's block is not found in its file")
	case d.Close.Raw == "" || len(d.File.Problems) > 0:
		return no(d.Place(), "mend the file first", "the file cannot be read to its end")
	}
	if o := e.line(w.Line); w.Line.Known() && o != nil && e.used[o.File] <= 1 && e.corrected(o, w, to) {
		return nil
	}
	switch {
	case e.used[d.File] > 1:
		return no(d.Place(), byHand, "the file %s is included more than once", d.File.Path)
	case slices.ContainsFunc(d.Block, func(c *Directive) bool { return c.Name() == "set" && c.Arg(0) == ownVariable }):
		return no(d.Place(), byHand, "the site has rules of this kind already, and its visitors are not led all the same")
	}
	var hosts []string
	for _, h := range w.Hosts {
		hosts = append(hosts, regexp.QuoteMeta(h))
	}
	e.touch(d.File)
	e.insert(d, firstPlace(d), leadingRules(d, hosts, w.Port)...)
	return nil
}

// corrected gives a line that leads to https for the time being, or loses what it should
// keep, other words; false where that is not done with it.
func (e *editor) corrected(d *Directive, w kind.Led, to string) bool {
	const last = 3 // word of rewrite
	word := func(s string) Word { return Word{Text: s, Raw: s, Before: " "} }
	switch {
	case d.Name() == "return":
		e.touch(d.File)
		d.Words = append(d.Words[:1:1], word("301"), word(to))
	case d.Name() == "rewrite" && !w.Loses && d.Arg(last-1) == "redirect":
		e.touch(d.File)
		d.Words[last] = Word{Text: "permanent", Raw: "permanent", Before: d.Words[last].Before}
	case d.Name() == "rewrite" && !w.Loses && len(d.Words) == last:
		e.touch(d.File)
		d.Words = append(d.Words[:last:last], word("permanent"))
	default:
		return false
	}
	return true
}
