package trial_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"obiter/internal/execute/trial"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/target/send"
)

const ferryDescription = `
openapi: 3.1.0
info: {title: Ferries, version: '1'}
paths:
  /ferries:
    get: {responses: {'200': {description: all}}}
    post: {requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/Ferry'}}}}, responses: {'201': {description: created}, default: {description: bad}}}
  /ferries/{id}:
    parameters: [{name: id, in: path, required: true, schema: {type: integer, minimum: 1}}]
    get: {responses: {'200': {description: one}, default: {description: bad}}}
    put: {requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/Ferry'}}}}, responses: {'200': {description: changed}, default: {description: bad}}}
    delete: {responses: {'204': {description: gone}, default: {description: bad}}}
components:
  schemas:
    Ferry: {type: object, additionalProperties: false, required: [name, cars], properties: {name: {type: string, minLength: 2, maxLength: 40}, cars: {type: integer, minimum: 1, maximum: 400}, deck: {enum: [open, closed]}, line: {type: string, pattern: '^[A-Z]{3}$'}}}
`

// ferries is a sound service, but for what fails makes of a request.
type ferries struct {
	// fails is asked before anything else, with how many requests are dealt with and how many have
	// come so far; a status other than 0 is the answer.
	fails func(f *ferries, r *http.Request, body map[string]any) (status int, text string)

	mu       sync.Mutex
	records  map[int]map[string]any
	last     int
	inFlight int
	heard    int
	writing  map[string]int // writers by path
	overlaps int            // how often two wrote to one record
	failures int
}

func (f *ferries) begin(r *http.Request) (end func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.inFlight++
	f.heard++
	writes := strings.HasPrefix(r.URL.Path, "/ferries/") && r.Method != "GET"
	if writes {
		if f.writing[r.URL.Path]++; f.writing[r.URL.Path] > 1 {
			f.overlaps++
		}
	}
	return func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.inFlight--
		if writes {
			f.writing[r.URL.Path]--
		}
	}
}

func (f *ferries) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	sent, _ := io.ReadAll(r.Body)
	defer f.begin(r)()
	time.Sleep(time.Millisecond)
	var body map[string]any
	err := json.Unmarshal(sent, &body)
	f.mu.Lock()
	defer f.mu.Unlock()
	if status, text := f.fails(f, r, body); status != 0 {
		f.failures++
		http.Error(w, text, status)
		return
	}
	say := func(status int, v any) {
		w.Header().Set("Content-Type", map[bool]string{true: "application/problem+json", false: "application/json"}[status >= 400])
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(v)
	}
	problem := func(status int, at ...string) {
		v := map[string]any{"type": "about:blank", "title": http.StatusText(status), "status": status}
		var list []any
		for _, at := range at {
			list = append(list, map[string]any{"pointer": at, "detail": "is not right"})
		}
		if list != nil {
			v["errors"] = list
		}
		say(status, v)
	}
	id := 0
	tail, one := strings.CutPrefix(r.URL.Path, "/ferries/")
	if one {
		if _, err := fmt.Sscanf(tail+" ", "%d ", &id); err != nil || fmt.Sprint(id) != tail {
			problem(404)
			return
		}
	}
	switch {
	case !one && r.URL.Path != "/ferries":
		problem(404)
	case !one && r.Method != "GET" && r.Method != "POST":
		w.Header().Set("Allow", "GET, POST")
		problem(405)
	case one && r.Method != "GET" && r.Method != "PUT" && r.Method != "DELETE":
		w.Header().Set("Allow", "GET, PUT, DELETE")
		problem(405)
	case one && f.records[id] == nil:
		problem(404)
	case !one && r.Method == "GET":
		list := []any{}
		for _, record := range f.records {
			list = append(list, record)
		}
		say(200, list)
	case r.Method == "GET":
		say(200, f.records[id])
	case r.Method == "DELETE":
		delete(f.records, id)
		w.WriteHeader(204)
	case r.Header.Get("Content-Type") != "application/json":
		problem(415)
	case err != nil && !json.Valid(sent):
		problem(400)
	case err != nil:
		problem(422, "#")
	default:
		if wrong := ferryErrors(body); len(wrong) > 0 {
			problem(422, wrong...)
			return
		}
		status := 200
		if !one {
			f.last++
			id, status = f.last, 201
		}
		body["id"] = id
		f.records[id] = body
		say(status, body)
	}
}

