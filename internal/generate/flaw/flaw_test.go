package flaw_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/sample"
	"obiter/internal/input/schema"
	"obiter/internal/testing/schematest"
)

// planted lists what is planted into the fullest control of a schema, one
// "pointer rule variant" a flaw; edges begin with "edge", combinations with "+", the
// empty object with "empty".
func planted(t testing.TB, s schema.Schema, opt flaw.Options) map[string]any {
	t.Helper()
	opt.Maker = sample.New(1)
	res, err := opt.Maker.Controls(s, nil)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]any{}
	flaw.Plant(s, res.Controls[0].Value, opt, func(p flaw.Planted) bool {
		key := ""
		switch {
		case p.Edge != nil:
			key = fmt.Sprintf("edge %s %s %s", p.Edge.Pointer, p.Edge.Rule, p.Edge.Variant)
		case len(p.Flaws) > 1:
			key = "+"
			if p.Flaws[0].Variant == "empty-object" {
				key = "empty"
			}
			for _, f := range p.Flaws {
				key += " " + f.Pointer
			}
		default:
			key = fmt.Sprintf("%s %s %s", p.Flaws[0].Pointer, p.Flaws[0].Rule, p.Flaws[0].Variant)
		}
		if _, twice := out[key]; twice {
			t.Errorf("%s is planted twice", key)
		}
		out[key] = p.Value
		return true
	})
	return out
}

