// Package schema compiles JSON Schemas of dialect 2020-12 and answers three
// questions about them: does an instance obey (Validate, the independent
// witness of every flaw), which schemas apply at a place (Applied), and what do
// they say together (Merge, a Shape).
//
// Patterns are ECMA-262, lengths count code points, formats are asserted. A
// pattern that cannot be read here is not checked and says so in its Shape.
package schema

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/dlclark/regexp2/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"

	"obiter/internal/core/instance"
)

// Source is where schema documents come from.
type Source interface {
	// Load is the JSON value of the document at a URL without fragment.
	Load(url string) (any, error)
	// Order is the names of a "properties" object, in the order of its document.
	Order(properties map[string]any) []string
	// Anchored are the URLs of schemas that others may refer to by an $id or an
	// anchor.
	Anchored() []string
	// Referrer is the place of a $ref that leads to a URL, for messages; "" if none does.
	Referrer(url string) string
}

// Set compiles the schemas of one source and keeps what it compiled. It is not
// safe for concurrent use; the schemas it gives out are, for Validate.
type Set struct {
	source   Source
	compiler *jsonschema.Compiler
	byURL    map[string]*jsonschema.Schema
	notes    map[*jsonschema.Schema]*notes
	own      map[string]ownSchema
	anchored bool // schemas with an $id or an anchor are known to the compiler
	isolated map[isolation]*jsonschema.Schema
	weights  map[*jsonschema.Schema]Weight

	memory  sync.Mutex // guards what follows
	shapes  map[[few]*jsonschema.Schema]*Shape
	scalars map[scalarOf]bool // whether they are valid
}

// most bounds how much is remembered of values.
const most = 20_000

// scalarOf is a text, a number, a boolean or null, looked at by a schema.
type scalarOf struct {
	js *jsonschema.Schema
	v  any
}

// ownSchema is a schema made here, out of others.
type ownSchema struct {
	js      *jsonschema.Schema
	members []Property
}

// Schema is one compiled schema. The zero value is not one.
type Schema struct {
	js  *jsonschema.Schema
	set *Set
}

// NewSet makes an empty set over a source.
func NewSet(source Source) *Set {
	s := &Set{source: source, byURL: map[string]*jsonschema.Schema{}, notes: map[*jsonschema.Schema]*notes{}, own: map[string]ownSchema{}, isolated: map[isolation]*jsonschema.Schema{}, weights: map[*jsonschema.Schema]Weight{}, shapes: map[[few]*jsonschema.Schema]*Shape{}, scalars: map[scalarOf]bool{}}
	s.compiler = jsonschema.NewCompiler()
	s.compiler.DefaultDraft(jsonschema.Draft2020)
	s.compiler.AssertFormat()
	s.compiler.UseRegexpEngine(compilePattern)
	s.compiler.UseLoader(loader{source})
	for _, f := range formats() {
		s.compiler.RegisterFormat(f)
	}
	return s
}

type loader struct{ source Source }

func (l loader) Load(address string) (any, error) { return l.source.Load(address) }

// Compile compiles the schema at a URL whose fragment is a JSON Pointer. The
// error says in one line what prevents it, and where in the schema.
func (s *Set) Compile(address string) (sch Schema, err error) {
	if js, ok := s.byURL[address]; ok {
		return Schema{js, s}, nil
	}
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the schema cannot be compiled: %v", r)
		}
	}()
	if !s.anchored { // the compiler finds them only inside what it has seen
		s.anchored = true
		for _, url := range s.source.Anchored() {
			_, _ = s.compiler.Compile(url) // what is wrong with one is reported where it is used
		}
	}
	js, err := s.compiler.Compile(address)
	if err != nil {
		return Schema{}, s.compileError(err)
	}
	s.byURL[address] = js
	return Schema{js, s}, nil
}

