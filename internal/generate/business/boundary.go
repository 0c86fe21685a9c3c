package business

import (
	"encoding/json"
	"math/big"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"obiter/internal/core/instance"
	"obiter/internal/generate/sample"
	"obiter/internal/input/schema"
)

// dimension is an order of the values that a field can have, by whole numbers:
// steps of a number, seconds or days of a time, characters of a text, elements
// of a list.
type dimension struct {
	step  *big.Rat
	now   *big.Int
	ends  []*big.Int // far away on either side
	value func(k *big.Int) (any, bool)
}

func (d dimension) index(r *big.Rat) *big.Int {
	q := new(big.Rat).Quo(r, d.step)
	return new(big.Int).Div(q.Num(), q.Denom())
}

func (d dimension) number(k *big.Int) json.Number {
	return instance.Number(new(big.Rat).Mul(new(big.Rat).SetInt(k), d.step))
}

func stepOf(sh *schema.Shape) *big.Rat {
	step := sample.Step(sh)
	if step.Sign() <= 0 {
		return big.NewRat(1, 1)
	}
	return step
}

// boundaries are the values at which the rule turns when nothing but the field
// changes: of each turn the value on the wanted side.
func (x *search) boundaries(f Field) []any {
	sh, v, there := x.at(f, x.base)
	if sh == nil || !there {
		return nil
	}
	d, ok := x.dimension(sh, v)
	if !ok {
		return nil
	}
	outcome := func(k *big.Int) Outcome {
		x.tried++
		v, ok := d.value(k)
		if !ok {
			return Unknown
		}
		values, ok := set(x.base, f, v)
		if !ok {
			return Unknown
		}
		return x.s.Judge(x.rule, values)
	}
	wanted := func(k *big.Int) bool { return outcome(k) == x.want }
	here := wanted(d.now)
	var out []any
	for _, end := range d.ends {
		if x.tried > maxTried || end.Cmp(d.now) == 0 || wanted(end) == here {
			continue
		}
		near, far := new(big.Int).Set(d.now), new(big.Int).Set(end)
		for {
			between := new(big.Int).Sub(far, near)
			if between.CmpAbs(big.NewInt(1)) <= 0 {
				break
			}
			middle := new(big.Int).Add(near, between.Quo(between, big.NewInt(2)))
			if wanted(middle) == here {
				near = middle
			} else {
				far = middle
			}
		}
		turn := far
		if here {
			turn = near
		}
		if v, ok := d.value(turn); ok && turn.Cmp(d.now) != 0 {
			out = append(out, v)
		}
	}
	return out
}

// far is as many steps as a value without a limit is moved.
var far = big.NewInt(1_000_000_000)

func (x *search) dimension(sh *schema.Shape, v any) (dimension, bool) {
	switch v := v.(type) {
	case json.Number:
		return numberDimension(sh, v)
	case string:
		if t, ok := timeOf(v); ok && isTime(sh) {
			return timeDimension(sh, t), true
		}
		return x.textDimension(sh, v), x.rule.sized
	case []any:
		return x.listDimension(sh, v), len(v) > 0
	}
	return dimension{}, false
}

func numberDimension(sh *schema.Shape, v json.Number) (dimension, bool) {
	r, ok := instance.Rat(v)
	if !ok {
		return dimension{}, false
	}
	d := dimension{step: stepOf(sh)}
	d.now = d.index(r)
	d.value = func(k *big.Int) (any, bool) { return d.number(k), true }
	limit := func(b *schema.Bound, inward int64) *big.Int {
		if b == nil {
			return new(big.Int).Sub(d.now, new(big.Int).Mul(far, big.NewInt(inward)))
		}
		k := d.index(b.Value)
		if exact := new(big.Rat).Mul(new(big.Rat).SetInt(k), d.step); b.Exclusive || exact.Cmp(b.Value) < 0 && inward > 0 {
			k.Add(k, big.NewInt(inward))
		}
		return k
	}
	d.ends = []*big.Int{limit(sh.Minimum, 1), limit(sh.Maximum, -1)}
	return d, true
}

func timeDimension(sh *schema.Shape, t time.Time) dimension {
	unit, form := time.Second, time.RFC3339
	if slices.Contains(sh.Formats, "date") {
		unit, form = 24*time.Hour, time.DateOnly
	}
	index := func(t time.Time) *big.Int { return big.NewInt(t.Unix() / int64(unit/time.Second)) }
	return dimension{
		now:  index(t),
		ends: []*big.Int{index(time.Date(1971, 1, 1, 0, 0, 0, 0, time.UTC)), index(time.Date(2198, 12, 31, 0, 0, 0, 0, time.UTC))},
		value: func(k *big.Int) (any, bool) {
			if !k.IsInt64() {
				return nil, false
			}
			return time.Unix(k.Int64()*int64(unit/time.Second), 0).UTC().Format(form), true
		},
	}
}

// times are those that the rule speaks of, and their neighbours.
func (x *search) times(sh *schema.Shape, now time.Time, values map[string]any) []any {
	near := []time.Time{x.s.early.Add(-24 * time.Hour), x.s.late.Add(24 * time.Hour), now.AddDate(-1, 0, 0), now.AddDate(1, 0, 0)}
	for _, v := range x.referred(values) {
		if s, ok := v.(string); ok {
			if t, ok := timeOf(s); ok {
				near = append([]time.Time{t, t.AddDate(0, 0, 1), t.AddDate(0, 0, -1)}, near...)
			}
		}
	}
	var out []any
	for _, t := range near {
		d := timeDimension(sh, t)
		for _, by := range []int64{0, 1, -1} {
			if v, ok := d.value(new(big.Int).Add(d.now, big.NewInt(by))); ok {
				out = append(out, v)
			}
		}
	}
	return out
}

// Lengths beyond which no list or text is tried, where the schema has no limit.
const (
	maxLonger = 1000
	maxMore   = 20
)

func (x *search) textDimension(sh *schema.Shape, v string) dimension {
	runes := []rune(v)
	n := int64(len(runes))
	least, most := int64(0), n+maxLonger
	if sh.MinLength != nil {
		least = int64(*sh.MinLength)
	}
	if sh.MaxLength != nil {
		most = min(int64(*sh.MaxLength), most)
	}
	return dimension{now: big.NewInt(n), ends: []*big.Int{big.NewInt(least), big.NewInt(most)}, value: func(k *big.Int) (any, bool) {
		length := int(k.Int64())
		if length <= len(runes) {
			return string(runes[:length]), true
		}
		longer := v + strings.Repeat("a", length-len(runes))
		if !sh.Valid(longer) {
			if made, ok := x.s.maker.Exactly(sh, length, "a"); ok {
				longer = made
			}
		}
		return longer, utf8.RuneCountInString(longer) == length
	}}
}

func (x *search) listDimension(sh *schema.Shape, v []any) dimension {
	least, most := 0, len(v)+maxMore
	if sh.MinItems != nil {
		least = *sh.MinItems
	}
	if sh.MaxItems != nil {
		most = min(*sh.MaxItems, most)
	}
	return dimension{now: big.NewInt(int64(len(v))), ends: []*big.Int{big.NewInt(int64(least)), big.NewInt(int64(most))}, value: func(k *big.Int) (any, bool) {
		n := int(k.Int64())
		if n <= len(v) {
			return v[:n:n], true
		}
		return x.s.maker.Elements(sh, v, n)
	}}
}
