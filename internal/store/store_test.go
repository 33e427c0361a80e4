package store_test

import (
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/store"
)

func TestMain(m *testing.M) { servicetest.Main(m) }

var root = certs.PEM(pkitest.CA("root", nil).Raw)

func open(t *testing.T) *store.Store {
	s, err := store.Open(t.Context(), servicetest.Database(t))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

func declare(t *testing.T, s *store.Store, text string) (applied bool) {
	d := &store.Declaration{Name: "Ferries", File: "estate.yaml", Content: []byte(text),
		Files: map[string][]byte{"root.pem": root}, AppliedAt: time.Now().UTC()}
	e, err := d.Estate(kinds)
	require.NoError(t, err)
	applied, err = s.Apply(t.Context(), d, e)
	require.NoError(t, err)
	return applied
}

const head = "estate: Ferries\naudiences:\n  - {name: browsers, roots: [root.pem]}\nservers:\n"

func text(ports, hosts string) string {
	return head + "  - {name: quay, addresses: [127.0.0.1], ports: [" + ports + "]}\nhosts:\n" + hosts
}

func count(t *testing.T, s *store.Store, sql string, args ...any) (n int) {
	require.NoError(t, s.Pool().QueryRow(t.Context(), sql, args...).Scan(&n))
	return n
}

// TestApplyingKeepsTheRowsThatStay holds that ids, and so histories, survive a
// changed file, and that what comes back is the same row again.
func TestApplyingKeepsTheRowsThatStay(t *testing.T) {
	s := open(t)
	const a, b = "  - {name: a.lantern.example, at: [quay]}\n", "  - {name: b.lantern.example, at: ['quay:1']}\n"
	assert.True(t, declare(t, s, text("1-3", a+b)))
	assert.False(t, declare(t, s, text("1-3", a+b)))
	live := "select count(*) from targets where removed_at is null"
	assert.Equal(t, 3+3+1, count(t, s, live))
	assertCounted(t, s)
	before := count(t, s, "select t.id from targets t join hosts h on h.id = t.host_id where h.name = 'b.lantern.example'")

	assert.True(t, declare(t, s, text("2-4", a)))
	assert.Equal(t, 3+3, count(t, s, live))
	assertCounted(t, s)
	assert.Equal(t, 10-1, count(t, s, "select count(*) from targets"), "nothing is deleted")
	assert.True(t, declare(t, s, text("1-3", a+b)))
	assert.Equal(t, before,
		count(t, s, "select t.id from targets t join hosts h on h.id = t.host_id where h.name = 'b.lantern.example' and "+
			"t.removed_at is null"))
	d, err := s.Declared(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 3, d.Endpoints)
	assert.Equal(t, 3, count(t, s, "select count(*) from declarations"))
}

func TestTwoAppliesAtOnceDoNotMix(t *testing.T) {
	s := open(t)
	defer assertCounted(t, s)
	var both sync.WaitGroup
	for i := range 6 {
		both.Go(func() {
			declare(t, s, text("1-50", fmt.Sprintf("  - {name: h%d.lantern.example, at: [quay]}\n", i)))
		})
	}
	both.Wait()
	assert.Equal(t, 1, count(t, s, "select count(*) from declarations where current"))
	assert.Equal(t, 1, count(t, s, "select count(*) from hosts where removed_at is null"))
	assert.Equal(t, 100, count(t, s, "select count(*) from targets where removed_at is null"))
}

// assertCounted counts the estate one by one and holds the store's own counting
// against that.
func assertCounted(t *testing.T, s *store.Store) {
	of := func(verdict string) int {
		return count(t, s, "select count(*) from targets where host_id is not null and removed_at is null and verdict = $1", verdict)
	}
	counts, err := s.CountBindings(t.Context())
	require.NoError(t, err)
	assert.Equal(t, store.VerdictCounts{Broken: of("broken"), AtOdds: of("at-odds"), Unknown: of("unknown"), Agreed: of("agreed"),
		Hosts:   count(t, s, "select count(*) from hosts where removed_at is null"),
		Servers: count(t, s, "select count(*) from servers where removed_at is null")}, counts)
	list, _, err := s.Servers(t.Context(), store.ServerFilter{}, store.Page{Limit: 100})
	require.NoError(t, err)
	for _, v := range list {
		at := func(verdict string) int {
			return count(t, s, "select count(*) from targets t join endpoints e on e.id = t.endpoint_id where t.host_id is not null "+
				"and t.removed_at is null and e.server_id = $1 and t.verdict like $2", v.ID, verdict)
		}
		assert.Equal(t, [...]int{at("%"), at("broken"), at("at-odds"), at("unknown"), at("agreed")},
			[...]int{v.Bindings, v.Broken, v.AtOdds, v.Unknown, v.Agreed}, v.Name)
	}
	rows, err := s.Pool().Query(t.Context(), `select encode(c.sha256, 'hex'), u.n from (select leaf, count(*)::int as n from targets
		where host_id is not null and removed_at is null group by leaf) u join certificates c on c.sha256 = u.leaf order by c.not_after, c.sha256 limit 3`)
	require.NoError(t, err)
	type lane struct {
		Leaf  string
		Hosts int
	}
	want, err := pgx.CollectRows(rows, pgx.RowToStructByPos[lane])
	require.NoError(t, err)
	lanes, err := s.Lanes(t.Context(), 3)
	require.NoError(t, err)
	got := make([]lane, len(lanes))
	for i, l := range lanes {
		got[i] = lane{hex.EncodeToString(l.Sha256), l.Hosts}
	}
	assert.Equal(t, want, got)
}

// begin starts a survey without any queue and gives its targets.
func begin(t *testing.T, s *store.Store, scope store.Scope) (*store.Survey, []store.Target) {
	v, err := s.StartSurvey(t.Context(), scope, &store.Survey{Vantage: "inside", CreatedAt: time.Now().UTC()},
		func(context.Context, store.Tx, int64, []string, int) error { return nil })
	require.NoError(t, err)
	list, err := s.Pending(t.Context(), v.ID, scope, 0, store.Target{}, 1000)
	require.NoError(t, err)
	return v, list
}

func lookOf(t store.Target, leaf *pkitest.Entity, findings ...check.Finding) store.Look {
	l := store.Look{Target: t, Seen: &binding.Observation{Outcome: binding.Refused, At: time.Now().UTC()},
		Judgement: &check.Judgement{
			Faces: binding.Faces{Wanted: binding.Agrees, Configured: binding.Unread, Served: binding.Missing}, Hurt: true,
			Judged: []check.Speaks{check.OfServed, check.OfConfigured}, Findings: findings}}
	if leaf != nil {
		l.Seen.Outcome, l.Judgement.Chain = binding.Connected, pkitest.List(leaf)
		l.Judgement.Faces.Served, l.Judgement.Hurt = binding.Agrees, false
	}
	return l
}

func none(func(store.TargetFinding) error) error { return nil }

// kinds are the kinds of server the tests declare.
var kinds = estate.Kinds{{Name: "nginx", Reached: true, Main: "/etc/nginx/nginx.conf"}, {Name: "other"}}

var refused = check.Finding{Code: "nothing-listens", Severity: check.Broken, Cause: "nothing listens",
	Remedy: "start it"}

// TestAShardRunTwiceCountsOnce stores the same looks from several workers at
// once, as happens when a shard is taken over from one that is only slow.
func TestAShardRunTwiceCountsOnce(t *testing.T) {
	s := open(t)
	declare(t, s, text("1-20", "  - {name: a.lantern.example, at: [quay]}\n"))
	v, targets := begin(t, s, store.Scope{})
	require.Len(t, targets, 40)
	var leaves []*pkitest.Entity
	for i := range 5 {
		leaves = append(leaves, pkitest.Leaf(nil, "a.lantern.example", pkitest.Valid(-time.Hour, time.Duration(9-i/2)*time.Hour)))
	}
	looks := make([]store.Look, len(targets))
	for i, target := range targets {
		if looks[i] = lookOf(target, leaves[i%len(leaves)]); i%4 == 3 {
			looks[i] = lookOf(target, nil, refused)
		}
	}
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() { assert.NoError(t, s.SaveLooks(t.Context(), v, 0, looks)) })
	}
	all.Wait()
	now, err := s.Survey(t.Context(), v.ID)
	require.NoError(t, err)
	assert.Equal(t, []int{40, 40, 30, 10}, []int{now.Targets, now.Done, now.Connected, now.Opened})
	assert.Equal(t, 40, count(t, s, "select count(*) from sightings"))
	assert.Equal(t, 10, count(t, s, "select count(*) from findings"))
	assert.Equal(t, len(leaves), count(t, s, "select count(*) from certificates"), "a certificate is stored once")
	assertCounted(t, s)
	mark, err := s.ShownMark(t.Context())
	require.NoError(t, err)
	for range 25 { // more than are looked at one by one
		begin(t, s, store.Scope{})
	}
	later, err := s.ShownMark(t.Context())
	require.NoError(t, err)
	assert.NotEqual(t, mark, later)
	assert.Contains(t, later, " 40 ", "what was begun long ago stays in it")
	left, err := s.Pending(t.Context(), v.ID, store.Scope{}, 0, store.Target{}, 1000)
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestAFindingIsRewordedClosedAndOpenedAgain(t *testing.T) {
	s := open(t)
	declare(t, s, text("1", "  - {name: a.lantern.example, at: [quay]}\n"))
	run := func(findings ...check.Finding) *store.Survey {
		v, targets := begin(t, s, store.Scope{})
		require.Len(t, targets, 2)
		require.NoError(t,
			s.SaveLooks(t.Context(), v, 0, []store.Look{lookOf(targets[0], nil), lookOf(targets[1], nil, findings...)}))
		require.NoError(t, s.FinishSurvey(t.Context(), v.ID, store.Scope{}, none, none, time.Now().UTC()))
		require.NoError(t, s.FinishSurvey(t.Context(), v.ID, store.Scope{}, none, none, time.Now().UTC()), "ending it again changes nothing")
		v, err := s.Survey(t.Context(), v.ID)
		require.NoError(t, err)
		assert.Equal(t, store.Finished, v.State)
		return v
	}
	run(refused)
	later := refused
	later.Cause = "nothing listens, and has not for a day"
	v := run(later)
	assert.Zero(t, v.Opened+v.Closed)
	list, _, err := s.Findings(t.Context(), store.FindingFilter{State: "open"}, store.Page{Sort: "worst", Limit: 10})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, later.Cause, list[0].Cause)
	assert.EqualValues(t, 1, list[0].OpenedSurvey, "it is the same finding")
	assert.Equal(t, 1, run().Closed)
	assert.Equal(t, 1, run(refused).Opened)
	assert.Equal(t, 2, count(t, s, "select count(*) from findings"), "the closed one stays as history")
}

