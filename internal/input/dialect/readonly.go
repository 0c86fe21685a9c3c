package dialect

import (
	"maps"
	"slices"
	"strconv"

	"obiter/internal/input/document"
)

// requirements takes the names of readOnly properties out of "required". The
// property and the requirement are often apart: one behind a $ref, the other
// in a member of allOf, so both are looked at together.
type requirements struct{ files *document.Files }

// mayLead reports whether any property is readOnly, or may be by what it refers to or is
// made of.
func mayLead(properties any) bool {
	list, _ := properties.(map[string]any)
	for _, p := range list {
		if m, _ := p.(map[string]any); mayBeReadOnly(m) {
			return true
		}
	}
	return false
}

func mayBeReadOnly(m map[string]any) bool {
	return m["readOnly"] != nil || m["$ref"] != nil || m["allOf"] != nil
}

// isContainer reports whether there is anything inside v.
func isContainer(v any) bool {
	switch v := v.(type) {
	case map[string]any:
		return len(v) > 0
	case []any:
		return len(v) > 0
	}
	return false
}

// relax removes requirements of readOnly names from a schema and its allOf
// members. A member behind a $ref serves others too, so where it must change, a
// changed copy takes the reference's place.
func (q *requirements) relax(at document.Location, m map[string]any, outer map[string]bool) {
	names := maps.Clone(outer)
	if names == nil {
		names = map[string]bool{}
	}
	q.readOnly(at, m, names, 0)
	if len(names) == 0 {
		return
	}
	if required, ok := m["required"].([]any); ok {
		m["required"] = without(required, names)
	}
	members, _ := m["allOf"].([]any)
	for i, member := range members {
		inner, ok := member.(map[string]any)
		if !ok {
			continue
		}
		if _, isRef := inner["$ref"]; !isRef {
			q.relax(at.Under("allOf", strconv.Itoa(i)), inner, names)
			continue
		}
		loc, v, err := q.files.Resolve(at.Under("allOf", strconv.Itoa(i)))
		target, ok := v.(map[string]any)
		if err != nil || !ok || loc.File != at.File {
			continue
		}
		required, ok := target["required"].([]any)
		if relaxed := without(required, names); ok && len(relaxed) < len(required) && len(inner) == 1 {
			members[i] = maps.Clone(target)
			members[i].(map[string]any)["required"] = relaxed
		}
	}
}

func without(required []any, names map[string]bool) []any {
	return slices.DeleteFunc(slices.Clone(required), func(v any) bool {
		name, ok := v.(string)
		return ok && names[name]
	})
}

// readOnly collects the names of readOnly properties of a schema, also through
// $ref and allOf.
func (q *requirements) readOnly(at document.Location, m map[string]any, into map[string]bool, depth int) {
	if depth > 16 {
		return
	}
	properties, _ := m["properties"].(map[string]any)
	for name, p := range properties {
		if m, _ := p.(map[string]any); mayBeReadOnly(m) && q.isReadOnly(at.Under("properties", name), p, 0) {
			into[name] = true
		}
	}
	if _, ok := m["$ref"].(string); ok {
		if loc, v, err := q.files.Resolve(at); err == nil {
			if target, ok := v.(map[string]any); ok {
				q.readOnly(loc, target, into, depth+1)
			}
		}
	}
	members, _ := m["allOf"].([]any)
	for i, member := range members {
		if inner, ok := member.(map[string]any); ok {
			q.readOnly(at.Under("allOf", strconv.Itoa(i)), inner, into, depth+1)
		}
	}
}

func (q *requirements) isReadOnly(at document.Location, v any, depth int) bool {
	m, ok := v.(map[string]any)
	if !ok || depth > 16 {
		return false
	}
	if flag, ok := m["readOnly"].(bool); ok && flag {
		return true
	}
	if _, ok := m["$ref"].(string); ok {
		loc, target, err := q.files.Resolve(at)
		return err == nil && q.isReadOnly(loc, target, depth+1)
	}
	members, _ := m["allOf"].([]any)
	for i, member := range members {
		if q.isReadOnly(at.Under("allOf", strconv.Itoa(i)), member, depth+1) {
			return true
		}
	}
	return false
}
