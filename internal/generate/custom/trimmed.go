package custom

import (
	"strings"
	"unicode/utf8"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/wire"
	"obiter/internal/input/config"
)

// OnceTrimmed is the reason for dropping a text whose outer spaces do not count.
const OnceTrimmed = "the string is right once it is trimmed"

// trimmed: a string that loses its outer spaces before it is checked, so that they do not count
// towards a length.
var trimmed = Kind{
	Rule: "trimmed", Member: "trimmed",
	Field: func(r config.Rule) string { return r.Trimmed },
	Admit: func(r config.Rule, body *wire.Place, p flaw.Planted) string {
		for _, f := range p.Flaws {
			if f.Pointer == r.Trimmed && trimmedRight(body, p.Value, f.Pointer) {
				return OnceTrimmed
			}
		}
		return ruledBlank(p, r.Trimmed)
	},
	Cases: trimmedCases,
}

// trimmedRight reports whether a value is valid once the text at a place has lost
// its outer spaces.
func trimmedRight(place *wire.Place, v any, at string) bool {
	now, _ := instance.Get(v, at)
	text, ok := now.(string)
	if !ok || strings.TrimSpace(text) == text {
		return false
	}
	trimmed, _ := instance.Set(v, at, strings.TrimSpace(text))
	return place.Schema.Valid(trimmed)
}

// trimmedCases are a string that is long enough only by its spaces, and one that is right once it
// is trimmed.
func trimmedCases(r config.Rule, valid Request) (out []Case) {
	at, control := r.Trimmed, valid.Values["body"]
	now, _ := instance.Get(control, at)
	text, ok := now.(string)
	f := exchange.Flaw{In: "body", Pointer: at, Rule: "trimmed", Variant: "blanks-count", Reason: "the string is long enough only by its spaces"}
	if !ok {
		return []Case{{Flaw: f, Why: "there is no string there"}}
	}
	text = strings.TrimSpace(text)
	least := max(shortestAt(valid.Body, control, at), 1)
	runes := []rune(text)
	short := string(runes[:min(least-1, len(runes))])
	padded := short + strings.Repeat(" ", max(least-utf8.RuneCountInString(short), 1))
	if body, ok := instance.Set(control, at, padded); ok && valid.Body.Schema.Valid(body) {
		out = append(out, valid.with(body, f, at))
	} else {
		out = append(out, Case{Flaw: f, Why: "a schema forbids the spaces"})
	}
	edge := exchange.Flaw{Pointer: at, Rule: "trimmed", Variant: "padded", Reason: "the string is right once it is trimmed"}
	if body, ok := instance.Set(control, at, " "+text+" "); ok && valid.Body.Schema.Valid(body) {
		c := valid.with(body, edge)
		c.Edge = true
		out = append(out, c)
	}
	return out
}

// shortestAt is the least length of the text at a place.
func shortestAt(place *wire.Place, control any, at string) int {
	for _, f := range flaw.Fields(place.Schema, control) {
		if f.Pointer == at && f.Shape.MinLength != nil {
			return *f.Shape.MinLength
		}
	}
	return 0
}
