package oad

import (
	"fmt"
	"slices"

	"github.com/pb33f/go-yaml"

	"obiter/internal/instance"
)

// Tree is a YAML or JSON document with its places, for files beside the description.
type Tree struct{ file *file }

// ReadTree reads a document. The name serves messages. Errors are *Error.
func ReadTree(name string, src []byte) (*Tree, error) {
	root, err := parse(name, src)
	if err != nil {
		return nil, err
	}
	f := &file{name: name, root: root, order: map[uintptr][]string{}}
	c := converter{file: f, made: map[*yaml.Node]any{}, active: map[*yaml.Node]bool{}}
	if f.value, err = c.value(root, 0, ""); err != nil {
		return nil, err
	}
	return &Tree{f}, nil
}

// Value is the document as a JSON value.
func (t *Tree) Value() any { return t.file.value }

// Names are the members of the object at a JSON Pointer as they stand.
func (t *Tree) Names(pointer string) []string {
	n := t.file.node(pointer)
	var out []string
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if name := n.Content[i].Value; !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// Fail is an error at the place of a JSON Pointer.
func (t *Tree) Fail(pointer, hint, problem string, args ...any) error {
	return t.file.fail(t.file.node(pointer), fmt.Sprintf(problem, args...), hint)
}

// Value is what stands at a JSON Pointer of the description, as rewritten;
// false where there is nothing.
func (d *Document) Value(pointer string) (any, bool) {
	return instance.Get(d.file(d.base).value, pointer)
}
