package store_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/store"
)

const mandateHead = head + "  - {name: quay, addresses: [127.0.0.1], ports: [1]}\nhosts:\n  - {name: " +
	"a.lantern.example, at: [quay]}\n" +
	"cas:\n  - {name: harbour, directory: 'https://127.0.0.1:1/directory'}\n  - {name: island, directory: 'https://127.0.0.1:2/directory'}\nmandates:\n"

func mandateLine(name, more string) string {
	return fmt.Sprintf("  - {name: %s, names: [%s.lantern.example], ca: harbour, proof: {by: listener}%s}\n", name,
		name, more)
}

func act(action, subject string) *store.Act {
	return &store.Act{Actor: "marit", Action: action, Subject: subject}
}

// beginAll begins an order of each of some mandates and gives the numbers queued.
func beginAll(t *testing.T, s *store.Store, due bool, names ...string) (orders []*store.Order, queued []int64) {
	var acts []*store.Act
	for _, name := range names {
		m, err := s.Mandate(t.Context(), name)
		require.NoError(t, err)
		orders = append(orders,
			&store.Order{MandateID: m.ID, CA: m.CA, Spec: m.Spec, State: "begun", By: "marit", CreatedAt: time.Now().UTC()})
		acts = append(acts, act("order.begin", name))
	}
	require.NoError(t,
		s.BeginOrders(t.Context(), orders, acts, due, nil, func(_ context.Context, _ store.Tx, ids []int64) error {
			queued = ids
			return nil
		}))
	return orders, queued
}

// end brings an order to its end; until is when its mandate is due next.
func end(t *testing.T, s *store.Store, o *store.Order, state string, until time.Time) {
	now := time.Now().UTC()
	o.State, o.FinishedAt = state, &now
	next := &store.Next{At: &until, Why: "in a while"}
	if state == "failed" {
		next.Failures = 1
	}
	require.NoError(t,
		s.SaveOrder(t.Context(), o, next, store.OrderStep{OrderID: o.ID, Step: "certificate", Outcome: "done", At: now}))
}

func dueNames(t *testing.T, s *store.Store, limit int) (out []string) {
	list, err := s.Due(t.Context(), time.Now().UTC(), limit)
	require.NoError(t, err)
	for _, m := range list {
		out = append(out, m.Name)
	}
	return out
}

func setDue(t *testing.T, s *store.Store, name string, ago time.Duration) {
	m, err := s.Mandate(t.Context(), name)
	require.NoError(t, err)
	at := time.Now().UTC().Add(-ago)
	require.NoError(t, s.SetNext(t.Context(), m.ID, store.Next{At: &at, Why: "for a test"}))
}

// TestWhatIsDue picks mandates in the order they wait, none with an order under
// way, none that was removed; and begins nothing that is not due any more.
func TestWhatIsDue(t *testing.T) {
	s := open(t)
	declare(t, s, mandateHead+mandateLine("a", "")+mandateLine("b", "")+mandateLine("c", "")+mandateLine("d", ""))
	assert.Empty(t, dueNames(t, s, 10), "the first order is a person's")
	for i, name := range []string{"c", "a", "d"} {
		setDue(t, s, name, time.Duration(i+1)*time.Hour)
	}
	setDue(t, s, "b", -time.Hour)
	assert.Equal(t, []string{"d", "a", "c"}, dueNames(t, s, 10))
	assert.Equal(t, []string{"d", "a"}, dueNames(t, s, 2))

	orders, queued := beginAll(t, s, true, "d", "b", "a")
	assert.Equal(t, []int64{orders[0].ID, orders[2].ID}, queued, "b is not due")
	assert.Zero(t, orders[1].ID)
	assert.Equal(t, []string{"c"}, dueNames(t, s, 10))
	again, queued := beginAll(t, s, false, "a", "b")
	assert.Zero(t, again[0].ID, "one at a time")
	assert.Equal(t, []int64{again[1].ID}, queued, "a person need not wait until it is due")
	assert.Equal(t, 3, count(t, s, "select count(*) from journal where action = 'order.begin'"))

	end(t, s, orders[0], "issued", time.Now().Add(time.Hour))
	end(t, s, orders[2], "failed", time.Now().Add(-time.Second))
	assert.Equal(t, []string{"c", "a"}, dueNames(t, s, 10))
	orders, _ = beginAll(t, s, true, "d")
	assert.Zero(t, orders[0].ID, "it ended just now, and is due later")
	declare(t, s, mandateHead+mandateLine("c", ""))
	assert.Equal(t, []string{"c"}, dueNames(t, s, 10), "what left the file is not ordered")
	declare(t, s, mandateHead+mandateLine("c", "")+mandateLine("a", ""))
	assert.Equal(t, []string{"c", "a"}, dueNames(t, s, 10), "what comes back is due when it was")
}

