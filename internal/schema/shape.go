package schema

import (
	"math/big"
	"slices"
	"strconv"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"obiter/internal/instance"
)

// Types is a set of JSON Schema types. Number without Integer is impossible:
// "number" takes integers too.
type Types uint8

// The types; Number stands for numbers with a fraction.
const (
	Null Types = 1 << iota
	Boolean
	Integer
	Number
	String
	Array
	Object
	AnyType = Null | Boolean | Integer | Number | String | Array | Object
)

var typeNames = map[string]Types{
	"null": Null, "boolean": Boolean, "integer": Integer, "number": Integer | Number,
	"string": String, "array": Array, "object": Object,
}

// Has tells whether all of t are in the set.
func (s Types) Has(t Types) bool { return s&t == t }

// Names lists the set in a fixed order, as JSON Schema spells it.
func (s Types) Names() []string {
	var out []string
	for _, n := range []string{"object", "array", "string", "number", "integer", "boolean", "null"} {
		if s.Has(typeNames[n]) && !(n == "integer" && s.Has(Number)) {
			out = append(out, n)
		}
	}
	return out
}

// Bound is a limit of a number.
type Bound struct {
	Value     *big.Rat
	Exclusive bool
}

// Shape is what several schemas that hold at one place say together: the
// strictest of each limit. Fields are nil or empty where nothing is said.
type Shape struct {
	Sources []Schema

	Types     Types
	Typed     bool // a "type" keyword stands somewhere
	Enum      []any
	HasEnum   bool
	Const     bool // the enum comes from "const"
	MurkyNull bool
	ReadOnly  bool
	WriteOnly bool
	Binary    bool // bytes of any kind: format binary
	Secret    bool // format password
	Examples  []any

	MinLength, MaxLength *int
	Patterns             []string
	Formats              []string // asserted ones
	Unchecked            []string // patterns and formats that nothing here can check

	Minimum, Maximum *Bound
	MultipleOf       []*big.Rat

	MinItems, MaxItems *int
	Unique             bool
	Contains           bool
	MinContains        int // at least so many elements are what contains asks for

	Properties         []string // names, in the order of the document
	Required           []string
	Dependent          map[string][]string // dependentRequired: by member, what it calls for
	MemberPatterns     []string            // of patternProperties
	MinProps, MaxProps *int
	Closed             bool // additionalProperties: false, in at least one source
	Unevaluated        bool // unevaluatedProperties: false
	Open               bool // additionalProperties says true or a schema, and none says false
}

// Choice picks branches of an alternative: indexes into it.
type Choice func(s Schema, keyword string, n int) []int

// Apply lists the schemas that hold for instance v where those in list do:
// through $ref, allOf, the branches of oneOf and anyOf that v obeys, the side
// of if/then/else that v falls on, and dependentSchemas of its members.
func Apply(list []Schema, v any) []Schema {
	var e expansion
	for _, s := range list {
		e.add(s, v, true, nil)
	}
	return e.out
}

// At lists the schemas that hold for what stands at a JSON Pointer of v, as they
// stand (not expanded), and what stands there. For a member that is missing
// there is false; below it, and where no schema says anything, the list is empty.
func At(list []Schema, v any, pointer string) (at []Schema, value any, there bool) {
	tokens, err := instance.Split(pointer)
	if err != nil {
		return nil, nil, false
	}
	there = true
	for _, token := range tokens {
		sh := Merge(Apply(list, v))
		switch c := v.(type) {
		case map[string]any:
			list, _ = sh.Member(token)
			v, there = c[token]
		case []any:
			i, err := strconv.Atoi(token)
			if err != nil || i < 0 {
				return nil, nil, false
			}
			list = sh.Item(i)
			v, there = instance.Get(v, instance.Join("", token))
		default:
			return nil, nil, false
		}
	}
	return list, v, there
}

