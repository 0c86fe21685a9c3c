package plan

import (
	"fmt"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/custom"
	"obiter/internal/generate/flaw"
)

// operators are words for what a name has no letters for.
var operators = strings.NewReplacer(">=", " at least ", "<=", " at most ", "==", " is ", "!=", " is not ", ">", " above ", "<", " below ", "!", " not ", "&&", " and ", "||", " or ",
	"+", " plus ", "-", " minus ", "*", " times ", "/", " by ", "%", " modulo ")

// holds gives out the requests that break an expression and nothing else, and
// those that just keep it.
func (e *emitter) holds() {
	b := e.op.bound
	values := e.op.values(fullest)
	taken := map[string]int{}
	for _, r := range b.holds {
		from := b.from[r]
		name := custom.Slug(operators.Replace(r.Text))
		if taken[name]++; taken[name] > 1 { // texts that differ in nothing that a name can show
			name = fmt.Sprintf("%s-%d", name, taken[name])
		}
		found, tried := b.space.Break(r, b.holds, values)
		if len(found) == 0 {
			e.drop(exchange.Flaw{In: "body", Rule: "holds", Variant: name, Reason: r.Text}, tried)
		}
		for i, f := range found {
			if i > 0 && !e.at(flaw.Deep) {
				break // one is enough; the others change fields that are not blamed
			}
			variant := name
			if i > 0 {
				variant += "-by-" + custom.Slug(f.Changed[0].Pointer)
			}
			in := f.Changed[0].In
			fl := exchange.Flaw{In: in, Rule: "holds", Variant: variant, Reason: r.Text + " does not hold"}
			e.businessCase(from, fl, r.Blamed(f.Changed), f.Values)
		}
		for i, f := range b.space.Keep(r, b.holds, values) {
			if e.op.plan.opt.Depth == flaw.Quick && i > 0 {
				break
			}
			c := f.Changed[0]
			edge := exchange.Flaw{In: c.In, Pointer: c.Pointer, Rule: "holds", Variant: name + "-just", Reason: r.Text + " just holds"}
			if i > 0 {
				edge.Variant += "-by-" + custom.Slug(c.Pointer)
			}
			e.give(exchange.Case{Name: "edge, " + shownField(edge) + " holds", Kind: exchange.Edge, Request: e.op.compose(f.Values), Edge: &edge, Body: f.Values[c.In],
				Control: values[c.In], Base: fullest, Expect: exchange.Expect{Class: exchange.Accepted}, SecretFields: e.secretFields()}, []exchange.Flaw{edge})
		}
	}
}
