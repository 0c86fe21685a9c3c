package schematest

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
)

// Random is a schema of up to that many levels, mostly satisfiable.
func Random(rng *rand.Rand, levels int) any {
	number := func(n int) json.Number { return json.Number(fmt.Sprint(n)) }
	low := rng.IntN(5)
	high := low + 1 + rng.IntN(6)
	kind := rng.IntN(12)
	if levels == 0 {
		kind = rng.IntN(5)
	}
	switch kind {
	case 0:
		return map[string]any{"type": "integer", "minimum": number(low), "maximum": number(high)}
	case 1:
		return map[string]any{"type": "number", "exclusiveMinimum": number(low), "multipleOf": json.Number([]string{"0.1", "0.25", "3"}[rng.IntN(3)])}
	case 2:
		s := map[string]any{"type": "string", "minLength": number(low), "maxLength": number(high + 20)}
		if rng.IntN(2) == 0 {
			s["pattern"] = []string{"^[a-z]+$", "^[A-Z0-9-]*$", "[a-z]$", "^(north|south)"}[rng.IntN(4)]
		}
		return s
	case 3:
		return map[string]any{"type": "string", "format": []string{"date", "date-time", "uuid", "email", "uri", "ipv4"}[rng.IntN(6)]}
	case 4:
		return map[string]any{"enum": []any{"tug", number(3), true, nil}[:1+rng.IntN(4)]}
	case 5:
		s := map[string]any{"type": "array", "items": Random(rng, levels-1), "minItems": number(rng.IntN(3)), "maxItems": number(3 + rng.IntN(3))}
		if rng.IntN(4) == 0 {
			s["contains"] = map[string]any{}
		}
		return s
	case 6:
		return map[string]any{"anyOf": []any{Random(rng, levels-1), Random(rng, levels-1)}}
	case 7:
		return map[string]any{"allOf": []any{randomObject(rng, levels, "a"), randomObject(rng, levels, "b")}}
	}
	switch kind {
	case 8:
		return map[string]any{"type": []any{"string", "integer"}, "minLength": number(low), "maximum": number(high + 9)}
	case 9: // exactly one of two members, or not both
		s := randomObject(rng, levels, "a")
		properties := s["properties"].(map[string]any)
		properties["x"], properties["y"] = Random(rng, 0), Random(rng, 0)
		if rng.IntN(2) == 0 {
			s["oneOf"] = []any{map[string]any{"required": []any{"x"}}, map[string]any{"required": []any{"y"}}}
		} else {
			s["not"] = map[string]any{"required": []any{"x", "y"}}
		}
		return s
	case 10: // a member that another one demands, or that demands another
		s := randomObject(rng, levels, "c")
		properties := s["properties"].(map[string]any)
		properties["k"], properties["n"] = map[string]any{"enum": []any{"north", "south"}}, Random(rng, 0)
		s["required"] = append(s["required"].([]any), "k")
		s["if"] = map[string]any{"properties": map[string]any{"k": map[string]any{"const": "north"}}}
		s[[]string{"then", "else"}[rng.IntN(2)]] = map[string]any{"required": []any{"n"}}
		return s
	}
	s := randomObject(rng, levels, strings.Repeat("k", 1+rng.IntN(2)))
	if rng.IntN(2) == 0 {
		s["additionalProperties"] = false
	}
	return s
}

func randomObject(rng *rand.Rand, levels int, prefix string) map[string]any {
	properties, required := map[string]any{}, []any{}
	for i := range 1 + rng.IntN(4) {
		name := fmt.Sprintf("%s%d", prefix, i)
		properties[name] = Random(rng, levels-1)
		if rng.IntN(2) == 0 {
			required = append(required, name)
		}
	}
	s := map[string]any{"type": "object", "properties": properties, "required": required}
	if rng.IntN(5) == 0 {
		s["dependentRequired"] = map[string]any{prefix + "0": []any{prefix + "0"}}
	}
	return s
}
