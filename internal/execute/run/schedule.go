package run

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
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

// scheduler decides what goes on in a run: which operations are being tried, which of them are
// discarded and tried again, which cases are sent once more, and whether the service still works.
type scheduler struct {
	opt              Options
	stop             context.CancelCauseFunc
	maxConcurrentOps int           // operations that are tried side by side, at most
	jobs             chan func()   // taken by the workers that deal with cases, but for controls
	spareJobs        chan func()   // taken by others who have nothing to do; where there are none, there is one more
	awake            chan struct{} // is sent to when more operations can be tried side by side
	trying           chan struct{} // has one place, for who sends a valid request that may keep the service from working

	// mu guards what follows, the collector with all that it judges and stores, and what workers
	// fill of an operation. It is never held while a request is in flight.
	mu sync.Mutex
	*collector
	done       int                 // cases
	suspects   []cutOff            // the last ones
	trail      []step              // the last cases since the service was seen to work
	passed     int                 // how many are not in it any more
	outages    int                 // how often the service failed for all
	interrupt  chan struct{}       // closed when operations are to end: the service failed for all, or may have
	serialMode bool                // operations are tried one at a time
	dropped    bool                // something was taken out of what is stored
	present    map[*operation]bool // that are being tried
	health
}

// health is what is known of whether the service works.
type health struct {
	lost        *lost          // nil: it works
	mayHaveLost *exchange.Case // a valid request that was just accepted, until it is known whether it still works
	confirmer   *operation     // looks with nothing else in flight; nil: none does
	verdict     chan struct{}  // closed when that is known; nil: the others need not end for it
	reader      *canary
	writer      *canary
}

func newScheduler(opt Options, stop context.CancelCauseFunc) *scheduler {
	s := &scheduler{opt: opt, stop: stop, maxConcurrentOps: 1, jobs: make(chan func()), spareJobs: make(chan func()), awake: make(chan struct{}, 1), trying: make(chan struct{}, 1),
		collector: newCollector(opt.Layout, opt.Record, opt.Known, opt.report()), interrupt: make(chan struct{}), present: map[*operation]bool{}}
	if opt.SideBySide {
		s.maxConcurrentOps = max(opt.Parallel, 1)
	}
	return s
}

// locked does something under the mutex.
func (s *scheduler) locked(do func()) {
	s.mu.Lock()
	defer s.mu.Unlock()
	do()
}

// judged judges an exchange by what is known so far, and learns from it where that is wanted.
// Others are judged meanwhile.
func (s *scheduler) judged(e *exchange.Exchange, learn bool) judge.Judgement {
	return judge.Guarded(func() judge.Judgement {
		i := judge.NewItem(e)
		s.locked(func() {
			s.judge.Share(i)
			if learn {
				s.judge.Prove(e)
			}
		})
		if learn {
			i.Study()
		}
		s.locked(func() { s.judge.Take(i) })
		return i.Judge()
	})
}

// result takes in an exchange with its judgement, and does what else is to be done then. False
// after an error.
func (s *scheduler) result(e *exchange.Exchange, j judge.Judgement, and func()) bool {
	line := s.write(e, &j)
	defer line.free()
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.collector.result(e, j, line) {
		return false
	}
	s.done++
	and()
	if s.opt.Progress != nil {
		s.opt.Progress(s.done)
	}
	return true
}

// storing reports whether nothing has failed of storing so far.
func (s *scheduler) storing() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err == nil
}

// all tries all operations. The error is one that nothing can be done after.
func (s *scheduler) all(ctx context.Context, p *plan.Plan) error {
	t := &tries{scheduler: s, plan: p, turns: newTurns(dependencies(p, s.opt.Makers, s.opt.ByItself)), together: p.SideBySide(s.maxConcurrentOps), ended: make(chan outcome), outcomes: map[int]outcome{}}
	for {
		t.beginNext(ctx)
		if t.goOn(ctx) && len(t.again) > 0 && t.running == 0 {
			t.tryAgain(ctx)
			continue
		}
		if t.running == 0 {
			break
		}
		select {
		case <-s.awake: // others can begin
			continue
		case o := <-t.ended:
			t.running--
			t.take(ctx, o)
		}
		t.reportInOrder()
	}
	for _, place := range slices.Sorted(maps.Keys(t.outcomes)) { // behind one that was cut off
		s.finished(t.outcomes[place])
	}
	if t.err == nil && len(t.again) > 0 { // there was no time for them
		t.err = s.forgetAll(p, t.again)
	}
	if t.err == nil {
		t.err = s.dropLost()
	}
	s.report.Arrange(p.Names())
	return t.err
}

// tries is how far a run has come. It is for the goroutine that hands operations out.
type tries struct {
	*scheduler
	plan     *plan.Plan
	turns    *turns
	together *plan.Plan
	ended    chan outcome
	outcomes map[int]outcome // that are not reported yet, by their places in the plan
	reported int             // how many are
	running  int
	again    []int // have to be tried again, one at a time
	err      error
}

// goOn reports whether more operations may begin.
func (t *tries) goOn(ctx context.Context) bool {
	return t.err == nil && t.storing() && ctx.Err() == nil
}

