package haproxy

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/kind/expression"
)

// sample is what a fetch gives; unknown for what is not known here.
type sample struct {
	text  string
	found bool
	known bool
}

// known is a sample with a text.
func known(text string) sample { return sample{text, true, true} }

// fetched is a fetch with its converters, cut.
type fetched struct {
	name       string
	args       []string
	converters []fetched
}

// fetchOf cuts an expression such as req.hdr(host),lower.
func fetchOf(text string) fetched {
	var parts []fetched
	for text != "" {
		end := strings.IndexAny(text, "(,")
		if end < 0 {
			parts = append(parts, fetched{name: text})
			break
		}
		p := fetched{name: text[:end]}
		if text[end] == '(' {
			closing := closingOf(text, end)
			p.args = argsOf(text[end+1 : closing])
			end = min(closing+1, len(text))
		}
		parts = append(parts, p)
		text = strings.TrimPrefix(text[end:], ",")
	}
	if len(parts) == 0 {
		return fetched{}
	}
	out := parts[0]
	out.converters = parts[1:]
	return out
}

// closingOf finds the parenthesis that closes one.
func closingOf(text string, open int) int {
	quote := byte(0)
	for i := open + 1; i < len(text); i++ {
		switch c := text[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '\\':
			i++
		case c == ')':
			return i
		}
	}
	return len(text)
}

// argsOf cuts arguments, which may be quoted once more.
func argsOf(text string) (out []string) {
	var b strings.Builder
	quote := byte(0)
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case quote != '\'' && c == '\\' && i+1 < len(text) && strings.IndexByte(`\"', )`, text[i+1]) >= 0:
			i++
			b.WriteByte(text[i])
		case quote == 0 && c == ',':
			out = append(out, b.String())
			b.Reset()
		default:
			b.WriteByte(c)
		}
	}
	return append(out, b.String())
}

// arg gives an argument.
func (f *fetched) arg(i int) string {
	if i < len(f.args) {
		return strings.TrimSpace(f.args[i])
	}
	return ""
}

// endsOf are endings of fetches that say how they are compared.
var endsOf = map[string]string{"_beg": "beg", "_end": "end", "_sub": "sub", "_dir": "dir", "_dom": "dom", "_reg": "reg",
	"_len": "len", "_str": "str"}

// bases are fetches that may have such an ending.
var bases = []string{"hdr", "req.hdr", "req.fhdr", "path", "pathq", "url", "base", "req.ssl_sni", "req_ssl_sni",
	"ssl_fc_sni", "cook", "req.cook"}

// test evaluates what stands in an acl behind its name, or in braces.
func (t *tree) test(v *visitor, words []string) truth {
	if len(words) == 0 {
		return no
	}
	f := t.fetchOf(words[0])
	method := ""
	for end, m := range endsOf {
		if base, ok := strings.CutSuffix(f.name, end); ok && slices.Contains(bases, base) {
			f.name, method = base, m
		}
	}
	values, fold, named, ok := t.values(words[1:])
	if !ok {
		return perhaps
	}
	got := t.fetch(v, &f)
	if method = orElse(named, method); method == "" {
		method = methodOf(&f)
	}
	switch {
	case method == "found":
		if !got.known {
			return perhaps
		}
		return truthOf(got.found)
	case !got.known:
		return perhaps
	case !got.found:
		return no
	case method == "bool" && len(values) == 0:
		return truthOf(got.text == "1")
	}
	out := no
	for i := range values {
		switch matches(method, got.text, values, i, fold) {
		case yes:
			return yes
		case perhaps:
			out = perhaps
		}
	}
	return out
}

// values reads flags and patterns; files of patterns are taken in. It is false when
// one cannot be read.
func (t *tree) values(words []string) (list []string, fold bool, method string, ok bool) {
	for i := 0; i < len(words); i++ {
		switch w := words[i]; {
		case w == "--":
			return append(list, words[i+1:]...), fold, method, true
		case w == "-i":
			fold = true
		case w == "-n" || w == "-M":
		case (w == "-m" || w == "-f" || w == "-u") && i+1 < len(words):
			i++
			if w == "-m" {
				method = words[i]
			}
			if w == "-f" {
				lines, err := t.patterns(words[i])
				if err != nil {
					return nil, false, "", false
				}
				list = append(list, lines...)
			}
		default:
			return append(list, words[i:]...), fold, method, true
		}
	}
	return list, fold, method, true
}

