package flaw

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/big"
	"slices"

	"obiter/internal/core/instance"
	"obiter/internal/generate/sample"
	"obiter/internal/input/schema"
)

// edgesAt makes valid values exactly on the field's boundaries.
func (p *Planter) edgesAt(s *site) {
	switch now := s.value.(type) {
	case string: // what nothing here can check accuses nobody
		if s.shape.HasEnum {
			s.enumEdges()
		} else if !s.shape.Guesses(now) {
			s.lengthEdges()
			s.formEdges(now)
		}
	case json.Number:
		if s.shape.HasEnum {
			s.enumEdges()
		} else {
			s.boundEdges()
		}
	case []any:
		s.countEdges(now)
	case map[string]any:
		s.openEdge(now)
	}
	if s.shape.Typed && s.shape.Types.Has(schema.Null) && !s.shape.AmbiguousNull && s.value != nil {
		s.edge("type", "null", Usual, nil, "null, which is allowed")
	}
}

func (s *site) edge(rule, variant string, at Depth, value any, reason string) {
	s.rareEdge(false, rule, variant, at, value, reason)
}

// rareEdge is an edge; one that is rare is seldom met, though it is right.
func (s *site) rareEdge(rare bool, rule, variant string, at Depth, value any, reason string) {
	f := s.flaw(rule, variant, reason)
	if s.p.stopped || s.p.enough() || at > max(s.p.depth, Usual) || s.p.depth == Quick && s.p.once[[2]string{"edge " + f.Pointer, rule}] > 0 {
		return
	}
	body, ok := instance.Set(s.p.control, s.pointer, value)
	seen, sendable := s.p.seen(body)
	if !ok || !sendable || !s.anchor.valid(seen) || instance.Equal(body, s.p.control) {
		return
	}
	s.p.once[[2]string{"edge " + f.Pointer, rule}]++
	s.p.give(Planted{Edge: &f, Rare: rare, Value: body})
}

func (s *site) enumEdges() {
	for i, v := range s.shape.Enum {
		if i == 64 {
			return // a long list is not made more certain by its rest
		}
		if slices.ContainsFunc(s.shape.AmbiguousValues, func(m any) bool { return instance.Equal(m, v) }) {
			continue
		}
		s.edge("enum", fmt.Sprintf("value-%d", i+1), Usual, v, "one of the listed values")
	}
}

func (s *site) lengthEdges() {
	if n := s.shape.MinLength; n != nil {
		if t, ok := s.p.maker.Exactly(s.shape, *n, "a"); ok {
			s.edge("minLength", "exactly", Usual, t, "exactly the shortest: "+characters(*n))
		}
	}
	if n := s.shape.MaxLength; n != nil {
		if t, ok := s.p.maker.Exactly(s.shape, *n, "a"); ok {
			s.edge("maxLength", "exactly", Usual, t, "exactly the longest: "+characters(*n))
		}
		if s.shape.Binary {
			return // its length is in bytes
		}
		if t, ok := s.p.maker.Exactly(s.shape, *n, "ø"); ok {
			s.edge("maxLength", "exactly-multibyte", Usual, t, fmt.Sprintf("exactly the longest: %s, each of two bytes", characters(*n)))
		}
		if t, ok := s.p.maker.Exactly(s.shape, *n, "🚢"); ok {
			s.edge("maxLength", "exactly-astral", Deep, t, fmt.Sprintf("exactly the longest: %s, each of two UTF-16 units", characters(*n)))
		}
	}
}

func (s *site) boundEdges() {
	step := sample.Step(s.shape)
	for _, b := range []struct {
		rule      string
		bound     *schema.Bound
		direction int64
	}{{"minimum", s.shape.Minimum, -1}, {"maximum", s.shape.Maximum, 1}} {
		if b.bound == nil {
			continue
		}
		at := nearest(b.bound.Value, step, b.direction)
		if b.bound.Exclusive {
			inward := new(big.Rat).Mul(step, big.NewRat(-b.direction, 1))
			at = inward.Add(inward, at)
		}
		n := instance.Number(at)
		s.edge(b.rule, "exactly", Usual, n, fmt.Sprintf("%s, the last number allowed", n))
	}
}

func (s *site) countEdges(now []any) {
	if n := s.shape.MinItems; n != nil && *n < len(now) {
		s.edge("minItems", "exactly", Usual, slices.Clone(now[:*n]), "exactly the fewest: "+elements(*n))
	}
	if n := s.shape.MaxItems; n != nil && *n <= maxElements {
		if longest, ok := s.p.maker.Elements(s.shape, now, *n); ok {
			s.edge("maxItems", "exactly", Usual, longest, "exactly the most: "+elements(*n))
		}
	}
}

// openEdge adds a member where the schema says that others are welcome. Where
// it says nothing they are too, but many a description only forgot to say.
func (s *site) openEdge(now map[string]any) {
	const name = "unexpected"
	members, ok := s.shape.Member(name)
	if !ok || !s.shape.Open || !s.shape.NameAllowed(name) || s.shape.MaxProps != nil && len(now) >= *s.shape.MaxProps {
		return
	}
	if v, ok := s.p.maker.Any(members); ok {
		more := maps.Clone(now)
		more[name] = v
		s.edge("additionalProperties", "allowed-member", Usual, more, "a member that is not described, and allowed")
	}
}
