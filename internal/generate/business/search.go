package business

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/big"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"obiter/internal/core/instance"
	"obiter/internal/input/schema"
)

// Bounds of a search.
const (
	maxTried   = 20_000 // evaluations
	maxOptions = 24     // values of a field that are combined with those of others
	maxRounds  = 8      // of putting a request right
)

// Found is a request that a search came to.
type Found struct {
	Values  map[string]any // by place
	Changed []Field
}

// search looks for values of a few fields that an expression gives a wanted
// outcome for.
type search struct {
	s      *Space
	rule   *Rule
	others []*Rule
	base   map[string]any
	want   Outcome
	fixed  []Field // may keep their length only
	tried  int
}

// Break finds requests that break a rule, keep all others that base keeps, and
// obey the schemas: the smallest changes first, one for each field or group of
// fields, those that are blamed first. None: the second value says what was tried.
func (s *Space) Break(r *Rule, others []*Rule, base map[string]any) ([]Found, string) {
	x := &search{s: s, rule: r, others: others, base: base, want: Fails}
	found := x.run()
	return found, fmt.Sprintf("%d requests with other values of %s were looked at", x.tried, names(r.fields(base)))
}

// Keep finds requests that just keep a rule: the values next to those that break it.
func (s *Space) Keep(r *Rule, others []*Rule, base map[string]any) []Found {
	x := &search{s: s, rule: r, others: others, base: base, want: Holds}
	var out []Found
	for _, f := range r.fields(base) {
		for _, v := range x.boundaries(f) {
			if values, ok := set(base, f, v); ok && x.fits(values, Holds) {
				out = append(out, Found{values, []Field{f}})
			}
		}
	}
	if len(out) > 0 {
		return out
	}
	// Where two fields together break it, each of them alone does not.
	broken, _ := s.Break(r, others, base)
	for _, b := range broken[:min(len(broken), 1)] {
		for _, f := range b.Changed {
			values := base
			if v, there := instance.Get(b.Values[f.In], f.Pointer); there {
				values, _ = set(base, f, v)
			} else {
				values, _ = remove(base, f)
			}
			if len(b.Changed) > 1 && values != nil && x.fits(values, Holds) {
				out = append(out, Found{values, []Field{f}})
			}
		}
	}
	return out
}

// Mend changes other fields than fixed so that no rule is broken; of fixed ones
// it changes only texts, at the same length. False where it finds no way.
func (s *Space) Mend(rules []*Rule, values map[string]any, fixed ...Field) (map[string]any, bool) {
	for range maxRounds {
		i := slices.IndexFunc(rules, func(r *Rule) bool {
			return s.Judge(r, values) == Fails || r.clock && s.Judge(r, values) == Unknown && s.evaluates(r, values)
		})
		if i < 0 {
			return values, true
		}
		x := &search{s: s, rule: rules[i], others: rules, base: values, want: Holds, fixed: fixed}
		found := x.run()
		if len(found) == 0 { // what that breaks is fixed in its turn
			x.others, x.tried = nil, 0
			found = x.run()
		}
		if len(found) == 0 {
			return nil, false
		}
		values = found[0].Values
	}
	return nil, false
}

// evaluates reports whether a rule that speaks of now has an outcome, if an unsteady one.
func (s *Space) evaluates(r *Rule, values map[string]any) bool {
	return s.at(r, values, s.early) != Unknown
}

func names(fields []Field) string {
	var out []string
	for _, f := range fields {
		out = append(out, f.Pointer)
	}
	if len(out) == 0 {
		return "no field"
	}
	return strings.Join(out, ", ")
}

