// Package sample makes valid instances of schemas: controls, which a service
// that keeps to its description must accept, and the values that edges and
// flaws start from. Published examples come first, completed or pruned; what
// they leave open is synthesised. Everything is validated before it is given
// out, and the same seed gives the same values.
//
// It refuses schemas that nothing obeys, and says which keyword was in the way.
package sample

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// Published is an example of the description, and where it is.
type Published struct {
	Value any
	Place string // file:line:column
}

// Control is a valid instance.
type Control struct {
	Shape  string // "fullest", "leanest", or "branch" and which
	Value  any
	Origin string // "example" or "synthesised"
}

// Result is what could be made of a schema.
type Result struct {
	Controls []Control // fullest first; one where both would be the same
	Trimmed  bool      // the schema has more optional fields than one control holds
	Rejected []string  // published examples that break their own schema, with place and reason
}

// Maker makes instances under one seed. It is not safe for concurrent use.
type Maker struct {
	seed uint64
	made map[schema.Schema]made // by Any
}

type made struct {
	value any
	ok    bool
}

// New makes a Maker.
func New(seed uint64) *Maker { return &Maker{seed: seed, made: map[schema.Schema]made{}} }

// maxBranches bounds how many ways through alternatives are tried.
const maxBranches = 8

// Controls makes the fullest and the leanest instance of a schema. The error
// says why there is none.
func (m *Maker) Controls(root schema.Schema, examples []Published) (Result, error) {
	return m.controls(root, examples, schema.Object)
}

// Leanest is Controls with one that has only what is required, for schemas that take
// long to check. The first example that obeys counts as it is.
func (m *Maker) Leanest(root schema.Schema, examples []Published) (Result, error) {
	for _, ex := range examples {
		if v := stripReadOnly([]schema.Schema{root}, ex.Value); root.Valid(v) {
			return Result{Controls: []Control{{"fullest", v, "example"}}}, nil
		}
	}
	v, err := m.shaped(root, nil, false, false, schema.Object)
	return Result{Controls: []Control{{"fullest", v, "synthesised"}}}, err
}

// controls is Controls with the type that a schema means which says nothing.
func (m *Maker) controls(root schema.Schema, examples []Published, usual schema.Types) (Result, error) {
	var res Result
	var base any
	origin := "synthesised"
	for _, ex := range examples {
		v := stripReadOnly([]schema.Schema{root}, ex.Value)
		violations := root.Validate(v, nil)
		if len(violations) == 0 {
			if origin != "example" {
				base, origin = v, "example"
			}
			continue
		}
		first := violations[0]
		res.Rejected = append(res.Rejected, fmt.Sprintf("%s: this example breaks its own schema at %s: %s", ex.Place, instance.Fragment(first.Pointer), first.Message()))
	}
	full, err := m.shaped(root, base, origin == "example", true, usual)
	if err != nil && usual == schema.Object {
		if other, e := m.shaped(root, nil, false, true, schema.String); e == nil {
			full, err, usual = other, nil, schema.String
		}
	}
	if err != nil {
		return res, err
	}
	res.Controls = append(res.Controls, Control{"fullest", full, origin})
	lean, err := m.shaped(root, base, origin == "example", false, usual)
	if err == nil && !instance.Equal(full, lean) {
		res.Controls = append(res.Controls, Control{"leanest", lean, origin})
	}
	m.branches(root, base, usual, &res)
	return res, nil
}

// maxGroups bounds how many alternatives are gone through, and maxControls what
// comes of them.
const (
	maxGroups   = 24
	maxControls = 32
)

