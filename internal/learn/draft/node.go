package draft

import (
	"encoding/json"
	"math/big"
	"slices"
	"strconv"
	"unicode/utf8"

	"obiter/internal/core/instance"
)

// node is what was seen of a field: the values that were accepted, and those that were
// refused because of it.
type node struct {
	seen    int // times that it was there, and accepted
	holders int // times that it could have been
	types   map[string]int
	lengths span // of texts, in characters
	sizes   span // of lists
	low     *big.Rat
	high    *big.Rat
	texts   map[string]int // different ones, bounded
	formats map[string]bool
	numbers []*big.Rat     // different ones, bounded
	twice   bool           // a list with an element twice was accepted
	samples map[string]any // the first value of each type
	order   []string
	members map[string]*node
	item    *node

	refused refusals
	form    string   // of a text, as probing found it: a pattern
	words   []string // the only texts that are taken
}

// span is the smallest and the largest of some numbers; empty as long as none is there.
type span struct {
	min, max int
	any      bool
}

func (s *span) add(n int) {
	if !s.any {
		*s = span{n, n, true}
	}
	s.min, s.max = min(s.min, n), max(s.max, n)
}

// refusals are what was refused at a field.
type refusals struct {
	absent  int
	extra   int // members that are not known
	types   map[string]bool
	lengths []int
	sizes   []int
	numbers []*big.Rat
	texts   []string
	twice   int
	bools   map[bool]bool
}

// Bounds of what is kept of one field.
const (
	maxTexts   = 40
	maxNumbers = 200
	maxMembers = 500
	maxDepth   = 30
)

func newNode() *node {
	return &node{types: map[string]int{}, texts: map[string]int{}, samples: map[string]any{}, members: map[string]*node{}, refused: refusals{types: map[string]bool{}, bools: map[bool]bool{}}}
}

func (n *node) member(name string) *node {
	if n.members[name] == nil {
		if len(n.members) >= maxMembers {
			return nil
		}
		n.members[name] = newNode()
		n.order = append(n.order, name)
	}
	return n.members[name]
}

// accept takes in a value that was accepted.
func (n *node) accept(v any, depth int) {
	if n == nil || depth > maxDepth {
		return
	}
	n.seen++
	kind := instance.Type(v)
	if n.types[kind]++; n.types[kind] == 1 {
		n.samples[kind] = v
	}
	switch v := v.(type) {
	case string:
		n.lengths.add(utf8.RuneCountInString(v))
		if _, has := n.texts[v]; has || len(n.texts) < maxTexts {
			n.texts[v]++
		}
		n.narrowFormats(v)
	case json.Number:
		n.acceptNumber(v)
	case []any:
		n.sizes.add(len(v))
		n.twice = n.twice || hasTwice(v)
		for _, e := range v {
			if n.item == nil {
				n.item = newNode()
			}
			n.item.holders++
			n.item.accept(e, depth+1)
		}
	case map[string]any:
		for _, name := range instance.Names(v) {
			n.member(name).accept(v[name], depth+1)
		}
		for _, m := range n.members {
			m.holders = n.types["object"]
		}
	}
}

func (n *node) acceptNumber(v json.Number) {
	r, ok := instance.Rat(v)
	if !ok {
		return
	}
	if n.low == nil || r.Cmp(n.low) < 0 {
		n.low = r
	}
	if n.high == nil || r.Cmp(n.high) > 0 {
		n.high = r
	}
	if len(n.numbers) < maxNumbers {
		n.numbers = append(n.numbers, r)
	}
}

// startFormats takes all formats for possible, where no text was seen yet.
func (n *node) startFormats() {
	if n.formats != nil {
		return
	}
	n.formats = map[string]bool{}
	for _, f := range formats {
		n.formats[f.name] = true
	}
}

func (n *node) narrowFormats(text string) {
	n.startFormats()
	for _, f := range formats {
		if n.formats[f.name] && !f.is(text) {
			n.formats[f.name] = false
		}
	}
}

func hasTwice(list []any) bool {
	for i, e := range list {
		if slices.ContainsFunc(list[:i], func(o any) bool { return instance.Equal(e, o) }) {
			return true
		}
	}
	return false
}

// refuse takes in a value that was refused because of it; base is the one that was
// accepted in its place.
func (n *node) refuse(v any) {
	if n == nil {
		return
	}
	kind := instance.Type(v)
	if n.types[kind] == 0 && !(kind == "integer" && n.types["number"] > 0) {
		n.refused.types[kind] = true
		return
	}
	switch v := v.(type) {
	case string:
		n.refused.lengths = append(n.refused.lengths, utf8.RuneCountInString(v))
		if len(n.refused.texts) < maxTexts {
			n.refused.texts = append(n.refused.texts, v)
		}
	case json.Number:
		if r, ok := instance.Rat(v); ok {
			n.refused.numbers = append(n.refused.numbers, r)
		}
	case bool:
		n.refused.bools[v] = true
	case []any:
		if hasTwice(v) && !n.twice && n.sizes.any && len(v) >= n.sizes.min && len(v) <= n.sizes.max+1 {
			n.refused.twice++
			return
		}
		n.refused.sizes = append(n.refused.sizes, len(v))
	}
}

// change is where a request differs from one that was accepted.
type change struct {
	pointer string // with indexes
	turn    turn
	value   any
}

type turn int

const (
	left    turn = iota // a member is left out
	changed             // a value is another
	extra               // a member is there in addition
)

// changes are where v differs from base; more than a few are none.
func changes(at string, base, v any, out []change) []change {
	if len(out) > 40 || instance.Equal(base, v) {
		return out
	}
	was, isObject := base.(map[string]any)
	is, alike := v.(map[string]any)
	if isObject && alike {
		for _, name := range instance.Names(was) {
			pointer := instance.Join(at, name)
			if m, has := is[name]; has {
				out = changes(pointer, was[name], m, out)
			} else {
				out = append(out, change{pointer, left, nil})
			}
		}
		for _, name := range instance.Names(is) {
			if _, had := was[name]; !had {
				out = append(out, change{instance.Join(at, name), extra, is[name]})
			}
		}
		return out
	}
	list, isList := base.([]any)
	now, alike := v.([]any)
	if isList && alike && len(list) == len(now) && (!hasTwice(now) || hasTwice(list)) {
		for i := range list {
			out = changes(instance.Join(at, strconv.Itoa(i)), list[i], now[i], out)
		}
		return out
	}
	return append(out, change{at, changed, v})
}

// at is the node of a pointer; nil where nothing is known of it. The parent has its last
// name.
func (n *node) at(pointer string) (found, parent *node, name string) {
	tokens, err := instance.Split(pointer)
	if err != nil {
		return nil, nil, ""
	}
	found = n
	for _, t := range tokens {
		parent, name = found, t
		if found == nil {
			return nil, nil, t
		}
		if _, err := strconv.Atoi(t); err == nil && found.item != nil && len(found.members) == 0 {
			found = found.item
		} else {
			found = found.members[t]
		}
	}
	return found, parent, name
}

// refuseChange takes in a change that was refused.
func (n *node) refuseChange(c change) {
	found, parent, _ := n.at(c.pointer)
	switch {
	case c.turn == left && found != nil:
		found.refused.absent++
	case c.turn == extra && found == nil && parent != nil:
		parent.refused.extra++
	case c.turn != left && found != nil:
		found.refuse(c.value)
	}
}
