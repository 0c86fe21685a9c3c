package flaw

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// plantRequired leaves out each required member.
func plantRequired(s *site) {
	object, ok := s.value.(map[string]any)
	if !ok {
		return
	}
	for i, name := range s.shape.Required {
		if _, has := object[name]; !has {
			continue
		}
		pointer := instance.Join(s.pointer, name)
		if i >= maxFields {
			s.p.dropped(Drop{s.member(name, "required", "left-out", ""), TooMany})
			continue
		}
		f := s.member(name, "required", "left-out", "the required member is left out")
		if s.wants(f, Usual) && s.tooMuch(f) {
			continue
		}
		if body, ok := instance.Remove(s.p.control, pointer); ok {
			s.plant(f, Usual, body)
		}
	}
}

// plantObject adds members that a closed object does not know: an invented one,
// a known name with a slip of the pen, a known name in another letter case.
func plantObject(s *site) {
	object, ok := s.value.(map[string]any)
	if !ok {
		return
	}
	s.plantDependent(object)
	s.plantMemberCount(object)
	s.plantMemberName(object)
	s.plantForbidden(object)
	rule := "additionalProperties"
	if !s.shape.Closed {
		if !s.shape.Unevaluated {
			return
		}
		rule = "unevaluatedProperties"
	}
	add := func(name, variant string, at Depth, value any, reason string) {
		if _, has := object[name]; has || slices.Contains(s.shape.Properties, name) {
			return
		}
		if body, ok := instance.Set(s.p.control, instance.Join(s.pointer, name), value); ok {
			s.plant(s.member(name, rule, variant, reason), at, body)
		}
	}
	add("unexpected", "unknown-member", Usual, "ballast", `the member "unexpected" is not described`)
	for _, name := range s.shape.Properties {
		value, has := object[name]
		if !has || len(name) < 3 {
			continue
		}
		slip := misspelt(name)
		add(slip, "misspelt", Usual, value, fmt.Sprintf("the member %q is not described; it is %q misspelt", slip, name))
		upper := strings.ToUpper(name[:1]) + name[1:]
		add(upper, "letter-case", Deep, value, fmt.Sprintf("the member %q is not described; names are told apart by letter case", upper))
		break
	}
}

// plantForbidden adds a member that may not be there: its schema is false.
func (s *site) plantForbidden(object map[string]any) {
	for _, name := range s.shape.Forbidden() {
		if _, has := object[name]; has {
			continue
		}
		if body, ok := instance.Set(s.p.control, instance.Join(s.pointer, name), "ballast"); ok {
			s.plant(s.member(name, "properties", "forbidden-member", fmt.Sprintf("the member %q must not be there: its schema is false", name)), Usual, body)
		}
	}
}

// member is a flaw of a member of the site's object.
func (s *site) member(name, rule, variant, reason string) exchange.Flaw {
	f := s.flaw(rule, variant, reason)
	f.Pointer = instance.Join(s.pointer, name)
	return f
}

// plantDependent leaves out members that others require.
func (s *site) plantDependent(object map[string]any) {
	for _, name := range slices.Sorted(maps.Keys(s.shape.Dependent)) {
		if _, has := object[name]; !has {
			continue
		}
		for _, needed := range s.shape.Dependent[name] {
			if _, has := object[needed]; !has || slices.Contains(s.shape.Required, needed) {
				continue
			}
			if body, ok := instance.Remove(s.p.control, instance.Join(s.pointer, needed)); ok {
				f := s.member(needed, "dependentRequired", "without-"+name, fmt.Sprintf("the member is left out, which %q requires", name))
				f.RequiredBy = name
				s.plant(f, Usual, body)
			}
		}
	}
}

// plantMemberCount makes objects with too few and too many members.
func (s *site) plantMemberCount(object map[string]any) {
	if least := s.shape.MinProps; least != nil && *least > 0 && len(object) >= *least {
		fewer := maps.Clone(object)
		for _, name := range slices.Backward(instance.Names(object)) {
			if len(fewer) >= *least && !slices.Contains(s.shape.Required, name) {
				delete(fewer, name)
			}
		}
		if len(fewer) < *least { // else the required members imply the rule
			s.replace("minProperties", "one-below", Usual, fewer, fmt.Sprintf("%d members; at least %d are required", len(fewer), *least))
		}
	}
	if most := s.shape.MaxProps; most != nil && *most < maxElements {
		more := maps.Clone(object)
		for i := 1; len(more) <= *most && i <= *most+1; i++ {
			name := "extra" + strings.Repeat("z", i/26) + string(rune('a'+i%26))
			members, ok := s.shape.Member(name)
			if !ok || !s.shape.NameAllowed(name) {
				break
			}
			v, ok := s.p.maker.Any(members)
			if !ok {
				break
			}
			more[name] = v
		}
		if len(more) > *most {
			s.replace("maxProperties", "one-above", Usual, more, fmt.Sprintf("%d members; at most %d are allowed", len(more), *most))
		}
	}
}

// plantMemberName adds a member whose name propertyNames forbids.
func (s *site) plantMemberName(object map[string]any) {
	if len(s.shape.MemberNames()) == 0 {
		return
	}
	for _, name := range []string{"Bad Name!", "x", "0", strings.Repeat("x", 300), ""} {
		if s.shape.NameAllowed(name) {
			continue
		}
		members, ok := s.shape.Member(name)
		if !ok {
			continue
		}
		v, ok := s.p.maker.Any(members)
		if !ok {
			continue
		}
		if body, ok := instance.Set(s.p.control, instance.Join(s.pointer, name), v); ok {
			s.plant(s.member(name, "propertyNames", "bad-name", fmt.Sprintf("a member may not have the name %.20q", name)), Usual, body)
		}
		return
	}
}

// misspelt swaps the last two letters, or doubles the last where they are alike.
func misspelt(name string) string {
	r := []rune(name)
	n := len(r)
	if r[n-1] == r[n-2] {
		return name + string(r[n-1])
	}
	r[n-1], r[n-2] = r[n-2], r[n-1]
	return string(r)
}

// emptyObject leaves out all required members of the body at once.
func (p *Planter) emptyObject() {
	if _, ok := p.control.(map[string]any); !ok || p.stopped || p.enough() {
		return
	}
	empty := map[string]any{}
	var flaws []exchange.Flaw
	for _, v := range p.root.Validate(empty, p.control) {
		if v.Keyword != "required" || instance.Parent(v.Pointer) != "" {
			return
		}
		flaws = append(flaws, exchange.Flaw{In: p.in, Pointer: v.Pointer, Rule: "required", Variant: "empty-object", Reason: "the object is empty, so the required member is missing"})
	}
	order := schema.Merge(schema.Apply([]schema.Schema{p.root}, p.control)).Required
	slices.SortStableFunc(flaws, func(a, b exchange.Flaw) int { // as the description lists them
		return cmp.Compare(slices.Index(order, instance.Last(a.Pointer)), slices.Index(order, instance.Last(b.Pointer)))
	})
	if len(flaws) > 1 && p.proveAt(flaws, empty, p.whole()) == "" {
		p.give(Planted{Flaws: flaws, Value: empty})
	}
}
