package lifetime

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Replaced is a certificate that has to be replaced.
type Replaced struct {
	Mandate  string    // whose it is
	CAs      []string  // it may be ordered from, the preferred first; none where there is none left
	Bindings int       // that show it
	Ends     time.Time // by itself
	Person   string    // why somebody has to do it; "" where it goes by itself
}

// Giving is what a CA gives, as it is now.
type Giving struct {
	Left int           // certificates its budget still has; -1 for no limit
	Most int           // it gives in Span
	Span time.Duration // of its budget
	Each time.Duration // that one order takes, as measured
}

// Drilled is one certificate in the order of work.
type Drilled struct {
	Replaced
	CA string        // it is ordered from; "" for one a person replaces
	At time.Duration // from the beginning, when it is there
}

// Drill is a plan to replace many certificates.
type Drill struct {
	Work    []Drilled // by itself, in the order of work, and then what is for people
	Done    time.Duration
	Late    int // that come after the time there is
	Persons int
	ByCA    map[string]int // certificates each gives
}

// PlanDrill lays out how certificates are replaced within a time: those that most
// bindings show come first, then those that end soonest. So many orders go at once. A CA
// gives what its budget has left at once, and the rest when a span of it has gone by; of
// several CAs the one that has it first is asked.
func PlanDrill(list []Replaced, cas map[string]Giving, atOnce int, within time.Duration) *Drill {
	work := slices.Clone(list)
	slices.SortStableFunc(work, func(a, b Replaced) int {
		return cmp.Or(cmp.Compare(b.Bindings, a.Bindings), a.Ends.Compare(b.Ends), strings.Compare(a.Mandate, b.Mandate))
	})
	d := &Drill{ByCA: map[string]int{}, Work: make([]Drilled, 0, len(work))}
	var people []Drilled
	for i := range work {
		r := &work[i]
		if r.Person != "" || len(r.CAs) == 0 {
			people = append(people, Drilled{Replaced: *r})
			continue
		}
		ca, from := "", time.Duration(0)
		for _, name := range r.CAs {
			at := cas[name].opens(d.ByCA[name])
			if ca == "" || at < from {
				ca, from = name, at
			}
		}
		d.ByCA[ca]++
		d.Work = append(d.Work, Drilled{*r, ca, from})
	}
	d.time(cas, max(atOnce, 1), within)
	d.Persons = len(people)
	d.Work = append(d.Work, people...)
	return d
}

// time says of all that goes by itself when it is there, from when its CA gives it: so
// many orders go at once, and what waits for a budget keeps nothing else from going.
func (d *Drill) time(cas map[string]Giving, atOnce int, within time.Duration) {
	turns := make([]*Drilled, len(d.Work))
	for i := range d.Work {
		turns[i] = &d.Work[i]
	}
	slices.SortStableFunc(turns, func(a, b *Drilled) int { return cmp.Compare(a.At, b.At) })
	lanes := make([]time.Duration, atOnce) // when each is free
	for _, w := range turns {
		free := 0
		for n := range lanes {
			if lanes[n] < lanes[free] {
				free = n
			}
		}
		w.At = max(lanes[free], w.At) + cas[w.CA].Each
		lanes[free] = w.At
		d.Done = max(d.Done, w.At)
		if w.At > within {
			d.Late++
		}
	}
}

// opens is when a CA gives one more, after so many of this drill.
func (g Giving) opens(given int) time.Duration {
	if g.Left < 0 || given < g.Left || g.Most <= 0 {
		return 0
	}
	return time.Duration(1+(given-g.Left)/g.Most) * g.Span
}
