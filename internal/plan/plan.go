// Package plan turns a description into an ordered stream of cases: for each
// operation its controls, then flawed requests and edges, then what is wrong
// with the request as a whole. The same description, seed and options give the
// same bytes; no two cases of a plan send the same request; nothing holds more
// than one operation's work at a time.
package plan

import (
	"cmp"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"
	"time"

	"obiter/internal/config"
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
	// Budget caps the cases of an operation beside its controls: each rule once
	// before any rule twice. 0: no cap.
	Budget int
	// Values stand in for examples: path parameters by their names.
	Values map[string]any
	// Bodies are merged over the controls of operations (RFC 7396), by their names.
	Bodies map[string]any
	// Rules are those that no schema says, by operation.
	Rules map[string][]config.Rule
	// Statuses narrow what is right for a class.
	Statuses map[exchange.Class][]int
	Messages []config.Message // what messages have to say
	Now      time.Time        // for rules that speak of it; only the day counts
	Salt     uint64           // makes values that must be unique differ between runs
	// Credentials are the security schemes that a value is known for, Headers the
	// names of headers that are sent with every request.
	Credentials []string
	Headers     []string
	// Removable names the DELETE operations whose records are made for them.
	Removable map[string]bool
	// PerCase names the operations that have new records for each case.
	PerCase map[string]bool
	// Checked says that another plan with the same rules was made before, so that
	// they need not be looked at before their operation comes.
	Checked bool
	// Without names operations that are left out, and why.
	Without map[string]string
	// Authorise leaves out operations that ask for credentials of which none is known.
	Authorise bool
}

// Plan is what a description gives to send.
type Plan struct {
	doc        *oad.Document
	set        *schema.Set
	maker      *sample.Maker
	prepared   int // operations since set and maker are new
	checking   bool
	answers    *answers
	opt        Options
	operations []oad.Operation
	number     *int
	paths      map[pathKind][]string
	once       map[string]string // flaws that the plan has once: the operation each is planned with
}

// New checks the options against the description. A pattern of Only or a tag
// that matches no operation is an error.
func New(doc *oad.Document, opt Options) (*Plan, error) {
	p := &Plan{doc: doc, answers: &answers{doc: doc}, number: new(int), opt: opt}
	p.renew()
	selected, err := selectOperations(doc.Operations, opt)
	p.operations = selected
	if opt.Base == "" && len(doc.Servers) > 0 {
		p.opt.Base = doc.Servers[0]
	}
	if err != nil {
		return p, err
	}
	for _, o := range selected { // what is wrong with a rule is said before anything is sent
		if opt.Checked || len(opt.Rules[o.Name()])+len(o.Rules) == 0 {
			continue
		}
		p.checking = true
		if op := p.prepare(o); op.wrong != nil {
			return p, op.wrong
		}
	}
	p.checking = false
	return p, nil
}

// Len is the number of selected operations.
func (p *Plan) Len() int { return len(p.operations) }

// Operation is a selected operation, ready to give out its cases.
type Operation struct {
	oad.Operation
	SkipReason string         // why nothing is planned; empty where something is
	Parts      []*Part        // what a request holds: parameters by place, then the body
	Rejected   []string       // published examples that break their schema
	Trimmed    bool           // the body has more optional fields than are tried
	Media      string         // the media type of the body; empty without one
	Drops      map[string]int // flaws not planted, counted by reason
	Dropped    []flaw.Drop    // and one by one

	plan  *Plan
	merge bool // a merge patch (RFC 7396)
	bound *bound
	wrong error // with a rule of the configuration

	credentials []exchange.Credential
}

// Operations gives out the selected operations in the order of the document.
func (p *Plan) Operations() iter.Seq[*Operation] {
	return func(yield func(*Operation) bool) {
		*p.number, p.once = 0, map[string]string{}
		for _, o := range p.operations {
			if !yield(p.prepare(o)) {
				return
			}
		}
	}
}

// generation is how many operations share what was compiled for them. Schemas
// are kept no longer, so that memory does not grow with the description, and the
// compiler's tables, which it copies for each schema, stay small.
const generation = 32

func (p *Plan) renew() {
	p.set, p.maker, p.prepared = schema.NewSet(p.doc), sample.New(p.opt.Seed), 0
}

// Renewed is an operation planned with other options: with the values of records
// that were made for it alone.
func (p *Plan) Renewed(op *Operation, opt Options) *Operation {
	q := *p
	opt.Base = p.opt.Base
	q.opt = opt
	return q.prepare(op.Operation)
}

