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
	if err == nil && took > quick && round == c.round {
		c.value, c.until = value, time.Now().Add(min(keptFor*took, keptMost))
		c.old = c.until.Add(min(keptFor*took, oldMost))
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
