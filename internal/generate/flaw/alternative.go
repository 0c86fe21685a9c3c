package flaw

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"obiter/internal/input/schema"
)

// plantAlternative makes values that no branch of a oneOf or anyOf takes, and
// values that two branches of a oneOf take; then values that a not forbids.
// Single rules of the branch taken are broken like any others.
func plantAlternative(s *site) {
	_, object := s.value.(map[string]any)
	for _, a := range s.shape.Choices() {
		s.tried[a.Keyword] = s.tried[a.Keyword] || object // an object breaks it by the rules of its branches
		// What no branch accepts is the same for every branch of the control.
		if key := s.pointer + " " + a.Branches[0].URL(); s.p.done[key] {
			s.tried[a.Keyword] = true
			continue
		} else {
			s.p.done[key] = true
		}
		for _, v := range s.unlikeBranches(a) {
			if s.shape.Breaks(a.Keyword, v) && schema.ObeysAround(s.list, v) {
				s.replace(a.Keyword, "none-matches", Usual, v, fmt.Sprintf("none of the %d branches accepts it", len(a.Branches)))
				break
			}
		}
		if a.Keyword == "oneOf" {
			s.plantTwo(a)
		}
	}
	for _, n := range s.shape.Negations() {
		for _, v := range s.joined(n) {
			if s.shape.Breaks("not", v) {
				s.replace("not", "forbidden", Usual, v, "the value is of the sort that is ruled out")
				break
			}
		}
	}
}

// unlikeBranches gives values that no branch may take: of an object first the present
// one without what branches require, so that its other members stay right.
func (s *site) unlikeBranches(a schema.Alternative) []any {
	tries := []any{"unlisted", map[string]any{"unexpected": "ballast"}, []any{}, true, json.Number("-1.5")}
	object, is := s.value.(map[string]any)
	if !is {
		return tries
	}
	reduced := maps.Clone(object)
	for _, b := range a.Branches {
		for _, name := range b.Required() {
			delete(reduced, name)
		}
	}
	return append([]any{reduced, map[string]any{}}, tries...)
}

// plantTwo looks for a value that two branches take at once.
func (s *site) plantTwo(a schema.Alternative) {
	for _, b := range a.Branches {
		if b.Valid(s.value) {
			continue
		}
		for _, v := range s.joined(b) {
			taken := 0
			for _, other := range a.Branches {
				if other.Valid(v) {
					taken++
				}
			}
			if taken > 1 && schema.ObeysAround(s.list, v) {
				s.replace("oneOf", "two-match", Usual, v, fmt.Sprintf("%d of the branches accept it, and only one may", taken))
				return
			}
		}
	}
}

// joined gives values of a schema, and for objects those with the members of
// the present value added.
func (s *site) joined(other schema.Schema) []any {
	now, isObject := s.value.(map[string]any)
	var out []any
	if isObject {
		out = append(out, s.completed(now, other))
	}
	v, ok := s.p.maker.Any([]schema.Schema{other})
	if !ok {
		return out
	}
	made, both := v.(map[string]any)
	if !isObject || !both {
		return append(out, v)
	}
	mixed, first := maps.Clone(now), maps.Clone(made)
	maps.Copy(mixed, made)
	maps.Copy(first, now)
	return append(out, mixed, first, v)
}

// completed is the present object with the members that a schema requires, as both have
// them.
func (s *site) completed(now map[string]any, other schema.Schema) map[string]any {
	both := schema.Merge(schema.Expand(append(slices.Clone(s.list), other), schema.NoBranch))
	out := maps.Clone(now)
	for _, name := range other.Required() {
		members, known := both.Member(name)
		if _, has := out[name]; has || !known {
			continue
		}
		if v, ok := s.p.maker.Any(members); ok {
			out[name] = v
		}
	}
	return out
}