// compileError words what the compiler found, with the place inside the schema.
func (s *Set) compileError(err error) error {
	var pointer *jsonschema.JSONPointerNotFoundError
	var anchor *jsonschema.AnchorNotFoundError
	var load *jsonschema.LoadURLError
	missing := ""
	switch {
	case errors.As(err, &pointer):
		missing = pointer.URL
	case errors.As(err, &anchor):
		missing = anchor.Reference
	case errors.As(err, &load):
		missing = load.URL
	}
	if missing != "" {
		why := "points to nothing"
		if load != nil {
			why = "cannot be followed: " + load.Err.Error()
		}
		if place := s.source.Referrer(missing); place != "" {
			return fmt.Errorf("%s: the $ref %s", place, why)
		}
		return fmt.Errorf("a $ref to %s %s", missing, why)
	}
	var invalid *jsonschema.SchemaValidationError
	var ve *jsonschema.ValidationError
	if errors.As(err, &invalid) && errors.As(invalid.Err, &ve) {
		deepest := ve
		for len(deepest.Causes) > 0 {
			deepest = deepest.Causes[0]
			for _, c := range deepest.Causes {
				if len(c.InstanceLocation) > len(deepest.InstanceLocation) {
					deepest = c
				}
			}
		}
		is := "is not valid"
		if isTooLong(deepest.ErrorKind) {
			is = "is not tried"
		}
		return fmt.Errorf("the schema %s: at %s %s", is, instance.Fragment(instance.Join("", deepest.InstanceLocation...)), wording(deepest.ErrorKind))
	}
	text := err.Error()
	if line, _, more := strings.Cut(text, "\n"); more {
		text = line
	}
	return errors.New("the schema cannot be compiled: " + text)
}

// Property is a member of an object made by Object.
type Property struct {
	Name     string
	URL      string // of its schema; empty: anything
	Required bool
}

// Object is a schema of an object with the given members, such as the query
// parameters of an operation. The name makes its address and is that of one
// schema.
func (s *Set) Object(name string, members []Property) (Schema, error) {
	address := (&url.URL{Scheme: "obiter", Path: "/" + name}).String()
	if have, made := s.own[address]; made {
		if !slices.Equal(have.members, members) {
			return Schema{}, fmt.Errorf("there are two schemas %q", name)
		}
		return Schema{have.js, s}, nil
	}
	bare, err := s.bareObject()
	if err != nil {
		return Schema{}, err
	}
	js, n := *bare, &notes{}
	js.Location, js.Properties = address+"#", make(map[string]*jsonschema.Schema, len(members))
	for _, m := range members {
		if m.URL == "" {
			anything := *bare
			anything.Location, anything.Types = address+"#"+instance.Join("/properties", m.Name), nil
			js.Properties[m.Name] = &anything
			s.notes[&anything] = &notes{}
		} else {
			member, err := s.Compile(m.URL)
			if err != nil {
				return Schema{}, err
			}
			js.Properties[m.Name] = member.js
		}
		if m.Required {
			js.Required = append(js.Required, m.Name)
		}
		n.order = append(n.order, m.Name)
	}
	s.own[address], s.notes[&js] = ownSchema{&js, slices.Clone(members)}, n
	return Schema{&js, s}, nil
}

// Anything is the schema that says nothing.
func (s *Set) Anything() (Schema, error) {
	const address = "obiter:/anything"
	if js, ok := s.byURL[address]; ok {
		return Schema{js, s}, nil
	}
	if err := s.compiler.AddResource(address, map[string]any{}); err != nil {
		return Schema{}, err
	}
	return s.Compile(address)
}

// bareObject is the schema of any object, compiled.
func (s *Set) bareObject() (*jsonschema.Schema, error) {
	const address = "obiter:/object"
	if js, ok := s.byURL[address]; ok {
		return js, nil
	}
	if err := s.compiler.AddResource(address, map[string]any{"type": "object"}); err != nil {
		return nil, err
	}
	js, err := s.Compile(address)
	return js.js, err
}

