package sources

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/input/config"
	"obiter/internal/input/oad"
)

func env(name string) (string, bool) {
	v, ok := map[string]string{"TIDE": "high", "EMPTY": ""}[name]
	return v, ok
}

func read(t testing.TB, text string) *Sources {
	t.Helper()
	c, err := Read("obiter.yaml", []byte(text), env)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestADraftProposesTheLayoutThatIsDocumented(t *testing.T) {
	for answers, want := range map[string]bool{
		`"400":{"content":{"application/json":{}}}`: true, `"default":{"content":{"application/json":{}}}`: true, `"201":{"content":{"application/json":{}}}`: false,
		`"400":{"content":{"application/json":{}}},"422":{"content":{"application/problem+json":{}}}`: false, `"400":{}`: false,
	} {
		doc, err := oad.Read("marks.json", []byte(`{"openapi":"3.1.0","info":{"title":"Marks","version":"1"},"paths":{"/buoys":{"post":{"responses":{`+answers+`}}}}}`))
		if err != nil {
			t.Fatal(err)
		}
		text := Draft(doc, "marks.json")
		if strings.Contains(text, "\n# errors: { media_type: application/json }\n") != want {
			t.Errorf("%s:\n%s", answers, text)
		}
		read(t, strings.Replace(text, "# errors:", "errors:", 1))
	}
}

func TestFixturesStandInTheOrderOfTheirNeeds(t *testing.T) {
	c := read(t, `
fixtures:
  - { name: light, send: "PUT /marks/{mark}/light", body: { crew: ["${keeper}"] } }
  - { name: mark, send: POST /marks, keep: { mark: $response.header.Location } }
  - { name: keeper, send: POST /keepers, keep: { keeper: "$request.body#/code" } }
`)
	var names []string
	for _, f := range c.Fixtures {
		names = append(names, f.Name)
	}
	if got := strings.Join(names, " "); got != "mark keeper light" {
		t.Error(got)
	}
}

func TestOnlyWhatIsNeededIsMade(t *testing.T) {
	c := read(t, `
headers: { Authorization: "Bearer ${token}" }
fixtures:
  - { name: watch, send: POST /watches, keep: { token: $response.body#/token } }
  - { name: mark, send: POST /marks, keep: { mark: $response.header.Location } }
  - { name: lamp, send: "POST /marks/{mark}/lamps", keep: { lamp: $response.body#/id } }
  - { name: pier, send: POST /piers, keep: { pier: $response.body#/id } }
  - { name: log, send: POST /logs }
operations:
  POST /visits: { body: { pier: "${pier}" }, rules: [{ flaw: another lamp, patch: { lamp: "${lamp}" } }] }
`)
	for operation, want := range map[string]string{"POST /logs": "watch", "GET /marks/{mark}": "watch mark", "PUT /lamps/{lamp}": "watch mark lamp", "POST /visits": "watch mark lamp pier"} {
		var names []string
		for _, f := range c.Needed([]string{operation}) {
			names = append(names, f.Name)
		}
		if got := strings.Join(names, " "); got != want {
			t.Errorf("%s needs %q, want %q", operation, got, want)
		}
	}
}

// TestWhereValuesServe: a kept value serves its own collection, and elsewhere what is
// named; what is only read is not to be changed.
func TestWhereValuesServe(t *testing.T) {
	c := read(t, `
fixtures:
  - { name: quay, send: POST /quays, keep: { id: $response.body#/id }, undo: { send: "DELETE /quays/{quay}", path: { quay: "${id}" } } }
  - { name: visit, send: GET /visits, keep: { visit: $response.body#/0/id } }
operations:
  PUT /piers/{id}: { path: { id: "${id}" }, query: { tide: null, dry: true } }
  PATCH /settings: { allow: true }
`)
	values := map[string]any{"id": "q", "visit": "v"}
	for operation, want := range map[string]string{"GET /quays/{id}": `{"path":{"id":"q"}}`, "GET /quays/{quay}": `{"path":{"quay":"q"}}`, "GET /piers/{id}": `{}`, "PUT /piers/{id}": `{"path":{"id":"q"},"query":{"dry":true,"tide":null}}`,
		"GET /harbours/{h}/quays/{id}": `{"path":{"id":"q"}}`, "GET /visits/{visit}": `{"path":{"visit":"v"}}`, "GET /quays/{id}.json": `{}`} {
		given := map[string]any{}
		for in, named := range c.Given(operation, nil, values) {
			given[in] = named
		}
		if got := string(instance.Encode(given)); got != want {
			t.Errorf("%s is given %s, want %s", operation, got, want)
		}
	}
	for operation, foreign := range map[string]bool{"PUT /piers/{id}": false, "PATCH /settings": false, "DELETE /quays/{quay}": false, "DELETE /piers/{id}": true, "PUT /visits/{visit}": true, "PATCH /harbours/{h}/quays/{id}": true} {
		if why := c.Foreign(operation); (why != "") != foreign {
			t.Errorf("%s: %q", operation, why)
		}
	}
	if given := c.Undoing(c.Fixtures[0], values); given["path"]["quay"] != "q" || c.Unaddressed(c.Fixtures[0], nil) == "" || c.Unaddressed(c.Fixtures[0], values) != "" {
		t.Errorf("undone with %v", given)
	}
}

// TestWhatIsNamedForAll: a value of a parameter that holds wherever one of the name is,
// and what may be changed for it.
func TestWhatIsNamedForAll(t *testing.T) {
	doc, err := oad.Read("quays.yaml", []byte(`{"openapi":"3.1.0","info":{"title":"Quays","version":"1"},"paths":{
 "/quays":{"post":{"responses":{"201":{}}}}, "/quays/{quay}":{"put":{},"delete":{}}, "/archive/{quay}":{"put":{}}, "/archive/{quay}/opening":{"post":{}},
 "/ports/{port}":{"put":{},"get":{}}, "/ports/{port}/ships":{"post":{}}, "/ports/{port}/ships/{ship}":{"put":{},"delete":{}}, "/ports/{port}/closing":{"post":{}}, "/ports/{port}/ships/{ship}/crew/{hand}":{"put":{},"delete":{}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	c := read(t, `
path: { quay: "${quay}", port: kiel }
query: { page: 1 }
fixtures:
  - { name: quay, send: POST /quays, keep: { quay: $response.body#/id }, undo: "DELETE /quays/{quay}" }
  - { name: ship, send: "POST /ports/{port}/ships", keep: { ship: $response.body#/id }, undo: "DELETE /ports/{port}/ships/{ship}" }
operations:
  GET /ports/{port}: { query: { page: 2 } }
`)
	c.Imply(doc)
	values := map[string]any{"quay": json.Number("7"), "ship": "s"}
	for operation, want := range map[string]struct {
		foreign bool
		given   string
	}{
		"PUT /archive/{quay}": {false, `{"path":{"quay":7},"query":{"page":1}}`}, "POST /archive/{quay}/opening": {true, `{"path":{"quay":7},"query":{"page":1}}`},
		"PUT /ports/{port}": {true, `{"path":{"port":"kiel"},"query":{"page":1}}`}, "GET /ports/{port}": {false, `{"path":{"port":"kiel"},"query":{"page":2}}`},
		"POST /ports/{port}/closing": {true, ""}, "POST /ports/{port}/ships": {false, ""}, "PUT /ports/{port}/ships/{ship}": {false, `{"path":{"port":"kiel","ship":"s"},"query":{"page":1}}`},
		"DELETE /ports/{port}/ships/{ship}": {false, ""}, "PUT /ports/{port}/ships/{ship}/crew/{hand}": {true, ""}, "DELETE /ports/{port}/ships/{ship}/crew/{hand}": {true, ""},
	} {
		if why := c.Foreign(operation); (why != "") != want.foreign {
			t.Errorf("%s: %q", operation, why)
		}
		given := c.Given(operation, nil, values)
		object := map[string]any{}
		for in, named := range given {
			if in == "path" { // of the operation alone
				own := map[string]any{}
				for _, name := range config.PathParameters(operation) {
					own[name] = named[name]
				}
				named = own
			}
			object[in] = named
		}
		if got := string(instance.Encode(object)); want.given != "" && got != want.given {
			t.Errorf("%s gets %s, want %s", operation, got, want.given)
		}
	}
	if got := c.MakersOf("PUT /ports/{port}/ships/{ship}"); fmt.Sprint(got) != "[POST /ports/{port}/ships]" {
		t.Errorf("made by %q", got)
	}
}

// TestAPartOfANameIsNotTheRecord: what is below /tags/{type} is not all Obiter's own.
func TestAPartOfANameIsNotTheRecord(t *testing.T) {
	doc, err := oad.Read("tags.yaml", []byte(`{"openapi":"3.1.0","info":{"title":"Tags","version":"1"},"paths":{
 "/tags":{"post":{"requestBody":{"content":{"application/json":{"schema":{"properties":{"type":{"type":"string"},"value":{"type":"string"}}}}}},"responses":{"201":{}}}},
 "/tags/{type}":{"put":{},"patch":{}}, "/tags/{type}/{value}":{"put":{},"delete":{}}, "/tags/{type}/{value}/notes":{"put":{}}, "/{}/{}": {"delete":{}}, "/{x}": {"post":{}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	c := read(t, "{}")
	c.Imply(doc)
	if f := c.Fixtures[0]; fmt.Sprint(f.Keep) != "map[type:$request.body#/type value:$request.body#/value]" || len(f.Rules) != 1 || f.Rules[0].Unique != "/value" {
		t.Errorf("%+v", f)
	}
	for operation, foreign := range map[string]bool{"PUT /tags/{type}": true, "PATCH /tags/{type}": true, "PUT /tags/{type}/{value}": false, "DELETE /tags/{type}/{value}": false, "PUT /tags/{type}/{value}/notes": false} {
		if why := c.Foreign(operation); (why != "") != foreign {
			t.Errorf("%s: %q", operation, why)
		}
	}
}

// TestFreshValues stand in bodies, whole and as a part.
func TestFreshValues(t *testing.T) {
	c := read(t, `
fixtures: [{ name: quay, send: POST /quays, body: { code: "quay-${fresh}", slug: "${fresh}", side: north }, keep: { quay: $response.body#/id } }]
operations: { POST /quays: { body: { crew: { badge: "${fresh}" } } } }
`)
	f := c.Fixtures[0]
	if got := string(instance.Encode(c.Expand(f.Body, nil))); got != `{"code":"quay-k7q2m9x4","side":"north"}` || len(f.Rules) != 2 {
		t.Errorf("%s, %+v", got, f.Rules)
	}
	if got := c.Renews("POST /quays", f.Rules); fmt.Sprint(got) != "[/crew/badge /code /slug]" {
		t.Errorf("%q", got)
	}
	if got := config.Renewed(f.Rules[0].Around, "x"); got != "quay-x" {
		t.Error(got)
	}
}

const draftable = `{"openapi":"3.1.0","info":{"title":"Sea # marks","version":"1"},"servers":[{"url":"http://127.0.0.1:9"}],"components":{"securitySchemes":{
 "a":{"type":"http","scheme":"bearer"},"b":{"type":"oauth2"},"c":{"type":"apiKey","in":"header","name":"X-Key"},"d":{"type":"http","scheme":"basic"},"e":{"type":"apiKey","in":"query","name":"k"}}},
 "paths":{"/buoys":{"post":{"responses":{"201":{"content":{"application/json":{"schema":{"type":"object","properties":{"id":{"type":"string"}}}}}}}}},
 "/buoys/{buoy_id}":{"put":{},"delete":{}},"/buoys/{buoy_id}/lamps":{"post":{}},"/buoys/{buoy_id}/lamps/{lamp}":{"get":{}},"/tides/{day}":{"get":{}},"/ferries":{"post":{}},"/ferries/{name}.json":{"get":{}},"/jetties/{j}":{"get":{}},"/jetties":{"post":{}}}}`

// TestADraftIsAConfiguration drafts and reads back.
func TestADraftIsAConfiguration(t *testing.T) {
	doc, err := oad.Read("marks.json", []byte(draftable))
	if err != nil {
		t.Fatal(err)
	}
	text := Draft(doc, "a # b.json")
	c := read(t, text)
	if c.Description != "a # b.json" || c.At != "http://127.0.0.1:9" {
		t.Errorf("%+v", c)
	}
	var got []string
	for _, f := range c.Fixtures {
		got = append(got, fmt.Sprintf("%s=%s keep %v undo %s", f.Name, f.Send, f.Keep, f.Undo))
	}
	// Where the answer has what would be kept is documented of none but the buoy.
	want := []string{"buoy=POST /buoys keep map[buoy_id:$response.body#/id] undo DELETE /buoys/{buoy_id}"}
	if !slices.Equal(got, want) {
		t.Errorf("fixtures\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	for _, line := range []string{"#   a: ${API_A}    # a token", "#   c: ${API_C}    # the key", "#   d: ${API_D}    # name:password", "# Configuration of Obiter for Sea # marks."} {
		if strings.Count(text, line) != 1 {
			t.Errorf("%q appears %d times in\n%s", line, strings.Count(text, line), text)
		}
	}
	if err := c.CheckOperations([]string{"POST /buoys"}); err == nil {
		t.Error("an operation that is not there is let pass")
	}
}

const quays = `{"openapi":"3.1.0","info":{"title":"Quays","version":"1"},"components":{"securitySchemes":{"door":{"type":"http","scheme":"bearer"}}},"paths":{
 "/quays":{"post":{"requestBody":{"content":{"application/json":{"schema":{"properties":{"quay_id":{},"code":{}}}}}},"responses":{"201":{"content":{"application/json":{"schema":{"properties":{"id":{}}}}}}}}},
 "/quays/{id}":{"get":{},"put":{},"delete":{}},
 "/quays/{id}/bollards":{"post":{},"delete":{}},
 "/quays/{id}/bollards/{no}":{"patch":{},"delete":{}},
 "/visits":{"post":{"requestBody":{"content":{"application/json":{"schema":{"properties":{"quayId":{"type":"integer"},"quay_ids":{"type":"array"},"kind_id":{},"quay_uuid":{"readOnly":true}}}}}}}},
 "/visits/{visit}":{"get":{}},
 "/settings":{"patch":{}},
 "/watches":{"post":{"responses":{"200":{"content":{"application/json":{"schema":{"properties":{"token":{}}}}}}}}}}}`

// TestWhatTheDescriptionShows: how records are made, what refers to them, who logs in.
func TestWhatTheDescriptionShows(t *testing.T) {
	doc, err := oad.Read("quays.json", []byte(quays))
	if err != nil {
		t.Fatal(err)
	}
	c := read(t, "{}")
	c.Imply(doc)
	var got []string
	for _, f := range c.Fixtures {
		got = append(got, fmt.Sprintf("%s by %s, kept as %s, undone by %q", f.Name, f.Send, c.Key(f), f.Undo))
	}
	want := []string{
		`log-in by POST /watches, kept as , undone by ""`,
		`quay by POST /quays, kept as quay_id, undone by "DELETE /quays/{id}"`,
		`bollard by POST /quays/{id}/bollards, kept as bollard_no, undone by "DELETE /quays/{id}/bollards/{no}"`,
		`visit by POST /visits, kept as visit, undone by ""`,
	}
	if !slices.Equal(got, want) {
		t.Errorf("implied\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if credentials, foreign := LeftOpen(doc); len(credentials) > 0 || fmt.Sprint(foreign) != "[PATCH /settings]" {
		t.Errorf("left open are %q and %q", credentials, foreign)
	}
	if body := string(instance.Encode(c.Operations["POST /visits"].Body)); body != `{"quayId":"${quay_id}","quay_ids":["${quay_id}"]}` {
		t.Errorf("references of a visit: %s", body)
	}
	if c.Operations["POST /quays"].Body != nil || c.Credentials["door"] != "${TOKEN_MADE}" {
		t.Errorf("%+v, %v", c.Operations["POST /quays"], c.Credentials)
	}
	values := map[string]any{"quay_id": json.Number("7"), "bollard_no": "b"}
	if given := c.Given("PATCH /quays/{id}/bollards/{no}", nil, values); string(instance.Encode(any(given["path"]))) != `{"id":7,"no":"b"}` {
		t.Errorf("given are %v", given)
	}
	for operation, foreign := range map[string]bool{"PUT /quays/{id}": false, "DELETE /quays/{id}/bollards": false, "DELETE /quays/{id}/bollards/{no}": false, "PATCH /settings": true, "PUT /visits/{visit}": false,
		"PUT /piers/{id}": true, "GET /settings": false, "POST /settings": true} {
		if why := c.Foreign(operation); (why != "") != foreign {
			t.Errorf("%s: %q", operation, why)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("at: a\nheaders: {A: '${TIDE}'}\nfixtures:\n- {name: a, send: POST /a, keep: {b: $response.body#/c}, undo: DELETE /a, body: {x: '${b}'}}\noperations: {POST /a: {body: []}}"))
	f.Add([]byte("fixtures: [{name: a, send: GET /, keep: {'': $response.header.A}}]"))
	f.Add([]byte("fixtures: [{name: a, send: PUT /a/{b, path: {b: '${TIDE}'}, undo: {send: 'DELETE /{}{x}', path: {x: 1}}}]\noperations: {'PATCH /{': {allow: true, credentials: none}}"))
	f.Add([]byte("a: &x [*x]"))
	f.Add([]byte("path: {a: '${b}'}\nlesser: {d: '${TIDE}'}\nskip: [a]\nrules: {only: [a], without: []}\nfixtures: [{name: f, send: 'POST /a/{a}', body: {c: 'x-${fresh}', d: ['${fresh}']}, keep: {b: $request.body#/c}, undo: 'DELETE /a/{a}/{c}/{}'}]\noperations: {'PUT /a/{a}/{b}': {lesser: allowed, rules: [{is: '${b}', blames: /x}, {flaw: y, query: {z: }}]}}"))
	f.Add([]byte("statuses: {type: [1e400]}"))
	f.Fuzz(func(t *testing.T, src []byte) {
		c, err := Read("obiter.yaml", src, env)
		if err != nil {
			if !strings.HasPrefix(err.Error(), "obiter.yaml") {
				t.Fatalf("the error names no place: %v", err)
			}
			return
		}
		_ = c.CheckOperations(nil)
		for name, o := range c.Operations {
			c.Expand(c.Resolved(o.Body, nil), nil)
			c.Given(name, nil, nil)
			c.Foreign(name)
			c.Slots(name)
			c.MakersOf(name)
			for _, r := range o.Rules {
				c.Decided(r, nil)
			}
		}
		for _, f := range c.Fixtures {
			c.Given(f.Send, f.Parameters, nil)
			c.Unaddressed(f, nil)
			c.UndoSlots(f)
			c.Scope(f)
		}
	})
}
