package sources

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/config"
	"obiter/internal/input/oad"
)

// Decision is what a value in a request decides about the records that the request changes.
type Decision int

const (
	Nothing Decision = iota // it does not decide which they are
	Selects                 // they are those that it is true of
	Names                   // they are those that it names
)

// Reach tells which values of an operation's requests decide which records these change.
type Reach struct {
	// Wide says that the address does not name the record: a change of several at once, or an
	// action.
	Wide bool
	// Decided says that something in its query or body decides which they are.
	Decided bool

	method string
	own    []string // what its own record is called in a body, in the forms in which names are compared
	chosen string   // the pointer of what its own record was named by when it was created
}

// selecting are words in the names of values that select records.
var selecting = []string{"where", "filter", "filters", "query", "q", "search", "selector", "select", "match", "matches", "criteria", "criterion", "condition", "conditions", "predicate", "all", "since", "until", "before", "after", "older", "newer", "range", "scope", "except"}

// identifying are names of values that name records, whatever these are.
var identifying = []string{"id", "ids", "uuid", "uuids", "guid", "guids", "key", "keys"}

// Reach is that of an operation; nil where its requests change nothing that is there, or what
// there is one of.
func (c *Sources) Reach(operation string) *Reach {
	method, path, _ := strings.Cut(operation, " ")
	r := &Reach{method: method}
	names := config.PathParameters(operation)
	switch {
	case c.sorts.of == nil:
		return nil
	case method == "POST" && (c.notCreating(operation, names, "") == "" || c.isSetting(operation)):
		return nil
	case method == "POST":
		r.Wide, r.Decided = true, c.sorts.decided[operation]
		return r
	case method != "PUT" && method != "PATCH" && method != "DELETE":
		return nil
	case len(names) == 0 && c.isSetting(operation):
		return nil
	case len(names) == 0:
		r.Wide, r.Decided = true, c.sorts.decided[operation]
		return r
	}
	r.own = []string{"id", "uuid", "guid", instance.Level(names[len(names)-1])}
	if s, _ := c.source(operation, names[len(names)-1], nil); s.kept != "" && strings.HasSuffix(path, "}") {
		if f := c.fixtureKeeping([]string{s.kept}); f != nil && !f.Guessed {
			r.chosen = f.Chosen
		}
	}
	return r
}

// isSetting reports whether an operation changes what there is one of: GET of its address
// answers one object.
func (c *Sources) isSetting(operation string) bool {
	is, known := c.sorts.of[operation]
	_, path, _ := strings.Cut(operation, " ")
	return known && is == setting || c.sorts.single[bare(path)]
}

// Of is what the value at a place of a request decides. The names of all members above it count.
func (r *Reach) Of(in, pointer string) Decision {
	if !r.Wide {
		if in == "body" && strings.Count(pointer, "/") == 1 && (slices.Contains(r.own, instance.Level(instance.Last(pointer))) || pointer == r.chosen) {
			return Names
		}
		return Nothing
	}
	if in != "query" && in != "body" {
		return Nothing
	}
	is := Nothing
	if r.method == "DELETE" || in == "query" && r.method != "POST" {
		is = Selects
	}
	named := false
	for pointer != "" {
		name := instance.Last(pointer)
		pointer = instance.Parent(pointer)
		if name == "" || strings.Trim(name, "0123456789") == "" {
			continue
		}
		named = true
		switch {
		case slices.Contains(identifying, instance.Level(name)), IsReference(name):
			return Names
		case slices.ContainsFunc(wordsOf.FindAllString(name, -1), func(word string) bool { return slices.Contains(selecting, strings.ToLower(word)) }):
			is = Selects
		}
	}
	if in == "body" && !named { // a list of nothing but ids
		return Names
	}
	return is
}

// MayName reports whether a body, as it is sent, may have something in it that decides which records
// are changed: most have not, and reading each takes long.
func (r *Reach) MayName(body []byte) bool {
	if r.Wide {
		return true
	}
	text := instance.Level(string(body))
	for _, name := range append([]string{instance.Level(instance.Last(r.chosen))}, r.own...) {
		if name != "" && strings.Contains(text, name) {
			return true
		}
	}
	return false
}

