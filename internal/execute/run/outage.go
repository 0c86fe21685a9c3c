package run

import (
	"context"
	"net/http"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/plan"
)

// What one operation's requests do may keep the service from working for all others. Then
// the answers that these got meanwhile say nothing of them: each operation that was being
// tried is forgotten, and tried once more, with no other one next to it.

// maxOutages is how often a service may fail for all until its operations are tried one at a
// time.
const maxOutages = 3

// maxFirst is how many operations are tried one at a time, until there is a request that
// shows whether the service works.
const maxFirst = 3

// allowedNow is how many operations may be tried side by side, when so many have been tried.
func (s *scheduler) allowedNow(tried int) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.isSerial() || s.outages >= maxOutages || s.reader == nil && s.writer == nil && tried < maxFirst {
		return 1
	}
	return s.maxConcurrentOps
}

// serial has operations tried one at a time, until it is called again.
func (s *scheduler) serial(is bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.serialMode = is
}

// isSerial reports whether operations are tried one at a time.
func (s *scheduler) isSerial() bool { return s.maxConcurrentOps == 1 || s.serialMode }

// sendValid sends a valid request. The first that is accepted of an operation that is no GET may
// keep the service from working for all others: that is looked at at once, before another
// such request of another operation is sent, so that it is known which one it was.
func (o *operation) sendValid(ctx context.Context, c exchange.Case, describe func(exchange.Answer) *exchange.Documented) exchange.Exchange {
	if !o.mayBreak || c.Request.Method == http.MethodGet || !o.takeTurn(ctx) {
		return o.sendControl(ctx, c, describe)
	}
	defer func() { <-o.trying }()
	if o.work.Lane != nil { // the others wait for their turn to do the same
		o.work.Lane.Urgent(true)
		defer o.work.Lane.Urgent(false)
	}
	e := o.sendControl(ctx, c, describe)
	if e.Response.Success() && ctx.Err() == nil {
		o.locked(func() { o.mayHaveLost = &e.Case })
		failed, checked := o.checkHealth(ctx)
		o.mayBreak = failed || !checked
		o.locked(func() {
			if o.confirmer == nil { // else who looks whether the service works wants to know
				o.mayHaveLost = nil
			}
		})
	}
	return e
}

// takeTurn waits for the turn to send a valid request that may break the service. False where the
// operation ends before.
func (o *operation) takeTurn(ctx context.Context) bool {
	o.mu.Lock()
	interrupt, ends := o.interrupt, o.isToEnd()
	o.mu.Unlock()
	if ends {
		return false
	}
	select {
	case o.trying <- struct{}{}:
		return true
	case <-interrupt: // who has the turn may wait for this operation to end
	case <-ctx.Done():
	}
	return false
}

// sendControl sends a valid request, and once more where the service failed at it.
func (o *operation) sendControl(ctx context.Context, c exchange.Case, describe func(exchange.Answer) *exchange.Documented) exchange.Exchange {
	e := o.send(ctx, c, describe)
	if !mayBeLoad(e.Response) || ctx.Err() != nil {
		return e
	}
	return o.resend(ctx, c, e)
}

// enter notes that an operation is being tried, until it leaves.
func (o *operation) enter() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.present[o] = true
}

func (o *operation) leave() {
	o.mu.Lock()
	defer o.mu.Unlock()
	delete(o.present, o)
}

// beginConfirming makes the operation the one that looks whether the service works, and reports
// whether others are being tried. False where another one looks already.
func (o *operation) beginConfirming() (others, ok bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.confirmer != nil {
		return false, false
	}
	o.confirmer = o
	return len(o.present) > 1, true
}

// awaitOthers has the other operations end, and waits until what they created is deleted.
func (o *operation) awaitOthers(ctx context.Context) {
	var others []*operation
	o.locked(func() {
		o.verdict = make(chan struct{})
		o.interruptAll()
		for other := range o.present {
			if other != o {
				others = append(others, other)
			}
		}
	})
	for _, other := range others {
		select {
		case <-other.left:
		case <-ctx.Done():
			return
		}
	}
}

// endConfirming says what was found: whether the service failed for others, whose answers then
// say nothing of them.
func (o *operation) endConfirming(outage bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.confirmer, o.mayHaveLost = nil, nil
	if outage && !o.isSerial() {
		o.outages++
		o.interruptAll()
	}
	if o.verdict != nil {
		close(o.verdict)
		o.verdict = nil
	}
}

// isInOutage reports whether the service fails, or failed, for all while the operation is tried, as
// far as that is known.
func (o *operation) isInOutage() bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.confirmer != nil || o.isToEnd()
}

func (s *scheduler) interruptAll() {
	close(s.interrupt)
	s.interrupt = make(chan struct{})
}

// disturbed reports whether the service failed for all since the operation began.
func (o *operation) disturbed() bool { return !o.isSerial() && o.outages != o.outagesAtStart }

// isToEnd reports whether the operation is to end for others: what it is answered does not count,
// or what it created may keep the service from working.
func (o *operation) isToEnd() bool { return o.disturbed() || o.verdict != nil && o.confirmer != o }

// forgetAll forgets all of some operations, by their places in the plan, but for the cases
// that are told to have broken the service.
func (s *scheduler) forgetAll(p *plan.Plan, places []int) error {
	names := map[string]bool{}
	for _, place := range places {
		name := plan.WholeAPI
		if selected := p.Selected(); place < len(selected) {
			name = selected[place].Name()
		}
		names[name] = true
		s.mu.Lock()
		s.done -= s.report.Restart(name)
		s.mu.Unlock()
	}
	return s.drop(func(kind, operation, id string) bool {
		return names[operation] && !(kind == "case" && s.lost != nil && s.lost.suspects[id])
	})
}

// lost is what became of a service that does not work any more.
type lost struct {
	now      string          // how it answers
	suspects map[string]bool // ids of cases that may have done it
	present  map[string]bool // operations that were being tried
}

// drop takes lines out of what is kept.
func (s *scheduler) drop(gone func(kind, operation, id string) bool) error {
	if s.opt.Drop == nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.dropped = true
	return s.opt.Drop(gone)
}

// dropLost takes out of what is kept what a service answered since it was last seen to work,
// as it answers now that it does not: that says nothing of these cases.
func (s *scheduler) dropLost() error {
	if s.lost == nil {
		return nil
	}
	ids := map[string]bool{}
	for _, step := range s.trail {
		if step.answer == s.lost.now && !s.lost.suspects[step.id] {
			ids[step.id] = true
		}
	}
	return s.drop(func(kind, operation, id string) bool {
		if kind == "case" {
			return ids[id]
		}
		return kind != "operation" && s.lost.present[operation]
	})
}
