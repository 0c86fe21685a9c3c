package sample

import (
	"encoding/json"
	"math/rand/v2"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
	"obiter/internal/testing/schematest"
)

// compile makes a schema of JSON text; false where the text is not usable.
func compile(text string) (schema.Schema, bool) {
	if !json.Valid([]byte(text)) {
		return schema.Schema{}, false
	}
	src := `{"openapi":"3.1.0","paths":{"/b":{"post":{"requestBody":{"content":{"application/json":{"schema":` + text + `}}}}}}}`
	doc, err := oad.Read("t.json", []byte(src))
	if err != nil || len(doc.Operations) == 0 || doc.Operations[0].Body == nil {
		return schema.Schema{}, false
	}
	s, err := schema.NewSet(doc).Compile(doc.Operations[0].Body.Media[0].Schema.URL())
	return s, err == nil
}

// FuzzSchema makes controls of any schema: what comes out is valid.
func FuzzSchema(f *testing.F) {
	for _, s := range []string{
		`{"type":"object","required":["a"],"properties":{"a":{"type":"string","pattern":"^x"}},"additionalProperties":false}`,
		`{"oneOf":[{"type":"integer","multipleOf":0.1},{"allOf":[{"minimum":1e400}]}]}`,
		`{"type":"array","contains":{"const":1},"minContains":3,"uniqueItems":true}`,
		`{"if":{"properties":{"a":{"const":1}}},"then":{"required":["b"]},"dependentRequired":{"b":["c"]}}`,
		`{"propertyNames":{"pattern":"^\\d+$"},"minProperties":3}`, `{"not":{}}`, `false`, `{"type":"string","minLength":99999999999}`,
		`{"properties":{"":{"enum":[null,1,"x",{}]},"a/b~c":{"format":"date"}},"unevaluatedProperties":false}`,
		`{"$ref":"#/paths/~1b/post/requestBody/content/application~1json/schema"}`,
		`{"prefixItems":[{"type":"null"}],"unevaluatedItems":false,"maxItems":1}`,
	} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, ok := compile(text)
		if !ok {
			return
		}
		res, err := New(1).Controls(s, nil)
		if err != nil {
			return
		}
		for _, c := range res.Controls {
			if v := s.Validate(c.Value, nil); len(v) > 0 {
				t.Fatalf("%s: %s breaks %v", text, instance.Encode(c.Value), v)
			}
		}
	})
}

// TestRandomSchemasAreObeyed makes controls of many random schemas.
func TestRandomSchemasAreObeyed(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	made := 0
	for i := range 600 {
		text := string(instance.Encode(schematest.Random(rng, 3)))
		s, ok := compile(text)
		if !ok {
			t.Fatalf("schema %d does not compile: %s", i, text)
		}
		res, err := New(uint64(i)).Controls(s, nil)
		if err != nil {
			continue
		}
		made++
		for _, c := range res.Controls {
			if v := s.Validate(c.Value, nil); len(v) > 0 {
				t.Errorf("schema %d, %s control: %s breaks %v of %s", i, c.Shape, instance.Encode(c.Value), v, text)
			}
		}
	}
	if made < 540 {
		t.Errorf("only %d of 600 random schemas have a control", made)
	}
}
