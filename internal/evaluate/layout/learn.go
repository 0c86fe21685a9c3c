package layout

import (
	"cmp"
	"hash/maphash"
	"maps"
	"slices"
	"strings"

	"obiter/internal/core/instance"
)

// Study collects, over the answers of a run, which of their places name fields:
// those that follow the flawed field from case to case. Its size grows with what
// differs, not with the number of answers. It is not safe for concurrent use.
type Study struct {
	places     map[string]*place
	namedAlone map[uint64]uint64 // the places at which a field's own flaw was named, one bit each, by what field.sum gives
	seed       maphash.Seed
}

// field is a field of one operation's requests, with a way to break a rule there.
type field struct{ operation, in, pointer, flaw string }

// sum stands for a field where very many are kept.
func (f field) sum(seed maphash.Seed) uint64 { return maphash.Comparable(seed, f) }

// place is what was seen at one place.
type place struct {
	seen     int // answers to requests with one flawed field
	hits     int // of them, those that name it
	pure     int // and nothing else
	known    int // those that name a field of the request, whichever
	answers  int // all answers to flawed requests that have the place
	targets  map[field]bool
	follows  map[field]bool // those of the targets that were named
	behind   map[field]bool // those that were named behind a prefix
	names    map[string]*nameStats
	prefixes map[string]map[string]int // by operation
	plain    map[string]int            // by operation: names without any
	members  map[string][2]int         // of entries: how often one names the flawed member of what the name names, and another
	zero     int                       // names with an index, counted from 0 and right
	one      int                       // and right if counted from 1
	pointers bool
	bit      uint64 // in what Study.told has; the last one is shared
}

// nameStats is one name at one place.
type nameStats struct {
	count   int
	astray  int // where something else was wrong
	targets map[field]bool
}

// Bounds of what is kept of a place.
const (
	maxTold    = 1_000_000 // fields, over all operations
	maxTargets = 12
	maxNames   = 200
	maxHabits  = 500 // places
)

// NewStudy makes an empty one.
func NewStudy() *Study {
	return &Study{places: map[string]*place{}, namedAlone: map[uint64]uint64{}, seed: maphash.MakeSeed()}
}

// Lesson is one rejection.
type Lesson struct {
	Operation string
	In        string // the part of the request that was flawed
	Pointer   string // of the one flawed field; "" where no field was flawed
	Flaw      string // the rule that was broken, and how
	Places    []Reading
	// Tells reports whether a name is that of the flawed field, in any of the ways
	// that are good enough for its rule, or that of its neighbour in a list.
	Tells func(Named) bool
}

// Add takes in a rejection.
func (s *Study) Add(l Lesson) {
	target := field{l.Operation, l.In, l.Pointer, l.Flaw}.sum(s.seed)
	tokens, err := instance.Split(l.Pointer)
	if err != nil {
		return
	}
	for _, r := range l.Places {
		p := s.places[r.Where]
		if p == nil {
			if len(s.places) >= maxHabits {
				continue
			}
			p = &place{targets: map[field]bool{}, follows: map[field]bool{}, behind: map[field]bool{}, names: map[string]*nameStats{}, prefixes: map[string]map[string]int{}, plain: map[string]int{}, members: map[string][2]int{}, bit: 1 << min(len(s.places), 63)}
			s.places[r.Where] = p
		}
		p.answers++
		hit := p.add(r, l, field{l.Operation, l.In, l.Pointer, ""}, tokens)
		if was, known := s.namedAlone[target]; hit && (known || len(s.namedAlone) < maxTold) {
			s.namedAlone[target] = was | p.bit
		}
	}
}

