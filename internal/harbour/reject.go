package harbour

import (
	"bytes"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"obiter/internal/core/instance"
)

// problem is an answer after RFC 9457.
type problem struct {
	status int
	kind   string // the last segment of its type; empty: about:blank
	title  string
	detail string
	errors []fieldError
	change func(map[string]any) // what a fault does to it
	cut    bool                 // its detail is cut in the middle of a character
}

func (p problem) write(w http.ResponseWriter) {
	doc := map[string]any{"title": p.title, "status": p.status, "detail": p.detail}
	if p.kind == "" {
		p.kind = strings.ReplaceAll(strings.ToLower(p.title), " ", "-")
	}
	doc["type"] = "https://harbour.example/problems/" + p.kind
	if len(p.errors) > 0 {
		var list []any
		for _, e := range p.errors {
			entry := map[string]any{"pointer": pointerText(e.pointer), "detail": e.detail}
			if e.detail == "" {
				delete(entry, "detail")
			}
			list = append(list, entry)
		}
		doc["errors"] = list
	}
	if p.change != nil {
		p.change(doc)
	}
	body := instance.Encode(doc)
	if p.cut {
		body = bytes.Replace(body, []byte("not as they should be"), []byte("n\xc3"), 1)
	}
	answer(w, p.status, "application/problem+json", body)
}

// pointerText is a fragment where the field is a pointer, and what a fault made of it as it is.
func pointerText(p string) string {
	if p == "" || strings.HasPrefix(p, "/") {
		return instance.Fragment(p)
	}
	return p
}

func answer(w http.ResponseWriter, status int, media string, body []byte) {
	w.Header().Set("Content-Type", media)
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.WriteHeader(status)
	_, _ = w.Write(body)
}

// rejectOtherwise answers in place of reject, where a fault has it so.
func (o *Office) rejectOtherwise(w http.ResponseWriter, r *http.Request, e endpoint, body map[string]any, errors []fieldError) bool {
	ofType := slices.ContainsFunc(errors, func(f fieldError) bool { return f.kind == "type" })
	switch {
	case o.has(e, "success-with-error"):
		answer(w, 200, "application/json", instance.Encode(map[string]any{"ok": false, "error": "validation failed"}))
	case o.has(e, "wrong-type-fails") && ofType:
		problem{status: 500, title: "Internal error", detail: "Something went wrong."}.write(w)
	case o.has(e, "redirects-home"):
		http.Redirect(w, r, "/welcome", http.StatusSeeOther)
	case o.has(e, "html-page"):
		answer(w, 400, "text/html; charset=utf-8", []byte("<!doctype html><title>Bad request</title><h1>Bad request</h1><p>The booking was not understood.</p>"))
	case o.has(e, "own-layout"):
		answer(w, 400, "application/json", instance.Encode(map[string]any{"error": "invalid", "fields": fieldMap(errors)}))
	case o.has(e, "page-with-input"):
		answer(w, 400, "text/html; charset=utf-8", []byte(fmt.Sprintf("<!doctype html><title>Bad request</title><p>Nobody boards at %v.</p>", body["boarding"])))
	case o.has(e, "causes-nested"):
		answer(w, 422, "application/problem+json", []byte(strings.Repeat(`{"cause":`, 1000)+"{}"+strings.Repeat("}", 1000)))
	case o.has(e, "cut-answer"):
		answer(w, 422, "application/problem+json", []byte(`{"type":"https://harbour.example/problems/invalid-fields","title":"Fields are inv`))
	default:
		return false
	}
	return true
}

// reject answers a body that breaks rules: rightly, or as the faults have it.
func (o *Office) reject(w http.ResponseWriter, r *http.Request, e endpoint, body map[string]any, errors []fieldError) {
	if o.rejectOtherwise(w, r, e, body, errors) {
		return
	}
	p := problem{status: 422, kind: "invalid-fields", title: "Fields are invalid", detail: "Some fields of the request are not as they should be.", errors: errors}
	ofType := slices.ContainsFunc(errors, func(f fieldError) bool { return f.kind == "type" })
	switch {
	case o.has(e, "map-for-list"):
		p.change = func(doc map[string]any) { doc["errors"] = fieldMap(errors) }
	case o.has(e, "trace-shown") && ofType:
		p.change = func(doc map[string]any) {
			doc["detail"] = "panic: goroutine 41 [running]: harbour/pilots.(*Desk).Order(0xc0001) pilots.go:88"
		}
	case o.has(e, "slow-minutes") && len(errors) == 1 && errors[0].pointer == "/minutes" && errors[0].kind == "limit":
		time.Sleep(1100 * time.Millisecond)
	}
	p.errors = o.misname(e, errors)
	for i := range p.errors {
		if o.has(e, "words-missing") {
			p.errors[i].detail = ""
		}
		if v, ok := body["pass_phrase"].(string); ok && o.has(e, "phrase-returned") && p.errors[i].pointer == "/pass_phrase" {
			p.errors[i].detail += ": " + v
		}
	}
	o.misword(e, &p, body, errors)
	p.write(w)
}

