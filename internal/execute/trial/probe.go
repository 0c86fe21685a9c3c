package trial

import (
	"context"
	"errors"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/plan"
)

// Prober finds out what an operation enforces: it asks with one body after another.
type Prober func(ctx context.Context, op *plan.Operation, ask func(body any) exchange.Answer) error

// Probe has operations probed one after the other, with everything around it that a trial
// has: records, credentials, and what was made deleted again. Nothing is judged and no
// run is kept.
func Probe(ctx context.Context, opt Options, prober Prober, events Events) (*Outcome, error) {
	opt.Plan.ControlsOnly = true
	t := newTrial(opt, events)
	if err := t.ready(); err != nil {
		return &t.out, err
	}
	defer t.sender.Close()
	if err := t.keep(); err != nil {
		return &t.out, err
	}
	err := t.probe(ctx, prober)
	t.remains()
	return &t.out, errors.Join(err, t.releaseFolder())
}

func (t *trial) probe(ctx context.Context, prober Prober) error {
	stop, err := t.startService(ctx)
	defer stop()
	if err == nil {
		err = t.sender.Reach(ctx)
	}
	if err != nil {
		return err
	}
	undo, err := t.fixtures(ctx)
	defer undo()
	if err != nil {
		return err
	}
	if t.events.Begun != nil {
		t.events.Begun(t.plan)
	}
	for op := range t.plan.Operations() {
		if err := t.probeOne(ctx, op, prober); err != nil {
			return err
		}
	}
	return ctx.Err()
}

func (t *trial) probeOne(ctx context.Context, op *plan.Operation, prober Prober) error {
	if op.SkipReason != "" {
		return prober(ctx, op, nil)
	}
	own, err := t.begin(ctx, op)
	defer own.Undo()
	if err != nil {
		return err
	}
	n, apart := 0, false
	var base any
	return prober(ctx, own.Operation, func(body any) exchange.Answer {
		if n++; n == 1 {
			base = body
		}
		c := own.Operation.Probe(n, base, body)
		if !apart { // whether the same is taken twice, and if not, for which field, comes first
			for i, v := range c.Variables {
				c.Variables[i].New = func(uint64) any { return v.New(0) }
			}
		}
		e := own.Send(ctx, c)
		apart = apart || n > 1 && e.Response.Success()
		return e.Response
	})
}
