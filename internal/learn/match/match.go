// Package match finds the operation of a description that a request of somebody else
// belongs to, and what is wrong with the request by the description: it makes of a
// captured exchange a case that is judged like any other.
//
// What it cannot read it does not hold against anybody: such a request is neither valid
// nor invalid, and only the form of its answer is judged.
package match

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
	"obiter/internal/learn/capture"
)

// Matcher matches the requests of one capture with a description. It is not safe for
// concurrent use.
type Matcher struct {
	plan     *plan.Plan
	document *oad.Document
	routes   []*route
	bases    []string
	prepared map[string]*plan.Operation // nil: it cannot be tried
	whys     map[string]string          // why not
	controls map[string]request         // by operation: a valid request that was accepted
	statuses map[exchange.Class][]int
	number   int
}

// request is what was sent, by places.
type request struct {
	parts  map[string]any
	unsure string // why it cannot be told whether it is valid; empty where it can
	// doubtful says that what is wrong with it may be right for another reader.
	doubtful bool
}

// captured is the rule of requests of which it is not known whether they are valid.
const captured = "captured"

// Shapes of controls: those that prove what they are controls of, and those that do not.
const (
	accepted = "captured"
	refused  = "captured, refused"
)

// New makes a matcher; at is another address that the paths may follow, or empty. The
// options are those of a plan.
func New(doc *oad.Document, at string, opt plan.Options) (*Matcher, error) {
	opt.ControlsOnly = true
	p, err := plan.New(doc, opt)
	if err != nil {
		return nil, err
	}
	servers := append(slices.Clone(doc.Servers), at)
	for _, o := range doc.Operations {
		servers = append(servers, o.Servers...)
	}
	return &Matcher{plan: p, document: doc, routes: routes(doc.Operations), bases: bases(servers...), prepared: map[string]*plan.Operation{}, whys: map[string]string{}, controls: map[string]request{}, statuses: opt.Statuses}, nil
}

// Operations are those that were met, in the order of the description.
func (m *Matcher) Operations() []exchange.Described {
	var out []exchange.Described
	for _, o := range m.document.Operations {
		if op := m.prepared[o.Name()]; op != nil {
			out = append(out, op.Described())
		}
	}
	return out
}

// found is where a request belongs.
type found struct {
	route     *route
	operation *oad.Operation // nil: the path has no such method
	path      map[string]any
}

func (m *Matcher) find(x capture.Exchange) (found, bool) {
	u, err := url.Parse(x.URL)
	if err != nil {
		return found{}, false
	}
	for _, base := range m.bases {
		path, inside := strings.CutPrefix(u.EscapedPath(), base)
		if !inside || path != "" && path[0] != '/' {
			continue
		}
		segments := split(path)
		var near found
		for _, r := range m.routes {
			values, fits := r.fits(segments)
			if !fits {
				continue
			}
			i := slices.IndexFunc(r.operations, func(o oad.Operation) bool { return o.Method == x.Method })
			if i >= 0 {
				return found{r, &r.operations[i], values}, true
			}
			if near.route == nil {
				near = found{r, nil, values}
			}
		}
		if near.route != nil {
			return near, true
		}
	}
	return found{}, false
}

// Learn takes in an exchange for the control that it may be: a valid request that was
// accepted. The first of each operation is kept.
func (m *Matcher) Learn(x capture.Exchange) {
	f, ok := m.find(x)
	if !ok || f.operation == nil || !x.Answer.Success() {
		return
	}
	if _, has := m.controls[f.operation.Name()]; has {
		return
	}
	op := m.operation(*f.operation)
	if op == nil {
		return
	}
	if r := read(op, f, x); r.unsure == "" && len(m.flaws(op, x, r)) == 0 {
		m.controls[f.operation.Name()] = r
	}
}

// operation is one that is ready to be looked at; nil where it cannot be.
func (m *Matcher) operation(o oad.Operation) *plan.Operation {
	name := o.Name()
	op, known := m.prepared[name]
	if !known {
		var err error
		if op, err = m.plan.Operation(name); err != nil {
			m.whys[name] = err.Error()
		}
		m.prepared[name] = op
	}
	return op
}

