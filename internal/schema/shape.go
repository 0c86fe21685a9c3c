package schema

import (
	"math/big"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
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

// Bound is a limit of a number.
type Bound struct {
	Value     *big.Rat
	Exclusive bool
}

// Shape is what several schemas that hold at one place say together: the
// strictest of each limit. Fields are nil or empty if the schemas say nothing.
type Shape struct {
	Sources []Schema

	Types     Types
	Typed     bool // there is a "type" keyword somewhere
	Enum      []any
	HasEnum   bool
	Const     bool // the enum comes from "const"
	MurkyNull bool
	Murky     []any // values of the enum that only some readers take
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
