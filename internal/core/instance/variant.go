package instance

import (
	"reflect"
	"slices"
)

// Variants encodes values that share most of what they hold with one value, as those of
// Set and Remove do: what is the same is copied as it was written. What it gives is what
// Encode gives. It is safe for concurrent use.
type Variants struct {
	of   any
	text []byte
	at   node
}

// node is where a container of the value is written: of an object by the order of its names.
type node struct {
	names   []string // nil: not an object
	members []member
}

// member is where a member or element is written, the name of a member included.
type member struct {
	from, value, to int
	inside          node
}

// NewVariants makes a value ready, which is not to be changed afterwards.
func NewVariants(of any) *Variants {
	v := &Variants{of: of, text: make([]byte, 0, 256)}
	v.text, v.at = locate(v.text, of)
	return v
}

// locate writes a value as appendJSON does, and tells where its parts are.
func locate(b []byte, v any) ([]byte, node) {
	var n node
	switch v := v.(type) {
	case map[string]any:
		if v == nil {
			break
		}
		n.names = Names(v)
		n.members = make([]member, len(n.names))
		b = append(b, '{')
		for i, name := range n.names {
			if i > 0 {
				b = append(b, ',')
			}
			m := &n.members[i]
			m.from = len(b)
			b = append(appendJSON(b, name), ':')
			m.value = len(b)
			b, m.inside = locate(b, v[name])
			m.to = len(b)
		}
		return append(b, '}'), n
	case []any:
		if v == nil {
			break
		}
		n.members = make([]member, len(v))
		b = append(b, '[')
		for i, e := range v {
			if i > 0 {
				b = append(b, ',')
			}
			m := &n.members[i]
			m.from = len(b)
			m.value = len(b)
			b, m.inside = locate(b, e)
			m.to = len(b)
		}
		return append(b, ']'), n
	}
	return appendJSON(b, v), n
}

// Encode writes a value as the function Encode does.
func (v *Variants) Encode(other any) []byte {
	return v.append(make([]byte, 0, len(v.text)+64), other, v.of, v.at)
}

// append writes a value in the place of what is written at a node.
func (v *Variants) append(b []byte, other, was any, at node) []byte {
	switch other := other.(type) {
	case map[string]any:
		if was, is := was.(map[string]any); is && at.names != nil && other != nil {
			return v.appendObject(b, other, was, at)
		}
	case []any:
		if was, is := was.([]any); is && at.members != nil && other != nil {
			return v.appendList(b, other, was, at)
		}
	}
	return appendJSON(b, other)
}

// appendObject merges the names that are new into those that are written, all in their order.
func (v *Variants) appendObject(b []byte, other, was map[string]any, at node) []byte {
	had := 0 // of the names that are written
	for _, name := range at.names {
		if _, has := other[name]; has {
			had++
		}
	}
	added := make([]string, 0, len(other)-had)
	for name := range other {
		if len(other) == had {
			break
		}
		if _, has := was[name]; !has {
			added = append(added, name)
		}
	}
	slices.Sort(added)
	b = append(b, '{')
	part := func() {
		if b[len(b)-1] != '{' {
			b = append(b, ',')
		}
	}
	add := func(name string) {
		part()
		b = appendJSON(append(appendJSON(b, name), ':'), other[name])
	}
	for i, name := range at.names {
		for len(added) > 0 && added[0] < name {
			add(added[0])
			added = added[1:]
		}
		now, has := other[name]
		if !has {
			continue
		}
		part()
		m := at.members[i]
		if same(now, was[name]) {
			b = append(b, v.text[m.from:m.to]...)
			continue
		}
		b = v.append(append(b, v.text[m.from:m.value]...), now, was[name], m.inside)
	}
	for _, name := range added {
		add(name)
	}
	return append(b, '}')
}

func (v *Variants) appendList(b []byte, other, was []any, at node) []byte {
	b = append(b, '[')
	for i, now := range other {
		if i > 0 {
			b = append(b, ',')
		}
		switch {
		case i >= len(was):
			b = appendJSON(b, now)
		case same(now, was[i]):
			b = append(b, v.text[at.members[i].from:at.members[i].to]...)
		default:
			b = v.append(b, now, was[i], at.members[i].inside)
		}
	}
	return append(b, ']')
}

// same reports whether two values are one: containers by where they are held.
func same(a, b any) bool {
	switch a := a.(type) {
	case map[string]any:
		b, is := b.(map[string]any)
		return is && reflect.ValueOf(a).UnsafePointer() == reflect.ValueOf(b).UnsafePointer()
	case []any:
		b, is := b.([]any)
		return is && len(a) == len(b) && (a == nil) == (b == nil) && (len(a) == 0 || &a[0] == &b[0])
	}
	switch b.(type) {
	case map[string]any, []any:
		return false
	}
	return a == b
}