func ferryErrors(body map[string]any) (wrong []string) {
	name, isText := body["name"].(string)
	cars, isNumber := body["cars"].(float64)
	if n := len([]rune(name)); !isText || n < 2 || n > 40 {
		wrong = append(wrong, "#/name")
	}
	if !isNumber || cars < 1 || cars > 400 || cars != float64(int(cars)) {
		wrong = append(wrong, "#/cars")
	}
	if deck, has := body["deck"]; has && deck != "open" && deck != "closed" {
		wrong = append(wrong, "#/deck")
	}
	if line, has := body["line"]; has {
		text, _ := line.(string)
		if !regexp.MustCompile("^[A-Z]{3}$").MatchString(text) {
			wrong = append(wrong, "#/line")
		}
	}
	for name := range body {
		if name != "name" && name != "cars" && name != "deck" && name != "line" {
			wrong = append(wrong, "#/"+name)
		}
	}
	return wrong
}

// TestOurLoadIsNoFault: what a service answers because of what else is in flight is no crash, and
// what it answers to one request each time is.
func TestOurLoadIsNoFault(t *testing.T) {
	t.Parallel()
	noCars := func(body map[string]any) bool { n, is := body["cars"].(float64); return is && n < 1 }
	for name, c := range map[string]struct {
		fails func(f *ferries, r *http.Request, body map[string]any) (int, string)
		want  string // codes but of form, with operations
		told  string
	}{
		"sound": {func(*ferries, *http.Request, map[string]any) (int, string) { return 0, "" }, "", ""},
		"two writers": {func(f *ferries, r *http.Request, _ map[string]any) (int, string) {
			if f.writing[r.URL.Path] > 1 {
				return 500, "two write to one record"
			}
			return 0, ""
		}, "", ""},
		"a locked database": {func(f *ferries, r *http.Request, body map[string]any) (int, string) {
			switch {
			case noCars(body):
				return 500, "nil pointer"
			case r.Method != "GET" && f.inFlight > 1:
				return 500, "database is locked"
			}
			return 0, ""
		}, "error crashed [POST /ferries PUT /ferries/{id}] warning unstable [POST /ferries", ""},
		"503 for one case": {func(f *ferries, r *http.Request, body map[string]any) (int, string) {
			if noCars(body) {
				return 503, "try later"
			}
			return 0, ""
		}, "error crashed [POST /ferries PUT /ferries/{id}]", ""},
		"503 under load": {func(f *ferries, r *http.Request, _ map[string]any) (int, string) {
			if f.inFlight > 1 {
				return 503, "try later"
			}
			return 0, ""
		}, "warning unstable [", "slows down"},
		"429 under load": {func(f *ferries, r *http.Request, _ map[string]any) (int, string) {
			if f.inFlight > 1 {
				return 429, "try later"
			}
			return 0, ""
		}, "", "slows down"},
		"503 from some time on": {func(f *ferries, r *http.Request, body map[string]any) (int, string) {
			if f.heard > 60 && body != nil && len(ferryErrors(body)) == 0 {
				return 503, "try later"
			}
			return 0, ""
		}, "warning no-answer [", ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			f := &ferries{fails: c.fails, records: map[int]map[string]any{7: {"id": 7, "name": "Old ferry", "cars": 12}}, last: 7, writing: map[string]int{}}
			server := httptest.NewServer(f)
			defer server.Close()
			doc, err := oad.Read("openapi.yaml", []byte(ferryDescription))
			if err != nil {
				t.Fatal(err)
			}
			conf, _ := sources.Read("obiter.yaml", []byte("{}"), func(string) (string, bool) { return "", false })
			conf.Imply(doc)
			base, _ := url.Parse(server.URL)
			var told []string
			out, err := trial.Run(context.Background(), trial.Options{Config: conf, Document: doc, Plan: plan.Options{Base: server.URL, Depth: flaw.Quick}, Base: base, Send: send.Options{RunID: "test"}, Parallel: 8},
				trial.Events{Warning: func(text string) { told = append(told, text) }})
			if err != nil {
				t.Fatal(err)
			}
			var is []string
			for _, e := range out.Report.Entries() {
				switch e.Code {
				case "no-field-errors", "undocumented", "plain-error", "not-problem-json":
				default:
					if !strings.Contains(strings.Join(is, " "), string(e.Severity)+" "+e.Code+" ") {
						is = append(is, fmt.Sprintf("%s %s %v", e.Severity, e.Code, e.Operations))
					}
				}
			}
			if !strings.HasPrefix(strings.Join(is, " "), c.want) || c.want == "" && len(is) > 0 {
				t.Errorf("found is %q, want %q\n%s", is, c.want, found(out))
			}
			if c.told != "" && !strings.Contains(strings.Join(told, " "), c.told) {
				t.Errorf("told is %q, want %q", told, c.told)
			}
			if f.overlaps > 0 {
				t.Errorf("%d times two wrote to one record", f.overlaps)
			}
		})
	}
}
