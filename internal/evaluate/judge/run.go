package judge

import (
	"bytes"
	"fmt"
	"slices"
	"sync"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/layout"
)

// Run judges the exchanges of one run. It knows nothing but what it is given, so
// that a run file judged again gives the same. The controls of an operation come
// before its other cases.
//
// Which fields an answer names is judged by what the whole run taught: every
// exchange is learned from first, and judged then. A case that is judged before
// everything is learned is judged by what is known so far. It is safe for
// concurrent use.
type Run struct {
	layout *layout.Layout

	mu          sync.Mutex
	study       *layout.Study
	knowledge   *layout.Knowledge
	epoch       int             // how often it was another one
	proven      map[string]bool // shapes of operations whose control was accepted, while learning
	operations  map[string]*controls
	fields      map[shape]*layout.Vocabulary // of controls
	consistency *consistency
	found       []RunFinding
}

// shape is what controls of the same fields have in common.
type shape struct{ operation, base, part string }

// maxShapes bounds the controls whose fields are kept.
const maxShapes = 200

// look reads an answer, with the fields of the control that others have used.
func (r *Run) look(e *exchange.Exchange) *look {
	l := lookAt(&e.Case, &e.Response)
	if e.Kind != exchange.Flawed || e.Control == nil {
		return l
	}
	s := shape{e.ProvenBy, e.Base, e.Part()}
	r.mu.Lock()
	defer r.mu.Unlock()
	if l.fields = r.fields[s]; l.fields == nil {
		if len(r.fields) >= maxShapes {
			clear(r.fields)
		}
		l.fields = layout.Fields(e.Control)
		r.fields[s] = l.fields
	}
	return l
}

// controls are what became of an operation's controls.
type controls struct {
	shapes  []became // few
	slowest time.Duration
	signs   []string // of an error, in accepted answers
}

// became is what became of the control of a shape.
type became struct {
	base     string
	accepted bool
	fails    bool // it was answered with a 5xx
}

// of is what became of the control of a shape; nil where it was not sent.
func (c *controls) of(base string) *became {
	for i := range c.shapes {
		if c.shapes[i].base == base {
			return &c.shapes[i]
		}
	}
	return nil
}

// NewRun makes a Run. The layout is the configured one; nil: it is learned.
func NewRun(known *layout.Layout) *Run {
	return &Run{layout: known, study: layout.NewStudy(), proven: map[string]bool{}, operations: map[string]*controls{}, fields: map[shape]*layout.Vocabulary{}, consistency: newConsistency()}
}

// Successor is an empty Run that knows what this one learned.
func (r *Run) Successor() *Run {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := NewRun(r.layout)
	out.study, out.proven = r.study, r.proven
	return out
}

// Learn takes in an exchange for what it teaches.
func (r *Run) Learn(e *exchange.Exchange) {
	if e.Kind == exchange.Edge || e.Kind == exchange.Flawed && !r.teaches(e) {
		return
	}
	var l *look // a control's is not looked at
	if e.Kind == exchange.Flawed {
		l = r.look(e)
	}
	r.learn(e, l)
}

// teaches reports whether an exchange's control was accepted, so that its answer says
// something.
func (r *Run) teaches(e *exchange.Exchange) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.proven[e.ProvenBy+" "+e.Base]
}

func (r *Run) learn(e *exchange.Exchange, l *look) {
	if e.Kind == exchange.Control {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.proven[e.Operation+" "+e.Base] = e.Response.Success()
		return
	}
	lesson, ok := l.lesson()
	if !ok || !r.teaches(e) {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.study.Add(lesson)
}

// Settle ends learning: what is judged from here on is judged by what was learned. It
// reports whether what was judged before rests on the same knowledge, but for cases with
// several flaws.
func (r *Run) Settle() (same bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	learned := r.study.Learned()
	if same = r.knowledge.Alike(learned); !same {
		r.epoch++
	}
	r.knowledge = learned
	return same
}

// Epoch tells what a Run knows from what it knew at other times: judgements of the same
// epoch rest on the same knowledge.
func (r *Run) Epoch() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.epoch
}

// Pause is Settle while answers still come in.
func (r *Run) Pause() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if k := r.study.SoFar(); !r.knowledge.Alike(k) {
		r.knowledge = k
		r.epoch++
	}
}

// Take learns from an exchange, and judges it by what is known so far.
func (r *Run) Take(e *exchange.Exchange) Judgement {
	return guarded(func() Judgement {
		l := r.look(e)
		r.learn(e, l)
		return r.judge(e, l)
	})
}

// Case judges one exchange.
func (r *Run) Case(e *exchange.Exchange) Judgement {
	return guarded(func() Judgement { return r.judge(e, r.look(e)) })
}

