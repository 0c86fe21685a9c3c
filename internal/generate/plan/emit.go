package plan

import (
	"cmp"
	"fmt"
	"iter"
	"net/http"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/sample"
	"obiter/internal/generate/wire"
	"obiter/internal/input/config"
)

// Cases gives out the operation's cases: controls first.
func (op *Operation) Cases() iter.Seq[exchange.Case] {
	return func(yield func(exchange.Case) bool) {
		for c := range op.cases(nil) {
			if !yield(*c) {
				return
			}
		}
	}
}

// cases is Cases; those that are planned and wait to be given out take room, if there is
// one. Then edges come last, behind a nil, unless there is too much to hold.
func (op *Operation) cases(in *budget) iter.Seq[*exchange.Case] {
	return func(yield func(*exchange.Case) bool) {
		if op.SkipReason != "" {
			return
		}
		chosen := op.plan.opt.Cases
		var within []bool // by place
		var beyond []exchange.Flaw
		if op.plan.opt.Budget > 0 && chosen == nil {
			var held []*exchange.Case
			if held, within, beyond = op.withinBudget(); held != nil {
				op.drop(beyond, BeyondBudget)
				op.giveOut(held, in, yield)
				return
			}
		}
		op.emit(func(i int, c exchange.Case) bool {
			if within != nil && !within[i] || chosen != nil && c.Kind != exchange.Control && !chosen[c.ID] {
				return true
			}
			c.Number = op.number() + i
			return yield(&c)
		})
		op.drop(beyond, BeyondBudget)
	}
}

// giveOut gives out the cases that are there, and lets go of each.
func (op *Operation) giveOut(held []*exchange.Case, in *budget, yield func(*exchange.Case) bool) {
	defer func() { in.leave(held) }()
	in.enter(held)
	give := func(i int) bool {
		c := held[i]
		in.leave(held[i : i+1])
		held[i] = nil
		c.Number = op.number() + i + 1
		return yield(c)
	}
	for i, c := range held {
		if c != nil && (in == nil || c.Edge == nil) && !give(i) {
			return
		}
	}
	parted := false
	for i, c := range held {
		if c == nil {
			continue
		}
		if !parted && !yield(nil) || !give(i) {
			return
		}
		parted = true
	}
}

// Apart is how far the numbers of two operations' cases are apart: the place of a case in
// the plan does not depend on what else is planned.
const Apart = 1_000_000

// number is the one before that of the operation's first case; each has its place among all,
// whatever the budget leaves of them.
func (op *Operation) number() int {
	n := op.Operation.Number
	if op.whole != nil {
		n = len(op.plan.doc.Operations) + 1
	}
	return n * Apart
}

// Controls are the operation's controls, without their numbers.
func (op *Operation) Controls() []exchange.Case {
	var out []exchange.Case
	if op.SkipReason != "" {
		return nil
	}
	e := op.emitter(func(_ int, c exchange.Case) bool {
		out = append(out, c)
		return true
	})
	if op.whole == nil { // which has none
		e.controls()
	}
	return out
}

// emitter begins to give out the operation's cases.
func (op *Operation) emitter(yield func(int, exchange.Case) bool) *emitter {
	op.Drops, op.Dropped = map[string]int{}, nil
	return &emitter{op: op, yield: yield, sent: map[[2]uint64]bool{}, ids: map[string]bool{}}
}

// emit gives out every case with its place in the operation, from 1.
func (op *Operation) emit(yield func(int, exchange.Case) bool) {
	e := op.emitter(yield)
	if op.whole != nil {
		e.wholeAPI()
		return
	}
	for _, p := range op.Parameters {
		if ofTransport(p) {
			e.drop(exchange.Flaw{In: "header", Pointer: instance.Join("", p.Name), Rule: "every"}, OfTransport)
		}
	}
	e.controls()
	if op.plan.opt.ControlsOnly {
		return
	}
	for _, part := range op.Parts {
		e.part(part)
	}
	e.rules()
	e.request()
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

	provenBy    string // of the API as a whole: the operation through which it is tried
	credentials []exchange.Credential
}

func (e *emitter) drop(f exchange.Flaw, why string) { e.op.drop([]exchange.Flaw{f}, why) }

