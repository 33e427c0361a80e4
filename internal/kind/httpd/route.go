package httpd

import (
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/dlclark/regexp2"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/expression"
	"insegna.example/internal/kind/source"
)

// routeNames is how many names of a site are asked what plain http does for
// them; more differ only in generated configurations.
const routeNames = 16

// probe is the file a CA asks for (RFC 8555 section 8.3), by a token nobody has.
const probe = "/.well-known/acme-challenge/token"

// otherPath stands for every path but the front page.
const otherPath = "/any/other-path"

// served are the blocks a request is led through: those of the main server and of
// each virtual host by its place.
type served struct {
	main  []*Directive
	hosts map[kind.Place][]*Directive
	l     *loader
	slow  atomic.Int32 // comparisons that ran out of their time
}

// blocks gives what a site's virtual host says; nothing for the main server.
func (s *served) blocks(site *kind.Site) []*Directive { return s.hosts[site.Place] }

// plainRoutes tells what sites do with plain http, for each of their names at each
// of their listeners without TLS.
func (r *reader) plainRoutes(index map[*vhost]int) {
	s := &served{main: r.mainly.block, hosts: map[kind.Place][]*Directive{}, l: r.loader}
	at := map[int][]*kind.Listener{}
	for i := range r.out.Listeners {
		l := &r.out.Listeners[i]
		if l.TLS || !l.Network() {
			continue
		}
		for _, site := range l.Sites {
			at[site] = append(at[site], l)
		}
	}
	override := overrides(r.mainly.block)
	for v, i := range index {
		if v.d != nil {
			s.hosts[v.site.Place] = v.block
		}
		site := &r.out.Sites[i]
		if override { // files that rule a folder are noted for whoever comes, not for its names alone
			for _, path := range []string{"/", probe, otherPath} {
				(&request{served: s, site: site, host: "nobody.invalid"}).ask(path)
			}
		}
		for _, l := range at[i] {
			for n, host := range askedHosts(site) {
				if n >= routeNames {
					break
				}
				q := &request{served: s, site: site, host: host, port: l.Address.Port()}
				site.Plain = append(site.Plain, kind.Route{Listener: l.String(), Host: host, Front: q.ask("/"),
					WellKnown: q.ask(probe), Other: q.ask(otherPath)})
			}
		}
	}
}

// overrides says whether files in folders may rule anything.
func overrides(list []*Directive) bool {
	return slices.ContainsFunc(list, func(d *Directive) bool {
		return d.Name == "allowoverride" && !strings.EqualFold(d.Arg(0), "none") || d.Section && overrides(d.Block)
	})
}

// askedHosts are hosts to ask a site about: its plain names, one made up for each
// wildcard.
func askedHosts(site *kind.Site) []string {
	var out []string
	for i := range site.Names {
		if text := site.Names[i].Text; text != "" {
			out = append(out, strings.NewReplacer("*", "any", "?", "x").Replace(text))
		}
	}
	if len(out) == 0 {
		out = []string{"_"}
	}
	return out
}

// Plain implements kind.Answers. What is in force is worked out again from the
// reading's files.
func (x *Index) Plain(host string, at netip.AddrPort, path string) (kind.Step, bool) {
	a := x.Answer(host, at)
	if a.Listener == nil || a.Site == nil || a.Listener.TLS {
		return kind.Step{}, false
	}
	x.parsed.Do(func() { x.tree = treeOf(x.reading) })
	q := &request{served: x.tree, site: a.Site, host: strings.TrimSuffix(strings.ToLower(host), "."), port: at.Port()}
	return q.ask(path), true
}

// treeOf reads the files of a reading again.
func treeOf(r *kind.Reading) *served {
	l := newLoader(storedFiles{}, r.Main)
	l.stored = []string{}
	for i := range r.Files {
		f := &r.Files[i]
		if path.Base(f.Path) == "envvars" || f.Path == sysconfig {
			l.environment(f.Text)
			continue
		}
		if f.InForce {
			l.files[f.Path] = parse(f.Path, f.Text)
			l.stored = append(l.stored, f.Path)
		}
	}
	for _, key := range argumentKeys {
		l.arguments(l.env[key])
	}
	slices.Sort(l.stored)
	list, _ := l.load() // what is stored can be read
	s := &served{main: list, hosts: map[kind.Place][]*Directive{}, l: l}
	for _, d := range list {
		if d.Name == "virtualhost" && d.Section {
			s.hosts[d.Place] = d.Block
		}
	}
	return s
}

