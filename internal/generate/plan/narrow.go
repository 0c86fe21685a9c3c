package plan

import (
	"maps"
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/input/config"
)

// Member is an optional member of a part of a request: a parameter, or a field.
type Member struct{ In, Pointer string }

// Optional lists what the fullest request has and the leanest has not, in the order
// of the parts: of what is nested only the outermost.
func (op *Operation) Optional() []Member {
	var out []Member
	full, lean := op.values(fullest), op.values(leanest)
	for _, part := range op.Parts {
		for _, at := range beyond("", full[part.In], lean[part.In]) {
			out = append(out, Member{part.In, at})
		}
	}
	return out
}

func beyond(at string, full, lean any) []string {
	x, isObject := full.(map[string]any)
	y, both := lean.(map[string]any)
	if !isObject || !both {
		return nil
	}
	var out []string
	for _, name := range instance.Names(x) {
		here := instance.Join(at, name)
		if inner, has := y[name]; has {
			out = append(out, beyond(here, x[name], inner)...)
		} else {
			out = append(out, here)
		}
	}
	return out
}

// maxNarrowing bounds the requests that look for members which are not taken.
const maxNarrowing = 40

// narrowing looks for members that are not taken.
type narrowing struct {
	op       *Operation
	all      []Member
	accepted func(*Operation, exchange.Case) bool
	sent     int
}

// Narrow finds the optional members because of which the fullest control is refused,
// where the leanest is accepted: by halving, or all of them where a request cannot be
// sent as often. It gives the operation planned without them, for which accepted was
// asked last. False where nothing is accepted.
func (op *Operation) Narrow(often bool, accepted func(*Operation, exchange.Case) bool) (*Operation, []Member, bool) {
	n := &narrowing{op: op, all: op.Optional(), accepted: accepted}
	narrowed, ok := n.without(n.all) // as the leanest
	if !ok || !often || len(n.all) < 2 {
		return narrowed, n.all, ok
	}
	culprits := n.among(n.all)
	if len(culprits) == 0 {
		return op, nil, false
	}
	narrowed, ok = n.without(culprits)
	return narrowed, culprits, ok
}

// among are those of some members that are not taken, each by itself: by halving.
func (n *narrowing) among(some []Member) []Member {
	if n.sent >= maxNarrowing {
		return some
	}
	if len(some) < len(n.all) { // all of them are known to be refused
		others := slices.DeleteFunc(slices.Clone(n.all), func(m Member) bool { return slices.Contains(some, m) })
		if _, ok := n.without(others); ok {
			return nil
		}
	}
	if len(some) == 1 {
		return some
	}
	half := len(some) / 2
	return append(n.among(some[:half]), n.among(some[half:])...)
}

// without asks for the fullest control without some members.
func (n *narrowing) without(some []Member) (*Operation, bool) {
	n.sent++
	op := n.op.narrowed(some)
	controls := op.Controls()
	return op, len(controls) > 0 && n.accepted(op, controls[0])
}

// narrowed is the operation planned with requests that leave members out, as far as
// they are valid so.
func (op *Operation) narrowed(leave []Member) *Operation {
	q := *op.plan
	q.opt.Leave = maps.Clone(q.opt.Leave)
	if q.opt.Leave == nil {
		q.opt.Leave = map[string][]Member{}
	}
	q.opt.Leave[op.Name()] = slices.Concat(q.opt.Leave[op.Name()], leave)
	return q.prepare(op.Operation)
}

// Fresh is the operation planned with a new value at a field in each request.
func (op *Operation) Fresh(pointer string) *Operation {
	q := *op.plan
	q.opt.Rules = maps.Clone(q.opt.Rules)
	if q.opt.Rules == nil {
		q.opt.Rules = map[string][]config.Rule{}
	}
	q.opt.Rules[op.Name()] = append(slices.Clone(q.opt.Rules[op.Name()]), config.Rule{Unique: pointer, Inferred: true, Fresh: !op.creates()})
	return q.prepare(op.Operation)
}

// Renewing lists the fields of the body that have a new value in each request.
func (op *Operation) Renewing() []string {
	var out []string
	if op.bound != nil {
		for _, r := range op.bound.rest {
			if r.Unique != "" {
				out = append(out, r.Unique)
			}
		}
	}
	return out
}

// creates reports whether the operation documents that it makes a record: only then is
// the value of its own first request taken afterwards.
func (op *Operation) creates() bool { return slices.Contains(op.Documented(), "201") }

// leave takes the members out that are left out of an operation's requests.
func (p *Plan) leave(op *Operation) {
	for _, part := range op.Parts {
		var pointers []string
		for _, m := range p.opt.Leave[op.Name()] {
			if m.In == part.In && !op.holdsDecision(part, m.Pointer) {
				pointers = append(pointers, m.Pointer)
			}
		}
		for i, c := range part.Controls {
			v, less := part.without(c.Value, pointers)
			if part.Controls[i].Value = v; less && i == 0 {
				part.Fullest = v
			}
		}
	}
}

// without is a value without the members at some pointers, as far as it is valid then: all
// at once, else by halves, so that it is not looked at once for each.
func (part *Part) without(v any, pointers []string) (out any, less bool) {
	out, less = instance.RemoveAll(v, pointers)
	if !less {
		return v, false
	}
	if seen, sendable := part.Seen(out); sendable && part.Schema.Valid(seen) {
		return out, true
	}
	if len(pointers) == 1 {
		return v, false
	}
	half := len(pointers) / 2
	out, first := part.without(v, pointers[:half])
	out, second := part.without(out, pointers[half:])
	return out, first || second
}

// Refused is the fullest control as the description has it, which is accepted only
// without some members; the one without them takes its place.
func (op *Operation) Refused(c exchange.Case, without []Member) exchange.Case {
	const described = "as described"
	c.ID = caseID(op.Name(), exchange.Control, []exchange.Flaw{{In: "body", Rule: "control", Variant: described}})
	c.Name, c.Base = "control, "+described, described
	for _, m := range without {
		c.LeavesOut = append(c.LeavesOut, exchange.Flaw{In: m.In, Pointer: m.Pointer}.Where())
	}
	return c
}