// TestABeginningThatFailsLeavesNothing holds that order, job and journal are
// kept together or not at all.
func TestABeginningThatFailsLeavesNothing(t *testing.T) {
	s := open(t)
	declare(t, s, mandateHead+mandateLine("a", ""))
	m, err := s.Mandate(t.Context(), "a")
	require.NoError(t, err)
	full := errors.New("the queue is full")
	o := &store.Order{MandateID: m.ID, CA: m.CA, Spec: m.Spec, State: "begun", By: "marit", CreatedAt: time.Now().UTC()}
	err = s.BeginOrders(t.Context(), []*store.Order{o}, []*store.Act{act("order.begin", "a")}, false, nil,
		func(context.Context, store.Tx, []int64) error { return full })
	require.ErrorIs(t, err, full)
	assert.Zero(t, count(t, s, "select count(*) from orders"))
	assert.Zero(t, count(t, s, "select count(*) from journal where action = 'order.begin'"))
}

// TestAnOrdersSteps holds that a step told twice in a row is one, that words of
// any kind are kept, and that an order and its steps are stored together.
func TestAnOrdersSteps(t *testing.T) {
	s := open(t)
	declare(t, s, mandateHead+mandateLine("a", ""))
	orders, _ := beginAll(t, s, false, "a")
	o := orders[0]
	note := func(step, outcome, words string) {
		require.NoError(t,
			s.NoteSteps(t.Context(),
				store.OrderStep{OrderID: o.ID, Step: step, Outcome: outcome, Words: words, At: time.Now().UTC()}))
	}
	note("proof", "doing", "one")
	note("proof", "done", "two")
	note("validation", "doing", "nul \x00 and \xff")
	note("proof", "done", "three")
	require.Error(t, s.SaveOrder(t.Context(), &store.Order{ID: o.ID, State: "no such state"}, nil,
		store.OrderStep{OrderID: o.ID, Step: "lost", Outcome: "done", At: time.Now()}))
	steps, err := s.OrderSteps(t.Context(), o.ID)
	require.NoError(t, err)
	var said []string
	for i, v := range steps {
		assert.Equal(t, i+1, v.Number)
		said = append(said, v.Step+" "+v.Outcome+" "+v.Words)
	}
	assert.Equal(t, []string{"proof done two", "validation doing nul � and �", "proof done three"}, said)
	o.State, o.URL, o.Tries, o.Chain = "proving", "https://127.0.0.1:1/order/1", 3, []byte("chain")
	require.NoError(t, s.SaveOrder(t.Context(), o, nil))
	kept, err := s.Order(t.Context(), o.ID)
	require.NoError(t, err)
	assert.Equal(t, []any{"proving", o.URL, 3, "chain", "a"},
		[]any{kept.State, kept.URL, kept.Tries, string(kept.Chain), kept.Mandate.Name})
	other, err := s.KnownOrder(t.Context(), o.ID+1, o.URL)
	require.NoError(t, err)
	own, err := s.KnownOrder(t.Context(), o.ID, o.URL)
	require.NoError(t, err)
	assert.Equal(t, []bool{true, false}, []bool{other, own})
	_, err = s.Order(t.Context(), o.ID+1)
	assert.ErrorIs(t, err, store.ErrNotFound)
}