// TestEachRuleHasItsFlaws lists for a schema what must be planted, as
// "variant = value", and what must not.
func TestEachRuleHasItsFlaws(t *testing.T) {
	for _, c := range []struct {
		name, schema string
		depth        flaw.Depth
		want, not    []string
	}{
		{"required", "{type: object, required: [a], properties: {a: {const: 1}, b: {const: 2}}}", flaw.Usual,
			[]string{`/a required left-out = {"b":2}`}, []string{"/b required left-out"}},
		{"type of an integer", "{type: integer, enum: [12]}", flaw.Usual,
			[]string{` type numeric-string = "12"`, ` type fraction = 12.5`, ` type null = null`, ` type object = {}`, ` type string = "twelve"`, ` type boolean = true`}, []string{" type number", " type array"}},
		{"all wrong types of an integer", "{type: integer}", flaw.Deep, []string{` type array = []`, ` type boolean = true`, ` type string = "twelve"`}, nil},
		{"type of a number takes integers", "{type: number, examples: [1.5]}", flaw.Deep, []string{` type numeric-string = "1.5"`, ` type empty-string = ""`}, []string{" type fraction", " type number"}},
		{"type of a text", "{type: string}", flaw.Usual, []string{" type number = 12345", " type null = null"}, []string{" type string", " type empty-string"}},
		{"type of a boolean", "{type: boolean}", flaw.Deep, []string{` type boolean-string = "true"`, ` type one-for-true = 1`, ` type zero-for-false = 0`}, []string{" type boolean"}},
		{"null where it is allowed", "{type: [string, 'null']}", flaw.Usual, []string{" type number = 12345", "edge  type null = null"}, []string{" type null"}},
		{"a list without its brackets", "{type: array, items: {const: 1}, minItems: 2}", flaw.Usual, []string{" type bare-element = 1"}, []string{" type string"}},
		{"enum", "{type: string, enum: [north, South]}", flaw.Usual,
			[]string{` enum unlisted = "unlisted"`, ` enum letter-case = "NORTH"`, ` enum padded = " north "`, ` enum empty = ""`, `edge  enum value-2 = "South"`}, []string{"edge  enum value-1"}},
		{"enum with both cases", "{enum: [a, A, '']}", flaw.Usual, []string{` enum padded = " a "`}, []string{" enum letter-case", " enum empty"}},
		{"const", "{const: true}", flaw.Usual, []string{" const unlisted = false"}, nil},
		{"lengths", "{type: string, minLength: 3, maxLength: 5, examples: [abcd]}", flaw.Usual,
			[]string{` minLength one-below = "ab"`, ` minLength empty = ""`, ` maxLength one-above = "abcdaa"`, ` maxLength one-above-multibyte = "øøøøøø"`,
				`edge  minLength exactly = "aaa"`, `edge  maxLength exactly = "aaaaa"`, `edge  maxLength exactly-multibyte = "øøøøø"`}, nil},
		{"minLength 1", "{type: string, minLength: 1}", flaw.Usual, []string{` minLength empty = ""`}, []string{" minLength one-below"}},
		{"a length next to an enum says nothing", "{enum: [abc], minLength: 2}", flaw.Usual, nil, []string{" minLength empty", " minLength one-below"}},
		{"pattern", "{type: string, pattern: '^[A-Z]{2}$', examples: [NO]}", flaw.Usual,
			[]string{` pattern wrong-class = "#O"`, ` pattern cut = "N"`, ` pattern extended = "NO#"`, ` pattern trailing-newline = "NO\n"`, ` pattern buried = "## NO ##"`}, nil},
		{"pattern without anchors", "{type: string, pattern: '[A-Z]{2}', examples: [NO]}", flaw.Usual, []string{` pattern cut = "N"`}, []string{" pattern extended", " pattern buried", " pattern trailing-newline"}},
		{"format", "{type: string, format: date}", flaw.Usual, []string{` format thirtieth-of-february = "2031-02-30"`, ` format slashes = "01/02/2031"`}, nil},
		{"int32", "{type: integer, format: int32}", flaw.Usual, []string{" format above-int32 = 2147483648", " format below-int32 = -2147483649"}, nil},
		{"int32 that is bounded already", "{type: integer, format: int32, minimum: 0, maximum: 9}", flaw.Usual, []string{" maximum just-above = 10"}, []string{" format above-int32", " format below-int32"}},
		{"bounds", "{type: integer, minimum: 2, maximum: 9, examples: [5]}", flaw.Usual,
			[]string{" minimum just-below = 1", " minimum far-below = -999998", " maximum just-above = 10", " maximum beyond-int64 = 9223372036854775808", "edge  minimum exactly = 2", "edge  maximum exactly = 9"}, nil},
		{"exclusive bounds", "{type: integer, exclusiveMinimum: 2, exclusiveMaximum: 9, examples: [5]}", flaw.Usual,
			[]string{" exclusiveMinimum on-the-bound = 2", " exclusiveMinimum just-below = 1", " exclusiveMaximum on-the-bound = 9", "edge  minimum exactly = 3", "edge  maximum exactly = 8"}, []string{" minimum just-below"}},
		{"bounds beyond 2^53", "{type: integer, maximum: 9007199254740993}", flaw.Usual, []string{" maximum just-above = 9007199254740994", "edge  maximum exactly = 9007199254740993"}, nil},
		{"a decimal multiple", "{type: number, minimum: 0.5, maximum: 0.9, multipleOf: 0.1, examples: [0.7]}", flaw.Usual,
			[]string{" multipleOf half-step = 0.75", " minimum just-below = 0.4", " maximum just-above = 1"}, nil},
		{"a multiple of integers", "{type: integer, multipleOf: 4, examples: [8]}", flaw.Usual, []string{" multipleOf half-step = 10"}, nil},
		{"every integer is a multiple of one", "{type: integer, multipleOf: 1}", flaw.Usual, nil, []string{" multipleOf half-step"}},
		{"counts", "{type: array, minItems: 2, maxItems: 3, items: {const: 1}}", flaw.Usual,
			[]string{" minItems one-below = [1]", " minItems empty = []", " maxItems one-above = [1,1,1,1]", "edge  maxItems exactly = [1,1,1]"}, nil},
		{"uniqueItems", "{type: array, uniqueItems: true, maxItems: 2, items: {enum: [1, 2, 3]}}", flaw.Usual, []string{" uniqueItems duplicate = [1,1]", " maxItems one-above = [1,2,3]"}, nil},
		{"closed object", "{type: object, additionalProperties: false, properties: {name: {const: 1}}}", flaw.Deep,
			[]string{`/unexpected additionalProperties unknown-member = {"name":1,"unexpected":"ballast"}`, `/naem additionalProperties misspelt = {"naem":1,"name":1}`, `/Name additionalProperties letter-case = {"Name":1,"name":1}`}, nil},
		{"open object", "{type: object, properties: {name: {const: 1}}}", flaw.Deep, nil, []string{"/unexpected additionalProperties unknown-member"}},
		{"first and last element", "{type: array, minItems: 3, items: {type: object, required: [k], properties: {k: {const: 1}}}}", flaw.Usual,
			[]string{`/0/k required left-out = [{},{"k":1},{"k":1}]`, `/2/k required left-out = [{"k":1},{"k":1},{}]`}, []string{"/1/k required left-out"}},
		{"empty object", "{type: object, required: [a, b], properties: {a: {const: 1}, b: {const: 1}}}", flaw.Usual, []string{"empty /a /b = {}"}, nil},
		{"all at once", "{type: object, properties: {a: {type: integer, maximum: 3}, b: {type: string, maxLength: 2, enum: [x]}, c: {type: array, items: {type: string, minLength: 2}}}}", flaw.Quick,
			[]string{`+ /a /b /c/0 /c/1 = {"a":`}, nil},
		{"a dependent member is collateral", "{type: object, properties: {a: {const: 1}, b: {const: 2}}, required: [a], dependentRequired: {a: [b]}}", flaw.Usual, []string{`/a required left-out = {"b":2}`}, nil},
		{"a branch that a sibling accepts", "{anyOf: [{type: string, maxLength: 3}, {type: string, maxLength: 9}], examples: [abc]}", flaw.Usual, nil, []string{" maxLength one-above"}},
		{"inside a branch", "{oneOf: [{type: object, required: [a], properties: {a: {type: integer, minimum: 5}}, additionalProperties: false}, {type: string}]}", flaw.Usual,
			[]string{`/a minimum just-below = {"a":4}`, "/a required left-out = {}"}, nil},
		{"contains", "{type: array, minItems: 2, maxItems: 3, items: {type: integer, enum: [1, 2, 3]}, contains: {const: 2}, examples: [[1, 2]]}", flaw.Usual, []string{" contains none-matching = [1,"}, nil},
		{"tuple", "{type: array, minItems: 3, prefixItems: [{type: string}, {type: integer}, {type: boolean}]}", flaw.Usual, []string{"/0 type number", "/1 type object", "/2 type boolean-string"}, nil},
		{"a list's last element gets one flaw a rule", "{type: array, minItems: 2, items: {type: string, minLength: 3, examples: [abcd]}}", flaw.Usual, []string{"/0 type number", "/0 type null", "/0 minLength one-below", "/0 minLength empty", "/1 type number", "/1 minLength one-below"}, []string{"/1 type null", "/1 minLength empty"}},

		{"dependentRequired", "{type: object, properties: {a: {const: 1}, b: {const: 2}}, dependentRequired: {a: [b]}}", flaw.Usual, []string{`/b dependentRequired without-a = {"a":1}`}, nil},
		{"the consequence of a condition", "{type: object, required: [k], properties: {k: {enum: [x, y]}, n: {const: 2}}, if: {properties: {k: {const: x}}}, then: {required: [n]}}", flaw.Usual, []string{`/n required left-out = {"k":"x"}`}, []string{"/k enum value-2"}},
		{"minProperties", "{type: object, minProperties: 2, properties: {a: {const: 1}, b: {const: 1}}}", flaw.Usual, []string{` minProperties one-below = {"a":1}`}, nil},
		{"minProperties implied by required", "{type: object, minProperties: 1, required: [a], properties: {a: {const: 1}}}", flaw.Usual, nil, []string{" minProperties one-below"}},
		{"maxProperties", "{type: object, maxProperties: 2, properties: {a: {const: 1}}}", flaw.Usual, []string{` maxProperties one-above = {"a":1,"extrab":"ballast","extrac":"ballast"}`}, nil},
		{"propertyNames", "{type: object, propertyNames: {pattern: '^[a-z]+$'}, properties: {a: {const: 1}}}", flaw.Usual, []string{`/Bad Name! propertyNames bad-name = {"Bad Name!":`}, nil},
		{"unevaluatedProperties", "{type: object, allOf: [{properties: {a: {const: 1}}}], unevaluatedProperties: false}", flaw.Usual, []string{`/unexpected unevaluatedProperties unknown-member = {"a":1,`}, nil},
		{"a map's values", "{type: object, additionalProperties: {type: integer, maximum: 5}}", flaw.Usual, []string{"/extra1 maximum just-above", "/extra2 type object", "edge  additionalProperties allowed-member"}, nil},
		{"patternProperties", "{type: object, patternProperties: {'^n_': {type: integer, minimum: 1}}}", flaw.Usual, []string{"minimum just-below"}, nil},
		{"two branches match", "{oneOf: [{type: object, required: [a], properties: {a: {const: 1}}}, {type: object, required: [b], properties: {b: {const: 2}}}]}", flaw.Usual, []string{` oneOf two-match = {"a":1,"b":2}`, " oneOf none-matches = {}"}, nil},
		{"two branches match, and the object stays right", "{type: object, additionalProperties: false, properties: {k: {const: 0}, a: {const: 1}, b: {const: 2}}, required: [k], oneOf: [{required: [a]}, {required: [b]}]}", flaw.Usual,
			[]string{` oneOf two-match = {"a":1,"b":2,"k":0}`, `/a required left-out = {"k":0}`}, nil},
		{"two branches match only where the object is wrong", "{type: object, oneOf: [{type: object, required: [a], properties: {a: {const: 1}}, additionalProperties: false}, {type: object, required: [b], properties: {b: {const: 2}}, additionalProperties: false}]}", flaw.Usual,
			[]string{`/a required left-out = {}`}, []string{" oneOf two-match"}},
		{"none of anyOf", "{anyOf: [{type: integer}, {type: string, maxLength: 3}], examples: [abc]}", flaw.Usual, []string{` anyOf none-matches = "unlisted"`}, nil},
		{"nothing beyond a tuple", "{type: array, prefixItems: [{const: 1}], items: false}", flaw.Usual, []string{`/1 items one-more = [1,"ballast"]`}, nil},
		{"a tuple that is given in part", "{type: array, prefixItems: [{const: 1}, {const: 2}], items: false, maxItems: 2}", flaw.Usual, nil, []string{"/2 items one-more"}},
		{"unevaluatedItems", "{type: array, allOf: [{prefixItems: [{const: 1}]}], unevaluatedItems: false}", flaw.Usual, []string{`/1 unevaluatedItems one-more = [1,"ballast"]`}, nil},
		{"minContains", "{type: array, items: {enum: [1, 2, 3]}, contains: {const: 2}, minContains: 2}", flaw.Usual, []string{" minContains one-below = [2]", " contains none-matching = ["}, nil},
		{"minContains of one says no more than contains", "{type: array, items: {enum: [1, 2]}, contains: {const: 2}, minContains: 1}", flaw.Usual, nil, []string{" minContains one-below"}},
		{"contains of which none need match", "{type: array, items: {enum: [1, 2]}, contains: {const: 2}, minContains: 0}", flaw.Usual, nil, []string{" contains none-matching"}},
		{"maxContains", "{type: array, items: {enum: [1, 2]}, contains: {const: 2}, maxContains: 2}", flaw.Usual, []string{" maxContains one-above = [2,2,2]"}, nil},
		{"a member that is forbidden", "{type: object, properties: {a: {const: 1}, z: false}}", flaw.Usual, []string{`/z properties forbidden-member = {"a":1,"z":"ballast"}`}, nil},
		{"a listed object", "{enum: [{a: 1}, {b: 2}]}", flaw.Usual, []string{` enum one-more = {"a":1,"unexpected":"ballast"}`, ` enum one-changed = {"a":"unlisted"}`}, nil},
		{"a constant list", "{const: [1, 2]}", flaw.Usual, []string{` const one-more = [1,2,"ballast"]`, ` const one-changed = ["unlisted",2]`}, nil},
		{"not", "{type: object, properties: {a: {type: integer}}, not: {required: [z], properties: {z: {const: 1}}}}", flaw.Usual, []string{` not forbidden = {`}, nil},
		{"each object by itself", "{type: object, properties: {p: {type: object, properties: {a: {enum: [1]}, b: {enum: [2]}}}, q: {enum: [3]}}}", flaw.Quick, []string{"+ /p/a /p/b /q", "+ /p/a /p/b"}, nil},
		{"pairs", "{type: object, properties: {a: {enum: [1]}, b: {enum: [2]}, c: {enum: [3]}}}", flaw.Deep, []string{"+ /a /b /c", "+ /a /b", "+ /a /c", "+ /b /c"}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := planted(t, schematest.Compile(t, c.schema), flaw.Options{Depth: c.depth})
			for _, w := range c.want {
				key, value, _ := strings.Cut(w, " = ")
				v, ok := got[key]
				if !ok && value == "" { // the place is made up by the seed
					for k, made := range got {
						if strings.HasSuffix(k, " "+key) {
							v, ok = made, true
						}
					}
				}
				if !ok {
					t.Errorf("%q is not planted; planted are %q", key, keys(got))
				} else if s := string(instance.Encode(v)); !strings.HasPrefix(s, value) {
					t.Errorf("%q is %s, want %s", key, s, value)
				}
			}
			for _, n := range c.not {
				if v, ok := got[n]; ok {
					t.Errorf("%q is planted as %s", n, instance.Encode(v))
				}
			}
		})
	}
}

