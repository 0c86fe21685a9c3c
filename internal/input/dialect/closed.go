package dialect

import (
	"maps"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
)

// closing is a schema whose allOf has members that are closed one against the other.
type closing struct {
	holder  map[string]any
	members []any
	parts   []part // the schema's own keywords, then the members
	at      string
}

// part is a schema that an instance has to obey next to others.
type part struct {
	schema map[string]any
	known  map[string]bool // the properties that it describes
	closed bool            // to all others
}

// closedTogether reads members of allOf that are closed one against the other as closed
// together: by the letter nothing obeys them all, and nobody means that. It looks at all
// schemas before it changes any.
func (r *rewriter) closedTogether() {
	var found []closing
	for _, w := range r.wholes {
		members, is := w.schema["allOf"].([]any)
		if !is || w.schema["unevaluatedProperties"] != nil {
			continue
		}
		if c := (closing{w.schema, members, r.parts(w.schema, members), w.at}); c.apart() {
			found = append(found, c)
		}
	}
	for _, c := range found {
		for i, p := range c.parts {
			switch {
			case !p.closed:
			case i == 0:
				delete(c.holder, "additionalProperties")
			default: // it may serve others too
				open := maps.Clone(p.schema)
				delete(open, "additionalProperties")
				delete(open, "unevaluatedProperties")
				c.members[i-1] = open
			}
		}
		c.holder["unevaluatedProperties"] = false
		r.out.Together = append(r.out.Together, document.Location{File: r.base, Pointer: instance.Join(c.at, "allOf")})
	}
	slices.SortFunc(r.out.Together, func(a, b document.Location) int { return strings.Compare(a.Pointer, b.Pointer) })
}

// parts are a schema's own keywords and the members of its allOf.
func (r *rewriter) parts(m map[string]any, members []any) []part {
	out := []part{{m, r.members(m, false), m["additionalProperties"] == false}}
	for _, member := range members {
		target := r.target(member)
		out = append(out, part{target, r.members(target, true), target["additionalProperties"] == false || target["unevaluatedProperties"] == false})
	}
	return out
}

// apart reports whether one part is closed to what another describes.
func (c closing) apart() bool {
	for _, p := range c.parts {
		for _, other := range c.parts {
			for name := range other.known {
				if p.closed && !p.known[name] {
					return true
				}
			}
		}
	}
	return false
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