// TestWhatStandsForAnOrder is answered by name and token as long as it stands,
// and found again when the order ended and left it.
func TestWhatStandsForAnOrder(t *testing.T) {
	s := open(t)
	declare(t, s, mandateHead+mandateLine("a", "")+mandateLine("b", ""))
	orders, _ := beginAll(t, s, false, "a", "b")
	for _, o := range orders {
		list := []store.Publication{{o.ID, "http-01", "a.lantern.example", fmt.Sprint("token-", o.ID), "answer"},
			{o.ID, "http-01", "b.lantern.example", "shared", fmt.Sprint("answer ", o.ID)}}
		for range 2 { // put up again after a restart
			stands, err := s.Publish(t.Context(), o.ID, list[:1], store.OrderStep{OrderID: o.ID, Step: "proof", Outcome: "doing", At: time.Now()})
			require.NoError(t, err)
			assert.Subset(t, stands, list[:1])
			stands, err = s.Publish(t.Context(), o.ID, list[1:], store.OrderStep{OrderID: o.ID, Step: "proof", Outcome: "doing", At: time.Now()})
			require.NoError(t, err)
			assert.ElementsMatch(t, list, stands, "what stood before as well")
		}
		kept, err := s.Publications(t.Context(), o.ID)
		require.NoError(t, err)
		assert.ElementsMatch(t, list, kept)
	}
	got, err := s.Answering(t.Context(), "a.lantern.example", fmt.Sprint("token-", orders[0].ID))
	require.NoError(t, err)
	assert.Equal(t, "answer", got)
	for _, ask := range [][2]string{{"b.lantern.example", fmt.Sprint("token-", orders[0].ID)}, {"a.lantern.example", ""},
		{"", "shared"}} {
		_, err := s.Answering(t.Context(), ask[0], ask[1])
		assert.ErrorIs(t, err, store.ErrNotFound, ask)
	}
	left, err := s.LeftOver(t.Context(), 10)
	require.NoError(t, err)
	assert.Empty(t, left, "both are under way")
	end(t, s, orders[0], "failed", time.Now())
	left, err = s.LeftOver(t.Context(), 10)
	require.NoError(t, err)
	assert.Equal(t, []int64{orders[0].ID}, left)
	require.NoError(t, s.Withdrawn(t.Context(), store.OrderStep{OrderID: orders[0].ID, Step: "withdraw", Outcome: "done", At: time.Now()}))
	left, err = s.LeftOver(t.Context(), 10)
	require.NoError(t, err)
	assert.Empty(t, left)
	orders[1].State = "finalizing"
	for _, down := range []bool{false, true} {
		assert.Equal(t, 2, count(t, s, "select count(*) from publications"), "the other's stand")
		require.NoError(t, s.SaveProven(t.Context(), orders[1], down, store.OrderStep{OrderID: orders[1].ID, Step: "proof", Outcome: "done", At: time.Now()}))
	}
	assert.Zero(t, count(t, s, "select count(*) from publications"))
	assert.Equal(t, 1, count(t, s, "select count(*) from orders o join order_steps p on p.order_id = o.id where o.state = 'finalizing' and p.outcome = 'done'"))
}

// TestWhichOrderCounts holds what is in force, what came last, and what a
// budget counts, through failures, rehearsals and other CAs.
func TestWhichOrderCounts(t *testing.T) {
	s := open(t)
	declare(t, s, mandateHead+mandateLine("a", "")+mandateLine("b", ""))
	var ids []int64
	for _, state := range []string{"issued", "issued", "failed"} {
		orders, _ := beginAll(t, s, false, "a")
		end(t, s, orders[0], state, time.Now())
		ids = append(ids, orders[0].ID)
	}
	orders, _ := beginAll(t, s, false, "b")
	require.NoError(t,
		s.Pool().QueryRow(t.Context(), "update orders set rehearsal = true where id = $1 returning 1",
			orders[0].ID).Scan(new(int)))
	end(t, s, orders[0], "issued", time.Now())
	a, err := s.Mandate(t.Context(), "a")
	require.NoError(t, err)
	b, err := s.Mandate(t.Context(), "b")
	require.NoError(t, err)
	both := []int64{a.ID, b.ID}
	inForce, err := s.InForce(t.Context(), both)
	require.NoError(t, err)
	require.Len(t, inForce, 1, "a rehearsal brings nothing into force")
	assert.Equal(t, ids[1], inForce[a.ID].ID, "a failure takes nothing out of force")
	last, err := s.LatestOrders(t.Context(), both, false)
	require.NoError(t, err)
	assert.Equal(t, ids[2], last[a.ID].ID)
	rehearsed, err := s.LatestOrders(t.Context(), both, true)
	require.NoError(t, err)
	assert.Equal(t, orders[0].ID, rehearsed[b.ID].ID)
	used := func(ca string, since time.Duration) int {
		n, err := s.IssuedSince(t.Context(), ca, time.Now().Add(-since))
		require.NoError(t, err)
		return n
	}
	assert.Equal(t, []int{2, 0, 0},
		[]int{used("harbour", time.Hour), used("island", time.Hour), used("harbour", -time.Hour)})
	_, _ = beginAll(t, s, false, "b")
	assert.Equal(t, 3, used("harbour", time.Hour), "one under way counts")
	page, err := s.Orders(t.Context(), a.ID, ids[2], 1)
	require.NoError(t, err)
	require.Len(t, page, 1)
	assert.Equal(t, ids[1], page[0].ID, "older than the one given")
}

