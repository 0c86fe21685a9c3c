package sample

import (
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// Bounds of what is built.
const (
	maxNesting  = 128     // levels; a schema may recurse
	maxElements = 1_000   // of one array
	maxListed   = 1_000   // of the values of an enum that are chosen from
	maxText     = 1 << 20 // code points of one text
	maxValues   = 1_000   // values of one instance; beyond, only what is required is built
	maxMade     = 5_000   // values of one instance with all that is required
	maxInLists  = 2       // lists inside one another that get a second element
)

var (
	errRecursion = errors.New("the schema recurses endlessly")
	errSize      = fmt.Errorf("a valid value has more than %d values in it", maxMade)
	errNesting   = fmt.Errorf("the schema nests deeper than %d levels", maxNesting)
)

// builder makes one instance. branch says which way alternatives go.
type builder struct {
	seed    uint64
	full    bool
	branch  int
	widest  int            // the most branches an alternative had
	forced  map[string]int // by alternative: the branch it has to take
	groups  []group        // alternatives met, in order
	depth   int
	made    int                // values so far
	trimmed bool               // more than maxValues: what is optional is left out
	lists   int                // lists around the place
	active  map[string]int     // schemas being built, against endless recursion
	hints   map[string]any     // by place: values to try first, of examples that are not used as they are
	leads   map[[2]string]bool // by schema and alternative: whether the one comes to the other
	plain   bool               // texts of letters and digits alone, and objects without others inside
	scout   bool               // it is to come past all alternatives, also those inside examples
	usual   schema.Types       // what a schema means that says nothing; 0: a string
}

// newBuilder makes one.
func (m *Maker) newBuilder(full bool) *builder {
	return &builder{seed: m.seed, full: full, active: map[string]int{}, hints: map[string]any{}, leads: map[[2]string]bool{}}
}

func (b *builder) random(at string, ordinal int) *rand.Rand {
	h := fnv.New64a()
	fmt.Fprintf(h, "%s\x00%d", at, ordinal)
	return rand.New(rand.NewPCG(b.seed, h.Sum64()))
}

// enter begins a value that obeys some schemas, within the bounds of depth and size. Inside itself
// a schema is built lean, or the size would explode.
func (b *builder) enter(sources []schema.Schema) (leave func(), err error) {
	again := false
	for _, s := range sources {
		if b.active[s.URL()] >= 2 {
			return nil, errRecursion
		}
		again = again || b.active[s.URL()] > 0
	}
	if b.made++; b.made > maxValues {
		b.trimmed = true
	}
	switch {
	case b.made > maxMade:
		return nil, errSize
	case b.depth > maxNesting:
		return nil, errNesting
	}
	full := b.full
	b.full = full && !again && !b.trimmed
	b.depth++
	for _, s := range sources {
		b.active[s.URL()]++
	}
	return func() {
		b.full = full
		b.depth--
		for _, s := range sources {
			b.active[s.URL()]--
		}
	}, nil
}

// value makes an instance that obeys all schemas in list. A higher ordinal
// makes another one, for lists without duplicates.
func (b *builder) value(at string, list []schema.Schema, ordinal int) (any, error) {
	list, unmet := b.conditions(list, schema.Expand(list, b.choose))
	sources := schema.Expand(list, b.choose)
	leave, err := b.enter(sources)
	if err != nil {
		return nil, err
	}
	defer leave()
	narrowed := *schema.Merge(sources)
	sh := &narrowed
	sh.Types &= b.kind(sh)
	var spare []any // examples with nothing in them
	if ordinal == 0 {
		var v any
		var ok bool
		if v, spare, ok = b.example(at, list, sources, sh); ok {
			return v, nil
		}
	}
	v, obeys, err := b.synthesise(at, list, sh, ordinal)
	if err == nil && !obeys { // it may have brought a condition's side in
		if more := with(sources, schema.Apply(list, v)); len(more) > len(sources) {
			if other, _, e := b.synthesise(at, more, schema.Merge(more), ordinal); e == nil && schema.Obeys(list, other) {
				v = other
			}
		}
	}
	for next := 0; len(unmet) > 0 && err == nil && obeysAny(unmet, v); next++ {
		if next == maxUnmet {
			return nil, fmt.Errorf("at %s the condition if is always met", instance.Fragment(at))
		}
		v, err = b.unlike(at, list, unmet, sh, v, next)
	}
	if (err != nil || isEmpty(v)) && len(spare) > 0 {
		return spare[0], nil
	}
	return v, err
}

// maxUnmet bounds the values that are made until a condition is not met.
const maxUnmet = 6

func obeysAny(list []schema.Schema, v any) bool {
	return slices.ContainsFunc(list, func(s schema.Schema) bool { return s.Valid(v) })
}

// synthesise synthesises a value, and reports whether it obeys all schemas in list.
func (b *builder) synthesise(at string, list []schema.Schema, sh *schema.Shape, ordinal int) (v any, obeys bool, err error) {
	usual := schema.String
	if at == "" && b.usual != 0 {
		usual = b.usual
	}
	kind := sh.KindOr(usual)
	if kind == schema.Object && !sh.HasEnum {
		return b.conditional(at, list, sh)
	}
	v, err = b.notObject(at, list, sh, kind, ordinal)
	return v, err == nil && schema.Obeys(list, v), err
}

// notObject synthesises a value that is no object, or one of those that are listed.
func (b *builder) notObject(at string, list []schema.Schema, sh *schema.Shape, kind schema.Types, ordinal int) (any, error) {
	if sh.HasEnum {
		return b.member(at, list, sh, ordinal)
	}
	switch kind {
	case schema.Array:
		return b.array(at, sh)
	case schema.String:
		return b.text(at, list, sh, ordinal)
	case schema.Number, schema.Integer:
		return b.number(at, list, sh, ordinal)
	case schema.Boolean:
		return ordinal%2 == 0, nil
	case schema.Null:
		return nil, nil
	}
	return nil, fmt.Errorf("at %s no type is allowed", instance.Fragment(at))
}

// conditional makes an object and looks what its own members require: then,
// else, dependentSchemas. What they ask is added and it is made again. It reports whether
// the object obeys.
func (b *builder) conditional(at string, list []schema.Schema, sh *schema.Shape) (v any, obeys bool, err error) {
	if leave := b.exclusions(sh, false); len(leave) > 0 { // of a forced anyOf all branches might be obeyed
		if v, err := b.object(at, sh, leave); err == nil && schema.Obeys(list, v) {
			return v, true, nil
		}
	}
	first := sh
	v, err = b.object(at, sh, nil)
	for range 3 {
		if err != nil {
			return v, false, err
		}
		if schema.Obeys(list, v) {
			return v, true, nil
		}
		sources := with(sh.Sources, schema.Apply(list, v))
		if len(sources) == len(sh.Sources) {
			break
		}
		next := schema.Merge(sources)
		made, e := b.object(at, next, nil)
		if e != nil {
			break
		}
		sh, v = next, made
	}
	out := repaired(list, v)
	if schema.Obeys(list, out) {
		return out, true, nil
	}
	if leave := b.exclusions(first, true); len(leave) > 0 {
		if v, err := b.object(at, first, leave); err == nil {
			if v = repaired(list, v); schema.Obeys(list, v) {
				return v, true, nil
			}
		}
	}
	return out, false, nil
}

// with is a list with those of another that it does not have.
func with(list, more []schema.Schema) []schema.Schema {
	out := slices.Clone(list)
	for _, s := range more {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// repaired takes out members that a validator complains of and that are not
// required, one by one, as long as that helps.
func repaired(list []schema.Schema, v any) any {
	for range 16 {
		var worst *schema.Violation
		for _, s := range list {
			if found := s.Validate(v, v); len(found) > 0 {
				worst = &found[0]
				break
			}
		}
		if worst == nil || worst.Pointer == "" {
			return v
		}
		pruned, ok := instance.Remove(v, worst.Pointer)
		if !ok {
			return v
		}
		v = pruned
	}
	return v
}

// member picks from an enum: values other than null first.
func (b *builder) member(at string, list []schema.Schema, sh *schema.Shape, ordinal int) (any, error) {
	var fit []any
	for _, v := range sh.Enum[:min(len(sh.Enum), maxListed)] {
		if v != nil && schema.Obeys(list, v) {
			fit = append(fit, v)
		}
	}
	if len(fit) == 0 && slices.Contains(sh.Enum, nil) && schema.Obeys(list, nil) {
		return nil, nil
	}
	if len(fit) == 0 {
		return nil, fmt.Errorf("at %s no value of the enum obeys the other rules", instance.Fragment(at))
	}
	if b.plain {
		fit = plainFirst(fit)
	}
	return fit[ordinal%len(fit)], nil
}

// members adds the members that an object has to have, and of a full one the others, but for those
// to leave out.
func (b *builder) members(at string, sh *schema.Shape, leave map[string]bool, out map[string]any) error {
	names := slices.Clone(sh.Required)
	needed := make(map[string]bool, len(names))
	for _, n := range names {
		needed[n] = true
	}
	for _, n := range sh.Properties {
		if b.full && !needed[n] && !leave[n] {
			names = append(names, n)
		}
	}
	for _, name := range names {
		required := needed[name]
		if !required && (b.trimmed || sh.MaxProps != nil && len(out) >= *sh.MaxProps) {
			break
		}
		members, ok := sh.Member(name)
		if !ok && required {
			return fmt.Errorf("at %s the member %q is required and not allowed", instance.Fragment(at), name)
		}
		if !ok || !required && b.unwanted(members) {
			continue
		}
		v, err := b.value(instance.Join(at, name), members, 0)
		if err != nil && required {
			return err
		}
		if err == nil {
			out[name] = v
		}
	}
	return nil
}

// unwanted reports whether an optional member is better left out: only answers have it, or it is
// not plain where all should be.
func (b *builder) unwanted(members []schema.Schema) bool {
	sh := schema.Merge(schema.Expand(members, b.choose))
	return sh.ReadOnly || b.plain && sh.Kind()&(schema.Object|schema.Array) != 0
}

func (b *builder) object(at string, sh *schema.Shape, leave map[string]bool) (any, error) {
	out := map[string]any{}
	if err := b.members(at, sh, leave, out); err != nil {
		return nil, err
	}
	b.depended(at, sh, out)
	if b.full {
		b.free(at, sh, out)
	}
	for i := 1; sh.MinProps != nil && len(out) < *sh.MinProps; i++ {
		name := b.freeName(at, sh, i)
		members, ok := sh.Member(name)
		if _, has := out[name]; !ok || has || i > maxElements {
			return b.fillUp(at, sh, out)
		}
		v, err := b.value(instance.Join(at, name), members, 0)
		if err != nil {
			return nil, err
		}
		out[name] = v
	}
	return out, nil
}

// depended adds what present members require (dependentRequired).
func (b *builder) depended(at string, sh *schema.Shape, out map[string]any) {
	for range 8 {
		for _, name := range slices.Sorted(maps.Keys(sh.Dependent)) {
			if _, has := out[name]; !has {
				continue
			}
			for _, needed := range sh.Dependent[name] {
				members, ok := sh.Member(needed)
				if _, has := out[needed]; has || !ok {
					continue
				}
				if v, err := b.value(instance.Join(at, needed), members, 0); err == nil {
					out[needed] = v
				}
			}
		}
	}
}

// free adds members whose names the schema leaves open but whose values it
// rules: one for each of patternProperties, two of a map.
func (b *builder) free(at string, sh *schema.Shape, out map[string]any) {
	add := func(name string) {
		members, ok := sh.Member(name)
		if _, has := out[name]; has || !ok || len(members) == 0 || !sh.NameAllowed(name) || sh.MaxProps != nil && len(out) >= *sh.MaxProps {
			return
		}
		if v, err := b.value(instance.Join(at, name), members, 0); err == nil {
			out[name] = v
		}
	}
	for _, p := range sh.MemberPatterns {
		for _, name := range matching(p, 1, 64, b.random(at+p, 0)) {
			if members, ok := sh.Member(name); ok && len(members) > 0 {
				add(name)
				break
			}
		}
	}
	if sh.Open && len(sh.Properties) == 0 && len(sh.MemberPatterns) == 0 {
		add(b.freeName(at, sh, 1))
		add(b.freeName(at, sh, 2))
	}
}

// freeName is a name that propertyNames allows.
func (b *builder) freeName(at string, sh *schema.Shape, i int) string {
	name := fmt.Sprintf("extra%d", i)
	if sh.NameAllowed(name) {
		return name
	}
	if v, err := b.value(at+"/*", sh.MemberNames(), i); err == nil {
		if s, ok := v.(string); ok {
			return s
		}
	}
	return name
}

// fillUp adds optional known members until minProperties is reached.
func (b *builder) fillUp(at string, sh *schema.Shape, out map[string]any) (any, error) {
	for _, name := range sh.Properties {
		if _, has := out[name]; has || len(out) >= *sh.MinProps {
			continue
		}
		members, ok := sh.Member(name)
		if !ok {
			continue
		}
		if v, err := b.value(instance.Join(at, name), members, 0); err == nil {
			out[name] = v
		}
	}
	if len(out) < *sh.MinProps {
		return nil, fmt.Errorf("at %s there are not enough members for minProperties %d", instance.Fragment(at), *sh.MinProps)
	}
	return out, nil
}

// length is how many elements a list gets, and has at least.
func (b *builder) length(sh *schema.Shape) (n, least int) {
	n = 1
	if b.full && b.lists <= maxInLists {
		n = 2
	}
	n = max(n, sh.Prefix())
	if sh.MinItems != nil {
		least = *sh.MinItems
	}
	n = max(n, least)
	if sh.MaxItems != nil {
		n = min(n, *sh.MaxItems)
	}
	if n > maxElements {
		return n, least
	}
	if sh.MaxContains != nil && *sh.MaxContains < n && least <= *sh.MaxContains {
		n = *sh.MaxContains // any element may match contains
	}
	n = max(n, sh.MinContains)
	if p := sh.Prefix(); n > p && (sh.ItemsClosed || sh.UnevaluatedItems && len(sh.Item(p)) == 0) {
		n = p
	}
	return n, least
}

func (b *builder) array(at string, sh *schema.Shape) (any, error) {
	b.lists++
	defer func() { b.lists-- }()
	n, least := b.length(sh)
	if n > maxElements {
		return nil, fmt.Errorf("at %s minItems %d is larger than what Obiter builds", instance.Fragment(at), n)
	}
	containing := sh.Containing()
	out := []any{}
	seen := map[string]bool{} // of a list without duplicates
	for ordinal := 0; len(out) < n; ordinal++ {
		i := len(out)
		items := sh.Item(i)
		if i < sh.MinContains {
			items = append(slices.Clone(items), containing...)
		}
		v, err := b.value(instance.Join(at, strconv.Itoa(i)), items, ordinal)
		if err != nil {
			if i >= least {
				break
			}
			return nil, err
		}
		text := ""
		if sh.Unique {
			text = string(instance.Encode(v))
		}
		if seen[text] {
			if ordinal > 4*n+16 {
				if i >= least {
					break
				}
				return nil, fmt.Errorf("at %s no %d different elements could be made", instance.Fragment(at), n)
			}
			continue
		}
		if sh.Unique {
			seen[text] = true
		}
		out = append(out, v)
	}
	return out, nil
}