// request leads one request for a path through the server, without TLS.
type request struct {
	*served
	site    *kind.Site
	host    string // asked for, "" when none is named
	port    uint16
	path    string     // as rules have changed it
	query   string     // what was asked behind the question mark
	unsure  bool       // a condition could not be worked out
	found   *Directive // the rule after which nothing else translates the path
	matched *regexp2.Match
	rule    *regexp2.Match
}

// slowMost is how many comparisons may run out of their time; then expressions are
// not tried any more.
const slowMost = 5

// match compares with an expression; unsure is noted where it is not understood or
// takes too long.
func (q *request) match(pattern, text string) *regexp2.Match {
	re, err := expression.Compile(pattern)
	if err != nil || q.slow.Load() >= slowMost {
		q.unsure = true
		return nil
	}
	m, err := re.FindStringMatch(text)
	if err != nil {
		q.slow.Add(1)
		q.unsure = true
		return nil
	}
	return m
}

// serverName is what the server takes for its name.
func (q *request) serverName() string {
	if len(q.site.Names) > 0 {
		return q.site.Names[0].Text
	}
	return q.host
}

// ask gives what becomes of a request: rules of the server first, what is passed
// on, redirects, who may come in, redirects of sections, then the file.
func (q *request) ask(asked string) kind.Step {
	q.unsure, q.found = false, nil
	q.path, q.query, _ = strings.Cut(asked, "?")
	step := q.led()
	if asked == probe && step.Hidden == nil {
		if made := q.madeFor(); made != nil && *made != step.Place {
			step.Hidden = made
		}
	}
	if q.unsure {
		step.Handling = kind.Depends
	}
	return step
}

// madeFor finds an Alias or section for the well-known path.
func (q *request) madeFor() *kind.Place {
	for _, list := range [][]*Directive{q.blocks(q.site), q.main} {
		for _, d := range list {
			if (d.Name == "alias" || d.Name == "aliasmatch") && strings.Contains(d.Arg(0), "well-known") {
				return &d.Place
			}
		}
	}
	return nil
}

// led leads the request.
func (q *request) led() kind.Step {
	own, asked := q.blocks(q.site), q.path
	if step, done := q.rewritten(q.rules(own), ""); done {
		return q.paged(step)
	}
	if q.found != nil { // neither aliases nor what is passed on count any more, and sections go by what was asked for
		step := kind.Step{Place: q.found.Place, Handling: kind.Serves, To: path.Dir(q.path), Under: path.Dir(asked) + "/"}
		if !onDisk(q.path) {
			root, _ := q.root(own)
			step.To = path.Dir(root + "/" + q.path)
		}
		q.path, step.Under = asked, strings.Replace(step.Under, "//", "/", 1)
		return q.guarded(step)
	}
	if step, done := q.passed(own); done {
		return q.guarded(step)
	}
	for _, list := range [][]*Directive{own, q.main} {
		if step, done := q.redirected(list, ""); done {
			return q.paged(step)
		}
	}
	return q.guarded(q.file(own))
}