// TestADeadServerIsOneFinding holds that what several bindings of a server have
// for one reason is one finding in lists and counts, for as long as it is so,
// and that nothing is hidden once it is not.
func TestADeadServerIsOneFinding(t *testing.T) {
	s := open(t)
	defer assertCounted(t, s)
	hosts := "  - {name: a.lantern.example, at: [quay]}\n  - {name: b.lantern.example, at: [quay]}\n" +
		"  - {name: c.lantern.example, at: [quay]}\n"
	declare(t, s, text("1-2", hosts))
	other := refused
	other.Remedy = "switch its site on"
	run := func(dead int, of check.Finding) (opened, closed int, list []store.Finding) {
		v, targets := begin(t, s, store.Scope{})
		var looks []store.Look
		for _, target := range targets {
			if target.Host == "" || dead == 0 {
				looks = append(looks, lookOf(target, nil))
				continue
			}
			dead--
			looks = append(looks, lookOf(target, nil, of))
		}
		require.NoError(t, s.SaveLooks(t.Context(), v, 0, looks))
		require.NoError(t, s.FinishSurvey(t.Context(), v.ID, store.Scope{}, none, none, time.Now().UTC()))
		v, err := s.Survey(t.Context(), v.ID)
		require.NoError(t, err)
		list, _, err = s.Findings(t.Context(), store.FindingFilter{State: "open"}, store.Page{Sort: "worst", Limit: 10})
		require.NoError(t, err)
		counts, _, err := s.CountFindings(t.Context())
		require.NoError(t, err)
		assert.Equal(t, len(list), counts[0], "the count is that of the list")
		servers, _, err := s.Servers(t.Context(), store.ServerFilter{}, store.Page{Sort: "name", Limit: 10})
		require.NoError(t, err)
		assert.Equal(t, len(list), servers[0].Findings)
		return v.Opened, v.Closed, list
	}
	for i, c := range []struct {
		dead           int           // bindings
		of             check.Finding // what they have
		opened, closed int
		standsFor      []int // of the list
	}{
		{6, refused, 1, 0, []int{6}},
		{6, refused, 0, 0, []int{6}},
		{5, refused, 0, 0, []int{5}},
		{6, refused, 0, 0, []int{6}},   // one more under it is no news
		{6, other, 1, 1, []int{6}},     // another reason is another finding
		{1, other, 0, 1, []int{0}},     // it is told by itself again
		{2, refused, 1, 0, []int{2}},   //
		{0, refused, 0, 1, []int(nil)}, //
	} {
		opened, closed, list := run(c.dead, c.of)
		assert.Equal(t, []int{c.opened, c.closed}, []int{opened, closed}, "survey %d", i+1)
		var got []int
		for _, f := range list {
			got = append(got, f.StandsFor)
			assert.Equal(t, f.StandsFor > 0, f.ServerID != nil)
		}
		assert.Equal(t, c.standsFor, got, "survey %d", i+1)
	}
	_, _, list := run(6, refused)
	assert.Contains(t, list[0].Cause, "nothing listens at 127.0.0.1:1, 127.0.0.1:2: 6 bindings of quay are not served")
	found, _, err := s.Findings(t.Context(), store.FindingFilter{State: "open", Query: "b.lantern"}, store.Page{Limit: 10})
	require.NoError(t, err)
	require.Len(t, found, 1, "who looks for one of its hosts finds it")
	// Declared anew without two of the hosts, and with a server that is not read: what is left stays told.
	declare(t, s, text("1-2", "  - {name: a.lantern.example, at: [quay]}\n"))
	_, _, list = run(2, refused)
	require.Len(t, list, 1)
	assert.Equal(t, 2, list[0].StandsFor)
}

