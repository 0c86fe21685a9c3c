package plan_test

import (
	"flag"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/core/rule"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/config"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
)

var update = flag.Bool("update", false, "write docs/rules.md anew")

const manual = "../../../docs/rules.md"

// more describes what the harbour has no use for, so that every rule has an example.
const more = `
openapi: 3.1.0
info: {title: Tide tables, version: '1'}
paths:
  /tide-notices:
    post: {requestBody: {required: true, content: {application/xml: {schema: {type: object, required: [gauge], properties: {gauge: {type: string, example: north mole}}}}}}}
    patch: {requestBody: {required: true, content: {application/json-patch+json: {schema: {type: array, items: {type: object}}}}}}
  /tide-tables:
    post:
      parameters: [{name: Tide-Station, in: header, schema: {type: string, maxLength: 9}, example: KIEL}]
      requestBody:
        required: true
        content:
          application/json:
            schema:
              type: object
              unevaluatedProperties: false
              dependentRequired: {gauge: [datum]}
              properties:
                gauge: {type: string, maxLength: 20, examples: [north mole]}
                datum: {type: string, maxLength: 20, examples: [chart datum]}
                heights_m: {type: array, maxItems: 50, items: {type: number, minimum: -9, maximum: 9}, contains: {minimum: 0}, examples: [[1.5, -0.5]]}
                notes: {type: object, minProperties: 1, maxProperties: 3, propertyNames: {pattern: '^[a-z]+$'}, additionalProperties: {type: string, maxLength: 80}, examples: [{spring: high water at noon}]}
                source:
                  oneOf:
                    - {type: object, required: [station], properties: {station: {type: string, maxLength: 9, examples: [KIEL]}}}
                    - {type: object, required: [model], properties: {model: {type: string, maxLength: 9, examples: [TIDE4]}}}
                span: {anyOf: [{type: integer, minimum: 1, maximum: 366}, {type: string, enum: [spring, neap]}]}
                code: {type: string, maxLength: 4, not: {enum: [NONE]}, examples: [T1]}
                soundings: {type: array, items: {type: integer}}
                window: {type: array, prefixItems: [{type: integer}, {type: integer}], items: false, examples: [[1, 2]]}
                marks: {type: array, prefixItems: [{type: string, maxLength: 9}], unevaluatedItems: false, examples: [[spring]]}
                gauges: {type: array, maxItems: 9, items: {type: integer, minimum: 1, maximum: 99}, contains: {maximum: 9}, minContains: 2, maxContains: 3, examples: [[1, 2, 40]]}
                old_datum: false
`