// place is where a value stands in requests of an operation.
type place struct {
	in, pointer string
	list        bool
}

func (p place) String() string {
	if p.pointer == "" {
		return "its body"
	}
	return p.in + " " + strings.TrimPrefix(p.pointer, "/")
}

// naming are the places where requests of an operation name records, as far as the description
// shows, and whether others select them.
func (r *Reach) naming(doc *oad.Document, o oad.Operation) (out []place, selects bool) {
	add := func(p place) {
		switch r.Of(p.in, p.pointer) {
		case Names:
			out = append(out, p)
		case Selects:
			selects = true
		}
	}
	for _, p := range o.Parameters {
		if p.In == "query" {
			_, v, _ := doc.Resolve(p.Schema)
			add(place{"query", instance.Join("", p.Name), isList(v)})
		}
	}
	if o.Body == nil {
		return out, selects
	}
	properties := propertiesOf(doc, o)
	for _, name := range instance.Names(properties) {
		if property, _ := properties[name].(map[string]any); property["readOnly"] == true {
			continue
		}
		add(place{"body", instance.Join("", name), isList(properties[name]) || strings.HasSuffix(instance.Level(name), "ids")})
	}
	if len(properties) > 0 {
		return out, selects
	}
	for _, m := range o.Body.Media { // a list of ids, or of records
		at, v, err := doc.Resolve(m.Schema)
		if schema, _ := v.(map[string]any); err == nil && isList(v) && schema["items"] != nil {
			at.Pointer += "/items"
			_, items, _ := doc.Resolve(at)
			if element, _ := items.(map[string]any); element["properties"] == nil && element["type"] != "object" {
				add(place{"body", "", true})
			} else {
				add(place{"body", "/0/id", false})
			}
		}
	}
	return out, selects
}

func isList(v any) bool {
	schema, _ := v.(map[string]any)
	return schema["type"] == "array" || schema["items"] != nil
}

// nameRecords fills the places where requests name the records that they change with those that
// this run created, and notes which operations change no others, and which name some that
// nothing tells.
func (c *Sources) nameRecords(doc *oad.Document) {
	c.sorts.unnamed, c.sorts.several, c.sorts.decided = map[string]place{}, map[string]bool{}, map[string]bool{}
	for _, o := range doc.Operations {
		r := c.Reach(o.Name())
		if r == nil || o.Skip != "" {
			continue
		}
		places, selects := r.naming(doc, o)
		c.sorts.decided[o.Name()] = len(places) > 0 || selects
		made := len(places) > 0 && !selects && r.method != "POST"
		for _, p := range places {
			if v, said := c.fromFile(o.Name(), p); said {
				made = made && c.allMade(v)
				continue
			}
			v, known := c.namedBy(doc, o, r, p)
			if !known || strings.Count(p.pointer, "/") > 1 { // a patch (RFC 7396) reaches into no list
				if made = false; r.Wide {
					c.sorts.unnamed[o.Name()] = p
				}
				continue
			}
			if p.list && v != nil {
				v = []any{v}
			}
			c.say(o.Name(), p, v)
		}
		c.sorts.several[o.Name()] = made && r.Wide
	}
}

// namedBy is what names the record at a place of an operation's requests; nil where the place is
// to be left out.
func (c *Sources) namedBy(doc *oad.Document, o oad.Operation, r *Reach, p place) (any, bool) {
	if !r.Wide {
		names := config.PathParameters(o.Path)
		s, _ := c.source(o.Name(), names[len(names)-1], nil)
		if !strings.HasSuffix(o.Path, "}") && slices.Contains(general, instance.Level(instance.Last(p.pointer))) { // of a part of the record
			return nil, !slices.Contains(requiredOf(doc, o), instance.Last(p.pointer))
		}
		return s.written(), s.written() != nil
	}
	name := instance.Last(p.pointer)
	stem, refers := stemOf(name)
	for _, f := range c.Fixtures {
		by := c.collectionOf(f)
		key := c.Key(f)
		if !by.made || key == "" {
			continue
		}
		if refers && by.record == stem || !refers && strings.HasPrefix(bare(o.Path)+"/", by.at+"/") {
			return "${" + key + "}", true
		}
	}
	return nil, false
}

