package run

import (
	"slices"
	"strings"

	"obiter/internal/generate/plan"
)

// dependencies says which operations wait for which others, by their places in the plan. This is
// all that must not overlap; everything else goes side by side:
//
//   - What makes, changes or removes records of a collection does so while no other
//     operation uses that collection, and in the order of the description: it looks at the
//     state of a record before and after, and spoils records for those that come after it.
//   - An operation uses the collections that its path goes through and those in which
//     records are made for it. Reading them, and making records there, bothers nobody else
//     who does the same.
//   - What changes the service as a whole goes by itself: for others it may be closed meanwhile.
//   - The API as a whole comes last, by itself: what it sends may bring the service down.
//
// A record that is made for one case belongs to that case, and the fixtures of an operation
// are made one after the other, by itself.
func dependencies(p *plan.Plan, makers func(operation string) []string, byItself func(operation string) bool) (after [][]int) {
	type use struct {
		changed int   // who changed it last; -1: nobody
		used    []int // who has used it since
	}
	collections := map[string]*use{}
	selected := p.Selected()
	barrier := -1 // the last operation that goes by itself
	for i, o := range selected {
		relies, changes := p.Collections(o.Address()), ""
		if !o.OnlyReads() {
			relies, changes = relies[1:], relies[0]
		}
		if makers != nil {
			for _, name := range makers(o.Name()) {
				_, path, _ := strings.Cut(name, " ")
				relies = append(relies, p.Collections(path)...)
			}
		}
		var waits []int
		if barrier >= 0 {
			waits = append(waits, barrier)
		}
		if byItself != nil && byItself(o.Name()) {
			for earlier := range i {
				waits = append(waits, earlier)
			}
			barrier = i
		}
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
		for _, collection := range relies {
			if u := of(collection); collection != changes && (len(u.used) == 0 || u.used[len(u.used)-1] != i) {
				u.used = append(u.used, i)
			}
		}
		if changes != "" {
			u := of(changes)
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
