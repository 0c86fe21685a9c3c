package plan

import (
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/sample"
	"obiter/internal/input/config"
	"obiter/internal/input/schema"
	"obiter/internal/input/sources"
)

// maxVariables bounds the fields of a body that have a new value in each request.
const maxVariables = 40

// renews reports whether requests with a method have new values: they may create a record, or
// change one, whose values tell it from others.
func renews(method string) bool { return method == "POST" || method == "PUT" || method == "PATCH" }

// variables are the fields of a control's body that have a new value each time a request is
// sent: texts that no list restricts, and numbers that records are known by. What the
// configuration says, what refers to another record, what a rule speaks of, and secrets stay
// as they are.
func (op *Operation) variables(shape string) []exchange.Variable {
	part := op.part("body")
	if part == nil || part.Form != "" && op.Method != "POST" {
		return nil
	}
	i := max(slices.IndexFunc(part.Controls, func(c sample.Control) bool { return c.Shape == shape }), 0)
	list, known := part.varied[shape]
	if !known {
		if list = op.varying(part, part.Controls[i]); part.varied == nil {
			part.varied = map[string][]exchange.Variable{}
		}
		part.varied[shape] = list
	}
	return list
}

// fixed are the pointers of what the configuration gives a value, or has rules for; settled are
// the rules for values that are new each time, by the pointers of their fields.
func (op *Operation) fixed() (fixed []string, settled map[string]config.Rule) {
	instance.Walk(op.plan.opt.Bodies[op.Name()], func(at string, v any) bool {
		if at != "" && instance.Type(v) != "object" {
			fixed = append(fixed, at)
		}
		return true
	})
	settled = map[string]config.Rule{}
	if op.bound == nil {
		return fixed, settled
	}
	for _, r := range op.bound.rest {
		if r.Unique != "" {
			settled[r.Unique] = r
			continue
		}
		fixed = append(fixed, r.Exists)
		fixed = append(fixed, r.Blames...)
	}
	return slices.DeleteFunc(fixed, func(at string) bool { return at == "" }), settled
}

func (op *Operation) varying(part *Part, c sample.Control) []exchange.Variable {
	fixed, settled := op.fixed()
	salt := op.plan.opt.Salt
	var out []exchange.Variable
	for _, f := range part.fields(c) {
		if len(out) == maxVariables {
			break
		}
		now, there := instance.Get(c.Value, f.Pointer)
		if !there || f.Pointer == "" || op.reach != nil && op.reach.Of("body", f.Pointer) != sources.Nothing || op.bound != nil && op.bound.speaksOf(op.values(c.Shape), f.Pointer) {
			continue
		}
		if r, is := settled[f.Pointer]; is && r.Around != "" {
			around := r.Around
			out = append(out, exchange.Variable{Pointer: f.Pointer, Planned: now, Settled: true, Key: true,
				New: func(nth uint64) any { return config.Renewed(around, sample.Part(salt, nth)) }})
			continue
		}
		_, isSettled := settled[f.Pointer]
		if !isSettled && (slices.ContainsFunc(fixed, func(at string) bool { return instance.Within(f.Pointer, at) || instance.Within(at, f.Pointer) }) || !(sample.Free(f.Shape, f.Pointer, now) || sample.Renewable(f.Shape, f.Pointer, now))) {
			continue
		}
		list, _, ok := schema.At([]schema.Schema{part.Schema}, c.Value, f.Pointer)
		if !ok {
			continue
		}
		renew, ok := op.plan.maker.Renewing(list, now, salt)
		if !ok {
			continue
		}
		out = append(out, exchange.Variable{Pointer: f.Pointer, Planned: now, Settled: isSettled, Key: sample.IsKey(f.Pointer), Wide: !isSettled && !sample.Free(f.Shape, f.Pointer, now), New: renew})
	}
	return part.harmless(c, out)
}

// harmless are those of the variables whose values make no other rules hold: the control stays
// valid, and takes the same branches.
func (part *Part) harmless(c sample.Control, list []exchange.Variable) []exchange.Variable {
	same := func(some []exchange.Variable) bool {
		v := c.Value
		for _, x := range some {
			v, _ = instance.Set(v, x.Pointer, x.New(0))
		}
		seen, sendable := part.Seen(v)
		if !sendable || !part.Schema.Valid(seen) {
			return false
		}
		return slices.EqualFunc(part.fields(c), flaw.Fields(part.Schema, v), func(a, b flaw.Field) bool {
			return a.Pointer == b.Pointer && len(a.Shape.Sources) == len(b.Shape.Sources)
		})
	}
	if len(list) == 0 || same(list) {
		return list
	}
	var out []exchange.Variable
	for _, x := range list {
		if same(append(slices.Clone(out), x)) {
			out = append(out, x)
		}
	}
	return out
}
