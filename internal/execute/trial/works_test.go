package trial_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"obiter/internal/execute/run"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/target/send"
)

// works is the harbour's works office: docks, cranes on docks and lifts of cranes, all
// known by {id}, notices by their slug; a log-in, a season for all docks at once, an
// action that shuts the office, and a limit of requests a second. Some records were
// there before.
type works struct {
	mu      sync.Mutex
	records map[string]map[string]any // by path
	next    int
	before  map[string]string // the records that were there before, as JSON
	token   string
	shut    bool
	open    bool   // it asks nobody for a token
	reader  string // the token of somebody who may only read
	lax     bool   // DELETE is not looked at
	limit   int    // requests a second; 0: none
	spent   int
	since   time.Time
	heard   int
	waited  int // requests that were turned away for the limit

	stop func(heard int) // is told each request; may be nil
}

// fields are the fields of a collection: text of a length, slug, or a reference to
// another collection.
var fields = map[string]map[string]string{
	"docks": {"name": "text"}, "cranes": {"name": "text", "dock_id": "docks"}, "lifts": {"name": "text", "crane_id": "cranes"}, "notices": {"slug": "slug", "name": "text"},
}

const worksDescription = `
openapi: 3.1.0
info: {title: Works office, version: '1'}
security: [{session: []}]
components:
  securitySchemes: {session: {type: http, scheme: bearer}}
  parameters:
    id: {name: id, in: path, required: true, schema: {type: integer, minimum: 1}}
    slug: {name: slug, in: path, required: true, schema: {type: string, minLength: 1, maxLength: 40}}
  schemas:
    name: {type: string, minLength: 2, maxLength: 40, examples: [Borealis]}
    made: {type: object, properties: {id: {type: integer}}}
    dock: {type: object, additionalProperties: false, required: [name], properties: {name: {$ref: '#/components/schemas/name'}}}
    crane: {type: object, additionalProperties: false, required: [name, dock_id], properties: {name: {$ref: '#/components/schemas/name'}, dock_id: {type: integer, minimum: 1}}}
    lift: {type: object, additionalProperties: false, required: [name, crane_id], properties: {name: {$ref: '#/components/schemas/name'}, crane_id: {type: integer, minimum: 1}}}
    notice: {type: object, additionalProperties: false, required: [slug, name], properties: {slug: {type: string, minLength: 1, maxLength: 40, examples: [spring-tide]}, name: {$ref: '#/components/schemas/name'}}}
  responses:
    made: {description: made, content: {application/json: {schema: {$ref: '#/components/schemas/made'}}}}
paths:
  /sessions:
    post:
      security: []
      requestBody: {required: true, content: {application/json: {schema: {type: object, additionalProperties: false, required: [clerk, phrase], properties: {clerk: {type: string, maxLength: 40}, phrase: {type: string, maxLength: 40}}}}}}
      responses: {'201': {description: a token, content: {application/json: {schema: {type: object, properties: {token: {type: string}}}}}}, 4XX: {description: bad}}
  /docks:
    get: {responses: {'200': {description: all}, 4XX: {description: bad}}}
    post: {requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/dock'}}}}, responses: {'201': {$ref: '#/components/responses/made'}, 4XX: {description: bad}}}
    patch: {requestBody: {required: true, content: {application/json: {schema: {type: object, additionalProperties: false, required: [season], properties: {season: {type: string, enum: [summer, winter]}}}}}}, responses: {'200': {description: changed}, 4XX: {description: bad}}}
  /docks/{id}:
    parameters: [{$ref: '#/components/parameters/id'}]
    get: {responses: {'200': {description: one}, 4XX: {description: bad}}}
    put: {requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/dock'}}}}, responses: {'200': {description: changed}, 4XX: {description: bad}}}
    delete: {responses: {'204': {description: gone}, 4XX: {description: bad}}}
  /cranes:
    get: {responses: {'200': {description: all}, 4XX: {description: bad}}}
    post: {requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/crane'}}}}, responses: {'201': {$ref: '#/components/responses/made'}, 4XX: {description: bad}}}
  /cranes/{id}:
    parameters: [{$ref: '#/components/parameters/id'}]
    get: {responses: {'200': {description: one}, 4XX: {description: bad}}}
    put: {requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/crane'}}}}, responses: {'200': {description: changed}, 4XX: {description: bad}}}
    delete: {responses: {'204': {description: gone}, 4XX: {description: bad}}}
  /lifts:
    post: {requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/lift'}}}}, responses: {'201': {$ref: '#/components/responses/made'}, 4XX: {description: bad}}}
  /lifts/{id}:
    parameters: [{$ref: '#/components/parameters/id'}]
    get: {responses: {'200': {description: one}, 4XX: {description: bad}}}
    delete: {responses: {'204': {description: gone}, 4XX: {description: bad}}}
`

