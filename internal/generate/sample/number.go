package sample

import (
	"fmt"
	"math/big"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// number finds one within the bounds: near the lower one, or small.
func (b *builder) number(at string, list []schema.Schema, sh *schema.Shape, ordinal int) (any, error) {
	rng := b.random(at, ordinal)
	offset := int64(1 + ordinal + rng.IntN(9))
	start := big.NewRat(offset, 1)
	switch {
	case sh.Minimum != nil && sh.Maximum != nil:
		// Somewhere inside: an eighth of the way for each step.
		span := new(big.Rat).Sub(sh.Maximum.Value, sh.Minimum.Value)
		share := big.NewRat(1+int64((ordinal+rng.IntN(6))%7), 8)
		start = span.Mul(span, share).Add(span, sh.Minimum.Value)
	case sh.Minimum != nil:
		start.Add(start, sh.Minimum.Value)
	case sh.Maximum != nil && sh.Maximum.Value.Cmp(start) <= 0:
		start.Sub(sh.Maximum.Value, start)
	}
	step := Step(sh)
	for _, r := range []*big.Rat{aligned(start, step, true), aligned(start, step, false), start} {
		if v := instance.Number(r); schema.Obeys(list, v) {
			return v, nil
		}
	}
	for _, bound := range []*schema.Bound{sh.Minimum, sh.Maximum} {
		if bound == nil {
			continue
		}
		for _, k := range []int64{0, 1, -1} {
			near := aligned(bound.Value, step, bound == sh.Minimum)
			near.Add(near, new(big.Rat).Mul(step, big.NewRat(k, 1)))
			if v := instance.Number(near); schema.Obeys(list, v) {
				return v, nil
			}
		}
	}
	if v := instance.Number(new(big.Rat)); schema.Obeys(list, v) {
		return v, nil
	}
	return nil, fmt.Errorf("at %s no number was found between minimum, maximum and multipleOf", instance.Fragment(at))
}

// Step is the smallest difference between two numbers that obey a shape: that
// of multipleOf, 1 for integers, else a hundredth, or less between close bounds.
func Step(sh *schema.Shape) *big.Rat {
	step := big.NewRat(1, 100)
	if sh.Minimum != nil && sh.Maximum != nil {
		if span := new(big.Rat).Sub(sh.Maximum.Value, sh.Minimum.Value); span.Sign() > 0 {
			for step.Cmp(span) >= 0 {
				step.Quo(step, big.NewRat(10, 1))
			}
		}
	}
	if !sh.Types.Has(schema.Number) {
		step = big.NewRat(1, 1)
	}
	if len(sh.MultipleOf) == 0 {
		return step
	}
	step = sh.MultipleOf[0]
	for _, m := range sh.MultipleOf[1:] {
		step = lcm(step, m)
	}
	if !sh.Types.Has(schema.Number) {
		step = lcm(step, big.NewRat(1, 1))
	}
	return step
}

// lcm of two fractions: of the numerators over the gcd of the denominators.
func lcm(a, b *big.Rat) *big.Rat {
	gcd := func(x, y *big.Int) *big.Int {
		return new(big.Int).GCD(nil, nil, new(big.Int).Abs(x), new(big.Int).Abs(y))
	}
	num := new(big.Int).Mul(a.Num(), b.Num())
	if num.Sign() == 0 {
		return a
	}
	num.Quo(num.Abs(num), gcd(a.Num(), b.Num()))
	return new(big.Rat).SetFrac(num, gcd(a.Denom(), b.Denom()))
}

// aligned is the multiple of step next to r, above or below.
func aligned(r, step *big.Rat, up bool) *big.Rat {
	q := new(big.Rat).Quo(r, step)
	n, rest := new(big.Int).QuoRem(q.Num(), q.Denom(), new(big.Int))
	if rest.Sign() > 0 && up {
		n.Add(n, big.NewInt(1))
	} else if rest.Sign() < 0 && !up {
		n.Sub(n, big.NewInt(1))
	}
	return new(big.Rat).Mul(new(big.Rat).SetInt(n), step)
}
