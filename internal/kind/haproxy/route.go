package haproxy

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/kind"
	"insegna.example/internal/kind/expression"
)

// probe is the file a CA asks for (RFC 8555 section 8.3), by a token nobody has.
const probe = "/.well-known/acme-challenge/token"

// otherPath stands for every path but the front page.
const otherPath = "/any/other-path"

// Statuses of HTTP that the server gives by itself.
const (
	statusOK          = 200
	statusFound       = 302
	statusUnauthor    = 401
	statusForbidden   = 403
	statusServerError = 500
	statusUnavailable = 503
)

// ask leads a request in plain http through the section that listens.
func (t *tree) ask(l *kind.Listener, host string, at netip.AddrPort, path string) kind.Step {
	front := t.fronts[l.Place]
	if front == nil {
		return kind.Step{Place: l.Place, Handling: kind.Depends}
	}
	v := &visitor{host: strings.TrimSuffix(host, "."), uri: path, at: at, vars: map[string]sample{}}
	v.path, v.query, _ = strings.Cut(path, "?")
	const usual = 80
	if host != "" && at.Port() != usual { // as visitors write it (RFC 9110 section 7.2)
		v.host += ":" + strconv.Itoa(int(at.Port()))
	}
	w := &walk{tree: t, visitor: v}
	if step, done := w.section(front); done {
		return w.hiding(front, step)
	}
	back, step := w.chosen(front)
	if back == nil {
		return w.hiding(front, step)
	}
	if back != front {
		if step, done := w.section(back); done {
			return step
		}
	}
	return w.hiding(front, w.served(back, step.Place))
}

// walk is a request on its way.
type walk struct {
	*tree
	*visitor
	met []*statement // rules that were passed, so that those behind them are known
}

// section leads a request through the rules of a section; false when it comes out
// at the end.
func (w *walk) section(s *section) (kind.Step, bool) {
	if m := s.setting("monitor-uri"); m != nil && m.arg(1) == w.path {
		return kind.Step{Place: m.place, Handling: kind.Answered, Status: statusOK}, true
	}
	for _, r := range s.rules("tcp-request") {
		if (r.arg(1) == "connection" || r.arg(1) == "content" || r.arg(1) == "session") && (r.arg(2) == "reject" ||
			r.arg(2) == "accept") {
			is := w.holds(w.visitor, r, 3)
			if is == yes && r.arg(2) == "accept" {
				break
			}
			if is != no && r.arg(2) == "reject" {
				return step(r.statement, is, kind.Answered, 0, "closes the connection"), true
			}
		}
	}
	allowed := false
	for _, r := range s.rules("http-request") {
		if allowed {
			break
		}
		w.met = append(w.met, r.statement)
		is := w.holds(w.visitor, r, 2)
		if is == no {
			continue
		}
		if r.arg(1) == "allow" {
			if is == perhaps {
				return step(r.statement, is, kind.Depends, 0, ""), true
			}
			allowed = true
			continue
		}
		if out, done := w.request(r, is); done {
			return out, true
		}
	}
	for _, r := range s.rules("redirect") {
		w.met = append(w.met, r.statement)
		if is := w.holds(w.visitor, r, 1); is != no {
			return w.redirect(r, 1, is), true
		}
	}
	if st := s.setting("stats"); st != nil {
		for _, r := range s.rules("stats") {
			if r.arg(1) == "uri" && strings.HasPrefix(w.path, r.arg(2)) {
				return kind.Step{Place: r.place, Handling: kind.Depends}, true
			}
		}
	}
	return kind.Step{}, false
}

// step makes one of a rule; what only perhaps holds depends.
func step(s *statement, is truth, h kind.Handling, status int, to string) kind.Step {
	if is == perhaps {
		return kind.Step{Place: s.place, Handling: kind.Depends}
	}
	return kind.Step{Place: s.place, Handling: h, Status: status, To: to}
}

