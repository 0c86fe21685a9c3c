// Package plan turns a description into an ordered stream of cases: for each
// operation its controls, then flawed requests and edges, then what is wrong
// with the request as a whole. The same description, seed and options give the
// same bytes; no two cases of a plan send the same request; nothing holds more
// than one operation's work at a time.
package plan

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"obiter/internal/exchange"
	"obiter/internal/flaw"
	"obiter/internal/instance"
	"obiter/internal/oad"
	"obiter/internal/sample"
	"obiter/internal/schema"
)

// Options narrow and steer a plan. The zero value plans everything quickly.
type Options struct {
	Base  string // URL that the paths follow; empty: the description's first server
	Only  []string
	Skip  []string
	Tags  []string
	Depth flaw.Depth
	Seed  uint64
}

// Plan is what a description gives to send.
type Plan struct {
	doc        *oad.Document
	set        *schema.Set
	maker      *sample.Maker
	opt        Options
	operations []oad.Operation
	number     int
	methods    map[string]string // by path: the operation that its wrong method is planned with
}

// New checks the options against the description. A pattern of Only or a tag
// that matches no operation is an error.
func New(doc *oad.Document, opt Options) (*Plan, error) {
	p := &Plan{doc: doc, set: schema.NewSet(doc), maker: sample.New(opt.Seed), opt: opt}
	selected, err := selectOperations(doc.Operations, opt)
	p.operations = selected
	if opt.Base == "" && len(doc.Servers) > 0 {
		p.opt.Base = doc.Servers[0]
	}
	return p, err
}

// Len is the number of selected operations.
func (p *Plan) Len() int { return len(p.operations) }

// Operation is a selected operation, ready to give out its cases.
type Operation struct {
	oad.Operation
	SkipReason string           // why nothing is planned; empty where something is
	Controls   []sample.Control // of the body
	Rejected   []string         // published examples that break their schema
	Media      string           // the media type that is sent
	Drops      map[string]int   // flaws not planted, counted by reason
	Dropped    []flaw.Drop      // and one by one

	plan   *Plan
	schema schema.Schema
	url    string
	fixed  [][2]string // headers that every request has
	merge  bool        // a merge patch (RFC 7396)
}

// Operations gives out the selected operations in the order of the document.
func (p *Plan) Operations() iter.Seq[*Operation] {
	return func(yield func(*Operation) bool) {
		p.number, p.methods = 0, map[string]string{}
		for _, o := range p.operations {
			if !yield(p.prepare(o)) {
				return
			}
		}
	}
}

func (p *Plan) prepare(o oad.Operation) *Operation {
	op := &Operation{Operation: o, plan: p, Drops: map[string]int{}, SkipReason: o.Skip}
	if op.SkipReason != "" {
		return op
	}
	if o.Body == nil {
		op.SkipReason = "no request body"
		return op
	}
	media, ok := jsonMedia(o.Body.Media)
	if !ok {
		op.SkipReason = "no JSON body: " + mediaNames(o.Body.Media)
		return op
	}
	op.Media = sentAs(media.Type)
	op.merge = strings.HasPrefix(media.Type, "application/merge-patch+json")
	if err := p.prepareBody(op, media); err != nil {
		op.SkipReason = err.Error()
		return op
	}
	address, headers, err := p.address(o)
	if err != nil {
		op.SkipReason = err.Error()
		return op
	}
	op.url, op.fixed = address, headers
	return op
}

func (p *Plan) prepareBody(op *Operation, media oad.Media) error {
	if media.Schema == (oad.Location{}) {
		return fmt.Errorf("its JSON body has no schema")
	}
	s, err := p.set.Compile(media.Schema.URL())
	if err != nil {
		return fmt.Errorf("%s: %w", p.doc.Place(media.Schema), err)
	}
	op.schema = s
	res, err := p.maker.Controls(s, p.published(media.Examples))
	op.Rejected = res.Rejected
	if err != nil {
		return fmt.Errorf("%s: %w", p.doc.Place(media.Schema), err)
	}
	op.Controls = res.Controls
	return nil
}

func (p *Plan) published(examples []oad.Example) []sample.Published {
	var out []sample.Published
	for _, e := range examples {
		out = append(out, sample.Published{Value: e.Value, Place: p.doc.Place(e.At)})
	}
	return out
}

// jsonMedia finds the first JSON media type; "*/*" takes JSON too.
func jsonMedia(list []oad.Media) (oad.Media, bool) {
	for _, m := range list {
		if IsJSON(m.Type) {
			return m, true
		}
	}
	for _, m := range list {
		if m.Type == "*/*" || m.Type == "application/*" {
			return m, true
		}
	}
	return oad.Media{}, false
}

// IsJSON tells whether a media type is JSON: application/json, or a type with
// the suffix +json (RFC 6839, section 3.1). JSON Patch (RFC 6902) is left out:
// its bodies are programs, not fields.
func IsJSON(mediaType string) bool {
	t, _, _ := strings.Cut(strings.ToLower(mediaType), ";")
	t = strings.TrimSpace(t)
	return t == "application/json" || t == "text/json" || strings.HasSuffix(t, "+json") && t != "application/json-patch+json"
}

func sentAs(mediaType string) string {
	if strings.Contains(mediaType, "*") {
		return "application/json"
	}
	return mediaType
}