// maxBytes is how much the bodies of one operation may come to.
const maxBytes = 128 << 20

// SameRequest is the reason for dropping a flaw whose request another case sends already.
const SameRequest = "another case sends the same request"

// OfTransport is the reason for dropping the flaws of a header that is written anew when
// a request is sent.
const OfTransport = "the transport writes this header"

// chosen reports whether all rules that a case breaks are among those to be broken.
// Edges belong to their rule.
func (e *emitter) chosen(c exchange.Case) bool {
	opt := e.op.plan.opt
	flaws := c.Flaws
	if c.Edge != nil {
		flaws = []exchange.Flaw{*c.Edge}
	}
	return !slices.ContainsFunc(flaws, func(f exchange.Flaw) bool {
		return slices.Contains(opt.Spare, f.Rule) || len(opt.Break) > 0 && !slices.Contains(opt.Break, f.Rule)
	})
}

// give gives a case out.
func (e *emitter) give(c exchange.Case, identity []exchange.Flaw) {
	if !e.chosen(c) {
		return
	}
	if why := e.mayReachOthers(c); why != nil {
		e.drop(*why, mayBeOthers)
		return
	}
	if why := e.decisive(c); why != nil {
		e.drop(*why, decisive)
		return
	}
	if len(c.Flaws) == 1 && c.Flaws[0].In == "path" && c.Expect.Class == exchange.Either {
		c.Expect.Statuses = append(c.Expect.Class.Statuses(), http.StatusNotFound) // there may be nothing at such an address
	}
	if e.stopped || e.afterItsRecord(c) {
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
	if e.op.bound != nil {
		bound := c // a case that is refreshed lies apart, and most are not
		if !e.refresh(&bound) {
			return
		}
		c = bound
	}
	c.Operation, c.OperationID, c.ProvenBy = e.op.Name(), e.op.ID, cmp.Or(e.provenBy, e.op.Name())
	if c.Request.Method == e.op.Method && e.provenBy == "" && renews(e.op.Method) {
		c.Variables = e.op.variables(c.Base)
	}
	if e.provenBy != "" {
		c.Credentials = e.credentials
	} else if c.Credentials == nil {
		c.Credentials = e.op.credentials
	}
	e.op.plan.expect(&c)
	e.given++
	e.stopped = !e.yield(e.given, c)
}

// afterItsRecord reports whether a case of a DELETE would come to a record that is deleted by then.
func (e *emitter) afterItsRecord(c exchange.Case) bool {
	if e.op.Method != "DELETE" || e.op.plan.opt.PerCase[e.op.Name()] {
		return false
	}
	replaced := e.op.plan.opt.Replaced[e.op.Name()]
	return !safeAfterDelete(c) && !(replaced && OfCredentials(c))
}

// expect completes what the answer to a case should be: by what the configuration says, else by
// its class.
func (p *Plan) expect(c *exchange.Case) {
	if len(c.Flaws) == 1 && c.Flaws[0].In != "request" && c.Expect.Says == "" {
		if says := config.Says(p.opt.Messages, c.Flaws[0].Pointer, c.Flaws[0].Rule); says != nil {
			c.Expect.Says = says.String()
		}
	}
	if c.Expect.Statuses == nil {
		c.Expect.Statuses = p.opt.Statuses[c.Expect.Class]
	}
	if c.Expect.Statuses == nil {
		c.Expect.Statuses = c.Expect.Class.Statuses()
	}
	if c.Expect.Statuses == nil {
		c.Expect.Statuses = []int{}
	}
	if c.Flaws == nil {
		c.Flaws = []exchange.Flaw{}
	}
}

// OfCredentials reports whether what is wrong with a case is its credentials.
func OfCredentials(c exchange.Case) bool { return len(c.Flaws) > 0 && c.Flaws[0].Rule == "credentials" }

// safeAfterDelete reports whether the answer to a case of a DELETE is the same when the
// first control has taken the record away.
func safeAfterDelete(c exchange.Case) bool {
	if c.Kind != exchange.Flawed {
		return c.Kind == exchange.Control && c.Base == fullest
	}
	return c.Flaws[0].In == "path" || slices.Contains([]string{"unknown-path", "wrong-method"}, c.Flaws[0].Rule)
}

const (
	fullest = "fullest"
	leanest = "leanest"
)

// controls gives out the fullest and the leanest request, then one for each
// other branch that a part has.
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
			Expect: exchange.Expect{Class: exchange.Accepted}, Body: values["body"], Control: e.op.values(fullest)["body"], Parts: values, SecretFields: secrets[shape],
			Unchecked: e.op.unchecked(values),
		}, []exchange.Flaw{{In: "body", Rule: "control", Variant: shape}})
	}
}

