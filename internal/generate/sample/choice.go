package sample

import (
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// group is an alternative of a schema: a oneOf or anyOf with its branches, or an
// if with two sides.
type group struct {
	key string
	n   int
}

// rank puts alternatives before the types of one value, of which there may be many.
func (g group) rank() int {
	if strings.HasSuffix(g.key, " type") {
		return 1
	}
	return 0
}

func (b *builder) meet(key string, n int) {
	for _, g := range b.groups {
		if g.key == key {
			return
		}
	}
	b.groups = append(b.groups, group{key, n})
}

// choose picks the branch that is forced, at the outermost level: inside itself an
// alternative takes a branch that leads out.
func (b *builder) choose(s schema.Schema, keyword string, n int) []int {
	b.widest = max(b.widest, n)
	key := s.Key(keyword)
	b.meet(key, n)
	inside := b.active[s.URL()] > 0
	if i, ok := b.forced[key]; ok && !inside {
		return []int{i}
	}
	first := b.branch % n
	for i := range n {
		if pick := (first + i) % n; !inside || !b.leadsTo(s.Branch(keyword, pick), key) {
			return []int{pick}
		}
	}
	return []int{first}
}

// leadsTo reports whether instances of a schema come to an alternative.
func (b *builder) leadsTo(s schema.Schema, key string) bool {
	at := [2]string{s.URL(), key}
	is, known := b.leads[at]
	if !known {
		is = s.Reaches(key)
		b.leads[at] = is
	}
	return is
}

// The sides of a condition.
const (
	notMet = 0
	met    = 1
)

// conditions adds what holds on the forced side of each if, and tells which ifs have
// not to be met.
func (b *builder) conditions(list, sources []schema.Schema) (held, unmet []schema.Schema) {
	held = slices.Clip(list)
	for _, c := range schema.Merge(sources).Conditions() {
		key := c.If.Key("if")
		b.meet(key, 2)
		side, is := b.forced[key]
		switch {
		case !is || b.active[c.If.URL()] > 0:
		case side == met:
			if held = append(held, c.If); !c.Then.IsZero() {
				held = append(held, c.Then)
			}
		case side == notMet:
			if unmet = append(unmet, c.If); !c.Else.IsZero() {
				held = append(held, c.Else)
			}
		}
	}
	return held, unmet
}

// unlike makes another value, in which a condition may not be met: without a member that
// it requires, or with other values of those that it is about.
func (b *builder) unlike(at string, list, unmet []schema.Schema, sh *schema.Shape, v any, nth int) (any, error) {
	object, is := v.(map[string]any)
	if !is {
		v, _, err := b.synthesise(at, list, sh, nth+1)
		return v, err
	}
	for _, s := range unmet {
		for _, name := range s.Required() {
			if fewer, ok := instance.Remove(object, instance.Join("", name)); ok && schema.Obeys(list, fewer) && !s.Valid(fewer) {
				return fewer, nil
			}
		}
		for _, name := range schema.Merge(schema.Expand([]schema.Schema{s}, b.choose)).Properties {
			members, ok := sh.Member(name)
			if !ok {
				continue
			}
			if other, err := b.value(instance.Join(at, name), members, nth+1); err == nil {
				b.hints[instance.Join(at, name)] = other
			}
		}
	}
	v, _, err := b.conditional(at, list, sh)
	return v, err
}

// kind are the types of a value: of several that are listed the one that is forced.
func (b *builder) kind(sh *schema.Shape) schema.Types {
	kinds := sh.Kinds()
	if kinds == nil {
		return schema.AnyType
	}
	key := sh.Sources[0].Key("type")
	b.meet(key, len(kinds))
	i, forced := b.forced[key]
	if !forced || b.active[sh.Sources[0].URL()] > 1 {
		return schema.AnyType
	}
	if kinds[i] == schema.Number {
		return schema.Number | schema.Integer
	}
	return kinds[i]
}

// inForced reports whether a value lies in the branches that are forced at its place.
func (b *builder) inForced(sources []schema.Schema, v any) bool {
	for _, a := range schema.Merge(sources).Choices() {
		for _, s := range a.Branches {
			if i, forced := b.forced[a.Holder.Key(a.Keyword)]; forced && s == a.Branches[i] && b.active[a.Holder.URL()] < 2 && !s.Valid(v) {
				return false
			}
		}
	}
	return true
}

// exclusions are the optional members that keep an object from being in one branch alone,
// because others require them, and those that a not forbids to be there together. Without
// all, only those of an anyOf of which a branch is forced.
func (b *builder) exclusions(sh *schema.Shape, all bool) map[string]bool {
	out := map[string]bool{}
	for _, a := range sh.Choices() {
		_, forced := b.forced[a.Holder.Key(a.Keyword)]
		if !all && (a.Keyword != "anyOf" || !forced) {
			continue
		}
		taken := b.choose(a.Holder, a.Keyword, len(a.Branches))[0]
		if b.active[a.Holder.URL()] > 0 && forced { // choose took it for an inner one
			taken = b.forced[a.Holder.Key(a.Keyword)]
		}
		for i, branch := range a.Branches {
			if i == taken {
				continue
			}
			for _, name := range branch.Required() {
				out[name] = true
			}
		}
	}
	if all {
		for _, n := range sh.Negations() {
			b.negated(n, out)
		}
	}
	for _, name := range sh.Required {
		delete(out, name)
	}
	return out
}

// negated adds the member that has to be left out so that an object is not of a schema
// which requires several: each of them in turn. Of a schema that requires one of several,
// all have to be.
func (b *builder) negated(not schema.Schema, out map[string]bool) {
	if names := not.Required(); len(names) > 0 {
		key := not.Key("not")
		if len(names) > 1 {
			b.meet(key, len(names))
		}
		out[names[len(names)-1-b.forced[key]]] = true
	}
	for _, a := range schema.Merge(schema.Expand([]schema.Schema{not}, schema.NoBranch)).Choices() {
		for _, branch := range a.Branches {
			b.negated(branch, out)
		}
	}
}
