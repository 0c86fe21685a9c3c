package schema

import (
	"math/big"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"obiter/internal/core/instance"
)

// Types is a set of JSON Schema types. Number without Integer is impossible:
// "number" takes integers too.
type Types uint8

// The types; Number is for numbers with a fraction.
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

// Has reports whether all of t are in the set.
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

// TypeOf is the type of a value: an integer is Integer alone.
func TypeOf(v any) Types {
	switch instance.Type(v) {
	case "null":
		return Null
	case "boolean":
		return Boolean
	case "integer":
		return Integer
	case "number":
		return Number
	case "string":
		return String
	case "array":
		return Array
	}
	return Object
}

// Bound is a limit of a number.
type Bound struct {
	Value     *big.Rat
	Exclusive bool
}

// XML is how a value is written as XML (OpenAPI 3.1.1, section 4.8.26).
type XML struct {
	Name      string // of its element or attribute; empty: the usual one
	Attribute bool
	Wrapped   bool // of an array: its elements are inside one of its own
}

// Shape is what several schemas that hold at one place say together: the
// strictest of each limit. Fields are nil or empty if the schemas say nothing.
type Shape struct {
	Sources []Schema

	Types           Types
	Typed           bool // there is a "type" keyword somewhere
	Enum            []any
	HasEnum         bool
	Const           bool // the enum comes from "const"
	AmbiguousNull   bool
	AmbiguousValues []any // values of the enum that only some readers take
	ReadOnly        bool
	WriteOnly       bool
	Binary          bool // bytes of any kind: format binary
	Secret          bool // format password
	Examples        []any
	XML             XML

	MinLength, MaxLength *int
	Patterns             []string
	Formats              []string // asserted ones
	Unchecked            []string // patterns and formats that nothing here can check

	Minimum, Maximum *Bound
	MultipleOf       []*big.Rat

	MinItems, MaxItems *int
	Unique             bool
	Contains           bool
	MinContains        int  // at least so many elements have to match contains
	MaxContains        *int // at most so many; may be nil
	ItemsClosed        bool // no element beyond prefixItems: items is false
	UnevaluatedItems   bool // no element beyond what is described: unevaluatedItems is false

	Properties         []string // names, in the order of the document
	Required           []string
	Dependent          map[string][]string // dependentRequired: by member, what it requires
	MemberPatterns     []string            // of patternProperties
	MinProps, MaxProps *int
	Closed             bool // additionalProperties: false, in at least one source
	Unevaluated        bool // unevaluatedProperties: false
	Open               bool // additionalProperties says true or a schema, and none says false
}

// Member lists the schemas of the member of that name, unexpanded; false where
// a closed object does not know it.
func (sh *Shape) Member(name string) ([]Schema, bool) {
	var out, rest []Schema
	described := false
	for _, s := range sh.Sources {
		js, known := s.js, false
		if js.UnevaluatedProperties != nil {
			rest = append(rest, Schema{js.UnevaluatedProperties, s.set})
		}
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
			described = true
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
			described = true
			out = append(out, Schema{a, s.set})
		}
	}
	if !described && !sh.Unevaluated {
		out = append(out, rest...)
	}
	return out, true
}

// Item lists the schemas of the element at index i, unexpanded.
func (sh *Shape) Item(i int) []Schema {
	var out, rest []Schema
	for _, s := range sh.Sources {
		switch {
		case i < len(s.js.PrefixItems):
			out = append(out, Schema{s.js.PrefixItems[i], s.set})
		case s.js.Items2020 != nil:
			out = append(out, Schema{s.js.Items2020, s.set})
		case s.js.UnevaluatedItems != nil:
			rest = append(rest, Schema{s.js.UnevaluatedItems, s.set})
		}
	}
	if len(out) == 0 && !sh.UnevaluatedItems {
		return rest
	}
	return out
}

// Containing lists what contains requires an element to be, in addition to its own schemas.
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
	Holder   Schema
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
			a := Alternative{Holder: s, Keyword: keyword}
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

// Condition is an if with its sides. A side that is not there is zero.
type Condition struct{ If, Then, Else Schema }

