package plan

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"obiter/internal/business"
	"obiter/internal/config"
	"obiter/internal/exchange"
	"obiter/internal/flaw"
	"obiter/internal/instance"
	"obiter/internal/rule"
	"obiter/internal/sample"
	"obiter/internal/schema"
)

// bound is what no schema says of an operation, ready to be used.
type bound struct {
	space *business.Space
	holds []*business.Rule
	from  map[*business.Rule]config.Rule
	rest  []config.Rule // all others
	fixed []business.Field
}

// Reasons for dropping a case that business rules forbid.
const (
	BreaksRule  = "a rule of the configuration is broken as well"
	OnceTrimmed = "the text is right once it is trimmed"
)

// bind checks the operation's rules and makes its controls keep them. Errors
// name the rule and its place.
func (p *Plan) bind(op *Operation) error {
	rules, err := p.rulesOf(op)
	if err != nil || len(rules) == 0 {
		return err
	}
	b := &bound{from: map[*business.Rule]config.Rule{}}
	var parts []business.Part
	for _, part := range op.Parts {
		parts = append(parts, business.Part{In: part.In, Schema: part.Schema, Control: part.Controls[0].Value, Sendable: part.seen})
	}
	if b.space, err = business.New(parts, p.maker, p.opt.Now); err != nil {
		return err
	}
	for _, r := range rules {
		if r.Holds == "" {
			b.rest = append(b.rest, r)
			continue
		}
		compiled, err := b.space.Compile(r.Holds, r.Blames)
		var wrong *business.ExpressionError
		if errors.As(err, &wrong) {
			return r.Fail("holds", "it speaks of body, query, path, header and now", "the rule %q does not fit the description, at its character %d: %s", r.Holds, wrong.Column, wrong.Problem)
		} else if err != nil {
			return err
		}
		b.holds, b.from[compiled] = append(b.holds, compiled), r
	}
	instance.Walk(p.opt.Bodies[op.Name()], func(at string, v any) bool {
		if at != "" && instance.Type(v) != "object" {
			b.fixed = append(b.fixed, business.Field{In: "body", Pointer: at})
		}
		return true
	})
	op.bound = b
	return p.keepRules(op)
}

// rulesOf are the rules of the configuration, then those of the description.
func (p *Plan) rulesOf(op *Operation) ([]config.Rule, error) {
	rules := slices.Clone(p.opt.Rules[op.Name()])
	for _, at := range op.Operation.Rules {
		v, _ := p.doc.At(at)
		more, err := config.ReadRules(p.doc.Tree(at), at.Pointer, v)
		if err != nil {
			return nil, err
		}
		rules = append(rules, more...)
	}
	return rules, nil
}

// keepRules puts the controls right that break a rule. Of the fullest one that
// has to be possible.
func (p *Plan) keepRules(op *Operation) error {
	b := op.bound
	if len(b.holds) == 0 {
		return nil
	}
	var shapes []string
	for _, part := range op.Parts {
		for _, c := range part.Controls {
			if !slices.Contains(shapes, c.Shape) {
				shapes = append(shapes, c.Shape)
			}
		}
	}
	for _, shape := range shapes {
		values, ok := b.space.Mend(b.holds, op.values(shape), b.fixed...)
		if !ok && shape == fullest {
			return b.impossible(op.values(shape))
		}
		for _, part := range op.Parts {
			i := slices.IndexFunc(part.Controls, func(c sample.Control) bool { return c.Shape == shape })
			switch {
			case i < 0:
			case ok:
				part.Controls[i].Value, part.known = values[part.In], nil
			case i > 0:
				part.Controls = slices.Delete(part.Controls, i, i+1)
			}
		}
	}
	return nil
}

