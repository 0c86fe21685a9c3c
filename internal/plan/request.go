package plan

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"

	"obiter/internal/exchange"
	"obiter/internal/flaw"
	"obiter/internal/oad"
)

// request gives out the flaws of the request as a whole.
func (e *emitter) request() {
	values := e.op.values(fullest)
	control := values["body"]
	whole := e.op.compose(values)
	body := whole.Body
	again := func(method, contentType string, body []byte) exchange.Request {
		return e.op.request(method, contentType, body, values)
	}
	if control != nil && IsJSON(e.op.Media) {
		e.malformed(control, body, again)
	}
	if control != nil && e.op.Body.Required { // else an empty body is allowed
		e.whole(control, "empty-body", "no-bytes", "a body is required and none is sent", exchange.EmptyBody, again(e.op.Method, e.op.Media, nil))
	}
	if other := e.otherMedia(); control != nil && other != "" {
		e.whole(control, "wrong-content-type", strings.ReplaceAll(other, "/", "-"), "the body is sent as "+other+", which is not among the described media types",
			exchange.MediaType, again(e.op.Method, other, body))
	}
	// Once a path: it is the path that lacks the method.
	by, planned := e.op.plan.methods[e.op.Path]
	if method := e.otherMethod(); method != "" && (!planned || by == e.op.Name()) {
		e.op.plan.methods[e.op.Path] = e.op.Name()
		var sent []byte
		contentType := ""
		if method != "GET" && control != nil {
			sent, contentType = body, e.op.Media
		}
		e.whole(control, "wrong-method", strings.ToLower(method), "the path does not describe "+method, exchange.Method, again(method, contentType, sent))
	}
}

func (e *emitter) whole(control any, rule, variant, reason string, class exchange.Class, r exchange.Request) {
	f := flaw.Flaw{In: "request", Rule: rule, Variant: variant, Reason: reason}
	e.give(exchange.Case{Name: rule + " " + variant, Kind: exchange.Flawed, Request: r, Flaws: []flaw.Flaw{f},
		Expect: exchange.Expect{Class: class}, Control: control, Base: fullest}, []flaw.Flaw{f})
}

// malformed sends what no JSON reader may take (RFC 8259).
func (e *emitter) malformed(control any, body []byte, again func(method, contentType string, body []byte) exchange.Request) {
	last := len(body) - 1
	for _, m := range []struct {
		variant string
		depth   flaw.Depth
		body    []byte
		reason  string
	}{
		{"cut-off", flaw.Quick, body[:last], "the last character of the JSON text is cut off"},
		{"trailing-comma", flaw.Usual, trailingComma(body), "a comma stands before the closing bracket"},
		{"single-quotes", flaw.Usual, bytes.ReplaceAll(body, []byte(`"`), []byte(`'`)), "texts stand in single quotes"},
		{"trailing-text", flaw.Usual, append(bytes.Clone(body), " ballast"...), "other text follows the JSON text"},
		{"comment", flaw.Deep, append([]byte("/* ballast */ "), body...), "a comment stands before the JSON text"},
		{"not-utf-8", flaw.Deep, bytes.Replace(body, []byte(`"`), []byte("\"\xff"), 1), "a name or text is not UTF-8"},
	} {
		if m.depth > e.op.plan.opt.Depth || last < 1 || json.Valid(m.body) && m.variant != "not-utf-8" || bytes.Equal(m.body, body) {
			continue
		}
		e.whole(control, "malformed-json", m.variant, m.reason, exchange.Syntax, again(e.op.Method, e.op.Media, m.body))
	}
}

func trailingComma(body []byte) []byte {
	last := len(body) - 1
	if last < 2 || body[last] != '}' && body[last] != ']' || body[last-1] == '{' || body[last-1] == '[' {
		return body
	}
	return append(append(bytes.Clone(body[:last]), ','), body[last])
}

// otherMedia is a media type that the operation does not describe; "" where it takes any.
func (e *emitter) otherMedia() string {
	if e.op.Body == nil {
		return ""
	}
	described := func(t string) bool {
		for _, m := range e.op.Body.Media {
			have, _, _ := strings.Cut(strings.ToLower(m.Type), ";")
			if have == t || have == "*/*" || strings.HasSuffix(have, "/*") && strings.HasPrefix(t, strings.TrimSuffix(have, "*")) {
				return true
			}
		}
		return false
	}
	for _, t := range []string{"text/plain", "application/octet-stream", "application/x-ndjson"} {
		if !described(t) {
			return t
		}
	}
	return ""
}

// otherMethod is a method that no path of the description has at this address:
// GET first, for it changes nothing. HEAD and OPTIONS are left out, for servers
// answer them on their own.
func (e *emitter) otherMethod() string {
	for _, method := range []string{"GET", "PATCH", "PUT", "POST"} {
		if !e.op.plan.describes(method, e.op.Operation) {
			return method
		}
	}
	return ""
}

// describes tells whether the description has the method on this path, or on
// another template that the same address would match.
func (p *Plan) describes(method string, at oad.Operation) bool {
	if p.paths == nil {
		p.paths = map[pathKind][]string{}
		for _, o := range p.doc.Operations {
			kind := pathKind{o.Method, strings.Count(o.Path, "/")}
			p.paths[kind] = append(p.paths[kind], o.Path)
		}
	}
	return slices.ContainsFunc(p.paths[pathKind{method, strings.Count(at.Path, "/")}], func(path string) bool { return overlap(path, at.Path) })
}

// pathKind parts paths that cannot overlap.
type pathKind struct {
	method   string
	segments int
}

func overlap(a, b string) bool {
	x, y := strings.Split(a, "/"), strings.Split(b, "/")
	if len(x) != len(y) {
		return false
	}
	for i := range x {
		if x[i] != y[i] && !strings.Contains(x[i], "{") && !strings.Contains(y[i], "{") {
			return false
		}
	}
	return true
}
