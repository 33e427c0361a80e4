package httpd

import (
	"strings"

	"insegna.example/internal/kind"
)

// deepest is how far sections may stand in each other.
const deepest = 100

// file is one file of a configuration as it is written: nothing is lost, and
// nothing decided.
type file struct {
	path, text string
	nodes      []*node
	problems   []kind.Problem
}

// node is a directive or a section as it is written.
type node struct {
	file    string // path
	line    int    // its first one, from 1
	last    int    // its last line, that of the closing tag for a section
	name    string // as written, without the < of a section
	args    string // the rest, joined over continuation lines, without the > of a section
	section bool
	block   []*node // of a section
}

// place is where it is written.
func (n *node) place() kind.Place { return kind.Place{File: n.file, Line: n.line, Column: 1} }

// is compares the name, for which case does not count.
func (n *node) is(name string) bool { return strings.EqualFold(n.name, name) }

// logical is a line with those that continue it.
type logical struct {
	first, last int
	text        string
}

// logicalLines joins lines that end in a backslash, and takes blanks at both ends
// off, as httpd does before anything else: a comment is continued too.
func logicalLines(text string) []logical {
	var out []logical
	lines := strings.Split(strings.TrimPrefix(text, "\ufeff"), "\n")
	for i := 0; i < len(lines); i++ {
		l := logical{first: i + 1}
		var b strings.Builder
		for {
			part := strings.TrimSuffix(lines[i], "\r")
			before, continued := strings.CutSuffix(part, `\`)
			if !continued || i+1 >= len(lines) {
				b.WriteString(part)
				break
			}
			b.WriteString(before)
			i++
		}
		l.last, l.text = i+1, strings.Trim(b.String(), " \t\v\f\r")
		out = append(out, l)
	}
	return out
}

// parse reads a file's directives and sections.
func parse(path, text string) *file {
	f := &file{path: path, text: text}
	type frame struct {
		n    *node
		into *[]*node
	}
	stack := []frame{{nil, &f.nodes}}
	top := func() *frame { return &stack[len(stack)-1] }
	for _, l := range logicalLines(text) {
		if l.text == "" || l.text[0] == '#' {
			continue
		}
		at := kind.Place{File: path, Line: l.first, Column: 1}
		name, rest := firstWord(l.text)
		switch {
		case name == "":
			f.problem(at, "a directive", "the line begins with no name")
		case strings.HasPrefix(name, "</"):
			closes := strings.TrimSuffix(strings.TrimPrefix(name, "</"), ">")
			open := top().n
			switch {
			case open == nil:
				f.problem(at, "a section that is open", "</%s> closes no section", closes)
			case !open.is(closes):
				f.problem(at, "</"+open.name+">", "</%s> closes <%s> of line %d", closes, open.name, open.line)
			default:
				open.last = l.last
				stack = stack[:len(stack)-1]
			}
		case name[0] == '<':
			n := &node{file: path, line: l.first, last: l.last, section: true,
				name: strings.TrimSuffix(name[1:], ">"), args: rest}
			if !strings.HasSuffix(l.text, ">") {
				f.problem(at, "> at its end", "the section <%s is not closed by >", n.name)
			} else if !strings.HasSuffix(name, ">") {
				n.args = strings.TrimRight(rest[:len(rest)-1], " \t")
			}
			if len(stack) > deepest {
				f.problem(at, "", "sections stand more than %d deep in each other; the rest of the file is not read", deepest)
				return f
			}
			*top().into = append(*top().into, n)
			stack = append(stack, frame{n, &n.block})
		default:
			*top().into = append(*top().into, &node{file: path, line: l.first, last: l.last, name: name, args: rest})
		}
	}
	for _, open := range stack[1:] {
		f.problem(open.n.place(), "</"+open.n.name+">", "the section <%s> is not closed", open.n.name)
	}
	return f
}

// problem notes something the server refuses.
func (f *file) problem(at kind.Place, expected, format string, args ...any) {
	f.problems = append(f.problems, problemAt(at, kind.Refused, expected, format, args...))
}

// firstWord cuts a line's first word off.
func firstWord(line string) (word, rest string) {
	if line[0] == '"' || line[0] == '\'' {
		words := wordsOf(line, 1)
		return words[0].text, strings.TrimLeft(line[words[0].end:], " \t")
	}
	at := strings.IndexAny(line, " \t")
	if at < 0 {
		return line, ""
	}
	return line[:at], strings.TrimLeft(line[at:], " \t")
}

// word is one argument.
type word struct {
	text string // quotes and backslashes taken out
	end  int    // behind it, in the text it was cut from
}

// wordsOf cuts arguments as ap_getword_conf does: quotes of both kinds only where
// a word begins, a backslash only before itself or the quote. most bounds their
// number; 0 for all.
func wordsOf(args string, most int) []word {
	var out []word
	for i := 0; i < len(args); {
		if args[i] == ' ' || args[i] == '\t' {
			i++
			continue
		}
		if most > 0 && len(out) == most {
			break
		}
		quote := byte(0)
		if args[i] == '"' || args[i] == '\'' {
			quote = args[i]
			i++
		}
		var b strings.Builder
		for i < len(args) {
			c := args[i]
			if quote == 0 && (c == ' ' || c == '\t') || quote != 0 && c == quote {
				break
			}
			if c == '\\' && i+1 < len(args) && (args[i+1] == '\\' || quote != 0 && args[i+1] == quote) {
				i++
				c = args[i]
			}
			b.WriteByte(c)
			i++
		}
		if quote != 0 && i < len(args) {
			i++
		}
		out = append(out, word{b.String(), i})
	}
	return out
}
