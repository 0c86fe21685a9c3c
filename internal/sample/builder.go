package sample

import (
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"

	"obiter/internal/instance"
	"obiter/internal/schema"
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
	made    int            // values so far
	trimmed bool           // more than maxValues: what is optional is left out
	lists   int            // lists around the place
	active  map[string]int // schemas being built, against endless recursion
}

func (b *builder) random(at string, ordinal int) *rand.Rand {
	h := fnv.New64a()
	fmt.Fprintf(h, "%s\x00%d", at, ordinal)
	return rand.New(rand.NewPCG(b.seed, h.Sum64()))
}

// group is an alternative of a schema: a oneOf or anyOf with its branches, or an
// if with two sides.
type group struct {
	key string
	n   int
}

func (b *builder) meet(key string, n int) {
	for _, g := range b.groups {
		if g.key == key {
			return
		}
	}
	b.groups = append(b.groups, group{key, n})
}

func (b *builder) choose(s schema.Schema, keyword string, n int) []int {
	b.widest = max(b.widest, n)
	key := s.URL() + " " + keyword
	b.meet(key, n)
	if i, ok := b.forced[key]; ok {
		return []int{i}
	}
	return []int{b.branch % n}
}

// conditions adds, for an if that has to be met, the if and the then.
func (b *builder) conditions(list, sources []schema.Schema) []schema.Schema {
	for _, c := range schema.Merge(sources).Conditions() {
		key := c[0].URL() + " if"
		b.meet(key, 2)
		if b.forced[key] == 1 {
			list = append(append([]schema.Schema(nil), list...), c...)
		}
	}
	return list
}

