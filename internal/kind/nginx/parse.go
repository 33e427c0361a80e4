package nginx

import (
	"fmt"
	"strings"

	"insegna.example/internal/kind"
)

// depthLimit is how deep blocks are read; what lies deeper is kept as text.
const depthLimit = 64

// problemLimit is how many faults of one file are told.
const problemLimit = 20

// File is one parsed file. Printing it gives the same bytes again.
type File struct {
	Path     string         // absolute
	Text     string         // as it was read
	Nodes    []*Directive   // outside all blocks
	Rest     string         // what follows the last directive
	Problems []kind.Problem // of its syntax
}

// Directive is one directive, with its block if it has one.
type Directive struct {
	File   *File        // it stands in
	Words  []Word       // the name and the arguments
	Stop   Mark         // ";" or "{"
	Block  []*Directive // nil for none
	Opaque string       // instead of Block: what is not read as directives
	Close  Mark         // "}" of the block
}

// Name is the directive's name, "" when it has none.
func (d *Directive) Name() string {
	if len(d.Words) == 0 {
		return ""
	}
	return d.Words[0].Text
}

// Args are the words behind the name.
func (d *Directive) Args() []Word {
	if len(d.Words) == 0 {
		return nil
	}
	return d.Words[1:]
}

// Arg is the text of an argument, "" when there are not so many.
func (d *Directive) Arg(i int) string {
	if i+1 < len(d.Words) {
		return d.Words[i+1].Text
	}
	return ""
}

// Place is where the directive begins.
func (d *Directive) Place() kind.Place {
	if len(d.Words) == 0 {
		return kind.Place{File: d.File.Path, Line: int(d.Stop.Line), Column: int(d.Stop.Column)}
	}
	return d.WordPlace(0)
}

// WordPlace is where a word of the directive begins; 0 is its name.
func (d *Directive) WordPlace(i int) kind.Place {
	w := &d.Words[i]
	return kind.Place{File: d.File.Path, Line: int(w.Line), Column: int(w.Column)}
}

// Print gives the file's text.
func (f *File) Print() string {
	var b strings.Builder
	for _, d := range f.Nodes {
		d.print(&b)
	}
	b.WriteString(f.Rest)
	return b.String()
}

// print writes the directive as it was read, byte for byte, but for what was
// changed.
func (d *Directive) print(b *strings.Builder) {
	for i := range d.Words {
		b.WriteString(d.Words[i].Before)
		b.WriteString(d.Words[i].Raw)
	}
	b.WriteString(d.Stop.Before)
	b.WriteString(d.Stop.Raw)
	b.WriteString(d.Opaque)
	for _, child := range d.Block {
		child.print(b)
	}
	b.WriteString(d.Close.Before)
	b.WriteString(d.Close.Raw)
}

// parser builds the tree of one file. It never gives up: what cannot be
// understood is kept as it stands and told as a problem.
type parser struct {
	scanner
	file  *File        // being built
	open  []*Directive // blocks not closed yet
	stray string       // passed signs that belong to nothing, for the next word's Before
}

// Parse reads a text as nginx would. What is wrong is told in the file's
// Problems, and reading goes on behind it.
func Parse(path, text string) *File {
	p := &parser{scanner: scanner{text: text, line: 1}, file: &File{Path: path, Text: text}}
	if at := strings.IndexByte(text, 0); at >= 0 {
		line := 1 + strings.Count(text[:at], "\n")
		p.fault(kind.Place{File: path, Line: line, Column: at - strings.LastIndexByte(text[:at], '\n')}, "text",
			"the file holds a NUL byte: it is no configuration, and nothing of it is read")
		p.file.Rest = text
		return p.file
	}
	if strings.HasPrefix(text, "\xef\xbb\xbf") {
		p.fault(p.place(path), "a file without one",
			"a byte-order mark, which nginx takes for a part of the first directive's name")
		p.stray, p.pos = text[:3], 3
	}
	for p.next() {
	}
	return p.file
}

