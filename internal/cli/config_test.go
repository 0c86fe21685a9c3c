package cli_test

import (
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"obiter/internal/harbour"
)

const marks = `
openapi: 3.1.0
info: {title: Sea marks, version: '1'}
paths:
  /watches:
    post:
      requestBody: {required: true, content: {application/json: {schema: {type: object, required: [station], properties: {station: {type: string, minLength: 2, examples: [north mole]}}}}}}
      responses: {'201': {description: A token.}, 4XX: {description: Not.}}
  /marks:
    post:
      requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/Mark'}}}}
      responses: {'201': {description: The mark.}, 4XX: {description: Not.}}
  /marks/{mark_id}:
    parameters: [{name: mark_id, in: path, required: true, schema: {type: string, pattern: '^m-[0-9a-z]+$'}}]
    put:
      requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/Mark'}}}}
      responses: {'200': {description: The mark.}, 4XX: {description: Not.}}
    delete: {responses: {'204': {description: Gone.}}}
  /lights:
    post:
      requestBody: {required: true, content: {application/json: {schema: {type: object, additionalProperties: false, required: [mark_id], properties: {mark_id: {type: string, maxLength: 20}}}}}}
      responses: {'201': {description: The light.}, 4XX: {description: Not.}}
components:
  schemas:
    Mark: {type: object, additionalProperties: false, required: [colour], properties: {colour: {type: string, enum: [red, green]}, name: {type: string, maxLength: 60, examples: [Old North Buoy]}}}
`

const marksConfig = `
description: marks.yaml
at: ${MARKS_AT}
headers:
  Authorization: Bearer ${token}
  X-Station: ${STATION}
statuses: { constraint: 422, type: [422] }
fixtures:
  - name: mark
    send: POST /marks
    body: { colour: green }
    keep: { mark_id: $response.header.Location }
    undo: DELETE /marks/{mark_id}
  - name: watch
    send: POST /watches
    keep: { token: $response.body#/token }
operations:
  POST /lights:
    body: { mark_id: "${mark_id}" }
`

// seaMarks is a service whose records have ids that nobody can guess, behind a login.
type seaMarks struct {
	mu    sync.Mutex
	next  int
	marks map[string]any
	token string
	calls []string
}

func (s *seaMarks) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	answer := func(status int, v any) {
		w.Header().Set("Content-Type", map[bool]string{true: "application/problem+json", false: "application/json"}[status >= 400])
		w.WriteHeader(status)
		if v != nil {
			_ = json.NewEncoder(w).Encode(v)
		}
	}
	problem := func(status int, kind string, pointers ...string) {
		var list []any
		for _, p := range pointers {
			list = append(list, map[string]any{"pointer": p, "detail": "is not right"})
		}
		doc := map[string]any{"type": "urn:marks:" + kind, "title": kind, "status": status}
		if list != nil {
			doc["errors"] = list
		}
		answer(status, doc)
	}
	body, _ := io.ReadAll(r.Body)
	name, id, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	allowed := map[string][]string{"watches": {"POST"}, "marks": {"POST"}, "lights": {"POST"}}[name]
	if id != "" {
		allowed = []string{"PUT", "DELETE"}
	}
	switch {
	case allowed == nil:
		problem(404, "not-found")
		return
	case name != "watches" && r.Header.Get("Authorization") != "Bearer "+s.token:
		w.Header().Set("WWW-Authenticate", "Bearer")
		problem(401, "credentials")
		return
	case !slices.Contains(allowed, r.Method):
		w.Header().Set("Allow", strings.Join(allowed, ", "))
		problem(405, "method")
		return
	case r.Method == "DELETE":
		s.calls = append(s.calls, "delete "+id)
		delete(s.marks, id)
		answer(204, nil)
		return
	case id != "" && s.marks[id] == nil:
		problem(404, "not-found")
		return
	case r.Header.Get("Content-Type") != "application/json" || r.Header.Get("Content-Encoding") != "":
		problem(415, "media-type")
		return
	}
	var v any
	if json.Unmarshal(body, &v) != nil {
		problem(400, "syntax")
		return
	}
	object, ok := v.(map[string]any)
	if !ok {
		problem(422, "fields", "#")
		return
	}
	field := map[string]string{"watches": "station", "marks": "colour", "lights": "mark_id"}[name]
	var wrong []string
	text, isText := object[field].(string)
	bad := !isText
	switch name {
	case "watches":
		bad = bad || len(text) < 2
	case "marks":
		bad = bad || text != "red" && text != "green"
	case "lights":
		bad = bad || len([]rune(text)) > 20
	}
	if bad {
		wrong = append(wrong, "#/"+field)
	}
	for k := range object {
		if name == "marks" && k == "name" {
			if text, is := object[k].(string); !is || len([]rune(text)) > 60 {
				wrong = append(wrong, "#/name")
			}
		} else if k != field && name != "watches" {
			wrong = append(wrong, "#/"+k)
		}
	}
	switch {
	case len(wrong) > 0:
		problem(422, "fields", wrong...)
	case name == "watches":
		answer(201, map[string]any{"token": s.token})
	case id != "":
		answer(200, object)
	default:
		s.next++
		key := fmt.Sprintf("m-%dx7f3", s.next*7919)
		if name == "marks" {
			s.marks[key] = object
			s.calls = append(s.calls, "make "+key)
		}
		w.Header().Set("Location", "/"+name+"/"+key)
		answer(201, object)
	}
}

