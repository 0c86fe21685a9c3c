package judge

import (
	"bytes"
	"fmt"
	"slices"
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
// everything is learned is judged by what is known so far. It is for one goroutine
// at a time; what takes long is done by an Item, which needs nobody else.
type Run struct {
	layout      *layout.Layout
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

// Item is an exchange on its way through judging: NewItem reads the answer, Share gives it what
// others know of the same control, Study finds what it teaches, Take learns that and says what is
// known, and Judge judges. All but Share and Take may be done next to other items.
type Item struct {
	look   *look
	e      *exchange.Exchange
	lesson *layout.Lesson // nil: it teaches nothing
	known  Context
	epoch  int
}

// NewItem reads the answer of an exchange.
func NewItem(e *exchange.Exchange) *Item { return &Item{look: lookAt(&e.Case, &e.Response), e: e} }

// Share gives an item the fields of the control that others have used.
func (r *Run) Share(i *Item) {
	if i.e.Kind != exchange.Flawed || i.e.Control == nil {
		return
	}
	s := shape{i.e.ProvenBy, i.e.Base, i.e.Part()}
	if i.look.fields = r.fields[s]; i.look.fields == nil {
		if len(r.fields) >= maxShapes {
			clear(r.fields)
		}
		i.look.fields = layout.Fields(i.e.Control)
		r.fields[s] = i.look.fields
	}
}

// Study finds what the answer teaches.
func (i *Item) Study() {
	if lesson, ok := i.look.lesson(); ok {
		i.lesson = &lesson
	}
}

// Take learns what was studied of an item, and has it judged by what is known so far.
func (r *Run) Take(i *Item) {
	if i.lesson != nil && r.teaches(i.e) {
		r.study.Add(*i.lesson)
	}
	i.known = Context{Layout: r.layout, Documented: i.e.Documented, Knowledge: r.knowledge}
	i.epoch = r.epoch
	if c := r.operations[i.e.ProvenBy]; c != nil {
		i.known.Control, i.known.Signs = c.slowest, c.signs
		if shape := c.of(i.e.Base); shape != nil {
			i.known.Proven, i.known.ControlFailed = shape.accepted, shape.fails
		}
	}
	if i.e.Kind == exchange.Control {
		i.known.Proven = true
	}
}

// Judge judges the item by what is known.
func (i *Item) Judge() Judgement {
	out := i.look.judge(i.known)
	if i.e.Before != nil {
		out.Findings = append(out.Findings, unrepeated(i.e.Case, *i.e.Before, i.e.Response))
		slices.SortStableFunc(out.Findings, byRank)
	}
	out.Epoch = i.epoch
	return out
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

// CloneLearned is an empty Run that knows what this one learned.
func (r *Run) CloneLearned() *Run {
	out := NewRun(r.layout)
	out.study, out.proven = r.study, r.proven
	return out
}

// Learn takes in an exchange for what it teaches.
func (r *Run) Learn(e *exchange.Exchange) {
	switch {
	case e.Kind == exchange.Control:
		r.Prove(e)
	case e.Kind == exchange.Flawed && r.teaches(e):
		i := NewItem(e)
		r.Share(i)
		i.Study()
		r.Take(i)
	}
}

// Prove notes whether a control was accepted, which decides whether other answers of its operation
// teach something.
func (r *Run) Prove(e *exchange.Exchange) {
	if e.Kind == exchange.Control {
		r.proven[e.Operation+" "+e.Base] = e.Response.Success()
	}
}

// teaches reports whether an exchange's control was accepted, so that its answer says
// something.
func (r *Run) teaches(e *exchange.Exchange) bool { return r.proven[e.ProvenBy+" "+e.Base] }

// FinishLearning ends learning: what is judged from here on is judged by what was learned. It
// reports whether what was judged before rests on the same knowledge, but for cases with
// several flaws.
func (r *Run) FinishLearning() (same bool) {
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
	return r.epoch
}

// UpdateKnowledge is FinishLearning while answers still come in.
func (r *Run) UpdateKnowledge() {
	if k := r.study.SoFar(); !r.knowledge.Alike(k) {
		r.knowledge = k
		r.epoch++
	}
}

// Case judges one exchange by what is known.
func (r *Run) Case(e *exchange.Exchange) Judgement {
	return Guarded(func() Judgement {
		i := NewItem(e)
		r.Share(i)
		r.Take(i)
		return i.Judge()
	})
}

// Guarded judges, and where that fails makes of it a note on the case: an answer must not
// end the run.
func Guarded(judge func() Judgement) (out Judgement) {
	defer func() {
		if err := recover(); err != nil {
			out = Judgement{Verdict: Unproven, Findings: []Finding{finding("not-judged", "", "", fmt.Sprintf("judging the answer failed, which is a bug in Obiter: %v", err))}}
		}
	}()
	return judge()
}

// Add takes in a judged exchange.
func (r *Run) Add(e *exchange.Exchange, j *Judgement) {
	r.Control(e)
	r.consistency.add(&e.Case, &e.Response, j)
}

// Control takes in what an exchange tells of those that are judged after it, if it is a
// control.
func (r *Run) Control(e *exchange.Exchange) {
	if e.Kind != exchange.Control {
		return
	}
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
	ctx := Context{Proven: true, Layout: r.layout, Knowledge: r.knowledge}
	was, is := Case(c, first, ctx), Case(c, second, ctx)
	if f, differs := unstable(c, was.Fingerprint, second, is); differs && !r.unstable(c.Operation) {
		r.note(f)
	}
}

// unstable reports whether it is told already of an operation.
func (r *Run) unstable(operation string) bool {
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
	r.found = append(r.found, f)
}

// Findings lists what only the whole run shows, in the order of the plan.
func (r *Run) Findings() []RunFinding {
	out := append(slices.Clone(r.found), r.consistency.findings()...)
	slices.SortStableFunc(out, byPlan)
	return out
}

// Learned is how most answers name fields; false where none do.
func (r *Run) Learned() (Layout, bool) {
	return r.consistency.learned()
}