// TestTheManualListsEveryRule holds docs/rules.md against what is planned.
func TestTheManualListsEveryRule(t *testing.T) {
	type example struct{ variant, where, reason string }
	examples := map[string][]example{}
	seen := map[string]bool{}
	extra, err := oad.Read("tides.yaml", []byte(more))
	if err != nil {
		t.Fatal(err)
	}
	src, err := os.ReadFile("../../harbour/obiter.yaml")
	if err != nil {
		t.Fatal(err)
	}
	conf, err := sources.Read("obiter.yaml", src, os.LookupEnv)
	if err != nil {
		t.Fatal(err)
	}
	opt := plan.Options{Depth: flaw.Deep, Now: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), Credentials: []string{"session"}, Lesser: []string{"session"}, Rules: map[string][]config.Rule{"POST /tide-tables": {{Is: "chart datum", Blames: []string{"/datum"}}}}}
	for name, o := range conf.Operations {
		opt.Rules[name] = o.Rules
	}
	for _, doc := range []*oad.Document{office(t), extra} {
		for _, c := range cases(t, doc, opt) {
			if len(c.Flaws) != 1 {
				continue
			}
			f := c.Flaws[0]
			variant, _, _ := strings.Cut(f.Variant, "-value-")
			if f.Rule == "format" { // the manual names the format with the variant
				variant = strings.TrimSpace(variant)
			}
			if seen[f.Rule+" "+variant] {
				continue
			}
			seen[f.Rule+" "+variant] = true
			where := c.Operation
			if f.Pointer != "" {
				where += " " + f.In + " `" + f.Pointer + "`"
			}
			examples[f.Rule] = append(examples[f.Rule], example{variant, where, f.Reason})
		}
	}
	var b strings.Builder
	b.WriteString("# Rules and their flaws\n\nEvery rule that is broken, its variants, and an example of each, from the harbour office where it has one. `quick` runs take one variant of each rule and field, `usual` runs most, `deep` runs all;\nflaws are proved before they are sent. This page is made from the code (`go test ./internal/generate/plan -update`) and checked against it.\n")
	without := "\n## Keywords without flaws of their own\n\n| keyword | |\n|---|---|\n"
	for _, rule := range rule.All {
		if rule.Unbroken != "" {
			without += fmt.Sprintf("| `%s` | %s |\n", rule.Name, rule.Unbroken)
			continue
		}
		if len(examples[rule.Name]) == 0 {
			t.Errorf("no example breaks %s", rule.Name)
		}
		fmt.Fprintf(&b, "\n## %s\n\n%s\n\n| variant | example | |\n|---|---|---|\n", rule.Name, rule.Says)
		for _, e := range examples[rule.Name] {
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", e.variant, e.where, strings.ReplaceAll(strings.ReplaceAll(e.reason, "|", "\\|"), "\n", " "))
		}
		delete(examples, rule.Name)
	}
	for name := range examples {
		t.Errorf("the rule %s is broken and not in the catalogue", name)
	}
	b.WriteString(without)
	if *update {
		if err := os.WriteFile(manual, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	have, err := os.ReadFile(manual)
	if err != nil {
		t.Fatal(err)
	}
	if string(have) != b.String() {
		t.Errorf("%s is not what the code does; renew it with -update", manual)
	}
}

// TestEveryRuleHasAPlanter, or says why it has none.
func TestEveryRuleHasAPlanter(t *testing.T) {
	planters := append(flaw.Rules(), plan.Rules()...)
	for _, r := range rule.All {
		if has := slices.Contains(planters, r.Name); has == (r.Unbroken != "") {
			t.Errorf("%s: has a planter: %v, is said to have none: %q", r.Name, has, r.Unbroken)
		}
	}
	for _, name := range planters {
		if _, known := rule.Find(name); !known {
			t.Errorf("%s is planted and not in the catalogue", name)
		}
	}
}

func TestBudgetTakesTheMostDifferentFirst(t *testing.T) {
	count := func(budget int) (int, map[string]int) {
		rules := map[string]int{}
		n, last := 0, 0
		for _, c := range cases(t, office(t), plan.Options{Depth: flaw.Usual, Selection: oad.Selection{Only: []string{"POST /vessels"}}, Budget: budget}) {
			if n++; len(c.Flaws) == 1 {
				rules[c.Flaws[0].Rule]++
			}
			if c.Number%plan.Apart < n || c.Number <= last {
				t.Errorf("case %d has the number %d, after %d", n, c.Number, last)
			}
			last = c.Number
		}
		return n, rules
	}
	whole, all := count(0)
	some, rules := count(40)
	if some != 42 {
		t.Errorf("%d cases, want 40 and two controls", some)
	}
	for rule := range all {
		if rules[rule] == 0 {
			t.Errorf("%s is left out", rule)
		}
	}
	if n, _ := count(100_000); n != whole {
		t.Errorf("a large budget gives %d cases of %d", n, whole)
	}
}

// TestRulesThatNoSchemaSays plans what the configuration adds.
func TestRulesThatNoSchemaSays(t *testing.T) {
	doc := description(t, "  /b:\n    post: {requestBody: {required: true, content: {application/json: {schema: {type: object, required: [berth, from, to], properties: {berth: {type: string, pattern: '^[A-F][0-9]{2}$', examples: [C12]}, from: {type: string, format: date, examples: ['2031-05-04']}, to: {type: string, format: date, examples: ['2031-05-06']}, note: {type: string, maxLength: 20, examples: [calm]}}}}}}}\n")
	rules := map[string][]config.Rule{"POST /b": {
		{Flaw: "It ends before it begins!", Patch: map[string]any{"to": "2031-05-01"}, Blames: []string{"/from", "/to"}, Status: 409},
		{NotBlank: "/note"}, {Exists: "/berth"},
	}}
	got := map[string]string{}
	list := cases(t, doc, plan.Options{Depth: flaw.Quick, Rules: rules, Statuses: map[exchange.Class][]int{exchange.Constraint: {422}, exchange.Reference: {404}}})
	for _, c := range list {
		for _, f := range c.Flaws {
			if f.Rule == "rule" || f.Rule == "not-blank" || f.Rule == "exists" {
				got[c.Name] = fmt.Sprint(strings.TrimSpace(got[c.Name]+" "+f.Pointer), " ", c.Expect.Class, c.Expect.Statuses, string(c.Request.Body))
			}
		}
	}
	want := map[string]string{
		"rule it-ends-before-it-begins": `/from constraint[409]{"berth":"C12","from":"2031-05-04","note":"calm","to":"2031-05-01"} /to constraint[409]{"berth":"C12","from":"2031-05-04","note":"calm","to":"2031-05-01"}`,
		"/note not-blank blanks":        `/note constraint[422]{"berth":"C12","from":"2031-05-04","note":"    ","to":"2031-05-06"}`,
		"/berth exists well-formed":     `/berth reference[404]{"berth":"C89","from":"2031-05-04","note":"calm","to":"2031-05-06"}`,
	}
	if len(got) != len(want) {
		t.Errorf("planned %q", got)
	}
	for name, text := range want {
		if got[name] != text {
			t.Errorf("%s is\n%s\nwant\n%s", name, got[name], text)
		}
	}
}

const towOrders = "  /t:\n    post: {requestBody: {required: true, content: {application/json: {schema: {type: object, required: [reference, from, to, purpose], properties: {reference: {type: string, pattern: '^TW-[A-Z0-9]{6}$', examples: [TW-A00001]}, " +
	"from: {type: string, format: date-time, examples: ['2031-05-04T06:00:00Z']}, to: {type: string, format: date-time, examples: ['2031-05-04T09:00:00Z']}, hazardous: {type: boolean, examples: [false]}, un_number: {type: string, pattern: '^UN[0-9]{4}$'}, " +
	"purpose: {type: string, minLength: 3, maxLength: 20, examples: [Shifting berth]}}}}}}}\n"

// TestBusinessRulesBindAllCases plans an operation under rules of every sort.
func TestBusinessRulesBindAllCases(t *testing.T) {
	doc := description(t, towOrders)
	rules := map[string][]config.Rule{"POST /t": {
		{Holds: "body.to > body.from", Blames: []string{"/to"}}, {Holds: "body.from > now", Blames: []string{"/from"}}, {Holds: "!body.hazardous || has(body.un_number)", Blames: []string{"/un_number"}},
		{Unique: "/reference"}, {Trimmed: "/purpose"},
	}}
	opt := plan.Options{Depth: flaw.Deep, Rules: rules, Now: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), Messages: []config.Message{{Field: "/purpose", Rule: "minLength", Says: regexp.MustCompile("least 3")}}}
	byName := map[string]exchange.Case{}
	references := map[string]string{}
	for _, c := range cases(t, doc, opt) {
		byName[c.Name] = c
		for _, f := range c.Flaws {
			byName[c.Name+": "+f.Reason] = c
		}
		if c.Edge != nil {
			byName[c.Name+": "+c.Edge.Reason] = c
		}
		body, isObject := c.Body.(map[string]any)
		about := len(c.Flaws) > 0 && strings.HasPrefix(c.Flaws[0].Pointer, "/reference") || len(c.Flaws) > 1
		if c.Kind != exchange.Flawed {
			if from, to := body["from"].(string), body["to"].(string); from >= to && len(from) == len(to) {
				t.Errorf("%s runs from %s to %s", c.Name, from, to)
			}
			if body["hazardous"] == true && body["un_number"] == nil {
				t.Errorf("%s is hazardous without a number", c.Name)
			}
		}
		if reference, ok := body["reference"].(string); isObject && ok && !about {
			if other, taken := references[reference]; taken {
				t.Errorf("%s and %s have the same reference %s", c.Name, other, reference)
			}
			references[reference] = c.Name
		}
	}
	for name, want := range map[string]string{
		"/to holds: body.to > body.from does not hold":                           `"to":"2031-05-04T06:00:00Z"`,
		"edge, /to holds: body.to > body.from just holds":                        `"to":"2031-05-04T06:00:01Z"`,
		"/from holds: body.from > now does not hold":                             `"from":"2026-11-2`,
		"/un_number holds: !body.hazardous || has(body.un_number) does not hold": `"hazardous":true,"purpose"`,
		"/reference unique taken":                                                `"reference":"` + fmt.Sprint(byName["control, fullest"].Body.(map[string]any)["reference"]) + `"`,
		"/purpose trimmed blanks-count":                                          `"purpose":"Sh "`,
		"edge, /purpose trimmed padded":                                          `"purpose":" Shifting berth "`,
	} {
		if got := string(byName[name].Request.Body); !strings.Contains(got, want) {
			t.Errorf("%s sends %s, want %s", name, got, want)
		}
	}
	if got := byName["/to format no-offset"].MayBlame; !slices.Contains(got, "/from") && len(got) > 0 {
		t.Errorf("may blame is %q", got)
	}
	if got := byName["/purpose minLength one-below"].Expect.Says; got != "least 3" {
		t.Errorf("the message has to say %q", got)
	}
	opt.Salt = 7
	for _, c := range cases(t, doc, opt) {
		if body, ok := c.Body.(map[string]any); ok && c.Kind != exchange.Flawed && references[fmt.Sprint(body["reference"])] != "" {
			t.Errorf("%s has a reference of the run before: %v", c.Name, body["reference"])
		}
	}
}

