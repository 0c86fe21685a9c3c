package run_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/execute/run"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/harbour"
	"obiter/internal/input/oad"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
	"obiter/internal/target/send"
)

const buoys = `
openapi: 3.1.0
info: {title: Buoys, version: '1'}
paths:
  /buoys/{id}:
    parameters: [{name: id, in: path, required: true, schema: {type: string}, example: b1}]
    get: {responses: {'200': {description: The buoy.}, 4XX: {description: Not.}}}
    put:
      requestBody:
        required: true
        content:
          application/json:
            schema:
              type: object
              additionalProperties: false
              required: [colour]
              properties: {colour: {type: string, enum: [red, green]}, depth_m: {type: integer, minimum: 1, maximum: 90}}
      responses: {'200': {description: The buoy.}, 4XX: {description: Not.}}
`

// buoy is a service with one record. Its parts can be made to misbehave.
type buoy struct {
	mu      sync.Mutex
	record  map[string]any
	reads   int
	writes  int
	early   bool // writes before it checks
	tidal   bool // demands all fields, and a tide too, which it checks last: what is early comes after the colour is checked
	counts  bool // each reading shows another number of readings
	drifts  bool // the same, but for the first few readings
	lenient bool // takes any depth
	wears   bool // refuses everything after some writes
	loose   bool // takes any media type, and keeps the colour then
}

func (b *buoy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
	reject := func(status int, kind, pointer string) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.Header().Set("Allow", "GET, PUT")
		w.WriteHeader(status)
		doc := map[string]any{"type": "https://harbour.example/" + kind, "title": kind, "status": status}
		if pointer != "" {
			doc["errors"] = []any{map[string]any{"pointer": pointer, "detail": "is not right"}}
		}
		_ = json.NewEncoder(w).Encode(doc)
	}
	show := func() {
		out := map[string]any{}
		for k, v := range b.record {
			out[k] = v
		}
		if b.counts || b.drifts {
			out["reads"] = b.reads
		}
		if b.drifts {
			out["reads"] = max(b.reads, 6)
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(out)
	}
	body, _ := io.ReadAll(r.Body)
	var v map[string]any
	switch {
	case r.URL.Path != "/buoys/b1":
		reject(404, "not-found", "")
	case r.Method == "GET":
		b.reads++
		show()
	case r.Method != "PUT":
		reject(405, "method", "")
	case !b.loose && r.Header.Get("Content-Type") != "application/json" || !b.loose && r.Header.Get("Content-Encoding") != "":
		reject(415, "media-type", "")
	case !json.Valid(body):
		reject(400, "syntax", "")
	case json.Unmarshal(body, &v) != nil:
		reject(422, "fields", "#")
	default:
		b.put(v, r.Header.Get("Content-Type") != "application/json" || r.Header.Get("Content-Encoding") != "", reject, show)
	}
}

func (b *buoy) put(v map[string]any, other bool, reject func(int, string, string), show func()) {
	if b.writes++; b.wears && b.writes > 10 {
		reject(422, "worn", "")
		return
	}
	if d, ok := v["depth_m"].(float64); ok && b.early && !(b.tidal && wrongColour(v)) {
		b.record["depth_m"] = d
	}
	depth, deep := v["depth_m"]
	number, isNumber := depth.(float64)
	var wrong []string
	for name := range v {
		if name != "colour" && name != "depth_m" && !(b.tidal && name == "tide") {
			wrong = append(wrong, "#/"+name)
		}
	}
	if wrongColour(v) {
		wrong = append(wrong, "#/colour")
	}
	if (deep || b.tidal) && !b.lenient && (!isNumber || number < 1 || number > 90 || number != float64(int(number))) {
		wrong = append(wrong, "#/depth_m")
	}
	if b.tidal && v["tide"] != "ebb" && v["tide"] != "flood" {
		wrong = append(wrong, "#/tide")
	}
	if len(wrong) > 0 {
		reject(422, "fields", wrong[0])
		return
	}
	if b.record = v; other {
		delete(b.record, "depth_m")
	}
	show()
}

func wrongColour(v map[string]any) bool { return v["colour"] != "red" && v["colour"] != "green" }

func tryBuoy(t *testing.T, b *buoy) (*report.Report, int) {
	t.Helper()
	b.record = map[string]any{"colour": "red"}
	description := buoys
	if b.tidal {
		description = strings.NewReplacer("[colour]", "[colour, depth_m, tide]", "maximum: 90}", "maximum: 90}, tide: {type: string, enum: [ebb, flood]}").Replace(buoys)
	}
	return tryService(t, b, description, flaw.Usual), b.reads
}

