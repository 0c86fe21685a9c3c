package dialect

import (
	"slices"
	"strconv"
	"strings"

	"obiter/internal/core/instance"
)

// hierarchy is a schema with a discriminator of its own and no branches, with those that
// build on it by allOf (OpenAPI 3.1.1, section 4.8.25.3). Where the one at the top is
// expected, an instance is one of the others, and its discriminator says which.
type hierarchy struct {
	property string
	mapping  map[string]any
	top      string
	children map[string][]string // by the reference to a schema: those built on it, in their order
}

const schemasPrefix = "#/components/schemas/"

// hierarchies replaces references to schemas of hierarchies, where they are used and
// not built on, by all that may stand there.
func (r *rewriter) hierarchies(top map[string]any) {
	components, _ := top["components"].(map[string]any)
	schemas, _ := components["schemas"].(map[string]any)
	children := map[string][]string{}
	for _, name := range instance.Names(schemas) {
		m, _ := schemas[name].(map[string]any)
		for _, to := range builtOn(m) {
			children[to] = append(children[to], reference(name))
		}
	}
	of := map[string]*hierarchy{}
	for _, name := range instance.Names(schemas) {
		m, _ := schemas[name].(map[string]any)
		d, _ := m["discriminator"].(map[string]any)
		property, is := d["propertyName"].(string)
		ref := reference(name)
		if !is || m["oneOf"] != nil || m["anyOf"] != nil || len(children[ref]) == 0 {
			continue
		}
		mapping, _ := d["mapping"].(map[string]any)
		h := &hierarchy{property: property, mapping: mapping, top: ref, children: children}
		for _, member := range h.below(ref) {
			of[member] = h
		}
	}
	if len(of) == 0 {
		return
	}
	for _, key := range instance.Names(top) {
		if key != "components" {
			r.spread(top[key], of, false, &path{nil, key})
		}
	}
	at := &path{nil, "components"}
	for _, name := range instance.Names(schemas) {
		r.spread(schemas[name], of, true, &path{&path{at, "schemas"}, name})
	}
	for _, kind := range []string{"requestBodies", "parameters", "headers", "pathItems"} {
		r.spread(components[kind], of, false, &path{at, kind})
	}
}

func reference(name string) string { return schemasPrefix + instance.Join("", name)[1:] }

// builtOn are the references of a schema's allOf.
func builtOn(m map[string]any) []string {
	var out []string
	list, _ := m["allOf"].([]any)
	for _, member := range list {
		inner, _ := member.(map[string]any)
		if ref, is := inner["$ref"].(string); is && strings.HasPrefix(ref, schemasPrefix) {
			out = append(out, ref)
		}
	}
	return out
}

// below lists a schema and all that are built on it.
func (h *hierarchy) below(ref string) []string {
	out := []string{ref}
	for i := 0; i < len(out); i++ {
		for _, child := range h.children[out[i]] {
			if !slices.Contains(out, child) {
				out = append(out, child)
			}
		}
	}
	return out
}

// spread goes through what uses schemas. Of a schema by itself (component) the
// references of its allOf are what it builds on. What answers hold is left as it is.
func (r *rewriter) spread(v any, of map[string]*hierarchy, component bool, at *path) {
	switch v := v.(type) {
	case []any:
		for i, e := range v {
			r.spread(e, of, false, &path{at, strconv.Itoa(i)})
		}
	case map[string]any:
		if ref, is := v["$ref"].(string); is && of[ref] != nil {
			r.replace(v, ref, of[ref], at)
			return
		}
		if v[pinnedMark] != nil {
			return
		}
		for _, name := range instance.Names(v) {
			switch {
			case name == "responses" || name == "example" || name == "examples" || isExtension(name):
			case name == "allOf" && component:
				list, _ := v[name].([]any)
				for i, member := range list {
					if inner, is := member.(map[string]any); is && inner["$ref"] == nil {
						r.spread(inner, of, true, &path{&path{at, name}, strconv.Itoa(i)})
					}
				}
			default:
				r.spread(v[name], of, false, &path{at, name})
			}
		}
	}
}

// replace puts all that may stand for a reference in its place: what it leads to, if it
// is not the top, which is one of the others, and what builds on it.
func (r *rewriter) replace(m map[string]any, ref string, h *hierarchy, at *path) {
	var branches []any
	for _, to := range h.below(ref) {
		target, ok := r.local(to)
		if !ok || to == h.top && !h.mapsTo(to) {
			continue
		}
		branch := map[string]any{"$ref": to}
		if values := selecting(to, h.mapping); !r.says(target, h.property, values) {
			branch = pinned(branch, h.property, values)
		}
		branches = append(branches, branch)
	}
	if len(branches) == 0 {
		return
	}
	delete(m, "$ref")
	list, _ := m["allOf"].([]any)
	if len(branches) == 1 {
		m["allOf"] = append(list, branches[0])
	} else {
		m["allOf"] = append(list, map[string]any{"anyOf": branches})
	}
	r.note(m, at)
	at = &path{&path{at, "allOf"}, strconv.Itoa(len(list))}
	for i, branch := range branches {
		if len(branches) == 1 {
			r.note(branch.(map[string]any), at)
		} else {
			r.note(branch.(map[string]any), &path{&path{at, "anyOf"}, strconv.Itoa(i)})
		}
	}
}

// mapsTo reports whether the mapping names a schema.
func (h *hierarchy) mapsTo(ref string) bool {
	for _, to := range h.mapping {
		if to == ref || to == lastSegment(ref) {
			return true
		}
	}
	return false
}
