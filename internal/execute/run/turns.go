package run

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"runtime"
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/plan"
	"obiter/internal/results/report"
)

// turns gives out the places of a plan, each when those that it waits for are done: the
// first of those that can begin. It is used by one goroutine.
type turns struct {
	waits [][]int // who waits for a place
	left  []int   // for how many a place still waits
	ready []int   // in order
}

func newTurns(after [][]int) *turns {
	t := &turns{waits: make([][]int, len(after)), left: make([]int, len(after))}
	for i, before := range after {
		if t.left[i] = len(before); len(before) == 0 {
			t.ready = append(t.ready, i)
		}
		for _, b := range before {
			t.waits[b] = append(t.waits[b], i)
		}
	}
	return t
}

// next is a place that can begin; false where none can as yet.
func (t *turns) next() (int, bool) {
	if len(t.ready) == 0 {
		return 0, false
	}
	i := t.ready[0]
	t.ready = t.ready[1:]
	return i, true
}

func (t *turns) done(i int) {
	for _, w := range t.waits[i] {
		if t.left[w]--; t.left[w] == 0 {
			at, _ := slices.BinarySearch(t.ready, w)
			t.ready = slices.Insert(t.ready, at, w)
		}
	}
}

// outcome is what became of trying an operation.
type outcome struct {
	place     int             // in the plan
	op        *plan.Operation // as it was tried; nil: the API as a whole cannot be
	line      *report.Line
	err       error
	disturbed bool // it does not count
}

// all tries all operations. The error is one that nothing can be done after.
func (r *runner) all(ctx context.Context, p *plan.Plan) error {
	var (
		turns    = newTurns(order(p, r.opt.Makers))
		planners = p.Split(min(r.aside, runtime.GOMAXPROCS(0)), r.aside)
		finished = make(chan outcome)
		tried    = map[int]outcome{} // that are not told yet
		told     = 0
		running  = 0
		again    []int // have to be tried again, one at a time
		err      error
	)
	going := func() bool { return err == nil && !r.failed() && ctx.Err() == nil }
	begin := func(place int) {
		running++
		planner := planners[place%len(planners)]
		r.apart(func() { finished <- r.turn(ctx, planner, place) })
	}
	count := func(o outcome) {
		turns.done(o.place)
		tried[o.place] = o
		r.judge.Pause()
	}
	for {
		for going() && len(again) == 0 && running < r.side(told+len(tried)) {
			place, ok := turns.next()
			if !ok {
				break
			}
			begin(place)
		}
		if going() && len(again) > 0 && running == 0 {
			if err = r.forgetAll(p, again); r.opt.Tidy != nil {
				r.opt.Tidy(ctx)
			}
			for r.solo.Store(true); going() && len(again) > 0; again = again[1:] {
				begin(again[0])
				o := <-finished
				running--
				if err = o.err; going() {
					count(o)
				}
			}
			r.solo.Store(false)
			continue
		}
		if running == 0 {
			break
		}
		var o outcome
		select {
		case <-r.awake: // others can begin
			continue
		case o = <-finished:
		}
		running--
		switch {
		case o.err != nil && ctx.Err() == nil:
			err = cmp.Or(err, o.err)
			r.stop(o.err)
		case o.disturbed:
			again = append(again, o.place)
			slices.Sort(again)
		case !going():
		default:
			count(o)
		}
		for o, ok := tried[told]; ok; o, ok = tried[told] {
			delete(tried, told)
			told++
			r.finished(o)
		}
	}
	for _, place := range slices.Sorted(maps.Keys(tried)) { // behind one that was cut off
		r.finished(tried[place])
	}
	if err == nil && len(again) > 0 { // there was no time for them
		err = r.forgetAll(p, again)
	}
	if err == nil {
		err = r.dropLost()
	}
	r.report.Arrange(p.Names())
	return err
}

// finished tells of an operation that was tried.
func (r *runner) finished(o outcome) {
	if o.line != nil && r.opt.Finished != nil {
		r.opt.Finished(o.op, o.line)
	}
}

// turn tries the operation at a place of the plan.
func (r *runner) turn(ctx context.Context, p *plan.Plan, place int) (o outcome) {
	o.place = place
	op := p.Turn(place)
	if op == nil {
		return o
	}
	r.tell(op)
	o.line = r.line(op.Name())
	o.op, o.disturbed, o.err = r.try(ctx, op)
	if op.SkipReason == "" && o.op.SkipReason != "" {
		r.tell(o.op)
	}
	return o
}

// try tries one operation, on records of its own where it needs them. What comes of it
// does not count where the service was disturbed meanwhile.
func (r *runner) try(ctx context.Context, op *plan.Operation) (as *plan.Operation, disturbed bool, err error) {
	if op.SkipReason != "" {
		return op, false, nil
	}
	calm := r.storms.Load()
	work := Work{Operation: op, Send: r.opt.Send}
	if r.opt.Begin != nil {
		if work, err = r.opt.Begin(ctx, op); work.Undo != nil {
			defer work.Undo()
		}
		if err != nil {
			return op, false, err
		}
	}
	o := &operation{runner: r, work: work, op: work.Operation, calm: calm, own: work.Operation != op, disturbs: true, accepted: map[string]bool{}, sent: map[string]exchange.Exchange{}}
	if o.op.SkipReason == "" {
		leave := r.enter(o)
		o.narrow(ctx)
		o.run(ctx)
		o.feel(ctx)
		leave()
	}
	if o.disturbed() {
		return o.op, true, nil
	}
	if work.Tell != nil {
		work.Tell()
	}
	if n := o.late.givenUp(); n > 0 {
		given := *o.op
		given.SkipReason = fmt.Sprintf("given up: %d of its requests got no answer in time", n)
		return &given, false, nil
	}
	if why := o.stopped(); why != "" {
		given := *o.op
		given.SkipReason = why
		return &given, false, nil
	}
	return o.op, false, nil
}
