package run

import (
	"bytes"
	"cmp"
	"context"
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
)

// state is what a resource was before flawed requests were sent to it.
type state struct {
	reader exchange.Case
	judge.Readings
	usable  bool
	changed bool // it was, after the flaws of fields
}

// readBefore reads the resource twice: what differs between the readings changes by itself.
func (o *operation) readBefore(ctx context.Context) *state {
	reader, ok := o.op.Reader()
	if !ok || o.control == nil {
		return &state{}
	}
	s := &state{reader: reader}
	if s.First, ok = o.read(ctx, reader); ok {
		s.Second, ok = o.read(ctx, reader)
	}
	s.Before = s.Second
	s.usable = ok && judge.NewSnapshot(s.First, s.Second).Usable()
	return s
}

// readAfterFieldFlaws reads the resource after the flaws of fields. If it is as it was, a flaw
// that came later may have put back what another had changed: some that could be stored are sent
// once more, and the resource is read after each.
func (o *operation) readAfterFieldFlaws(ctx context.Context, s *state) {
	if !s.usable || ctx.Err() != nil {
		return
	}
	look := func() (goOn bool) {
		now, ok := o.read(ctx, s.reader)
		s.After = now
		s.changed = ok && s.Change() != ""
		return ok && !s.changed && ctx.Err() == nil
	}
	if !look() {
		return
	}
	for _, r := range o.storable() {
		_ = o.send(ctx, *r.planned, nil)
		if !look() {
			return
		}
	}
}

// maxStorable bounds the rejected cases after each of which the resource is read.
const maxStorable = 3

// storable are rejected cases whose one flaw is a value that a service could store before it
// checks: of the right type, in the body, each in another field; those with the smallest numbers.
func (o *operation) storable() []*rejection {
	var out []*rejection
	seen := map[string]bool{}
	for _, r := range o.rejected {
		f := r.planned.Flaws[0]
		if len(r.planned.Flaws) > 1 || f.In != "body" || seen[f.Pointer] || rule.StageOf(f) != rule.Limits && !slices.Contains([]string{"enum", "const", "format"}, f.Rule) {
			continue
		}
		if seen[f.Pointer] = true; len(seen) <= maxStorable {
			out = append(out, r)
		}
	}
	return out
}

func (o *operation) read(ctx context.Context, reader exchange.Case) (any, bool) {
	a := o.send(ctx, reader, nil).Response
	if a.Err != "" || a.Status != 200 || a.Truncated {
		return nil, false
	}
	v, err := instance.Decode(a.Body)
	return v, err == nil
}

// checkState looks whether the resource is what it was. If not, it looks among
// the rejected cases for one that changes it, and tries that one twice.
func (o *operation) checkState(ctx context.Context, s *state) {
	if s == nil || !s.usable || len(o.rejected) == 0 || ctx.Err() != nil {
		return
	}
	now, ok := o.read(ctx, s.reader)
	if s.After = now; !ok || s.Change() == "" && !s.changed {
		return
	}
	defer o.exclusive(ctx)() // others may have changed it
	changes := func(list []*rejection) bool {
		seen, ok := o.readAround(ctx, s, list)
		return ok && seen.Change() != ""
	}
	list := o.rejected
	if !changes(list) { // the last of them may have put it back
		storable := o.storable()
		i := slices.IndexFunc(storable, func(r *rejection) bool { return changes([]*rejection{r}) })
		if i < 0 {
			return // it was one that was accepted, and that is reported
		}
		list = storable[i : i+1]
	}
	for len(list) > 1 {
		half := list[:len(list)/2]
		if !changes(half) {
			half = list[len(list)/2:]
		}
		list = half
	}
	if !changes(list) || changes(nil) {
		return // it cannot be repeated, or it changes by itself
	}
	if seen, ok := o.readAround(ctx, s, list); ok {
		o.noteState(record.State{Case: list[0].Case, Seen: seen})
	}
}

// maxSilent bounds the cases after which a resource is read.
const maxSilent = 16

