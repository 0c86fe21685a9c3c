package hostile

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Owners is a service in which others keep records, in ten collections that each make it easy to
// harm them: ids that odd spellings are folded onto, chosen names that a creation overwrites, ids
// in envelopes, a creation that answers with its parent or with a record that is there, lists that
// come in pages or cannot be read, creations that are answered without a body, actions that answer
// 201, settings, and changes of everything at once. It is safe for concurrent use.
type Owners struct {
	// Heard is told each request before it is answered; may be nil.
	Heard func(n int, r *http.Request)

	mu      sync.Mutex
	records map[string]map[string]any // by address
	made    []string                  // addresses of records that were created, in their order
	others  map[string]string         // what others have, as text
	state   map[string]any            // settings
	before  string
	next    int
	heard   int
}

// OwnersDescription describes it.
const OwnersDescription = `
openapi: 3.1.0
info: {title: Quay office, version: '1'}
paths:
  /vessels:
    get: &list {responses: {'200': {description: all}}}
    post: &create {requestBody: &body {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/Record'}}}}, responses: {'201': {description: created}, 4XX: {description: bad}}}
  /vessels/{vessel_id}:
    parameters: &vessel [{name: vessel_id, in: path, required: true, schema: {type: integer, minimum: 1}, example: 1}]
    get: &read {responses: {'200': {description: one}, 4XX: {description: bad}}}
    put: &change {requestBody: *body, responses: {'200': {description: changed}, 4XX: {description: bad}}}
    patch: *change
    delete: &remove {responses: {'204': {description: gone}, 4XX: {description: bad}}}
  /vessels/{vessel_id}/defects:
    parameters: *vessel
    get: *list
    post: *create
  /defects/{defect_id}:
    parameters: [{name: defect_id, in: path, required: true, schema: {type: integer, minimum: 1}, example: 1}]
    get: *read
    patch: *change
    delete: *remove
  /vessels/{vessel_id}/clear:
    parameters: *vessel
    post: {responses: {'201': {description: cleared}}}
  /berths:
    get: *list
    post: {requestBody: &berth {required: true, content: {application/json: {schema: {type: object, required: [code], properties: {code: {type: string, minLength: 2, maxLength: 30, examples: [C12]}, name: {type: string, minLength: 2, maxLength: 60, examples: [Long pier]}}}}}}, responses: {'201': {description: created}, 4XX: {description: bad}}}
  /berths/{code}:
    parameters: [{name: code, in: path, required: true, schema: {type: string, minLength: 2, maxLength: 30}, example: C1}]
    get: *read
    put: {requestBody: *berth, responses: {'200': {description: changed}, 4XX: {description: bad}}}
    delete: *remove
  /berths/import:
    post: {requestBody: *berth, responses: {'201': {description: imported}}}
  /permits:
    get: *list
    post: *create
    patch: *change
  /permits/{id}:
    parameters: &id [{name: id, in: path, required: true, schema: {type: integer, minimum: 1}, example: 1}]
    get: *read
    put: *change
    delete: *remove
  /vessels/{vessel_id}/logs:
    parameters: *vessel
    get: *list
    post: *create
  /vessels/{vessel_id}/logs/{log}:
    parameters: [{name: vessel_id, in: path, required: true, schema: {type: integer, minimum: 1}, example: 1}, {name: log, in: path, required: true, schema: {type: integer, minimum: 1}, example: 1}]
    get: *read
    delete: *remove
  /pilots:
    get: *list
    post: *create
  /pilots/{id}:
    parameters: *id
    get: *read
    put: *change
    delete: *remove
  /notices:
    get: *list
    post: {requestBody: *body, responses: {'200': {description: created}, 4XX: {description: bad}}}
    delete: *remove
  /notices/{id}:
    parameters: *id
    get: *read
    patch: *change
    delete: *remove
  /tugs:
    post: *create
  /tugs/{id}:
    parameters: *id
    put: *change
    delete: *remove
  /cranes:
    get: *list
    post: *create
  /cranes/{key}:
    parameters: [{name: key, in: path, required: true, schema: {type: string}, example: cr-1}]
    get: *read
    delete: *remove
  /settings:
    get: {responses: {'200': {description: one, content: {application/json: {schema: {type: object, properties: {open: {type: boolean}}}}}}}}
    put: {requestBody: {required: true, content: {application/json: {schema: {type: object, required: [open], properties: {open: {type: boolean}}}}}}, responses: {'200': {description: changed}}}
  /maintenance:
    post: {requestBody: {required: true, content: {application/json: {schema: {type: object, required: [open], properties: {open: {type: boolean}}}}}}, responses: {'204': {description: switched}}}
components:
  schemas:
    Record: {type: object, required: [name], properties: {name: {type: string, minLength: 2, maxLength: 60, examples: [Aurora]}, note: {type: string, maxLength: 200, examples: [keep clear of the fairway]}, tons: {type: integer, minimum: 1, maximum: 9000, examples: [80]}}}
`