// run tries one field after the other, then two and three together.
func (x *search) run() []Found {
	fields := x.rule.fields(x.base)
	var out []Found
	options := make([][]option, len(fields))
	for i, f := range fields {
		options[i] = x.options(f, x.base)
		if i > 0 && len(out) > 0 && x.rule.rank(f) > 0 {
			break // a field that is blamed does it
		}
		for _, o := range options[i] {
			if values, ok := o.apply(x.base, f); ok && x.fits(values, x.want) {
				out = append(out, Found{values, []Field{f}})
				break
			}
		}
	}
	if len(out) > 0 {
		return out
	}
	for i, f := range fields {
		if options[i] == nil {
			options[i] = x.options(f, x.base)
		}
	}
	for size := 2; size <= 3 && len(out) == 0; size++ {
		out = x.together(fields, options, x.base, nil, 0, size)
	}
	if len(out) == 0 {
		out = x.corners(fields)
	}
	return out
}

// together changes size fields at once.
func (x *search) together(fields []Field, options [][]option, values map[string]any, changed []Field, from, size int) []Found {
	for i := from; i < len(fields); i++ {
		list := options[i]
		if len(changed)+1 == size { // the last one may have a boundary now that it had not before
			list = append(x.boundaryOptions(fields[i], values), list...)
		}
		for _, o := range list[:min(len(list), maxOptions)] {
			next, ok := o.apply(values, fields[i])
			if !ok || x.tried > maxTried {
				continue
			}
			all := append(slices.Clone(changed), fields[i])
			if len(all) == size {
				if x.fits(next, x.want) {
					return []Found{{next, all}}
				}
				continue
			}
			if found := x.together(fields, options, next, all, i+1, size); len(found) > 0 {
				return found
			}
		}
	}
	return nil
}

// maxCorners bounds how many fields are moved to their ends together.
const maxCorners = 8

// corners moves fields with limits of their own to these together, as a sum or a
// product of several needs, and then as many as can be back to where they were; the
// last one goes no further than it must.
func (x *search) corners(fields []Field) []Found {
	var movable []Field
	var ends [][]any
	for _, f := range fields {
		around := slices.ContainsFunc(fields, func(o Field) bool { return o != f && o.In == f.In && instance.Within(o.Pointer, f.Pointer) })
		if list := x.ends(f); len(list) > 0 && len(movable) < maxCorners && !around {
			movable, ends = append(movable, f), append(ends, list)
		}
	}
	values, ok := x.corner(movable, ends, x.base)
	if !ok {
		return nil
	}
	var changed []Field
	for _, f := range slices.Backward(movable) { // those that are blamed are kept longest
		now, _ := instance.Get(values[f.In], f.Pointer)
		was, _ := instance.Get(x.base[f.In], f.Pointer)
		if instance.Equal(now, was) {
			continue
		}
		back, _ := set(values, f, was)
		if x.fits(back, x.want) {
			values = back
			continue
		}
		for _, o := range x.boundaryOptions(f, back) {
			if nearer, ok := o.apply(values, f); ok && x.fits(nearer, x.want) {
				values = nearer
				break
			}
		}
		changed = append(changed, f)
	}
	slices.Reverse(changed)
	return []Found{{values, changed}}
}

// corner is the first combination of ends, and of values as they are, that fits.
func (x *search) corner(fields []Field, ends [][]any, values map[string]any) (map[string]any, bool) {
	if len(fields) == 0 {
		return values, x.fits(values, x.want)
	}
	for _, v := range ends[0] {
		next, ok := set(values, fields[0], v)
		if !ok || x.tried > maxTried {
			continue
		}
		if found, ok := x.corner(fields[1:], ends[1:], next); ok {
			return found, true
		}
	}
	return x.corner(fields[1:], ends[1:], values)
}

// ends are the least and the greatest value that a field can have.
func (x *search) ends(f Field) []any {
	sh, v, there := x.at(f, x.base)
	if sh == nil || !there || x.isFixed(f) {
		return nil
	}
	d, ok := x.dimension(sh, v)
	if !ok {
		return nil
	}
	var out []any
	for _, end := range d.ends {
		if v, ok := d.value(end); ok && end.Cmp(d.now) != 0 {
			out = append(out, v)
		}
	}
	return out
}