// IsZero reports whether there is no schema.
func (s Schema) IsZero() bool { return s.js == nil }

// URL is where the schema is.
func (s Schema) URL() string { return s.js.Location }

// Pointer is where the schema is in its document.
func (s Schema) Pointer() string {
	u, err := url.Parse(s.js.Location)
	if err != nil {
		return ""
	}
	return u.Fragment
}

// Valid reports whether v obeys the schema.
func (s Schema) Valid(v any) bool {
	switch text := v.(type) {
	case nil, bool, json.Number:
	case string:
		if len(text) > 64 {
			return s.js.Validate(v) == nil
		}
	default:
		return s.js.Validate(v) == nil
	}
	key := scalarOf{s.js, v}
	s.set.memory.Lock()
	valid, known := s.set.scalars[key]
	s.set.memory.Unlock()
	if !known {
		valid = s.js.Validate(v) == nil
		s.set.memory.Lock()
		if len(s.set.scalars) == most {
			clear(s.set.scalars)
		}
		s.set.scalars[key] = valid
		s.set.memory.Unlock()
	}
	return valid
}

// Obeys reports whether v obeys all of the schemas.
func Obeys(list []Schema, v any) bool {
	for _, s := range list {
		if !s.Valid(v) {
			return false
		}
	}
	return true
}

// Violation is one broken rule: where in the instance, and which keyword. For
// required and dependentRequired the place is that of the missing member, for
// additionalProperties and propertyNames that of the offending one.
type Violation struct {
	Pointer string
	Keyword string
	kind    jsonschema.ErrorKind
}

// Message is the violation in the validator's words.
func (v Violation) Message() string { return wording(v.kind) }

// Matched are the branches of a oneOf that take the value, where it is several.
func (v Violation) Matched() []int {
	if k, is := v.kind.(*kind.OneOf); is {
		return k.Subschemas
	}
	return nil
}

// Validate lists what v breaks, in order of place and keyword; nothing where it
// obeys. Where an alternative (oneOf, anyOf) fails, the branches that control
// took at that place are looked into and the others left aside; without a
// control value there, the alternative itself is the violation.
func (s Schema) Validate(v, control any) []Violation {
	return s.ValidateAgainst(v, NewBaseline(control))
}

// Baseline is a control value to which many others are compared; it remembers
// which branches the control takes. It is not safe for concurrent use.
type Baseline struct {
	value any
	taken map[branchPoint][]bool
}

type branchPoint struct {
	holder  *jsonschema.Schema
	keyword string
	pointer string
}

// NewBaseline makes a control value ready for ValidateAgainst.
func NewBaseline(control any) *Baseline { return &Baseline{control, map[branchPoint][]bool{}} }

// takes tells which branches of an alternative the control obeys at a place;
// nil where it has nothing there.
func (b *Baseline) takes(holder *jsonschema.Schema, keyword, pointer string, list []*jsonschema.Schema) []bool {
	key := branchPoint{holder, keyword, pointer}
	taken, known := b.taken[key]
	if known {
		return taken
	}
	if was, ok := instance.Get(b.value, pointer); ok {
		taken = make([]bool, len(list))
		for i, branch := range list {
			taken[i] = branch.Validate(was) == nil
		}
	}
	b.taken[key] = taken
	return taken
}

// ValidateAgainst is Validate with a control that serves for many values.
func (s Schema) ValidateAgainst(v any, control *Baseline) []Violation {
	var ve *jsonschema.ValidationError
	if !errors.As(s.js.Validate(v), &ve) {
		return nil
	}
	var found []Violation
	s.set.flatten(ve, v, control, &found)
	found = withoutConsequences(found)
	slices.SortFunc(found, func(a, b Violation) int {
		if c := strings.Compare(a.Pointer, b.Pointer); c != 0 {
			return c
		}
		return strings.Compare(a.Keyword, b.Keyword)
	})
	return slices.CompactFunc(found, func(a, b Violation) bool { return a.Pointer == b.Pointer && a.Keyword == b.Keyword })
}

