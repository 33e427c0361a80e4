package lifetime_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/lifetime"
)

// TestTheRhythmOfReplacements finds how long before its end certificates are replaced, also
// where their lives grow shorter.
func TestTheRhythmOfReplacements(t *testing.T) {
	begin := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	replaced := func(days, left int, key bool) lifetime.Replacement {
		end := begin.Add(time.Duration(days) * lifetime.Day).Add(-time.Second) // RFC 5280 counts the last second
		return lifetime.Replacement{NotBefore: begin, NotAfter: end, At: end.Add(-time.Duration(left) * lifetime.Day), Issuer: "CA", SameIssuer: true, NewKey: key}
	}
	_, ok := lifetime.RhythmOf([]lifetime.Replacement{replaced(90, 30, true)})
	assert.False(t, ok, "once is no rhythm")
	r, ok := lifetime.RhythmOf([]lifetime.Replacement{replaced(90, 33, true), replaced(90, 27, false), replaced(90, 30, true)})
	require.True(t, ok)
	assert.Equal(t, [3]int{3, 2, 0}, [3]int{r.Times, r.NewKeys, r.Issuers})
	for days, want := range map[int]int{90: 30, 45: 15} {
		end := begin.Add(time.Duration(days) * lifetime.Day).Add(-time.Second)
		assert.InDelta(t, want, r.Before(begin, end).Hours()/24, 0.1)
		latest := end.Add(-time.Duration(27*days/90) * lifetime.Day).Add(max(lifetime.Day, time.Duration(days)*lifetime.Day/20))
		_, late := r.Late(begin, end, latest.Add(-13*time.Hour))
		assert.False(t, late, "the latest that ever was, and a little")
		since, late := r.Late(begin, end, latest.Add(13*time.Hour))
		assert.True(t, late)
		assert.WithinDuration(t, latest, since, 13*time.Hour)
	}
	r, ok = lifetime.RhythmOf([]lifetime.Replacement{replaced(90, -2, false), replaced(90, 5, false)})
	require.True(t, ok)
	end := begin.Add(90 * lifetime.Day)
	_, late := r.Late(begin, end, end.Add(lifetime.Day))
	assert.False(t, late, "who comes after the end is never late")
}
