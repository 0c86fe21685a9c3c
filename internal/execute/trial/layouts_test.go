package trial_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/trial"
	"obiter/internal/harbour"
)

// rejection is what the harbour says, to be said in another layout.
type rejection struct {
	status int
	title  string
	detail string
	list   []complaint
	sent   any // the request's body
	path   string
	method string
}

// words are all complaints in one sentence, or what is said where there are none.
func (r rejection) words() string {
	if len(r.list) == 0 {
		return r.detail
	}
	out := []string{}
	for _, c := range r.list {
		out = append(out, c.words)
	}
	return strings.Join(out, " ")
}

// complaint is one field error: where, in segments, and the words.
type complaint struct {
	at      []string
	words   string
	missing bool
}

// a layout says a rejection: the media type, and the body as a JSON value.
type layoutCase struct {
	name  string
	media string // empty: application/json
	say   func(r rejection) any
	// also are codes that are true of a sound API with such a layout.
	also []string
}

type object = map[string]any

// Notations.

func isNumber(s string) bool { _, err := strconv.Atoi(s); return err == nil }

func pointer(at []string) any     { return instance.Join("", at...) }
func fragment(at []string) any    { return instance.Fragment(instance.Join("", at...)) }
func dots(at []string) any        { return strings.Join(at, ".") }
func slashes(at []string) any     { return strings.Join(at, "/") }
func dollar(at []string) any      { return "$." + brackets(at).(string) }
func bodyDots(at []string) any    { return "body." + brackets(at).(string) }
func bodyPointer(at []string) any { return "/body" + instance.Join("", at...) }
func brackets(at []string) any {
	out := ""
	for _, t := range at {
		switch {
		case isNumber(t):
			out += "[" + t + "]"
		case out == "":
			out = t
		default:
			out += "." + t
		}
	}
	return out
}
func allBrackets(at []string) any { return "[" + strings.Join(at, "][") + "]" }
func formStyle(at []string) any {
	if len(at) == 0 {
		return ""
	}
	return at[0] + strings.Repeat("[", min(1, len(at)-1)) + strings.Join(at[1:], "][") + strings.Repeat("]", min(1, len(at)-1))
}
func quotedPath(at []string) any {
	out := "$"
	for _, t := range at {
		if !isNumber(t) {
			t = "'" + t + "'"
		}
		out += "[" + t + "]"
	}
	return out
}
func segments(at []string) any {
	out := []any{}
	for _, t := range at {
		if n, err := strconv.Atoi(t); err == nil {
			out = append(out, n)
		} else {
			out = append(out, t)
		}
	}
	return out
}
func after(prefix []string, notation func([]string) any) func([]string) any {
	return func(at []string) any { return notation(append(slices.Clone(prefix), at...)) }
}
func fromOne(notation func([]string) any) func([]string) any {
	return func(at []string) any {
		at = slices.Clone(at)
		for i, t := range at {
			if n, err := strconv.Atoi(t); err == nil {
				at[i] = strconv.Itoa(n + 1)
			}
		}
		return notation(at)
	}
}

// entries is a list of objects, each with a name and words in the members given.
func entries(r rejection, name string, notation func([]string) any, words string) []any {
	out := []any{}
	for _, c := range r.list {
		e := object{}
		place(e, name, notation(c.at))
		place(e, words, c.words)
		out = append(out, e)
	}
	return out
}

// place puts a value into nested members, dots between their names.
func place(into object, path string, v any) {
	first, rest, nested := strings.Cut(path, ".")
	if !nested {
		into[first] = v
		return
	}
	inner, _ := into[first].(object)
	if inner == nil {
		inner = object{}
		into[first] = inner
	}
	place(inner, rest, v)
}

// listed says it in a list, in a member of the answer given by a path.
func listed(list, name string, notation func([]string) any, words string) func(rejection) any {
	return func(r rejection) any {
		out := object{"message": r.detail}
		place(out, list, entries(r, name, notation, words))
		return out
	}
}