// Expand is Apply without an instance: branches are those that choose picks,
// and conditions are left aside.
func Expand(list []Schema, choose Choice) []Schema {
	var e expansion
	for _, s := range list {
		e.add(s, nil, false, choose)
	}
	return e.out
}

type expansion struct {
	out []Schema
}

func (e *expansion) add(s Schema, v any, guided bool, choose Choice) {
	if s.js == nil || slices.Contains(e.out, s) {
		return
	}
	e.out = append(e.out, s)
	js := s.js
	next := func(inner *jsonschema.Schema) {
		if inner != nil {
			e.add(Schema{inner, s.set}, v, guided, choose)
		}
	}
	next(js.Ref)
	if js.DynamicRef != nil {
		next(js.DynamicRef.Ref)
	}
	for _, m := range js.AllOf {
		next(m)
	}
	pick := func(keyword string, list []*jsonschema.Schema) {
		if len(list) == 0 {
			return
		}
		if guided {
			for _, b := range list {
				if b.Validate(v) == nil {
					next(b)
				}
			}
			return
		}
		for _, i := range choose(s, keyword, len(list)) {
			next(list[i])
		}
	}
	pick("oneOf", js.OneOf)
	pick("anyOf", js.AnyOf)
	if !guided {
		return
	}
	if js.If != nil {
		if js.If.Validate(v) == nil {
			next(js.Then)
		} else {
			next(js.Else)
		}
	}
	if m, ok := v.(map[string]any); ok {
		for _, name := range instance.Names(m) {
			next(js.DependentSchemas[name])
		}
	}
}

// Merge says in one shape what all of the schemas say. They are taken as they
// stand: expand them first.
func Merge(list []Schema) *Shape {
	sh := &Shape{Types: AnyType, Sources: list}
	for _, s := range list {
		sh.merge(s)
	}
	if !sh.Closed {
		return sh
	}
	sh.Open = false
	return sh
}

func (sh *Shape) merge(s Schema) {
	js, n := s.js, s.set.notesOf(s.js)
	if js.Bool != nil && !*js.Bool {
		sh.Types = 0
	}
	if js.Types != nil && !js.Types.IsEmpty() {
		var t Types
		for _, name := range js.Types.ToStrings() {
			t |= typeNames[name]
		}
		sh.Types &= t
		sh.Typed = true
	}
	if js.Enum != nil {
		sh.narrow(js.Enum.Values, false)
	}
	if js.Const != nil {
		sh.narrow([]any{*js.Const}, true)
	}
	sh.MurkyNull = sh.MurkyNull || n.murkyNull
	sh.ReadOnly = sh.ReadOnly || js.ReadOnly
	sh.WriteOnly = sh.WriteOnly || js.WriteOnly
	sh.Binary = sh.Binary || n.format == "binary"
	sh.Secret = sh.Secret || n.format == "password"
	sh.Examples = append(sh.Examples, n.examples...)
	sh.mergeText(js, n)
	sh.mergeNumber(js)
	sh.mergeArray(js)
	sh.mergeObject(js, n)
}

func (sh *Shape) narrow(values []any, isConst bool) {
	if sh.HasEnum {
		values = slices.DeleteFunc(slices.Clone(sh.Enum), func(have any) bool {
			return !slices.ContainsFunc(values, func(v any) bool { return instance.Equal(have, v) })
		})
	}
	sh.Enum, sh.HasEnum, sh.Const = values, true, sh.Const || isConst
}

func larger(have, other *int) *int {
	if have == nil || other != nil && *other > *have {
		return other
	}
	return have
}

func smaller(have, other *int) *int {
	if have == nil || other != nil && *other < *have {
		return other
	}
	return have
}

