package plan

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/generate/custom"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/wire"
	"obiter/internal/input/oad"
)

// planters make the flaws of requests as a whole, in their order. Each names the
// rules of the catalogue that it plants.
var planters = []struct {
	rules []string
	plant func(*emitter, sent)
}{
	{[]string{"malformed-json", "duplicate-member"}, (*emitter).malformed},
	{[]string{"malformed-xml"}, (*emitter).malformedXML},
	{[]string{"patch-operation"}, (*emitter).patchOperations},
	{[]string{"empty-body", "wrong-content-type", "wrong-content-encoding", "unusual-charset", "unusual-accept"}, (*emitter).contentHeaders},
	{[]string{"unusual-text"}, (*emitter).unusualText},
	{[]string{"read-only"}, (*emitter).ownMembers},
	{[]string{"empty-field"}, (*emitter).headerFields},
	{[]string{"unknown-id"}, (*emitter).unknownID},
	{[]string{"repeated"}, (*emitter).repeated},
	{[]string{"wrong-method"}, (*emitter).wrongMethod},
	{[]string{"credentials"}, (*emitter).authorisation},
}

// Rules lists the rules of the catalogue that plans break beyond those of
// schemas: of requests as a whole, of the API as a whole, and business rules.
func Rules() []string {
	out := []string{"deep-nesting", "large-body", "unknown-path", "holds"}
	for _, p := range planters {
		out = append(out, p.rules...)
	}
	for _, k := range custom.Kinds {
		out = append(out, k.Rule)
	}
	return out
}

// sent is the fullest request, in which flaws of the request as a whole are made.
type sent struct {
	op      *Operation
	values  map[string]any
	control any // the body
	body    []byte
}

// again is the request with another method, media type or body.
func (s sent) again(method, contentType string, body []byte) exchange.Request {
	return s.op.request(method, contentType, body, s.values)
}

// request gives out the flaws of the request as a whole.
func (e *emitter) request() {
	values := e.op.values(fullest)
	s := sent{e.op, values, values["body"], e.op.compose(values).Body}
	for _, p := range planters {
		p.plant(e, s)
	}
}

// wrongMethod uses a method that the path does not describe.
func (e *emitter) wrongMethod(s sent) {
	if !e.op.plan.first(e.op.Operation) {
		return
	}
	method := e.otherMethod()
	if method == "" {
		return
	}
	var body []byte
	contentType := ""
	if method != "GET" && s.control != nil && e.own() {
		body, contentType = s.body, e.op.Media
	}
	e.whole(s.control, "wrong-method", strings.ToLower(method), "the path does not describe "+method, s.again(method, contentType, body))
}

func (e *emitter) at(d flaw.Depth) bool { return d <= e.op.plan.opt.Depth }

// contentHeaders sends the body under headers that do not tell what it is.
func (e *emitter) contentHeaders(s sent) {
	if s.control == nil {
		e.acceptAlone(s)
		return
	}
	control, body := s.control, s.body
	send := func(rule, variant, reason string, contentType string, body []byte, headers ...[2]string) {
		r := s.again(e.op.Method, contentType, body)
		r.Headers = append(r.Headers, headers...)
		e.whole(control, rule, variant, reason, r)
	}
	switch {
	case e.op.Body.Required:
		send("empty-body", "no-bytes", "a body is required and none is sent", e.op.Media, nil)
	case e.op.Body.Optional:
		e.bodyless(s)
	case e.at(flaw.Usual): // OpenAPI's default, and many a description only forgot to say
		send("empty-body", "left-open", "no body is sent, and the description does not say whether one is required", e.op.Media, nil)
	}
	if other := e.otherMedia(); other != "" {
		send("wrong-content-type", strings.ReplaceAll(other, "/", "-"), "the body is sent as "+other+", which is not among the described media types", other, body)
	}
	if len(body) > 0 && e.at(flaw.Usual) {
		if e.otherMedia() != "" {
			send("wrong-content-type", "absent", "the body is sent without a Content-Type", "", body)
		}
		send("wrong-content-encoding", "unknown-coding", "the header Content-Encoding names a coding that does not exist", e.op.Media, body, [2]string{"Content-Encoding", "ballast"})
	}
	if !e.op.readsJSON() {
		return
	}
	if ballast := "application/ballast+json"; e.at(flaw.Deep) && !e.describesMedia(ballast) {
		send("wrong-content-type", "other-json", "the body is sent as "+ballast+", which is not among the described media types", ballast, body)
	}
	if e.at(flaw.Deep) {
		send("unusual-charset", "unknown", "the Content-Type has a charset that does not exist; JSON has no such parameter (RFC 8259, section 11)", exchange.MediaTypeOf(e.op.Media)+"; charset=ballast", body)
	}
	if len(body) > 1 && e.at(flaw.Usual) {
		r := s.again(e.op.Method, e.op.Media, body[:len(body)-1])
		r.Headers[0][1] = "image/png"
		e.whole(control, "unusual-accept", "image-png", "only an image is accepted as the answer, and the JSON is cut off", r)
	}
}

