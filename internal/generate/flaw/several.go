package flaw

import (
	"maps"
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/input/schema"
)

// combination is the flaw of a field that goes into the payload where all
// fields are wrong.
type combination struct {
	flaw  exchange.Flaw
	value any
	gone  bool // the field is left out
	at    anchor
}

// whole is the anchor at the top.
func (p *Planter) whole() anchor { return anchor{"", []schema.Schema{p.root}, p.baseline} }

// remember keeps the flaw of each field that fits best with others: limits
// before decoder matters, and never a wrong type, which would hide the rest.
func (p *Planter) remember(f exchange.Flaw, body any, at anchor) {
	if f.Rule == "type" && f.Pointer != "" && p.typed[f.Pointer].value == nil {
		if value, there := instance.Get(body, f.Pointer); there && value != nil {
			p.typed[f.Pointer] = combination{flaw: f, value: value}
		}
	}
	if f.Rule == "type" || f.Rule == "additionalProperties" || f.Pointer == "" {
		return
	}
	if (f.Rule == "const" || f.Rule == "enum" || f.Rule == "required") && slices.Contains(p.branched, instance.Parent(f.Pointer)) {
		return // it may be what selects the branch, and which rules hold is open then
	}
	value, there := instance.Get(body, f.Pointer)
	switch value.(type) {
	case map[string]any, []any:
		return // its own fields are to be wrong, not the container
	}
	if was, ok := instance.Get(p.control, f.Pointer); ok && !there {
		switch was.(type) {
		case map[string]any, []any:
			return
		}
	}
	have, ok := p.best[f.Pointer]
	if !ok {
		p.fields = append(p.fields, f.Pointer)
	}
	if !ok || rank(f) > rank(have.flaw) {
		p.best[f.Pointer] = combination{f, value, !there, at}
	}
}

func rank(f exchange.Flaw) int {
	if f.Rule == "required" {
		return 0 // only where the field has no other rule
	}
	return 1 + int(rule.StageOf(f))
}

// maxPairs bounds the pairs of fields that deep runs combine.
const maxPairs = 200

// allAtOnce makes every field wrong in one payload, then those of each object
// by itself, and in deep runs each pair of fields.
func (p *Planter) allAtOnce() {
	if p.stopped || p.enough() {
		return
	}
	all := p.combine(p.fields)
	levels := map[string][]string{}
	var order []string
	for _, f := range p.fields {
		parent := instance.Parent(f)
		if levels[parent] == nil {
			order = append(order, parent)
		}
		levels[parent] = append(levels[parent], f)
	}
	for _, parent := range order {
		if len(levels[parent]) < all {
			p.combine(levels[parent])
		}
	}
	if p.depth < Deep {
		return
	}
	p.twoStages()
	pairs := 0
	for i, f := range p.fields {
		for _, g := range p.fields[i+1:] {
			if pairs++; pairs > maxPairs {
				return
			}
			p.combine([]string{f, g})
		}
	}
}

// twoStages makes one field of a type that a decoder cannot read and another one break a
// limit, once for each object: which of them the service speaks of shows in which order it
// looks.
func (p *Planter) twoStages() {
	done := map[string]bool{}
	for _, field := range p.fields {
		parent := instance.Parent(field)
		late := p.best[field]
		if done[parent] || late.gone || rule.StageOf(late.flaw) != rule.Limits {
			continue
		}
		for _, other := range slices.Sorted(maps.Keys(p.typed)) {
			early := p.typed[other]
			if other == field || instance.Parent(other) != parent {
				continue
			}
			first, ok := instance.Set(p.control, other, early.value)
			body, set := instance.Set(first, field, late.value)
			flaws := []exchange.Flaw{early.flaw, late.flaw}
			if ok && set && p.proveAt(flaws, body, p.whole()) == "" {
				p.give(Planted{Flaws: flaws, Value: body})
				done[parent] = true
				break
			}
		}
	}
}

// combine gives out the payload in which the given fields are wrong, those that
// go together, and tells how many they are.
func (p *Planter) combine(fields []string) int {
	if p.stopped {
		return 0
	}
	body, flaws := p.join(fields, nil)
	if whole := p.whole(); len(flaws) > 1 && p.proveAt(flaws, body, whole) != "" {
		// Together they may bring in a branch that each by itself leaves out.
		body, flaws = p.join(fields, &whole)
	}
	if len(flaws) > 1 {
		p.give(Planted{Flaws: flaws, Value: body})
	}
	return len(flaws)
}

// join makes fields wrong one after another, each where that can be proved: from
// the field's own anchor, or from the one given.
func (p *Planter) join(fields []string, from *anchor) (body any, flaws []exchange.Flaw) {
	body = p.control
	for _, field := range fields {
		c := p.best[field]
		var next any
		var ok bool
		if c.gone {
			next, ok = instance.Remove(body, field)
		} else {
			next, ok = instance.Set(body, field, c.value)
		}
		if !ok {
			continue
		}
		at := c.at
		if from != nil {
			at = *from
		}
		with := append(append([]exchange.Flaw(nil), flaws...), c.flaw)
		inside := slices.DeleteFunc(slices.Clone(with), func(f exchange.Flaw) bool { return !instance.Within(f.Pointer, at.pointer) })
		if p.proveAt(inside, next, at) == "" {
			body, flaws = next, with
		}
	}
	return body, flaws
}

func (p *Planter) proveAt(flaws []exchange.Flaw, body any, at anchor) string {
	seen, ok := p.seen(body)
	if !ok {
		return Unsendable
	}
	return p.prove(flaws, seen, at)
}
