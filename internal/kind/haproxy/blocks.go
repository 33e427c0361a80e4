package haproxy

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"insegna.example/internal/kind"
)

// blocks follows .if, .elif, .else and .endif of one file.
type blocks struct {
	*loader
	open []block
}

// block is an .if that is open.
type block struct {
	at    kind.Place
	on    bool // its lines count
	taken bool // one of its branches counted, or none may
	last  bool // .else was met
}

// skips says whether the lines here do not count.
func (b *blocks) skips() bool { return len(b.open) > 0 && !b.open[len(b.open)-1].on }

// directive takes a line that begins with a dot.
func (b *blocks) directive(s *statement) {
	of := s.arg(0)
	if of != ".if" && len(b.open) == 0 && (of == ".elif" || of == ".else" || of == ".endif") {
		b.problem(s.place, kind.Refused, "an .if above", "lone %s with no matching .if", of)
		return
	}
	switch of {
	case ".if":
		if len(b.open) >= conditions {
			b.problem(s.place, kind.Refused, "", "too many nested .if, at most %d are taken", conditions)
			return
		}
		next := block{at: s.place, taken: b.skips()}
		if !next.taken {
			next.on = b.holds(s)
			next.taken = next.on
		}
		b.open = append(b.open, next)
	case ".elif", ".else":
		top := &b.open[len(b.open)-1]
		if top.last {
			b.problem(s.place, kind.Refused, ".endif", "%s after .else", of)
			return
		}
		top.last = of == ".else"
		top.on = !top.taken && (top.last || b.holds(s))
		top.taken = top.taken || top.on
	case ".endif":
		b.open = b.open[:len(b.open)-1]
	case ".diag", ".notice", ".warning":
	case ".alert":
		if !b.skips() {
			b.problem(s.place, kind.Refused, "", "the configuration stops here by itself: %s", s.arg(1))
		}
	default:
		if !b.skips() {
			b.problem(s.place, kind.Refused, ".if, .elif, .else, .endif", "unknown directive %s", of)
		}
	}
}

// end tells blocks that are open at the end of their file.
func (b *blocks) end(f *file) {
	for _, o := range b.open {
		b.problem(o.at, kind.Refused, ".endif", "the .if is not closed before the end of %s", f.path)
	}
}

// holds evaluates the condition of a line.
func (b *blocks) holds(s *statement) bool {
	c := &condition{text: strings.Join(s.args(1), " "), env: b.loader.env, whole: b.whole}
	if strings.TrimSpace(c.text) == "" {
		return false
	}
	value, err := c.either(0)
	if err == nil && strings.TrimSpace(c.text[c.at:]) != "" {
		err = fmt.Errorf("unexpected %q at its end", c.text[c.at:])
	}
	if err != nil {
		b.problem(s.place, kind.Refused, "such as defined(NAME), streq(\"$NAME\",text) or version_atleast(2.6)",
			"the condition %s cannot be understood: %v", c.text, err)
		return false
	}
	if c.unknown != "" {
		b.problem(s.place, kind.Unread, "", "%s is not known here; the condition is taken as %t", c.unknown, value)
	}
	return value
}

// condition evaluates what stands behind .if.
type condition struct {
	text    string
	at      int
	env     map[string]string
	whole   bool   // env is all there is
	unknown string // what is not known here
}

// blanks passes over them.
func (c *condition) blanks() {
	for c.at < len(c.text) && (c.text[c.at] == ' ' || c.text[c.at] == '\t') {
		c.at++
	}
}

// take passes over a text if it stands here.
func (c *condition) take(text string) bool {
	c.blanks()
	if strings.HasPrefix(c.text[c.at:], text) {
		c.at += len(text)
		return true
	}
	return false
}

// either is a list parted by ||.
func (c *condition) either(deep int) (bool, error) {
	value, err := c.all(deep)
	for err == nil && c.take("||") {
		var other bool
		other, err = c.all(deep)
		value = value || other
	}
	return value, err
}

// all is a list parted by &&.
func (c *condition) all(deep int) (bool, error) {
	value, err := c.term(deep)
	for err == nil && c.take("&&") {
		var other bool
		other, err = c.term(deep)
		value = value && other
	}
	return value, err
}

