package dialect

import (
	"slices"
	"strings"

	"obiter/internal/core/instance"
)

// discriminate gives the branches of a oneOf or anyOf that has a discriminator
// the value that selects each: the names that map to it and its own (OpenAPI
// 3.1.0, "Discriminator Object"). A validator then tells branches apart as the
// service does. A branch that rules the value itself, or is no $ref, stays.
func (r *rewriter) discriminate(m map[string]any) {
	d, _ := m["discriminator"].(map[string]any)
	property, ok := d["propertyName"].(string)
	if !ok {
		return
	}
	mapping, _ := d["mapping"].(map[string]any)
	for _, keyword := range []string{"oneOf", "anyOf"} {
		branches, _ := m[keyword].([]any)
		for i, b := range branches {
			branch, _ := b.(map[string]any)
			ref, ok := branch["$ref"].(string)
			if !ok {
				return
			}
			values := selecting(ref, mapping)
			if target, ok := r.local(ref); !ok || r.says(target, property, values) {
				continue
			}
			branches[i] = pinned(branch, property, values)
		}
	}
}

// selecting is the schema of the values that select what a reference leads to. Where the
// mapping has a name for it, readers disagree whether its own does so as well.
func selecting(ref string, mapping map[string]any) map[string]any {
	var values []any
	for _, name := range instance.Names(mapping) {
		if to, _ := mapping[name].(string); to == ref || to == lastSegment(ref) {
			values = append(values, name)
		}
	}
	own := lastSegment(ref)
	if slices.Contains(values, any(own)) || mapping[own] != nil {
		return map[string]any{"enum": values}
	}
	out := map[string]any{"enum": append(values, own)}
	if len(values) > 0 {
		out[Murky] = []any{own}
	}
	return out
}

// pinned is a schema with the value of a property that selects it.
func pinned(branch map[string]any, property string, values map[string]any) map[string]any {
	return map[string]any{
		"allOf":      []any{branch},
		"properties": map[string]any{property: values},
		"required":   []any{property},
		pinnedMark:   true,
	}
}

// pinnedMark marks a branch that a discriminator selects.
const pinnedMark = "x-obiter-pinned"

func lastSegment(ref string) string {
	return instance.Last(ref[strings.LastIndexByte(ref, '#')+1:])
}

// local is the schema that a reference within the file leads to.
func (r *rewriter) local(ref string) (map[string]any, bool) {
	for range 8 {
		pointer, ok := strings.CutPrefix(ref, "#")
		if !ok {
			return nil, false
		}
		v, _ := instance.Get(r.files.File(r.base).Value, pointer)
		m, ok := v.(map[string]any)
		if !ok {
			return nil, false
		}
		if ref, ok = m["$ref"].(string); !ok {
			return m, true
		}
	}
	return nil, false
}

// says reports whether a schema itself says which values a property has, so that none
// that would select it need be added: next to the property, or in a list of its own that
// has none of those.
func (r *rewriter) says(m map[string]any, property string, values map[string]any) bool {
	properties, _ := m["properties"].(map[string]any)
	p, _ := properties[property].(map[string]any)
	if p["enum"] != nil || p["const"] != nil {
		return true
	}
	ref, _ := p["$ref"].(string)
	listed, ok := r.local(ref)
	enum, is := listed["enum"].([]any)
	names, _ := values["enum"].([]any)
	return ok && is && !slices.ContainsFunc(names, func(v any) bool {
		return slices.ContainsFunc(enum, func(e any) bool { return instance.Equal(v, e) })
	})
}
