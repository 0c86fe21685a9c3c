package plan

import (
	"errors"
	"maps"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/core/suggest"
	"obiter/internal/generate/business"
	"obiter/internal/generate/custom"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/sample"
	"obiter/internal/input/config"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
)

// bound is what no schema says of an operation, ready to be used.
type bound struct {
	space *business.Space
	holds []*business.Rule
	from  map[*business.Rule]config.Rule
	rest  []config.Rule // all others
	fixed []business.Field
}

// BreaksRule is the reason for dropping a case that breaks a rule of the configuration as well.
const BreaksRule = "a rule of the configuration is broken as well"

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
		parts = append(parts, business.Part{In: part.In, Schema: part.Schema, Control: part.Controls[0].Value, Sendable: part.Seen})
	}
	if b.space, err = business.New(parts, p.maker, p.opt.Now); err != nil {
		return err
	}
	var all []error
	for _, r := range rules {
		if r.Holds == "" {
			if at, there := op.fieldOf(r); r.Inferred && !there {
				op.Unfit = append(op.Unfit, at) // an inference costs nothing but itself
				continue
			}
			b.rest = append(b.rest, r)
			continue
		}
		compiled, err := b.space.Compile(r.Holds, r.Blames, r.Kept)
		var wrong *business.ExpressionError
		if errors.As(err, &wrong) {
			all = append(all, placed(r, business.Unfit(r.Holds, wrong)))
			continue
		} else if err != nil {
			return err
		}
		if compiled.Decided() {
			b.holds, b.from[compiled] = append(b.holds, compiled), r
		}
	}
	if err := document.Join(all...); err != nil {
		return err
	}
	instance.Walk(p.opt.Bodies[op.Name()], func(at string, v any) bool {
		if at != "" && instance.Type(v) != "object" {
			b.fixed = append(b.fixed, business.Field{In: "body", Pointer: at})
		}
		return true
	})
	if part := op.part("body"); part != nil {
		b.require(part)
	}
	op.bound = b
	p.keepRules(op)
	return nil
}

// require puts the values that fields have to be into the controls of a body.
func (b *bound) require(part *Part) {
	for _, r := range b.rest {
		if r.Is == nil {
			continue
		}
		for i, c := range part.Controls {
			body, ok := instance.Set(c.Value, r.Blames[0], r.Is)
			if !ok || !part.Schema.Valid(body) {
				continue
			}
			if part.Controls[i].Value, part.listed = body, nil; i == 0 {
				part.Fullest = body
			}
		}
		b.fixed = append(b.fixed, business.Field{In: "body", Pointer: r.Blames[0]})
	}
}

// rulesOf are the rules of the configuration, then those of the description.
func (p *Plan) rulesOf(op *Operation) ([]config.Rule, error) {
	rules := slices.Clone(p.opt.Rules[op.Name()])
	for _, at := range op.Operation.Rules {
		v, _ := p.doc.At(at)
		more, err := config.ReadRules(p.doc.FileOf(at), at.Pointer, v)
		if err != nil {
			return nil, err
		}
		rules = append(rules, more...)
	}
	return rules, nil
}

// keepRules puts the controls right that break a rule. A rule that no valid request
// is found for costs that rule alone.
func (p *Plan) keepRules(op *Operation) {
	b := op.bound
	var full map[string]any
	for {
		var ok bool
		if full, ok = b.space.Mend(b.holds, op.values(fullest), b.fixed...); ok {
			break
		}
		i, e := b.impossible(op.values(fullest))
		p.warn(b.from[b.holds[i]], e)
		b.holds = slices.Delete(b.holds, i, i+1)
	}
	if len(b.holds) == 0 {
		return
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
		values, ok := full, true
		if shape != fullest {
			values, ok = b.space.Mend(b.holds, op.values(shape), b.fixed...)
		}
		for _, part := range op.Parts {
			i := slices.IndexFunc(part.Controls, func(c sample.Control) bool { return c.Shape == shape })
			switch {
			case i < 0:
			case ok:
				part.Controls[i].Value, part.listed, part.varied = values[part.In], nil, nil
				if i == 0 {
					part.Fullest = values[part.In]
				}
			case i > 0:
				part.Controls = slices.Delete(part.Controls, i, i+1)
			}
		}
	}
}

