package survey_test

import (
	"fmt"
	"strings"
	"testing"

	"obiter/internal/generate/plan"
	"obiter/internal/generate/survey"
	"obiter/internal/harbour"
	"obiter/internal/input/oad"
)

func of(t *testing.T, src string) survey.Survey {
	t.Helper()
	doc, err := oad.Read("t.yaml", []byte(src))
	if err != nil {
		t.Fatal(err)
	}
	p, err := plan.New(doc, plan.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return survey.Of(doc, p, 2)
}

func TestTheHarbourHasNoGaps(t *testing.T) {
	s := of(t, string(harbour.Description))
	for _, g := range s.Gaps {
		t.Errorf("a gap: %+v", g)
	}
	for _, o := range s.Operations {
		if o.Operation == plan.WholeAPI {
			continue
		}
		if o.Skip == "" && (len(o.Fields) > 0 && o.Rules() == 0 || o.Flawed == 0 && !strings.HasPrefix(o.Operation, "DELETE ") || o.Controls == 0) { // with a DELETE, ids are sent as they are
			t.Errorf("%s has %d rules, %d flaws, %d controls", o.Operation, o.Rules(), o.Flawed, o.Controls)
		}
	}
}

// TestGaps describes one operation a gap: what is found is "kind field says".
func TestGaps(t *testing.T) {
	for _, c := range []struct{ name, schema, rest, want string }{
		{"nothing", "{type: object, additionalProperties: false, properties: {a: {type: string, maxLength: 3, examples: [x]}}}", "", ""},
		{"no example", "{type: object, additionalProperties: false, properties: {a: {type: string, maxLength: 3}}}", "", "no example"},
		{"text", "{type: object, additionalProperties: false, properties: {a: {type: string, examples: [x]}}}", "", "string without a maximum length /a"},
		{"text bounded by its pattern", "{type: object, additionalProperties: false, properties: {a: {type: string, pattern: '^[a-z]{3}$', examples: [abc]}}}", "", ""},
		{"pattern", "{type: object, additionalProperties: false, properties: {a: {type: string, pattern: '[a-z]', maxLength: 3, examples: [abc]}}}", "", "pattern without anchors /a [a-z]"},
		{"list", "{type: array, items: {enum: [1, 2]}, examples: [[1]]}", "", "array without a maximum count (body)"},
		{"format", "{type: object, additionalProperties: false, properties: {a: {type: string, format: guid, maxLength: 3, examples: [abc]}}}", "", "a pattern or format that cannot be checked /a format guid"},
		{"open", "{type: object, properties: {a: {enum: [1]}}, examples: [{a: 1}]}", "", "object open to unknown members (body)"},
		{"answers", "{enum: [1], examples: [1]}", "responses: {'200': {description: ok}}", "no 4xx is documented"},
		{"answers that are not problems", "{enum: [1], examples: [1]}", "responses: {'422': {description: no, content: {application/json: {}}}}", "a documented 4xx is not application/problem+json 422 application/json"},
		{"example", "{type: integer, maximum: 3, minimum: 1}", "broken", "an example breaks its own schema t.yaml:12:15: this example breaks its own schema at #: maximum: got 7, want 3"},
	} {
		t.Run(c.name, func(t *testing.T) {
			responses := "responses: {default: {description: no, content: {application/problem+json: {}}}}"
			example := ""
			if c.rest == "broken" {
				example = "              example: 7\n"
			} else if c.rest != "" {
				responses = c.rest
			}
			s := of(t, "openapi: 3.1.0\ninfo: {title: t, version: '1'}\npaths:\n  /b:\n    post:\n      "+responses+"\n      requestBody:\n        content:\n          application/json:\n            x-y:\n              {}\n"+strings.Replace(example, "              ", "            ", 1)+"            schema: "+c.schema+"\n")
			var got []string
			for _, g := range s.Gaps {
				got = append(got, strings.TrimSpace(fmt.Sprint(strings.TrimSpace(g.Kind+" "+g.Field), " ", g.Says)))
			}
			want := strings.Replace(c.want, "t.yaml:12:15", "t.yaml:12:13", 1)
			if c.rest == "broken" {
				want += "; no example"
			}
			if s := strings.Join(got, "; "); s != want {
				t.Errorf("gaps %q, want %q", s, want)
			}
		})
	}
}

func TestCreateAndUpdateAreCompared(t *testing.T) {
	body := func(s string) string {
		return "{requestBody: {content: {application/json: {schema: {type: object, properties: {a: " + s + "}}}}}}"
	}
	s := of(t, "openapi: 3.1.0\ninfo: {title: t, version: '1'}\npaths:\n  /b:\n    post: "+body("{type: string, maxLength: 5}")+"\n  /b/{id}:\n    parameters: [{name: id, in: path, schema: {type: integer}}]\n    put: "+body("{type: string, maxLength: 9}")+"\n    patch: "+body("{type: string, maxLength: 5}")+"\n")
	var found []string
	for _, g := range s.Gaps {
		if g.Kind == survey.RuledElsewhere {
			found = append(found, g.Operation+" "+g.Field+" "+g.Says)
		}
	}
	if want := "PUT /b/{id} /a type string, maxLength 9 here, type string, maxLength 5 on POST /b"; strings.Join(found, "; ") != want {
		t.Errorf("found %q, want %q", found, want)
	}
}
