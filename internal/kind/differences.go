package kind

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Difference is what is not the same in two readings of a server, in the words of its
// configuration.
type Difference struct {
	What   string // "site", "listener", "certificate", "file" or "problem"
	Which  string // the thing: a site's name, an address, a path
	Before string // how it was; "" when it was not there
	After  string // how it is; "" when it is not there any more
	Place  Place  // in the newer reading, or in the older one when it is gone
}

// Differences compares two readings of one server. What stands at other lines and says
// the same is no change.
func Differences(before, after *Reading) []Difference {
	var out []Difference
	out = append(out, siteChanges(before, after)...)
	out = append(out, listenerChanges(before, after)...)
	out = append(out, materialChanges(before, after)...)
	out = append(out, fileChanges(before, after)...)
	return append(out, problemChanges(before, after)...)
}

// stated is a site with what is compared of it.
type stated struct {
	*Site
	force bool
	says  []string // facts, a line each
}

// state gives what is compared of every site of a reading.
func state(r *Reading) []stated {
	var out []stated
	for _, list := range [][]Site{r.Sites, r.Idle} {
		for i := range list {
			out = append(out, stated{Site: &list[i], force: len(r.Sites) > 0 && &list[0] == &r.Sites[0]})
		}
	}
	for i := range out {
		out[i].says = out[i].facts()
	}
	return out
}

// facts are what a site says, in an order that stays.
func (s *stated) facts() (out []string) {
	say := func(label string, list ...string) {
		if len(list) > 0 && list[0] != "" {
			out = append(out, label+" "+strings.Join(list, ", "))
		}
	}
	var names []string
	for _, n := range s.Names {
		names = append(names, n.Text)
	}
	say("names", names...)
	say("listens at", s.Asked...)
	for _, p := range s.Pairs {
		say("certificate", p.Certificate)
		say("key", p.Key)
		say("chain", p.Chain)
	}
	for i := range s.Plain {
		p := &s.Plain[i]
		say("plain http for "+p.Host, p.Front.said())
		if p.WellKnown.said() != p.Front.said() {
			say("and for a CA", p.WellKnown.said())
		}
	}
	for _, h := range s.Hops {
		guard := ""
		if h.TLS {
			guard = " over TLS"
			if h.Checked {
				guard += ", verified"
			}
		}
		say("passes on to", h.To+guard)
	}
	if s.Through != nil {
		say("passes TLS on to", s.Through.To)
	}
	if s.Refuses {
		say("refuses", "handshakes")
	}
	if !s.force {
		say("is", "not switched on")
	}
	return out
}

// said is a step without its place.
func (s *Step) said() string {
	text := string(s.Handling)
	if s.Status > 0 {
		text += fmt.Sprintf(" (%d)", s.Status)
	}
	if s.To != "" {
		text += " to " + s.To
	}
	return text
}

// siteChanges pairs the sites of two readings: those that say the same, then those of
// the same file and name, and compares the rest.
func siteChanges(before, after *Reading) (out []Difference) {
	old, now := state(before), state(after)
	for _, same := range []func(s *stated) string{
		func(s *stated) string { return s.File + "\x00" + strings.Join(s.says, "\x00") },
		func(s *stated) string { return s.File + "\x00" + s.MainName() + "\x00" + strings.Join(s.Asked, "\x00") },
		func(s *stated) string { return s.File + "\x00" + s.MainName() },
		func(s *stated) string { return s.MainName() + "\x00" + strings.Join(s.Asked, "\x00") },
	} {
		left := map[string][]int{}
		for i := range now {
			if now[i].Site != nil {
				left[same(&now[i])] = append(left[same(&now[i])], i)
			}
		}
		for i := range old {
			o := &old[i]
			if o.Site == nil {
				continue
			}
			found := left[same(o)]
			if len(found) == 0 {
				continue
			}
			left[same(o)] = found[1:]
			n := &now[found[0]]
			if was, is := differing(o, n); was != "" || is != "" {
				out = append(out, Difference{"site", n.MainName(), was, is, n.Place})
			}
			o.Site, n.Site = nil, nil
		}
	}
	for i := range old {
		if s := &old[i]; s.Site != nil {
			out = append(out, Difference{"site", s.MainName(), strings.Join(s.says, "; "), "", s.Place})
		}
	}
	for i := range now {
		if s := &now[i]; s.Site != nil {
			out = append(out, Difference{"site", s.MainName(), "", strings.Join(s.says, "; "), s.Place})
		}
	}
	return out
}

// differing gives the facts only one of two sites has, and a move to another file.
func differing(old, now *stated) (was, is string) {
	only := func(a, b []string) string {
		return strings.Join(slices.DeleteFunc(slices.Clone(a), func(f string) bool { return slices.Contains(b, f) }), "; ")
	}
	was, is = only(old.says, now.says), only(now.says, old.says)
	switch {
	case was == "" && is == "" && !slices.Equal(old.says, now.says):
		was, is = strings.Join(old.says, "; "), strings.Join(now.says, "; ") // in another order
	case was == "" && is == "" && old.File != now.File:
		was, is = "in "+old.File, "in "+now.File
	case was == "" && is != "":
		was = "without that"
	case is == "" && was != "":
		is = "without that"
	}
	return was, is
}

