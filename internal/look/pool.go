package look

import (
	"context"
	"net/netip"
	"runtime"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"insegna.example/internal/core/binding"
)

// Pool runs many looks side by side. Two limits hold: how many work at once,
// and how many go to one address. A look that has waited for longer than a
// moment gives its place to another and goes on waiting outside, so silent
// endpoints do not slow the rest. While people ask the service for something, few
// work at once, so that they do not wait behind a survey.
type Pool struct {
	looker  *Looker             // does each look
	working *semaphore.Weighted // looks that hold a place
	few     *semaphore.Weighted // those that do while people ask
	asked   func() bool         // whether they do

	mu        sync.Mutex           // guards the map
	addresses map[netip.Addr]*gate // with looks under way or waiting
}

// gate limits the looks at one address; it lives while somebody uses it.
type gate struct {
	slots *semaphore.Weighted // for one address
	users int                 // looks under way or waiting
}

// Limits of a pool.
const (
	working    = 32                     // looks that use the processor
	perAddress = 64                     // looks at one address
	patience   = 150 * time.Millisecond // after this a look counts as waiting
	impatience = 20 * time.Millisecond  // the same where few work
)

// NewPool makes a pool over a looker. asked says whether people ask the service for
// something now.
func NewPool(l *Looker, asked func() bool) *Pool {
	return &Pool{looker: l, working: semaphore.NewWeighted(working), few: semaphore.NewWeighted(int64(max(1, runtime.GOMAXPROCS(0)/2))),
		asked: asked, addresses: map[netip.Addr]*gate{}}
}

// Look waits for its turn and looks. The error is the context's.
func (p *Pool) Look(ctx context.Context, endpoint netip.AddrPort, host string) (*binding.Observation, error) {
	g := p.enter(endpoint.Addr())
	defer p.leave(endpoint.Addr(), g)
	if err := g.slots.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	defer g.slots.Release(1)
	places, held := p.working, patience
	if p.asked() {
		places, held = p.few, impatience
	}
	if err := places.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	var once sync.Once
	release := func() { once.Do(func() { places.Release(1) }) }
	defer release()
	defer time.AfterFunc(held, release).Stop()
	o := p.looker.Look(ctx, endpoint, host)
	return o, ctx.Err()
}

// enter counts who waits at an address, so that its gate lives as long as
// anyone needs it.
func (p *Pool) enter(a netip.Addr) *gate {
	p.mu.Lock()
	defer p.mu.Unlock()
	g := p.addresses[a]
	if g == nil {
		g = &gate{slots: semaphore.NewWeighted(perAddress)}
		p.addresses[a] = g
	}
	g.users++
	return g
}

// leave drops a gate nobody needs, or the map would grow with every address
// ever looked at.
func (p *Pool) leave(a netip.Addr, g *gate) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if g.users--; g.users == 0 {
		delete(p.addresses, a)
	}
}
