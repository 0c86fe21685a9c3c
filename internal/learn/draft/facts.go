package draft

import (
	"fmt"
	"maps"
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
	types    []string
	required bool
	rules    map[string]any  // by keyword, those of keywords
	sure     map[string]bool // by keyword
	notes    []string
}

// keywords are those of rules beside type and required, in the order in which they are written.
var keywords = []string{
	"format",               // string
	"pattern",              // string
	"enum",                 // []string
	"const",                // bool: the only one of true and false that is taken
	"minLength",            // int, as all sizes
	"maxLength",            //
	"minItems",             //
	"maxItems",             //
	"uniqueItems",          // true
	"minimum",              // bound
	"maximum",              //
	"multipleOf",           // *big.Rat
	"additionalProperties", // false: unknown members are refused
}

// bound is a limit of a number.
type bound struct {
	value     *big.Rat
	exclusive bool
}

// is sets a rule that is sure.
func (f *facts) is(keyword string, v any) { f.rules[keyword], f.sure[keyword] = v, true }

// has reports whether there is a rule of any of the keywords.
func (f facts) has(keywords ...string) bool {
	return slices.ContainsFunc(keywords, func(k string) bool { return f.rules[k] != nil })
}

// without is the same without some rules.
func (f facts) without(keywords ...string) facts {
	f.rules = maps.Clone(f.rules)
	for _, k := range keywords {
		delete(f.rules, k)
	}
	return f
}

// kindOnly are the types and, where that is known, the format: what is said of answers.
func (f facts) kindOnly() facts {
	out := facts{types: f.types, rules: map[string]any{}}
	if f.has("format") {
		out.rules["format"] = f.rules["format"]
	}
	return out
}

// How many accepted values it takes to take few different ones for a list.
const (
	manySeen  = 20
	mostInAll = 10
)

// facts looks what is known of a field.
func (n *node) facts() facts {
	f := facts{rules: map[string]any{}, sure: map[string]bool{}}
	f.types, f.sure["type"] = n.kinds()
	has := func(kind string) bool { return slices.Contains(f.types, kind) }
	f.required = n.seen == n.holders && (n.holders > 0 || n.refused.absent > 0)
	f.sure["required"] = n.seen == n.holders && n.refused.absent > 0
	if has("string") {
		n.ofTexts(&f)
	}
	if has("number") || has("integer") {
		n.ofNumbers(&f)
	}
	if has("array") {
		f.between("minItems", "maxItems", n.sizes, n.refused.sizes)
		if n.refused.twice > 0 && !n.twice {
			f.is("uniqueItems", true)
		}
	}
	if has("boolean") && len(n.refused.bools) == 1 {
		f.is("const", n.refused.bools[false])
	}
	if has("object") && n.refused.extra > 0 {
		f.is("additionalProperties", false)
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

// between sets the sizes between what was accepted and what was refused next to it.
func (f *facts) between(least, most string, accepted span, refused []int) {
	if accepted.any && accepted.min > 0 && slices.Contains(refused, accepted.min-1) {
		f.is(least, accepted.min)
	}
	if accepted.any && slices.Contains(refused, accepted.max+1) {
		f.is(most, accepted.max)
	}
}

// word is a text that may stand in a list of words.
var word = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[A-Za-z][A-Za-z _-]{0,40}$`)
})

func (n *node) ofTexts(f *facts) {
	for _, known := range formats {
		if n.formats[known.name] && n.types["string"] > 0 {
			f.rules["format"] = known.name
			f.sure["format"] = slices.ContainsFunc(n.refused.texts, func(t string) bool { return !known.is(t) })
			return
		}
	}
	distinct := instance.Names(anyOf(n.texts))
	words := !slices.ContainsFunc(distinct, func(t string) bool { return !word().MatchString(t) })
	otherRefused := slices.ContainsFunc(n.refused.texts, func(t string) bool { return n.texts[t] == 0 && strings.TrimSpace(t) != "" })
	if words && n.seen >= manySeen && len(distinct) >= 2 && len(distinct) <= mostInAll && len(distinct)*4 <= n.seen && (otherRefused || len(distinct)*10 <= n.seen) {
		f.rules["enum"], f.sure["enum"] = distinct, otherRefused
		return
	}
	f.between("minLength", "maxLength", n.lengths, n.refused.lengths)
	pattern, restricted := n.patternOf(f.has("minLength") && f.has("maxLength")) // of one text alone nobody knows how long others are
	if !restricted {
		return
	}
	if !strings.HasSuffix(pattern, "]+$") { // the shape says how long it is; without one, who knows
		*f = f.without("minLength", "maxLength")
	}
	if pattern == "" {
		f.notes = append(f.notes, "other texts were refused as well")
		return
	}
	f.is("pattern", pattern)
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
	whole := !slices.Contains(f.types, "number")
	step := big.NewRat(1, 100)
	if whole {
		step = big.NewRat(1, 1)
	}
	if of := n.step(whole); of != nil {
		f.is("multipleOf", of)
		if of.Cmp(step) > 0 {
			step = of
		}
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
	if below != nil && near(below, n.low) {
		f.is("minimum", between(n.low, below, whole))
	}
	if above != nil && near(above, n.high) {
		f.is("maximum", between(n.high, above, whole))
	}
}

// between is the limit between an accepted and a refused number: the rounder of them,
// but that of whole numbers is one of theirs.
func between(accepted, refused *big.Rat, whole bool) bound {
	if !whole && digits(refused) < digits(accepted) {
		return bound{refused, true}
	}
	return bound{accepted, false}
}

func digits(r *big.Rat) int { return len(strings.Trim(string(instance.Number(r)), "0.-")) }

// step is one that all accepted numbers keep to, and a refused one between them does not;
// nil where there is none.
func (n *node) step(whole bool) *big.Rat {
	multiple := func(r, of *big.Rat) bool { return new(big.Rat).Quo(r, of).IsInt() }
	for _, text := range []string{"100", "50", "25", "20", "10", "5", "4", "2", "1", "0.5", "0.25", "0.2", "0.1", "0.05", "0.01", "0.001"} {
		of, _ := new(big.Rat).SetString(text)
		if text == "1" && whole {
			continue
		}
		if len(n.numbers) < 2 || slices.ContainsFunc(n.numbers, func(r *big.Rat) bool { return !multiple(r, of) }) {
			continue
		}
		if slices.ContainsFunc(n.refused.numbers, func(r *big.Rat) bool {
			return r.Cmp(n.low) >= 0 && r.Cmp(n.high) <= 0 && !multiple(r, of)
		}) {
			return of
		}
	}
	return nil
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
	ofTexts := []string{"minLength", "maxLength", "pattern"}
	for _, k := range keywords {
		if f.has(k) || !other.has(k) || !other.sure[k] || f.has("enum") && slices.Contains(ofTexts, k) {
			continue
		}
		if k == "enum" { // it says how long they are
			f = f.without(ofTexts[:2]...)
		}
		f.rules[k] = other.rules[k]
		note(k)
	}
	return f
}