// rules are the rewrite rules of a virtual host, with those it inherits.
func (q *request) rules(own []*Directive) []*Directive {
	pick := func(list []*Directive) (out []*Directive) {
		for _, d := range list {
			if strings.HasPrefix(d.Name, "rewrite") {
				out = append(out, d)
			}
		}
		return out
	}
	mine, theirs := pick(own), pick(q.main)
	if len(own) == 0 {
		return theirs
	}
	option, engine := "", (*Directive)(nil)
	for _, d := range mine {
		switch d.Name {
		case "rewriteoptions":
			option = strings.ToLower(d.Raw)
		case "rewriteengine":
			engine = d
		}
	}
	for _, d := range theirs {
		if d.Name == "rewriteoptions" && option == "" && strings.Contains(strings.ToLower(d.Raw), "inheritdown") {
			option = strings.Replace(strings.ToLower(d.Raw), "inheritdown", "inherit", 1)
		}
		if d.Name == "rewriteengine" && engine == nil {
			mine = append([]*Directive{d}, mine...)
		}
	}
	inherited := slices.DeleteFunc(slices.Clone(theirs), func(d *Directive) bool { return d.Name == "rewriteengine" })
	switch {
	case strings.Contains(option, "inheritbefore"):
		return append(inherited, mine...)
	case strings.Contains(option, "inherit") && !strings.Contains(option, "ignoreinherit"):
		return append(slices.Clone(mine), inherited...)
	}
	return mine
}

// rewritten runs rewrite rules (mod_rewrite); under is the folder whose rules they
// are, "" for those of the server. done says that they answer.
func (q *request) rewritten(list []*Directive, under string) (step kind.Step, done bool) {
	on := false
	for _, d := range list { // wherever it stands
		if d.Name == "rewriteengine" {
			on = strings.EqualFold(d.Arg(0), "on")
		}
	}
	if !on || !q.l.hasModule("rewrite_module") {
		return step, false
	}
	var conditions []*Directive
	skip, chained := 0, true
	for _, d := range list {
		switch d.Name {
		case "rewritecond":
			conditions = append(conditions, d)
			continue
		case "rewriterule":
		default:
			continue
		}
		given := conditions
		conditions = nil
		f := flagsOf(d.Arg(2))
		if skip > 0 {
			skip--
			continue
		}
		if !chained { // the one before did not hold
			chained = !f.has("C", "chain")
			continue
		}
		holds := q.applies(d, f, given, under)
		if !holds {
			chained = !f.has("C", "chain")
			continue
		}
		if n := f.number("S", "skip"); n > 0 {
			skip = n
		}
		if step, done := q.substituted(d, f, under); done {
			return step, true
		}
		if f.has("L", "last") || f.has("END", "END") {
			break
		}
	}
	return step, false
}

// flags are those of a rule.
type flags []string

// flagsOf reads "[R=301,L]".
func flagsOf(text string) flags {
	return strings.Split(strings.Trim(text, "[]"), ",")
}

// has says whether one of two spellings is among them.
func (f flags) has(short, long string) bool {
	return slices.ContainsFunc(f, func(s string) bool {
		name, _, _ := strings.Cut(strings.TrimSpace(s), "=")
		return strings.EqualFold(name, short) || strings.EqualFold(name, long)
	})
}

// value gives the value of a flag.
func (f flags) value(short, long string) string {
	for _, s := range f {
		if name, value, _ := strings.Cut(strings.TrimSpace(s), "="); strings.EqualFold(name, short) ||
			strings.EqualFold(name, long) {
			return value
		}
	}
	return ""
}

// number gives the value of a flag as a number.
func (f flags) number(short, long string) int {
	n, _ := strconv.Atoi(f.value(short, long))
	return n
}

// applies says whether a rule's pattern and conditions hold.
func (q *request) applies(d *Directive, f flags, conditions []*Directive, under string) bool {
	pattern, not := strings.CutPrefix(d.Arg(0), "!")
	if f.has("NC", "nocase") {
		pattern = "(?i)" + pattern
	}
	m := q.match(pattern, strings.TrimPrefix(q.path, under))
	if (m != nil) == not {
		return false
	}
	q.rule, q.matched = m, nil
	for i := 0; i < len(conditions); i++ {
		holds := q.condition(conditions[i])
		for flagsOf(conditions[i].Arg(2)).has("OR", "ornext") && i+1 < len(conditions) {
			if i++; !holds {
				holds = q.condition(conditions[i])
			}
		}
		if !holds {
			return false
		}
	}
	return true
}

