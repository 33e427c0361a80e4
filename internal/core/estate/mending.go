package estate

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// MendingRule lets findings mend themselves without a person being asked.
type MendingRule struct {
	Codes   []string // of the findings
	Servers []string // by name; none for all
	Among            // whose hosts they are about; nothing asked for takes in those about a server
	Hours            // in which they do
	Place   Place    // in the estate file
}

// Mends says whether it is for a code's findings on a server, about something.
func (m *MendingRule) Mends(code, server string, about Belongs) bool {
	return slices.Contains(m.Codes, code) && (len(m.Servers) == 0 || slices.Contains(m.Servers, server)) && m.Fits(about)
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
	r.fields(n, "mending", append(r.among(&m.Among),
		field{"codes", true, texts(&m.Codes, "code")},
		field{"hours", true, func(n *yaml.Node) { r.hours(n, &m.Hours) }},
		field{"servers", false, texts(&m.Servers, "server")},
	)...)
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

// mendingItem tells what mends itself, and when.
func mendingItem(m MendingRule) item {
	return item{strings.Join(m.Codes, ", "), m.Place, [][2]string{{"hours", m.Hours.String()}, {"servers", strings.Join(m.Servers, ", ")},
		{"about", m.Among.String()}}}
}