// errDeep says that a condition is nested too deeply.
var errDeep = errors.New("it is nested too deeply")

// term is a negation, parentheses, a number or a predicate.
func (c *condition) term(deep int) (bool, error) {
	const deepest = 1024
	if deep > deepest {
		return false, errDeep
	}
	if c.take("!") {
		value, err := c.term(deep + 1)
		return !value, err
	}
	if c.take("(") {
		value, err := c.either(deep + 1)
		if err == nil && !c.take(")") {
			err = errors.New("a parenthesis is not closed")
		}
		return value, err
	}
	c.blanks()
	from := c.at
	for c.at < len(c.text) && (letter(c.text[c.at]) || c.text[c.at] == '_' || c.text[c.at] >= '0' && c.text[c.at] <= '9') {
		c.at++
	}
	name := c.text[from:c.at]
	if n, err := strconv.Atoi(name); err == nil {
		return n != 0, nil
	}
	if !strings.HasPrefix(c.text[c.at:], "(") {
		return false, fmt.Errorf("%q is no predicate", name)
	}
	end := strings.IndexByte(c.text[c.at:], ')')
	if end < 0 {
		return false, errors.New("a parenthesis is not closed")
	}
	args := strings.Split(c.text[c.at+1:c.at+end], ",")
	c.at += end + 1
	for i := range args {
		args[i] = strings.TrimSpace(args[i])
	}
	return c.predicate(name, args)
}

// lacking are features hardly any build has.
var lacking = []string{"51DEGREES", "DEVICEATLAS", "WURFL", "QUIC", "QUIC_OPENSSL_COMPAT", "STATIC_PCRE", "STATIC_PCRE2",
	"OPENSSL_WOLFSSL", "OPENSSL_AWSLC", "OBSOLETE_LINKER", "MEMORY_PROFILING", "PRIVATE_CACHE"}

// predicate evaluates one.
func (c *condition) predicate(name string, args []string) (bool, error) {
	two := func() error {
		if len(args) != 2 {
			return fmt.Errorf("%s takes two arguments", name)
		}
		return nil
	}
	switch name {
	case "defined":
		_, had := c.env[args[0]]
		if !had && !c.whole {
			c.unknown = "the environment variable " + args[0]
		}
		return had, nil
	case "streq":
		return len(args) == 2 && args[0] == args[1], two()
	case "strneq":
		return len(args) == 2 && args[0] != args[1], two()
	case "strstr":
		return len(args) == 2 && strings.Contains(args[0], args[1]), two()
	case "version_atleast", "version_before":
		newer := compareVersions(args[0], assumed) > 0
		if newer {
			c.unknown = "the version of the server"
		}
		return newer == (name == "version_before"), nil
	case "openssl_version_atleast":
		return compareVersions(args[0], "3.0") <= 0, nil
	case "openssl_version_before":
		return compareVersions(args[0], "3.0") > 0, nil
	case "feature":
		for _, o := range lacking {
			if o == args[0] {
				return false, nil
			}
		}
		return strings.ToUpper(args[0]) == args[0] && args[0] != "", nil
	case "enabled", "ssllib_name_startswith", "awslc_api_atleast", "awslc_api_before":
		return name == "enabled" || name == "ssllib_name_startswith" && strings.HasPrefix("OpenSSL", args[0]), nil
	}
	return false, fmt.Errorf("%q is no predicate", name)
}

// compareVersions compares two, number by number.
func compareVersions(a, b string) int {
	one, other := strings.FieldsFunc(a, notDigit), strings.FieldsFunc(b, notDigit)
	for i := range max(len(one), len(other)) {
		x, y := 0, 0
		if i < len(one) {
			x, _ = strconv.Atoi(one[i]) // digits
		}
		if i < len(other) {
			y, _ = strconv.Atoi(other[i])
		}
		if x != y {
			return x - y
		}
	}
	return 0
}

// notDigit parts the numbers of a version.
func notDigit(r rune) bool { return r < '0' || r > '9' }
