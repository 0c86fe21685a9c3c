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

// canary is a request whose answer shows whether the service still works: a valid one that reads,
// or a flawed one that was rejected. It changes nothing.
type canary struct {
	c       exchange.Case
	before  string // how it is answered while the service works
	healthy func(a exchange.Answer) bool
}

// maxCanaryBody bounds the body of one, in bytes.
const maxCanaryBody = 64 << 10

// keepReader keeps the first accepted control of a GET. Records of its own are gone when others are
// tried.
func (o *operation) keepReader(c exchange.Case) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if !o.own && c.Request.Method == http.MethodGet && o.reader == nil {
		o.reader = &canary{c, "accepted", exchange.Answer.Success}
		o.wake()
	}
}

// keepWriter keeps the first rejected case whose body is no JSON, or no object where one is wanted,
// of an operation whose valid request is accepted: there is nothing in it that could be stored.
func (o *operation) keepWriter(c *exchange.Case, e *exchange.Exchange) {
	if o.own || o.writer != nil || o.control == nil || c.Kind != exchange.Flawed || len(c.Request.Body) == 0 || len(c.Request.Body) > maxCanaryBody ||
		c.Expect.Class != exchange.Syntax && !(c.Flaws[0].In == "body" && c.Flaws[0].Pointer == "" && c.Flaws[0].Rule == "type") || !isRejection(e.Response) || !strings.HasSuffix(exchange.MediaTypeOf(c.Request.Header("Content-Type")), "json") {
		return
	}
	o.writer = &canary{*c, "rejected", isRejection}
	o.wake()
}

// wake says that more operations can be tried side by side.
func (s *scheduler) wake() {
	select {
	case s.awake <- struct{}{}:
	default:
	}
}

// isRejection reports whether an answer is about what is wrong with a request.
func isRejection(a exchange.Answer) bool {
	return a.Err == "" && slices.Contains([]int{http.StatusBadRequest, http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity}, a.Status)
}

// checkHealth sends what shows whether the service works. Where it does not, with nothing else in
// flight either, what the operation created is deleted; where that does not help, the
// service is broken, and what followed would be accused for it. It reports whether the
// service failed, and whether there is anything that shows it.
func (o *operation) checkHealth(ctx context.Context) (failed, checked bool) {
	o.mu.Lock()
	now := o.trailLength()
	list := slices.DeleteFunc([]*canary{o.reader, o.writer}, func(p *canary) bool { return p == nil || o.isSerial() && p.c.Operation == o.op.Name() })
	o.mu.Unlock()
	healthy := make([]bool, len(list))
	var all []func()
	for i, p := range list {
		all = append(all, func() { _, healthy[i] = o.checkOnce(ctx, p) })
	}
	o.together(all)
	for i, p := range list {
		if !healthy[i] && ctx.Err() == nil {
			failed = true
			o.confirm(ctx, p)
		}
	}
	checked = len(list) > 0 && ctx.Err() == nil
	if checked {
		o.locked(func() { o.forget(now) })
	}
	return failed, checked
}

// confirm looks, with nothing else in flight, whether a request is answered as it was again.
// If not, that ends the run; the operation of the request itself is left to what is found
// of it. One operation does so at a time.
func (o *operation) confirm(ctx context.Context, p *canary) {
	others, ok := o.beginConfirming()
	if !ok {
		return
	}
	broken, answer := o.isBroken(ctx, p)
	if broken && o.work.Restore != nil {
		release := o.exclusive(ctx)
		o.work.Restore(ctx)
		release()
		broken, answer = o.isBroken(ctx, p)
	}
	if broken && others {
		o.awaitOthers(ctx) // which delete what they created
		broken, answer = o.isBroken(ctx, p)
	}
	if ctx.Err() == nil && broken && p.c.Operation != o.op.Name() {
		list, after := o.suspected(answer)
		o.stop(&BrokenError{Operation: cmp.Or(after, o.op.Name()), Request: p.c.Operation + p.says(), Before: p.before, Answer: answer, Case: p.c.ID, Suspects: list})
		others = false // what they were answered is looked at one by one
	}
	o.endConfirming(others && ctx.Err() == nil)
}

// isBroken reports whether a request is not answered as it was, with nothing else in flight, and
// how it is.
func (o *operation) isBroken(ctx context.Context, p *canary) (broken bool, answer string) {
	defer o.exclusive(ctx)()
	for range 2 {
		a, healthy := o.checkOnce(ctx, p)
		if healthy {
			return false, ""
		}
		answer = answered(a)
		select {
		case <-ctx.Done():
			return false, ""
		case <-time.After(gonePause):
		}
	}
	return true, answer
}

// says is what is wrong with the request, where something is.
func (p *canary) says() string {
	if len(p.c.Flaws) == 0 {
		return ""
	}
	return " (" + p.c.Flaws[0].Where() + ": " + p.c.Flaws[0].Reason + ")"
}

func (o *operation) checkOnce(ctx context.Context, p *canary) (a exchange.Answer, healthy bool) {
	e := o.send(ctx, p.c, nil)
	o.locked(func() { o.suspect(e) })
	a = e.Response
	healthy = ctx.Err() != nil || p.healthy(a) || a.Status == http.StatusTooManyRequests ||
		p.c.Request.Method != http.MethodGet && a.Err == "" && a.Status < http.StatusInternalServerError // it is rejected for something else
	return a, healthy
}

// maxTrail bounds the cases that are remembered.
const maxTrail = 1024

// step is a case, and how it was answered.
type step struct {
	id, operation, answer string
	changes               bool // it was accepted, and no GET
}

// appendTrail remembers a case.
func (s *scheduler) appendTrail(c exchange.Case, operation string, a exchange.Answer) {
	last := step{c.ID, operation, answered(a), a.Success() && c.Request.Method != http.MethodGet}
	if s.trail = append(s.trail, last); len(s.trail) > maxTrail {
		s.trail = s.trail[1:]
		s.passed++
	}
}

// trailLength is how many cases were remembered until now, and forget lets go of so many: the
// service works after them.
func (s *scheduler) trailLength() int { return s.passed + len(s.trail) }

func (s *scheduler) forget(n int) {
	if n -= s.passed; n > 0 && s.lost == nil {
		s.trail = s.trail[n:]
		s.passed += n
	}
}

// suspected are the cases that may have broken a service that answers so now, and the
// operation of the likeliest.
func (s *scheduler) suspected(now string) (ids []string, operation string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lost = &lost{now: now, suspects: map[string]bool{}, present: map[string]bool{}}
	for o := range s.present {
		s.lost.present[o.op.Name()] = true
	}
	defer func() {
		for _, id := range ids {
			s.lost.suspects[id] = true
		}
	}()
	if c := s.mayHaveLost; c != nil {
		return []string{c.ID}, c.Operation
	}
	for i, step := range suspects(s.trail, now, s.opt.Parallel) {
		if i == 0 {
			operation = step.operation
		}
		ids = append(ids, step.id)
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