func (sh *Shape) mergeText(js *jsonschema.Schema, n *notes) {
	sh.MinLength, sh.MaxLength = larger(sh.MinLength, js.MinLength), smaller(sh.MaxLength, js.MaxLength)
	if p, ok := js.Pattern.(pattern); ok {
		if p.re == nil {
			sh.Unchecked = append(sh.Unchecked, "pattern "+p.source)
		} else if !slices.Contains(sh.Patterns, p.source) {
			sh.Patterns = append(sh.Patterns, p.source)
		}
	}
	switch {
	case js.Format != nil && js.Format.Name == "regex": // patterns that cannot be read here count as right
		sh.Unchecked = append(sh.Unchecked, "format regex")
	case js.Format != nil && !slices.Contains(sh.Formats, js.Format.Name):
		sh.Formats = append(sh.Formats, js.Format.Name)
	case js.Format == nil && n.format != "":
		sh.Unchecked = append(sh.Unchecked, "format "+n.format)
	}
}

func (sh *Shape) mergeNumber(js *jsonschema.Schema) {
	low := func(r *big.Rat, exclusive bool) {
		if r == nil {
			return
		}
		if c := 1; sh.Minimum != nil {
			if c = r.Cmp(sh.Minimum.Value); c < 0 || c == 0 && !exclusive {
				return
			}
		}
		sh.Minimum = &Bound{r, exclusive}
	}
	high := func(r *big.Rat, exclusive bool) {
		if r == nil {
			return
		}
		if c := -1; sh.Maximum != nil {
			if c = r.Cmp(sh.Maximum.Value); c > 0 || c == 0 && !exclusive {
				return
			}
		}
		sh.Maximum = &Bound{r, exclusive}
	}
	low(js.Minimum, false)
	low(js.ExclusiveMinimum, true)
	high(js.Maximum, false)
	high(js.ExclusiveMaximum, true)
	if js.MultipleOf != nil {
		sh.MultipleOf = append(sh.MultipleOf, js.MultipleOf)
	}
}

func (sh *Shape) mergeArray(js *jsonschema.Schema) {
	sh.MinItems, sh.MaxItems = larger(sh.MinItems, js.MinItems), smaller(sh.MaxItems, js.MaxItems)
	sh.Unique = sh.Unique || js.UniqueItems
	if js.Contains != nil {
		sh.Contains = true
		least := 1
		if js.MinContains != nil {
			least = *js.MinContains
		}
		sh.MinContains = max(sh.MinContains, least)
	}
}

func (sh *Shape) mergeObject(js *jsonschema.Schema, n *notes) {
	known := make([]string, 0, len(n.order))
	for _, name := range n.order {
		if _, is := js.Properties[name]; is {
			known = append(known, name)
		}
	}
	sh.Properties = union(sh.Properties, known)
	sh.Required = union(sh.Required, js.Required)
	for name, list := range js.DependentRequired {
		if sh.Dependent == nil {
			sh.Dependent = map[string][]string{}
		}
		sh.Dependent[name] = append(sh.Dependent[name], list...)
	}
	for re := range js.PatternProperties {
		if source := re.String(); !slices.Contains(sh.MemberPatterns, source) {
			sh.MemberPatterns = append(sh.MemberPatterns, source)
		}
	}
	slices.Sort(sh.MemberPatterns)
	sh.MinProps, sh.MaxProps = larger(sh.MinProps, js.MinProperties), smaller(sh.MaxProps, js.MaxProperties)
	switch a := js.AdditionalProperties.(type) {
	case bool:
		sh.Closed = sh.Closed || !a
		sh.Open = sh.Open || a
	case *jsonschema.Schema:
		sh.Open = true
	}
	if u := js.UnevaluatedProperties; u != nil && u.Bool != nil && !*u.Bool {
		sh.Unevaluated = true
	}
}

// union adds to a list what it does not have yet, in linear time.
func union(list, more []string) []string {
	if len(list) == 0 && len(more) < 2 {
		return append(list, more...)
	}
	have := make(map[string]bool, len(list)+len(more))
	for _, name := range list {
		have[name] = true
	}
	for _, name := range more {
		if !have[name] {
			have[name] = true
			list = append(list, name)
		}
	}
	return list
}

