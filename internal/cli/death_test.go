//go:build linux

package cli_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// mooring is a service of one file, with mistakes between marks that a test takes out.
const mooring = `package main

import (
	"encoding/json"
	"fmt"
	"log"
	"net/http"
	"os"
)

func reject(w http.ResponseWriter, status int, errors ...any) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	body := map[string]any{"title": http.StatusText(status), "status": status}
	if status == 422 {
		body["title"] = "Unprocessable Content"
	}
	if len(errors) > 0 {
		body["errors"] = errors
	}
	json.NewEncoder(w).Encode(body)
}

func main() {
	http.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		log.Printf("case=%s %s key=%s", r.Header.Get("Obiter-Case"), r.Method, r.Header.Get("X-Key"))
		log.Printf("trace %s \x1b[2J", r.Header.Get("Traceparent"))
		if r.URL.Path != "/moorings" {
			reject(w, 404)
			return
		}
		if r.Method != "POST" {
			w.Header().Set("Allow", "POST")
			reject(w, 405)
			return
		}
		if r.Header.Get("Content-Type") != "application/json" || r.Header.Get("Content-Encoding") != "" {
			reject(w, 415)
			return
		}
		var v map[string]any
		d := json.NewDecoder(r.Body)
		if err := d.Decode(&v); err != nil || d.More() {
			reject(w, 400)
			return
		}
		var errors []any
		wrong := func(field, text string) {
			errors = append(errors, map[string]any{"pointer": "#/" + field, "detail": text})
		}
		name, isText := v["name"].(string)
		depth, isNumber := v["depth"].(float64)
		if null, has := v["name"]; has && null == nil {
			os.Exit(137) // dies
		}
		switch {
		case !isText:
			wrong("name", "must be text")
		case len([]rune(name)) < 2:
			wrong("name", "must have at least 2 characters")
		case len([]rune(name)) > 20 && os.Getenv("STRICT") != "":
			wrong("name", "must have at most 20 characters")
		}
		switch {
		case !isNumber || depth != float64(int(depth)):
			wrong("depth", "must be a whole number")
		case depth < 1:
			wrong("wrong", "must be at least 1") // blames
		}
		if len(errors) > 0 {
			reject(w, 422, errors...)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(201)
		fmt.Fprint(w, "{}")
	})
	http.ListenAndServe(os.Getenv("OFFICE_AT"), nil)
}
`

const moorings = `openapi: 3.1.0
info: {title: Moorings, version: '1'}
paths:
  /moorings:
    post:
      requestBody:
        required: true
        content:
          application/json:
            schema:
              type: object
              required: [name, depth]
              properties:
                name: {type: string, minLength: 2, maxLength: 20, examples: [Aurora]}
                depth: {type: integer, minimum: 1, examples: [9]}
      responses: {'201': {description: made}, '4XX': {description: rejected}}
`

