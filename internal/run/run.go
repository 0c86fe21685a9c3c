// Package run carries a plan out: operation after operation the controls
// first, one by one, then everything else with bounded concurrency; each answer
// is recorded where it arrives, and judged by what is known by then. When all
// have come, the record is judged by what the whole run taught. What holds all
// rooms together is here, and nothing else.
package run

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"sync/atomic"

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
	Parallel int                                                          // requests in flight; at least 1
	Send     func(ctx context.Context, c exchange.Case) exchange.Exchange // sends one case, and tells how it was sent
	// Redact takes out of an exchange what must not be kept, before it is judged:
	// what is judged is what is kept. Nil: nothing is taken out.
	Redact     func(exchange.Exchange) exchange.Exchange
	RedactText func(string) string // the same of what is told of an operation; may be nil
	MaxBody    int                 // bytes of an answer that are kept and judged; 0: all that are read
	Record     *record.Writer      // keeps all exchanges as they come; nil: nothing is kept
	// Reopen opens what Record keeps, to judge it when all answers have come, and
	// Final keeps the run as it is judged then. Nil: it is judged as answers come.
	Reopen func() (*record.Reader, error)
	Final  *record.Writer
	Layout *layout.Layout // how fields are named; nil: that is learned
	Known  Known          // what is counted apart
	// Alone sends a case that the service failed at once more, with nothing else in flight,
	// to see what it logs; nil: that is not known.
	Alone func(ctx context.Context, c exchange.Case)
	// Logs is what the service logged of cases, once all are answered; nil: that is not known.
	Logs func() map[string][]string
	// Own makes what an operation needs for itself, and gives the operation as it
	// is planned then; undo takes that away. Nil: nothing is made.
	Own func(ctx context.Context, op *plan.Operation) (own *plan.Operation, undo func(), err error)
	// Around sends a case to a record of its own, and reads that with the reader,
	// twice before and once after. False where the operation has no such records, or
	// they cannot be read. Nil: no operation has.
	Around func(ctx context.Context, reader, c exchange.Case) (seen judge.Readings, ok bool)
	// Restore takes away what the cases of the operation have made so far: that may be
	// what keeps the service from working. Nil: nothing can be done.
	Restore  func(ctx context.Context)
	Unique   func(operation, pointer string)             // is told a field whose value the service wants to be a new one; may be nil
	Alive    func(ctx context.Context) error             // reports why the service cannot be reached; nil: that is not asked
	Progress func(done int)                              // after each case; may be nil
	Finished func(op *plan.Operation, line *report.Line) // after each operation; may be nil
	// Revised is told operations whose outcome is another one, by what the whole
	// run taught, than it was when they were finished; may be nil.
	Revised func(lines []*report.Line)
}

// Do carries out a plan. It returns what was found so far, and the error that
// stopped it: the context's, one of keeping, or a *GoneError.
func Do(ctx context.Context, p *plan.Plan, opt Options) (*report.Report, error) {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	r := &runner{opt: opt, collector: newCollector(opt.Layout, opt.Record, opt.Known), stop: stop}
	for op := range p.Operations() {
		if ctx.Err() != nil {
			break
		}
		r.tell(op)
		line := r.report.Line(op.Name())
		planned := op.SkipReason == ""
		op, err := r.try(ctx, op)
		if planned && op.SkipReason != "" {
			r.tell(op)
		}
		if err != nil && ctx.Err() == nil {
			return r.report, err
		}
		if r.failed() || ctx.Err() != nil {
			break
		}
		if opt.Finished != nil {
			opt.Finished(op, line)
		}
		r.judge.Pause()
	}
	if r.err != nil {
		return r.report, r.err
	}
	final, err := r.final()
	if stopped := r.ended(ctx); stopped != nil {
		err = stopped
	}
	return final, err
}

// final judges what was kept by what the whole run taught.
func (r *runner) final() (*report.Report, error) {
	if r.opt.Reopen == nil {
		r.judge.Settle()
		r.end(false)
		return r.report, nil
	}
	c := r.successor(r.opt.Layout, r.opt.Final)
	for _, l := range r.report.Lines {
		c.report.Line(l.Operation)
	}
	if r.opt.Logs != nil {
		c.logs = r.opt.Logs()
	}
	if err := c.again(r.opt.Reopen); err != nil {
		return c.report, err
	}
	var revised []*report.Line
	for i, was := range r.report.Lines {
		if is := c.report.Lines[i]; is.Counts() != was.Counts() {
			revised = append(revised, is)
		}
	}
	if len(revised) > 0 && r.opt.Revised != nil {
		r.opt.Revised(revised)
	}
	return c.report, nil
}

