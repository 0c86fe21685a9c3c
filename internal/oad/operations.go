package oad

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/pb33f/libopenapi/datamodel/low/v3"

	"obiter/internal/instance"
)

// Operation is a method and a path template, with what a request to it holds.
type Operation struct {
	Method     string // upper case
	Path       string // the template, as written
	ID         string // operationId; may be empty
	Summary    string
	Tags       []string
	Line       int
	Column     int
	Parameters []Parameter // those of the path item first, overlaid by the operation's own
	Body       *Body       // nil where none is described
	Responses  []Response
	Servers    []string   // of the operation or its path; empty: the document's
	Security   [][]string // names of schemes: one of the lists is asked for; nil: none
	Rules      []Location // where rules stand that no schema says (x-obiter-rules)
	Skip       string     // why it cannot be used; empty where it can
}

// Name is the operation as users write it: "POST /vessels".
func (o Operation) Name() string { return o.Method + " " + o.Path }

// Parameter is one described parameter. Style and Explode hold OpenAPI's
// defaults where the description says nothing.
type Parameter struct {
	Name, In string // In: path, query, header or cookie
	Required bool
	Style    string
	Explode  bool
	Schema   Location // zero where none is described
	JSON     bool     // its value is JSON text ("content" in place of "schema")
	Examples []Example
}

// Body is a described request body.
type Body struct {
	Required bool // OpenAPI's default is false
	Media    []Media
}

// Media is one media type of a body, with its schema.
type Media struct {
	Type     string // as written, parameters included
	Schema   Location
	Examples []Example
}

// Example is a published example and where it stands.
type Example struct {
	Value any
	At    Location
}

// Response is a documented answer.
type Response struct {
	Status string // "201", "4XX" or "default"
	Media  []Media
}