func (t *tries) begin(ctx context.Context, place int) {
	t.running++
	t.spawn(func() { t.ended <- t.turn(ctx, t.together, place) })
}

// beginNext begins as many operations as may be tried side by side.
func (t *tries) beginNext(ctx context.Context) {
	for t.goOn(ctx) && len(t.again) == 0 && t.running < t.allowedNow(t.reported+len(t.outcomes)) {
		place, ok := t.turns.next()
		if !ok {
			return
		}
		t.begin(ctx, place)
	}
}

// tryAgain tries those again whose outcomes do not count, one at a time.
func (t *tries) tryAgain(ctx context.Context) {
	if t.err = t.forgetAll(t.plan, t.again); t.opt.Tidy != nil {
		t.opt.Tidy(ctx)
	}
	t.serial(true)
	for ; t.goOn(ctx) && len(t.again) > 0; t.again = t.again[1:] {
		t.begin(ctx, t.again[0])
		o := <-t.ended
		t.running--
		if t.err = o.err; t.goOn(ctx) {
			t.count(o)
		}
	}
	t.serial(false)
}

// take takes in an outcome, which counts unless the run ends or the service failed meanwhile.
func (t *tries) take(ctx context.Context, o outcome) {
	switch {
	case o.err != nil && ctx.Err() == nil:
		t.err = cmp.Or(t.err, o.err)
		t.stop(o.err)
	case o.disturbed:
		t.again = append(t.again, o.place)
		slices.Sort(t.again)
	case t.goOn(ctx):
		t.count(o)
	}
}

func (t *tries) count(o outcome) {
	t.turns.done(o.place)
	t.outcomes[o.place] = o
	t.locked(t.judge.UpdateKnowledge)
}

// reportInOrder reports the outcomes that come next in the plan.
func (t *tries) reportInOrder() {
	for o, ok := t.outcomes[t.reported]; ok; o, ok = t.outcomes[t.reported] {
		delete(t.outcomes, t.reported)
		t.reported++
		t.finished(o)
	}
}

// finished reports an operation that was tried.
func (s *scheduler) finished(o outcome) {
	if o.line != nil && s.opt.Finished != nil {
		s.opt.Finished(o.op, o.line)
	}
}

// turn tries the operation at a place of the plan.
func (s *scheduler) turn(ctx context.Context, p *plan.Plan, place int) (o outcome) {
	o.place = place
	op := p.Turn(place)
	if op == nil {
		return o
	}
	s.describe(op)
	s.locked(func() { o.line = s.report.Line(op.Name()) })
	o.op, o.disturbed, o.err = s.try(ctx, op)
	if op.SkipReason == "" && o.op.SkipReason != "" {
		s.describe(o.op)
	}
	return o
}

// try tries one operation, on records of its own where it needs them. What comes of it
// does not count where the service was disturbed meanwhile.
func (s *scheduler) try(ctx context.Context, op *plan.Operation) (as *plan.Operation, disturbed bool, err error) {
	if op.SkipReason != "" {
		return op, false, nil
	}
	o := &operation{scheduler: s, op: op, left: make(chan struct{}), mayBreak: true, accepted: map[string]bool{}, sent: map[string]exchange.Exchange{}, repeated: map[string]repetition{}}
	s.locked(func() { o.outagesAtStart = s.outages })
	o.work = Work{Operation: op, Send: s.opt.Send}
	if s.opt.Begin != nil {
		o.work, err = s.opt.Begin(ctx, op)
	}
	if o.op, o.own = o.work.Operation, o.work.Operation != op; err == nil && o.op.SkipReason == "" {
		o.enter()
		o.narrow(ctx)
		o.run(ctx)
		o.checkHealth(ctx)
		o.leave()
	}
	if o.work.Undo != nil {
		o.work.Undo()
	}
	close(o.left)
	if err != nil {
		return op, false, err
	}
	disturbed, givenUp := o.outcome(ctx)
	if disturbed {
		return o.op, true, nil
	}
	if o.work.Report != nil {
		o.work.Report()
	}
	if givenUp > 0 {
		given := *o.op
		given.SkipReason = fmt.Sprintf("given up: %d of its requests got no answer in time", givenUp)
		return &given, false, nil
	}
	if why := o.stopped(); why != "" {
		given := *o.op
		given.SkipReason = why
		return &given, false, nil
	}
	return o.op, false, nil
}

// outcome is what came of an operation, once it is known whether the service works.
func (o *operation) outcome(ctx context.Context) (disturbed bool, givenUp int) {
	o.mu.Lock()
	verdict := o.verdict
	o.mu.Unlock()
	if verdict != nil {
		select {
		case <-verdict:
		case <-ctx.Done():
		}
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.disturbed(), o.timeouts.givenUp()
}

// describe takes in what the description has of an operation.
func (s *scheduler) describe(op *plan.Operation) {
	d := op.Described()
	if s.opt.RedactText != nil {
		d.Skip = s.opt.RedactText(d.Skip)
	}
	s.locked(func() { s.collector.described(d) })
}