// TestEachRuleHasItsCases though their texts differ in signs alone.
func TestEachRuleHasItsCases(t *testing.T) {
	doc := description(t, towOrders)
	list := []config.Rule{{Holds: "size(body.purpose) >= 5"}, {Holds: "size(body.purpose) <= 15"}, {Holds: "body.purpose.matches('[A-Z]')"}, {Holds: "body.purpose.matches('[a-z]')"}}
	ids := map[string]string{}
	for _, c := range cases(t, doc, plan.Options{Rules: map[string][]config.Rule{"POST /t": list}}) {
		if len(c.Flaws) == 1 && c.Flaws[0].Rule == "holds" {
			ids[c.ID] = c.Flaws[0].Variant + " " + string(c.Request.Body)
		}
	}
	if len(ids) != len(list) {
		t.Errorf("%d rules have %d cases: %q", len(list), len(ids), ids)
	}
}

func TestRulesThatCannotBe(t *testing.T) {
	doc := description(t, towOrders)
	for _, c := range []struct {
		rules []config.Rule
		want  string
	}{
		{[]config.Rule{{Holds: "body.to >"}}, "does not fit the description, at its character"},
		{[]config.Rule{{Holds: "body.until > now"}}, "undefined field 'until'"},
		{[]config.Rule{{Holds: "body.purpose > 3"}}, "no matching overload"},
		{[]config.Rule{{Flaw: "nothing", Patch: map[string]any{"purpose": "Shifting berth"}}}, "leaves the request as it is"},
		{[]config.Rule{{Exists: "/vessel"}}, `has no field "/vessel"`},
		{[]config.Rule{{Holds: "body.to > body.from", Blames: []string{"/til"}}}, `a request of POST /t has no field "/til" to be blamed`},
		{[]config.Rule{{Flaw: "another page", Parameters: config.Parameters{"query": {"page": "x"}}}}, `POST /t has no query parameter "page"`},
		{[]config.Rule{{Is: "a", Blames: []string{"/purpose"}}}, `with "a" at /purpose no valid request was found`},
	} {
		_, err := plan.New(doc, plan.Options{Rules: map[string][]config.Rule{"POST /t": c.rules}})
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v, want %s", c.rules[0], err, c.want)
		}
	}
}

