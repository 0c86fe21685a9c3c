package sample

import (
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
	"obiter/internal/testing/schematest"
)

func decode(t testing.TB, s string) any {
	t.Helper()
	v, err := instance.Decode([]byte(s))
	if err != nil {
		t.Fatalf("%s: %v", s, err)
	}
	return v
}

// TestControlsObeyTheirSchema: whatever can be made is valid, and has what it should.
func TestControlsObeyTheirSchema(t *testing.T) {
	for _, c := range []struct{ name, schema, fullest, leanest string }{
		{"constant", "{const: 7}", "7", ""},
		{"null is the last choice", "{enum: [null, a]}", `"a"`, ""},
		{"only null", "{enum: [null]}", "null", ""},
		{"optional members", "{type: object, required: [a], properties: {b: {const: 2}, a: {const: 1}}}", `{"a":1,"b":2}`, `{"a":1}`},
		{"read-only members", "{type: object, properties: {id: {type: string, readOnly: true}, a: {const: 1}}}", `{"a":1}`, `{}`},
		{"own example", "{type: string, minLength: 3, examples: [Fulmar]}", `"Fulmar"`, ""},
		{"example of an object, completed", "{type: object, required: [a], properties: {a: {type: string}, b: {const: 2}}, examples: [{a: x}]}", `{"a":"x","b":2}`, `{"a":"x"}`},
		{"example that breaks the schema", "{type: integer, minimum: 5, maximum: 5, examples: [3]}", "5", ""},
		{"a multiple between bounds", "{type: number, minimum: 0.31, maximum: 0.39, multipleOf: 0.05}", "0.35", ""},
		{"exclusive bounds", "{type: integer, exclusiveMinimum: 3, exclusiveMaximum: 5}", "4", ""},
		{"two multiples", "{type: integer, minimum: 1, maximum: 12, allOf: [{multipleOf: 4}, {multipleOf: 6}]}", "12", ""},
		{"the branch with fewer demands", "{oneOf: [{type: integer, minimum: 5, maximum: 3}, {const: b}]}", `"b"`, ""},
		{"merged members of allOf", "{allOf: [{required: [a]}, {properties: {a: {enum: [1, 2]}}}, {properties: {a: {enum: [2, 3]}}}]}", `{"a":2}`, ""},
		{"tuple", "{type: array, prefixItems: [{const: 1}, {const: 2}, {const: 3}], minItems: 3, maxItems: 3}", "[1,2,3]", ""},
		{"different elements", "{type: array, uniqueItems: true, minItems: 3, items: {enum: [1, 2, 3]}}", "[1,2,3]", ""},
		{"recursion through a list", "{$ref: '#/paths/~1berths/post/requestBody/content/application~1json/schema/$defs/n', $defs: {n: {type: object, required: [k, of], properties: {k: {const: 1}, of: {type: array, items: {$ref: '#/paths/~1berths/post/requestBody/content/application~1json/schema/$defs/n'}}}}}}", "", ""},
		{"additional members up to a number", "{type: object, minProperties: 2, additionalProperties: {const: 1}}", `{"extra1":1,"extra2":1}`, ""},
		{"boolean", "{type: boolean}", "true", ""},
		{"big numbers stay exact", "{type: integer, minimum: 9007199254740993, maximum: 9007199254740993}", "9007199254740993", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := schematest.Compile(t, c.schema)
			res, err := New(1).Controls(s, nil)
			if err != nil {
				t.Fatal(err)
			}
			for _, control := range res.Controls {
				if v := s.Validate(control.Value, nil); len(v) > 0 {
					t.Errorf("%s breaks %v", instance.Encode(control.Value), v)
				}
			}
			if got := string(instance.Encode(res.Controls[0].Value)); c.fullest != "" && got != c.fullest {
				t.Errorf("fullest %s, want %s", got, c.fullest)
			}
			if c.leanest != "" && (len(res.Controls) != 2 || string(instance.Encode(res.Controls[1].Value)) != c.leanest) {
				t.Errorf("leanest %+v, want %s", res.Controls, c.leanest)
			}
		})
	}
}

// TestTextsObeyTheirRules goes through formats and patterns.
func TestTextsObeyTheirRules(t *testing.T) {
	var schemas []string
	for _, f := range []string{"date", "date-time", "time", "duration", "email", "hostname", "ipv4", "ipv6", "uuid", "uri", "uri-reference", "json-pointer", "regex", "byte", "iri", "uri-template", "relative-json-pointer"} {
		schemas = append(schemas, "{type: string, format: "+f+"}")
	}
	for _, p := range []string{`^IMO[0-9]{7}$`, `^[A-Z]{2,3}-\d+$`, `^(?=.*[0-9])(?=.*[a-z])[a-z0-9]{8,}$`, `^(red|white)$`, `^\w+@\w+\.example$`, `[\u00e6-\u00f8]{3}`, `^[^a-z]{4}$`, `^a?b*c+$`, `.`, `^$`, `^\S+$`, `^#[0-9a-f]{6}$`} {
		schemas = append(schemas, "{type: string, pattern: '"+p+"'}")
	}
	schemas = append(schemas, `{type: string, pattern: '^[A-Z0-9]+$', minLength: 9, maxLength: 9}`, `{type: string, minLength: 300}`, `{type: string, maxLength: 1}`, `{type: string, pattern: '^[a-z]', minLength: 40}`)
	for _, text := range schemas {
		s := schematest.Compile(t, text)
		for seed := range uint64(5) {
			if res, err := New(seed).Controls(s, nil); err != nil || !s.Valid(res.Controls[0].Value) {
				t.Errorf("%s, seed %d: %+v, %v", text, seed, res.Controls, err)
			}
		}
	}
}

