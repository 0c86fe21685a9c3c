package cli_test

import (
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"obiter/internal/harbour"
)

// office is a harbour office that can be exchanged for one with other mistakes, and that
// notes the cases that it is sent.
type office struct {
	mu   sync.Mutex
	now  http.Handler
	sent map[string]bool
}

func (o *office) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	o.mu.Lock()
	h := o.now
	o.sent[r.Header.Get("Obiter-Case")] = true
	o.mu.Unlock()
	h.ServeHTTP(w, r)
}

// with exchanges the office, and forgets what was sent.
func (o *office) with(t *testing.T, faults ...string) {
	t.Helper()
	h, err := harbour.New(faults)
	if err != nil {
		t.Fatal(err)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.now, o.sent = h, map[string]bool{}
}

// oneOf is what a run file says of a case.
type known struct {
	Case, Kind, Verdict, Operation string
	Response                       struct{ Sent string }
}

func knownCases(t *testing.T, name string) map[string]known {
	t.Helper()
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]known{}
	for line := range strings.Lines(string(data)) {
		if !strings.HasPrefix(line, `{"type":"case"`) {
			continue
		}
		var k known
		if err := json.Unmarshal([]byte(line), &k); err != nil {
			t.Fatal(err)
		}
		out[k.Case] = k
	}
	return out
}

// TestAgainOnlyWhatFailed: what failed is sent again with its controls and nothing else; the
// last run knows the latest of every case; what the plan lost is dropped, what it gained sent.
func TestAgainOnlyWhatFailed(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	o := &office{}
	server := httptest.NewServer(o)
	t.Cleanup(server.Close)
	try := func(args ...string) outcome {
		t.Helper()
		return obiter(t, dir, append([]string{"try", "--at", server.URL}, args...)...)
	}
	o.with(t)
	try("--failed").check(t, 2, "", "there is no run in this folder yet")
	o.with(t, "update-unchecked", "no-allow", "sentence-only")
	skip := []string{"--skip", "* /tow-orders", "--skip", "* /tow-orders/*", "--depth", "quick"}
	try(skip...).check(t, 1, "", "")
	before := knownCases(t, lastRun(t, dir))
	failed := map[string]bool{}
	for id, k := range before {
		failed[id] = k.Verdict == "fail" || k.Verdict == "form"
	}
	o.with(t, "no-allow", "sentence-only")
	again := try("--failed")
	again.check(t, 1, " right now, ", "")
	for _, want := range []string{"Put right\n\n  accepted ", "Still wrong\n\n  missing-header", "no-field-errors", "The run is in .obiter/runs/127.0.0.1-"} {
		if !strings.Contains(again.out, want) {
			t.Errorf("%q is not in\n%s", want, again.out)
		}
	}
	if strings.Contains(again.out, "Newly wrong") {
		t.Errorf("something is newly wrong:\n%s", again.out)
	}
	after := knownCases(t, lastRun(t, dir))
	for id := range o.sent {
		if k, has := before[id]; has && k.Kind != "control" && !failed[id] {
			t.Errorf("%s %s was right, and was sent again", id, k.Operation)
		}
	}
	for id, k := range after {
		was := before[id]
		switch {
		case failed[id] && (!o.sent[id] || !moment(t, k.Response.Sent).After(moment(t, was.Response.Sent))):
			t.Errorf("%s failed, and was not sent again", id)
		case k.Kind != "control" && !failed[id] && k != was:
			t.Errorf("%+v was %+v", k, was)
		}
	}
	if len(after) != len(before) {
		t.Errorf("%d cases are known, and were %d", len(after), len(before))
	}
	judgedAgain(t, dir) // it is a run like any
	// A named case, by its beginning.
	var right string
	for _, id := range slices.Sorted(maps.Keys(after)) {
		if after[id].Operation == "PATCH /vessels/{vessel_id}" && after[id].Kind == "flawed" {
			right = id
		}
	}
	o.with(t, "no-allow", "sentence-only", "status-as-text")
	try("--case", right[:8]).check(t, 1, "1 newly wrong", "")
	for id := range o.sent {
		if after[id].Kind == "flawed" && id != right {
			t.Errorf("%s was sent, too", id)
		}
	}
	// The description changes: a field goes, a rule comes.
	text, err := os.ReadFile(filepath.Join(dir, "openapi.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	changed := strings.Replace(string(text), "name: {type: string, minLength: 2, maxLength: 80", "name: {type: string, minLength: 2, maxLength: 80, pattern: '^[A-Z]'", 1)
	changed = strings.Replace(changed, "  /berths:", "  /moorings:", 1)
	put(t, dir, "openapi.yaml", changed)
	o.with(t)
	again = try(append([]string{"--failed"}, skip[:4]...)...)
	if !strings.Contains(again.errors, "the plan has ") || !strings.Contains(again.errors, "that the last run had not; they are sent, too") {
		t.Errorf("%s%s", again.out, again.errors)
	}
	o.with(t)
	mended := try("--failed")
	if after := knownCases(t, lastRun(t, dir)); mended.status > 1 || len(after) == 0 {
		t.Errorf("%s%s", mended.out, mended.errors)
	}
	for want, args := range map[string][]string{
		"--budget does not go with --failed or --case": {"--failed", "--budget", "3"},
		"--shard does not go with --failed":            {"--failed", "--shard", "1/2"},
		`the plan has no case "0000000000"`:            {"--case", "0000000000"},
		"the last run was of depth quick with seed 0":  {"--failed", "--depth", "deep"},
		"the last run is of openapi.yaml, and this":    {"other.yaml", "--failed"},
		`"` + right[:1] + `"`:                          {"--case", right[:1]},
	} {
		put(t, dir, "other.yaml", string(text))
		try(args...).check(t, 2, "", want)
	}
	whole, err := os.ReadFile(lastRun(t, dir))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, within(t, dir, lastRun(t, dir)), string(whole[:len(whole)/2]))
	if o := try("--failed"); !strings.Contains(o.errors, "warning: the last run: the run was interrupted, so this is not all; only what it answered is known") {
		t.Errorf("%s%s", o.out, o.errors)
	}
}

// moment is a time as a run file has it.
func moment(t *testing.T, text string) time.Time {
	t.Helper()
	at, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		t.Fatal(err)
	}
	return at
}
