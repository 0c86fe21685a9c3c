package schema

import (
	"encoding/json"

	"obiter/internal/instance"
)

// Texts is v as a reader sees it to whom every value comes as text, as
// parameters and form fields do: a text is taken for the number or truth value
// that the schemas ask for, where it can be, and stays text elsewhere.
func Texts(list []Schema, v any) any {
	switch v := v.(type) {
	case map[string]any:
		sh := Merge(Apply(list, v))
		out := make(map[string]any, len(v))
		for name, m := range v {
			members, _ := sh.Member(name)
			out[name] = Texts(members, m)
		}
		return out
	case []any:
		sh := Merge(Apply(list, v))
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = Texts(sh.Item(i), e)
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

func textOf(list []Schema, text string) any {
	types := AnyType
	if len(list) > 0 {
		types = Merge(Expand(list, func(Schema, string, int) []int { return nil })).Types
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
		if Obeys(list, r) {
			return r
		}
	}
	if types.Has(String) {
		return text
	}
	for _, r := range readings {
		if _, isNumber := r.(json.Number); isNumber && types&(Integer|Number) != 0 {
			return r
		}
		if _, isBool := r.(bool); isBool && types.Has(Boolean) {
			return r
		}
	}
	return text
}

// Obeys tells whether v obeys all of the schemas.
func Obeys(list []Schema, v any) bool {
	for _, s := range list {
		if !s.Valid(v) {
			return false
		}
	}
	return true
}
