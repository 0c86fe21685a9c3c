package draft

import (
	"bytes"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/core/secret"
	"obiter/internal/input/oad"
	"obiter/internal/learn/capture"
)

// sent is a request in a line, with its answer: POST /tugs {"name":"A"} 422 /name.
func sent(line string) capture.Exchange {
	method, rest, _ := strings.Cut(line, " ")
	path, rest, _ := strings.Cut(rest, " ")
	x := capture.Exchange{Request: exchange.Request{Method: method, URL: "http://harbour.example" + path}}
	x.Answer.Header = http.Header{}
	if i := strings.LastIndexAny(rest, "}]"); i >= 0 {
		x.Body, rest = []byte(rest[:i+1]), rest[i+1:]
		x.Headers = append(x.Headers, [2]string{"Content-Type", "application/json"})
	}
	var pointer string
	fmt.Sscan(rest, &x.Answer.Status, &pointer)
	if x.Answer.Status >= 400 {
		x.Answer.Header.Set("Content-Type", "application/problem+json")
		x.Answer.Body = fmt.Appendf(nil, `{"type":"about:blank","title":"No","status":%d,"errors":[{"pointer":"#%s","detail":"is wrong"}]}`, x.Answer.Status, pointer)
	}
	return x
}

// drafted is the draft of some requests.
func drafted(t *testing.T, lines ...string) (*Draft, string) {
	t.Helper()
	d := New(&secret.Set{})
	for _, l := range lines {
		d.See(sent(l))
	}
	d.Settle()
	for _, refused := range []bool{false, true} {
		for _, l := range lines {
			d.AddIf(sent(l), "watch.har", refused)
		}
	}
	return d, written(t, d)
}

// written is what a draft writes, which is a description that can be read.
func written(t *testing.T, d *Draft) string {
	t.Helper()
	var b bytes.Buffer
	if err := d.Write(&b); err != nil {
		t.Fatal(err)
	}
	doc, err := oad.Read("draft.yaml", b.Bytes())
	if err != nil {
		t.Fatalf("%v\n%s", err, b.String())
	}
	if len(doc.Warnings) > 0 {
		t.Errorf("%v\n%s", doc.Warnings, b.String())
	}
	for _, o := range doc.Operations {
		if o.Skip != "" {
			t.Errorf("%s: %s", o.Name(), o.Skip)
		}
	}
	return b.String()
}