func TestFixturesAndCredentials(t *testing.T) {
	const token = "tide-4f1c88d0b7"
	service := &seaMarks{marks: map[string]any{}, token: token}
	server := httptest.NewServer(service)
	defer server.Close()
	t.Parallel()
	obiter := with("MARKS_AT="+server.URL, "STATION=secret-station-81")
	dir := t.TempDir()
	put(t, dir, "marks.yaml", marks)
	// The watch comes last and is needed by all: without its token no mark can be made.
	put(t, dir, "obiter.yaml", strings.Replace(marksConfig, "at: ${MARKS_AT}", "at: "+server.URL, 1))
	for range 2 { // and once more at once
		service.calls = nil
		o := obiter(t, dir, "try")
		o.check(t, 0, " 0 wrong", "")
		if !strings.Contains(o.out, "PUT /marks/{mark_id}") {
			t.Errorf("the update is not reached:\n%s", o.out)
		}
		first := strings.TrimPrefix(service.calls[0], "make ")
		if service.marks[first] != nil || service.calls[len(service.calls)-1] != "delete "+first {
			t.Errorf("the fixture is left behind: %v", service.calls)
		}
		run, err := os.ReadFile(lastRun(t, dir))
		if err != nil {
			t.Fatal(err)
		}
		if !strings.Contains(string(run), `\"mark_id\":\"`+first) {
			t.Error("the configured body is not sent")
		}
		for _, secret := range []string{token, "secret-station-81"} {
			if strings.Contains(o.out+o.errors, secret) || strings.Contains(strings.ReplaceAll(string(run), `{\"token\":\"`+token, ""), secret) {
				t.Errorf("%s is in the output or the run file", secret)
			}
		}
		show := obiter(t, dir, "show", strings.Fields(string(o.out))[0])
		show.check(t, 2, "", "has no case")
	}
	// Without sending, what fixtures would keep is left to the control.
	obiter(t, dir, "cases", "--only", "POST /lights").check(t, 0, "/mark_id", "")
	obiter(t, dir, "survey").check(t, 0, "POST /lights", "")
}

// marksFolder is a folder with the description of the sea marks, and where they are served.
func marksFolder(t *testing.T) (dir, at string) {
	t.Helper()
	server := httptest.NewServer(&seaMarks{marks: map[string]any{}, token: "t"})
	t.Cleanup(server.Close)
	dir = t.TempDir()
	put(t, dir, "marks.yaml", marks)
	return dir, server.URL
}

func TestWhatIsLeftBehindIsSaid(t *testing.T) {
	t.Parallel()
	dir, at := marksFolder(t)
	put(t, dir, "obiter.yaml", "description: marks.yaml\nat: "+at+"\nheaders: {Authorization: Bearer t}\nfixtures:\n  - {name: mark, send: POST /marks, keep: {mark_id: $response.body#/nothing, mark: $response.header.Location}}\n")
	obiter(t, dir, "try", "--only", "POST /watches").check(t, 0, ", 0 wrong", "")
	obiter(t, dir, "try").check(t, 1, "", `obiter.yaml:5:5: the fixture "mark" has nothing to keep as "mark_id": $response.body#/nothing is not in the answer to POST /marks`)
	o := obiter(t, dir, "try")
	if !strings.Contains(o.errors, "not deleted: ") {
		t.Error(o.errors)
	}
}

