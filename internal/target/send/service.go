package send

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"obiter/internal/core/exchange"
)

// Service is what all who send to one service know of it: how long it wants to be left
// alone while it is busy, and which HTTP it speaks. The zero value is ready. It is safe
// for concurrent use.
type Service struct {
	mu     sync.Mutex
	until  time.Time
	spent  time.Duration // of all pauses so far
	wasted time.Duration // of those since one last helped

	answers atomic.Bool   // it has answered in HTTP/1.1, or in what was agreed under TLS
	h2c     atomic.Bool   // without TLS it speaks HTTP/2 alone
	pace    *rate.Limiter // nil: as fast as it answers
	limiter *limiter      // nil: any number at a time
	graces  graces
}

// limit sets how many requests are sent a second at most, evenly, and how many are in
// flight at most, as far as the options say so. The first one counts.
func (p *Service) limit(opt Options) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if opt.Rate > 0 && p.pace == nil {
		p.pace = rate.NewLimiter(rate.Limit(opt.Rate), 1)
	}
	if opt.Parallel > 0 && p.limiter == nil {
		p.limiter = newLimiter(opt.Parallel, opt.Slower)
	}
}

// turn waits until the next request may be sent.
func (p *Service) turn(ctx context.Context) error {
	p.mu.Lock()
	pace := p.pace
	p.mu.Unlock()
	if pace == nil {
		return nil
	}
	return pace.Wait(ctx)
}

// How long a run waits in all, and while that does not help.
const (
	maxPauses = 5 * time.Minute
	maxWasted = 40 * time.Second
)

// helped notes that a request was answered after a pause.
func (p *Service) helped() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.wasted = 0
}

// begin makes everybody wait from now on. The reason says why nobody does; empty: the
// pause has begun, or one that is as long.
func (p *Service) begin(wait, most time.Duration) string {
	switch {
	case wait >= farAway:
		return "it asks for a pause without end"
	case wait > most:
		return fmt.Sprintf("it asks for a pause of %s, and %s is waited at most", wait.Round(time.Second), most)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	now := time.Now()
	longer := now.Add(wait).Sub(p.until)
	if p.until.Before(now) {
		longer = wait
	}
	if longer <= 0 {
		return ""
	}
	if p.spent+longer > maxPauses {
		return fmt.Sprintf("the run has waited %s for the service in all", p.spent.Round(time.Second))
	}
	if p.wasted+longer > maxWasted {
		return fmt.Sprintf("waiting %s for it has not helped", p.wasted.Round(time.Second))
	}
	p.until, p.spent, p.wasted = now.Add(wait), p.spent+longer, p.wasted+longer
	return ""
}

// over waits until the pause is over; false where the context ends before.
func (p *Service) over(ctx context.Context) bool {
	for {
		p.mu.Lock()
		left := time.Until(p.until)
		p.mu.Unlock()
		if left <= 0 {
			return true
		}
		timer := time.NewTimer(left)
		select {
		case <-ctx.Done():
			timer.Stop()
			return false
		case <-timer.C:
		}
	}
}

// farAway stands for a pause that is longer than can be counted.
const farAway = 1 << 62

// retryAfter reads how long a busy service asks to wait: in seconds, or until a
// date (RFC 9110, section 10.2.3).
func retryAfter(a exchange.Answer) (time.Duration, bool) {
	if a.Err != "" || a.Status != http.StatusTooManyRequests && a.Status != http.StatusServiceUnavailable {
		return 0, false
	}
	after := a.Header.Get("Retry-After")
	wait := time.Duration(0)
	if seconds, err := strconv.ParseUint(after, 10, 64); err == nil || digits(after) {
		if wait = farAway; err == nil && seconds < 1<<31 {
			wait = time.Duration(seconds) * time.Second
		}
	} else if at, err := http.ParseTime(after); err == nil {
		wait = time.Until(at)
	} else {
		return time.Second, a.Status == http.StatusTooManyRequests
	}
	return max(wait, 100*time.Millisecond), true
}

// digits reports whether a text is a number of any length.
func digits(s string) bool {
	for _, r := range s {
		if r < '0' || r > '9' {
			return false
		}
	}
	return s != ""
}