// TestManySharedFindingsAreOpenedAndClosed writes more of them than one batch.
func TestManySharedFindingsAreOpenedAndClosed(t *testing.T) {
	s := open(t)
	declare(t, s, text("1-1200", "  - {name: a.lantern.example, at: [quay]}\n"))
	leaf := pkitest.Leaf(nil, "a.lantern.example")
	run := func(found bool) *store.Survey {
		v, _ := begin(t, s, store.Scope{})
		var hosts []store.Target
		for n := 0; ; n++ {
			list, err := s.Pending(t.Context(), v.ID, store.Scope{}, n, store.Target{}, 5000)
			require.NoError(t, err)
			if len(list) == 0 {
				break
			}
			looks := make([]store.Look, len(list))
			for i, target := range list {
				if looks[i] = lookOf(target, leaf); target.Host != "" {
					hosts = append(hosts, target)
				}
			}
			require.NoError(t, s.SaveLooks(t.Context(), v, n, looks))
		}
		require.Len(t, hosts, 1200)
		require.NoError(t, s.FinishSurvey(t.Context(), v.ID, store.Scope{Host: "a.lantern.example"}, func(add func(store.TargetFinding) error) error {
			for _, target := range hosts {
				if !found {
					return nil
				}
				f := check.Finding{Code: "differs-from-siblings", Severity: check.Due, Cause: "older", Remedy: "renew"}
				if err := add(store.TargetFinding{TargetID: target.ID,
					Found: check.Found{Finding: f, Leaf: leaf.Fingerprint}}); err != nil {
					return err
				}
			}
			return nil
		}, none, time.Now().UTC()))
		v, err := s.Survey(t.Context(), v.ID)
		require.NoError(t, err)
		return v
	}
	odds := "select count(*) from targets where verdict = 'at-odds' and served = 'differs'"
	assert.Equal(t, 1200, run(true).Opened)
	assert.Equal(t, 1200, count(t, s, odds))
	assert.Zero(t, run(true).Opened)
	assert.Equal(t, 1200, count(t, s, odds))
	elsewhere, _ := begin(t, s, store.Scope{Server: "quay"})
	require.NoError(t, s.FinishSurvey(t.Context(), elsewhere.ID, store.Scope{Host: "b.lantern.example"}, none, none, time.Now().UTC()))
	assert.Equal(t, 1200, count(t, s, odds), "a survey of other hosts says nothing of these")
	assert.Equal(t, 1200, run(false).Closed)
	assert.Zero(t, count(t, s, odds))
}