// bodyless is an edge: no body, where the description says that it may be left out.
func (e *emitter) bodyless(s sent) {
	f := exchange.Flaw{In: "request", Rule: "empty-body", Variant: "optional", Reason: "no body, which is optional"}
	e.give(exchange.Case{Name: "edge, empty-body optional", Kind: exchange.Edge, Request: s.again(e.op.Method, "", nil), Edge: &f, Base: fullest,
		Expect: exchange.Expect{Class: exchange.Accepted}, Control: s.control}, []exchange.Flaw{f})
}

// acceptAlone asks a GET for an image, where it is not described to give one: the
// service may say that it has none, or give what it has (RFC 9110, section 12.5.1).
func (e *emitter) acceptAlone(s sent) {
	other := slices.ContainsFunc(e.op.Responses, func(r oad.Response) bool {
		return slices.ContainsFunc(r.Media, func(m oad.Media) bool { return !IsJSON(m.Type) })
	})
	if e.op.Method != "GET" || other || !e.at(flaw.Usual) {
		return
	}
	r := s.again(e.op.Method, "", nil)
	r.Headers[0][1] = "image/png"
	e.whole(nil, "unusual-accept", "image-png-alone", "only an image is accepted as the answer", r)
}

// unknownID names records that probably do not exist: each path parameter in turn
// with another value of the same form, the last one first. A PUT may create what
// its last parameter names, unless the description says that it answers 404, and
// never 201.
func (e *emitter) unknownID(s sent) {
	i := slices.IndexFunc(e.op.Parts, func(p *Part) bool { return p.In == "path" })
	if i < 0 || !e.at(flaw.Usual) {
		return
	}
	part := e.op.Parts[i]
	object, _ := s.values["path"].(map[string]any)
	last := lastParameter(e.op.Address())
	for _, name := range slices.Backward(inPath(e.op.Address())) {
		documented := e.op.Documented()
		if name == last && e.op.Method == "PUT" && (!slices.Contains(documented, "404") || slices.Contains(documented, "201")) {
			continue
		}
		retired := name == last && e.op.plan.opt.Retires[e.op.Name()] // in whose place comes the id of a record that is gone
		other, _ := custom.Elsewhere(&part.Place, object, instance.Join("", name), e.changes() && !retired).(map[string]any)
		if other == nil {
			continue
		}
		f := exchange.Flaw{In: "path", Pointer: instance.Join("", name), Rule: "unknown-id", Variant: "well-formed", Reason: "the value has the right form, and there is probably no such record"}
		e.single(f, e.op.with("path", other), other, object)
	}
}

// inPath are the names of a template's parameters that stand alone between
// slashes, in their order.
func inPath(path string) []string {
	var out []string
	for _, segment := range strings.Split(path, "/") {
		if strings.HasPrefix(segment, "{") && strings.IndexByte(segment, '}') == len(segment)-1 {
			out = append(out, segment[1:len(segment)-1])
		}
	}
	return out
}

// lastParameter is the name of the parameter that ends a template; "" if none does.
func lastParameter(path string) string {
	open := strings.LastIndexByte(path, '{')
	if open < 0 || !strings.HasSuffix(path, "}") {
		return ""
	}
	return path[open+1 : len(path)-1]
}

