package dialect

import (
	"maps"
	"strconv"

	"obiter/internal/document"
	"obiter/internal/instance"
)

// closed reads members of allOf that are closed one against the other as closed together:
// by the letter nothing obeys them all, and nobody means that.
func (r *rewriter) closed(m map[string]any, at string) {
	members, _ := m["allOf"].([]any)
	if len(members) == 0 || m["unevaluatedProperties"] != nil {
		return
	}
	type part struct {
		holder map[string]any
		known  map[string]bool
		closed bool
	}
	parts := []part{{m, r.members(m, false), isClosed(m)}}
	for _, member := range members {
		target := r.target(member)
		parts = append(parts, part{target, r.members(target, true), isClosed(target)})
	}
	apart := false
	for _, p := range parts {
		for _, other := range parts {
			for name := range other.known {
				apart = apart || p.closed && !p.known[name]
			}
		}
	}
	if !apart {
		return
	}
	for i, p := range parts {
		switch {
		case !p.closed:
		case i == 0:
			delete(m, "additionalProperties")
		default: // it may serve others too
			open := maps.Clone(p.holder)
			delete(open, "additionalProperties")
			members[i-1] = open
		}
	}
	m["unevaluatedProperties"] = false
	r.out.Together = append(r.out.Together, document.Location{File: r.base, Pointer: instance.Join(at, "allOf")})
}

// target is a schema, or what it refers to.
func (r *rewriter) target(v any) map[string]any {
	m, _ := v.(map[string]any)
	if ref, is := m["$ref"].(string); is {
		m, _ = r.local(ref)
	}
	return m
}

// maxDepth bounds how far down members of allOf are followed.
const maxDepth = 8

func isClosed(m map[string]any) bool {
	open, is := m["additionalProperties"].(bool)
	return is && !open
}

// members are the names of a schema's properties, and with deep those of its allOf.
func (r *rewriter) members(m map[string]any, deep bool) map[string]bool {
	out := map[string]bool{}
	var collect func(m map[string]any, depth int)
	collect = func(m map[string]any, depth int) {
		properties, _ := m["properties"].(map[string]any)
		for name := range properties {
			out[name] = true
		}
		list, _ := m["allOf"].([]any)
		if depth == maxDepth {
			return
		}
		for _, member := range list {
			collect(r.target(member), depth+1)
		}
	}
	from := 0
	if !deep {
		from = maxDepth
	}
	collect(m, from)
	return out
}

// closedAgainst goes through the schemas of a file for closed.
func (r *rewriter) closedAgainst(v any, at string) {
	switch v := v.(type) {
	case []any:
		for i, e := range v {
			if isContainer(e) {
				r.closedAgainst(e, instance.Join(at, strconv.Itoa(i)))
			}
		}
	case map[string]any:
		if v["allOf"] != nil {
			r.closed(v, at)
		}
		for k := range v { // in any order: what is found is sorted
			if isContainer(v[k]) && k != "example" && k != "examples" && k != "default" && k != "enum" && k != "const" && !isExtension(k) {
				r.closedAgainst(v[k], instance.Join(at, k))
			}
		}
	}
}
