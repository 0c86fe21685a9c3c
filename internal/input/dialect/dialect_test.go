package dialect_test

import (
	"strings"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/input/dialect"
	"obiter/internal/input/document"
)

func TestSchemasAreRewritten(t *testing.T) {
	for _, c := range []struct{ name, version, in, want string }{
		{"nullable", "3.0.3", `{"type":"string","nullable":true}`, `{"nullable":true,"type":["string","null"]}`},
		{"nullable without type", "3.0.3", `{"nullable":true}`, `{"nullable":true,"x-obiter-murky-null":true}`},
		{"nullable next to enum", "3.0.3", `{"type":"string","nullable":true,"enum":["a"]}`, `{"enum":["a"],"nullable":true,"type":["string","null"],"x-obiter-murky-null":true}`},
		{"nullable enum with null", "3.0.3", `{"type":"string","nullable":true,"enum":["a",null]}`, `{"enum":["a",null],"nullable":true,"type":["string","null"]}`},
		{"exclusive", "3.0.3", `{"minimum":1,"exclusiveMinimum":true,"maximum":5,"exclusiveMaximum":false}`, `{"exclusiveMinimum":1,"maximum":5}`},
		{"exclusive in 3.1", "3.1.0", `{"minimum":1,"exclusiveMinimum":true}`, `{"exclusiveMinimum":1}`},
		{"siblings of $ref", "3.0.3", `{"$ref":"#/components/schemas/B","minLength":3}`, `{"$ref":"#/components/schemas/B"}`},
		{"siblings of $ref in 3.1", "3.1.0", `{"$ref":"#/components/schemas/B","minLength":3}`, `{"$ref":"#/components/schemas/B","minLength":3}`},
		{"later keywords", "3.0.3", `{"const":1,"if":{},"patternProperties":{}}`, `{}`},
		{"nested", "3.0.3", `{"properties":{"example":{"type":"string","nullable":true}}}`, `{"properties":{"example":{"nullable":true,"type":["string","null"]}}}`},
		{"examples untouched", "3.0.3", `{"example":{"nullable":true,"const":1}}`, `{"example":{"const":1,"nullable":true}}`},
		{"a dialect that is known", "3.1.0", `{"$schema":"https://spec.openapis.org/oas/3.1/dialect/base","type":"string"}`, `{"type":"string"}`},
		{"a dialect that is not", "3.1.0", `{"$schema":"https://harbour.example/dialect"}`, `{"$schema":"https://harbour.example/dialect"}`},
		{"a discriminator", "3.1.0", `{"oneOf":[{"$ref":"#/components/schemas/Q"},{"$ref":"#/components/schemas/B"}],"discriminator":{"propertyName":"k","mapping":{"q":"#/components/schemas/Q"}}}`,
			`{"discriminator":{"mapping":{"q":"#/components/schemas/Q"},"propertyName":"k"},"oneOf":[{"allOf":[{"$ref":"#/components/schemas/Q"}],"properties":{"k":{"enum":["q","Q"],"x-obiter-murky":["Q"]}},"required":["k"],"x-obiter-pinned":true},{"allOf":[{"$ref":"#/components/schemas/B"}],"properties":{"k":{"enum":["B"]}},"required":["k"],"x-obiter-pinned":true}]}`},
		{"a discriminator whose names the branch does not list", "3.1.0", `{"oneOf":[{"$ref":"#/components/schemas/L"}],"discriminator":{"propertyName":"k"}}`, `{"discriminator":{"propertyName":"k"},"oneOf":[{"$ref":"#/components/schemas/L"}]}`},
		{"members of allOf that are closed apart", "3.1.0", `{"allOf":[{"$ref":"#/components/schemas/C"},{"additionalProperties":false,"properties":{"d":{}}}]}`, `{"allOf":[{"properties":{"c":{}}},{"properties":{"d":{}}}],"unevaluatedProperties":false}`},
		{"a member of allOf that is closed apart itself", "3.1.0", `{"allOf":[{"allOf":[{"$ref":"#/components/schemas/C"},{"properties":{"d":{}}}],"additionalProperties":false},{"properties":{"e":{}}}]}`,
			`{"allOf":[{"allOf":[{"properties":{"c":{}}},{"properties":{"d":{}}}]},{"properties":{"e":{}}}],"unevaluatedProperties":false}`},
		{"a member of allOf that knows all", "3.1.0", `{"allOf":[{"$ref":"#/components/schemas/C"},{"properties":{"c":{"minLength":1}}}]}`, `{"allOf":[{"$ref":"#/components/schemas/C"},{"properties":{"c":{"minLength":1}}}]}`},
		{"boolean required", "3.0.3", `{"type":"string","required":true}`, `{"type":"string"}`},
		{"readOnly", "3.1.0", `{"required":["a","b"],"properties":{"a":{"readOnly":true},"b":{}}}`, `{"properties":{"a":{"readOnly":true},"b":{}},"required":["b"]}`},
		{"readOnly behind $ref", "3.1.0", `{"required":["a"],"properties":{"a":{"$ref":"#/components/schemas/R"}}}`, `{"properties":{"a":{"$ref":"#/components/schemas/R"}},"required":[]}`},
		{"readOnly in another member of allOf", "3.1.0", `{"allOf":[{"required":["a","b"]},{"properties":{"a":{"readOnly":true}}}]}`, `{"allOf":[{"required":["b"]},{"properties":{"a":{"readOnly":true}}}]}`},
		{"requirement behind $ref, shared", "3.1.0", `{"allOf":[{"$ref":"#/components/schemas/Q"},{"properties":{"a":{"readOnly":true}}}]}`, `{"allOf":[{"required":[]},{"properties":{"a":{"readOnly":true}}}]}`},
	} {
		t.Run(c.name, func(t *testing.T) {
			src := `{"openapi":"` + c.version + `","paths":{},"components":{"schemas":{"B":{},"R":{"readOnly":true},"Q":{"required":["a"]},"E":{"enum":["x"]},"L":{"properties":{"k":{"$ref":"#/components/schemas/E"}}},"C":{"additionalProperties":false,"properties":{"c":{}}},"S":` + c.in + `}}}`
			f, err := document.Read("t.json", []byte(src))
			if err != nil {
				t.Fatal(err)
			}
			document.NewFiles(f, "", func(files *document.Files, address string, f *document.File) {
				dialect.Rewrite(files, address, f, strings.HasPrefix(c.version, "3.0"))
			})
			v := f.Value
			got, _ := instance.Get(v, "/components/schemas/S")
			if string(instance.Encode(got)) != c.want {
				t.Errorf("rewritten to %s, want %s", instance.Encode(got), c.want)
			}
			if q, _ := instance.Get(v, "/components/schemas/Q/required"); string(instance.Encode(q)) != `["a"]` {
				t.Errorf("the shared schema was changed: %s", instance.Encode(q))
			}
		})
	}
}

