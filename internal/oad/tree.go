package oad

import (
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"strings"

	"github.com/pb33f/go-yaml"
)

// file is one document: as a JSON value, with the places of what it holds.
type file struct {
	name  string
	value any
	top   place
	order map[uintptr][]string // of objects under "properties": names as they stand
}

// maxDepth bounds nesting, so that hostile documents cannot exhaust the stack.
const maxDepth = 400

// converter turns a node tree into JSON values and their places. An anchor is
// converted once and shared, so aliases cost no memory however often they are
// multiplied.
type converter struct {
	file   *file
	made   map[*yaml.Node]made
	active map[*yaml.Node]bool
}

type made struct {
	value  any
	inside *inside
}

// convert makes the file of a node tree, which is not needed afterwards.
func convert(name string, root *yaml.Node) (*file, error) {
	f := &file{name: name, order: map[uintptr][]string{}}
	if root.Kind == yaml.DocumentNode && len(root.Content) > 0 {
		root = root.Content[0]
	}
	c := converter{file: f, made: map[*yaml.Node]made{}, active: map[*yaml.Node]bool{}}
	m, err := c.value(root, 0, "")
	f.value, f.top = m.value, placed(root, m)
	return f, err
}

func (f *file) fail(line, column int, problem, hint string) error {
	return &Error{File: f.name, Line: line, Column: column, Problem: problem, Hint: hint}
}

func (c *converter) fail(n *yaml.Node, problem, hint string) (made, error) {
	return made{}, c.file.fail(n.Line, n.Column, problem, hint)
}

func (c *converter) value(n *yaml.Node, depth int, key string) (made, error) {
	if depth > maxDepth {
		return c.fail(n, fmt.Sprintf("nests deeper than %d levels", maxDepth), "flatten it, or use $ref")
	}
	switch n.Kind {
	case yaml.DocumentNode:
		return made{}, nil // an empty one
	case yaml.AliasNode:
		return c.alias(n, depth, key)
	case yaml.SequenceNode:
		list, in := make([]any, 0, len(n.Content)), &inside{places: make([]place, 0, len(n.Content))}
		for _, e := range n.Content {
			m, err := c.value(e, depth+1, "")
			if err != nil {
				return m, err
			}
			list, in.places = append(list, m.value), append(in.places, placed(e, m))
		}
		return made{list, in}, nil
	case yaml.MappingNode:
		return c.mapping(n, depth, key)
	}
	return made{value: scalarValue(n)}, nil
}

func (c *converter) alias(n *yaml.Node, depth int, key string) (made, error) {
	target := n.Alias
	if target == nil || c.active[target] {
		return c.fail(n, fmt.Sprintf("the alias *%s stands inside what it names", n.Value), "use $ref for recursion")
	}
	if m, ok := c.made[target]; ok {
		return m, nil
	}
	c.active[target] = true
	defer delete(c.active, target)
	m, err := c.value(target, depth+1, key)
	c.made[target] = m
	return m, err
}

func (c *converter) mapping(n *yaml.Node, depth int, key string) (made, error) {
	if n.Anchor != "" && !c.active[n] {
		c.active[n] = true
		defer delete(c.active, n)
	}
	size := len(n.Content) / 2
	object, in := make(map[string]any, size), &inside{names: make([]string, 0, size), places: make([]place, 0, size)}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if k.ShortTag() == "!!merge" {
			continue
		}
		if k.Kind != yaml.ScalarNode {
			return c.fail(k, "a member name is not text", "quote it")
		}
		if _, twice := object[k.Value]; twice {
			return c.fail(k, fmt.Sprintf("the member %q stands twice in one object", k.Value), "take one of them out")
		}
		m, err := c.value(v, depth+1, k.Value)
		if err != nil {
			return m, err
		}
		object[k.Value] = m.value
		in.names, in.places = append(in.names, k.Value), append(in.places, placed(k, m))
	}
	for i := 0; i+1 < len(n.Content); i += 2 { // what stands in the object itself comes first
		if n.Content[i].ShortTag() == "!!merge" {
			if err := c.merge(object, in, n.Content[i], n.Content[i+1], depth); err != nil {
				return made{}, err
			}
		}
	}
	if key == "properties" {
		c.file.order[reflect.ValueOf(object).Pointer()] = in.names
	}
	return made{object, in}, nil
}

// merge adds what a YAML merge key (<<) names, where the object has no such member yet.
func (c *converter) merge(into map[string]any, in *inside, key, n *yaml.Node, depth int) error {
	from, err := c.value(n, depth+1, "")
	if err != nil {
		return err
	}
	sources := []made{from}
	if list, isList := from.value.([]any); isList {
		sources = nil
		for i, v := range list {
			sources = append(sources, made{v, from.inside.places[i].inside})
		}
	}
	for _, s := range sources {
		m, ok := s.value.(map[string]any)
		if !ok {
			return c.file.fail(n.Line, n.Column, "<< does not name an object", "")
		}
		for i, name := range s.inside.names {
			if _, has := into[name]; !has {
				into[name] = m[name]
				in.names = append(in.names, name)
				in.places = append(in.places, place{int32(key.Line), int32(key.Column), s.inside.places[i].inside})
			}
		}
	}
	return nil
}

// scalarValue reads a YAML scalar as JSON: dates stay text, and a number keeps
// its digits where they are JSON's.
func scalarValue(n *yaml.Node) any {
	switch n.ShortTag() {
	case "!!null":
		return nil
	case "!!bool":
		var b bool
		if n.Decode(&b) == nil {
			return b
		}
	case "!!int", "!!float":
		if json.Valid([]byte(n.Value)) {
			return json.Number(n.Value)
		}
		var i int64
		if n.Decode(&i) == nil {
			return json.Number(fmt.Sprint(i))
		}
		var f float64
		if n.Decode(&f) == nil {
			if text, err := json.Marshal(f); err == nil {
				return json.Number(text)
			}
		}
	}
	// A number beyond double precision is tagged as text.
	if quoted := yaml.DoubleQuotedStyle | yaml.SingleQuotedStyle | yaml.LiteralStyle | yaml.FoldedStyle; n.Style&quoted == 0 && isNumber(n.Value) {
		return json.Number(n.Value)
	}
	return n.Value
}

var jsonNumber = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][-+]?[0-9]+)?$`)

func isNumber(text string) bool { return jsonNumber.MatchString(text) }

// Order is the names of an object found under "properties", as they stand in
// the document; nil for any other.
func (d *Document) Order(properties map[string]any) []string {
	key := reflect.ValueOf(properties).Pointer()
	for _, f := range *d.files.Load() {
		if names, ok := f.order[key]; ok {
			return names
		}
	}
	return nil
}

func isExtension(name string) bool { return strings.HasPrefix(name, "x-") }