// tryService runs what a description plans against a service.
func tryService(t *testing.T, service http.Handler, description string, depth flaw.Depth) *report.Report {
	t.Helper()
	server := httptest.NewServer(service)
	defer server.Close()
	doc, err := oad.Read("service.yaml", []byte(description))
	if err != nil {
		t.Fatal(err)
	}
	p, err := plan.New(doc, plan.Options{Base: server.URL, Depth: depth, Spare: []string{"duplicate-member"}}) // which Go's reader takes
	if err != nil {
		t.Fatal(err)
	}
	base, _ := url.Parse(server.URL)
	s, err := send.New(base, send.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	rep, err := run.Do(context.Background(), p, run.Options{Parallel: 4, Send: sending(s)})
	if err != nil {
		t.Fatal(err)
	}
	return rep
}

// TestWhatAResourceShowsBeforeAndAfter runs a service that misbehaves in one
// way at a time; one at a time is all that such a service reports, so that is
// not counted here.
func TestWhatAResourceShowsBeforeAndAfter(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name string
		buoy *buoy
		want string
	}{
		{"sound", &buoy{}, ""},
		{"sound: a number that changes by itself", &buoy{counts: true}, ""},
		{"sound: a number that begins to change by itself", &buoy{drifts: true}, ""},
		{"written before it is checked", &buoy{early: true}, "changed-state"},
		{"written before it is checked, and put right by a valid body of another media type", &buoy{early: true, loose: true}, "accepted changed-state accepted"},
		{"written before it is checked, next to a number that changes", &buoy{early: true, counts: true}, "changed-state"},
		{"sound: with a tide", &buoy{tidal: true}, ""},
		{"written before the tide is checked, of which the flaws put it right", &buoy{early: true, tidal: true}, "changed-state"},
		{"a flawed record that is stored changes the resource, and that is said", &buoy{lenient: true}, "accepted"},
	} {
		t.Run(c.name, func(t *testing.T) {
			rep, reads := tryBuoy(t, c.buoy)
			var codes []string
			for _, e := range rep.Entries() {
				if e.Code != "one-at-a-time" && e.Code != "unstable" {
					codes = append(codes, e.Code)
				}
				if e.Code == "changed-state" && !strings.Contains(e.Examples[0].Message, "depth_m") {
					t.Errorf("the change is not named: %s", e.Examples[0].Message)
				}
			}
			if got := strings.Join(slices.Compact(codes), " "); got != c.want {
				for _, e := range rep.Entries() {
					t.Logf("%s %s", e.Code, e.Examples[0].Message)
				}
				t.Errorf("found %q, want %q", got, c.want)
			}
			if reads < 5 {
				t.Errorf("the resource was read %d times", reads)
			}
		})
	}
}

func TestAControlThatNoLongerStandsIsTold(t *testing.T) {
	t.Parallel()
	rep, _ := tryBuoy(t, &buoy{wears: true})
	found := ""
	for _, e := range rep.Entries() {
		for _, x := range e.Examples {
			if e.Code == "control-rejected" && strings.Contains(x.Message, "was accepted at first") {
				found = fmt.Sprint(e.Operations, x.Message)
			}
		}
	}
	if !strings.HasPrefix(found, "[PUT /buoys/{id}]") {
		t.Errorf("it is not told: %q", found)
	}
}

// TestABusyMachineIsNotAccused: an answer that is slow once is not slow.
func TestABusyMachineIsNotAccused(t *testing.T) {
	t.Parallel()
	office, err := harbour.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(office)
	defer server.Close()
	var times atomic.Int32
	rep, err := changed(t, context.Background(), server.URL, flaw.Quick, func(record.Result) error { return nil }, func(e exchange.Exchange) exchange.Exchange {
		if e.ID != "8ee05503b8" || times.Add(1) > 1 {
			return e
		}
		e.Response.Took = 1200 * time.Millisecond
		return e
	})
	if err != nil || times.Load() < 2 {
		t.Fatalf("%v, sent %d times", err, times.Load())
	}
	for _, e := range rep.Entries() {
		t.Errorf("accused: %s %s", e.Code, e.Examples[0].Message)
	}
}

const keptBuoys = `
openapi: 3.1.0
info: {title: Buoys, version: '1'}
paths:
  /buoys/{id}:
    parameters: [{name: id, in: path, required: true, schema: {type: string}, example: b1}]
    get: {responses: {'200': {description: The buoy.}}}
    put:
      requestBody:
        required: true
        content: {application/json: {schema: {type: object, required: [colour], properties: {colour: {type: string, maxLength: 9, example: red}, laid: {type: string, format: date-time, readOnly: true}}}}}
      responses: {'204': {description: Done.}}
`

// TestWhatIsReadBack: where answers are empty, the resource is read to see whether it
// keeps a member that only the service sets.
func TestWhatIsReadBack(t *testing.T) {
	t.Parallel()
	for keeps, want := range map[bool]bool{true: true, false: false} {
		var mu sync.Mutex
		stored := map[string]any{"colour": "red"}
		service := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			defer mu.Unlock()
			var v map[string]any
			switch {
			case r.Method == "GET":
				w.Header().Set("Content-Type", "application/json")
				_ = json.NewEncoder(w).Encode(stored)
			case r.Method != "PUT" || json.NewDecoder(r.Body).Decode(&v) != nil || v == nil:
				w.WriteHeader(400)
			default:
				if !keeps {
					v["laid"] = "2031-05-04T06:00:00Z"
				}
				stored = v
				w.WriteHeader(204)
			}
		})
		found := false
		for _, e := range tryService(t, service, keptBuoys, flaw.Usual).Entries() {
			if e.Code == "read-only-stored" {
				found = true
				if m := e.Examples[0].Message; !strings.Contains(m, "read afterwards, shows \"2001-02-03") {
					t.Errorf("it says %q", m)
				}
			}
		}
		if found != want {
			t.Errorf("the service keeps it: %v; it is found: %v", keeps, found)
		}
	}
}
