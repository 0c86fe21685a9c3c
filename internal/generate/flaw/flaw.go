// Package flaw plants single violations into a control and proves each one: the
// flawed instance breaks the named rule at the named field and nothing
// anywhere else, by the word of the validator. What cannot be proved is dropped
// with its reason. It also makes edges (a value exactly on a boundary, which is
// valid) and combinations of flaws that do not hide one another.
//
// The functions that plant are in the table planters, a file for each family of
// keywords; what is known of each rule is in the catalogue (package rule).
package flaw

import (
	"encoding/json"
	"slices"
	"strconv"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/generate/sample"
	"obiter/internal/input/schema"
)

// Depth says how many variants are made: one for each rule, the usual ones, all.
type Depth int

// The depths, in growing order.
const (
	Quick Depth = iota
	Usual
	Deep
)

// Planted is an instance with its flaws; an edge has none but says which
// boundary it sits on.
type Planted struct {
	Flaws     []exchange.Flaw
	Edge      *exchange.Flaw // of an edge: the field, the rule, and which boundary
	Rare      bool           // of an edge: such values are right and seldom met
	Undecided bool           // no standard says whether it is a flaw: nothing is proved
	Value     any
}

// Drop is a flaw that was not planted, and why.
type Drop struct {
	Flaw exchange.Flaw
	Why  string
}

// The reasons for dropping.
const (
	StillValid = "the request stays valid: another rule or branch accepts the value"
	Collateral = "something else would break as well"
	TooLarge   = "the value would be too large to send"
	Unsendable = "the value cannot be sent unambiguously"
	TooMany    = "the body has more fields than are tried"
	TooMuch    = "the bodies planned for the operation are large enough together"
	Listed     = "the listed values (enum or const) allow less"
	OtherType  = "the control has a value of another type there"
	NotBroken  = "no way to break it is known here"
)

// Limits of what is sent in one value.
const (
	maxText     = 1 << 20
	maxElements = 1_000
	maxFields   = 1_000 // of one control
)

// Planter plants flaws into controls of one schema.
type Planter struct {
	root     schema.Schema
	control  any
	baseline *schema.Baseline // the control
	depth    Depth
	patch    bool
	in       string
	branched []string // Options.Alternatives
	seen     func(any) (any, bool)
	readings func(string, any, []schema.Schema) ([]any, bool)
	keeps    func(string) bool // of Options: Typed
	top      *schema.Shape     // what the schemas say of the control as a whole; nil: not merged yet
	astext   bool              // seen is not the instance as it is
	apart    bool              // what is seen of a member does not depend on the others
	maker    *sample.Maker
	planted  func(Planted) bool
	dropped  func(Drop)
	enough   func() bool
	stopped  bool
	done     map[string]bool        // of Options
	once     map[[2]string]int      // by field and rule: how many are planted
	repeated []string               // pointers of last elements, which are as the first ones
	best     map[string]combination // per field, for all-at-once
	typed    map[string]combination // per field, a value of a wrong type
	fields   []string               // fields in the order met
}

// Options are what Plant needs in addition to the schema and the control.
type Options struct {
	Depth   Depth
	Maker   *sample.Maker
	Patch   bool       // a merge patch (RFC 7396): null removes, so it is not a wrong type
	Dropped func(Drop) // may be nil
	In      string     // where the instance is; empty: body
	// Alternatives are the fields that have a oneOf or anyOf. A member that may
	// select the branch is not wrong together with others.
	Alternatives []string
	// Seen is what a service reads where the instance is sent as text, as
	// parameters and form fields are: 12 and "12" look alike. False where the
	// instance cannot be sent at all. Nil: as it is.
	Seen func(any) (any, bool)
	// Apart says that what is read of a member does not depend on the others.
	Apart bool
	// Readings are all ways in which what is sent for a member of the instance may be
	// read, and whether it may be taken for absent. May be nil.
	Readings func(name string, v any, list []schema.Schema) (readings []any, absent bool)
	// Typed tells which members keep their types all the same. May be nil.
	Typed func(name string) bool
	// Enough tells that nothing more is to be planted. May be nil.
	Enough func() bool
	// Done holds the fields that were planted before, with the schemas that held
	// there, and is added to: of a control for another branch only what is new
	// is planted. May be nil.
	Done map[string]bool
}

