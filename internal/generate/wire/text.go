package wire

import (
	"encoding/json"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// Read is v as a reader sees it to whom every value comes as text, as
// parameters and form fields do: a text is read as the number or boolean
// that the schemas want, where it can be, and stays text elsewhere.
func Read(list []schema.Schema, v any) any {
	switch v := v.(type) {
	case map[string]any:
		sh := schema.Merge(schema.Apply(list, v))
		out := make(map[string]any, len(v))
		for name, m := range v {
			members, _ := sh.Member(name)
			out[name] = Read(members, m)
		}
		return out
	case []any:
		sh := schema.Merge(schema.Apply(list, v))
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = Read(sh.Item(i), e)
		}
		return out
	}
	return textOf(list, Text(v))
}

// Text is a primitive as text: null is empty.
func Text(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	return string(instance.Encode(v))
}

func textOf(list []schema.Schema, text string) any {
	types := schema.AnyType
	if len(list) > 0 {
		types = typesOf(list)
	}
	readings := []any{text}
	if text == "true" || text == "false" {
		readings = append([]any{text == "true"}, readings...)
	}
	if json.Valid([]byte(text)) {
		if _, ok := instance.Rat(json.Number(text)); ok {
			readings = append([]any{json.Number(text)}, readings...)
		}
	}
	for _, r := range readings {
		if schema.Obeys(list, r) {
			return r
		}
	}
	if types.Has(schema.String) {
		return text
	}
	for _, r := range readings {
		if _, isNumber := r.(json.Number); isNumber && types&(schema.Integer|schema.Number) != 0 {
			return r
		}
		if _, isBool := r.(bool); isBool && types.Has(schema.Boolean) {
			return r
		}
	}
	return text
}
