package draft

import (
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strings"
	"sync"

	"obiter/internal/core/instance"
)

// facts are the rules of a field, as far as what was seen shows them. What is sure was
// refused on one side and accepted on the other; what is not is a guess.
type facts struct {
	types                []string
	format, pattern      string
	minLength, maxLength *int
	minItems, maxItems   *int
	unique               bool
	minimum, maximum     *bound
	multipleOf           *big.Rat
	enum                 []string
	constant             *bool // the only one of true and false that is taken
	closed               bool  // to unknown members
	required             bool
	sure                 map[string]bool // by keyword
	notes                []string
}

// bound is a limit of a number.
type bound struct {
	value     *big.Rat
	exclusive bool
}

// How many accepted values it takes to take few different ones for a list.
const (
	manySeen  = 20
	mostInAll = 10
)

// facts looks what is known of a field.
func (n *node) facts() facts {
	f := facts{sure: map[string]bool{}}
	f.types, f.sure["type"] = n.kinds()
	has := func(kind string) bool { return slices.Contains(f.types, kind) }
	if n.refused.absent > 0 && n.seen == n.holders {
		f.required, f.sure["required"] = true, true
	} else if n.seen == n.holders && n.holders > 0 {
		f.required = true
	}
	if has("string") {
		n.ofTexts(&f)
	}
	if has("number") || has("integer") {
		n.ofNumbers(&f)
	}
	if has("array") {
		f.minItems, f.maxItems = limits(n.sizes, n.refused.sizes)
		f.sure["minItems"], f.sure["maxItems"] = f.minItems != nil, f.maxItems != nil
		f.unique = n.refused.twice > 0 && !n.twice
		f.sure["uniqueItems"] = f.unique
	}
	if has("boolean") && len(n.refused.bools) == 1 {
		only := n.refused.bools[false]
		f.constant, f.sure["const"] = &only, true
	}
	if has("object") {
		f.closed = n.refused.extra > 0
		f.sure["additionalProperties"] = f.closed
	}
	return f
}

// kinds are the types that most accepted values have; sure where others were refused.
func (n *node) kinds() (out []string, sure bool) {
	total := 0
	for kind, k := range n.types {
		if kind != "null" {
			total += k
		}
	}
	counts := map[string]int{}
	for kind, k := range n.types {
		counts[kind] = k
	}
	if counts["number"] > 0 && counts["integer"] > 0 {
		counts["number"] += counts["integer"]
		delete(counts, "integer")
	}
	for _, kind := range []string{"object", "array", "string", "integer", "number", "boolean"} {
		if counts[kind]*10 >= total && counts[kind] > 0 && (counts[kind]*10 >= total*9 || !n.refused.types[kind]) {
			out = append(out, kind)
		}
	}
	if n.types["null"] > 0 {
		out = append(out, "null")
	}
	return out, len(n.refused.types) > 0
}

// limits are the sizes between what was accepted and what was refused next to it.
func limits(accepted span, refused []int) (least, most *int) {
	if !accepted.any {
		return nil, nil
	}
	if slices.Contains(refused, accepted.max+1) {
		most = &accepted.max
	}
	if accepted.min > 0 && slices.Contains(refused, accepted.min-1) {
		least = &accepted.min
	}
	return least, most
}