// condition works out one RewriteCond; what only a request shows is noted, and
// taken as met.
func (q *request) condition(d *Directive) bool {
	test, known := q.expand(d.Arg(0))
	pattern, not := strings.CutPrefix(d.Arg(1), "!")
	if strings.EqualFold(d.Arg(0), "expr") {
		q.unsure = true
		return true
	}
	if !known {
		q.unsure = true
		return true
	}
	switch pattern {
	case "-f", "-s", "-F", "-l", "-L", "-h":
		return (q.path == probe) != not // it lies there when it is asked for
	case "-d":
		return (q.path == "/") != not
	}
	switch {
	case strings.HasPrefix(pattern, "="):
		want := strings.Trim(pattern[1:], `"`)
		if flagsOf(d.Arg(2)).has("NC", "nocase") {
			return strings.EqualFold(test, want) != not
		}
		return (test == want) != not
	case strings.HasPrefix(pattern, "<") || strings.HasPrefix(pattern, ">") || strings.HasPrefix(pattern, "-"):
		a, errA := strconv.Atoi(test)
		b, errB := strconv.Atoi(strings.TrimLeft(pattern, "-<>=abcdefghijklmnopqrstuvwxyz"))
		if errA != nil || errB != nil {
			q.unsure = true
			return true
		}
		switch {
		case strings.HasPrefix(pattern, "-eq"):
			return (a == b) != not
		case strings.HasPrefix(pattern, "-ne"):
			return (a != b) != not
		case strings.HasPrefix(pattern, "<"), strings.HasPrefix(pattern, "-lt"):
			return (a < b) != not
		}
		return (a > b) != not
	}
	if flagsOf(d.Arg(2)).has("NC", "nocase") {
		pattern = "(?i)" + pattern
	}
	m := q.match(pattern, test)
	if m != nil && !not {
		q.matched = m
	}
	return (m != nil) != not
}

// expand puts variables and what was matched into a text; known is false when one
// of them is to be seen only in a request.
func (q *request) expand(text string) (out string, known bool) {
	var b strings.Builder
	known = true
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c == '\\' && i+1 < len(text) && (text[i+1] == '$' || text[i+1] == '%' || text[i+1] == '\\') {
			i++
			b.WriteByte(text[i])
			continue
		}
		if c != '$' && c != '%' || i+1 >= len(text) {
			b.WriteByte(c)
			continue
		}
		next := text[i+1]
		switch {
		case next >= '0' && next <= '9':
			m := q.rule
			if c == '%' {
				m = q.matched
			}
			if m != nil {
				if g := m.GroupByNumber(int(next - '0')); g != nil {
					b.WriteString(g.String())
				}
			}
			i++
		case next == '{':
			end := strings.IndexByte(text[i:], '}')
			if end < 0 {
				b.WriteString(text[i:])
				return b.String(), known
			}
			if c == '$' {
				return b.String(), false // a map
			}
			value, ok := q.variable(text[i+2 : i+end])
			known = known && ok
			b.WriteString(value)
			i += end
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), known
}

// variable gives a server variable for this request.
func (q *request) variable(name string) (string, bool) {
	switch upper := strings.ToUpper(name); upper {
	case "HTTPS":
		return "off", true
	case "REQUEST_SCHEME":
		return "http", true
	case "HTTP_HOST", "HTTP:HOST":
		if q.port != 80 && q.host != "" {
			return q.host + ":" + strconv.Itoa(int(q.port)), true
		}
		return q.host, true
	case "SERVER_NAME":
		return q.serverName(), true
	case "SERVER_PORT":
		return strconv.Itoa(int(q.port)), true
	case "REQUEST_URI", "SCRIPT_NAME":
		return q.path, true
	case "REQUEST_FILENAME", "SCRIPT_FILENAME":
		return q.path, true
	case "REQUEST_METHOD":
		return "GET", true
	case "QUERY_STRING":
		return q.query, true
	case "HTTP:X-FORWARDED-PROTO", "HTTP:UPGRADE", "HTTP:CONNECTION", "ENV:HTTPS", "ENV:REDIRECT_STATUS",
		"HTTP:X-FORWARDED-SSL", "HTTP_COOKIE", "HTTP_REFERER", "HTTP:CF-VISITOR", "HTTP:X-FORWARDED-PORT":
		return "", true
	case "DOCUMENT_ROOT", "CONTEXT_DOCUMENT_ROOT":
		root, _ := q.root(q.blocks(q.site))
		return root, true
	case "SERVER_PROTOCOL":
		return "HTTP/1.1", true
	}
	return "", false
}

