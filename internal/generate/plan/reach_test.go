package plan_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/config"
	"obiter/internal/input/sources"
)

const anchorages = `  /anchors:
    get: {responses: {'200': {description: all, content: {application/json: {schema: {type: array}}}}}}
    post: {responses: {'201': {description: created}}}
    patch: {requestBody: {required: true, content: {application/json: {schema: {type: object, required: [colour], properties: {ids: {type: array, items: {type: integer, minimum: 1}}, filter: {type: object, required: [depth], properties: {depth: {type: integer, minimum: 1, maximum: 90}}}, colour: {type: string, minLength: 3, maxLength: 9, examples: [red]}}}}}}}
    delete: {parameters: [{name: ids, in: query, schema: {type: array, items: {type: integer}}}, {name: dry, in: query, schema: {type: boolean}}]}
  /anchors/{anchor}:
    parameters: [{name: anchor, in: path, required: true, schema: {type: integer, minimum: 1}, example: 7}]
    get: {}
    put: {requestBody: {required: true, content: {application/json: {schema: {type: object, required: [id, name], properties: {id: {type: integer, minimum: 1}, name: {type: string, minLength: 2, maxLength: 9, examples: [bower]}, uuid: {type: string, format: uuid, readOnly: true}, guid: {type: integer, readOnly: true}}}}}}}
  /anchors/{anchor}/raise: {post: {operationId: closeAnchor, parameters: [{name: anchor, in: path, required: true, schema: {type: integer, minimum: 1}, example: 7}], requestBody: {content: {application/json: {schema: {type: object, properties: {speed: {type: integer, maximum: 9}}}}}}}}
`

// TestWhatDecidesIsSentAsItIs: the values by which records are changed are the same in all requests
// of an operation, of whatever depth; what else there is is flawed.
func TestWhatDecidesIsSentAsItIs(t *testing.T) {
	doc := description(t, anchorages)
	conf, err := sources.Read("obiter.yaml", []byte("operations: { PATCH /anchors: { allow: true, body: { ids: [3] } }, DELETE /anchors: { allow: true, query: { ids: [3] } }, 'POST /anchors/{anchor}/raise': { allow: true }, 'PUT /anchors/{anchor}': { body: { id: 7 } } }"), func(string) (string, bool) { return "", false })
	if err != nil {
		t.Fatal(err)
	}
	conf.Imply(doc)
	opt := plan.Options{Depth: flaw.Deep, Reach: conf.Reach, Bodies: map[string]any{"PATCH /anchors": conf.Operations["PATCH /anchors"].Body, "PUT /anchors/{anchor}": conf.Operations["PUT /anchors/{anchor}"].Body}, PerCase: map[string]bool{"DELETE /anchors": true},
		Given: func(operation string) config.Parameters {
			return conf.Given(operation, nil, map[string]any{"anchor": json.Number("7")})
		}}
	opt.Bodies["PUT /anchors/{anchor}"] = map[string]any{"id": json.Number("7")}
	n := map[string]int{}
	rules := map[string][]string{}
	for _, c := range cases(t, doc, opt) {
		n[c.Operation]++
		at := c.Operation
		for _, f := range c.Flaws {
			rules[at] = append(rules[at], f.In+f.Pointer+" "+f.Rule)
		}
		body, _ := instance.Decode(c.Request.Body)
		get := func(pointer string) string {
			v, has := instance.Get(body, pointer)
			if !has {
				return "none"
			}
			return string(instance.Encode(v))
		}
		wrong := len(c.Flaws) > 0 && slices.Contains([]string{"wrong-method", "unknown-path", "deep-nesting", "large-body"}, c.Flaws[0].Rule)
		switch {
		case wrong:
		case c.Operation == "PATCH /anchors" && (get("/ids") != "[3]" || get("/filter/depth") == "none"):
			t.Errorf("%s %s: %s", c.Operation, c.Name, c.Request.Body)
		case c.Operation == "DELETE /anchors" && !strings.Contains(c.Request.URL, "ids=3&dry="):
			t.Errorf("%s %s: %s", c.Operation, c.Name, c.Request.URL)
		case c.Operation == "POST /anchors/{anchor}/raise" && !strings.HasSuffix(c.Request.URL, "/anchors/7/raise") && !strings.HasSuffix(c.Request.URL, "/anchors/not-an-id/raise") && c.Flaws[0].Rule != "type":
			t.Errorf("%s %s: %s", c.Operation, c.Name, c.Request.URL)
		case c.Operation == "PUT /anchors/{anchor}" && body != nil && instance.Type(body) == "object":
			id := get("/id")
			word := strings.HasPrefix(id, `"`) && !strings.ContainsAny(id, "0123456789")
			if id != "7" && id != "none" && !word {
				t.Errorf("%s %s: %s", c.Operation, c.Name, c.Request.Body)
			}
			if get("/guid") != "none" {
				t.Errorf("%s %s: %s", c.Operation, c.Name, c.Request.Body)
			}
		}
	}
	for operation, want := range map[string]int{"PATCH /anchors": 8, "DELETE /anchors": 1, "POST /anchors/{anchor}/raise": 6, "PUT /anchors/{anchor}": 20} {
		if n[operation] < want {
			t.Errorf("%s has %d cases, fewer than %d", operation, n[operation], want)
		}
	}
	for at, want := range map[string]bool{"PATCH /anchors|body/colour minLength": true, "PATCH /anchors|request empty-body": false, "PATCH /anchors|request malformed-json": false, "PATCH /anchors|body/filter/depth minimum": false, "PATCH /anchors|body type": false,
		"PUT /anchors/{anchor}|request malformed-json": true, "PUT /anchors/{anchor}|body/id required": true, "PUT /anchors/{anchor}|body type": true, "PUT /anchors/{anchor}|body/id minimum": false, "PUT /anchors/{anchor}|body/uuid read-only": true, "PUT /anchors/{anchor}|body/guid read-only": false,
		"POST /anchors/{anchor}/raise|body/speed maximum": true, "POST /anchors/{anchor}/raise|request malformed-json": true, "POST /anchors/{anchor}/raise|path/anchor minimum": false} {
		operation, rule, _ := strings.Cut(at, "|")
		if got := slices.Contains(rules[operation], rule); got != want {
			t.Errorf("%s is broken: %v", at, got)
		}
	}
}