// guarded judges, and where that fails makes of it a note on the case: an answer must not
// end the run.
func guarded(judge func() Judgement) (out Judgement) {
	defer func() {
		if err := recover(); err != nil {
			out = Judgement{Verdict: Unproven, Findings: []Finding{finding("not-judged", "", "", fmt.Sprintf("judging the answer failed, which is a mistake in Obiter: %v", err))}}
		}
	}()
	return judge()
}

func (r *Run) judge(e *exchange.Exchange, l *look) Judgement {
	ctx := Context{Layout: r.layout, Documented: e.Documented}
	r.mu.Lock()
	ctx.Knowledge = r.knowledge
	epoch := r.epoch
	if c := r.operations[e.ProvenBy]; c != nil {
		ctx.Control, ctx.Signs = c.slowest, c.signs
		if shape := c.of(e.Base); shape != nil {
			ctx.Proven, ctx.Fails = shape.accepted, shape.fails
		}
	}
	r.mu.Unlock()
	if e.Kind == exchange.Control {
		ctx.Proven = true
	}
	out := l.judge(ctx)
	out.Epoch = epoch
	return out
}

// Add takes in a judged exchange.
func (r *Run) Add(e *exchange.Exchange, j *Judgement) {
	r.Control(e)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.consistency.add(&e.Case, &e.Response, j)
}

// Control takes in what an exchange tells of those that are judged after it, if it is a
// control.
func (r *Run) Control(e *exchange.Exchange) {
	if e.Kind != exchange.Control {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	c := r.operations[e.Operation]
	if c == nil {
		c = &controls{}
		r.operations[e.Operation] = c
	}
	shape := c.of(e.Base)
	if shape == nil {
		c.shapes = append(c.shapes, became{base: e.Base})
		shape = &c.shapes[len(c.shapes)-1]
	}
	if shape.accepted = e.Response.Success(); shape.accepted {
		c.signs = append(c.signs, signsOf(e.Response)...)
	}
	shape.fails = e.Response.Status >= 500
	c.slowest = max(c.slowest, e.Response.Took)
}

// Same reports whether two answers are the same to whoever reads them.
func Same(a, b exchange.Answer) bool {
	return a.Status == b.Status && a.Err == b.Err && bytes.Equal(a.Body, b.Body) && slices.Equal(a.Header["Content-Type"], b.Header["Content-Type"])
}

// Repeated judges a rejected case that was sent twice. An operation that answers
// in two ways is told once.
func (r *Run) Repeated(c exchange.Case, first, second exchange.Answer) {
	if Same(first, second) {
		return
	}
	r.mu.Lock()
	ctx := Context{Proven: true, Layout: r.layout, Knowledge: r.knowledge}
	r.mu.Unlock()
	was, is := Case(c, first, ctx), Case(c, second, ctx)
	if f, differs := unstable(c, was.Fingerprint, second, is); differs && !r.unstable(c.Operation) {
		r.note(f)
	}
}

// unstable reports whether it is told already of an operation.
func (r *Run) unstable(operation string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.ContainsFunc(r.found, func(f RunFinding) bool { return f.Operation == operation && f.Finding.Code == "unstable" })
}

// Closing judges the answer to a control that was accepted and is sent again
// after the flawed requests.
func (r *Run) Closing(c exchange.Case, a exchange.Answer) {
	if f, spoilt := refusedLater(c, a); spoilt {
		r.note(f)
	}
}

// Spoilt reports whether Closing finds something.
func Spoilt(c exchange.Case, a exchange.Answer) bool {
	_, spoilt := refusedLater(c, a)
	return spoilt
}

// State judges what a rejected case made of a resource, and whether it keeps what only
// the service sets.
func (r *Run) State(c exchange.Case, seen Readings) {
	if seen.By != "" {
		r.note(storedAnyway(c, seen.By))
		return
	}
	if IsReadOnly(c) {
		if Shows(c, seen.After) {
			r.note(runFinding(c, readOnlyStored(c, "the resource, read afterwards,")))
		}
		return
	}
	if change := seen.Change(); change != "" {
		r.note(changed(c, change))
	}
}

func (r *Run) note(f RunFinding) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.found = append(r.found, f)
}

// Findings lists what only the whole run shows, in the order of the plan.
func (r *Run) Findings() []RunFinding {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := append(slices.Clone(r.found), r.consistency.findings()...)
	slices.SortStableFunc(out, byPlan)
	return out
}

// Learned is how most answers name fields; false where none do.
func (r *Run) Learned() (Layout, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.consistency.learned()
}