// Case makes of an exchange a case with its answer; false where the description has
// nothing like it.
func (m *Matcher) Case(x capture.Exchange) (exchange.Exchange, bool) {
	f, ok := m.find(x)
	if !ok {
		return exchange.Exchange{}, false
	}
	m.number++
	e := exchange.Exchange{Response: x.Answer}
	e.Request, e.Number, e.Base = x.Request, m.number, accepted
	name := f.route.operations[0].Name()
	switch {
	case f.operation == nil && (x.Method == http.MethodOptions || x.Method == http.MethodHead):
		return e, false
	case f.operation == nil:
		e.Operation, e.ProvenBy = name, name
		m.flawed(&e, []exchange.Flaw{{In: "request", Rule: "wrong-method", Variant: strings.ToLower(x.Method), Reason: "the description has no " + x.Method + " on this path"}})
	default:
		name = f.operation.Name()
		e.Operation, e.OperationID, e.ProvenBy = name, f.operation.ID, name
		m.described(&e, f, x)
	}
	e.ID = id(e.Operation, x)
	return e, true
}

// described makes the case of a request to an operation of the description.
func (m *Matcher) described(e *exchange.Exchange, f found, x capture.Exchange) {
	op := m.operation(*f.operation)
	if op == nil {
		unknown(e, m.whys[e.Operation])
		return
	}
	e.Documented = op.Describe(x.Answer)
	r := read(op, f, x)
	flaws := m.flaws(op, x, r)
	e.SecretFields = secretFields(op, r)
	switch {
	case r.doubtful, len(flaws) == 0 && r.unsure != "":
		unknown(e, r.unsure)
	case len(flaws) == 0:
		m.valid(e, op, r)
	default:
		part := flaws[0].In
		if slices.ContainsFunc(flaws, func(o exchange.Flaw) bool { return o.In != part }) {
			unknown(e, "several places of it are wrong at once")
			return
		}
		if part != "request" {
			e.Body, e.Control = r.parts[part], m.controls[e.Operation].parts[part]
			e.Alternatives = alternatives(op, part)
		}
		m.flawed(e, flaws)
	}
}

// valid makes a control of a valid request, an edge where it was refused and one value
// of it is exactly on a boundary. One that was refused for want of credentials or of a
// record says nothing.
func (m *Matcher) valid(e *exchange.Exchange, op *plan.Operation, r request) {
	e.Kind, e.Name, e.Expect.Class = exchange.Control, "a captured request that is valid", exchange.Accepted
	e.Body, e.Parts, e.Captured = r.parts["body"], r.parts, true
	status := e.Response.Status
	switch {
	case e.Response.Success():
	case status != http.StatusConflict && slices.Contains(otherwise, status):
		unknown(e, "it was refused for another reason than its form")
	default:
		e.Base = refused
		if edge, part, is := boundary(op, r, m.controls[e.Operation]); is && status < 500 {
			e.Kind, e.Edge, e.Base = exchange.Edge, &edge, accepted
			e.Body, e.Control, e.Name = r.parts[part], m.controls[e.Operation].parts[part], "a captured request with a value on a boundary"
		}
	}
}

// flawed makes a case of a request with something wrong in it. Where the answer speaks
// of something else, such as credentials, that was looked at first, and it says nothing
// of the request.
func (m *Matcher) flawed(e *exchange.Exchange, flaws []exchange.Flaw) {
	e.Kind, e.Flaws, e.Captured = exchange.Flawed, flaws, true
	e.Expect.Class = rule.ClassOf(flaws)
	for _, f := range flaws { // which of them is looked at first is open
		class := rule.ClassOf([]exchange.Flaw{f})
		statuses := class.Statuses()
		if own := m.statuses[class]; len(own) > 0 {
			statuses = own
		}
		for _, s := range statuses {
			if !slices.Contains(e.Expect.Statuses, s) {
				e.Expect.Statuses = append(e.Expect.Statuses, s)
			}
		}
	}
	slices.Sort(e.Expect.Statuses)
	e.Name = flaws[0].Where() + " " + flaws[0].Rule
	if len(flaws) > 1 {
		e.Name = fmt.Sprintf("%d fields wrong", len(flaws))
	}
	if s := e.Response.Status; s >= 400 && s < 500 && !slices.Contains(e.Expect.Statuses, s) && slices.Contains(otherwise, s) {
		unknown(e, "it was refused for another reason than what is wrong with it")
	}
}

