// Package run carries a plan out: operation after operation the controls
// first, one by one, then everything else with bounded concurrency; each answer
// is judged where it arrives, recorded and reported. What holds all rooms
// together is here, and nothing else.
package run

import (
	"context"
	"sync"

	"golang.org/x/sync/errgroup"

	"obiter/internal/exchange"
	"obiter/internal/judge"
	"obiter/internal/plan"
	"obiter/internal/record"
	"obiter/internal/report"
)

// Options of a run.
type Options struct {
	Parallel int                                                        // requests in flight; at least 1
	Send     func(ctx context.Context, c exchange.Case) exchange.Answer // sends one case
	Record   func(record.Result) error                                  // keeps one judged case; called by one goroutine at a time
	Progress func(done int)                                             // after each case; may be nil
	Finished func(op *plan.Operation, line *report.Line)                // after each operation; may be nil
}

// Do carries out a plan. It returns what was found so far, and the error that
// stopped it: the context's, or one of recording.
func Do(ctx context.Context, p *plan.Plan, opt Options) (*report.Report, error) {
	r := &runner{opt: opt, report: report.New()}
	for op := range p.Operations() {
		if ctx.Err() != nil {
			break
		}
		line := r.report.Line(op.Name())
		if op.SkipReason == "" {
			r.operation(ctx, op)
		}
		if r.err != nil || ctx.Err() != nil {
			break
		}
		if opt.Finished != nil {
			opt.Finished(op, line)
		}
	}
	if r.err != nil {
		return r.report, r.err
	}
	return r.report, ctx.Err()
}

type runner struct {
	opt    Options
	mu     sync.Mutex
	report *report.Report
	done   int
	err    error
}

func (r *runner) operation(ctx context.Context, op *plan.Operation) {
	var g errgroup.Group
	g.SetLimit(max(r.opt.Parallel, 1))
	accepted := map[string]bool{} // controls, by name
	for c := range op.Cases() {
		if ctx.Err() != nil || r.failed() {
			break
		}
		if c.Kind == exchange.Control {
			accepted[c.Base] = r.one(ctx, c, true)
			continue
		}
		proven := accepted[c.Base]
		g.Go(func() error {
			r.one(ctx, c, proven)
			return nil
		})
	}
	_ = g.Wait()
}

func (r *runner) failed() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.err != nil
}

// one sends, judges and records a case, and tells whether it passed. What an
// interrupt cut off is not judged.
func (r *runner) one(ctx context.Context, c exchange.Case, proven bool) bool {
	a := r.opt.Send(ctx, c)
	if ctx.Err() != nil {
		return false
	}
	verdict, findings := judge.Case(c, a, proven)
	res := record.Result{Case: c, Response: a, Verdict: verdict, Findings: findings}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err != nil {
		return false
	}
	r.report.Add(res)
	if err := r.opt.Record(res); err != nil {
		r.err = err
		return false
	}
	r.done++
	if r.opt.Progress != nil {
		r.opt.Progress(r.done)
	}
	return verdict == judge.Pass
}