// TestMandatesMadeHereAndInTheFile do not get into each other's way.
func TestMandatesMadeHereAndInTheFile(t *testing.T) {
	s := open(t)
	declare(t, s, mandateHead+mandateLine("a", ""))
	add := func(name, ca string) error {
		m := estate.Mandate{Name: name, Names: []string{name + ".lantern.example"}, CA: ca, Key: "ecdsa-p256"}
		return s.AddMandates(t.Context(), []estate.Mandate{m}, "marit", func(m *estate.Mandate) *store.Act { return act("mandate.add", m.Name) }, time.Now().UTC())
	}
	assert.ErrorIs(t, add("a", "harbour"), store.ErrMandateTaken)
	require.NoError(t, add("b", "harbour"))
	setDue(t, s, "b", time.Hour)
	assert.ErrorIs(t, s.RemoveMandate(t.Context(), "a", act("mandate.remove", "a"), time.Now()), store.ErrMandateOfFile)
	assert.ErrorIs(t, s.RemoveMandate(t.Context(), "c", act("mandate.remove", "c"), time.Now()), store.ErrNotFound)
	d := &store.Declaration{Name: "Ferries", File: "estate.yaml", Content: []byte(mandateHead + mandateLine("b", "")),
		Files: map[string][]byte{"root.pem": root}, AppliedAt: time.Now().UTC()}
	e, err := d.Estate(kinds)
	require.NoError(t, err)
	_, err = s.Apply(t.Context(), d, e)
	var faults estate.Errors
	require.ErrorAs(t, err, &faults)
	assert.Contains(t, err.Error(), "mandate b was made by command or in the console")
	assert.Equal(t, 1, count(t, s, "select count(*) from mandates where name = 'a' and removed_at is null"),
		"a refused file changes nothing")
	require.NoError(t, s.RemoveMandate(t.Context(), "b", act("mandate.remove", "b"), time.Now()))
	assert.Empty(t, dueNames(t, s, 10))
	require.NoError(t, add("b", "island"))
	b, err := s.Mandate(t.Context(), "b")
	require.NoError(t, err)
	assert.Nil(t, b.NextAt, "made anew, it begins anew")
	assert.Equal(t, "island", b.CA)

	var all sync.WaitGroup
	var mu sync.Mutex
	made := 0
	for range 8 {
		all.Go(func() {
			if err := add("race", "harbour"); err == nil {
				mu.Lock()
				made++
				mu.Unlock()
			} else {
				assert.ErrorIs(t, err, store.ErrMandateTaken)
			}
		})
	}
	all.Wait()
	assert.Equal(t, 1, made)
	for query, want := range map[string]string{"": "a b race", "RACE": "race", "b.lantern": "b", "island": "b",
		"%": "", "_": ""} {
		list, err := s.Mandates(t.Context(), query, "", 10)
		require.NoError(t, err)
		var names []string
		for _, m := range list {
			names = append(names, m.Name)
		}
		assert.Equal(t, want, strings.Join(names, " "), query)
	}
}
