package plan

import (
	"fmt"
	"slices"
	"strings"

	"obiter/internal/flaw"
	"obiter/internal/instance"
	"obiter/internal/oad"
	"obiter/internal/sample"
	"obiter/internal/schema"
)

// Part is one place of a request with its values as one object: the body, or
// the parameters of a place by their names.
type Part struct {
	In       string // body, path, query, header or cookie
	Schema   schema.Schema
	Controls []sample.Control // fullest first

	params []oad.Parameter
	form   string                  // of a body: "urlencoded" or "multipart"; empty: JSON
	known  map[string][]flaw.Field // of its controls, by their shapes
	asked  *schema.Shape           // of parameters: what each has to be
	heard  map[string]heard        // of parameters: how the control's values are read
}

// places are where parameters stand, in the order in which they are planned.
var places = []string{"path", "query", "header", "cookie"}

// parameterParts makes a part of each place that has parameters.
func (p *Plan) parameterParts(o oad.Operation) ([]*Part, error) {
	var out []*Part
	for _, in := range places {
		part := &Part{In: in}
		var members []schema.Property
		for _, param := range o.Parameters {
			if param.In != in || ignored(param) {
				continue
			}
			address := ""
			if param.Schema != (oad.Location{}) {
				address = param.Schema.URL()
				if _, err := p.set.Compile(address); err != nil {
					return nil, fmt.Errorf("the %s parameter %q: %w", in, param.Name, err)
				}
			}
			members = append(members, schema.Property{Name: param.Name, URL: address, Required: param.Required})
			part.params = append(part.params, param)
		}
		if len(members) == 0 {
			continue
		}
		s, err := p.set.Object(o.Name()+"/"+in, members)
		if err != nil {
			return nil, fmt.Errorf("the %s parameters: %w", in, err)
		}
		part.Schema = s
		if err := p.parameterControls(part); err != nil {
			return nil, err
		}
		out = append(out, part)
	}
	return out, nil
}

// parameterControls makes the values: of examples where there are any.
func (p *Plan) parameterControls(part *Part) error {
	full, lean := map[string]any{}, map[string]any{}
	origin := "synthesised"
	for _, param := range part.params {
		v, err := p.parameterValue(param)
		if err != nil {
			if param.Required {
				return fmt.Errorf("the %s parameter %q: %w", part.In, param.Name, err)
			}
			continue
		}
		if _, ok := part.sendable(map[string]any{param.Name: v}); !ok {
			if param.Required {
				return fmt.Errorf("the %s parameter %q: there is no one way to send its value", part.In, param.Name)
			}
			continue
		}
		full[param.Name] = v
		if param.Required {
			lean[param.Name] = v
		}
		if len(param.Examples) > 0 {
			origin = "example"
		}
	}
	part.Controls = []sample.Control{{Shape: fullest, Value: full, Origin: origin}, {Shape: leanest, Value: lean, Origin: origin}}
	return nil
}

func (p *Plan) parameterValue(param oad.Parameter) (any, error) {
	if v, ok := p.opt.Values[param.Name]; ok && param.In == "path" {
		return p.given(param, v)
	}
	if param.Schema == (oad.Location{}) {
		if len(param.Examples) > 0 {
			return param.Examples[0].Value, nil
		}
		return "1", nil
	}
	s, err := p.set.Compile(param.Schema.URL())
	if err != nil {
		return nil, err
	}
	return p.maker.Value(s, p.published(param.Examples))
}

// given is a configured value as the parameter's schema takes it: text that reads
// as a number may be one.
func (p *Plan) given(param oad.Parameter, v any) (any, error) {
	if param.Schema == (oad.Location{}) {
		return v, nil
	}
	s, err := p.set.Compile(param.Schema.URL())
	if err != nil {
		return nil, err
	}
	read := schema.Texts([]schema.Schema{s}, v)
	if !s.Valid(read) {
		return nil, fmt.Errorf("the value %s, which is kept for it, breaks its schema", instance.Encode(v))
	}
	return read, nil
}

// seen is a part's value as a service reads it; false where it cannot be sent.
func (part *Part) seen(v any) (any, bool) {
	if part.In == "body" && part.form == "" {
		return v, true
	}
	object, ok := v.(map[string]any)
	if !ok {
		return v, false
	}
	if object, ok = part.sendable(object); !ok {
		return v, false
	}
	if part.In == "path" && len(object) < len(part.params) {
		return v, false // a template with a hole is no address
	}
	if part.form == "" && part.asked == nil { // parameters stand side by side: what is asked of one never changes
		part.asked, part.heard = part.shape(object), map[string]heard{}
	}
	sh := part.asked
	if sh == nil {
		sh = part.shape(object)
	}
	out := make(map[string]any, len(object))
	for name, member := range object {
		if part.asJSON(name, member) {
			out[name] = member
			continue
		}
		if h, ok := part.heard[name]; ok && isScalar(member) && h.sent == member {
			out[name] = h.seen
			continue
		}
		members, _ := sh.Member(name)
		out[name] = schema.Texts(members, listed(members, member))
		if _, ok := part.heard[name]; !ok && part.heard != nil && isScalar(member) { // the control's, which most requests share
			part.heard[name] = heard{member, out[name]}
		}
	}
	return out, true
}

// heard is a value that was sent, and how a service reads it.
type heard struct{ sent, seen any }

