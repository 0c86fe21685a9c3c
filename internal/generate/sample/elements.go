package sample

import (
	"slices"
	"strconv"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// Elements makes a list of n elements that each obey the item rules of sh,
// different from one another where that is required: those of start, then
// made ones. False where there are not enough.
func (m *Maker) Elements(sh *schema.Shape, start []any, n int) ([]any, bool) {
	out := slices.Clone(start[:min(len(start), n)])
	at := sh.Sources[0].URL()
	seen := map[string]bool{}
	for _, e := range out {
		seen[string(instance.Encode(e))] = true
	}
	for ordinal := 1; len(out) < n; ordinal++ {
		i := len(out)
		items := sh.Item(i)
		if !sh.Unique && i > 0 && i >= sh.Prefix() {
			out = append(out, instance.Clone(out[i-1]))
			continue
		}
		if ordinal > 4*n+16 {
			return nil, false
		}
		var v any = strconv.Itoa(ordinal)
		if len(items) > 0 {
			b := m.newBuilder(true)
			made, err := b.value(instance.Join(at, strconv.Itoa(i)), items, ordinal)
			if err != nil || !schema.Obeys(items, made) {
				return nil, false
			}
			v = made
		}
		text := string(instance.Encode(v))
		if sh.Unique && seen[text] {
			continue
		}
		seen[text] = true
		out = append(out, v)
	}
	return out, true
}

// Any makes one value that obeys all of the schemas; false where none was found.
func (m *Maker) Any(list []schema.Schema) (any, bool) {
	if len(list) == 0 {
		return "ballast", true
	}
	if len(list) > 1 {
		return m.any(list)
	}
	have, known := m.made[list[0]]
	if !known {
		have.value, have.ok = m.any(list)
		m.made[list[0]] = have
	}
	return have.value, have.ok
}

func (m *Maker) any(list []schema.Schema) (any, bool) {
	b := m.newBuilder(true)
	v, err := b.value("", list, 0)
	return v, err == nil && schema.Obeys(list, v)
}