// part plants flaws into a part: into its fullest control, and into those of
// other branches what only they have.
func (e *emitter) part(part *Part) {
	if part.Form == wire.XML || part.In == "body" && exchange.MediaTypeOf(e.op.Media) == exchange.JSONPatch {
		return // what is wrong with these is about the whole
	}
	if part.heavy {
		e.drop(exchange.Flaw{In: part.In, Rule: "every"}, TooHeavy) // of optional fields
	}
	done := map[string]bool{}
	for _, control := range part.Controls {
		if control.Shape != leanest {
			e.plant(part, control, done)
		}
	}
}

func (e *emitter) plant(part *Part, control sample.Control, done map[string]bool) {
	var identity []exchange.Flaw
	if control.Shape != fullest {
		identity = []exchange.Flaw{{In: part.In, Rule: "control", Variant: control.Shape}}
	}
	alternatives := part.alternatives(control)
	var secrets []string
	if part.In == "body" {
		secrets = part.secretFields(control)
	}
	compose := e.op.composer(part, control.Value)
	give := func(p flaw.Planted) bool {
		v, mayBlame, why := e.admit(part, p)
		if why != "" {
			if len(p.Flaws) > 0 {
				e.drop(p.Flaws[0], why)
			} else {
				e.drop(*p.Edge, why)
			}
			return !e.stopped
		}
		p.Value = v
		c := exchange.Case{Request: compose(p.Value), Body: p.Value, Control: control.Value, Flaws: p.Flaws, Edge: p.Edge, Base: control.Shape, Alternatives: alternatives, MayBlame: mayBlame, SecretFields: secrets}
		if p.Edge != nil {
			c.Kind, c.Expect.Class, c.Expect.Rare = exchange.Edge, exchange.Accepted, p.Rare
			c.Name = "edge, " + shownField(*p.Edge) + " " + p.Edge.Rule + " " + p.Edge.Variant
			e.give(c, append(identity[:len(identity):len(identity)], *p.Edge))
			return !e.stopped
		}
		c.Kind, c.Expect.Class = exchange.Flawed, rule.ClassOf(p.Flaws)
		c.Name = nameOf(p.Flaws)
		e.give(c, append(identity[:len(identity):len(identity)], p.Flaws...))
		return !e.stopped
	}
	opt := flaw.Options{Depth: e.op.plan.opt.Depth, Maker: e.op.plan.maker, Patch: e.op.merge && part.In == "body", In: part.In, Alternatives: alternatives,
		Enough: func() bool { return e.bytes > maxBytes }, Done: done, Dropped: func(d flaw.Drop) { e.drop(d.Flaw, d.Why) }}
	if part.IsText() {
		opt.Seen, opt.Readings, opt.Apart = part.Seen, part.Readings, part.In != "body"
		opt.Typed = func(name string) bool {
			object, _ := control.Value.(map[string]any)
			return part.KeepsTypes(name, object[name])
		}
	}
	flaw.Plant(part.Schema, control.Value, opt, give)
}

func nameOf(flaws []exchange.Flaw) string {
	f := flaws[0]
	switch {
	case len(flaws) > 1 && f.Variant == "empty-object":
		return fmt.Sprintf("empty object, %d required members missing", len(flaws))
	case len(flaws) > 1:
		return fmt.Sprintf("all at once, %d fields wrong", len(flaws))
	}
	return strings.TrimSpace(shownField(f) + " " + f.Rule + " " + f.Variant)
}

// shownField is the field as a reader wants it: the body itself is "(body)".
func shownField(f exchange.Flaw) string {
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
