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

// limiter bounds the requests that are in flight to one service: as many as the run allows, and
// fewer once the service shows that these are too many for it; and of one lane alone while that
// lane has the service for itself. It is safe for concurrent use; a nil one allows any number.
type limiter struct {
	most int // that the run allows

	mu       sync.Mutex // guards what follows
	unused   int        // of most, since the service slows down
	inFlight int        // requests
	holder   *Lane      // has the service for itself; nil: nobody has
	wanted   []waiter   // lanes that wait to have it for themselves, the first ones first
	urgent   []waiter   // requests that wait for room, the first ones first: these before all others
	waiting  []waiter
	controls map[string]time.Duration
	last     []observation // since the number was last changed, or looked at
	calm     int           // how often the last ones were quick, in a row
	slower   func(text string)
	pause    time.Time // until when the service wants to be left alone
	// changing are the addresses of records that a request changes, each with those that wait to
	// change it next.
	changing map[string][]waiter
}

// Lane is the way of an operation's requests to the service. While a lane has the service for
// itself, the requests of all others wait. It is safe for concurrent use; requests of no lane
// wait like those of any other.
type Lane struct {
	limiter *limiter // nil: any number may be in flight
	held    int      // how often the service was taken and not given back; guarded by limiter.mu
	urgent  bool     // guarded by limiter.mu
}

// waiter is who waits for its turn.
type waiter struct {
	turn chan struct{} // closed when it has come
	lane *Lane
}

// observation is how long a request was answered, next to the control of its operation.
type observation struct{ took, control time.Duration }

// times is how many times as long as its control it took.
func (l observation) times() float64 { return float64(l.took) / float64(max(l.control, 1)) }

func newLimiter(most int, slower func(text string)) *limiter {
	return &limiter{most: most, controls: map[string]time.Duration{}, slower: slower, changing: map[string][]waiter{}}
}

// Lane is a new lane to the service.
func (p *Service) Lane() *Lane {
	p.mu.Lock()
	defer p.mu.Unlock()
	return &Lane{limiter: p.limiter}
}