func isScalar(v any) bool {
	switch v.(type) {
	case map[string]any, []any:
		return false
	}
	return true
}

func (part *Part) shape(object map[string]any) *schema.Shape {
	return schema.Merge(schema.Apply([]schema.Schema{part.Schema}, object))
}

// listed is a primitive as a list of one, where a list is asked for: written as
// text the two are the same.
func listed(members []schema.Schema, v any) any {
	if _, isList := v.([]any); isList || v == nil || len(members) == 0 {
		return v
	}
	if _, isObject := v.(map[string]any); isObject {
		return v
	}
	if t := schema.Merge(schema.Apply(members, []any{v})).Types; t.Has(schema.Array) && !t.Has(schema.String) {
		return []any{v}
	}
	return v
}

// asJSON tells whether a member is sent as JSON text, which keeps its types.
func (part *Part) asJSON(name string, v any) bool {
	if part.form == "multipart" {
		if len(part.Controls) > 0 { // a field stays what it is, whatever stands in it
			object, _ := part.Controls[0].Value.(map[string]any)
			if control, ok := object[name]; ok {
				return !isFlat(control)
			}
		}
		return !isFlat(v)
	}
	return slices.ContainsFunc(part.params, func(p oad.Parameter) bool { return p.Name == name && p.JSON })
}

// isFlat tells whether a value is a primitive or a list of such.
func isFlat(v any) bool {
	switch v := v.(type) {
	case map[string]any:
		return false
	case []any:
		return !slices.ContainsFunc(v, func(e any) bool { return instance.Type(e) == "object" || instance.Type(e) == "array" })
	}
	return true
}

// sendable takes out empty lists, which text cannot show, and refuses values
// that have no one written form in the place.
func (part *Part) sendable(object map[string]any) (map[string]any, bool) {
	out := make(map[string]any, len(object))
	for name, v := range object {
		if list, ok := v.([]any); ok && len(list) == 0 && !part.asJSON(name, v) {
			continue
		}
		if !part.writable(name, v) {
			return nil, false
		}
		out[name] = v
	}
	return out, true
}

func (part *Part) writable(name string, v any) bool {
	if part.asJSON(name, v) {
		return part.In != "header" && part.In != "cookie" || isHeaderText(string(instance.Encode(v)))
	}
	switch v := v.(type) {
	case map[string]any:
		if part.In == "body" {
			return false // urlencoded: readers differ on objects
		}
		for k, m := range v {
			if !isFlat(m) || instance.Type(m) == "array" || strings.ContainsAny(k+schema.Text(m), ",=.;|[] ") || schema.Text(m) == "" {
				return false
			}
		}
		return len(v) > 0
	case []any:
		if !isFlat(v) {
			return false
		}
		separators := part.separators(name)
		for _, e := range v {
			if t := schema.Text(e); part.In != "body" && t == "" || strings.ContainsAny(t, separators) || !part.writableText(t) {
				return false
			}
		}
		return true
	}
	return part.writableText(schema.Text(v))
}

// separators are the characters that would part an element of a list in two.
func (part *Part) separators(name string) string {
	for _, p := range part.params {
		if p.Name != name || p.Style == "form" && p.Explode {
			continue
		}
		return map[string]string{"label": ".,", "matrix": ";,", "spaceDelimited": " ", "pipeDelimited": "|"}[p.Style] + ","
	}
	return ""
}

func (part *Part) writableText(t string) bool {
	switch part.In {
	case "path":
		// Servers and proxies differ on an encoded slash and on dot segments.
		return t != "" && t != "." && t != ".." && !strings.ContainsAny(t, "/\\%\x00")
	case "header":
		return isHeaderText(t)
	case "cookie":
		return t != "" && escape(t) == t // readers differ on escapes in cookies
	}
	return !strings.Contains(t, "\x00")
}

// isHeaderText tells whether a field value (RFC 9110, section 5.5) arrives as it is.
func isHeaderText(t string) bool {
	if t == "" || strings.TrimSpace(t) != t {
		return false
	}
	return !strings.ContainsFunc(t, func(r rune) bool { return r < 0x20 || r > 0x7e })
}

// Fields lists the part's fields with their rules.
func (part *Part) Fields() []flaw.Field { return part.fields(part.Controls[0]) }

// fields lists those of one of the part's controls.
func (part *Part) fields(c sample.Control) []flaw.Field {
	list, known := part.known[c.Shape]
	if !known {
		if list = flaw.Fields(part.Schema, c.Value); part.known == nil {
			part.known = map[string][]flaw.Field{}
		}
		part.known[c.Shape] = list
	}
	return list
}

// alternatives lists the fields of a control at which a oneOf or anyOf stands:
// what is wrong inside, a service may tell of any branch.
func (part *Part) alternatives(c sample.Control) []string {
	var out []string
	for _, f := range part.fields(c) {
		if len(f.Shape.Choices()) > 0 {
			out = append(out, f.Pointer)
		}
	}
	return out
}

// secretFields are the fields of a control whose values must not come back:
// those that are only written, and passwords.
func (part *Part) secretFields(c sample.Control) []string {
	var out []string
	for _, f := range part.fields(c) {
		if f.Shape.WriteOnly || f.Shape.Secret {
			out = append(out, f.Pointer)
		}
	}
	return out
}