// keyed says it in a map, in a member of the answer; value makes the words.
func keyed(in string, notation func([]string) any, value func(words string) any) func(rejection) any {
	return func(r rejection) any {
		m := object{}
		for _, c := range r.list {
			m[notation(c.at).(string)] = value(c.words)
		}
		if in == "" {
			if len(m) == 0 {
				m["message"] = r.detail
			}
			return m
		}
		out := object{"message": r.detail}
		place(out, in, m)
		return out
	}
}

func asText(words string) any    { return words }
func asList(words string) any    { return []any{words} }
func asObjects(words string) any { return []any{object{"code": "invalid", "message": words}} }

// nested says it in maps, one in the other as the request is; parallel: lists are lists.
func nested(in string, parallel bool, leaf func(words string) any) func(rejection) any {
	return func(r rejection) any {
		var tree any = object{}
		for _, c := range r.list {
			tree = graft(tree, c.at, leaf(c.words), parallel)
		}
		if in == "" {
			if len(r.list) == 0 {
				return object{"message": r.detail}
			}
			return tree
		}
		out := object{"message": r.detail}
		place(out, in, tree)
		return out
	}
}

func graft(tree any, at []string, leaf any, parallel bool) any {
	if len(at) == 0 {
		if m, is := tree.(object); is && len(m) > 0 {
			m["non_field_errors"] = leaf
			return m
		}
		return leaf
	}
	if i, err := strconv.Atoi(at[0]); err == nil && parallel {
		list, _ := tree.([]any)
		for len(list) <= i {
			list = append(list, object{})
		}
		list[i] = graft(list[i], at[1:], leaf, parallel)
		return list
	}
	m, is := tree.(object)
	if !is {
		m = object{}
	}
	inner := m[at[0]]
	if inner == nil {
		inner = object{}
	}
	m[at[0]] = graft(inner, at[1:], leaf, parallel)
	return m
}

// general says it in maps whose own errors stand under a key.
func general(key string) func(rejection) any {
	return func(r rejection) any {
		tree := object{key: []any{}}
		for _, c := range r.list {
			here := tree
			for _, t := range c.at {
				inner, _ := here[t].(object)
				if inner == nil {
					inner = object{key: []any{}}
					here[t] = inner
				}
				here = inner
			}
			said, _ := here[key].([]any)
			here[key] = append(said, c.words)
		}
		return object{"message": r.detail, "errors": tree}
	}
}

func first(say func(c complaint) object) func(rejection) any {
	return func(r rejection) any {
		if len(r.list) == 0 {
			return object{"error": object{"code": "bad_request", "message": r.detail}}
		}
		return object{"error": say(r.list[0])}
	}
}

// with adds members to an answer.
func with(say func(rejection) any, more func(r rejection) object) func(rejection) any {
	return func(r rejection) any {
		out, is := say(r).(object)
		if !is {
			return say(r)
		}
		for k, v := range more(r) {
			out[k] = v
		}
		return out
	}
}

const problemJSON = "application/problem+json"

