package files

import (
	"fmt"
	"slices"

	"insegna.example/internal/core/check"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// opens has sites that have a host's name listen where the default site answers in their
// place, over what is changed so far.
func (m *mender) opens() error {
	type opened struct {
		kind.Opened
		faults []*install.Fault
	}
	opener, can := m.Editor.(kind.Opener)
	var list []*opened
	err := m.each(func(f *install.Fault) error {
		a := m.answers.Answer(f.Host, f.At)
		switch {
		case !can || a.Unsure || a.Site == nil || a.Listener == nil || !a.Listener.TLS:
			m.leave(f, "what answers there cannot be told from the configuration", "see it: insegna server sites "+m.order.Server)
			return nil
		case a.Named:
			m.leave(f, "a site with that name answers there already", "survey the server anew; it may have to be reloaded")
			return nil
		}
		site, reason := m.hidden(f)
		if site == nil {
			m.leave(f, reason, "see it: insegna server sites "+m.order.Server)
			return nil
		}
		w := &opened{kind.Opened{Site: site.Place, Instead: a.Site.Place, Listener: a.Listener.String(), At: f.At}, []*install.Fault{f}}
		if i := slices.IndexFunc(list, func(o *opened) bool { return o.Site == w.Site && o.Listener == w.Listener }); i < 0 {
			list = append(list, w)
		} else {
			list[i].faults = append(list[i].faults, f)
		}
		for _, host := range hostsOf(site) {
			if !m.answers.Answer(host, f.At).Named && !slices.Contains(m.hosts, host) {
				m.hosts = append(m.hosts, host)
			}
		}
		return nil
	}, check.ByOpening)
	if err != nil || len(list) == 0 {
		return err
	}
	return over(m, list, func(before *kind.Edits, list []*opened) (*kind.Edits, error) {
		all := make([]kind.Opened, len(list))
		for i, w := range list {
			all[i] = w.Opened
			all[i].Site, all[i].Instead = before.Site(w.Site), before.Site(w.Instead)
		}
		return opener.Open(kind.Overlaid(m.shadow, before.Files), m.Main, all)
	}, func(w *opened) ([]*install.Fault, []kind.Place, string) {
		return w.faults, []kind.Place{w.Site}, fmt.Sprintf("have %s listen at %s, where %s answers in its place", w.Site, w.Listener, w.Instead)
	})
}

// hidden is the one site in force that has a host's name, listens elsewhere alone, and shows
// a certificate that fits; else why there is none.
func (m *mender) hidden(f *install.Fault) (found *kind.Site, reason string) {
	reason = "no site in force has the name " + f.Host + " and a certificate that fits"
	for _, at := range m.answers.Elsewhere(f.Host) {
		site := m.site(at)
		if site == nil || len(site.Pairs) == 0 || site.Pairs[0].AtRunTime {
			continue
		}
		if err := m.order.Fit(f.Host, m.parsed(m.reading.Sent(&site.Pairs[0]))); err != nil {
			reason = fmt.Sprintf("the site at %s has that name, and its certificate does not fit: %v", site.Place, err)
			continue
		}
		if found != nil {
			return nil, fmt.Sprintf("which of two sites is to answer, %s or %s, is for a person to say", found.Place, site.Place)
		}
		found = site
	}
	return found, reason
}
