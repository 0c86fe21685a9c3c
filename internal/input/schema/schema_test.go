package schema_test

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
	"obiter/internal/testing/schematest"
)

func decode(t *testing.T, s string) any {
	t.Helper()
	v, err := instance.Decode([]byte(s))
	if err != nil {
		t.Fatalf("%s: %v", s, err)
	}
	return v
}

func violations(s schema.Schema, v, control any) string {
	var out []string
	for _, x := range s.Validate(v, control) {
		out = append(out, x.Pointer+" "+x.Keyword)
	}
	return strings.Join(out, ", ")
}

func TestValidateNamesFieldAndKeyword(t *testing.T) {
	for _, c := range []struct{ name, schema, control, value, want string }{
		{"obeyed", "{type: integer, minimum: 3}", "", "3", ""},
		{"missing member", "{required: [a, b]}", "", `{"b":1}`, "/a required"},
		{"unknown member", "{properties: {a: {}}, additionalProperties: false}", "", `{"a":1,"x/y":2}`, "/x~1y additionalProperties"},
		{"nested", "{properties: {a: {items: {type: string}}}}", "", `{"a":["x",1]}`, "/a/1 type"},
		{"dependent", "{dependentRequired: {a: [b]}}", "", `{"a":1}`, "/b dependentRequired"},
		{"member name", "{propertyNames: {maxLength: 2}}", "", `{"abc":1}`, "/abc propertyNames"},
		{"not", "{not: {type: string}}", "", `"x"`, " not"},
		{"two at once", "{minLength: 5, pattern: ^x}", "", `"abc"`, " minLength,  pattern"},
		{"through $ref", "{allOf: [{$ref: '#/paths/~1berths/post/requestBody/content/application~1json/schema/$defs/a'}], $defs: {a: {minimum: 5}}}", "", "3", " minimum"},
		{"branch without control", "{oneOf: [{type: string}, {type: object, required: [a]}]}", "", `{}`, " oneOf"},
		{"branch of the control", "{oneOf: [{type: string}, {type: object, required: [a]}]}", `{"a":1}`, `{}`, "/a required"},
		{"several branches match", "{oneOf: [{type: integer}, {minimum: 3}]}", "1", "5", " oneOf"},
		{"anyOf", "{properties: {p: {anyOf: [{properties: {k: {const: a}, n: {type: string}}, required: [k, n]}, {properties: {k: {const: b}}, required: [k]}]}}}", `{"p":{"k":"a","n":"x"}}`, `{"p":{"k":"a","n":1}}`, "/p/n type"},
		{"unevaluated", "{properties: {a: {}}, unevaluatedProperties: false}", "", `{"x":1}`, "/x unevaluatedProperties"},
		{"unevaluated as a consequence", "{anyOf: [{properties: {a: {type: string}, b: {}}, required: [a]}], unevaluatedProperties: false}", `{"a":"x","b":1}`, `{"a":1,"b":1}`, "/a type"},
		{"int32", "{type: integer, format: int32}", "", "2147483648", " format"},
		{"byte", "{type: string, format: byte}", "", `"%"`, " format"},
		{"password constrains nothing", "{type: string, format: password}", "", `""`, ""},
		{"look-ahead", "{pattern: '^(?=.*[0-9]).{3,}$'}", "", `"abc"`, " pattern"},
		{"dollar is the end in ECMA-262", "{pattern: '^a$'}", "", `"a\n"`, " pattern"},
		{"a decimal multiple", "{multipleOf: 0.01}", "", "0.07", ""},
		{"length in code points", "{maxLength: 2}", "", `"🚢🚢"`, ""},
		{"null by another type", "{type: [string, 'null']}", "", "null", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			var control any
			if c.control != "" {
				control = decode(t, c.control)
			} else {
				control = struct{}{} // nothing is found in it
			}
			if got := violations(schematest.Compile(t, c.schema), decode(t, c.value), control); got != c.want {
				t.Errorf("violations %q, want %q", got, c.want)
			}
		})
	}
}

