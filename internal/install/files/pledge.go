package files

import (
	"fmt"
	"slices"

	"insegna.example/internal/core/check"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
)

// pledges has sites tell browsers to come over TLS alone, over what is changed so far.
func (m *mender) pledges() error {
	type pledged struct {
		kind.Pledged
		faults []*install.Fault
	}
	pledger, can := m.Editor.(kind.Pledger)
	var list []*pledged
	err := m.each(func(f *install.Fault) error {
		a := m.answers.Answer(f.Host, f.At)
		switch {
		case !can || a.Unsure || a.Site == nil || a.Listener == nil || !a.Listener.TLS:
			m.leave(f, "what answers over TLS there cannot be told from the configuration", "see it: insegna server sites "+m.order.Server)
			return nil
		case !a.Named:
			m.leave(f, "no site there has the name "+f.Host, "give it one first: insegna https "+f.Host)
			return nil
		}
		w := &pledged{kind.Pledged{Site: a.Site.Place, Listener: a.Listener.Place, Hosts: []string{f.Host}, Days: m.order.Days},
			[]*install.Fault{f}}
		if i := slices.IndexFunc(list, func(o *pledged) bool { return o.Site == w.Site && o.Listener == w.Listener }); i < 0 {
			list = append(list, w)
		} else {
			list[i].faults = append(list[i].faults, f)
			if !slices.Contains(list[i].Hosts, f.Host) {
				list[i].Hosts = append(list[i].Hosts, f.Host)
			}
		}
		return nil
	}, check.ByPledge)
	if err != nil || len(list) == 0 {
		return err
	}
	return over(m, list, func(before *kind.Edits, list []*pledged) (*kind.Edits, error) {
		all := make([]kind.Pledged, len(list))
		for i, w := range list {
			all[i] = w.Pledged
			all[i].Site = before.Site(w.Site)
		}
		return pledger.Pledge(kind.Overlaid(m.shadow, before.Files), m.Main, all)
	}, func(w *pledged) ([]*install.Fault, []kind.Place, string) {
		return w.faults, []kind.Place{w.Site}, fmt.Sprintf("have %s send %s: %s", w.Site, kind.StrictTransport, w.Value())
	})
}

// provePledge takes out what browsers should not be told: they would come over TLS alone to
// where that does not go well, or was never led to (RFC 6797 section 7.2).
func (m *mender) provePledge(answers kind.Answers, f *install.Fault) {
	a := answers.Answer(f.Host, f.At)
	if len(a.Pairs) == 0 {
		m.inVain(f, "no certificate is shown there", "give it one first: insegna https "+f.Host)
		return
	}
	if err := m.order.Fit(f.Host, m.parsed(m.after.Sent(&a.Pairs[0]))); err != nil && m.order.Days > 0 {
		m.inVain(f, fmt.Sprintf("the certificate %s does not fit: %v", a.Pairs[0].Certificate, err), "mend that first")
		return
	}
	if q, is := m.plainly(answers, f, check.Kept); is && m.order.Days > 0 {
		status, to := redirect(&q.step)
		if code, do := check.Led(f.Host, status, to); code != "" && (q.step.Handling != kind.Answered || q.step.Status < 400) {
			m.inVain(f, fmt.Sprintf("visitors of plain http at %s are not led to https as they should be", q.at), do+"; mend that first")
			return
		}
	}
	w := kind.Pledged{Days: m.order.Days}
	m.seenAt(install.Binding{Host: f.Host, At: f.At, Header: kind.StrictTransport, Wants: []string{w.Value()}})
}
