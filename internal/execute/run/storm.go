package run

import (
	"context"
	"maps"
	"net/http"
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/plan"
)

// What one operation's requests do may keep the service from working for all others. Then
// the answers that these got meanwhile say nothing of them: each operation that was being
// tried is forgotten, and tried once more, with no other one next to it.

// maxStorms is how often a service may be disturbed until its operations are tried one at a
// time.
const maxStorms = 3

// maxFirst is how many operations are tried one at a time, until there is a request that
// shows whether the service works.
const maxFirst = 3

// side is how many operations may be tried side by side, when so many have been tried.
func (r *runner) side(tried int) int {
	if r.single() || r.storms.Load() >= maxStorms {
		return 1
	}
	r.pulses.Lock()
	defer r.pulses.Unlock()
	if r.reader == nil && r.writer == nil && tried < maxFirst {
		return 1
	}
	return r.aside
}

// single reports whether operations are tried one at a time.
func (r *runner) single() bool { return r.aside == 1 || r.solo.Load() }

// valid sends a valid request. The first that is accepted of an operation that is no GET may
// keep the service from working for all others: that is looked at at once, before another
// such request of another operation is sent, so that it is known which one it was.
func (o *operation) valid(ctx context.Context, c exchange.Case, describe func(exchange.Answer) *exchange.Documented) exchange.Exchange {
	if !o.disturbs || c.Request.Method == http.MethodGet || o.disturbed() {
		return o.send(ctx, c, describe)
	}
	o.trying.Lock()
	defer o.trying.Unlock()
	if o.opt.Urgent != nil { // the others wait for their turn to do the same
		ctx = o.opt.Urgent(ctx)
	}
	e := o.send(ctx, c, describe)
	if e.Response.Success() && ctx.Err() == nil {
		o.mayBreak(&e.Case)
		o.disturbs = o.feel(ctx)
		o.mayBreak(nil)
	}
	return e
}

// mayBreak notes the valid request that was just accepted, until it is known whether the
// service still works; nil then.
func (r *runner) mayBreak(c *exchange.Case) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.tried = c
}

// enter notes that an operation is being tried, until it leaves.
func (r *runner) enter(o *operation) (leave func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.present[o] = true
	return func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.present, o)
	}
}

// others are the operations that are being tried next to one.
func (o *operation) others() []*operation {
	o.mu.Lock()
	defer o.mu.Unlock()
	others := maps.Clone(o.present)
	delete(others, o)
	return slices.Collect(maps.Keys(others))
}

// disturbed reports whether the service did not work for a while since the operation began.
func (o *operation) disturbed() bool { return !o.single() && o.storms.Load() != o.calm }

// storm notes that the service did not work for a while, where others were being tried.
func (o *operation) storm() {
	if !o.single() && len(o.others()) > 0 {
		o.storms.Add(1)
	}
}

// restore takes away what the operation has made, and, if that does not help, what the
// others have; it reports whether the service works again.
func (o *operation) restore(ctx context.Context, works func() bool) bool {
	for _, o := range append([]*operation{o}, o.others()...) {
		if o.work.Restore == nil {
			continue
		}
		if o.work.Restore(ctx); works() {
			return true
		}
	}
	return false
}

// forgetAll forgets all of some operations, by their places in the plan, but for the cases
// that are told to have broken the service.
func (r *runner) forgetAll(p *plan.Plan, places []int) error {
	names := map[string]bool{}
	for _, place := range places {
		name := plan.WholeAPI
		if selected := p.Selected(); place < len(selected) {
			name = selected[place].Name()
		}
		names[name] = true
		r.mu.Lock()
		r.done -= r.report.Restart(name)
		r.mu.Unlock()
	}
	return r.drop(func(kind, operation, id string) bool {
		return names[operation] && !(kind == "case" && r.lost != nil && r.lost.suspects[id])
	})
}

// lost is what became of a service that does not work any more.
type lost struct {
	now      string          // how it answers
	suspects map[string]bool // ids of cases that may have done it
	present  map[string]bool // operations that were being tried
}

// drop takes lines out of what is kept.
func (r *runner) drop(gone func(kind, operation, id string) bool) error {
	if r.opt.Drop == nil {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.dropped = true
	return r.opt.Drop(gone)
}

// dropLost takes out of what is kept what a service answered since it was last seen to work,
// as it answers now that it does not: that says nothing of these cases.
func (r *runner) dropLost() error {
	if r.lost == nil {
		return nil
	}
	ids := map[string]bool{}
	for _, s := range r.trail {
		if s.answer == r.lost.now && !r.lost.suspects[s.id] {
			ids[s.id] = true
		}
	}
	return r.drop(func(kind, operation, id string) bool {
		if kind == "case" {
			return ids[id]
		}
		return kind != "operation" && r.lost.present[operation]
	})
}
