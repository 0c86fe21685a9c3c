package flaw

import (
	"fmt"
	"slices"

	"obiter/internal/instance"
)

// plantArray makes lists too short, too long, and with a duplicate.
func plantArray(s *site) {
	now, ok := s.value.([]any)
	if !ok || s.shape.HasEnum {
		return
	}
	if least := s.shape.MinItems; least != nil && *least > 0 && len(now) >= *least {
		says := fmt.Sprintf("; at least %d are asked for", *least)
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
		s.replace("uniqueItems", "duplicate", Usual, instance.Clone(twice), "one element stands twice")
	}
}

// plantContains makes lists in which no element is what contains asks for.
func plantContains(s *site) {
	now, ok := s.value.([]any)
	if !ok || s.shape.MinContains == 0 || len(now) == 0 {
		return
	}
	var others []any
	for _, e := range now {
		if !s.shape.Breaks("contains", []any{e}) {
			continue
		}
		others = append(others, e)
	}
	made, ok := s.p.maker.Elements(s.shape, nil, len(now)+4)
	if !ok {
		made = nil
	}
	for _, e := range made {
		if len(others) < len(now) && s.shape.Breaks("contains", []any{e}) && !slices.ContainsFunc(others, func(o any) bool { return s.shape.Unique && instance.Equal(o, e) }) {
			others = append(others, e)
		}
	}
	for len(others) > 0 && len(others) < len(now) && !s.shape.Unique {
		others = append(others, others[0])
	}
	if len(others) == len(now) {
		s.replace("contains", "none-matching", Usual, others, "no element is of the sort that the list must contain")
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
