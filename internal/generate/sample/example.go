package sample

import (
	"slices"
	"strconv"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// example is the first example that obeys and lies in the branches that are forced. One
// that may hide a forced branch further down is not used as it is: its members are
// tried first there. One that is empty is left for where nothing else can be made.
func (b *builder) example(at string, list, sources []schema.Schema, sh *schema.Shape) (v any, spare []any, ok bool) {
	examples := sh.Examples
	if hint, has := b.hints[at]; has {
		examples = append([]any{hint}, examples...)
	}
	for _, ex := range examples {
		v := stripReadOnly(list, ex)
		if v == nil || b.plain && !isPlain(v) || !schema.Obeys(list, v) || !sh.Types.Has(schema.TypeOf(v)) || !b.inForced(sources, v) {
			continue
		}
		switch {
		case b.full && isEmpty(v):
			spare = append(spare, v)
		case b.hides(list, v):
			b.hint(at, v)
		default:
			return b.reshape(at, list, v), nil, true
		}
	}
	return nil, spare, false
}

// hides reports whether a branch is forced somewhere inside a value.
func (b *builder) hides(list []schema.Schema, v any) bool {
	if b.scout && schema.TypeOf(v)&(schema.Object|schema.Array) != 0 {
		return true
	}
	if len(b.forced) == 0 || schema.TypeOf(v)&(schema.Object|schema.Array) == 0 {
		return false
	}
	for key := range b.forced {
		if slices.ContainsFunc(list, func(s schema.Schema) bool { return b.leadsTo(s, key) }) {
			return true
		}
	}
	return false
}

// hint leaves the members of a value to be tried first at their places.
func (b *builder) hint(at string, v any) {
	switch v := v.(type) {
	case map[string]any:
		for name, m := range v {
			b.hints[instance.Join(at, name)] = m
		}
	case []any:
		for i, e := range v {
			b.hints[instance.Join(at, strconv.Itoa(i))] = e
		}
	}
}

// isEmpty reports whether a value is an object or array without anything in it.
func isEmpty(v any) bool {
	switch v := v.(type) {
	case map[string]any:
		return len(v) == 0
	case []any:
		return len(v) == 0
	}
	return false
}

// reshape completes a valid value with what is optional, or prunes it to what
// is required. Where the outcome would not be valid, the value stays.
func (b *builder) reshape(at string, list []schema.Schema, v any) any {
	sh := schema.Merge(schema.Apply(list, v))
	var out any
	switch v := v.(type) {
	case map[string]any:
		out = b.reshapeObject(at, sh, v)
	case []any:
		out = b.reshapeArray(at, sh, v)
	case nil:
		made, err := b.value(at, list, 0)
		if !b.full || err != nil {
			return v
		}
		out = made
	default:
		return v
	}
	if schema.Obeys(list, out) {
		return out
	}
	return v
}

func (b *builder) reshapeObject(at string, sh *schema.Shape, v map[string]any) any {
	out := map[string]any{}
	needed := make(map[string]bool, len(sh.Required))
	for _, n := range sh.Required {
		needed[n] = true
	}
	for _, name := range instance.Names(v) {
		if !b.full && !needed[name] {
			continue
		}
		out[name] = v[name]
		if members, ok := sh.Member(name); ok && len(members) > 0 {
			out[name] = b.reshape(instance.Join(at, name), members, v[name])
		}
	}
	if !b.full {
		return out
	}
	for _, name := range sh.Properties {
		if _, has := out[name]; has || b.trimmed {
			continue
		}
		members, ok := sh.Member(name)
		if !ok || schema.Merge(schema.Expand(members, b.choose)).ReadOnly {
			continue
		}
		added, err := b.value(instance.Join(at, name), members, 0)
		if err != nil {
			continue
		}
		out[name] = added
		for _, s := range sh.Sources {
			if !s.Valid(out) {
				delete(out, name)
				break
			}
		}
	}
	return out
}

func (b *builder) reshapeArray(at string, sh *schema.Shape, v []any) any {
	if b.full && len(v) == 0 { // a default more often than an example
		if made, err := b.array(at, sh); err == nil {
			return made
		}
	}
	out := make([]any, len(v))
	for i, e := range v {
		out[i] = e
		if items := sh.Item(i); len(items) > 0 {
			out[i] = b.reshape(instance.Join(at, strconv.Itoa(i)), items, e)
		}
	}
	if !b.full || len(out) != 1 || sh.MaxItems != nil && *sh.MaxItems < 2 || len(sh.Item(1)) == 0 {
		return out
	}
	for ordinal := 1; ordinal < 4; ordinal++ {
		second, err := b.value(instance.Join(at, "1"), sh.Item(1), ordinal)
		if err != nil {
			break
		}
		if !instance.Equal(second, out[0]) {
			return append(out, second)
		}
	}
	return out
}
