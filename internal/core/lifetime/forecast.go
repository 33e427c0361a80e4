package lifetime

import (
	"cmp"
	"slices"
	"time"
)

// Renewing is what a forecast has to know of a certificate that is renewed by itself.
type Renewing struct {
	CA    string        // it comes from
	Next  time.Time     // when it is renewed next
	Life  time.Duration // of the certificates its CA gives now
	Early time.Duration // before its end that it is renewed; 0 for a third of its life
	// Public says that the limits of public CAs hold for it
	Public bool
}

// Horizon is how far a forecast looks, in days.
const Horizon = 730

// ComingLimits are those a forecast is made under, in days, besides how things are:
// those the CA/Browser Forum has set (PublicLimit).
var ComingLimits = []int{200, 100, 47}

// Forecast is how many renewals each day brings.
type Forecast struct {
	Limit  int   // days a public certificate lives at most; 0 as things are now and will be by the dates that are set
	Days   []int // renewals on each day from the first one on
	Peak   int   // most on one day
	PeakAt int   // that day
	Year   int   // renewals in the first 365 days
	CAs    []CALoad
}

// CALoad is what a forecast asks of one CA.
type CALoad struct {
	CA     string
	Year   int // certificates in the first 365 days
	Most   int // in as many days as its budget has, at the worst
	MostAt int // the first of these days
	Budget int // certificates it gives in them; 0 where that is not known
	Span   int // those days; 0 where no budget is declared
	Over   int // days, counted by their spans' beginnings, on which it would have to give more
}

// Budgeted is a CA's budget.
type Budgeted struct{ Certificates, Days int }

// ForecastAll works out all of them: as things are, and under each coming limit as if
// it were in force at once. Renewals are laid within the window they may take place
// in, on the day with the fewest, so that peaks are flattened.
func ForecastAll(list []Renewing, budgets map[string]Budgeted, from time.Time) []Forecast {
	out := make([]Forecast, 0, 1+len(ComingLimits))
	for _, limit := range append([]int{0}, ComingLimits...) {
		out = append(out, forecast(list, budgets, from.UTC().Truncate(Day), limit))
	}
	return out
}

// forecast works one out.
func forecast(list []Renewing, budgets map[string]Budgeted, from time.Time, limit int) Forecast {
	f := Forecast{Limit: limit, Days: make([]int, Horizon)}
	byCA := map[string][]int{}
	for i := range list {
		r := &list[i]
		days := byCA[r.CA]
		if days == nil {
			days = make([]int, Horizon)
			byCA[r.CA] = days
		}
		at := max(r.Next.Sub(from), 0)
		for at < Horizon*Day {
			life := r.lifeAt(from.Add(at), limit)
			day := lightest(days, at, life/12)
			days[day]++
			f.Days[day]++
			at = time.Duration(day)*Day + max(life-r.earlyOf(life), Day)
		}
	}
	for day, n := range f.Days {
		if n > f.Peak {
			f.Peak, f.PeakAt = n, day
		}
		if day < 365 {
			f.Year += n
		}
	}
	for ca, days := range byCA {
		f.CAs = append(f.CAs, loadOf(ca, days, budgets[ca]))
	}
	slices.SortFunc(f.CAs, func(a, b CALoad) int { return cmp.Compare(a.CA, b.CA) })
	return f
}

// lifeAt is how long a certificate issued at a time lives.
func (r *Renewing) lifeAt(at time.Time, limit int) time.Duration {
	life := max(r.Life, Day)
	if !r.Public {
		return life
	}
	life = min(life, PublicLimit(at))
	if limit > 0 {
		life = min(life, time.Duration(limit)*Day)
	}
	return life
}

// earlyOf is how long before its end a certificate is renewed. What was said for longer
// lives than it has does not hold any more.
func (r *Renewing) earlyOf(life time.Duration) time.Duration {
	if r.Early > 0 && r.Early < life {
		return r.Early
	}
	return life / 3
}

// lightest is the day with the fewest renewals of a window that begins at a time.
func lightest(days []int, at, window time.Duration) int {
	first := int(at / Day)
	best := first
	for day := first + 1; day <= min(int((at+window)/Day), len(days)-1); day++ {
		if days[day] < days[best] {
			best = day
		}
	}
	return best
}

// loadOf holds what a CA has to give against its budget.
func loadOf(ca string, days []int, b Budgeted) CALoad {
	l := CALoad{CA: ca, Budget: b.Certificates, Span: b.Days}
	for day, n := range days {
		if day < 365 {
			l.Year += n
		}
	}
	span, sum := max(b.Days, 1), 0
	for day, n := range days {
		if sum += n; day >= span {
			sum -= days[day-span]
		}
		if sum > l.Most {
			l.Most, l.MostAt = sum, max(day-span+1, 0)
		}
		if b.Certificates > 0 && sum > b.Certificates {
			l.Over++
		}
	}
	return l
}