// word is a text that may stand in a list of words.
var word = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[A-Za-z][A-Za-z _-]{0,40}$`)
})

func (n *node) ofTexts(f *facts) {
	for _, known := range formats {
		if n.formats[known.name] && n.types["string"] > 0 {
			f.format = known.name
			f.sure["format"] = slices.ContainsFunc(n.refused.texts, func(t string) bool { return !known.is(t) })
			break
		}
	}
	if f.format == "" {
		f.minLength, f.maxLength = limits(n.lengths, n.refused.lengths)
	}
	f.sure["minLength"], f.sure["maxLength"] = f.minLength != nil, f.maxLength != nil
	distinct := instance.Names(anyOf(n.texts))
	words := !slices.ContainsFunc(distinct, func(t string) bool { return !word().MatchString(t) })
	otherRefused := slices.ContainsFunc(n.refused.texts, func(t string) bool { return n.texts[t] == 0 && strings.TrimSpace(t) != "" })
	if words && f.format == "" && n.seen >= manySeen && len(distinct) >= 2 && len(distinct) <= mostInAll && len(distinct)*4 <= n.seen && (otherRefused || len(distinct)*10 <= n.seen) {
		f.enum, f.sure["enum"] = distinct, otherRefused
		f.minLength, f.maxLength = nil, nil
	}
	if f.format != "" || len(f.enum) > 0 {
		return
	}
	pattern, restricted := n.patternOf(*f)
	if !restricted {
		return
	}
	f.pattern, f.sure["pattern"] = pattern, pattern != ""
	if !strings.HasSuffix(pattern, "]+$") { // the shape says how long it is; without one, who knows
		f.minLength, f.maxLength = nil, nil
	}
	if pattern == "" {
		f.notes = append(f.notes, "other texts were refused as well")
	}
}

func anyOf(texts map[string]int) map[string]any {
	out := map[string]any{}
	for t := range texts {
		out[t] = nil
	}
	return out
}

func (n *node) ofNumbers(f *facts) {
	if n.low == nil {
		return
	}
	step := big.NewRat(1, 100)
	if !slices.Contains(f.types, "number") {
		step = big.NewRat(1, 1)
	}
	if n.steps(f); f.multipleOf != nil && f.multipleOf.Cmp(step) > 0 {
		step = f.multipleOf
	}
	var below, above *big.Rat // the refused next to what was accepted
	for _, r := range n.refused.numbers {
		switch {
		case r.Cmp(n.low) < 0 && (below == nil || r.Cmp(below) > 0):
			below = r
		case r.Cmp(n.high) > 0 && (above == nil || r.Cmp(above) < 0):
			above = r
		}
	}
	near := func(a, b *big.Rat) bool {
		d := new(big.Rat).Sub(a, b)
		return d.Abs(d).Cmp(step) <= 0
	}
	whole := !slices.Contains(f.types, "number")
	if below != nil && near(below, n.low) {
		f.minimum = between(n.low, below, whole)
	}
	if above != nil && near(above, n.high) {
		f.maximum = between(n.high, above, whole)
	}
	f.sure["minimum"], f.sure["maximum"] = f.minimum != nil, f.maximum != nil
}

// between is the limit between an accepted and a refused number: the rounder of them,
// but that of whole numbers is one of theirs.
func between(accepted, refused *big.Rat, whole bool) *bound {
	if !whole && digits(refused) < digits(accepted) {
		return &bound{refused, true}
	}
	return &bound{accepted, false}
}

func digits(r *big.Rat) int { return len(strings.Trim(string(instance.Number(r)), "0.-")) }

// steps looks for a step that all accepted numbers keep to, and a refused one between
// them does not.
func (n *node) steps(f *facts) {
	multiple := func(r, of *big.Rat) bool { return new(big.Rat).Quo(r, of).IsInt() }
	for _, text := range []string{"100", "50", "25", "20", "10", "5", "4", "2", "1", "0.5", "0.25", "0.2", "0.1", "0.05", "0.01", "0.001"} {
		of, _ := new(big.Rat).SetString(text)
		if of.Cmp(big.NewRat(1, 1)) == 0 && !slices.Contains(f.types, "number") {
			continue
		}
		if len(n.numbers) < 2 || slices.ContainsFunc(n.numbers, func(r *big.Rat) bool { return !multiple(r, of) }) {
			continue
		}
		if slices.ContainsFunc(n.refused.numbers, func(r *big.Rat) bool {
			return r.Cmp(n.low) >= 0 && r.Cmp(n.high) <= 0 && !multiple(r, of)
		}) {
			f.multipleOf, f.sure["multipleOf"] = of, true
			return
		}
	}
}

// with adds what another operation of the same record is sure of: rules that it enforces
// hold for the record, even if they are forgotten elsewhere.
func (f facts) with(other facts, operation string) facts {
	note := func(keyword string) {
		f.sure[keyword] = true
		f.notes = append(f.notes, fmt.Sprintf("%s: by %s", keyword, operation))
	}
	narrower := slices.Equal(f.types, []string{"number"}) && slices.Equal(other.types, []string{"integer"})
	if other.sure["type"] && (!f.sure["type"] || narrower) && len(other.types) > 0 && !slices.Equal(f.types, other.types) {
		f.types = other.types
		note("type")
	}
	if other.sure["required"] && !f.required {
		f.required = true
		note("required")
	}
	if f.format == "" && other.sure["format"] {
		f.format = other.format
		note("format")
	}
	if f.pattern == "" && other.pattern != "" && len(f.enum) == 0 {
		f.pattern = other.pattern
		note("pattern")
	}
	if f.minLength == nil && other.minLength != nil && len(f.enum) == 0 {
		f.minLength = other.minLength
		note("minLength")
	}
	if f.maxLength == nil && other.maxLength != nil && len(f.enum) == 0 {
		f.maxLength = other.maxLength
		note("maxLength")
	}
	if f.minItems == nil && other.minItems != nil {
		f.minItems = other.minItems
		note("minItems")
	}
	if f.maxItems == nil && other.maxItems != nil {
		f.maxItems = other.maxItems
		note("maxItems")
	}
	if !f.unique && other.unique {
		f.unique = true
		note("uniqueItems")
	}
	if f.minimum == nil && other.minimum != nil {
		f.minimum = other.minimum
		note("minimum")
	}
	if f.maximum == nil && other.maximum != nil {
		f.maximum = other.maximum
		note("maximum")
	}
	if f.multipleOf == nil && other.multipleOf != nil {
		f.multipleOf = other.multipleOf
		note("multipleOf")
	}
	if len(f.enum) == 0 && other.sure["enum"] {
		f.enum, f.minLength, f.maxLength = other.enum, nil, nil
		note("enum")
	}
	if !f.closed && other.closed {
		f.closed = true
		note("additionalProperties")
	}
	return f
}
