// Package harbour is the demo service: a harbour office with vessels, berth
// bookings, pilot orders and guest sessions, written by hand on net/http. It is
// sound by itself: every rule of its description is kept, every rejection is a
// problem document (RFC 9457) that names the field. Named faults switch single
// mistakes on.
package harbour

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"obiter/internal/core/instance"
)

// Description is the office's OpenAPI document, in YAML.
//
//go:embed openapi.yaml
var Description []byte

// Config is the configuration that goes with it (obiter.yaml): records that are
// made first, and the rules that no schema says.
//
//go:embed obiter.yaml
var Config []byte

// maxBody is the largest request body read, in bytes; maxKept how many records
// of a kind are kept.
const (
	maxBody = 4 << 20
	maxKept = 1000
)

// Office is the service. It is safe for concurrent use.
type Office struct {
	faults map[string]bool
	mu     sync.Mutex
	met    map[string]bool // bodies that the fault moody has rejected
	stores map[string]*store
}

type store struct {
	records map[string]any
	order   []string
	next    int
}

// New makes an office with the named faults, and a vessel and a booking on record.
func New(faults []string) (*Office, error) {
	on, err := checkFaults(faults)
	if err != nil {
		return nil, err
	}
	o := &Office{faults: on, met: map[string]bool{}, stores: map[string]*store{}}
	for _, kind := range []string{"vessels", "berth-bookings", "pilot-orders", "sessions", "tow-orders"} {
		o.stores[kind] = &store{records: map[string]any{}}
	}
	o.keep("vessels", "5e0c3f6a-2b71-4c8d-9a4e-6f1d2c3b4a59", aurora("cargo"))
	o.keep("berth-bookings", "BB-000001", map[string]any{"vessel_id": "5e0c3f6a-2b71-4c8d-9a4e-6f1d2c3b4a59", "berth": "C12", "arrives_at": "2031-05-04T06:00:00Z", "departs_at": "2031-05-06T18:30:00Z",
		"purpose": "Discharging timber", "accepts_dues": true, "crew": []any{map[string]any{"name": "A. Lind", "rank": "master"}}})
	return o, nil
}

// aurora is the vessel on record.
func aurora(kind any) map[string]any {
	return map[string]any{"name": "Aurora", "imo": "IMO9074729", "type": kind, "length_m": json.Number("182.5"), "crew_capacity": json.Number("24"), "flag": "NO"}
}

func (o *Office) keep(kind, id string, record any) {
	o.mu.Lock()
	defer o.mu.Unlock()
	s := o.stores[kind]
	if _, known := s.records[id]; !known {
		s.order = append(s.order, id)
	}
	s.records[id] = record
	if len(s.order) > maxKept { // the first, which the description's examples name, stay
		delete(s.records, s.order[1])
		s.order = slices.Delete(s.order, 1, 2)
	}
}

func (o *Office) newID(kind string) string {
	o.mu.Lock()
	defer o.mu.Unlock()
	s := o.stores[kind]
	s.next++
	switch kind {
	case "vessels":
		return fmt.Sprintf("7a000000-0000-4000-8000-%012x", s.next)
	case "berth-bookings":
		return fmt.Sprintf("BB-%06d", 1+s.next)
	}
	return fmt.Sprintf("%s-%d", kind[:1], s.next)
}

func (o *Office) find(kind, id string) (any, bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	r, ok := o.stores[kind].records[id]
	return r, ok
}

// endpoint is what a method on a path does.
type endpoint struct {
	operation string
	media     string
	rule      rule // of the body; nil: it takes none
	run       func(o *Office, w http.ResponseWriter, r *http.Request, kind, id string, body map[string]any)
	guarded   bool // needs the token of a session
}

