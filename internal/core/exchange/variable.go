package exchange

import (
	"bytes"
	"encoding/json"
	"maps"
	"net/url"
	"regexp"
	"slices"

	"obiter/internal/core/instance"
)

// Variable is a field of a body that has a new value each time its request is sent: so no
// two records that a run creates are alike, and what a service shows of one can be told from
// what was there before.
type Variable struct {
	Pointer string
	Planned any // the value in the plan
	// Settled says that the plan gives it a new value in each case already: only what is
	// sent once more gets another one.
	Settled bool
	Key     bool // records are probably known by it
	// Wide says that it gets a new value only where the service reports a duplicate, and new
	// values elsewhere did not help.
	Wide bool
	// New makes a valid value, another one for each number. It is safe for concurrent use.
	New func(nth uint64) any
}

// Value is a value at a place of a body.
type Value struct {
	Pointer string
	Value   any
}

// Touches reports whether a flaw is at a field of the body, or at something in or around it;
// one of the body as a whole is not.
func (f Flaw) Touches(at string) bool {
	return f.In == "body" && f.Pointer != "" && (instance.Within(f.Pointer, at) || instance.Within(at, f.Pointer))
}

// touches reports whether a case is about a field, or about something in or around it.
func (c *Case) touches(at string) bool {
	return c.Edge != nil && c.Edge.Touches(at) || slices.ContainsFunc(c.Flaws, func(f Flaw) bool { return f.Touches(at) })
}

// Renewed is the case with new values for its variables, and all values in it that were never
// sent before. What is wrong with the case, or at its boundary, stays as it is. A body that is
// not written as usual, because it is malformed or no JSON, gets them where the planned value
// stands in its text.
func (c Case) Renewed(nth uint64) (Case, []Value) {
	if len(c.Variables) == 0 || len(c.Request.Body) == 0 {
		return c, nil
	}
	body := c.Body
	if c.Part() != "body" {
		body = c.Control
	}
	whole := len(c.Flaws) == 1 && c.Flaws[0].In == "body" && c.Flaws[0].Pointer == "" // the record may be somewhere in it
	written := instance.IsEncoded(c.Request.Body, body) && !whole
	text := c.Request.Body
	control := c.Control
	var sent []Value
	var renewed []string
	for _, v := range c.Variables {
		if c.touches(v.Pointer) {
			continue
		}
		fresh := v.New(nth)
		if !written {
			with, changed := inText(text, instance.Last(v.Pointer), v.Planned, fresh)
			if changed {
				text, sent, renewed = with, append(sent, Value{v.Pointer, fresh}), append(renewed, v.Pointer)
			}
			continue
		}
		now, there := instance.Get(body, v.Pointer)
		planned := instance.Equal(now, v.Planned)
		if v.Settled && !c.Again && there && !planned { // the plan has a new one
			sent = append(sent, Value{v.Pointer, now})
		}
		if !there || !planned && (!v.Settled || !c.Again) {
			continue
		}
		body, _ = instance.Set(body, v.Pointer, fresh)
		if _, there := instance.Get(control, v.Pointer); there && c.Part() == "body" {
			control, _ = instance.Set(control, v.Pointer, fresh)
		}
		sent, renewed = append(sent, Value{v.Pointer, fresh}), append(renewed, v.Pointer)
	}
	if len(renewed) == 0 {
		return c, sent
	}
	if c.Request.Body = text; written {
		c.Request.Body = instance.Encode(body)
	} else if whole {
		if v, err := instance.Decode(text); err == nil {
			c.Body = v
		}
	}
	if written && c.Part() == "body" {
		c.Body, c.Control = body, control
		if _, has := c.Parts["body"]; has {
			c.Parts = maps.Clone(c.Parts)
			c.Parts["body"] = body
		}
		c.Renews = renewed
	}
	return c, sent
}

// leastText is the length of a value, in bytes, from which it is taken for itself wherever it
// stands in a text that is no JSON.
const leastText = 3

// inText puts the value of a member in place of another in a text: as JSON writes it, else as a
// form does. A number stands for itself only behind the member's name.
func inText(text []byte, name string, was, is any) ([]byte, bool) {
	if number, isNumber := was.(json.Number); isNumber {
		behind := regexp.MustCompile(regexp.QuoteMeta(name) + `["']?\s*[:=]\s*` + regexp.QuoteMeta(number.String()) + `\b`)
		at := behind.FindIndex(text)
		if at == nil {
			return text, false
		}
		return slices.Concat(text[:at[1]-len(number.String())], instance.Encode(is), text[at[1]:]), true
	}
	old, now := instance.Encode(was), instance.Encode(is)
	if bytes.Contains(text, old) && old[0] == '"' {
		return bytes.ReplaceAll(text, old, now), true
	}
	before, isText := was.(string)
	after, _ := is.(string)
	if !isText || len(before) < leastText {
		return text, false
	}
	for _, written := range []func(string) string{func(s string) string { return s }, url.QueryEscape, func(s string) string { return string(instance.Escaped(s)) }} {
		if out, changed := replaced(text, []byte(written(before)), []byte(written(after))); changed {
			return out, true
		}
	}
	return text, false
}

// replaced puts a text in place of another wherever that is not a part of a longer one.
func replaced(text, was, is []byte) (out []byte, changed bool) {
	for from := 0; ; {
		i := bytes.Index(text[from:], was)
		if i < 0 {
			return append(out, text[from:]...), changed
		}
		begin, end := from+i, from+i+len(was)
		alone := (begin == 0 || !isOfText(text[begin-1])) && (end == len(text) || !isOfText(text[end]))
		if out = append(out, text[from:begin]...); alone {
			out, changed = append(out, is...), true
		} else {
			out = append(out, was...)
		}
		from = end
	}
}

// isOfText reports whether a character may be of the text that is next to it, and does not part it
// from what else is in a body.
func isOfText(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80 || bytes.IndexByte([]byte(" +-_.%\\"), c) >= 0
}

// Renew gives a control the values that a case of it was sent with, where both have a field
// that was renewed.
func Renew(control, body any, pointers []string) any {
	for _, at := range pointers {
		v, sent := instance.Get(body, at)
		if _, there := instance.Get(control, at); sent && there {
			control, _ = instance.Set(control, at, v)
		}
	}
	return control
}
