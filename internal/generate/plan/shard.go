package plan

import (
	"cmp"
	"fmt"
	"slices"
)

// Shard is one of several parts of a plan, which together are all of it: 2/5.
type Shard struct{ Index, Of int } // from 1

// MaxShards bounds the parts of a plan.
const MaxShards = 1_000

// ParseShard reads a shard as it is written; false where it is none.
func ParseShard(text string) (Shard, bool) {
	var s Shard
	n, err := fmt.Sscanf(text, "%d/%d", &s.Index, &s.Of)
	return s, err == nil && n == 2 && text == s.String() && s.Index >= 1 && s.Index <= s.Of && s.Of <= MaxShards
}

func (s Shard) String() string { return fmt.Sprintf("%d/%d", s.Index, s.Of) }

// Within are the operations of a shard. Those that deal with the records of one collection
// stay together; otherwise each shard has about as many requests as the others.
func (p *Plan) Within(s Shard, workers int) map[string]bool {
	type group struct {
		names []string
		cases int
		first int
	}
	type counted struct {
		name, path string
		also       string // a path that has to be in the same shard
		cases      int
	}
	byKey := map[string]*group{}
	var groups []*group
	for c := range Map(p, workers, func(op *Operation) counted {
		out := counted{name: op.Name(), path: op.Path}
		for range op.Cases() {
			out.cases++
		}
		if w := op.whole; w != nil { // their controls prove it
			out.path, out.also = w.any.Path, w.any.Path
			if w.json != nil {
				out.also = w.json.Path
			}
		}
		return out
	}) {
		key := p.paths.Collection(c.path)
		g := byKey[key]
		if g == nil {
			g = &group{first: len(groups)}
			byKey[key] = g
			groups = append(groups, g)
		}
		g.names, g.cases = append(g.names, c.name), g.cases+c.cases
		if o := byKey[p.paths.Collection(c.also)]; c.also != "" && o != nil && o != g {
			g.names, g.cases = append(g.names, o.names...), g.cases+o.cases
			o.names, o.cases = nil, 0
		}
	}
	slices.SortFunc(groups, func(a, b *group) int { return cmp.Or(cmp.Compare(b.cases, a.cases), cmp.Compare(a.first, b.first)) })
	loads := make([]int, s.Of)
	out := map[string]bool{}
	for _, g := range groups { // the largest first, each to the shard that has least
		least := 0
		for i, load := range loads {
			if load < loads[least] {
				least = i
			}
		}
		loads[least] += g.cases
		if least == s.Index-1 {
			for _, name := range g.names {
				out[name] = true
			}
		}
	}
	return out
}