// readOperations takes the list of operations and their places from the
// library's model, and what they hold from the document itself, in which
// schemas can be addressed.
func readOperations(d *Document, modelled func() (*v3.Document, error)) error {
	model, err := modelled()
	if model == nil {
		return &Error{File: d.Name, Problem: "not readable as OpenAPI: " + firstLine(fmt.Sprint(err))}
	}
	if model.Paths.Value == nil || model.Paths.Value.PathItems.Len() == 0 {
		// Allowed since 3.1 (webhooks alone), and of no use here.
		d.Warnings = append(d.Warnings, d.Place(Location{d.base, "/paths"})+": the document describes no paths; add the API's operations under paths:")
		return nil
	}
	for path, item := range model.Paths.Value.PathItems.FromOldest() {
		var ops []Operation
		for method, op := range operationsOf(item.Value) {
			ops = append(ops, operation(d, path.Value, method, op))
		}
		sort.SliceStable(ops, func(i, j int) bool {
			a, b := ops[i], ops[j]
			if a.Line != b.Line {
				return a.Line < b.Line
			}
			return a.Column < b.Column
		})
		d.Operations = append(d.Operations, ops...)
	}
	return nil
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

func operation(d *Document, path, method string, op *v3.Operation) Operation {
	o := Operation{Method: strings.ToUpper(method), Path: path, ID: op.OperationId.Value, Summary: op.Summary.Value}
	for _, tag := range op.Tags.Value {
		o.Tags = append(o.Tags, tag.Value)
	}
	if op.KeyNode != nil {
		o.Line, o.Column = op.KeyNode.Line, op.KeyNode.Column
	}
	fail := func(err error) Operation {
		o.Skip = err.Error()
		return o
	}
	itemAt, item, err := d.Resolve(Location{d.base, instance.Join("", "paths", path)})
	if err != nil {
		return fail(err)
	}
	opAt, raw, err := d.Resolve(itemAt.Under(strings.ToLower(method)))
	if err != nil {
		return fail(err)
	}
	members, ok := raw.(map[string]any)
	if !ok {
		return fail(fmt.Errorf("%s: the operation is not an object", d.Place(opAt)))
	}
	itemMembers, _ := item.(map[string]any)
	if o.Servers = servers(members["servers"]); len(o.Servers) == 0 {
		o.Servers = servers(itemMembers["servers"])
	}
	if o.Parameters, err = d.parameters(itemAt, itemMembers, nil); err != nil {
		return fail(err)
	}
	if o.Parameters, err = d.parameters(opAt, members, o.Parameters); err != nil {
		return fail(err)
	}
	if _, ok := members["requestBody"]; ok {
		if o.Body, err = d.body(opAt.Under("requestBody")); err != nil {
			return fail(err)
		}
	}
	o.Responses = d.responses(opAt, members["responses"])
	o.Security = d.security(members)
	o.Rules = d.rules(opAt, o.Body)
	return o
}

// rules are the places of x-obiter-rules: on the operation, and on the schemas
// of its body.
func (d *Document) rules(opAt Location, body *Body) []Location {
	places := []Location{opAt}
	if body != nil {
		for _, m := range body.Media {
			if at, _, err := d.Resolve(m.Schema); err == nil {
				places = append(places, at)
			}
		}
	}
	var out []Location
	for _, at := range places {
		holder, _ := instance.Get(d.file(at.File).value, at.Pointer)
		m, _ := holder.(map[string]any)
		if _, has := m["x-obiter-rules"]; has && !slices.Contains(out, at.Under("x-obiter-rules")) {
			out = append(out, at.Under("x-obiter-rules"))
		}
	}
	return out
}

// At is the value at a location, references followed; false where there is none.
func (d *Document) At(loc Location) (any, bool) {
	_, v, err := d.Resolve(loc)
	return v, err == nil
}

func (d *Document) parameters(at Location, holder map[string]any, inherited []Parameter) ([]Parameter, error) {
	out := append([]Parameter(nil), inherited...)
	list, ok := holder["parameters"].([]any)
	if !ok && holder["parameters"] != nil {
		return nil, fmt.Errorf("%s: parameters is not a list", d.Place(at.Under("parameters")))
	}
	for i := range list {
		p, err := d.parameter(at.Under("parameters", strconv.Itoa(i)))
		if err != nil {
			return nil, err
		}
		replaced := false
		for j := range out {
			if out[j].In == p.In && out[j].Name == p.Name {
				out[j], replaced = p, true
			}
		}
		if !replaced {
			out = append(out, p)
		}
	}
	return out, nil
}

func (d *Document) parameter(at Location) (Parameter, error) {
	loc, v, err := d.Resolve(at)
	if err != nil {
		return Parameter{}, err
	}
	m, ok := v.(map[string]any)
	if !ok {
		return Parameter{}, fmt.Errorf("%s: a parameter is not an object", d.Place(loc))
	}
	var p Parameter
	p.Name, _ = m["name"].(string)
	p.In, _ = m["in"].(string)
	p.Required, _ = m["required"].(bool)
	switch p.In {
	case "path", "header":
		p.Style = "simple"
	case "query", "cookie", "querystring":
		p.Style = "form"
	default:
		return p, fmt.Errorf("%s: the parameter %q stands in %q; known are path, query, header and cookie", d.Place(loc), p.Name, p.In)
	}
	p.Required = p.Required || p.In == "path"
	if s, ok := m["style"].(string); ok {
		p.Style = s
	}
	if p.Explode = p.Style == "form"; m["explode"] != nil {
		p.Explode, _ = m["explode"].(bool)
	}
	if _, ok := m["schema"]; ok {
		p.Schema = loc.Under("schema")
	}
	p.Examples = d.examples(loc, m)
	content, _ := m["content"].(map[string]any)
	if names := instance.Names(content); len(names) > 0 { // OpenAPI allows exactly one
		mediaType := names[0]
		inner, _ := content[mediaType].(map[string]any)
		p.JSON = strings.Contains(mediaType, "json")
		if inner["schema"] != nil {
			p.Schema = loc.Under("content", mediaType, "schema")
		}
		p.Examples = append(p.Examples, d.examples(loc.Under("content", mediaType), inner)...)
	}
	return p, nil
}

func (d *Document) body(at Location) (*Body, error) {
	loc, v, err := d.Resolve(at)
	if err != nil {
		return nil, err
	}
	m, ok := v.(map[string]any)
	if !ok {
		return nil, fmt.Errorf("%s: the request body is not an object", d.Place(loc))
	}
	b := &Body{}
	b.Required, _ = m["required"].(bool)
	b.Media = d.media(loc, m["content"])
	return b, nil
}

// media lists media types in the order of the document.
func (d *Document) media(at Location, content any) []Media {
	m, _ := content.(map[string]any)
	var out []Media
	names := instance.Names(m)
	f := d.file(at.File)
	line := func(name string) int { return int(f.at(at.Under("content", name).Pointer).line) }
	sort.SliceStable(names, func(i, j int) bool { return line(names[i]) < line(names[j]) })
	for _, name := range names {
		inner, _ := m[name].(map[string]any)
		media := Media{Type: name, Examples: d.examples(at.Under("content", name), inner)}
		if inner["schema"] != nil {
			media.Schema = at.Under("content", name, "schema")
		}
		out = append(out, media)
	}
	return out
}

func (d *Document) examples(at Location, m map[string]any) []Example {
	var out []Example
	if v, ok := m["example"]; ok {
		out = append(out, Example{v, at.Under("example")})
	}
	named, _ := m["examples"].(map[string]any)
	for _, name := range instance.Names(named) {
		loc, v, err := d.Resolve(at.Under("examples", name))
		holder, ok := v.(map[string]any)
		if err != nil || !ok {
			continue
		}
		for _, member := range []string{"value", "dataValue"} {
			if value, ok := holder[member]; ok {
				out = append(out, Example{value, loc.Under(member)})
			}
		}
	}
	return out
}

func (d *Document) responses(at Location, v any) []Response {
	m, _ := v.(map[string]any)
	var out []Response
	for _, status := range instance.Names(m) {
		if isExtension(status) {
			continue
		}
		r := Response{Status: status}
		if loc, v, err := d.Resolve(at.Under("responses", status)); err == nil {
			if inner, ok := v.(map[string]any); ok {
				r.Media = d.media(loc, inner["content"])
			}
		}
		out = append(out, r)
	}
	return out
}

// servers are the URLs of a servers list, variables replaced by their defaults.
func servers(v any) []string {
	list, _ := v.([]any)
	var out []string
	for _, s := range list {
		m, _ := s.(map[string]any)
		address, ok := m["url"].(string)
		if !ok {
			continue
		}
		variables, _ := m["variables"].(map[string]any)
		for _, name := range instance.Names(variables) {
			def, _ := variables[name].(map[string]any)
			address = strings.ReplaceAll(address, "{"+name+"}", scalar(def["default"]))
		}
		out = append(out, address)
	}
	return out
}
