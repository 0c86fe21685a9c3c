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
			s.set.isolated[key] = only
		}
		if only != nil && only.Validate(v) != nil {
			return true
		}
	}
	return false
}

// isolation is a schema of which one keyword is looked at.
type isolation struct {
	js      *jsonschema.Schema
	keyword string
}

// fields are where the library keeps keywords: under their names, but for these.
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

func fieldOf(keyword string) string {
	if f, ok := fields[keyword]; ok {
		return f
	}
	return strings.ToUpper(keyword[:1]) + keyword[1:]
}

// isolate is the schema with all assertions gone but one and those that decide
// with it; nil where it does not have that one.
func isolate(js *jsonschema.Schema, keyword string) *jsonschema.Schema {
	from := reflect.ValueOf(js).Elem()
	if f := from.FieldByName(fieldOf(keyword)); !f.IsValid() || f.IsZero() {
		return nil
	}
	only := *js
	to := reflect.ValueOf(&only).Elem()
	for i := range to.NumField() {
		if f := to.Type().Field(i); f.IsExported() && !kept[f.Name] {
			to.Field(i).SetZero()
		}
	}
	for _, k := range append([]string{keyword}, companions[keyword]...) {
		to.FieldByName(fieldOf(k)).Set(from.FieldByName(fieldOf(k)))
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
		if f := reflect.ValueOf(s.js).Elem().FieldByName(fieldOf(keyword)); f.IsValid() && !f.IsZero() {
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