// otherwise are the statuses of what has nothing to do with the form of a request.
var otherwise = []int{http.StatusUnauthorized, http.StatusPaymentRequired, http.StatusForbidden, http.StatusNotFound, http.StatusNotAcceptable, http.StatusProxyAuthRequired, http.StatusRequestTimeout,
	http.StatusConflict, http.StatusRequestEntityTooLarge, http.StatusRequestURITooLong, http.StatusRequestHeaderFieldsTooLarge, http.StatusGone, http.StatusPreconditionFailed, http.StatusMisdirectedRequest, http.StatusLocked, http.StatusFailedDependency, http.StatusTooEarly,
	http.StatusPreconditionRequired, http.StatusTooManyRequests, http.StatusUnavailableForLegalReasons}

// unknown makes a case of which nothing is known but the answer.
func unknown(e *exchange.Exchange, why string) {
	e.Kind, e.Captured, e.Base = exchange.Flawed, true, accepted
	e.Flaws = []exchange.Flaw{{In: "request", Rule: captured, Variant: "unknown", Reason: why}}
	e.Name, e.Expect.Class, e.Expect.Statuses = "a captured request", exchange.Either, nil
	if e.Response.Status >= 400 {
		e.Expect.Statuses = []int{e.Response.Status}
	}
}

// Bare makes a case of an exchange without a description.
func Bare(operation string, number int, x capture.Exchange) exchange.Exchange {
	e := exchange.Exchange{Response: x.Answer}
	e.Request, e.Number, e.Operation, e.ProvenBy, e.ID = x.Request, number, operation, operation, id(operation, x)
	if x.Answer.Success() {
		e.Kind, e.Name, e.Base, e.Captured, e.Expect.Class = exchange.Control, "a captured request that was accepted", accepted, true, exchange.Accepted
		return e
	}
	unknown(&e, "no description says what a valid one is")
	return e
}

// id tells captured requests apart.
func id(operation string, x capture.Exchange) string {
	h := sha256.New()
	fmt.Fprintf(h, "%s\n%d\n%s %s\n", operation, x.Entry, x.Method, x.URL)
	h.Write(x.Body)
	return hex.EncodeToString(h.Sum(nil)[:5])
}

// flaws are what is wrong with a request by the description.
func (m *Matcher) flaws(op *plan.Operation, x capture.Exchange, r request) []exchange.Flaw {
	var out []exchange.Flaw
	for _, part := range op.Parts {
		v, sent := r.parts[part.In]
		if part.In == "cookie" || !sent {
			continue
		}
		if bad, is := v.(whole); is {
			return []exchange.Flaw{exchange.Flaw(bad)}
		}
		for _, found := range part.Schema.Validate(v, m.controls[op.Name()].parts[part.In]) {
			if part.In == "header" && found.Keyword == "required" {
				continue // captures leave header fields out
			}
			f := exchange.Flaw{In: part.In, Pointer: found.Pointer, Rule: found.Keyword, Variant: variant(v, found.Pointer), Reason: reason(found)}
			if i := slices.IndexFunc(out, func(o exchange.Flaw) bool { return o.In == f.In && o.Pointer == f.Pointer }); i >= 0 {
				if rule.StageOf(f) < rule.StageOf(out[i]) { // what is looked at first tells it
					out[i] = f
				}
				continue
			}
			out = append(out, f)
		}
	}
	return out
}

// variant tells one wrong value of a field from another: a service may refuse some and
// take others.
func variant(v any, pointer string) string {
	value, there := instance.Get(v, pointer)
	if !there {
		return captured
	}
	sum := sha256.Sum256(instance.Encode(value))
	return captured + " " + hex.EncodeToString(sum[:3])
}

// reason tells in words what is broken.
func reason(v schema.Violation) string {
	switch v.Keyword {
	case "required":
		return "the required member is left out"
	case "additionalProperties", "unevaluatedProperties":
		return "a member that is not described"
	}
	return instance.Shorten(v.Message(), 200)
}

// whole is what is wrong with a body as a whole, in its place.
type whole exchange.Flaw

// Restart counts cases from the first again.
func (m *Matcher) Restart() { m.number = 0 }