// fits reports whether values have the wanted outcome, obey the schemas and keep
// the other rules that the base keeps.
func (x *search) fits(values map[string]any, want Outcome) bool {
	if x.tried++; x.tried > maxTried || x.s.Judge(x.rule, values) != want {
		return false
	}
	for in, part := range x.s.parts {
		v, ok := values[in]
		if !ok {
			continue
		}
		if part.Sendable != nil {
			if v, ok = part.Sendable(v); !ok {
				return false
			}
		}
		if !part.Schema.Valid(v) {
			return false
		}
	}
	return !slices.ContainsFunc(x.others, func(r *Rule) bool {
		return r != x.rule && x.s.Judge(r, x.base) != Fails && x.s.Judge(r, values) == Fails
	})
}

// option is one thing that can be done to a field.
type option struct {
	value  any
	remove bool
}

func (o option) apply(values map[string]any, f Field) (map[string]any, bool) {
	if o.remove {
		return remove(values, f)
	}
	return set(values, f, o.value)
}

func set(values map[string]any, f Field, v any) (map[string]any, bool) {
	changed, ok := instance.Set(values[f.In], f.Pointer, v)
	return with(values, f.In, changed), ok
}

func remove(values map[string]any, f Field) (map[string]any, bool) {
	changed, ok := instance.Remove(values[f.In], f.Pointer)
	return with(values, f.In, changed), ok
}

func with(values map[string]any, in string, v any) map[string]any {
	out := maps.Clone(values)
	out[in] = v
	return out
}

// at is what the schemas say of a field, and its value.
func (x *search) at(f Field, values map[string]any) (sh *schema.Shape, v any, there bool) {
	root := x.s.parts[f.In].Schema
	if root.IsZero() {
		return nil, nil, false
	}
	list, v, there := schema.At([]schema.Schema{root}, values[f.In], f.Pointer)
	if len(list) == 0 {
		return nil, v, there
	}
	return schema.Merge(schema.Apply(list, v)), v, there
}

// options are what can be done to a field, the smallest changes first.
func (x *search) options(f Field, values map[string]any) []option {
	sh, now, there := x.at(f, values)
	if sh == nil {
		return nil
	}
	if x.isFixed(f) {
		return x.sameLength(now)
	}
	var out []option
	add := func(list ...any) {
		for _, v := range list {
			out = append(out, option{value: v})
		}
	}
	if !there {
		if v, ok := x.s.maker.Any(sh.Sources); ok {
			add(v)
			now = v
		}
	}
	if there {
		out = append(out, x.boundaryOptions(f, values)...)
	}
	if sh.HasEnum {
		add(sh.Enum...)
	}
	if there {
		out = append(out, option{remove: true})
	}
	switch v := now.(type) {
	case bool:
		add(!v)
	case json.Number:
		add(x.numbers(sh, values)...)
	case string:
		if t, ok := timeOf(v); ok && isTime(sh) {
			add(x.times(sh, t, values)...)
			break
		}
		for _, s := range x.texts(sh, v, values) {
			add(s)
		}
	case []any:
		if len(v) > 0 {
			add(v[:len(v)-1], append(slices.Clone(v), instance.Clone(v[0])), []any{})
		}
	}
	return out
}

// isFixed reports whether a field, or one in or around it, may keep its length only.
func (x *search) isFixed(f Field) bool {
	return slices.ContainsFunc(x.fixed, func(o Field) bool {
		return o.In == f.In && (instance.Within(f.Pointer, o.Pointer) || instance.Within(o.Pointer, f.Pointer))
	})
}

func (x *search) sameLength(now any) []option {
	text, ok := now.(string)
	if !ok {
		return nil
	}
	n := utf8.RuneCountInString(text)
	var out []option
	for _, s := range variations(text) {
		if utf8.RuneCountInString(s) == n {
			out = append(out, option{value: s})
		}
	}
	return out
}

