package schema

import (
	"slices"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// ObeysAround reports whether v obeys what schemas say of it apart from their
// alternatives: whether, of a value that no branch takes, this is all that is wrong.
func ObeysAround(list []Schema, v any) bool {
	for _, s := range Expand(list, NoBranch) {
		bare := *s.js // what it refers to is in the list too
		bare.Ref, bare.DynamicRef, bare.RecursiveRef, bare.AllOf, bare.OneOf, bare.AnyOf = nil, nil, nil, nil, nil, nil
		bare.UnevaluatedProperties, bare.UnevaluatedItems = nil, nil // they look at the branch
		if bare.Validate(v) != nil {
			return false
		}
	}
	return true
}

// Required lists the members that the schema requires by itself: through references and
// allOf, and not through alternatives.
func (s Schema) Required() []string {
	var out []string
	for _, part := range Expand([]Schema{s}, NoBranch) {
		out = union(out, part.js.Required)
	}
	return out
}

// Reaches reports whether the alternative of that key (Key) is the schema's own or one of
// those that instances of it come to, deeper down.
func (s Schema) Reaches(key string) bool {
	return reaches(s.js, key, map[*jsonschema.Schema]bool{})
}

// Branch is one branch of an alternative of the schema itself.
func (s Schema) Branch(keyword string, i int) Schema {
	list := s.js.OneOf
	if keyword == "anyOf" {
		list = s.js.AnyOf
	}
	return Schema{list[i], s.set}
}

// Key names an alternative: where it is, and its keyword.
func (s Schema) Key(keyword string) string { return s.js.Location + " " + keyword }

func reaches(js *jsonschema.Schema, key string, seen map[*jsonschema.Schema]bool) bool {
	if js == nil || seen[js] {
		return false
	}
	seen[js] = true
	if n := len(js.Location); len(key) > n && key[:n] == js.Location && key[n] == ' ' {
		return true
	}
	next := func(inner ...*jsonschema.Schema) bool {
		return slices.ContainsFunc(inner, func(i *jsonschema.Schema) bool { return reaches(i, key, seen) })
	}
	if next(js.Ref, js.Items2020, js.Contains, js.If, js.Then, js.Else, js.UnevaluatedItems, js.UnevaluatedProperties) || next(js.AllOf...) || next(js.OneOf...) || next(js.AnyOf...) || next(js.PrefixItems...) {
		return true
	}
	if js.DynamicRef != nil && next(js.DynamicRef.Ref) {
		return true
	}
	if inner, is := js.AdditionalProperties.(*jsonschema.Schema); is && next(inner) {
		return true
	}
	for _, members := range []map[string]*jsonschema.Schema{js.Properties, js.DependentSchemas} {
		for _, inner := range members {
			if next(inner) {
				return true
			}
		}
	}
	for _, inner := range js.PatternProperties {
		if next(inner) {
			return true
		}
	}
	return false
}
