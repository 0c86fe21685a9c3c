package flaw_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/sample"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
	"obiter/internal/testing/schematest"
)

func compiled(t testing.TB, text string) schema.Schema {
	t.Helper()
	doc, err := oad.Read("t.json", []byte(`{"openapi":"3.1.0","paths":{"/b":{"post":{"requestBody":{"content":{"application/json":{"schema":`+text+`}}}}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	s, err := schema.NewSet(doc).Compile(doc.Operations[0].Body.Media[0].Schema.URL())
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// plantAll lists what is planted and dropped, as text.
func plantAll(s schema.Schema, control any, opt flaw.Options) []string {
	var out []string
	opt.Dropped = func(d flaw.Drop) { out = append(out, fmt.Sprintf("dropped %v", d)) }
	flaw.Plant(s, control, opt, func(p flaw.Planted) bool {
		edge := ""
		if p.Edge != nil {
			edge = fmt.Sprint(*p.Edge)
		}
		out = append(out, fmt.Sprintf("%v %s %s", p.Flaws, edge, instance.Encode(p.Value)))
		return true
	})
	return out
}

// TestProvingNearbyIsProvingTheWhole plants into random schemas twice: proved
// from the nearest anchor, and from the top. Both must come to the same.
func TestProvingNearbyIsProvingTheWhole(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and nothing of it is done side by side")
	}
	rng := rand.New(rand.NewPCG(3, 5))
	top := func(v any) (any, bool) { return v, true } // what may be seen otherwise is proved from the top
	n := 0
	texts := []string{
		`{"type":"object","required":["a"],"properties":{"a":{"type":"object","required":["b"],"properties":{"b":{"oneOf":[{"type":"integer","minimum":3},{"type":"string","minLength":2}]},"c":{"type":"array","uniqueItems":true,"items":{"type":"object","properties":{"d":{"type":"integer","maximum":9}}}}}}}}`,
		`{"type":"object","properties":{"kind":{"enum":["x","y"]},"n":{"type":"integer","maximum":5},"deep":{"type":"object","properties":{"m":{"type":"string","maxLength":3}}}},"if":{"properties":{"kind":{"const":"x"}}},"then":{"required":["n"]}}`,
		`{"type":"object","unevaluatedProperties":false,"allOf":[{"properties":{"a":{"type":"array","contains":{"minimum":5},"items":{"type":"integer"}}}}],"properties":{"b":{"not":{"const":7},"type":"integer"}}}`,
		`{"type":"object","dependentSchemas":{"a":{"required":["b"]}},"properties":{"a":{"type":"string","minLength":1},"b":{"type":"object","propertyNames":{"maxLength":4},"additionalProperties":{"type":"integer"}}}}`,
	}
	// One branch is told by a member, by two, by none, or two are taken; and two flaws together lead into another.
	for _, branches := range []string{
		`{"required":["kind"],"properties":{"kind":{"const":"tug"},"pull":{"type":"integer","minimum":3}}},{"required":["kind"],"properties":{"kind":{"const":"barge"},"pull":{"type":"integer","maximum":2},"load":{"type":"string","minLength":2}}}`,
		`{"properties":{"x":{"type":"integer","maximum":5},"y":{"type":"integer","maximum":5}},"required":["x","y"]},{"properties":{"x":{"type":"integer","minimum":6},"y":{"type":"integer","minimum":6}},"required":["x","y"]}`,
		`{"properties":{"x":{"type":"integer","maximum":5},"z":{"type":"object","properties":{"w":{"type":"string","maxLength":4}}}},"required":["x"]},{"properties":{"x":{"type":"integer","minimum":6}},"required":["x","v"]}`,
		`{"$ref":"#/paths/~1b/post/requestBody/content/application~1json/schema/$defs/a"},{"allOf":[{"$ref":"#/paths/~1b/post/requestBody/content/application~1json/schema/$defs/b"}]},{"type":"string"}`,
		`{"properties":{"q":{"type":"integer","minimum":1,"maximum":5}},"required":["q"]},{"properties":{"q":{"type":"integer","minimum":0,"maximum":9}},"required":["q"]}`,
	} {
		for _, keyword := range []string{"oneOf", "anyOf"} {
			texts = append(texts, `{"type":"object","properties":{"list":{"type":"array","minItems":2,"items":{"type":"object","`+keyword+`":[`+branches+`]}}},"$defs":{
				"a":{"properties":{"m":{"enum":["u","v"]},"n":{"type":"integer","maximum":9}},"required":["m"]},"b":{"properties":{"m":{"enum":["w"]},"n":{"type":"integer","maximum":99}},"required":["m"]}}}`)
		}
	}
	for range 150 {
		texts = append(texts, string(instance.Encode(schematest.Random(rng, 2))))
	}
	for _, text := range texts {
		s := compiled(t, text)
		res, err := sample.New(1).Controls(s, nil)
		if err != nil {
			continue
		}
		for _, c := range res.Controls {
			near := plantAll(s, c.Value, flaw.Options{Depth: flaw.Deep, Maker: sample.New(1)})
			whole := plantAll(s, c.Value, flaw.Options{Depth: flaw.Deep, Maker: sample.New(1), Seen: top})
			if fmt.Sprint(near) != fmt.Sprint(whole) {
				for i := range min(len(near), len(whole)) {
					if near[i] != whole[i] {
						t.Fatalf("%s\nnearby: %s\nwhole:  %s", text, near[i], whole[i])
					}
				}
				t.Fatalf("%s: %d nearby, %d from the top", text, len(near), len(whole))
			}
			n += len(near)
		}
	}
	if n < 10_000 {
		t.Errorf("only %d were compared", n)
	}
}

func TestEnoughIsEnough(t *testing.T) {
	s := compiled(t, `{"type":"object","required":["a","b"],"properties":{"a":{"type":"string","maxLength":5},"b":{"type":"integer"}}}`)
	res, err := sample.New(1).Controls(s, nil)
	if err != nil {
		t.Fatal(err)
	}
	planted, dropped := 0, map[string]int{}
	flaw.Plant(s, res.Controls[0].Value, flaw.Options{Depth: flaw.Usual, Maker: sample.New(1), Enough: func() bool { return planted >= 4 },
		Dropped: func(d flaw.Drop) { dropped[d.Why]++ }}, func(flaw.Planted) bool {
		planted++
		return true
	})
	if planted != 4 || dropped[flaw.TooMuch] < 5 {
		t.Errorf("%d planted, %v dropped", planted, dropped)
	}
}
