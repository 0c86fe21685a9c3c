package trial_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"obiter/internal/execute/trial"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/target/send"
)

// yard is a service that keeps piers, winches on piers, and checks of winches, all
// known by {id}, a settings record for everyone, and a log that only grows. Some
// records were there before.
type yard struct {
	mu      sync.Mutex
	records map[string]map[string]any // by path
	next    int
	foreign []string // paths of those that were there before
	touched []string // of these, with the method
	heard   int

	stop   func(heard int, r *http.Request)                          // is told each request; may be nil
	answer func(w http.ResponseWriter, r *http.Request) (taken bool) // answers in place of the yard; may be nil
}

const yardDescription = `
openapi: 3.1.0
info: {title: Yard, version: '1'}
paths:
  /piers:
    get: {responses: {'200': {description: all}}}
    post: &create
      requestBody: &body {required: true, content: {application/json: {schema: {type: object, required: [name], additionalProperties: false, properties: {name: {type: string, minLength: 2, maxLength: 20}, note: {type: string, maxLength: 30}}}}}}
      responses: &made {'201': {description: made, content: {application/json: {schema: {type: object, properties: {id: {type: integer}}}}}}, 4XX: {description: bad}}
  /piers/{id}:
    parameters: &id [{name: id, in: path, required: true, schema: {type: integer, minimum: 1}, example: 1}]
    get: &read {responses: {'200': {description: one}, 4XX: {description: bad}}}
    put: &replace {requestBody: *body, responses: {'200': {description: changed}, 4XX: {description: bad}}}
    delete: &remove {responses: {'204': {description: gone}, 4XX: {description: bad}}}
  /winches:
    post:
      requestBody: {required: true, content: {application/json: {schema: {type: object, required: [name, pier_id], additionalProperties: false, properties: {name: {type: string, minLength: 2, maxLength: 20}, pier_id: {type: integer, minimum: 1}}}}}}
      responses: *made
  /winches/{id}:
    parameters: *id
    get: *read
    delete: *remove
  /winches/{id}/checks:
    parameters: *id
    post: *create
  /winches/{id}/checks/{check}:
    parameters: [{name: id, in: path, required: true, schema: {type: integer, minimum: 1}, example: 1}, {name: check, in: path, required: true, schema: {type: integer, minimum: 1}, example: 1}]
    patch: *replace
    delete: *remove
  /settings:
    patch: *replace
  /log:
    post: *create
`

// writing gives two functions that answer a request: with a value, and with a problem
// document that names fields.
func writing(w http.ResponseWriter) (say func(status int, v any), problem func(status int, pointers ...string)) {
	say = func(status int, v any) {
		if status != 204 {
			w.Header().Set("Content-Type", map[bool]string{true: "application/problem+json", false: "application/json"}[status >= 400])
		}
		w.WriteHeader(status)
		if status != 204 {
			_ = json.NewEncoder(w).Encode(v)
		}
	}
	return say, func(status int, pointers ...string) {
		doc := map[string]any{"type": fmt.Sprint("https://harbour.example/", status), "title": http.StatusText(status), "status": status}
		var list []any
		for _, p := range pointers {
			list = append(list, map[string]any{"pointer": p, "detail": "is not right"})
		}
		if list != nil {
			doc["errors"] = list
		}
		say(status, doc)
	}
}

func newYard() *yard {
	y := &yard{records: map[string]map[string]any{}, next: 3}
	for _, at := range []string{"/piers/1", "/piers/2", "/winches/1", "/winches/1/checks/1", "/settings"} {
		y.records[at] = map[string]any{"name": "old"}
		y.foreign = append(y.foreign, at)
	}
	return y
}

