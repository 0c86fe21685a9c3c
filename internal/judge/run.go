package judge

import (
	"slices"
	"sync"
	"time"

	"obiter/internal/exchange"
	"obiter/internal/layout"
)

// Run judges the exchanges of one run. It knows nothing but what it is given, so
// that a run file judged again gives the same. The controls of an operation come
// before its other cases. It is safe for concurrent use.
type Run struct {
	layout *layout.Layout

	mu          sync.Mutex
	operations  map[string]*controls
	consistency *consistency
	found       []RunFinding
}

// controls are what became of an operation's controls.
type controls struct {
	accepted map[string]bool // by shape
	fails    map[string]bool // by shape: answered with a 5xx
	slowest  time.Duration
	signs    []string // of an error, in accepted answers
}

// NewRun makes a Run. The layout is the configured one; nil: it is learned.
func NewRun(known *layout.Layout) *Run {
	return &Run{layout: known, operations: map[string]*controls{}, consistency: newConsistency()}
}

// Case judges one exchange.
func (r *Run) Case(e exchange.Exchange) Judgement {
	ctx := Context{Layout: r.layout, Documented: e.Documented}
	r.mu.Lock()
	if c := r.operations[e.ProvenBy]; c != nil {
		ctx.Proven, ctx.Fails, ctx.Control, ctx.Signs = c.accepted[e.Base], c.fails[e.Base], c.slowest, c.signs
	}
	r.mu.Unlock()
	if e.Kind == exchange.Control {
		ctx.Proven = true
	}
	return Case(e.Case, e.Response, ctx)
}

// Add takes in a judged exchange.
func (r *Run) Add(e exchange.Exchange, j Judgement) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if e.Kind == exchange.Control {
		c := r.operations[e.Operation]
		if c == nil {
			c = &controls{accepted: map[string]bool{}, fails: map[string]bool{}}
			r.operations[e.Operation] = c
		}
		if c.accepted[e.Base] = j.Verdict == Pass; j.Verdict == Pass {
			c.signs = append(c.signs, signsOf(e.Response)...)
		}
		c.fails[e.Base] = e.Response.Status >= 500
		c.slowest = max(c.slowest, e.Response.Took)
	}
	r.consistency.add(e.Case, e.Response, j)
}

// Repeated judges a rejected case that was sent twice. It reports whether the two
// answers agree.
func (r *Run) Repeated(c exchange.Case, first, second exchange.Answer) (stable bool) {
	ctx := Context{Proven: true, Layout: r.layout}
	was, is := Case(c, first, ctx), Case(c, second, ctx)
	f, differs := unstable(c, was.Fingerprint, second, is)
	if differs {
		r.note(f)
	}
	return !differs
}

// Closing judges the answer to a control that was accepted and is sent again
// after the flawed requests.
func (r *Run) Closing(c exchange.Case, a exchange.Answer) {
	if f, spoilt := refusedLater(c, a); spoilt {
		r.note(f)
	}
}

// State judges what a rejected case made of a resource.
func (r *Run) State(c exchange.Case, seen Readings) {
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
