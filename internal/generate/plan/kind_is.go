package plan

import (
	"fmt"

	"obiter/internal/core/instance"
	"obiter/internal/generate/business"
	"obiter/internal/generate/flaw"
	"obiter/internal/input/config"
)

// isKind: a field that has to be one value, such as a phrase that was kept.
var isKind = kind{
	rule: "is", member: "blames",
	field: func(r config.Rule) string {
		if r.Is == nil {
			return ""
		}
		return r.Blames[0]
	},
	check: func(r config.Rule, body any) *business.RuleError {
		if now, _ := instance.Get(body, r.Blames[0]); !instance.Equal(now, r.Is) {
			return business.NoRoom(r.Blames[0], r.Is)
		}
		return nil
	},
	edge: func(r config.Rule, p flaw.Planted) bool {
		now, _ := instance.Get(p.Value, r.Blames[0])
		return instance.Equal(now, r.Is)
	},
	cases: func(e *emitter, r config.Rule, part *Part, control any) {
		e.broken(r, control, elsewhere(part, control, r.Blames[0], false), "is", "another", fmt.Sprintf("the value has the right form and is not %s", instance.Encode(r.Is)), r.Blames)
	},
}

// require puts the values that fields have to be into the controls of a body.
func (b *bound) require(part *Part) {
	for _, r := range b.rest {
		if r.Is == nil {
			continue
		}
		for i, c := range part.Controls {
			body, ok := instance.Set(c.Value, r.Blames[0], r.Is)
			if !ok || !part.Schema.Valid(body) {
				continue
			}
			if part.Controls[i].Value, part.listed = body, nil; i == 0 {
				part.Fullest = body
			}
		}
		b.fixed = append(b.fixed, business.Field{In: "body", Pointer: r.Blames[0]})
	}
}