const worksRest = `  /notices:
    post: {requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/notice'}}}}, responses: {'201': {description: made}, 4XX: {description: bad}}}
  /notices/{slug}:
    parameters: [{$ref: '#/components/parameters/slug'}]
    get: {responses: {'200': {description: one}, 4XX: {description: bad}}}
    put: {requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/notice'}}}}, responses: {'200': {description: changed}, 4XX: {description: bad}}}
    delete: {responses: {'204': {description: gone}, 4XX: {description: bad}}}
  /closure:
    post: {responses: {'204': {description: shut}, 4XX: {description: bad}}}
    delete: {responses: {'204': {description: open again}, 4XX: {description: bad}}}
`

// worksConfig reaches all of it, in fewer than 40 lines.
const worksConfig = `
credentials: { session: "${token}" }
fixtures:
  - { name: session, send: POST /sessions, body: { clerk: mate, phrase: "${PHRASE}" }, keep: { token: $response.body#/token }, undo: none }
  - { name: dock, send: POST /docks, keep: { dock: $response.body#/id }, undo: { send: 'DELETE /docks/{id}', path: { id: "${dock}" } } }
  - { name: crane, send: POST /cranes, body: { dock_id: "${dock}" }, keep: { crane: $response.body#/id }, undo: 'DELETE /cranes/{id}' }
  - { name: lift, send: POST /lifts, body: { crane_id: "${crane}" }, keep: { lift: $response.body#/id }, undo: 'DELETE /lifts/{id}' }
  - { name: notice, send: POST /notices, body: { slug: "notice-${fresh}" }, keep: { slug: $request.body#/slug }, undo: 'DELETE /notices/{slug}' }
  - { name: closure, send: POST /closure, undo: DELETE /closure }
operations:
  POST /sessions: { body: { clerk: mate }, rules: [{ is: "${PHRASE}", blames: /phrase }] }
  PATCH /docks: { allow: true }
  POST /cranes: { body: { dock_id: "${dock}" }, rules: [{ exists: /dock_id }] }
  PUT /cranes/{id}: { body: { dock_id: "${dock}" } }
  POST /lifts: { body: { crane_id: "${crane}" } }
  POST /notices: { body: { slug: "${fresh}" } }
  PUT /notices/{slug}: { body: { slug: "${slug}" } }
  DELETE /closure: { allow: true }
`

func newWorks() *works {
	w := &works{token: fmt.Sprintf("t%016x", rand.Uint64()), next: 3, before: map[string]string{}}
	w.records = map[string]map[string]any{
		"/docks/1": {"id": 1, "name": "Old dock"}, "/docks/2": {"id": 2, "name": "Dry dock"}, "/cranes/1": {"id": 1, "name": "Tall crane", "dock_id": 1},
		"/lifts/1": {"id": 1, "name": "First lift", "crane_id": 1}, "/notices/spring-tide": {"slug": "spring-tide", "name": "Spring tide"},
	}
	for at := range w.records {
		w.before[at] = w.text(at)
	}
	return w
}

func (w *works) text(at string) string {
	text, _ := json.Marshal(w.records[at])
	return string(text)
}

