package oad

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
)

func isExtension(name string) bool { return strings.HasPrefix(name, "x-") }

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
	Servers    []string            // of the operation or its path; empty: the document's
	Security   [][]string          // names of schemes: one of the lists is required; nil: none
	Rules      []document.Location // where rules are that no schema says (x-obiter-rules)
	Skip       string              // why it cannot be used; empty where it can

	Number int // its place in the description, from 1

	at   document.Location
	name string
}

// Name is the operation as users write it: "POST /vessels".
func (o *Operation) Name() string {
	if o.name != "" {
		return o.name
	}
	return o.Method + " " + o.Path
}

// Address is the path template as it is sent: what follows a # tells operations apart
// in some descriptions.
func (o Operation) Address() string {
	address, _, _ := strings.Cut(o.Path, "#")
	return address
}

// PlaceOf is the file, line and column of an operation.
func (d *Document) PlaceOf(o Operation) string {
	if o.at == (document.Location{}) { // it could not be read
		return fmt.Sprintf("%s:%d:%d", d.Name, o.Line, o.Column)
	}
	return fmt.Sprintf("%s:%d:%d", d.FileOf(o.at).Name, o.Line, o.Column)
}

// Parameter is one described parameter. Style and Explode hold OpenAPI's
// defaults where the description says nothing.
type Parameter struct {
	Name, In string // In: path, query, header or cookie
	Required bool
	Style    string
	Explode  bool
	Schema   document.Location // zero where none is described
	JSON     bool              // its value is JSON text ("content" in place of "schema")
	Examples []Example
}

// Body is a described request body.
type Body struct {
	Required bool // OpenAPI's default is false
	Optional bool // the description says that it may be left out
	Media    []Media
}

// Media is one media type of a body, with its schema.
type Media struct {
	Type     string // as written, parameters included
	Schema   document.Location
	Examples []Example
}

// Example is a published example and where it is.
type Example struct {
	Value any
	At    document.Location
}

// Response is a documented answer.
type Response struct {
	Status  string // "201", "4XX" or "default"
	Media   []Media
	Locates bool // the header Location is described
}

// methods are the members of a path item that are operations (OpenAPI 3.2.0,
// section 4.9; earlier versions have no query).
var methods = []string{"get", "put", "post", "delete", "options", "head", "patch", "trace", "query"}

// readOperations reads the operations of all paths, in the order of the document.
func (d *Document) readOperations(top map[string]any) {
	main := d.File(d.Main)
	paths, _ := top["paths"].(map[string]any)
	names := slices.DeleteFunc(main.Names("/paths"), isExtension)
	if len(names) == 0 { // allowed since 3.1 (webhooks alone), and of no use here
		d.Warnings = append(d.Warnings, d.Place(document.Location{File: d.Main, Pointer: "/paths"})+": the document describes no paths; add the API's operations under paths:")
		return
	}
	for _, path := range names {
		if _, is := paths[path]; is {
			d.Operations = append(d.Operations, d.pathItem(path)...)
		}
	}
	for i := range d.Operations {
		d.Operations[i].Number = i + 1
	}
}

// itemLayer is a path item, or one that it refers to.
type itemLayer struct {
	at      document.Location
	members map[string]any
}

// layers are a path item and those that it refers to, the nearest first: members
// next to a $ref count (OpenAPI 3.1.1, section 4.8.9.1).
func (d *Document) layers(at document.Location) ([]itemLayer, error) {
	var out []itemLayer
	for range 16 {
		v, _ := instance.Get(d.FileOf(at).Value, at.Pointer)
		members, ok := v.(map[string]any)
		if !ok {
			return out, d.FileOf(at).Fail(at.Pointer, "write its operations below it", "a path item is not an object")
		}
		out = append(out, itemLayer{at, members})
		ref, is := members["$ref"].(string)
		if !is {
			return out, nil
		}
		to, err := d.Target(at, ref)
		if err == nil {
			err = d.Leads(to)
		}
		if err != nil {
			return out, d.Dangling(at, ref, err)
		}
		at = to
	}
	return out, fmt.Errorf("%s: its $ref leads round in a circle", d.Place(at))
}

