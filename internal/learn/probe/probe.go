// Package probe finds out which rules a service enforces on a body, by asking: starting
// from one that it accepts, it changes a field at a time, makes it longer and shorter,
// larger and smaller until it is refused, and halves the way between. It decides what to
// ask and when to stop; what the answers mean is for the draft to tell.
//
// What is refused counts for a field only while the body as it was is still accepted. A
// service that answers by chance, or wants to be left alone, ends the probing with a
// doubt, and not with a rule.
package probe

import (
	"encoding/json"
	"fmt"
	"math/big"
	"net/http"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// Sink takes in what was asked, and how it was answered.
type Sink interface {
	// Accepted says that a body was accepted, Refused that it was refused for the one
	// field in which it differs from an accepted one.
	Accepted(body any)
	Refused(body any, at string)
	// Form is what is known of a text that lengths do not tell: a pattern, or the words
	// that are taken.
	Form(at string, pattern string, words []string)
	// Remark is what else a developer wants to know of a field.
	Remark(at, text string)
}

// Outcome is what became of probing.
type Outcome struct {
	Requests int
	Fields   int
	Doubt    string   // why it ended before it was done; empty: it is done
	Chance   bool     // what was refused before may mean nothing: no rule is to be stated
	Unique   []string // fields that have to have a new value each time
}

// Bounds of what is asked of one field.
const (
	maxText   = 10_000 // characters
	maxList   = 300    // elements
	maxAsked  = 120    // requests a field
	maxFields = 400
	maxMute   = 3 // requests without an answer
)

// endError ends probing; its text is the doubt.
type endError struct{ why string }

func (e endError) Error() string { return e.why }

// prober probes one operation.
type prober struct {
	base   any
	send   func(body any) exchange.Answer
	sink   Sink
	out    Outcome
	unique []string
	patch  bool                // null removes (RFC 7396)
	quiet  bool                // what is accepted is not told
	words  map[string][]string // that are taken, by field
	limits []limited
	number int
	asked  int // of the field in hand
	said   string
	mute   int             // requests that got no answer, one after the other
	again  []func() result // ask some that were refused again
}

// limited is a number of which the limits were found.
type limited struct {
	at        string
	step      *big.Rat
	low, high *big.Rat // the last accepted before one that was refused; nil: none was
}

// Operation probes the body that an operation accepts. Of a patch null is not asked: it
// removes members (RFC 7396).
func Operation(base any, patch bool, send func(body any) exchange.Answer, sink Sink) (out Outcome) {
	p := &prober{base: base, send: send, sink: sink, patch: patch, words: map[string][]string{}}
	defer func() {
		p.out.Unique = p.unique
		out = p.out
		if r := recover(); r != nil {
			end, is := r.(endError)
			if !is {
				panic(r)
			}
			out.Doubt = end.why
		}
	}()
	p.begin()
	p.types("", base)
	p.fields("", base)
	p.extra("", base)
	p.depend()
	p.confirm("in the end")
	return p.out
}

func (p *prober) end(format string, args ...any) { panic(endError{fmt.Sprintf(format, args...)}) }

// result is how a body was answered.
type result int

const (
	taken result = iota
	refused
	failed // with a 5xx, or not at all: neither
)

// ask sends a body, with new values where they must be.
func (p *prober) ask(body any, about string) result {
	for _, at := range p.unique {
		if at == about {
			continue
		}
		if v, there := instance.Get(body, at); there {
			body, _ = instance.Set(body, at, p.another(v))
		}
	}
	p.out.Requests++
	p.asked++
	a := p.send(body)
	p.said = string(a.Body)
	if a.Err == "" {
		p.mute = 0
	}
	switch {
	case a.Err != "":
		if p.mute++; p.mute == maxMute {
			p.end("the service does not answer any more: %s", a.Err)
		}
		p.sink.Remark(about, "no answer: "+a.Err)
		return failed
	case a.Status == http.StatusTooManyRequests || a.Status == http.StatusServiceUnavailable:
		p.end("the service wants to be left alone (%d); allow more requests while it is probed", a.Status)
	case a.Success():
		if !p.quiet {
			p.sink.Accepted(body)
		}
		return taken
	case a.Status == http.StatusBadRequest || a.Status == http.StatusUnprocessableEntity || a.Status == http.StatusConflict || a.Status == http.StatusNotFound || a.Status == http.StatusRequestEntityTooLarge:
		return refused
	case a.Status == http.StatusUnauthorized || a.Status == http.StatusForbidden:
		p.end("the service asks for credentials (%d)", a.Status)
	}
	return failed
}

// try asks with another value at a field, and tells the sink if it was refused.
func (p *prober) try(at string, v any) result {
	body, ok := instance.Set(p.base, at, v)
	if at == "" {
		body, ok = v, true
	}
	if !ok || p.asked >= maxAsked {
		return failed
	}
	r := p.ask(body, at)
	if r == refused {
		p.refuse(body, at)
	}
	if r == failed {
		p.sink.Remark(at, "fails on "+instance.Shown(v))
	}
	return r
}

// begin looks whether the body is accepted, and accepted again.
func (p *prober) begin() {
	if r := p.ask(p.base, ""); r != taken {
		p.end("the sample itself is refused: %s", instance.Shorten(instance.OneLine(p.said), 200))
	}
	if p.ask(p.base, "") == taken {
		return
	}
	var candidates []string
	instance.Walk(p.base, func(at string, v any) bool {
		switch v.(type) {
		case string, json.Number:
			candidates = append(candidates, at)
		}
		return true
	})
	for _, at := range candidates {
		v, _ := instance.Get(p.base, at)
		body, _ := instance.Set(p.base, at, p.another(v))
		if p.ask(body, at) == taken {
			p.unique = []string{at}
			p.sink.Remark(at, "a new value each time (unique)")
			return
		}
	}
	p.end("the sample is accepted once and refused then, so nothing can be told: %s", instance.Shorten(instance.OneLine(p.said), 200))
}

// maxAgain is how many refused requests are sent again after each field.
const maxAgain = 3

// refuse tells that a body was refused for a field, and remembers some of them.
func (p *prober) refuse(body any, at string) {
	p.sink.Refused(body, at)
	if len(p.again) == maxAgain {
		p.again = p.again[1:]
	}
	p.again = append(p.again, func() result { return p.ask(body, at) })
}

// confirm looks whether the body as it was is still accepted, and what was refused still
// refused.
func (p *prober) confirm(when string) {
	again := p.again
	p.again = nil
	for _, ask := range again {
		if ask() == taken {
			p.out.Chance = true
			p.end("the same request is refused and accepted by turns, so nothing can be told")
		}
	}
	for range 2 {
		if p.ask(p.base, "") == taken {
			return
		}
	}
	p.out.Chance = true
	p.end("the sample is refused %s, although it was accepted: what was refused before may have other reasons", when)
}

// fields probes what is in a value.
func (p *prober) fields(at string, v any) {
	switch v := v.(type) {
	case map[string]any:
		for _, name := range instance.Names(v) {
			pointer := instance.Join(at, name)
			p.field(pointer, v[name], true)
			p.fields(pointer, v[name])
			p.extra(pointer, v[name])
		}
	case []any:
		if len(v) == 0 {
			return
		}
		pointer, whole := instance.Join(at, "0"), p.base
		if alone, ok := instance.Set(p.base, at, []any{v[0]}); ok && len(v) > 1 && p.ask(alone, at) == taken {
			p.base = alone // what is next to it does not matter then
		}
		p.field(pointer, v[0], false)
		p.fields(pointer, v[0])
		p.extra(pointer, v[0])
		p.base = whole
		p.asked = 0
		p.list(at, v)
	}
}

// field probes one field.
func (p *prober) field(at string, v any, isMember bool) {
	if p.out.Fields++; p.out.Fields > maxFields {
		p.end("there are more than %d fields", maxFields)
	}
	p.asked = 0
	before := p.out.Requests
	if isMember {
		body, _ := instance.Remove(p.base, at)
		if p.ask(body, at) == refused {
			p.refuse(body, at)
		}
	}
	if !p.patch {
		p.try(at, nil)
	}
	p.types(at, v)
	switch v := v.(type) {
	case string:
		p.text(at, v)
	case json.Number:
		p.numeric(at, v)
	case bool:
		p.try(at, !v)
	case []any:
		p.try(at, []any{})
	}
	if p.out.Requests > before {
		p.confirm("after " + at + " was probed")
	}
}

// types asks with values of other types.
func (p *prober) types(at string, v any) {
	others := map[string]any{"string": "ballast", "integer": json.Number("7"), "boolean": true, "array": []any{}, "object": map[string]any{}}
	kind := instance.Type(v)
	if kind == "number" {
		delete(others, "integer")
	}
	if n, is := v.(json.Number); is {
		others["string"] = string(n) // many read it
	}
	delete(others, kind)
	for _, name := range instance.Names(others) {
		p.try(at, others[name])
	}
	if kind == "boolean" { // which many read
		p.try(at, json.Number("1"))
		p.try(at, "true")
	}
	if kind == "integer" {
		p.try(at, json.Number(string(v.(json.Number))+".5"))
	}
}

// extra asks with a member that nobody knows.
func (p *prober) extra(at string, v any) {
	object, is := v.(map[string]any)
	if !is {
		return
	}
	name := "unexpected"
	for object[name] != nil {
		name += "_2"
	}
	pointer := instance.Join(at, name)
	body, _ := instance.Set(p.base, pointer, "ballast")
	if at == "" {
		body, _ = instance.Set(p.base, instance.Join("", name), "ballast")
	}
	p.asked, p.quiet = 0, true // it is no field of the record
	r := p.ask(body, pointer)
	if p.quiet = false; r == refused {
		p.refuse(body, pointer)
	}
}

// list probes how many elements there may be.
func (p *prober) list(at string, v []any) {
	grown := func(n int) any {
		out := slices.Clone(v[:min(n, len(v))])
		for _, word := range p.words[instance.Join(at, "0")] {
			if len(out) < n && !slices.Contains(out, any(word)) {
				out = append(out, word)
			}
		}
		for len(out) < n {
			out = append(out, p.differing(v[len(out)%len(v)]))
		}
		return out
	}
	p.between(len(v), maxList, func(n int) result { return p.try(at, grown(n)) })
	if len(v) > 1 {
		p.between(len(v), 1, func(n int) result { return p.try(at, grown(n)) })
	}
	if p.try(at, grown(2)) == taken {
		p.try(at, []any{v[0], v[0]})
	} else if len(v) > 1 {
		p.try(at, append(slices.Clone(v[:len(v)-1]), v[0]))
	}
}

// differing is an element like another.
func (p *prober) differing(v any) any {
	switch v := v.(type) {
	case string, json.Number:
		return p.another(v)
	case map[string]any:
		out := map[string]any{}
		for name, m := range v {
			out[name] = m
		}
		for _, name := range instance.Names(v) {
			if text, is := v[name].(string); is && !formed(text) && strings.ContainsAny(text, " ") {
				out[name] = p.another(text)
				return out
			}
		}
		return out
	}
	return v
}

// between finds the turn between a size that is accepted and one far off: doubling first,
// or all of it at once where it goes down, then halving.
func (p *prober) between(from, to int, try func(n int) result) {
	good, bad := from, 0
	found := false
	if to > from {
		for n := max(from+1, 2); n <= to && !found; n *= 2 {
			switch try(n) {
			case taken:
				good = n
			case refused:
				bad, found = n, true
			default:
				return
			}
			if n < to && n*2 > to {
				n = (to + 1) / 2
			}
		}
	} else {
		switch try(to) {
		case refused:
			bad, found = to, true
		default:
			return
		}
	}
	for found && abs(good-bad) > 1 {
		middle := (good + bad) / 2
		switch try(middle) {
		case taken:
			good = middle
		case refused:
			bad = middle
		default:
			return
		}
	}
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}
