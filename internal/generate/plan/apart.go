package plan

import (
	"iter"
	"slices"
	"strings"
	"sync"

	"obiter/internal/core/exchange"
	"obiter/internal/input/oad"
)

// Split gives planners of the same plan that share nothing they write to, so that
// operations are planned side by side. So many are tried at a time.
func (p *Plan) Split(n, tried int) []*Plan {
	out := make([]*Plan, max(n, 1))
	firsts, in := newFirsts(), newRoom(tried)
	for i := range out {
		q := *p
		q.firsts, q.busy, q.paths, q.room = firsts, &sync.Mutex{}, nil, in
		q.renew()
		out[i] = &q
	}
	return out
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
		return p.oneAtATime(p.operations[i])
	}
	p.busy.Lock()
	defer p.busy.Unlock()
	return p.prepareWhole()
}

func (p *Plan) oneAtATime(o oad.Operation) *Operation {
	p.busy.Lock()
	defer p.busy.Unlock()
	return p.prepare(o)
}

// How much is planned ahead of an operation, in cases and bytes: little at first, so that
// the first request leaves at once.
const (
	firstAhead = 4
	mostAhead  = 64
	bytesAhead = 256 << 10
)

// batches are what cases are planned into.
var batches = sync.Pool{New: func() any {
	batch := make([]*exchange.Case, 0, mostAhead)
	return &batch
}}

// budget is for cases of operations that are tried side by side, while they are planned and
// wait to be given out. Nil is without bounds.
type budget struct {
	mu    sync.Mutex
	freed sync.Cond
	taken int
	most  int // who finds so much taken waits
}

// Bytes that a room has for each operation that is tried at a time, and what a case takes on
// top of its body.
const (
	ofOperation = 32 << 10
	ofCase      = 512
)

func newRoom(operations int) *budget {
	in := &budget{most: max(operations, 1) * ofOperation}
	in.freed.L = &in.mu
	return in
}

// has reports whether there is room for another operation.
func (in *budget) has() bool {
	if in == nil {
		return true
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	return in.taken < in.most
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

// acquire takes hold of an operation's planner where there is room for its cases.
func (op *Operation) acquire() {
	for {
		op.plan.busy.Lock()
		if op.plan.room.has() {
			return
		}
		op.plan.busy.Unlock() // who takes up the room may need it
		op.plan.room.wait()
	}
}

// Stream is Cases, planned a few at a time, so that others are planned meanwhile. The
// cases are the taker's. It waits while much is planned of others. Edges come last, behind a
// nil; where the operation has too many cases to hold, they come among the others.
func (op *Operation) Stream() iter.Seq[*exchange.Case] {
	return func(yield func(*exchange.Case) bool) {
		next, stop := iter.Pull(op.cases(op.plan.room))
		defer func() {
			op.plan.busy.Lock()
			defer op.plan.busy.Unlock()
			stop()
		}()
		held := batches.Get().(*[]*exchange.Case)
		batch := *held
		defer func() {
			clear(batch)
			batches.Put(held)
		}()
		lock := op.acquire
		for most, more := firstAhead, true; more; most, lock = mostAhead, op.plan.busy.Lock {
			lock()
			clear(batch)
			batch = batch[:0]
			for size := 0; len(batch) < most && size < bytesAhead; {
				var c *exchange.Case
				if c, more = next(); !more {
					break
				}
				if batch = append(batch, c); c != nil {
					size += len(c.Request.Body)
				}
			}
			op.plan.busy.Unlock()
			for _, c := range batch {
				if !yield(c) {
					return
				}
			}
		}
	}
}

// Collections are those in which the records are that a path names, each in a record of the
// one behind it: /vessels is one, if there is a /vessels/{vessel_id}, and what is below it may
// be others.
func (p *Plan) Collections(path string) []string {
	out := []string{collectionOf(path, p.collections())}
	for {
		last := out[len(out)-1]
		i := strings.LastIndexByte(last, '}')
		if i < 0 {
			return out
		}
		above := collectionOf(last[:i+1], p.collections())
		if above == last {
			return out
		}
		out = append(out, above)
	}
}

// OnlyReads reports whether an operation's requests change nothing (RFC 9110, section 9.2.1).
func OnlyReads(o oad.Operation) bool {
	return slices.Contains([]string{"GET", "HEAD", "OPTIONS", "TRACE"}, o.Method)
}
