package nginx

import (
	"cmp"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

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

// routes tells what a site does with plain http, for each of its names at each
// of its listeners without TLS.
func (r *reader) routes(server *Directive, site *kind.Site, listens []listen, outer []*Directive) []kind.Route {
	var out []kind.Route
	for _, l := range listens {
		if l.tls || l.datagram || l.socket != "" {
			continue
		}
		port := "80"
		if len(l.to) > 0 {
			port = strconv.Itoa(int(l.to[0].Port()))
		}
		for i, host := range askedHosts(site) {
			if i >= routeNames {
				break
			}
			q := &request{tree: r.tree, host: host, first: firstName(site), port: port, vars: map[string]string{}, outer: outer}
			route := kind.Route{Listener: l.text, Host: host, Front: q.server(server, "/")}
			route.WellKnown, route.Other = q.server(server, probe), q.server(server, otherPath)
			out = append(out, route)
		}
	}
	return out
}

// askedHosts are hosts to ask a site about: its plain names, one made up below
// each wildcard.
func askedHosts(site *kind.Site) []string {
	var out []string
	for _, n := range site.Names {
		switch matchingOf(n.Text) {
		case exact:
			out = append(out, n.Text)
		case leading:
			out = append(out, "any"+strings.TrimPrefix(n.Text, "*"))
		case trailing:
			out = append(out, strings.TrimSuffix(n.Text, "*")+"any")
		}
	}
	if len(out) == 0 {
		out = []string{"_"}
	}
	return out
}

// firstName is what nginx takes for a site's name where one is needed: the first
// that is written.
func firstName(site *kind.Site) string {
	if len(site.Names) == 0 {
		return ""
	}
	return site.Names[0].Text
}

// request walks a server's rewrite rules and locations for one path.
type request struct {
	*tree
	host, port, path string            // as the visitor asks; the host is "" when none is named
	uri, query       string            // as asked, and what stands behind its question mark
	first            string            // name of the site
	vars             map[string]string // set on the way
	unsure           bool              // a condition could not be worked out
	outer            []*Directive      // of the block around the site
	site             *Directive        // asked
	turns            int               // internal redirects taken
}

// Plain implements kind.Answers. A site's directives are parsed again from the
// reading's files.
func (x *Index) Plain(host string, at netip.AddrPort, path string) (kind.Step, bool) {
	a := x.answer(host, at)
	if a.Listener == nil || a.Site == nil || a.Listener.TLS || a.Site.Protocol != kind.HTTP {
		return kind.Step{}, false
	}
	x.parsed.Do(func() { x.tree, x.servers, x.outer = treeOf(x.reading) })
	d := x.servers[a.Site.Place]
	if d == nil {
		return kind.Step{}, false
	}
	x.walking.Lock()
	defer x.walking.Unlock()
	q := &request{tree: x.tree, host: strings.TrimSuffix(strings.ToLower(host), "."), first: firstName(a.Site),
		port: strconv.Itoa(int(at.Port())), vars: map[string]string{}, outer: x.outer[d]}
	return q.server(d, path), true
}

// treeOf parses the files of a reading again, with what they include, and gives
// the blocks of sites by their places, and what stands around each.
func treeOf(r *kind.Reading) (*tree, map[kind.Place]*Directive, map[*Directive][]*Directive) {
	t := &tree{folder: path.Dir(r.Main), files: map[string]*File{}, includes: map[*Directive][]*File{}}
	for i := range r.Files {
		if f := &r.Files[i]; f.InForce {
			t.files[f.Path] = Parse(f.Path, f.Text)
			t.order = append(t.order, t.files[f.Path])
		}
	}
	servers := map[kind.Place]*Directive{}
	var visit func(list []*Directive)
	visit = func(list []*Directive) {
		for _, d := range list {
			switch {
			case d.Name() == "include" && len(d.Words) == 2 && d.Stop.Raw == ";":
				t.includes[d] = t.included(d.Arg(0))
			case d.Name() == "server":
				servers[d.Place()] = d
			}
			visit(d.Block)
		}
	}
	for _, f := range t.order {
		visit(f.Nodes)
	}
	if f := t.files[r.Main]; f != nil {
		t.loops(f, nil, map[*File]bool{})
	}
	outer := map[*Directive][]*Directive{}
	if f := t.files[r.Main]; f != nil {
		t.each(f.Nodes, func(d *Directive) {
			t.each(d.Block, func(s *Directive) {
				if s.Name() == "server" {
					outer[s] = d.Block
				}
			})
		})
	}
	return t, servers, outer
}

// included gives those of a tree's files that an include names, in nginx's order.
func (t *tree) included(pattern string) []*File {
	full, outside := t.full(pattern)
	if outside {
		return nil
	}
	var out []*File
	for p, f := range t.files {
		if p == full || strings.ContainsAny(full, "*?[") && source.MatchesPath(full, p) {
			out = append(out, f)
		}
	}
	slices.SortFunc(out, func(a, b *File) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// server gives what a server block does: its own rules come before every
// location (ngx_http_rewrite_module), then who may come in, then the location.
func (q *request) server(d *Directive, p string) kind.Step {
	q.uri, q.unsure, q.site, q.turns = p, false, d, 0
	q.path, q.query, _ = strings.Cut(p, "?")
	clear(q.vars)
	return q.settled(q.ask(q.path))
}

// internalTurns is how often nginx leads a request on inside (ngx_http_core_module).
const internalTurns = 10

// ask walks the site for a path; a status the site has a page for leads on to
// that.
func (q *request) ask(asked string) kind.Step {
	step, done := q.rules(q.site.Block)
	made := &found{}
	chosen, _ := q.location(q.site.Block, made)
	levels := [][]*Directive{q.outer, q.site.Block}
	switch {
	case done:
		return made.hiddenBy(q.paged(step, levels), nil)
	case chosen == nil:
		if step, refused := q.guarded(levels); refused {
			return q.paged(step, levels)
		}
		return q.content(q.site.Block, kind.Step{Place: q.site.Place(), Handling: kind.Serves})
	}
	levels = append(levels, chosen.Block)
	step = q.within(q.site, chosen, levels)
	return made.hiddenBy(q.filed(q.paged(step, levels), asked), chosen)
}

// filed gives the folder a file lies in under the path that was asked for, where
// a rule has led the request to another path.
func (q *request) filed(step kind.Step, asked string) kind.Step {
	if step.Handling != kind.Serves || q.path == asked {
		return step
	}
	file := step.To + strings.TrimPrefix(q.path, step.Under)
	if step.Under != "" && !strings.HasPrefix(q.path, step.Under) {
		return step
	}
	if folder, ok := strings.CutSuffix(file, asked); ok {
		step.To, step.Under = folder, ""
	}
	return step
}

// found is a location made for the well-known path, met on the way.
type found struct{ made *Directive }

// hiddenBy notes that location in a step of another one.
func (f *found) hiddenBy(step kind.Step, chosen *Directive) kind.Step {
	if f.made != nil && f.made != chosen {
		at := f.made.Place()
		step.Hidden = &at
	}
	return step
}

// settled turns what depends on an unknown condition into that.
func (q *request) settled(s kind.Step) kind.Step {
	if q.unsure {
		s.Handling = kind.Depends
	}
	return s
}

// madeFor says whether a location is written for the well-known path.
func madeFor(d *Directive) bool {
	for _, w := range d.Args() {
		if strings.Contains(w.Text, "well-known") {
			return true
		}
	}
	return false
}

// within gives what a location does. Its own rules run, not those of the
// locations around it; who may come in is inherited.
func (q *request) within(server, d *Directive, levels [][]*Directive) kind.Step {
	if step, done := q.rules(d.Block); done {
		return step
	}
	if step, refused := q.guarded(levels); refused {
		return step
	}
	step := kind.Step{Place: d.Place(), Handling: kind.Serves}
	q.each(server.Block, func(o *Directive) { // what a location inherits
		if o.Name() == "root" {
			step.To = o.Arg(0)
		}
	})
	step = q.content(d.Block, step)
	if step.Under != "" {
		step.Under = d.Arg(len(d.Args()) - 1)
	}
	return step
}

// content gives what handles a request that no rule has answered.
func (q *request) content(list []*Directive, step kind.Step) kind.Step {
	var try *Directive
	q.each(list, func(d *Directive) {
		switch name := d.Name(); {
		case name == "proxy_pass" || strings.HasSuffix(name, "_pass") && name != "fastcgi_split_path_info":
			step = kind.Step{Place: d.Place(), Handling: kind.Passes, To: d.Arg(0)}
		case (name == "root" || name == "alias") && step.Handling == kind.Serves:
			step.To, step.Place, step.Under = d.Arg(0), d.Place(), ""
			if name == "alias" {
				step.Under = "/"
			}
		case name == "try_files" && step.Handling == kind.Serves:
			try = d
		case name == "stub_status" || name == "empty_gif":
			step = kind.Step{Place: d.Place(), Handling: kind.Answered, Status: 200}
		}
	})
	if try != nil {
		return q.tried(try, step)
	}
	return step
}

// rules runs return, rewrite, if and set in their order.
func (q *request) rules(list []*Directive) (step kind.Step, done bool) {
	step, done, _ = q.rulesOf(list)
	return step, done
}

// rulesOf is rules; stopped says that a rule ended them, wherever it stands.
func (q *request) rulesOf(list []*Directive) (step kind.Step, done, stopped bool) {
	q.each(list, func(d *Directive) {
		if done || stopped {
			return
		}
		switch d.Name() {
		case "return":
			step, done = q.returned(d), true
		case "set":
			q.vars[strings.TrimPrefix(d.Arg(0), "$")] = q.expand(d.Arg(1), nil)
		case "break":
			stopped = true
		case "rewrite":
			step, done, stopped = q.rewrite(d)
		case "if":
			holds, known := q.holds(d)
			if !known && q.answersIn(d) {
				q.unsure = true
			}
			if holds || !known && q.answersIn(d) {
				var ended bool
				step, done, ended = q.rulesOf(d.Block)
				stopped = ended && holds
				if !done && holds {
					if to := q.content(d.Block, kind.Step{Handling: kind.Serves}); to.Handling == kind.Passes {
						step, done = to, true
					}
				}
			}
		}
	})
	return step, done, stopped
}

// answersIn says whether a block holds a rule that ends a request.
func (q *request) answersIn(d *Directive) (ends bool) {
	q.each(d.Block, func(d *Directive) {
		if name := d.Name(); name == "return" || name == "rewrite" || strings.HasSuffix(name, "_pass") {
			ends = true
		}
	})
	return ends
}

// returned reads return: a status with a text, a status with an address, or an
// address alone.
func (q *request) returned(d *Directive) kind.Step {
	status, err := strconv.Atoi(d.Arg(0))
	to := d.Arg(1)
	if err != nil { // a location alone is a temporary redirect
		status, to = 302, d.Arg(0)
	}
	step := kind.Step{Place: d.Place(), Handling: kind.Answered, Status: status}
	if isRedirect(status) {
		step.Handling, step.To = kind.Redirects, q.expand(to, nil)
	}
	return step
}

// isRedirect lists the statuses with which a visitor is led on (RFC 9110
// section 15.4).
func isRedirect(status int) bool {
	return status == 301 || status == 302 || status == 303 || status == 307 || status == 308
}

// rewrite applies one rewrite rule; done when it redirects, stop when the
// rules behind it do not count any more.
func (q *request) rewrite(d *Directive) (step kind.Step, done, stop bool) {
	re, err := expression.Compile(d.Arg(0))
	if err != nil {
		q.unsure = true
		return step, false, false
	}
	m, err := re.FindStringMatch(q.path)
	if err != nil || m == nil {
		return step, false, false
	}
	to, flag := q.expand(d.Arg(1), m), d.Arg(2)
	outward := strings.HasPrefix(to, "http://") || strings.HasPrefix(to, "https://") || strings.HasPrefix(to, "$scheme")
	if flag == "permanent" || flag == "redirect" || outward {
		status := 302
		if flag == "permanent" {
			status = 301
		}
		return kind.Step{Place: d.Place(), Handling: kind.Redirects, Status: status, To: q.queried(to)}, true, false
	}
	q.path, q.query, _ = strings.Cut(q.queried(to), "?")
	return step, false, flag == "last" || flag == "break"
}

// queried adds what stood behind the question mark to what a rule leads to, unless that
// ends in one.
func (q *request) queried(to string) string {
	end := strings.HasSuffix(to, "?")
	switch {
	case end || q.query == "":
		return strings.TrimSuffix(to, "?")
	case strings.Contains(to, "?"):
		return to + "&" + q.query
	}
	return to + "?" + q.query
}

// expand puts in the variables that are known here.
func (q *request) expand(text string, m *regexp2.Match) string {
	if !strings.Contains(text, "$") {
		return text
	}
	var b strings.Builder
	for len(text) > 0 {
		at := strings.IndexByte(text, '$')
		if at < 0 {
			break
		}
		b.WriteString(text[:at])
		name, rest := variable(text[at+1:])
		if value, ok := q.variable(name, m); ok {
			b.WriteString(value)
		} else {
			b.WriteString(text[at : len(text)-len(rest)])
		}
		text = rest
	}
	b.WriteString(text)
	return b.String()
}

// variable cuts a variable's name off a text that follows a dollar sign.
func variable(text string) (name, rest string) {
	if strings.HasPrefix(text, "{") {
		if end := strings.IndexByte(text, '}'); end > 0 {
			return text[1:end], text[end+1:]
		}
	}
	n := 0
	for n < len(text) &&
		(text[n] == '_' || text[n] >= 'a' && text[n] <= 'z' || text[n] >= 'A' && text[n] <= 'Z' || text[n] >= '0' &&
			text[n] <= '9') {
		n++
	}
	if n > 0 && text[0] >= '0' && text[0] <= '9' {
		n = 1
	}
	return text[:n], text[n:]
}

// variable gives a variable's value for this request; known is false for one
// whose value cannot be told without the running server.
func (q *request) variable(name string, m *regexp2.Match) (string, bool) {
	if value, set := q.vars[name]; set {
		return value, true
	}
	switch name {
	case "http_host":
		return q.host, true
	case "host":
		return cmp.Or(q.host, q.first), true
	case "server_name":
		return q.first, true
	case "scheme":
		return "http", true
	case "request_uri":
		return q.uri, true
	case "uri", "document_uri":
		return q.path, true
	case "server_port":
		return q.port, true
	case "args", "query_string":
		return q.query, true
	case "is_args":
		return map[bool]string{true: "?"}[q.query != ""], true
	case "https":
		return "", true
	case "request_method":
		return "GET", true
	}
	if m != nil {
		if g := m.GroupByName(name); g != nil && g.Name == name {
			return g.String(), true
		}
	}
	return "", false
}

// holds works out the condition of an if; known is false when only a request
// would show.
func (q *request) holds(d *Directive) (holds, known bool) {
	var words []string
	for _, w := range d.Args() {
		words = append(words, w.Text)
	}
	if len(words) == 0 {
		return false, false
	}
	words[0] = strings.TrimPrefix(words[0], "(")
	if words[0] == "" {
		words = words[1:]
	}
	last := len(words) - 1
	if last >= 0 {
		words[last] = strings.TrimSuffix(words[last], ")")
		if words[last] == "" && last > 0 && len(words) != 3 {
			words = words[:last]
		}
	}
	if len(words) == 0 || !strings.HasPrefix(words[0], "$") {
		return false, false
	}
	name, _ := variable(words[0][1:])
	value, known := q.variable(name, nil)
	switch {
	case !known:
		return false, false
	case len(words) == 1:
		return value != "" && value != "0", true
	case len(words) != 3:
		return false, false
	}
	return compared(value, words[1], words[2])
}

// compared evaluates the condition of an if; known is false when its expression
// cannot be compiled.
func compared(value, operator, with string) (holds, known bool) {
	switch operator {
	case "=":
		return value == with, true
	case "!=":
		return value != with, true
	case "~", "!~", "~*", "!~*":
		pattern := with
		if strings.HasSuffix(operator, "*") {
			pattern = "(?i)" + pattern
		}
		re, err := expression.Compile(pattern)
		if err != nil {
			return false, false
		}
		found, err := re.MatchString(value)
		return found != strings.HasPrefix(operator, "!"), err == nil
	}
	return false, false
}

// location chooses as nginx does: an exact one; the longest prefix, and what
// is nested in it; the first regular expression, unless that prefix is marked
// ^~. A prefix is not final: expressions further out still count. made is told
// of a location written for the well-known path.
func (q *request) location(list []*Directive, made *found) (chosen *Directive, final bool) {
	var exact, prefix, regex *Directive
	longest, marked := -1, false
	q.each(list, func(d *Directive) {
		if d.Name() != "location" {
			return
		}
		how, pattern := locationPattern(d)
		switch how {
		case "=":
			if exact == nil && pattern == q.path {
				exact = d
			}
		case "~", "~*":
			if regex == nil && matchesPath(pattern, q.path) {
				regex = d
			}
		default:
			if strings.HasPrefix(q.path, pattern) && len(pattern) > longest {
				longest, prefix, marked = len(pattern), d, how == "^~"
			}
			if strings.HasPrefix(q.path, pattern) && q.path == probe && madeFor(d) {
				made.made = d
			}
		}
	})
	if exact != nil {
		return exact, true
	}
	if prefix != nil {
		chosen = prefix
		if inner, final := q.location(prefix.Block, made); inner != nil {
			if chosen = inner; final {
				return inner, true
			}
		}
	}
	if regex == nil || marked {
		return chosen, false
	}
	if inner, _ := q.location(regex.Block, made); inner != nil {
		return inner, true
	}
	return regex, true
}

// locationPattern takes how a location matches and what; ~* ignores case.
func locationPattern(d *Directive) (how, pattern string) {
	if len(d.Args()) > 1 {
		how, pattern = d.Arg(0), d.Arg(1)
	} else {
		how, pattern = joined(d.Arg(0))
	}
	if how == "~*" {
		pattern = "(?i)" + pattern
	}
	return how, pattern
}

// joined takes "=/path", "~pattern" and "^~/path", which nginx takes without a
// blank too.
func joined(pattern string) (how, rest string) {
	for _, how := range []string{"=", "~*", "^~", "~"} {
		if strings.HasPrefix(pattern, how) {
			return how, pattern[len(how):]
		}
	}
	return "", pattern
}

// matchesPath tries an expression within its time; one that runs out does not
// match.
func matchesPath(pattern, path string) bool {
	re, err := expression.Compile(pattern)
	if err != nil {
		return false
	}
	ok, err := re.MatchString(path)
	return err == nil && ok
}