func (p *Plan) prepare(o oad.Operation) *Operation {
	if p.prepared++; p.prepared > generation {
		p.renew()
	}
	op := &Operation{Operation: o, plan: p, Drops: map[string]int{}, SkipReason: o.Skip}
	if op.SkipReason != "" {
		return op
	}
	if err := p.fill(op); err != nil {
		op.SkipReason, op.Parts = err.Error(), nil
	}
	return op
}

// fill makes the operation's parts. The error says why nothing can be planned.
func (p *Plan) fill(op *Operation) error {
	if why := p.opt.Without[op.Name()]; why != "" {
		return errors.New(why)
	}
	switch op.Method {
	case "HEAD":
		return errors.New("answers to HEAD have no body to judge")
	case "OPTIONS", "TRACE", "CONNECT":
		return errors.New("answered by servers on their own")
	case "DELETE":
		if !p.opt.Removable[op.Name()] {
			return errors.New("a DELETE is sent only to records made for it, and no fixture keeps its path parameters")
		}
	}
	if err := p.parts(op); err != nil {
		return err
	}
	if len(op.Parts) == 0 {
		return errors.New("no parameters and no body")
	}
	if op.wrong = p.bind(op); op.wrong == nil && p.checking {
		op.wrong = p.check(op)
	}
	if op.wrong != nil {
		return op.wrong
	}
	return p.authorise(op)
}

// parts makes the operation's parts.
func (p *Plan) parts(op *Operation) error {
	if name := undescribed(op.Operation); name != "" {
		return fmt.Errorf("the path parameter %q is not described", name)
	}
	parts, err := p.parameterParts(op.Operation)
	if err != nil {
		return err
	}
	op.Parts = parts
	if op.Body != nil && op.Method != "GET" { // content in a GET has no meaning (RFC 9110, section 9.3.1)
		if err := p.bodyPart(op); err != nil {
			return err
		}
	}
	return nil
}

func (p *Plan) bodyPart(op *Operation) error {
	media, form, ok := usableMedia(op.Body.Media)
	if !ok {
		return errors.New("its body is neither JSON nor a form: " + mediaNames(op.Body.Media))
	}
	op.Media = sentAs(media.Type)
	op.merge = strings.HasPrefix(media.Type, "application/merge-patch+json")
	if media.Schema == (oad.Location{}) {
		return errors.New("its body has no schema")
	}
	s, err := p.set.Compile(media.Schema.URL())
	if err != nil {
		return fmt.Errorf("%s: %w", p.doc.Place(media.Schema), err)
	}
	part := &Part{In: "body", Schema: s, form: form}
	res, err := p.maker.Controls(s, p.published(media.Examples))
	op.Rejected, op.Trimmed = res.Rejected, res.Trimmed
	if err != nil {
		return fmt.Errorf("%s: %w", p.doc.Place(media.Schema), err)
	}
	patch, patched := p.opt.Bodies[op.Name()]
	for _, c := range res.Controls {
		if patched {
			c.Value = instance.Merge(c.Value, patch)
			if found := s.Validate(c.Value, nil); len(found) > 0 {
				if len(part.Controls) == 0 && c.Shape == fullest {
					return fmt.Errorf("with the configured body its control breaks the schema at %s: %s", instance.Fragment(found[0].Pointer), found[0].Message())
				}
				continue // a branch that the configured body rules out
			}
		}
		if v, ok := part.trim(c.Value); ok {
			c.Value = v
			part.Controls = append(part.Controls, c)
		}
	}
	if len(part.Controls) == 0 {
		return errors.New("its form has fields that there is no one way to send")
	}
	if form == "multipart" {
		op.Media += "; boundary=" + boundary
	}
	op.Parts = append(op.Parts, part)
	return nil
}

// trim takes out optional members that the form cannot send.
func (part *Part) trim(v any) (any, bool) {
	if _, ok := part.seen(v); ok {
		return v, true
	}
	object, ok := v.(map[string]any)
	if !ok {
		return v, false
	}
	out := map[string]any{}
	for name, m := range object {
		if _, ok := part.sendable(map[string]any{name: m}); ok {
			out[name] = m
		}
	}
	return out, part.Schema.Valid(out)
}

func (p *Plan) published(examples []oad.Example) []sample.Published {
	var out []sample.Published
	for _, e := range examples {
		out = append(out, sample.Published{Value: e.Value, Place: p.doc.Place(e.At)})
	}
	return out
}