var unevaluated = []string{"unevaluatedProperties", "unevaluatedItems"}

// withoutConsequences takes out members that are unevaluated only because a
// branch failed, which would have evaluated them: the cause is among the violations.
func withoutConsequences(found []Violation) []Violation {
	cause := func(parent string) bool {
		return slices.ContainsFunc(found, func(v Violation) bool {
			return !slices.Contains(unevaluated, v.Keyword) && instance.Within(v.Pointer, parent)
		})
	}
	return slices.DeleteFunc(slices.Clone(found), func(v Violation) bool {
		return slices.Contains(unevaluated, v.Keyword) && cause(instance.Parent(v.Pointer))
	})
}

func (s *Set) flatten(e *jsonschema.ValidationError, v any, control *Baseline, found *[]Violation) {
	at := instance.Join("", e.InstanceLocation...)
	add := func(pointer, keyword string) {
		*found = append(*found, Violation{pointer, keyword, e.ErrorKind})
	}
	members := func(names []string, keyword string) {
		for _, n := range names {
			add(instance.Join(at, n), keyword)
		}
	}
	switch k := e.ErrorKind.(type) {
	case *kind.Schema, *kind.Group, *kind.Reference, *kind.AllOf:
		for _, c := range e.Causes {
			s.flatten(c, v, control, found)
		}
	case *kind.AnyOf:
		s.branches(e, "anyOf", v, control, found)
	case *kind.OneOf:
		s.branches(e, "oneOf", v, control, found)
	case *kind.Required:
		members(k.Missing, "required")
	case *kind.DependentRequired:
		members(k.Missing, "dependentRequired")
	case *kind.AdditionalProperties:
		members(k.Properties, "additionalProperties")
	case *kind.PropertyNames:
		add(instance.Join(s.owner(e.SchemaURL, k.Property, at, v), k.Property), "propertyNames")
	case *kind.Not:
		add(at, "not")
	case *kind.FalseSchema:
		keyword := "false"
		for _, k := range unevaluated {
			if strings.HasSuffix(e.SchemaURL, "/"+k) {
				keyword = k
			}
		}
		add(at, keyword)
	default:
		keyword := "unknown"
		if path := e.ErrorKind.KeywordPath(); len(path) > 0 {
			keyword = path[0]
		}
		add(at, keyword)
	}
}

// owner is the object that has a member whose name a propertyNames schema
// forbids. The validator's own place is not to be trusted: it hands out a slice
// that it goes on writing to.
func (s *Set) owner(address, name, at string, v any) string {
	names := s.find(address)
	first, found := "", false
	right := false
	instance.Walk(v, func(pointer string, inner any) bool {
		object, ok := inner.(map[string]any)
		if _, has := object[name]; ok && has && (names == nil || names.Validate(name) != nil) {
			right = right || pointer == at
			if !found {
				first, found = pointer, true
			}
		}
		return true
	})
	if right || !found {
		return at
	}
	return first
}

// branches looks into the branch of a failed alternative that the control took.
func (s *Set) branches(e *jsonschema.ValidationError, keyword string, v any, control *Baseline, found *[]Violation) {
	at := instance.Join("", e.InstanceLocation...)
	here := Violation{at, keyword, e.ErrorKind}
	holder := s.find(e.SchemaURL)
	if holder == nil {
		*found = append(*found, here)
		return
	}
	list := holder.OneOf
	if keyword == "anyOf" {
		list = holder.AnyOf
	}
	if len(list) != len(e.Causes) { // several match at once
		*found = append(*found, here)
		return
	}
	taken := false
	for i, takes := range control.takes(holder, keyword, at, list) {
		if takes {
			s.flatten(e.Causes[i], v, control, found)
			taken = true
		}
	}
	if !taken {
		*found = append(*found, here)
	}
}

