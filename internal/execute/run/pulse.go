package run

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
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
func (o *operation) remember(ctx context.Context, c exchange.Case) {
	_, object := c.Body.(map[string]any)
	o.pulses.Lock()
	defer o.pulses.Unlock()
	switch {
	case o.own:
	case c.Request.Method == http.MethodGet && o.reader == nil:
		o.reader = &pulse{c, "accepted", exchange.Answer.Success}
		o.wake()
	case c.Request.Method != http.MethodGet && object && o.writer == nil && o.writers < maxWriters && strings.HasSuffix(exchange.MediaTypeOf(c.Request.Header("Content-Type")), "json"):
		o.writers++
		c.Request.Body, c.Body = []byte("[]"), []any{}
		if rejected(o.send(ctx, c, nil).Response) {
			o.writer = &pulse{c, "rejected", rejected}
			o.wake()
		}
	}
}

// wake tells that more operations can be tried side by side.
func (r *runner) wake() {
	select {
	case r.awake <- struct{}{}:
	default:
	}
}

// rejected reports whether an answer is about what is wrong with a request.
func rejected(a exchange.Answer) bool {
	return a.Err == "" && slices.Contains([]int{http.StatusBadRequest, http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity}, a.Status)
}

// feel sends what shows whether the service works. Where it does not, with nothing else in
// flight either, what the operation made is taken away; where that does not help, the
// service is broken, and what followed would be accused for it. It reports whether the
// service was disturbed.
func (o *operation) feel(ctx context.Context) (disturbed bool) {
	o.pulses.Lock()
	list := []*pulse{o.reader, o.writer}
	o.pulses.Unlock()
	list = slices.DeleteFunc(list, func(p *pulse) bool { return p == nil || o.single() && p.c.Operation == o.op.Name() })
	now := o.sofar()
	well := make([]bool, len(list))
	var all []func()
	for i, p := range list {
		all = append(all, func() { _, well[i] = o.feelIt(ctx, p) })
	}
	o.together(all)
	for i, p := range list {
		if !well[i] && ctx.Err() == nil {
			disturbed = true
			o.examine(ctx, p)
		}
	}
	if ctx.Err() == nil {
		o.forget(now)
	}
	return disturbed
}

// examine looks, with nothing else in flight, whether a request is answered as it was again.
// If not, that ends the run; the operation of the request itself is left to what is found
// of it.
func (o *operation) examine(ctx context.Context, p *pulse) {
	ctx, release := o.quiet(ctx)
	defer release()
	answer, broken := o.feelOne(ctx, p)
	if broken {
		broken = !o.restore(ctx, func() bool {
			answer, broken = o.feelOne(ctx, p)
			return !broken
		})
	}
	if ctx.Err() != nil {
		return
	}
	if !broken || p.c.Operation == o.op.Name() {
		o.storm()
		return
	}
	list, after := o.suspected(answer)
	o.stop(&BrokenError{Operation: cmp.Or(after, o.op.Name()), Request: p.c.Operation + p.says(), Before: p.before, Answer: answer, Case: p.c.ID, Suspects: list})
}

// says tells what is sent, where it is not a valid request.
func (p *pulse) says() string {
	if p.c.Request.Method == http.MethodGet {
		return ""
	}
	return " with the body " + string(instance.Encode(p.c.Body))
}

func (o *operation) feelOne(ctx context.Context, p *pulse) (answer string, broken bool) {
	for range 2 {
		a, well := o.feelIt(ctx, p)
		if well {
			return "", false
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

func (o *operation) feelIt(ctx context.Context, p *pulse) (a exchange.Answer, well bool) {
	a = o.send(ctx, p.c, nil).Response
	well = ctx.Err() != nil || p.well(a) || a.Status == http.StatusTooManyRequests ||
		p.c.Request.Method != http.MethodGet && a.Err == "" && a.Status < http.StatusInternalServerError // it is rejected for something else
	return a, well
}

// maxTrail bounds the cases that are remembered.
const maxTrail = 1024

// step is a case, and how it was answered.
type step struct {
	id, operation, answer string
	changes               bool // it was accepted, and no GET
}

// took remembers a case.
func (o *operation) took(c exchange.Case, a exchange.Answer) {
	s := step{c.ID, o.op.Name(), answered(a), a.Success() && c.Request.Method != http.MethodGet}
	if o.trail = append(o.trail, s); len(o.trail) > maxTrail {
		o.trail = o.trail[1:]
		o.passed++
	}
}

// sofar is how many cases were remembered until now, and forget lets go of so many: the
// service works after them.
func (r *runner) sofar() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.passed + len(r.trail)
}

func (r *runner) forget(n int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if n -= r.passed; n > 0 && r.lost == nil {
		r.trail = r.trail[n:]
		r.passed += n
	}
}

// suspected are the cases that may have broken a service that answers so now, and the
// operation of the likeliest.
func (r *runner) suspected(now string) (ids []string, operation string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.lost = &lost{now: now, suspects: map[string]bool{}, present: map[string]bool{}}
	for o := range r.present {
		r.lost.present[o.op.Name()] = true
	}
	defer func() {
		for _, id := range ids {
			r.lost.suspects[id] = true
		}
	}()
	if c := r.tried; c != nil {
		return []string{c.ID}, c.Operation
	}
	for i, s := range suspects(r.trail, now, r.opt.Parallel) {
		if i == 0 {
			operation = s.operation
		}
		ids = append(ids, s.id)
	}
	return ids, operation
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
func suspects(trail []step, now string, parallel int) []step {
	since := len(trail)
	for since > 0 && trail[since-1].answer == now {
		since--
	}
	if since == len(trail) || since == 0 {
		trail = slices.DeleteFunc(slices.Clone(trail), func(s step) bool { return !s.changes })
		since = len(trail)
		parallel = maxTrail
	}
	out := slices.Clone(trail[max(0, since-parallel):since])
	slices.Reverse(out)
	return out
}
