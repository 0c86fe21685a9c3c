package plan

import (
	"cmp"
	"slices"
	"sort"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
)

// Limits of what is held of an operation, so that it need not be planned twice.
const (
	maxHeld  = 4 << 20 // of the bodies of its cases
	mostHeld = 5_000   // cases

	usualCases = 96 // of an operation
)

// group is what cases are taken by in turns: a rule at a field. Edges, what is wrong with a request
// as a whole, and requests with several flaws are taken by their rules.
type group struct{ in, pointer, rule string }

func groupOf(c *exchange.Case) group {
	switch {
	case c.Edge != nil:
		return group{"edge", "", c.Edge.Rule}
	case len(c.Flaws) > 1:
		return group{"", "", "several"}
	case !c.Flaws[0].OfField():
		return group{c.Flaws[0].In, "", c.Flaws[0].Rule}
	}
	return group{c.Flaws[0].In, instance.AnyIndex(c.Flaws[0].Pointer), c.Flaws[0].Rule}
}

// ranks order the groups of a turn: what is of no field comes first, and each rule once; then one
// rule of each field, another one from field to field, then a second rule of each, and so on. So
// where a budget is too small for all, each field has its share, and each rule.
func ranks(groups []group) map[group]int {
	type field struct{ in, pointer string }
	var fields []field
	of, rules := map[field][]group{}, map[string]bool{}
	out := map[group]int{}
	for _, g := range groups {
		f := field{g.in, g.pointer}
		if g.pointer == "" {
			out[g] = -1
			continue
		}
		if of[f] == nil {
			fields = append(fields, f)
		}
		of[f] = append(of[f], g)
	}
	for i, f := range fields {
		n := len(of[f])
		for j, g := range of[f] {
			out[g] = ((j-i)%n + n) % n
		}
	}
	for _, g := range groups {
		if !rules[g.rule] {
			rules[g.rule], out[g] = true, -1
		}
	}
	return out
}

// heldCases are the cases of an operation that may be picked, so that it need not be planned twice.
type heldCases struct {
	all   []*exchange.Case // by place; nil: it is not held
	turns []int            // by place; 0: a control
	count map[group]int
	live  int // of all, those that are held
	bytes int // of their bodies
	over  bool
}

// add takes a case in.
func (h *heldCases) add(c *exchange.Case, turn int) {
	h.turns = append(h.turns, turn)
	if h.over {
		return
	}
	h.all = append(h.all, c)
	h.live++
	if h.bytes += len(c.Request.Body); h.bytes > maxHeld || h.live > mostHeld {
		h.over, h.all = true, nil
	}
}

// prune lets go of cases that come too late to be picked: those that are of a group of which there
// are enough for the budget before them.
func (h *heldCases) prune(budget int) {
	limit := lastTurn(h.count, budget)
	for i, c := range h.all {
		if c != nil && h.turns[i] > limit {
			h.all[i] = nil
			h.live--
			h.bytes -= len(c.Request.Body)
		}
	}
}

// lastTurn is the turn behind which nothing is picked: when each group has had so many turns, the
// budget is used up.
func lastTurn(count map[group]int, budget int) int {
	most := 0
	for _, n := range count {
		most = max(most, n)
	}
	return sort.Search(most, func(turn int) bool {
		n := 0
		for _, of := range count {
			n += min(of, turn)
		}
		return n >= budget
	})
}

// BeyondBudget is the reason for dropping the flaws of a rule at a field, none of which is within the
// budget.
const BeyondBudget = "the budget is used up: a larger --budget, or --depth deep, tries it"

// withinBudget picks cases: all controls, then by turns one of each group. Where those that may be
// picked are neither many nor large, it gives these themselves as well. What is beyond is the first
// flaw of each rule at a field of which nothing is picked.
func (op *Operation) withinBudget() (all []*exchange.Case, picked []bool, beyond []exchange.Flaw) {
	type ranked struct {
		turn, place int
		group       group
	}
	list := make([]ranked, 0, usualCases)
	picked = make([]bool, 1, usualCases+1) // there is no place 0
	held := &heldCases{all: make([]*exchange.Case, 0, usualCases), count: map[group]int{}}
	budget := op.plan.opt.Budget
	var groups []group
	first := map[group]exchange.Flaw{}
	op.emit(func(i int, c exchange.Case) bool {
		picked = append(picked, c.Kind == exchange.Control)
		if c.Kind == exchange.Control {
			held.add(&c, 0)
			return true
		}
		g := groupOf(&c)
		if held.count[g]++; held.count[g] == 1 {
			if groups = append(groups, g); g.pointer != "" {
				first[g] = c.Flaws[0]
			}
		}
		list = append(list, ranked{held.count[g], i, g})
		held.add(&c, held.count[g])
		if len(list)%budget == 0 {
			held.prune(budget)
		}
		return true
	})
	if len(list) > budget {
		rank := ranks(groups)
		slices.SortFunc(list, func(a, b ranked) int {
			return cmp.Or(cmp.Compare(a.turn, b.turn), cmp.Compare(rank[a.group], rank[b.group]), cmp.Compare(a.place, b.place))
		})
		for _, r := range list[:budget] {
			delete(first, r.group)
		}
		list = list[:budget]
		for _, g := range groups {
			if f, untried := first[g]; untried {
				beyond = append(beyond, f)
			}
		}
	}
	for _, r := range list {
		picked[r.place] = true
	}
	for i := range held.all {
		if !picked[i+1] {
			held.all[i] = nil
		}
	}
	return held.all, picked, beyond
}

// drop notes flaws that are not planned.
func (op *Operation) drop(flaws []exchange.Flaw, why string) {
	for _, f := range flaws {
		op.Drops[why]++
		op.Dropped = append(op.Dropped, flaw.Drop{Flaw: f, Why: why})
	}
}
