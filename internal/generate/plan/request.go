package plan

import (
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/generate/custom"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/whole"
)

// planters make the flaws of requests as a whole, in their order. Each names the
// rules of the catalogue that it plants.
var planters = []struct {
	rules []string
	plant func(*emitter, *whole.Request)
}{
	{[]string{"malformed-json", "duplicate-member"}, alone(whole.MalformedJSON)},
	{[]string{"malformed-xml"}, alone(whole.MalformedXML)},
	{[]string{"patch-operation"}, alone(whole.PatchOperations)},
	{[]string{"empty-body", "wrong-content-type", "wrong-content-encoding", "unusual-charset", "unusual-accept"}, alone(whole.ContentHeaders)},
	{[]string{"unusual-text"}, alone(whole.UnusualText)},
	{[]string{"read-only"}, alone(whole.OwnMembers)},
	{[]string{"empty-field"}, alone(whole.HeaderFields)},
	{[]string{"unknown-id"}, (*emitter).unknownID},
	{[]string{"repeated"}, alone(whole.Repeated)},
	{[]string{"wrong-method"}, (*emitter).wrongMethod},
	{[]string{"credentials"}, (*emitter).authorisation},
}

// alone is a planter that needs nothing but the request.
func alone(plant func(*whole.Request)) func(*emitter, *whole.Request) {
	return func(_ *emitter, r *whole.Request) { plant(r) }
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

// request gives out the flaws of the request as a whole.
func (e *emitter) request() {
	r := e.wholeRequest()
	for _, p := range planters {
		p.plant(e, r)
	}
}

// wholeRequest is the fullest request.
func (e *emitter) wholeRequest() *whole.Request {
	op, values := e.op, e.op.values(fullest)
	r := &whole.Request{Operation: op.Operation, Media: op.Media, Depth: op.plan.opt.Depth, Places: placesOf(op.Parts), Values: values, Control: values["body"], Bytes: op.compose(values).Body}
	r.Again = func(method, contentType string, body []byte) exchange.Request {
		return op.request(method, contentType, body, values)
	}
	r.With = func(body any) exchange.Request { return op.with("body", body) }
	r.Give = func(c whole.Case) { e.single(c.Flaw, c.Request, c.Body, c.Control) }
	r.GiveEdge = func(c whole.Case) {
		e.give(exchange.Case{Name: "edge, " + c.Flaw.Rule + " " + c.Flaw.Variant, Kind: exchange.Edge, Request: c.Request, Edge: &c.Flaw, Base: fullest,
			Expect: exchange.Expect{Class: exchange.Accepted}, Control: c.Control}, []exchange.Flaw{c.Flaw})
	}
	if part := op.part("body"); part != nil {
		r.Fields = part.Fields
	}
	return r
}

// wrongMethod uses a method that the path does not describe.
func (e *emitter) wrongMethod(r *whole.Request) {
	if !e.op.plan.first(e.op.Operation) {
		return
	}
	method := e.otherMethod()
	if method == "" {
		return
	}
	var body []byte
	contentType := ""
	if method != "GET" && r.Control != nil && e.own() {
		body, contentType = r.Bytes, e.op.Media
	}
	e.whole(r.Control, "wrong-method", strings.ToLower(method), "the path does not describe "+method, r.Again(method, contentType, body))
}

func (e *emitter) at(d flaw.Depth) bool { return d <= e.op.plan.opt.Depth }

// unknownID names records that probably do not exist: each path parameter in turn
// with another value of the same form, the last one first. A PUT may create what
// its last parameter names, unless the description says that it answers 404, and
// never 201.
func (e *emitter) unknownID(r *whole.Request) {
	i := slices.IndexFunc(e.op.Parts, func(p *Part) bool { return p.In == "path" })
	if i < 0 || !e.at(flaw.Usual) {
		return
	}
	part := e.op.Parts[i]
	object, _ := r.Values["path"].(map[string]any)
	last := e.op.EndsWith()
	for _, name := range slices.Backward(e.op.InPath()) {
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

func (e *emitter) whole(control any, rule, variant, reason string, r exchange.Request) {
	e.single(exchange.Flaw{In: "request", Rule: rule, Variant: variant, Reason: reason}, r, nil, control)
}

// single gives out the case of one flaw of the fullest control.
func (e *emitter) single(f exchange.Flaw, r exchange.Request, body, control any) {
	flaws := []exchange.Flaw{f}
	e.give(exchange.Case{Name: nameOf(flaws), Kind: exchange.Flawed, Request: r, Flaws: flaws,
		Expect: exchange.Expect{Class: rule.ClassOf(flaws)}, Body: body, Control: control, Base: fullest}, flaws)
}

// otherMethod is a method that no path of the description has at this address:
// GET first, for it changes nothing. HEAD and OPTIONS are left out, for servers
// answer them on their own.
func (e *emitter) otherMethod() string {
	for _, method := range []string{"GET", "PATCH", "PUT", "POST"} {
		if !e.op.plan.paths.Describe(method, e.op.Address()) && e.harmless(method) {
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
