// Package run carries a plan out: operation after operation the controls
// first, one by one, then everything else with bounded concurrency; each answer
// is judged where it arrives, recorded and reported. What holds all rooms
// together is here, and nothing else.
package run

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"obiter/internal/exchange"
	"obiter/internal/judge"
	"obiter/internal/layout"
	"obiter/internal/plan"
	"obiter/internal/record"
	"obiter/internal/report"
)

// Options of a run.
type Options struct {
	Parallel int                                                        // requests in flight; at least 1
	Send     func(ctx context.Context, c exchange.Case) exchange.Answer // sends one case
	Record   func(record.Result) error                                  // keeps one judged case; called by one goroutine at a time
	Layout   *layout.Known                                              // how fields are named; nil: that is learned
	Late     func(judge.Late) error                                     // keeps a finding of the whole run; may be nil
	// Own makes what an operation needs for itself, and gives the operation as it
	// is planned then; undo takes that away. Nil: nothing is made.
	Own      func(ctx context.Context, op *plan.Operation) (own *plan.Operation, undo func(), err error)
	Progress func(done int)                              // after each case; may be nil
	Finished func(op *plan.Operation, line *report.Line) // after each operation; may be nil
}

// Do carries out a plan. It returns what was found so far, and the error that
// stopped it: the context's, or one of recording.
func Do(ctx context.Context, p *plan.Plan, opt Options) (*report.Report, error) {
	r := &runner{opt: opt, report: report.New(), whole: judge.NewWhole()}
	for op := range p.Operations() {
		if ctx.Err() != nil {
			break
		}
		line := r.report.Line(op.Name())
		op, err := r.try(ctx, op)
		if err != nil && ctx.Err() == nil {
			return r.report, err
		}
		if r.err != nil || ctx.Err() != nil {
			break
		}
		if opt.Finished != nil {
			opt.Finished(op, line)
		}
	}
	for _, l := range r.whole.Findings() {
		r.late(l)
	}
	if learned, ok := r.whole.Learned(); ok {
		r.report.Layout = &learned
	}
	if r.err != nil {
		return r.report, r.err
	}
	return r.report, ctx.Err()
}

// try tries one operation, on records of its own where it needs them.
func (r *runner) try(ctx context.Context, op *plan.Operation) (*plan.Operation, error) {
	if op.SkipReason != "" {
		return op, nil
	}
	if r.opt.Own != nil {
		own, undo, err := r.opt.Own(ctx, op)
		defer undo()
		if err != nil {
			return op, err
		}
		op = own
	}
	if op.SkipReason == "" {
		o := operation{runner: r, op: op, accepted: map[string]bool{}}
		o.run(ctx)
	}
	return op, nil
}

type runner struct {
	opt    Options
	mu     sync.Mutex
	report *report.Report
	whole  *judge.Whole
	done   int
	err    error
}

func (r *runner) failed() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.err != nil
}

// late reports and records a finding that no single answer shows.
func (r *runner) late(l judge.Late) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err != nil {
		return
	}
	r.report.AddLate(l)
	if r.opt.Late != nil {
		r.err = r.opt.Late(l)
	}
}

// operation is one operation being tried.
type operation struct {
	*runner
	op       *plan.Operation
	accepted map[string]bool          // controls, by shape
	took     time.Duration            // by the slowest control
	control  *exchange.Case           // the fullest one, where it was accepted
	rejected []exchange.Case          // some of those rejected, to be sent again
	answers  map[string]*judge.Traits // of these
	size     int                      // of their bodies
}

// slowTries is how often a slow rejection is asked for again.
const slowTries = 2

// Bounds of what is kept to be sent again, and of edges held back.
const (
	maxAgain      = 256
	maxAgainBytes = 8 << 20
	maxHeldBytes  = 16 << 20
)

