package sources

import (
	"fmt"
	"strings"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/input/config"
	"obiter/internal/input/oad"
)

const moorings = `
openapi: 3.1.0
info: {title: Moorings, version: '1'}
paths:
  /quays:
    get: &list {responses: {'200': {description: all, content: {application/json: {schema: {type: array, items: {type: object}}}}}}}
    post: {responses: {'201': {description: created}}}
    delete: {parameters: [{name: ids, in: query, schema: {type: array, items: {type: integer}}}]}
    patch: {requestBody: {content: {application/json: {schema: {type: object, properties: {ids: {type: array}, colour: {type: string}, filter: {type: object}}}}}}}
    put: {requestBody: {content: {application/json: {schema: {type: array, items: {type: object, properties: {id: {type: integer}}}}}}}}
  /quays/{quay}:
    get: {}
    put: {requestBody: {content: {application/json: {schema: {type: object, properties: {id: {type: integer}, name: {type: string}, Quay: {type: integer}, owner_id: {type: integer}}}}}}}
    delete: {}
  /quays/{quay}/position:
    put: {requestBody: {content: {application/json: {schema: {type: object, properties: {id: {type: integer}, quay: {type: integer}}}}}}}
    patch: {requestBody: {content: {application/json: {schema: {type: object, required: [id], properties: {id: {type: integer}}}}}}}
  /quays/close: {post: {requestBody: {content: {application/json: {schema: {type: object, properties: {quay_id: {type: integer}, olderThan: {type: string}, reason: {type: string}}}}}}}}
  /berths:
    get: *list
    delete: {parameters: [{name: berth_ids, in: query, schema: {type: array}}]}
  /horns: {patch: {requestBody: {content: {application/json: {schema: {type: object, properties: {loud: {type: boolean}}}}}}}}
  /tides: {delete: {requestBody: {content: {application/json: {schema: {type: array, items: {type: integer}}}}}}}
  /notices:
    post: {responses: {'201': {description: created}}, requestBody: {content: {application/json: {schema: {type: object, properties: {ID: {type: integer}, text: {type: string}}}}}}}
  /notices/{no}: {get: {}}
  /settings:
    get: {responses: {'200': {description: one, content: {application/json: {schema: {type: object, properties: {open: {type: boolean}}}}}}}}
    put: {requestBody: {content: {application/json: {schema: {type: object, properties: {ids: {type: array}}}}}}}
    post: {requestBody: {content: {application/json: {schema: {type: object, properties: {ids: {type: array}}}}}}}
`

func moored(t *testing.T, text string) *Sources {
	t.Helper()
	doc, err := oad.Read("moorings.yaml", []byte(moorings))
	if err != nil {
		t.Fatal(err)
	}
	c := read(t, text)
	c.Imply(doc)
	return c
}

// TestReach: what decides which records a request changes, by its place.
func TestReach(t *testing.T) {
	c := moored(t, "operations: { POST /quays/close: { allow: true } }")
	for place, want := range map[string]Decision{
		"DELETE /quays query /ids": Names, "DELETE /quays query /colour": Selects, "DELETE /quays query /ids/0": Names, "DELETE /quays body /colour": Selects, "DELETE /quays header /ids": Nothing,
		"PATCH /quays body /ids": Names, "PATCH /quays body /ids/3": Names, "PATCH /quays body /colour": Nothing, "PATCH /quays body /filter": Selects, "PATCH /quays body /filter/colour": Selects, "PATCH /quays query /dry": Selects,
		"PUT /quays body /0/id": Names, "PUT /quays body /0/name": Nothing, "DELETE /tides body /0": Names, "DELETE /tides body ": Names,
		"PUT /quays/{quay} body /id": Names, "PUT /quays/{quay} body /Quay": Names, "PUT /quays/{quay} body /name": Nothing, "PUT /quays/{quay} body /owner_id": Nothing, "PUT /quays/{quay} body /of/id": Nothing, "PUT /quays/{quay} query /id": Nothing,
		"POST /quays/close body /quay_id": Names, "POST /quays/close body /olderThan": Selects, "POST /quays/close body /reason": Nothing, "POST /quays/close query /page": Nothing, "POST /quays/close query /q": Selects,
	} {
		method, rest, _ := strings.Cut(place, " ")
		path, rest, _ := strings.Cut(rest, " ")
		in, pointer, _ := strings.Cut(rest, " ")
		r := c.Reach(method + " " + path)
		if r == nil {
			t.Fatalf("%s has no reach", place)
		}
		if got := r.Of(in, pointer); got != want {
			t.Errorf("%s decides %d, want %d", place, got, want)
		}
	}
	for operation, wide := range map[string]string{"GET /quays": "none", "POST /quays": "none", "PUT /settings": "none", "POST /settings": "none", "DELETE /quays": "wide, decided", "PUT /quays/{quay}": "", "PUT /quays/{quay}/position": "", "POST /quays/close": "wide, decided", "DELETE /tides": "wide, decided", "PATCH /horns": "wide"} {
		got := "none"
		if r := c.Reach(operation); r != nil {
			if got = ""; r.Wide {
				got = "wide"
			}
			if r.Decided {
				got += ", decided"
			}
		}
		if got != wide {
			t.Errorf("%s is %q, want %q", operation, got, wide)
		}
	}
}

