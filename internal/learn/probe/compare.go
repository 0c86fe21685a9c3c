package probe

import (
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/generate/plan"
	"obiter/internal/input/schema"
)

// Difference is what a description and the service have otherwise at a field.
type Difference struct {
	NotEnforced  []string // rules that are described
	NotDescribed []string // rules that are enforced
}

// String is the difference in words.
func (d Difference) String() string {
	var out []string
	if len(d.NotEnforced) > 0 {
		out = append(out, "not enforced: "+strings.Join(d.NotEnforced, ", "))
	}
	if len(d.NotDescribed) > 0 {
		out = append(out, "not described: "+strings.Join(d.NotDescribed, ", "))
	}
	return strings.Join(out, "; ")
}

// same are rules that say one thing in two ways.
var same = map[string]string{"exclusiveMinimum": "minimum", "exclusiveMaximum": "maximum", "const": "enum", "unevaluatedProperties": "additionalProperties"}

func usual(rule string) string {
	if other, is := same[rule]; is {
		return other
	}
	return rule
}

// ofType are the rules that are about values of one type.
var ofType = map[string]string{"minLength": "string", "maxLength": "string", "pattern": "string", "minimum": "number", "maximum": "number", "multipleOf": "number",
	"minItems": "array", "maxItems": "array", "uniqueItems": "array", "additionalProperties": "object"}

// comparable are the rules that probing can show.
var comparable = []string{"required", "type", "enum", "minLength", "maxLength", "pattern", "format", "minimum", "maximum", "multipleOf", "minItems", "maxItems", "uniqueItems", "additionalProperties"}

// kinds are the types by their names.
var kinds = map[string]schema.Types{"object": schema.Object, "array": schema.Array, "string": schema.String, "integer": schema.Integer, "number": schema.Number, "boolean": schema.Boolean, "null": schema.Null}

// Compare holds the rules of an operation's body against those that were found and the
// types that are taken, by the pointers of fields with * for the elements of lists: what
// is otherwise, by field. Sampled are the types of the values that probing started from.
func Compare(op *plan.Operation, found, types map[string][]string, sampled map[string]string) map[string]Difference {
	described, wider := map[string][]string{}, map[string]bool{}
	var order []string
	for _, part := range op.Parts {
		if part.In != "body" {
			continue
		}
		for _, f := range part.Fields() {
			at := instance.AnyIndex(f.Pointer)
			if slices.Contains(order, at) {
				continue
			}
			order = append(order, at)
			for _, kind := range types[at] {
				if t := kinds[kind]; f.Shape.Typed && !f.Shape.Types.Has(t) && !(t == schema.Integer && f.Shape.Types.Has(schema.Number)) && t != schema.Null {
					wider[at] = true
				}
			}
			for _, rule := range f.Shape.Rules() {
				if of := ofType[usual(rule.Keyword)]; of != "" && of != sampled[at] {
					continue // of values that were not sent
				}
				if rule.Keyword != "required" {
					described[at] = append(described[at], usual(rule.Keyword))
				}
			}
			for _, name := range f.Shape.Required {
				member := instance.Join(at, name)
				described[member] = append(described[member], "required")
			}
		}
	}
	out := differences(order, described, found)
	for at := range wider { // it takes other types as well
		if d := out[at]; !slices.Contains(d.NotEnforced, "type") {
			d.NotEnforced = append([]string{"type"}, d.NotEnforced...)
			out[at] = d
		}
	}
	return out
}

// implied reports whether other rules that were found say the same: the form or the list of values.
func implied(rule string, is map[string]bool) bool {
	switch rule {
	case "minLength", "maxLength":
		return is["pattern"] || is["enum"] || is["format"]
	case "pattern", "format":
		return is["enum"] || is["pattern"] || is["minLength"] && is["maxLength"] || is["maximum"]
	case "type":
		return is["enum"]
	}
	return false
}

func differences(order []string, described, found map[string][]string) map[string]Difference {
	out := map[string]Difference{}
	for _, at := range order {
		is := map[string]bool{}
		for _, rule := range found[at] {
			is[usual(rule)] = true
		}
		has := described[at]
		if _, probed := found[at]; !probed {
			continue
		}
		var d Difference
		for _, rule := range comparable {
			switch {
			case slices.Contains(has, rule) && !is[rule] && !implied(rule, is):
				d.NotEnforced = append(d.NotEnforced, rule)
			case is[rule] && !slices.Contains(has, rule) && !saysMore(has, rule):
				d.NotDescribed = append(d.NotDescribed, rule)
			}
		}
		if d.String() != "" {
			out[at] = d
		}
	}
	return out
}

// saysMore reports whether a description says in another way what was found.
func saysMore(has []string, rule string) bool {
	any := func(rules ...string) bool {
		return slices.ContainsFunc(rules, func(r string) bool { return slices.Contains(has, r) })
	}
	switch rule {
	case "minLength", "maxLength":
		return any("pattern", "format", "enum")
	case "pattern":
		return any("format", "enum")
	case "minimum", "maximum":
		return any("format", "enum")
	case "required", "additionalProperties":
		return false
	case "type":
		return any("enum")
	}
	return false
}
