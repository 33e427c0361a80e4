package files

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"strings"

	"insegna.example/internal/core/check"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// together works out edits for several things. One that stands in the way is left, and
// the others go on; the error is one for which none goes.
func together[T any](list []T, edit func([]T) (*kind.Edits, error), leave func(T, *kind.EditError)) ([]T, *kind.Edits, error) {
	for len(list) > 0 {
		edits, err := edit(list)
		var in *kind.EditError
		if err == nil {
			return list, edits, nil
		} else if !errors.As(err, &in) {
			return nil, nil, err
		}
		kept := make([]T, 0, len(list))
		for _, x := range list { // each is tried alone
			if _, err := edit([]T{x}); errors.As(err, &in) {
				leave(x, in)
			} else if err != nil {
				return nil, nil, err
			} else {
				kept = append(kept, x)
			}
		}
		if len(kept) == len(list) { // together they do not go
			return nil, nil, in
		}
		list = kept
	}
	return nil, nil, nil
}

// asked is what becomes of plain http at the address a fault was found at.
type asked struct {
	at   netip.AddrPort
	site *kind.Site
	step kind.Step // of check.Kept
	port []kind.Listener
}

// plainly asks for a fault's host in plain http; false when what becomes of that cannot
// be told.
func (m *mender) plainly(answers kind.Answers, f *install.Fault, way string) (asked, bool) {
	at := netip.AddrPortFrom(f.At.Addr(), m.order.Plain(f.Host))
	a := answers.Answer(f.Host, at)
	step, is := answers.Plain(f.Host, at, way)
	if !is || a.Site == nil || a.Listener == nil {
		return asked{at: at}, false
	}
	return asked{at, a.Site, step, []kind.Listener{*a.Listener}}, true
}

// redirect is the status and the address a step leads to; 0 for one that leads nowhere.
func redirect(s *kind.Step) (status int, to string) {
	if s.Handling != kind.Redirects {
		return 0, ""
	}
	return s.Status, s.To
}

// led is a site whose visitors are to be led to https, for some faults.
type led struct {
	kind.Led
	at     []kind.Listener
	faults []*install.Fault
}

// leads leads visitors of plain http to https, over what is changed so far.
func (m *mender) leads() error {
	leader, can := m.Editor.(kind.Leader)
	var list []*led
	err := m.each(func(f *install.Fault) error {
		q, is := m.plainly(m.answers, f, check.Kept)
		if !can || !is || q.step.Handling == kind.Depends {
			m.leave(f, "what becomes of visitors of plain http at "+q.at.String()+" cannot be told from the configuration",
				"see it: insegna server sites "+m.order.Server)
			return nil
		}
		status, to := redirect(&q.step)
		code, _ := check.Led(f.Host, status, to)
		if code == "" {
			m.leave(f, "visitors of plain http are led to https already", "survey the server anew; it may have to be reloaded")
			return nil
		}
		if other := m.astray(f, q.site, to); code == check.RedirectLoses && other != "" {
			m.leave(f, fmt.Sprintf("%s leads visitors of %s to %s, which is no name of its site: whether that is meant cannot be told",
				q.step.Place, f.Host, other), "if it is not meant, change that line by hand")
			return nil
		}
		l := &led{kind.Led{Site: q.site.Place, Hosts: []string{f.Host}, Port: f.At.Port(), Loses: code != check.RedirectTemporary},
			q.port, []*install.Fault{f}}
		if status != 0 {
			l.Line = q.step.Place
		}
		if i := slices.IndexFunc(list, func(o *led) bool { return o.Site == l.Site && o.Line == l.Line && o.Port == l.Port }); i < 0 {
			list = append(list, l)
		} else {
			list[i].join(l)
		}
		return nil
	}, check.ByLead)
	if err != nil || len(list) == 0 {
		return err
	}
	list = m.grouped(list)
	return over(m, list, func(before *kind.Edits, list []*led) (*kind.Edits, error) {
		all := make([]kind.Led, len(list))
		for i, l := range list {
			all[i] = l.Led
			all[i].Site, all[i].Line = before.Site(l.Site), m.moved(before, l.Line)
		}
		return leader.Lead(kind.Overlaid(m.shadow, before.Files), m.Main, all)
	}, func(l *led) ([]*install.Fault, []kind.Place, string) {
		return l.faults, []kind.Place{l.Site}, fmt.Sprintf("lead visitors of plain http from %s to https", l.Site)
	})
}