// routes by path: a collection, or one record of it.
var routes = map[string]map[string]endpoint{
	"/vessels": {
		"GET":  {operation: listVessels, run: (*Office).list},
		"POST": {createVessel, "application/json", vessel, (*Office).create, false},
	},
	"/vessels/*": {
		"GET":    {run: (*Office).read},
		"PUT":    {replaceVessel, "application/json", vessel, (*Office).replace, false},
		"PATCH":  {changeVessel, "application/merge-patch+json", vesselChange, (*Office).change, false},
		"DELETE": {run: (*Office).remove},
	},
	"/berths":           {"GET": {run: (*Office).berths}},
	"/berth-bookings":   {"POST": {bookBerth, "application/json", booking, (*Office).create, false}},
	"/berth-bookings/*": {"PUT": {replaceBooking, "application/json", booking, (*Office).replace, false}, "DELETE": {run: (*Office).remove}},
	"/pilot-orders/*":   {"DELETE": {run: (*Office).remove}},
	"/sessions/*":       {"DELETE": {run: (*Office).remove}},
	"/tow-orders":       {"POST": {orderTow, "application/json", towOrder, (*Office).create, true}},
	"/tow-orders/*": {
		"GET":    {run: (*Office).read, guarded: true},
		"PUT":    {replaceTow, "application/json", towOrder, (*Office).replace, true},
		"DELETE": {run: (*Office).remove, guarded: true},
	},
	"/pilot-orders": {"POST": {orderPilot, "application/json", pilotOrder, (*Office).create, false}},
	"/sessions":     {"POST": {openSession, "application/json", session, (*Office).create, false}},
}

// ServeHTTP routes a request, reads and checks its body, and carries it out.
func (o *Office) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	kind, id, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	route := "/" + kind
	if id != "" {
		route += "/*"
	}
	methods, ok := routes[route]
	if !ok {
		problem{status: 404, title: "Not found", detail: "There is nothing at this address."}.write(w)
		return
	}
	method := r.Method
	if method == "HEAD" {
		method = "GET"
	}
	e, ok := methods[method]
	if !ok {
		o.notAllowed(w, route, methods)
		return
	}
	if e.guarded && !o.admitted(r, e) {
		o.challenge(w, e)
		return
	}
	if id != "" {
		if _, ok := o.find(kind, id); !ok {
			problem{status: 404, title: "Not found", detail: "There is no such record."}.write(w)
			return
		}
	}
	var body map[string]any
	if e.rule != nil {
		if body, ok = o.body(w, r, e, kind, id); !ok {
			return
		}
	}
	e.run(o, w, r, kind, id, body)
}

func (o *Office) notAllowed(w http.ResponseWriter, route string, methods map[string]endpoint) {
	var allowed []string
	for m := range methods {
		allowed = append(allowed, m)
	}
	slices.Sort(allowed)
	if !o.faults["no-allow"] || route != "/sessions" {
		w.Header().Set("Allow", strings.Join(allowed, ", "))
	}
	problem{status: 405, title: "Method not allowed", detail: "Allowed here: " + strings.Join(allowed, ", ")}.write(w)
}

// has reports whether a fault is on and this is its operation.
func (o *Office) has(e endpoint, fault string) bool {
	if !o.faults[fault] {
		return false
	}
	return slices.ContainsFunc(Faults, func(f Fault) bool { return f.Name == fault && f.Operation == e.operation })
}

// body reads and checks a request's body. Where it is not right, the rejection
// is written and false comes back.
func (o *Office) body(w http.ResponseWriter, r *http.Request, e endpoint, kind, id string) (map[string]any, bool) {
	media, _, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if (err != nil || media != e.media) && !o.has(e, "media-type-ignored") {
		problem{status: 415, title: "Unsupported media type", detail: "Send " + e.media + "."}.write(w)
		return nil, false
	}
	if coding := r.Header.Get("Content-Encoding"); coding != "" && !strings.EqualFold(coding, "identity") {
		w.Header().Set("Accept-Encoding", "identity")
		problem{status: 415, title: "Unsupported media type", detail: "Send the body without a content coding."}.write(w)
		return nil, false
	}
	data, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err != nil {
		problem{status: 413, title: "Too large", detail: "The body is too large."}.write(w)
		return nil, false
	}
	value, err := instance.Decode(data)
	if err != nil || !utf8.Valid(data) || repeats(json.NewDecoder(bytes.NewReader(data))) {
		o.malformed(w, e, len(data) == 0)
		return nil, false
	}
	if o.has(e, "no-pilot") || o.has(e, "one-booking") && o.booked(kind) {
		problem{status: 409, kind: "conflict", title: "Conflict", detail: "Nothing can be done at this time."}.write(w)
		return nil, false
	}
	object, errors := o.check(e, kind, id, value)
	if len(errors) > 0 {
		o.reject(w, r, e, object, errors)
		return nil, false
	}
	return object, true
}

