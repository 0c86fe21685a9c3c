package custom

import (
	"fmt"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/business"
	"obiter/internal/generate/flaw"
	"obiter/internal/input/config"
)

// is: a field that has to be one value, such as a phrase that was kept.
var is = Kind{
	Rule: "is", Member: "blames",
	Field: func(r config.Rule) string {
		if r.Is == nil {
			return ""
		}
		return r.Blames[0]
	},
	Check: func(r config.Rule, body any) *business.RuleError {
		if now, _ := instance.Get(body, r.Blames[0]); !instance.Equal(now, r.Is) {
			return business.NoRoom(r.Blames[0], r.Is)
		}
		return nil
	},
	Edge: func(r config.Rule, p flaw.Planted) bool {
		now, _ := instance.Get(p.Value, r.Blames[0])
		return instance.Equal(now, r.Is)
	},
	Cases: func(r config.Rule, valid Request) []Case {
		f := exchange.Flaw{Rule: "is", Variant: "another", Reason: fmt.Sprintf("the value has the right form and is not %s", instance.Encode(r.Is))}
		return []Case{valid.with(Elsewhere(valid.Body, valid.Values["body"], r.Blames[0], false), f, r.Blames...)}
	},
}
