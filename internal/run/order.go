package run

import (
	"slices"
	"strings"

	"obiter/internal/plan"
)

// order says which operations wait for which others, by their places in the plan. This is
// all that must not overlap; everything else goes side by side:
//
//   - What makes, changes or removes records of a collection does so while no other
//     operation uses that collection, and in the order of the description: it looks at the
//     state of a record before and after, and spoils records for those that come after it.
//   - An operation uses the collections that its path goes through and those in which
//     records are made for it. Reading them, and making records there, bothers nobody else
//     who does the same.
//   - The API as a whole comes last, by itself: what it sends may bring the service down.
//
// A record that is made for one case belongs to that case, and the fixtures of an operation
// are made one after the other, by itself.
func order(p *plan.Plan, makers func(operation string) []string) (after [][]int) {
	type use struct {
		changed int   // who changed it last; -1: nobody
		used    []int // who has used it since
	}
	collections := map[string]*use{}
	selected := p.Selected()
	for i, o := range selected {
		touched := p.Touches(o)
		if makers != nil {
			for _, name := range makers(o.Name()) {
				_, path, _ := strings.Cut(name, " ")
				touched.Relies = append(touched.Relies, p.Collections(path)...)
			}
		}
		var waits []int
		of := func(collection string) *use {
			u := collections[collection]
			if u == nil {
				u = &use{changed: -1}
				collections[collection] = u
			}
			if u.changed >= 0 {
				waits = append(waits, u.changed)
			}
			return u
		}
		for _, collection := range touched.Relies {
			if u := of(collection); collection != touched.Changes && (len(u.used) == 0 || u.used[len(u.used)-1] != i) {
				u.used = append(u.used, i)
			}
		}
		if touched.Changes != "" {
			u := of(touched.Changes)
			waits = append(waits, u.used...)
			u.changed, u.used = i, nil
		}
		slices.Sort(waits)
		after = append(after, slices.Compact(waits))
	}
	if p.Turns() > len(selected) {
		var all []int
		for i := range selected {
			all = append(all, i)
		}
		after = append(after, all)
	}
	return after
}

// turns gives out the places of a plan, each when those that it waits for are done: the
// first of those that can begin. It is used by one goroutine.
type turns struct {
	waits [][]int // who waits for a place
	left  []int   // for how many a place still waits
	ready []int   // in order
}

func newTurns(after [][]int) *turns {
	t := &turns{waits: make([][]int, len(after)), left: make([]int, len(after))}
	for i, before := range after {
		if t.left[i] = len(before); len(before) == 0 {
			t.ready = append(t.ready, i)
		}
		for _, b := range before {
			t.waits[b] = append(t.waits[b], i)
		}
	}
	return t
}

// next is a place that can begin; false where none can as yet.
func (t *turns) next() (int, bool) {
	if len(t.ready) == 0 {
		return 0, false
	}
	i := t.ready[0]
	t.ready = t.ready[1:]
	return i, true
}

func (t *turns) done(i int) {
	for _, w := range t.waits[i] {
		if t.left[w]--; t.left[w] == 0 {
			at, _ := slices.BinarySearch(t.ready, w)
			t.ready = slices.Insert(t.ready, at, w)
		}
	}
}
