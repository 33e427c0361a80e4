package store_test

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/place"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/store"
)

// reached declares n servers whose configuration is read.
func reached(n int) string {
	var b strings.Builder
	b.WriteString("estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n")
	for i := range n {
		fmt.Fprintf(&b,
			"  - {name: pier-%d, kind: nginx, addresses: [127.0.0.%d], ports: [443], reach: {by: local}}\n", i+1, i+1)
	}
	return b.String() + "  - {name: quay, addresses: [127.0.1.1], ports: [443]}\nhosts:\n  - {name: a.lantern.example, " +
		"at: [pier-1, quay]}\n  - {name: b.lantern.example, at: [quay]}\n"
}

// queue notes what a survey queues.
type queue struct {
	mu     sync.Mutex
	reads  []string
	shards int
	times  int
}

func (q *queue) add(_ context.Context, _ store.Tx, _ int64, reads []string, shards int) error {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.reads, q.times = append(q.reads, reads...), q.times+1
	if len(reads) == 0 {
		q.shards += shards
	}
	return nil
}

func beginReading(t *testing.T, s *store.Store, scope store.Scope) (*store.Survey, *queue) {
	q := &queue{}
	v, err := s.StartSurvey(t.Context(), scope, &store.Survey{Vantage: "inside", CreatedAt: time.Now().UTC()}, q.add)
	require.NoError(t, err)
	return v, q
}

func readingOf(leaf *pkitest.Entity, mark byte) *store.ReadEnd {
	return &store.ReadEnd{Reading: &store.Reading{Digest: certs.Fingerprint{mark}, Document: []byte{mark},
		Main: "/etc/nginx/nginx.conf", Files: 1, Sites: 2, Listeners: 1, Certificates: 1,
		Material: pkitest.List(leaf),
		Placements: []store.Placement{{Path: "/a.pem", At: place.Place{File: "/n", Line: 1}, Site: "a",
			Leaf: leaf.Fingerprint[:]},
			{Path: "/old.pem", Leaf: leaf.Fingerprint[:]}}}}
}

// suspect is a finding about a server whose subject is the line it is about.
func suspect(subject, cause string) check.Found {
	line, _ := strconv.Atoi(subject)
	return check.Found{Subject: subject,
		Finding: check.Finding{Code: "configuration-suspect", Severity: check.Note, Cause: cause, Remedy: "mend it",
			Source: place.Place{File: "/n", Line: line}}}
}

// TestASurveyReadsFirstAndLooksThen queues readings, and the shards with the
// last of them, exactly once, whoever finishes it.
func TestASurveyReadsFirstAndLooksThen(t *testing.T) {
	s := open(t)
	declare(t, s, reached(8))
	v, q := beginReading(t, s, store.Scope{})
	assert.Len(t, q.reads, 8)
	assert.Equal(t, 0, q.shards, "nothing is looked at before everything is read")
	leaf := pkitest.Leaf(nil, "a.lantern.example")
	var all sync.WaitGroup
	for range 2 { // every reading by two workers at once
		for _, name := range q.reads {
			all.Go(func() {
				assert.NoError(t, s.FinishRead(context.Background(), v.ID, name, readingOf(leaf, 1), time.Now().UTC(), q.add))
			})
		}
	}
	all.Wait()
	assert.Equal(t, 2, q.times, "the shards were queued once")
	assert.Equal(t, 1, q.shards)
	assert.Equal(t, 8, count(t, s, "select count(*) from readings"))
	v, err := s.Survey(t.Context(), v.ID)
	require.NoError(t, err)
	assert.Equal(t, 8, v.ServersRead)
	assert.ErrorIs(t, s.FinishRead(t.Context(), v.ID, "quay", readingOf(leaf, 1), time.Now(), q.add), store.ErrNotFound)
}