var layouts = []layoutCase{
	// Lists, in each notation.
	{name: "the RFC's own", media: problemJSON, say: asProblem("errors", "pointer", fragment, "detail")},
	{name: "plain pointers", media: problemJSON, say: asProblem("errors", "pointer", pointer, "detail")},
	{name: "names in dots", media: problemJSON, say: asProblem("errors", "field", dots, "message")},
	{name: "names in brackets", media: problemJSON, say: asProblem("violations", "field", brackets, "message")},
	{name: "invalid params", media: problemJSON, say: asProblem("invalid-params", "name", brackets, "reason")},
	{name: "a list of dots", say: listed("errors", "field", dots, "message")},
	{name: "a list of slashes", say: listed("errors", "field", slashes, "message")},
	{name: "a list of names in brackets alone", say: listed("errors", "field", allBrackets, "message")},
	{name: "a list in the style of forms", say: listed("errors", "param", formStyle, "msg")},
	{name: "a list of quoted paths", say: listed("issues", "path", quotedPath, "message")},
	{name: "a list of paths from a dollar", say: listed("issues", "path", dollar, "message")},
	{name: "a list of paths from the body", say: listed("errors", "location", bodyDots, "message")},
	{name: "a list of pointers from the body", say: listed("errors", "path", bodyPointer, "message")},
	{name: "a list of segments", say: listed("issues", "path", segments, "message")},
	{name: "a list of segments from the body", say: listed("detail", "loc", after([]string{"body"}, segments), "msg")},
	{name: "fields of its own words", say: listed("mängel", "wo", brackets, "warum")},
	{name: "a list deep down", say: listed("fault.causes", "at.place", brackets, "text")},
	{name: "a source", say: listed("errors", "source.pointer", pointer, "detail")},
	{name: "names inside the entry's extensions", say: listed("errors", "extensions.field", dots, "message")},
	{name: "details with a target", say: func(r rejection) any {
		return object{"error": object{"code": "BadArgument", "message": r.detail, "target": "payload", "details": entries(r, "target", brackets, "message")}}
	}},
	{name: "a list at the top", say: func(r rejection) any {
		if len(r.list) == 0 {
			return []any{object{"message": r.detail}}
		}
		return entries(r, "property", brackets, "message")
	}},
	{name: "keys in a list", say: func(r rejection) any {
		keys := []any{}
		for _, c := range r.list {
			keys = append(keys, dots(c.at))
		}
		return object{"statusCode": r.status, "message": r.words(), "validation": object{"source": "payload", "keys": keys}}
	}},
	{name: "keys in each entry", say: listed("errors", "keys", func(at []string) any { return []any{dots(at)} }, "message")},
	{name: "the place of the parent and the missing member", say: func(r rejection) any {
		out := []any{}
		for _, c := range r.list {
			e := object{"instancePath": pointer(c.at), "keyword": "limit", "params": object{"limit": 3}, "message": c.words}
			if c.missing {
				e = object{"instancePath": pointer(c.at[:len(c.at)-1]), "keyword": "required", "params": object{"missingProperty": c.at[len(c.at)-1]}, "message": c.words}
			}
			out = append(out, e)
		}
		return object{"errors": out}
	}},
	{name: "a prefix in segments", say: listed("detail", "loc", after([]string{"body", "item"}, segments), "msg")},
	{name: "a prefix in dots", say: listed("violations", "propertyPath", after([]string{"create", "record"}, brackets), "message")},
	{name: "a prefix in pointers", say: listed("errors", "source.pointer", after([]string{"data", "attributes"}, pointer), "detail")},
	{name: "a prefix in a map", say: keyed("errors", after([]string{"record"}, dots), asList)},
	{name: "indexes from one", say: listed("errors", "field", fromOne(brackets), "message")},
	{name: "indexes from one in a map", say: keyed("errors", fromOne(dots), asList)},
	{name: "fields as numbers", say: func(r rejection) any {
		list := entries(r, "column", brackets, "message")
		for i, e := range list {
			e.(object)["field"] = i + 7
		}
		return object{"errors": list}
	}},
	{name: "the keyword looks like a field", say: func(r rejection) any {
		list := entries(r, "path", brackets, "message")
		for _, e := range list {
			e.(object)["name"], e.(object)["code"] = "type", "purpose"
		}
		return object{"errors": list}
	}},
	{name: "the value that was rejected", say: func(r rejection) any {
		list := entries(r, "path", brackets, "message")
		for i, e := range list {
			v, _ := instance.Get(r.sent, instance.Join("", r.list[i].at...))
			e.(object)["value"] = v
		}
		return object{"errors": list}
	}},
	{name: "groups of errors", say: func(r rejection) any {
		groups := []any{}
		for _, c := range r.list {
			groups = append(groups, object{"rule": "r", "errors": []any{object{"path": brackets(c.at), "message": c.words}}})
		}
		return object{"title": r.title, "groups": groups}
	}},
	{name: "sentences and fields", say: with(listed("fieldErrors", "field", brackets, "defaultMessage"), func(r rejection) object {
		words := []any{}
		for _, c := range r.list {
			words = append(words, c.at[len(c.at)-1]+" "+c.words)
		}
		return object{"messages": words}
	})},

	// Maps.
	{name: "a map of texts", say: keyed("errors", dots, asText)},
	{name: "a map of lists", say: keyed("errors", dots, asList)},
	{name: "a map of objects", say: keyed("errors", brackets, asObjects)},
	{name: "a map of pointers", say: keyed("errors", pointer, asList)},
	{name: "a map of fragments", say: keyed("failures", fragment, asText)},
	{name: "a map of paths from a dollar", say: keyed("errors", dollar, asList)},
	{name: "a map in a problem document", media: problemJSON, say: with(keyed("errors", brackets, asList), func(r rejection) object {
		return object{"title": r.title, "status": r.status, "type": "https://harbour.example/problems/" + strconv.Itoa(r.status)}
	})},
	{name: "a map in the body's map", say: keyed("errors.json", dots, asList)},
	{name: "a map at the top", say: keyed("", dots, asList)},
	{name: "a map at the top of texts", say: keyed("", brackets, asText)},
	{name: "nested maps", say: nested("errors", false, asList)},
	{name: "nested maps of texts", say: nested("errors", false, asText)},
	{name: "nested maps with lists", say: nested("errors", true, asList)},
	{name: "nested maps under the record's name", say: nested("errors.record", false, asList)},
	{name: "nested maps at the top", say: nested("", true, asList)},
	{name: "nested maps in details", say: nested("error.details", false, asList)},
	{name: "an object's own errors", say: general("_errors")},
	{name: "an object's own errors at its base", say: general("base")},
	{name: "an object's own errors in a schema's name", say: general("_schema")},

	// One error.
	{name: "one error object", say: first(func(c complaint) object {
		return object{"param": formStyle(c.at), "code": "invalid", "message": c.words}
	}), also: []string{"one-at-a-time"}},
	{name: "one error object of pointers", say: first(func(c complaint) object {
		return object{"code": "invalid", "message": c.words, "path": pointer(c.at)}
	}), also: []string{"one-at-a-time"}},
	{name: "one error at the top", say: func(r rejection) any {
		if len(r.list) == 0 {
			return object{"code": r.status, "message": r.detail}
		}
		return object{"code": r.status, "message": r.list[0].words, "field": brackets(r.list[0].at)}
	}, also: []string{"one-at-a-time"}},
	{name: "one error in a problem document", media: problemJSON, say: func(r rejection) any {
		out := object{"title": r.title, "status": r.status, "detail": r.detail}
		if len(r.list) > 0 {
			out["detail"], out["field"] = r.list[0].words, dots(r.list[0].at)
		}
		return out
	}, also: []string{"one-at-a-time"}},

	// Envelopes and echoes.
	{name: "an envelope with the names of fields", say: with(listed("errors", "field", brackets, "message"), func(r rejection) object {
		return object{"id": "r-17", "name": "BadRequest", "type": "invalid_request", "purpose": "tell", "message": r.detail}
	})},
	{name: "an envelope of an old container", say: with(listed("errors", "field", brackets, "defaultMessage"), func(r rejection) object {
		return object{"timestamp": "2031-05-04T06:00:00Z", "status": r.status, "error": r.title, "path": r.path}
	})},
	{name: "an echo of the request", say: with(listed("errors", "path", brackets, "message"), func(r rejection) object { return object{"request": r.sent} })},
	{name: "an echo of the request as text", say: with(keyed("errors", dots, asList), func(r rejection) object {
		return object{"received": string(instance.Encode(r.sent)), "method": r.method, "path": r.path}
	})},
	{name: "a list of what there is", say: with(listed("errors", "path", brackets, "message"), func(r rejection) object {
		return object{"known": []any{"name", "imo", "type", "length_m", "berth", "purpose", "boarding", "pilots"}}
	})},
	{name: "what is wanted, by field", say: with(listed("errors", "path", brackets, "message"), func(r rejection) object {
		return object{"schema": object{"name": "text", "imo": "text", "berth": "text", "purpose": "text", "boarding": "text", "pilots": "number"}}
	})},
	{name: "a link for each error", say: func(r rejection) any {
		list := entries(r, "property", brackets, "message")
		for _, e := range list {
			e.(object)["links"] = object{"about": "/help/purpose"}
			e.(object)["id"] = "name"
		}
		return object{"errors": list, "jsonapi": object{"version": "1.1"}}
	}},
}

