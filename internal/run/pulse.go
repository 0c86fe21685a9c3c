package run

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"obiter/internal/exchange"
	"obiter/internal/instance"
	"obiter/internal/judge"
)

// BrokenError says that an operation broke the service for the others: a request is
// not answered any more as it was before.
type BrokenError struct {
	Operation string // after which
	Request   string // the operation of the request
	Before    string // how it was answered
	Answer    string
	Case      string   // id of the valid request that the request is, or is made of
	Suspects  []string // ids of cases of the operation that may have done it, the likeliest first
}

func (e *BrokenError) Error() string {
	return fmt.Sprintf("after %s the service does not work any more: %s, which was %s before, is answered with %s", e.Operation, e.Request, e.Before, e.Answer)
}

// pulse is a request whose answer shows whether the service still works. It changes
// nothing: one reads, and one is a body that the operation rejects.
type pulse struct {
	c      exchange.Case
	before string // how it is answered while the service works
	well   func(a exchange.Answer) bool
}

// maxWriters bounds how many operations are sent a body to see whether they reject it.
const maxWriters = 3

// remember keeps the first accepted control of a GET, and one of an operation with a
// body, which is sent a list where it takes an object. Records of its own are gone
// when others are tried.
func (r *runner) remember(ctx context.Context, c exchange.Case, own bool) {
	_, object := c.Body.(map[string]any)
	switch {
	case own:
	case c.Request.Method == http.MethodGet && r.reader == nil:
		r.reader = &pulse{c, "accepted", exchange.Answer.Success}
	case c.Request.Method != http.MethodGet && object && r.writer == nil && r.writers < maxWriters && strings.HasSuffix(exchange.MediaTypeOf(c.Request.Header("Content-Type")), "json"):
		r.writers++
		c.Request.Body, c.Body = []byte("[]"), []any{}
		if rejected(r.send(ctx, c, nil).Response) {
			r.writer = &pulse{c, "rejected", rejected}
		}
	}
}

// rejected reports whether an answer is about what is wrong with a request.
func rejected(a exchange.Answer) bool {
	return a.Err == "" && slices.Contains([]int{http.StatusBadRequest, http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity}, a.Status)
}

// feel sends what shows whether the service works again. One that does not, twice, is
// broken, and what followed would be accused for it. The trail are the cases since the
// last time.
func (r *runner) feel(ctx context.Context, after string, trail []step) {
	for _, p := range []*pulse{r.reader, r.writer} {
		if p == nil || p.c.Operation == after {
			continue
		}
		answer, broken := r.feelOne(ctx, p)
		if broken && r.opt.Restore != nil {
			r.opt.Restore(ctx)
			answer, broken = r.feelOne(ctx, p)
		}
		if broken {
			r.stop(&BrokenError{Operation: after, Request: p.c.Operation + p.says(), Before: p.before, Answer: answer, Case: p.c.ID, Suspects: suspects(trail, answer, max(r.opt.Parallel, 1))})
			return
		}
	}
}

// says tells what is sent, where it is not a valid request.
func (p *pulse) says() string {
	if p.c.Request.Method == http.MethodGet {
		return ""
	}
	return " with the body " + string(instance.Encode(p.c.Body))
}

func (r *runner) feelOne(ctx context.Context, p *pulse) (answer string, broken bool) {
	for range 2 {
		a := r.send(ctx, p.c, nil).Response
		if ctx.Err() != nil || p.well(a) || a.Status == http.StatusTooManyRequests {
			return "", false
		}
		if p.c.Request.Method != http.MethodGet && a.Err == "" && a.Status < http.StatusInternalServerError {
			return "", false // it is rejected for something else
		}
		answer = answered(a)
		select {
		case <-ctx.Done():
			return "", false
		case <-time.After(gonePause):
		}
	}
	return answer, true
}

// maxTrail bounds the cases that are remembered.
const maxTrail = 256

// step is a case of the operation that is being tried, and how it was answered.
type step struct {
	id, answer string
	changes    bool // it was accepted, and no GET
}

// took remembers a case.
func (o *operation) took(c exchange.Case, a exchange.Answer) {
	s := step{c.ID, answered(a), a.Success() && c.Request.Method != http.MethodGet}
	if o.trail = append(o.trail, s); len(o.trail) > maxTrail {
		o.trail = o.trail[1:]
	}
}

// answered is an answer in a word or two.
func answered(a exchange.Answer) string {
	if a.Err != "" {
		return a.Err
	}
	return judge.StatusText(a.Status)
}

// suspects are the cases after which a service was broken that answers so now, the
// likeliest first: the last ones before it answered everything so, else those that were
// accepted.
func suspects(trail []step, now string, parallel int) []string {
	since := len(trail)
	for since > 0 && trail[since-1].answer == now {
		since--
	}
	if since == len(trail) || since == 0 {
		trail = slices.DeleteFunc(slices.Clone(trail), func(s step) bool { return !s.changes })
		since = len(trail)
		parallel = maxTrail
	}
	var out []string
	for _, s := range slices.Backward(trail[max(0, since-parallel):since]) {
		out = append(out, s.id)
	}
	return out
}