// TestARuleThatNothingIsFoundForCostsThatRule, and a warning.
func TestARuleThatNothingIsFoundForCostsThatRule(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and nothing of it is done side by side")
	}
	doc := description(t, towOrders)
	for want, rules := range map[string][]config.Rule{
		"no request was found that breaks":     {{Holds: "size(body.purpose) < 30"}, {Exists: "/reference"}},
		"and the rules before it hold":         {{Holds: "body.to > body.from"}, {Holds: "body.from > body.to"}, {Exists: "/reference"}},
		"no valid request was found for which": {{Holds: "size(body.purpose) > 30"}, {Exists: "/reference"}},
	} {
		opt := plan.Options{Rules: map[string][]config.Rule{"POST /t": rules}}
		p, err := plan.New(doc, opt)
		if err != nil || len(p.Warnings) != 1 || !strings.Contains(p.Warnings[0].Error(), want) || !strings.Contains(p.Warnings[0].Error(), "the rule is left out") {
			t.Errorf("%s: %v, %v", want, p.Warnings, err)
			continue
		}
		if others := len(cases(t, doc, opt)); others < 5 {
			t.Errorf("%s: only %d cases are left", want, others)
		}
	}
}

// TestAFieldThatHasToBeOneValue: every request has it but the one that breaks the rule,
// and edges leave it alone.
func TestAFieldThatHasToBeOneValue(t *testing.T) {
	doc := description(t, towOrders)
	rules := []config.Rule{{Is: "Spring tide", Blames: []string{"/purpose"}}, {Unique: "/reference", Fresh: true}}
	others := 0
	for _, c := range cases(t, doc, plan.Options{Depth: flaw.Deep, Rules: map[string][]config.Rule{"POST /t": rules}}) {
		body, _ := c.Body.(map[string]any)
		flawed := len(c.Flaws) > 0 && (c.Flaws[0].In == "request" || c.Flaws[0].Pointer == "" || strings.HasPrefix(c.Flaws[0].Pointer, "/purpose") || len(c.Flaws) > 1)
		switch {
		case len(c.Flaws) == 1 && c.Flaws[0].Rule == "is":
			if others++; body["purpose"] == "Spring tide" || c.Expect.Class != exchange.Reference {
				t.Errorf("%s: %v", c.Name, body)
			}
		case !flawed && body["purpose"] != "Spring tide":
			t.Errorf("%s has %v", c.Name, body["purpose"])
		case len(c.Flaws) == 1 && c.Flaws[0].Rule == "unique":
			t.Errorf("a fresh value is no rule of the API: %s", c.Name)
		}
	}
	if others != 1 {
		t.Errorf("%d cases have another value", others)
	}
}

