package plan

import (
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/input/document"
)

// maxDescribed bounds the fields of an operation whose places are told.
const maxDescribed = 2_000

// Described is where the description has the operation, its fields and their rules.
func (op *Operation) Described() exchange.Described {
	out := exchange.Described{Operation: op.Name(), Number: op.number(), Skip: op.SkipReason}
	if op.whole != nil {
		return out
	}
	doc := op.plan.doc
	out.At = exchange.Place(doc.PlaceOf(op.Operation))
	for _, part := range op.Parts {
		for _, f := range part.Fields() {
			if f.Pointer == "" && part.In != "body" || len(out.Fields) == maxDescribed {
				continue
			}
			pointer := instance.AnyIndex(f.Pointer)
			if out.Field(part.In, pointer) == nil {
				out.Fields = append(out.Fields, op.described(part.In, pointer, f))
			}
		}
	}
	return out
}

func (op *Operation) described(in, pointer string, f flaw.Field) exchange.DescribedField {
	doc := op.plan.doc
	out := exchange.DescribedField{In: in, Pointer: pointer, Rules: map[string]exchange.Place{}}
	for _, rule := range f.Shape.Rules() {
		out.Rules[rule.Keyword] = ""
	}
	for _, s := range f.Shape.Sources {
		at := document.LocationOf(s.URL())
		file := doc.File(at.File)
		if file == nil { // made here: the object of all parameters
			continue
		}
		if out.At == "" {
			out.At = exchange.Place(doc.Place(at))
		}
		written := file.Names(at.Pointer)
		for rule, place := range out.Rules {
			if place == "" && slices.Contains(written, rule) {
				out.Rules[rule] = exchange.Place(doc.Place(at.Under(rule)))
			}
		}
	}
	for rule, place := range out.Rules {
		if place == "" {
			out.Rules[rule] = out.At
		}
	}
	return out
}
