package flaw

import (
	"fmt"
	"slices"
	"strconv"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// plantArray makes lists too short, too long, and with a duplicate.
func plantArray(s *site) {
	now, ok := s.value.([]any)
	if !ok || s.shape.HasEnum {
		return
	}
	if least := s.shape.MinItems; least != nil && *least > 0 && len(now) >= *least {
		says := fmt.Sprintf("; at least %d are required", *least)
		if *least > 1 {
			s.replace("minItems", "one-below", Usual, slices.Clone(now[:*least-1]), elements(*least-1)+says)
		}
		s.replace("minItems", "empty", Usual, []any{}, "the list is empty"+says)
	}
	if most := s.shape.MaxItems; most != nil {
		s.plantMore(now, *most)
	}
	if s.shape.Unique && len(now) > 0 {
		twice := append(slices.Clone(now), now[0])
		if s.shape.MaxItems != nil && len(twice) > *s.shape.MaxItems && len(now) > 1 {
			twice = slices.Clone(now)
			twice[len(twice)-1] = twice[0]
		}
		s.replace("uniqueItems", "duplicate", Usual, instance.Clone(twice), "one element appears twice")
	}
}

// hundred is how long a list is in which one element is wrong.
const hundred = 100

// plantOneInMany makes one element wrong deep inside a long list.
func plantOneInMany(s *site) {
	now, ok := s.value.([]any)
	if !ok || s.shape.HasEnum || s.p.depth < Deep || s.shape.Prefix() > 0 || len(now) == 0 || s.shape.MaxItems != nil && *s.shape.MaxItems < hundred {
		return
	}
	item := schema.Merge(schema.Apply(s.shape.Item(0), now[0]))
	if !item.Typed || item.Types.Has(schema.Object) {
		return
	}
	long, ok := s.p.maker.Elements(s.shape, now, hundred)
	if !ok {
		return
	}
	const at = 57
	long[at] = map[string]any{}
	body, ok := instance.Set(s.p.control, s.pointer, long)
	if !ok {
		return
	}
	f := s.flaw("type", "one-in-a-hundred", fmt.Sprintf("one element of a hundred is an object where %s is expected", either(item.Types)))
	f.Pointer = instance.Join(s.pointer, strconv.Itoa(at))
	s.plant(f, Deep, body)
}

// plantBeyond adds an element where none may follow those that are described.
func plantBeyond(s *site) {
	now, ok := s.value.([]any)
	if !ok || s.shape.HasEnum || !s.shape.ItemsClosed && !s.shape.UnevaluatedItems {
		return
	}
	rule := "items"
	if !s.shape.ItemsClosed {
		rule = "unevaluatedItems"
	}
	all, ok := s.p.maker.Elements(s.shape, now, max(s.shape.Prefix(), len(now)))
	if !ok {
		return
	}
	body, ok := instance.Set(s.p.control, s.pointer, append(all, "ballast"))
	if !ok {
		return
	}
	f := s.flaw(rule, "one-more", fmt.Sprintf("an element at index %d, where the schema allows none", len(all)))
	f.Pointer = instance.Join(s.pointer, strconv.Itoa(len(all)))
	s.plant(f, Usual, body)
}

// plantContains makes lists in which no element, or too few, or too many match contains.
func plantContains(s *site) {
	now, ok := s.value.([]any)
	if !ok || s.shape.HasEnum {
		return
	}
	if least := s.shape.MinContains; least > 0 && len(now) > 0 {
		s.noneMatching(now)
		if least > 1 {
			s.fewMatching(now, least-1)
		}
	}
	if most := s.shape.MaxContains; most != nil {
		s.manyMatching(now, *most)
	}
}

// matches reports whether an element by itself is one that contains looks for.
func (s *site) matches(e any) bool { return schema.Obeys(s.shape.Containing(), e) }

// fewMatching keeps only so many of the matching elements.
func (s *site) fewMatching(now []any, keep int) {
	var fewer []any
	kept := 0
	for _, e := range now {
		if s.matches(e) {
			if kept == keep {
				continue
			}
			kept++
		}
		fewer = append(fewer, e)
	}
	if kept == keep && len(fewer) < len(now) {
		s.replace("minContains", "one-below", Usual, fewer, fmt.Sprintf("%s; at least %d are required", matching(keep), keep+1))
	}
}

// manyMatching adds matching elements until there is one too many.
func (s *site) manyMatching(now []any, most int) {
	more := slices.Clone(now)
	have := 0
	for _, e := range now {
		if s.matches(e) {
			have++
		}
	}
	for ; have <= most && have <= maxElements; have++ {
		e, ok := s.p.maker.Any(append(slices.Clone(s.shape.Item(len(more))), s.shape.Containing()...))
		if !ok || s.shape.Unique && slices.ContainsFunc(more, func(o any) bool { return instance.Equal(o, e) }) {
			return
		}
		more = append(more, e)
	}
	s.replace("maxContains", "one-above", Usual, more, fmt.Sprintf("%s; at most %d are allowed", matching(have), most))
}

func matching(n int) string {
	if n == 1 {
		return "1 element matches contains"
	}
	return fmt.Sprintf("%d elements match contains", n)
}

func (s *site) noneMatching(now []any) {
	var others []any
	for _, e := range now {
		if !s.matches(e) {
			others = append(others, e)
		}
	}
	made, _ := s.p.maker.Elements(s.shape, nil, len(now)+4)
	if len(others) == 0 && !slices.ContainsFunc(made, func(e any) bool { return !s.matches(e) }) {
		varied := *s.shape
		varied.Unique = true
		made, _ = s.p.maker.Elements(&varied, nil, 4)
		for n := 3; made == nil && n > 1; n-- {
			made, _ = s.p.maker.Elements(&varied, nil, n)
		}
	}
	for _, e := range made {
		if len(others) < len(now) && !s.matches(e) && !slices.ContainsFunc(others, func(o any) bool { return s.shape.Unique && instance.Equal(o, e) }) {
			others = append(others, e)
		}
	}
	for len(others) > 0 && len(others) < len(now) && !s.shape.Unique {
		others = append(others, others[0])
	}
	if len(others) == len(now) {
		s.replace("contains", "none-matching", Usual, others, "no element matches contains")
	}
}

func (s *site) plantMore(now []any, most int) {
	reason := fmt.Sprintf("%s; at most %d are allowed", elements(most+1), most)
	if most+1 > maxElements {
		s.p.dropped(Drop{s.flaw("maxItems", "one-above", reason), TooLarge})
		return
	}
	longer, ok := s.p.maker.Elements(s.shape, now, most+1)
	if !ok {
		s.p.dropped(Drop{s.flaw("maxItems", "one-above", reason), Collateral})
		return
	}
	s.replace("maxItems", "one-above", Usual, longer, reason)
}

func elements(n int) string {
	if n == 1 {
		return "1 element"
	}
	return fmt.Sprintf("%d elements", n)
}