// check is a body and what is wrong with it.
func (o *Office) check(e endpoint, kind, id string, value any) (map[string]any, []fieldError) {
	c := &checker{bytes: o.has(e, "bytes-counted"), coerce: o.has(e, "numbers-coerced"), below: o.has(e, "maximum-exclusive"), untrimmed: o.has(e, "blanks-counted")}
	e.rule(c, "", value)
	object, _ := value.(map[string]any)
	if o.has(e, "half-written") && object["type"] != nil && len(c.errors) > 0 {
		o.keep(kind, id, aurora(object["type"]))
	}
	if o.has(e, "stored-first") && len(c.errors) > 0 && object["name"] != nil {
		o.keep(kind, o.newID(kind), object)
	}
	if e.guarded && object != nil {
		o.towRules(c, e, id, object)
	}
	return object, o.overlook(e, c.errors, object)
}

// booked reports whether there is more than one record.
func (o *Office) booked(kind string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	return len(o.stores[kind].records) > 1
}

// repeats reports whether an object in a JSON text names a member twice.
func repeats(d *json.Decoder) bool {
	t, err := d.Token()
	if err != nil {
		return false
	}
	names := map[any]bool{}
	for (t == json.Delim('{') || t == json.Delim('[')) && d.More() {
		if t == json.Delim('{') {
			name, err := d.Token()
			if err != nil || names[name] {
				return err == nil
			}
			names[name] = true
		}
		if repeats(d) {
			return true
		}
	}
	if t == json.Delim('{') || t == json.Delim('[') {
		_, _ = d.Token()
	}
	return false
}

// overlook takes out the errors that a fault does not see, and adds those it invents.
func (o *Office) overlook(e endpoint, errors []fieldError, object map[string]any) []fieldError {
	drop := func(kind string) {
		errors = slices.DeleteFunc(errors, func(f fieldError) bool { return f.kind == kind })
	}
	if o.has(e, "update-unchecked") && object != nil {
		return nil
	}
	if o.has(e, "unknown-kept") {
		drop("unknown")
	}
	if o.has(e, "read-only-kept") {
		errors = slices.DeleteFunc(errors, func(f fieldError) bool { return f.pointer == "/registered_at" })
	}
	if at, _ := object["requested_for"].(string); o.has(e, "fractions-refused") && len(errors) == 0 && strings.Contains(at, ".") {
		errors = append(errors, fieldError{"/requested_for", "must be in whole seconds", "format"})
	}
	if o.has(e, "duplicates-kept") {
		drop("unique")
	}
	if o.has(e, "phrases-unchecked") {
		errors = slices.DeleteFunc(errors, func(f fieldError) bool { return f.detail == "must contain a digit" })
	}
	if o.has(e, "optional-demanded") && len(errors) == 0 && object["note"] == nil {
		errors = append(errors, fieldError{"/note", "is required", "required"})
	}
	return errors
}

func (o *Office) malformed(w http.ResponseWriter, e endpoint, empty bool) {
	switch {
	case o.has(e, "decoder-layout") && !empty:
		answer(w, 400, "application/json", []byte(`{"message":"invalid JSON"}`))
	case empty:
		problem{status: 400, title: "Body missing", detail: "This operation needs a body."}.write(w)
	case o.has(e, "malformed-fails"):
		problem{status: 500, title: "Internal error", detail: "Something went wrong."}.write(w)
	case o.has(e, "hangs-up"):
		panic(http.ErrAbortHandler)
	case o.has(e, "syntax-as-422"):
		problem{status: 422, title: "Malformed JSON", detail: "The body is not well-formed JSON."}.write(w)
	default:
		problem{status: 400, title: "Malformed JSON", detail: "The body is not well-formed JSON."}.write(w)
	}
}