// NewOwners is such a service, with what others keep.
func NewOwners() *Owners {
	o := &Owners{records: map[string]map[string]any{}, others: map[string]string{}, state: map[string]any{"open": true}, next: 40}
	for n := 1; n <= 12; n++ {
		for _, at := range []string{"/vessels/%d", "/defects/%d", "/berths/C%d", "/permits/%d", "/vessels/1/logs/%d", "/pilots/%d", "/notices/%d", "/tugs/%d", "/cranes/cr-%d"} {
			o.records[fmt.Sprintf(at, n)] = map[string]any{"name": fmt.Sprint("of others ", n), "note": "theirs", "tons": float64(n)}
		}
	}
	for _, code := range []string{"aa", "ab", "ballast"} {
		o.records["/berths/"+code] = map[string]any{"name": "of others", "code": code}
	}
	for at, record := range o.records {
		o.others[at] = text(record)
	}
	o.before = text(o.state)
	return o
}

func text(v any) string {
	b, _ := json.Marshal(v)
	return string(b)
}

// Harmed are the addresses of what others have that is not what it was.
func (o *Owners) Harmed() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	var out []string
	for at, was := range o.others {
		if text(o.records[at]) != was {
			out = append(out, at)
		}
	}
	if text(o.state) != o.before {
		out = append(out, "/settings")
	}
	slices.Sort(out)
	return out
}

// Left are the addresses of records that are there and that others did not have.
func (o *Owners) Left() []string {
	o.mu.Lock()
	defer o.mu.Unlock()
	var out []string
	for at := range o.records {
		if _, theirs := o.others[at]; !theirs {
			out = append(out, at)
		}
	}
	slices.Sort(out)
	return out
}

var notDeleted = regexp.MustCompile(`^not deleted: (\d+) records? of ((?:POST|PUT) [^ ,]+)`)

// Accounted says what is left and not told in the lines of a run, or told and not left.
func (o *Owners) Accounted(told []string) error { return accounted(o.Left(), told) }

// accounted holds that of each collection as many records are told as are left, but for those that
// perhaps were created.
func accounted(addresses, told []string) error {
	listed, perhaps := map[string]int{}, map[string]bool{}
	for _, line := range told {
		if m := notDeleted.FindStringSubmatch(line); m != nil {
			n, _ := strconv.Atoi(m[1])
			listed[collectionOf(m[2])] += n
		}
		if operation, is := strings.CutPrefix(line, "perhaps created: "); is {
			_, operation, _ = strings.Cut(operation, " of ")
			operation, _, _ = strings.Cut(operation, ",")
			perhaps[collectionOf(operation)] = true
		}
	}
	n := map[string]int{}
	for _, at := range addresses {
		segments := strings.Split(at, "/")
		n[segments[len(segments)-2]]++
	}
	for name, left := range n {
		if listed[name] != left && !(perhaps[name] && listed[name] < left) {
			return fmt.Errorf("of %s %d are left, and %d told", name, left, listed[name])
		}
	}
	for name, told := range listed {
		if n[name] < told {
			return fmt.Errorf("of %s %d are left, and %d told", name, n[name], told)
		}
	}
	return nil
}

