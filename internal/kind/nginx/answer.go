package nginx

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/expression"
	"insegna.example/internal/kind/source"
)

// nameExpression compiles a name "~…": letters in both cases match alike as
// soon as a capital stands in it.
func nameExpression(pattern string) (*expression.Expression, error) {
	if strings.ToLower(pattern) != pattern {
		pattern = "(?i)" + pattern
	}
	return expression.Compile(pattern)
}

// matching is how a name is compared with a host.
type matching string

// The ways of matching, in the order of their precedence.
const (
	exact    matching = "exact"
	leading  matching = "leading wildcard"
	trailing matching = "trailing wildcard"
	regular  matching = "regular expression"
)

// matchingOf says how a name is compared, by the way it is written.
func matchingOf(text string) matching {
	switch stars := strings.Count(text, "*"); {
	case strings.HasPrefix(text, "~"):
		return regular
	case strings.HasPrefix(text, "*.") && len(text) > 2 && stars == 1, strings.HasPrefix(text, ".") && len(text) > 1 &&
		stars == 0:
		return leading
	case strings.HasSuffix(text, ".*") && len(text) > 2 && stars == 1:
		return trailing
	}
	return exact
}

// covers lists what a certificate has to list for a name.
func covers(text string) []string {
	switch matchingOf(text) {
	case exact:
		if text == "" || text == "_" { // no host has these names
			return nil
		}
		return []string{text}
	case leading:
		if apex, both := strings.CutPrefix(text, "."); both {
			return []string{apex, "*." + apex}
		}
		return []string{text}
	}
	return nil
}

// Index answers which site takes a name, for one reading.
type Index struct {
	reading *kind.Reading    // it answers for
	tables  []table          // one a listener
	ports   map[uint16][]int // listeners by port
	idle    []table          // one a site not in force

	parsed  sync.Once // of what follows, which only plain http needs
	tree    *tree
	servers map[kind.Place]*Directive   // blocks of sites
	outer   map[*Directive][]*Directive // what stands around each of them
	walking sync.Mutex                  // the tree counts the steps of its walks

	keys *source.Keys // kinds of key of certificates
}

// table is what one listener compares a name with.
type table struct {
	exact, leading, trailing map[string]entry // names by how they match, the wildcards without their star
	apex                     map[string]entry // ".name" matches the name itself as well
	regex                    []patterned      // in the order of the file
	unsure                   bool             // an expression is not understood
}

// entry is a name in a table, and the site that has it.
type entry struct {
	site int        // index among the reading's sites
	name *kind.Name // as it stands in the file
}

// patterned is a name that is a regular expression; these are tried in the
// order of the file.
type patterned struct {
	entry
	re *expression.Expression // compiled, with its time limit
}

// NewIndex prepares the answers of a reading.
func NewIndex(r *kind.Reading) *Index {
	x := &Index{reading: r, tables: make([]table, len(r.Listeners)), ports: map[uint16][]int{}, keys: source.NewKeys(r)}
	for i := range r.Listeners {
		l := &r.Listeners[i]
		x.tables[i] = tableOf(r, l, nil)
		x.ports[l.Address.Port()] = append(x.ports[l.Address.Port()], i)
	}
	for i := range r.Idle {
		x.idle = append(x.idle, tableOfOne(&r.Idle[i]))
	}
	return x
}

// tableOf fills a listener's table in the order of its sites; lost is told of
// every name another site has already, which nginx ignores.
func tableOf(r *kind.Reading, l *kind.Listener, lost func(mine, theirs *kind.Name)) table {
	t := table{exact: map[string]entry{}, leading: map[string]entry{}, trailing: map[string]entry{},
		apex: map[string]entry{}}
	for _, s := range l.Sites {
		site := &r.Sites[s]
		for i := range site.Names {
			n := &site.Names[i]
			if theirs := t.add(entry{s, n}); theirs != nil && lost != nil {
				lost(n, theirs)
			}
		}
	}
	return t
}

// add takes a name in and gives the one that has its place already.
func (t *table) add(e entry) *kind.Name {
	text := e.name.Text
	into := t.exact
	switch matchingOf(text) {
	case regular:
		re, err := nameExpression(text[1:])
		if err != nil {
			t.unsure = true
		}
		t.regex = append(t.regex, patterned{e, re})
		return nil
	case trailing:
		into, text = t.trailing, strings.TrimSuffix(text, ".*")
	case leading:
		if text[0] == '.' {
			return t.addDotted(e)
		}
		into, text = t.leading, text[2:]
	default:
		if had, ok := t.apex[text]; ok {
			return had.name
		}
		if strings.Contains(text, "*") {
			return nil // refused by nginx
		}
	}
	if had, ok := into[text]; ok {
		return had.name
	}
	into[text] = e
	return nil
}