// substituted applies a rule that holds. done says that it answers.
func (q *request) substituted(d *Directive, f flags, under string) (kind.Step, bool) {
	to, known := q.expand(d.Arg(1))
	if !known {
		q.unsure = true
	}
	switch {
	case f.has("F", "forbidden"):
		return kind.Step{Place: d.Place, Handling: kind.Answered, Status: 403}, true
	case f.has("G", "gone"):
		return kind.Step{Place: d.Place, Handling: kind.Answered, Status: 410}, true
	}
	status := 0
	if f.has("R", "redirect") {
		if status = f.number("R", "redirect"); status == 0 {
			status = redirectStatus(orElse(f.value("R", "redirect"), "302"))
		}
		if status < 300 || status > 399 {
			return kind.Step{Place: d.Place, Handling: kind.Answered, Status: status}, true
		}
	}
	if d.Arg(1) == "-" {
		if status != 0 {
			return kind.Step{Place: d.Place, Handling: kind.Redirects, Status: status, To: q.queried(q.self()+q.path, f)}, true
		}
		return kind.Step{}, false
	}
	absolute := strings.Contains(to, "://")
	switch {
	case f.has("P", "proxy"):
		return kind.Step{Place: d.Place, Handling: kind.Passes, To: to}, true
	case absolute || status != 0:
		if !absolute {
			if !strings.HasPrefix(to, "/") {
				to = under + to
			}
			to = q.self() + to
		}
		if status == 0 {
			status = 302
		}
		return kind.Step{Place: d.Place, Handling: kind.Redirects, Status: status, To: q.queried(withPath(to), f)}, true
	}
	to, _, _ = strings.Cut(to, "?")
	if !strings.HasPrefix(to, "/") && under != "" {
		to = under + to
	}
	if q.path = to; under == "" && !f.has("PT", "passthrough") {
		q.found = d
	}
	return kind.Step{}, false
}

// queried adds what stood behind the question mark to what a rule leads to: unless that
// has its own, or the rule takes it away (QSD) or adds it all the same (QSA).
func (q *request) queried(to string, f flags) string {
	own := strings.Contains(to, "?")
	to = strings.TrimSuffix(to, "?")
	switch {
	case q.query == "" || f.has("QSD", "qsdiscard") || own && !f.has("QSA", "qsappend"):
		return to
	case strings.Contains(to, "?"):
		return to + "&" + q.query
	}
	return to + "?" + q.query
}

// systemFolders are the folders every system has at its root (hier(7)).
var systemFolders = strings.Fields("bin boot dev etc home lib media mnt opt proc root run sbin srv sys tmp usr var")

// onDisk says whether a rule of the server leads to a file rather than to another
// path: the first part of it is a folder at the root of the file system.
func onDisk(to string) bool {
	first, _, _ := strings.Cut(strings.TrimPrefix(to, "/"), "/")
	return strings.HasPrefix(to, "/") && slices.Contains(systemFolders, first)
}

// self is the server's own address, as it names it.
func (q *request) self() string {
	host := orElse(q.host, q.serverName())
	if q.port != 80 {
		host += ":" + strconv.Itoa(int(q.port))
	}
	return "http://" + host
}

// withPath gives an address without a path the path /.
func withPath(to string) string {
	if _, rest, ok := strings.Cut(to, "://"); ok && !strings.ContainsAny(rest, "/?#") {
		return to + "/"
	}
	return to
}

// redirectStatus reads the words of Redirect.
func redirectStatus(text string) int {
	switch strings.ToLower(text) {
	case "permanent":
		return 301
	case "temp":
		return 302
	case "seeother":
		return 303
	case "gone":
		return 410
	}
	n, _ := strconv.Atoi(text)
	return n
}

