package service

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsCostlyIsForgottenWhenItChanges keeps what took long, until it is forgotten; also
// what was being worked out then is not given to who asks afterwards.
func TestWhatIsCostlyIsForgottenWhenItChanges(t *testing.T) {
	c, worked := newCostly[int](), 0
	begun, release := make(chan struct{}, 9), make(chan struct{}, 9)
	work := func(context.Context) (int, error) {
		worked++
		n := worked
		begun <- struct{}{}
		<-release
		time.Sleep(quick + 10*time.Millisecond)
		return n, nil
	}
	ask := func() int {
		got, err := c.get(t.Context(), work)
		require.NoError(t, err)
		return got
	}
	release <- struct{}{}
	assert.Equal(t, 1, ask())
	assert.Equal(t, 1, ask(), "it is kept")
	c.forget()
	release <- struct{}{}
	assert.Equal(t, 2, ask(), "and forgotten")

	c.forget()
	<-begun
	<-begun
	late := make(chan int, 1)
	go func() { late <- ask() }()
	<-begun
	c.forget() // while it is worked out
	release <- struct{}{}
	assert.Equal(t, 3, <-late)
	release <- struct{}{}
	assert.Equal(t, 4, ask(), "what was begun before is not kept")
}

// TestWhatIsMarkedIsWorkedOutOnceAMark keeps what a mark stands for; what takes long is given
// as it was while it is worked out anew, what does not is not, and what is renewed is new.
func TestWhatIsMarkedIsWorkedOutOnceAMark(t *testing.T) {
	mark, worked, takes := "a", 0, time.Duration(0)
	done := make(chan struct{}, 9)
	m := &marked[int]{turn: make(chan struct{}, 1), marks: func(context.Context) (string, error) { return mark, nil },
		worked: func(context.Context) (int, error) {
			time.Sleep(takes)
			worked++
			n := worked
			done <- struct{}{}
			return n, nil
		}}
	is := func(want int, f func(context.Context) (int, error), why string) {
		t.Helper()
		got, err := f(t.Context())
		require.NoError(t, err)
		assert.Equal(t, want, got, why)
	}
	is(1, m.get, "it is worked out")
	is(1, m.renew, "and kept, also by who would renew it")
	mark, takes = "b", quick+10*time.Millisecond
	is(2, m.get, "what is quick is never old")
	m.at = time.Time{} // long ago
	mark = "c"
	for range 2 {
		<-done
	}
	is(2, m.get, "what takes long is given as it was")
	<-done
	m.turn <- struct{}{}
	<-m.turn
	is(3, m.get, "while it is worked out anew")
	mark = "d"
	is(3, m.get, "which is not done all the time")
	is(4, m.renew, "but by who renews it")
	m.forget()
	is(5, m.get, "what is forgotten is waited for")
}