// methodOf is how a fetch is compared when nothing is said.
func methodOf(f *fetched) string {
	last := f.name
	if n := len(f.converters); n > 0 {
		last = f.converters[n-1].name
	}
	switch last {
	case "ssl_fc", "always_true", "always_false", "bool", "req.proto_http", "ssl_fc_has_sni":
		return "bool"
	case "dst_port", "int", "src_port", "length", "req.ssl_hello_type", "req_ssl_hello_type":
		return "int"
	case "dst", "src":
		return "ip"
	}
	return "str"
}

// matches compares a sample with a pattern.
func matches(method, text string, values []string, i int, fold bool) truth {
	pattern := values[i]
	if fold && method != "reg" {
		text, pattern = strings.ToLower(text), strings.ToLower(pattern)
	}
	switch method {
	case "str":
		return truthOf(text == pattern)
	case "beg":
		return truthOf(strings.HasPrefix(text, pattern))
	case "end":
		return truthOf(strings.HasSuffix(text, pattern))
	case "sub":
		return truthOf(strings.Contains(text, pattern))
	case "dir":
		return truthOf(between(text, pattern, "/?"))
	case "dom":
		return truthOf(between(text, pattern, "/?.:"))
	case "reg":
		if fold {
			pattern = "(?i)" + pattern
		}
		re, err := expression.Compile(pattern)
		if err != nil {
			return perhaps
		}
		if ok, err := re.MatchString(text); err == nil {
			return truthOf(ok)
		}
	case "int", "len", "bool":
		if method == "len" {
			text = strconv.Itoa(len(text))
		}
		return compared(text, values, i)
	case "ip":
		addr, err := netip.ParseAddr(text)
		if err != nil {
			return perhaps
		}
		if p, err := netip.ParsePrefix(pattern); err == nil {
			return truthOf(p.Contains(addr))
		}
		if a, err := netip.ParseAddr(pattern); err == nil {
			return truthOf(a == addr)
		}
	}
	return perhaps
}

// between says whether a pattern stands in a text with delimiters or nothing
// around it.
func between(text, pattern, delimiters string) bool {
	pattern = strings.Trim(pattern, delimiters)
	if pattern == "" {
		return true
	}
	for from := 0; ; {
		i := strings.Index(text[from:], pattern)
		if i < 0 {
			return false
		}
		i += from
		end := i + len(pattern)
		if (i == 0 || strings.IndexByte(delimiters, text[i-1]) >= 0) &&
			(end == len(text) || strings.IndexByte(delimiters, text[end]) >= 0) {
			return true
		}
		from = i + 1
	}
}

// compared compares numbers: alone, as a range, or with an operator before them.
func compared(text string, values []string, i int) truth {
	n, err := strconv.Atoi(text)
	if err != nil {
		return perhaps
	}
	operators := []string{"eq", "ge", "gt", "le", "lt"}
	if slices.Contains(operators, values[i]) {
		return no // the number behind it counts
	}
	lowest, highest := 0, 0
	if one, other, ranged := strings.Cut(values[i], ":"); ranged {
		lowest, err = strconv.Atoi(one)
		if err == nil {
			highest, err = strconv.Atoi(other)
		}
	} else if lowest, err = strconv.Atoi(values[i]); err == nil {
		highest = lowest
	}
	if err != nil {
		return perhaps
	}
	operator := "eq"
	for _, w := range values[:i] {
		if slices.Contains(operators, w) {
			operator = w
		}
	}
	switch operator {
	case "ge":
		return truthOf(n >= lowest)
	case "gt":
		return truthOf(n > lowest)
	case "le":
		return truthOf(n <= highest)
	case "lt":
		return truthOf(n < highest)
	}
	return truthOf(n >= lowest && n <= highest)
}

// fetch gives what a fetch with its converters gives for a visitor.
func (t *tree) fetch(v *visitor, f *fetched) sample {
	got := v.fetch(f)
	for i := range f.converters {
		if !got.known || !got.found {
			return got
		}
		got = t.convert(&f.converters[i], got)
	}
	return got
}

