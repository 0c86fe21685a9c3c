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
	"unicode/utf8"

	"obiter/internal/exchange"
	"obiter/internal/instance"
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
)

// errEnd ends probing; its text is the doubt.
type errEnd struct{ why string }

func (e errEnd) Error() string { return e.why }

// prober probes one operation.
type prober struct {
	base   any
	send   func(body any) exchange.Answer
	sink   Sink
	out    Outcome
	unique []string
	patch  bool                // null removes (RFC 7396)
	words  map[string][]string // that are taken, by field
	limits []limited
	number int
	asked  int // of the field in hand
	said   string
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
			end, is := r.(errEnd)
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

func (p *prober) end(format string, args ...any) { panic(errEnd{fmt.Sprintf(format, args...)}) }

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
	switch {
	case a.Err != "":
		p.sink.Remark(about, "no answer: "+a.Err)
		return failed
	case a.Status == http.StatusTooManyRequests || a.Status == http.StatusServiceUnavailable:
		p.end("the service wants to be left alone (%d); allow more requests while it is probed", a.Status)
	case a.Success():
		p.sink.Accepted(body)
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
	p.asked = 0
	if r := p.ask(body, pointer); r == refused {
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

// another is a value of the same form that was hardly used before.
func (p *prober) another(v any) any {
	p.number++
	switch v := v.(type) {
	case string:
		return alike(v, p.number)
	case json.Number:
		if r, ok := instance.Rat(v); ok {
			return instance.Number(new(big.Rat).Add(r, new(big.Rat).SetInt64(int64(p.number))))
		}
	}
	return v
}

// alike is a text with other letters and digits in the places of its own, the first and
// the signs kept. What has a form is changed in its last digits alone.
func alike(text string, n int) string {
	out := []rune(text)
	left := n
	for i := len(out) - 1; i > 0 && left > 0; i-- {
		switch c := out[i]; {
		case c >= '0' && c <= '9':
			out[i] = '0' + (c-'0'+rune(left%10))%10
			left /= 10
		case formed(text):
		case c >= 'a' && c <= 'z':
			out[i] = 'a' + (c-'a'+rune(left%26))%26
			left /= 26
		case c >= 'A' && c <= 'Z':
			out[i] = 'A' + (c-'A'+rune(left%26))%26
			left /= 26
		}
	}
	return string(out)
}

// formed reports whether a text has a form that letters would break: a date, an address.
func formed(text string) bool {
	return len(text) > 7 && strings.Count(text, "-")+strings.Count(text, ":")+strings.Count(text, "@")+strings.Count(text, "//") >= 1 && !strings.Contains(text, " ")
}

// resized is a text of n characters made of its own.
func resized(text string, n int) string {
	all := []rune(text)
	if n <= len(all) {
		return string(all[:n])
	}
	out := make([]rune, 0, n)
	for len(out) < n {
		c := all[len(out)%len(all)]
		if c == ' ' && len(out) == n-1 {
			c = all[0]
		}
		out = append(out, c)
	}
	return string(out)
}

func length(text string) int { return utf8.RuneCountInString(text) }
