package journal_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/journal"
)

func chain(n int) []journal.Entry {
	var out []journal.Entry
	var before journal.Hash
	for i := range n {
		e := journal.Entry{ID: int64(i + 1), At: time.UnixMicro(int64(i) * 1000), Actor: "ada", Action: "estate.apply",
			Subject: "estate.yaml", Detail: `{"n":1}`, Before: before}
		e.Hash = e.Sum()
		before = e.Hash
		out = append(out, e)
	}
	return out
}

func check(list []journal.Entry) (c journal.Check, err error) {
	for i := range list {
		if err = c.Next(&list[i]); err != nil {
			return c, err
		}
	}
	return c, nil
}

// TestEveryKindOfTamperingShows changes a journal in each way and names the
// entry where that is seen.
func TestEveryKindOfTamperingShows(t *testing.T) {
	whole := chain(5)
	c, err := check(whole)
	require.NoError(t, err)
	assert.Equal(t, int64(5), c.Entries)
	assert.Equal(t, whole[4].Hash, c.Head)
	for name, x := range map[string]struct {
		change func([]journal.Entry) []journal.Entry
		at     int64
		why    string
	}{
		"another actor": {
			func(l []journal.Entry) []journal.Entry { l[2].Actor = "eve"; return l }, 3, "not what was written"},
		"another time": {
			func(l []journal.Entry) []journal.Entry { l[2].At = l[2].At.Add(time.Second); return l }, 3, "not what was written"},
		"another detail": {
			func(l []journal.Entry) []journal.Entry { l[0].Detail = "{}"; return l }, 1, "not what was written"},
		"fields shifted": {
			func(l []journal.Entry) []journal.Entry { l[1].Actor, l[1].Action = "adae", "state.apply"; return l }, 2,
			"not what was written"},
		"one taken out": {
			func(l []journal.Entry) []journal.Entry { return slices.Delete(l, 2, 3) }, 3, "it is missing, entry 4 follows"},
		"one put in": {func(l []journal.Entry) []journal.Entry {
			e := l[1]
			e.ID = 3
			e.Hash = e.Sum()
			return slices.Insert(l, 2, e)
		}, 3, "does not follow the entry before"},
		"one with its hash made anew": {
			func(l []journal.Entry) []journal.Entry { l[1].Actor = "eve"; l[1].Hash = l[1].Sum(); return l }, 3,
			"does not follow the entry before"},
		"the first gone": {func(l []journal.Entry) []journal.Entry { return l[1:] }, 1, "it is missing, entry 2 follows"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := check(x.change(chain(5)))
			var broken *journal.BrokenError
			require.ErrorAs(t, err, &broken)
			assert.Equal(t, x.at, broken.ID)
			assert.Contains(t, broken.Reason, x.why)
		})
	}
}
