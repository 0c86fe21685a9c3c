// Package run carries a plan out: of each operation the controls first, one by
// one, then everything else with bounded concurrency; operations that have nothing
// to do with one another side by side. Each answer is recorded where it arrives, and
// judged by what is known by then. When all have come, the record is judged by what
// the whole run taught. What holds all packages together is here, and nothing else.
package run

import (
	"context"
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
	"obiter/internal/evaluate/layout"
	"obiter/internal/generate/plan"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

// Send sends one case, and says how it was sent.
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
	// Restore deletes what the cases of the operation have created so far: that may be
	// what keeps the service from working. Nil: nothing can be done.
	Restore func(ctx context.Context)
	Undo    func() // deletes what was created for the operation and by it; nil: nothing is
	Report  func() // says why the operation is skipped, where it is; may be nil
	Lane    Lane   // of all its requests; nil where operations are tried one at a time
	// Stops says why nothing more of the operation is to be sent; "" while more may be. Nil: more
	// always may.
	Stops func() string
}

// Lane is the way of an operation's requests to the service.
type Lane interface {
	// Exclusive waits until no request is in flight, and has those of other lanes wait until that
	// is released. It may be taken again while it is held.
	Exclusive(ctx context.Context) (release func())
	// Urgent says whether its requests go before those of others.
	Urgent(is bool)
	// Busy has fewer requests in flight: the service had too much to do.
	Busy()
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
	// ByItself reports whether an operation may change the service as a whole, so that no other
	// operation is tried meanwhile; nil: none does.
	ByItself   func(operation string) bool
	SideBySide bool // operations are tried side by side, as far as they are independent: each has a lane
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
	// Tidy deletes what could not be deleted after an operation, as far as it can be
	// now; nil: there is nothing.
	Tidy func(ctx context.Context)
	// Drop takes lines of cases and operations out of what is kept; nil: nothing can be.
	Drop func(gone func(kind, operation, id string) bool) error
	// ResendForLog sends a case that the service failed at once more, with nothing else in flight,
	// to see what it logs; nil: that is not known.
	ResendForLog func(ctx context.Context, c exchange.Case, send Send)
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
// stopped it: the context's, one of storing, a *GoneError or a *BrokenError.
func Do(ctx context.Context, p *plan.Plan, opt Options) (*report.Report, error) {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	opt.Parallel = max(opt.Parallel, 1)
	s := newScheduler(opt, stop)
	defer close(s.spareJobs)
	defer close(s.jobs)
	for range opt.Parallel + opt.Parallel/4 { // while one is judged, the next is in flight
		go worker(s.jobs)
	}
	if opt.Reopen != nil {
		s.settled = &settledLines{renew: func() *collector { return s.successor(opt.Layout, opt.report()) }}
	}
	if err := s.all(ctx, p); err != nil {
		return s.report, err
	}
	if s.err != nil {
		return s.report, s.err
	}
	final, err := s.final()
	if stopped := s.ended(ctx); stopped != nil {
		err = stopped
	}
	return final, err
}

// final judges what was kept by what the whole run taught.
func (s *scheduler) final() (*report.Report, error) {
	if s.opt.Reopen == nil {
		s.judge.FinishLearning()
		s.end(false)
		return s.report, nil
	}
	c, err := s.last()
	if err != nil {
		return c.report, err
	}
	c.record, c.arranged = s.opt.Final, true
	var operations []string
	for _, l := range s.report.Lines {
		c.report.Line(l.Operation)
		operations = append(operations, l.Operation)
	}
	c.report.Arrange(slices.Values(operations))
	c.report.DescribedAs(s.report)
	for _, l := range s.report.Lines {
		if d := s.report.Described(l.Operation); d.Operation != "" {
			c.keep(func(w *record.Writer) error { return w.Operation(d) })
		}
	}
	if err := c.finish(s.opt.Reopen); err != nil {
		return c.report, err
	}
	var revised []*report.Line
	for _, was := range s.report.Lines {
		if is := c.report.Line(was.Operation); is.Counts() != was.Counts() {
			revised = append(revised, is)
		}
	}
	if len(revised) > 0 && s.opt.Revised != nil {
		s.opt.Revised(revised)
	}
	return c.report, nil
}

// last is the collector that judges in the end what is not settled yet.
func (s *scheduler) last() (*collector, error) {
	var logs map[string][]string
	if s.opt.Logs != nil {
		logs = s.opt.Logs()
	}
	if s.dropped { // and what was learned of it is to be forgotten
		c := newCollector(s.opt.Layout, nil, s.opt.Known, s.opt.report())
		c.logs = logs
		return c, c.learn(s.opt.Reopen)
	}
	epoch := s.judge.Epoch()
	if settled := s.settled; s.judge.FinishLearning() && settled.collector != nil && settled.epoch == epoch && len(logs) == 0 {
		settled.again = settled.needsRejudging
		return settled.collector, nil
	}
	c := s.successor(s.opt.Layout, s.opt.report())
	c.logs = logs
	return c, nil
}
