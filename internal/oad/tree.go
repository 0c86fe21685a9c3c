package oad

import (
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"github.com/pb33f/go-yaml"

	"obiter/internal/instance"
)

// file is one document: as nodes with places, and as a JSON value.
type file struct {
	name  string
	root  *yaml.Node
	value any
	order map[uintptr][]string // of objects under "properties": names as they stand
	busy  chan struct{}        // open while the library works on root; nil: it never does
}

// maxDepth bounds nesting, so that hostile documents cannot exhaust the stack.
const maxDepth = 400

// converter turns a node tree into JSON values. An anchor is converted once and
// shared, so aliases cost no memory however often they are multiplied.
type converter struct {
	file   *file
	made   map[*yaml.Node]any
	active map[*yaml.Node]bool
}

func (f *file) fail(n *yaml.Node, problem, hint string) error {
	return &Error{File: f.name, Line: n.Line, Column: n.Column, Problem: problem, Hint: hint}
}

func (c *converter) value(n *yaml.Node, depth int, key string) (any, error) {
	if depth > maxDepth {
		return nil, c.file.fail(n, fmt.Sprintf("nests deeper than %d levels", maxDepth), "flatten it, or use $ref")
	}
	switch n.Kind {
	case yaml.DocumentNode:
		if len(n.Content) == 0 {
			return nil, nil
		}
		return c.value(n.Content[0], depth, "")
	case yaml.AliasNode:
		return c.alias(n, depth, key)
	case yaml.SequenceNode:
		list := make([]any, 0, len(n.Content))
		for _, e := range n.Content {
			v, err := c.value(e, depth+1, "")
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		return list, nil
	case yaml.MappingNode:
		return c.mapping(n, depth, key)
	}
	return scalarValue(n), nil
}

func (c *converter) alias(n *yaml.Node, depth int, key string) (any, error) {
	target := n.Alias
	if target == nil || c.active[target] {
		return nil, c.file.fail(n, fmt.Sprintf("the alias *%s stands inside what it names", n.Value), "use $ref for recursion")
	}
	if v, ok := c.made[target]; ok {
		return v, nil
	}
	c.active[target] = true
	defer delete(c.active, target)
	v, err := c.value(target, depth+1, key)
	c.made[target] = v
	return v, err
}

func (c *converter) mapping(n *yaml.Node, depth int, key string) (any, error) {
	if n.Anchor != "" && !c.active[n] {
		c.active[n] = true
		defer delete(c.active, n)
	}
	m := make(map[string]any, len(n.Content)/2)
	var names []string
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if k.ShortTag() == "!!merge" {
			if err := c.merge(m, v, depth); err != nil {
				return nil, err
			}
			continue
		}
		if k.Kind != yaml.ScalarNode {
			return nil, c.file.fail(k, "a member name is not text", "quote it")
		}
		value, err := c.value(v, depth+1, k.Value)
		if err != nil {
			return nil, err
		}
		if _, twice := m[k.Value]; twice && slices.Contains(names, k.Value) {
			return nil, c.file.fail(k, fmt.Sprintf("the member %q stands twice in one object", k.Value), "take one of them out")
		}
		m[k.Value] = value
		names = append(names, k.Value)
	}
	if key == "properties" {
		c.file.order[reflect.ValueOf(m).Pointer()] = names
	}
	return m, nil
}

// merge adds what a YAML merge key (<<) names, where the object has no such member yet.
func (c *converter) merge(into map[string]any, n *yaml.Node, depth int) error {
	v, err := c.value(n, depth+1, "")
	if err != nil {
		return err
	}
	sources, isList := v.([]any)
	if !isList {
		sources = []any{v}
	}
	for _, s := range sources {
		m, ok := s.(map[string]any)
		if !ok {
			return c.file.fail(n, "<< does not name an object", "")
		}
		for k, member := range m {
			if _, has := into[k]; !has {
				into[k] = member
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

// node finds the node at a JSON Pointer, for its line; the nearest one above where there is none.
func (f *file) node(pointer string) *yaml.Node {
	if f.busy != nil {
		<-f.busy
	}
	tokens, _ := instance.Split(pointer)
	n := f.root
	if n.Kind == yaml.DocumentNode && len(n.Content) > 0 {
		n = n.Content[0]
	}
	for _, t := range tokens {
		for n.Kind == yaml.AliasNode && n.Alias != nil {
			n = n.Alias
		}
		next := child(n, t)
		if next == nil {
			return n
		}
		n = next
	}
	return n
}

// child is the member's key node's place with the member's content: the line of
// a keyword is where its name stands.
func child(n *yaml.Node, token string) *yaml.Node {
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == token {
				found := *n.Content[i+1]
				found.Line, found.Column = n.Content[i].Line, n.Content[i].Column
				return &found
			}
		}
	case yaml.SequenceNode:
		for i, e := range n.Content {
			if fmt.Sprint(i) == token {
				return e
			}
		}
	}
	return nil
}

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
