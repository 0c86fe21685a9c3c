package trial_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"obiter/internal/core/secret"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/harbour"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/results/report"
	"obiter/internal/target/send"
)

// office is a harbour with its configuration, and what a trial of it tells.
type office struct {
	*harbour.Office
	mu     sync.Mutex
	heard  int
	every  func(n int, w http.ResponseWriter, r *http.Request) bool // answers a request; false: the office does
	opt    trial.Options
	events trial.Events
	told   []string
}

func (o *office) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	o.mu.Lock()
	o.heard++
	n := o.heard
	o.mu.Unlock()
	if o.every == nil || !o.every(n, w, r) {
		o.Office.ServeHTTP(w, r)
	}
}

// open serves a harbour office. The configuration is its own with a text replaced.
func open(t *testing.T, faults []string, old, fresh string) *office {
	t.Helper()
	inner, err := harbour.New(faults)
	if err != nil {
		t.Fatal(err)
	}
	o := &office{Office: inner}
	server := httptest.NewServer(o)
	t.Cleanup(server.Close)
	doc, err := oad.Read("openapi.yaml", harbour.Description)
	if err != nil {
		t.Fatal(err)
	}
	text := string(harbour.Config)
	if !strings.Contains(text, old) {
		t.Fatalf("the configuration has no %q", old)
	}
	conf, err := sources.Read("obiter.yaml", []byte(strings.Replace(text, old, fresh, 1)), os.LookupEnv)
	if err != nil {
		t.Fatal(err)
	}
	base, err := url.Parse(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	o.opt = trial.Options{Config: conf, Document: doc, Plan: plan.Options{Base: server.URL, Depth: flaw.Quick, Selection: oad.Selection{Only: []string{"/sessions", "* /tow-orders/**"}}}, Base: base,
		Send: send.Options{RunID: "test"}, Parallel: 4, Secrets: &secret.Set{}}
	tell := func(format string, args ...any) { o.told = append(o.told, fmt.Sprintf(format, args...)) }
	o.events = trial.Events{
		Begun:   func(p *plan.Plan) { tell("begun %d", p.Len()) },
		Warning: func(text string) { tell("warning %s", text) },
		Finished: func(op *plan.Operation, l *report.Line) {
			tell("finished %s %d %s", l.Operation, l.Failed, op.SkipReason)
		},
		Remains: func(text string) { tell("left %s", text) },
	}
	return o
}

var kinds = []string{"vessels", "berth-bookings", "pilot-orders", "sessions", "tow-orders"}

func (o *office) records() (out []int) {
	for _, k := range kinds {
		out = append(out, o.Records(k))
	}
	return out
}

func TestATrialTellsWhatHappensAndLeavesNothing(t *testing.T) {
	t.Parallel()
	o := open(t, nil, "each: operation", "each: case")
	before := o.records()
	var file bytes.Buffer
	o.opt.Copy = &file
	done := 0
	o.events.Progress = func(n int) { done = n }
	out, err := trial.Run(context.Background(), o.opt, o.events)
	if err != nil || out.Left != 0 || len(out.Failed) > 0 || out.Report.Errors() > 0 || !out.Report.Proven() {
		t.Fatalf("%v, %+v, %q", err, out, o.told)
	}
	if want := []string{"begun 4", "finished POST /sessions 0 ", "finished GET /tow-orders/{tow_id} 0 ", "finished PUT /tow-orders/{tow_id} 0 ", "finished DELETE /tow-orders/{tow_id} 0 "}; !slices.Equal(o.told, want) {
		t.Errorf("told was %q, want %q", o.told, want)
	}
	if after := o.records(); !slices.Equal(after, before) {
		t.Errorf("records of %v: %v, before %v", kinds, after, before)
	}
	if n := out.Report.Totals().Cases; n != done || strings.Count(file.String(), `{"type":"case"`) != n {
		t.Errorf("%d cases, %d told, %d in the file", n, done, strings.Count(file.String(), `{"type":"case"`))
	}
}

// TestTheFlawedRecordIsRead: where each case has a record of its own, it is that one
// which a rejected request may have changed.
func TestTheFlawedRecordIsRead(t *testing.T) {
	t.Parallel()
	for _, faults := range [][]string{nil, {"half-written"}} {
		o := open(t, faults, "undo: DELETE /vessels/{vessel_id}", "undo: DELETE /vessels/{vessel_id}\n    each: case")
		o.opt.Plan.Only = []string{"PATCH /vessels/*"}
		before := o.records()
		out, err := trial.Run(context.Background(), o.opt, o.events)
		if err != nil || !out.Report.Proven() {
			t.Fatalf("%v, %q", err, o.told)
		}
		found := []string{}
		for _, e := range out.Report.Entries() {
			found = append(found, e.Code)
		}
		want := []string{}
		if faults != nil {
			want = append(want, "changed-state")
		}
		if !slices.Equal(found, want) {
			t.Errorf("with %q: found %q, want %q", faults, found, want)
		}
		if after := o.records(); !slices.Equal(after, before) {
			t.Errorf("records of %v: %v, before %v; told is %q", kinds, after, before, o.told)
		}
	}
}

// TestAFixtureThatFails leaves out what needs it; where all operations do, there
// is nothing to go on with.
func TestAFixtureThatFails(t *testing.T) {
	t.Parallel()
	o := open(t, nil, "send: POST /tow-orders\n    body: { vessel_id: \"${vessel_id}\" }", "send: POST /tow-orders\n    body: { vessel_id: \"00000000-0000-4000-8000-000000000000\" }")
	out, err := trial.Run(context.Background(), o.opt, o.events)
	if err != nil || !slices.Contains(out.Failed, "tow order") {
		t.Errorf("%v, %+v", err, out)
	}
	told := strings.Join(o.told, "\n")
	if !strings.Contains(told, "warning obiter.yaml:") || !strings.Contains(told, `it needs the fixture "tow order", which could not be made`) {
		t.Errorf("told was %s", told)
	}
	o = open(t, nil, "send: POST /vessels\n    body: { name: Borealis }", "send: POST /vessels\n    body: { name: Borealis, imo: IMO1 }")
	o.opt.Plan.Only = []string{"PUT /vessels/*"}
	out, err = trial.Run(context.Background(), o.opt, o.events)
	if err == nil || out.Report != nil || !strings.Contains(err.Error(), `the fixture "vessel"`) {
		t.Errorf("%v, %+v", err, out)
	}
}

// TestAnInterruptUndoes: it is told, the file says so, and records are removed.
func TestAnInterruptUndoes(t *testing.T) {
	t.Parallel()
	o := open(t, nil, "each: operation", "each: operation")
	before := o.records()
	ctx, cancel := context.WithCancel(context.Background())
	o.every = func(n int, _ http.ResponseWriter, _ *http.Request) bool {
		if n == 40 {
			cancel()
		}
		return false
	}
	var file bytes.Buffer
	o.opt.Copy = &file
	out, err := trial.Run(ctx, o.opt, o.events)
	if !errors.Is(err, context.Canceled) || out.Report == nil || !strings.Contains(file.String(), `"interrupted":true`) {
		t.Errorf("%v, %+v", err, out)
	}
	if after := o.records(); after[0] != before[0] {
		t.Errorf("records of %v: %v, before %v; %q", kinds, after, before, o.told)
	}
}

func TestWhatCannotBeRemovedIsTold(t *testing.T) {
	t.Parallel()
	o := open(t, nil, "each: operation", "each: operation")
	o.every = func(_ int, w http.ResponseWriter, r *http.Request) bool {
		if r.Method != "DELETE" || !strings.HasPrefix(r.URL.Path, "/vessels/") {
			return false
		}
		w.WriteHeader(http.StatusInternalServerError)
		return true
	}
	out, err := trial.Run(context.Background(), o.opt, o.events)
	if told := strings.Join(o.told, "\n"); err != nil || out.Left != 1 || out.Stuck != 1 || !regexp.MustCompile(`left not deleted: 1 record of POST /vessels \(DELETE /vessels/{vessel_id} answered 500 Internal Server Error\): http://127\.0\.0\.1:\d+/vessels/[^ ]+`).MatchString(told) {
		t.Errorf("%v, %+v: %s", err, out, told)
	}
}

func TestFilesOfARun(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	o := open(t, nil, "each: operation", "each: operation")
	o.opt.Plan.Only = []string{"/sessions"}
	o.opt.Files = []string{filepath.Join(dir, trial.RunFolder, "run.ndjson"), filepath.Join(dir, "kept.ndjson")}
	if _, err := trial.Run(context.Background(), o.opt, o.events); err != nil {
		t.Fatal(err)
	}
	last, err := os.ReadFile(o.opt.Files[0])
	kept, err2 := os.ReadFile(o.opt.Files[1])
	if err != nil || err2 != nil || !bytes.Equal(last, kept) || len(last) == 0 {
		t.Errorf("%v, %v: %d bytes and %d", err, err2, len(last), len(kept))
	}
	if ignored, err := os.ReadFile(filepath.Join(dir, trial.RunFolder, ".gitignore")); string(ignored) != "*\n" {
		t.Errorf("the folder does not ignore itself: %q, %v", ignored, err)
	}
	o.opt.Files = []string{filepath.Join(dir, "nowhere", "run")}
	var file *trial.FileError
	if _, err := trial.Run(context.Background(), o.opt, o.events); !errors.As(err, &file) || file.Name != o.opt.Files[0] {
		t.Errorf("a folder that does not exist: %v", err)
	}
}

func TestNobodyAnswers(t *testing.T) {
	t.Parallel()
	o := open(t, nil, "each: operation", "each: operation")
	o.opt.Base = &url.URL{Scheme: "http", Host: "127.0.0.1:1"}
	var unreachable *send.UnreachableError
	if out, err := trial.Run(context.Background(), o.opt, o.events); !errors.As(err, &unreachable) || out.Report != nil {
		t.Errorf("%v, %+v", err, out)
	}
	o.opt.Base = &url.URL{Scheme: "http", Host: "harbour.example"}
	var host *send.HostError
	if _, err := trial.Run(context.Background(), o.opt, o.events); !errors.As(err, &host) {
		t.Errorf("another host: %v", err)
	}
}

// TestValuesThatAreTaken: where the service says that a value is another record's, each
// request has a new one from then on, without a rule in the configuration.
func TestValuesThatAreTaken(t *testing.T) {
	t.Parallel()
	o := open(t, nil, "      - unique: /reference                 # a new value each time, and once the one that is taken\n", "")
	o.opt.Plan.Only = []string{"* /tow-orders", "* /tow-orders/**"}
	out, err := trial.Run(context.Background(), o.opt, o.events)
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range out.Report.Lines {
		if l.Unproven > 0 || l.Failed > 0 {
			t.Errorf("%+v; %q", l, o.told)
		}
	}
	if len(out.Report.Lines) != 4 || out.Left != 0 {
		t.Errorf("%d operations, %d records left", len(out.Report.Lines), out.Left)
	}
}

// TestCredentialsByOperation: an operation may have credentials of its own, or none.
func TestCredentialsByOperation(t *testing.T) {
	t.Parallel()
	const gates = `{"openapi":"3.1.0","info":{"title":"Gates","version":"1"},"components":{"securitySchemes":{"key":{"type":"http","scheme":"bearer"}}},"security":[{"key":[]}],
		"paths":{"/north":{"get":{}},"/south":{"get":{}},"/east":{"get":{}}}}`
	var mu sync.Mutex
	heard := map[string][]string{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		heard[r.URL.Path] = append(heard[r.URL.Path], r.Header.Get("Authorization"))
		if r.Method != "GET" {
			w.WriteHeader(http.StatusMethodNotAllowed)
		}
	}))
	defer server.Close()
	doc, err := oad.Read("gates.json", []byte(gates))
	if err != nil {
		t.Fatal(err)
	}
	conf, err := sources.Read("obiter.yaml", []byte("credentials: { key: '${COMMON}' }\noperations:\n  GET /south: { credentials: { key: '${OWN}' } }\n  GET /east: { credentials: none }\n"),
		func(name string) (string, bool) { return "the " + strings.ToLower(name) + " key", true })
	if err != nil {
		t.Fatal(err)
	}
	base, _ := url.Parse(server.URL)
	var file bytes.Buffer
	secrets := &secret.Set{}
	if _, err := trial.Run(context.Background(), trial.Options{Config: conf, Document: doc, Plan: plan.Options{Base: server.URL}, Base: base, Send: send.Options{RunID: "test"}, Parallel: 1, Copy: &file, Secrets: secrets}, trial.Events{}); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{"/north": "Bearer the common key", "/south": "Bearer the own key", "/east": ""} {
		if len(heard[path]) == 0 || heard[path][0] != want {
			t.Errorf("%s was sent with %q, want %q first", path, heard[path], want)
		}
	}
	if strings.Contains(file.String(), "own key") || strings.Contains(file.String(), "common key") {
		t.Error("a key is kept")
	}
}