// impossible tells which rule no valid request was found for, alone or beside
// the others.
func (b *bound) impossible(values map[string]any) error {
	for i, r := range b.holds {
		from := b.from[r]
		if _, ok := b.space.Mend([]*business.Rule{r}, values, b.fixed...); !ok {
			return from.Fail("holds", "correct the rule, or give a body: that keeps it", "no valid request was found for which %q holds", r.Text)
		}
		if _, ok := b.space.Mend(b.holds[:i+1], values, b.fixed...); !ok {
			return from.Fail("holds", "one of them has to give way", "no valid request was found for which %q holds beside the rules before it", r.Text)
		}
	}
	return errors.New("its rules cannot all hold")
}

// check finds rules that can never be broken, and patches that change nothing.
// Errors name the rule and its place.
func (p *Plan) check(op *Operation) error {
	if op.bound == nil {
		return nil
	}
	b := op.bound
	values := op.values(fullest)
	for _, r := range b.holds {
		if found, tried := b.space.Break(r, b.holds, values); len(found) == 0 {
			return b.from[r].Fail("holds", "write the rule so that a valid request can break it, or leave it out", "no request was found that breaks %q and nothing else: %s", r.Text, tried)
		}
	}
	for _, r := range b.rest {
		for member, at := range map[string]string{"exists": r.Exists, "unique": r.Unique, "not_blank": r.NotBlank, "trimmed": r.Trimmed} {
			if _, there := instance.Get(values["body"], at); at != "" && !there {
				return r.Fail(member, "obiter survey --fields lists them", "the body of %s has no field %q", op.Name(), at)
			}
		}
		if r.Flaw != "" && instance.Equal(values["body"], instance.Merge(values["body"], r.Patch)) {
			return r.Fail("patch", "write what makes the request wrong", "the patch of %q leaves the request as it is", r.Flaw)
		}
	}
	return nil
}

// alsoBroken are the fields of rules that values break, beyond those of the flaws,
// where the control keeps them.
func (b *bound) alsoBroken(values map[string]any, flaws []exchange.Flaw) []string {
	var out []string
	for _, r := range b.holds {
		if b.space.Judge(r, values) == business.Holds {
			continue
		}
		for _, at := range b.space.Speaks(r, values) {
			if !slices.Contains(out, at) && !slices.ContainsFunc(flaws, func(f exchange.Flaw) bool { return f.Pointer == at }) {
				out = append(out, at)
			}
		}
	}
	return out
}

// admit looks at a planted case: an edge is put right where it breaks a rule, a
// flaw that is none for a service that trims is left out. The reason says why
// a case has to be dropped.
func (e *emitter) admit(part *Part, p flaw.Planted) (value any, mayBlame []string, why string) {
	b := e.op.bound
	if b == nil {
		return p.Value, nil, ""
	}
	values := e.op.values(fullest)
	values[part.In] = p.Value
	if p.Edge == nil {
		for _, f := range p.Flaws {
			if part.In == "body" && b.trims(f.Pointer) && trimmedRight(part, p.Value, f.Pointer) {
				return nil, nil, OnceTrimmed
			}
		}
		return p.Value, b.alsoBroken(values, p.Flaws), ""
	}
	fixed := append(slices.Clone(b.fixed), business.Field{In: part.In, Pointer: p.Edge.Pointer})
	kept, ok := b.space.Mend(b.holds, values, fixed...)
	if !ok {
		return nil, nil, BreaksRule
	}
	for _, other := range e.op.Parts {
		if other != part && !instance.Equal(kept[other.In], values[other.In]) {
			return nil, nil, BreaksRule // the edge would have to change another place
		}
	}
	return kept[part.In], nil, ""
}

func (b *bound) trims(pointer string) bool {
	return slices.ContainsFunc(b.rest, func(r config.Rule) bool { return r.Trimmed == pointer })
}

// trimmedRight tells whether a value is valid once the text at a place has lost
// its outer blanks.
func trimmedRight(part *Part, v any, at string) bool {
	now, _ := instance.Get(v, at)
	text, ok := now.(string)
	if !ok || strings.TrimSpace(text) == text {
		return false
	}
	trimmed, _ := instance.Set(v, at, strings.TrimSpace(text))
	return part.Schema.Valid(trimmed)
}

