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