// fetch gives what a fetch gives before its converters.
func (v *visitor) fetch(f *fetched) sample {
	path := sample{v.path, true, !v.lost}
	host := sample{v.host, v.host != "", !v.strange}
	switch f.name {
	case "hdr", "req.hdr", "req.fhdr":
		if strings.EqualFold(f.arg(0), "host") {
			return host
		}
	case "path":
		return path
	case "pathq", "url":
		return sample{v.path + v.queried(), true, !v.lost}
	case "capture.req.uri":
		return sample{v.uri, true, v.uri != ""}
	case "base":
		return sample{host.text + path.text, true, host.known && path.known}
	case "baseq":
		return sample{host.text + v.path + v.queried(), true, host.known && path.known}
	case "query":
		return sample{v.query, v.query != "", true}
	case "url_param", "urlp":
		return sample{"", false, v.query == ""}
	case "method":
		return known("GET")
	case "ssl_fc":
		return known(map[bool]string{true: "1", false: "0"}[v.tls])
	case "ssl_fc_sni":
		return sample{v.sni, v.tls && v.sni != "", !v.tls || v.sni != ""}
	case "ssl_fc_has_sni":
		return sample{"1", v.tls && v.sni != "", !v.tls || v.sni != ""}
	case "req.ssl_sni", "req_ssl_sni":
		return sample{v.sni, v.sni != "", true}
	case "req.ssl_hello_type", "req_ssl_hello_type":
		return known("1")
	case "dst_port":
		return known(strconv.Itoa(int(v.at.Port())))
	case "dst":
		return known(v.at.Addr().String())
	case "always_true", "req.proto_http":
		return known("1")
	case "always_false":
		return known("0")
	case "str", "int", "bool":
		text := f.arg(0)
		if f.name == "bool" {
			text = map[bool]string{true: "1", false: "0"}[text == "true" || text == "1"]
		}
		return known(text)
	case "var":
		if s, ok := v.vars[f.arg(0)]; ok {
			return s
		}
		return sample{"", false, !strings.HasPrefix(f.arg(0), "proc.")}
	}
	return sample{}
}

// convert applies one converter.
func (t *tree) convert(f *fetched, s sample) sample {
	switch f.name {
	case "lower":
		return known(strings.ToLower(s.text))
	case "upper":
		return known(strings.ToUpper(s.text))
	case "field":
		return field(f, s.text)
	case "word":
		parts := strings.FieldsFunc(s.text, func(r rune) bool { return strings.ContainsRune(f.arg(1), r) })
		n, err := strconv.Atoi(f.arg(0))
		if n < 0 {
			n += len(parts) + 1
		}
		if err != nil || n < 1 || n > len(parts) {
			return sample{"", false, err == nil && len(f.args) < 3}
		}
		return sample{parts[n-1], true, len(f.args) < 3}
	case "host_only":
		host, _ := hostAndPort(s.text)
		return known(host)
	case "port_only":
		_, port := hostAndPort(s.text)
		return known(orElse(port, "0"))
	case "regsub":
		re, err := expression.Compile(map[bool]string{true: "(?i)"}[strings.Contains(f.arg(2), "i")] + f.arg(0))
		if err != nil {
			return sample{}
		}
		const all, once = -1, 1
		most := once
		if strings.Contains(f.arg(2), "g") {
			most = all
		}
		out, err := re.Replace(s.text, backReferences(f.arg(1)), -1, most)
		return sample{out, true, err == nil}
	case "concat":
		return sample{s.text + f.arg(0) + f.arg(2), true, f.arg(1) == ""}
	case "length":
		return known(strconv.Itoa(len(s.text)))
	case "str":
		return s
	}
	if method, ok := mapMethod(f.name); ok {
		return t.mapping(f, method, s)
	}
	return sample{}
}

// backReferences writes \1 as the library takes it.
func backReferences(text string) string {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\\' && i+1 < len(text) && text[i+1] >= '0' && text[i+1] <= '9':
			i++
			b.WriteString("${" + string(text[i]) + "}")
		case text[i] == '$':
			b.WriteString("$$")
		default:
			b.WriteByte(text[i])
		}
	}
	return b.String()
}

// hostAndPort parts a host from a port.
func hostAndPort(text string) (host, port string) {
	if i := strings.LastIndexByte(text, ':'); i >= 0 && strings.IndexByte(text[i:], ']') < 0 {
		return text[:i], text[i+1:]
	}
	return text, ""
}

// field takes one or more fields of a text.
func field(f *fetched, text string) sample {
	delimiters := f.arg(1)
	if len(f.args) > 1 && delimiters == "" {
		delimiters = f.args[1]
	}
	var parts []string
	from := 0
	for i := 0; i <= len(text); i++ {
		if i == len(text) || strings.IndexByte(delimiters, text[i]) >= 0 {
			parts = append(parts, text[from:i])
			from = i + 1
		}
	}
	n, err := strconv.Atoi(f.arg(0))
	if n < 0 {
		n += len(parts) + 1
	}
	if err != nil || n < 1 || n > len(parts) {
		return sample{"", false, err == nil}
	}
	return sample{parts[n-1], true, len(f.args) < 3}
}