func TestWhatCannotBeMadeSaysWhy(t *testing.T) {
	for text, want := range map[string]string{
		"{type: integer, minimum: 5, maximum: 3}":                             "minimum, maximum",
		"{type: string, allOf: [{type: integer}]}":                            "no type is allowed",
		"{type: string, pattern: '^a$', minLength: 3}":                        "pattern ^a$",
		"{type: object, required: [a], additionalProperties: false}":          `"a" is required and not allowed`,
		"{type: array, minItems: 20000000, items: {}}":                        "minItems 20000000",
		"{type: string, enum: [a], minLength: 3}":                             "no value of the enum",
		"{type: array, minItems: 4, uniqueItems: true, items: {enum: [1,2]}}": "no 4 different elements",
		"{type: string, minLength: 90000000}":                                 "minLength 90000000",
	} {
		_, err := New(0).Controls(schematest.Compile(t, text), nil)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

func TestPublishedExamples(t *testing.T) {
	s := schematest.Compile(t, "{type: object, required: [a], properties: {a: {type: string}, id: {type: integer, readOnly: true}, b: {const: 2}}}")
	res, err := New(0).Controls(s, []Published{{decode(t, `{"a":1}`), "t.yaml:9:3"}, {decode(t, `{"a":"x","id":7}`), "t.yaml:10:3"}})
	if err != nil {
		t.Fatal(err)
	}
	if len(res.Rejected) != 1 || !strings.HasPrefix(res.Rejected[0], "t.yaml:9:3: this example breaks its own schema at #/a") {
		t.Errorf("rejected %q", res.Rejected)
	}
	if got := string(instance.Encode(res.Controls[0].Value)); got != `{"a":"x","b":2}` || res.Controls[0].Origin != "example" {
		t.Errorf("fullest %s from %s", got, res.Controls[0].Origin)
	}
}

func TestSeedsDecideEverything(t *testing.T) {
	s := schematest.Compile(t, "{type: object, properties: {a: {type: string, format: uuid}, b: {type: integer}, c: {type: string, pattern: '^[a-z]{20}$'}}}")
	made := func(seed uint64) string {
		res, err := New(seed).Controls(s, nil)
		if err != nil {
			t.Fatal(err)
		}
		return string(instance.Encode(res.Controls[0].Value))
	}
	first := made(1)
	if again := made(1); again != first {
		t.Errorf("the same seed gives %s and %s", first, again)
	}
	if made(2) == first {
		t.Error("another seed gives the same value")
	}
}

func TestExactlyMakesTheLength(t *testing.T) {
	for text, n := range map[string]int{"{type: string, maxLength: 40}": 40, "{type: string, pattern: '^[A-Z]+$'}": 12, "{type: string, format: email}": 30, "{type: string, format: uri}": 90} {
		sh := schema.Merge([]schema.Schema{schematest.Compile(t, text)})
		got, ok := New(0).Exactly(sh, n, "a")
		if !ok || utf8.RuneCountInString(got) != n || !sh.Valid(got) {
			t.Errorf("%s: %q, %v", text, got, ok)
		}
	}
}

func FuzzMatching(f *testing.F) {
	for _, p := range []string{"^a{2,5}$", "(?=x)y", "[^a]", "(a|b)*c", "\\d{1000}{1000}", "((((", "(?!a", "[(]", "\\u{1F6A2}"} {
		f.Add(p, 3)
	}
	f.Fuzz(func(t *testing.T, pattern string, least int) {
		least = min(max(least, 0), 50)
		for _, s := range matching(pattern, least, 60, rand.New(rand.NewPCG(1, 2))) {
			if n := utf8.RuneCountInString(s); n < least || n > 60 {
				t.Fatalf("%q has %d characters, not %d to 60", s, n, least)
			}
			if re, err := regexp.Compile(pattern); err == nil && least == 0 && utf8.ValidString(pattern) && !strings.Contains(pattern, `\b`) && !strings.Contains(pattern, `\B`) &&
				!strings.ContainsAny(pattern, "^$") && !strings.Contains(pattern, `\A`) && !strings.Contains(pattern, `\z`) && !re.MatchString(s) {
				t.Fatalf("%q generates %q, which it does not match", pattern, s)
			}
		}
	})
}

func BenchmarkControls(b *testing.B) {
	s := schematest.Compile(b, "{type: object, properties: {a: {type: string, format: uuid}, b: {type: integer, minimum: 3}, c: {type: array, items: {type: object, required: [x], properties: {x: {type: string}}}}}}")
	for b.Loop() {
		if _, err := New(0).Controls(s, nil); err != nil {
			b.Fatal(err)
		}
	}
}
