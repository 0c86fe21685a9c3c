package plan

import (
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
)

// headerFields sends each header parameter without a value, and twice (RFC 9110, section 5.3).
func (e *emitter) headerFields(s sent) {
	object, _ := s.values["header"].(map[string]any)
	for _, part := range e.op.Parts {
		if part.In != "header" || !e.at(flaw.Usual) {
			continue
		}
		for _, p := range part.Params {
			v, has := object[p.Name]
			if !has || p.JSON {
				continue
			}
			pointer := instance.Join("", p.Name)
			r := e.op.compose(s.values)
			i := slices.IndexFunc(r.Headers, func(h [2]string) bool { return h[0] == p.Name })
			if i < 0 {
				continue
			}
			r.Headers = slices.Clone(r.Headers)
			r.Headers[i][1] = ""
			if !strings.EqualFold(p.Name, "User-Agent") { // empty, it is not sent
				f := exchange.Flaw{In: "header", Pointer: pointer, Rule: "empty-field", Variant: "no-value", Reason: "the header has no value"}
				e.single(f, r, object, object)
			}
			if _, isList := v.([]any); isList || !e.at(flaw.Deep) {
				continue
			}
			r = e.op.compose(s.values)
			r.Headers = slices.Insert(slices.Clone(r.Headers), i, r.Headers[i])
			f := exchange.Flaw{In: "header", Pointer: pointer, Rule: "repeated", Variant: "header-twice", Reason: "the header is sent twice, and it is not a list"}
			e.single(f, r, object, object)
		}
	}
}