// statusOf finds the status a rule names.
func statusOf(words []string, otherwise int) int {
	for i := 0; i+1 < len(words); i++ {
		if words[i] == "status" || words[i] == "deny_status" || words[i] == "code" {
			if n, err := strconv.Atoi(words[i+1]); err == nil {
				return n
			}
		}
	}
	return otherwise
}

// request carries out one http-request rule; true when it ends the request's way.
func (w *walk) request(r ruled, is truth) (kind.Step, bool) {
	words, _, _ := r.condition(1)
	does, _, _ := strings.Cut(words[0], "(")
	switch does {
	case "redirect":
		return w.redirect(r, 2, is), true
	case "deny":
		return step(r.statement, is, kind.Answered, statusOf(words, statusForbidden), ""), true
	case "tarpit":
		return step(r.statement, is, kind.Answered, statusOf(words, statusServerError), ""), true
	case "return":
		return step(r.statement, is, kind.Answered, statusOf(words, statusOK), ""), true
	case "auth":
		return step(r.statement, is, kind.Answered, statusUnauthor, ""), true
	case "reject", "silent-drop":
		return step(r.statement, is, kind.Answered, 0, "closes the connection"), true
	case "use-service":
		return step(r.statement, perhaps, kind.Depends, 0, ""), true
	case "set-path", "set-pathq", "set-uri":
		to, known := w.format(r.arg(2))
		if w.put(to, does == "set-path"); is == perhaps || !known || does == "set-uri" && !strings.HasPrefix(to, "/") {
			w.lost = true
		}
	case "replace-path", "replace-pathq", "replace-uri":
		w.replace(r, is)
	case "set-header", "replace-header", "del-header":
		if !strings.EqualFold(r.arg(2), "host") {
			break
		}
		to, known := w.format(r.arg(3))
		if w.host = to; is == perhaps || !known || does != "set-header" {
			w.strange = true
		}
	case "set-var", "set-var-fmt":
		name := strings.TrimSuffix(strings.TrimPrefix(words[0], does+"("), ")")
		name, _, _ = strings.Cut(name, ",")
		f := fetchOf(r.arg(2))
		got := w.tree.fetch(w.visitor, &f)
		if does == "set-var-fmt" {
			text, known := w.format(r.arg(2))
			got = sample{text, true, known}
		}
		if is == perhaps {
			got = sample{}
		}
		w.vars[name] = got
	}
	return kind.Step{}, false
}

// replace changes the path by an expression.
func (w *walk) replace(r ruled, is truth) {
	re, err := expression.Compile("^(?:" + r.arg(2) + ")$")
	if err != nil || is == perhaps {
		w.lost = true
		return
	}
	alone := strings.HasPrefix(r.arg(1), "replace-path") && !strings.HasPrefix(r.arg(1), "replace-pathq")
	from := w.path
	if !alone {
		from += w.queried()
	}
	if m, err := re.FindStringMatch(from); err != nil {
		w.lost = true
	} else if m != nil {
		to, known := w.format(r.arg(3))
		out, err := re.Replace(from, backReferences(to), -1, 1)
		w.put(out, alone)
		w.lost = w.lost || !known || err != nil
	}
}

// queried is what stands behind the path, with its question mark.
func (v *visitor) queried() string {
	if v.query == "" {
		return ""
	}
	return "?" + v.query
}

// put gives the request another path; alone leaves what stands behind it.
func (v *visitor) put(to string, alone bool) {
	if alone {
		v.path = to
		return
	}
	v.path, v.query, _ = strings.Cut(to, "?")
}