// TestMayName: bodies that have nothing of the kind need not be read.
func TestMayName(t *testing.T) {
	c := moored(t, "{}")
	r := c.Reach("PUT /quays/{quay}")
	for body, want := range map[string]bool{`{"name":"x"}`: false, `{"ID":1}`: true, `{"name":"quay"}`: true, `{"qu_ay":1}`: true, ``: false} {
		if r.MayName([]byte(body)) != want {
			t.Errorf("%s: %v", body, !want)
		}
	}
	if !c.Reach("DELETE /quays").MayName(nil) {
		t.Error("a change of several is not read")
	}
}

// TestRecordsAreNamed: places that name records have those of this run, and what names others, or
// none that is known, is left out.
func TestRecordsAreNamed(t *testing.T) {
	c := moored(t, "operations: { POST /quays/close: { allow: true }, DELETE /tides: { allow: true, body: [7] }, DELETE /berths: { allow: true } }")
	for operation, want := range map[string]string{
		"DELETE /quays": `{"query":{"ids":["${quay}"]}}`, "PATCH /quays": `{"body":{"ids":["${quay}"]}}`, "PUT /quays/{quay}": `{"body":{"Quay":"${quay}","id":"${quay}"}}`,
		"PUT /quays/{quay}/position": `{"body":{"id":null,"quay":"${quay}"}}`, "PATCH /quays/{quay}/position": `{}`, "POST /quays/close": `{"body":{"quay_id":"${quay}"}}`, "DELETE /tides": `{"body":[7]}`, "DELETE /berths": `{}`,
	} {
		o := c.Operations[operation]
		got := map[string]any{}
		if o.Body != nil {
			got["body"] = o.Body
		}
		if q := o.Parameters["query"]; q != nil {
			got["query"] = q
		}
		if text := string(instance.Encode(got)); text != want {
			t.Errorf("%s has %s, want %s", operation, text, want)
		}
	}
	for operation, want := range map[string]string{
		"PATCH /horns": "it changes what is there for everyone", "DELETE /quays": "", "PATCH /quays": "it changes what is there for everyone", "PUT /quays": "it changes what is there for everyone", "POST /quays/close": "", "DELETE /tides": "",
		"DELETE /berths": "its requests name the records that they change (query berth_ids), and no fixture creates these; name some that may be changed: operations: { DELETE /berths: { query: { berth_ids: … } } }", "PUT /quays/{quay}": "",
	} {
		if why := c.Foreign(operation); want == "" && why != "" || !strings.HasPrefix(why, want) {
			t.Errorf("%s: %q, want %q", operation, why, want)
		}
	}
	c = moored(t, "operations: { DELETE /quays: { query: { ids: [3] } }, PATCH /quays: { allow: true }, PUT /quays: { allow: true } }")
	if c.Foreign("DELETE /quays") == "" || c.Foreign("PATCH /quays") != "" || !strings.Contains(c.Foreign("PUT /quays"), "(body 0/id)") || !strings.Contains(c.Foreign("PUT /quays"), "body: [ … ]") {
		t.Errorf("%q, %q, %q", c.Foreign("DELETE /quays"), c.Foreign("PATCH /quays"), c.Foreign("PUT /quays"))
	}
	if at := c.OwnID("POST /notices"); at != "/ID" || c.OwnID("POST /quays") != "" {
		t.Errorf("a notice is named at %q", at)
	}
	if f, made := c.MakerOf([]any{"${quay}"}); !made || f.Send != "POST /quays" {
		t.Errorf("made by %v", f)
	}
	if _, made := c.MakerOf("7"); made {
		t.Error("7 is of a fixture")
	}
	for place, want := range map[string]string{"DELETE /quays query /ids": "[3]", "DELETE /quays query /ids/0": "", "DELETE /quays query /no": "", "PUT /quays/{quay} path /quay": "${quay}", "PUT /quays/{quay} body /id": "${quay}"} {
		parts := strings.Split(place, " ")
		v, is := c.Said(parts[0]+" "+parts[1], parts[2], parts[3])
		if got := fmt.Sprint(v); is != (want != "") || is && got != want {
			t.Errorf("%s is %q", place, got)
		}
	}
}