func TestCatastrophicPatternsAreStopped(t *testing.T) {
	s := schematest.Compile(t, "{pattern: '^(a+)+$'}")
	if v := s.Validate(strings.Repeat("a", 40)+"b", nil); len(v) != 0 {
		t.Errorf("a match that is given up counts as found, and yet: %v", v)
	}
}

func TestUnreadablePatternsAreNotChecked(t *testing.T) {
	s := schematest.Compile(t, `{type: string, pattern: '[', format: harbour-code}`)
	sh := schema.Merge(schema.Apply([]schema.Schema{s}, "x"))
	if want := []string{"pattern [", "format harbour-code"}; !reflect.DeepEqual(sh.Unchecked, want) || !s.Valid("anything") {
		t.Errorf("unchecked %q, want %q", sh.Unchecked, want)
	}
}

func TestLongPatternsAreNotTried(t *testing.T) {
	doc := schematest.Document(t, "3.1.0", "{properties: {a: {pattern: '"+strings.Repeat("ab?", 40_000)+"'}}}")
	_, err := schema.NewSet(doc).Compile(doc.Operations[0].Body.Media[0].Schema.URL())
	if want := "the schema is not tried: at #/properties/a/pattern the pattern has 120000 bytes, and those of more than 100000 are not tried"; err == nil || err.Error() != want {
		t.Errorf("error = %.300v", err)
	}
}

func TestCompileErrorsSayWhere(t *testing.T) {
	doc := schematest.Document(t, "3.1.0", "{properties: {a: {type: strin}}}")
	_, err := schema.NewSet(doc).Compile(doc.Operations[0].Body.Media[0].Schema.URL())
	if err == nil || !strings.Contains(err.Error(), "at #/properties/a/type") {
		t.Errorf("error = %v", err)
	}
}

// TestMergeTakesTheStrictest reads what a field's schemas say together.
func TestMergeTakesTheStrictest(t *testing.T) {
	for _, c := range []struct{ name, schema, value, want string }{
		{"bounds", "{allOf: [{minimum: 1, maximum: 9}, {exclusiveMinimum: 1, maximum: 7}]}", "5", "exclusiveMinimum 1, maximum 7"},
		{"lengths", "{allOf: [{minLength: 1, maxLength: 9}, {minLength: 3}], maxLength: 20}", `"abcd"`, "minLength 3, maxLength 9"},
		{"types", "{type: [string, number], allOf: [{type: [integer, 'null', string]}]}", `"x"`, "type string or integer"},
		{"enum", "{enum: [1, 2, 3], allOf: [{enum: [2.0, 3, 4]}]}", "2", "enum 2 3"},
		{"only the branch that holds", "{oneOf: [{type: string, minLength: 2}, {type: integer, minimum: 3}]}", "5", "type integer, minimum 3, oneOf 2 branches"},
		{"then", "{type: object, if: {required: [a]}, then: {required: [b]}, else: {required: [c]}}", `{"a":1,"b":1}`, "type object, required b"},
		{"else", "{type: object, if: {required: [a]}, then: {required: [b]}, else: {required: [c]}}", `{"c":1}`, "type object, required c"},
		{"dependent schema", "{dependentSchemas: {a: {required: [b]}}}", `{"a":1,"b":1}`, "required b"},
		{"closed", "{properties: {z: {}}, allOf: [{additionalProperties: false, properties: {z: {}}}]}", `{"z":1}`, "additionalProperties false"},
		{"closed against its siblings", "{properties: {z: {}, a: {}}, allOf: [{additionalProperties: false, properties: {z: {}}}]}", `{"z":1}`, "unevaluatedProperties false"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := schematest.Compile(t, c.schema)
			sh := schema.Merge(schema.Apply([]schema.Schema{s}, decode(t, c.value)))
			var got []string
			for _, r := range sh.Rules() {
				got = append(got, fmt.Sprint(r.Keyword, " ", r.Says))
			}
			if strings.Join(got, ", ") != c.want {
				t.Errorf("rules %q, want %q", got, c.want)
			}
		})
	}
}