// state tells what became of the records that were there before, and what else is.
func (w *works) state() (changed, left []string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for at, was := range w.before {
		if w.text(at) != was {
			changed = append(changed, at+" "+w.text(at))
		}
	}
	for at := range w.records {
		if w.before[at] == "" {
			left = append(left, at)
		}
	}
	slices.Sort(left)
	return changed, left
}

var slugs = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

func (w *works) ServeHTTP(rw http.ResponseWriter, r *http.Request) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.heard++; w.stop != nil {
		w.stop(w.heard)
	}
	say, problem := writing(rw)
	if now := time.Now(); w.limit > 0 {
		if now.Sub(w.since) > time.Second {
			w.since, w.spent = now, 0
		}
		if w.spent++; w.spent > w.limit {
			w.waited++
			rw.Header().Set("Retry-After", "1")
			problem(429)
			return
		}
	}
	if r.Header.Get("Authorization") == "Bearer "+w.reader && w.reader != "" {
		if r.Method != "GET" && !(w.lax && r.Method == "DELETE") {
			problem(403)
			return
		}
		r.Header.Set("Authorization", "Bearer "+w.token)
	}
	collection, key, single := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	allowed := map[string]string{"sessions": "POST", "docks": "GET POST PATCH", "cranes": "GET POST", "lifts": "POST", "notices": "POST", "closure": "POST DELETE"}[collection]
	if single && allowed != "" {
		allowed = map[string]string{"docks": "GET PUT DELETE", "cranes": "GET PUT DELETE", "lifts": "GET DELETE", "notices": "GET PUT DELETE"}[collection]
	}
	one := w.records[r.URL.Path]
	switch {
	case w.shut && collection != "closure":
		problem(503)
	case allowed == "":
		problem(404)
	case collection != "sessions" && !w.open && r.Header.Get("Authorization") != "Bearer "+w.token:
		rw.Header().Set("WWW-Authenticate", "Bearer")
		problem(401)
	case !slices.Contains(strings.Fields(allowed), r.Method):
		rw.Header().Set("Allow", allowed)
		problem(405)
	case collection == "closure":
		w.shut = r.Method == "POST"
		say(204, nil)
	case single && one == nil:
		problem(404)
	case r.Method == "GET" && single:
		say(200, one)
	case r.Method == "GET":
		var list []any
		for at, record := range w.records {
			if strings.HasPrefix(at, "/"+collection+"/") {
				list = append(list, record)
			}
		}
		say(200, list)
	case r.Method == "DELETE":
		delete(w.records, r.URL.Path)
		say(204, nil)
	default:
		w.write(r, collection, key, say, problem)
	}
}

// write takes a body.
func (w *works) write(r *http.Request, collection, key string, say func(int, any), problem func(int, ...string)) {
	text, _ := io.ReadAll(r.Body)
	var v any
	switch {
	case r.Header.Get("Content-Type") != "application/json" || r.Header.Get("Content-Encoding") != "":
		problem(415)
		return
	case json.Unmarshal(text, &v) != nil:
		problem(400)
		return
	}
	body, is := v.(map[string]any)
	if !is {
		problem(422, "#")
		return
	}
	wanted := fields[collection]
	switch {
	case collection == "sessions":
		wanted = map[string]string{"clerk": "any", "phrase": "phrase"}
	case r.Method == "PATCH":
		wanted = map[string]string{"season": "season"}
	}
	var wrong []string
	for name, kind := range wanted {
		s, isText := body[name].(string)
		n, isNumber := body[name].(float64)
		good := map[string]bool{
			"text": isText && len([]rune(s)) >= 2 && len([]rune(s)) <= 40, "slug": isText && slugs.MatchString(s) && len(s) <= 40, "any": isText && len([]rune(s)) <= 40,
			"phrase": s == "Spring tide of 1912", "season": s == "summer" || s == "winter", "docks": isNumber && w.records[fmt.Sprint("/docks/", n)] != nil, "cranes": isNumber && w.records[fmt.Sprint("/cranes/", n)] != nil,
		}[kind]
		if !good {
			wrong = append(wrong, "#/"+name)
		}
	}
	for name := range body {
		if wanted[name] == "" {
			wrong = append(wrong, "#/"+name)
		}
	}
	slices.Sort(wrong)
	switch {
	case wrong != nil:
		problem(422, wrong...)
	case collection == "sessions":
		say(201, map[string]any{"token": w.token})
	case r.Method == "PATCH":
		say(200, map[string]any{})
	case r.Method == "PUT":
		body["id"] = w.records[r.URL.Path]["id"]
		w.records[r.URL.Path] = body
		say(200, body)
	case collection == "notices":
		at := "/notices/" + body["slug"].(string)
		if w.records[at] != nil {
			problem(409, "#/slug")
			return
		}
		w.records[at] = body
		say(201, map[string]any{})
	default:
		w.next++
		body["id"] = w.next
		w.records[fmt.Sprint("/", collection, "/", w.next)] = body
		say(201, map[string]any{"id": w.next})
	}
}

