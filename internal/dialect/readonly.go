package dialect

import (
	"maps"
	"reflect"
	"slices"
	"strconv"

	"obiter/internal/document"
	"obiter/internal/instance"
)

// requirements takes the names of readOnly properties out of "required". The
// property and the requirement are often apart: one behind a $ref, the other
// in a member of allOf, so both are looked at together.
type requirements struct {
	files *document.Files
	seen  map[uintptr]bool
}

func (q *requirements) walk(at document.Location, v any) {
	switch v := v.(type) {
	case []any:
		for i, e := range v {
			if isContainer(e) {
				q.walk(at.Under(strconv.Itoa(i)), e)
			}
		}
	case map[string]any:
		key := reflect.ValueOf(v).Pointer()
		if q.seen[key] {
			return
		}
		q.seen[key] = true
		if _, ok := v["required"].([]any); ok || v["allOf"] != nil {
			q.relax(at, v, nil)
		}
		for _, k := range instance.Names(v) {
			if isContainer(v[k]) && k != "example" && k != "examples" && k != "default" && k != "enum" && k != "const" && !isExtension(k) {
				q.walk(at.Under(k), v[k])
			}
		}
	}
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
		if q.isReadOnly(at.Under("properties", name), p, 0) {
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