// usableMedia finds the first media type that can be written: JSON before forms.
// "*/*" takes JSON too.
func usableMedia(list []oad.Media) (m oad.Media, form string, ok bool) {
	for _, m := range list {
		if IsJSON(m.Type) {
			return m, "", true
		}
	}
	for _, m := range list {
		switch t, _, _ := strings.Cut(strings.ToLower(m.Type), ";"); strings.TrimSpace(t) {
		case "*/*", "application/*":
			return m, "", true
		case "application/x-www-form-urlencoded":
			return m, "urlencoded", true
		case "multipart/form-data":
			return m, "multipart", true
		}
	}
	return oad.Media{}, "", false
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

// Cases gives out the operation's cases: controls first.
func (op *Operation) Cases() iter.Seq[exchange.Case] {
	return func(yield func(exchange.Case) bool) {
		if op.SkipReason != "" {
			return
		}
		var within map[int]bool
		if op.plan.opt.Budget > 0 {
			within = op.withinBudget()
		}
		op.emit(func(i int, c exchange.Case) bool {
			if within != nil && !within[i] {
				return true
			}
			*op.plan.number++
			c.Number = *op.plan.number
			return yield(c)
		})
	}
}

// emit gives out every case with its place in the operation, from 1.
func (op *Operation) emit(yield func(int, exchange.Case) bool) {
	op.Drops, op.Dropped = map[string]int{}, nil
	e := &emitter{op: op, yield: yield, sent: map[[2]uint64]bool{}, ids: map[string]bool{}}
	e.controls()
	for _, part := range op.Parts {
		e.part(part)
	}
	e.rules()
	e.request()
	e.authorisation()
}

// withinBudget picks cases: all controls, then by turns one of each rule.
func (op *Operation) withinBudget() map[int]bool {
	type ranked struct{ turn, place int }
	var list []ranked
	turns := map[string]int{}
	picked := map[int]bool{}
	op.emit(func(i int, c exchange.Case) bool {
		rule := ""
		switch {
		case c.Kind == exchange.Control:
			picked[i] = true
			return true
		case c.Edge != nil:
			rule = "edge " + c.Edge.Rule
		case len(c.Flaws) > 1:
			rule = "several"
		default:
			rule = c.Flaws[0].In + " " + c.Flaws[0].Rule
		}
		turns[rule]++
		list = append(list, ranked{turns[rule], i})
		return true
	})
	slices.SortFunc(list, func(a, b ranked) int { return cmp.Or(cmp.Compare(a.turn, b.turn), cmp.Compare(a.place, b.place)) })
	for _, r := range list[:min(len(list), op.plan.opt.Budget)] {
		picked[r.place] = true
	}
	return picked
}

// emitter gives cases ids, and keeps equal requests out.
type emitter struct {
	op      *Operation
	yield   func(int, exchange.Case) bool
	sent    map[[2]uint64]bool
	ids     map[string]bool
	bytes   int // of all bodies
	given   int
	stored  any // the body of the fullest control, as it was sent
	stopped bool
}

func (e *emitter) drop(f flaw.Flaw, why string) {
	e.op.Drops[why]++
	e.op.Dropped = append(e.op.Dropped, flaw.Drop{Flaw: f, Why: why})
}

// maxBytes is how much the bodies of one operation may come to.
const maxBytes = 128 << 20

// SameRequest is the reason for dropping a flaw whose request another case sends already.
const SameRequest = "another case sends the same request"

func (e *emitter) give(c exchange.Case, identity []flaw.Flaw) {
	if e.stopped || e.op.Method == "DELETE" && !e.op.plan.opt.PerCase[e.op.Name()] && !bearsLoss(c) {
		return
	}
	e.bytes += len(c.Request.Body)
	sum := digest(c.Request, c.Credentials)
	c.ID = caseID(e.op.Name(), c.Kind, identity)
	if e.sent[sum] || e.ids[c.ID] {
		if len(c.Flaws) > 0 && c.Base == fullest { // branches share much: no loss
			e.drop(c.Flaws[0], SameRequest)
		}
		return
	}
	e.sent[sum], e.ids[c.ID] = true, true
	if !e.refresh(&c) {
		return
	}
	c.Operation, c.OperationID = e.op.Name(), e.op.ID
	if c.Credentials == nil {
		c.Credentials = e.op.credentials
	}
	if len(c.Flaws) > 0 && c.Expect.Says == "" {
		if says := config.Says(e.op.plan.opt.Messages, c.Flaws[0].Pointer, c.Flaws[0].Rule); says != nil && len(c.Flaws) == 1 && c.Flaws[0].In != "request" {
			c.Expect.Says = says.String()
		}
	}
	settled := c.Expect.Statuses != nil
	if !settled {
		c.Expect.Statuses = c.Expect.Class.Statuses()
	}
	if narrowed := e.op.plan.opt.Statuses[c.Expect.Class]; narrowed != nil && !settled {
		c.Expect.Statuses = narrowed
	}
	if c.Expect.Statuses == nil {
		c.Expect.Statuses = []int{}
	}
	if c.Flaws == nil {
		c.Flaws = []flaw.Flaw{}
	}
	e.given++
	e.stopped = !e.yield(e.given, c)
}

// bearsLoss tells whether the answer to a case of a DELETE is the same when the
// first control has taken the record away.
func bearsLoss(c exchange.Case) bool {
	if c.Kind != exchange.Flawed {
		return c.Kind == exchange.Control && c.Base == fullest
	}
	return c.Flaws[0].In == "path" || slices.Contains([]string{"unknown-path", "wrong-method"}, c.Flaws[0].Rule)
}

// values are the parts' values in one of their shapes; a part without that
// shape is the fullest.
func (op *Operation) values(shape string) map[string]any {
	out := map[string]any{}
	for _, part := range op.Parts {
		out[part.In] = part.Controls[0].Value
		for _, c := range part.Controls {
			if c.Shape == shape {
				out[part.In] = c.Value
			}
		}
	}
	return out
}

// with is the fullest request with another value in one part.
func (op *Operation) with(in string, v any) exchange.Request {
	values := op.values(fullest)
	values[in] = v
	return op.compose(values)
}

// compose writes a request.
func (op *Operation) compose(values map[string]any) exchange.Request {
	var body []byte
	for _, part := range op.Parts {
		if v, ok := values[part.In]; ok && part.In == "body" {
			body = part.encode(v)
		}
	}
	return op.request(op.Method, op.Media, body, values)
}

// encode writes a body.
func (part *Part) encode(v any) []byte {
	object, _ := v.(map[string]any)
	switch part.form {
	case "urlencoded":
		object, _ = part.sendable(object)
		return encodeForm(object)
	case "multipart":
		object, _ = part.sendable(object)
		return encodeMultipart(object, part.isFile, part.asJSON)
	}
	return instance.Encode(v)
}

// composer writes fullest requests that differ in one part: what the others give
// to them is written once.
func (op *Operation) composer(part *Part) func(v any) exchange.Request {
	if part.In == "body" {
		around := op.compose(op.values(fullest))
		return func(v any) exchange.Request {
			r := around
			r.Headers, r.Body = slices.Clone(around.Headers), part.encode(v)
			return r
		}
	}
	around := op.values(fullest)
	var body []byte
	if last := op.Parts[len(op.Parts)-1]; last.In == "body" {
		body = last.encode(around["body"])
	}
	return func(v any) exchange.Request {
		values := maps.Clone(around)
		values[part.In] = v
		return op.request(op.Method, op.Media, body, values)
	}
}

// request puts together what is sent.
func (op *Operation) request(method, contentType string, body []byte, values map[string]any) exchange.Request {
	address, headers := op.plan.write(op.Operation, op.Parts, values)
	r := exchange.Request{Method: method, URL: address, Body: body}
	r.Headers = append(r.Headers, [2]string{"Accept", "application/problem+json, application/json;q=0.9, */*;q=0.1"})
	if contentType != "" {
		r.Headers = append(r.Headers, [2]string{"Content-Type", contentType})
	}
	r.Headers = append(r.Headers, headers...)
	return r
}

// isFile tells whether a multipart field holds bytes.
func (part *Part) isFile(name string) bool {
	members, _ := schema.Merge(schema.Apply([]schema.Schema{part.Schema}, part.Controls[0].Value)).Member(name)
	return len(members) > 0 && schema.Merge(schema.Apply(members, "x")).Binary
}

const (
	fullest = "fullest"
	leanest = "leanest"
)

// controls gives out the fullest and the leanest request, then one for each
// branch that a part has beside.
func (e *emitter) controls() {
	shapes := []string{fullest, leanest}
	secrets := map[string][]string{}
	for _, part := range e.op.Parts {
		if part.In == "body" {
			for _, c := range part.Controls {
				secrets[c.Shape] = part.secretFields(c)
			}
		}
	}
	for _, part := range e.op.Parts {
		for _, c := range part.Controls {
			if !slices.Contains(shapes, c.Shape) {
				shapes = append(shapes, c.Shape)
			}
		}
	}
	for _, shape := range shapes {
		values := e.op.values(shape)
		e.give(exchange.Case{
			Name: "control, " + shape, Kind: exchange.Control, Request: e.op.compose(values), Base: shape,
			Expect: exchange.Expect{Class: exchange.Accepted}, Body: values["body"], Control: e.op.values(fullest)["body"], Secrets: secretsIn(values["body"], secrets[shape]),
		}, []flaw.Flaw{{In: "body", Rule: "control", Variant: shape}})
	}
}

// part plants flaws into a part: into its fullest control, and into those of
// other branches what only they have.
func (e *emitter) part(part *Part) {
	done := map[string]bool{}
	for _, control := range part.Controls {
		if control.Shape != leanest {
			e.plant(part, control, done)
		}
	}
}

func (e *emitter) plant(part *Part, control sample.Control, done map[string]bool) {
	var identity []flaw.Flaw
	if control.Shape != fullest {
		identity = []flaw.Flaw{{In: part.In, Rule: "control", Variant: control.Shape}}
	}
	alternatives := part.alternatives(control)
	var secrets []string
	if part.In == "body" {
		secrets = part.secretFields(control)
	}
	opt := flaw.Options{Depth: e.op.plan.opt.Depth, Maker: e.op.plan.maker, Patch: e.op.merge && part.In == "body", In: part.In,
		Enough: func() bool { return e.bytes > maxBytes }, Done: done, Dropped: func(d flaw.Drop) { e.drop(d.Flaw, d.Why) }}
	if part.In != "body" || part.form != "" {
		opt.Seen = part.seen
	}
	compose := e.op.composer(part)
	flaw.Plant(part.Schema, control.Value, opt, func(p flaw.Planted) bool {
		v, beside, why := e.admit(part, p)
		if why != "" {
			if len(p.Flaws) > 0 {
				e.drop(p.Flaws[0], why)
			} else {
				e.drop(*p.Edge, why)
			}
			return !e.stopped
		}
		p.Value = v
		c := exchange.Case{Request: compose(p.Value), Body: p.Value, Control: control.Value, Flaws: p.Flaws, Edge: p.Edge, Base: control.Shape, Alternatives: alternatives, Beside: beside, Secrets: secretsIn(p.Value, secrets)}
		if p.Edge != nil {
			c.Kind, c.Expect.Class = exchange.Edge, exchange.Accepted
			c.Name = fmt.Sprintf("edge, %s %s %s", shownField(*p.Edge), p.Edge.Rule, p.Edge.Variant)
			e.give(c, append(identity[:len(identity):len(identity)], *p.Edge))
			return !e.stopped
		}
		c.Kind, c.Expect.Class = exchange.Flawed, classOf(p.Flaws)
		c.Name = nameOf(p.Flaws)
		e.give(c, append(identity[:len(identity):len(identity)], p.Flaws...))
		return !e.stopped
	})
}

func classOf(flaws []flaw.Flaw) exchange.Class {
	switch flaws[0].In {
	case "path":
		return exchange.PathParameter
	case "query", "header", "cookie":
		return exchange.Parameter
	}
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
		return "(" + f.In + ")"
	}
	if f.In != "body" {
		return f.In + " " + f.Pointer
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

// Control is the fullest control of an operation, whatever is selected; the
// error says why there is none.
func (p *Plan) Control(name string) (exchange.Case, error) {
	i := slices.IndexFunc(p.doc.Operations, func(o oad.Operation) bool { return o.Name() == name })
	if i < 0 {
		return exchange.Case{}, fmt.Errorf("the description has no operation %q", name)
	}
	op := &Operation{Operation: p.doc.Operations[i], plan: p, Drops: map[string]int{}}
	if op.Skip != "" {
		return exchange.Case{}, errors.New(op.Skip)
	}
	if err := p.parts(op); err != nil {
		return exchange.Case{}, err
	}
	if err := p.authorise(op); err != nil {
		return exchange.Case{}, err
	}
	if err := p.bind(op); err != nil {
		return exchange.Case{}, err
	}
	values := op.values(fullest)
	c := exchange.Case{ID: caseID(name, exchange.Control, []flaw.Flaw{{In: "request", Rule: "fixture"}}), Name: "fixture", Operation: name, Kind: exchange.Control,
		Request: op.compose(values), Expect: exchange.Expect{Class: exchange.Accepted}, Body: values["body"], Credentials: op.credentials}
	(&emitter{op: op}).refresh(&c)
	return c, nil
}