func (x *search) boundaryOptions(f Field, values map[string]any) []option {
	inner := *x
	inner.base = values
	var out []option
	for _, v := range inner.boundaries(f) {
		out = append(out, option{value: v})
	}
	x.tried = inner.tried
	return out
}

// others are the values of other fields that a rule speaks of.
func (x *search) referred(values map[string]any) []any {
	var out []any
	for _, f := range x.rule.fields(values) {
		if v, ok := instance.Get(values[f.In], f.Pointer); ok {
			out = append(out, v)
		}
	}
	return out
}

// numbers are those that the rule speaks of, and their neighbours.
func (x *search) numbers(sh *schema.Shape, values map[string]any) []any {
	var near []json.Number
	near = append(near, x.rule.numbers...)
	for _, v := range x.referred(values) {
		if n, ok := v.(json.Number); ok {
			near = append(near, n)
		}
	}
	scale := dimension{step: stepOf(sh)}
	var out []any
	for _, n := range append(near, "0") {
		r, ok := instance.Rat(n)
		if !ok {
			continue
		}
		k := scale.index(r)
		for _, d := range []int64{0, 1, -1} {
			out = append(out, scale.number(new(big.Int).Add(k, big.NewInt(d))))
		}
	}
	return out
}

// texts are those that the rule speaks of, then variations of the present one.
func (x *search) texts(sh *schema.Shape, now string, values map[string]any) []string {
	out := slices.Clone(x.rule.strings)
	for _, v := range x.referred(values) {
		if s, ok := v.(string); ok && s != now {
			out = append(out, s)
		}
	}
	for _, literal := range slices.Clone(out) {
		out = append(out, now+literal, literal+now)
		out = append(out, strings.ReplaceAll(now, literal, ""))
	}
	out = append(out, variations(now)...)
	return slices.DeleteFunc(out, func(s string) bool { return s == now })
}

// variations are texts that differ from one in the classes of their characters.
func variations(s string) []string {
	mapped := func(f func(r rune) rune) string { return strings.Map(f, s) }
	toLetter := func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsSpace(r) {
			return r
		}
		return 'a' + r%26
	}
	runes := []rune(s)
	with := func(at int, r rune) string {
		if len(runes) == 0 {
			return string(r)
		}
		out := slices.Clone(runes)
		out[(at+len(out))%len(out)] = r
		return string(out)
	}
	classes := []rune{'a', 'A', '1', '-', '!', ' '}
	out := []string{
		strings.ToLower(s), strings.ToUpper(s), mapped(toLetter),
		mapped(func(r rune) rune { // no letters
			if unicode.IsLetter(r) {
				return '0' + r%10
			}
			return r
		}),
		mapped(func(r rune) rune { // letters and digits alone
			if unicode.IsLetter(r) || unicode.IsDigit(r) {
				return r
			}
			return 'x'
		}),
		strings.ToLower(mapped(toLetter)), strings.ToUpper(mapped(toLetter)), strings.TrimSpace(s), " " + s, s + " ",
	}
	for _, c := range classes {
		out = append(out, with(-1, c), with(0, c))
	}
	for _, a := range classes { // several classes at once, as pass phrases need
		for _, b := range classes {
			out = append(out, swap(with(-1, a), -2, b))
		}
	}
	for _, c := range classes {
		out = append(out, swap(swap(swap(with(-1, c), -2, 'A'), -3, '1'), -4, '!'))
	}
	for _, c := range classes {
		out = append(out, strings.Repeat(string(c), len(runes)))
	}
	var distinct []string
	for _, v := range out {
		if v != s && !slices.Contains(distinct, v) {
			distinct = append(distinct, v)
		}
	}
	return distinct
}

func swap(s string, at int, r rune) string {
	runes := []rune(s)
	if len(runes) < -at {
		return s
	}
	runes[len(runes)+at] = r
	return string(runes)
}