// TestNothingIsLeftOutInSilence holds that a rule of which nothing is planted is
// dropped with a reason.
func TestNothingIsLeftOutInSilence(t *testing.T) {
	for _, c := range []struct{ name, schema, rule, why string }{
		{"a length next to an enum", "{enum: [abc], minLength: 2}", "minLength", flaw.Listed},
		{"rules of a type that the control does not have", "{type: [string, integer], minimum: 3, examples: [abc]}", "minimum", flaw.OtherType},
		{"what other members are", "{type: object, properties: {a: {const: 1}}, unevaluatedProperties: {type: integer}}", "unevaluatedProperties", flaw.NotBroken},
	} {
		t.Run(c.name, func(t *testing.T) {
			var drops []string
			planted(t, schematest.Compile(t, c.schema), flaw.Options{Depth: flaw.Usual, Dropped: func(d flaw.Drop) { drops = append(drops, d.Flaw.Rule+": "+d.Why) }})
			if !slices.Contains(drops, c.rule+": "+c.why) {
				t.Errorf("dropped are %q", drops)
			}
		})
	}
}

func keys(m map[string]any) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// TestMurkyNullIsLeftAlone: where the letter and the usage of OpenAPI 3.0
// differ on null, it is neither a flaw nor an edge.
func TestMurkyNullIsLeftAlone(t *testing.T) {
	s := schematest.CompileIn(t, "3.0.3", "{type: object, properties: {a: {type: string, enum: [x], nullable: true}, b: {nullable: true, allOf: [{type: string}]}, c: {type: string, nullable: true}}}")
	got := planted(t, s, flaw.Options{Depth: flaw.Deep})
	for _, n := range []string{"/a type null", "/b type null", "/c type null", "edge /a type null", "edge /b type null"} {
		if _, ok := got[n]; ok {
			t.Errorf("%q is planted", n)
		}
	}
	if _, ok := got["edge /c type null"]; !ok {
		t.Error("null is allowed at /c and is not an edge")
	}
}

