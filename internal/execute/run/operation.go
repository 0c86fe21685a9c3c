package run

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"sync"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
	"obiter/internal/generate/plan"
	"obiter/internal/results/record"
)

// operation is one operation being tried. Its fields are for the goroutine that tries it, but for
// those that its workers fill, which scheduler.mu guards.
type operation struct {
	*scheduler
	work           Work
	op             *plan.Operation
	left           chan struct{}                // closed when it is tried no longer
	outagesAtStart int                          // how often the service had failed for all when it began
	own            bool                         // it has records of its own
	accepted       map[string]bool              // controls, by shape
	sent           map[string]exchange.Exchange // controls that were sent before their turn, by id
	described      *exchange.Exchange           // the control as the description has it, where it was refused and another took its place
	control        *exchange.Case               // the fullest one, where it was accepted
	checksState    bool                         // a rejected case that changes the resource would be looked for
	mayBreak       bool                         // its requests may keep the service from working: the first accepted one did, or none was accepted yet
	repeated       map[string]repetition        // failures that were given again, by what they say

	held
}

// held is what workers keep of an operation's cases until they are sent again or looked for.
type held struct {
	repeats          []*rejection    // rejected, to be sent once more: those with the smallest ids
	rejected         []*rejection    // those among which a change would be looked for, by number; their answers are not stored
	acceptedSilently []*rejection    // accepted, with what only the service sets, and an empty answer
	doubtful         []*rejection    // failures, judged when they were sent again
	failing          []exchange.Case // cases that were answered with a 5xx, as planned
	rejectedBytes    int             // of the bodies of rejected
	doubtfulBytes    int             // of the bodies of doubtful
	timeouts         timeouts
}

// rejection is a case, of which most were rejected, as planned, with its exchange.
type rejection struct {
	planned *exchange.Case
	*exchange.Exchange
}

// slowTries is how often a slow rejection is sent again.
const slowTries = 2

// maxFailing bounds the cases of an operation that are sent again to see what is logged.
const maxFailing = 3

// Bounds of what is held to be sent again, and of edges held back.
const (
	maxRepeats     = 3
	maxRepeatBytes = 128 << 10 // of the bodies of one
	maxAgain       = 256
	maxAgainBytes  = 8 << 20
	maxHeldBytes   = 16 << 20
)

// cut leaves as much of an answer as is stored.
func (s *scheduler) cut(a *exchange.Answer) {
	if most := s.opt.MaxBody; most > 0 && len(a.Body) > most {
		a.Body, a.Truncated = a.Body[:most:most], true
	}
}

// exclusive waits until nothing else is in flight, and keeps it so until it is released.
func (o *operation) exclusive(ctx context.Context) (release func()) {
	if o.work.Lane == nil {
		return func() {}
	}
	return o.work.Lane.Exclusive(ctx)
}

// send sends a case and takes out what must not be stored. Where the connection is
// refused, and the service is there again, it is sent again.
func (o *operation) send(ctx context.Context, c exchange.Case, describe func(exchange.Answer) *exchange.Documented) exchange.Exchange {
	e := o.work.Send(ctx, c)
	for range goneTries {
		if e.Response.Err == "" || ctx.Err() != nil || !o.serviceReachable(ctx) || !e.Response.Refused {
			break
		}
		e = o.work.Send(ctx, c)
	}
	if describe != nil {
		e.Documented = describe(e.Response)
	}
	if o.opt.Redact != nil {
		e = o.opt.Redact(e)
	}
	return e
}

