package plan

import (
	"obiter/internal/config"
	"obiter/internal/exchange"
	"obiter/internal/instance"
	"obiter/internal/schema"
)

// uniqueKind: a field whose value no two records share. Every request has a new
// value there, but for the one that breaks the rule.
var uniqueKind = kind{
	rule: "unique", member: "unique",
	field: func(r config.Rule) string { return r.Unique },
	cases: func(e *emitter, r config.Rule, _ *Part, control any) {
		if e.op.Method != "POST" {
			return // it would be the value of the record itself
		}
		e.broken(r, control, taken(control, e.stored, r.Unique), "unique", "taken", "the value is that of the record that the first control made", []string{r.Unique})
	},
	// Where the field is itself flawed it stays; where it is an edge it keeps its length.
	refresh: func(e *emitter, r config.Rule, c *exchange.Case, part *Part, body any) (any, bool) {
		now, there := instance.Get(body, r.Unique)
		if !there || len(c.Flaws) > 0 && touches(c, r.Unique) {
			return body, true
		}
		same := touches(c, r.Unique)
		list, _, _ := schema.At([]schema.Schema{part.Schema}, body, r.Unique)
		fresh, ok := e.op.plan.maker.Fresh(list, now, same, e.op.plan.opt.Salt, ordinal(c.ID))
		if !ok && same {
			return body, false
		}
		body, _ = instance.Set(body, r.Unique, fresh)
		return body, true
	},
}

// taken is the control with the value that another record has already; nil
// if there is none.
func taken(control, stored any, at string) any {
	v, ok := instance.Get(stored, at)
	if !ok {
		return nil
	}
	body, ok := instance.Set(control, at, v)
	if !ok {
		return nil
	}
	return body
}
