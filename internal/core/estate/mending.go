package estate

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
)

// MendingRule lets findings mend themselves without a person being asked.
type MendingRule struct {
	Codes    []string      // of the findings
	Servers  []string      // by name; none for all
	From, To time.Duration // since midnight by the clock of the service's machine; alike for the whole day
	Place    Place         // in the estate file
}

// At says whether it is a rule's time: from its first hour to before its last, which may
// be on the next day.
func (m *MendingRule) At(t time.Time) bool {
	since := time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute
	switch {
	case m.From == m.To:
		return true
	case m.From < m.To:
		return m.From <= since && since < m.To
	}
	return m.From <= since || since < m.To
}

// Fits says whether it is for a code's findings on a server.
func (m *MendingRule) Fits(code, server string) bool {
	return slices.Contains(m.Codes, code) && (len(m.Servers) == 0 || slices.Contains(m.Servers, server))
}

// Hours writes a rule's hours as an estate file has them.
func (m *MendingRule) Hours() string {
	clock := func(d time.Duration) string { return fmt.Sprintf("%02d:%02d", int(d.Hours()), int(d.Minutes())%60) }
	return clock(m.From) + "-" + clock(m.To)
}

// mending reads a rule.
func (r *reader) mending(n *yaml.Node) {
	m := MendingRule{Place: r.place(n)}
	texts := func(into *[]string, what string) func(*yaml.Node) {
		return func(n *yaml.Node) {
			r.list(n, "a list of "+what+"s", func(n *yaml.Node) {
				if text, ok := r.text(n, "the name of a "+what); ok && slices.Contains(*into, text) {
					r.fault(r.place(n), "each once", "%q stands twice", clip(text))
				} else if ok {
					*into = append(*into, text)
				}
			})
		}
	}
	r.fields(n, "mending",
		field{"codes", true, texts(&m.Codes, "code")},
		field{"hours", true, func(n *yaml.Node) { r.hours(n, &m) }},
		field{"servers", false, texts(&m.Servers, "server")},
	)
	r.estate.Mending = append(r.estate.Mending, m)
}

// resolveMending holds the servers of rules against those declared.
func (r *reader) resolveMending() {
	for i := range r.estate.Mending {
		m := &r.estate.Mending[i]
		for _, name := range m.Servers {
			if r.estate.Server(name) == nil {
				r.fault(m.Place, "servers of this file", "no server %q is declared", clip(name))
			}
		}
	}
}

// hours reads two times of the day.
func (r *reader) hours(n *yaml.Node, m *MendingRule) {
	const expected = "hours such as 01:00-05:00"
	text, ok := r.text(n, expected)
	if !ok {
		return
	}
	first, last, _ := strings.Cut(text, "-")
	for clock, into := range map[string]*time.Duration{first: &m.From, last: &m.To} {
		t, err := time.Parse("15:04", strings.TrimSpace(clock))
		if err != nil {
			r.fault(r.place(n), expected, "bad hours %q", clip(text))
			return
		}
		*into = time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute
	}
}

// mendingItem tells what mends itself, and when.
func mendingItem(m MendingRule) item {
	return item{strings.Join(m.Codes, ", "), m.Place, [][2]string{{"hours", m.Hours()}, {"servers", strings.Join(m.Servers, ", ")}}}
}
