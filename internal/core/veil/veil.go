// Package veil hides what a configuration carries in the open and is nobody's
// business: private keys, passwords, tokens, cookies, authorizations. It works on
// the words of statements, on comments and on addresses, so that what is stored
// and shown of a configuration needs no care any more.
//
// It would rather hide too much than too little, and keeps every line where it
// is. Values that are nothing but variables stay: they are no secrets.
package veil

import (
	"regexp"
	"strings"
)

// Hidden stands in the place of a secret.
const Hidden = "(hidden)"

// named is what names of secrets have in them.
const named = `(?:authorization|cookie|secret|secure_link_md5|passw(?:or)?d|passphrase|token|api[-_]?key|credential|` +
	`private[-_]?key|access[-_]?key|auth[-_]?key|session[-_]?id|signature|basicfake)`

var (
	// a word that is the name of a secret, as a directive, a header or a variable
	nameOf = regexp.MustCompile(`(?i)^[("'!]*[$%]?[{]?(?:[A-Z]+:)?[\w-]*` + named + `[\w-]*[}]?["':]*$`)
	// a name and its value within one word or comment
	pair = regexp.MustCompile(`(?i)([\w-]*` + named + `[\w-]*["']?\s*[:=]\s*["']?)([^\s"'&;,{}#]+)`)
	// a password among the parameters of a connection
	pass = regexp.MustCompile(`(?i)(\b(?:pass|pwd)=)([^\s"'&;,]+)`)
	// a comparison within one word
	compared = regexp.MustCompile(`(?i)([\w-]*` + named +
		`[\w-]*[}"']*\s*(?:==|=~|!=|!~|-eq|-ne|=)\s*["'/]?)([^\s"'/&;,{}#]+)`)
	// a quoted word that is a name and its value
	whole = regexp.MustCompile(`(?is)^(["'][\w-]*` + named + `[\w-]*\s*[:=]\s*)(.+?)(["']?)$`)
	// parameters of an address
	asked = regexp.MustCompile(`(?i)([?&][\w-]*(?:secret|passw(?:or)?d|token|key|sig|signature|auth|code|session)=)` +
		`([^&\s;"'#]+)`)
	// what is shown before the host of an address
	login = regexp.MustCompile(`(://[^\s/:@"']*:)([^\s/@"']+)@`)
	// schemes of authorization (RFC 7617, RFC 6750), and tokens by their form (RFC 7519)
	scheme = regexp.MustCompile(`(?i)(\b(?:basic|bearer)\s+)([\w.~+/=-]{6,})`)
	signed = regexp.MustCompile(`\beyJ[\w-]{8,}\.[\w-]+\.[\w-]*`)
	// blocks of PEM (RFC 7468), perhaps with their lines written as \n
	block = regexp.MustCompile(
		`(?s)-----BEGIN [A-Z0-9 ]*PRIVATE KEY-----.*?(?:-----END [A-Z0-9 ]*PRIVATE KEY-----|\z)`)
	// nothing but variables
	variables = regexp.MustCompile(`^["']?(?:[$]\w+|[$][{]\w+[}])+["']?[)]*$`)
	// the hash of a password (crypt(5)), which looks like variables
	crypted = regexp.MustCompile(`^["']?[$][0-9][0-9a-z]?[$]`)
	// what compares in a condition
	operator = regexp.MustCompile(`^(?:!?=|!?~\*?|-[a-z]|!-[a-z])$`)
	// names that speak of secrets and lead to where they are
	open = regexp.MustCompile(`(?i)^[\w-]*(?:passw(?:or)?d|secret|token|key|cookie)_(?:file|path|domain|flags)$`)
)

// Plain says of a directive that its values are no secrets, however they sound: each
// kind of server knows its own.
type Plain func(directive string) bool

// Text hides the secrets of a configuration, or of a part of one; plain may be nil.
func Text(text string, plain Plain) string {
	if plain == nil {
		plain = func(string) bool { return false }
	}
	text = block.ReplaceAllStringFunc(text, lines)
	if closed.MatchString(text) {
		text = (&scanner{plain: plain}).statements(text)
	}
	return Address(byLine(text, plain))
}

// closed finds a line that ends as statements of words do that run over lines. Where
// none is, statements end with their line; where one is, both are looked for.
var closed = regexp.MustCompile(`(?m)^[^#\n]*[;{}][ \t\r]*$`)

