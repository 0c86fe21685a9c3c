package schema

import (
	"reflect"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// Breaks reports whether v violates that keyword, looked at by itself: the
// validator stops at a failed type, enum or format and would not say.
func (sh *Shape) Breaks(keyword string, v any) bool {
	for _, s := range sh.Sources {
		key := isolation{s.js, keyword}
		only, known := s.set.isolated[key]
		if !known {
			only = isolate(s.js, keyword)
			if len(s.set.isolated) == mostIsolated {
				clear(s.set.isolated)
			}
			s.set.isolated[key] = only
		}
		if only != nil && only.Validate(v) != nil {
			return true
		}
	}
	return false
}

// mostIsolated bounds the isolated schemas that are remembered, which take as much room as
// whole ones.
const mostIsolated = 500

// isolation is a schema of which one keyword is looked at.
type isolation struct {
	js      *jsonschema.Schema
	keyword string
}

// fields are what the library calls the keywords that it does not keep under their names.
var fields = map[string]string{"type": "Types", "items": "Items2020"}

// companions are keywords that decide together.
var companions = map[string][]string{
	"additionalProperties": {"properties", "patternProperties"},
	"contains":             {"minContains", "maxContains"},
	"minContains":          {"contains"},
	"maxContains":          {"contains", "minContains"},
	"items":                {"prefixItems"},
}

// kept are the parts of a compiled schema that assert nothing.
var kept = map[string]bool{"DraftVersion": true, "Location": true}

// indices are where the library keeps keywords in a schema, by their names.
var indices = func() map[string]int {
	out, t := map[string]int{}, reflect.TypeFor[jsonschema.Schema]()
	for i := range t.NumField() {
		name := t.Field(i).Name
		out[strings.ToLower(name[:1])+name[1:]] = i
	}
	for keyword, name := range fields {
		f, _ := t.FieldByName(name)
		out[keyword] = f.Index[0]
	}
	return out
}()

// has reports whether a schema has a keyword.
func has(js *jsonschema.Schema, keyword string) bool {
	i, known := indices[keyword]
	return known && !reflect.ValueOf(js).Elem().Field(i).IsZero()
}

// isolate is the schema with all assertions gone but one and those that decide
// with it; nil where it does not have that one.
func isolate(js *jsonschema.Schema, keyword string) *jsonschema.Schema {
	if !has(js, keyword) {
		return nil
	}
	from, only := reflect.ValueOf(js).Elem(), *js
	to := reflect.ValueOf(&only).Elem()
	for i := range to.NumField() {
		if f := to.Type().Field(i); f.IsExported() && !kept[f.Name] {
			to.Field(i).SetZero()
		}
	}
	for _, k := range append([]string{keyword}, companions[keyword]...) {
		to.Field(indices[k]).Set(from.Field(indices[k]))
	}
	return &only
}

// Asserts reports whether a source has that keyword and the keyword by itself
// refuses something: items and properties only where they are false somewhere.
func (sh *Shape) Asserts(keyword string) bool {
	switch keyword {
	case "type":
		return sh.Typed && sh.Types != AnyType
	case "properties":
		return len(sh.Forbidden()) > 0
	case "items":
		return sh.ItemsClosed
	case "minLength":
		return sh.MinLength != nil && *sh.MinLength > 0
	case "minItems":
		return sh.MinItems != nil && *sh.MinItems > 0
	case "minProperties":
		return sh.MinProps != nil && *sh.MinProps > 0
	case "additionalProperties":
		return sh.Closed
	case "contains":
		return sh.MinContains > 0
	case "minContains":
		return sh.MinContains > 1
	case "format":
		return len(sh.Formats) > 0
	case "pattern":
		return len(sh.Patterns) > 0
	}
	for _, s := range sh.Sources {
		if has(s.js, keyword) {
			return true
		}
	}
	return false
}

// Forbidden lists the properties whose schema is false, in the order of the document.
func (sh *Shape) Forbidden() []string {
	var out []string
	for _, name := range sh.Properties {
		for _, s := range sh.Sources {
			if p := s.js.Properties[name]; isFalse(p) {
				out = append(out, name)
				break
			}
		}
	}
	return out
}

func isFalse(js *jsonschema.Schema) bool { return js != nil && js.Bool != nil && !*js.Bool }
