package nginx

import (
	"strings"

	"insegna.example/internal/kind"
)

// parameterLimit is the most bytes nginx takes for one word.
const parameterLimit = 4096

// Word is a name or an argument.
type Word struct {
	Text   string // as nginx takes it: without quotes, escapes resolved
	Raw    string // as written
	Before string // blanks and comments in front of it
	Line   int32  // from 1
	Column int32  // in bytes from 1
}

// Mark is a sign that ends or opens something: ";", "{" or "}". Raw is empty
// where the sign is missing.
type Mark struct {
	Raw    string // the sign
	Before string // blanks and comments before it
	Line   int32  // from 1
	Column int32  // in bytes from 1
}

// scanner cuts a text into words the way nginx does.
type scanner struct {
	text      string // of the whole file
	pos       int    // in bytes
	line      int32  // from 1
	lineStart int    // position of its first byte
}

// column counts bytes from one, as the server's own messages do.
func (s *scanner) column() int32 { return int32(s.pos - s.lineStart + 1) }

// done says whether the text has ended.
func (s *scanner) done() bool { return s.pos >= len(s.text) }

// step goes on by one byte.
func (s *scanner) step() {
	if s.text[s.pos] == '\n' {
		s.line++
		s.lineStart = s.pos + 1
	}
	s.pos++
}

// blank is what separates words.
func blank(c byte) bool { return c == ' ' || c == '\t' || c == '\r' || c == '\n' }

// gap passes blanks and comments; "#" begins a comment only where a word could
// begin.
func (s *scanner) gap() string {
	from := s.pos
	for !s.done() {
		switch c := s.text[s.pos]; {
		case blank(c):
			s.step()
		case c == '#':
			if end := strings.IndexByte(s.text[s.pos:], '\n'); end >= 0 {
				s.pos += end
			} else {
				s.pos = len(s.text)
			}
		default:
			return s.text[from:s.pos]
		}
	}
	return s.text[from:s.pos]
}

// mark takes one sign with the blanks before it, so that the text can be
// written again byte for byte.
func (s *scanner) mark(before string) Mark {
	m := Mark{Raw: s.text[s.pos : s.pos+1], Before: before, Line: s.line, Column: s.column()}
	s.step()
	return m
}

// word reads one word; the scanner stands at its first byte. fault says what
// is wrong with it, at its first byte.
func (s *scanner) word(before string) (w Word, fault string) {
	w = Word{Before: before, Line: s.line, Column: s.column()}
	from := s.pos
	if c := s.text[from]; c == '"' || c == '\'' {
		s.step()
		fault = s.quoted(c)
	} else {
		s.plain()
	}
	w.Raw = s.text[from:s.pos]
	w.Text = meaning(w.Raw)
	if fault == "" && len(w.Text) >= parameterLimit {
		fault = "the word is longer than nginx takes (4095 bytes)"
	}
	return w, fault
}

// plain passes a word without quotes: a backslash keeps the next byte, and a
// brace behind a dollar sign belongs to a variable.
func (s *scanner) plain() {
	for variable := false; !s.done(); s.step() {
		switch c := s.text[s.pos]; {
		case c == '{' && variable:
		case c == '\\':
			variable = false
			if s.pos+1 < len(s.text) {
				s.step()
			}
		case c == '$':
			variable = true
		case blank(c) || c == ';' || c == '{':
			return
		default:
			variable = false
		}
	}
}

// quoted passes a word in quotes, up to and with the closing one.
func (s *scanner) quoted(quote byte) (fault string) {
	for ; !s.done(); s.step() {
		switch c := s.text[s.pos]; {
		case c == '\\' && s.pos+1 < len(s.text):
			s.step()
		case c == quote:
			s.step()
			if !s.done() {
				if c := s.text[s.pos]; !blank(c) && c != ';' && c != '{' && c != ')' {
					return "text follows a closing quote without a blank between"
				}
			}
			return ""
		}
	}
	return "the quote opened here is never closed"
}

// meaning resolves quotes and escapes.
func meaning(raw string) string {
	if len(raw) > 0 && (raw[0] == '"' || raw[0] == '\'') {
		quote := raw[:1]
		raw = strings.TrimSuffix(raw[1:], quote)
	}
	if strings.IndexByte(raw, '\\') < 0 {
		return raw
	}
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		if raw[i] == '\\' && i+1 < len(raw) {
			if at := strings.IndexByte(`"'\trn`, raw[i+1]); at >= 0 {
				b.WriteByte("\"'\\\t\r\n"[at])
				i++
				continue
			}
		}
		b.WriteByte(raw[i])
	}
	return b.String()
}

// opaque passes what stands between braces without reading it as words, up to
// the closing brace; lua tells that it is Lua, with strings and comments of
// its own.
func (s *scanner) opaque(lua bool) {
	for depth := 0; !s.done(); s.step() {
		rest := s.text[s.pos:]
		switch c := rest[0]; {
		case c == '{':
			depth++
		case c == '}':
			if depth == 0 {
				return
			}
			depth--
		case !lua && c == '#':
			s.skip(rest, "\n")
		case lua && strings.HasPrefix(rest, "--") && longBracket(rest[2:]) == "":
			s.skip(rest, "\n")
		case lua && c == '[' && longBracket(rest) != "":
			s.skip(rest[1:], longBracket(rest))
		case c == '"' || c == '\'':
			s.string(c)
		}
		if s.done() {
			return
		}
	}
}

// longBracket gives what closes a Lua long bracket: "]]" for "[[", "]=]" for
// "[=[".
func longBracket(s string) string {
	if len(s) < 2 || s[0] != '[' {
		return ""
	}
	n := 1
	for n < len(s) && s[n] == '=' {
		n++
	}
	if n < len(s) && s[n] == '[' {
		return "]" + s[1:n] + "]"
	}
	return ""
}

// skip goes to the last byte of the next end in rest, or to the end.
func (s *scanner) skip(rest, end string) {
	to := len(s.text) - 1
	if at := strings.Index(rest, end); at >= 0 {
		to = len(s.text) - len(rest) + at + len(end) - 1
	}
	for s.pos < to {
		s.step()
	}
}

// string goes to the closing quote of a string.
func (s *scanner) string(quote byte) {
	for s.step(); !s.done() && s.text[s.pos] != quote; s.step() {
		if s.text[s.pos] == '\\' && s.pos+1 < len(s.text) {
			s.step()
		}
	}
}

// place is where the scanner stands.
func (s *scanner) place(file string) kind.Place {
	return kind.Place{File: file, Line: int(s.line), Column: int(s.column())}
}