// redirect works out where a rule sends visitors.
func (w *walk) redirect(r ruled, from int, is truth) kind.Step {
	words, _, _ := r.condition(from)
	out := step(r.statement, is, kind.Redirects, statusOf(words, statusFound), "")
	if out.Handling != kind.Redirects {
		return out
	}
	slash, query := slices.Contains(words, "append-slash"), w.queried()
	if slices.Contains(words, "drop-query") {
		query = ""
	}
	for i := 0; i+1 < len(words); i++ {
		to, known := w.format(words[i+1])
		switch words[i] {
		case "location":
			out.To = to
		case "prefix":
			if out.To = to + w.path; to == "/" {
				out.To = w.path
			}
			out.To += query
			known = known && !w.lost
		case "scheme":
			out.To = to + "://" + w.host + w.path + query
			known = known && !w.lost && !w.strange
		default:
			continue
		}
		if words[i] != "location" && slash && !strings.HasSuffix(out.To, "/") {
			out.To += "/"
		}
		if !known {
			return kind.Step{Place: r.place, Handling: kind.Depends}
		}
		break
	}
	return out
}

// format puts samples into a text (log-format); false when one is not known here.
func (w *walk) format(text string) (string, bool) {
	var b strings.Builder
	all := true
	for i := 0; i < len(text); i++ {
		if text[i] != '%' || i+1 >= len(text) {
			b.WriteByte(text[i])
			continue
		}
		i++
		switch {
		case text[i] == '%':
			b.WriteByte('%')
		case text[i] == '[':
			end := endOfSample(text, i)
			f := fetchOf(text[i+1 : end])
			got := w.tree.fetch(w.visitor, &f)
			b.WriteString(got.text)
			all = all && got.known
			i = end
		default:
			rest := text[i:]
			name := rest[:len(rest)-len(strings.TrimLeft(rest, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"))]
			value, known := map[string]string{"HM": "GET", "HP": w.path, "HU": w.path + w.queried(), "HPO": w.path,
				"HQ": w.queried()}[name]
			b.WriteString(value)
			all = all && known
			i += max(len(name)-1, 0)
		}
	}
	return b.String(), all
}

// endOfSample finds the bracket that closes a sample in a format.
func endOfSample(text string, open int) int {
	depth := 0
	for i := open + 1; i < len(text); i++ {
		switch text[i] {
		case '(':
			depth++
		case ')':
			depth--
		case ']':
			if depth <= 0 {
				return i
			}
		}
	}
	return len(text)
}

// chosen finds the section behind a front; nil with a step where there is none, or
// none can be told.
func (w *walk) chosen(front *section) (*section, kind.Step) {
	for _, r := range front.rules("use_backend") {
		w.met = append(w.met, r.statement)
		is := w.holds(w.visitor, r, 2)
		if is == no {
			continue
		}
		name, known := r.arg(1), true
		if strings.Contains(name, "%") {
			name, known = w.format(name)
		}
		if is == perhaps || !known {
			return nil, kind.Step{Place: r.place, Handling: kind.Depends}
		}
		if back := w.backs[name]; back != nil {
			return back, kind.Step{Place: r.place}
		} else if !strings.Contains(r.arg(1), "%") {
			return nil, kind.Step{Place: r.place, Handling: kind.Depends}
		}
		break // a name that is worked out and not there leads to the default
	}
	if d := front.setting("default_backend"); d != nil {
		if back := w.backs[d.arg(1)]; back != nil {
			return back, kind.Step{Place: d.place}
		}
		return nil, kind.Step{Place: d.place, Handling: kind.Answered, Status: statusUnavailable}
	}
	if front.kind == "listen" {
		return front, kind.Step{Place: front.head.place}
	}
	return nil, kind.Step{Place: front.head.place, Handling: kind.Answered, Status: statusUnavailable}
}

// served is what becomes of a request that has come to a section with servers.
func (w *walk) served(back *section, by kind.Place) kind.Step {
	list := back.servers()
	if len(list) == 0 {
		return kind.Step{Place: by, Handling: kind.Answered, Status: statusUnavailable}
	}
	return kind.Step{Place: by, Handling: kind.Passes, To: aim(back, list)}
}

// aim names the servers of a section: the one there is, or the section.
func aim(back *section, list []*statement) string {
	if len(list) == 1 {
		return list[0].arg(2)
	}
	return back.name
}

// servers are the lines of servers a section balances over.
func (s *section) servers() (out []*statement) {
	for _, o := range s.list {
		if o.arg(0) == "server" || o.arg(0) == "server-template" {
			out = append(out, o)
		}
	}
	return out
}

// hiding notes a rule made for the path of http-01 that a request for it never
// comes to.
func (w *walk) hiding(front *section, s kind.Step) kind.Step {
	if w.path != probe || s.Handling == kind.Depends {
		return s
	}
	for _, r := range front.rules("http-request", "redirect", "use_backend") {
		if r.place == s.Place || slices.Contains(w.met, r.statement) {
			continue
		}
		from := 1
		if r.arg(0) != "redirect" {
			from = 2
		}
		_, cond, _ := r.condition(from)
		if w.mentions(r.in, cond) && w.holds(w.visitor, r, from) == yes {
			at := r.place
			s.Hidden = &at
			return s
		}
	}
	return s
}

// mentions says whether a condition is about the path of http-01.
func (t *tree) mentions(in *section, cond []string) bool {
	about := func(w string) bool {
		return strings.Contains(w, "acme-challenge") || strings.Contains(w, ".well-known")
	}
	for _, w := range cond {
		if about(w) {
			return true
		}
		for _, o := range t.acls[in][strings.TrimLeft(w, "!")] {
			if slices.ContainsFunc(o.args(2), about) {
				return true
			}
		}
	}
	return false
}

// tcp finds by which line a connection that is passed on as it is goes on; false
// when that depends on more than the name asked for.
func (t *tree) tcp(at kind.Place, host string, l *kind.Listener) (kind.Place, bool) {
	front := t.fronts[at]
	if front == nil {
		return kind.Place{}, false
	}
	v := &visitor{sni: host, at: l.Address, vars: map[string]sample{}}
	for _, r := range front.rules("use_backend") {
		switch t.holds(v, r, 2) {
		case yes:
			return r.place, !strings.Contains(r.arg(1), "%")
		case perhaps:
			return kind.Place{}, false
		}
	}
	if d := front.setting("default_backend"); d != nil {
		return d.place, true
	}
	return front.head.place, true
}

// ways are the sites of a front that passes connections on as they are: one for
// each line that says where to.
func (r *reader) passing(f *front, b *bind) []int {
	if r.routes == nil {
		r.routes = newTree(r.loader)
	}
	if len(f.ways) > 0 {
		for _, i := range f.ways {
			if s := &r.out.Sites[i]; !slices.Contains(s.Listens, b.place) {
				s.Listens, s.Asked = append(s.Listens, b.place), append(s.Asked, b.arg(1))
			}
		}
		return f.ways
	}
	add := func(at kind.Place, back *section, named []kind.Name, preread bool) {
		site := kind.Site{Place: at, Protocol: kind.TCP, Names: named, Preread: preread,
			Listens: []kind.Place{b.place}, Asked: []string{b.arg(1)}}
		if back != nil {
			if list := back.servers(); len(list) > 0 {
				site.Through = &kind.Through{Place: list[0].place, To: aim(back, list)}
			}
			site.Hops = back.hops(&r.set)
		}
		f.ways = append(f.ways, len(r.out.Sites))
		r.entries = append(r.entries, nil)
		r.out.Sites = append(r.out.Sites, site)
	}
	reads := false
	for _, u := range f.rules("use_backend") {
		named := r.routes.asked(u.in, u, "req.ssl_sni", "req_ssl_sni")
		reads = reads || len(named) > 0
		add(u.place, r.routes.backs[u.arg(1)], named, len(named) > 0)
	}
	if d := f.setting("default_backend"); d != nil {
		add(d.place, r.routes.backs[d.arg(1)], nil, reads)
		last := len(f.ways) - 1 // who is not named comes to it
		f.ways[0], f.ways[last] = f.ways[last], f.ways[0]
	} else if f.kind == "listen" || len(f.ways) == 0 {
		add(f.head.place, r.routes.backs[f.name], nil, reads)
		last := len(f.ways) - 1
		f.ways[0], f.ways[last] = f.ways[last], f.ways[0]
	}
	return f.ways
}

// asked are the host names a condition compares exactly with some fetches.
func (t *tree) asked(in *section, r ruled, fetches ...string) (out []kind.Name) {
	_, cond, unless := r.condition(2)
	if unless {
		return nil
	}
	met := map[string]bool{}
	test := func(at *statement, words []string) {
		if len(words) == 0 {
			return
		}
		f := fetchOf(words[0])
		base := f.name
		for end, m := range endsOf {
			if b, ok := strings.CutSuffix(f.name, end); ok && m != "end" {
				base = b + "?" // compared in another way
			} else if ok {
				base = b
			}
		}
		if !slices.Contains(fetches, base) || len(f.args) > 0 && f.arg(0) != "" && !strings.EqualFold(f.arg(0), "host") {
			return
		}
		values, _, method, ok := t.values(words[1:])
		if !ok || method != "" && method != "str" && method != "end" {
			return
		}
		ends := method == "end" || strings.HasSuffix(f.name, "_end")
		for _, v := range values {
			n := kind.Name{Place: at.place, Text: strings.ToLower(v)}
			switch host, _ := hostAndPort(n.Text); {
			case ends && strings.HasPrefix(n.Text, "."):
				n.Text = "*" + n.Text
				n.Covers = []string{n.Text}
			case ends:
				continue
			default:
				n.Covers = []string{host}
				n.Text = host
			}
			if !met[n.Text] {
				out = append(out, n)
			}
			met[n.Text] = true
		}
	}
	for i := 0; i < len(cond); i++ {
		if cond[i] == "{" {
			end := i + 1
			for end < len(cond) && cond[end] != "}" {
				end++
			}
			test(r.statement, cond[i+1:end])
			i = end
			continue
		}
		for _, o := range t.acls[in][cond[i]] { // one that is negated is not meant
			test(o, o.args(2))
		}
	}
	return out
}

// routeNames is how many names of a site are asked what plain http does for them;
// more differ only in generated configurations.
const routeNames = 16

// fewSites is how many sites of a front are led to what stands behind it one by
// one.
const fewSites = 500

// plainRoutes tells what fronts do with plain http, and what stands behind each
// site.
func (r *reader) plainRoutes() {
	r.beside()
	if r.routes == nil {
		r.routes = newTree(r.loader)
	}
	for _, f := range r.fronts {
		if f.site >= 0 && f.mode() == kind.HTTP {
			r.plainly(f)
		}
		var all []kind.Hop
		sites := 1
		for _, b := range f.binds {
			sites += len(b.entries)
		}
		for _, back := range f.behind(r.routes) {
			if all = append(all, back.hops(&r.set)...); len(all) > mostHops {
				break
			}
		}
		all = firstHops(all, min(max(hopsInAll/sites, fewestHops), mostHops))
		for _, b := range f.binds {
			for _, e := range b.entries {
				r.out.Sites[e.site].Hops = r.hopsOf(f, b, e.site, all)
			}
		}
		if f.site >= 0 {
			r.out.Sites[f.site].Hops = all
		}
	}
}

// hopsOf are the servers behind a site: those its names are led to, or all of the
// front where that cannot be told.
func (r *reader) hopsOf(f *front, b *bind, site int, all []kind.Hop) (out []kind.Hop) {
	s := &r.out.Sites[site]
	if len(b.entries) > fewSites || len(s.Names) == 0 || f.mode() != kind.HTTP {
		return all
	}
	led := map[*section][]string{}
	var order []*section
	hosts := r.askedOf(f, s, len(b.entries) > 0 && b.entries[0].site == site)
	for _, host := range hosts {
		back, told := r.ledTo(f, strings.NewReplacer("*", "any-name", "!", "").Replace(host))
		switch {
		case !told:
			return all
		case back == nil:
			continue
		case led[back] == nil:
			order = append(order, back)
		}
		led[back] = append(led[back], host)
	}
	for _, back := range order {
		for _, h := range back.hops(&r.set) {
			if len(led[back]) < len(hosts) {
				h.Hosts = led[back]
			}
			out = append(out, h)
		}
	}
	return out
}

// askedOf are the names of a site, and those its front asks for that a wildcard of
// the site covers; all of these for the one that answers by default.
func (r *reader) askedOf(f *front, s *kind.Site, usual bool) (out []string) {
	add := func(host string) {
		if len(out) < mostAsked && !slices.Contains(out, host) {
			out = append(out, host)
		}
	}
	wild := usual
	for i := range s.Names {
		add(s.Names[i].Text)
		wild = wild || s.Names[i].Host() == ""
	}
	if !wild {
		return out
	}
	for _, u := range f.rules("use_backend") {
		for _, n := range r.routes.asked(u.in, u, "hdr", "req.hdr", "req.fhdr", "ssl_fc_sni") {
			_, parent, _ := strings.Cut(n.Text, ".")
			if usual ||
				slices.ContainsFunc(s.Names, func(w kind.Name) bool { return slices.Contains(w.Covers, "*."+parent) }) {
				add(n.Text)
			}
		}
	}
	return out
}

// mostAsked is how many names of a site are led to what stands behind it.
const mostAsked = 200

// ledTo is the section a request for a host comes to over TLS; nil when it is
// answered before that. It is false when it cannot be told.
func (r *reader) ledTo(f *front, host string) (*section, bool) {
	w := &walk{tree: r.routes, visitor: &visitor{host: host, sni: host, path: "/", tls: true, vars: map[string]sample{}}}
	back, step := w.chosen(f.section)
	return back, back != nil || step.Handling != kind.Depends
}

// behind are the sections a front may choose, each once.
func (f *front) behind(t *tree) (out []*section) {
	add := func(s *section) {
		if s != nil && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	for _, r := range f.rules("use_backend") {
		if len(out) <= mostHops {
			add(t.backs[r.arg(1)])
		}
	}
	if d := f.setting("default_backend"); d != nil {
		add(t.backs[d.arg(1)])
	}
	if f.kind == "listen" {
		add(f.section)
	}
	return out
}

// plainly tells the names a front knows, and what plain http does for them.
func (r *reader) plainly(f *front) {
	site := &r.out.Sites[f.site]
	const most = 2000
	met := map[string]bool{}
	for _, u := range f.rules("use_backend", "http-request", "redirect") {
		for _, n := range r.routes.asked(u.in, u, "hdr", "req.hdr", "req.fhdr") {
			if len(site.Names) < most && !met[n.Text] {
				site.Names = append(site.Names, n)
			}
			met[n.Text] = true
		}
	}
	hosts := []string{}
	for i := range site.Names {
		hosts = append(hosts, strings.Replace(site.Names[i].Text, "*", "any", 1))
	}
	if len(hosts) == 0 {
		hosts = []string{"_"}
	}
	for _, i := range f.plain {
		l := &r.out.Listeners[i]
		if !l.Network() {
			continue
		}
		for n, host := range hosts {
			if n >= routeNames {
				break
			}
			site.Plain = append(site.Plain, kind.Route{Listener: l.String(), Host: host,
				Front:     r.routes.ask(l, host, l.Address, "/"),
				WellKnown: r.routes.ask(l, host, l.Address, probe),
				Other:     r.routes.ask(l, host, l.Address, otherPath)})
		}
	}
}