// headerMost is how far behind a directive the name of a secret may stand, and
// further where it sets headers.
const (
	nameMost   = 1
	headerMost = 3
)

// byLine hides the secrets of statements that end with their line, unless a
// backslash continues it; those of the other form are done.
func byLine(text string, plain Plain) string {
	list := strings.SplitAfter(text, "\n")
	l := lineScanner{plain: plain}
	for i, line := range list {
		whole := strings.Trim(line, " \t\r\n")
		continued := strings.HasSuffix(whole, `\`)
		switch {
		case l.goesOn || continued:
		case whole == "":
			continue
		case whole[0] == '#':
			text := strings.TrimRight(line, "\r\n")
			list[i] = (&scanner{plain: plain}).comment(text) + line[len(text):]
			continue
		case strings.ContainsAny(whole[len(whole)-1:], ";{,"),
			strings.HasSuffix(whole, "}") && (!strings.Contains(whole, " { ") || strings.Contains(whole, ";")): // a block, not a condition within the line
			continue
		}
		list[i] = l.line(line)
		if l.goesOn = continued; !continued {
			l.words, l.secret = l.words[:0], false
		}
	}
	return strings.Join(list, "")
}

// lineScanner reads statements of one line, or of several that are continued.
type lineScanner struct {
	plain  Plain
	words  []string // of the statement so far
	secret bool     // what follows in it is one
	goesOn bool     // with the next line
}

// lineWord is a word of a line, quoted or not.
var lineWord = regexp.MustCompile(`"(?:\\.|[^"\\])*"?|'(?:\\.|[^'\\])*'?|[^\s]+`)

var (
	// a word whose next one is a password, wherever it stands
	before = regexp.MustCompile(`(?i)^(?:[\w-]+-)?(?:password|passwd|passphrase|pass|secret)$`)
	// a part of a request that is compared with what only few know
	asks = regexp.MustCompile(`(?i)(?:hdr|cook|param|header)\w*\([^)]*` + named + `[^)]*\)`)
	// a name with its password
	joined = regexp.MustCompile(`^([^\s:]+:)(.+)$`)
)

// ends says of a word that it ends a comparison, or is a flag of one.
func ends(w string) (end, flag bool) {
	return w == "}" || w == "||" || w == "or", strings.HasPrefix(w, "-")
}

// line writes a line, its secrets hidden.
func (l *lineScanner) line(text string) string {
	compares := false
	return lineWord.ReplaceAllStringFunc(text, func(w string) string {
		if w == `\` {
			return w
		}
		at := len(l.words)
		l.words = append(l.words, w)
		if l.secret && !strings.HasPrefix(w, "[") && w != ">" {
			return hide(w)
		}
		if compares {
			end, flag := ends(w)
			if compares = !end; !end && !flag {
				return hide(w)
			}
			return w
		}
		compares = asks.MatchString(w)
		if at > 1 && before.MatchString(l.words[at-1]) {
			return hide(w)
		}
		if at > 0 && strings.EqualFold(l.words[at-1], "auth") && joined.MatchString(w) {
			return joined.ReplaceAllString(w, "${1}"+Hidden)
		}
		most := nameMost
		for _, o := range l.words[:min(at, nameMost+1)] {
			if strings.HasSuffix(strings.ToLower(o), "header") {
				most = headerMost
			}
		}
		if at <= most && nameOf.MatchString(w) && !open.MatchString(l.words[0]) && !l.plain(l.words[0]) &&
			!strings.HasPrefix(l.words[0], "<") {
			l.secret = true
		}
		for _, re := range []*regexp.Regexp{pass, compared} {
			w = re.ReplaceAllStringFunc(w, func(p string) string { return second(re, p) })
		}
		return w
	})
}

// Address hides them in an address, or anywhere in a text by their form.
func Address(text string) string {
	text = asked.ReplaceAllStringFunc(text, func(s string) string { return second(asked, s) })
	text = login.ReplaceAllString(text, "${1}"+Hidden+"@")
	text = scheme.ReplaceAllString(text, "${1}"+Hidden)
	return signed.ReplaceAllString(text, Hidden)
}

// second hides the second group of a match, unless it is a variable.
func second(re *regexp.Regexp, s string) string {
	m := re.FindStringSubmatch(s)
	if variables.MatchString(m[2]) || m[2] == Hidden {
		return s
	}
	return m[1] + Hidden
}

// lines stands for a secret of several lines.
func lines(s string) string { return Hidden + strings.Repeat("\n", strings.Count(s, "\n")) }

// scanner reads statements: words up to a semicolon or a brace.
type scanner struct {
	plain Plain // directives

	out    strings.Builder
	words  []string // of the statement so far
	secret bool     // what follows in the statement is one
	maps   []mapped // blocks that are open
}

// mapped says of a block what its entries hide: their first word, their second.
type mapped struct{ first, second bool }

// statements goes through a text word by word.
func (s *scanner) statements(text string) string {
	for len(text) > 0 {
		n := 1
		switch c := text[0]; {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			s.out.WriteByte(c)
		case c == '#':
			if n = strings.IndexByte(text, '\n'); n < 0 {
				n = len(text)
			}
			s.out.WriteString(s.comment(text[:n]))
		case c == ';' || c == '{' || c == '}':
			s.end(c)
			s.out.WriteByte(c)
		default:
			n = wordEnd(text)
			s.word(text[:n])
		}
		text = text[n:]
	}
	return s.out.String()
}

// wordEnd finds where a word ends: at its quote, or before white space, a
// semicolon or a brace.
func wordEnd(text string) int {
	quote, braced := byte(0), false
	i := 0
	if text[0] == '"' || text[0] == '\'' {
		quote, i = text[0], 1
	}
	for ; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\':
			i++
		case quote != 0:
			if c == quote {
				return i + 1
			}
		case c == '$' && i+1 < len(text) && text[i+1] == '{':
			i++
			braced = true
		case strings.IndexByte(" \t\r\n;{", c) >= 0:
			return i
		case c == '}' && !braced:
			return i
		case c == '}':
			braced = false
		}
	}
	return len(text)
}

// word writes a word, or hides it.
func (s *scanner) word(w string) {
	at := len(s.words)
	s.words = append(s.words, w)
	in := mapped{}
	if len(s.maps) > 0 {
		in = s.maps[len(s.maps)-1]
	}
	switch {
	case in.first && at == 0 && w != "default" && w != "hostnames" && w != "volatile" && w != "include",
		in.second && at == 1 && s.words[0] != "include", s.secret && !operator.MatchString(w):
		w = hide(w)
	case whole.MatchString(w):
		m := whole.FindStringSubmatch(w)
		if !variables.MatchString(m[2]) && !strings.HasPrefix(m[2], Hidden) {
			w = m[1] + lines(m[2]) + m[3]
		}
	default:
		w = pair.ReplaceAllStringFunc(w, func(p string) string { return second(pair, p) })
	}
	if at <= 1 && !s.secret && nameOf.MatchString(s.words[at]) && !open.MatchString(s.words[0]) && !s.plain(s.words[0]) {
		s.secret = s.words[0] != "map"
	}
	s.out.WriteString(w)
}

// hide hides a word but for the end of a condition around it.
func hide(w string) string {
	if variables.MatchString(w) && !crypted.MatchString(w) || strings.Trim(w, `"'()`) == "" || strings.HasPrefix(w, Hidden) {
		return w
	}
	tail := ""
	if strings.HasSuffix(w, ")") && !strings.Contains(w, "(") {
		tail = ")"
	}
	return lines(w) + tail
}

// end ends a statement: with a block, or without.
func (s *scanner) end(c byte) {
	switch {
	case c == '{' && len(s.words) > 2 && s.words[0] == "map":
		s.maps = append(s.maps, mapped{nameOf.MatchString(s.words[1]), nameOf.MatchString(s.words[2])})
	case c == '{':
		s.maps = append(s.maps, mapped{})
	case c == '}' && len(s.maps) > 0:
		s.maps = s.maps[:len(s.maps)-1]
	}
	s.words, s.secret = s.words[:0], false
}

// ofSecret finds the first word of a comment that names a secret.
var ofSecret = regexp.MustCompile(`(?i)[\w-]*` + named + `[\w-]*["']?`)

// comment hides what follows the name of a secret up to the end of the line.
func (s *scanner) comment(text string) string {
	for _, at := range ofSecret.FindAllStringIndex(text, -1) {
		if name := strings.Trim(text[at[0]:at[1]], `"'`); open.MatchString(name) || s.plain(name) {
			continue
		}
		if rest := strings.TrimLeft(text[at[1]:], " \t:=;.,"); rest != "" {
			return text[:len(text)-len(rest)] + Hidden
		}
	}
	return text
}
