// Package plan turns a description into an ordered stream of cases: for each
// operation its controls, then flawed requests and edges, then what is wrong
// with the request as a whole. The same description, seed and options give the
// same bytes; no two cases of a plan send the same request; nothing holds more
// than one operation's work at a time.
package plan

import (
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/sample"
	"obiter/internal/generate/wire"
	"obiter/internal/input/answers"
	"obiter/internal/input/config"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
	"obiter/internal/input/sources"
)

// Options narrow and steer a plan. The zero value plans everything quickly.
type Options struct {
	oad.Selection
	Base string // URL that the paths follow; empty: the description's first server
	// Cases are the only ones, by their ids, that are given out in addition to the controls; nil: all are.
	Cases map[string]bool
	Depth flaw.Depth
	Seed  uint64
	// Budget caps the cases of an operation, controls not counted: each rule once
	// before any rule twice. 0: no cap.
	Budget int
	// Given are the values of an operation's parameters, in place of examples; nil: none.
	Given func(operation string) config.Parameters
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
	// OwnCredentials are the schemes that operations have values of their own for;
	// Anonymous the operations that are sent without any.
	OwnCredentials map[string][]string
	Anonymous      map[string]bool
	// Lesser are the schemes that credentials without the right are known for; Permits
	// the operations that these are enough for.
	Lesser  []string
	Permits map[string]bool
	// PerCase names the operations that have new records for each case, Replaced those
	// that can have one for a single case.
	PerCase, Replaced map[string]bool
	// Retires names the operations whose record can be created and deleted again, so that its
	// id is one of nothing.
	Retires map[string]bool
	// Checked says that another plan with the same rules was made before, so that
	// they need not be looked at before their operation comes.
	Checked bool
	// Break are the rules that are broken, and Spare those that are not; empty: all, none.
	Break, Spare []string
	// ControlsOnly plans the valid requests alone.
	ControlsOnly bool
	// Leave are optional members that requests of an operation do without.
	Leave map[string][]Member
	// Without names operations that are left out, and why.
	Without map[string]string
	// Foreign tells why an operation, described or not, could change what others made;
	// it is left out then. Nil: all may be sent.
	Foreign func(operation string) string
	// Reach tells which values of an operation's requests decide which records these change;
	// nil: none do.
	Reach func(operation string) *sources.Reach
	// Authorise leaves out operations that need credentials of which none is known.
	Authorise bool
}

// Plan is what a description gives to send.
type Plan struct {
	// Warnings tell of rules of the configuration that nothing can be made of.
	Warnings []*document.Error

	doc        *oad.Document
	schemes    []oad.Scheme
	checking   bool
	opt        Options
	operations []oad.Operation
	paths      oad.Paths
	owners     *methodProbeOwners
	answers    *answers.Schemas
	readers    map[string][]int // the places of GETs, by their addresses
	budget     *budget          // for what is planned and not given out of operations side by side; nil: without bounds

	// What is compiled belongs to one operation, whose plan is a copy.
	set   *schema.Set
	maker *sample.Maker
}

// methodProbeOwners are the operations that are tried with a method that their path lacks: of each
// path the first that is planned.
type methodProbeOwners struct {
	mu     sync.Mutex // guards byPath
	byPath map[string]string
}

func newOwners() *methodProbeOwners { return &methodProbeOwners{byPath: map[string]string{}} }

// New checks the options against the description. A pattern of Only or a tag
// that matches no operation is an error.
func New(doc *oad.Document, opt Options) (*Plan, error) {
	p := &Plan{doc: doc, schemes: doc.Schemes(), opt: opt, owners: newOwners(), answers: answers.NewSchemas(doc), readers: map[string][]int{}, paths: oad.NewPaths(doc.Operations)}
	for i, o := range doc.Operations {
		if o.Method == "GET" {
			p.readers[o.Address()] = append(p.readers[o.Address()], i)
		}
	}
	selected, err := opt.Select(doc.Operations)
	p.operations = selected
	if opt.Base == "" && len(doc.Servers) > 0 {
		p.opt.Base = doc.Servers[0]
	}
	if err != nil {
		return p, err
	}
	var wrong []error
	for _, o := range selected { // what is wrong with a rule is reported before anything is sent
		if opt.Checked || len(opt.Rules[o.Name()])+len(o.Rules) == 0 {
			continue
		}
		p.checking = true
		op := p.prepare(o)
		p.Warnings = op.plan.Warnings
		wrong = append(wrong, op.wrong)
	}
	p.checking = false
	return p, document.Join(wrong...)
}