func fieldMap(errors []fieldError) map[string]any {
	out := map[string]any{}
	for _, e := range errors {
		name := strings.ReplaceAll(strings.TrimPrefix(e.pointer, "/"), "/", ".")
		if name == "" {
			name = "body"
		}
		out[name] = e.detail
	}
	return out
}

var index = regexp.MustCompile(`/[0-9]+`)

// misname changes which fields are named, and how.
func (o *Office) misname(e endpoint, errors []fieldError) []fieldError {
	out := slices.Clone(errors)
	each := func(change func(p string) string) {
		for i := range out {
			out[i].pointer = change(out[i].pointer)
		}
	}
	if o.has(e, "first-error-only") {
		out = out[:1]
	}
	if o.has(e, "index-missing") {
		each(func(p string) string { return index.ReplaceAllString(p, "") })
	}
	if o.has(e, "index-shifted") {
		each(func(p string) string { return index.ReplaceAllString(p, "/0") })
	}
	if o.has(e, "paths-prefixed") {
		each(func(p string) string { return "/vessel" + p })
	}
	if o.has(e, "parent-named") {
		each(func(p string) string {
			if strings.HasPrefix(p, "/cargo/") {
				return "/cargo"
			}
			return p
		})
	}
	if o.has(e, "other-spelling") {
		each(camelCase)
	}
	if o.has(e, "no-pointers") {
		each(func(p string) string {
			return strings.ReplaceAll(strings.TrimPrefix(index.ReplaceAllStringFunc(p, func(s string) string { return "[" + s[1:] + "]" }), "/"), "/", ".")
		})
	}
	if o.has(e, "field-withheld") {
		each(func(p string) string {
			if p == "/flag" {
				return "/homepage"
			}
			return p
		})
	}
	if o.has(e, "neighbour-blamed") && !slices.ContainsFunc(out, func(f fieldError) bool { return f.pointer == "" || f.pointer == "/boarding" }) {
		out = append(out, fieldError{"/boarding", "is not free at that time", "limit"})
	}
	return out
}

// camelCase is how some services spell names that the request spells otherwise.
func camelCase(p string) string {
	parts := strings.Split(p, "_")
	for i := 1; i < len(parts); i++ {
		parts[i] = strings.ToUpper(parts[i][:1]) + parts[i][1:]
	}
	return strings.Join(parts, "")
}

// misword changes the members of the problem document.
func (o *Office) misword(e endpoint, p *problem, body map[string]any, errors []fieldError) {
	if o.has(e, "not-found-for-all") {
		p.status = 404
	}
	if o.has(e, "bare-rejection") || o.has(e, "sentence-only") {
		p.errors = nil
	}
	if o.has(e, "sentence-only") {
		var words []string
		for _, f := range errors {
			words = append(words, fmt.Sprintf("%s %s", instance.Last(f.pointer), f.detail))
		}
		p.detail = strings.Join(words, "; ") + "."
	}
	p.cut = o.has(e, "cut-in-a-character")
	if o.has(e, "type-relative") {
		p.change = func(doc map[string]any) { doc["type"] = "/problems/invalid-fields" }
	}
	if o.has(e, "titles-vary") && len(errors) > 0 {
		p.title = "Invalid: " + instance.Last(errors[0].pointer)
	}
	if o.has(e, "lists-as-400") && slices.ContainsFunc(errors, func(f fieldError) bool { return f.pointer == "/services" }) {
		p.status = 400
	}
	if o.has(e, "moody") {
		sent := string(instance.Encode(body))
		o.mu.Lock()
		if o.met[sent] {
			p.status = 400
		} else if len(o.met) < maxKept {
			o.met[sent] = true
		}
		o.mu.Unlock()
	}
	if o.has(e, "status-as-text") {
		p.change = func(doc map[string]any) { doc["status"] = "422" }
	}
	if o.has(e, "status-differs") {
		p.change = func(doc map[string]any) { doc["status"] = 400 }
	}
}