func TestShapeKnowsMembersAndItems(t *testing.T) {
	s := schematest.Compile(t, `
properties: {zulu: {type: string}, alpha: {type: integer, readOnly: true}}
patternProperties: {'^x': {maxLength: 3}}
additionalProperties: {type: boolean}`)
	sh := schema.Merge([]schema.Schema{s})
	if !slices.Equal(sh.Properties, []string{"zulu", "alpha"}) {
		t.Errorf("properties %q are not in the order of the document", sh.Properties)
	}
	for name, want := range map[string]int{"zulu": 1, "x1": 1, "other": 1} {
		if members, ok := sh.Member(name); !ok || len(members) != want {
			t.Errorf("Member(%q) = %d schemas, %v", name, len(members), ok)
		}
	}
	members, _ := sh.Member("alpha")
	if !schema.Merge(members).ReadOnly {
		t.Error("alpha is not read-only")
	}
	list := schema.Merge([]schema.Schema{schematest.Compile(t, "{prefixItems: [{type: string}], items: {type: integer}}")})
	if list.Prefix() != 1 || list.Item(0)[0].Valid(decode(t, "1")) || !list.Item(1)[0].Valid(decode(t, "1")) {
		t.Error("the element schemas are wrong")
	}
}

func TestKindReadsTheMeaning(t *testing.T) {
	for text, want := range map[string]schema.Types{
		"{type: [string, 'null']}": schema.String, "{properties: {a: {}}}": schema.Object, "{items: {}}": schema.Array,
		"{minimum: 3}": schema.Number, "{}": schema.String, "{type: integer}": schema.Integer, "{type: [boolean]}": schema.Boolean,
	} {
		if got := schema.Merge([]schema.Schema{schematest.Compile(t, text)}).Kind(); got != want {
			t.Errorf("Kind of %s = %v, want %v", text, got.Names(), want.Names())
		}
	}
}

// TestBreaksLooksAtOneKeyword is about values that the validator gives up on early.
func TestBreaksLooksAtOneKeyword(t *testing.T) {
	sh := schema.Merge([]schema.Schema{schematest.Compile(t, "{type: string, enum: [ab], minLength: 2, maxLength: 3, pattern: ^a, format: date}")})
	for keyword, value := range map[string]string{"type": "1", "enum": `"x"`, "minLength": `"x"`, "maxLength": `"abcd"`, "pattern": `"b"`, "format": `"ab"`} {
		if !sh.Breaks(keyword, decode(t, value)) {
			t.Errorf("%s does not break %s", value, keyword)
		}
		if sh.Breaks("maximum", decode(t, value)) {
			t.Errorf("%s breaks a rule that is not there", value)
		}
	}
	if sh.Breaks("minLength", decode(t, `"ab"`)) {
		t.Error(`"ab" breaks minLength 2`)
	}
}