// run sends controls, then flawed requests, then edges: these are accepted and
// may change what is there, which nothing before them should have.
func (o *operation) run(ctx context.Context) {
	var edges []*exchange.Case
	held := 0
	var state *state
	between := false // the flaws of fields and those of requests as a whole
	var g sync.WaitGroup
	most := maxHeldBytes / o.maxConcurrentOps
	settled := false // nothing but edges is left
	wait := func() {
		g.Wait()
		o.resendDoubtful(ctx)
	}
	settle := func() {
		settled = true
		wait()
		if !o.checkOwn(ctx) {
			o.checkState(ctx, state)
		}
	}
	submit := func(c *exchange.Case) {
		if o.hasManyDoubtful() {
			wait()
		}
		o.submit(&g, func() { o.sendCase(ctx, c) })
	}
	for c := range o.op.Stream() {
		if o.ends(ctx) {
			break
		}
		if c == nil {
			settle()
			continue
		}
		if c.Kind == exchange.Control {
			o.reportDescribed(*c)
			o.tryControl(ctx, *c)
			continue
		}
		if state == nil && !settled {
			state = o.readBefore(ctx)
			_, reads := o.op.Reader()
			o.checksState = state.usable || reads && o.work.Around != nil
		}
		if !between && len(c.Flaws) > 0 && c.Flaws[0].In == "request" { // some of which may be accepted, and restore the resource
			between = true
			wait()
			o.readAfterFieldFlaws(ctx, state)
		}
		if held += len(c.Request.Body); c.Kind == exchange.Edge && !settled && held < most {
			edges = append(edges, c)
			continue
		}
		submit(c)
	}
	if !settled {
		settle()
	}
	for _, c := range edges {
		if o.ends(ctx) {
			break
		}
		submit(c)
	}
	wait()
	if !o.ends(ctx) {
		o.lookBack(ctx)
	}
}

// lookBack looks at what the cases left, and sends some of them once more.
func (o *operation) lookBack(ctx context.Context) {
	o.verifyStored(ctx)
	o.checkStored(ctx)
	o.sendRepeats(ctx)
	o.resendControl(ctx)
	if len(o.failing) == 0 {
		return
	}
	defer o.exclusive(ctx)()
	for _, c := range o.failing {
		if ctx.Err() == nil {
			o.opt.ResendForLog(ctx, c, o.work.Send)
		}
	}
}

