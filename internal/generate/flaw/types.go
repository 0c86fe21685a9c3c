package flaw

import (
	"encoding/json"
	"fmt"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// plantType sends every other JSON type, and the values that lenient readers
// take for the right one: "12" for 12, 12.5 for an integer, 1 for true.
func plantType(s *site) {
	if !s.shape.Typed {
		return
	}
	want := s.shape.Types
	for _, c := range typeCandidates(want, s.value, s.arrivesAsText()) {
		if c.types&want != 0 || c.types == schema.Null && (s.shape.AmbiguousNull || s.p.patch && s.pointer != "") {
			continue
		}
		words := c.words
		if c.value == nil && !s.writesNull() {
			words = "an empty value"
		}
		s.replace("type", c.variant, c.depth, c.value, fmt.Sprintf("%s where %s is expected", words, either(want)))
	}
}

// writesNull reports whether null is sent as such; text has nothing for it.
func (s *site) writesNull() bool {
	if !s.p.astext {
		return true
	}
	body, _ := instance.Set(s.p.control, s.pointer, nil)
	seen, ok := s.p.seen(body)
	v, _ := instance.Get(seen, s.pointer)
	return !ok || v == nil
}

type typeCandidate struct {
	variant string
	types   schema.Types
	depth   Depth
	value   any
	words   string
}

// typeCandidates lists the telling ones first, for quick runs take one and usual ones
// a few: what lenient readers take for the right type, null, and what has members.
func typeCandidates(want schema.Types, now any, astext bool) []typeCandidate {
	const numeric = schema.Integer | schema.Number
	var out []typeCandidate
	add := func(variant string, t schema.Types, d Depth, v any, words string) {
		out = append(out, typeCandidate{variant, t, d, v, words})
	}
	switch {
	case want&numeric != 0:
		digits := "12"
		if n, ok := now.(json.Number); ok {
			digits = string(n)
		}
		add("numeric-string", schema.String, Usual, digits, "the number as a string")
		if !want.Has(schema.Number) {
			add("fraction", schema.Number, Usual, fraction(now), "a number with a fraction")
		}
		if astext {
			add("trailing-letters", schema.String, Usual, digits+"abc", "the number with letters after it")
		}
	case want.Has(schema.Boolean):
		add("boolean-string", schema.String, Usual, "true", `the string "true"`)
	case want.Has(schema.String):
		add("number", schema.Integer, Usual, json.Number("12345"), "a number")
	case want.Has(schema.Array):
		if list, ok := now.([]any); ok && len(list) > 0 {
			add("bare-element", schema.TypeOf(list[0]), Usual, list[0], "one element without its array")
		}
	case want.Has(schema.Object):
		add("string", schema.String, Usual, "text", "a string")
		add("wrapped", schema.Array, Deep, []any{now}, "the object inside an array")
	}
	add("null", schema.Null, Usual, nil, "null")
	add("object", schema.Object, Usual, map[string]any{}, "an object")
	switch {
	case want&numeric != 0:
		add("string", schema.String, Usual, "twelve", "a string")
		add("boolean", schema.Boolean, Usual, true, "a boolean")
	case want.Has(schema.Boolean):
		add("one-for-true", schema.Integer, Usual, json.Number("1"), "the number 1")
		add("zero-for-false", schema.Integer, Deep, json.Number("0"), "the number 0")
	}
	add("array", schema.Array, Usual, []any{}, "an array")
	if want.Has(schema.Array) {
		add("string", schema.String, Usual, "text", "a string")
	}
	add("boolean", schema.Boolean, Usual, true, "a boolean")
	add("empty-string", schema.String, Deep, "", "an empty string")
	add("number", schema.Integer, Deep, json.Number("12345"), "a number")
	return dedupe(out)
}

func dedupe(list []typeCandidate) []typeCandidate {
	seen := map[string]bool{}
	out := list[:0]
	for _, c := range list {
		if !seen[c.variant] {
			seen[c.variant] = true
			out = append(out, c)
		}
	}
	return out
}

// fraction is half a unit above the present integer.
func fraction(now any) json.Number {
	if n, ok := now.(json.Number); ok && !strings.ContainsAny(string(n), ".eE") {
		return n + ".5"
	}
	return "12.5"
}

// either names types as a message does: "a string or null".
func either(t schema.Types) string { return eithers[t] }

var eithers = func() (out [schema.AnyType + 1]string) {
	for t := range out {
		out[t] = worded(schema.Types(t))
	}
	return out
}()

func worded(t schema.Types) string {
	names := t.Names()
	for i, n := range names {
		if n != "null" {
			names[i] = map[bool]string{true: "an ", false: "a "}[strings.ContainsRune("aio", rune(n[0]))] + n
		}
	}
	if len(names) == 0 {
		return "nothing"
	}
	if len(names) == 1 {
		return names[0]
	}
	return strings.Join(names[:len(names)-1], ", ") + " or " + names[len(names)-1]
}