// collectionOf is the last segment of the path that an operation creates records below.
func collectionOf(operation string) string {
	if strings.HasSuffix(operation, "}") { // a PUT that creates
		operation = operation[:strings.LastIndexByte(operation, '/')]
	}
	return operation[strings.LastIndexByte(operation, '/')+1:]
}

// folded is an id as lax services read it: blanks, signs and zeros before it do not count, nor
// what follows its digits, nor what is above 32 bits.
func folded(id string) string {
	digits := leading.FindStringSubmatch(id)
	if digits == nil {
		return id
	}
	n, err := strconv.ParseUint(digits[1], 10, 64)
	if err != nil {
		return id
	}
	return strconv.FormatUint(n&0xffffffff, 10)
}

var leading = regexp.MustCompile(`^[ +]*0*([0-9]+)`)

// answers are ways to answer a request: with JSON, and with a problem that may name a field.
func answers(w http.ResponseWriter) (say func(status int, v any), refuse func(status int, pointer string)) {
	say = func(status int, v any) {
		w.Header().Set("Content-Type", map[bool]string{true: "application/problem+json", false: "application/json"}[status >= 400])
		w.WriteHeader(status)
		if v != nil {
			_ = json.NewEncoder(w).Encode(v)
		}
	}
	refuse = func(status int, pointer string) {
		doc := map[string]any{"type": "about:blank", "title": http.StatusText(status), "status": status}
		if pointer != "" {
			doc["errors"] = []any{map[string]any{"pointer": pointer, "detail": "is not right"}}
		}
		say(status, doc)
	}
	return say, refuse
}

// ServeHTTP answers a request.
func (o *Owners) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	sent, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	o.mu.Lock()
	defer o.mu.Unlock()
	o.heard++
	if o.Heard != nil {
		o.Heard(o.heard, r)
	}
	say, refuse := answers(w)
	segments := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	last := segments[len(segments)-1]
	collection := slices.Contains([]string{"vessels", "defects", "berths", "permits", "logs", "pilots", "notices", "tugs", "cranes"}, last)
	at := r.URL.Path
	if !collection && len(segments) > 1 {
		if kind := segments[len(segments)-2]; kind != "berths" && kind != "cranes" {
			at = "/" + strings.Join(segments[:len(segments)-1], "/") + "/" + folded(last)
		} else {
			at = strings.ToLower(strings.TrimSpace(at))
			if o.records[at] == nil {
				at = strings.TrimSpace(r.URL.Path)
			}
		}
	}
	if len(segments) > 2 && segments[0] == "vessels" {
		segments[1] = folded(segments[1])
	}
	var body map[string]any
	if r.Method == "POST" || r.Method == "PUT" || r.Method == "PATCH" {
		if err := json.Unmarshal(sent, &body); err != nil && last != "clear" {
			refuse(map[bool]int{true: 422, false: 400}[json.Valid(sent)], "")
			return
		}
	}
	switch {
	case last == "settings" || last == "maintenance":
		if r.Method != "GET" {
			o.state = body
		}
		say(200, o.state)
		return
	case last == "clear" && r.Method == "POST":
		delete(o.records, "/vessels/"+segments[1])
		o.next++
		say(201, map[string]any{"id": o.next, "name": body["name"]})
		return
	case last == "import" && r.Method == "POST":
		for at := range o.records {
			if strings.HasPrefix(at, "/berths/") {
				delete(o.records, at)
			}
		}
		say(201, body)
		return
	case collection && r.Method == "GET":
		o.list(say, r, strings.Join(segments, "/"), last)
		return
	case collection && r.Method == "POST":
	case collection && (r.Method == "PATCH" && last == "permits" || r.Method == "DELETE" && last == "notices"):
		for at, record := range o.records {
			if strings.HasPrefix(at, "/"+last+"/") {
				if record["name"] = "changed by all"; r.Method == "DELETE" {
					delete(o.records, at)
				}
			}
		}
		say(200, map[string]any{})
		return
	case collection, len(segments) < 2:
		refuse(405, "")
		return
	case o.records[at] == nil:
		refuse(404, "")
		return
	}
	if r.Method == "GET" {
		shown := maps.Clone(o.records[at])
		shown["id"] = last
		if segments[0] == "permits" {
			say(200, map[string]any{"data": shown})
		} else {
			say(200, shown)
		}
		return
	}
	if r.Method == "DELETE" {
		delete(o.records, at)
		w.WriteHeader(204)
		return
	}
	if why := wrong(body, last == "berths" || segments[0] == "berths", r.Method == "PATCH"); why != "" {
		refuse(422, why)
		return
	}
	if !collection {
		record := maps.Clone(o.records[at])
		maps.Copy(record, body)
		o.records[at] = record
		say(200, record)
		return
	}
	o.create(w, say, segments, body)
}