func (s *Set) find(address string) *jsonschema.Schema {
	if js, ok := s.byURL[address]; ok {
		return js
	}
	js, err := s.compiler.Compile(address)
	if err != nil {
		return nil
	}
	s.byURL[address] = js
	return js
}

// pattern is an ECMA-262 regular expression.
type pattern struct {
	source string
	re     *regexp2.Regexp // nil: it cannot be read here and matches everything
}

// matchTimeout stops catastrophic patterns.
const matchTimeout = 100 * time.Millisecond

// maxPattern is how long a pattern may be, in bytes: hundreds of times as long as those of real
// descriptions. Trying a longer one takes too much time and memory.
const maxPattern = 100_000

// tooLong is a pattern of so many bytes.
type tooLong struct{ bytes int }

func (e *tooLong) Error() string {
	return fmt.Sprintf("the pattern has %d bytes, and those of more than %d are not tried", e.bytes, maxPattern)
}

func compilePattern(source string) (jsonschema.Regexp, error) {
	if len(source) > maxPattern {
		return nil, &tooLong{len(source)}
	}
	re, err := regexp2.Compile(ShortCategories(source), regexp2.ECMAScript|regexp2.Unicode)
	if err != nil {
		return pattern{source, nil}, nil
	}
	re.MatchTimeout = matchTimeout
	return pattern{source, re}, nil
}

// categories are the long names of Unicode's general categories (UAX #44, table 12).
var categories = map[string]string{
	"Letter": "L", "Uppercase_Letter": "Lu", "Lowercase_Letter": "Ll", "Titlecase_Letter": "Lt", "Modifier_Letter": "Lm", "Other_Letter": "Lo",
	"Mark": "M", "Nonspacing_Mark": "Mn", "Spacing_Mark": "Mc", "Enclosing_Mark": "Me", "Number": "N", "Decimal_Number": "Nd", "Letter_Number": "Nl", "Other_Number": "No",
	"Punctuation": "P", "Connector_Punctuation": "Pc", "Dash_Punctuation": "Pd", "Open_Punctuation": "Ps", "Close_Punctuation": "Pe", "Initial_Punctuation": "Pi", "Final_Punctuation": "Pf", "Other_Punctuation": "Po",
	"Symbol": "S", "Math_Symbol": "Sm", "Currency_Symbol": "Sc", "Modifier_Symbol": "Sk", "Other_Symbol": "So", "Separator": "Z", "Space_Separator": "Zs", "Line_Separator": "Zl", "Paragraph_Separator": "Zp", "Control": "Cc", "Format": "Cf",
}

var property = regexp.MustCompile(`\\([pP])\{(?:(?:General_Category|gc|Script|sc|Script_Extensions|scx)=)?(\w+)\}`)

// ShortCategories is a pattern in which properties of characters are written as Go knows
// them: \p{Letter} and \p{gc=Letter} as \p{L}, \p{Script=Greek} as \p{Greek}.
func ShortCategories(source string) string {
	return property.ReplaceAllStringFunc(source, func(found string) string {
		m := property.FindStringSubmatch(found)
		name := m[2]
		if short, is := categories[name]; is {
			name = short
		}
		return `\` + m[1] + "{" + name + "}"
	})
}

// MatchString reports whether the pattern is found in s. A match that takes too
// long counts as found: no flaw is built on it.
func (p pattern) MatchString(s string) bool {
	if p.re == nil {
		return true
	}
	ok, err := p.re.MatchString(s)
	return ok || err != nil
}

// Matches reports whether an ECMA-262 pattern is found in a text; false where it cannot
// be read here.
func Matches(source, text string) bool {
	re, err := compilePattern(source)
	p, _ := re.(pattern)
	return err == nil && p.re != nil && p.MatchString(text)
}

func (p pattern) String() string { return p.source }
