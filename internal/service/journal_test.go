package service_test

import (
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
)

func verify(t *testing.T, r *servicetest.Running, expect string) *client.JournalVerification {
	params := &client.VerifyJournalParams{}
	if expect != "" {
		params.Expect = &expect
	}
	resp, err := r.Client.VerifyJournalWithResponse(t.Context(), params)
	require.NoError(t, err)
	require.NotNil(t, resp.JSON200, string(resp.Body))
	return resp.JSON200
}

// TestTheJournalKeepsWhatWasDone applies files, some of them at once, and holds
// that each act has its entry, that the database refuses to change one, and
// that one changed behind its back shows.
func TestTheJournalKeepsWhatWasDone(t *testing.T) {
	r := servicetest.Start(t)
	root := pkitest.CA("root", nil)
	entered := verify(t, r, "").Entries // of the keeper's coming
	r.Apply(t, estateText(1), root)
	r.Apply(t, estateText(1), root)
	first := verify(t, r, "")
	assert.Equal(t, entered+1, first.Entries, "what changes nothing is no act")
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() { r.Apply(t, estateText(uint16(10+i)), root) })
	}
	all.Wait()
	v := verify(t, r, first.Head)
	assert.True(t, v.Whole)
	assert.Equal(t, entered+9, v.Entries)
	bad, err := r.Client.PreviewEstateWithResponse(t.Context(), servicetest.File("estate: x", root))
	require.NoError(t, err)
	require.Nil(t, bad.JSON200)
	assert.Equal(t, v.Entries, verify(t, r, "").Entries, "what fails is no act")

	var met []int64
	for params := (&client.ListJournalParams{Limit: ptr(4)}); ; {
		page, err := r.Client.ListJournalWithResponse(t.Context(), params)
		require.NoError(t, err)
		for _, e := range page.JSON200.Items {
			met = append(met, e.Id)
			assert.Equal(t, servicetest.Keeper, e.Actor)
			if e.Id > entered {
				assert.Equal(t, "estate.apply", e.Action)
				assert.Contains(t, e.Detail, `"estate":"Ferries"`)
			}
		}
		if params.Cursor = page.JSON200.NextCursor; params.Cursor == nil {
			break
		}
	}
	require.Len(t, met, int(v.Entries))
	assert.True(t, slices.IsSortedFunc(met, func(a, b int64) int { return int(b - a) }), met)

	conn, err := pgx.Connect(t.Context(), r.Database)
	require.NoError(t, err)
	defer func() { _ = conn.Close(t.Context()) }()
	for _, sql := range []string{"update journal set actor = 'eve'", "delete from journal", "truncate journal"} {
		_, err := conn.Exec(t.Context(), sql)
		assert.ErrorContains(t, err, "the journal is append-only")
	}
	tamper := func(sql string) *client.JournalVerification {
		for _, s := range []string{"alter table journal disable trigger journal_append_only", sql,
			"alter table journal enable trigger journal_append_only"} {
			_, err := conn.Exec(t.Context(), s)
			require.NoError(t, err)
		}
		return verify(t, r, v.Head)
	}
	cut := tamper("delete from journal where id = (select max(id) from journal)")
	assert.False(t, cut.Whole)
	assert.Nil(t, cut.BrokenAt)
	assert.Contains(t, *cut.Reason, "taken off its end")
	assert.True(t, verify(t, r, "").Whole, "without the noted hash that cannot be seen")
	changed := tamper("update journal set subject = 'other.yaml' where id = 5")
	assert.Equal(t, int64(5), *changed.BrokenAt)
	assert.Equal(t, int64(4), changed.Entries)
	assert.Equal(t, "not what was written", (*changed.Reason)[strings.Index(*changed.Reason, "not "):])
}
