package probe

import (
	"fmt"
	"slices"

	"obiter/internal/instance"
	"obiter/internal/plan"
)

// Difference is a rule that a description has and the service does not enforce, or the
// other way round.
type Difference struct {
	Field     string
	Rule      string
	Described bool // and not enforced
}

// String is the difference in words.
func (d Difference) String() string {
	if d.Described {
		return fmt.Sprintf("%s: %s is described and not enforced", d.Field, d.Rule)
	}
	return fmt.Sprintf("%s: %s is enforced and not described", d.Field, d.Rule)
}

// same are rules that say one thing in two ways.
var same = map[string]string{"exclusiveMinimum": "minimum", "exclusiveMaximum": "maximum", "const": "enum", "unevaluatedProperties": "additionalProperties"}

func usual(rule string) string {
	if other, is := same[rule]; is {
		return other
	}
	return rule
}

// comparable are the rules that probing can show.
var comparable = []string{"required", "type", "enum", "minLength", "maxLength", "pattern", "format", "minimum", "maximum", "multipleOf", "minItems", "maxItems", "uniqueItems", "additionalProperties"}

// Compare holds the rules of an operation's body against those that were found, by the
// pointers of fields with * for the elements of lists.
func Compare(op *plan.Operation, found map[string][]string) []Difference {
	described := map[string][]string{}
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
			for _, rule := range f.Shape.Rules() {
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
	return differences(order, described, found)
}

func differences(order []string, described, found map[string][]string) []Difference {
	var out []Difference
	for _, at := range order {
		is := map[string]bool{}
		for _, rule := range found[at] {
			is[usual(rule)] = true
		}
		has := described[at]
		if _, probed := found[at]; !probed {
			continue
		}
		implied := func(rule string) bool { // the form or the list of values says it as well
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
		for _, rule := range comparable {
			switch {
			case slices.Contains(has, rule) && !is[rule] && !implied(rule):
				out = append(out, Difference{shown(at), rule, true})
			case is[rule] && !slices.Contains(has, rule) && !saysMore(has, rule):
				out = append(out, Difference{shown(at), rule, false})
			}
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

func shown(at string) string {
	if at == "" {
		return "(body)"
	}
	return at
}