// TestFlawsOfParametersByHand: a value that is given, and one that is left out.
func TestFlawsOfParametersByHand(t *testing.T) {
	doc := description(t, "  /tides/{gauge}:\n    get: {parameters: [{name: gauge, in: path, required: true, schema: {type: string, maxLength: 9}, example: kiel}, {name: from, in: query, schema: {type: string, format: date}, example: '2031-05-04'}, {name: X-Watch, in: header, required: true, schema: {type: string}, example: first}]}\n")
	rules := []config.Rule{
		{Flaw: "a closed gauge", Parameters: config.Parameters{"path": {"gauge": "wismar"}}, Blames: []string{"/gauge"}, Status: 409},
		{Flaw: "before the records", Parameters: config.Parameters{"query": {"from": "1066-10-14"}, "header": {"X-Watch": nil}}},
	}
	got := map[string]exchange.Case{}
	for _, c := range cases(t, doc, plan.Options{Rules: map[string][]config.Rule{"GET /tides/{gauge}": rules}}) {
		if len(c.Flaws) > 0 && c.Flaws[0].Rule == "rule" {
			got[c.Flaws[0].Variant] = c
		}
	}
	closed, before := got["a-closed-gauge"], got["before-the-records"]
	if !strings.Contains(closed.Request.URL, "/tides/wismar?from=2031-05-04") || fmt.Sprint(closed.Expect.Statuses) != "[409]" || closed.Flaws[0].In != "path" || closed.Flaws[0].Pointer != "/gauge" {
		t.Errorf("%+v", closed)
	}
	if !strings.HasSuffix(before.Request.URL, "/tides/kiel?from=1066-10-14") || before.Request.Header("X-Watch") != "" || closed.Request.Header("X-Watch") != "first" {
		t.Errorf("%+v", before)
	}
}

// TestRulesOfParameters plans an operation without a body, whose rule is in
// the description.
func TestRulesOfParameters(t *testing.T) {
	doc := description(t, "  /tides:\n    get: {x-obiter-rules: [{holds: query.until > query.from, blames: /until}], parameters: [{name: from, in: query, required: true, schema: {type: string, format: date}, example: '2031-05-04'}, {name: until, in: query, required: true, schema: {type: string, format: date}, example: '2031-05-01'}]}\n")
	got := map[string]string{}
	for _, c := range cases(t, doc, plan.Options{}) {
		got[c.Name] = c.Request.URL
	}
	for name, want := range map[string]string{
		"control, fullest":   "from=2031-05-04&until=2031-05-05", // the example breaks the rule
		"query /until holds": "from=2031-05-04&until=2031-05-04",
	} {
		if !strings.HasSuffix(got[name], want) {
			t.Errorf("%s is %s, want %s; planned are %q", name, got[name], want, got)
		}
	}
	bad := description(t, "  /tides:\n    get: {x-obiter-rules: [{hold: x}], parameters: [{name: from, in: query, schema: {type: string}}]}\n")
	if _, err := plan.New(bad, plan.Options{}); err == nil || !strings.Contains(err.Error(), `unknown key "hold"`) {
		t.Error(err)
	}
}
