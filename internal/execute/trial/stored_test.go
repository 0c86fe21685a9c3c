package trial_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
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

const pierDescription = `
openapi: 3.1.0
info: {title: Piers, version: '1'}
paths:
  /piers:
    LIST
    post: {requestBody: {required: true, content: {application/json: {schema: {type: object, additionalProperties: false, required: [name, metres], properties: {name: {type: string, minLength: 2, maxLength: 60, examples: [Long pier]}, metres: {type: integer, minimum: 1, maximum: 900}}}}}}, responses: {'201': {description: created}, 4XX: {description: bad}}}
  /piers/{name}:
    parameters: [{name: name, in: path, required: true, schema: {type: string}}]
    get: {responses: {'200': {description: one}, 4XX: {description: bad}}}
    delete: {responses: {'204': {description: gone}, 4XX: {description: bad}}}
`

// piers is a service that stores records before it checks them, as far as stores says; extra is
// stored with those that it refuses.
type piers struct {
	mu      sync.Mutex
	records map[string]map[string]any
	stores  bool
	status  int
	extra   map[string]any
}

func (p *piers) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	sent, _ := io.ReadAll(r.Body)
	p.mu.Lock()
	defer p.mu.Unlock()
	say := func(status int, v any) {
		w.Header().Set("Content-Type", map[bool]string{true: "application/problem+json", false: "application/json"}[status >= 400])
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(v)
	}
	problem := func(status int, at string) {
		v := map[string]any{"type": "about:blank", "title": http.StatusText(status), "status": status}
		if at != "" {
			v["errors"] = []any{map[string]any{"pointer": at, "detail": "is not right"}}
		}
		say(status, v)
	}
	name, one := strings.CutPrefix(r.URL.Path, "/piers/")
	var body map[string]any
	err := json.Unmarshal(sent, &body)
	named, isText := body["name"].(string)
	metres, isNumber := body["metres"].(float64)
	switch {
	case r.URL.Path == "/piers" && r.Method == "GET":
		list := []any{}
		for _, record := range p.records {
			list = append(list, record)
		}
		say(200, list)
	case one && p.records[name] == nil, !one && r.URL.Path != "/piers":
		problem(404, "")
	case one && r.Method == "GET":
		say(200, p.records[name])
	case one && r.Method == "DELETE":
		delete(p.records, name)
		w.WriteHeader(204)
	case r.Method != "POST" || one:
		w.Header().Set("Allow", "GET, POST, DELETE")
		problem(405, "")
	case r.Header.Get("Content-Type") != "application/json":
		problem(415, "")
	case err != nil && !json.Valid(sent):
		problem(400, "")
	case err != nil:
		problem(422, "#")
	case !isText || len([]rune(named)) < 2 || len([]rune(named)) > 60:
		problem(422, "#/name")
	case p.records[named] != nil:
		problem(409, "#/name")
	case !isNumber || metres < 1 || metres > 900 || metres != float64(int(metres)):
		if p.stores {
			p.records[named] = map[string]any{"name": named, "metres": body["metres"]}
			for at, v := range p.extra {
				p.records[named][at] = v
			}
		}
		problem(p.status, "#/metres")
	case len(body) > 2:
		problem(422, "#")
	default:
		p.records[named] = body
		say(201, body)
	}
}

// TestRefusedAndStored: a creation that is refused although its record is there is told, whether a
// list shows it or GET alone; one that is kept as refused is not, nor one that was refused as a
// duplicate. Nothing is left.
func TestRefusedAndStored(t *testing.T) {
	t.Parallel()
	list := "get: {responses: {'200': {description: all}}}"
	for name, c := range map[string]struct {
		list  string
		piers *piers
		want  bool
	}{
		"sound":                     {list, &piers{}, false},
		"a list shows it":           {list, &piers{stores: true}, true},
		"GET shows it":              {"", &piers{stores: true}, true},
		"it is kept as refused":     {list, &piers{stores: true, extra: map[string]any{"status": "REJECTED"}}, false},
		"its answer is a duplicate": {list, &piers{stores: true, status: 409}, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := c.piers
			p.records = map[string]map[string]any{"Old pier": {"name": "Old pier", "metres": 80}}
			if p.status == 0 {
				p.status = 422
			}
			server := httptest.NewServer(p)
			defer server.Close()
			doc, err := oad.Read("openapi.yaml", []byte(strings.Replace(pierDescription, "LIST", c.list, 1)))
			if err != nil {
				t.Fatal(err)
			}
			conf, _ := sources.Read("obiter.yaml", []byte("{}"), func(string) (string, bool) { return "", false })
			conf.Imply(doc)
			base, _ := url.Parse(server.URL)
			var told []string
			out, err := trial.Run(context.Background(), trial.Options{Config: conf, Document: doc, Plan: plan.Options{Base: server.URL, Depth: flaw.Usual}, Base: base, Send: send.Options{RunID: "test"}, Parallel: 4},
				trial.Events{Remains: func(text string) { told = append(told, text) }})
			if err != nil {
				t.Fatal(err)
			}
			is := strings.Contains(fmt.Sprint(found(out)), "rejected-but-stored")
			if is != c.want {
				t.Errorf("told: %v\n%s", is, found(out))
			}
			if len(p.records) != 1 {
				t.Errorf("left are %v; told is %q", p.records, told)
			}
		})
	}
}