// tell keeps what the description has of an operation.
func (r *runner) tell(op *plan.Operation) {
	d := op.Described()
	if r.opt.RedactText != nil {
		d.Skip = r.opt.RedactText(d.Skip)
	}
	r.described(d)
}

// try tries one operation, on records of its own where it needs them.
func (r *runner) try(ctx context.Context, op *plan.Operation) (*plan.Operation, error) {
	if op.SkipReason != "" {
		return op, nil
	}
	own := false
	if r.opt.Own != nil {
		renewed, undo, err := r.opt.Own(ctx, op)
		defer undo()
		if err != nil {
			return op, err
		}
		own, op = renewed != op, renewed
	}
	if op.SkipReason == "" {
		o := operation{runner: r, op: op, own: own, accepted: map[string]bool{}, sent: map[string]exchange.Exchange{}}
		o.narrow(ctx)
		o.run(ctx)
		o.feel(ctx, op.Name(), o.trail)
		if n := o.late.givenUp(); n > 0 {
			given := *op
			given.SkipReason = fmt.Sprintf("given up: %d of its requests got no answer in time", n)
			op = &given
		}
	}
	return op, nil
}

type runner struct {
	opt Options
	*collector
	stop     context.CancelCauseFunc
	done     int
	suspects []cutOff // the last ones
	reader   *pulse
	writer   *pulse
	writers  int // operations that were sent such a body
}

// cut is an exchange with as much of its answer as is kept.
func (r *runner) cut(e exchange.Exchange) exchange.Exchange {
	if most := r.opt.MaxBody; most > 0 && len(e.Response.Body) > most {
		e.Response.Body, e.Response.Truncated = e.Response.Body[:most:most], true
	}
	return e
}

// send sends a case and takes out what must not be kept. Where the connection is
// refused, and the service is there again, it is sent again.
func (r *runner) send(ctx context.Context, c exchange.Case, describe func(exchange.Answer) *exchange.Documented) exchange.Exchange {
	e := r.opt.Send(ctx, c)
	for range goneTries {
		if e.Response.Err == "" || ctx.Err() != nil || !r.there(ctx) || !e.Response.Refused {
			break
		}
		e = r.opt.Send(ctx, c)
	}
	if describe != nil {
		e.Documented = describe(e.Response)
	}
	if r.opt.Redact != nil {
		e = r.opt.Redact(e)
	}
	return e
}

// operation is one operation being tried.
type operation struct {
	*runner
	op        *plan.Operation
	own       bool                         // it has records of its own
	accepted  map[string]bool              // controls, by shape
	sent      map[string]exchange.Exchange // controls that were sent before their turn, by id
	described *exchange.Exchange           // the control as the description has it, where it was refused and another took its place
	control   *exchange.Case               // the fullest one, where it was accepted
	rejected  []rejection                  // some of those rejected, to be sent again
	unshown   []rejection                  // accepted, with what only the service sets, and an empty answer
	size      int                          // of what they hold
	failing   []exchange.Case              // cases that were answered with a 5xx, as planned
	trail     []step                       // the cases since the service was last seen to work
	late      late
}

// rejection is a case, of which most were rejected, as planned, with its exchange.
type rejection struct {
	planned exchange.Case
	exchange.Exchange
}

// slowTries is how often a slow rejection is sent again.
const slowTries = 2

// maxFailing bounds the cases of an operation that are sent again to see what is logged.
const maxFailing = 3

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
	between := false // the flaws of fields and those of requests as a whole
	g := o.group()
	for c := range o.op.Cases() {
		if o.ends(ctx) {
			break
		}
		if c.Kind == exchange.Control {
			o.tellDescribed(c)
			o.tryControl(ctx, c)
			continue
		}
		if state == nil {
			state = o.look(ctx)
		}
		if !between && len(c.Flaws) > 0 && c.Flaws[0].In == "request" { // some of which may be accepted, and put the resource right
			between = true
			_ = g.Wait()
			o.lookAgain(ctx, state)
		}
		if held += len(c.Request.Body); c.Kind == exchange.Edge && held < maxHeldBytes {
			edges = append(edges, c)
			continue
		}
		g.Go(func() error {
			o.one(ctx, c)
			return nil
		})
	}
	_ = g.Wait()
	slices.SortFunc(o.rejected, func(a, b rejection) int { return cmp.Compare(a.Number, b.Number) })
	if !o.checkOwn(ctx) {
		o.checkState(ctx, state)
	}
	g = o.group()
	for _, c := range edges {
		if o.ends(ctx) {
			break
		}
		g.Go(func() error {
			o.one(ctx, c)
			return nil
		})
	}
	_ = g.Wait()
	if o.ends(ctx) {
		return
	}
	o.readBack(ctx)
	o.again(ctx)
	o.close(ctx)
	for _, c := range o.failing {
		if ctx.Err() == nil {
			o.opt.Alone(ctx, c)
		}
	}
}