// addDotted takes in ".name". It loses as a whole when either of its two parts is
// taken.
func (t *table) addDotted(e entry) *kind.Name {
	text := e.name.Text[1:]
	for _, taken := range []map[string]entry{t.exact, t.apex, t.leading} {
		if had, ok := taken[text]; ok {
			return had.name
		}
	}
	t.apex[text], t.leading[text] = e, e
	return nil
}

// find compares a host with a table: exact, longest leading wildcard, longest
// trailing wildcard, regular expressions in order.
func (t *table) find(host string) (e entry, found, unsure bool) {
	if e, ok := t.exact[host]; ok {
		return e, true, false
	}
	if e, ok := t.apex[host]; ok {
		return e, true, false
	}
	for rest := host; ; {
		_, after, more := strings.Cut(rest, ".")
		if !more {
			break
		}
		if e, ok := t.leading[after]; ok {
			return e, true, false
		}
		rest = after
	}
	for rest := host; ; {
		at := strings.LastIndexByte(rest, '.')
		if at < 0 {
			break
		}
		rest = rest[:at]
		if e, ok := t.trailing[rest]; ok {
			return e, true, false
		}
	}
	for _, x := range t.regex {
		if x.re == nil {
			return entry{}, false, true
		}
		if ok, err := x.re.MatchString(host); err != nil {
			return entry{}, false, true
		} else if ok {
			return x.entry, true, false
		}
	}
	return entry{}, false, t.unsure
}

// Listener finds the listener a connection to an address and port comes to:
// the one with that very address before one for every address.
func (x *Index) Listener(at netip.AddrPort) int {
	found := -1
	for _, i := range x.ports[at.Port()] {
		l := &x.reading.Listeners[i]
		if !l.Takes(at) {
			continue
		}
		if !l.Address.Addr().IsUnspecified() {
			return i
		}
		if found < 0 || !l.Both {
			found = i
		}
	}
	return found
}

// Answer implements kind.Answers.
func (x *Index) Answer(host string, at netip.AddrPort) kind.Answer {
	a := x.answer(host, at)
	if a.Site == nil {
		return a
	}
	// A site that names no certificate leaves the visitor with that of the
	// listener's default.
	// So does a visitor who names no host, even where a site has the empty name:
	// that is for requests, and comes after the handshake.
	if a.Shown = a.Site; host == "" || len(a.Site.Pairs) == 0 && !a.Site.Refuses {
		a.Shown = &x.reading.Sites[a.Listener.Default]
	}
	v := &values{reading: x.reading, family: a.Shown.Protocol, host: strings.TrimSuffix(strings.ToLower(host), "."),
		site: a.Shown, port: a.Listener.Address.Port()}
	a.Pairs = x.keys.Usable(a.Shown, x.keys.Lasting(x.chosen(a.Shown.Pairs, v)))
	return a
}

// answer chooses as nginx does: the listener by address and port, then the site
// by exact name, longest wildcard before, longest wildcard after, first
// expression, and else the listener's default.
func (x *Index) answer(host string, at netip.AddrPort) kind.Answer {
	i := x.Listener(at)
	if i < 0 {
		return kind.Answer{Why: fmt.Sprintf("no site listens at %s", at)}
	}
	return x.at(i, host, followsLimit)
}

// at is the answer of one listener; left bounds how often one may pass TLS on to
// another.
func (x *Index) at(i int, host string, left int) kind.Answer {
	l := &x.reading.Listeners[i]
	a := kind.Answer{Listener: l, Site: &x.reading.Sites[l.Default]}
	if a.Site.Through != nil && !l.TLS {
		return x.follow(l, a.Site, host, left)
	}
	if l.Protocol == kind.TCP || len(l.Sites) == 1 && !hasCaptures(a.Site) {
		a.Why = fmt.Sprintf("it is the only site at %s", l)
		a.Named = l.Protocol == kind.TCP || named(a.Site, host) != nil
		return a
	}
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	if e, ok := x.tables[i].exact[""]; ok && host == "" {
		a.Site, a.Named = &x.reading.Sites[e.site], true
		a.Why = fmt.Sprintf("no name is asked for, and it has the empty name (%s)", e.name.Place)
		return a
	}
	if _, err := netip.ParseAddr(host); host != "" && err != nil {
		e, found, unsure := x.tables[i].find(host)
		switch {
		case found:
			a.Site, a.Named = &x.reading.Sites[e.site], true
			a.Why = fmt.Sprintf("its name %s (%s) matches", e.name.Text, matchingOf(e.name.Text))
			return a
		case unsure:
			return kind.Answer{Listener: l, Unsure: true, Why: "a regular expression at this listener is not understood here"}
		}
	}
	what := "no name is asked for"
	if host != "" {
		what = "no site there has the name " + host
	}
	if a.Why = what + ", and it is the first site at " + l.String(); l.Chosen {
		a.Why = what + ", and it is the default_server of " + l.String()
	}
	return a
}

