package flaw

import (
	"encoding/json"
	"fmt"
	"math/big"

	"obiter/internal/core/instance"
	"obiter/internal/generate/sample"
	"obiter/internal/input/schema"
)

// plantNumber steps over minimum and maximum, closely and far, and off multipleOf.
func plantNumber(s *site) {
	now, ok := s.value.(json.Number)
	if !ok || s.shape.HasEnum {
		return
	}
	if b := s.shape.Minimum; b != nil {
		s.plantBound("minimum", "exclusiveMinimum", b, -1)
	}
	if b := s.shape.Maximum; b != nil {
		s.plantBound("maximum", "exclusiveMaximum", b, 1)
	}
	s.plantMultiple(now)
}

func (s *site) plantBound(inclusive, exclusive string, b *schema.Bound, direction int64) {
	rule, limit := inclusive, "least"
	if direction > 0 {
		limit = "most"
	}
	if b.Exclusive {
		rule = exclusive
	}
	step := sample.Step(s.shape)
	name := map[int64]string{-1: "below", 1: "above"}[direction]
	bound := instance.Number(b.Value)
	says := fmt.Sprintf("at %s %s is allowed", limit, bound)
	if b.Exclusive {
		says = fmt.Sprintf("only %s than %s is allowed", map[int64]string{-1: "more", 1: "less"}[direction], bound)
		s.replace(rule, "on-the-bound", Usual, bound, says)
	}
	move := func(distance *big.Rat) json.Number {
		d := new(big.Rat).Mul(distance, big.NewRat(direction, 1))
		return instance.Number(d.Add(d, nearest(b.Value, step, direction)))
	}
	just := move(step)
	s.replace(rule, "just-"+name, Usual, just, fmt.Sprintf("%s; %s", just, says))
	far := move(new(big.Rat).Mul(step, big.NewRat(1_000_000, 1)))
	s.replace(rule, "far-"+name, Usual, far, fmt.Sprintf("%s; %s", far, says))
	huge := new(big.Rat).SetInt(new(big.Int).Lsh(big.NewInt(1), 63))
	if direction < 0 {
		huge.Neg(huge).Sub(huge, big.NewRat(1, 1))
	}
	s.replace(rule, "beyond-int64", Usual, instance.Number(huge), fmt.Sprintf("a number that does not fit in 64 bits; %s", says))
}

// nearest is the multiple of step at or beyond the bound, so that a step over
// the bound breaks the bound and not multipleOf.
func nearest(bound, step *big.Rat, direction int64) *big.Rat {
	q := new(big.Rat).Quo(bound, step)
	if q.IsInt() {
		return bound
	}
	n := new(big.Int).Div(q.Num(), q.Denom()) // rounds down
	if direction < 0 {
		n.Add(n, big.NewInt(1))
	}
	return new(big.Rat).Mul(new(big.Rat).SetInt(n), step)
}

func (s *site) plantMultiple(now json.Number) {
	if len(s.shape.MultipleOf) == 0 {
		return
	}
	r, ok := instance.Rat(now)
	if !ok {
		return
	}
	m := s.shape.MultipleOf[0]
	half := new(big.Rat).Quo(m, big.NewRat(2, 1))
	integers := !s.shape.Types.Has(schema.Number)
	if integers && !half.IsInt() {
		if m.Cmp(big.NewRat(1, 1)) <= 0 {
			return // every integer is a multiple: nothing to break
		}
		half = big.NewRat(1, 1)
	}
	for _, v := range []*big.Rat{new(big.Rat).Add(r, half), new(big.Rat).Sub(r, half)} {
		n := instance.Number(v)
		if s.shape.Breaks("minimum", n) || s.shape.Breaks("maximum", n) {
			continue
		}
		s.replace("multipleOf", "half-step", Usual, n, fmt.Sprintf("%s is not a multiple of %s", n, instance.Number(m)))
		return
	}
}