// impossible tells which rule no valid request was found for, alone or together with
// those before it.
func (b *bound) impossible(values map[string]any) (int, *business.RuleError) {
	for i, r := range b.holds {
		if _, ok := b.space.Mend([]*business.Rule{r}, values, b.fixed...); !ok {
			return i, business.Unsatisfiable(r.Text)
		}
		if _, ok := b.space.Mend(b.holds[:i+1], values, b.fixed...); !ok {
			return i, business.Contradictory(r.Text)
		}
	}
	last := len(b.holds) - 1
	return last, business.Contradictory(b.holds[last].Text)
}

// warn tells that a rule is left out, when rules are checked.
func (p *Plan) warn(r config.Rule, e *business.RuleError) {
	if !p.checking {
		return
	}
	var at *document.Error
	if err := placed(r, e); !errors.As(err, &at) {
		at = &document.Error{Problem: err.Error(), Hint: e.Hint}
	}
	at.Problem += "; the rule is left out"
	if !slices.ContainsFunc(p.Warnings, func(o *document.Error) bool { return *o == *at }) {
		p.Warnings = append(p.Warnings, at)
	}
}

// placed is an error of a rule with its place.
func placed(r config.Rule, e *business.RuleError) error {
	return r.Fail(e.Member, e.Hint, "%s", e.Problem)
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
			p.warn(b.from[r], business.Unbreakable(r.Text, tried))
		}
	}
	var all []error
	for _, r := range slices.Concat(slices.Collect(maps.Values(b.from)), b.rest) {
		for _, at := range r.Blames {
			if near, is := op.blamable(at); !is {
				all = append(all, placed(r, business.NoPlace(op.Name(), at, near)))
			}
		}
		if in, name := op.undescribedParameter(r); name != "" {
			all = append(all, placed(r, business.NoParameter(op.Name(), in, name)))
		}
	}
	for _, r := range b.rest {
		k := custom.Of(r)
		if at, there := op.fieldOf(r); at != "" && !there {
			all = append(all, placed(r, business.NoField(k.Member, op.Name(), at)))
		} else if k.Check != nil {
			if e := k.Check(r, values["body"]); e != nil {
				all = append(all, placed(r, e))
			}
		}
	}
	return document.Join(all...)
}

// fieldOf is the pointer of the field that a rule is about, and whether the fullest body has it.
func (op *Operation) fieldOf(r config.Rule) (at string, there bool) {
	at = custom.Of(r).Field(r)
	_, there = instance.Get(op.values(fullest)["body"], at)
	return at, there
}

// undescribedParameter is a parameter of a flaw by hand that the operation does not
// have; "" where it has all.
func (op *Operation) undescribedParameter(r config.Rule) (in, name string) {
	for _, in := range config.Places {
		for _, name := range instance.Names(r.Parameters[in]) {
			part := op.part(in)
			if part == nil || !slices.ContainsFunc(part.Params, func(p oad.Parameter) bool { return p.Name == name }) {
				return in, name
			}
		}
	}
	return "", ""
}

