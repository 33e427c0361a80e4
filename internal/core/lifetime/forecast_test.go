package lifetime_test

import (
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
