package lifetime_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/core/lifetime"
)

// TestADrillInOrder lays work out: the worst first, by what budgets and other CAs give.
func TestADrillInOrder(t *testing.T) {
	end := time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	one := func(name string, bindings, days int, cas ...string) lifetime.Replaced {
		return lifetime.Replaced{Mandate: name, Bindings: bindings, Ends: end.AddDate(0, 0, days), CAs: cas}
	}
	list := []lifetime.Replaced{one("few", 1, 3, "harbour"), one("soon", 5, 1, "harbour"), one("later", 5, 2, "harbour"), one("many", 90, 9, "harbour", "beacon"), one("none", 50, 1)}
	list = append(list, lifetime.Replaced{Mandate: "desk", Bindings: 70, Ends: end, CAs: []string{"desk"}, Person: "asked by hand"})
	cas := map[string]lifetime.Giving{"harbour": {Left: 1, Most: 2, Span: 7 * lifetime.Day, Each: 10 * time.Second}, "beacon": {Left: -1, Each: time.Minute}}
	d := lifetime.PlanDrill(list, cas, 2, time.Hour)
	var got []string
	for _, w := range d.Work {
		got = append(got, fmt.Sprintf("%s %s %s", w.Mandate, w.CA, w.At))
	}
	assert.Equal(t, []string{"many harbour 10s", "soon harbour 168h0m10s", "later harbour 168h0m10s", "few harbour 336h0m10s", "desk  0s", "none  0s"}, got)
	assert.Equal(t, []any{3, 2, 336*time.Hour + 10*time.Second, map[string]int{"harbour": 4}}, []any{d.Late, d.Persons, d.Done, d.ByCA})

	cas["harbour"] = lifetime.Giving{Left: 0, Most: 2, Span: lifetime.Day, Each: time.Second}
	d = lifetime.PlanDrill(list[3:4], cas, 1, time.Hour)
	assert.Equal(t, "beacon", d.Work[0].CA, "what a budget holds up is had elsewhere")
	assert.Equal(t, time.Minute, d.Done)

	var many []lifetime.Replaced
	for i := range 10 {
		many = append(many, one(fmt.Sprintf("m%02d", i), 1, 1, "beacon"))
	}
	d = lifetime.PlanDrill(many, cas, 3, time.Hour)
	assert.Equal(t, 4*time.Minute, d.Done, "three at a time")
	assert.Equal(t, "m00", d.Work[0].Mandate)
	assert.Zero(t, d.Late)
}

// TestADrillKeepsWhatIsGiven plans drills of every shape: nothing is lost or done twice, no
// CA gives more than its budget in any of its spans, no more orders go at once than may,
// and what is said of time is that of the work.
func TestADrillKeepsWhatIsGiven(t *testing.T) {
	rnd := rand.New(rand.NewPCG(18, 47))
	for round := range 300 {
		cas := map[string]lifetime.Giving{}
		names := []string{"a", "b", "c"}[:1+rnd.IntN(3)]
		for _, ca := range names {
			cas[ca] = lifetime.Giving{Left: rnd.IntN(6) - 1, Most: 1 + rnd.IntN(5), Span: time.Duration(1+rnd.IntN(4)) * time.Hour,
				Each: time.Duration(1+rnd.IntN(90)) * time.Second}
		}
		list := make([]lifetime.Replaced, rnd.IntN(60))
		persons := 0
		for i := range list {
			list[i] = lifetime.Replaced{Mandate: fmt.Sprint(i), Bindings: rnd.IntN(4), Ends: time.Unix(int64(rnd.IntN(5)), 0)}
			if rnd.IntN(5) > 0 {
				list[i].CAs = names[rnd.IntN(len(names)):]
			}
			if rnd.IntN(9) == 0 {
				list[i].Person = "asked by hand"
			}
			if list[i].Person != "" || len(list[i].CAs) == 0 {
				persons++
			}
		}
		atOnce, within := 1+rnd.IntN(4), time.Duration(rnd.IntN(5))*time.Hour
		d := lifetime.PlanDrill(list, cas, atOnce, within)

		var got []lifetime.Replaced
		type span struct {
			ca string
			n  time.Duration
		}
		given, by, late, done := map[span]int{}, map[string]int{}, 0, time.Duration(0)
		var begun []lifetime.Drilled
		for i, w := range d.Work {
			got = append(got, w.Replaced)
			if i >= len(list)-persons {
				assert.Equal(t, lifetime.Drilled{Replaced: w.Replaced}, w, "for a person")
				continue
			}
			assert.Contains(t, w.CAs, w.CA)
			if i > 0 {
				assert.GreaterOrEqual(t, d.Work[i-1].Bindings, w.Bindings, "the worst first")
			}
			start := w.At - cas[w.CA].Each
			given[span{w.CA, start / cas[w.CA].Span}]++
			by[w.CA]++
			begun = append(begun, w)
			if done = max(done, w.At); w.At > within {
				late++
			}
		}
		assert.ElementsMatch(t, list, got, "each once")
		assert.Equal(t, []any{late, persons, done, by}, []any{d.Late, d.Persons, d.Done, d.ByCA})
		for _, w := range begun {
			start, beside := w.At-cas[w.CA].Each, 0
			for _, o := range begun {
				if from := o.At - cas[o.CA].Each; from <= start && start < o.At {
					beside++
				}
			}
			assert.LessOrEqual(t, beside, atOnce, "orders at once")
		}
		for ca, g := range cas {
			if g.Left < 0 {
				continue
			}
			sum, most := 0, g.Left // what was begun by the end of each span, and may have been
			for n := range time.Duration(80) {
				sum += given[span{ca, n}]
				assert.LessOrEqual(t, sum, most, "the budget of %s in span %d", ca, n)
				most += g.Most
			}
		}
		if t.Failed() {
			t.Fatalf("round %d: %d at once of %+v from %+v", round, atOnce, list, cas)
		}
	}
}