// TestWhatIsLearned: rows are values of one field that were accepted, and those that were
// refused, and what comes of them.
func TestWhatIsLearned(t *testing.T) {
	for name, c := range map[string]struct {
		accepted, refused []string
		want              string
	}{
		"a text":                  {[]string{`"Aurora"`}, nil, "x: { type: string, examples: [Aurora] }"},
		"a date":                  {[]string{`"2031-05-04"`}, []string{`"2031-02-30"`}, "x: { type: string, format: date, examples: ['2031-05-04'] }"},
		"a time":                  {[]string{`"2031-05-04T06:00:00Z"`, `"2031-05-04T06:00:00.5+02:00"`}, nil, "type: string, format: date-time"},
		"an id":                   {[]string{`"5e0c3f6a-2b71-4c8d-9a4e-6f1d2c3b4a59"`}, nil, "type: string, format: uuid"},
		"once no date":            {[]string{`"2031-05-04"`, `"tomorrow"`}, nil, "x: { type: string, examples: ['2031-05-04'] }"},
		"a longest":               {[]string{`"abcd"`, `"ab"`}, []string{`"abcde"`}, "x: { type: string, maxLength: 4, examples: [abcd] }"},
		"a shortest":              {[]string{`"abcd"`, `"ab"`}, []string{`"a"`}, "x: { type: string, minLength: 2, examples: [abcd] }"},
		"somewhere between":       {[]string{`"abcd"`}, []string{`"abcdefgh"`}, "x: { type: string, examples: [abcd] }"},
		"a whole number":          {[]string{`5`, `1`}, []string{`0`, `6`}, "x: { type: integer, minimum: 1, maximum: 5, examples: [5] }"},
		"a number":                {[]string{`0.01`, `400`}, []string{`0`, `400.01`}, "x: { type: number, exclusiveMinimum: 0, maximum: 400, examples: [0.01] }"},
		"a step":                  {[]string{`50`, `1250`, `20000`}, []string{`75`}, "x: { type: integer, multipleOf: 50, examples: [50] }"},
		"null as well":            {[]string{`"LAXB7"`, `null`}, nil, "x: { type: [string, 'null'], examples: [LAXB7] }"},
		"taken wrongly once":      {many(`12`, 20, `"12"`), nil, "x: { type: integer, examples: [12] }"},
		"of two types":            {[]string{`12`, `"many"`}, nil, "x: { type: [string, integer], examples: [many] }"},
		"a pattern":               {[]string{`"IMO9074729"`, `"IMO9251822"`}, []string{`"IMO90747X9"`, `"IMO907472"`, `"IMO90747290"`}, `pattern: '^IMO[0-9]{7}$'`},
		"a pattern behind a sign": {[]string{`"TW-19A12B"`, `"TW-DFN4JR"`}, []string{`"TW-dfn4jr"`}, `pattern: '^TW-[A-Z0-9]{6}$'`},
		"characters":              {[]string{`"LAXB7"`, `"AB"`}, []string{`"LAX-7"`}, `pattern: '^[A-Z0-9]+$'`},
		"nothing to tell it by":   {[]string{`"north"`}, []string{`"front"`}, "x: { type: string, examples: [north] }   # other texts were refused as well"},
		"a list of words":         {many(`"tug"`, 20, `"ferry"`, `"yacht"`), []string{`"canoe"`}, "x: { type: string, enum: [ferry, tug, yacht] }"},
		"few words, none refused": {many(`"tug"`, 40, `"ferry"`, `"yacht"`), nil, "enum: [ferry, tug, yacht] }   # guess: no other value was seen"},
		"too few of them":         {many(`"tug"`, 5, `"ferry"`, `"yacht"`), []string{`"canoe"`}, "other texts were refused as well"},
		"a flag of YAML 1.1":      {[]string{`"NO"`}, nil, "examples: ['NO']"},
		"a yes or no":             {[]string{`true`, `false`}, []string{`"yes"`}, "x: { type: boolean, examples: [true] }"},
		"a list":                  {[]string{`["water"]`, `["water","waste","bunkering"]`}, []string{`[]`, `["water","waste","bunkering","shore"]`, `["water","water"]`}, "minItems: 1\n"},
		"and its longest":         {[]string{`["water"]`, `["water","waste"]`}, []string{`["water","waste","shore"]`}, "maxItems: 2\n"},
		"and no element twice":    {[]string{`["water","waste"]`}, []string{`["water","water"]`}, "uniqueItems: true\n"},
		"objects in a list":       {[]string{`[{"rank":"mate"}]`}, []string{`[{}]`, `[{"rank":5}]`}, "required: [rank]\n"},
	} {
		var lines []string
		for _, v := range c.accepted {
			lines = append(lines, `POST /tugs {"x":`+v+`} 201`)
		}
		for _, v := range c.refused {
			lines = append(lines, `POST /tugs {"x":`+v+`} 422 /x`)
		}
		if _, text := drafted(t, lines...); !strings.Contains(text, c.want) {
			t.Errorf("%s: there is no %q in\n%s", name, c.want, text)
		}
	}
}

// many is a value many times, and others once.
func many(v string, n int, others ...string) []string {
	for range n {
		others = append(others, v)
	}
	return others
}

func TestPresence(t *testing.T) {
	const full = `POST /tugs {"name":"Otter","pull":60} 201`
	for name, c := range map[string]struct {
		lines     []string
		has, lack string
	}{
		"a guess":                {[]string{full}, "required: [name, pull]   # guess: they were always there", ""},
		"one was left out":       {[]string{full, `POST /tugs {"name":"Otter"} 201`}, "required: [name]   # guess", ""},
		"refused to be left out": {[]string{full, `POST /tugs {"pull":60} 422 /name`}, "required: [name]\n", "guess: they"},
		"refused for another":    {[]string{full, `POST /tugs {"pull":61} 422 /pull`}, "required: [name, pull]   # guess", ""},
		"an unknown member":      {[]string{full, `POST /tugs {"name":"Otter","pull":60,"colour":"red"} 422 /colour`}, "additionalProperties: false", ""},
		"taken all the same":     {[]string{full, `POST /tugs {"name":"Otter","pull":60,"colour":"red"} 201`}, "colour:", "additionalProperties"},
		"two at once":            {[]string{full, `POST /tugs {"pull":"strong"} 422 /name`}, "required: [name]\n", "'string'"},
		"a fault of the service": {[]string{full, `POST /tugs {"pull":60} 500 /name`}, "# guess", ""},
		"never without a body":   {[]string{full}, "required: true   # guess: there always was one", ""},
		"refused without a body": {[]string{full, `POST /tugs 400`}, "required: true\n", ""},
		"taken without a body":   {[]string{full, `POST /tugs 201`}, "required: false\n", ""},
	} {
		_, text := drafted(t, c.lines...)
		if !strings.Contains(text, c.has) || c.lack != "" && strings.Contains(text, c.lack) {
			t.Errorf("%s: %q, not %q, in\n%s", name, c.has, c.lack, text)
		}
	}
}