func asProblem(list, name string, notation func([]string) any, words string) func(rejection) any {
	return func(r rejection) any {
		out := object{"type": "https://harbour.example/problems/" + strconv.Itoa(r.status), "title": r.title, "status": r.status, "detail": r.detail}
		if len(r.list) > 0 {
			out[list] = entries(r, name, notation, words)
		}
		return out
	}
}

// translator is a service in front of the harbour that says its rejections in a layout.
type translator struct {
	office http.Handler
	layout layoutCase
}

func (t translator) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	r.Body = io.NopCloser(bytes.NewReader(body))
	inner := httptest.NewRecorder()
	t.office.ServeHTTP(inner, r)
	answer := inner.Result()
	text := inner.Body.Bytes()
	var doc struct {
		Title, Detail string
		Errors        []struct{ Pointer, Detail string }
	}
	for k, v := range answer.Header {
		w.Header()[k] = v
	}
	if answer.Header.Get("Content-Type") == problemJSON && json.Unmarshal(text, &doc) == nil {
		said := rejection{status: answer.StatusCode, title: doc.Title, detail: doc.Detail, path: r.URL.Path, method: r.Method}
		said.sent, _ = instance.Decode(body)
		for _, e := range doc.Errors {
			at, err := instance.Split(strings.TrimPrefix(e.Pointer, "#"))
			if err != nil || len(at) == 0 {
				continue
			}
			said.list = append(said.list, complaint{at, e.Detail, e.Detail == "is required"})
		}
		media := t.layout.media
		if media == "" {
			media = "application/json"
		}
		w.Header().Set("Content-Type", media)
		text, _ = json.Marshal(t.layout.say(said))
	}
	w.WriteHeader(answer.StatusCode)
	_, _ = w.Write(text)
}