// TestScopes narrows surveys to a host or a server; the looks without SNI of
// their endpoints go along.
func TestScopes(t *testing.T) {
	s := open(t)
	declare(t, s,
		head+"  - {name: quay, addresses: [127.0.0.1], ports: [1, 2]}\n  - {name: pier, addresses: ['::1'], ports: [1], "+
			"without_sni: false}\n"+
			"hosts:\n  - {name: a.lantern.example, at: ['quay:1', pier]}\n  - {name: b.lantern.example, at: [quay, 'quay:1']}\n")
	for _, c := range []struct {
		scope store.Scope
		want  []string
	}{
		{store.Scope{}, []string{" 127.0.0.1:1", "a.lantern.example 127.0.0.1:1", "b.lantern.example 127.0.0.1:1",
			" 127.0.0.1:2", "b.lantern.example 127.0.0.1:2", "a.lantern.example [::1]:1"}},
		{store.Scope{Host: "a.lantern.example"},
			[]string{" 127.0.0.1:1", "a.lantern.example 127.0.0.1:1", "a.lantern.example [::1]:1"}},
		{store.Scope{Server: "pier"}, []string{"a.lantern.example [::1]:1"}},
		{store.Scope{Server: "quay", Host: "b.lantern.example"},
			[]string{" 127.0.0.1:1", "b.lantern.example 127.0.0.1:1", " 127.0.0.1:2", "b.lantern.example 127.0.0.1:2"}},
	} {
		_, targets := begin(t, s, c.scope)
		var got []string
		for _, target := range targets {
			got = append(got, target.Host+" "+target.Endpoint.String())
		}
		assert.Equal(t, c.want, got, c.scope)
	}
	_, err := s.StartSurvey(t.Context(), store.Scope{Host: "c.lantern.example"}, &store.Survey{Vantage: "inside", CreatedAt: time.Now()}, nil)
	assert.ErrorIs(t, err, store.ErrNothing)
	assert.Equal(t, 4, count(t, s, "select count(*) from surveys"), "a survey of nothing is not stored")
}