// TestRecordsAreShared: what one operation enforces holds for the record, and a change
// may leave anything out.
func TestRecordsAreShared(t *testing.T) {
	_, text := drafted(t,
		`POST /tugs {"name":"Otter","pull":60} 201`, `POST /tugs {"pull":60} 422 /name`,
		`PUT /tugs/12 {"name":"Otter","pull":60} 200`, `PUT /tugs/12 {"pull":60} 200`, `PUT /tugs/12 {"name":"Otter","pull":61} 422 /pull`,
		`PATCH /tugs/12 {"name":"Otter"} 200`, `PATCH /tugs/12 {"name":5} 422 /name`, `GET /tugs/13 200`, `GET /tugs 200`, `DELETE /tugs/13 404`)
	for _, want := range []string{"schema: { $ref: '#/components/schemas/Tug' }", "Tug:   # the body of POST /tugs and PUT /tugs/{tug_id}", "required: [name]\n", "/tugs/{tug_id}:\n    parameters:\n      - { name: tug_id, in: path, required: true, schema: { type: integer, examples: [13] } }",
		"operationId: replaceTug", "operationId: listTugs", "maximum: 60", "by PUT /tugs/{tug_id}"} {
		if !strings.Contains(text, want) {
			t.Errorf("there is no %q in\n%s", want, text)
		}
	}
	if strings.Contains(text, "delete:") {
		t.Error("what was never accepted is drafted")
	}
	if change := text[strings.Index(text, "patch:"):strings.Index(text, "components:")]; strings.Contains(change, "required: [") {
		t.Errorf("a change requires something:\n%s", change)
	}
}

// TestSecretsAreLeftOut: values of fields that are called so, and those that are known.
func TestSecretsAreLeftOut(t *testing.T) {
	secrets := &secret.Set{}
	secrets.Learn("watchword", "tide-tables-1912")
	d := New(secrets)
	x := sent(`POST /sessions {"passPhrase":"open the lock","guest":"tide-tables-1912","pins":2} 201`)
	x.Headers = append(x.Headers, [2]string{"Authorization", "Bearer of-a-lantern"}, [2]string{"X-Api-Key", "key-of-the-shed"})
	d.See(x)
	d.Settle()
	d.Add(x, "watch.har")
	text := written(t, d)
	for _, secret := range []string{"open the lock", "tide-tables", "of-a-lantern", "key-of-the-shed"} {
		if strings.Contains(text, secret) {
			t.Errorf("%s is kept", secret)
		}
	}
	for _, want := range []string{"passPhrase: { type: string, format: password, writeOnly: true }", "bearer: { type: http, scheme: bearer }", "xApiKey: { type: apiKey, in: header, name: X-Api-Key }", "security: [{ xApiKey: [] }, { bearer: [] }]"} {
		if !strings.Contains(text, want) {
			t.Errorf("there is no %q in\n%s", want, text)
		}
	}
}

func TestServersAndWhatIsLeftOut(t *testing.T) {
	other := sent(`GET /piers 200`)
	other.URL = "http://elsewhere.example/piers"
	d := New(&secret.Set{})
	list := []capture.Exchange{sent(`GET /tugs 200`), sent(`GET /tugs 200`), other, sent(`GET /lighthouses 404`), sent(`PATCH /tugs 405`)}
	for _, x := range list {
		d.See(x)
	}
	d.Settle()
	for _, x := range list {
		d.Add(x, "watch.har")
	}
	if fmt.Sprint(d.Names()) != "[GET /tugs]" || d.Left[otherServer] != 1 || d.Left[neverTaken] != 2 {
		t.Errorf("%v, left out %v", d.Names(), d.Left)
	}
	if text := written(t, d); !strings.Contains(text, "- url: http://harbour.example\n") {
		t.Error(text)
	}
}