// Member lists the schemas of the member of that name, unexpanded; false where
// a closed object does not know it.
func (sh *Shape) Member(name string) ([]Schema, bool) {
	var out []Schema
	for _, s := range sh.Sources {
		js, known := s.js, false
		if p, ok := js.Properties[name]; ok {
			out, known = append(out, Schema{p, s.set}), true
		}
		var matched []*jsonschema.Schema
		for re, p := range js.PatternProperties {
			if re.MatchString(name) {
				matched, known = append(matched, p), true
			}
		}
		slices.SortFunc(matched, func(a, b *jsonschema.Schema) int { return strings.Compare(a.Location, b.Location) })
		for _, p := range matched {
			out = append(out, Schema{p, s.set})
		}
		if known {
			continue
		}
		switch a := js.AdditionalProperties.(type) {
		case bool:
			if !a {
				return nil, false
			}
		case *jsonschema.Schema:
			if a.Bool != nil && !*a.Bool {
				return nil, false
			}
			out = append(out, Schema{a, s.set})
		}
	}
	return out, true
}

// Item lists the schemas of the element at index i, unexpanded.
func (sh *Shape) Item(i int) []Schema {
	var out []Schema
	for _, s := range sh.Sources {
		switch {
		case i < len(s.js.PrefixItems):
			out = append(out, Schema{s.js.PrefixItems[i], s.set})
		case s.js.Items2020 != nil:
			out = append(out, Schema{s.js.Items2020, s.set})
		}
	}
	return out
}

// Containing lists what contains asks an element to be, beside its own schemas.
func (sh *Shape) Containing() []Schema {
	var out []Schema
	for _, s := range sh.Sources {
		if s.js.Contains != nil {
			out = append(out, Schema{s.js.Contains, s.set})
		}
	}
	return out
}

// Alternative is a oneOf or anyOf of a source.
type Alternative struct {
	Keyword  string
	Branches []Schema
}

// Choices lists the alternatives of the sources.
func (sh *Shape) Choices() []Alternative {
	var out []Alternative
	for _, s := range sh.Sources {
		for keyword, list := range map[string][]*jsonschema.Schema{"oneOf": s.js.OneOf, "anyOf": s.js.AnyOf} {
			if len(list) == 0 {
				continue
			}
			a := Alternative{Keyword: keyword}
			for _, b := range list {
				a.Branches = append(a.Branches, Schema{b, s.set})
			}
			out = append(out, a)
		}
	}
	slices.SortStableFunc(out, func(a, b Alternative) int { return strings.Compare(b.Keyword, a.Keyword) })
	return out
}

// Negations lists the not schemas of the sources.
func (sh *Shape) Negations() []Schema {
	var out []Schema
	for _, s := range sh.Sources {
		if s.js.Not != nil {
			out = append(out, Schema{s.js.Not, s.set})
		}
	}
	return out
}

// Conditions lists the if and then of the sources, both to be added where the
// condition is to be met.
func (sh *Shape) Conditions() [][]Schema {
	var out [][]Schema
	for _, s := range sh.Sources {
		if s.js.If != nil && s.js.Then != nil {
			out = append(out, []Schema{{s.js.If, s.set}, {s.js.Then, s.set}})
		}
	}
	return out
}

// NameAllowed tells whether propertyNames lets a member have that name.
func (sh *Shape) NameAllowed(name string) bool { return Obeys(sh.MemberNames(), name) }

// MemberNames lists the propertyNames schemas.
func (sh *Shape) MemberNames() []Schema {
	var out []Schema
	for _, s := range sh.Sources {
		if s.js.PropertyNames != nil {
			out = append(out, Schema{s.js.PropertyNames, s.set})
		}
	}
	return out
}