// redirected goes through the redirects of a block (mod_alias); under is the path
// of the section they stand in, "" for the server's.
func (q *request) redirected(list []*Directive, under string) (kind.Step, bool) {
	if !q.l.hasModule("alias_module") {
		return kind.Step{}, false
	}
	for _, d := range list {
		status, args := 302, d.Args
		switch d.Name {
		case "redirectpermanent":
			status = 301
		case "redirecttemp":
		case "redirect", "redirectmatch":
			if n := redirectStatus(d.Arg(0)); n != 0 {
				status, args = n, args[1:]
			}
		default:
			continue
		}
		from, to := under, ""
		switch {
		case len(args) > 1:
			from, to = args[0], args[1]
		case len(args) == 1 && under != "" && status/100 == 3:
			to = args[0]
		case len(args) == 1:
			from = args[0]
		}
		step := kind.Step{Place: d.Place, Handling: kind.Redirects, Status: status}
		if d.Name == "redirectmatch" {
			m := q.match(from, q.path)
			if m == nil {
				continue
			}
			q.rule = m
			step.To, _ = q.expand(strings.ReplaceAll(to, "%", `\%`))
		} else {
			n := prefixed(from, q.path)
			if n < 0 {
				continue
			}
			if step.To = to; len(args) > 1 || under == "" {
				step.To += q.path[n:]
			}
		}
		if status/100 != 3 {
			step.Handling, step.To = kind.Answered, ""
			return step, true
		}
		if strings.HasPrefix(step.To, "/") {
			step.To = q.self() + step.To
		}
		if q.query != "" && !strings.Contains(step.To, "?") {
			step.To += "?" + q.query
		}
		return step, true
	}
	return kind.Step{}, false
}

// prefixed says how much of a path a prefix of whole segments takes; -1 for none
// (alias_matches).
func prefixed(prefix, p string) int {
	rest, ok := strings.CutPrefix(p, prefix)
	if !ok {
		return -1
	}
	if rest == "" || strings.HasSuffix(prefix, "/") || rest[0] == '/' {
		return len(prefix)
	}
	return -1
}

// passed goes through what is passed on (mod_proxy): the first that fits counts,
// an exception too; those of Location sections stand behind.
func (q *request) passed(own []*Directive) (kind.Step, bool) {
	if !q.l.hasModule("proxy_module") {
		return kind.Step{}, false
	}
	for _, list := range [][]*Directive{own, q.main} {
		for _, d := range list {
			from, to := "", ""
			switch {
			case d.Name == "proxypass" || d.Name == "proxypassmatch":
				from, to = d.Arg(0), d.Arg(1)
			case d.Section && (d.Name == "location" || d.Name == "locationmatch"):
				for _, in := range d.Block {
					if in.Name == "proxypass" || in.Name == "proxypassmatch" {
						from, to = d.Arg(0), in.Arg(0)
						if from == "~" {
							from = d.Arg(1)
						}
						d = in // an expression counts as one for ProxyPassMatch alone
						break
					}
				}
			}
			if from == "" || !q.passes(d, from) {
				continue
			}
			if to == "!" {
				return kind.Step{}, false
			}
			return kind.Step{Place: d.Place, Handling: kind.Passes, To: to}, true
		}
	}
	return kind.Step{}, false
}

// passes says whether a path is among those a ProxyPass is for.
func (q *request) passes(d *Directive, from string) bool {
	if d.Name != "proxypassmatch" {
		return prefixed(from, q.path) >= 0
	}
	return q.match(from, q.path) != nil
}

// root is the folder of a virtual host's files.
func (q *request) root(own []*Directive) (folder string, at kind.Place) {
	at = q.site.Place
	for _, list := range [][]*Directive{q.main, own} {
		for _, d := range list {
			if d.Name == "documentroot" {
				folder, at = q.l.full(d.Arg(0)), d.Place
			}
		}
	}
	return folder, at
}