// operators are words for what a name has no letters for.
var operators = strings.NewReplacer(">=", " at least ", "<=", " at most ", "==", " is ", "!=", " is not ", ">", " above ", "<", " below ", "!", " not ", "&&", " and ", "||", " or ",
	"+", " plus ", "-", " minus ", "*", " times ", "/", " by ", "%", " modulo ")

// holds gives out the requests that break an expression and nothing else, and
// those that just keep it.
func (e *emitter) holds() {
	b := e.op.bound
	values := e.op.values(fullest)
	taken := map[string]int{}
	for _, r := range b.holds {
		from := b.from[r]
		name := slug(operators.Replace(r.Text))
		if taken[name]++; taken[name] > 1 { // texts that differ in nothing that a name can show
			name = fmt.Sprintf("%s-%d", name, taken[name])
		}
		found, tried := b.space.Break(r, b.holds, values)
		if len(found) == 0 {
			e.drop(exchange.Flaw{In: "body", Rule: "holds", Variant: name, Reason: r.Text}, tried)
		}
		for i, f := range found {
			if i > 0 && !e.at(flaw.Deep) {
				break // one is enough; the others change fields that are not blamed
			}
			variant := name
			if i > 0 {
				variant += "-by-" + slug(f.Changed[0].Pointer)
			}
			in := f.Changed[0].In
			fl := exchange.Flaw{In: in, Rule: "holds", Variant: variant, Reason: r.Text + " does not hold"}
			e.businessCase(from, fl, r.Blamed(f.Changed), f.Values)
		}
		for i, f := range b.space.Keep(r, b.holds, values) {
			if e.op.plan.opt.Depth == flaw.Quick && i > 0 {
				break
			}
			c := f.Changed[0]
			edge := exchange.Flaw{In: c.In, Pointer: c.Pointer, Rule: "holds", Variant: name + "-just", Reason: r.Text + " just holds"}
			if i > 0 {
				edge.Variant += "-by-" + slug(c.Pointer)
			}
			e.give(exchange.Case{Name: "edge, " + shownField(edge) + " holds", Kind: exchange.Edge, Request: e.op.compose(f.Values), Edge: &edge, Body: f.Values[c.In],
				Control: values[c.In], Base: fullest, Expect: exchange.Expect{Class: exchange.Accepted}, SecretFields: e.secretFields()}, []exchange.Flaw{edge})
		}
	}
}

// secretFields are those of the fullest body.
func (e *emitter) secretFields() []string {
	for _, part := range e.op.Parts {
		if part.In == "body" {
			return part.secretFields(part.Controls[0])
		}
	}
	return nil
}

// businessCase gives out a request that breaks a rule at the fields blamed.
func (e *emitter) businessCase(r config.Rule, f exchange.Flaw, blames []string, values map[string]any) {
	flaws := []exchange.Flaw{f}
	if len(blames) > 0 {
		flaws = nil
		for _, at := range blames {
			f.Pointer = at
			flaws = append(flaws, f)
		}
	}
	name := f.Rule + " " + f.Variant
	if len(flaws) == 1 {
		name = nameOf(flaws)
	}
	c := exchange.Case{Name: name, Kind: exchange.Flawed, Request: e.op.compose(values), Flaws: flaws, Body: values[f.In], Control: e.op.values(fullest)[f.In], Base: fullest,
		Expect: exchange.Expect{Class: rule.ClassOf(flaws)}, SecretFields: e.secretFields()}
	if f.Rule == "holds" {
		c.Name = strings.TrimSpace(shownField(flaws[0]) + " holds")
	}
	if b := e.op.bound; b != nil && f.Rule != "holds" {
		c.MayBlame = b.alsoBroken(values, flaws)
	}
	if r.Status != 0 {
		c.Expect.Statuses = []int{r.Status}
	}
	if r.Says != nil {
		c.Expect.Says = r.Says.String()
	}
	e.give(c, flaws)
}