// tried is a trial of the works with a configuration; "" is the draft of one.
func (w *works) tried(t *testing.T, ctx context.Context, description, text string, depth flaw.Depth) (out *trial.Outcome, told []string, file string, err error) {
	t.Helper()
	server := httptest.NewServer(w)
	defer server.Close()
	doc, err := oad.Read("openapi.yaml", []byte(description))
	if err != nil {
		t.Fatal(err)
	}
	if text == "" {
		text = sources.Draft(doc, "openapi.yaml")
	}
	conf, err := sources.Read("obiter.yaml", []byte(text), func(name string) (string, bool) {
		return map[string]string{"PHRASE": "Spring tide of 1912", "READER": w.reader}[name], name == "PHRASE" || name == "READER"
	})
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	conf.Imply(doc)
	base, _ := url.Parse(server.URL)
	var kept bytes.Buffer
	out, err = trial.Run(ctx, trial.Options{Config: conf, Document: doc, Plan: plan.Options{Base: server.URL, Depth: depth}, Base: base, Send: send.Options{RunID: "test"}, Parallel: 4, Copy: &kept},
		trial.Events{Remains: func(text string) { told = append(told, text) }, Warning: func(text string) { told = append(told, "warning "+text) }})
	w.mu.Lock()
	w.shut = false
	w.mu.Unlock()
	return out, told, kept.String(), err
}

// unreached are the operations of which nothing was proved.
func unreached(out *trial.Outcome) (names []string) {
	refused := map[string]bool{}
	for _, e := range out.Report.Entries() {
		if e.Code == "not-reached" || e.Code == "control-rejected" {
			for _, operation := range e.Operations {
				refused[operation] = true
			}
		}
	}
	for _, l := range out.Report.Lines {
		if l.Passed == 0 || refused[l.Operation] {
			names = append(names, l.Operation)
		}
	}
	return names
}

// found is what a trial accuses the service of.
func found(out *trial.Outcome) string {
	var b strings.Builder
	for _, e := range out.Report.Entries() {
		fmt.Fprintf(&b, "%s %s %v %s\n", e.Severity, e.Code, e.Operations, e.Examples[0].Message)
	}
	return b.String()
}

// TestTheWorksAreReachedWhole with a short configuration: twice in a row, under a limit
// of requests, and nothing that was there before is another.
func TestTheWorksAreReachedWhole(t *testing.T) {
	t.Parallel()
	if n := strings.Count(worksConfig, "\n"); n >= 40 {
		t.Errorf("the configuration has %d lines", n)
	}
	w := newWorks()
	for _, limit := range []int{0, 120} {
		w.limit = limit
		out, told, file, err := w.tried(t, context.Background(), worksDescription+worksRest, worksConfig, flaw.Quick)
		slower := limit > 0 && len(told) == 1 && strings.Contains(told[0], "slows down")
		if err != nil || out.Report.Errors() > 0 || len(told) > 0 && !slower {
			t.Errorf("%v, %s, told %q", err, found(out), told)
		}
		if missing := unreached(out); len(missing) > 0 || len(out.Report.Lines) != 22 {
			t.Errorf("not reached of %d: %q", len(out.Report.Lines), missing)
		}
		changed, left := w.state()
		if len(changed)+len(left) > 0 {
			t.Errorf("changed are %q, left %q", changed, left)
		}
		if strings.Contains(file, "Spring tide of 1912") || strings.Contains(file, w.token) {
			t.Error("a secret is in the run file")
		}
		if limit > 0 && w.waited == 0 {
			t.Error("the limit was not met")
		}
	}
}

