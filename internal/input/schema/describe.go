package schema

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"obiter/internal/core/instance"
)

// Rule is a keyword with what it says, for people.
type Rule struct {
	Keyword string `json:"keyword"`
	Says    string `json:"says"`
}

// Rules lists what a shape demands, in a fixed order.
func (sh *Shape) Rules() []Rule {
	var out []Rule
	add := func(keyword string, says any) { out = append(out, Rule{keyword, fmt.Sprint(says)}) }
	count := func(keyword string, n *int) {
		if n != nil {
			add(keyword, *n)
		}
	}
	if sh.Typed {
		add("type", strings.Join(sh.Types.Names(), " or "))
	}
	if sh.HasEnum {
		keyword := "enum"
		if sh.Const {
			keyword = "const"
		}
		var values []string
		for _, v := range sh.Enum {
			values = append(values, string(instance.Encode(v)))
		}
		add(keyword, strings.Join(values, " "))
	}
	count("minLength", sh.MinLength)
	count("maxLength", sh.MaxLength)
	for _, p := range sh.Patterns {
		add("pattern", p)
	}
	for _, f := range sh.Formats {
		add("format", f)
	}
	bound := func(keyword, exclusive string, b *Bound) {
		if b != nil && b.Exclusive {
			keyword = exclusive
		}
		if b != nil {
			add(keyword, instance.Number(b.Value))
		}
	}
	bound("minimum", "exclusiveMinimum", sh.Minimum)
	bound("maximum", "exclusiveMaximum", sh.Maximum)
	for _, m := range sh.MultipleOf {
		add("multipleOf", instance.Number(m))
	}
	count("minItems", sh.MinItems)
	count("maxItems", sh.MaxItems)
	for _, k := range []struct {
		keyword string
		is      bool
		says    bool
	}{{"uniqueItems", sh.Unique, true}, {"items", sh.ItemsClosed, false}, {"unevaluatedItems", sh.UnevaluatedItems, false}} {
		if k.is {
			add(k.keyword, k.says)
		}
	}
	for _, n := range sh.Required {
		add("required", n)
	}
	count("minProperties", sh.MinProps)
	count("maxProperties", sh.MaxProps)
	if sh.Closed {
		add("additionalProperties", false)
	} else if sh.Unevaluated {
		add("unevaluatedProperties", false)
	}
	for _, name := range slices.Sorted(maps.Keys(sh.Dependent)) {
		add("dependentRequired", name+" requires "+strings.Join(sh.Dependent[name], " "))
	}
	if sh.Contains {
		add("contains", fmt.Sprintf("at least %d", sh.MinContains))
	}
	count("maxContains", sh.MaxContains)
	for _, name := range sh.Forbidden() {
		add("properties", name+" is forbidden")
	}
	if len(sh.MemberNames()) > 0 {
		add("propertyNames", "as described")
	}
	for _, a := range sh.Choices() {
		add(a.Keyword, fmt.Sprintf("%d branches", len(a.Branches)))
	}
	if len(sh.Negations()) > 0 {
		add("not", "as described")
	}
	return out
}