// value makes an instance that obeys all schemas in list. A higher ordinal
// makes another one, for lists without duplicates.
func (b *builder) value(at string, list []schema.Schema, ordinal int) (any, error) {
	list = b.conditions(list, schema.Expand(list, b.choose))
	sources := schema.Expand(list, b.choose)
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
	if b.made > maxMade {
		return nil, errSize
	}
	if b.full && (again || b.trimmed) {
		// Inside itself a schema is built lean, or the size would explode.
		b.full = false
		defer func() { b.full = true }()
	}
	if b.depth > maxNesting {
		return nil, errNesting
	}
	b.depth++
	for _, s := range sources {
		b.active[s.URL()]++
	}
	defer func() {
		b.depth--
		for _, s := range sources {
			b.active[s.URL()]--
		}
	}()

	sh := schema.Merge(sources)
	if ordinal == 0 {
		for _, ex := range sh.Examples {
			if v := stripReadOnly(list, ex); schema.Obeys(list, v) && v != nil {
				return b.reshape(at, list, v), nil
			}
		}
	}
	if sh.HasEnum {
		return b.member(at, list, sh, ordinal)
	}
	switch sh.Kind() {
	case schema.Object:
		return b.conditional(at, list, sh)
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
// else, dependentSchemas. What they ask is added and it is made again.
func (b *builder) conditional(at string, list []schema.Schema, sh *schema.Shape) (any, error) {
	v, err := b.object(at, sh)
	for range 3 {
		if err != nil || schema.Obeys(list, v) {
			return v, err
		}
		sources := slices.Clone(sh.Sources)
		for _, s := range schema.Apply(list, v) {
			if !slices.Contains(sources, s) {
				sources = append(sources, s)
			}
		}
		if len(sources) == len(sh.Sources) {
			break
		}
		next := schema.Merge(sources)
		made, e := b.object(at, next)
		if e != nil {
			break
		}
		sh, v = next, made
	}
	return repaired(list, v), err
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
	return fit[ordinal%len(fit)], nil
}

func (b *builder) object(at string, sh *schema.Shape) (any, error) {
	out := map[string]any{}
	names := slices.Clone(sh.Required)
	needed := make(map[string]bool, len(names))
	for _, n := range names {
		needed[n] = true
	}
	if b.full {
		for _, n := range sh.Properties {
			if !needed[n] {
				names = append(names, n)
			}
		}
	}
	for _, name := range names {
		required := needed[name]
		if !required && (b.trimmed || sh.MaxProps != nil && len(out) >= *sh.MaxProps) {
			break
		}
		members, ok := sh.Member(name)
		if !ok {
			if required {
				return nil, fmt.Errorf("at %s the member %q is required and not allowed", instance.Fragment(at), name)
			}
			continue
		}
		if !required && schema.Merge(schema.Expand(members, b.choose)).ReadOnly {
			continue
		}
		v, err := b.value(instance.Join(at, name), members, 0)
		if err != nil {
			if required {
				return nil, err
			}
			continue
		}
		out[name] = v
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

func (b *builder) array(at string, sh *schema.Shape) (any, error) {
	n := 1
	if b.full && b.lists < maxInLists {
		n = 2
	}
	n = max(n, sh.Prefix())
	b.lists++
	defer func() { b.lists-- }()
	if sh.MinItems != nil {
		n = max(n, *sh.MinItems)
	}
	if sh.MaxItems != nil {
		n = min(n, *sh.MaxItems)
	}
	if n > maxElements {
		return nil, fmt.Errorf("at %s minItems %d is larger than what Obiter builds", instance.Fragment(at), n)
	}
	if sh.MaxContains != nil && *sh.MaxContains < n && (sh.MinItems == nil || *sh.MinItems <= *sh.MaxContains) {
		n = *sh.MaxContains // any element may match contains
	}
	n = max(n, sh.MinContains)
	if p := sh.Prefix(); n > p && (sh.ItemsClosed || sh.UnevaluatedItems && len(sh.Item(p)) == 0) {
		n = p
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
			if sh.MinItems == nil || i >= *sh.MinItems {
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
				if sh.MinItems == nil || i >= *sh.MinItems {
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

// reshape completes a valid value with what is optional, or prunes it to what
// is required. Where the outcome would not be valid, the value stays.
func (b *builder) reshape(at string, list []schema.Schema, v any) any {
	sh := schema.Merge(schema.Apply(list, v))
	var out any
	switch v := v.(type) {
	case map[string]any:
		out = b.reshapeObject(at, sh, v)
	case []any:
		out = b.reshapeArray(at, sh, v)
	default:
		return v
	}
	if schema.Obeys(list, out) {
		return out
	}
	return v
}

func (b *builder) reshapeObject(at string, sh *schema.Shape, v map[string]any) any {
	out := map[string]any{}
	needed := make(map[string]bool, len(sh.Required))
	for _, n := range sh.Required {
		needed[n] = true
	}
	for _, name := range instance.Names(v) {
		if !b.full && !needed[name] {
			continue
		}
		out[name] = v[name]
		if members, ok := sh.Member(name); ok && len(members) > 0 {
			out[name] = b.reshape(instance.Join(at, name), members, v[name])
		}
	}
	if !b.full {
		return out
	}
	for _, name := range sh.Properties {
		if _, has := out[name]; has || b.trimmed {
			continue
		}
		members, ok := sh.Member(name)
		if !ok || schema.Merge(schema.Expand(members, b.choose)).ReadOnly {
			continue
		}
		added, err := b.value(instance.Join(at, name), members, 0)
		if err != nil {
			continue
		}
		out[name] = added
		for _, s := range sh.Sources {
			if !s.Valid(out) {
				delete(out, name)
				break
			}
		}
	}
	return out
}

func (b *builder) reshapeArray(at string, sh *schema.Shape, v []any) any {
	out := make([]any, len(v))
	for i, e := range v {
		out[i] = e
		if items := sh.Item(i); len(items) > 0 {
			out[i] = b.reshape(instance.Join(at, strconv.Itoa(i)), items, e)
		}
	}
	if !b.full || len(out) != 1 || sh.MaxItems != nil && *sh.MaxItems < 2 || len(sh.Item(1)) == 0 {
		return out
	}
	for ordinal := 1; ordinal < 4; ordinal++ {
		second, err := b.value(instance.Join(at, "1"), sh.Item(1), ordinal)
		if err != nil {
			break
		}
		if !instance.Equal(second, out[0]) {
			return append(out, second)
		}
	}
	return out
}