// TestLargeEstatesAreCutBetweenEndpoints holds that no endpoint is split and
// every target is in exactly one shard.
func TestLargeEstatesAreCutBetweenEndpoints(t *testing.T) {
	s := open(t)
	hosts := ""
	for i := range 700 {
		hosts += fmt.Sprintf("  - {name: h%d.lantern.example, at: ['quay:1']}\n", i)
	}
	declare(t, s, text("1-900", hosts+"  - {name: all.lantern.example, at: [quay]}\n"))
	shards := 0
	v, err := s.StartSurvey(t.Context(), store.Scope{}, &store.Survey{Vantage: "inside", CreatedAt: time.Now()},
		func(_ context.Context, _ store.Tx, _ int64, _ []string, n int) error { shards = n; return nil })
	require.NoError(t, err)
	assert.Equal(t, 900+900+700, v.Targets)
	met := map[int64]bool{}
	endpoints := map[netip.AddrPort]int{}
	for n := range shards {
		var after store.Target
		for {
			page, err := s.Pending(t.Context(), v.ID, store.Scope{}, n, after, 333)
			require.NoError(t, err)
			if len(page) == 0 {
				break
			}
			for _, target := range page {
				require.False(t, met[target.ID], "a target came twice")
				met[target.ID] = true
				if shard, ok := endpoints[target.Endpoint]; ok {
					require.Equal(t, shard, n, "an endpoint was split")
				}
				endpoints[target.Endpoint] = n
			}
			after = page[len(page)-1]
		}
	}
	assert.Len(t, met, 2500)
	assert.Greater(t, shards, 3)

	// Long after its end its parts are put together, and nothing of what was counted is lost.
	require.NoError(t, s.FoldSurveys(t.Context(), time.Now().Add(time.Hour)))
	assert.Equal(t, shards, count(t, s, "select count(*) from shards"), "it is under way")
	count(t, s, "with done as (update shards set done = number + 1, opened = 2, finished = true returning 1) select count(*) from done")
	require.NoError(t, s.FinishSurvey(t.Context(), v.ID, store.Scope{}, func(func(store.TargetFinding) error) error { return nil }, func(func(store.TargetFinding) error) error { return nil }, time.Now()))
	before, err := s.Survey(t.Context(), v.ID)
	require.NoError(t, err)
	require.NoError(t, s.FoldSurveys(t.Context(), time.Now().Add(-time.Hour)))
	assert.Equal(t, shards, count(t, s, "select count(*) from shards"), "it has only just ended")
	for range 2 {
		require.NoError(t, s.FoldSurveys(t.Context(), time.Now().Add(time.Hour)))
		after, err := s.Survey(t.Context(), v.ID)
		require.NoError(t, err)
		assert.Equal(t, before, after)
		assert.Equal(t, 1, count(t, s, "select count(*) from shards"))
	}
	assert.Positive(t, before.Done)
}

