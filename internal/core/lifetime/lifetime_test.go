package lifetime_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/core/lifetime"
)

func TestPublicLimitFollowsTheIssueDate(t *testing.T) {
	for day, days := range map[string]int{"2026-03-14": 398, "2026-03-15": 200, "2027-03-14": 200, "2027-03-15": 100,
		"2029-03-14": 100, "2029-03-15": 47} {
		at, err := time.Parse(time.DateOnly, day)
		assert.NoError(t, err)
		assert.Equal(t, time.Duration(days)*lifetime.Day, lifetime.PublicLimit(at), day)
	}
}

func TestBothEndSecondsCount(t *testing.T) {
	start := time.Date(2026, 4, 1, 0, 0, 0, 0, time.UTC)
	assert.Equal(t, 90*lifetime.Day, lifetime.Validity(start, start.Add(90*lifetime.Day-time.Second)))
	assert.Equal(t, 90*lifetime.Day+time.Second, lifetime.Validity(start, start.Add(90*lifetime.Day)))
}

func TestDaysLeft(t *testing.T) {
	end := time.Date(2026, 4, 10, 12, 0, 0, 0, time.UTC)
	for before, want := range map[time.Duration]int{49 * time.Hour: 2, 47 * time.Hour: 1, time.Hour: 0, 0: 0,
		-time.Hour: -1, -25 * time.Hour: -1, -73 * time.Hour: -3} {
		assert.Equal(t, want, lifetime.DaysLeft(end, end.Add(-before)), before)
	}
}

func TestDueWindowIsAThirdOfALifeAtMostTwoWeeks(t *testing.T) {
	start := time.Date(2026, 4, 1, 0, 0, 0, 0, time.UTC)
	for days, want := range map[int]time.Duration{6: 2 * lifetime.Day, 30: 10 * lifetime.Day, 47: 14 * lifetime.Day,
		90: 14 * lifetime.Day, 398: 14 * lifetime.Day} {
		end := start.Add(time.Duration(days)*lifetime.Day - time.Second)
		assert.Equal(t, want, lifetime.DueWindow(start, end), days)
	}
}
