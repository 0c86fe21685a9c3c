// Package run carries a plan out: of each operation the controls first, one by
// one, then everything else with bounded concurrency; operations that have nothing
// to do with one another side by side. Each answer is recorded where it arrives, and
// judged by what is known by then. When all have come, the record is judged by what
// the whole run taught. What holds all rooms together is here, and nothing else.
package run

import (
	"cmp"
	"context"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
	"obiter/internal/evaluate/layout"
	"obiter/internal/generate/plan"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

// Send sends one case, and tells how it was sent.
type Send func(ctx context.Context, c exchange.Case) exchange.Exchange

// Work is an operation with what trying it takes.
type Work struct {
	Operation *plan.Operation // as it is planned, on records that were made for it
	Send      Send
	// Around sends a case to a record of its own, and reads that with the reader,
	// twice before and once after. False where the operation has no such records, or
	// they cannot be read. Nil: it has none.
	Around func(ctx context.Context, reader, c exchange.Case) (seen judge.Readings, ok bool)
	// Stored are the refused cases of the operation whose records are there all the same, with what
	// shows them. Nil: that is not known.
	Stored func(ctx context.Context) []record.State
	// Restore takes away what the cases of the operation have made so far: that may be
	// what keeps the service from working. Nil: nothing can be done.
	Restore func(ctx context.Context)
	Undo    func() // takes away what was made for the operation and by it; nil: nothing is
	Tell    func() // tells why the operation is left out, where it is; may be nil
	// Stops says why nothing more of the operation is to be sent; "" while more may be. Nil: more
	// always may.
	Stops func() string
}

// Options of a run.
type Options struct {
	Parallel int  // requests in flight, which the sender bounds, and operations that are tried side by side; at least 1
	Send     Send // where Begin is nil
	// Begin makes what an operation needs for itself. Its work is undone even after an
	// error, if it can be.
	Begin func(ctx context.Context, op *plan.Operation) (Work, error)
	// Makers are the operations that are sent to make what an operation needs, and to take it
	// away; nil: there are none.
	Makers func(operation string) []string
	// Quiet waits until nothing is in flight, and keeps it so, but for requests with the
	// context that it gives, until that is released. Nil: one operation is tried at a time.
	Quiet func(ctx context.Context) (alone context.Context, release func())
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
	Brief  bool           // the report need tell no more than lines and entries: what else there is can be read out of what is kept
	Layout *layout.Layout // how fields are named; nil: that is learned
	Known  Known          // what is counted apart
	// Tidy takes away what could not be taken away after an operation, as far as it can be
	// now; nil: there is nothing.
	Tidy func(ctx context.Context)
	// Drop takes lines of cases and operations out of what is kept; nil: nothing can be.
	Drop func(gone func(kind, operation, id string) bool) error
	// Urgent is a context whose requests go before others; nil: none do.
	Urgent func(ctx context.Context) context.Context
	// Alone sends a case that the service failed at once more, with nothing else in flight,
	// to see what it logs; nil: that is not known.
	Alone func(ctx context.Context, c exchange.Case, send Send)
	// Logs is what the service logged of cases, once all are answered; nil: that is not known.
	Logs     func() map[string][]string
	Unique   func(operation, pointer string)             // is told a field whose value the service wants to be a new one; may be nil
	Alive    func(ctx context.Context) error             // reports why the service cannot be reached; nil: that is not asked
	Progress func(done int)                              // after each case; may be nil
	Finished func(op *plan.Operation, line *report.Line) // after each operation, in the order of the plan; may be nil
	// Revised is told operations whose outcome is another one, by what the whole
	// run taught, than it was when they were finished; may be nil.
	Revised func(lines []*report.Line)
}

func (opt *Options) report() *report.Report {
	if opt.Brief {
		return report.NewBrief()
	}
	return report.New()
}

// Do carries out a plan. It returns what was found so far, and the error that
// stopped it: the context's, one of keeping, or a *GoneError.
func Do(ctx context.Context, p *plan.Plan, opt Options) (*report.Report, error) {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	opt.Parallel = max(opt.Parallel, 1)
	r := &runner{opt: opt, collector: newCollector(opt.Layout, opt.Record, opt.Known, opt.report()), stop: stop,
		aside: 1, present: map[*operation]bool{}, awake: make(chan struct{}, 1), hands: make(chan func()), more: make(chan func())}
	defer close(r.more)
	defer close(r.hands)
	for range opt.Parallel + opt.Parallel/4 { // while one is judged, the next is in flight
		go takeUp(r.hands)
	}
	if opt.Reopen != nil {
		r.sure = &sure{renew: func() *collector { return r.successor(opt.Layout, opt.report()) }}
	}
	if opt.Quiet != nil {
		r.aside = opt.Parallel
	}
	if err := r.all(ctx, p); err != nil {
		return r.report, err
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
	c, err := r.last()
	if err != nil {
		return c.report, err
	}
	c.record, c.arranged = r.opt.Final, true
	var operations []string
	for _, l := range r.report.Lines {
		c.report.Line(l.Operation)
		operations = append(operations, l.Operation)
	}
	c.report.Arrange(slices.Values(operations))
	c.report.DescribedAs(r.report)
	for _, l := range r.report.Lines {
		if d := r.report.Described(l.Operation); d.Operation != "" {
			c.keep(func(w *record.Writer) error { return w.Operation(d) })
		}
	}
	if err := c.finish(r.opt.Reopen); err != nil {
		return c.report, err
	}
	var revised []*report.Line
	for _, was := range r.report.Lines {
		if is := c.report.Line(was.Operation); is.Counts() != was.Counts() {
			revised = append(revised, is)
		}
	}
	if len(revised) > 0 && r.opt.Revised != nil {
		r.opt.Revised(revised)
	}
	return c.report, nil
}

// last is the collector that judges in the end what is not sure yet.
func (r *runner) last() (*collector, error) {
	var logs map[string][]string
	if r.opt.Logs != nil {
		logs = r.opt.Logs()
	}
	if r.dropped { // and what was learned of it is to be forgotten
		c := newCollector(r.opt.Layout, nil, r.opt.Known, r.opt.report())
		c.logs = logs
		return c, c.learn(r.opt.Reopen)
	}
	epoch := r.judge.Epoch()
	if s := r.sure; r.judge.Settle() && s.collector != nil && s.epoch == epoch && len(logs) == 0 {
		s.collector.again = s.unsure
		return s.collector, nil
	}
	c := r.successor(r.opt.Layout, r.opt.report())
	c.logs = logs
	return c, nil
}

// tell keeps what the description has of an operation.
func (r *runner) tell(op *plan.Operation) {
	d := op.Described()
	if r.opt.RedactText != nil {
		d.Skip = r.opt.RedactText(d.Skip)
	}
	r.described(d)
}

type runner struct {
	opt Options
	*collector
	stop     context.CancelCauseFunc
	aside    int         // operations that are tried side by side, at most
	hands    chan func() // taken by those who deal with cases, but for controls
	more     chan func() // taken by others who have nothing to do; where there are none, there is one more
	done     int
	suspects []cutOff // the last ones
	trail    []step   // the last cases since the service was seen to work
	passed   int      // how many are not in it any more

	storms  atomic.Int32 // how often the service was disturbed
	solo    atomic.Bool  // nothing goes side by side
	dropped bool         // something was taken out of what is kept
	present map[*operation]bool
	lost    *lost          // nil: the service works
	trying  sync.Mutex     // held while a valid request is sent that may keep the service from working
	tried   *exchange.Case // which; nil: none is
	awake   chan struct{}  // told when more operations can be tried side by side

	pulses  sync.Mutex // guards what follows
	reader  *pulse
	writer  *pulse
	writers int // operations that were sent such a body
}

// quiet waits until nothing else is in flight.
func (r *runner) quiet(ctx context.Context) (alone context.Context, release func()) {
	if r.opt.Quiet == nil {
		return ctx, func() {}
	}
	return r.opt.Quiet(ctx)
}

// cut leaves as much of an answer as is kept.
func (r *runner) cut(a *exchange.Answer) {
	if most := r.opt.MaxBody; most > 0 && len(a.Body) > most {
		a.Body, a.Truncated = a.Body[:most:most], true
	}
}

// send sends a case and takes out what must not be kept. Where the connection is
// refused, and the service is there again, it is sent again.
func (o *operation) send(ctx context.Context, c exchange.Case, describe func(exchange.Answer) *exchange.Documented) exchange.Exchange {
	r := o.runner
	e := o.work.Send(ctx, c)
	for range goneTries {
		if e.Response.Err == "" || ctx.Err() != nil || !r.there(ctx) || !e.Response.Refused {
			break
		}
		e = o.work.Send(ctx, c)
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
	work      Work
	op        *plan.Operation
	calm      int32                        // how often the service had been disturbed when it began
	own       bool                         // it has records of its own
	accepted  map[string]bool              // controls, by shape
	sent      map[string]exchange.Exchange // controls that were sent before their turn, by id
	described *exchange.Exchange           // the control as the description has it, where it was refused and another took its place
	control   *exchange.Case               // the fullest one, where it was accepted
	repeats   []*rejection                 // rejected, to be sent once more: those with the smallest ids
	traced    bool                         // a rejected case that changes the resource would be looked for
	rejected  []*rejection                 // of those among which it would be; their answers are not kept
	unshown   []*rejection                 // accepted, with what only the service sets, and an empty answer
	size      int                          // of the bodies of rejected
	failing   []exchange.Case              // cases that were answered with a 5xx, as planned
	disturbs  bool                         // its requests may keep the service from working: the first accepted one did, or none was accepted yet
	late      late
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

// Bounds of what is kept to be sent again, and of edges held back.
const (
	maxRepeats     = 3
	maxRepeatBytes = 128 << 10 // of the bodies of one
	maxAgain       = 256
	maxAgainBytes  = 8 << 20
	maxHeldBytes   = 16 << 20
)

// run sends controls, then flawed requests, then edges: these are accepted and
// may change what is there, which nothing before them should have.
func (o *operation) run(ctx context.Context) {
	var edges []*exchange.Case
	held := 0
	var state *state
	between := false // the flaws of fields and those of requests as a whole
	var g sync.WaitGroup
	most := maxHeldBytes / o.aside
	settled := false // nothing but edges is left
	settle := func() {
		settled = true
		g.Wait()
		slices.SortFunc(o.rejected, func(a, b *rejection) int { return cmp.Compare(a.Number, b.Number) })
		if !o.checkOwn(ctx) {
			o.checkState(ctx, state)
		}
	}
	for c := range o.op.Ahead() {
		if o.ends(ctx) {
			break
		}
		if c == nil {
			settle()
			continue
		}
		if c.Kind == exchange.Control {
			o.tellDescribed(*c)
			o.tryControl(ctx, *c)
			continue
		}
		if state == nil && !settled {
			state = o.look(ctx)
			_, reads := o.op.Reader()
			o.traced = state.usable || reads && o.work.Around != nil
		}
		if !between && len(c.Flaws) > 0 && c.Flaws[0].In == "request" { // some of which may be accepted, and put the resource right
			between = true
			g.Wait()
			o.lookAgain(ctx, state)
		}
		if held += len(c.Request.Body); c.Kind == exchange.Edge && !settled && held < most {
			edges = append(edges, c)
			continue
		}
		o.hand(&g, func() { o.one(ctx, c) })
	}
	if !settled {
		settle()
	}
	for _, c := range edges {
		if o.ends(ctx) {
			break
		}
		o.hand(&g, func() { o.one(ctx, c) })
	}
	g.Wait()
	if o.ends(ctx) {
		return
	}
	o.readBack(ctx)
	o.checkStored(ctx)
	o.together(append(o.again(ctx), func() { o.close(ctx) }))
	if len(o.failing) == 0 {
		return
	}
	ctx, release := o.quiet(ctx)
	defer release()
	for _, c := range o.failing {
		if ctx.Err() == nil {
			o.opt.Alone(ctx, c, o.work.Send)
		}
	}
}

// together does things that do not depend on one another: side by side where requests may
// be.
func (o *operation) together(all []func()) {
	var g sync.WaitGroup
	for _, do := range all {
		if o.opt.Parallel == 1 {
			do()
		} else {
			o.apart(waited(&g, do))
		}
	}
	g.Wait()
}

// ends reports whether nothing more of the operation is to be sent.
func (o *operation) ends(ctx context.Context) bool {
	return ctx.Err() != nil || o.failed() || o.late.givenUp() > 0 || o.disturbed() || o.stopped() != ""
}

// stopped says why nothing more of the operation is to be sent; "" while more may be.
func (o *operation) stopped() string {
	if o.work.Stops == nil {
		return ""
	}
	return o.work.Stops()
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

func (o *operation) tryControl(ctx context.Context, c exchange.Case) {
	ok := o.one(ctx, &c)
	o.accepted[c.Base] = ok
	if ok && o.control == nil {
		o.control = &c
		o.remember(ctx, c)
	}
}

// one sends, judges and keeps a case, and reports whether it was accepted. What an
// interrupt cut off is not judged.
func (o *operation) one(ctx context.Context, c *exchange.Case) bool {
	e, was := o.already(*c)
	switch {
	case was:
	case c.Kind == exchange.Control:
		e = o.valid(ctx, *c, o.op.Describe)
	default:
		e = o.send(ctx, *c, o.op.Describe)
	}
	if ctx.Err() != nil && e.Response.Err != "" && !brokenOff(ctx, e) {
		return false
	}
	o.cut(&e.Response)
	j := o.judge.Take(&e)
	// A busy machine is slow once; what is slow every time is the service.
	for range slowTries {
		if !slices.ContainsFunc(j.Findings, func(f judge.Finding) bool { return f.Code == "slow-rejection" }) {
			break
		}
		if again := o.send(ctx, *c, nil); again.Response.Err == "" && ctx.Err() == nil {
			e.Response.Took = min(e.Response.Took, again.Response.Took)
			j = o.judge.Case(&e)
		}
	}
	return o.result(&e, j, func() {
		o.keepRejection(c, &e, j)
		o.keepUnshown(c, &e)
		if o.opt.Alone != nil && e.Response.Status >= http.StatusInternalServerError && len(o.failing) < maxFailing {
			o.failing = append(o.failing, *c)
		}
		o.done++
		o.suspect(e)
		o.late.count(e.Response)
		o.took(*c, e.Response)
		if o.opt.Progress != nil {
			o.opt.Progress(o.done)
		}
	}) && e.Response.Success()
}

// keepRejection puts some of the rejected cases aside. Which ones are sent once more depends
// on nothing but the plan, and so does which ones are looked through for one that changes
// the resource, as long as there are few enough.
func (o *operation) keepRejection(planned *exchange.Case, e *exchange.Exchange, j judge.Judgement) {
	size := len(e.Request.Body) + len(e.Response.Body)
	if j.Fingerprint == nil || e.Response.Status == 429 {
		return
	}
	at, _ := slices.BinarySearchFunc(o.repeats, e.ID, func(r *rejection, id string) int { return cmp.Compare(r.ID, id) })
	if at < maxRepeats && size <= maxRepeatBytes {
		e.Response.Forget()
		o.repeats = slices.Insert(o.repeats, at, &rejection{planned, e})
		o.repeats = slices.Delete(o.repeats, min(len(o.repeats), maxRepeats), len(o.repeats))
	}
	if o.traced && len(o.rejected) < maxAgain && o.size+len(e.Request.Body) <= maxAgainBytes/o.aside {
		o.size += len(e.Request.Body)
		o.rejected = append(o.rejected, &rejection{planned, &exchange.Exchange{Case: e.Case}})
	}
}

// again sends a sample of what was rejected once more: the answer should be the same.
func (o *operation) again(ctx context.Context) (all []func()) {
	for _, first := range o.repeats {
		all = append(all, func() {
			second := o.send(ctx, *first.planned, nil)
			if second.Response.Status != first.Response.Status { // others may have been in its way
				alone, release := o.quiet(ctx)
				second = o.send(alone, *first.planned, nil)
				release()
			}
			if ctx.Err() == nil {
				o.cut(&second.Response)
				o.repeated(record.Repeat{Case: first.Case, First: first.Response, Second: second.Response})
			}
		})
	}
	return all
}

// close sends the control once more: what flawed requests left behind may have
// spoilt it. A second creation may rightly be a conflict.
func (o *operation) close(ctx context.Context) {
	if o.control == nil || o.op.Method == "DELETE" { // what is gone stays gone
		return
	}
	again := *o.control
	again.Again = true // with values of its own
	e := o.send(ctx, again, nil)
	if !e.Response.Success() && e.Response.Status != http.StatusConflict { // or others are in its way
		alone, release := o.quiet(ctx)
		e = o.send(alone, again, nil)
		release()
	}
	if ctx.Err() == nil {
		o.cut(&e.Response)
		o.closing(e)
	}
}
