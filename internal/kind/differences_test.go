package kind_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/kind"
)

// site makes a site with names, in a file.
func site(file string, line int, names ...string) kind.Site {
	s := kind.Site{Place: kind.Place{File: file, Line: line}, Asked: []string{"443"}}
	for _, n := range names {
		s.Names = append(s.Names, kind.Name{Text: n})
	}
	return s
}

// TestWhatIsNotTheSame compares readings: what moves is no change, sites are known
// again by what they say, and everything else is told once, in its own terms.
func TestWhatIsNotTheSame(t *testing.T) {
	a, b := site("/a", 1, "a.example"), site("/b", 1, "b.example")
	reading := func(sites ...kind.Site) *kind.Reading { return &kind.Reading{Sites: sites} }
	with := func(s kind.Site, change func(*kind.Site)) kind.Site {
		change(&s)
		return s
	}
	moved := with(a, func(s *kind.Site) { s.Line = 90 })
	for name, c := range map[string]struct {
		before, after *kind.Reading
		want          []string
	}{
		"nothing":          {reading(a, b), reading(a, b), nil},
		"lines move":       {reading(a), reading(moved), nil},
		"the order":        {reading(a, b), reading(b, a), nil},
		"a name comes":     {reading(a), reading(with(a, func(s *kind.Site) { s.Names = append(s.Names, kind.Name{Text: "c"}) })), []string{"site a.example: names a.example > names a.example, c"}},
		"to another file":  {reading(a), reading(with(a, func(s *kind.Site) { s.File = "/z" })), []string{"site a.example: in /a > in /z"}},
		"a site comes":     {reading(a), reading(a, b), []string{"site b.example: > names b.example; listens at 443"}},
		"a site goes":      {reading(a, b), reading(b), []string{"site a.example: names a.example; listens at 443 >"}},
		"twice the same":   {reading(a, a), reading(a), []string{"site a.example: names a.example; listens at 443 >"}},
		"switched off":     {reading(a, b), &kind.Reading{Sites: []kind.Site{b}, Idle: []kind.Site{a}}, []string{"site a.example: without that > is not switched on"}},
		"a hop is guarded": {reading(with(a, func(s *kind.Site) { s.Hops = []kind.Hop{{To: "x", TLS: true}} })), reading(with(a, func(s *kind.Site) { s.Hops = []kind.Hop{{To: "x", TLS: true, Checked: true}} })), []string{"site a.example: passes on to x over TLS > passes on to x over TLS, verified"}},
		"handshakes end":   {reading(a), reading(with(a, func(s *kind.Site) { s.Refuses = true })), []string{"site a.example: without that > refuses handshakes"}},
		"a certificate": {&kind.Reading{Material: map[string]*kind.Material{"/c": {Chain: []string{"one", "ca"}, Mode: 0o600}}},
			&kind.Reading{Material: map[string]*kind.Material{"/c": {Chain: []string{"two", "ca"}, Mode: 0o600}}},
			[]string{"certificate /c: certificate one > certificate two"}},
		"rights of a key": {&kind.Reading{Material: map[string]*kind.Material{"/k": {Public: "p", Mode: 0o600}}},
			&kind.Reading{Material: map[string]*kind.Material{"/k": {Public: "p", Mode: 0o644}}},
			[]string{"certificate /k: mode 0600 > mode 0644"}},
		"a text": {&kind.Reading{Files: []kind.File{{Path: "/f", Text: "one\ntwo\n", InForce: true}}},
			&kind.Reading{Files: []kind.File{{Path: "/f", Text: "one\n2\n", InForce: true}}}, []string{"file /f: two > 2"}},
		"a link leads elsewhere": {&kind.Reading{Files: []kind.File{{Path: "/f", Link: "/x", InForce: true}}},
			&kind.Reading{Files: []kind.File{{Path: "/f", Link: "/y", InForce: true}}},
			[]string{"file /f: 0 lines, a link to /x > 0 lines, a link to /y"}},
		"a problem ends": {&kind.Reading{Problems: []kind.Problem{{Place: kind.Place{File: "/f", Line: 3}, Message: "odd", Effect: kind.Suspect}}},
			&kind.Reading{}, []string{"problem /f: odd: suspect >"}},
		"a problem moves": {&kind.Reading{Problems: []kind.Problem{{Place: kind.Place{File: "/f", Line: 3}, Message: "odd"}}},
			&kind.Reading{Problems: []kind.Problem{{Place: kind.Place{File: "/f", Line: 9}, Message: "odd"}}}, nil},
		"who answers by default": {&kind.Reading{Sites: []kind.Site{a, b}, Listeners: []kind.Listener{{Unknown: "l", Sites: []int{0, 1}, TLS: true, Protocol: kind.HTTP}}},
			&kind.Reading{Sites: []kind.Site{a, b}, Listeners: []kind.Listener{{Unknown: "l", Sites: []int{0, 1}, Default: 1, TLS: true, Protocol: kind.HTTP}}},
			[]string{"listener l: http over TLS, by default a.example > http over TLS, by default b.example"}},
	} {
		var got []string
		for _, d := range kind.Differences(c.before, c.after) {
			text := fmt.Sprintf("%s %s:", d.What, d.Which)
			for _, part := range []string{d.Before, ">", d.After} {
				if part != "" {
					text += " " + part
				}
			}
			got = append(got, text)
		}
		assert.Equal(t, c.want, got, name)
	}
}