// named finds the name of a site that matches a host, nil when none does.
func named(site *kind.Site, host string) *kind.Name {
	t := tableOfOne(site)
	if e, found, _ := t.find(strings.ToLower(host)); found {
		return e.name
	}
	return nil
}

// tableOfOne is the table of a single site, for asking whether it names a host
// at all.
func tableOfOne(site *kind.Site) table {
	return tableOf(&kind.Reading{Sites: []kind.Site{*site}}, &kind.Listener{Sites: []int{0}}, nil)
}

// hasCaptures says whether a name's expression sets variables, on which the
// rest of the site may depend.
func hasCaptures(site *kind.Site) bool {
	for _, n := range site.Names {
		if matchingOf(n.Text) == regular && strings.Contains(n.Text, "(") {
			return true
		}
	}
	return false
}

// elsewhereMost is how many sites Elsewhere gives.
const elsewhereMost = 3

// Elsewhere finds the places of sites in force that have a host's name at any
// listener.
func (x *Index) Elsewhere(host string) (out []kind.Place) {
	met := map[int]bool{}
	for i := range x.tables {
		if e, found, _ := x.tables[i].find(host); found && !met[e.site] && len(out) < elsewhereMost {
			met[e.site] = true
			out = append(out, x.reading.Sites[e.site].Place)
		}
	}
	return out
}

// Idle finds the sites in files not in force that name a host.
func (x *Index) Idle(host string) []*kind.Site {
	var out []*kind.Site
	for i := range x.idle {
		if _, found, _ := x.idle[i].find(host); found {
			out = append(out, &x.reading.Idle[i])
		}
	}
	return out
}

// settle finishes listeners and names when all sites are known.
func (r *reader) settle() {
	type seen struct{ taken, free int }
	counts := map[*kind.Name]*seen{}
	for i := range r.out.Listeners {
		l := &r.out.Listeners[i]
		l.TLS = l.TLS || r.sslOn[l.Default]
		for _, s := range l.Sites {
			for n := range r.out.Sites[s].Names {
				c := counts[&r.out.Sites[s].Names[n]]
				if c == nil {
					c = &seen{}
					counts[&r.out.Sites[s].Names[n]] = c
				}
				c.free++
				r.strangeName(l, &r.out.Sites[s].Names[n])
			}
		}
		tableOf(r.out, l, func(mine, theirs *kind.Name) {
			if mine.File == theirs.File && mine.Line == theirs.Line {
				return // said twice in one directive
			}
			counts[mine].taken++
			r.problem(mine.Place, kind.Suspect, "each name at one site a listener",
				"the name %s at %s is ignored: %s has it already", mine.Text, l, theirs.Place)
		})
		r.bareListener(l)
		r.sealedKeys(l)
	}
	for n, c := range counts {
		n.Ignored = n.Ignored || c.taken > 0 && c.taken == c.free
	}
}

// sealedKeys tells keys under a passphrase that nobody is there to type.
func (r *reader) sealedKeys(l *kind.Listener) {
	for _, s := range l.Sites {
		site := &r.out.Sites[s]
		if !l.TLS || site.Passphrases {
			continue
		}
		for _, p := range site.Pairs {
			if m := r.out.Material[p.Key]; m != nil && m.Fault == certs.ErrEncrypted.Error() &&
				!slices.ContainsFunc(r.problems, func(o kind.Problem) bool { return o.Place == p.KeyPlace }) {
				r.problem(p.KeyPlace, kind.Refused, "ssl_password_file, or a key that is not encrypted",
					"the key %s is encrypted, and nobody is there to type its passphrase", p.Key)
			}
		}
	}
}

// strangeName tells a name with stars where none may be. nginx takes it as
// long as no other site is at the listener, for then it compares no names.
func (r *reader) strangeName(l *kind.Listener, n *kind.Name) {
	if matchingOf(n.Text) != exact || n.Ignored || !strings.Contains(n.Text, "*") && !strings.Contains(n.Text, "..") {
		return
	}
	effect := kind.Suspect
	if len(l.Sites) > 1 {
		effect = kind.Refused
	}
	r.problem(n.Place, effect, goodName, "invalid name %s", shown(n.Text))
}

// bareListener tells a TLS listener whose default site has no certificate,
// which nginx refuses.
func (r *reader) bareListener(l *kind.Listener) {
	def := &r.out.Sites[l.Default]
	if l.TLS && len(def.Pairs) == 0 && !def.Refuses {
		r.problem(l.Place, kind.Refused, "ssl_certificate in the default site",
			"%s speaks TLS, and its default site (%s) names no certificate", l, def.Place)
	}
}