// grouped are the sites to change: a line is corrected where nobody else comes to it, and all
// else of a site is done with it at once.
func (m *mender) grouped(list []*led) (out []*led) {
	comers := map[netip.AddrPort]map[kind.Place]map[string]bool{}
	for _, l := range list {
		for i := range l.at {
			at := l.at[i].Address
			if l.Line.Known() && comers[at] == nil {
				comers[at] = m.reading.Comers(m.answers, &l.at[i])
			}
			for host := range comers[at][l.Line] {
				if !slices.Contains(l.Hosts, host) { // he would be led differently as well
					l.Line = kind.Place{}
				}
			}
		}
		i := slices.IndexFunc(out, func(o *led) bool { return o.Site == l.Site && !o.Line.Known() && !l.Line.Known() })
		switch {
		case i < 0:
			out = append(out, l)
		case out[i].Port != l.Port:
			for _, f := range l.faults {
				m.leave(f, fmt.Sprintf("visitors of one site would have to be led to two ports, %d and %d", out[i].Port, l.Port), "mend one first")
			}
		default:
			out[i].join(l)
		}
	}
	return out
}

// join takes the hosts of another fault of the same site in.
func (l *led) join(o *led) {
	l.faults = append(l.faults, o.faults...)
	for _, h := range o.Hosts {
		if !slices.Contains(l.Hosts, h) {
			l.Hosts = append(l.Hosts, h)
		}
	}
	for i := range o.at {
		if !slices.ContainsFunc(l.at, func(x kind.Listener) bool { return x.Address == o.at[i].Address }) {
			l.at = append(l.at, o.at[i])
		}
	}
	l.Loses = l.Loses || o.Loses
}

// astray is the host a redirect leads to where that is neither a name of the site that
// redirects nor of the one that answers over TLS; "" where it is one, or none is named.
func (m *mender) astray(f *install.Fault, site *kind.Site, to string) string {
	u, err := url.Parse(to)
	if err != nil || u.Hostname() == "" {
		return ""
	}
	own := hostsOf(site)
	if a := m.answers.Answer(f.Host, f.At); a.Site != nil {
		own = append(own, hostsOf(a.Site)...)
	}
	if other := strings.ToLower(u.Hostname()); !slices.Contains(own, other) && other != strings.ToLower(f.Host) {
		return other
	}
	return ""
}

// moved is a line after edits; none where its file was changed.
func (m *mender) moved(edits *kind.Edits, line kind.Place) kind.Place {
	for _, file := range edits.Files {
		if at, err := kind.Resolved(m.Over.FS(), line.File); err != nil || at == file.Path {
			return kind.Place{}
		}
	}
	return line
}

// over works out edits over what is changed so far, for things that are for some faults.
func over[T any](m *mender, list []T, edit func(before *kind.Edits, list []T) (*kind.Edits, error),
	about func(T) (faults []*install.Fault, sites []kind.Place, does string)) error {
	before := m.edits
	list, edits, err := together(list, func(list []T) (*kind.Edits, error) { return edit(before, list) },
		func(x T, in *kind.EditError) {
			faults, _, _ := about(x)
			for _, f := range faults {
				m.leave(f, in.Error(), in.Remedy)
			}
		})
	if err != nil || edits == nil {
		return err
	}
	for _, x := range list {
		faults, sites, does := about(x)
		for _, f := range faults {
			m.does[f.Finding] = does
			if by := f.By(); by == check.ByLead || by == check.ByPath {
				m.hosts = append(m.hosts, f.Host)
			}
		}
		for _, site := range sites {
			m.wanted = append(m.wanted, kind.Wanted{Site: site})
		}
	}
	m.edits = before.Then(edits)
	return nil
}

