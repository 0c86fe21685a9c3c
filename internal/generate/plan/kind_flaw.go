package plan

import (
	"cmp"
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/business"
	"obiter/internal/input/config"
	"obiter/internal/input/oad"
)

// byHandKind: a flaw that the configuration makes by hand, with a patch.
var byHandKind = kind{
	rule: "rule", member: "flaw",
	field: func(config.Rule) string { return "" },
	check: func(r config.Rule, body any) *business.RuleError {
		if r.Parameters == nil && instance.Equal(body, instance.Merge(body, r.Patch)) {
			return business.NoEffect(r.Flaw)
		}
		return nil
	},
	cases: func(e *emitter, r config.Rule, _ *Part, control any) {
		if r.Parameters == nil {
			e.broken(r, control, instance.Merge(control, r.Patch), "rule", slug(r.Flaw), r.Flaw, r.Blames)
			return
		}
		f := exchange.Flaw{Rule: "rule", Variant: slug(r.Flaw), Reason: r.Flaw}
		values := e.op.values(fullest)
		for _, in := range places {
			for name, v := range r.Parameters[in] {
				values[in] = instance.Merge(values[in], map[string]any{name: v}) // a null leaves it out
				f.In = cmp.Or(f.In, in)
			}
		}
		if r.Patch != nil {
			values["body"], f.In = instance.Merge(control, r.Patch), "body"
		}
		e.businessCase(r, f, r.Blames, values)
	},
}

// undescribedParameter is a parameter of a flaw by hand that the operation does not
// have; "" where it has all.
func (op *Operation) undescribedParameter(r config.Rule) (in, name string) {
	for _, in := range places {
		for _, name := range instance.Names(r.Parameters[in]) {
			part := op.part(in)
			if part == nil || !slices.ContainsFunc(part.Params, func(p oad.Parameter) bool { return p.Name == name }) {
				return in, name
			}
		}
	}
	return "", ""
}