// blamable reports whether a request can have a field: whether a schema says anything
// of it, whatever index a * in its pointer stands for. Where not, near is one like it.
func (op *Operation) blamable(at string) (near string, is bool) {
	at = strings.ReplaceAll(at+"/", "/*/", "/0/")
	at = strings.TrimSuffix(at, "/")
	var names []string
	for _, part := range op.Parts {
		for _, c := range part.Controls {
			list, _, there := schema.At([]schema.Schema{part.Schema}, c.Value, at)
			if there || len(list) > 0 {
				return "", true
			}
			for _, f := range part.fields(c) {
				names = append(names, f.Pointer)
			}
		}
	}
	near, _ = suggest.Name(at, names)
	return near, false
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

// speaksOf reports whether an expression is about a field.
func (b *bound) speaksOf(values map[string]any, pointer string) bool {
	return slices.ContainsFunc(b.holds, func(r *business.Rule) bool { return slices.Contains(b.space.Speaks(r, values), pointer) })
}

// admit looks at a planted case: an edge is fixed where it breaks a rule, a
// flaw that is not one for a service that trims is left out. The reason says why
// a case has to be dropped.
func (e *emitter) admit(part *Part, p flaw.Planted) (value any, mayBlame []string, why string) {
	b := e.op.bound
	if b == nil {
		return p.Value, nil, ""
	}
	values := e.op.values(fullest)
	values[part.In] = p.Value
	for _, r := range b.rest {
		if k := custom.Of(r); p.Edge != nil && k.Edge != nil && part.In == "body" && !k.Edge(r, p) {
			return nil, nil, BreaksRule
		}
	}
	if p.Edge == nil {
		for _, r := range b.rest {
			if k := custom.Of(r); k.Admit != nil && part.In == "body" {
				if why := k.Admit(r, &part.Place, p); why != "" {
					return nil, nil, why
				}
			}
		}
		return p.Value, b.alsoBroken(values, p.Flaws), ""
	}
	if p.Edge.Rule == "format" && b.speaksOf(values, p.Edge.Pointer) {
		return nil, nil, BreaksRule // an expression may read such a form otherwise than the service does
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

// secretFields are those of the fullest body.
func (e *emitter) secretFields() []string {
	for _, part := range e.op.Parts {
		if part.In == "body" {
			return part.secretFields(part.Controls[0])
		}
	}
	return nil
}

// rules gives out the cases of rules that no schema says.
func (e *emitter) rules() {
	if e.op.bound == nil {
		return
	}
	e.holds()
	part := e.op.part("body")
	for _, r := range e.op.bound.rest {
		valid := custom.Request{Method: e.op.Method, Values: e.op.values(fullest), Stored: e.stored}
		if part != nil {
			valid.Body, valid.Values["body"] = &part.Place, part.Controls[0].Value
		} else if r.Flaw == "" {
			continue
		}
		for _, c := range custom.Of(r).Cases(r, valid) {
			e.custom(r, c)
		}
	}
}

// custom gives out a case of a rule.
func (e *emitter) custom(r config.Rule, c custom.Case) {
	switch f := c.Flaw; {
	case c.Values == nil:
		e.drop(f, c.Why)
	case c.Edge:
		e.give(exchange.Case{Name: "edge, " + shownField(f) + " " + f.Rule + " " + f.Variant, Kind: exchange.Edge, Request: e.op.compose(c.Values), Edge: &f, Body: c.Values["body"], Control: e.op.values(fullest)["body"], Base: fullest,
			Expect: exchange.Expect{Class: exchange.Accepted}, SecretFields: e.secretFields()}, []exchange.Flaw{f})
	default:
		e.businessCase(r, f, c.Blames, c.Values)
	}
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

// refresh gives the fields that must be unique new values, in bodies that are
// sent as planned. Where such a field is itself flawed it stays; where it is an
// edge it keeps its length. False if that is impossible.
func (e *emitter) refresh(c *exchange.Case) bool {
	b := e.op.bound
	i := len(e.op.Parts) - 1
	if b == nil || i < 0 || e.op.Parts[i].In != "body" || e.op.Parts[i].Form != "" {
		return true
	}
	part := e.op.Parts[i]
	about := c.Kind == exchange.Control || c.Edge != nil && c.Edge.In == "body" || len(c.Flaws) > 0 && c.Flaws[0].In == "body"
	body := part.Controls[0].Value
	if about {
		body = c.Body
	}
	if !instance.IsEncoded(c.Request.Body, body) {
		return true
	}
	for _, r := range b.rest {
		k := custom.Of(r)
		if k.Refresh == nil {
			continue
		}
		var ok bool
		if body, ok = k.Refresh(custom.Renewal{Maker: e.op.plan.maker, Salt: e.op.plan.opt.Salt, Body: &part.Place}, r, c, body); !ok {
			return false
		}
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

// part is what a request holds in a place; nil where it holds nothing there.
func (op *Operation) part(in string) *Part {
	for _, part := range op.Parts {
		if part.In == in {
			return part
		}
	}
	return nil
}