// Of what is written twice, one may be a schema and the other is not.
func TestWhatIsNoSchemaStays(t *testing.T) {
	const src = `{"openapi":"3.0.3","paths":{},"components":{"schemas":{
"A":{"type":"string","nullable":true},"B":{"type":"string","nullable":true},
"C":{"properties":{"d":{"type":"string","nullable":true}},"allOf":[{"type":"string","nullable":true}],"items":{"type":"string","nullable":true},"example":{"type":"string","nullable":true}}},
"examples":{"E":{"value":{"type":"string","nullable":true}}},
"parameters":{"P":{"schema":{"type":"string","nullable":true}}}}}`
	f, err := document.Read("t.json", []byte(src))
	if err != nil {
		t.Fatal(err)
	}
	document.NewFiles(f, "", func(files *document.Files, address string, f *document.File) {
		dialect.Rewrite(files, address, f, true)
	})
	for pointer, schema := range map[string]bool{
		"/schemas/A": true, "/schemas/B": true, "/schemas/C/properties/d": true, "/schemas/C/allOf/0": true, "/schemas/C/items": true,
		"/parameters/P/schema": true, "/schemas/C/example": false, "/examples/E/value": false,
	} {
		want := `{"nullable":true,"type":"string"}`
		if schema {
			want = `{"nullable":true,"type":["string","null"]}`
		}
		if got, _ := instance.Get(f.Value, "/components"+pointer); string(instance.Encode(got)) != want {
			t.Errorf("%s is %s, want %s", pointer, instance.Encode(got), want)
		}
	}
}

// A file that is one small schema is rewritten as others are.
func TestSmallFile(t *testing.T) {
	f, err := document.Read("t.json", []byte(`{"openapi":"3.0.3","paths":{}}`))
	if err != nil {
		t.Fatal(err)
	}
	small, err := document.Read("name.json", []byte(`{"type":"string","nullable":true}`))
	if err != nil {
		t.Fatal(err)
	}
	document.NewFiles(f, "", func(files *document.Files, address string, _ *document.File) {
		dialect.Rewrite(files, address+"/name.json", small, true)
	})
	if got, want := string(instance.Encode(small.Value)), `{"nullable":true,"type":["string","null"]}`; got != want {
		t.Errorf("it is %s, want %s", got, want)
	}
}