// add counts the names of one answer, and reports whether one tells of the flawed field.
func (p *place) add(r Reading, l Lesson, target field, tokens []string) (hit bool) {
	single := l.Pointer != ""
	known, stray, behind := false, false, false
	for _, n := range r.Fields {
		p.pointers = p.pointers || n.Name.IsPointer() && len(n.Name.readings) > 0 && len(n.Name.readings[0]) > 0
		known = known || n.InRequest && n.Name.fits(nil) != Exact
		if single {
			p.count(n.Name, tokens)
			if p.completed(n, tokens) {
				behind = true
				continue
			}
		}
		tells := single && l.Tells(n)
		if single && !tells {
			if prefix := n.Name.prefixOf(tokens); prefix != nil {
				behind = true
				p.prefixed(l.Operation, key(prefix))
				continue
			}
		} else if tells && n.Name.fits(tokens) == Exact {
			p.plain[l.Operation]++
		}
		hit, stray = hit || tells, stray || !tells
		p.say(n.Name.Raw, tells, target)
	}
	if !single {
		return false
	}
	if known {
		p.known++
	}
	p.reckon(target, hit, behind, stray)
	return hit || behind
}

// reckon counts an answer to one flaw: whether it hit the field, named what is behind it, or
// something else.
func (p *place) reckon(target field, hit, behind, stray bool) {
	p.seen++
	if len(p.targets) < maxTargets {
		p.targets[target] = true
	}
	if (hit || behind) && !stray {
		p.pure++
	}
	switch {
	case hit:
		p.hits++
		if len(p.follows) < maxTargets {
			p.follows[target] = true
		}
	case behind && len(p.behind) < maxTargets:
		p.behind[target] = true
	}
}

func (p *place) say(name string, tells bool, target field) {
	w := p.names[name]
	if w == nil {
		if len(p.names) >= maxNames {
			return
		}
		w = &nameStats{targets: map[field]bool{}}
		p.names[name] = w
	}
	w.count++
	if !tells {
		w.astray++
		if len(w.targets) < maxTargets {
			w.targets[target] = true
		}
	}
}

func (p *place) prefixed(operation, prefix string) {
	if p.prefixes[operation] == nil {
		p.prefixes[operation] = map[string]int{}
	}
	if m := p.prefixes[operation]; len(m) < maxNames {
		m[prefix]++
	}
}

// completed looks, where the name is that of the object around the flawed field,
// for another member of the entry that has the field's own name: what is missing
// is often told so.
func (p *place) completed(n Named, target []string) bool {
	if n.entry == nil || n.Name.fits(target[:len(target)-1]) != Exact {
		return false
	}
	found := false
	for at, text := range texts(n.entry) {
		seen, known := p.members[at]
		if !known && len(p.members) >= maxNames {
			continue
		}
		if text == target[len(target)-1] {
			seen[0]++
			found = true
		} else {
			seen[1]++
		}
		p.members[at] = seen
	}
	return found
}

// texts are the short texts of an entry, and of the objects in it, by their places.
func texts(entry map[string]any) map[string]string {
	out := map[string]string{}
	for name, v := range entry {
		switch v := v.(type) {
		case string:
			if len(v) <= maxName {
				out[key([]string{name})] = v
			}
		case map[string]any:
			for inner, v := range v {
				if text, ok := v.(string); ok && len(text) <= maxName {
					out[key([]string{name, inner})] = text
				}
			}
		}
	}
	return out
}

// count sees whether indexes are counted from 0 or from 1.
func (p *place) count(n Name, target []string) {
	if !slices.ContainsFunc(target, isIndex) {
		return
	}
	ends := func(n Name) bool {
		return slices.ContainsFunc(n.readings, func(r []string) bool { return len(r) >= len(target) && slices.Equal(r[len(r)-len(target):], target) })
	}
	switch {
	case ends(n):
		p.zero++
	case ends(n.fromOne()):
		p.one++
	}
}

// Knowledge is what a Study taught.
type Knowledge struct {
	habits map[string]habit
	study  *Study // when all answers have come; nil: not yet
	namely uint64 // the places that name fields, as Study.told has them
}

// habit is how one place names fields.
type habit struct {
	followsFlaw bool // it follows the flawed field
	neverNames  bool // it never does, and holds something else
	rate        int  // how often it names the flawed field, in hundredths
	pure        int  // and nothing else
	constant    map[string]bool
	prefixes    map[string][]string // by operation; "" for all others
	members     []string            // of an entry, that name a member of what the name names
	fromOne     bool
}