func (y *yard) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	y.mu.Lock()
	defer y.mu.Unlock()
	y.heard++
	if y.stop != nil {
		y.stop(y.heard, r)
	}
	if r.Method != "GET" && slices.Contains(y.foreign, r.URL.Path) {
		y.touched = append(y.touched, r.Method+" "+r.URL.Path)
	}
	if y.answer != nil && y.answer(w, r) {
		return
	}
	if r.Method != "GET" {
		w.Header().Set("Allow", "GET") // where it is of use
	}
	say, problem := writing(w)
	segments := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	one := y.records[r.URL.Path]
	collection := slices.Contains([]string{"piers", "winches", "checks", "log"}, segments[len(segments)-1])
	text, _ := io.ReadAll(r.Body)
	var body map[string]any
	write := r.Method == "POST" || r.Method == "PUT" || r.Method == "PATCH"
	switch {
	case collection && r.Method == "GET" && segments[0] == "piers":
		say(200, []any{})
	case collection && r.Method != "POST" || !collection && r.Method == "POST":
		problem(405)
	case !collection && one == nil, len(segments) == 3 && y.records["/winches/"+segments[1]] == nil:
		problem(404)
	case r.Method == "GET":
		say(200, one)
	case r.Method == "DELETE":
		delete(y.records, r.URL.Path)
		say(204, nil)
	case write && !strings.HasPrefix(r.Header.Get("Content-Type"), "application/json"):
		problem(415)
	case write && !json.Valid(text):
		problem(400)
	case write && json.Unmarshal(text, &body) != nil:
		problem(422, "#")
	case !write:
		problem(405)
	default:
		if name, is := body["name"].(string); !is || len([]rune(name)) < 2 || len([]rune(name)) > 20 {
			problem(422, "#/name")
			return
		}
		if pier, has := body["pier_id"]; segments[0] == "winches" && len(segments) == 1 && (!has || y.records[fmt.Sprint("/piers/", pier)] == nil) {
			problem(422, "#/pier_id")
			return
		}
		if !collection {
			y.records[r.URL.Path] = body
			say(200, body)
			return
		}
		y.next++
		at := fmt.Sprint(strings.TrimSuffix(r.URL.Path, "/"), "/", y.next)
		y.records[at] = body
		w.Header().Set("Location", at)
		shown := maps.Clone(body)
		shown["id"] = y.next
		say(201, shown)
	}
}

// left are the records that are there and were not before.
func (y *yard) left() []string {
	y.mu.Lock()
	defer y.mu.Unlock()
	var out []string
	for at := range y.records {
		if !slices.Contains(y.foreign, at) {
			out = append(out, at)
		}
	}
	slices.Sort(out)
	return out
}

// tried is a trial of a yard with a configuration.
func (y *yard) tried(t *testing.T, ctx context.Context, text string) (out *trial.Outcome, told []string, err error) {
	t.Helper()
	server := httptest.NewServer(y)
	defer server.Close()
	doc, err := oad.Read("openapi.yaml", []byte(yardDescription))
	if err != nil {
		t.Fatal(err)
	}
	conf, err := sources.Read("obiter.yaml", []byte(text), func(string) (string, bool) { return "", false })
	if err != nil {
		t.Fatal(err)
	}
	conf.Imply(doc)
	base, _ := url.Parse(server.URL)
	var file bytes.Buffer
	out, err = trial.Run(ctx, trial.Options{Config: conf, Document: doc, Plan: plan.Options{Base: server.URL, Depth: flaw.Quick}, Base: base, Send: send.Options{RunID: "test"}, Parallel: 4, Copy: &file},
		trial.Events{Remains: func(text string) { told = append(told, text) }, Warning: func(text string) { told = append(told, "warning "+text) }})
	return out, told, err
}

// addresses are those that are told to be left behind.
func addresses(told []string) []string {
	var out []string
	for _, line := range told {
		for _, m := range fullAddress.FindAllStringSubmatch(line, -1) {
			out = append(out, m[1])
		}
	}
	slices.Sort(out)
	return out
}

var fullAddress = regexp.MustCompile(`http://127\.0\.0\.1:\d+(/[^ ,]*[^ ,:])`)

// TestNothingForeignIsTouched tries the yard without a configuration: every operation
// on records is reached, those of others stay as they are, and what stays is listed.
func TestNothingForeignIsTouched(t *testing.T) {
	t.Parallel()
	y := newYard()
	for range 2 {
		out, told, err := y.tried(t, context.Background(), "{}")
		if err != nil {
			t.Fatal(err)
		}
		if missing := unreached(out); !slices.Equal(missing, []string{"PATCH /settings"}) || len(out.Report.Lines) != 14 {
			t.Errorf("not reached of %d: %q; %q", len(out.Report.Lines), missing, told)
		}
		if len(y.touched) > 0 {
			t.Errorf("foreign records are touched: %q", y.touched)
		}
		if left := y.left(); !slices.Equal(addresses(told), left) || slices.ContainsFunc(left, func(at string) bool { return !strings.HasPrefix(at, "/log/") && !strings.Contains(at, "/checks/") }) { // no GET shows a check
			t.Errorf("left are %q, and listed %q", left, told)
		}
		clear(y.records)
		for _, at := range y.foreign {
			y.records[at] = map[string]any{"name": "old"}
		}
	}
}