// TestLesserCredentials: each operation is tried once with credentials that lack the
// right, a DELETE on a record of its own, and a service that does not look is found.
func TestLesserCredentials(t *testing.T) {
	t.Parallel()
	text := worksConfig + "lesser: { session: \"${READER}\" }\n"
	for _, name := range []string{"GET /docks", "GET /docks/{id}", "GET /cranes", "GET /cranes/{id}", "GET /lifts/{id}", "GET /notices/{slug}"} {
		text = strings.Replace(text, "operations:\n", "operations:\n  '"+name+"': { lesser: allowed }\n", 1)
	}
	for _, lax := range []bool{false, true} {
		w := newWorks()
		w.reader, w.lax = fmt.Sprintf("r%016x", rand.Uint64()), lax
		out, told, file, err := w.tried(t, context.Background(), worksDescription+worksRest, text, flaw.Quick)
		if err != nil || len(told) > 0 {
			t.Errorf("lax %v: %v, told %q", lax, err, told)
		}
		if n := strings.Count(file, `"variant":"lesser"`); n < 14 {
			t.Errorf("lax %v: only %d operations were tried with them", lax, n)
		}
		if strings.Contains(file, w.reader) {
			t.Errorf("lax %v: their token is in the run file", lax)
		}
		var accused []string
		for _, e := range out.Report.Entries() {
			accused = append(accused, e.Code+" "+strings.Join(e.Operations, ", "))
		}
		want := "[]"
		if lax {
			want = "[accepted DELETE /docks/{id}, DELETE /cranes/{id}, DELETE /lifts/{id}, DELETE /notices/{slug}]"
		}
		if fmt.Sprint(accused) != want {
			t.Errorf("lax %v: accused is %q, want %s\n%s", lax, accused, want, found(out))
		}
		if changed, left := w.state(); len(changed)+len(left) > 0 {
			t.Errorf("lax %v: changed are %q, left %q", lax, changed, left)
		}
	}
}

// TestARefusedLogInCostsThoseThatNeedIt, and no other.
func TestARefusedLogInCostsThoseThatNeedIt(t *testing.T) {
	t.Parallel()
	w := newWorks()
	text := strings.Replace(worksConfig, `phrase: "${PHRASE}" }, keep`, "phrase: wrong }, keep", 1)
	text = strings.Replace(text, `{ clerk: mate }, rules: [{ is: "${PHRASE}", blames: /phrase }] }`, `{ clerk: mate, phrase: "${PHRASE}" } }`, 1)
	out, told, _, err := w.tried(t, context.Background(), worksDescription+worksRest, text, flaw.Quick)
	if err != nil || len(out.Failed) == 0 || !strings.Contains(strings.Join(told, " "), `the fixture "session" was refused`) {
		t.Errorf("%v, failed are %q, told %q", err, out.Failed, told)
	}
	if l := out.Report.Line("POST /sessions"); l.Passed == 0 || l.Unproven > 0 {
		t.Errorf("the log-in itself is not tried: %+v", l)
	}
	if missing := unreached(out); len(missing) < 19 {
		t.Errorf("not reached are %q", missing)
	}
}