// few is how many answers teach nothing yet.
const few = 5

// SoFar is what was learned while answers still come in: which fields an
// operation names when they alone are wrong is not known yet.
func (s *Study) SoFar() *Knowledge {
	k := &Knowledge{habits: map[string]habit{}}
	for where, p := range s.places {
		k.habits[where] = p.habit(where)
	}
	return k
}

// Learned is what was learned when all answers have come.
func (s *Study) Learned() *Knowledge {
	k := s.SoFar()
	k.study = s
	for where, p := range s.places {
		if !k.habits[where].neverNames {
			k.namely |= p.bit
		}
	}
	return k
}

func (p *place) habit(where string) habit {
	h := habit{constant: map[string]bool{}, prefixes: map[string][]string{}}
	for name, w := range p.names {
		// What is said in every answer, whatever was wrong, names nothing.
		if p.answers >= few && w.count*10 >= p.answers*9 && len(w.targets) >= 3 {
			h.constant[name] = true
		}
	}
	hits, follows := p.prefix(&h)+p.hits, len(p.follows)
	for _, at := range slices.Sorted(maps.Keys(p.members)) {
		if n := p.members[at]; n[0] >= 2 && n[0] >= 4*n[1] {
			h.members = append(h.members, at)
			hits += n[0]
		}
	}
	if len(h.prefixes)+len(h.members) > 0 {
		follows += len(p.behind)
	}
	if p.seen > 0 {
		h.rate, h.pure = min(100*hits/p.seen, 100), 100*p.pure/p.seen
	}
	h.followsFlaw = follows >= 2 && hits*2 >= p.seen
	h.neverNames = p.seen >= few && len(p.targets) >= 2 && !p.pointers && (hits == 0 || hits*5 < p.seen && p.known*2 < p.seen)
	if where == rfcPlace {
		h.constant, h.neverNames = map[string]bool{}, false // it is taken at its word
	}
	h.fromOne = p.one >= 3 && p.zero*10 <= p.one && !p.pointers
	return h
}

// prefix takes what most names of an operation begin with, where that is not in
// the request, for its prefix, and tells how many there are.
func (p *place) prefix(h *habit) (hits int) {
	usual := map[string]bool{}
	for operation, seen := range p.prefixes {
		best, total := "", 0
		for _, prefix := range slices.Sorted(maps.Keys(seen)) {
			total += seen[prefix]
			if best == "" || seen[prefix] > seen[best] {
				best = prefix
			}
		}
		if n := seen[best]; n >= 3 && n*2 > total && n > p.plain[operation] {
			h.prefixes[operation], _ = instance.Split(best)
			usual[best] = true
			hits += n
		}
	}
	if len(usual) == 1 {
		for prefix := range usual {
			h.prefixes[""], _ = instance.Split(prefix)
		}
	}
	return hits
}

// Alike reports whether answers are read by this knowledge as they are by another one, but
// for what Told says.
func (k *Knowledge) Alike(other *Knowledge) bool {
	if k == nil || other == nil {
		return k == other
	}
	if len(k.habits) != len(other.habits) {
		return false
	}
	for where, h := range k.habits {
		o, has := other.habits[where]
		if !has || !h.alike(o) {
			return false
		}
	}
	ranks, others := k.ranked(), other.ranked()
	return slices.EqualFunc(ranks, others, slices.Equal)
}

func (h habit) alike(o habit) bool {
	if h.followsFlaw != o.followsFlaw || h.neverNames != o.neverNames || (h.rate > 0) != (o.rate > 0) || h.fromOne != o.fromOne || !slices.Equal(h.members, o.members) || !maps.Equal(h.constant, o.constant) {
		return false
	}
	for _, one := range []struct{ a, b habit }{{h, o}, {o, h}} {
		for operation := range one.a.prefixes {
			if !slices.Equal(one.a.prefix(operation), one.b.prefix(operation)) {
				return false
			}
		}
	}
	return true
}