// frees has sites serve what a CA asks for, before all other rules.
func (m *mender) frees() error {
	type freed struct {
		kind.Freed
		faults []*install.Fault
	}
	var list []*freed
	err := m.each(func(f *install.Fault) error {
		q, is := m.plainly(m.answers, f, probe)
		mandate, listener := m.order.Proof(f.Host)
		switch {
		case !is:
			m.leave(f, "what becomes of a CA's request at "+q.at.String()+" cannot be told from the configuration",
				"see it: insegna server sites "+m.order.Server)
			return nil
		case mandate == "":
			m.leave(f, "no mandate is proved there for "+f.Host, "survey the server anew")
			return nil
		case m.proved(&q.step, listener):
			m.leave(f, "a CA gets its answer there already", "survey the server anew; it may have to be reloaded")
			return nil
		}
		w := &freed{kind.Freed{Site: q.site.Place, Hosts: []string{f.Host}, Listener: listener,
			Proofs: path.Join(path.Dir(m.Main), "insegna", mandate, "proofs")}, []*install.Fault{f}}
		i := slices.IndexFunc(list, func(o *freed) bool { return o.Site == w.Site })
		switch {
		case i < 0:
			list = append(list, w)
		case list[i].Proofs != w.Proofs || list[i].Listener != w.Listener:
			m.leave(f, "two mandates are proved over the same site", "mend one first")
		default:
			list[i].faults = append(list[i].faults, f)
			if !slices.Contains(list[i].Hosts, f.Host) {
				list[i].Hosts = append(list[i].Hosts, f.Host)
			}
		}
		return nil
	}, check.ByPath)
	if err != nil || len(list) == 0 {
		return err
	}
	return over(m, list, func(before *kind.Edits, list []*freed) (*kind.Edits, error) {
		all := make([]kind.Freed, len(list))
		for i, w := range list {
			all[i] = w.Freed
			all[i].Site = before.Site(w.Site)
		}
		return m.Editor.Free(kind.Overlaid(m.shadow, before.Files), m.Main, all)
	}, func(w *freed) ([]*install.Fault, []kind.Place, string) {
		return w.faults, []kind.Place{w.Site}, fmt.Sprintf("have %s serve what a CA asks for, before all other rules", w.Site)
	})
}

// proved says whether a CA gets its answer by a step.
func (m *mender) proved(s *kind.Step, listener string) bool {
	return s.Handling == kind.Serves || s.Handling == kind.Passes && listener != "" && s.To == listener
}

// provePlain takes out what would not mend a fault in plain http, and notes where the
// others are to be seen.
func (m *mender) provePlain(answers kind.Answers, f *install.Fault) {
	a := answers.Answer(f.Host, f.At)
	switch {
	case a.Listener == nil || !a.Listener.TLS || !a.Named || len(a.Pairs) == 0:
		m.inVain(f, fmt.Sprintf("no line of the configuration has TLS answer at %s for %s", f.At, f.Host), "take it to https first")
		return
	case f.By() == check.ByLead:
		if err := m.order.Fit(f.Host, m.parsed(m.after.Sent(&a.Pairs[0]))); err != nil {
			m.inVain(f, fmt.Sprintf("visitors would be led to %s, where %s does not fit: %v", f.At, a.Pairs[0].Certificate, err),
				"mend that first, or with it: insegna finding mend --host "+f.Host)
			return
		}
	}
	way := map[bool]string{true: check.Kept, false: probe}[f.By() == check.ByLead]
	q, _ := m.plainly(answers, f, way)
	b := install.Binding{Host: f.Host, At: q.at, Plain: way}
	if f.By() == check.ByPath {
		_, listener := m.order.Proof(f.Host)
		if !m.proved(&q.step, listener) {
			m.inVain(f, "with the lines that could be added, a CA would not get its answer either", "write them by hand, before every other rule")
			return
		}
		if q.step.Handling == kind.Serves {
			b.Wants = []string{"404", "200"} // nobody has put the file there, and some show a page for that
			m.seenAt(b)
		}
		return
	}
	status, to := redirect(&q.step)
	if code, do := check.Led(f.Host, status, to); code != "" {
		m.inVain(f, "with the lines that could be added, visitors would not be led to https either", do)
		return
	}
	if u, err := url.Parse(to); err != nil || u.Port() != "" && u.Port() != fmt.Sprint(f.At.Port()) {
		m.inVain(f, "visitors would be led to "+to+", and not to "+f.At.String(), "change the line by hand")
		return
	}
	b.Wants = []string{fmt.Sprintf("%d %s", status, to)}
	m.seenAt(b)
}