// Plant gives out the flawed instances of a control, then the edges, in the
// order of the control's fields. It stops when yield returns false.
func Plant(root schema.Schema, control any, opt Options, yield func(Planted) bool) {
	p := &Planter{root: root, control: control, baseline: schema.NewBaseline(control), depth: opt.Depth, patch: opt.Patch, maker: opt.Maker, planted: yield, dropped: opt.Dropped,
		once: map[[2]string]int{}, best: map[string]combination{}, typed: map[string]combination{}, in: opt.In, branched: opt.Alternatives, seen: opt.Seen, readings: opt.Readings, keeps: opt.Typed}
	if p.in == "" {
		p.in = "body"
	}
	p.apart = opt.Seen == nil || opt.Apart
	if p.astext = p.seen != nil; !p.astext {
		p.seen = func(v any) (any, bool) { return v, true }
	}
	if p.done = opt.Done; p.done == nil {
		p.done = map[string]bool{}
	}
	if p.enough = opt.Enough; p.enough == nil {
		p.enough = func() bool { return false }
	}
	if p.dropped == nil {
		p.dropped = func(Drop) {}
	}
	var sites []*site
	p.walk("", []schema.Schema{root}, control, nil, nil, func(s *site) {
		if key := s.key(); !p.done[key] {
			p.done[key] = true
			sites = append(sites, s)
		}
	})
	if len(sites) > maxFields {
		for _, s := range sites[maxFields:] {
			p.dropped(Drop{s.flaw("every", "", ""), TooMany})
		}
		sites = sites[:maxFields]
	}
	for _, s := range sites {
		p.plantAt(s)
	}
	p.emptyObject()
	p.allAtOnce()
	if p.in != "path" { // there may be nothing at a well-formed address
		for _, s := range sites {
			p.edgesAt(s)
		}
	}
}

// site is one field of the control with all that its schemas say.
type site struct {
	p       *Planter
	pointer string
	value   any
	list    []schema.Schema // what holds there, not expanded
	shape   *schema.Shape
	holder  *schema.Shape // the object that has it; nil: none
	anchor  anchor
	tried   map[string]bool // rules of which something was planted or dropped
}

// anchor is the place from which a change is proved: what happens inside it can
// break nothing outside, for every schema around it looks at one member or
// element at a time.
type anchor struct {
	pointer  string
	list     []schema.Schema  // what holds there
	baseline *schema.Baseline // what the control has there
}

// validate lists what v, a whole instance, breaks inside the anchor.
func (a anchor) validate(v any) []schema.Violation {
	here, ok := instance.Get(v, a.pointer)
	if !ok {
		return nil
	}
	var out []schema.Violation
	for _, s := range a.list {
		for _, found := range s.ValidateAgainst(here, a.baseline) {
			found.Pointer = a.pointer + found.Pointer
			out = append(out, found)
		}
	}
	return out
}

// valid reports whether v, a whole instance, is valid inside the anchor.
func (a anchor) valid(v any) bool {
	here, ok := instance.Get(v, a.pointer)
	return ok && schema.Obeys(a.list, here)
}

// key tells fields apart by place and by the schemas that hold there.
func (s *site) key() string {
	key := s.pointer
	for _, source := range s.shape.Sources {
		key += " " + source.URL()
	}
	return key
}

// walk visits the fields of the control, parents first: members in the order
// of the description, of arrays the first and the last element. Nil for from
// means that the field is an anchor itself; holder is the object that has it, if one does.
func (p *Planter) walk(pointer string, list []schema.Schema, v any, from *anchor, holder *schema.Shape, visit func(*site)) {
	if p.stopped {
		return
	}
	sh := schema.Merge(schema.Apply(list, v))
	if from == nil {
		from = &anchor{pointer, list, schema.NewBaseline(v)}
	}
	visit(&site{p, pointer, v, list, sh, holder, *from, map[string]bool{}})
	outer := from
	var decisive map[string]bool
	if p.apart && from.pointer == pointer {
		var ok bool
		if decisive, ok = sh.MembersIndependent(v); ok {
			from = nil // what is inside can be proved by itself
		}
	}
	switch v := v.(type) {
	case map[string]any:
		for _, name := range memberOrder(sh, v) {
			if members, ok := sh.Member(name); ok && len(members) > 0 {
				around := from
				if decisive[name] {
					around = outer
				}
				p.walk(instance.Join(pointer, name), members, v[name], around, sh, visit)
			}
		}
	case []any:
		for _, i := range tellingIndexes(len(v), sh.Prefix()) {
			if items := sh.Item(i); len(items) > 0 {
				if i > 0 && i >= sh.Prefix() {
					p.repeated = append(p.repeated, instance.Join(pointer, strconv.Itoa(i)))
				}
				p.walk(instance.Join(pointer, strconv.Itoa(i)), items, v[i], from, nil, visit)
			}
		}
	}
}

