package cli_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestKnown: what is known fails no run, one more mistake fails it and is told alone,
// one less makes its entry stale; and every report shows what is known as known.
func TestKnown(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	o := &office{}
	server := httptest.NewServer(o)
	t.Cleanup(server.Close)
	try := func(args ...string) outcome {
		t.Helper()
		return obiter(t, dir, append([]string{"try", "--at", server.URL, "--depth", "quick", "--skip", "* /tow-orders", "--skip", "* /tow-orders/*"}, args...)...)
	}
	obiter(t, dir, "known").check(t, 2, "", "there is no run in this folder yet")
	o.with(t, "no-allow", "update-unchecked", "sentence-only")
	try().check(t, 1, "3 causes to fix", "")
	obiter(t, dir, "known", "--code", "missing-header", "--reason", "the router cannot", "--until", "2999-12-31").check(t, 0, "1 cause, of 1 answer, written to obiter.known.yaml", "")
	try().check(t, 1, "2 causes to fix", "")
	obiter(t, dir, "known", "--only", "POST *").check(t, 0, "1 cause, of 15 answers", "")
	obiter(t, dir, "known").check(t, 0, "1 cause, of 48 answers", "")
	obiter(t, dir, "known").check(t, 0, "Nothing is wrong that is not known already.", "")
	// The file and the command of earlier versions.
	was := string(mustRead(t, dir, "obiter.known.yaml"))
	old, first, _ := strings.Cut(was, "known:\n\n  #")
	entry, rest, _ := strings.Cut(first, "\n\n")
	put(t, dir, "obiter.accepted.yaml", old+"accepted:\n\n"+rest)
	if err := os.Remove(filepath.Join(dir, "obiter.known.yaml")); err != nil || entry == "" {
		t.Fatal(err)
	}
	obiter(t, dir, "accept").check(t, 0, "1 cause, of ", "warning: obiter.accepted.yaml is called obiter.known.yaml now")
	if is := string(mustRead(t, dir, "obiter.known.yaml")); strings.Count(is, "- code: ") != 3 || strings.Contains(is, "accepted:") {
		t.Errorf("the file of earlier versions becomes\n%s", is)
	}
	if _, err := os.Stat(filepath.Join(dir, "obiter.accepted.yaml")); err == nil {
		t.Error("the file of earlier versions stays")
	}
	put(t, dir, "obiter.known.yaml", was)
	all := try()
	all.check(t, 0, " known\n", "")
	if strings.Contains(all.out, "accepted") || strings.Contains(all.out, "to fix") || strings.Contains(all.errors, "no longer") {
		t.Errorf("what is known is told:\n%s%s", all.out, all.errors)
	}
	text, err := os.ReadFile(filepath.Join(dir, "obiter.known.yaml"))
	if err != nil || strings.Count(string(text), "- code: ") != 3 || !strings.Contains(string(text), "reason: the router cannot\n    until: \"2999-12-31\"") || !strings.Contains(string(text), "  # nothing of the body is checked: ") {
		t.Errorf("%v\n%s", err, text)
	}
	// Shown as known, everywhere.
	obiter(t, dir, "report", "--out", "r.html", "--out", "r.xml", "--out", "r.sarif", "--out", "r.md", "--out", "r.json").check(t, 0, "", "")
	for name, want := range map[string]string{
		"r.html":  "<h3 class=\"of\">Known, and counted apart</h3>",
		"r.xml":   `<skipped message="known: accepted: `,
		"r.sarif": `"suppressions": [`,
		"r.md":    "## Nothing to fix\n",
		"r.json":  `"reason": "the router cannot"`,
	} {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil || !strings.Contains(string(data), want) {
			t.Errorf("%s: %v, it has not %s", name, err, want)
		}
		if name == "r.json" {
			obeys(t, schemas(t)("outcome"), string(data))
			var totals struct {
				Totals struct{ Known, Failed, Form int }
			}
			if err := json.Unmarshal(data, &totals); err != nil || totals.Totals.Known != 64 || totals.Totals.Failed+totals.Totals.Form != 0 {
				t.Errorf("%v: %+v", err, totals)
			}
		}
		if name == "r.xml" && strings.Contains(string(data), "<failure") {
			t.Errorf("known failures fail:\n%.3000s", data)
		}
	}
	judgedAgain(t, dir)
	// One more.
	o.with(t, "no-allow", "update-unchecked", "sentence-only", "status-as-text")
	more := try()
	more.check(t, 1, "error bad-member at /status", "")
	if strings.Count(more.out, "\nerror ") != 1 {
		t.Errorf("not just that:\n%s", more.out)
	}
	for on, status := range map[string]int{"error": 1, "warning": 1, "substance": 0, "none": 0} {
		obiter(t, dir, "judge", "--fail-on", on).check(t, status, "", "")
	}
	try("--fail-on", "new").check(t, 0, "", "") // the run before had it, too
	o.with(t, "no-allow", "update-unchecked", "sentence-only", "status-as-text", "index-missing")
	try("--fail-on", "new").check(t, 1, "", "")
	obiter(t, dir, "judge", "--fail-on", "new").check(t, 2, "", "obiter compare tells")
	obiter(t, dir, "judge", "--fail-on", "luck").check(t, 2, "", "use error, warning, substance, new or none")
	// One less, and one past its day.
	o.with(t, "no-allow", "update-unchecked")
	put(t, dir, "obiter.known.yaml", strings.Replace(string(text), "2999-12-31", "2020-12-31", 1))
	less := try()
	less.check(t, 1, "error missing-header", "missing-header of POST /sessions: its day, 2020-12-31, is past, so it counts again")
	if !strings.Contains(less.errors, "no-field-errors of POST /sessions: it no longer occurs; take it out") || strings.Contains(less.errors, "accepted of PUT") {
		t.Errorf("stale are\n%s", less.errors)
	}
	// A case that is sent again alone says nothing of the rest.
	o.with(t, "no-allow", "update-unchecked", "sentence-only")
	put(t, dir, "obiter.known.yaml", string(text))
	if o := obiter(t, dir, "try", "--at", server.URL, "--depth", "quick", "--only", "GET /berths"); o.status != 0 || strings.Contains(o.errors, "no longer") {
		t.Errorf("%s%s", o.out, o.errors)
	}
	put(t, dir, "obiter.yaml", "reach: all\nskip: ['* /tow-orders', '* /tow-orders/*']\n")
	put(t, dir, "openapi.yaml", strings.Replace(string(mustRead(t, dir, "openapi.yaml")), "  /berths:", "  /moorings:", 1))
	obiter(t, dir, "try", "--at", server.URL, "--depth", "quick", "--only", "GET /moorings", "--only", "GET /vessels").check(t, 1, "Not reached", "")
	put(t, dir, "obiter.yaml", "reach: some\n")
	obiter(t, dir, "try", "--at", server.URL).check(t, 2, "", `obiter.yaml:1:1: reach is "some"`)
	put(t, dir, "obiter.yaml", "{}")
	for text, want := range map[string]string{
		"known: [{code: acepted, operations: [GET /berths]}]": `obiter.known.yaml:1:10: "acepted" is not the code of a finding`,
		"known: [{code: accepted}]":                           "the entry names no operation",
	} {
		put(t, dir, "obiter.known.yaml", text)
		for _, args := range [][]string{{"try", "--at", server.URL}, {"judge"}, {"report", "--out", "r.md"}, {"known"}} {
			obiter(t, dir, args...).check(t, 2, "", want)
		}
	}
	obiter(t, dir, "known", "--until", "soon").check(t, 2, "", `invalid value "soon" for --until`)
	obiter(t, dir, "known", "--code", "acepted").check(t, 2, "", "did you mean accepted?")
}

