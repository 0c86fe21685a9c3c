//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"obiter/internal/execute/session"
)

// TestWhatFailedStaysKnown: a run of the valid requests, of some operations, of a shard or of a
// smaller depth says nothing of the cases that it does not send.
func TestWhatFailedStaysKnown(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	at := serve(t, "update-unchecked")
	try := func(args ...string) outcome {
		t.Helper()
		return obiter(t, dir, append([]string{"try", "--at", at, "--skip", "* /tow-orders", "--skip", "* /tow-orders/*"}, args...)...)
	}
	try("--depth", "usual").check(t, 1, "", "")
	count := func() int {
		t.Helper()
		o := obiter(t, dir, "judge", "--format", "json")
		var out struct{ Totals struct{ Failed int } }
		if err := json.Unmarshal([]byte(o.out), &out); err != nil {
			t.Fatal(err, o.errors)
		}
		return out.Totals.Failed
	}
	wrong := count()
	if wrong < 10 {
		t.Fatalf("only %d cases are wrong", wrong)
	}
	for _, args := range [][]string{{"--controls"}, {"--only", "GET /berths"}, {"--shard", "1/3"}, {"--depth", "quick"}, {"--rule", "required"}} {
		o := try(args...)
		if n := count(); n != wrong {
			t.Errorf("after try %q %d cases are wrong, and were %d", args, n, wrong)
		}
		if strings.Contains(strings.Join(args, " "), "GET") && strings.Contains(o.out, "error accepted") {
			t.Errorf("a run of one operation reports others:\n%s", o.out)
		}
	}
	again := try("--failed")
	again.check(t, 1, fmt.Sprintf("%d still wrong", wrong), "")
	if n := count(); n != wrong {
		t.Errorf("after --failed %d cases are wrong, and were %d", n, wrong)
	}
	// A whole run counts by itself.
	at = serve(t)
	try("--depth", "usual").check(t, 0, "0 wrong", "")
	if n := count(); n != 0 {
		t.Errorf("%d cases are wrong at a sound service", n)
	}
}

// TestTheLastTenRuns are stored, by address, for their owner alone, and those of older versions
// are found.
func TestTheLastTenRuns(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	at := serve(t)
	obiter(t, dir, "try", "--at", at, "--only", "/berths").check(t, 0, "", "")
	first := lastRun(t, dir)
	text := mustRead(t, dir, within(t, dir, first))
	if err := os.RemoveAll(filepath.Join(dir, ".obiter", "runs")); err != nil {
		t.Fatal(err)
	}
	older := strings.Replace(string(text), `"started":"2`, `"started":"1`, 1)
	put(t, dir, ".obiter/previous.ndjson", older)
	put(t, dir, ".obiter/last.ndjson", string(text))
	obiter(t, dir, "compare").check(t, 0, "older: .obiter/runs/127.0.0.1-", "")
	if names, _ := filepath.Glob(filepath.Join(dir, ".obiter", "runs", strings.ReplaceAll(strings.TrimPrefix(at, "http://"), ":", "-"), "*.ndjson")); len(names) != 2 {
		t.Errorf("stored are %q", names)
	}
	for _, name := range []string{"last.ndjson", "previous.ndjson"} {
		if _, err := os.Stat(filepath.Join(dir, ".obiter", name)); err == nil {
			t.Errorf("%s is still there", name)
		}
	}
	for range 10 {
		obiter(t, dir, "try", "--at", at, "--only", "/berths", "--depth", "quick").check(t, 0, "", "")
	}
	other := serve(t)
	obiter(t, dir, "try", "--at", other, "--only", "/berths").check(t, 0, "", "")
	names, _ := filepath.Glob(filepath.Join(dir, ".obiter", "runs", "*", "*.ndjson"))
	if len(names) != 10 {
		t.Errorf("%d runs are stored", len(names))
	}
	if s := (session.Store{Folder: filepath.Join(dir, ".obiter")}); s.LastAt(other, "openapi.yaml") != s.Last() || s.LastAt(at, "openapi.yaml") == "" || s.HasAddress("http://127.0.0.1:1") {
		t.Errorf("the runs are not found by address: %q", names)
	}
}

