package judge

import (
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/layout"
)

// TestOfParameter: a name is right as seen from the parameter that the field is part of, and in no
// body.
func TestOfParameter(t *testing.T) {
	for _, c := range []struct {
		in, pointer, name string
		want              bool
	}{
		{"query", "/filter/colour", "colour", true}, {"query", "/filter/colour", "filter", false}, {"body", "/filter/colour", "colour", false}, {"query", "/colour", "colour", false}, {"query", "/filter/of/colour", "of.colour", true}, {"query", "/filter/of/colour", "colour", false}, {"header", "/filter/colour", "colour", true}, {"query", "no pointer", "pointer", false},
	} {
		if got := ofParameter(exchange.Flaw{In: c.in, Pointer: c.pointer}, layout.Named{Name: layout.ParseName(c.name)}); got != c.want {
			t.Errorf("%s %s is called %s: %v", c.in, c.pointer, c.name, got)
		}
	}
}

// TestInAlternative: the name of the place of an alternative is right for what lies in it, and that of
// the body for one that is the whole of it.
func TestInAlternative(t *testing.T) {
	for _, c := range []struct {
		alternative, field, name string
		want                     bool
	}{
		{"/cargo", "/cargo/weight_t", "cargo", true}, {"/cargo", "/cargo", "cargo", true}, {"/cargo", "/name", "cargo", false}, {"/cargo", "/cargo/weight_t", "weight_t", false}, {"/cargo", "/cargo/weight_t", "", false},
		{"", "/name", "", true}, {"", "/name", "body", true}, {"", "/name", "name", false}, {"/cargo", "/cargo/weight_t", "cargo.weight_t", false},
	} {
		got := inAlternative(exchange.Case{Alternatives: []string{c.alternative}}, exchange.Flaw{In: "body", Pointer: c.field}, layout.Named{Name: layout.ParseName(c.name)})
		if got != c.want {
			t.Errorf("alternatives at %q, wrong is %s, named is %q: %v", c.alternative, c.field, c.name, got)
		}
	}
}
