package draft

import (
	"fmt"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// Probed takes in what probing an operation shows. What it says is certain: nothing is
// guessed where everything was asked.
type Probed struct {
	operation *operation
	body      *body
	remarks   map[string][]string // by pointer
	doubted   bool
}

// FormatOf is the format that a text has; "" for any text.
func FormatOf(text string) string {
	for _, f := range formats {
		if f.is(text) {
			return f.name
		}
	}
	return ""
}

// Probe begins to take in what an operation accepts and refuses, in place of what was
// known of its body.
func (d *Draft) Probe(method, template, media string) *Probed {
	o := d.operation(method, template)
	o.bodies = map[string]*body{media: {node: newNode()}}
	o.given = nil
	o.needsBody = true
	o.probed = &Probed{operation: o, body: o.bodies[media], remarks: map[string][]string{}}
	return o.probed
}

// Accepted takes in a body that was accepted.
func (p *Probed) Accepted(v any) {
	p.body.accept(v)
	p.operation.accepted++
	p.operation.seen++
}

// Refused takes in a body that was refused for a field.
func (p *Probed) Refused(v any, at string) {
	p.operation.seen++
	n := p.body.node
	found, parent, _ := n.at(at)
	value, there := instance.Get(v, at)
	switch {
	case !there && found != nil:
		found.refused.absent++
	case there && found == nil && parent != nil:
		parent.refused.extra++
	case there && found != nil:
		found.refuse(value)
	}
}

// Form takes in the form of a text.
func (p *Probed) Form(at, pattern string, words []string) {
	if n, _, _ := p.body.node.at(at); n != nil {
		n.form, n.words = pattern, words
	}
}

// Remark takes in what else was seen.
func (p *Probed) Remark(at, text string) {
	at = instance.AnyIndex(at)
	if len(p.remarks[at]) < 6 && !slices.Contains(p.remarks[at], text) {
		p.remarks[at] = append(p.remarks[at], text)
	}
}

// Answered takes in an answer, for the responses of the draft.
func (p *Probed) Answered(a exchange.Answer) { p.operation.answer(a) }

// Doubted says that what was refused may mean nothing: of the fields only types and
// samples are drafted, as guesses.
func (p *Probed) Doubted() { p.doubted = true }

// Line is what was found out of one field, in words.
type Line struct {
	Field string // a pointer; empty: the body
	Says  string
}

// each visits the fields that were probed, in their order, with * for the elements of
// lists.
func (p *Probed) each(visit func(at string, n *node)) {
	var walk func(at string, n *node)
	walk = func(at string, n *node) {
		visit(at, n)
		for _, name := range n.order {
			if m := n.members[name]; m.seen > 0 {
				walk(instance.Join(at, name), m)
			}
		}
		if n.item != nil && n.item.seen > 0 {
			walk(at+"/*", n.item)
		}
	}
	walk("", p.body.node)
}

// Lines are what was found out of an operation's fields, in their order.
func (p *Probed) Lines() []Line {
	var out []Line
	p.each(func(at string, n *node) { out = append(out, Line{at, p.says(at, n)}) })
	return out
}

// says is one field in words: required, text, 2 to 60 characters, blanks are accepted.
func (p *Probed) says(at string, n *node) string {
	if p.doubted {
		return "nothing is certain"
	}
	f := n.exact()
	var out []string
	switch {
	case at == "" || strings.HasSuffix(at, "/*"):
	case f.required:
		out = append(out, "required")
	default:
		out = append(out, "optional")
	}
	if len(f.types) > 0 && f.sure["type"] {
		out = append(out, typeWords(f.types))
	} else {
		out = append(out, "any type is taken")
	}
	checks := len(out)
	if f.format != "" && f.sure["format"] {
		out = append(out, f.format)
	}
	if f.pattern != "" {
		out = append(out, "form "+f.pattern)
	}
	if len(f.enum) > 0 {
		out = append(out, "one of "+strings.Join(f.enum, ", "))
	}
	if f.constant != nil {
		out = append(out, fmt.Sprintf("only %v", *f.constant))
	}
	if s := spanWords(f.minLength, f.maxLength, "character"); s != "" {
		out = append(out, s)
	}
	if s := spanWords(f.minItems, f.maxItems, "element"); s != "" {
		out = append(out, s)
	}
	if s := boundWords(f.minimum, f.maximum); s != "" {
		out = append(out, s)
	}
	if f.multipleOf != nil {
		out = append(out, "in steps of "+number(f.multipleOf))
	}
	if f.unique {
		out = append(out, "no element twice")
	}
	if f.closed {
		out = append(out, "unknown members are refused")
	} else if slices.Contains(f.types, "object") && len(n.members) > 0 {
		out = append(out, "unknown members are taken")
	}
	if len(out) == checks && len(p.remarks[at]) == 0 && !slices.Contains(f.types, "boolean") {
		if slices.Equal(f.types, []string{"string"}) {
			out = append(out, "any text is taken")
		} else {
			out = append(out, "nothing else is checked")
		}
	}
	return strings.Join(append(out, p.remarks[at]...), ", ")
}

func typeWords(types []string) string {
	if len(types) == 5 && !slices.Contains(types, "null") {
		return "anything but null"
	}
	var out []string
	for _, t := range types {
		out = append(out, map[string]string{"string": "text", "integer": "whole number", "number": "number", "boolean": "true or false", "array": "list", "object": "object", "null": "null"}[t])
	}
	return strings.Join(out, " or ")
}

func spanWords(least, most *int, unit string) string {
	some := func(n int) string {
		if n == 1 {
			return "1 " + unit
		}
		return fmt.Sprintf("%d %ss", n, unit)
	}
	switch {
	case least != nil && most != nil && *least == *most:
		return "exactly " + some(*least)
	case least != nil && most != nil:
		return fmt.Sprintf("%d to %s", *least, some(*most))
	case least != nil:
		return "at least " + some(*least)
	case most != nil:
		return "at most " + some(*most)
	}
	return ""
}

func boundWords(least, most *bound) string {
	var out []string
	for i, b := range []*bound{least, most} {
		if b == nil {
			continue
		}
		word := [2]string{"at least ", "at most "}[i]
		if b.exclusive {
			word = [2]string{"more than ", "less than "}[i]
		}
		out = append(out, word+number(b.value))
	}
	return strings.Join(out, ", ")
}

// exact are the rules of a field of which everything was asked: only what is sure.
func (n *node) exact() facts {
	f := n.facts()
	f.types = nil
	for _, kind := range []string{"object", "array", "string", "integer", "number", "boolean", "null"} {
		if n.types[kind] > 0 && !(kind == "integer" && n.types["number"] > 0) {
			f.types = append(f.types, kind)
		}
	}
	if !f.sure["type"] {
		f.types = nil
	}
	f.required = f.sure["required"]
	if !f.sure["format"] {
		f.format = ""
	}
	f.enum, f.pattern, f.notes = n.words, n.form, nil
	if f.format == "" && len(f.enum) == 0 {
		f.minLength, f.maxLength = limits(n.lengths, n.refused.lengths)
	}
	if f.pattern != "" && !strings.HasSuffix(f.pattern, "]+$") || len(f.enum) > 0 {
		f.minLength, f.maxLength = nil, nil
	}
	f.sure["enum"] = true
	return f
}

// Types are the types of values that were accepted, by the pointers of fields.
func (p *Probed) Types() map[string][]string {
	out := map[string][]string{}
	if !p.doubted {
		p.each(func(at string, n *node) { out[at] = n.exact().types })
	}
	return out
}

// Sampled are the types of the values that probing started from, by the pointers of
// fields; whole numbers are numbers.
func (p *Probed) Sampled() map[string]string {
	out := map[string]string{}
	instance.Walk(p.body.base, func(at string, v any) bool {
		kind := instance.Type(v)
		if kind == "integer" {
			kind = "number"
		}
		out[instance.AnyIndex(at)] = kind
		return true
	})
	return out
}

// Rules are the keywords that were found, by the pointers of fields. Required is a rule
// of the field that must be there.
func (p *Probed) Rules() map[string][]string {
	out := map[string][]string{}
	if !p.doubted {
		p.each(func(at string, n *node) { out[at] = n.exact().keywords(at) })
	}
	return out
}

// keywords are the rules that there are.
func (f facts) keywords(at string) []string {
	out := []string{}
	for _, k := range []struct {
		name string
		is   bool
	}{
		{"required", f.required && at != "" && !strings.HasSuffix(at, "/*")}, {"type", len(f.types) > 0}, {"format", f.format != ""}, {"pattern", f.pattern != ""},
		{"enum", len(f.enum) > 0 || f.constant != nil}, {"minLength", f.minLength != nil}, {"maxLength", f.maxLength != nil}, {"minItems", f.minItems != nil},
		{"maxItems", f.maxItems != nil}, {"uniqueItems", f.unique}, {"minimum", f.minimum != nil}, {"maximum", f.maximum != nil}, {"multipleOf", f.multipleOf != nil},
		{"additionalProperties", f.closed},
	} {
		if k.is {
			out = append(out, k.name)
		}
	}
	return out
}
