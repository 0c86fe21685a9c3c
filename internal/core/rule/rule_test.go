package rule_test

import (
	"slices"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/core/rule"
)

// keywords are those of JSON Schema 2020-12's vocabularies applicator,
// unevaluated and validation (sections 10 and 11 of the core specification, 6 of
// the validation specification), and format, which is asserted here.
var keywords = []string{
	"allOf", "anyOf", "oneOf", "not", "if", "then", "else", "dependentSchemas", "prefixItems", "items", "contains", "properties", "patternProperties", "additionalProperties", "propertyNames",
	"unevaluatedItems", "unevaluatedProperties",
	"type", "enum", "const", "multipleOf", "maximum", "exclusiveMaximum", "minimum", "exclusiveMinimum", "maxLength", "minLength", "pattern", "maxItems", "minItems", "uniqueItems",
	"maxContains", "minContains", "maxProperties", "minProperties", "required", "dependentRequired", "format",
}

func TestTheCatalogueHasEveryKeyword(t *testing.T) {
	for _, k := range keywords {
		if _, ok := rule.Find(k); !ok {
			t.Errorf("%s is in no entry", k)
		}
	}
	seen := map[string]bool{}
	for _, r := range rule.All {
		if seen[r.Name] {
			t.Errorf("%s has two entries", r.Name)
		}
		seen[r.Name] = true
		if (r.Says == "") == (r.Unbroken == "") {
			t.Errorf("%s has to say either how it is broken or why it is not", r.Name)
		}
		if r.Class == "" {
			t.Errorf("%s expects nothing of an answer", r.Name)
		}
		if r.Target != rule.Request && !r.Business && !slices.Contains(keywords, r.Name) {
			t.Errorf("%s is not a keyword", r.Name)
		}
	}
}

func TestTheClassOfFlaws(t *testing.T) {
	one := func(in, name, variant string) []exchange.Flaw {
		return []exchange.Flaw{{In: in, Rule: name, Variant: variant}}
	}
	for _, c := range []struct {
		flaws []exchange.Flaw
		want  exchange.Class
	}{
		{one("body", "type", "null"), exchange.Type},
		{one("query", "type", "null"), exchange.Parameter},
		{one("path", "format", "x"), exchange.PathParameter},
		{one("path", "unknown-id", "well-formed"), exchange.NotFound},
		{one("query", "repeated", "twice"), exchange.Either},
		{one("query", "holds", "x"), exchange.Constraint},
		{one("body", "additionalProperties", "unknown-member"), exchange.UnknownField},
		{append(one("body", "type", "null"), one("body", "enum", "x")...), exchange.Constraint},
		{one("request", "wrong-content-type", "text-plain"), exchange.MediaType},
		{one("request", "wrong-content-type", "absent"), exchange.UntypedBody},
		{one("request", "wrong-content-type", "other-json"), exchange.MediaType},
		{one("request", "malformed-json", "cut-off"), exchange.Syntax},
		{one("request", "malformed-json", "not-utf-8"), exchange.Constraint},
		{one("request", "credentials", "malformed"), exchange.Malformed},
		{[]exchange.Flaw{{In: "header", Pointer: "/If-Match", Rule: "pattern"}}, exchange.Ignorable},
		{[]exchange.Flaw{{In: "header", Pointer: "/Accept-Language", Rule: "required"}}, exchange.Ignorable},
		{[]exchange.Flaw{{In: "header", Pointer: "/X-Berth", Rule: "required"}}, exchange.Parameter},
		{one("body", "nobody knows", ""), exchange.Constraint},
	} {
		if got := rule.ClassOf(c.flaws); got != c.want {
			t.Errorf("%+v: %s, want %s", c.flaws, got, c.want)
		}
	}
	for variant, want := range map[string]rule.Success{"absent": rule.Doubtful, "other-json": rule.Doubtful, "text-plain": rule.Fault} {
		if got := rule.Of(one("request", "wrong-content-type", variant)[0]).Success; got != want {
			t.Errorf("success of %s: %v, want %v", variant, got, want)
		}
	}
}
