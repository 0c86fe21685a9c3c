package trial_test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"

	"obiter/internal/execute/trial"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/results/report"
	"obiter/internal/target/send"
)

const coast = `
openapi: 3.1.0
info: {title: Coast, version: '1'}
paths:
  /harbours:
    get: {responses: {'200': {description: all, content: {application/json: {schema: {type: object, properties: {harbours: {type: array, items: {type: object, properties: {code: {type: string}}}}}}}}}}}
  /harbours/{harbourCode}:
    parameters: &harbour [{name: harbourCode, in: path, required: true, schema: {type: string}}]
    get: {responses: {'200': {description: one}, 4XX: {description: bad}}}
    put: &write {requestBody: {required: true, content: {application/json: {schema: {type: object, additionalProperties: false, required: [name], properties: {name: {type: string, minLength: 2, maxLength: 40}}}}}}, responses: {'200': {description: changed}, 4XX: {description: bad}}}
  /harbours/{harbourCode}/closing:
    parameters: *harbour
    post: {responses: {'200': {description: closed}, 4XX: {description: bad}}}
  /harbours/{harbourCode}/quays:
    parameters: *harbour
    post: {requestBody: {required: true, content: {application/json: {schema: {type: object, additionalProperties: false, required: [side, name], properties: {side: {type: string, enum: [north, south]}, name: {type: string, minLength: 2, maxLength: 40}}}}}}, responses: {'201': {description: made}, 4XX: {description: bad}}}
  /harbours/{harbourCode}/quays/{side}/{name}:
    parameters: [{name: harbourCode, in: path, required: true, schema: {type: string}}, {name: side, in: path, required: true, schema: {type: string}}, {name: name, in: path, required: true, schema: {type: string}}]
    put: *write
    delete: {responses: {'204': {description: gone}, 4XX: {description: bad}}}
  /lights/{harbour}:
    parameters: [{name: harbour, in: path, required: true, schema: {type: string}}]
    get: {responses: {'200': {description: one}, 4XX: {description: bad}}}
`

// TestARecordOfSomebodyElseIsReadAndNotChanged: a harbour that is there serves to read
// and to make quays in, which are known by two names that the client chooses; the harbour
// itself stays as it is, and is not closed.
func TestARecordOfSomebodyElseIsReadAndNotChanged(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	quays := map[string]bool{"/harbours/KIEL/quays/north/old": true}
	var touched []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		say, problem := writing(w)
		if r.Method != "GET" && (r.URL.Path == "/harbours/KIEL" || strings.HasSuffix(r.URL.Path, "/closing") || strings.HasSuffix(r.URL.Path, "/old")) {
			touched = append(touched, r.Method+" "+r.URL.Path)
		}
		text, _ := io.ReadAll(r.Body)
		var body map[string]any
		failed := json.Unmarshal(text, &body) != nil
		name, _ := body["name"].(string)
		side, _ := body["side"].(string)
		badName, badSide := len([]rune(name)) < 2 || len([]rune(name)) > 40, side != "north" && side != "south"
		segments := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
		quay := len(segments) == 5 && quays[r.URL.Path]
		switch {
		case r.Method == "GET" && r.URL.Path == "/harbours":
			say(200, map[string]any{"harbours": []any{map[string]any{"code": "KIEL"}}})
		case r.Method == "GET" && (r.URL.Path == "/harbours/KIEL" || r.URL.Path == "/lights/KIEL"):
			say(200, map[string]any{"name": "Kiel"})
		case segments[0] != "harbours" || len(segments) < 2 || segments[1] != "KIEL" || len(segments) == 5 && !quay:
			problem(404)
		case r.Method == "DELETE" && quay:
			delete(quays, r.URL.Path)
			w.WriteHeader(204)
		case r.Method != "POST" && len(segments) == 3, r.Method != "PUT" && quay, r.Method != "PUT" && len(segments) == 2:
			w.Header().Set("Allow", "POST")
			problem(405)
		case r.Header.Get("Content-Type") != "application/json":
			problem(415)
		case failed && !json.Valid(text):
			problem(400)
		case failed:
			problem(422, "#")
		case badName && badSide && !quay:
			problem(422, "#/name", "#/side")
		case badName:
			problem(422, "#/name")
		case quay:
			say(200, body)
		case badSide:
			problem(422, "#/side")
		default:
			if quays["/harbours/KIEL/quays/"+side+"/"+name] {
				problem(409, "#/name")
				return
			}
			quays["/harbours/KIEL/quays/"+side+"/"+name] = true
			say(201, map[string]any{})
		}
	}))
	defer server.Close()
	doc, err := oad.Read("coast.yaml", []byte(coast))
	if err != nil {
		t.Fatal(err)
	}
	conf, err := sources.Read("obiter.yaml", []byte("{}"), func(string) (string, bool) { return "", false })
	if err != nil {
		t.Fatal(err)
	}
	conf.Imply(doc)
	base, _ := url.Parse(server.URL)
	var told []string
	left := map[string]string{}
	out, err := trial.Run(context.Background(), trial.Options{Config: conf, Document: doc, Plan: plan.Options{Base: server.URL, Depth: flaw.Quick, Spare: []string{"unknown-path", "wrong-method", "additionalProperties"}}, Base: base, Send: send.Options{RunID: "test"}, Parallel: 4},
		trial.Events{Remains: func(text string) { told = append(told, text) }, Finished: func(op *plan.Operation, _ *report.Line) { left[op.Name()] = op.SkipReason }})
	if err != nil {
		t.Fatal(err)
	}
	if len(touched) > 0 || !quays["/harbours/KIEL/quays/north/old"] {
		t.Errorf("touched are %q", touched)
	}
	missing := slices.DeleteFunc(unreached(out), func(name string) bool { return name == plan.WholeAPI })
	if want := []string{"PUT /harbours/{harbourCode}", "POST /harbours/{harbourCode}/closing"}; !slices.Equal(missing, want) {
		t.Errorf("not reached are %q: %q", missing, left)
	}
	for name, why := range map[string]string{"PUT /harbours/{harbourCode}": "sent only to records that this run created", "POST /harbours/{harbourCode}/closing": "nothing in the description shows that it creates a record"} {
		if !strings.Contains(left[name], why) {
			t.Errorf("%s is left out for %q", name, left[name])
		}
	}
	if out.Report.Errors() > 0 || len(told) > 0 || len(quays) > 1 {
		t.Errorf("%s, told %q, left %v", found(out), told, quays)
	}
}
