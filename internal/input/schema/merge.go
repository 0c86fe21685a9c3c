package schema

import (
	"encoding/json"
	"math/big"
	"slices"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"obiter/internal/core/instance"
)

// Merge says in one shape what all of the schemas say. They are taken as they
// are: expand them first. The shape is not to be changed: it serves others too.
func Merge(list []Schema) *Shape {
	if len(list) == 0 {
		return merged(nil)
	}
	key, ok := together(list)
	if !ok {
		return merged(list)
	}
	set := list[0].set
	set.memory.Lock()
	sh := set.shapes[key]
	set.memory.Unlock()
	if sh == nil {
		sh = merged(slices.Clip(slices.Clone(list)))
		set.memory.Lock()
		set.shapes[key] = sh
		set.memory.Unlock()
	}
	return sh
}

// few is how many schemas hold at most places.
const few = 4

// together is a key for what some schemas say together; false where they are many, or
// not of one set.
func together(list []Schema) (key [few]*jsonschema.Schema, ok bool) {
	if len(list) > few {
		return key, false
	}
	for i, s := range list {
		if s.set != list[0].set {
			return key, false
		}
		key[i] = s.js
	}
	return key, true
}

func merged(list []Schema) *Shape {
	sh := &Shape{Types: AnyType, Sources: list}
	for _, s := range list {
		sh.merge(s)
	}
	if !sh.Closed {
		return sh
	}
	sh.Open = false
	return sh
}

func (sh *Shape) merge(s Schema) {
	js, n := s.js, s.set.notesOf(s.js)
	if js.Bool != nil && !*js.Bool {
		sh.Types = 0
	}
	if js.Types != nil && !js.Types.IsEmpty() {
		var t Types
		for _, name := range js.Types.ToStrings() {
			t |= typeNames[name]
		}
		sh.Types &= t
		sh.Typed = true
	}
	if js.Enum != nil {
		sh.narrow(js.Enum.Values, false)
	}
	if js.Const != nil {
		sh.narrow([]any{*js.Const}, true)
	}
	sh.AmbiguousNull = sh.AmbiguousNull || n.murkyNull
	sh.AmbiguousValues = append(sh.AmbiguousValues, n.murky...)
	if sh.XML.Name == "" {
		sh.XML.Name = n.xml.Name
	}
	sh.XML.Attribute, sh.XML.Wrapped = sh.XML.Attribute || n.xml.Attribute, sh.XML.Wrapped || n.xml.Wrapped
	sh.ReadOnly = sh.ReadOnly || js.ReadOnly
	sh.WriteOnly = sh.WriteOnly || js.WriteOnly
	sh.Binary = sh.Binary || n.format == "binary"
	sh.Secret = sh.Secret || n.format == "password"
	sh.Examples = append(sh.Examples, n.examples...)
	sh.mergeText(js, n)
	sh.mergeNumber(js)
	sh.mergeArray(js)
	sh.mergeObject(js, n)
}

func (sh *Shape) narrow(values []any, isConst bool) {
	if sh.HasEnum {
		listed, others := map[string]bool{}, []any{}
		for _, v := range values {
			if key := scalarKey(v); key != "" {
				listed[key] = true
			} else {
				others = append(others, v)
			}
		}
		values = slices.DeleteFunc(slices.Clone(sh.Enum), func(have any) bool {
			if key := scalarKey(have); key != "" {
				return !listed[key]
			}
			return !slices.ContainsFunc(others, func(v any) bool { return instance.Equal(have, v) })
		})
	}
	sh.Enum, sh.HasEnum, sh.Const = values, true, sh.Const || isConst
}

// scalarKey is the same for texts and numbers that are equal; "" for all else.
func scalarKey(v any) string {
	switch v := v.(type) {
	case string:
		return "text " + v
	case json.Number:
		if r, ok := instance.Rat(v); ok {
			return "number " + r.RatString()
		}
	}
	return ""
}

func larger(have, other *int) *int {
	if have == nil || other != nil && *other > *have {
		return other
	}
	return have
}

func smaller(have, other *int) *int {
	if have == nil || other != nil && *other < *have {
		return other
	}
	return have
}