// TestWhatWouldReachMore is said, and written into the configuration.
func TestWhatWouldReachMore(t *testing.T) {
	t.Parallel()
	dir, at := marksFolder(t)
	put(t, dir, "obiter.yaml", "description: marks.yaml\nat: "+at+"\nheaders: {X-Station: north}\n")
	obiter(t, dir, "try", "--write").check(t, 2, "", "--write goes with --controls")
	first := obiter(t, dir, "try", "--controls", "--write")
	first.check(t, 0, "1 of 3 operations reached.\n", "")
	for _, want := range []string{"  reached      POST /watches", "refused with 401 Unauthorized: “credentials”", "sent   POST " + at + "/marks  {\"colour\":\"red\",\"name\":\"Old North Buoy ", "write  headers: Authorization: Bearer ${API_TOKEN}",
		"  left out     DELETE /marks/{mark_id}", "1 proposal added to obiter.yaml, as comments"} {
		if !strings.Contains(first.out, want) {
			t.Errorf("%q is not said:\n%s", want, first.out)
		}
	}
	text, _ := os.ReadFile(filepath.Join(dir, "obiter.yaml"))
	if want := "# Authorization: Bearer ${API_TOKEN}   # the description asks for no credentials, and the service does\nheaders: {X-Station: north}\n"; !strings.HasSuffix(string(text), want) {
		t.Errorf("%s", text)
	}
	obiter(t, dir, "try", "--controls", "--write").check(t, 0, "Nothing is new for obiter.yaml.\n", "")
	put(t, dir, "obiter.yaml", "description: marks.yaml\nat: "+at+"\nheaders: {Authorization: Bearer t}\n")
	obiter(t, dir, "try", "--controls").check(t, 0, "5 of 5 operations reached.\n", "")
}

// doubled is a configuration whose values are twice as many on each line.
func doubled(lines int) string {
	text := "operations:\n  POST /vessels:\n    body:\n      a0: &a0 {x: 1}\n"
	for i := 1; i < lines; i++ {
		text += fmt.Sprintf("      a%d: &a%d {x: *a%d, y: *a%d}\n", i, i, i-1, i-1)
	}
	return text
}

