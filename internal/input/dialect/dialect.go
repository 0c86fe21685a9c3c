// Package dialect brings the schemas of an OpenAPI document to one dialect, JSON
// Schema 2020-12, in place, so that pointers into the document stay true, and as
// requests see them: what is readOnly is not required, and branches that a
// discriminator tells apart say so themselves.
package dialect

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
)

// MurkyNull marks a schema of which readers disagree whether it takes null: by
// the letter of OpenAPI 3.0.3 "nullable" does nothing without a "type" next to
// it and adds nothing to an "enum", yet many services act as if it did. Neither
// a flaw nor an edge is made of null there.
const MurkyNull = "x-obiter-murky-null"

// Murky lists values of an enum of which readers disagree whether they belong to it.
// Neither a flaw nor an edge is made of them.
const Murky = "x-obiter-murky"

// Reference is a $ref and where it is.
type Reference struct {
	At  document.Location
	Ref string
	// Schema says that it is in a schema, Based that a base of its own ($id) is in
	// force there: it is then the schema's compiler that knows where it leads.
	Schema, Based bool
}

// Rewritten is what is known of a file after rewriting.
type Rewritten struct {
	References []Reference
	Anchored   []document.Location // schemas with an $id or an anchor, by which others may refer to them
	Together   []document.Location // members of allOf that are closed one against the other, and read as closed together
}

// rewriter rewrites the schemas of a file: a readOnly property is not required
// (OpenAPI 3.0.3 and 3.1.0, "readOnly").
type rewriter struct {
	files *document.Files
	old   bool // OpenAPI 3.0
	base  string
	seen  map[uintptr]bool // nil: nothing is in the file twice
	based int              // schemas around the place that have an $id
	// wholes have an allOf, requiring are those that may require what is readOnly.
	wholes, requiring []located
	out               Rewritten
}

// located is a schema and the JSON Pointer to it.
type located struct {
	schema map[string]any
	at     string
}

// path is where something is: in what, under which name. Few of those that are passed
// are ever written out as JSON Pointers. Nil is the top.
type path struct {
	in   *path
	name string
}

func (p *path) pointer() string {
	if p == nil {
		return ""
	}
	return instance.Join(p.in.pointer(), p.name)
}

// Rewrite rewrites the schemas of a file. Old is for the dialect of OpenAPI 3.0.
func Rewrite(files *document.Files, address string, f *document.File, old bool) Rewritten {
	r := rewriter{files: files, old: old, base: address}
	if f.Aliased {
		r.seen = map[uintptr]bool{}
	}
	if m, ok := f.Value.(map[string]any); ok && address != files.Main && looksLikeSchema(m) {
		if own := r.schema(m, nil); own != nil {
			f.Value = own
		}
	} else {
		r.object(f.Value, nil, address != files.Main)
	}
	if m, ok := f.Value.(map[string]any); ok {
		r.hierarchies(m)
	}
	r.closedTogether()
	// Only once all are in one dialect, for it follows references.
	required := requirements{files}
	for _, s := range r.requiring {
		required.relax(document.Location{File: address, Pointer: s.at}, s.schema, nil)
	}
	return r.out
}

func looksLikeSchema(m map[string]any) bool {
	for _, k := range []string{"type", "properties", "allOf", "oneOf", "anyOf", "enum", "items"} {
		if _, ok := m[k]; ok {
			return true
		}
	}
	return false
}

// mapsOfNames are the members of OpenAPI objects whose own members are free names.
var mapsOfNames = map[string]bool{
	"paths": true, "responses": true, "parameters": true, "requestBodies": true, "headers": true,
	"callbacks": true, "content": true, "links": true, "pathItems": true, "webhooks": true,
	"encoding": true, "securitySchemes": true, "mediaTypes": true,
}

var schemaMaps = map[string]bool{"properties": true, "patternProperties": true, "$defs": true, "definitions": true, "dependentSchemas": true}
var schemaLists = map[string]bool{"allOf": true, "anyOf": true, "oneOf": true, "prefixItems": true}
var schemaMembers = map[string]bool{
	"items": true, "additionalProperties": true, "not": true, "if": true, "then": true, "else": true, "contains": true,
	"propertyNames": true, "unevaluatedItems": true, "unevaluatedProperties": true, "contentSchema": true,
}