func TestMergePatchTakesNullForRemoval(t *testing.T) {
	s := schematest.Compile(t, "{type: object, properties: {a: {type: string}}}")
	got := planted(t, s, flaw.Options{Depth: flaw.Usual, Patch: true})
	if _, ok := got["/a type null"]; ok {
		t.Error("null in a merge patch is planted as a wrong type")
	}
	if _, ok := got[" type null"]; !ok {
		t.Error("null in place of the patch is not planted")
	}
}

func TestQuickTakesOneOfEachRule(t *testing.T) {
	s := schematest.Compile(t, "{type: object, properties: {a: {type: string, minLength: 3, pattern: ^a}, b: {type: integer, maximum: 3}}}")
	seen := map[string]int{}
	for k := range planted(t, s, flaw.Options{Depth: flaw.Quick}) {
		parts := strings.Split(k, " ")
		seen[strings.Join(parts[:len(parts)-1], " ")]++
	}
	for rule, n := range seen {
		if n > 1 && !strings.HasPrefix(rule, "+") {
			t.Errorf("%q is planted %d times", rule, n)
		}
	}
	for _, rule := range []string{"/a type", "/a minLength", "/a pattern", "/b type", "/b maximum"} {
		if seen[rule] != 1 {
			t.Errorf("%q is planted %d times, want once", rule, seen[rule])
		}
	}
}

