package haproxy

import (
	"fmt"
	"strings"
)

// wordsMost is how many words a line may have (MAX_LINE_ARGS).
const wordsMost = 64

// word is one word of a line, unquoted and with its variables put in.
type word struct {
	text     string
	from, to int    // where it stands in the line, in bytes from 0
	unknown  string // a variable in it whose value is not known here
}

// lineError is why a line cannot be cut into words, and where in it, in bytes from
// 0.
type lineError struct {
	at      int
	message string
}

// Error says what is wrong with the line.
func (e *lineError) Error() string { return e.message }

// cutter cuts one line into words, as haproxy does: blanks part words; quotes of
// both kinds, of which the double ones leave variables to be put in; backslashes;
// and # for a comment.
type cutter struct {
	line    string
	at      int
	env     func(name string) (value string, known bool)
	words   []word
	text    strings.Builder // of the word
	from    int             // where it begins
	in      bool            // a word
	unknown string
	doubly  int // where the open double quote is; -1 outside
}

// cut gives the words of a line; env gives the values of variables.
func cut(line string, env func(string) (string, bool)) ([]word, *lineError) {
	c := &cutter{line: line, env: env, doubly: -1}
	if err := c.run(); err != nil {
		return c.words, err
	}
	return c.words, nil
}

// begin notes that a word has begun.
func (c *cutter) begin() {
	if !c.in {
		c.in, c.from = true, c.at
	}
}

// end ends the word, if there is one.
func (c *cutter) end() {
	if c.in {
		c.words = append(c.words, word{c.text.String(), c.from, c.at, c.unknown})
	}
	c.in, c.unknown = false, ""
	c.text.Reset()
}

// run cuts the line.
func (c *cutter) run() *lineError {
	for c.at < len(c.line) {
		switch b := c.line[c.at]; {
		case b == '"':
			c.begin()
			if c.doubly >= 0 {
				c.doubly = -1
			} else {
				c.doubly = c.at
			}
			c.at++
		case b == '\'' && c.doubly < 0:
			c.begin()
			end := strings.IndexByte(c.line[c.at+1:], '\'')
			if end < 0 {
				return &lineError{c.at, "unmatched quote"}
			}
			c.text.WriteString(c.line[c.at+1 : c.at+1+end])
			c.at += end + 2
		case b == '\\':
			c.begin()
			if err := c.escape(); err != nil {
				return err
			}
		case b == '$' && c.doubly >= 0:
			if err := c.variable(); err != nil {
				return err
			}
		case b == '#' && c.doubly < 0:
			c.end()
			return nil
		case (b == ' ' || b == '\t') && c.doubly < 0:
			c.end()
			c.at++
		default:
			c.begin()
			c.text.WriteByte(b)
			c.at++
		}
		if len(c.words) >= wordsMost && c.in {
			return &lineError{c.from, fmt.Sprintf("too many words, at most %d are taken", wordsMost)}
		}
	}
	if c.doubly >= 0 {
		return &lineError{c.doubly, "unmatched quote"}
	}
	c.end()
	return nil
}

// escape takes what follows a backslash; where it has no meaning there the
// backslash stays.
func (c *cutter) escape() *lineError {
	if c.at+1 >= len(c.line) {
		c.text.WriteByte('\\')
		c.at++
		return nil
	}
	switch b := c.line[c.at+1]; b {
	case ' ', '\\', '#', '\'', '"':
		c.text.WriteByte(b)
	case 'n':
		c.text.WriteByte('\n')
	case 'r':
		c.text.WriteByte('\r')
	case 't':
		c.text.WriteByte('\t')
	case '$':
		if c.doubly < 0 {
			c.text.WriteByte('\\')
		}
		c.text.WriteByte('$')
	case 'x':
		const digits = 2
		var v byte
		if len(c.line) < c.at+2+digits {
			return &lineError{c.at, "truncated or invalid hexadecimal sequence"}
		}
		if _, err := fmt.Sscanf(c.line[c.at+2:c.at+2+digits], "%02x", &v); err != nil {
			return &lineError{c.at, "truncated or invalid hexadecimal sequence"}
		}
		c.text.WriteByte(v)
		c.at += digits
	default:
		c.text.WriteByte('\\')
		c.at++
		return nil
	}
	c.at += 2
	return nil
}

// variable puts in the value of $NAME, ${NAME} or ${NAME[*]}, which becomes several
// words where it has blanks.
func (c *cutter) variable() *lineError {
	start, rest := c.at, c.line[c.at+1:]
	braced := strings.HasPrefix(rest, "{")
	rest = strings.TrimPrefix(rest, "{")
	size := 0
	for size < len(rest) && (rest[size] == '_' || rest[size] == '.' && size == 0 || letter(rest[size]) ||
		size > 0 && rest[size] >= '0' && rest[size] <= '9') {
		size++
	}
	name := rest[:size]
	if name == "" {
		return &lineError{start, "forbidden first char in environment variable name"}
	}
	rest = rest[size:]
	several := false
	if braced {
		if several = strings.HasPrefix(rest, "[*]"); several {
			rest = rest[len("[*]"):]
		}
		if !strings.HasPrefix(rest, "}") {
			return &lineError{start, "the name of a variable ends without a brace"}
		}
		rest = rest[1:]
	}
	c.begin()
	c.at = len(c.line) - len(rest)
	value, known := c.env(name)
	if !known {
		c.unknown = name
	}
	if !several {
		c.text.WriteString(value)
		return nil
	}
	for n, w := range strings.Fields(value) {
		if n > 0 {
			from := c.from
			c.end()
			c.in, c.from = true, from
		}
		c.text.WriteString(w)
	}
	return nil
}

// letter says whether a byte is one of ASCII.
func letter(b byte) bool { return b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' }

// quoted writes a word so that haproxy takes it as it is.
func quoted(s string) string {
	if s != "" && !strings.ContainsAny(s, " \t\"'\\#$") {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