// TestTheLoop: a service of three mistakes that Obiter starts, one of which ends it. The case
// is named and everything else is judged; what is fixed in the source is told.
func TestTheLoop(t *testing.T) {
	dir, at := t.TempDir(), free(t)
	put(t, dir, "openapi.yaml", moorings)
	compile(t, mooring, filepath.Join(dir, "office"))
	put(t, dir, "obiter.yaml", fmt.Sprintf("at: http://%s\nservice:\n  start: OFFICE_AT=%s exec ./office\n  within: 90s\nheaders: { X-Key: '${OFFICE_KEY}' }\n", at, at))
	t.Parallel()
	obiter := with("OFFICE_KEY=deep-water-lock-42")
	first := obiter(t, dir, "try")
	first.check(t, 1, "ended the service (status ", "; going on without it")
	for _, want := range []string{"error crashed", "error accepted (length) at body /name", "at body /depth", "The run is in .obiter/runs/127.0.0.1-"} {
		if !strings.Contains(first.out, want) {
			t.Errorf("%q is not in\n%s\n%s", want, first.out, first.errors)
		}
	}
	if strings.Contains(first.out, "no-answer") || strings.Count(first.out, "error crashed") != 1 || strings.Contains(first.out, "nterrupted") {
		t.Errorf("more than what ended it is told:\n%s", first.out)
	}
	obiter(t, dir, "compare").check(t, 2, "", "there is no earlier run in this folder") // it is one run
	crash := regexp.MustCompile(`(?s)error crashed.*?show ([0-9a-f]{10})`).FindStringSubmatch(first.out)
	if crash == nil {
		t.Fatalf("no crash is named in\n%s", first.out)
	}
	shown := obiter(t, dir, "show", crash[1])
	shown.check(t, 0, "Logged\n  ", "")
	for _, want := range []string{"case=" + crash[1] + " POST key=[OFFICE_KEY not kept]", `trace 00-`, `\x1b[2J`, "ended the service (status "} {
		if !strings.Contains(shown.out, want) {
			t.Errorf("%q is not in\n%s", want, shown.out)
		}
	}
	obiter(t, dir, "report", "--out", "page.html").check(t, 0, "", "")
	if page := string(mustRead(t, dir, "page.html")); !strings.Contains(page, "logged by the service") || !strings.Contains(page, "case="+crash[1]+" POST") || strings.Contains(page, "deep-water") {
		t.Errorf("the page lacks the log, or has a secret")
	}
	judgedAgain(t, dir)
	planned := strings.Count(obiter(t, dir, "cases", "--format", "ndjson").out, "\n")
	if n := len(knownCases(t, lastRun(t, dir))); n < planned {
		t.Errorf("%d cases were tried of %d", n, planned)
	}
	if o := obiter(t, dir, "judge", "--format", "json"); strings.Contains(o.out, `"incomplete"`) {
		t.Errorf("it is said to be incomplete:\n%.2000s", o.out)
	}
	compile(t, strings.NewReplacer(`"wrong", "must be at least 1") // blames`, `"depth", "must be at least 1")`, "os.Exit(137) // dies", "").Replace(mooring), filepath.Join(dir, "office"))
	again := obiter(t, dir, "try", "--failed")
	again.check(t, 1, "right now", "")
	right, still, _ := strings.Cut(again.out, "\nStill wrong\n")
	if !strings.Contains(right, "crashed") || !strings.Contains(right, "field") || !strings.Contains(still, "accepted (length)") || strings.Contains(still, "crashed") || strings.Contains(again.out, "Newly wrong") {
		t.Errorf("it says\n%s\n%s", again.out, again.errors)
	}
	// The last mistake, at a terminal.
	x := inTerminalWith(t, dir, []string{"OFFICE_KEY=deep-water-lock-42"}, "try", "--watch", "--failed")
	x.shows("still wrong")
	x.shows("Enter: try again what failed")
	compile(t, strings.NewReplacer(`"wrong", "must be at least 1") // blames`, `"depth", "must be at least 1")`, "os.Exit(137) // dies", "", ` && os.Getenv("STRICT") != ""`, "").Replace(mooring), filepath.Join(dir, "office"))
	x.types("\n")
	x.shows("starting the service")
	x.shows("right now.")
	x.shows(" 0 wrong")
	x.shows("Enter: try again what failed")
	x.types("q\n")
	if err := x.cmd.Wait(); err != nil {
		t.Errorf("it ends with %v", err)
	}
}

// TestLogsWithoutMarks: a case that the service failed at is sent once more alone, and what
// is written meanwhile is its log, in the file of a service that Obiter does not start.
func TestLogsWithoutMarks(t *testing.T) {
	dir := t.TempDir()
	put(t, dir, "openapi.yaml", moorings)
	log, err := os.Create(filepath.Join(dir, "office.log"))
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	fmt.Fprintln(log, "of yesterday")
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", "application/problem+json")
		switch {
		case r.Method != "POST":
			w.WriteHeader(405)
		case strings.Contains(string(body), `"depth":null`):
			fmt.Fprintf(log, "nil pointer, key %s\nin deep.go\n", r.Header.Get("X-Key"))
			w.WriteHeader(500)
		case strings.Contains(string(body), `"depth":9,"name":"Aurora"`):
			fmt.Fprintln(log, "made")
			w.WriteHeader(201)
		default:
			fmt.Fprintln(log, "refused")
			w.WriteHeader(422)
		}
	}))
	t.Cleanup(server.Close)
	t.Parallel()
	obiter := with("OFFICE_KEY=deep-water-lock-42")
	put(t, dir, "obiter.yaml", "at: "+server.URL+"\nservice: { log: office.log }\nheaders: { X-Key: '${OFFICE_KEY}' }\n")
	o := obiter(t, dir, "try")
	crash := regexp.MustCompile(`(?s)error crashed.*?show ([0-9a-f]{10})`).FindStringSubmatch(o.out)
	if crash == nil {
		t.Fatalf("no crash is named in\n%s%s", o.out, o.errors)
	}
	shown := obiter(t, dir, "show", crash[1])
	shown.check(t, 0, "Logged\n  nil pointer, key [OFFICE_KEY not kept]\n  in deep.go\n\nFindings", "")
	put(t, dir, "obiter.yaml", "at: "+server.URL+"\nservice: { log: nowhere.log }\n")
	obiter(t, dir, "try").check(t, 1, "error crashed", "warning: there is no log of the service at nowhere.log yet")
	for text, want := range map[string]string{
		"service: { log: a, start: b }":      "log: goes without start:",
		"service: { ready: GET /x, log: a }": "are for a service that is started",
		"service: { within: 5s }":            "there is no start: in service:",
		"service: { start: a, ready: /x }":   `"/x" is not a request that shows whether it is ready`,
		"service: { start: a, within: x }":   `"x" is not a time until the service is ready`,
		"service: 7":                         "service is an integer where an object is expected",
		"service: { stop: a }":               `unknown key "stop"`,
	} {
		put(t, dir, "obiter.yaml", text)
		obiter(t, dir, "try").check(t, 2, "", want)
	}
}
