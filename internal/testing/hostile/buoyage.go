package hostile

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// Buoyage is a service in which what a request changes is not only in its address: the body names
// the record that is written, a query or a list of ids those that are changed or deleted, and all
// are where it does not; a PUT creates what its address names; a title gives a record its address.
// It is safe for concurrent use.
type Buoyage struct {
	// Heard is told each request before it is answered; may be nil.
	Heard func(n int, r *http.Request)

	heard   int
	mu      sync.Mutex
	records map[string]map[string]any // by address
	others  map[string]string         // what others have, as text
	next    int
	wheres  map[string]int // what actions were told to change, with how often
}

// BuoyageDescription describes it.
const BuoyageDescription = `
openapi: 3.1.0
info: {title: Buoyage, version: '1'}
paths:
  /buoys:
    get: &list {responses: {'200': {description: all}}}
    post: {requestBody: &buoy {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/Buoy'}}}}, responses: {'201': {description: created}, 4XX: {description: bad}}}
    delete: {parameters: [{name: ids, in: query, schema: {type: array, minItems: 1, items: {type: integer, minimum: 1}}, style: form, explode: false}], responses: {'204': {description: gone}, 4XX: {description: bad}}}
    patch: {requestBody: {required: true, content: {application/json: {schema: {type: object, required: [colour], properties: {ids: {type: array, items: {type: integer, minimum: 1}}, colour: {type: string, minLength: 3, maxLength: 20, examples: [yellow]}}}}}}, responses: {'200': {description: changed}, 4XX: {description: bad}}}
  /buoys/{id}:
    parameters: [{name: id, in: path, required: true, schema: {type: integer, minimum: 1}, example: 1}]
    get: &read {responses: {'200': {description: one}, 4XX: {description: bad}}}
    delete: &remove {responses: {'204': {description: gone}, 4XX: {description: bad}}}
  /buoys/reset:
    post: {requestBody: {required: true, content: {application/json: {schema: {type: object, required: [colour], properties: {where: {type: object, properties: {colour: {type: string, minLength: 3, examples: [no such colour]}}}, colour: {type: string, minLength: 3, maxLength: 20, examples: [green]}}}}}}, responses: {'200': {description: done}, 4XX: {description: bad}}}
  /marks:
    get: *list
    post: {requestBody: &mark {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/Mark'}}}}, responses: {'201': {description: created}, 4XX: {description: bad}}}
  /marks/{mark_id}:
    parameters: [{name: mark_id, in: path, required: true, schema: {type: integer, minimum: 1}, example: 1}]
    get: *read
    put: {requestBody: *mark, responses: {'200': {description: changed}, 4XX: {description: bad}}}
    delete: *remove
  /lights/{light}:
    parameters: [{name: light, in: path, required: true, schema: {type: string, minLength: 2, maxLength: 40, pattern: '^[a-z0-9-]+$'}, example: outer}]
    get: *read
    put: {requestBody: *buoy, responses: {'200': {description: changed}, '201': {description: created}, 4XX: {description: bad}}}
    delete: *remove
  /notes:
    get: *list
    post: {requestBody: &note {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/Note'}}}}, responses: {'201': {description: created}, 4XX: {description: bad}}}
  /notes/{slug}:
    parameters: [{name: slug, in: path, required: true, schema: {type: string}, example: dredging}]
    get: *read
    put: {requestBody: *note, responses: {'200': {description: changed}, 4XX: {description: bad}}}
    delete: *remove
components:
  schemas:
    Buoy: {type: object, required: [name], properties: {name: {type: string, minLength: 2, maxLength: 60, examples: [Long bank]}, colour: {type: string, minLength: 3, maxLength: 20, examples: [red]}}}
    Mark: {type: object, required: [name], properties: {id: {type: integer, minimum: 1, maximum: 999999}, name: {type: string, minLength: 2, maxLength: 60, examples: [North mark]}}}
    Note: {type: object, required: [title], properties: {title: {type: string, minLength: 2, maxLength: 60, examples: [Dredging]}, text: {type: string, minLength: 2, maxLength: 200, examples: [keep clear]}}}
`

// NewBuoyage is such a service, with what others keep.
func NewBuoyage() *Buoyage {
	b := &Buoyage{records: map[string]map[string]any{}, others: map[string]string{}, next: 100, wheres: map[string]int{}}
	for n := 1; n <= 9; n++ {
		b.records[fmt.Sprint("/buoys/", n)] = map[string]any{"id": float64(n), "name": fmt.Sprint("of others ", n), "colour": "red"}
		b.records[fmt.Sprint("/marks/", n)] = map[string]any{"id": float64(n), "name": fmt.Sprint("of others ", n)}
		b.records[fmt.Sprint("/lights/l", n)] = map[string]any{"name": fmt.Sprint("of others ", n)}
	}
	for _, name := range []string{"outer", "aa", "ballast"} {
		b.records["/lights/"+name] = map[string]any{"name": "of others"}
		b.records["/notes/"+name] = map[string]any{"title": name, "text": "of others"}
	}
	b.records["/marks/999999"] = map[string]any{"id": float64(999999), "name": "of others"}
	for at, record := range b.records {
		b.others[at] = text(record)
	}
	return b
}

// Harmed are the addresses of what others have that is not what it was.
func (b *Buoyage) Harmed() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	var out []string
	for at, was := range b.others {
		if text(b.records[at]) != was {
			out = append(out, at)
		}
	}
	slices.Sort(out)
	return out
}

// Left are the addresses of records that are there and that others did not have.
func (b *Buoyage) Left() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	var out []string
	for at := range b.records {
		if _, theirs := b.others[at]; !theirs {
			out = append(out, at)
		}
	}
	slices.Sort(out)
	return out
}

