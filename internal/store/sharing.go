package store

import (
	"context"
	"sync"
)

// sharing asks a question once for all who wait for it. Everybody gets an answer that
// was asked for after they came: what was under way before that is not for them.
type sharing[K comparable, V any] struct {
	mu      sync.Mutex
	flights map[K]*flight[V] // under way, by what is asked
}

// flight is a question that is asked, or will be once the one before it is answered.
type flight[V any] struct {
	done  chan struct{} // closed with the answer
	value V
	err   error
	next  *flight[V] // for those who came while this one was under way
}

// get asks, or waits for what is asked next.
func (s *sharing[K, V]) get(ctx context.Context, key K, ask func(context.Context) (V, error)) (V, error) {
	s.mu.Lock()
	f := s.flights[key]
	switch {
	case f == nil:
		if s.flights == nil {
			s.flights = map[K]*flight[V]{}
		}
		f = &flight[V]{done: make(chan struct{})}
		s.flights[key] = f
		go s.fly(context.WithoutCancel(ctx), key, f, ask)
	case f.next == nil:
		f.next = &flight[V]{done: make(chan struct{})}
		f = f.next
	default:
		f = f.next
	}
	s.mu.Unlock()
	select {
	case <-f.done:
		return f.value, f.err
	case <-ctx.Done():
		var none V
		return none, ctx.Err()
	}
}

// fly asks until nobody waits.
func (s *sharing[K, V]) fly(ctx context.Context, key K, f *flight[V], ask func(context.Context) (V, error)) {
	for f != nil {
		f.value, f.err = ask(ctx)
		s.mu.Lock()
		next := f.next
		if next == nil {
			delete(s.flights, key)
		} else {
			s.flights[key] = next
		}
		s.mu.Unlock()
		close(f.done)
		f = next
	}
}
