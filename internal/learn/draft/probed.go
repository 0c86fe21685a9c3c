package draft

import (
	"fmt"
	"math/big"
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
	out = append(out, f.words()...)
	if !f.has("additionalProperties") && slices.Contains(f.types, "object") && len(n.members) > 0 {
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

// words are the rules beside type and required in words.
func (f facts) words() (out []string) {
	for _, k := range keywords {
		text := ""
		switch v := f.rules[k].(type) {
		case string:
			text = map[string]string{"format": "", "pattern": "form "}[k] + v
		case []string:
			text = "one of " + strings.Join(v, ", ")
		case *big.Rat:
			text = "in steps of " + number(v)
		case bool:
			text = map[string]string{"uniqueItems": "no element twice", "additionalProperties": "unknown members are refused", "const": fmt.Sprintf("only %v", v)}[k]
		}
		switch k { // limits are told together
		case "maxLength":
			text = spanWords(f.rules["minLength"], f.rules[k], "character")
		case "maxItems":
			text = spanWords(f.rules["minItems"], f.rules[k], "element")
		case "maximum":
			text = boundWords(f.rules["minimum"], f.rules[k])
		}
		if text != "" {
			out = append(out, text)
		}
	}
	return out
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

// spanWords is a smallest and a largest number of something, each of which may be nil.
func spanWords(least, most any, unit string) string {
	some := func(n any) string {
		if n == 1 {
			return "1 " + unit
		}
		return fmt.Sprintf("%d %ss", n, unit)
	}
	switch {
	case least != nil && least == most:
		return "exactly " + some(least)
	case least != nil && most != nil:
		return fmt.Sprintf("%d to %s", least, some(most))
	case least != nil:
		return "at least " + some(least)
	case most != nil:
		return "at most " + some(most)
	}
	return ""
}

func boundWords(least, most any) string {
	var out []string
	for i, limit := range []any{least, most} {
		b, is := limit.(bound)
		switch {
		case !is:
		case b.exclusive:
			out = append(out, [2]string{"more than ", "less than "}[i]+number(b.value))
		default:
			out = append(out, [2]string{"at least ", "at most "}[i]+number(b.value))
		}
	}
	return strings.Join(out, ", ")
}

// exact are the rules of a field of which everything was asked: only what is sure.
func (n *node) exact() facts {
	f := n.facts()
	f.types, f.notes = nil, nil
	for _, kind := range []string{"object", "array", "string", "integer", "number", "boolean", "null"} {
		if n.types[kind] > 0 && !(kind == "integer" && n.types["number"] > 0) {
			f.types = append(f.types, kind)
		}
	}
	if !f.sure["type"] {
		f.types = nil
	}
	f.required = f.sure["required"]
	f = f.without("enum", "pattern", "minLength", "maxLength")
	if !f.sure["format"] {
		delete(f.rules, "format")
	}
	if n.form != "" {
		f.is("pattern", n.form)
	}
	if len(n.words) > 0 {
		f.is("enum", n.words)
	}
	if !f.has("format", "enum") && (n.form == "" || strings.HasSuffix(n.form, "]+$")) {
		f.between("minLength", "maxLength", n.lengths, n.refused.lengths)
	}
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
	if f.required && at != "" && !strings.HasSuffix(at, "/*") {
		out = append(out, "required")
	}
	if len(f.types) > 0 {
		out = append(out, "type")
	}
	for _, k := range keywords {
		switch {
		case !f.has(k):
		case k == "const":
			out = append(out, "enum")
		default:
			out = append(out, k)
		}
	}
	return out
}