// wrong is the pointer of what is wrong with a record.
func wrong(body map[string]any, berth, part bool) string {
	limits := map[string]int{"name": 60, "note": 200}
	if berth {
		limits = map[string]int{"name": 60, "code": 30}
		if _, has := body["code"]; !has && !part {
			return "#/code"
		}
	} else if _, has := body["name"]; !has && !part {
		return "#/name"
	}
	for name, most := range limits {
		v, has := body[name]
		s, is := v.(string)
		if has && (!is || name != "note" && len([]rune(s)) < 2 || len([]rune(s)) > most) {
			return "#/" + name
		}
	}
	if v, has := body["tons"]; has && !berth {
		if n, is := v.(float64); !is || n < 1 || n > 9000 || n != float64(int(n)) {
			return "#/tons"
		}
	}
	return ""
}

// create creates a record, and answers in the way of its collection.
func (o *Owners) create(w http.ResponseWriter, say func(int, any), segments []string, body map[string]any) {
	last := segments[len(segments)-1]
	o.next++
	id := any(o.next)
	at := "/" + strings.Join(segments, "/") + "/" + fmt.Sprint(o.next)
	switch last {
	case "defects":
		at = fmt.Sprint("/defects/", o.next)
	case "berths":
		id = body["code"]
		at = fmt.Sprint("/berths/", id)
	case "cranes":
		id = fmt.Sprint("cr-", o.next)
		at = fmt.Sprint("/cranes/", id)
	case "pilots":
		if tons, _ := body["tons"].(float64); int(tons)%3 == 0 { // there is one like it already
			say(201, map[string]any{"id": 1 + o.next%12, "name": "of others"})
			return
		}
	}
	o.records[at] = body
	o.made = append(o.made, at)
	shown := maps.Clone(body)
	shown["id"] = id
	switch last {
	case "defects":
		w.Header().Set("Location", at)
		say(201, body)
	case "permits":
		say(201, map[string]any{"data": shown})
	case "logs": // answers with its parent
		say(201, map[string]any{"id": segments[1], "name": "of others 1"})
	case "notices":
		say(200, nil)
	case "tugs":
		say(201, map[string]any{"id": id})
	default:
		say(201, shown)
	}
}

// list answers with the records of a collection: of permits in an envelope, of notices in pages of
// five, of logs not at all.
func (o *Owners) list(say func(int, any), r *http.Request, path, last string) {
	var list []any
	prefix := "/" + path + "/"
	if last == "defects" {
		prefix = "/defects/"
	}
	for at, record := range o.records {
		if id, is := strings.CutPrefix(at, prefix); is && !strings.Contains(id, "/") {
			shown := maps.Clone(record)
			shown["id"] = id
			if n, err := strconv.Atoi(id); err == nil {
				shown["id"] = n
			}
			list = append(list, shown)
		}
	}
	slices.SortFunc(list, func(a, b any) int { return strings.Compare(text(a), text(b)) })
	switch last {
	case "permits":
		say(200, map[string]any{"data": list})
	case "notices":
		say(200, map[string]any{"items": list[:min(len(list), 5)], "total": len(list), "next": "/notices?page=2"})
	case "logs":
		say(500, map[string]any{"status": 500, "title": "Internal Server Error"})
	case "tugs":
		say(405, map[string]any{"status": 405, "title": "Method Not Allowed"})
	default:
		if list == nil {
			list = []any{}
		}
		say(200, list)
	}
}