// TestAScopeReadsOnlyItsServers surveys a host, a server that is not read, and
// one that is.
func TestAScopeReadsOnlyItsServers(t *testing.T) {
	s := open(t)
	declare(t, s, reached(3))
	for _, c := range []struct {
		scope store.Scope
		reads []string
	}{{store.Scope{Host: "a.lantern.example"}, []string{"pier-1"}}, {store.Scope{Host: "b.lantern.example"}, nil},
		{store.Scope{Server: "quay"}, nil}, {store.Scope{Server: "pier-2"}, []string{"pier-2"}}} {
		_, q := beginReading(t, s, c.scope)
		assert.Equal(t, c.reads, q.reads, c.scope)
		if c.reads == nil {
			assert.Equal(t, 1, q.shards)
		}
	}
}

// TestAReadingIsASpan adds a row only for what changed, and keeps the last
// whole one when an attempt fails.
func TestAReadingIsASpan(t *testing.T) {
	s := open(t)
	declare(t, s, reached(1))
	one, two := pkitest.Leaf(nil, "a.lantern.example"), pkitest.Leaf(nil, "a.lantern.example")
	head := func() store.ReadingHead {
		id := int64(count(t, s, "select id::int from servers where name = 'pier-1'"))
		heads, err := s.ReadingHeads(t.Context(), []int64{id, id + 1})
		require.NoError(t, err)
		require.Len(t, heads, 1, "a server that is not reached has none")
		return heads[id]
	}
	finish := func(end *store.ReadEnd) store.ReadingHead {
		v, q := beginReading(t, s, store.Scope{})
		require.NoError(t, s.FinishRead(t.Context(), v.ID, "pier-1", end, time.Now().UTC(), q.add))
		return head()
	}
	assert.Zero(t, head().ReadingID)
	first := finish(readingOf(one, 1))
	again := finish(readingOf(one, 1))
	assert.Equal(t, first.ReadingID, again.ReadingID)
	assert.True(t, again.LastRead.After(*first.LastRead))
	failed := finish(&store.ReadEnd{Trouble: &check.Trouble{Code: check.ConnectionLost, Text: "broke off"}})
	assert.Equal(t, first.ReadingID, failed.ReadingID)
	assert.EqualValues(t, check.ConnectionLost, failed.TroubleCode)
	changed := finish(readingOf(two, 2))
	assert.NotEqual(t, first.ReadingID, changed.ReadingID)
	assert.Empty(t, changed.TroubleCode)
	assert.Equal(t, 2, count(t, s, "select count(*) from readings"))
	document, err := s.Document(t.Context(), changed.ReadingID)
	require.NoError(t, err)
	assert.Equal(t, []byte{2}, document)

	placed, err := s.Placements(t.Context(), two.Fingerprint[:], 10)
	require.NoError(t, err)
	require.Len(t, placed, 2, "named and beside")
	assert.Equal(t, "/n:1", placed[0].At.String())
	gone, err := s.Placements(t.Context(), one.Fingerprint[:], 10)
	require.NoError(t, err)
	assert.Empty(t, gone, "what is on the disk no more is nowhere")

	list, _, err := s.Servers(t.Context(), store.ServerFilter{Read: ptr(true)}, store.Page{Sort: "name", Limit: 10})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, 2, list[0].Sites)
}

func ptr[T any](v T) *T { return &v }