// pathItem reads the operations of a path, in the order of their file.
func (d *Document) pathItem(path string) []Operation {
	layers, broken := d.layers(document.Location{File: d.Main, Pointer: instance.Join("/paths", path)})
	var out []Operation
	seen := map[string]bool{}
	for _, layer := range layers {
		var ops []Operation
		add := func(method string, at document.Location) {
			if !seen[method] {
				seen[method] = true
				ops = append(ops, d.operation(method, path, at, layers))
			}
		}
		for _, name := range d.FileOf(layer.at).Names(layer.at.Pointer) {
			if slices.Contains(methods, name) {
				add(strings.ToUpper(name), layer.at.Under(name))
			}
		}
		if _, has := layer.members["additionalOperations"].(map[string]any); has {
			at := layer.at.Under("additionalOperations")
			for _, name := range d.FileOf(at).Names(at.Pointer) {
				add(name, at.Under(name))
			}
		}
		out = append(out, ops...)
	}
	if broken != nil { // named, so that it is not lost in silence
		if len(out) == 0 {
			line, column := d.File(d.Main).At(instance.Join("/paths", path))
			out = append(out, Operation{Method: "ANY", Path: path, Line: line, Column: column})
		}
		for i := range out {
			out[i].Skip = broken.Error()
		}
	}
	return out
}

// operation reads one operation of a path, with what its path item says of it.
func (d *Document) operation(method, path string, at document.Location, layers []itemLayer) Operation {
	o := Operation{Method: method, Path: path, name: method + " " + path}
	o.Line, o.Column = d.FileOf(at).At(at.Pointer)
	fail := func(err error) Operation {
		o.Skip = err.Error()
		return o
	}
	opAt, raw, err := d.Resolve(at)
	if err != nil {
		return fail(err)
	}
	members, ok := raw.(map[string]any)
	if !ok {
		return fail(fmt.Errorf("%s: the operation is not an object", d.Place(opAt)))
	}
	o.ID, _ = members["operationId"].(string)
	o.Summary, _ = members["summary"].(string)
	list, _ := members["tags"].([]any)
	for _, tag := range list {
		o.Tags = append(o.Tags, scalar(tag))
	}
	o.Servers = servers(members["servers"])
	for _, layer := range layers {
		if len(o.Servers) == 0 {
			o.Servers = servers(layer.members["servers"])
		}
	}
	for _, layer := range slices.Backward(layers) {
		if o.Parameters, err = d.parameters(layer.at, layer.members, o.Parameters); err != nil {
			return fail(err)
		}
	}
	if o.Parameters, err = d.parameters(opAt, members, o.Parameters); err != nil {
		return fail(err)
	}
	if _, ok := members["requestBody"]; ok {
		if o.Body, err = d.body(opAt.Under("requestBody")); err != nil {
			return fail(err)
		}
	}
	o.at = opAt
	o.Responses = d.responses(opAt, members["responses"])
	o.Security = d.security(members)
	o.Rules = d.rules(opAt, o.Body)
	return o
}

// rules are the places of x-obiter-rules: on the operation, and on the schemas
// of its body.
func (d *Document) rules(opAt document.Location, body *Body) []document.Location {
	places := []document.Location{opAt}
	if body != nil {
		for _, m := range body.Media {
			if at, _, err := d.Resolve(m.Schema); err == nil {
				places = append(places, at)
			}
		}
	}
	var out []document.Location
	for _, at := range places {
		holder, _ := instance.Get(d.FileOf(at).Value, at.Pointer)
		m, _ := holder.(map[string]any)
		if _, has := m["x-obiter-rules"]; has && !slices.Contains(out, at.Under("x-obiter-rules")) {
			out = append(out, at.Under("x-obiter-rules"))
		}
	}
	return out
}

func (d *Document) parameters(at document.Location, holder map[string]any, inherited []Parameter) ([]Parameter, error) {
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

func (d *Document) parameter(at document.Location) (Parameter, error) {
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
		return p, fmt.Errorf("%s: the parameter %q is in %q; expected path, query, header or cookie", d.Place(loc), p.Name, p.In)
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

func (d *Document) body(at document.Location) (*Body, error) {
	loc, v, err := d.Resolve(at)
	if err != nil {
		return nil, err
	}
	m, ok := v.(map[string]any)
	if !ok {
		return nil, fmt.Errorf("%s: the request body is not an object", d.Place(loc))
	}
	b := &Body{}
	said := false
	b.Required, said = m["required"].(bool)
	b.Optional = said && !b.Required
	b.Media = d.media(loc, m["content"])
	return b, nil
}

// media lists media types in the order of the document.
func (d *Document) media(at document.Location, content any) []Media {
	m, _ := content.(map[string]any)
	var out []Media
	for _, name := range d.FileOf(at).Names(at.Under("content").Pointer) {
		inner, _ := m[name].(map[string]any)
		media := Media{Type: name, Examples: d.examples(at.Under("content", name), inner)}
		if inner["schema"] != nil {
			media.Schema = at.Under("content", name, "schema")
		}
		out = append(out, media)
	}
	return out
}

func (d *Document) examples(at document.Location, m map[string]any) []Example {
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

func (d *Document) responses(at document.Location, v any) []Response {
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
				headers, _ := inner["headers"].(map[string]any)
				for name := range headers {
					r.Locates = r.Locates || strings.EqualFold(name, "Location")
				}
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
