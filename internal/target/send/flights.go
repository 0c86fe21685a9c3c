package send

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"obiter/internal/core/exchange"
)

// flights are the requests that are in flight to one service: as many as the run allows, and
// fewer once the service shows that these are too many for it. It is safe for concurrent
// use; a nil one allows any number.
type flights struct {
	most  int          // that the run allows
	quiet sync.RWMutex // held alone by who wants nothing else in flight

	mu       sync.Mutex
	unused   int             // of most, since the service slows down
	inFlight int             // requests
	urgent   []chan struct{} // requests that wait for room, the first ones first: these before all others
	waiting  []chan struct{}
	controls map[string]time.Duration
	last     []landing // since the number was last changed, or looked at
	calm     int       // how often the last ones were quick, in a row
	slower   func(text string)
	pause    time.Time // until when the service wants to be left alone
}

// landing is a request that was answered, next to the control of its operation.
type landing struct{ took, control time.Duration }

// times is how many times as long as its control it took.
func (l landing) times() float64 { return float64(l.took) / float64(max(l.control, 1)) }

func newFlights(most int, slower func(text string)) *flights {
	return &flights{most: most, controls: map[string]time.Duration{}, slower: slower}
}

// aloneKey is the key of a context in which nothing else is in flight.
type aloneKey struct{}

// Alone waits until nothing is in flight to the service, and keeps it so for requests that
// are sent with the context that it gives, until that is released. Within another one it is
// that one.
func (p *Service) Alone(ctx context.Context) (alone context.Context, release func()) {
	p.mu.Lock()
	f := p.flights
	p.mu.Unlock()
	if f == nil || isAlone(ctx) {
		return ctx, func() {}
	}
	f.quiet.Lock()
	return context.WithValue(ctx, aloneKey{}, true), f.quiet.Unlock
}

func isAlone(ctx context.Context) bool { return ctx.Value(aloneKey{}) != nil }

// StillAlone is a context in which nothing else is in flight where that is so in another.
func StillAlone(ctx, other context.Context) context.Context {
	if isAlone(other) {
		return context.WithValue(ctx, aloneKey{}, true)
	}
	return ctx
}

// urgentKey is the key of a context whose requests go before others.
type urgentKey struct{}

// Urgent is a context whose requests do not wait behind those of others that wait for room:
// others wait for what comes of them.
func Urgent(ctx context.Context) context.Context { return context.WithValue(ctx, urgentKey{}, true) }

// start waits until there is room for a request, which has to be given back.
func (f *flights) start(ctx context.Context) (end func(), err error) {
	if f == nil || isAlone(ctx) {
		return func() {}, nil
	}
	f.quiet.RLock()
	if err := f.enter(ctx); err != nil {
		f.quiet.RUnlock()
		return nil, err
	}
	return f.leave, nil
}

func (f *flights) enter(ctx context.Context) error {
	f.mu.Lock()
	if f.inFlight < f.most-f.unused {
		f.inFlight++
		f.mu.Unlock()
		return nil
	}
	turn := make(chan struct{})
	queue := &f.waiting
	if ctx.Value(urgentKey{}) != nil {
		queue = &f.urgent
	}
	*queue = append(*queue, turn)
	f.mu.Unlock()
	select {
	case <-turn:
		return nil
	case <-ctx.Done():
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if i := slices.Index(*queue, turn); i >= 0 {
		*queue = slices.Delete(*queue, i, i+1)
	} else { // its turn has come meanwhile
		f.inFlight--
		f.next()
	}
	return ctx.Err()
}

func (f *flights) leave() {
	f.mu.Lock()
	f.inFlight--
	f.next()
	f.mu.Unlock()
	f.quiet.RUnlock()
}

// next lets those in who wait, as far as there is room.
func (f *flights) next() {
	for _, queue := range []*[]chan struct{}{&f.urgent, &f.waiting} {
		for len(*queue) > 0 && f.inFlight < f.most-f.unused {
			f.inFlight++
			close((*queue)[0])
			*queue = (*queue)[1:]
		}
	}
}

// When a service counts as slowed down: by the median, its answers take so many times as
// long as the controls of their operations did, and longer than load makes any service.
const (
	slowdown = 10
	slowest  = 250 * time.Millisecond
	lookedAt = 32 // answers at a time
)

// landed looks at how long the answers take, as they come.
func (f *flights) landed(c *exchange.Case, a *exchange.Answer) {
	if f == nil || f.most == 1 || a.Err != "" {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	control, known := f.controls[c.Operation]
	if !known && c.Kind == exchange.Control && a.Success() {
		f.controls[c.Operation] = a.Took
	}
	if !known {
		return
	}
	if f.last = append(f.last, landing{a.Took, control}); len(f.last) < lookedAt {
		return
	}
	slices.SortFunc(f.last, func(a, b landing) int { return cmp.Compare(a.times(), b.times()) })
	l := f.last[len(f.last)/2]
	f.last = f.last[:0]
	switch {
	case l.took > slowest && l.took > slowdown*l.control:
		f.fewer(fmt.Sprintf("an answer takes %s, and took %s at first", rounded(l.took), rounded(l.control)))
	case l.took > slowest && l.took > slowdown/2*l.control:
		f.calm = 0
	default:
		f.more()
	}
}

// busy is told that the service sent a request away, to come again later. What was in flight
// with it is sent away for the same reason.
func (f *flights) busy(wait time.Duration) {
	if f == nil {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	now := time.Now()
	if now.Before(f.pause) {
		return
	}
	f.pause, f.last = now.Add(wait), f.last[:0]
	f.fewer("it says that it is busy (429 or 503)")
}

// fewer halves how many are in flight, once so many have landed. That is said once.
func (f *flights) fewer(why string) {
	f.calm = 0
	room := f.most - f.unused
	if room == 1 {
		return
	}
	f.unused += room / 2
	if f.slower != nil {
		f.slower(fmt.Sprintf("the service slows down under the load: %s; from here on %d requests are in flight in place of %d, and more again as it recovers", why, f.most-f.unused, room))
		f.slower = nil
	}
}

// patience is how often the answers have to be quick before there is one more in flight.
const patience = 4

func (f *flights) more() {
	if f.calm++; f.calm >= patience && f.unused > 0 {
		f.calm = 0
		f.unused--
		f.next()
	}
}

func rounded(d time.Duration) time.Duration {
	if d < 10*time.Millisecond {
		return d.Round(100 * time.Microsecond)
	}
	return d.Round(time.Millisecond)
}