// TestHierarchies: where a schema is used that others build on, each of them may stand
// there, with its name; where it is built on, and in answers, it stays.
func TestHierarchies(t *testing.T) {
	f, err := document.Read("t.yaml", []byte(`
paths:
  /boats:
    post:
      requestBody: {content: {application/json: {schema: {$ref: '#/components/schemas/Boat'}}}}
      responses: {200: {content: {application/json: {schema: {$ref: '#/components/schemas/Boat'}}}}}
    put: {requestBody: {content: {application/json: {schema: {type: array, items: {$ref: '#/components/schemas/Tug'}}}}}}
components:
  schemas:
    Boat: {type: object, discriminator: {propertyName: kind, mapping: {tug: '#/components/schemas/Tug'}}, properties: {kind: {type: string}, next: {$ref: '#/components/schemas/Barge'}}}
    Tug: {allOf: [{$ref: '#/components/schemas/Boat'}, {properties: {pull: {type: integer}}}]}
    Barge: {allOf: [{$ref: '#/components/schemas/Boat'}]}
    Pusher: {allOf: [{$ref: '#/components/schemas/Tug'}]}
`))
	if err != nil {
		t.Fatal(err)
	}
	document.NewFiles(f, "", func(files *document.Files, address string, f *document.File) {
		dialect.Rewrite(files, address, f, false)
	})
	const (
		tug    = `{"allOf":[{"$ref":"#/components/schemas/Tug"}],"properties":{"kind":{"enum":["tug","Tug"],"x-obiter-murky":["Tug"]}},"required":["kind"],"x-obiter-pinned":true}`
		barge  = `{"allOf":[{"$ref":"#/components/schemas/Barge"}],"properties":{"kind":{"enum":["Barge"]}},"required":["kind"],"x-obiter-pinned":true}`
		pusher = `{"allOf":[{"$ref":"#/components/schemas/Pusher"}],"properties":{"kind":{"enum":["Pusher"]}},"required":["kind"],"x-obiter-pinned":true}`
	)
	for at, want := range map[string]string{
		"/paths/~1boats/post/requestBody/content/application~1json/schema":      `{"allOf":[{"anyOf":[` + barge + "," + tug + "," + pusher + `]}]}`,
		"/paths/~1boats/put/requestBody/content/application~1json/schema/items": `{"allOf":[{"anyOf":[` + tug + "," + pusher + `]}]}`,
		"/paths/~1boats/post/responses/200/content/application~1json/schema":    `{"$ref":"#/components/schemas/Boat"}`,
		"/components/schemas/Boat/properties/next":                              `{"allOf":[` + barge + `]}`,
		"/components/schemas/Tug/allOf/0":                                       `{"$ref":"#/components/schemas/Boat"}`,
		"/components/schemas/Pusher/allOf/0":                                    `{"$ref":"#/components/schemas/Tug"}`,
	} {
		if got, _ := instance.Get(f.Value, at); string(instance.Encode(got)) != want {
			t.Errorf("%s is %s, want %s", at, instance.Encode(got), want)
		}
	}
}

// TestWhatRefersAndWhatIsReferredTo is listed, with the bases that are in force.
func TestWhatRefersAndWhatIsReferredTo(t *testing.T) {
	f, err := document.Read("t.yaml", []byte(`
paths: {/a: {$ref: '#/x'}}
components:
  schemas:
    A: {$anchor: a, properties: {b: {$ref: '#/components/schemas/B'}}}
    B: {$id: 'https://harbour.example/b', items: {$ref: '#/$defs/c'}, example: {$ref: nope}}
`))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	document.NewFiles(f, "", func(files *document.Files, address string, f *document.File) {
		done := dialect.Rewrite(files, address, f, false)
		for _, r := range done.References {
			line := r.At.Pointer + " " + r.Ref
			if r.Schema {
				line += " schema"
			}
			if r.Based {
				line += " based"
			}
			got = append(got, line)
		}
		for _, at := range done.Anchored {
			got = append(got, "anchored "+at.Pointer)
		}
	})
	want := "/components/schemas/A/properties/b #/components/schemas/B schema|/components/schemas/B/items #/$defs/c schema based|/paths/~1a #/x|anchored /components/schemas/A|anchored /components/schemas/B"
	if s := strings.Join(got, "|"); s != want {
		t.Errorf("listed are\n%s, want\n%s", s, want)
	}
}