// Exclusive waits until no request is in flight, and has the requests of all other lanes wait
// until that is released. Where the context ends before, nothing is taken. It may be taken
// again while it is held.
func (l *Lane) Exclusive(ctx context.Context) (release func()) {
	f := l.limiter
	if f == nil {
		return func() {}
	}
	f.mu.Lock()
	if f.holder == l {
		l.held++
		f.mu.Unlock()
		return l.release
	}
	w := waiter{make(chan struct{}), l}
	f.wanted = append(f.wanted, w)
	f.admit()
	f.mu.Unlock()
	select {
	case <-w.turn:
		return l.release
	case <-ctx.Done():
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if !drop(&f.wanted, w) { // its turn has come meanwhile
		l.held = 0
		f.holder = nil
	}
	f.admit()
	return func() {}
}

// alone is a lane that has the service for itself, until it is released: one of its own, for a
// single request; or l, where that has it already.
func (l *Lane) alone(ctx context.Context) (own *Lane, release func()) {
	if l == nil || l.limiter == nil {
		return l, func() {}
	}
	l.limiter.mu.Lock()
	holds := l.limiter.holder == l
	l.limiter.mu.Unlock()
	if holds {
		return l, func() {}
	}
	own = &Lane{limiter: l.limiter}
	return own, own.Exclusive(ctx)
}

func (l *Lane) release() {
	l.limiter.mu.Lock()
	defer l.limiter.mu.Unlock()
	if l.held--; l.held == 0 {
		l.limiter.holder = nil
		l.limiter.admit()
	}
}

// Urgent says whether requests of the lane go before those of others that wait for room: others
// wait for what comes of them.
func (l *Lane) Urgent(is bool) {
	if l.limiter == nil {
		return
	}
	l.limiter.mu.Lock()
	defer l.limiter.mu.Unlock()
	l.urgent = is
}

// Busy has fewer requests in flight: the service had too much to do.
func (l *Lane) Busy() { l.limiter.busy(shortPause) }

// shortPause is for how long after that others say nothing new of the load.
const shortPause = 200 * time.Millisecond

func drop(queue *[]waiter, w waiter) bool {
	i := slices.Index(*queue, w)
	if i >= 0 {
		*queue = slices.Delete(*queue, i, i+1)
	}
	return i >= 0
}

// acquire waits until there is room for a request of a lane, which has to be given back.
func (f *limiter) acquire(ctx context.Context, lane *Lane) (release func(), err error) {
	if f == nil {
		return func() {}, nil
	}
	f.mu.Lock()
	if f.open(lane) {
		f.inFlight++
		f.mu.Unlock()
		return f.leave, nil
	}
	w := waiter{make(chan struct{}), lane}
	queue := &f.waiting
	if lane != nil && lane.urgent {
		queue = &f.urgent
	}
	*queue = append(*queue, w)
	f.mu.Unlock()
	select {
	case <-w.turn:
		return f.leave, nil
	case <-ctx.Done():
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if !drop(queue, w) { // its turn has come meanwhile
		f.inFlight--
		f.admit()
	}
	return nil, ctx.Err()
}

// Change waits until no other request changes the record at an address, which one of this lane then
// does, until it is done. The error is the context's.
func (l *Lane) Change(ctx context.Context, address string) (done func(), err error) {
	return l.limiter.change(ctx, l, address)
}

// change waits until no other request changes the record at an address, which it then does, until
// it is done. Who has the service for itself need not wait.
func (f *limiter) change(ctx context.Context, lane *Lane, address string) (done func(), err error) {
	if f == nil {
		return func() {}, nil
	}
	f.mu.Lock()
	if f.holder != nil && f.holder == lane {
		f.mu.Unlock()
		return func() {}, nil
	}
	done = func() { f.changed(address) }
	queue, busy := f.changing[address]
	if !busy {
		f.changing[address] = nil
		f.mu.Unlock()
		return done, nil
	}
	w := waiter{make(chan struct{}), lane}
	f.changing[address] = append(queue, w)
	f.mu.Unlock()
	select {
	case <-w.turn:
		return done, nil
	case <-ctx.Done():
	}
	f.mu.Lock()
	queue = f.changing[address]
	waits := drop(&queue, w)
	if waits {
		f.changing[address] = queue
	}
	f.mu.Unlock()
	if !waits { // its turn has come meanwhile
		done()
	}
	return nil, ctx.Err()
}

// changed lets the next request change the record at an address.
func (f *limiter) changed(address string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	queue := f.changing[address]
	if len(queue) == 0 {
		delete(f.changing, address)
		return
	}
	close(queue[0].turn)
	f.changing[address] = queue[1:]
}

// open reports whether a request of the lane may be sent now: that of who has the service for
// itself always may.
func (f *limiter) open(lane *Lane) bool {
	if f.holder != nil {
		return lane == f.holder
	}
	return len(f.wanted) == 0 && f.inFlight < f.most-f.unused
}

func (f *limiter) leave() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.inFlight--
	f.admit()
}

// admit gives turns to those who wait: first to who wants the service for itself, once nothing is
// in flight, then to requests, as far as there is room.
func (f *limiter) admit() {
	if f.holder != nil {
		return
	}
	if len(f.wanted) > 0 {
		if w := f.wanted[0]; f.inFlight == 0 {
			f.wanted = f.wanted[1:]
			f.holder, w.lane.held = w.lane, 1
			close(w.turn)
		}
		return
	}
	for _, queue := range []*[]waiter{&f.urgent, &f.waiting} {
		for len(*queue) > 0 && f.inFlight < f.most-f.unused {
			f.inFlight++
			close((*queue)[0].turn)
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

// observe looks at how long the answers take, as they come.
func (f *limiter) observe(c *exchange.Case, a *exchange.Answer) {
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
	if f.last = append(f.last, observation{a.Took, control}); len(f.last) < lookedAt {
		return
	}
	slices.SortFunc(f.last, func(a, b observation) int { return cmp.Compare(a.times(), b.times()) })
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
func (f *limiter) busy(wait time.Duration) {
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
func (f *limiter) fewer(why string) {
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

func (f *limiter) more() {
	if f.calm++; f.calm >= patience && f.unused > 0 {
		f.calm = 0
		f.unused--
		f.admit()
	}
}

func rounded(d time.Duration) time.Duration {
	if d < 10*time.Millisecond {
		return d.Round(100 * time.Microsecond)
	}
	return d.Round(time.Millisecond)
}
