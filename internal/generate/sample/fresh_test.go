package sample_test

import (
	"encoding/json"
	"testing"
	"unicode/utf8"

	"obiter/internal/core/instance"
	"obiter/internal/generate/sample"
	"obiter/internal/input/schema"
	"obiter/internal/testing/schematest"
)

func TestFreshValues(t *testing.T) {
	for _, c := range []struct {
		schema string
		now    any
		fresh  bool
		same   bool // at the same length too
	}{
		{"{type: string, pattern: '^TW-[A-Z0-9]{6}$'}", "TW-A1B2C3", true, true},
		{"{type: string, format: email}", "bridge@aurora.example", true, true},
		{"{type: string, format: uuid}", "5e0c3f6a-2b71-4c8d-9a4e-6f1d2c3b4a59", true, true},
		{"{type: string, format: uri}", "https://aurora.example/", true, true},
		{"{type: string, minLength: 2, maxLength: 10}", "Aurora", true, true},
		{"{type: string, maxLength: 200}", "ää", true, true},
		{"{type: integer, minimum: 5, maximum: 900000, multipleOf: 5}", json.Number("10"), true, false},
		{"{type: string, enum: [north]}", "north", false, false},
		{"{type: boolean}", true, false, false},
	} {
		s := schematest.Compile(t, c.schema)
		list := []schema.Schema{s}
		seen := map[string]bool{}
		for n := range uint64(20) {
			v, ok := sample.New(1).Fresh(list, c.now, false, 7, n)
			if ok != c.fresh || !s.Valid(v) {
				t.Errorf("%s: %v, %v", c.schema, v, ok)
			}
			again, _ := sample.New(1).Fresh(list, c.now, false, 7, n)
			if !instance.Equal(v, again) {
				t.Errorf("%s: %v, then %v", c.schema, v, again)
			}
			if seen[string(instance.Encode(v))] && ok {
				t.Errorf("%s: %v twice", c.schema, v)
			}
			seen[string(instance.Encode(v))] = true
		}
		v, ok := sample.New(1).Fresh(list, c.now, true, 7, 1)
		if ok != c.same {
			t.Errorf("%s at the same length: %v, %v", c.schema, v, ok)
		}
		if text, is := v.(string); is && utf8.RuneCountInString(text) != utf8.RuneCountInString(c.now.(string)) {
			t.Errorf("%s: %q has another length", c.schema, text)
		}
	}
}