// run sends controls, then flawed requests, then edges: these are accepted and
// may change what is there, which nothing before them should have.
func (o *operation) run(ctx context.Context) {
	var edges []exchange.Case
	held := 0
	var state *state
	o.answers = map[string]*judge.Traits{}
	g := o.group()
	for c := range o.op.Cases() {
		if ctx.Err() != nil || o.failed() {
			break
		}
		if c.Kind == exchange.Control {
			o.tryControl(ctx, c)
			continue
		}
		if state == nil {
			state = o.look(ctx)
		}
		if held += len(c.Request.Body); c.Kind == exchange.Edge && held < maxHeldBytes {
			edges = append(edges, c)
			continue
		}
		g.Go(func() error {
			o.one(ctx, c, o.accepted[c.Base])
			return nil
		})
	}
	_ = g.Wait()
	slices.SortFunc(o.rejected, func(a, b exchange.Case) int { return cmp.Compare(a.Number, b.Number) })
	o.checkState(ctx, state)
	g = o.group()
	for _, c := range edges {
		if ctx.Err() != nil || o.failed() {
			break
		}
		g.Go(func() error {
			o.one(ctx, c, o.accepted[c.Base])
			return nil
		})
	}
	_ = g.Wait()
	o.again(ctx)
	o.close(ctx)
}

func (o *operation) group() *errgroup.Group {
	var g errgroup.Group
	g.SetLimit(max(o.opt.Parallel, 1))
	return &g
}

func (o *operation) tryControl(ctx context.Context, c exchange.Case) {
	a, ok := o.one(ctx, c, true)
	o.accepted[c.Base] = ok
	o.took = max(o.took, a.Took)
	if ok && o.control == nil {
		o.control = &c
	}
}

// one sends, judges and records a case, and tells whether it passed. What an
// interrupt cut off is not judged.
func (o *operation) one(ctx context.Context, c exchange.Case, proven bool) (exchange.Answer, bool) {
	a := o.opt.Send(ctx, c)
	if ctx.Err() != nil {
		return a, false
	}
	known := judge.Context{Proven: proven, Control: o.took, Layout: o.opt.Layout, Describe: o.op.Describe}
	sent := asSent(c, a)
	j := judge.Case(sent, a, known)
	// A busy machine is slow once; what is slow every time is the service.
	for range slowTries {
		if !slices.ContainsFunc(j.Findings, func(f judge.Finding) bool { return f.Code == "slow-rejection" }) {
			break
		}
		if again := o.opt.Send(ctx, c); again.Err == "" && ctx.Err() == nil {
			a.Took = min(a.Took, again.Took)
			j = judge.Case(sent, a, known)
		}
	}
	if ctx.Err() != nil {
		return a, false
	}
	res := record.Result{Case: sent, Response: a, Verdict: j.Verdict, Findings: j.Findings}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.err != nil {
		return a, false
	}
	o.report.Add(res)
	o.whole.Add(sent, a, j)
	o.keep(c, a, j)
	if err := o.opt.Record(res); err != nil {
		o.err = err
		return a, false
	}
	o.done++
	if o.opt.Progress != nil {
		o.opt.Progress(o.done)
	}
	return a, j.Verdict == judge.Pass
}

// asSent is a case with the values it was answered for.
func asSent(c exchange.Case, a exchange.Answer) exchange.Case {
	if a.Sent != nil {
		return *a.Sent
	}
	return c
}

// keep puts some of the rejected cases aside. Which ones depends on nothing but
// the plan as long as there are few enough.
func (o *operation) keep(c exchange.Case, a exchange.Answer, j judge.Judgement) {
	if j.Traits == nil || a.Status == 429 || len(o.rejected) >= maxAgain || o.size+len(c.Request.Body) > maxAgainBytes {
		return
	}
	o.size += len(c.Request.Body)
	o.rejected = append(o.rejected, c)
	o.answers[c.ID] = j.Traits
}

// again sends a sample of what was rejected once more: the answer should be the same.
func (o *operation) again(ctx context.Context) {
	const sample = 3
	for i := range min(sample, len(o.rejected)) {
		c := o.rejected[i*len(o.rejected)/sample]
		a := o.opt.Send(ctx, c)
		if ctx.Err() != nil {
			return
		}
		j := judge.Case(asSent(c, a), a, judge.Context{Proven: true, Layout: o.opt.Layout})
		if l, differs := judge.Unstable(c, o.answers[c.ID], a, j); differs {
			o.late(l)
			return
		}
	}
}

// close sends the control once more: what flawed requests left behind may have
// spoilt it. A second creation may rightly be a conflict.
func (o *operation) close(ctx context.Context) {
	if o.control == nil || o.op.Method == "DELETE" { // what is gone stays gone
		return
	}
	a := o.opt.Send(ctx, *o.control)
	if ctx.Err() != nil {
		return
	}
	if l, spoilt := judge.Spoilt(*o.control, a); spoilt {
		o.late(l)
	}
}
