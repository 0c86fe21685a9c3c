package trial

import (
	"context"
	"errors"

	"obiter/internal/exchange"
	"obiter/internal/plan"
)

// Prober finds out what an operation enforces: it asks with one body after another.
type Prober func(ctx context.Context, op *plan.Operation, ask func(body any) exchange.Answer) error

// Probe has operations probed one after the other, with everything around it that a trial
// has: records, credentials, and what was made taken away again. Nothing is judged and no
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
	return &t.out, errors.Join(t.probe(ctx, prober), t.releaseFolder())
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
	n := 0
	return prober(ctx, own.Operation, func(body any) exchange.Answer {
		n++
		return own.Send(ctx, own.Operation.Probe(n, body)).Response
	})
}