// Accounted says what is left and not told in the lines of a run, or told and not left.
func (b *Buoyage) Accounted(told []string) error { return accounted(b.Left(), told) }

// Wheres are what actions were told to change.
func (b *Buoyage) Wheres() map[string]int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return maps.Clone(b.wheres)
}

// ServeHTTP answers a request.
func (b *Buoyage) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	sent, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
	b.mu.Lock()
	defer b.mu.Unlock()
	b.heard++
	if b.Heard != nil {
		b.Heard(b.heard, r)
	}
	say, refuse := answers(w)
	segments := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	var body map[string]any
	if r.Method == "POST" || r.Method == "PUT" || r.Method == "PATCH" {
		if err := json.Unmarshal(sent, &body); err != nil {
			refuse(map[bool]int{true: 422, false: 400}[json.Valid(sent)], "")
			return
		}
	}
	at := strings.Join(append([]string{""}, segments...), "/")
	switch collection := len(segments) == 1; {
	case at == "/buoys/reset":
		where, _ := body["where"].(map[string]any)
		b.wheres[text(body["where"])]++
		b.each("/buoys/", func(at string, record map[string]any) {
			if want, has := where["colour"]; !has || want == record["colour"] {
				record["colour"] = body["colour"]
			}
		})
		say(200, map[string]any{})
	case collection && r.Method == "GET":
		list := []any{}
		b.each(at+"/", func(at string, record map[string]any) {
			shown := maps.Clone(record)
			if shown["id"] == nil {
				shown["slug"] = at[strings.LastIndexByte(at, '/')+1:]
			}
			list = append(list, shown)
		})
		say(200, list)
	case at == "/buoys" && r.Method == "DELETE", at == "/buoys" && r.Method == "PATCH":
		b.several(say, refuse, r, body)
	case r.Method == "GET" && b.records[at] != nil:
		say(200, b.records[at])
	case r.Method == "DELETE" && b.records[at] != nil:
		delete(b.records, at)
		say(204, nil)
	case r.Method == "POST" && collection, r.Method == "PUT" && !collection && (b.records[at] != nil || segments[0] == "lights"):
		b.write(say, refuse, at, segments[0], body, collection)
	default:
		refuse(404, "")
	}
}

func (b *Buoyage) each(under string, do func(at string, record map[string]any)) {
	for _, at := range slices.Sorted(maps.Keys(b.records)) {
		if strings.HasPrefix(at, under) {
			do(at, b.records[at])
		}
	}
}

// several changes or deletes several records: all of them where nothing names any.
func (b *Buoyage) several(say func(int, any), refuse func(int, string), r *http.Request, body map[string]any) {
	var ids []string
	if r.Method == "DELETE" {
		for _, id := range strings.Split(r.URL.Query().Get("ids"), ",") {
			if n, err := strconv.Atoi(id); err == nil {
				ids = append(ids, strconv.Itoa(n))
			}
		}
	} else if colour, is := body["colour"].(string); !is || len(colour) < 3 || len(colour) > 20 {
		refuse(422, "#/colour")
		return
	} else {
		list, _ := body["ids"].([]any)
		for _, id := range list {
			ids = append(ids, fmt.Sprint(id))
		}
	}
	b.each("/buoys/", func(at string, record map[string]any) {
		if len(ids) > 0 && !slices.Contains(ids, fmt.Sprint(record["id"])) {
			return
		}
		if record["colour"] = body["colour"]; r.Method == "DELETE" {
			delete(b.records, at)
		}
	})
	if r.Method == "DELETE" {
		say(204, nil)
		return
	}
	say(200, map[string]any{})
}

// write creates a record, or writes over the one that the body names.
func (b *Buoyage) write(say func(int, any), refuse func(int, string), at, kind string, body map[string]any, create bool) {
	limits := map[string][2]int{"name": {2, 60}, "colour": {3, 20}, "title": {2, 60}, "text": {2, 200}}
	required := "name"
	if kind == "notes" {
		required = "title"
	}
	for _, name := range append([]string{required}, slices.Sorted(maps.Keys(body))...) {
		v, has := body[name]
		s, is := v.(string)
		if most, known := limits[name]; known && (!is || len([]rune(s)) < most[0] || len([]rune(s)) > most[1]) && (has || name == required) {
			refuse(422, "#/"+name)
			return
		}
	}
	status := 200
	if create || b.records[at] == nil {
		status = 201
	}
	switch kind {
	case "buoys":
		b.next++
		body["id"] = float64(b.next)
		at = fmt.Sprint("/buoys/", b.next)
	case "marks": // what the body says is the id, as many mappers have it
		id, has := body["id"]
		n, is := id.(float64)
		if s, isText := id.(string); isText {
			m, err := strconv.Atoi(strings.TrimSpace(s))
			n, is = float64(m), err == nil
		}
		switch {
		case has && (!is || n < 1 || n > 999999 || n != float64(int(n))):
			refuse(422, "#/id")
			return
		case !has && create:
			b.next++
			n = float64(b.next)
		case !has:
			n, _ = b.records[at]["id"].(float64)
		}
		body["id"] = n
		at = fmt.Sprint("/marks/", int(n))
	case "notes":
		title, _ := body["title"].(string)
		slug := strings.Trim(strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
				return r
			}
			return '-'
		}, strings.ToLower(title)), "-")
		if slug == "" {
			slug = "note"
		}
		if _, taken := b.records["/notes/"+slug]; taken && "/notes/"+slug != at {
			b.next++
			slug = fmt.Sprint(slug, "-", b.next)
		}
		if !create {
			delete(b.records, at)
		}
		at = "/notes/" + slug
		body["slug"] = slug
	}
	b.records[at] = body
	say(status, body)
}
