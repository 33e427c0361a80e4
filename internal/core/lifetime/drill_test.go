package lifetime_test

import (
	"fmt"
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