// TestNewNamesOfPaths: valid, another one for each number, and such as stand in an address.
func TestNewNamesOfPaths(t *testing.T) {
	doc := description(t, `  /lights/{light}/{no}/{any}/{kind}/{mail}:
    parameters: [{name: light, in: path, required: true, schema: {type: string, minLength: 3, maxLength: 12}, example: outer mole}, {name: no, in: path, required: true, schema: {type: integer, minimum: 5, maximum: 900000}}, {name: any, in: path, required: true}, {name: kind, in: path, required: true, schema: {const: a}}, {name: mail, in: path, required: true, schema: {type: string, format: uri}}]
    put: {}
`)
	p, err := plan.New(doc, plan.Options{Salt: 3})
	if err != nil {
		t.Fatal(err)
	}
	const put = "PUT /lights/{light}/{no}/{any}/{kind}/{mail}"
	seen := map[string]bool{}
	for nth := range uint64(20) {
		for _, name := range []string{"light", "no"} {
			v, err := p.NewName(put, name, nth)
			text := fmt.Sprint(v)
			if err != nil || seen[name+text] || text == "" || strings.ContainsAny(text, " /%?#") || name == "light" && len(text) > 12 {
				t.Errorf("%s %d: %q, %v", name, nth, text, err)
			}
			seen[name+text] = true
		}
	}
	for name, want := range map[string]string{"kind": "can have no value", "none": "is not described", "mail": "can have no value"} {
		if v, err := p.NewName(put, name, 1); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, %v", name, v, err)
		}
	}
	if _, err := p.NewName("PUT /none", "light", 1); err == nil {
		t.Error("an operation that is not described has names")
	}
}

// TestBodiesFit: a value that the configuration gives as a number may be a text in the schema, and
// the other way round.
func TestBodiesFit(t *testing.T) {
	doc := description(t, `  /quays: {post: {requestBody: {required: true, content: {application/json: {schema: {type: object, properties: {no: {type: string}, n: {type: integer}, of: {type: object}, both: {type: [string, integer]}, date: {type: string, minLength: 4}}}}}}}}
`)
	for _, x := range []struct {
		patch map[string]any
		want  string
	}{
		{map[string]any{"no": json.Number("7")}, `"no":"7"`}, {map[string]any{"n": "7"}, `"n":7`}, {map[string]any{"both": json.Number("7")}, `"both":7`}, {map[string]any{"both": "7"}, `"both":"7"`}, {map[string]any{"no": json.Number("7"), "n": "8"}, `"no":"7"`},
		{map[string]any{"n": "x"}, ""}, {map[string]any{"of": "7"}, ""}, {map[string]any{"n": "true"}, ""}, {map[string]any{"date": json.Number("7")}, ""},
	} {
		p, err := plan.New(doc, plan.Options{Bodies: map[string]any{"POST /quays": x.patch}})
		if err != nil {
			t.Fatal(err)
		}
		c, err := p.Control("POST /quays")
		if x.want == "" && err == nil || x.want != "" && (err != nil || !strings.Contains(string(c.Request.Body), x.want)) {
			t.Errorf("%v: %s, %v", x.patch, c.Request.Body, err)
		}
	}
}

// TestWhatDecidesIsNotLeftOut, wherever it lies in what is left out of other requests.
func TestWhatDecidesIsNotLeftOut(t *testing.T) {
	doc := description(t, `  /anchors: {patch: {requestBody: {content: {application/json: {schema: {type: object, properties: {of: {type: object, properties: {ids: {type: array, minItems: 1, items: {type: integer}}}}, colour: {type: string}, to: {type: object, properties: {depth: {type: integer}}}}}}}}}}
`)
	conf, err := sources.Read("obiter.yaml", []byte("operations: { PATCH /anchors: { allow: true } }"), func(string) (string, bool) { return "", false })
	if err != nil {
		t.Fatal(err)
	}
	conf.Imply(doc)
	leave := map[string][]plan.Member{"PATCH /anchors": {{In: "body", Pointer: "/of"}, {In: "body", Pointer: "/colour"}, {In: "body", Pointer: "/to"}}}
	for _, c := range cases(t, doc, plan.Options{Reach: conf.Reach, Leave: leave}) {
		if c.Kind != exchange.Control || c.Operation != "PATCH /anchors" {
			continue
		}
		body, _ := instance.Decode(c.Request.Body)
		_, of := instance.Get(body, "/of/ids")
		_, colour := instance.Get(body, "/colour")
		_, to := instance.Get(body, "/to")
		if !of || colour || to {
			t.Errorf("%s: %s", c.Name, c.Request.Body)
		}
	}
}
