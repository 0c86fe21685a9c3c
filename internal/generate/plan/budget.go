package plan

import (
	"cmp"
	"slices"
	"sort"

	"obiter/internal/core/exchange"
)

// Limits of what is held of an operation, so that it need not be planned twice.
const (
	maxHeld  = 4 << 20 // of the bodies of its cases
	mostHeld = 5_000   // cases

	usualCases = 96 // of an operation
)

// group is what cases are taken by in turns.
type group struct{ in, rule string }

func groupOf(c *exchange.Case) group {
	switch {
	case c.Edge != nil:
		return group{"edge", c.Edge.Rule}
	case len(c.Flaws) > 1:
		return group{"", "several"}
	}
	return group{c.Flaws[0].In, c.Flaws[0].Rule}
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

// withinBudget picks cases: all controls, then by turns one of each rule. Where those that may be
// picked are neither many nor large, it gives these themselves as well.
func (op *Operation) withinBudget() (all []*exchange.Case, picked []bool) {
	type ranked struct{ turn, place int }
	list := make([]ranked, 0, usualCases)
	picked = make([]bool, 1, usualCases+1) // there is no place 0
	held := &heldCases{all: make([]*exchange.Case, 0, usualCases), count: map[group]int{}}
	budget := op.plan.opt.Budget
	op.emit(func(i int, c exchange.Case) bool {
		picked = append(picked, c.Kind == exchange.Control)
		if c.Kind == exchange.Control {
			held.add(&c, 0)
			return true
		}
		g := groupOf(&c)
		held.count[g]++
		list = append(list, ranked{held.count[g], i})
		held.add(&c, held.count[g])
		if len(list)%budget == 0 {
			held.prune(budget)
		}
		return true
	})
	if len(list) > budget {
		slices.SortFunc(list, func(a, b ranked) int { return cmp.Or(cmp.Compare(a.turn, b.turn), cmp.Compare(a.place, b.place)) })
		list = list[:budget]
	}
	for _, r := range list {
		picked[r.place] = true
	}
	for i := range held.all {
		if !picked[i+1] {
			held.all[i] = nil
		}
	}
	return held.all, picked
}
