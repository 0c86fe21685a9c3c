package judge

import (
	"testing"

	"obiter/internal/exchange"
	"obiter/internal/layout"
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
