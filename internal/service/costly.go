package service

import (
	"context"
	"sync"
	"time"

	"github.com/maypok86/otter/v2"
)

// costly is something worked out from all records, for all who ask at once. What
// takes long is kept for a few times as long as it took, so that working it out
// never takes more than a part of what the machine can do, and is worked out anew
// while the one before is still given; what is quick is worked out each time, and
// is never old. Safe for concurrent use.
type costly[T any] struct {
	turn chan struct{} // taken by who works it out

	mu    sync.Mutex
	round int // of what it is worked out from: one more each time that changes as a whole
	value T
	until time.Time // it is new enough
	old   time.Time // it is not given any more
}

// What is quick, how many times as long as it took something is kept, and for how
// long after that it is given while it is worked out anew.
const (
	quick    = 100 * time.Millisecond
	keptFor  = 5
	keptMost = 5 * time.Second
	oldMost  = 10 * time.Second
)

// newCostly makes one that is not worked out yet.
func newCostly[T any]() *costly[T] { return &costly[T]{turn: make(chan struct{}, 1)} }

// kept gives the value there is, and whether it is new enough, or given at all.
func (c *costly[T]) kept() (value T, fresh, given bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	return c.value, now.Before(c.until), now.Before(c.old)
}

// get gives the value, worked out by whoever asks first.
func (c *costly[T]) get(ctx context.Context, work func(context.Context) (T, error)) (T, error) {
	value, fresh, given := c.kept()
	if fresh {
		return value, nil
	}
	if given {
		select {
		case c.turn <- struct{}{}:
			go func() {
				ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
				defer cancel()
				_, _ = c.worked(ctx, work)
			}()
		default: // somebody does
		}
		return value, nil
	}
	select {
	case c.turn <- struct{}{}:
	case <-ctx.Done():
		return value, ctx.Err()
	}
	if value, fresh, _ := c.kept(); fresh { // by who had the turn before
		<-c.turn
		return value, nil
	}
	return c.worked(ctx, work)
}

// worked works it out, and gives the turn back.
func (c *costly[T]) worked(ctx context.Context, work func(context.Context) (T, error)) (T, error) {
	defer func() { <-c.turn }()
	c.mu.Lock()
	round := c.round
	c.mu.Unlock()
	began := time.Now()
	value, err := work(ctx)
	took := time.Since(began)
	c.mu.Lock()
	defer c.mu.Unlock()
	switch {
	case err != nil || round != c.round:
	case took > quick:
		c.value, c.until = value, time.Now().Add(min(keptFor*took, keptMost))
		c.old = c.until.Add(min(keptFor*took, oldMost))
	default: // nor is the one before given any more
		c.until, c.old = time.Time{}, time.Time{}
	}
	return value, err
}

// forget has it worked out anew for who asks from now on, also where that is under way:
// what it is worked out from has changed as a whole.
func (c *costly[T]) forget() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.round++
	c.until, c.old = time.Time{}, time.Time{}
}

// costlyBy are costly things by what was asked for.
type costlyBy[T any] struct {
	kept *otter.Cache[string, *costly[T]]
}

// newCostlyBy remembers a bounded number of questions.
func newCostlyBy[T any]() *costlyBy[T] {
	return &costlyBy[T]{otter.Must(&otter.Options[string, *costly[T]]{MaximumSize: 500,
		ExpiryCalculator: otter.ExpiryAccessing[string, *costly[T]](time.Minute)})}
}

// forget has every answer worked out anew.
func (c *costlyBy[T]) forget() { c.kept.InvalidateAll() }

// get gives the answer to a question.
func (c *costlyBy[T]) get(ctx context.Context, key string, work func(context.Context) (T, error)) (T, error) {
	one, _ := c.kept.ComputeIfAbsent(key, func() (*costly[T], bool) { return newCostly[T](), false })
	return one.get(ctx, work)
}

// marked is something costly that is known to be the same as long as a mark is. Where
// the mark is another one it is worked out anew, if that takes long while the one before
// is still given; whoever ends what changes it renews it before. Safe for concurrent use.
type marked[T any] struct {
	turn   chan struct{} // taken by who works it out
	marks  func(context.Context) (string, error)
	worked func(context.Context) (T, error)

	mu    sync.Mutex
	known bool
	mark  string
	took  time.Duration // working it out
	at    time.Time     // when that was done
	value T
}

// get gives the value; who asks first waits until it is worked out.
func (m *marked[T]) get(ctx context.Context) (value T, err error) {
	mark, err := m.marks(ctx)
	if err != nil {
		return value, err
	}
	m.mu.Lock()
	value, same, given := m.value, m.known && m.mark == mark, m.known && m.took > quick
	again := m.at.Add(keptFor * m.took) // so that it takes a part of the time only
	m.mu.Unlock()
	switch {
	case same:
	case !given:
		return m.renew(ctx)
	case time.Now().After(again):
		select {
		case m.turn <- struct{}{}:
			go func() {
				defer func() { <-m.turn }()
				ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
				defer cancel()
				_, _ = m.work(ctx)
			}()
		default: // somebody does
		}
	}
	return value, nil
}

// renew works it out anew where the mark is another one, and gives it.
func (m *marked[T]) renew(ctx context.Context) (value T, err error) {
	select {
	case m.turn <- struct{}{}:
	case <-ctx.Done():
		return value, ctx.Err()
	}
	defer func() { <-m.turn }()
	return m.work(ctx)
}

// work does so for whoever has the turn.
func (m *marked[T]) work(ctx context.Context) (T, error) {
	mark, err := m.marks(ctx)
	m.mu.Lock()
	value, same := m.value, m.known && m.mark == mark
	m.mu.Unlock()
	if err != nil || same {
		return value, err
	}
	began := time.Now()
	value, err = m.worked(ctx)
	if err == nil {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.known, m.mark, m.value, m.at, m.took = true, mark, value, time.Now(), time.Since(began)
	}
	return value, err
}

// forget has who asks next wait until it is worked out anew.
func (m *marked[T]) forget() {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.known = false
}