// TestTheWorksAreInterrupted at any moment: what was there before is the same, and what
// stays is listed.
func TestTheWorksAreInterrupted(t *testing.T) {
	t.Parallel()
	times := 4
	if testing.Short() {
		times = 1
	}
	for range times {
		w := newWorks()
		ctx, cancel := context.WithCancel(context.Background())
		at := 5 + rand.IntN(400)
		w.stop = func(heard int) {
			if heard == at {
				cancel()
			}
		}
		_, told, _, _ := w.tried(t, ctx, worksDescription+worksRest, worksConfig, flaw.Quick)
		cancel()
		changed, left := w.state()
		if len(changed) > 0 {
			t.Errorf("at %d: changed are %q", at, changed)
		}
		if len(left) > 0 && len(told) == 0 {
			t.Errorf("at %d: %q is left, and nothing told", at, left)
		}
		for _, record := range left {
			if !strings.Contains(strings.Join(told, "\n"), record) && !strings.Contains(strings.Join(told, "\n"), "made by POST") && !strings.Contains(strings.Join(told, "\n"), "perhaps") {
				t.Errorf("at %d: %s is left, and told was %q", at, record, told)
			}
		}
	}
}

// TestTheWorksWithoutAConfiguration, and with one that was drafted: the log-in and the
// records are made where the description shows how, and the action that shuts the office is
// not sent; where it is allowed, it is named.
func TestTheWorksWithoutAConfiguration(t *testing.T) {
	t.Parallel()
	shown := strings.Replace(worksDescription, "phrase: {type: string, maxLength: 40}", "phrase: {type: string, maxLength: 40, examples: [Spring tide of 1912]}", 1)
	for name, text := range map[string]string{"none": "{}", "drafted": "", "allowed": "operations: { POST /closure: { allow: true } }"} {
		w := newWorks()
		out, told, file, err := w.tried(t, context.Background(), shown+worksRest, text, flaw.Quick)
		var broken *run.BrokenError
		if name != "allowed" && err != nil || name == "allowed" && (!errors.As(err, &broken) || broken.Operation != "POST /closure" || len(broken.Suspects) != 1) {
			t.Errorf("%s: %v", name, err)
		}
		if broken != nil && !strings.Contains(file, `"case":"`+broken.Suspects[0]) {
			t.Errorf("%s: the case %s is not kept", name, broken.Suspects[0])
		}
		// Of what went side by side with it, nothing is known, and nobody is accused.
		if missing := unreached(out); len(missing) > 4 {
			t.Errorf("%s: not reached are %q; told was %q", name, missing, told)
		}
		if strings.Contains(found(out), "503") {
			t.Errorf("%s: found is %s", name, found(out))
		}
		if changed, _ := w.state(); len(changed) > 0 {
			t.Errorf("%s: changed are %q", name, changed)
		}
	}
}

// TestAPlainServiceIsReachedWhole without any configuration: three resources with
// references, nothing foreign touched and nothing left.
func TestAPlainServiceIsReachedWhole(t *testing.T) {
	t.Parallel()
	plain := strings.Replace(worksDescription, "security: [{session: []}]\n", "", 1)
	plain, rest, _ := strings.Cut(plain, "  /sessions:\n")
	_, rest, _ = strings.Cut(rest, "  /docks:\n")
	plain += "  /docks:\n" + rest
	var lines []string
	for line := range strings.Lines(plain) {
		if !strings.HasPrefix(line, "    patch:") {
			lines = append(lines, line)
		}
	}
	w := newWorks()
	w.open = true
	out, told, _, err := w.tried(t, context.Background(), strings.Join(lines, ""), "{}", flaw.Quick)
	if err != nil || out.Report.Errors() > 0 || len(told) > 0 {
		t.Errorf("%v, %s, told %q", err, found(out), told)
	}
	if missing := unreached(out); len(missing) > 0 || len(out.Report.Lines) != 14 {
		t.Errorf("not reached of %d: %q", len(out.Report.Lines), missing)
	}
	if changed, left := w.state(); len(changed)+len(left) > 0 {
		t.Errorf("changed are %q, left %q", changed, left)
	}
}
