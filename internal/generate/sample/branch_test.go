package sample

import (
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/testing/schematest"
)

// TestAControlForEachWay lists the controls of what people write: want has to be among
// them, whole or as a part, and not must be in none.
func TestAControlForEachWay(t *testing.T) {
	const ref = "#/paths/~1berths/post/requestBody/content/application~1json/schema"
	for _, c := range []struct {
		name, schema string
		want, not    []string
	}{
		{"exactly one of", "{type: object, properties: {a: {const: 1}, b: {const: 2}, c: {const: 3}}, oneOf: [{required: [a]}, {required: [b]}]}", []string{`{"a":1,"c":3}`, `{"b":2,"c":3}`}, []string{`"a":1,"b":2`}},
		{"exactly one of three, through allOf", "{type: object, allOf: [{properties: {a: {const: 1}, b: {const: 2}, c: {const: 3}}}], oneOf: [{required: [a]}, {required: [b]}, {allOf: [{required: [c]}]}]}", []string{`{"a":1}`, `{"b":2}`, `{"c":3}`}, nil},
		{"not both", "{type: object, properties: {a: {const: 1}, b: {const: 2}}, not: {required: [a, b]}}", []string{`{"a":1}`, `{"b":2}`}, []string{`"a":1,"b":2`}},
		{"never", "{type: object, properties: {a: {const: 1}, b: {const: 2}}, not: {anyOf: [{required: [a]}, {required: [z]}]}}", []string{`{"b":2}`}, []string{`"a"`}},
		{"at least one of", "{type: object, properties: {a: {const: 1}, b: {const: 2}}, anyOf: [{required: [a]}, {required: [b]}]}", []string{`{"a":1,"b":2}`, `{"a":1}`, `{"b":2}`}, nil},
		{"a branch that an example hides", "{type: object, properties: {p: {examples: [{k: x}], oneOf: [{type: object, required: [k], properties: {k: {const: x}}, additionalProperties: false}, {type: object, required: [j], properties: {j: {const: y}}, additionalProperties: false}]}, q: {type: string, examples: [Fulmar]}}, examples: [{p: {k: x}, q: Gannet}]}",
			[]string{`{"p":{"k":"x"},"q":"Gannet"}`, `{"p":{"j":"y"},"q":"Gannet"}`}, nil},
		{"recursion forces the outermost alone", "{$ref: '" + ref + "/$defs/e', $defs: {e: {oneOf: [{type: object, required: [both], additionalProperties: false, properties: {both: {type: array, minItems: 1, maxItems: 1, items: {$ref: '" + ref + "/$defs/e'}}}}, {type: object, required: [leaf], additionalProperties: false, properties: {leaf: {const: 1}}}]}}}",
			[]string{`{"both":[{"leaf":1}]}`, `{"leaf":1}`}, nil},
		{"a default without elements", "{type: object, required: [l], properties: {l: {type: array, default: [], items: {const: 1}}}}", []string{`{"l":[1,1]}`, `{"l":[]}`}, nil},
		{"an example without anything", "{type: object, properties: {o: {type: object, example: {}, additionalProperties: {const: 1}}, l: {type: [array, 'null'], example: null, items: {const: 2}}}}", []string{`{"l":[2,2],"o":{"extra1":1,"extra2":1}}`}, nil},
		{"an example with an empty list inside", "{type: object, properties: {l: {type: array, items: {const: 1}}}, example: {l: []}}", []string{`{"l":[1,1]}`}, nil},
		{"both sides of a condition", "{type: object, required: [k], properties: {k: {enum: [x, y]}, n: {const: 1}}, if: {properties: {k: {const: x}}}, else: {required: [n]}}", []string{`{"k":"x","n":1}`, `{"k":"y","n":1}`}, nil},
		{"a condition that a member meets by being there", "{type: object, properties: {k: {const: 1}, n: {const: 2}}, if: {required: [k]}, then: {required: [n]}}", []string{`{"k":1,"n":2}`, `{"n":2}`}, nil},
		{"several types", "{type: [string, integer, 'null'], minimum: 4, maximum: 4, minLength: 2}", []string{`4`, `"`}, nil},
		{"nothing is said of the body", "{}", []string{`{}`}, nil},
		{"anything is allowed", "true", []string{`{}`}, nil},
		{"nothing is said of a member", "{type: object, required: [name], properties: {name: {}}}", []string{`{"name":"`}, nil},
		{"members of allOf that are closed apart", "{allOf: [{type: object, additionalProperties: false, properties: {a: {const: 1}}}, {type: object, additionalProperties: false, required: [b], properties: {b: {const: 2}}}]}", []string{`{"a":1,"b":2}`}, nil},
		{"a member of allOf that is closed against its parent", "{type: object, required: [a], properties: {a: {const: 1}}, allOf: [{additionalProperties: false, properties: {b: {const: 2}}}]}", []string{`{"a":1,"b":2}`}, nil},
		{"what is not evaluated has a schema", "{type: array, minItems: 1, maxItems: 1, unevaluatedItems: {const: 7}}", []string{`[7]`}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := schematest.Compile(t, c.schema)
			res, err := New(1).Controls(s, nil)
			if err != nil {
				t.Fatal(err)
			}
			var made []string
			for _, control := range res.Controls {
				made = append(made, string(instance.Encode(control.Value)))
				if v := s.Validate(control.Value, nil); len(v) > 0 {
					t.Errorf("%s breaks %v", made[len(made)-1], v)
				}
			}
			for _, w := range c.want {
				if !slices.ContainsFunc(made, func(m string) bool {
					return m == w || !strings.HasSuffix(w, "}") && !strings.HasSuffix(w, "]") && strings.HasPrefix(m, w)
				}) {
					t.Errorf("no control is %s; made are %q", w, made)
				}
			}
			for _, n := range c.not {
				if slices.ContainsFunc(made, func(m string) bool { return strings.Contains(m, n) }) {
					t.Errorf("a control has %s: %q", n, made)
				}
			}
		})
	}
}

// TestPlainValues are those that an address can carry.
func TestPlainValues(t *testing.T) {
	for schema, want := range map[string]string{
		"{type: string, examples: [a/b, '', quay7]}":                          `"quay7"`,
		"{type: string, enum: [a/b, c d, e]}":                                 `"e"`,
		"{type: object, properties: {o: {type: object}, n: {const: 1}}}":      `{"n":1}`,
		"{type: string, pattern: '^[a-z]{3}/?$', examples: [abc/]}":           `"`,
		"{type: array, items: {type: string, enum: ['x,y', z]}, maxItems: 1}": `["z"]`,
	} {
		v, err := New(1).Plain(schematest.Compile(t, schema))
		if got := string(instance.Encode(v)); err != nil || !strings.HasPrefix(got, want) || !isPlain(v) {
			t.Errorf("%s: %s, %v; want %s", schema, got, err, want)
		}
	}
}
