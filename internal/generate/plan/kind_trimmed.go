package plan

import (
	"strings"
	"unicode/utf8"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/input/config"
)

// trimmedKind: a string that loses its outer spaces before it is checked, so that
// they do not count towards a length.
var trimmedKind = kind{
	rule: "trimmed", member: "trimmed",
	field: func(r config.Rule) string { return r.Trimmed },
	admit: func(r config.Rule, part *Part, p flaw.Planted) string {
		for _, f := range p.Flaws {
			if f.Pointer == r.Trimmed && trimmedRight(part, p.Value, f.Pointer) {
				return OnceTrimmed
			}
		}
		return ruledBlank(p, r.Trimmed)
	},
	cases: func(e *emitter, r config.Rule, part *Part, control any) { e.trimmed(part, control, r) },
}

// trimmedRight reports whether a value is valid once the text at a place has lost
// its outer spaces.
func trimmedRight(part *Part, v any, at string) bool {
	now, _ := instance.Get(v, at)
	text, ok := now.(string)
	if !ok || strings.TrimSpace(text) == text {
		return false
	}
	trimmed, _ := instance.Set(v, at, strings.TrimSpace(text))
	return part.Schema.Valid(trimmed)
}

// trimmed gives out a string that is long enough only by its spaces, and one that
// is right once it is trimmed.
func (e *emitter) trimmed(part *Part, control any, r config.Rule) {
	at := r.Trimmed
	now, _ := instance.Get(control, at)
	text, ok := now.(string)
	values := e.op.values(fullest)
	f := exchange.Flaw{In: "body", Pointer: at, Rule: "trimmed", Variant: "blanks-count", Reason: "the string is long enough only by its spaces"}
	if !ok {
		e.drop(f, "there is no string there")
		return
	}
	text = strings.TrimSpace(text)
	least := max(shortestAt(part, control, at), 1)
	runes := []rune(text)
	short := string(runes[:min(least-1, len(runes))])
	padded := short + strings.Repeat(" ", max(least-utf8.RuneCountInString(short), 1))
	if body, ok := instance.Set(control, at, padded); ok && part.Schema.Valid(body) {
		values["body"] = body
		e.businessCase(r, f, []string{at}, values)
	} else {
		e.drop(f, "a schema forbids the spaces")
	}
	edge := exchange.Flaw{In: "body", Pointer: at, Rule: "trimmed", Variant: "padded", Reason: "the string is right once it is trimmed"}
	if body, ok := instance.Set(control, at, " "+text+" "); ok && part.Schema.Valid(body) {
		values["body"] = body
		e.give(exchange.Case{Name: "edge, " + at + " trimmed padded", Kind: exchange.Edge, Request: e.op.compose(values), Edge: &edge, Body: body, Control: control, Base: fullest,
			Expect: exchange.Expect{Class: exchange.Accepted}, SecretFields: e.secretFields()}, []exchange.Flaw{edge})
	}
}

// shortestAt is the least length of the text at a place.
func shortestAt(part *Part, control any, at string) int {
	for _, f := range flaw.Fields(part.Schema, control) {
		if f.Pointer == at && f.Shape.MinLength != nil {
			return *f.Shape.MinLength
		}
	}
	return 0
}