func TestInto(t *testing.T) {
	const has = "# Ours.\nopenapi: 3.1.0\ninfo: {title: Harbour, version: '1'}\npaths:\n    # All of them.\n    /tugs:\n        get: # the list\n            responses: {'200': {description: Tugs.}}\n    /tugs/{id}:\n        parameters: [{name: id, in: path, required: true, schema: {}}]\n        get:\n            responses: {'200': {description: A tug.}}\n\n# The rest.\ntags: [{name: tugs}]\n"
	d, _ := drafted(t, `GET /tugs 200`, `POST /tugs {"name":"Otter"} 201`, `PUT /tugs/12 {"name":"Otter"} 200`, `GET /piers 200`)
	text, added, err := d.Into("openapi.yaml", []byte(has))
	if err != nil || fmt.Sprint(added) != "[GET /piers POST /tugs PUT /tugs/{tug_id}]" {
		t.Fatalf("%v, %v\n%s", added, err, text)
	}
	doc, err := oad.Read("openapi.yaml", text)
	if err != nil || len(doc.Operations) != 5 {
		t.Fatalf("%v\n%s", err, text)
	}
	kept := string(text)
	for line := range strings.Lines(has) {
		if !strings.Contains(kept, line) {
			t.Errorf("%q is gone from\n%s", line, kept)
		}
	}
	again, added, err := d.Into("openapi.yaml", text)
	if err != nil || len(added) != 0 || !bytes.Equal(again, text) {
		t.Errorf("a second time: %v, %v", added, err)
	}
	windows, _, err := d.Into("openapi.yaml", []byte(strings.ReplaceAll(has, "\n", "\r\n")))
	if err != nil || strings.Count(string(windows), "\n") != strings.Count(string(windows), "\r\n") {
		t.Errorf("line ends: %v\n%q", err, windows)
	}
	if text, _, err := d.Into("openapi.yaml", []byte(strings.TrimSuffix(has[:strings.Index(has, "\n\n")], "\n"))); err != nil {
		t.Errorf("without a last line end: %v\n%s", err, text)
	}
	for src, want := range map[string]string{
		"swagger: '2.0'\n":                                 "this is no OpenAPI 3 document",
		`{"openapi":"3.1.0","paths":{"/a":{}}}`:            "this is JSON",
		"openapi: 3.1.0\npaths: {}\n":                      "no paths to add to",
		"openapi: 3.1.0\npaths: {/tugs: {get: {}}}\n":      "written in a way that nothing can be added to",
		"openapi: 3.1.0\npaths:\n  /tugs: {get: {}}\na: [": "",
	} {
		if _, _, err := d.Into("openapi.yaml", []byte(src)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", src, err, want)
		}
	}
}

func TestSamplesAndSchemas(t *testing.T) {
	d := New(&secret.Set{})
	d.Settle()
	d.Sample("POST", "/tugs/{tug_id}/jobs", map[string]any{"note": "x"}, "a.json")
	d.Sample("POST", "/tugs/{tug_id}/jobs", map[string]any{"note": "y", "at": "2031-05-04"}, "b.json")
	d.SchemaOf(Schema{Operation: "PUT /piers/{pier_id}", Name: "pier", From: "pier.json", Value: map[string]any{"type": "object", "required": []any{"no"}, "properties": map[string]any{"no": map[string]any{"type": "string", "enum": []any{"a: b", "off"}}}}})
	d.SchemaOf(Schema{Name: "Berth", From: "berth.json", Value: map[string]any{"type": "string", "examples": []any{}}})
	text := written(t, d)
	for _, want := range []string{"# from a.json, b.json", "required: [note]   # guess", "at: { type: string, format: date", "Berth:   # from berth.json", "- 'a: b'\n", "- 'off'\n", "2XX: { description: Accepted. }   # guess"} {
		if !strings.Contains(text, want) {
			t.Errorf("there is no %q in\n%s", want, text)
		}
	}
}
