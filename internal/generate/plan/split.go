package plan

import (
	"iter"
	"sync"

	"obiter/internal/core/exchange"
)

// SideBySide is a plan of which so many operations are tried at a time: little is planned ahead
// of all together.
func (p *Plan) SideBySide(operations int) *Plan {
	q := *p
	q.owners, q.budget = newOwners(), newBudget(operations)
	return &q
}

// Turns is how many operations there are to prepare: the selected ones, and the API as a
// whole where that is tried.
func (p *Plan) Turns() int {
	if p.hasWhole() {
		return len(p.operations) + 1
	}
	return len(p.operations)
}

// Turn prepares an operation by its place, from 0; nil where the API as a whole cannot be
// tried. It is safe for concurrent use.
func (p *Plan) Turn(i int) *Operation {
	if i < len(p.operations) {
		return p.prepare(p.operations[i])
	}
	return p.prepareWhole()
}

// budget is for cases of operations that are tried side by side, while they are planned and
// wait to be given out. Nil is without bounds.
type budget struct {
	mu    sync.Mutex
	freed sync.Cond
	taken int
	most  int // who finds so much taken waits
}

// Bytes that it has for each operation that is tried at a time, and what a case takes on
// top of its body.
const (
	ofOperation = 32 << 10
	ofCase      = 512
)

func newBudget(operations int) *budget {
	in := &budget{most: max(operations, 1) * ofOperation}
	in.freed.L = &in.mu
	return in
}

// wait waits until there is room. Whoever takes some must go on without it.
func (in *budget) wait() {
	if in == nil {
		return
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	for in.taken >= in.most {
		in.freed.Wait()
	}
}

func (in *budget) enter(cases []*exchange.Case) { in.take(1, cases) }
func (in *budget) leave(cases []*exchange.Case) { in.take(-1, cases) }

func (in *budget) take(sign int, cases []*exchange.Case) {
	if in == nil {
		return
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	was := in.taken
	for _, c := range cases {
		if c != nil { // else it has left
			in.taken += sign * (len(c.Request.Body) + ofCase)
		}
	}
	if was >= in.most && in.taken < in.most {
		in.freed.Broadcast()
	}
}

// Stream is Cases, planned as they are taken, which the taker may keep. It waits while much is
// planned of other operations. Edges come last, behind a nil; where the operation has too many
// cases to hold, they come among the others.
func (op *Operation) Stream() iter.Seq[*exchange.Case] {
	return func(yield func(*exchange.Case) bool) {
		op.plan.budget.wait()
		op.cases(op.plan.budget)(yield)
	}
}