// TestPutThere: where only a PUT creates, it makes the records; a name out of a list is no free one,
// and where nothing shows what is there it is not sent.
func TestPutThere(t *testing.T) {
	doc, err := oad.Read("lights.yaml", []byte(`{"openapi":"3.1.0","info":{"title":"Lights","version":"1"},"paths":{
 "/lights/{light}":{"parameters":[{"name":"light","in":"path","required":true,"schema":{"type":"string"}}],"get":{},"put":{},"delete":{}},
 "/flags/{flag}":{"parameters":[{"name":"flag","in":"path","required":true,"schema":{"enum":["red"]}}],"get":{},"put":{}},
 "/masts/{mast}":{"parameters":[{"name":"mast","in":"path","required":true,"schema":{"type":"string"}}],"put":{},"delete":{}},
 "/piers":{"get":{}}, "/piers/{pier}":{"parameters":[{"name":"pier","in":"path","required":true,"schema":{"type":"string"}}],"put":{}},
 "/cranes":{"post":{"responses":{"201":{}}}}, "/cranes/{crane}":{"parameters":[{"name":"crane","in":"path","required":true,"schema":{"type":"string"}}],"get":{},"put":{}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	c := read(t, "{}")
	c.Imply(doc)
	var got []string
	for _, f := range c.Fixtures {
		if !f.Reads {
			got = append(got, fmt.Sprint(f.Send, " names ", f.Names, ", keeps ", f.Keep, ", undone by ", f.Undo))
		}
	}
	want := "PUT /lights/{light} names light, keeps map[light:$request.path.light], undone by DELETE /lights/{light}; PUT /piers/{pier} names pier, keeps map[pier:$request.path.pier], undone by ; POST /cranes names , keeps map[crane:$response.header.Location], undone by "
	if strings.Join(got, "; ") != want {
		t.Errorf("records are made by\n%s\nwant\n%s", strings.Join(got, "; "), want)
	}
	for operation, foreign := range map[string]bool{"PUT /lights/{light}": false, "DELETE /lights/{light}": false, "PUT /flags/{flag}": true, "PUT /masts/{mast}": true, "PUT /piers/{pier}": false, "PUT /cranes/{crane}": false} {
		if why := c.Foreign(operation); (why != "") != foreign {
			t.Errorf("%s: %q", operation, why)
		}
	}
	c = read(t, "fixtures: [{ name: light, send: 'PUT /lights/{light}', path: { light: outer }, keep: { light: $request.path.light } }]")
	if c.Fixtures[0].Names != "light" {
		t.Errorf("%+v", c.Fixtures[0])
	}
}

// TestWhatTheFileNames: it may be changed, and is deleted only where that is allowed, or it is of
// this run all the same.
func TestWhatTheFileNames(t *testing.T) {
	for text, want := range map[string][2]bool{
		"operations: { 'PUT /quays/{quay}': { path: { quay: 7 } }, 'DELETE /quays/{quay}': { path: { quay: 7 } } }":                                                                                               {false, true},
		"operations: { 'PUT /quays/{quay}': { path: { quay: 7 } }, 'DELETE /quays/{quay}': { path: { quay: 7 }, allow: true } }":                                                                                  {false, false},
		"{ fixtures: [{ name: quay, send: POST /quays, keep: { q: $response.body#/id } }], operations: { 'PUT /quays/{quay}': { path: { quay: '${q}' } }, 'DELETE /quays/{quay}': { path: { quay: '${q}' } } } }": {false, false},
	} {
		c := moored(t, text)
		if put, remove := c.Foreign("PUT /quays/{quay}"), c.Foreign("DELETE /quays/{quay}"); (put != "") != want[0] || (remove != "") != want[1] {
			t.Errorf("%s: %q, %q", text, put, remove)
		}
	}
}

// TestOnlyWhatIsMadeIsNamed: a record that is only read, one that could not be made, and one that is
// not known by one name do not stand in a change of several.
func TestOnlyWhatIsMadeIsNamed(t *testing.T) {
	for text, want := range map[string]string{
		"{}": "[${quay}]", "fixtures: [{ name: quay, send: GET /quays, keep: { q: $response.body#/0/id } }]": "[${quay}]", "fixtures: [{ name: quay, send: POST /quays, keep: { q: $response.body#/id, no: $response.body#/no } }]": "[${quay}]",
	} {
		c := moored(t, text)
		v, _ := c.Said("DELETE /quays", "query", "/ids")
		if got := fmt.Sprint(v); got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
}

// TestReaders: the GET that shows a record has all that its address takes, or is none.
func TestReaders(t *testing.T) {
	c := moored(t, "{}")
	f, _ := c.Maker("POST /quays")
	for name, x := range map[string]struct {
		values map[string]any
		want   string
	}{"known": {map[string]any{"quay": 7}, "GET /quays/{quay} map[quay:7] true"}, "unknown": {map[string]any{"other": 7}, " map[] false"}, "nothing": {nil, " map[] false"}} {
		operation, at, ok := c.Reader(f, x.values)
		if got := fmt.Sprint(operation, " ", at, " ", ok); got != x.want {
			t.Errorf("%s: %s, want %s", name, got, x.want)
		}
	}
	if _, _, ok := c.Reader(config.Fixture{Send: "POST /none", Undo: "DELETE /none/{id}"}, map[string]any{"id": 1}); ok {
		t.Error("what is not described is read")
	}
}

// TestWhatMayBeAList: what a GET documents as a list, in a member too, as anything, or not at all.
func TestWhatMayBeAList(t *testing.T) {
	for schema, want := range map[string]bool{
		`{"type":"array"}`: true, `{"items":{}}`: true, `{"type":"object","properties":{"list":{"type":"array"}}}`: true, `{"type":"object","properties":{"list":{"items":{}}}}`: true, `{"type":"object"}`: true, `{"type":"object","properties":{}}`: true,
		`{"type":"object","properties":{"open":{"type":"boolean"}}}`: false, `{"properties":{"a/b~c":{"type":"string"}}}`: false, `{"properties":{"a/b~c":{"type":"array"}}}`: true,
	} {
		doc, err := oad.Read("t.json", []byte(`{"openapi":"3.1.0","info":{"title":"t","version":"1"},"paths":{"/a":{"get":{"responses":{"200":{"description":"x","content":{"application/json":{"schema":`+schema+`}}}}}}}}`))
		if err != nil {
			t.Fatal(err)
		}
		if got := mayList(doc, doc.Operations[0]); got != want {
			t.Errorf("%s: %v", schema, got)
		}
	}
	doc, err := oad.Read("t.json", []byte(`{"openapi":"3.1.0","info":{"title":"t","version":"1"},"paths":{"/a":{"get":{"responses":{"200":{"description":"x"}}}}}}`))
	if err != nil || !mayList(doc, doc.Operations[0]) {
		t.Errorf("what is not described is no list: %v", err)
	}
}
