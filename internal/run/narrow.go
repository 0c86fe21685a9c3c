package run

import (
	"context"

	"obiter/internal/exchange"
	"obiter/internal/judge"
	"obiter/internal/plan"
)

// maxFresh bounds how many fields are given values that no other record has.
const maxFresh = 4

// maxNarrowing bounds the requests that look for members which are not taken.
const maxNarrowing = 40

// narrow looks, where the fullest control is refused and the leanest accepted, which
// optional members are not taken, and goes on without them. What it sent of the
// controls is not sent again.
func (o *operation) narrow(ctx context.Context) {
	controls, all := o.op.Controls(), o.op.Optional()
	if len(controls) == 0 || o.op.IsWholeAPI() {
		return
	}
	full := o.first(ctx)
	if !refused(full.Response) || ctx.Err() != nil || len(all) == 0 {
		return
	}
	n := narrowing{operation: o, ctx: ctx, all: all}
	op, e, ok := n.without(all) // as the leanest
	if !ok {
		return
	}
	culprits := all
	if o.op.Method != "DELETE" && len(all) > 1 { // what was removed cannot be removed again
		if culprits = n.among(all); len(culprits) == 0 {
			return
		}
		if len(culprits) < len(all) {
			op, e, ok = n.without(culprits)
		}
	}
	if !ok || ctx.Err() != nil {
		return
	}
	full.Case = o.op.Refused(full.Case, culprits)
	o.described, o.op, o.sent[e.ID] = &full, op, e
}

// first sends the fullest control, and of a POST that takes it the next one, in which
// a value may be taken by then: where the service says so, all requests have a new
// value there from then on.
func (o *operation) first(ctx context.Context) (full exchange.Exchange) {
	for range maxFresh {
		clear(o.sent)
		taken := ""
		for i, c := range o.op.Controls() {
			e := o.send(ctx, c, o.op.Describe)
			if o.sent[e.ID] = e; i == 0 {
				full = e
			}
			if pointer, is := judge.Taken(e.Case, e.Response); is {
				taken = pointer
			}
			if ctx.Err() != nil || taken != "" || i == 1 || o.op.Method != "POST" || !e.Response.Success() {
				break
			}
		}
		if taken == "" || ctx.Err() != nil {
			return full
		}
		o.op = o.op.Fresh(taken)
		if o.opt.Unique != nil {
			o.opt.Unique(o.op.Name(), taken)
		}
	}
	clear(o.sent)
	return full
}

// tellDescribed takes in the control as the description has it, if it was refused, in
// front of the one that takes its place.
func (o *operation) tellDescribed(before exchange.Case) {
	if o.described == nil {
		return
	}
	full := *o.described
	o.described, full.Number = nil, before.Number
	o.result(full, o.judge.Take(full), func() {
		if o.done++; o.opt.Progress != nil {
			o.opt.Progress(o.done)
		}
	})
}

// refused reports whether a valid request was turned away in a way that may be about
// some of its members.
func refused(a exchange.Answer) bool {
	return a.Err == "" && a.Status >= 400 && a.Status != 401 && a.Status != 429 && a.Status != 503
}

// narrowing looks for members that are not taken.
type narrowing struct {
	*operation
	ctx  context.Context
	all  []plan.Member
	sent int
}

// among are those of some members that are not taken, each by itself: by halving.
func (n *narrowing) among(some []plan.Member) []plan.Member {
	if n.ctx.Err() != nil || n.sent >= maxNarrowing {
		return some
	}
	if len(some) < len(n.all) { // all of them are known to be refused
		if _, _, ok := n.without(others(n.all, some)); ok {
			return nil
		}
	}
	if len(some) == 1 {
		return some
	}
	half := len(some) / 2
	return append(n.among(some[:half]), n.among(some[half:])...)
}

func others(all, some []plan.Member) []plan.Member {
	var out []plan.Member
	for _, m := range all {
		taken := false
		for _, s := range some {
			taken = taken || s == m
		}
		if !taken {
			out = append(out, m)
		}
	}
	return out
}

// without sends the fullest control without some members.
func (n *narrowing) without(some []plan.Member) (op *plan.Operation, e exchange.Exchange, ok bool) {
	n.sent++
	op = n.op.Narrowed(some)
	controls := op.Controls()
	if len(controls) == 0 {
		return op, e, false
	}
	e = n.send(n.ctx, controls[0], op.Describe)
	return op, e, e.Response.Success()
}

// already is the exchange of a control that was sent while members were looked for.
func (o *operation) already(c exchange.Case) (exchange.Exchange, bool) {
	e, was := o.sent[c.ID]
	if was {
		e.Number = c.Number
		delete(o.sent, c.ID)
	}
	return e, was
}