// TestBadConfiguration holds what is said of each mistake: file, line, column.
func TestBadConfiguration(t *testing.T) {
	dir := folder(t)
	t.Parallel()
	obiter := with("TWO_LINES=ebb\nflood")
	for text, want := range map[string]string{
		"at: [1]":                               `obiter.yaml:1:1: at is an array; expected text`,
		"description: openapi.yaml\nheders: {}": `obiter.yaml:2:1: unknown key "heders"`,
		"- a":                                   `obiter.yaml:1:1: the configuration is not an object`,
		"a: b: c":                               `obiter.yaml:1:`,
		doubled(20):                             `its aliases come to more than 100000 values when they are written out`,
		"statuses: {constraint: 200}":           `obiter.yaml:1:12: 200 is not a 4xx status`,
		"statuses: {constrain: 400}":            `unknown key "constrain"`,
		"headers: {'X Y': a}":                   `"X Y" is not a header`,
		"headers: {\"X\\nY\": a}":               `"X\nY" is not a header`,
		"headers: {X: \"a\\r\\nY: b\"}":         `"X" is not a header`,
		"credentials: {session: 'Bearer ${TWO_LINES}'}":                                           `obiter.yaml:1:15: the value of ${TWO_LINES} holds a line break`,
		"operations: {POST /tow-orders: {credentials: {session: '${TWO_LINES}'}}}":                `the value of ${TWO_LINES} holds a line break`,
		"headers: {Authorization: 'Bearer ${NO_SUCH_TIDE}'}":                                      `${NO_SUCH_TIDE} is neither kept by a fixture nor set in the environment`,
		"operations: {POST vessels: {}}":                                                          `"POST vessels" is not an operation`,
		"operations: {POST /boats: {body: {}}}":                                                   `obiter.yaml:1:14: the description has no operation "POST /boats"`,
		"operations: {POST /vessels: {rules: [{flaw: a}]}}":                                       `a patch or a parameter belongs to a flaw, and a flaw to one of them`,
		"operations: {POST /vessels: {rules: [{exists: /a, not_blank: /b}]}}":                     `obiter.yaml:1:38: the rule has 2 kinds; expected one`,
		"operations: {POST /vessels: {rules: [{exists: a}]}}":                                     `"a" is not a JSON Pointer to a field`,
		"operations: {POST /vessels: {rules: [{not_blank: /name, status: 200}]}}":                 `200 is not a 4xx status`,
		"errors: {list: /errors}":                                                                 `the layout has no field`,
		"fixtures: [{name: a}]":                                                                   `the fixture has no send`,
		"operations:\n  POST /tow-orders:\n    rules:\n    - holds: body.ends_at >":               `obiter.yaml:4:7: the rule "body.ends_at >" does not fit the description, at its character 15: it ends too early`,
		"operations: {POST /tow-orders: {rules: [{holds: body.until > now}]}}":                    `undefined field 'until'`,
		"operations: {POST /tow-orders: {rules: [{holds: 'body.tugs > 1.5 + body.pull_t * 2'}]}}": `write 2.0 for 2 next to a number that may have a fraction`,
		"operations: {POST /tow-orders: {rules: [{unique: /number}]}}":                            `the body of POST /tow-orders has no field "/number"`,
		"operations: {POST /tow-orders: {rules: [{flaw: nothing, patch: {tugs: 2}}]}}":            `the patch of "nothing" leaves the request as it is`,
		"operations: {POST /tow-orders: {rules: [{not_blank: /purpose, says: '('}]}}":             `"(" is not a regular expression`,
		"messages: {name: {required: x}}":                                                         `"name" is not a JSON Pointer to a field`,
		"messages: {/name: {required: /(/}}":                                                      `"/(/" is not a regular expression`,
		"credentials: {session: abcdef}":                                                          `the credential "session" is written in the file itself`,
		"credentials: {sesion: '${PATH}'}":                                                        `the description has no security scheme "sesion"`,
		"operations: {POST /tow-orders: {rules: [{holds: body.tugs > 1, blames: /tug}]}}":         "a request of POST /tow-orders has no field \"/tug\" to be blamed\nhint: did you mean /tugs?",
		"operations: {POST /tow-orders: {rules: [{is: x}]}}":                                      `it is not said which field has to be "x"`,
		"operations: {POST /tow-orders: {rules: [{is: [x], blames: /tugs}]}}":                     `is is an array`,
		"operations: {POST /tow-orders: {rules: [{flaw: a, query: {page: x}}]}}":                  `POST /tow-orders has no query parameter "page"`,
		"operations: {POST /tow-orders: {rules: [{holds: \"body.purpose == 'to ${PATH}'\"}]}}":    `join texts with +, as in 'berth ' + ${PATH}`,
		"operations: {GET /vessels: {query: {limit: '${fresh}'}}}":                                `${fresh} is a new value for a field of a body`,
		"lesser: {session: abc}":                                                                  `the credential "session" is written in the file itself`,
		"lesser: {sesion: '${PATH}'}":                                                             `the description has no security scheme "sesion"`,
		"operations: {POST /vessels: {lesser: none}}":                                             `lesser is "none" where allowed is expected`,
		"path: {vessel_id: }":                                                                     `a path parameter cannot be left out`,
		"skip: PUT *":                                                                             `skip is a string; expected a list`,
		"rules: {only: [lenght]}":                                                                 "obiter.yaml:1:16: \"lenght\" is no rule and no family of rules\nhint: did you mean length?",
		"rules: {witout: []}":                                                                     `unknown key "witout"`,
		"at: 'http://localhost:${NO_SUCH_TIDE}'":                                                  `obiter.yaml:1:1: ${NO_SUCH_TIDE} is not set in the environment`,
		"operations: {POST /vessels: {body: {length_m: 1e10000000}}}":                             `obiter.yaml:1:47: the number has more than 2000 digits, or an exponent beyond 10000`,
		"tls: {cert: a.pem}":                                                                      `one of cert: and key: is missing`,
		"errors: {list: /e, field: /f, notation: dots}":                                           `unknown notation "dots"`,
		"fixtures: [{name: a, send: POST /vessels, each: day}]":                                   `unknown value "day" for each:`,
		"fixtures: [{name: a, send: POST /vessels, keep: {x: body.id}}]":                          `"body.id" is not a runtime expression that can be kept`,
		"operations: {POST /vessels: {credentials: 5}}":                                           `credentials is an integer where an object is expected`,
		"operations: {POST /vessels: {credentials: {session: abc}}}":                              `the credential "session" is written in the file itself`,
		"operations: {POST /vessels: {credentials: {sesion: '${PATH}'}}}":                         `the description has no security scheme "sesion"`,
		"operations: {POST /vessels: {allow: sure}}":                                              `allow is a string where true or false is expected`,
		"operations: {'PUT /vessels/{vessel_id}': {path: {vessel_id: }}}":                         `a path parameter cannot be left out`,
		"operations: {POST /vessels: {query: 5}}":                                                 `query is an integer where an object is expected`,
		"operations: {POST /vessels: {query: {limit: '${NO_SUCH_TIDE}'}}}":                        `${NO_SUCH_TIDE} is neither kept by a fixture nor set in the environment`,
		"fixtures: [{name: a, send: POST /vessels, undo: {path: {vessel_id: x}}}]":                `send is empty; expected text`,
		"fixtures: [{name: a, send: POST /vessels, undo: {send: DELETE /vessels, to: x}}]":        `unknown key "to"`,
		"fixtures: [{name: a, send: POST /vessels}, {name: a, send: POST /vessels}]":              `there are two fixtures "a"`,
		"fixtures: [{name: a, send: POST /vessels, undo: never}]":                                 "obiter.yaml:1:43: \"never\" is not an operation\nhint: write it as in DELETE /vessels/{vessel_id}, or none",
		"fixtures: [{name: a, send: POST /vessels, undo: DELETE /boats}]":                         `the description has no operation "DELETE /boats"`,
		"fixtures:\n- {name: a, send: POST /vessels, body: {name: '${y}'}, keep: {x: $response.body#/id}}\n- {name: b, send: POST /vessels, body: {name: '${x}'}, keep: {y: $response.body#/id}}": `obiter.yaml:2:3: the fixtures "a" and "b" need one another`,
	} {
		put(t, dir, "obiter.yaml", text)
		o := obiter(t, dir, "try", "--at", "http://127.0.0.1:1")
		o.check(t, 2, "", want)
		if strings.Count(o.errors, "error: ") != 1 {
			t.Errorf("%s: %s", text, o.errors)
		}
	}
	// All that is wrong is told at once, in the order of the file.
	put(t, dir, "obiter.yaml", "heders: {}\nstatuses: {constraint: 200, typ: 400}\nfixtures:\n- {name: a, sent: POST /vessels}\n- {name: b, send: POST /vessels, keep: {x: id}, undo: never}\noperations:\n  POST /vessels: {allow: sure, rules: [{exists: a}, {flaw: b}]}\n")
	o := obiter(t, dir, "try", "--at", "http://127.0.0.1:1")
	o.check(t, 2, "", `unknown key "heders"`)
	var lines []string
	for line := range strings.Lines(o.errors) {
		if at, is := strings.CutPrefix(line, "error: obiter.yaml:"); is {
			lines = append(lines, at[:strings.Index(at, ":")])
		}
	}
	if got := strings.Join(lines, " "); got != "1 2 2 4 4 5 5 7 7 7" {
		t.Errorf("%s\n%s", got, o.errors)
	}
	// A rule that nothing can be made of costs that rule.
	for text, want := range map[string]string{
		"operations: {POST /tow-orders: {rules: [{holds: body.tugs < 7}]}}":                                                         `warning: obiter.yaml:1:42: no request was found that breaks "body.tugs < 7" and nothing else`,
		"operations: {POST /tow-orders: {rules: [{holds: body.ends_at > body.starts_at}, {holds: body.ends_at < body.starts_at}]}}": `warning: obiter.yaml:1:82: no valid request was found for which "body.ends_at < body.starts_at" and the rules before it hold; the rule is left out`,
	} {
		put(t, dir, "obiter.yaml", text)
		obiter(t, dir, "survey").check(t, 0, "POST /tow-orders", want)
	}
	put(t, dir, "obiter.yaml", "")
	for _, args := range [][]string{{"--ca", "none.pem"}, {"--ca", "openapi.yaml"}, {"--cert", "openapi.yaml"}, {"--cert", "openapi.yaml", "--key", "openapi.yaml"}} {
		obiter(t, dir, append([]string{"try", "--at", "https://127.0.0.1:1"}, args...)...).check(t, 2, "", "")
	}
	obiter(t, dir, "survey", "--config", "none.yaml").check(t, 2, "", "cannot read the configuration none.yaml")
	obiter(t, dir, "survey").check(t, 0, "Harbour office", "")
	put(t, dir, "obiter.yaml", "operations: {POST /vessels: {body: {length_m: 9999}}}")
	obiter(t, dir, "survey").check(t, 0, "with the configured body its control breaks the schema at #/length_m", "")
}