func mediaNames(list []oad.Media) string {
	var out []string
	for _, m := range list {
		out = append(out, m.Type)
	}
	if len(out) == 0 {
		return "no media type is described"
	}
	return strings.Join(out, ", ")
}

// Schema is the compiled schema of the body.
func (op *Operation) Schema() schema.Schema { return op.schema }

// Cases gives out the operation's cases: controls first.
func (op *Operation) Cases() iter.Seq[exchange.Case] {
	return func(yield func(exchange.Case) bool) {
		if op.SkipReason != "" {
			return
		}
		e := &emitter{op: op, yield: yield, sent: map[[32]byte]bool{}, ids: map[string]bool{}}
		e.controls()
		e.body()
		e.request()
	}
}

// emitter numbers cases, gives them ids, and keeps equal requests out.
type emitter struct {
	op      *Operation
	yield   func(exchange.Case) bool
	sent    map[[32]byte]bool
	ids     map[string]bool
	stopped bool
}

func (e *emitter) drop(f flaw.Flaw, why string) {
	e.op.Drops[why]++
	e.op.Dropped = append(e.op.Dropped, flaw.Drop{Flaw: f, Why: why})
}

// SameRequest is the reason for dropping a flaw whose request another case sends already.
const SameRequest = "another case sends the same request"

func (e *emitter) give(c exchange.Case, identity []flaw.Flaw) {
	if e.stopped {
		return
	}
	sum := digest(c.Request)
	c.ID = caseID(e.op.Name(), c.Kind, identity)
	if e.sent[sum] || e.ids[c.ID] {
		if len(c.Flaws) > 0 {
			e.drop(c.Flaws[0], SameRequest)
		}
		return
	}
	e.sent[sum], e.ids[c.ID] = true, true
	e.op.plan.number++
	c.Number = e.op.plan.number
	c.Operation, c.OperationID = e.op.Name(), e.op.ID
	if c.Expect.Statuses = c.Expect.Class.Statuses(); c.Expect.Statuses == nil {
		c.Expect.Statuses = []int{}
	}
	if c.Flaws == nil {
		c.Flaws = []flaw.Flaw{}
	}
	e.stopped = !e.yield(c)
}

func (e *emitter) send(body any) exchange.Request {
	return e.op.request(e.op.Method, e.op.Media, instance.Encode(body))
}

func (e *emitter) controls() {
	for _, c := range e.op.Controls {
		e.give(exchange.Case{
			Name: "control, " + c.Shape, Kind: exchange.Control, Request: e.send(c.Value),
			Expect: exchange.Expect{Class: exchange.Accepted}, Body: c.Value, Control: e.op.Controls[0].Value,
		}, []flaw.Flaw{{In: "body", Rule: "control", Variant: c.Shape}})
	}
}

func (e *emitter) body() {
	control := e.op.Controls[0].Value
	opt := flaw.Options{Depth: e.op.plan.opt.Depth, Maker: e.op.plan.maker, Patch: e.op.merge, Dropped: func(d flaw.Drop) { e.drop(d.Flaw, d.Why) }}
	flaw.Plant(e.op.schema, control, opt, func(p flaw.Planted) bool {
		c := exchange.Case{Request: e.send(p.Value), Body: p.Value, Control: control, Flaws: p.Flaws, Edge: p.Edge}
		if p.Edge != nil {
			c.Kind, c.Expect.Class = exchange.Edge, exchange.Accepted
			c.Name = fmt.Sprintf("edge, %s %s %s", shownField(*p.Edge), p.Edge.Rule, p.Edge.Variant)
			e.give(c, []flaw.Flaw{*p.Edge})
			return !e.stopped
		}
		c.Kind, c.Expect.Class = exchange.Flawed, classOf(p.Flaws)
		c.Name = nameOf(p.Flaws)
		e.give(c, p.Flaws)
		return !e.stopped
	})
}

func classOf(flaws []flaw.Flaw) exchange.Class {
	if len(flaws) > 1 {
		return exchange.Constraint
	}
	switch flaws[0].Rule {
	case "type":
		return exchange.Type
	case "additionalProperties":
		return exchange.UnknownField
	}
	return exchange.Constraint
}

func nameOf(flaws []flaw.Flaw) string {
	f := flaws[0]
	switch {
	case len(flaws) > 1 && f.Variant == "empty-object":
		return fmt.Sprintf("empty object, %d required members missing", len(flaws))
	case len(flaws) > 1:
		return fmt.Sprintf("all at once, %d fields wrong", len(flaws))
	}
	return strings.TrimSpace(fmt.Sprintf("%s %s %s", shownField(f), f.Rule, f.Variant))
}

// shownField is the field as a reader wants it: the body itself is "(body)".
func shownField(f flaw.Flaw) string {
	if f.In == "request" {
		return ""
	}
	if f.Pointer == "" {
		return "(body)"
	}
	return f.Pointer
}

// Documented is the statuses an operation documents, in their order.
func (op *Operation) Documented() []string {
	var out []string
	for _, r := range op.Responses {
		out = append(out, r.Status)
	}
	slices.Sort(out)
	return out
}

// Names gives out the names of the selected operations.
func (p *Plan) Names() iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, o := range p.operations {
			if !yield(o.Name()) {
				return
			}
		}
	}
}
