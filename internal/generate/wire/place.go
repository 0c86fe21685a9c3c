// Package wire knows how values travel: parameters in OpenAPI's styles, forms,
// multipart bodies and JSON. It writes values as bytes, and tells how a service
// reads them back: to a reader of text, 12 and "12" look alike. What has no one
// written form is not sent.
package wire

import (
	"maps"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
)

// Place is one place of a request: the body, or the parameters of a place by
// their names as one object. It is not safe for concurrent use.
type Place struct {
	In      string // body, path, query, header or cookie
	Form    string // of a body: one of the constants; empty: JSON
	Root    string // of a body in XML: the name of its element
	Params  []oad.Parameter
	Schema  schema.Schema
	Fullest any // the fullest valid value, which tells what multipart fields are

	json  map[string]bool    // parameters whose values are JSON; nil: not looked up yet
	shape *schema.Shape      // of parameters: what each has to be
	read  map[string]reading // of parameters: how the control's values are read
}

// Seen is a place's value as a service reads it; false where it cannot be sent.
func (p *Place) Seen(v any) (any, bool) {
	switch {
	case p.In == "body" && (p.Form == "" || p.Form == XML):
		return v, true
	case p.Form == Plain || p.Form == Bytes:
		return Read([]schema.Schema{p.Schema}, v), isScalar(v)
	}
	object, ok := v.(map[string]any)
	if !ok {
		return v, false
	}
	if object, ok = p.Sendable(object); !ok {
		return v, false
	}
	if p.In == "path" && len(object) < len(p.Params) {
		return v, false // a template with a hole is not an address
	}
	if p.Form == "" && p.shape == nil { // what is required of one parameter does not depend on the others
		p.shape, p.read = p.shapeOf(object), map[string]reading{}
	}
	sh := p.shape
	if sh == nil {
		sh = p.shapeOf(object)
	}
	out := make(map[string]any, len(object))
	for name, member := range object {
		if p.KeepsTypes(name, member) {
			out[name] = member
			continue
		}
		if h, ok := p.read[name]; ok && same(h.sent, member) {
			out[name] = h.seen
			continue
		}
		members, _ := sh.Member(name)
		out[name] = Read(members, listed(members, member))
		if _, ok := p.read[name]; !ok && p.read != nil && isFlat(member) { // the control's, which most requests share
			p.read[name] = reading{member, out[name]}
		}
	}
	return out, true
}

// reading is a value that was sent, and how a service reads it.
type reading struct{ sent, seen any }

func isScalar(v any) bool {
	switch v.(type) {
	case map[string]any, []any:
		return false
	}
	return true
}

func (p *Place) shapeOf(object map[string]any) *schema.Shape {
	return schema.Merge(schema.Apply([]schema.Schema{p.Schema}, object))
}

// listed is a primitive as a list of one, where a list is expected: written as
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

// KeepsTypes reports whether a member is sent as JSON text, which keeps its types.
func (p *Place) KeepsTypes(name string, v any) bool {
	if p.Form == Multipart {
		object, _ := p.Fullest.(map[string]any) // a field stays what it is, whatever is in it
		if control, ok := object[name]; ok {
			return !isFlat(control)
		}
		return !isFlat(v)
	}
	if p.json == nil {
		p.json = map[string]bool{}
		for _, param := range p.Params {
			if param.JSON {
				p.json[param.Name] = true
			}
		}
	}
	return p.json[name]
}

// isFlat reports whether a value is a primitive or a list of such.
func isFlat(v any) bool {
	switch v := v.(type) {
	case map[string]any:
		return false
	case []any:
		return !slices.ContainsFunc(v, func(e any) bool { return instance.Type(e) == "object" || instance.Type(e) == "array" })
	}
	return true
}

// Sendable takes out empty lists, which text cannot show, and refuses values
// that have no one written form in the place. Where nothing is to be taken out it gives
// the object itself.
func (p *Place) Sendable(object map[string]any) (map[string]any, bool) {
	out := object
	for name, v := range object {
		if h, ok := p.read[name]; ok && same(h.sent, v) { // it was looked at before
			continue
		}
		if list, ok := v.([]any); ok && len(list) == 0 && !p.KeepsTypes(name, v) {
			if len(out) == len(object) {
				out = maps.Clone(object)
			}
			delete(out, name)
		} else if !p.writable(name, v) {
			return nil, false
		}
	}
	return out, true
}

func (p *Place) writable(name string, v any) bool {
	if p.KeepsTypes(name, v) {
		return p.In != "header" && p.In != "cookie" || isHeaderText(string(instance.Encode(v)))
	}
	switch v := v.(type) {
	case map[string]any:
		if p.In == "body" {
			return false // urlencoded: readers differ on objects
		}
		for k, m := range v {
			if !isFlat(m) || instance.Type(m) == "array" || strings.ContainsAny(k+Text(m), ",=.;|[] ") || Text(m) == "" {
				return false
			}
		}
		return len(v) > 0
	case []any:
		if !isFlat(v) {
			return false
		}
		separators := p.separators(name)
		for _, e := range v {
			if t := Text(e); p.In != "body" && t == "" || strings.ContainsAny(t, separators) || !p.writableText(t) {
				return false
			}
		}
		return true
	}
	return p.writableText(Text(v))
}

// separators are the characters that would part an element of a list in two.
func (p *Place) separators(name string) string {
	for _, param := range p.Params {
		if param.Name != name || param.Style == "form" && param.Explode {
			continue
		}
		return map[string]string{"label": ".,", "matrix": ";,", "spaceDelimited": " ", "pipeDelimited": "|"}[param.Style] + ","
	}
	return ""
}

// same reports whether two values are one: equal scalars, or the same list.
func same(a, b any) bool {
	x, isList := a.([]any)
	y, areLists := b.([]any)
	if isList || areLists {
		return isList && areLists && len(x) == len(y) && len(x) > 0 && &x[0] == &y[0]
	}
	return isScalar(a) && isScalar(b) && a == b
}

func (p *Place) writableText(t string) bool {
	switch p.In {
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

// isHeaderText reports whether a field value (RFC 9110, section 5.5) arrives as it is.
func isHeaderText(t string) bool {
	if t == "" || strings.TrimSpace(t) != t {
		return false
	}
	return !strings.ContainsFunc(t, func(r rune) bool { return r < 0x20 || r > 0x7e })
}

// Encode writes a body.
func (p *Place) Encode(v any) []byte {
	object, _ := v.(map[string]any)
	switch p.Form {
	case Plain, Bytes:
		return []byte(Text(v))
	case XML:
		return encodeXML([]schema.Schema{p.Schema}, p.Root, v)
	case URLEncoded:
		object, _ = p.Sendable(object)
		return encodeForm(object)
	case Multipart:
		object, _ = p.Sendable(object)
		return encodeMultipart(object, p.isFile, p.KeepsTypes)
	}
	return instance.Encode(v)
}

// isFile reports whether a multipart field holds bytes.
func (p *Place) isFile(name string) bool {
	members, _ := schema.Merge(schema.Apply([]schema.Schema{p.Schema}, p.Fullest)).Member(name)
	return len(members) > 0 && schema.Merge(schema.Apply(members, "x")).Binary
}
