package send

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"obiter/internal/core/exchange"
)

// crowd is a service that knows how many requests it deals with at a time.
type crowd struct {
	now, most atomic.Int32
	took      func(now int32) time.Duration
	status    atomic.Int32
}

func (c *crowd) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	now := c.now.Add(1)
	defer c.now.Add(-1)
	for most := c.most.Load(); now > most && !c.most.CompareAndSwap(most, now); most = c.most.Load() {
	}
	time.Sleep(c.took(now))
	if status := c.status.Swap(0); status != 0 {
		w.Header().Set("Retry-After", "0")
		w.WriteHeader(int(status))
	}
}

// crowded is a service with a sender of at most so many requests.
func crowded(t *testing.T, parallel int, took func(now int32) time.Duration) (c *crowd, s *Sender, said *atomic.Pointer[[]string]) {
	t.Helper()
	c = &crowd{took: took}
	server := httptest.NewServer(c)
	t.Cleanup(server.Close)
	base, err := url.Parse(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	said = &atomic.Pointer[[]string]{}
	said.Store(&[]string{})
	s, err = New(base, Options{Parallel: parallel, Slower: func(text string) {
		list := append(*said.Load(), text)
		said.Store(&list)
	}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return c, s, said
}

// many sends requests, more of them at a time than may be in flight.
func many(ctx context.Context, s *Sender, n int, kind exchange.Kind) {
	var sending sync.WaitGroup
	hands := make(chan struct{}, 64)
	for range n {
		hands <- struct{}{}
		sending.Go(func() {
			defer func() { <-hands }()
			s.Send(ctx, exchange.Case{ID: "0123456789", Kind: kind, Operation: "GET /tides", Request: exchange.Request{Method: "GET", URL: s.base.String() + "/tides"}})
		})
	}
	sending.Wait()
}

func TestNoMoreAreInFlight(t *testing.T) {
	c, s, said := crowded(t, 5, func(int32) time.Duration { return 2 * time.Millisecond })
	many(context.Background(), s, 200, exchange.Flawed)
	if most := c.most.Load(); most != 5 {
		t.Errorf("%d are in flight, want 5", most)
	}
	// Others of the same service count with them.
	other := s.With(nil, nil)
	c.most.Store(0)
	var both sync.WaitGroup
	for _, s := range []*Sender{s, other} {
		both.Go(func() { many(context.Background(), s, 100, exchange.Flawed) })
	}
	both.Wait()
	if most := c.most.Load(); most != 5 || len(*said.Load()) > 0 {
		t.Errorf("%d are in flight, want 5; said is %q", most, *said.Load())
	}
}

// TestWhatIsUrgentGoesFirst, however many wait; and one that is not waited for any more is not
// sent.
func TestWhatIsUrgentGoesFirst(t *testing.T) {
	_, s, _ := crowded(t, 1, func(int32) time.Duration { return 5 * time.Millisecond })
	ctx, stop := context.WithCancel(context.Background())
	var others sync.WaitGroup
	for range 40 {
		others.Go(func() { many(ctx, s, 1, exchange.Flawed) })
	}
	f := s.opt.Service.limiter
	for waiting := 0; waiting < 38; time.Sleep(time.Millisecond) {
		f.mu.Lock()
		waiting = len(f.waiting)
		f.mu.Unlock()
	}
	urgent := s.opt.Service.Lane()
	urgent.Urgent(true)
	many(context.Background(), s.In(urgent), 2, exchange.Control)
	f.mu.Lock()
	if n := len(f.waiting); n < 30 {
		t.Errorf("%d of 40 have gone before it", 40-n)
	}
	f.mu.Unlock()
	stop()
	others.Wait()
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.inFlight != 0 || len(f.waiting)+len(f.urgent) > 0 {
		t.Errorf("%d are in flight, %d wait", f.inFlight, len(f.waiting)+len(f.urgent))
	}
}

func TestNothingElseIsInFlight(t *testing.T) {
	c, s, _ := crowded(t, 8, func(int32) time.Duration { return time.Millisecond })
	ctx, stop := context.WithCancel(context.Background())
	var others sync.WaitGroup
	others.Go(func() {
		for ctx.Err() == nil {
			many(ctx, s, 50, exchange.Flawed)
		}
	})
	for range 20 {
		lane := s.opt.Service.Lane()
		release := lane.Exclusive(context.Background())
		c.most.Store(0)
		again := lane.Exclusive(context.Background()) // which is the same
		many(context.Background(), s.In(lane), 1, exchange.Control)
		again()
		many(context.Background(), s.In(lane), 1, exchange.Control)
		if most := c.most.Load(); most != 1 {
			t.Errorf("%d are in flight with it", most-1)
		}
		release()
	}
	held := s.opt.Service.Lane().Exclusive(context.Background())
	late, giveUp := context.WithTimeout(context.Background(), 5*time.Millisecond)
	s.opt.Service.Lane().Exclusive(late)() // which it never has
	giveUp()
	held()
	stop()
	others.Wait()
	if f := s.opt.Service.limiter; f.inFlight != 0 || f.holder != nil || len(f.wanted)+len(f.waiting) > 0 {
		t.Errorf("in the end %d are in flight, %d and %d wait", f.inFlight, len(f.wanted), len(f.waiting))
	}
}

// TestABusyServiceIsAskedAgainAlone: what it sent away comes back with nothing else in flight.
func TestABusyServiceIsAskedAgainAlone(t *testing.T) {
	var now, refused atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		n := now.Add(1)
		defer now.Add(-1)
		time.Sleep(2 * time.Millisecond)
		if n > 1 || now.Load() > 1 {
			w.Header().Set("Retry-After", "0")
			w.WriteHeader(http.StatusTooManyRequests)
			refused.Add(1)
		}
	}))
	t.Cleanup(server.Close)
	base, _ := url.Parse(server.URL)
	s, err := New(base, Options{Parallel: 8})
	if err != nil {
		t.Fatal(err)
	}
	var sending sync.WaitGroup
	for range 8 {
		sending.Go(func() {
			a := s.In(s.opt.Service.Lane()).Send(context.Background(), exchange.Case{ID: "0123456789", Kind: exchange.Flawed, Request: exchange.Request{Method: "GET", URL: server.URL + "/tides"}})
			if a.Status != http.StatusOK {
				t.Errorf("the answer is %d %s", a.Status, a.Err)
			}
		})
	}
	sending.Wait()
	if n := refused.Load(); n == 0 || n > 8 {
		t.Errorf("%d requests were sent away, of 8", n)
	}
}

