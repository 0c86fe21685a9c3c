package rule

import (
	"testing"

	"obiter/internal/core/exchange"
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

func TestWordsChooseRules(t *testing.T) {
	for word, want := range map[string]int{"maxLength": 1, "length": 2, "size": 2, "deep-nesting": 1, "null": 0, "allOf": 0, "lenght": 0} {
		if got, ok := Chosen(word); len(got) != want || ok != (want > 0) {
			t.Errorf("%s chooses %q", word, got)
		}
	}
	for _, word := range Choices() {
		if _, ok := Chosen(word); !ok {
			t.Errorf("%s chooses nothing", word)
		}
	}
}
