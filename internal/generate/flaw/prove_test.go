package flaw

import (
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
	"obiter/internal/testing/schematest"
)

// TestProving: each of the flaws breaks something at its field, or in it, and nothing else is broken.
func TestProving(t *testing.T) {
	s := schematest.Compile(t, "{type: object, required: [name], properties: {name: {type: string, minLength: 2}, length: {type: integer, minimum: 1}, of: {type: object, properties: {no: {type: integer}}}}}")
	valid, _ := instance.Decode([]byte(`{"name":"Fulmar","length":3,"of":{"no":1}}`))
	p := &Planter{root: s, control: valid, baseline: schema.NewBaseline(valid)}
	for _, x := range []struct {
		body  string
		flaws []string
		want  string
	}{
		{`{"name":"F","length":3}`, []string{"/name"}, ""}, {`{"length":3}`, []string{"/name"}, ""}, {`{"name":"F","length":0}`, []string{"/name", "/length"}, ""}, {`{"name":"Fulmar","of":{"no":"x"}}`, []string{"/of"}, ""},
		{`{"name":"Fulmar","length":3}`, []string{"/name"}, StillValid}, {`{"name":"F","length":3}`, []string{"/name", "/length"}, StillValid}, {`{"name":"F","length":0}`, []string{"/name"}, Collateral}, {`{"name":"F"}`, []string{"/length"}, Collateral},
		{`{"name":"Fulmar","of":{"no":"x"}}`, []string{"/of/no"}, ""}, {`{"name":"Fulmar","of":1}`, []string{"/of/no"}, Collateral},
	} {
		v, _ := instance.Decode([]byte(x.body))
		var flaws []exchange.Flaw
		for _, at := range x.flaws {
			flaws = append(flaws, exchange.Flaw{In: "body", Pointer: at})
		}
		if got := p.prove(flaws, v, p.whole()); got != x.want {
			t.Errorf("%s with flaws at %q: %q, want %q", x.body, x.flaws, got, x.want)
		}
	}
}