// trimmed gives out a text that is long enough only by its blanks, and one that
// is right once it is trimmed.
func (e *emitter) trimmed(part *Part, control any, r config.Rule) {
	at := r.Trimmed
	now, _ := instance.Get(control, at)
	text, ok := now.(string)
	values := e.op.values(fullest)
	f := exchange.Flaw{In: "body", Pointer: at, Rule: "trimmed", Variant: "blanks-count", Reason: "the text is long enough only by its blanks"}
	if !ok {
		e.drop(f, "no text stands there")
		return
	}
	text = strings.TrimSpace(text)
	least := max(shortestAt(part, control, at), 1)
	runes := []rune(text)
	short := string(runes[:min(least-1, len(runes))])
	padded := short + strings.Repeat(" ", max(least-utf8.RuneCountInString(short), 1))
	if body, ok := instance.Set(control, at, padded); ok && part.Schema.Valid(body) {
		values["body"] = body
		e.businessCase(r, f, []string{at}, values)
	} else {
		e.drop(f, "a schema forbids the blanks")
	}
	edge := exchange.Flaw{In: "body", Pointer: at, Rule: "trimmed", Variant: "padded", Reason: "the text is right once it is trimmed"}
	if body, ok := instance.Set(control, at, " "+text+" "); ok && part.Schema.Valid(body) {
		values["body"] = body
		e.give(exchange.Case{Name: "edge, " + at + " trimmed padded", Kind: exchange.Edge, Request: e.op.compose(values), Edge: &edge, Body: body, Control: control, Base: fullest,
			Expect: exchange.Expect{Class: exchange.Accepted}, SecretFields: e.secretFields()}, []exchange.Flaw{edge})
	}
}

// shortestAt is the least length of the text at a place.
func shortestAt(part *Part, control any, at string) int {
	for _, f := range flaw.Fields(part.Schema, control) {
		if f.Pointer == at && f.Shape.MinLength != nil {
			return *f.Shape.MinLength
		}
	}
	return 0
}

// refresh gives the fields that must be unique new values, in bodies that are
// sent as planned. Where such a field is itself flawed it stays; where it is an
// edge it keeps its length. False where that cannot be had.
func (e *emitter) refresh(c *exchange.Case) bool {
	b := e.op.bound
	i := len(e.op.Parts) - 1
	if b == nil || i < 0 || e.op.Parts[i].In != "body" || e.op.Parts[i].form != "" {
		return true
	}
	part := e.op.Parts[i]
	about := c.Kind == exchange.Control || c.Edge != nil && c.Edge.In == "body" || len(c.Flaws) > 0 && c.Flaws[0].In == "body"
	body := part.Controls[0].Value
	if about {
		body = c.Body
	}
	if !bytes.Equal(instance.Encode(body), c.Request.Body) {
		return true
	}
	for _, r := range b.rest {
		now, there := instance.Get(body, r.Unique)
		if r.Unique == "" || !there || len(c.Flaws) > 0 && touches(c, r.Unique) {
			continue
		}
		same := touches(c, r.Unique)
		list, _, _ := schema.At([]schema.Schema{part.Schema}, body, r.Unique)
		fresh, ok := e.op.plan.maker.Fresh(list, now, same, e.op.plan.opt.Salt, ordinal(c.ID))
		if !ok && same {
			return false
		}
		body, _ = instance.Set(body, r.Unique, fresh)
	}
	c.Request.Body = instance.Encode(body)
	if about {
		c.Body = body
	}
	if c.Kind == exchange.Control && c.Base == fullest {
		e.stored = body
	}
	return true
}

// ordinal is a case's id as a number.
func ordinal(id string) uint64 {
	n, _ := strconv.ParseUint(id, 16, 64)
	return n
}

// touches tells whether a case is about a field, or something in or around it.
func touches(c *exchange.Case, at string) bool {
	near := func(f exchange.Flaw) bool {
		return f.In == "body" && (instance.Within(f.Pointer, at) || f.Pointer != "" && instance.Within(at, f.Pointer))
	}
	return c.Edge != nil && near(*c.Edge) || slices.ContainsFunc(c.Flaws, near)
}