func mustRead(t *testing.T, dir, name string) []byte {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// TestKnownFilesLoad: of a service that reads JSON whatever the Content-Type says, an error and
// a warning of one code cover the same; what is written loads, and later runs pass.
func TestKnownFilesLoad(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		say := func(status int, pointer string) {
			w.Header().Set("Content-Type", "application/problem+json")
			w.Header().Set("Allow", "POST")
			w.WriteHeader(status)
			errors := ""
			if pointer != "" {
				errors = `,"errors":[{"pointer":"` + pointer + `","detail":"is not right"}]`
			}
			fmt.Fprintf(w, `{"type":"about:blank","title":%q,"status":%d%s}`, http.StatusText(status), status, errors)
		}
		var v any
		body, _ := io.ReadAll(r.Body)
		switch err := json.Unmarshal(body, &v); {
		case r.URL.Path != "/signals":
			say(404, "")
			return
		case r.Method != "POST":
			say(405, "")
			return
		case err != nil:
			say(400, "")
			return
		}
		object, _ := v.(map[string]any)
		if object == nil {
			say(422, "#")
			return
		}
		for name := range object {
			if name != "text" {
				say(422, "#/"+name)
				return
			}
		}
		if text, is := object["text"].(string); !is || text == "" || len([]rune(text)) > 20 {
			say(422, "#/text")
			return
		}
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(201)
		_, _ = w.Write(body)
	}))
	defer server.Close()
	dir := t.TempDir()
	put(t, dir, "openapi.yaml", "openapi: 3.1.0\ninfo: {title: Signals, version: '1'}\npaths:\n  /signals:\n    post:\n      requestBody: {required: true, content: {application/json: {schema: {type: object, additionalProperties: false, required: [text], properties: {text: {type: string, minLength: 1, maxLength: 20}}}}}}\n      responses: {'201': {description: made}, 4XX: {description: refused, content: {application/problem+json: {}}}}\n")
	obiter(t, dir, "try", "openapi.yaml", "--at", server.URL).check(t, 1, "accepted (media type)", "")
	obiter(t, dir, "known").check(t, 0, "written to obiter.known.yaml", "")
	for range 2 {
		o := obiter(t, dir, "try", "openapi.yaml", "--at", server.URL)
		o.check(t, 0, " known", "")
		if strings.Contains(o.errors, "twice") {
			t.Error(o.errors)
		}
	}
}