// ends reports whether nothing more of the operation is to be sent.
func (o *operation) ends(ctx context.Context) bool {
	return ctx.Err() != nil || o.failed() || o.late.givenUp() > 0
}

// late counts the requests of an operation that were not answered in time.
type late struct{ inARow, all atomic.Int32 }

// An operation is given up after so many time-outs, in a row or in all: each takes as
// long as a time-out does.
const (
	maxLateInARow = 6
	maxLate       = 30
)

func (l *late) count(a exchange.Answer) {
	if !a.Late {
		l.inARow.Store(0)
		return
	}
	l.inARow.Add(1)
	l.all.Add(1)
}

// givenUp is the number of time-outs where they are too many, else 0.
func (l *late) givenUp() int {
	if l.inARow.Load() >= maxLateInARow || l.all.Load() >= maxLate {
		return int(l.all.Load())
	}
	return 0
}

func (o *operation) group() *errgroup.Group {
	var g errgroup.Group
	g.SetLimit(max(o.opt.Parallel, 1))
	return &g
}

func (o *operation) tryControl(ctx context.Context, c exchange.Case) {
	ok := o.one(ctx, c)
	o.accepted[c.Base] = ok
	if ok && o.control == nil {
		o.control = &c
		o.remember(ctx, c, o.own)
	}
	if ok && c.Request.Method != http.MethodGet {
		o.feel(ctx, o.op.Name(), o.trail)
		o.trail = nil
	}
}

// one sends, judges and keeps a case, and reports whether it was accepted. What an
// interrupt cut off is not judged.
func (o *operation) one(ctx context.Context, c exchange.Case) bool {
	e, was := o.already(c)
	if !was {
		e = o.send(ctx, c, o.op.Describe)
	}
	if ctx.Err() != nil && e.Response.Err != "" && !brokenOff(ctx, e) {
		return false
	}
	e = o.cut(e)
	j := o.judge.Take(e)
	// A busy machine is slow once; what is slow every time is the service.
	for range slowTries {
		if !slices.ContainsFunc(j.Findings, func(f judge.Finding) bool { return f.Code == "slow-rejection" }) {
			break
		}
		if again := o.send(ctx, c, nil); again.Response.Err == "" && ctx.Err() == nil {
			e.Response.Took = min(e.Response.Took, again.Response.Took)
			j = o.judge.Case(e)
		}
	}
	return o.result(e, j, func() {
		o.keepRejection(c, e, j)
		o.keepUnshown(c, e)
		if o.opt.Alone != nil && e.Response.Status >= http.StatusInternalServerError && len(o.failing) < maxFailing {
			o.failing = append(o.failing, c)
		}
		o.done++
		o.suspect(e)
		o.late.count(e.Response)
		o.took(c, e.Response)
		if o.opt.Progress != nil {
			o.opt.Progress(o.done)
		}
	}) && e.Response.Success()
}

// keepRejection puts some of the rejected cases aside. Which ones depends on
// nothing but the plan as long as there are few enough.
func (o *operation) keepRejection(planned exchange.Case, e exchange.Exchange, j judge.Judgement) {
	size := o.size + len(e.Request.Body) + len(e.Response.Body)
	if j.Fingerprint == nil || e.Response.Status == 429 || len(o.rejected) >= maxAgain || size > maxAgainBytes {
		return
	}
	o.size = size
	o.rejected = append(o.rejected, rejection{planned, e})
}

// again sends a sample of what was rejected once more: the answer should be the same.
func (o *operation) again(ctx context.Context) {
	const sample = 3
	for i := range min(sample, len(o.rejected)) {
		first := o.rejected[i*len(o.rejected)/sample]
		second := o.send(ctx, first.planned, nil)
		if ctx.Err() != nil {
			return
		}
		o.repeated(record.Repeat{Case: first.Case, First: first.Response, Second: o.cut(second).Response})
	}
}

// close sends the control once more: what flawed requests left behind may have
// spoilt it. A second creation may rightly be a conflict.
func (o *operation) close(ctx context.Context) {
	if o.control == nil || o.op.Method == "DELETE" { // what is gone stays gone
		return
	}
	if e := o.send(ctx, *o.control, nil); ctx.Err() == nil {
		o.closing(o.cut(e))
	}
}