// branches adds a control for each branch of each alternative that the fullest
// one does not take: of oneOf and anyOf, of an if its two sides, of several types each.
func (m *Maker) branches(root schema.Schema, base any, usual schema.Types, res *Result) {
	list := []schema.Schema{root}
	first := m.newBuilder(true)
	if first.scout, first.usual = true, usual; base != nil {
		first.hints[""] = base
	}
	_, _ = first.value("", list, 0)
	res.Trimmed = first.trimmed
	type forced struct {
		choice map[string]int
		name   string
	}
	var queue []forced
	known := map[string]bool{}
	enqueue := func(groups []group, under map[string]int) {
		slices.SortStableFunc(groups, func(a, b group) int { return cmp.Compare(a.rank(), b.rank()) })
		for _, g := range groups {
			if known[g.key] || len(known) >= maxGroups {
				continue
			}
			known[g.key] = true
			for i := range g.n {
				choice := map[string]int{g.key: i}
				for k, v := range under {
					choice[k] = v
				}
				queue = append(queue, forced{choice, fmt.Sprintf("branch %s/%d", shortKey(g.key), i)})
			}
		}
	}
	enqueue(first.groups, nil)
	for i := 0; i < len(queue) && len(res.Controls) < maxControls; i++ {
		b := m.newBuilder(true)
		if b.forced, b.usual = queue[i].choice, usual; base != nil {
			b.hints[""] = base
		}
		v, err := b.value("", list, 0)
		enqueue(b.groups, queue[i].choice)
		if err != nil || !root.Valid(v) {
			continue
		}
		if slices.ContainsFunc(res.Controls, func(c Control) bool { return instance.Equal(c.Value, v) }) {
			continue
		}
		res.Controls = append(res.Controls, Control{queue[i].name, v, "synthesised"})
	}
}

// shortKey names an alternative by the end of its schema's address.
func shortKey(key string) string {
	address, keyword, _ := strings.Cut(key, " ")
	_, pointer, _ := strings.Cut(address, "#")
	tokens := strings.Split(pointer, "/")
	return strings.Join(append(tokens[max(0, len(tokens)-2):], keyword), "/")
}

// shaped makes one control, from the example where there is one.
func (m *Maker) shaped(root schema.Schema, base any, hasBase, full bool, usual schema.Types) (any, error) {
	list := []schema.Schema{root}
	if hasBase {
		b := m.newBuilder(full)
		v := b.reshape("", list, base)
		if root.Valid(v) {
			return v, nil
		}
		if full {
			return base, nil
		}
	}
	var reason error
	for branch := range maxBranches {
		b := m.newBuilder(full)
		b.branch, b.usual = branch, usual
		v, err := b.value("", list, 0)
		if err == nil {
			violations := root.Validate(v, nil)
			if len(violations) == 0 {
				return v, nil
			}
			err = broken(violations[0])
		}
		if reason == nil {
			reason = err
		}
		if b.widest <= branch+1 {
			break
		}
	}
	return nil, fmt.Errorf("no valid value could be made: %w", reason)
}

// broken says what is wrong with a value that was made.
func broken(v schema.Violation) error {
	if both := v.Matched(); len(both) > 1 {
		return fmt.Errorf("at %s what branch %d of oneOf takes, branch %d takes as well; a discriminator, required members that differ or additionalProperties: false tell branches apart", instance.Fragment(v.Pointer), both[0], both[1])
	}
	return fmt.Errorf("what was made breaks %s at %s: %s", v.Keyword, instance.Fragment(v.Pointer), v.Message())
}

// Value makes one valid value of a schema, the fullest. It serves parameters.
func (m *Maker) Value(root schema.Schema, examples []Published) (any, error) {
	res, err := m.controls(root, examples, schema.String)
	if err != nil {
		return nil, err
	}
	return res.Controls[0].Value, nil
}

// stripReadOnly takes out what an example of an answer has beyond a request.
func stripReadOnly(list []schema.Schema, v any) any {
	sh := schema.Merge(schema.Apply(list, v))
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for _, name := range instance.Names(v) {
			members, ok := sh.Member(name)
			if !ok || len(members) == 0 {
				out[name] = v[name]
				continue
			}
			if schema.Merge(schema.Apply(members, v[name])).ReadOnly {
				continue
			}
			out[name] = stripReadOnly(members, v[name])
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = stripReadOnly(sh.Item(i), e)
		}
		return out
	}
	return v
}
