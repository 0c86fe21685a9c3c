package run

import (
	"context"

	"obiter/internal/exchange"
	"obiter/internal/instance"
	"obiter/internal/judge"
)

// state is what a resource was before flawed requests were sent to it.
type state struct {
	reader exchange.Case
	before judge.Snapshot
}

// look reads the resource twice: what differs between the readings changes by itself.
func (o *operation) look(ctx context.Context) *state {
	reader, ok := o.op.Reader()
	if !ok || o.control == nil {
		return &state{}
	}
	s := &state{reader: reader}
	first, ok := o.read(ctx, reader)
	if !ok {
		return &state{}
	}
	second, ok := o.read(ctx, reader)
	if !ok {
		return &state{}
	}
	s.before = judge.NewSnapshot(first, second)
	return s
}

func (o *operation) read(ctx context.Context, reader exchange.Case) (any, bool) {
	a := o.opt.Send(ctx, reader)
	if a.Err != "" || a.Status != 200 || a.Truncated {
		return nil, false
	}
	v, err := instance.Decode(a.Body)
	return v, err == nil
}

// checkState looks whether the resource is what it was. If not, it looks among
// the rejected cases for one that changes it, and tries that one twice.
func (o *operation) checkState(ctx context.Context, s *state) {
	if s == nil || !s.before.Usable() || len(o.rejected) == 0 || ctx.Err() != nil {
		return
	}
	now, ok := o.read(ctx, s.reader)
	if !ok || s.before.Change(now) == "" {
		return
	}
	list := o.rejected
	if o.changes(ctx, s, list) == "" {
		return // it was one that was accepted, and that is said
	}
	for len(list) > 1 {
		half := list[:len(list)/2]
		if o.changes(ctx, s, half) == "" {
			half = list[len(list)/2:]
		}
		list = half
	}
	if o.changes(ctx, s, list) == "" || o.changes(ctx, s, nil) != "" {
		return // it cannot be repeated, or it changes by itself
	}
	if change := o.changes(ctx, s, list); change != "" {
		o.late(judge.Changed(list[0], change))
	}
}

// changes puts the resource back with the control, sends the cases, and tells
// what is different then; "" where nothing is.
func (o *operation) changes(ctx context.Context, s *state, list []exchange.Case) string {
	if a := o.opt.Send(ctx, *o.control); a.Err != "" || a.Status >= 300 {
		return ""
	}
	before, ok := o.read(ctx, s.reader)
	if !ok {
		return ""
	}
	for _, c := range list {
		if a := o.opt.Send(ctx, c); ctx.Err() != nil || a.Err != "" || a.Status < 400 {
			return ""
		}
	}
	after, ok := o.read(ctx, s.reader)
	if !ok {
		return ""
	}
	return s.before.With(before).Change(after)
}