// file finds the folder a request's file lies in: by the first alias that fits,
// and else below the DocumentRoot.
func (q *request) file(own []*Directive) kind.Step {
	step := kind.Step{Handling: kind.Serves}
	step.To, step.Place = q.root(own)
	if !q.l.hasModule("alias_module") {
		return step
	}
	for _, list := range [][]*Directive{own, q.main} {
		for _, d := range list {
			switch d.Name {
			case "alias", "scriptalias":
				if n := prefixed(d.Arg(0), q.path); n >= 0 {
					return kind.Step{Place: d.Place, Handling: kind.Serves, To: d.Arg(1), Under: d.Arg(0)}
				}
			case "aliasmatch", "scriptaliasmatch":
				if m := q.match(d.Arg(0), q.path); m != nil {
					q.rule = m
					to, _ := q.expand(d.Arg(1))
					if folder, ok := strings.CutSuffix(to, q.path); ok {
						return kind.Step{Place: d.Place, Handling: kind.Serves, To: folder}
					}
					return kind.Step{Place: d.Place, Handling: kind.Serves, To: path.Dir(to), Under: path.Dir(q.path)}
				}
			}
		}
	}
	return step
}

// guarded goes through the sections that hold for a request: who may come in, and
// the redirects and rules that stand there (in the order sections are merged).
func (q *request) guarded(step kind.Step) kind.Step {
	full := ""
	if step.Handling == kind.Serves && step.To != "" {
		full = path.Clean(step.To + "/" + strings.TrimPrefix(q.path, step.Under))
	}
	var may *Directive // the one that says who may come in
	var sections []*Directive
	for _, list := range [][]*Directive{q.main, q.blocks(q.site)} {
		sections = append(sections, list...)
	}
	holding := q.holding(sections, full)
	for _, d := range holding {
		for _, in := range d.Block {
			switch {
			case in.Name == "sslrequiressl" && q.l.hasModule("ssl_module"):
				return q.paged(kind.Step{Place: in.Place, Handling: kind.Answered, Status: 403})
			case in.Name == "require" || in.Name == "deny" || in.Name == "allow" && may != nil && may.Name == "deny":
				may = in
			case in.Section && strings.HasPrefix(in.Name, "require"):
				if len(in.Block) > 0 {
					may = in.Block[0]
				}
			}
		}
	}
	if refused, is := q.refused(may); is {
		return q.paged(refused)
	}
	if step.Handling == kind.Passes {
		return step
	}
	if at := q.accessFile(sections, full); at != "" {
		return kind.Step{Place: kind.Place{File: at, Line: 1, Column: 1}, Handling: kind.Depends, To: step.To}
	}
	for i := len(holding) - 1; i >= 0; i-- {
		d := holding[i]
		under := d.Arg(0)
		if d.Name == "directory" || d.Name == "directorymatch" {
			under = strings.TrimSuffix(step.Under, "/") + "/"
		}
		if out, done := q.rewritten(d.Block, under); done {
			return q.paged(out)
		}
		if out, done := q.redirected(d.Block, under); done {
			return q.paged(out)
		}
	}
	return step
}

// accessFile is a file in the folder of a request's file, or one above it, that may
// hold directives of its own (AllowOverride) and is there; "" for none. It is not
// read: who may write it changes what is answered at any time.
func (q *request) accessFile(sections []*Directive, full string) string {
	if full == "" {
		return ""
	}
	name := ".htaccess"
	for _, list := range [][]*Directive{q.main, q.blocks(q.site)} {
		for _, d := range list {
			if d.Name == "accessfilename" {
				name = d.Arg(0)
			}
		}
	}
	dir := path.Dir(full)
	if strings.HasSuffix(q.path, "/") {
		dir = full
	}
	for ; ; dir = path.Dir(dir) {
		allowed := false
		for _, d := range q.holding(sections, dir+"/"+name) {
			for _, in := range d.Block {
				if in.Name == "allowoverride" {
					allowed = !strings.EqualFold(in.Arg(0), "none")
				}
			}
		}
		if at := path.Join(dir, name); allowed && q.l.accessFile(at) {
			return at
		}
		if dir == "/" || dir == "." {
			return ""
		}
	}
}