// Prefix is the number of elements that have a schema of their own.
func (sh *Shape) Prefix() int {
	n := 0
	for _, s := range sh.Sources {
		n = max(n, len(s.js.PrefixItems))
	}
	return n
}

// Valid tells whether v obeys every source.
func (sh *Shape) Valid(v any) bool { return Obeys(sh.Sources, v) }

// Kind is the type the shape means: the first that it allows, of object, array,
// string, number and so on. Without a "type" the other keywords tell, so that
// one with properties means an object.
func (sh *Shape) Kind() Types {
	t := sh.Types
	if !sh.Typed {
		switch {
		case len(sh.Properties)+len(sh.Required) > 0 || sh.MinProps != nil || sh.Closed || sh.Open:
			t &= Object
		case sh.MinItems != nil || sh.MaxItems != nil || sh.Unique || sh.Contains || len(sh.Item(0)) > 0:
			t &= Array
		case sh.Minimum != nil || sh.Maximum != nil || len(sh.MultipleOf) > 0:
			t &= Integer | Number
		default:
			t &= String
		}
	}
	for _, one := range []Types{Object, Array, String, Number, Integer, Boolean, Null} {
		if t.Has(one) {
			return one
		}
	}
	return 0
}

// MemberByMember tells whether the sources look at the members and elements of
// v one at a time: whether a change inside one of them is right then depends on
// nothing beside it, and nothing beside it on that. Alternatives do not stand in
// the way where v obeys one branch and every other is ruled out by what stays as
// it is; those ruled out by one member alone are its affair: a change inside a
// member in decisive may bring another branch in.
func (sh *Shape) MemberByMember(v any) (decisive map[string]bool, ok bool) {
	for _, s := range sh.Sources {
		js := s.js
		if len(js.DependentSchemas)+len(js.Dependencies) > 0 ||
			js.Not != nil || js.If != nil || js.Enum != nil || js.Const != nil || js.Contains != nil || js.UniqueItems ||
			js.UnevaluatedProperties != nil || js.UnevaluatedItems != nil || js.DynamicRef != nil || js.RecursiveRef != nil || len(js.Extensions) > 0 {
			return nil, false
		}
	}
	for _, a := range sh.Choices() {
		object, isObject := v.(map[string]any)
		if !isObject {
			return nil, false
		}
		taken := 0
		for _, b := range a.Branches {
			if slices.Contains(sh.Sources, b) {
				taken++
				continue
			}
			switch by := excluding(b.js, object, 0); {
			case len(by) == 0:
				return nil, false
			case len(by) == 1 && by[0] != always:
				if decisive == nil {
					decisive = map[string]bool{}
				}
				decisive[by[0]] = true
			}
		}
		if taken != 1 {
			return nil, false
		}
	}
	return decisive, true
}

// always stands for what changes inside no member can mend.
const always = "\x00"

// excluding names members of an object that a schema refuses each for itself:
// two at most, or always where it refuses the object whatever its members hold.
func excluding(js *jsonschema.Schema, object map[string]any, depth int) []string {
	if js == nil || depth > 8 {
		return nil
	}
	if js.Types != nil && !js.Types.IsEmpty() && !slices.Contains(js.Types.ToStrings(), "object") {
		return []string{always}
	}
	for _, name := range js.Required {
		if _, has := object[name]; !has {
			return []string{always}
		}
	}
	var out []string
	for name, member := range js.Properties {
		if v, has := object[name]; has && member.Validate(v) != nil {
			if out = append(out, name); len(out) == 2 {
				return out
			}
		}
	}
	for _, inner := range append([]*jsonschema.Schema{js.Ref}, js.AllOf...) {
		for _, name := range excluding(inner, object, depth+1) {
			if name == always {
				return []string{always}
			}
			if !slices.Contains(out, name) {
				if out = append(out, name); len(out) == 2 {
					return out
				}
			}
		}
	}
	return out
}