// TestInitIsAStart drafts a configuration of the harbour and tries with it.
func TestInitIsAStart(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	obiter(t, dir, "init").check(t, 0, "obiter.yaml is written", "")
	obiter(t, dir, "init").check(t, 2, "", "obiter.yaml already exists and is not overwritten")
	text, err := os.ReadFile(filepath.Join(dir, "obiter.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	golden(t, "init", string(text))
	// Tow orders have rules that a description cannot tell.
	o := obiter(t, dir, "try", "--at", serve(t), "--skip", "* /tow-orders", "--skip", "* /tow-orders/*")
	o.check(t, 0, "0 wrong\n", "")
	if o.errors != "" {
		t.Error(o.errors)
	}
	s := obiter(t, dir, "init", "--schema")
	s.check(t, 0, `"fixtures"`, "")
	put(t, dir, "configuration.schema.json", s.out)
	v, err := jsonschema.UnmarshalJSON(strings.NewReader(`{"at":"http://localhost","statuses":{"type":[400,422],"syntax":400},"fixtures":[{"name":"a","send":"POST /vessels","keep":{"x":"$response.body#/id"}}],"operations":{"POST /vessels":{"body":{}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	schema, err := jsonschema.NewCompiler().Compile(filepath.Join(dir, "configuration.schema.json"))
	if err != nil {
		t.Fatal(err)
	}
	if err := schema.Validate(v); err != nil {
		t.Error(err)
	}
}

// TestAConfiguredLayoutReplacesLearning names a place where the service names nothing.
func TestAConfiguredLayoutReplacesLearning(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	at := serve(t)
	put(t, dir, "obiter.yaml", "errors: {list: /errors, field: /pointer, message: /detail}")
	obiter(t, dir, "try", "--at", at, "--only", "POST /sessions").check(t, 0, ", 0 wrong", "")
	put(t, dir, "obiter.yaml", "errors: {list: /errors, field: /pointer, notation: pointer-fragment}")
	obiter(t, dir, "try", "--at", at, "--only", "POST /sessions").check(t, 0, ", 0 wrong", "")
	put(t, dir, "obiter.yaml", "errors: {list: /errors, field: /pointer, notation: dotted}")
	obiter(t, dir, "try", "--at", at, "--only", "POST /sessions").check(t, 1, "is not written as the configuration says (dotted)", "")
	put(t, dir, "obiter.yaml", "errors: {list: /faults, field: /at}")
	obiter(t, dir, "try", "--at", at, "--only", "POST /sessions").check(t, 1, "error no-field-errors", "")
}

// TestCertificates tries a service with a certificate of its own making, and one
// that asks for the client's.
func TestCertificates(t *testing.T) {
	t.Parallel()
	office, err := harbour.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewTLSServer(office)
	defer server.Close()
	server.Config.ErrorLog = log.New(io.Discard, "", 0)
	dir := folder(t)
	args := []string{"try", "--at", server.URL, "--only", "GET /vessels", "--depth", "quick"}
	obiter(t, dir, args...).check(t, 3, "", "certificate")
	obiter(t, dir, append(args, "--insecure")...).check(t, 0, ", 0 wrong", "the service's certificate is not checked")
	put(t, dir, "ca.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})))
	obiter(t, dir, append(args, "--ca", "ca.pem")...).check(t, 0, ", 0 wrong", "")
	put(t, dir, "obiter.yaml", "tls: {ca: ca.pem}")
	obiter(t, dir, args...).check(t, 0, ", 0 wrong", "")
}