// TestAnInterruptAtAnyMoment: nothing foreign is touched, and what stays is listed.
func TestAnInterruptAtAnyMoment(t *testing.T) {
	t.Parallel()
	for range 10 {
		y := newYard()
		ctx, cancel := context.WithCancel(context.Background())
		at := 5 + rand.IntN(150)
		y.stop = func(heard int, _ *http.Request) {
			if heard == at {
				cancel()
			}
		}
		_, told, _ := y.tried(t, ctx, "{}")
		cancel()
		if len(y.touched) > 0 {
			t.Errorf("at %d: foreign records are touched: %q", at, y.touched)
		}
		have := addresses(told)
		perhaps := slices.ContainsFunc(told, func(line string) bool { return strings.HasPrefix(line, "perhaps created") })
		for _, left := range y.left() {
			if !slices.Contains(have, left) && !perhaps {
				t.Errorf("at %d: %s is left, and told was %q", at, left, told)
			}
		}
	}
}

// TestHostileServices: whatever the service answers, nothing foreign is touched and
// what stays is listed.
func TestHostileServices(t *testing.T) {
	t.Parallel()
	jsonAnswer := func(w http.ResponseWriter, status int, text string) bool {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_, _ = w.Write([]byte(text))
		return true
	}
	heard := 0
	for _, x := range []struct {
		name   string
		conf   string
		answer func(w http.ResponseWriter, r *http.Request) bool
		says   string
	}{
		{"kept values that point at foreign records", "fixtures: [{name: pier, send: GET /piers, keep: {id: $response.body#/0/id}}]", func(w http.ResponseWriter, r *http.Request) bool {
			return r.Method == "GET" && r.URL.Path == "/piers" && jsonAnswer(w, 200, `[{"id":1}]`)
		}, ""},
		{"a fixture of another resource that keeps the same name", "fixtures: [{name: pier, send: POST /piers, keep: {id: $response.body#/id}, undo: 'DELETE /piers/{id}'}]", nil, ""},
		{"an undo that fails", "{}", func(w http.ResponseWriter, r *http.Request) bool {
			return r.Method == "DELETE" && jsonAnswer(w, 500, `{}`)
		}, "answered 500"},
		{"403 to every DELETE", "{}", func(w http.ResponseWriter, r *http.Request) bool {
			return r.Method == "DELETE" && jsonAnswer(w, 403, `{}`)
		}, "answered 403"},
		{"a create that answers with another record's id", "{}", func(w http.ResponseWriter, r *http.Request) bool {
			if r.Method == "GET" && r.URL.Path == "/piers" {
				return jsonAnswer(w, 200, `{"items":[{"id":1},{"id":2}]}`)
			}
			return r.Method == "POST" && r.URL.Path == "/piers" && jsonAnswer(w, 201, `{"id":1}`)
		}, ""},
		{"a service that dies", "{}", func(w http.ResponseWriter, r *http.Request) bool {
			if heard++; heard > 120 {
				panic(http.ErrAbortHandler)
			}
			return false
		}, "got no answer"},
		{"answers without an id", "{}", func(w http.ResponseWriter, r *http.Request) bool {
			return r.Method == "POST" && r.URL.Path == "/piers" && jsonAnswer(w, 201, `{}`)
		}, "does not tell its address"},
	} {
		t.Run(x.name, func(t *testing.T) {
			y := newYard()
			y.answer = x.answer
			_, told, err := y.tried(t, context.Background(), x.conf)
			if err != nil && !strings.Contains(err.Error(), "does not work any more") {
				t.Log(err)
			}
			if len(y.touched) > 0 {
				t.Errorf("foreign records are touched: %q", y.touched)
			}
			if !strings.Contains(strings.Join(told, "\n"), x.says) {
				t.Errorf("told was %q, want %q in it", told, x.says)
			}
		})
	}
}
