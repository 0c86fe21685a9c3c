package flaw

import (
	"fmt"
	"slices"
	"strings"

	"obiter/internal/instance"
)

// plantRequired leaves out each required member.
func plantRequired(s *site) {
	object, ok := s.value.(map[string]any)
	if !ok {
		return
	}
	for _, name := range s.shape.Required {
		if _, has := object[name]; !has {
			continue
		}
		pointer := instance.Join(s.pointer, name)
		body, ok := instance.Remove(s.p.control, pointer)
		if !ok {
			continue
		}
		s.p.plant(Flaw{s.p.in, pointer, "required", "left-out", "the required member is left out"}, Usual, body)
	}
}

// plantObject adds members that a closed object does not know: an invented one,
// a known name with a slip of the pen, a known name in another letter case.
func plantObject(s *site) {
	object, ok := s.value.(map[string]any)
	if !ok || !s.shape.Closed {
		return
	}
	add := func(name, variant string, at Depth, value any, reason string) {
		if _, has := object[name]; has || slices.Contains(s.shape.Properties, name) {
			return
		}
		pointer := instance.Join(s.pointer, name)
		if body, ok := instance.Set(s.p.control, pointer, value); ok {
			s.p.plant(Flaw{s.p.in, pointer, "additionalProperties", variant, reason}, at, body)
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
	if _, ok := p.control.(map[string]any); !ok || p.stopped {
		return
	}
	empty := map[string]any{}
	var flaws []Flaw
	for _, v := range p.root.Validate(empty, p.control) {
		if v.Keyword != "required" || instance.Parent(v.Pointer) != "" {
			return
		}
		flaws = append(flaws, Flaw{p.in, v.Pointer, "required", "empty-object", "the object is empty, so the required member is missing"})
	}
	if len(flaws) > 1 && p.prove(flaws, empty) == "" {
		p.give(Planted{Flaws: flaws, Value: empty})
	}
}