func TestAtFollowsTheInstance(t *testing.T) {
	s := schematest.Compile(t, "{properties: {crew: {prefixItems: [{title: master}], items: {title: hand}}, load: {oneOf: [{type: string}, {type: object, properties: {weight: {title: tonnes}}}]}}, additionalProperties: false}")
	v := decode(t, `{"crew":[1,2],"load":{"weight":7}}`)
	for _, c := range []struct{ pointer, value, at string }{
		{"", `{"crew":[1,2],"load":{"weight":7}}`, "/schema"},
		{"/crew/0", "1", "/crew/prefixItems/0"},
		{"/crew/1", "2", "/crew/items"},
		{"/crew/2", "missing", "/crew/items"},
		{"/load/weight", "7", "/load/oneOf/1/properties/weight"},
		{"/load/height", "missing", ""},
		{"/crew/x", "missing", ""},
		{"/load/weight/more", "missing", ""},
		{"/other", "missing", ""},
		{"no pointer", "missing", ""},
	} {
		list, value, there := schema.At([]schema.Schema{s}, v, c.pointer)
		got := "missing"
		if there {
			got = string(instance.Encode(value))
		}
		at := ""
		for _, found := range list {
			at += found.Pointer()
		}
		if got != c.value || !strings.HasSuffix(at, c.at) || (at == "") != (c.at == "") {
			t.Errorf("At(%q) = %s by %q, want %s by %s", c.pointer, got, at, c.value, c.at)
		}
	}
}

// TestReferencesAsJSONSchemaSaysThem compiles schemas that refer to one another by
// pointer, anchor, dynamic anchor, and by an $id of their own (JSON Schema 2020-12
// core, sections 8.2 and 9.1).
func TestReferencesAsJSONSchemaSaysThem(t *testing.T) {
	const components = `
components:
  schemas:
    Buoy: {$anchor: buoy, type: object, required: [colour], properties: {colour: {$ref: '#paint'}}}
    Paint: {$anchor: paint, type: string, maxLength: 5}
    Chart: {$id: 'https://harbour.example/chart', type: object, required: [scale], properties: {scale: {$ref: '#/$defs/scale'}}, $defs: {scale: {type: integer, minimum: 1}}}
    List: {$dynamicAnchor: item, type: object, properties: {next: {$dynamicRef: '#item'}, depth: {type: integer}}}
    Own: {$schema: 'https://spec.openapis.org/oas/3.1/dialect/base', type: integer}
    Broken: {$ref: '#nowhere'}
    Lost: {type: object, properties: {a: {$ref: '#/components/schemas/Nope'}}}
`
	for _, c := range []struct{ schema, valid, invalid, err string }{
		{`{$ref: '#buoy'}`, `{"colour":"red"}`, `{"colour":"yellow"}`, ""},
		{`{$ref: '#/components/schemas/Buoy'}`, `{"colour":"red"}`, `{}`, ""},
		{`{$ref: 'https://harbour.example/chart'}`, `{"scale":5}`, `{"scale":0}`, ""},
		{`{$ref: 'https://harbour.example/chart#/$defs/scale'}`, `5`, `0`, ""},
		{`{$ref: '#/components/schemas/List'}`, `{"next":{"depth":1}}`, `{"next":{"depth":"x"}}`, ""},
		{`{$ref: '#/components/schemas/Own'}`, `5`, `"x"`, ""},
		{`{$ref: '#/components/schemas/Broken'}`, "", "", "t.yaml:17:14: the $ref points to nothing"},
		{`{$ref: '#/components/schemas/Lost'}`, "", "", "t.yaml:18:43"},
		{`{$ref: 'https://harbour.example/nope'}`, "", "", "nothing is fetched from the network"},
	} {
		doc, err := oad.Read("t.yaml", []byte("openapi: 3.1.0\ninfo: {title: t, version: '1'}\npaths:\n  /berths:\n    post:\n      requestBody:\n        content:\n          application/json:\n            schema: "+c.schema+components))
		if err != nil {
			t.Fatal(err)
		}
		s, err := schema.NewSet(doc).Compile(doc.Operations[0].Body.Media[0].Schema.URL())
		switch {
		case c.err != "":
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v, want %q", c.schema, err, c.err)
			}
		case err != nil:
			t.Errorf("%s: %v", c.schema, err)
		default:
			for text, want := range map[string]bool{c.valid: true, c.invalid: false} {
				v, err := instance.Decode([]byte(text))
				if err != nil || s.Valid(v) != want {
					t.Errorf("%s takes %s: %v", c.schema, text, !want)
				}
			}
		}
	}
}