// TestFindingsAboutAServerOpenKeepAndClose follows them through surveys, and
// through a declaration that reaches the server no more.
func TestFindingsAboutAServerOpenKeepAndClose(t *testing.T) {
	s := open(t)
	declare(t, s, reached(1))
	leaf := pkitest.Leaf(nil, "a.lantern.example")
	finish := func(list ...check.Found) *store.Survey {
		v, q := beginReading(t, s, store.Scope{})
		end := readingOf(leaf, 1)
		end.Findings = list
		require.NoError(t, s.FinishRead(t.Context(), v.ID, "pier-1", end, time.Now().UTC(), q.add))
		v, err := s.Survey(t.Context(), v.ID)
		require.NoError(t, err)
		return v
	}
	open := func() (out []string) {
		list, _, err := s.Findings(t.Context(), store.FindingFilter{State: "open", Server: "pier-1"},
			store.Page{Sort: "worst", Limit: 10})
		require.NoError(t, err)
		for _, f := range list {
			assert.Nil(t, f.TargetID)
			assert.Equal(t, "pier-1", f.Server)
			out = append(out, fmt.Sprintf("%d %s %s %s", f.ID, f.Subject, f.Cause, f.Source()))
		}
		return out
	}
	v := finish(suspect("1", "odd"), suspect("2", "odder"), suspect("2", "the same twice"))
	assert.Equal(t, 2, v.Opened)
	assert.Equal(t, []string{"1 1 odd /n:1", "2 2 odder /n:2"}, open())
	v = finish(suspect("1", "odd in other words"), suspect("3", strings.Repeat("long ", 500)))
	assert.Equal(t, []int{1, 1}, []int{v.Opened, v.Closed})
	assert.Equal(t, "1 1 odd in other words /n:1", open()[0], "the same finding, reworded")
	v = finish(suspect(strings.Repeat("ä", 1000), "a subject beyond what an index takes"),
		suspect("x\x00y", "with a NUL"))
	assert.Equal(t, []int{2, 2}, []int{v.Opened, v.Closed})
	counts, _, err := s.CountFindings(t.Context())
	require.NoError(t, err)
	assert.Equal(t, [4]int{0, 0, 0, 2}, counts)

	older, q := beginReading(t, s, store.Scope{})
	finish(suspect("5", "new"), suspect("6", "newer"))
	fresh, end := open(), readingOf(leaf, 7)
	end.Findings = []check.Found{suspect("4", "as it was")}
	require.NoError(t, s.FinishRead(t.Context(), older.ID, "pier-1", end, time.Now().UTC(), q.add))
	assert.Equal(t, 1, q.shards, "the survey goes on")
	assert.Equal(t, fresh, open(), "what a later survey has read stays")
	assert.Equal(t, 1, count(t, s, "select count(*) from readings where current and digest = '\\x01"+strings.Repeat("00", 31)+"'"))

	v, q = beginReading(t, s, store.Scope{})
	require.NoError(t,
		s.FinishRead(t.Context(), v.ID, "pier-1", &store.ReadEnd{Trouble: &check.Trouble{Code: check.NotReached}},
			time.Now(), q.add))
	assert.Len(t, open(), 2, "what cannot be read is not mended")
	v, err = s.Survey(t.Context(), v.ID)
	require.NoError(t, err)
	count(t, s, "with ended as (update surveys set state = 'finished', finished_at = now() - interval '2 days' returning 1) select count(*) from ended")
	reads := count(t, s, "select count(*) from reads where finished_at is not null")
	require.NoError(t, s.FoldSurveys(t.Context(), time.Now().Add(-24*time.Hour)))
	assert.Less(t, count(t, s, "select count(*) from reads where finished_at is not null"), reads)
	assert.Equal(t, 1, count(t, s, "select count(*) from reads r join servers s on s.id = r.server_id where s.name = 'pier-1' and trouble_code = 'not-reached'"),
		"how the last reading ended is still known")
	first, err := s.Survey(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, v.Servers, first.Servers)

	v, q = beginReading(t, s, store.Scope{})
	declare(t, s, strings.ReplaceAll(reached(1), ", reach: {by: local}", ""))
	end = readingOf(leaf, 3)
	end.Findings = []check.Found{suspect("9", "too late")}
	require.NoError(t, s.FinishRead(t.Context(), v.ID, "pier-1", end, time.Now(), q.add))
	assert.Equal(t, 1, q.shards, "the survey goes on")
	assert.Empty(t, open(), "a server that is not reached any more has no findings of its own")
	assert.Equal(t, 0, count(t, s, "select count(*) from placements"))
	_, q = beginReading(t, s, store.Scope{})
	assert.Empty(t, q.reads)
}
