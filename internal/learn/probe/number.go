package probe

import (
	"encoding/json"
	"math/big"

	"obiter/internal/core/instance"
)

// numeric probes how large and how small a number may be, and its steps.
func (p *prober) numeric(at string, v json.Number) {
	r, ok := instance.Rat(v)
	if !ok {
		return
	}
	step := big.NewRat(1, 1)
	if !r.IsInt() {
		step = big.NewRat(1, 100)
	}
	try := func(x *big.Rat) result { return p.try(at, instance.Number(x)) }
	for _, by := range []string{"0.001", "0.01", "0.05", "0.1", "0.25", "0.5", "1", "2", "3", "4", "5", "6", "8", "10", "12", "15", "20", "25", "50", "100"} {
		d, _ := new(big.Rat).SetString(by)
		if r.IsInt() && d.Cmp(big.NewRat(1, 2)) < 0 && by != "0.01" && by != "0.001" {
			continue
		}
		if try(new(big.Rat).Add(r, d)) == taken || by == "100" {
			switch hundredth := big.NewRat(1, 100); {
			case d.Cmp(hundredth) <= 0:
				step = hundredth
			case d.Cmp(step) > 0 || !r.IsInt() || d.Cmp(big.NewRat(1, 1)) < 0:
				step = d
			}
			break
		}
	}
	far := []string{"100", "10000", "1000000", "2147483648", "10000000000", "9223372036854775808", "1000000000000000000000"}
	high := p.limit(r, step, far, false, try)
	low := p.limit(r, step, append([]string{"0", "1"}, far...), true, try)
	p.limits = append(p.limits, limited{at, step, low, high})
}

// maxPairs bounds the numbers that are held against one another.
const maxPairs = 8

// depend looks whether the limits of numbers depend on other numbers: with those at their
// own limits, what was refused may be accepted.
func (p *prober) depend() {
	whole := p.base
	list := p.limits[:min(len(p.limits), maxPairs)]
	for _, x := range list {
		v, _ := instance.Get(whole, x.at)
		from, ok := instance.Rat(v.(json.Number))
		if !ok {
			continue
		}
		for _, other := range list {
			for _, end := range []*big.Rat{other.low, other.high} {
				if end == nil || other.at == x.at {
					continue
				}
				around, ok := instance.Set(whole, other.at, instance.Number(end))
				if !ok || p.ask(around, other.at) != taken {
					continue
				}
				p.base, p.asked = around, 0
				try := func(n *big.Rat) result { return p.try(x.at, instance.Number(n)) }
				for _, down := range []bool{false, true} {
					limit, step := x.high, x.step
					if down {
						limit, step = x.low, new(big.Rat).Neg(x.step)
					}
					if limit == nil || try(new(big.Rat).Add(limit, step)) != taken {
						continue
					}
					p.sink.Remark(x.at, "its limits depend on "+other.at)
					far := []string{"100", "10000", "1000000", "2147483648"}
					p.limit(from, x.step, append([]string{"0", "1"}, far...), down, try)
				}
			}
		}
	}
	p.base = whole
}

// limit finds the largest or the smallest number that is accepted, in steps; nil where
// none is refused.
func (p *prober) limit(from, step *big.Rat, far []string, down bool, try func(*big.Rat) result) *big.Rat {
	good, bad := new(big.Rat).Set(from), (*big.Rat)(nil)
	for _, text := range far {
		x, _ := new(big.Rat).SetString(text)
		if down && text != "0" {
			x.Neg(x)
		}
		// On the grid of steps that the value itself is on.
		k := new(big.Rat).Quo(new(big.Rat).Sub(x, from), step)
		n := new(big.Int).Quo(k.Num(), k.Denom())
		x = new(big.Rat).Add(from, new(big.Rat).Mul(new(big.Rat).SetInt(n), step))
		if down && x.Cmp(good) >= 0 || !down && x.Cmp(good) <= 0 {
			continue
		}
		switch try(x) {
		case taken:
			good = x
		case refused:
			bad = x
		default:
			return nil
		}
		if bad != nil {
			break
		}
	}
	for bad != nil {
		distance := new(big.Rat).Quo(new(big.Rat).Sub(bad, good), step)
		distance.Abs(distance)
		if distance.Cmp(big.NewRat(1, 1)) <= 0 {
			return good
		}
		half := new(big.Int).Quo(distance.Num(), new(big.Int).Mul(distance.Denom(), big.NewInt(2)))
		if half.Sign() == 0 {
			half = big.NewInt(1)
		}
		d := new(big.Rat).Mul(new(big.Rat).SetInt(half), step)
		if down {
			d.Neg(d)
		}
		middle := new(big.Rat).Add(good, d)
		switch try(middle) {
		case taken:
			good = middle
		case refused:
			bad = middle
		default:
			return nil
		}
	}
	return nil
}
