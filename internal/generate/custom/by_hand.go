package custom

import (
	"cmp"
	"maps"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/business"
	"obiter/internal/input/config"
)

// byHand: a flaw that the configuration makes by hand, with a patch.
var byHand = Kind{
	Rule: "rule", Member: "flaw",
	Field: func(config.Rule) string { return "" },
	Check: func(r config.Rule, body any) *business.RuleError {
		if r.Parameters == nil && instance.Equal(body, instance.Merge(body, r.Patch)) {
			return business.NoEffect(r.Flaw)
		}
		return nil
	},
	Cases: func(r config.Rule, valid Request) []Case {
		f := exchange.Flaw{Rule: "rule", Variant: Slug(r.Flaw), Reason: r.Flaw}
		control := valid.Values["body"]
		if r.Parameters == nil {
			return []Case{valid.with(instance.Merge(control, r.Patch), f, r.Blames...)}
		}
		values := maps.Clone(valid.Values)
		for _, in := range config.Places {
			for name, v := range r.Parameters[in] {
				values[in] = instance.Merge(values[in], map[string]any{name: v}) // a null leaves it out
				f.In = cmp.Or(f.In, in)
			}
		}
		if r.Patch != nil {
			values["body"], f.In = instance.Merge(control, r.Patch), "body"
		}
		return []Case{{Flaw: f, Blames: r.Blames, Values: values}}
	},
}
