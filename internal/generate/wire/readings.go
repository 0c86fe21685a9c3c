package wire

import (
	"encoding/json"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
)

// composed are readings as each of some lists of texts, and as pairs where there is one text of
// such.
func composed(list []schema.Schema, lists [][]string, parts []string) (readings []any) {
	for _, l := range lists {
		texts := make([]any, len(l))
		for i, text := range l {
			texts[i] = text
		}
		readings = append(readings, Read(list, texts))
	}
	if len(parts) != 1 {
		return readings
	}
	if pairs := paired(parts[0]); pairs != nil {
		readings = append(readings, Read(list, pairs))
	}
	return readings
}

// Readings are all ways in which a service may read what is sent for a member, which
// arrives as text: as the text, a number, a boolean, null, a list with its parts told
// apart or of the one text, an object of pairs. Absent says that it may see none at all,
// as where an object is sent under the names of its own members (OpenAPI 3.1.1, section
// 4.8.12.2). The list has the schemas that hold for the member.
func (p *Place) Readings(name string, v any, list []schema.Schema) (readings []any, absent bool) {
	switch {
	case p.Form == Plain || p.Form == Bytes:
		return scalars(Text(v)), false
	case p.KeepsTypes(name, v):
		return []any{v}, false
	}
	param := oad.Parameter{Name: name, In: p.In, Style: "form", Explode: true} // a field of a form
	for _, described := range p.Params {
		if described.Name == name {
			param = described
		}
	}
	parts, object := parts(v)
	joined := false                                 // several in one text
	apart := param.Style == "form" && param.Explode // each part under a name
	switch {
	case object && (apart || param.Style == "deepObject"):
		return []any{Read(list, v)}, !recognised(list, v.(map[string]any), param.Style == "deepObject")
	case len(parts) == 0:
		return nil, true
	case !apart && len(parts) > 1 || object:
		joined = true
		parts = []string{strings.Join(parts, p.separator(param))}
	}
	for _, text := range []string{parts[0], parts[len(parts)-1]} { // a reader of one value takes the first or the last
		readings = append(readings, scalars(text)...)
	}
	lists := [][]string{parts}
	if joined {
		lists = [][]string{strings.Split(parts[0], p.separator(param))}
	} else if len(parts) == 1 {
		lists = append(lists, nil, strings.Split(parts[0], p.separator(param)), strings.Split(parts[0], ","))
	}
	readings = append(readings, composed(list, lists, parts)...)
	return readings, param.Style == "deepObject" || apart && typesOf(list) == schema.Object
}

// typesOf are those that schemas allow, whichever branches of them are taken.
func typesOf(list []schema.Schema) schema.Types {
	return schema.Merge(schema.Expand(list, schema.NoBranch)).Types
}

// recognised reports whether a service sees by the names of members that they are of an
// object which it expects.
func recognised(list []schema.Schema, object map[string]any, prefixed bool) bool {
	if !typesOf(list).Has(schema.Object) {
		return false
	}
	known := schema.Merge(schema.Apply(list, object)).Properties
	for name := range object {
		if prefixed || slices.Contains(known, name) {
			return true
		}
	}
	return false
}

// parts are the texts of a value's elements or members, in their order; of an object the
// names and values by turns.
func parts(v any) (out []string, object bool) {
	switch v := v.(type) {
	case []any:
		for _, e := range v {
			out = append(out, Text(e))
		}
		return out, false
	case map[string]any:
		for _, name := range instance.Names(v) {
			out = append(out, name, Text(v[name]))
		}
		return out, true
	}
	return []string{Text(v)}, false
}

// separator is what parts the elements of a list that is one text.
func (p *Place) separator(param oad.Parameter) string {
	switch param.Style {
	case "spaceDelimited":
		return " "
	case "pipeDelimited":
		return "|"
	case "label":
		if param.Explode {
			return "."
		}
	}
	return ","
}

// scalars are the primitives that a text can be read as.
func scalars(text string) []any {
	out := []any{text}
	switch text {
	case "true", "false":
		out = append(out, text == "true")
	case "", "null":
		out = append(out, nil)
	}
	if json.Valid([]byte(text)) {
		if _, is := instance.Rat(json.Number(text)); is {
			out = append(out, json.Number(text))
		}
	}
	return out
}

// paired is a text such as R,100,G,200 or R=100,G=200 as an object; nil for any other text.
func paired(text string) map[string]any {
	tokens := strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == '=' })
	if len(tokens) == 0 || len(tokens)%2 != 0 {
		return nil
	}
	out := map[string]any{}
	for pair := range slices.Chunk(tokens, 2) {
		out[pair[0]] = pair[1]
	}
	return out
}
