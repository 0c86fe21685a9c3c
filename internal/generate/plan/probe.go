package plan

import (
	"fmt"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// Probed is the body of the operation's fullest control, which probes vary; false where
// the operation has no body in JSON.
func (op *Operation) Probed() (any, bool) {
	if len(op.Parts) == 0 {
		return nil, false
	}
	part := op.Parts[len(op.Parts)-1]
	if part.In != "body" || part.Form != "" || len(part.Controls) == 0 {
		return nil, false
	}
	return part.Controls[0].Value, true
}

// Probe is the operation's fullest control with another body, the nth of its kind, which varies
// a base. What is right of the answer is not known: that is what it is for.
func (op *Operation) Probe(n int, base, body any) exchange.Case {
	values := op.values(fullest)
	values["body"] = body
	var variables []exchange.Variable
	if renews(op.Method) {
		for _, v := range op.variables(fullest) {
			if v.Wide || v.Settled || strings.Count(v.Pointer, "/") != 1 {
				continue // whether elements of lists have to differ is what is to be found out
			}
			var there bool
			if v.Planned, there = instance.Get(base, v.Pointer); there {
				variables = append(variables, v)
			}
		}
	}
	return exchange.Case{Variables: variables, ID: caseID(op.Name(), exchange.Control, []exchange.Flaw{{In: "body", Rule: "probe", Variant: fmt.Sprint(n)}}), Name: fmt.Sprintf("probe %d", n),
		Operation: op.Name(), OperationID: op.ID, ProvenBy: op.Name(), Kind: exchange.Control, Base: fullest, Request: op.compose(values), Body: body,
		Expect: exchange.Expect{Class: exchange.Accepted}, Credentials: op.credentials}
}

// Patched is a body with what the configuration says of the operation's bodies.
func (op *Operation) Patched(body any) any {
	if patch, has := op.plan.opt.Bodies[op.Name()]; has {
		return instance.Merge(body, patch)
	}
	return body
}