// repeated sends query parameters twice that are not arrays.
func (e *emitter) repeated(s sent) {
	object, _ := s.values["query"].(map[string]any)
	for _, part := range e.op.Parts {
		if part.In != "query" || !e.at(flaw.Deep) {
			continue
		}
		for _, p := range part.Params {
			v, has := object[p.Name]
			if !has || p.JSON || instance.Type(v) == "array" || instance.Type(v) == "object" {
				continue
			}
			r := e.op.compose(s.values)
			r.URL += "&" + strings.Join(wire.Query(p, v), "&")
			f := exchange.Flaw{In: "query", Pointer: instance.Join("", p.Name), Rule: "repeated", Variant: "twice", Reason: "the parameter is sent twice, and it is not an array"}
			e.single(f, r, object, object)
		}
	}
}

func (e *emitter) whole(control any, rule, variant, reason string, r exchange.Request) {
	e.single(exchange.Flaw{In: "request", Rule: rule, Variant: variant, Reason: reason}, r, nil, control)
}

// single gives out the case of one flaw of the fullest control.
func (e *emitter) single(f exchange.Flaw, r exchange.Request, body, control any) {
	flaws := []exchange.Flaw{f}
	e.give(exchange.Case{Name: nameOf(flaws), Kind: exchange.Flawed, Request: r, Flaws: flaws,
		Expect: exchange.Expect{Class: rule.ClassOf(flaws)}, Body: body, Control: control, Base: fullest}, flaws)
}

// malformed sends what no JSON reader may take (RFC 8259).
func (e *emitter) malformed(s sent) {
	control, body := s.control, s.body
	if control == nil || !e.op.readsJSON() {
		return
	}
	last := len(body) - 1
	for _, m := range []struct {
		variant string
		depth   flaw.Depth
		body    []byte
		reason  string
	}{
		{"cut-off", flaw.Quick, body[:last], "the last character of the JSON is cut off"},
		{"trailing-comma", flaw.Usual, trailingComma(body), "a comma comes before the closing bracket"},
		{"single-quotes", flaw.Usual, bytes.ReplaceAll(body, []byte(`"`), []byte(`'`)), "strings are in single quotes"},
		{"trailing-text", flaw.Usual, append(bytes.Clone(body), " ballast"...), "text follows the end of the JSON"},
		{"comment", flaw.Deep, append([]byte("/* ballast */ "), body...), "a comment comes before the JSON"},
		{"nan", flaw.Deep, inNumber(body, func(string) string { return "NaN" }), "NaN stands where a number is"},
		{"leading-zero", flaw.Deep, inNumber(body, func(n string) string { return strings.Replace("0"+n, "0-", "-0", 1) }), "a number has a leading zero"},
		{"unquoted-name", flaw.Deep, unquoted(body), "a name has no quotes"},
		{"byte-order-mark", flaw.Deep, append([]byte("\xef\xbb\xbf"), body...), "the JSON begins with the byte order mark of UTF-8 (RFC 8259, section 8.1)"},
		{"byte-order-mark-utf-16", flaw.Deep, append([]byte("\xff\xfe"), body...), "the JSON begins with the byte order mark of UTF-16"},
		{"not-utf-8", flaw.Deep, inText(body, "\xff"), "a string is not UTF-8"},
	} {
		if m.depth > e.op.plan.opt.Depth || last < 1 || m.body == nil || json.Valid(m.body) && m.variant != "not-utf-8" || bytes.Equal(m.body, body) {
			continue
		}
		e.whole(control, "malformed-json", m.variant, m.reason, s.again(e.op.Method, e.op.Media, m.body))
	}
	if twice := duplicated(body); twice != nil && e.at(flaw.Deep) {
		e.whole(control, "duplicate-member", "first", "the first member appears twice with two values, and readers differ on which one counts (RFC 8259, section 4)", s.again(e.op.Method, e.op.Media, twice))
	}
}

// inText puts bytes into the first string of a JSON text that is a value, as it is written;
// nil where there is none.
func inText(body []byte, added string) []byte {
	from, to := firstToken(body, func(t json.Token, name bool) bool {
		_, is := t.(string)
		return is && !name
	})
	if from == to {
		return nil
	}
	return slices.Concat(body[:from+1], []byte(added), body[from+1:])
}

