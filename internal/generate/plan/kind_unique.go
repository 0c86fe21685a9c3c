package plan

import (
	"math/rand/v2"
	"strconv"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/input/config"
	"obiter/internal/input/schema"
)

// uniqueKind: a field whose value no two records share. Every request has a new
// value there, but for the one that breaks the rule.
var uniqueKind = kind{
	rule: "unique", member: "unique",
	field: func(r config.Rule) string { return r.Unique },
	cases: func(e *emitter, r config.Rule, _ *Part, control any) {
		if e.op.Method != "POST" || r.Fresh {
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
		if r.Around != "" {
			body, _ = instance.Set(body, r.Unique, config.Renewed(r.Around, part8(e.op.plan.opt.Salt, ordinal(c.ID))))
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

// part8 are eight letters and digits that hardly any other request has.
func part8(salt, ordinal uint64) string {
	rng := rand.New(rand.NewPCG(salt, ordinal))
	return strconv.FormatUint(36*36*36*36*36*36*36+rng.Uint64N(35*36*36*36*36*36*36*36), 36)
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