// listenerChanges compares addresses, what is spoken there and who answers by default.
func listenerChanges(before, after *Reading) []Difference {
	type listening struct {
		text  string
		place Place
	}
	all := func(r *Reading) map[string]listening {
		out := map[string]listening{}
		for i := range r.Listeners {
			l := &r.Listeners[i]
			text := string(l.Protocol)
			if l.TLS {
				text += " over TLS"
			}
			if l.Default >= 0 && l.Default < len(r.Sites) && slices.Contains(l.Sites, l.Default) {
				text += ", by default " + r.Sites[l.Default].MainName()
			}
			out[l.String()] = listening{text, l.Place}
		}
		return out
	}
	old, now := all(before), all(after)
	return compared("listener", old, now, func(l listening) (string, Place) { return l.text, l.place })
}

// materialChanges compares what lies in the files of certificates and keys.
func materialChanges(before, after *Reading) []Difference {
	text := func(r *Reading) func(*Material) (string, Place) {
		return func(m *Material) (string, Place) {
			var parts []string
			if len(m.Chain) > 0 {
				parts = append(parts, "certificate "+m.Chain[0])
				if n := len(m.Chain) - 1; n > 0 {
					parts = append(parts, fmt.Sprintf("%d behind it: %s", n, strings.Join(m.Chain[1:], " ")))
				}
			}
			if m.Public != "" {
				parts = append(parts, "key "+m.Public)
			}
			if m.Fault != "" && len(m.Chain) == 0 && m.Public == "" {
				parts = append(parts, m.Fault)
			}
			if m.Mode != 0 {
				parts = append(parts, fmt.Sprintf("mode %04o", m.Mode))
			}
			return strings.Join(parts, ", "), Place{}
		}
	}
	list := comparedBy("certificate", before.Material, after.Material, text(before), text(after))
	for i := range list {
		list[i].Before, list[i].After = onlyIn(list[i].Before, list[i].After), onlyIn(list[i].After, list[i].Before)
	}
	return list
}

// onlyIn keeps the parts of a text that another one has not, so that what stays is
// not told again; the whole where nothing would be left.
func onlyIn(text, other string) string {
	if text == "" || other == "" {
		return text
	}
	has := strings.Split(other, ", ")
	parts := slices.DeleteFunc(strings.Split(text, ", "), func(p string) bool { return slices.Contains(has, p) })
	return cmp.Or(strings.Join(parts, ", "), text)
}

// fileChanges tells files of the configuration that came, went or led elsewhere, and
// whose text changed though nothing above did.
func fileChanges(before, after *Reading) []Difference {
	all := func(r *Reading) map[string]*File {
		out := map[string]*File{}
		for i := range r.Files {
			out[r.Files[i].Path] = &r.Files[i]
		}
		return out
	}
	old, now := all(before), all(after)
	text := func(f *File) (string, Place) {
		parts := []string{fmt.Sprintf("%d lines", bytes.Count([]byte(f.Text), []byte("\n")))}
		if f.Link != "" {
			parts = append(parts, "a link to "+f.Link)
		}
		if !f.InForce {
			parts = append(parts, "not in force")
		}
		return strings.Join(parts, ", "), Place{File: f.Path, Line: 1}
	}
	out := compared("file", old, now, text)
	for path, f := range now {
		o := old[path]
		if o == nil || o.Text == f.Text || slices.ContainsFunc(out, func(c Difference) bool { return c.Which == path }) {
			continue
		}
		line := firstDifferent(o.Text, f.Text)
		out = append(out, Difference{"file", path, lineOf(o.Text, line), lineOf(f.Text, line), Place{File: path, Line: line}})
	}
	slices.SortFunc(out, func(a, b Difference) int { return strings.Compare(a.Which, b.Which) })
	return out
}

// firstDifferent is the first line, from 1, at which two texts differ.
func firstDifferent(a, b string) int {
	la, lb := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range min(len(la), len(lb)) {
		if la[i] != lb[i] {
			return i + 1
		}
	}
	return min(len(la), len(lb)) + 1
}

// lineOf is a line of a text, from 1, in a few words.
func lineOf(text string, n int) string {
	const most = 120
	lines := strings.Split(text, "\n")
	if n > len(lines) {
		return "(its end)"
	}
	line := strings.TrimSpace(lines[n-1])
	if len(line) > most {
		line = strings.ToValidUTF8(line[:most], "") + "..."
	}
	return cmp.Or(line, "(an empty line)")
}

// problemChanges tells problems that came and went.
func problemChanges(before, after *Reading) []Difference {
	all := func(r *Reading) map[string]*Problem {
		out := map[string]*Problem{}
		for i := range r.Problems {
			p := &r.Problems[i]
			out[p.File+": "+p.Message] = p
		}
		return out
	}
	list := compared("problem", all(before), all(after), func(p *Problem) (string, Place) { return string(p.Effect), p.Place })
	return list
}

// compared compares two maps of things by what is said of them.
func compared[T any](what string, old, now map[string]T, say func(T) (string, Place)) []Difference {
	return comparedBy(what, old, now, say, say)
}

// comparedBy is compared with words of their own for each side.
func comparedBy[T any](what string, old, now map[string]T, sayOld, sayNow func(T) (string, Place)) (out []Difference) {
	for _, key := range slices.Sorted(maps.Keys(old)) {
		was, at := sayOld(old[key])
		n, is := now[key]
		if !is {
			out = append(out, Difference{what, key, cmp.Or(was, "there"), "", at})
			continue
		}
		if text, place := sayNow(n); text != was {
			out = append(out, Difference{what, key, was, text, place})
		}
	}
	for _, key := range slices.Sorted(maps.Keys(now)) {
		if _, was := old[key]; !was {
			text, at := sayNow(now[key])
			out = append(out, Difference{what, key, "", cmp.Or(text, "there"), at})
		}
	}
	return out
}