// prefix is what the names in an operation's answers begin with.
func (h habit) prefix(operation string) []string {
	if own, has := h.prefixes[operation]; has {
		return own
	}
	return h.prefixes[""]
}

// ranked are the places that follow the flawed field, in the order in which one is chosen;
// equal ones together.
func (k *Knowledge) ranked() (out [][]string) {
	byRank := map[int][]string{}
	for where, h := range k.habits {
		if h.followsFlaw {
			byRank[h.rank()] = append(byRank[h.rank()], where)
		}
	}
	for _, rank := range slices.Sorted(maps.Keys(byRank)) {
		slices.Sort(byRank[rank])
		out = append(out, byRank[rank])
	}
	return out
}

// rank tells how sure a place that follows the flawed field is.
func (h habit) rank() int { return h.rate + h.pure }

// Told reports whether a flaw by itself was rejected in the operation, and its
// field named, as far as that is known.
func (k *Knowledge) Told(operation, in, pointer, flaw string) bool {
	return k == nil || k.study == nil || k.study.namedAlone[field{operation, in, pointer, flaw}.sum(k.study.seed)]&k.namely != 0
}

// Choose takes from the places of an answer of an operation the one that names
// fields, with what was learned; where nothing was, the likeliest.
func (k *Knowledge) Choose(places []Reading, operation string, v *Vocabulary) Reading {
	var best Reading
	if k == nil {
		for _, r := range places {
			if r.likely && r.score > best.score {
				best = r
			}
		}
		return best
	}
	var by habit
	for _, r := range places {
		h := k.habits[r.Where]
		if h.neverNames {
			continue
		}
		r.Fields = slices.DeleteFunc(slices.Clone(r.Fields), func(n Named) bool { return h.constant[n.Name.Raw] })
		if len(r.Fields) == 0 || !r.likely && !h.followsFlaw {
			continue
		}
		prefix := h.prefix(operation)
		for i := range r.Fields {
			h.translate(&r.Fields[i], prefix, v)
		}
		if best.Where == "" || better(r, h, best, by) {
			best, by = r, h
		}
	}
	return best
}

// translate makes a name a path into the request, as the place's habit is.
func (h habit) translate(n *Named, prefix []string, v *Vocabulary) {
	name := n.Name.translated(prefix, h.fromOne)
	for _, at := range h.members {
		if text, ok := instance.Get(n.entry, at); ok && n.entry != nil {
			if member, is := text.(string); is && member != "" {
				name = name.child(member)
				break
			}
		}
	}
	if name.Raw != n.Name.Raw || len(prefix) > 0 || h.fromOne {
		n.Name, n.InRequest = name, v.Has(name)
	}
}

// better reports whether a reading is the better one: of places that follow the
// flawed field the surer, of equal ones the RFC's; else the likelier.
func better(a Reading, x habit, b Reading, y habit) bool {
	rank := func(r Reading, h habit) int {
		switch {
		case h.followsFlaw:
			return h.rank()
		case r.Where == rfcPlace:
			return 1
		}
		return 0
	}
	rfc := func(r Reading) int {
		if r.Where == rfcPlace {
			return 1
		}
		return 0
	}
	return cmp.Or(cmp.Compare(rank(a, x), rank(b, y)), cmp.Compare(rfc(a), rfc(b)), cmp.Compare(a.score, b.score), strings.Compare(b.Where, a.Where)) > 0
}

// Agrees reports whether a place follows the flawed field from case to case, or
// whether too little was seen to tell.
func (k *Knowledge) Agrees(where string) bool {
	if k == nil {
		return true
	}
	h, seen := k.habits[where]
	return !seen || h.followsFlaw || !h.neverNames && h.rate > 0
}

// Prefix is what the names at a place begin with in an operation's answers and
// that is not in the request, as a JSON Pointer; "" for nothing.
func (k *Knowledge) Prefix(where, operation string) string {
	if k == nil {
		return ""
	}
	return key(k.habits[where].prefixes[operation])
}

// FromOne reports whether indexes at a place are counted from 1.
func (k *Knowledge) FromOne(where string) bool { return k != nil && k.habits[where].fromOne }