func (r *rewriter) first(m map[string]any) bool {
	if r.seen == nil {
		return true
	}
	key := reflect.ValueOf(m).Pointer()
	if r.seen[key] {
		return false
	}
	r.seen[key] = true
	return true
}

// object goes through what is not a schema. In a file that is only a collection
// of schemas (guess), whatever looks like one is one.
func (r *rewriter) object(v any, at *path, guess bool) {
	switch v := v.(type) {
	case []any:
		for i, e := range v {
			if isContainer(e) {
				r.object(e, &path{at, strconv.Itoa(i)}, guess)
			}
		}
	case map[string]any:
		if !r.first(v) {
			return
		}
		if ref, ok := v["$ref"].(string); ok {
			r.refer(at, ref, false)
		}
		var names [few]string
		for _, k := range containers(names[:0], v) {
			r.member(v, k, &path{at, k}, guess)
		}
	}
}

func (r *rewriter) member(of map[string]any, k string, at *path, guess bool) {
	v := of[k]
	m, isMap := v.(map[string]any)
	switch {
	case isExtension(k) || k == "example" || k == "examples":
	case k == "schema" || k == "itemSchema":
		r.schemaIn(of, k, at)
	case k == "schemas" && isMap:
		for _, name := range instance.Names(m) {
			r.schemaIn(m, name, &path{at, name})
		}
	case mapsOfNames[k] && isMap:
		for _, name := range instance.Names(m) {
			r.object(m[name], &path{at, name}, guess)
		}
	case guess && isMap && looksLikeSchema(m):
		r.schemaIn(of, k, at)
	default:
		r.object(v, at, guess)
	}
}

// few members have anything inside.
const few = 8

// containers adds the names of the members that have anything inside to names, which is
// empty, and sorts them.
func containers(names []string, m map[string]any) []string {
	for k, v := range m {
		if isContainer(v) {
			names = append(names, k)
		}
	}
	slices.Sort(names)
	return names
}

func (r *rewriter) refer(at *path, ref string, schema bool) {
	r.out.References = append(r.out.References, Reference{document.Location{File: r.base, Pointer: at.pointer()}, ref, schema, r.based > 0})
}

// schemaIn rewrites a schema that is a member of something.
func (r *rewriter) schemaIn(of map[string]any, name string, at *path) {
	if own := r.schema(of[name], at); own != nil {
		of[name] = own
	}
}

// schema rewrites a schema in place. A small one may be at other places as well: then what
// it gives, if anything, takes its place here.
func (r *rewriter) schema(v any, at *path) (own any) {
	m, ok := v.(map[string]any)
	if !ok || !r.first(m) {
		return nil
	}
	var names [few]string
	changes := r.changes(m)
	if changes && r.seen == nil && len(containers(names[:0], m)) == 0 {
		m = maps.Clone(m)
		own = m
	}
	_, based := m["$id"].(string)
	if based = based && !r.old; based {
		r.based++
		defer func() { r.based-- }()
	}
	if !r.old && (based || m["$anchor"] != nil || m["$dynamicAnchor"] != nil) {
		r.out.Anchored = append(r.out.Anchored, document.Location{File: r.base, Pointer: at.pointer()})
	}
	if ref, ok := m["$ref"].(string); ok {
		r.refer(at, ref, true)
		if r.old {
			maps.DeleteFunc(m, func(k string, _ any) bool { return k != "$ref" })
			return own
		}
	}
	if changes {
		r.keywords(m)
	}
	r.discriminate(m)
	r.note(m, at)
	for _, k := range containers(names[:0], m) {
		r.below(m, k, &path{at, k})
	}
	return own
}

// below rewrites the schemas under a keyword, which is at a path.
func (r *rewriter) below(m map[string]any, k string, at *path) {
	switch inner := m[k].(type) {
	case map[string]any:
		if schemaMembers[k] {
			r.schemaIn(m, k, at)
		} else if schemaMaps[k] {
			for _, name := range instance.Names(inner) {
				r.schemaIn(inner, name, &path{at, name})
			}
		}
	case []any:
		if !schemaLists[k] {
			break
		}
		for i, s := range inner {
			if own := r.schema(s, &path{at, strconv.Itoa(i)}); own != nil {
				inner[i] = own
			}
		}
	}
}

