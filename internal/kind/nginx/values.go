package nginx

import (
	"fmt"
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

// Limits of what is worked out from variables.
const (
	mapDepth     = 8   // maps that ask maps
	mostLookups  = 200 // variables that are looked up for one text
	longestValue = 4096
	chosenLimit  = 500 // files a variable may stand for that are looked at
	followsLimit = 4   // listeners that pass TLS on to one another
)

// chooser reads a map block: one value for each key (ngx_http_map_module).
func (r *reader) chooser(d *Directive, family string) {
	name, isVariable := strings.CutPrefix(d.Arg(1), "$")
	if !isVariable || d.Stop.Raw != "{" {
		return
	}
	m := kind.Chooser{Protocol: protocols[family], Name: name, By: d.Arg(0)}
	r.each(d.Block, func(d *Directive) {
		key, value := d.Name(), d.Arg(0)
		switch {
		case len(d.Words) == 1 && key == "hostnames":
			m.Hosts = true
		case len(d.Words) == 1 && key == "volatile", key == "include":
		case key == "default":
			m.Default = value
		default:
			m.Choices = append(m.Choices, [2]string{strings.TrimPrefix(key, `\`), value})
		}
	})
	r.out.Choosers = append(r.out.Choosers, m)
}

// group reads the servers of an upstream block.
func (r *reader) group(d *Directive, family string) {
	var servers []string
	r.each(d.Block, func(d *Directive) {
		if d.Name() == "server" {
			servers = append(servers, d.Arg(0))
		}
	})
	if r.out.Groups == nil {
		r.out.Groups = map[string][]string{}
	}
	r.out.Groups[family+" "+d.Arg(0)] = servers
}

// values are the variables that are known when a visitor says a name in the
// first message of TLS.
type values struct {
	reading *kind.Reading
	family  kind.Protocol
	host    string     // asked for, "" for none
	site    *kind.Site // that answers
	port    uint16     // of the listener
	preread bool       // the name is read before anything else is known
	lookups int        // made so far, of mostLookups
	// captures are of the expression that matched last
	captures *regexp2.Match
}

// expand puts in every variable; ok is false when one is not known before the
// running server meets the visitor.
func (v *values) expand(text string, depth int) (out string, ok bool) {
	var b strings.Builder
	for {
		at := strings.IndexByte(text, '$')
		if at < 0 {
			return b.String() + text, true
		}
		b.WriteString(text[:at])
		name, rest := variable(text[at+1:])
		value, known := v.of(name, depth)
		if v.lookups++; !known || v.lookups > mostLookups || b.Len()+len(value) > longestValue {
			return "", false
		}
		b.WriteString(value)
		text = rest
	}
}

// of gives one variable.
func (v *values) of(name string, depth int) (string, bool) {
	switch name {
	case "ssl_server_name":
		return v.host, !v.preread
	case "ssl_preread_server_name":
		return v.host, v.preread
	case "server_name":
		return firstName(v.site), v.family == kind.HTTP
	case "server_port":
		return strconv.Itoa(int(v.port)), true
	}
	if depth == 0 {
		return "", false
	}
	for i := range v.reading.Choosers {
		if m := &v.reading.Choosers[i]; m.Name == name && m.Protocol == v.family {
			return v.choose(m, depth-1)
		}
	}
	return v.captured(name)
}

// choose looks a value up in a map: the exact key, then the longest wildcard
// before and after for host names, then expressions in their order, then the
// default.
func (v *values) choose(m *kind.Chooser, depth int) (string, bool) {
	key, ok := v.expand(m.By, depth)
	if !ok {
		return "", false
	}
	t := table{exact: map[string]entry{}, leading: map[string]entry{}, trailing: map[string]entry{},
		apex: map[string]entry{}}
	for i, c := range m.Choices {
		text := strings.ToLower(c[0])
		switch how := matchingOf(text); {
		case how == regular:
		case m.Hosts || how == exact:
			t.add(entry{i, &kind.Name{Text: text}})
		case text == strings.ToLower(key): // without hostnames a star is a star
			return v.expand(c[1], depth)
		}
	}
	if e, found, _ := t.find(strings.ToLower(key)); found {
		return v.expand(m.Choices[e.site][1], depth)
	}
	for _, c := range m.Choices {
		pattern, isRegular := strings.CutPrefix(c[0], "~")
		if !isRegular {
			continue
		}
		if without, any := strings.CutPrefix(pattern, "*"); any {
			pattern = "(?i)" + without
		}
		re, err := expression.Compile(pattern)
		if err != nil {
			return "", false
		}
		if found, err := re.FindStringMatch(key); err != nil {
			return "", false
		} else if found != nil {
			v.captures = found
			return v.expand(c[1], depth)
		}
	}
	return v.expand(m.Default, depth)
}

// captured gives what the last expression of a map that matched has taken out of
// its key. Those of server_name are not set yet when a certificate is chosen.
func (v *values) captured(name string) (string, bool) {
	if v.captures == nil {
		return "", false
	}
	if g := v.captures.GroupByName(name); g != nil && g.Name == name {
		return g.String(), true
	}
	return "", false
}

// chosen gives the pairs a site shows for a host, those named by variables with
// the files the variables come to.
func (x *Index) chosen(list []kind.Pair, v *values) []kind.Pair {
	if !slices.ContainsFunc(list, func(p kind.Pair) bool { return p.AtRunTime }) {
		return list
	}
	out := slices.Clone(list)
	for i := range out {
		p := &out[i]
		if !p.AtRunTime {
			continue
		}
		certificate, known := v.expand(p.Certificate, mapDepth)
		key, keyKnown := v.expand(p.Key, mapDepth)
		if !known || !keyKnown {
			continue
		}
		certificate, key = x.absolute(certificate), x.absolute(key)
		if x.reading.Material[certificate] == nil || x.reading.Material[key] == nil {
			continue // not among the files that were read
		}
		p.Certificate, p.Key, p.AtRunTime, p.EachTime = certificate, key, false, true
	}
	return out
}

// absolute is a path as the reading has it.
func (x *Index) absolute(p string) string {
	if path.IsAbs(p) {
		return path.Clean(p)
	}
	return path.Join(path.Dir(x.reading.Main), p)
}

// choices lists the files that the variables in a path may stand for: those of
// the site's own names and those maps can give, which have to be there, and all
// that fit the pattern, which may.
func (r *reader) choices(site *kind.Site, text string) (named, fit []string) {
	into := &named
	take := func(p string) {
		if p == "" || strings.Contains(p, "$") || strings.HasPrefix(p, inlineData) || len(*into) >= chosenLimit {
			return
		}
		if full, outside := r.full(p); !outside {
			*into = append(*into, full)
		}
	}
	for i := range site.Names {
		for _, host := range site.Names[i].Covers {
			v := &values{reading: r.out, family: site.Protocol, host: host, site: site}
			if p, ok := v.expand(text, mapDepth); ok {
				take(p)
			}
		}
	}
	if name, rest := variable(strings.TrimPrefix(text, "$")); strings.HasPrefix(text, "$") && rest == "" {
		for i := range r.out.Choosers {
			if m := &r.out.Choosers[i]; m.Name == name {
				take(m.Default)
				for _, c := range m.Choices {
					take(c[1])
				}
			}
		}
		return named, nil
	}
	into = &fit
	var pattern strings.Builder
	for rest := text; ; {
		at := strings.IndexByte(rest, '$')
		if at < 0 {
			pattern.WriteString(rest)
			break
		}
		pattern.WriteString(rest[:at] + "*")
		_, rest = variable(rest[at+1:])
	}
	full, outside := r.full(pattern.String())
	if outside || !narrow(full) {
		return named, nil
	}
	found, err := r.glob(full, kind.Place{})
	if err != nil {
		return named, nil
	}
	for _, p := range found {
		take(p)
	}
	return named, fit
}

// narrow says whether a pattern leads into one folder, or the folders of one: not
// all over the machine.
func narrow(pattern string) bool {
	const mostWild = 2
	parts := strings.Split(strings.Trim(pattern, "/"), "/")
	wild := 0
	for _, p := range parts {
		if strings.Contains(p, "*") {
			wild++
		}
	}
	return wild <= mostWild && !strings.Contains(parts[0], "*")
}

// follow finds what ends TLS where a listener passes the bytes on as they are:
// another listener of this server, or something this configuration says nothing
// of.
func (x *Index) follow(l *kind.Listener, site *kind.Site, host string, left int) kind.Answer {
	where := fmt.Sprintf("TLS is passed on as it comes (%s)", site.Through.Place)
	v := &values{reading: x.reading, family: kind.TCP, host: host, site: site, port: l.Address.Port(),
		preread: site.Preread}
	to, known := v.expand(site.Through.To, mapDepth)
	if !known {
		return kind.Answer{Listener: l, Unsure: true,
			Why: fmt.Sprintf("%s to %s, which only the running server can tell", where, shown(site.Through.To))}
	}
	servers := x.reading.Groups["stream "+to]
	if len(servers) == 0 {
		servers = []string{to}
	}
	inner := -1
	for _, s := range servers {
		i := x.own(s)
		if i < 0 || inner >= 0 && inner != i {
			return kind.Answer{Listener: l, Unsure: true,
				Why: fmt.Sprintf("%s to %s, and ended there", where, shown(strings.Join(servers, ", ")))}
		}
		inner = i
	}
	if left == 0 {
		return kind.Answer{Listener: l, Unsure: true, Why: where + " in a circle"}
	}
	a := x.at(inner, host, left-1)
	a.Why = fmt.Sprintf("%s to %s, where %s", where, &x.reading.Listeners[inner], a.Why)
	return a
}

// own finds the listener of this server behind an address it passes on to: only
// a socket, or an address that no other machine can have. -1 for none.
func (x *Index) own(text string) int {
	if socket, ok := strings.CutPrefix(text, "unix:"); ok {
		return slices.IndexFunc(x.reading.Listeners, func(l kind.Listener) bool { return l.Socket == socket })
	}
	if port, ok := strings.CutPrefix(text, "localhost:"); ok {
		text = "127.0.0.1:" + port
	}
	at, err := netip.ParseAddrPort(text)
	if err != nil || !at.Addr().IsLoopback() {
		return -1
	}
	return x.Listener(at)
}

// keyKindsOf are the kinds of key that can be used where TLS 1.3 is left out and
// the suites are written one by one; nil for all.
func keyKindsOf(versions, suites *Directive) []string {
	if versions == nil || suites == nil ||
		slices.ContainsFunc(versions.Args(), func(w Word) bool { return w.Text == "TLSv1.3" }) {
		return nil
	}
	return source.SuiteKinds(suites.Arg(0))
}