// fault notes what the server itself would refuse.
func (p *parser) fault(at kind.Place, expected, format string, args ...any) {
	if len(p.file.Problems) < problemLimit {
		p.file.Problems = append(p.file.Problems,
			kind.Problem{Place: at, Effect: kind.Refused, Message: fmt.Sprintf(format, args...), Expected: expected})
	}
}

// add puts a directive where the parser stands.
func (p *parser) add(d *Directive) {
	d.File = p.file
	if n := len(p.open); n > 0 {
		p.open[n-1].Block = append(p.open[n-1].Block, d)
	} else {
		p.file.Nodes = append(p.file.Nodes, d)
	}
}

// next reads one directive, or the end of a block; false at the end.
func (p *parser) next() bool {
	before := p.stray + p.gap()
	p.stray = ""
	if p.done() {
		p.file.Rest = before
		for i := len(p.open) - 1; i >= 0; i-- {
			d := p.open[i]
			p.fault(kind.Place{File: p.file.Path, Line: int(d.Stop.Line), Column: int(d.Stop.Column)},
				`"}" before the file ends`, "the block %s opened here is never closed", shown(d.Name()))
		}
		return false
	}
	switch p.text[p.pos] {
	case '}':
		p.closeBlock(before)
	case ';':
		p.fault(p.place(p.file.Path), "a directive", `";" with nothing in front of it`)
		p.stray = before + p.mark("").Raw
	default:
		p.directive(before)
	}
	return true
}

// closeBlock ends the innermost open block; a brace that closes nothing is kept
// with the next word.
func (p *parser) closeBlock(before string) {
	n := len(p.open)
	if n == 0 {
		p.fault(p.place(p.file.Path), "a directive", `"}" closes nothing`)
		p.stray = before + p.mark("").Raw
		return
	}
	p.open[n-1].Close = p.mark(before)
	p.open = p.open[:n-1]
}

// directive reads words up to a semicolon or a block; a file may end in the
// middle of one.
func (p *parser) directive(before string) {
	d := &Directive{Words: make([]Word, 0, 3)}
	p.add(d)
	for {
		if p.done() {
			d.Stop.Before = before
			p.fault(d.Place(), `";" or "{" before the file ends`, "the directive %s is not ended", shown(d.Name()))
			return
		}
		switch p.text[p.pos] {
		case ';':
			d.Stop = p.mark(before)
			return
		case '{':
			if len(d.Words) == 0 {
				p.fault(p.place(p.file.Path), "a directive's name", `"{" with nothing in front of it`)
			}
			d.Stop = p.mark(before)
			p.openBlock(d)
			return
		case '}':
			p.fault(p.place(p.file.Path), `";"`, `"}" before the directive %s is ended`, shown(d.Name()))
			p.stray = before
			return
		}
		at := p.place(p.file.Path)
		w, fault := p.word(before)
		if fault != "" {
			p.fault(at, "", "%s", fault)
		}
		d.Words = append(d.Words, w)
		before = p.gap()
	}
}

// openBlock begins a block. Lua's blocks have another syntax and are kept
// whole, and so is what is nested deeper than anyone writes.
func (p *parser) openBlock(d *Directive) {
	lua := strings.HasSuffix(d.Name(), "_by_lua_block")
	if !lua && len(p.open) < depthLimit {
		p.open = append(p.open, d)
		return
	}
	if !lua {
		p.fault(d.Place(), "", "blocks are nested deeper than %d; what lies deeper is not read", depthLimit)
	}
	from := p.pos
	p.opaque(lua)
	d.Opaque = p.text[from:p.pos]
	if p.done() {
		p.fault(kind.Place{File: p.file.Path, Line: int(d.Stop.Line), Column: int(d.Stop.Column)},
			`"}" before the file ends`, "the block %s opened here is never closed", shown(d.Name()))
		return
	}
	d.Close = p.mark("")
}

// shown makes text from a file short and printable.
func shown(s string) string {
	s = strings.ToValidUTF8(s, "?")
	if len(s) > 60 {
		s = strings.ToValidUTF8(s[:57], "") + "..."
	}
	return fmt.Sprintf("%q", s)
}