// requiredOf are the members that an operation's JSON body must have, as far as its schema says
// them at the top.
func requiredOf(doc *oad.Document, o oad.Operation) (out []string) {
	for _, m := range o.Body.Media {
		_, v, _ := doc.Resolve(m.Schema)
		schema, _ := v.(map[string]any)
		names, _ := schema["required"].([]any)
		for _, name := range names {
			out = append(out, fmt.Sprint(name))
		}
	}
	return out
}

// fromFile is what the file, or the description by its other operations, says of a place.
func (c *Sources) fromFile(operation string, p place) (any, bool) {
	o := c.Operations[operation]
	if p.in == "path" {
		s, _ := c.source(operation, instance.Last(p.pointer), nil)
		return s.written(), s.written() != nil
	}
	if p.in == "query" {
		v, has := o.Parameters["query"][instance.Last(p.pointer)]
		return v, has
	}
	v, has := instance.Get(o.Body, p.pointer)
	return v, has && v != nil
}

// Said is the value that the configuration has for a place of an operation's requests, before
// references in it are replaced.
func (c *Sources) Said(operation, in, pointer string) (any, bool) {
	return c.fromFile(operation, place{in: in, pointer: pointer})
}

// say puts a value in a place of an operation's requests.
func (c *Sources) say(operation string, p place, v any) {
	o := c.Operations[operation]
	switch name := instance.Last(p.pointer); {
	case p.in == "query":
		query := map[string]any{name: v}
		maps.Copy(query, o.Parameters["query"])
		all := config.Parameters{}
		maps.Copy(all, o.Parameters)
		all["query"], o.Parameters = query, all
	case p.pointer == "":
		o.Body = v
	default:
		o.Body = mergeUnder(o.Body, map[string]any{name: v})
	}
	c.Operations[operation] = o
}

// MakerOf is the fixture that creates the records which a value names; false where it is not
// made of what fixtures keep of records that they create.
func (c *Sources) MakerOf(v any) (config.Fixture, bool) {
	if !c.allMade(v) {
		return config.Fixture{}, false
	}
	return *c.fixtureKeeping(config.References(v)), true
}

// unreached says why requests of an operation that is allowed may not be sent: they name records,
// and nothing tells which.
func (c *Sources) unreached(operation string) string {
	p, is := c.sorts.unnamed[operation]
	if !is {
		return ""
	}
	line := fmt.Sprintf("body: { %s: … }", instance.Last(p.pointer))
	switch {
	case p.in == "query":
		line = fmt.Sprintf("query: { %s: … }", instance.Last(p.pointer))
	case p.pointer == "", strings.Count(p.pointer, "/") > 1:
		line = "body: [ … ]"
	}
	return fmt.Sprintf("its requests name the records that they change (%s), and no fixture creates these; name some that may be changed: operations: { %s: { %s } } in obiter.yaml", p, operation, line)
}

// ownID is the pointer of the member of a creation's body that would name the new record, whether
// or not the service takes it; "" where there is none. parameter is that of the path at which
// its records are addressed.
func ownID(doc *oad.Document, o oad.Operation, parameter string) string {
	if o.Body == nil {
		return ""
	}
	properties := propertiesOf(doc, o)
	for _, wanted := range []string{instance.Level(parameter), "id", "uuid", "guid"} {
		for _, name := range instance.Names(properties) {
			if wanted != "" && instance.Level(name) == wanted {
				return instance.Join("", name)
			}
		}
	}
	return ""
}

// OwnID is what ownID gives for an operation.
func (c *Sources) OwnID(operation string) string { return c.sorts.ownID[operation] }