// slips is a service that stores its records in a file, and ends as it is told to.
const slips = `package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"sync"
	"syscall"
)

type slip struct { ID int ` + "`json:\"id\"`" + `; Name string ` + "`json:\"name\"`" + ` }

var mu sync.Mutex

func load() (out []slip) {
	data, _ := os.ReadFile("slips.json")
	_ = json.Unmarshal(data, &out)
	return out
}

func save(list []slip) {
	data, _ := json.Marshal(list)
	_ = os.WriteFile("slips.json", data, 0o600)
}

func say(w http.ResponseWriter, status int, v any) {
	media := "application/json"
	if status >= 400 {
		media = "application/problem+json"
	}
	w.Header().Set("Content-Type", media)
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func reject(w http.ResponseWriter, status int, at ...string) {
	v := map[string]any{"type": "about:blank", "title": http.StatusText(status), "status": status}
	var list []any
	for _, at := range at {
		list = append(list, map[string]any{"pointer": at, "detail": "is not right"})
	}
	if list != nil {
		v["errors"] = list
	}
	say(w, status, v)
}

func main() {
	http.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		list := load()
		var id int
		tail, one := strings.CutPrefix(r.URL.Path, "/slips/")
		at := -1
		if one {
			fmt.Sscan(tail, &id)
			for i, s := range list {
				if s.ID == id && fmt.Sprint(id) == tail {
					at = i
				}
			}
		}
		switch {
		case !one && r.URL.Path != "/slips", one && at < 0:
			reject(w, 404)
			return
		case one && r.Method == "GET":
			say(w, 200, list[at])
			return
		case one && r.Method == "DELETE":
			save(append(list[:at:at], list[at+1:]...))
			w.WriteHeader(204)
			return
		case !one && r.Method == "GET":
			if list == nil {
				list = []slip{}
			}
			say(w, 200, list)
			return
		case one || r.Method != "POST":
			w.Header().Set("Allow", "GET, POST, DELETE")
			reject(w, 405)
			return
		case r.Header.Get("Content-Type") != "application/json" || r.Header.Get("Content-Encoding") != "":
			reject(w, 415)
			return
		}
		data, _ := io.ReadAll(r.Body)
		switch how := os.Getenv("DIES"); {
		case how == "list" && strings.HasPrefix(string(data), "["):
			os.Exit(3)
		case how == "signal" && strings.Contains(string(data), "null}"):
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {}
		}
		if !json.Valid(data) {
			reject(w, 400)
			return
		}
		var v map[string]any
		if json.Unmarshal(data, &v) != nil {
			reject(w, 422, "#")
			return
		}
		name, is := v["name"].(string)
		if n := len([]rune(name)); !is || n < 2 || n > 40 {
			reject(w, 422, "#/name")
			return
		}
		if len(v) > 1 {
			reject(w, 422, "#")
			return
		}
		next := slip{1, name}
		for _, s := range list {
			next.ID = max(next.ID, s.ID+1)
		}
		save(append(list, next))
		w.Header().Set("Location", fmt.Sprint("/slips/", next.ID))
		say(w, 201, next)
	})
	_ = http.ListenAndServe(os.Getenv("OFFICE_AT"), nil)
}
`

const slipsDescription = `openapi: 3.1.0
info: {title: Slips, version: '1'}
paths:
  /slips:
    get: {responses: {'200': {description: all}}}
    post:
      requestBody: {required: true, content: {application/json: {schema: {type: object, additionalProperties: false, required: [name], properties: {name: {type: string, minLength: 2, maxLength: 40, examples: [North slip]}}}}}}
      responses: {'201': {description: created}, '4XX': {description: rejected}}
  /slips/{id}:
    parameters: [{name: id, in: path, required: true, schema: {type: integer, minimum: 1}}]
    get: {responses: {'200': {description: one}, '4XX': {description: rejected}}}
    delete: {responses: {'204': {description: gone}, '4XX': {description: rejected}}}
`

// TestAServiceThatEnds is diagnosed whatever ends it: the one case is named, what was only in flight
// with it is not blamed, and the records are deleted once it is started again.
func TestAServiceThatEnds(t *testing.T) {
	t.Parallel()
	bin := filepath.Join(t.TempDir(), "slips")
	compile(t, slips, bin)
	for how, x := range map[string]struct{ crashes int }{"list": {2}, "signal": {1}, "": {0}} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			dir, at := t.TempDir(), free(t)
			put(t, dir, "openapi.yaml", slipsDescription)
			put(t, dir, "slips.json", `[{"id":7,"name":"Old slip"}]`)
			put(t, dir, "obiter.yaml", fmt.Sprintf("at: http://%s\nservice: { start: 'DIES=%s OFFICE_AT=%s exec %s' }\n", at, how, at, bin))
			o := obiter(t, dir, "try")
			if n := strings.Count(o.out, "error crashed"); n != x.crashes {
				t.Errorf("%d crashes are reported, not %d", n, x.crashes)
			}
			if bad := regexp.MustCompile(`(?m)^.*(no-answer|not deleted|nterrupted|error accepted).*$`).FindString(o.out + o.errors); bad != "" {
				t.Errorf("it says %q", bad)
			}
			if data := string(mustRead(t, dir, "slips.json")); data != `[{"id":7,"name":"Old slip"}]` {
				t.Errorf("stored are %s", data)
			}
			if t.Failed() {
				t.Logf("%s\n%s", o.out, o.errors)
			}
		})
	}
}