// memberOrder is the members of v: described ones as described, then the rest.
func memberOrder(sh *schema.Shape, v map[string]any) []string {
	var out []string
	known := make(map[string]bool, len(sh.Properties))
	for _, n := range sh.Properties {
		known[n] = true
		if _, has := v[n]; has {
			out = append(out, n)
		}
	}
	for _, n := range instance.Names(v) {
		if !known[n] {
			out = append(out, n)
		}
	}
	return out
}

// tellingIndexes are the first and the last, and those with a schema of their own.
func tellingIndexes(n, prefix int) []int {
	var out []int
	for i := range n {
		if i == 0 || i == n-1 || i < prefix {
			out = append(out, i)
		}
	}
	return out
}

// planters make the flaws of rules, in the order in which a field's flaws come.
// Each names the rules of the catalogue that it plants.
var planters = []struct {
	rules []string
	plant func(*site)
}{
	{[]string{"required"}, plantRequired},
	{[]string{"type"}, plantType},
	{[]string{"enum", "const"}, plantEnum},
	{[]string{"minLength", "maxLength"}, plantLength},
	{[]string{"pattern"}, plantPattern},
	{[]string{"format"}, plantFormat},
	{[]string{"minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf"}, plantNumber},
	{[]string{"minItems", "maxItems", "uniqueItems"}, plantArray},
	{[]string{"items", "unevaluatedItems"}, plantBeyond},
	{nil, plantOneInMany},
	{[]string{"contains", "minContains", "maxContains"}, plantContains},
	{[]string{"dependentRequired", "minProperties", "maxProperties", "propertyNames", "properties", "additionalProperties", "unevaluatedProperties"}, plantObject},
	{[]string{"oneOf", "anyOf", "not"}, plantAlternative},
	{[]string{"blank"}, plantBlank},
	{[]string{"number-text"}, plantNumberText},
	{[]string{"unusual-number"}, plantHuge},
	{[]string{"unusual-date"}, plantFarDates},
}

// Rules lists the rules that this package plants.
func Rules() []string {
	var out []string
	for _, p := range planters {
		out = append(out, p.rules...)
	}
	return out
}

func (p *Planter) plantAt(s *site) {
	for _, planter := range planters {
		if p.stopped {
			return
		}
		planter.plant(s)
		for _, name := range planter.rules {
			if !s.tried[name] && !p.stopped && s.shape.Asserts(name) {
				p.dropped(Drop{s.flaw(name, "every", ""), s.unbroken(name)})
			}
		}
	}
}

// unbroken is why nothing was planted for a rule that a schema has.
func (s *site) unbroken(name string) string {
	r, _ := rule.Find(name)
	switch {
	case s.shape.HasEnum && name != "enum" && name != "const":
		return Listed
	case !s.fits(r.Target):
		return OtherType
	}
	return NotBroken
}

// fits reports whether the site's value is of the type that a rule is about.
func (s *site) fits(t rule.Target) bool {
	switch s.value.(type) {
	case map[string]any:
		return t == rule.Object || t == rule.Value
	case []any:
		return t == rule.Array || t == rule.Value
	case string:
		return t == rule.String || t == rule.Value
	case json.Number:
		return t == rule.Number || t == rule.Value
	}
	return t == rule.Value
}

func (s *site) flaw(rule, variant, reason string) exchange.Flaw {
	s.tried[rule] = true
	return exchange.Flaw{In: s.p.in, Pointer: s.pointer, Rule: rule, Variant: variant, Reason: reason}
}

// replace plants a flaw by putting another value at the site's field.
func (s *site) replace(rule, variant string, at Depth, value any, reason string) {
	f := s.flaw(rule, variant, reason)
	if !s.wants(f, at) || s.tooMuch(f) {
		return
	}
	body, ok := instance.Set(s.p.control, s.pointer, value)
	if !ok {
		return
	}
	seen, ok := s.p.seen(body)
	if !ok {
		s.p.dropped(Drop{f, Unsendable})
		return
	}
	if value, there := instance.Get(seen, s.pointer); !there || !s.shape.Breaks(rule, value) {
		s.p.dropped(Drop{f, StillValid})
		return
	}
	s.planted(f, body, seen)
}

// tooMuch drops a flaw that would be one too many.
func (s *site) tooMuch(f exchange.Flaw) bool {
	if !s.p.enough() {
		return false
	}
	s.p.dropped(Drop{f, TooMuch})
	return true
}