// inNumber is a JSON text with something else for its first number; nil where it has none.
func inNumber(body []byte, other func(string) string) []byte {
	from, to := firstToken(body, func(t json.Token, _ bool) bool {
		_, is := t.(json.Number)
		return is
	})
	if from == to {
		return nil
	}
	return slices.Concat(body[:from], []byte(other(string(body[from:to]))), body[to:])
}

// unquoted is a JSON text whose first name has no quotes; nil where it has no name.
func unquoted(body []byte) []byte {
	from, to := firstToken(body, func(_ json.Token, name bool) bool { return name })
	if from == to {
		return nil
	}
	return slices.Concat(body[:from], body[from+1:to-1], body[to:])
}

// firstToken is where the first token of a JSON text is that fits, names told from
// strings; nothing where none does.
func firstToken(body []byte, fits func(t json.Token, name bool) bool) (from, to int) {
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	for {
		before := int(d.InputOffset())
		t, err := d.Token()
		if err != nil {
			return 0, 0
		}
		end := int(d.InputOffset())
		rest := bytes.TrimLeft(body[end:], " \t\r\n")
		_, text := t.(string)
		if !fits(t, text && len(rest) > 0 && rest[0] == ':') {
			continue
		}
		begin := bytes.IndexFunc(body[before:end], func(r rune) bool { return !strings.ContainsRune(" \t\r\n,:", r) })
		return before + max(begin, 0), end
	}
}

// duplicated is an object's text with another value for its first member before
// it; nil if there is none.
func duplicated(body []byte) []byte {
	d := json.NewDecoder(bytes.NewReader(body))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil
	}
	name, err := d.Token()
	if text, ok := name.(string); err == nil && ok {
		quoted := instance.Encode(text)
		return append(append(append([]byte("{"), quoted...), ":null,"...), body[1:]...)
	}
	return nil
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
	for _, t := range []string{"text/plain", "application/octet-stream", "application/x-ndjson"} {
		if !e.describesMedia(t) {
			return t
		}
	}
	return ""
}

func (e *emitter) describesMedia(t string) bool {
	return slices.ContainsFunc(e.op.Body.Media, func(m oad.Media) bool {
		have := exchange.MediaTypeOf(m.Type)
		return have == t || have == "*/*" || strings.HasSuffix(have, "/*") && strings.HasPrefix(t, strings.TrimSuffix(have, "*"))
	})
}

// otherMethod is a method that no path of the description has at this address:
// GET first, for it changes nothing. HEAD and OPTIONS are left out, for servers
// answer them on their own.
func (e *emitter) otherMethod() string {
	for _, method := range []string{"GET", "PATCH", "PUT", "POST"} {
		if !e.op.plan.describes(method, e.op.Operation) && e.harmless(method) {
			return method
		}
	}
	return ""
}

// harmless reports whether a method may be sent that the path does not describe: the
// service may have it all the same. A record has to be Obiter's own; where there is
// none, a PATCH is sent without a patch, which cannot change anything (RFC 5789).
func (e *emitter) harmless(method string) bool {
	switch {
	case method == "GET", !strings.Contains(e.op.Path, "{") && method == "PATCH":
		return true
	}
	return strings.Contains(e.op.Path, "{") && e.own()
}

// own reports whether the records that the path names are Obiter's own.
func (e *emitter) own() bool { return e.op.plan.foreign("PATCH "+e.op.Path) == "" }

// describes reports whether the description has the method on this path, or on
// another template that the same address would match.
func (p *Plan) describes(method string, at oad.Operation) bool {
	here := strings.Split(at.Address(), "/")
	return slices.ContainsFunc(p.paths[pathKind{method, len(here)}], func(path []string) bool { return overlap(path, here) })
}

// pathsOf are the segments of all paths.
func pathsOf(doc *oad.Document) map[pathKind][][]string {
	out := map[pathKind][][]string{}
	for _, o := range doc.Operations {
		path := strings.Split(o.Address(), "/")
		kind := pathKind{o.Method, len(path)}
		out[kind] = append(out[kind], path)
	}
	return out
}

// pathKind parts paths that cannot overlap.
type pathKind struct {
	method   string
	segments int
}

// overlap reports whether one address may be of both templates, by their segments.
func overlap(x, y []string) bool {
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