// Conditions lists the conditions of the sources that have a side at least.
func (sh *Shape) Conditions() []Condition {
	var out []Condition
	side := func(s Schema, js *jsonschema.Schema) Schema {
		if js == nil {
			return Schema{}
		}
		return Schema{js, s.set}
	}
	for _, s := range sh.Sources {
		if s.js.If != nil && (s.js.Then != nil || s.js.Else != nil) {
			out = append(out, Condition{side(s, s.js.If), side(s, s.js.Then), side(s, s.js.Else)})
		}
	}
	return out
}

// Guesses reports whether a value may break a pattern or a format that cannot be checked
// here: not one that the description itself gives.
func (sh *Shape) Guesses(v any) bool {
	if _, is := v.(string); !is || sh.HasEnum || !slices.ContainsFunc(sh.Unchecked, constrains) {
		return false
	}
	return !slices.ContainsFunc(sh.Examples, func(ex any) bool { return instance.Equal(ex, v) })
}

// constrains reports whether something unchecked is more than a way of showing a value.
func constrains(unchecked string) bool {
	return unchecked != "format password" && unchecked != "format binary"
}

// NameAllowed reports whether propertyNames lets a member have that name.
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

// Valid reports whether v obeys every source.
func (sh *Shape) Valid(v any) bool { return Obeys(sh.Sources, v) }

// Kind is the type the shape means: the first that it allows, of object, array,
// string, number and so on. Without a "type" the other keywords tell, so that
// one with properties means an object; where they tell nothing it is a string.
func (sh *Shape) Kind() Types { return sh.KindOr(String) }

// KindOr is Kind with another type where nothing tells.
func (sh *Shape) KindOr(usual Types) Types {
	kinds := sh.kinds(sh.likelyTypes(usual))
	if len(kinds) == 0 {
		return 0
	}
	return kinds[0]
}

// Kinds are the types that "type" lists, null aside, in the order of Kind; nil where it
// lists one at most. Integers are numbers.
func (sh *Shape) Kinds() []Types {
	if !sh.Typed || sh.HasEnum || sh.Types == AnyType {
		return nil
	}
	kinds := sh.kinds(sh.Types &^ Null)
	if len(kinds) < 2 {
		return nil
	}
	return kinds
}

func (sh *Shape) kinds(t Types) []Types {
	var out []Types
	for _, one := range []Types{Object, Array, String, Number, Integer, Boolean, Null} {
		if t.Has(one) && !(one == Integer && t.Has(Number)) {
			out = append(out, one)
		}
	}
	return out
}

// likelyTypes are the types that the shape is probably about.
func (sh *Shape) likelyTypes(usual Types) Types {
	if sh.Typed {
		return sh.Types
	}
	if t := sh.impliedType(); t != 0 {
		return sh.Types & t
	}
	for _, c := range sh.Conditions() { // a condition about members is about objects
		for _, side := range []Schema{c.If, c.Then, c.Else} {
			if side.js == nil {
				continue
			}
			inner := Merge(Expand([]Schema{side}, func(Schema, string, int) []int { return []int{0} }))
			if t := inner.impliedType(); t != 0 {
				return sh.Types & t
			}
		}
	}
	if sh.Types&usual == 0 {
		return sh.Types
	}
	return sh.Types & usual
}

// impliedType is the type that keywords are about, without "type"; 0 where there are none.
func (sh *Shape) impliedType() Types {
	switch {
	case len(sh.Properties)+len(sh.Required)+len(sh.Dependent)+len(sh.MemberPatterns)+len(sh.MemberNames()) > 0,
		sh.MinProps != nil || sh.MaxProps != nil || sh.Closed || sh.Open || sh.Unevaluated || sh.hasMemberKeywords():
		return Object
	case sh.MinItems != nil || sh.MaxItems != nil || sh.Unique || sh.Contains || sh.UnevaluatedItems || len(sh.Item(0)) > 0 || sh.hasItemKeywords():
		return Array
	case sh.Minimum != nil || sh.Maximum != nil || len(sh.MultipleOf) > 0:
		return Integer | Number
	case sh.MinLength != nil || sh.MaxLength != nil || len(sh.Patterns) > 0:
		return String
	}
	return 0
}

func (sh *Shape) hasMemberKeywords() bool {
	return slices.ContainsFunc(sh.Sources, func(s Schema) bool { return s.js.UnevaluatedProperties != nil || len(s.js.DependentSchemas) > 0 })
}

func (sh *Shape) hasItemKeywords() bool {
	return slices.ContainsFunc(sh.Sources, func(s Schema) bool { return s.js.UnevaluatedItems != nil })
}
