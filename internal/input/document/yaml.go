package document

import (
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"regexp"

	"go.yaml.in/yaml/v4"

	"obiter/internal/core/instance"
)

// readYAML reads YAML, of which JSON is a part.
func readYAML(name string, src []byte, most int) (*File, error) {
	var root yaml.Node
	if err := decode(src, &root); err != nil {
		f := &Error{File: name, Problem: "not readable as YAML: " + err.Error(), Hint: "correct the syntax there, or a little above"}
		var e *yaml.LoadError
		if errors.As(err, &e) {
			f.Line, f.Column, f.Problem = e.Mark.Line, e.Mark.Column, "not readable as YAML: "+e.Message
			if e.ContextMsg != "" {
				f.Problem = "not readable as YAML: " + e.ContextMsg + ": " + e.Message
			}
		}
		return nil, f
	}
	return convert(name, &root, most)
}

// decode shields from panics of the YAML reader on hostile input.
func decode(src []byte, into *yaml.Node) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	return yaml.Unmarshal(src, into)
}

// converter turns a node tree into JSON values and their places. An anchor is
// converted once and shared, so aliases cost no memory however often they are
// multiplied.
type converter struct {
	file   *File
	most   int // values
	made   map[*yaml.Node]made
	active map[*yaml.Node]bool
}

type made struct {
	value  any
	inside *inside
	size   int // values in it, each alias written out
}

// convert makes the file of a node tree, which is not needed afterwards.
func convert(name string, root *yaml.Node, most int) (*File, error) {
	f := &File{Name: name, order: map[uintptr][]string{}}
	if root.Kind == yaml.DocumentNode && len(root.Content) > 0 {
		root = root.Content[0]
	}
	c := converter{file: f, most: most, made: map[*yaml.Node]made{}, active: map[*yaml.Node]bool{}}
	m, err := c.value(root, 0, "")
	if err != nil {
		return nil, err
	}
	f.Value, f.top = m.value, placed(root, m)
	if f.top.line == 0 { // nothing but comments
		f.top.line, f.top.column = 1, 1
	}
	return f, nil
}

func (f *File) fail(line, column int, problem, hint string) error {
	return &Error{File: f.Name, Line: line, Column: column, Problem: problem, Hint: hint}
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
		list, in, size := make([]any, 0, len(n.Content)), &inside{places: make([]place, 0, len(n.Content))}, 1
		for _, e := range n.Content {
			m, err := c.value(e, depth+1, "")
			if err != nil {
				return m, err
			}
			list, in.places = append(list, m.value), append(in.places, placed(e, m))
			if size += m.size; size > c.most {
				return c.tooMany(e)
			}
		}
		return made{list, in, size}, nil
	case yaml.MappingNode:
		return c.mapping(n, depth, key)
	}
	v := scalarValue(n)
	if number, is := v.(json.Number); is && !instance.Computable(number) {
		return c.fail(n, tooLarge, aSmaller)
	}
	return made{value: v, size: 1}, nil
}

// What is said of a number that nobody computes with.
var (
	tooLarge = fmt.Sprintf("the number has more than %d digits, or an exponent beyond %d", instance.MaxDigits, instance.MaxExponent)
	aSmaller = "write one that a service can compute with"
)

func (c *converter) tooMany(n *yaml.Node) (made, error) {
	return c.fail(n, fmt.Sprintf("its aliases come to more than %d values when they are written out", c.most), "use $ref for what is shared")
}

func (c *converter) alias(n *yaml.Node, depth int, key string) (made, error) {
	target := n.Alias
	if target == nil || c.active[target] {
		return c.fail(n, fmt.Sprintf("the alias *%s is inside what it names", n.Value), "use $ref for recursion")
	}
	c.file.Aliased = true
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
	members, size := len(n.Content)/2, 1
	object, in := make(map[string]any, members), &inside{names: make([]string, 0, members), places: make([]place, 0, members)}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k, v := n.Content[i], n.Content[i+1]
		if k.ShortTag() == "!!merge" {
			continue
		}
		if k.Kind != yaml.ScalarNode {
			return c.fail(k, "a member name is not text", "quote it")
		}
		if _, twice := object[k.Value]; twice {
			return c.fail(k, fmt.Sprintf("the member %q appears twice in one object", k.Value), "take one of them out")
		}
		m, err := c.value(v, depth+1, k.Value)
		if err != nil {
			return m, err
		}
		object[k.Value] = m.value
		in.names, in.places = append(in.names, k.Value), append(in.places, placed(k, m))
		if size += m.size; size > c.most {
			return c.tooMany(k)
		}
	}
	for i := 0; i+1 < len(n.Content); i += 2 { // what is in the object itself comes first
		if n.Content[i].ShortTag() == "!!merge" {
			if err := c.merge(object, in, n.Content[i], n.Content[i+1], depth); err != nil {
				return made{}, err
			}
		}
	}
	if key == "properties" {
		c.file.order[reflect.ValueOf(object).Pointer()] = in.names
	}
	return made{object, in, size}, nil
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
			sources = append(sources, made{value: v, inside: from.inside.places[i].inside})
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
