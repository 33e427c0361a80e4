package haproxy

import (
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// Copy implements kind.Editor: it writes the files of a configuration one behind the
// other, as they will be. Bind lines name other paths where words stand in the place
// of theirs; a folder or list in which such a path stands is written as a list beside
// the copy.
func (editing) Copy(fsys fs.FS, main string, edits []install.File, words map[string]string) (*kind.Copy, error) {
	if len(edits) > 0 {
		fsys = kind.Overlaid(fsys, edits)
	}
	r, err := read(fsys, path.Clean(main))
	if err != nil {
		return nil, err
	}
	for i := range r.problems {
		if p := &r.problems[i]; r.failed(p.File) {
			return nil, p
		}
	}
	for _, f := range r.order { // the copy lies beside the main file
		if way := r.set.defaultPath; len(way) > 0 && way[0] != "origin" && !f.list && path.Dir(f.path) != path.Dir(r.main) {
			return nil, &kind.Problem{Place: kind.Place{File: f.path, Line: 1}, Effect: kind.Suspect,
				Message: "relative paths begin in several folders"}
		}
	}
	c := &copier{reader: r, words: words, lines: map[kind.Place]string{}}
	for _, f := range r.fronts {
		for _, b := range f.binds {
			c.bind(b)
		}
	}
	var out strings.Builder
	var places []kind.Place
	for _, f := range r.order {
		if f.list {
			continue
		}
		n := 0
		for line := range strings.Lines(f.text) {
			n++
			at := kind.Place{File: f.path, Line: n}
			if other, had := c.lines[at]; had {
				line = other + "\n"
			}
			places = append(places, at)
			out.WriteString(line)
		}
	}
	return &kind.Copy{Text: out.String(), Beside: c.beside, Translate: func(said, at string) string {
		return translate(said, at, places)
	}}, nil
}

// failed says whether a file of the configuration could not be read.
func (r *reader) failed(p string) bool {
	f, met := r.files[p]
	return met && f == nil
}

// copier writes a copy.
type copier struct {
	*reader
	words  map[string]string
	lines  map[kind.Place]string // other lines, by the places of those they stand for
	beside []kind.Beside
}

// to gives the path that stands for one.
func (c *copier) to(p string) (string, bool) {
	to, is := c.words[p]
	return to, is
}

// bind writes a bind line anew where a path in it, or in a list or folder of it, is
// exchanged.
func (c *copier) bind(b *bind) {
	exchanged := func(e *entry) bool {
		return slices.ContainsFunc(e.pairs, func(p kind.Pair) bool { _, is := c.to(p.Certificate); return is })
	}
	changes := map[int]string{} // words by their number; a crt before one may become a crt-list
	for _, i := range append(slices.Clone(b.certificates), b.listed...) {
		p := c.based(b.arg(i), b.statement)
		isList := slices.Contains(b.listed, i)
		if isList {
			p = c.absolute(b.arg(i), b.statement)
		}
		if to, is := c.to(p); is && !isList {
			changes[i] = quoted(to)
			continue
		}
		var mine []*entry
		for _, e := range b.entries {
			if e.from == p {
				mine = append(mine, e)
			}
		}
		if !slices.ContainsFunc(mine, exchanged) {
			continue
		}
		mark := fmt.Sprintf("@insegna-list-%d@", len(c.beside))
		c.beside = append(c.beside, kind.Beside{Mark: mark, Text: c.listOf(p, mine, isList)})
		changes[i-1], changes[i] = "crt-list", mark
	}
	if len(changes) == 0 {
		return
	}
	line := strings.Split(b.file.text, "\n")[b.place.Line-1]
	for i := len(b.words) - 1; i >= 0; i-- {
		if to, is := changes[i]; is {
			line = line[:b.words[i].from] + to + line[b.words[i].to:]
		}
	}
	c.lines[b.place.AtLine()] = strings.TrimSuffix(line, "\r")
}

// listOf writes a list as it will be, or the files of a folder as one.
func (c *copier) listOf(p string, entries []*entry, isList bool) string {
	var out strings.Builder
	path := func(at string) string {
		if to, is := c.to(at); is {
			return to
		}
		return at
	}
	if !isList {
		for _, e := range entries {
			out.WriteString(path(e.file()) + "\n")
		}
		return out.String()
	}
	byLine := map[int]*entry{}
	for _, e := range entries {
		byLine[e.place.Line] = e
	}
	n := 0
	for line := range strings.Lines(c.lists[p].file.text) {
		n++
		if e := byLine[n]; e != nil && len(e.pairs) == 1 {
			if l, err := lineOfList(line); err == nil {
				from := l.place.Column - 1
				line = line[:from] + path(e.file()) + line[from+len(l.path):]
			}
		}
		out.WriteString(line)
	}
	return out.String()
}

// placesSaid are places in what the server says of a copy.
func translate(said, at string, places []kind.Place) string {
	said = regexp.MustCompile(`\[`+regexp.QuoteMeta(at)+`:(\d+)\]`).ReplaceAllStringFunc(said, func(s string) string {
		line, err := strconv.Atoi(strings.TrimSuffix(s[strings.LastIndexByte(s, ':')+1:], "]"))
		if err != nil || line < 1 || line > len(places) {
			return s
		}
		return "[" + places[line-1].String() + "]"
	})
	return strings.ReplaceAll(said, at, "the staged copy")
}

// OnFile implements kind.Editor: one file stands for all the command names.
func (editing) OnFile(command, main, other string) string {
	to := kind.OnFile(command, main, other, "-f", "haproxy")
	fields := strings.Fields(to)
	first := slices.Index(fields, "-f")
	if first < 0 || !slices.Contains(fields[first+1:], "-f") {
		return to
	}
	if strings.ContainsAny(to, "'\"`$;&|<>()") {
		return ""
	}
	var out []string
	for i := 0; i < len(fields); i++ {
		if fields[i] == "-f" && i+1 < len(fields) && fields[i+1] != other {
			i++
			continue
		}
		out = append(out, fields[i])
	}
	return strings.Join(out, " ")
}
