package send

import (
	"context"
	"sync"
	"time"
)

// grace is how long an exchange may go on after an interrupt: what it makes is known
// only by its answer.
const grace = time.Second

// graces give the contexts of exchanges that an interrupt lets end. Those that are under the
// same context share one. The zero value is ready; it is safe for concurrent use.
type graces struct {
	mu   sync.Mutex
	last *graced
}

// graced is a context that ends a while after another one.
type graced struct {
	after  context.Context
	flight context.Context
	end    func()
	using  int
}

func (g *graces) enter(after context.Context) *graced {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.last == nil || g.last.after != after {
		if g.last != nil && g.last.using == 0 {
			g.last.end()
		}
		g.last = newGraced(after)
	}
	g.last.using++
	return g.last
}

func (g *graces) leave(x *graced) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if x.using--; x.using == 0 && x != g.last {
		x.end()
	}
}

func newGraced(after context.Context) *graced {
	flight, cancel := context.WithCancel(context.WithoutCancel(after))
	stop := context.AfterFunc(after, func() {
		timer := time.AfterFunc(grace, cancel)
		context.AfterFunc(flight, func() { timer.Stop() })
	})
	return &graced{after: after, flight: flight, end: func() {
		stop()
		cancel()
	}}
}
