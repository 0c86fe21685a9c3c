package judge

import (
	"strings"
	"testing"

	"obiter/internal/core/exchange"
)

// TestCapturedRequests: what others sent stands for what it holds. A valid request that
// was refused accuses nobody, but for what no valid request may be answered with.
func TestCapturedRequests(t *testing.T) {
	valid := func(edge string) exchange.Case {
		c := exchange.Case{ID: "0123456789", Kind: exchange.Control, Base: "captured", Captured: true, Operation: "POST /vessels", Expect: exchange.Expect{Class: exchange.Accepted}, Body: decode(t, control), Control: decode(t, control)}
		if edge != "" {
			c.Kind, c.Edge = exchange.Edge, &exchange.Flaw{In: "body", Pointer: edge, Rule: "maximum", Reason: "the largest number allowed"}
		}
		return c
	}
	several := func(flaws ...string) exchange.Case {
		c := broken(t, exchange.Constraint, flaws...)
		c.Captured = true
		return c
	}
	for name, c := range map[string]struct {
		of   exchange.Case
		a    exchange.Answer
		want string
	}{
		"accepted":                      {valid(""), answer(201, "application/json", "{}"), ""},
		"refused by a rule of its own":  {valid(""), answer(422, problemMedia, named("/length_m")), "unexplained-refusal"},
		"for a record that is taken":    {valid(""), answer(409, problemMedia, named("/name")), "unexplained-refusal"},
		"it fails":                      {valid(""), answer(500, problemMedia, named()), "control-rejected"},
		"a boundary that is named":      {valid("/length_m"), answer(422, problemMedia, named("/length_m")), "edge-rejected"},
		"a boundary, and another field": {valid("/length_m"), answer(422, problemMedia, named("/name")), "unexplained-refusal"},
		"both are named":                {several("/name type", "/length_m maximum"), answer(422, problemMedia, named("/name", "/length_m")), ""},
		"one of a later stage is not":   {several("/name type", "/length_m maximum"), answer(422, problemMedia, named("/name")), ""},
	} {
		_, found := judged(c.of, c.a, true)
		var codes []string
		for _, f := range found {
			codes = append(codes, f.Code)
		}
		if got := strings.Join(codes, " "); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}
