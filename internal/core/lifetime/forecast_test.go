package lifetime_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/core/lifetime"
)

// TestTheLoadOfTheComingYears counts renewals under each limit, lays them apart, and
// holds them against budgets.
func TestTheLoadOfTheComingYears(t *testing.T) {
	from := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	day := func(n int) time.Time { return from.AddDate(0, 0, n) }
	one := lifetime.ForecastAll([]lifetime.Renewing{{CA: "a", Next: day(10), Life: 90 * lifetime.Day, Public: true}}, nil, from)
	assert.Equal(t, []int{0, 200, 100, 47}, []int{one[0].Limit, one[1].Limit, one[2].Limit, one[3].Limit})
	on := func(f lifetime.Forecast) (out []int) {
		for d, n := range f.Days {
			for range n {
				out = append(out, d)
			}
		}
		return out
	}
	assert.Equal(t, []int{10, 70, 130, 190, 250, 310, 370, 430, 490, 550, 610, 670}, on(one[0]), "every 60 days, at two thirds of 90")
	assert.Equal(t, on(one[0]), on(one[2]), "90 days are within 100")
	assert.Greater(t, len(on(one[3])), len(on(one[0])), "and not within 47")
	assert.Equal(t, 6, one[0].Year)

	long := []lifetime.Renewing{{CA: "a", Next: day(0), Life: 398 * lifetime.Day, Early: 30 * lifetime.Day, Public: true}}
	public := on(lifetime.ForecastAll(long, nil, from)[0])
	assert.Equal(t, []int{0, 170, 240, 310}, public[:4], "200 days, then 100 from the day that is set, each 30 days before its end")
	long[0].Public = false
	assert.Equal(t, []int{0, 368}, on(lifetime.ForecastAll(long, nil, from)[3]), "no limit holds for a CA of one's own")
	long[0].Next = day(-5)
	assert.Equal(t, 0, on(lifetime.ForecastAll(long, nil, from)[0])[0], "what is late is done at once")

	var many []lifetime.Renewing
	for range 700 {
		many = append(many, lifetime.Renewing{CA: "a", Next: day(3), Life: 90 * lifetime.Day, Public: true})
	}
	many = append(many, lifetime.Renewing{CA: "b", Next: day(3), Life: 90 * lifetime.Day, Public: true})
	flat := lifetime.ForecastAll(many, map[string]lifetime.Budgeted{"a": {Certificates: 300, Days: 3}, "b": {Certificates: 5, Days: 7}}, from)
	assert.Less(t, flat[0].Peak, 150, "what comes on one day is laid apart within its window of a week")
	a, b := flat[0].CAs[0], flat[0].CAs[1]
	assert.Equal(t, []string{"a", "b"}, []string{a.CA, b.CA})
	assert.InDelta(t, 701*6, flat[0].Year, 100)
	assert.LessOrEqual(t, a.Most, 300)
	assert.Zero(t, a.Over)
	assert.Equal(t, 1, b.Most)
	tight := lifetime.ForecastAll(many, map[string]lifetime.Budgeted{"a": {Certificates: 100, Days: 7}}, from)
	assert.Positive(t, tight[0].CAs[0].Over, "what no budget can carry is said")
	assert.Greater(t, tight[3].CAs[0].Over, tight[0].CAs[0].Over)
	assert.Greater(t, tight[0].CAs[0].Most, 600)
	none := lifetime.ForecastAll(nil, nil, from)
	assert.Len(t, none, 4)
	assert.Zero(t, none[0].Peak)
}

// TestAForecastKeepsItsPromises foresees certificates of every life: none ends before it
// is renewed, none is renewed on the day it came, shorter limits never mean less work,
// and peaks, years and what a budget cannot carry are those of the days.
func TestAForecastKeepsItsPromises(t *testing.T) {
	rnd := rand.New(rand.NewPCG(200, 100))
	from := time.Date(2026, 11, 30, 0, 0, 0, 0, time.UTC)
	load := func(f lifetime.Forecast) (l lifetime.CALoad) {
		for _, l = range f.CAs {
			break
		}
		return l
	}
	for range 400 {
		life := time.Duration(1+rnd.IntN(400)) * lifetime.Day
		r := lifetime.Renewing{CA: "a", Next: from.Add(time.Duration(rnd.IntN(800)-30) * lifetime.Day), Life: life, Public: rnd.IntN(3) > 0}
		if rnd.IntN(2) == 0 {
			r.Early = time.Duration(rnd.IntN(40)) * lifetime.Day // within the life under every limit
		}
		budget := lifetime.Budgeted{Certificates: 1 + rnd.IntN(3), Days: 1 + rnd.IntN(30)}
		all := lifetime.ForecastAll([]lifetime.Renewing{r}, map[string]lifetime.Budgeted{"a": budget}, from)
		before := 0
		for n, f := range all {
			last, sum, year, peak, over := -1, 0, 0, 0, 0
			for day, renewals := range f.Days {
				if renewals > 0 && last >= 0 {
					lives := r.Life
					if r.Public {
						lives = min(lives, lifetime.PublicLimit(from.AddDate(0, 0, last)))
						if f.Limit > 0 {
							lives = min(lives, time.Duration(f.Limit)*lifetime.Day)
						}
					}
					assert.LessOrEqual(t, time.Duration(day-last)*lifetime.Day, max(lives, lifetime.Day), "%+v under %d: from day %d to %d", r, f.Limit, last, day)
				}
				assert.LessOrEqual(t, renewals, 1, "a day has one renewal of one certificate")
				if renewals > 0 {
					last = day
				}
				sum += renewals
				if day < 365 {
					year += renewals
				}
				peak = max(peak, renewals)
				window := 0
				for d := max(0, day-budget.Days+1); d <= day; d++ {
					window += f.Days[d]
				}
				if window > budget.Certificates {
					over++
				}
			}
			assert.Equal(t, []int{year, peak, over}, []int{f.Year, f.Peak, load(f).Over}, "%+v under %d", r, f.Limit)
			if n > 1 { // under 200, 100 and 47 days
				assert.GreaterOrEqual(t, sum, before, "%+v under %d", r, f.Limit)
			}
			before = sum
		}
		if t.Failed() {
			t.FailNow()
		}
	}
}