// keepSilent puts a case aside that sent what only the service sets, where the answer
// does not show whether it was stored.
func (o *operation) keepSilent(planned *exchange.Case, e *exchange.Exchange) {
	if judge.IsReadOnly(*planned) && e.Response.Success() && len(bytes.TrimSpace(e.Response.Body)) == 0 && len(o.acceptedSilently) < maxSilent {
		o.acceptedSilently = append(o.acceptedSilently, &rejection{planned, e})
	}
}

// verifyStored sends such cases once more, and reads the resource after each.
func (o *operation) verifyStored(ctx context.Context) {
	reader, ok := o.op.Reader()
	if !ok || o.control == nil {
		return
	}
	slices.SortFunc(o.acceptedSilently, func(a, b *rejection) int { return cmp.Compare(a.Number, b.Number) })
	for _, r := range o.acceptedSilently {
		var seen judge.Readings
		ok := false
		if o.work.Around != nil {
			seen, ok = o.work.Around(ctx, reader, *r.planned)
		}
		if !ok && ctx.Err() == nil && o.send(ctx, *r.planned, nil).Response.Success() {
			seen.After, ok = o.read(ctx, reader)
		}
		if ok && ctx.Err() == nil && judge.Shows(r.Case, seen.After) {
			o.noteState(record.State{Case: r.Case, Seen: seen})
		}
	}
}

// maxStored bounds the refused cases of an operation that are told of because their records are
// there.
const maxStored = 16

// checkStored looks whether records are there whose creation was refused.
func (o *operation) checkStored(ctx context.Context) {
	if o.work.Stored == nil {
		return
	}
	list := o.work.Stored(ctx)
	slices.SortFunc(list, func(a, b record.State) int { return cmp.Compare(a.Case.Number, b.Case.Number) })
	for _, s := range list[:min(len(list), maxStored)] {
		if o.opt.Redact != nil {
			s.Case = o.opt.Redact(exchange.Exchange{Case: s.Case}).Case
		}
		o.noteState(s)
	}
}

// readAround puts the resource back with the control, sends the cases, and tells what
// the resource shows before and after; false where that cannot be told. What a POST
// would put back is a creation of its own.
func (o *operation) readAround(ctx context.Context, s *state, list []*rejection) (seen judge.Readings, ok bool) {
	seen = s.Readings
	if o.op.Method != "POST" {
		if a := o.send(ctx, *o.control, nil).Response; !a.Success() {
			return seen, false
		}
	}
	if seen.Before, ok = o.read(ctx, s.reader); !ok {
		return seen, false
	}
	for _, r := range list {
		if a := o.send(ctx, *r.planned, nil).Response; ctx.Err() != nil || a.Err != "" || a.Status < 400 {
			return seen, false
		}
	}
	seen.After, ok = o.read(ctx, s.reader)
	return seen, ok
}

// maxOwn bounds the rejected cases whose own records are read.
const maxOwn = 16

// checkOwn looks, where each case has a record of its own, whether a rejected one
// changes it: some of them, spread over the plan, and one that does so a second
// time. False where cases have no records of their own.
func (o *operation) checkOwn(ctx context.Context) bool {
	reader, ok := o.op.Reader()
	if o.work.Around == nil || !ok || o.control == nil || len(o.rejected) == 0 {
		return false
	}
	n := min(maxOwn, len(o.rejected))
	for i := range n {
		r := o.rejected[i*len(o.rejected)/n]
		seen, ok := o.work.Around(ctx, reader, *r.planned)
		if i == 0 && !ok {
			return false
		}
		if ctx.Err() != nil || !ok || seen.Change() == "" {
			continue
		}
		release := o.exclusive(ctx)
		again, ok := o.work.Around(ctx, reader, *r.planned)
		release()
		if ok && again.Change() != "" {
			o.noteState(record.State{Case: r.Case, Seen: again})
			break
		}
	}
	return true
}

func (o *operation) noteState(s record.State) { o.locked(func() { o.collector.state(s) }) }