// refused says whether who asks without a name may not come in.
func (q *request) refused(d *Directive) (kind.Step, bool) {
	if d == nil {
		return kind.Step{}, false
	}
	step := kind.Step{Place: d.Place, Handling: kind.Answered, Status: 403}
	what := strings.ToLower(strings.Join(d.Args, " "))
	switch {
	case d.Name == "require" && what == "all denied", d.Name == "deny" && what == "from all":
		return step, true
	case d.Name == "require" && (strings.HasPrefix(what, "valid-user") || strings.HasPrefix(what, "user ") ||
		strings.HasPrefix(what, "group ")):
		step.Status = 401
		return step, true
	case d.Name == "require" && what != "all granted":
		q.unsure = true
	}
	return kind.Step{}, false
}

// holding are the sections that hold for a request, in the order they are merged:
// folders from the outermost, files, places.
func (q *request) holding(list []*Directive, full string) []*Directive {
	var folders, files, places []*Directive
	for _, d := range list {
		if !d.Section {
			continue
		}
		arg, regular := d.Arg(0), strings.HasSuffix(d.Name, "match")
		if arg == "~" {
			arg, regular = d.Arg(1), true
		}
		switch strings.TrimSuffix(d.Name, "match") {
		case "directory":
			if full != "" && q.within(arg, full, regular) {
				folders = append(folders, d)
			}
		case "files":
			if full != "" && q.named(arg, path.Base(full), regular) {
				files = append(files, d)
			}
		case "location":
			if q.placed(arg, regular) {
				places = append(places, d)
			}
		case "if", "else", "elseif":
			if q.answersIn(d) {
				q.unsure = true
			}
		}
	}
	slices.SortStableFunc(folders, func(a, b *Directive) int {
		return strings.Count(strings.Trim(a.Arg(0), "/"), "/") + min(1, len(strings.Trim(a.Arg(0), "/"))) -
			strings.Count(strings.Trim(b.Arg(0), "/"), "/") - min(1, len(strings.Trim(b.Arg(0), "/")))
	})
	return append(append(folders, files...), places...)
}

// answersIn says whether a section holds something that ends a request.
func (q *request) answersIn(d *Directive) bool {
	return slices.ContainsFunc(d.Block, func(in *Directive) bool {
		return strings.HasPrefix(in.Name, "redirect") || in.Name == "require" || in.Name == "rewriterule" || q.answersIn(in)
	})
}

// within says whether a file lies in a folder of a section.
func (q *request) within(folder, full string, regular bool) bool {
	if regular {
		return q.match(folder, path.Dir(full)+"/") != nil
	}
	folder = q.l.full(folder)
	if strings.ContainsAny(folder, "*?[") {
		for p := full; p != "/" && p != "."; p = path.Dir(p) {
			if source.MatchesPath(folder, p) {
				return true
			}
		}
		return false
	}
	return folder == "/" || full == folder || strings.HasPrefix(full, folder+"/")
}

// named says whether a file's name is one of a section.
func (q *request) named(pattern, base string, regular bool) bool {
	if !regular {
		ok, err := path.Match(pattern, base)
		return ok && err == nil
	}
	return q.match(pattern, base) != nil
}

// placed says whether the path is in a Location.
func (q *request) placed(at string, regular bool) bool {
	if regular {
		return q.match(at, q.path) != nil
	}
	if strings.ContainsAny(at, "*?[") {
		for p := q.path; ; p = path.Dir(p) {
			if source.MatchesPath(at, p) {
				return true
			}
			if p == "/" {
				return false
			}
		}
	}
	return prefixed(at, q.path) >= 0
}

// paged leads a status that has a page at another address there (ErrorDocument).
func (q *request) paged(step kind.Step) kind.Step {
	if step.Handling != kind.Answered {
		return step
	}
	for _, list := range [][]*Directive{q.blocks(q.site), q.main} {
		for i := len(list) - 1; i >= 0; i-- {
			d := list[i]
			if d.Name == "errordocument" && d.Arg(0) == strconv.Itoa(step.Status) {
				if strings.Contains(d.Arg(1), "://") && step.Status != 401 {
					return kind.Step{Place: d.Place, Handling: kind.Redirects, Status: 302, To: d.Arg(1)}
				}
				return step
			}
		}
	}
	return step
}