func (s *site) wants(f exchange.Flaw, at Depth) bool {
	p := s.p
	if p.stopped {
		return false
	}
	many := p.once[[2]string{f.Pointer, f.Rule}]
	switch {
	case p.depth == Quick:
		return at <= Usual && many == 0
	case p.depth == Deep:
		return true
	case slices.ContainsFunc(p.repeated, func(around string) bool { return instance.Within(f.Pointer, around) }):
		return at <= Usual && many == 0
	case f.Rule == "type" && f.Variant != "fraction": // a fraction is a number all the same
		return at <= Usual && many < s.usualTypes()
	}
	return at <= Usual
}

// usualTypes is how many wrong types a field gets in usual runs: of numbers and booleans there are
// more that readers take for them.
func (s *site) usualTypes() int {
	switch {
	case s.shape.Types&(schema.Integer|schema.Number) != 0:
		return 5
	case s.shape.Types.Has(schema.Boolean):
		return 4
	}
	return 3
}

// plant gives out an instance once it is proved.
func (s *site) plant(f exchange.Flaw, at Depth, body any) {
	if !s.wants(f, at) {
		return
	}
	seen, ok := s.p.seen(body)
	if !ok {
		s.p.dropped(Drop{f, Unsendable})
		return
	}
	s.planted(f, body, seen)
}

// planted gives out an instance once what is seen of it is proved.
func (s *site) planted(f exchange.Flaw, body, seen any) {
	p := s.p
	why := p.prove([]exchange.Flaw{f}, seen, s.anchor)
	if why == "" && p.mayObey(f.Pointer, body) {
		why = StillValid
	}
	if why != "" {
		p.dropped(Drop{f, why})
		return
	}
	if f.Variant != "fraction" || p.depth == Quick {
		p.once[[2]string{f.Pointer, f.Rule}]++
	}
	p.remember(f, body, s.anchor)
	p.give(Planted{Flaws: []exchange.Flaw{f}, Value: body})
}

func (p *Planter) give(planted Planted) {
	if !p.stopped && !p.planted(planted) {
		p.stopped = true
	}
}

// mayObey reports whether the member in which a field is can be read so that it obeys,
// where all values arrive as text: it is no flaw then.
func (p *Planter) mayObey(field string, body any) bool {
	if p.readings == nil {
		return false
	}
	if field == "" { // the body is one value
		readings, _ := p.readings("", body, []schema.Schema{p.root})
		return slices.ContainsFunc(readings, p.root.Valid)
	}
	object, isObject := body.(map[string]any)
	tokens, err := instance.Split(field)
	if !isObject || err != nil {
		return false
	}
	name := tokens[0]
	v, sent := object[name]
	_, had := instance.Get(p.control, instance.Join("", name))
	if !sent || !had {
		return false
	}
	if p.top == nil {
		p.top = schema.Merge(schema.Apply([]schema.Schema{p.root}, p.control))
	}
	list, _ := p.top.Member(name)
	readings, absent := p.readings(name, v, list)
	return absent && !slices.Contains(p.top.Required, name) || slices.ContainsFunc(readings, func(r any) bool { return schema.Obeys(list, r) })
}

// prove asks the validator whether what is seen of a body is broken at each
// flaw's field and nowhere else inside the anchor. It returns why not, or "".
func (p *Planter) prove(flaws []exchange.Flaw, seen any, at anchor) string {
	violations := at.validate(seen)
	if len(violations) == 0 {
		return StillValid
	}
	hit := make(map[string]bool, len(flaws))
	for _, f := range flaws {
		hit[f.Pointer] = false
	}
	for _, v := range violations {
		placed := false
		for at := v.Pointer; ; at = instance.Parent(at) {
			if _, is := hit[at]; is {
				hit[at], placed = true, true
			}
			if at == "" {
				break
			}
		}
		if !placed {
			return Collateral
		}
	}
	for _, is := range hit {
		if !is {
			return StillValid
		}
	}
	return ""
}

// Field is one field of a control with what its schemas say.
type Field struct {
	Pointer string
	Shape   *schema.Shape
}

// Fields lists the fields of a control, parents first, of arrays the first and
// the last element.
func Fields(root schema.Schema, control any) []Field {
	var out []Field
	p := &Planter{root: root, control: control, astext: true} // nothing is proved here: no anchors
	p.walk("", []schema.Schema{root}, control, nil, nil, func(s *site) { out = append(out, Field{s.pointer, s.shape}) })
	return out
}