func (sh *Shape) mergeText(js *jsonschema.Schema, n *notes) {
	sh.MinLength, sh.MaxLength = larger(sh.MinLength, js.MinLength), smaller(sh.MaxLength, js.MaxLength)
	if p, ok := js.Pattern.(pattern); ok {
		if p.re == nil {
			sh.Unchecked = append(sh.Unchecked, "pattern "+p.source)
		} else if !slices.Contains(sh.Patterns, p.source) {
			sh.Patterns = append(sh.Patterns, p.source)
		}
	}
	switch {
	case js.Format != nil && js.Format.Name == "regex": // patterns that cannot be read here count as right
		sh.Unchecked = append(sh.Unchecked, "format regex")
	case js.Format != nil && !slices.Contains(sh.Formats, js.Format.Name):
		sh.Formats = append(sh.Formats, js.Format.Name)
	case js.Format == nil && n.format != "":
		sh.Unchecked = append(sh.Unchecked, "format "+n.format)
	}
}

func (sh *Shape) mergeNumber(js *jsonschema.Schema) {
	low := func(r *big.Rat, exclusive bool) {
		if r == nil {
			return
		}
		if c := 1; sh.Minimum != nil {
			if c = r.Cmp(sh.Minimum.Value); c < 0 || c == 0 && !exclusive {
				return
			}
		}
		sh.Minimum = &Bound{r, exclusive}
	}
	high := func(r *big.Rat, exclusive bool) {
		if r == nil {
			return
		}
		if c := -1; sh.Maximum != nil {
			if c = r.Cmp(sh.Maximum.Value); c > 0 || c == 0 && !exclusive {
				return
			}
		}
		sh.Maximum = &Bound{r, exclusive}
	}
	low(js.Minimum, false)
	low(js.ExclusiveMinimum, true)
	high(js.Maximum, false)
	high(js.ExclusiveMaximum, true)
	if js.MultipleOf != nil {
		sh.MultipleOf = append(sh.MultipleOf, js.MultipleOf)
	}
}

func (sh *Shape) mergeArray(js *jsonschema.Schema) {
	sh.MinItems, sh.MaxItems = larger(sh.MinItems, js.MinItems), smaller(sh.MaxItems, js.MaxItems)
	sh.Unique = sh.Unique || js.UniqueItems
	if js.Contains != nil {
		sh.Contains = true
		least := 1
		if js.MinContains != nil {
			least = *js.MinContains
		}
		sh.MinContains = max(sh.MinContains, least)
		sh.MaxContains = smaller(sh.MaxContains, js.MaxContains)
	}
	sh.ItemsClosed = sh.ItemsClosed || isFalse(js.Items2020)
	sh.UnevaluatedItems = sh.UnevaluatedItems || isFalse(js.UnevaluatedItems)
}

func (sh *Shape) mergeObject(js *jsonschema.Schema, n *notes) {
	known := make([]string, 0, len(n.order))
	for _, name := range n.order {
		if _, is := js.Properties[name]; is {
			known = append(known, name)
		}
	}
	sh.Properties = union(sh.Properties, known)
	sh.Required = union(sh.Required, js.Required)
	for name, list := range js.DependentRequired {
		if sh.Dependent == nil {
			sh.Dependent = map[string][]string{}
		}
		sh.Dependent[name] = append(sh.Dependent[name], list...)
	}
	for re := range js.PatternProperties {
		if source := re.String(); !slices.Contains(sh.MemberPatterns, source) {
			sh.MemberPatterns = append(sh.MemberPatterns, source)
		}
	}
	slices.Sort(sh.MemberPatterns)
	sh.MinProps, sh.MaxProps = larger(sh.MinProps, js.MinProperties), smaller(sh.MaxProps, js.MaxProperties)
	switch a := js.AdditionalProperties.(type) {
	case bool:
		sh.Closed = sh.Closed || !a
		sh.Open = sh.Open || a
	case *jsonschema.Schema:
		sh.Open = true
	}
	sh.Unevaluated = sh.Unevaluated || isFalse(js.UnevaluatedProperties)
}

// union adds to a list what it does not have yet, in linear time.
func union(list, more []string) []string {
	if len(list) == 0 && len(more) < 2 {
		return append(list, more...)
	}
	have := make(map[string]bool, len(list)+len(more))
	for _, name := range list {
		have[name] = true
	}
	for _, name := range more {
		if !have[name] {
			have[name] = true
			list = append(list, name)
		}
	}
	return list
}