// TestAServiceThatSlowsDown has fewer requests in flight, which is said once, and more again
// when it has recovered; one that is slow with a single request has not slowed down.
func TestAServiceThatSlowsDown(t *testing.T) {
	var weak atomic.Bool
	weak.Store(true)
	_, s, said := crowded(t, 16, func(now int32) time.Duration {
		if weak.Load() && now > 4 {
			return slowest + 50*time.Millisecond
		}
		return time.Millisecond
	})
	ctx := context.Background()
	inFlight := func() int {
		f := s.opt.Service.limiter
		f.mu.Lock()
		defer f.mu.Unlock()
		return f.most - f.unused
	}
	many(ctx, s, 1, exchange.Control)
	for n := 0; inFlight() > 4 && n < 20; n++ {
		many(ctx, s, 2*lookedAt, exchange.Flawed)
	}
	if got := inFlight(); got > 4 || got < 1 {
		t.Errorf("%d are in flight", got)
	}
	if list := *said.Load(); len(list) != 1 || !strings.Contains(list[0], "the service slows down under the load: an answer takes ") || !strings.Contains(list[0], "8 requests are in flight in place of 16") {
		t.Errorf("said is %q", list)
	}
	weak.Store(false)
	for n := 0; inFlight() < 16 && n < 200; n++ {
		many(ctx, s, lookedAt*patience, exchange.Flawed)
	}
	if got := inFlight(); got != 16 {
		t.Errorf("of a service that has recovered %d are in flight", got)
	}

	_, s, said = crowded(t, 16, func(int32) time.Duration { return slowest + 20*time.Millisecond })
	many(ctx, s, 1, exchange.Control)
	many(ctx, s, 3*lookedAt, exchange.Flawed)
	if got := inFlight(); got != 16 || len(*said.Load()) > 0 {
		t.Errorf("of a service that is always slow %d are in flight, and said is %q", got, *said.Load())
	}
}

// TestABusyServiceHasFewer in flight; one pause counts once.
func TestABusyServiceHasFewer(t *testing.T) {
	c, s, said := crowded(t, 8, func(int32) time.Duration { return time.Millisecond })
	c.status.Store(http.StatusTooManyRequests)
	many(context.Background(), s, 60, exchange.Flawed)
	f := s.opt.Service.limiter
	f.mu.Lock()
	defer f.mu.Unlock()
	if list := *said.Load(); f.unused > 4 || f.unused == 0 || len(list) != 1 || !strings.Contains(list[0], "it says that it is busy") {
		t.Errorf("%d are not used, and said is %q", f.unused, list)
	}
}