func TestTheDatabaseKeepsItsOwnRules(t *testing.T) {
	s := open(t)
	for _, sql := range []string{
		"insert into certificates (sha256, der, common_name, issuer, names, not_before, not_after, key, serial, is_ca, " +
			"first_seen) values ('short', '', '', '', '[]', now(), now(), '', '', false, now())",
		"insert into targets (endpoint_id, generation) values (77, 1)",
		"insert into servers (name, kind, line, generation) values ('a', 'nginx', 1, 1), ('a', 'nginx', 1, 1)",
		"insert into surveys (state, scope, vantage, created_at) values ('sunk', '', '', now())",
	} {
		_, err := s.Pool().Exec(t.Context(), sql)
		assert.Error(t, err, sql)
	}
}

func TestADeclarationTellsWhatItCannotRead(t *testing.T) {
	d := &store.Declaration{File: "estate.yaml", Content: []byte(text("1", "  - {name: a.lantern.example, at: [quay]}\n"))}
	_, err := d.Estate(kinds)
	var faults estate.Errors
	require.ErrorAs(t, err, &faults)
	assert.Contains(t, err.Error(), "cannot read root.pem: it was not sent along")
}

// TestThePasswordIsNeverSent has somebody else answer in the database's place, who
// asks for the password as it is, or for a hash that can be shown again.
func TestThePasswordIsNeverSent(t *testing.T) {
	for name, asked := range map[string][]byte{
		"in clear": {'R', 0, 0, 0, 8, 0, 0, 0, 3}, "hashed": {'R', 0, 0, 0, 12, 0, 0, 0, 5, 1, 2, 3, 4},
		"not at all": {'R', 0, 0, 0, 8, 0, 0, 0, 0},
	} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		heard := make(chan []byte, 100)
		go func() {
			for {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
				first := make([]byte, 1024)
				_, _ = conn.Read(first)
				_, _ = conn.Write(asked)
				rest, _ := io.ReadAll(conn)
				heard <- rest
				_ = conn.Close()
			}
		}()
		_, err = store.Open(t.Context(), "postgres://u:hush-hush@"+l.Addr().String()+"/d?sslmode=disable")
		assert.Error(t, err, name)
		assert.NotContains(t, err.Error(), "hush")
		require.NoError(t, l.Close())
		assert.Empty(t, <-heard, "the password, or a hash of it, was sent when asked %s", name)
	}
}

// TestTroubleNamesTheDisk tells what keeps the database from doing anything at all
// from what is wrong with one statement.
func TestTroubleNamesTheDisk(t *testing.T) {
	for code, want := range map[string]string{"53100": "the disk of the database is full: no space left",
		"53300": "the database says: no space left", "57P01": "the database says: no space left", "23505": "", "22021": ""} {
		why, full := store.Trouble(fmt.Errorf("saving: %w", &pgconn.PgError{Code: code, Message: "no space left"}))
		assert.Equal(t, want, why, code)
		assert.Equal(t, code == "53100", full)
	}
	_, err := store.Open(t.Context(), "postgres:///d?host=/nowhere&user=u")
	why, _ := store.Trouble(err)
	assert.Equal(t, "the database does not answer", why)
	why, _ = store.Trouble(io.EOF)
	assert.Empty(t, why)
}
