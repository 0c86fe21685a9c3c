package oad

import (
	"fmt"
	"slices"

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
	f, err := convert(name, root)
	if err != nil {
		return nil, err
	}
	return &Tree{f}, nil
}

// Value is the document as a JSON value.
func (t *Tree) Value() any { return t.file.value }

// Names are the members of the object at a JSON Pointer as they stand.
func (t *Tree) Names(pointer string) []string {
	if in := t.file.at(pointer).inside; in != nil {
		return slices.Clone(in.names)
	}
	return nil
}

// Fail is an error at the place of a JSON Pointer.
func (t *Tree) Fail(pointer, hint, problem string, args ...any) error {
	return t.file.fault(pointer, fmt.Sprintf(problem, args...), hint)
}

// Value is what stands at a JSON Pointer of the description, as rewritten;
// false where there is nothing.
func (d *Document) Value(pointer string) (any, bool) {
	return instance.Get(d.file(d.base).value, pointer)
}
