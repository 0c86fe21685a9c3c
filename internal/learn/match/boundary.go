package match

import (
	"encoding/json"
	"fmt"
	"unicode/utf8"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/plan"
	"obiter/internal/input/schema"
)

// boundary is the one field that a valid request has otherwise than the control, where
// its value is exactly on a boundary of its rules; false where it is none or several.
func boundary(op *plan.Operation, r, control request) (f exchange.Flaw, in string, is bool) {
	for _, part := range op.Parts {
		v, usual := r.parts[part.In], control.parts[part.In]
		if usual == nil || instance.Equal(v, usual) {
			continue
		}
		if is { // two places differ
			return f, in, false
		}
		changed := ""
		n := 0
		instance.Walk(v, func(at string, inner any) bool {
			was, there := instance.Get(usual, at)
			if there && instance.Equal(inner, was) {
				return false
			}
			if _, isObject := inner.(map[string]any); isObject && there {
				return true
			}
			changed = at
			n++
			return false
		})
		if n != 1 || missing(usual, v) {
			return f, in, false
		}
		list, value, there := schema.At([]schema.Schema{part.Schema}, v, changed)
		if !there {
			return f, in, false
		}
		keyword, reason := onBoundary(schema.Merge(schema.Apply(list, value)), value)
		if keyword == "" {
			return f, in, false
		}
		f, in, is = exchange.Flaw{In: part.In, Pointer: changed, Rule: keyword, Variant: captured, Reason: reason}, part.In, true
	}
	return f, in, is
}

// missing reports whether an object lacks a member that another has.
func missing(usual, v any) bool {
	lacks := false
	instance.Walk(usual, func(at string, _ any) bool {
		if _, there := instance.Get(v, at); !there {
			lacks = true
		}
		return !lacks
	})
	return lacks
}

// onBoundary is the rule on whose boundary a value lies, with words; "" where it is none.
func onBoundary(sh *schema.Shape, v any) (keyword, reason string) {
	exactly := func(limit *int, n int) bool { return limit != nil && *limit == n }
	switch v := v.(type) {
	case string:
		n := utf8.RuneCountInString(v)
		if exactly(sh.MaxLength, n) {
			return "maxLength", fmt.Sprintf("exactly the longest: %d characters", n)
		}
		if exactly(sh.MinLength, n) {
			return "minLength", fmt.Sprintf("exactly the shortest: %d characters", n)
		}
	case []any:
		if exactly(sh.MaxItems, len(v)) {
			return "maxItems", fmt.Sprintf("exactly the most: %d elements", len(v))
		}
		if exactly(sh.MinItems, len(v)) {
			return "minItems", fmt.Sprintf("exactly the fewest: %d elements", len(v))
		}
	case json.Number:
		n, is := instance.Rat(v)
		if !is {
			return "", ""
		}
		if b := sh.Maximum; b != nil && !b.Exclusive && n.Cmp(b.Value) == 0 {
			return "maximum", "the largest number allowed: " + instance.Shown(v)
		}
		if b := sh.Minimum; b != nil && !b.Exclusive && n.Cmp(b.Value) == 0 {
			return "minimum", "the smallest number allowed: " + instance.Shown(v)
		}
	}
	return "", ""
}