// note keeps the schemas that are looked at once more when all are in one dialect.
func (r *rewriter) note(m map[string]any, at *path) {
	_, isWhole := m["allOf"].([]any)
	_, requires := m["required"].([]any)
	requires = isWhole || requires && (m["$ref"] != nil || mayLead(m["properties"]))
	if !isWhole && !requires {
		return
	}
	s := located{m, at.pointer()}
	if isWhole {
		r.wholes = append(r.wholes, s)
	}
	r.requiring = append(r.requiring, s)
}

// notInOpenAPI30 are assertions of later dialects; in a 3.0 document they have no force.
var notInOpenAPI30 = map[string]bool{
	"const": true, "patternProperties": true, "if": true, "then": true, "else": true, "contains": true,
	"minContains": true, "maxContains": true, "propertyNames": true, "prefixItems": true,
	"dependentRequired": true, "dependentSchemas": true, "unevaluatedItems": true,
	"unevaluatedProperties": true, "dependencies": true, "additionalItems": true, "$id": true, "$schema": true,
	"$anchor": true, "$dynamicRef": true, "$dynamicAnchor": true, "$recursiveRef": true, "$vocabulary": true,
}

// changes reports whether keywords may change a schema.
func (r *rewriter) changes(m map[string]any) bool {
	for k, v := range m {
		switch k {
		case "nullable", "required", "exclusiveMinimum", "exclusiveMaximum":
			if _, is := v.(bool); is {
				return true
			}
		case "$schema":
			return true
		case "type":
			if v == "any" || v == "file" {
				return true
			}
		default:
			if r.old && notInOpenAPI30[k] {
				return true
			}
		}
	}
	return false
}

// keywords rewrites one schema object. Boolean limits and nullable stray into
// 3.1 documents as well; there the first mean what they meant, and the second
// is murky.
func (r *rewriter) keywords(m map[string]any) {
	if r.old {
		maps.DeleteFunc(m, func(k string, _ any) bool { return notInOpenAPI30[k] })
	}
	for _, limit := range [][2]string{{"exclusiveMinimum", "minimum"}, {"exclusiveMaximum", "maximum"}} {
		strict, ok := m[limit[0]].(bool)
		if !ok {
			continue
		}
		delete(m, limit[0])
		if bound, ok := m[limit[1]].(json.Number); ok && strict {
			m[limit[0]] = bound
			delete(m, limit[1])
		}
	}
	if dialect, ok := m["$schema"].(string); ok && known(dialect) {
		delete(m, "$schema")
	}
	if nullable, ok := m["nullable"].(bool); ok && nullable {
		r.nullable(m)
	}
	// "any type at all" is how some tools write a schema without a type.
	if t, ok := m["type"].(string); ok && (t == "any" || t == "file") {
		delete(m, "type")
		m[MurkyNull] = true
	}
	if _, ok := m["required"].(bool); ok {
		delete(m, "required") // a habit from parameters; it says nothing here
	}
}

// known reports whether a dialect is the one that all is brought to, or OpenAPI's
// own, which adds annotations to it (OpenAPI 3.1.1, section 4.8.24.5; 3.2.0 likewise).
func known(dialect string) bool {
	return strings.HasPrefix(dialect, "https://spec.openapis.org/oas/3.") || strings.TrimSuffix(dialect, "#") == "https://json-schema.org/draft/2020-12/schema"
}

// isExtension reports whether a member is one that OpenAPI leaves to others.
func isExtension(name string) bool { return strings.HasPrefix(name, "x-") }

func (r *rewriter) nullable(m map[string]any) {
	t, typed := m["type"].(string)
	if !typed || !r.old {
		m[MurkyNull] = true
		return
	}
	m["type"] = []any{t, "null"}
	if values, ok := m["enum"].([]any); ok && !containsNull(values) {
		m[MurkyNull] = true
	}
	for _, k := range []string{"allOf", "anyOf", "oneOf", "not"} {
		if _, ok := m[k]; ok {
			m[MurkyNull] = true
		}
	}
}

func containsNull(values []any) bool {
	for _, v := range values {
		if v == nil {
			return true
		}
	}
	return false
}