// ends reports whether nothing more of the operation is to be sent.
func (o *operation) ends(ctx context.Context) bool {
	if ctx.Err() != nil || o.stopped() != "" {
		return true
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.err != nil || o.timeouts.givenUp() > 0 || o.isToEnd()
}

// stopped says why nothing more of the operation is to be sent; "" while more may be.
func (o *operation) stopped() string {
	if o.work.Stops == nil {
		return ""
	}
	return o.work.Stops()
}

// timeouts counts the requests of an operation that were not answered in time.
type timeouts struct{ inARow, all int }

// An operation is given up after so many time-outs, in a row or in all: each takes as
// long as a time-out does.
const (
	maxTimeoutsInARow = 6
	maxTimeouts       = 30
)

func (t *timeouts) count(a exchange.Answer) {
	if !a.Late {
		t.inARow = 0
		return
	}
	t.inARow++
	t.all++
}

// givenUp is the number of time-outs where they are too many, else 0.
func (t *timeouts) givenUp() int {
	if t.inARow >= maxTimeoutsInARow || t.all >= maxTimeouts {
		return t.all
	}
	return 0
}

func (o *operation) tryControl(ctx context.Context, c exchange.Case) {
	ok := o.sendCase(ctx, &c)
	o.accepted[c.Base] = ok
	if ok && o.control == nil {
		o.control = &c
		o.keepReader(c)
	}
}

// sendCase sends, judges and stores a case, and reports whether it was accepted. A failure of the
// service is judged later, when it was sent again.
func (o *operation) sendCase(ctx context.Context, c *exchange.Case) bool {
	e, was := o.alreadySent(*c)
	switch {
	case was:
	case c.Kind == exchange.Control:
		e = o.sendValid(ctx, *c, o.op.Describe)
	default:
		if e = o.send(ctx, *c, o.op.Describe); o.holdDoubtful(ctx, c, &e) {
			return false
		}
	}
	return o.takeAnswer(ctx, c, &e)
}

// takeAnswer judges and stores an exchange. What an interrupt cut off is not judged.
func (o *operation) takeAnswer(ctx context.Context, c *exchange.Case, e *exchange.Exchange) bool {
	if ctx.Err() != nil && e.Response.Err != "" && !brokenOff(ctx, *e) {
		return false
	}
	if brokenOff(ctx, *e) {
		e.Response.Shared = o.opt.Parallel > 1
	}
	o.cut(&e.Response)
	j := o.judged(e, true)
	// A busy machine is slow once; what is slow every time is the service.
	for range slowTries {
		if !slices.ContainsFunc(j.Findings, func(f judge.Finding) bool { return f.Code == "slow-rejection" }) {
			break
		}
		if again := o.send(ctx, *c, nil); again.Response.Err == "" && ctx.Err() == nil {
			e.Response.Took = min(e.Response.Took, again.Response.Took)
			j = o.judged(e, false)
		}
	}
	return o.result(e, j, func() {
		o.keepRejection(c, e, j)
		o.keepSilent(c, e)
		o.keepWriter(c, e)
		if o.opt.ResendForLog != nil && e.Response.Status >= http.StatusInternalServerError && len(o.failing) < maxFailing {
			o.failing = append(o.failing, *c)
		}
		o.suspect(*e)
		o.timeouts.count(e.Response)
		if !mayBeLoad(e.Response) || c.Kind == exchange.Control { // else it is there already
			o.appendTrail(*c, o.op.Name(), e.Response)
		}
	}) && e.Response.Success()
}

// keepRejection puts some of the rejected cases aside. Which ones are sent once more depends
// on nothing but the plan, and so does which ones are looked through for one that changes
// the resource, as long as there are few enough.
func (o *operation) keepRejection(planned *exchange.Case, e *exchange.Exchange, j judge.Judgement) {
	size := len(e.Request.Body) + len(e.Response.Body)
	if j.Fingerprint == nil || e.Response.Status == http.StatusTooManyRequests {
		return
	}
	at, _ := slices.BinarySearchFunc(o.repeats, e.ID, func(r *rejection, id string) int { return cmp.Compare(r.ID, id) })
	if at < maxRepeats && size <= maxRepeatBytes {
		e.Response.Forget()
		o.repeats = slices.Insert(o.repeats, at, &rejection{planned, e})
		o.repeats = slices.Delete(o.repeats, min(len(o.repeats), maxRepeats), len(o.repeats))
	}
	if o.checksState && len(o.rejected) < maxAgain && o.rejectedBytes+len(e.Request.Body) <= maxAgainBytes/o.maxConcurrentOps {
		o.rejectedBytes += len(e.Request.Body)
		at, _ := slices.BinarySearchFunc(o.rejected, e.Number, func(r *rejection, number int) int { return cmp.Compare(r.Number, number) })
		o.rejected = slices.Insert(o.rejected, at, &rejection{planned, &exchange.Exchange{Case: e.Case}})
	}
}

// sendRepeats sends a sample of what was rejected once more: the answer should be the same. One
// that differs is sent again with nothing else in flight, which may have been in its way.
func (o *operation) sendRepeats(ctx context.Context) {
	second := make([]exchange.Exchange, len(o.repeats))
	var all []func()
	for i, first := range o.repeats {
		all = append(all, func() { second[i] = o.send(ctx, *first.planned, nil) })
	}
	o.together(all)
	for i, first := range o.repeats {
		if second[i].Response.Status != first.Response.Status {
			release := o.exclusive(ctx)
			second[i] = o.send(ctx, *first.planned, nil)
			release()
		}
		if ctx.Err() == nil {
			o.cut(&second[i].Response)
			o.locked(func() {
				o.collector.repeated(record.Repeat{Case: first.Case, First: first.Response, Second: second[i].Response})
			})
		}
	}
}

// sendControlAgain sends the control with values of its own, and reports whether it was accepted, or
// is a conflict, as a second creation may rightly be.
func (o *operation) sendControlAgain(ctx context.Context) (e exchange.Exchange, accepted bool) {
	again := *o.control
	again.Again = true
	e = o.send(ctx, again, nil)
	return e, e.Response.Success() || e.Response.Status == http.StatusConflict
}

// resendControl sends the control once more: what flawed requests left behind may have
// spoilt it.
func (o *operation) resendControl(ctx context.Context) {
	if o.control == nil || o.op.Method == "DELETE" { // what is gone stays gone
		return
	}
	e, accepted := o.sendControlAgain(ctx)
	if !accepted { // or others are in its way
		release := o.exclusive(ctx)
		e, _ = o.sendControlAgain(ctx)
		release()
	}
	if ctx.Err() == nil {
		o.cut(&e.Response)
		o.locked(func() { o.closing(e) })
	}
}
