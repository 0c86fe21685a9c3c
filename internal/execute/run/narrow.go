package run

import (
	"context"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
	"obiter/internal/generate/plan"
)

// maxFresh bounds how many fields are given values that no other record has.
const maxFresh = 4

// narrow looks, where the fullest control is refused and the leanest accepted, which
// optional members are not taken, and goes on without them. What it sent of the
// controls is not sent again.
func (o *operation) narrow(ctx context.Context) {
	controls, all := o.op.Controls(), o.op.Optional()
	if len(controls) == 0 || o.op.IsWholeAPI() {
		return
	}
	full := o.first(ctx, controls)
	if !refused(full.Response) || ctx.Err() != nil || len(all) == 0 {
		return
	}
	var last exchange.Exchange
	op, culprits, ok := o.op.Narrow(o.op.Method != "DELETE", func(op *plan.Operation, c exchange.Case) bool {
		last = o.asked(ctx, op, c)
		return ctx.Err() == nil && last.Response.Success()
	})
	if !ok || ctx.Err() != nil {
		return
	}
	full.Case = o.op.Refused(full.Case, culprits)
	o.described, o.op, o.sent[last.ID] = &full, op, last
}

// first sends the fullest control, and of a POST that takes it the next one, in which
// a value may be taken by then: where the service says so, all requests have a new
// value there from then on.
func (o *operation) first(ctx context.Context, controls []exchange.Case) (full exchange.Exchange) {
	for range maxFresh {
		clear(o.sent)
		taken := ""
		for i, c := range controls {
			e := o.asked(ctx, o.op, c)
			if o.sent[e.ID] = e; i == 0 {
				full = e
			}
			if pointer, is := judge.Taken(e.Case, e.Response, o.op.Renewing()...); is {
				taken = pointer
			}
			if ctx.Err() != nil || taken != "" || i == 1 || o.op.Method != "POST" || e.Response.Err != "" {
				break
			}
		}
		if taken == "" || ctx.Err() != nil {
			return full
		}
		o.op = o.op.Fresh(taken)
		controls = o.op.Controls()
		if o.opt.Unique != nil {
			o.opt.Unique(o.op.Name(), taken)
		}
	}
	clear(o.sent)
	return full
}

// asked sends a control before its turn. One that broke the service is kept: there is no
// other turn.
func (o *operation) asked(ctx context.Context, op *plan.Operation, c exchange.Case) exchange.Exchange {
	e := o.sendValid(ctx, c, op.Describe)
	if e.Response.Success() && ctx.Err() != nil {
		o.sent[c.ID] = e
		o.sendCase(ctx, &c)
	}
	return e
}

// reportDescribed takes in the control as the description has it, if it was refused, in
// front of the one that takes its place.
func (o *operation) reportDescribed(before exchange.Case) {
	if o.described == nil {
		return
	}
	full := o.described
	o.cut(&full.Response)
	o.described, full.Number = nil, before.Number
	o.result(full, o.judged(full, true), func() {})
}

// refused reports whether a valid request was turned away in a way that may be about
// some of its members.
func refused(a exchange.Answer) bool {
	return a.Err == "" && a.Status >= 400 && a.Status != 401 && a.Status != 429 && a.Status != 503
}

// alreadySent is the exchange of a control that was sent while members were looked for.
func (o *operation) alreadySent(c exchange.Case) (exchange.Exchange, bool) {
	e, was := o.sent[c.ID]
	if was {
		e.Number = c.Number
		delete(o.sent, c.ID)
	}
	return e, was
}
