package plan

import (
	"fmt"
	"strings"
	"sync"

	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
)

// planting is one flaw or edge that was planted into a part, or one that was dropped.
type planting struct {
	planted flaw.Planted
	dropped *flaw.Drop
}

// plantings remembers what was planted into parameters: many operations have the same
// ones, such as those of one path, and pages of a list. It is safe for concurrent use.
type plantings struct {
	mu    sync.Mutex
	known map[string][]planting // by what decides; nothing in a list is written to
}

// Limits of what is remembered: parts, for operations with the same parameters follow one
// another in most descriptions, and for each the bytes of its values.
const (
	mostPlantings  = 64
	mostOfPlanting = 1 << 20
	ofMember       = 64 // what a member takes besides its text
)

func (p *plantings) of(key string) ([]planting, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	list, known := p.known[key]
	return list, known
}

func (p *plantings) keep(key string, list []planting) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.known == nil || len(p.known) == mostPlantings {
		p.known = map[string][]planting{}
	}
	p.known[key] = list
}

// decides is all that decides what is planted into parameters: what is described of
// them, and their values.
func (e *emitter) decides(part *Part, control any) string {
	var b strings.Builder
	fmt.Fprint(&b, part.In, e.op.plan.opt.Depth, e.op.plan.opt.Seed)
	for _, p := range part.Params {
		fmt.Fprintf(&b, "\n%q %q %t %t %t %s", p.Name, p.Style, p.Required, p.Explode, p.JSON, p.Schema.URL())
	}
	b.WriteByte('\n')
	b.Write(instance.Encode(control))
	return b.String()
}

// parameters plants into those of one place, or gives out what was planted into the same
// ones before.
func (e *emitter) parameters(part *Part, control any, opt flaw.Options, give func(flaw.Planted) bool) {
	key := e.decides(part, control)
	list, known := e.op.plan.plantings.of(key)
	if known && e.bytes+len(list)*len(e.op.with(part.In, control).Body) <= maxBytes {
		for _, p := range list {
			if p.dropped != nil {
				opt.Dropped(*p.dropped)
			} else if !give(p.planted) {
				break
			}
		}
		return
	}
	list = nil
	dropped, enough, size := opt.Dropped, false, 0
	opt.Dropped = func(d flaw.Drop) {
		if size <= mostOfPlanting {
			list = append(list, planting{dropped: &d})
		}
		dropped(d)
	}
	opt.Enough = func() bool {
		enough = enough || e.bytes > maxBytes
		return enough
	}
	flaw.Plant(part.Schema, control, opt, func(p flaw.Planted) bool {
		if size <= mostOfPlanting {
			list = append(list, planting{planted: p})
		}
		object, _ := p.Value.(map[string]any)
		for _, v := range object {
			text, _ := v.(string)
			size += ofMember + len(text)
		}
		if size > mostOfPlanting {
			list = nil
		}
		return give(p)
	})
	if !enough && !e.stopped && size <= mostOfPlanting {
		e.op.plan.plantings.keep(key, list)
	}
}
