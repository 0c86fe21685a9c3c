package rule

import (
	"testing"

	"obiter/internal/exchange"
)

func TestEachRuleHasAFamily(t *testing.T) {
	for _, r := range All {
		if family := Family([]exchange.Flaw{{Rule: r.Name}}); (family == "") != (r.Unbroken != "") {
			t.Errorf("%s has the family %q", r.Name, family)
		}
	}
	for _, c := range []struct {
		flaws []exchange.Flaw
		want  string
	}{
		{nil, ""},
		{[]exchange.Flaw{{Rule: "type", Variant: "object"}}, "wrong type"},
		{[]exchange.Flaw{{In: "body", Rule: "type", Variant: "null"}}, "null"},
		{[]exchange.Flaw{{In: "query", Rule: "type", Variant: "null"}}, "empty"},
		{[]exchange.Flaw{{Rule: "type", Variant: "numeric-string"}}, "of a readable type"},
		{[]exchange.Flaw{{Rule: "type"}, {Rule: "enum"}}, "several fields"},
		{[]exchange.Flaw{{Rule: "enum", Variant: "null"}}, "not listed"},
	} {
		if got := Family(c.flaws); got != c.want || IsSeveral(got) != (len(c.flaws) > 1) {
			t.Errorf("%+v: %q, want %q", c.flaws, got, c.want)
		}
	}
}
