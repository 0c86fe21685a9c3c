package send

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"sync"
	"time"

	"obiter/internal/exchange"
)

// Pause is how long a busy service wants to be left alone: all who send to it share one.
// The zero value is ready. It is safe for concurrent use.
type Pause struct {
	mu    sync.Mutex
	until time.Time
	spent time.Duration // of all pauses so far
}

// maxPauses bounds how long a run waits in all.
const maxPauses = 5 * time.Minute

// begin makes everybody wait from now on. The reason says why nobody does; empty: the
// pause has begun, or one that is as long.
func (p *Pause) begin(wait, most time.Duration) string {
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
	p.until, p.spent = now.Add(wait), p.spent+longer
	return ""
}

// over waits until the pause is over; false where the context ends before.
func (p *Pause) over(ctx context.Context) bool {
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