var layoutFaults = []string{"index-shifted", "first-error-only", "unknown-kept"}

// TestLayoutsAsServers tries the harbour behind a translator, sound and with three
// mistakes, in each layout: what is found is what is there.
func TestLayoutsAsServers(t *testing.T) {
	t.Parallel()
	if len(layouts) < 60 {
		t.Errorf("%d layouts", len(layouts))
	}
	for _, l := range layouts {
		t.Run(l.name, func(t *testing.T) {
			t.Parallel()
			want := slices.Clone(l.also)
			if l.media != problemJSON {
				want = append(want, "not-problem")
			}
			if got := l.tried(t, nil); !slices.Equal(got, sorted(want)) {
				t.Errorf("sound: found %q, want %q", got, sorted(want))
			}
			want = append(want, "accepted", "one-at-a-time", "wrong-field")
			if got := l.tried(t, layoutFaults); !slices.Equal(got, sorted(want)) {
				t.Errorf("with mistakes: found %q, want %q", got, sorted(want))
			}
		})
	}
}

func sorted(codes []string) []string { return slices.Compact(slices.Sorted(slices.Values(codes))) }

// tried are the codes of errors that a trial finds.
func (l layoutCase) tried(t *testing.T, faults []string) []string {
	t.Helper()
	o := open(t, faults, "each: operation", "each: operation")
	inner, err := harbour.New(faults)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(translator{inner, l})
	t.Cleanup(server.Close)
	if o.opt.Base, err = url.Parse(server.URL); err != nil {
		t.Fatal(err)
	}
	o.opt.Plan.Base = server.URL
	o.opt.Plan.Only = []string{"GET /vessels", "POST /vessels", "POST /berth-bookings", "PUT /berth-bookings/**", "POST /pilot-orders"}
	out, err := trial.Run(context.Background(), o.opt, o.events)
	if err != nil || out.Report == nil || !out.Report.Proven() {
		t.Fatalf("%v, %q", err, o.told)
	}
	found := []string{}
	for _, e := range out.Report.Entries() {
		if e.Severity == judge.Error {
			found = append(found, e.Code)
			if testing.Verbose() && !slices.Contains([]string{"not-problem"}, e.Code) {
				t.Logf("%s %s %v %d: %s", e.Code, e.Operations, e.Fields, e.Count, e.Examples[0].Message)
			}
		}
	}
	return sorted(found)
}