func TestDropsAreTold(t *testing.T) {
	s := schematest.Compile(t, "{type: object, properties: {a: {type: string, pattern: '[a-z]', maxLength: 5000000, examples: [abc]}}}")
	why := map[string]string{}
	planted(t, s, flaw.Options{Depth: flaw.Usual, Dropped: func(d flaw.Drop) { why[d.Flaw.Rule+" "+d.Flaw.Variant] = d.Why }})
	if why["pattern extended"] != flaw.StillValid || why["maxLength one-above"] != flaw.TooLarge {
		t.Errorf("drops are %v", why)
	}
}

func BenchmarkPlant(b *testing.B) {
	s := schematest.Compile(b, "{type: object, required: [a, b], properties: {a: {type: string, minLength: 3, maxLength: 9}, b: {type: integer, minimum: 1, maximum: 9}, c: {type: array, items: {type: object, required: [x], properties: {x: {type: string, format: date}}}}}}")
	maker := sample.New(1)
	res, err := maker.Controls(s, nil)
	if err != nil {
		b.Fatal(err)
	}
	n := 0
	for b.Loop() {
		flaw.Plant(s, res.Controls[0].Value, flaw.Options{Depth: flaw.Usual, Maker: maker}, func(flaw.Planted) bool { n++; return true })
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(n), "ns/case")
}