// Len is the number of selected operations.
func (p *Plan) Len() int { return len(p.operations) }

// Operation is a selected operation, ready to give out its cases.
type Operation struct {
	oad.Operation
	SkipReason string         // why nothing is planned; empty where something is
	Parts      []*Part        // what a request holds: parameters by place, then the body
	Rejected   []string       // published examples that break their schema
	Untried    []Untried      // optional parameters whose schemas cannot be read
	Unfit      []string       // fields that were thought to need a new value each time, and are in no request
	Trimmed    bool           // the body has more optional fields than are tried
	Media      string         // the media type of the body; empty without one
	Drops      map[string]int // flaws not planted, counted by reason
	Dropped    []flaw.Drop    // and one by one

	plan  *Plan
	reach *sources.Reach // what decides which records it changes; nil: nothing does
	merge bool           // a merge patch (RFC 7396)
	bound *bound
	wrong error // with a rule of the configuration

	credentials []exchange.Credential
	bodiless    string    // the Content-Type that the configuration gives it where it has no body
	whole       *wholeAPI // nil: an operation of the description
}

// Operations gives out the selected operations in the order of the document, and
// last the API as a whole.
func (p *Plan) Operations() iter.Seq[*Operation] {
	return func(yield func(*Operation) bool) {
		p.owners = newOwners()
		for _, o := range p.operations {
			if !yield(p.prepare(o)) {
				return
			}
		}
		if !p.hasWhole() {
			return
		}
		if op := p.prepareWhole(); op != nil {
			yield(op)
		}
	}
}

// first reports whether an operation is the first of its path: it is the path that
// lacks a method, so one of its operations is tried with it.
func (p *Plan) first(o oad.Operation) bool {
	p.owners.mu.Lock()
	defer p.owners.mu.Unlock()
	if _, has := p.owners.byPath[o.Address()]; !has {
		p.owners.byPath[o.Address()] = o.Name()
	}
	return p.owners.byPath[o.Address()] == o.Name()
}

// Renewed is the operation planned with other options: with the values of records
// that were made for it alone.
func (op *Operation) Renewed(opt Options) *Operation {
	q := *op.plan
	opt.Base = q.opt.Base
	q.opt = opt
	return q.prepare(op.Operation)
}

// own is a copy of the plan with what is compiled for one operation.
func (p *Plan) own() *Plan {
	q := *p
	q.set, q.maker = schema.NewSet(p.doc), sample.New(p.opt.Seed)
	return &q
}

func (p *Plan) prepare(o oad.Operation) *Operation {
	p = p.own()
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
	if why := p.foreign(op.Name()); why != "" {
		return errors.New(why)
	}
	if i := strings.IndexFunc(op.Path, unicode.IsControl); i >= 0 {
		return fmt.Errorf("%s:%d:%d: the path %q has a control character, which no address may have", p.doc.Name, op.Line, op.Column, op.Path)
	}
	switch op.Method {
	case "HEAD":
		return errors.New("answers to HEAD have no body to judge")
	case "OPTIONS", "TRACE", "CONNECT":
		return errors.New("servers answer it on their own")
	}
	if p.opt.Reach != nil {
		op.reach = p.opt.Reach(op.Name())
	}
	if err := p.parts(op); err != nil {
		return err
	}
	op.decided()
	p.leave(op)
	if op.wrong = p.bind(op); op.wrong == nil && p.checking {
		op.wrong = p.check(op)
	}
	if op.wrong != nil {
		return op.wrong
	}
	return p.authorise(op)
}

// foreign is what Options.Foreign tells.
func (p *Plan) foreign(operation string) string {
	if p.opt.Foreign == nil {
		return ""
	}
	return p.opt.Foreign(operation)
}

