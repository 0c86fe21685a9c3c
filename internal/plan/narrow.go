package plan

import (
	"maps"
	"slices"

	"obiter/internal/config"
	"obiter/internal/exchange"
	"obiter/internal/instance"
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

// Narrowed is the operation planned with requests that leave members out, as far as
// they are valid so.
func (op *Operation) Narrowed(leave []Member) *Operation {
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
	q.opt.Rules[op.Name()] = append(slices.Clone(q.opt.Rules[op.Name()]), config.Rule{Unique: pointer})
	return q.prepare(op.Operation)
}

// leave takes the members out that are left out of an operation's requests.
func (p *Plan) leave(op *Operation) {
	for _, m := range p.opt.Leave[op.Name()] {
		for _, part := range op.Parts {
			if part.In != m.In {
				continue
			}
			for i, c := range part.Controls {
				v, ok := instance.Remove(c.Value, m.Pointer)
				if seen, sendable := part.Seen(v); !ok || !sendable || !part.Schema.Valid(seen) {
					continue
				}
				if part.Controls[i].Value = v; i == 0 {
					part.Fullest = v
				}
			}
		}
	}
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
