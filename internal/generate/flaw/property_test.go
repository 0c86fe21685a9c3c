package flaw_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/sample"
	"obiter/internal/testing/schematest"
)

// witness compiles a schema apart from all code of ours.
func witness(t *testing.T, value any) *jsonschema.Schema {
	t.Helper()
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	c.AssertFormat()
	if err := c.AddResource("test:///schema", value); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("test:///schema")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// places lists where a validator complains, leaves only.
func places(e *jsonschema.ValidationError) []string {
	if len(e.Causes) == 0 {
		return []string{instance.Join("", e.InstanceLocation...)}
	}
	var out []string
	for _, c := range e.Causes {
		out = append(out, places(c)...)
	}
	return out
}

// TestWhatIsPlantedIsProvedByAnother goes through random schemas: every
// control and edge is valid and every flawed instance is not, by a validator
// that shares no code with the planting; and where the schema has no
// alternatives, the complaints are at the flawed fields alone.
func TestWhatIsPlantedIsProvedByAnother(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and nothing of it is done side by side")
	}
	schemas := 700
	if testing.Short() {
		schemas = 200
	}
	rng := rand.New(rand.NewPCG(7, 11))
	counts := map[string]int{}
	for i := range schemas {
		value := schematest.Random(rng, 2)
		text := string(instance.Encode(value))
		s := compiled(t, text)
		maker := sample.New(uint64(i))
		res, err := maker.Controls(s, nil)
		if err != nil {
			counts["without a control"]++
			continue
		}
		other := witness(t, value)
		done := map[string]bool{}
		for _, control := range res.Controls {
			if err := other.Validate(control.Value); err != nil {
				t.Errorf("schema %d %s: the control %s is not valid", i, text, instance.Encode(control.Value))
			}
			flaw.Plant(s, control.Value, flaw.Options{Depth: flaw.Deep, Maker: maker, Done: done}, func(p flaw.Planted) bool {
				if problem := disproved(p, other, strings.Contains(text, "anyOf") || strings.Contains(text, "oneOf")); problem != "" {
					t.Errorf("schema %d %s: %s", i, text, problem)
				}
				kind := "edges"
				if p.Edge == nil {
					kind = p.Flaws[0].Rule
				}
				counts[kind]++
				return !t.Failed()
			})
		}
	}
	for _, rule := range []string{"edges", "type", "required", "enum", "minLength", "maxLength", "pattern", "format", "minimum", "maximum", "exclusiveMinimum", "multipleOf", "minItems", "maxItems", "additionalProperties", "anyOf"} {
		if counts[rule] < schemas/100 {
			t.Errorf("only %d of %s in %d schemas", counts[rule], rule, schemas)
		}
	}
	if counts["without a control"] > schemas/10 {
		t.Errorf("%d of %d schemas have no control", counts["without a control"], schemas)
	}
}

func disproved(p flaw.Planted, other *jsonschema.Schema, alternatives bool) string {
	err := other.Validate(p.Value)
	body := string(instance.Encode(p.Value))
	if !json.Valid([]byte(body)) {
		return "this is no JSON: " + body
	}
	if p.Edge != nil || p.Undecided {
		if err != nil {
			return fmt.Sprintf("the edge %+v %+v is not valid: %s", p.Edge, p.Flaws, body)
		}
		return ""
	}
	var ve *jsonschema.ValidationError
	if !errors.As(err, &ve) {
		return fmt.Sprintf("%+v is valid: %s", p.Flaws, body)
	}
	if alternatives {
		return ""
	}
	for _, at := range places(ve) {
		if !slices.ContainsFunc(p.Flaws, func(f exchange.Flaw) bool {
			return instance.Within(at, f.Pointer) || at == instance.Parent(f.Pointer)
		}) {
			return fmt.Sprintf("%+v breaks something at %q: %s", p.Flaws, at, body)
		}
	}
	return ""
}
