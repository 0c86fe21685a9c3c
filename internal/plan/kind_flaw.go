package plan

import (
	"obiter/internal/business"
	"obiter/internal/config"
	"obiter/internal/instance"
)

// byHandKind: a flaw that the configuration makes by hand, with a patch.
var byHandKind = kind{
	rule: "rule", member: "flaw",
	field: func(config.Rule) string { return "" },
	check: func(r config.Rule, body any) *business.RuleError {
		if instance.Equal(body, instance.Merge(body, r.Patch)) {
			return business.NoEffect(r.Flaw)
		}
		return nil
	},
	cases: func(e *emitter, r config.Rule, _ *Part, control any) {
		e.broken(r, control, instance.Merge(control, r.Patch), "rule", slug(r.Flaw), r.Flaw, r.Blames)
	},
}