// parts makes the operation's parts.
func (p *Plan) parts(op *Operation) error {
	if name := op.Undescribed(); name != "" {
		return fmt.Errorf("the path parameter %q is not described", name)
	}
	var given config.Parameters
	if p.opt.Given != nil {
		given = p.opt.Given(op.Name())
	}
	for name, v := range given["header"] {
		if text, is := v.(string); is && strings.EqualFold(name, "Content-Type") {
			op.bodiless = text
		}
	}
	parts, err := p.parameterParts(op, given)
	if err != nil {
		return err
	}
	op.Parts = parts
	// Content in a GET has no meaning (RFC 9110, section 9.3.1), unless the description
	// requires it, which OpenAPI 3.0 does not let it (3.0.3, section 4.7.10).
	if op.Body != nil && (op.Method != "GET" || op.Body.Required && !strings.HasPrefix(p.doc.OpenAPI, "3.0")) {
		if err := p.bodyPart(op); err != nil {
			return err
		}
	}
	return nil
}

// Documented is the statuses an operation documents, in their order.
func (op *Operation) Documented() []string { return answers.Statuses(op.Responses) }

// Describe is Answers.Describe, of the operation.
func (op *Operation) Describe(a exchange.Answer) *exchange.Documented {
	return op.plan.answers.Describe(op.Responses, a)
}

// Selected are the selected operations.
func (p *Plan) Selected() []oad.Operation { return p.operations }

// Collections are those of Paths.Collections, of the description.
func (p *Plan) Collections(path string) []string { return p.paths.Collections(path) }

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

// Operation is one operation by its name, whatever is selected; the error says why there
// is none.
func (p *Plan) Operation(name string) (*Operation, error) {
	o, err := p.described(name)
	if err != nil {
		return nil, err
	}
	op := p.prepare(o)
	if op.SkipReason != "" {
		return nil, errors.New(op.SkipReason)
	}
	return op, nil
}

// described is an operation of the description by its name; the error says that there is none.
func (p *Plan) described(name string) (oad.Operation, error) {
	i := slices.IndexFunc(p.doc.Operations, func(o oad.Operation) bool { return o.Name() == name })
	if i < 0 {
		return oad.Operation{}, fmt.Errorf("the description has no operation %q", name)
	}
	return p.doc.Operations[i], nil
}

// Control is the fullest control of an operation, whatever is selected; the
// error says why there is none.
func (p *Plan) Control(name string) (exchange.Case, error) { return p.control(name, fullest) }

// LeanControl is the leanest.
func (p *Plan) LeanControl(name string) (exchange.Case, error) { return p.control(name, leanest) }

func (p *Plan) control(name, shape string) (exchange.Case, error) {
	o, err := p.described(name)
	if err != nil {
		return exchange.Case{}, err
	}
	p = p.own()
	op := &Operation{Operation: o, plan: p, Drops: map[string]int{}}
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
	values := op.values(shape)
	c := exchange.Case{ID: caseID(name, exchange.Control, []exchange.Flaw{{In: "request", Rule: "fixture"}}), Name: "fixture", Operation: name, Kind: exchange.Control,
		Request: op.compose(values), Expect: exchange.Expect{Class: exchange.Accepted}, Base: shape, Body: values["body"], Control: values["body"], Credentials: op.credentials}
	(&emitter{op: op}).refresh(&c)
	if renews(op.Method) {
		c.Variables = op.variables(shape)
	}
	return c, nil
}

// Reader is a GET of the operation's own path with the control's path
// parameters, which shows what is there; false where the path has none that
// needs no more.
func (op *Operation) Reader() (exchange.Case, bool) {
	if op.Method == "GET" {
		return exchange.Case{}, false
	}
	for _, i := range op.plan.readers[op.Address()] {
		o := op.plan.doc.Operations[i]
		if o.Skip != "" ||
			slices.ContainsFunc(o.Parameters, func(p oad.Parameter) bool { return p.Required && p.In != "path" && !ignored(p) }) {
			continue
		}
		path := op.values(fullest)["path"]
		address, _ := wire.Address(op.plan.opt.Base, o.Path, placesOf(op.Parts), map[string]any{"path": path})
		reader := &Operation{Operation: o, plan: op.plan}
		if op.plan.authorise(reader) != nil {
			continue
		}
		return exchange.Case{Credentials: reader.credentials, ID: caseID(o.Name(), exchange.Control, []exchange.Flaw{{In: "request", Rule: "reader", Variant: op.Name()}}), Operation: o.Name(), Kind: exchange.Control,
			Request: exchange.Request{Method: "GET", URL: address, Headers: [][2]string{{"Accept", "application/json"}}}}, true
	}
	return exchange.Case{}, false
}
