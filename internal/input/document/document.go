// Package document reads YAML and JSON files as JSON values that know their
// places: the line and column of everything in them, and the order of members.
// It follows references between files. Nothing is fetched from the network.
//
// It refuses members that appear twice, nesting and aliases without end, and
// files that are too large, each with its place.
package document

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// MaxBytes is the size of the largest file read.
const MaxBytes = 256 << 20

// maxDepth bounds nesting, so that hostile documents cannot exhaust the stack.
const maxDepth = 400

// maxValues bounds what the aliases of a document come to when each is written out.
const maxValues = 20_000_000

// Error is something wrong in a file, with its place and what to do.
type Error struct {
	File         string
	Line, Column int // 0: unknown
	Problem      string
	Hint         string // what to do; may be empty
}

func (e *Error) Error() string {
	place := e.File
	if e.Line > 0 {
		place += fmt.Sprintf(":%d", e.Line)
		if e.Column > 0 {
			place += fmt.Sprintf(":%d", e.Column)
		}
	}
	return place + ": " + e.Problem
}

// File is one document: a JSON value, with the places of what it holds.
type File struct {
	Name  string // as the user wrote it
	Value any    // of maps, lists, texts, json.Number, booleans and nil
	// Aliased says that one value may be at several places, as aliases of YAML have it.
	// Small objects without a $ref may be so in any file: what changes one is to change a
	// copy.
	Aliased bool
	sum     func() [sha256.Size]byte // waits for it
	top     place
	order   map[uintptr][]string // of objects under "properties": names in the order of the file
}

// Open reads a file. Every error is an *Error.
func Open(name string) (*File, error) {
	src, err := readFile(name)
	if err != nil {
		return nil, err
	}
	return Read(name, src)
}

// Read reads a document from src. The name serves messages; one that ends in
// .json promises JSON. Every error is an *Error.
func Read(name string, src []byte) (*File, error) { return ReadWithin(name, src, maxValues) }

// ReadWithin is Read for a document that may hold so many values when its aliases are
// written out.
func ReadWithin(name string, src []byte, most int) (*File, error) {
	f, err := readEither(name, src, most)
	if err == nil {
		f.sum = sync.OnceValue(func() [sha256.Size]byte { return sha256.Sum256(src) })
		go f.sum() // on the side: it takes a tenth of the time
	}
	return f, err
}

func readEither(name string, src []byte, most int) (*File, error) {
	src = bytes.TrimPrefix(src, []byte("\xef\xbb\xbf"))
	trimmed := bytes.TrimSpace(src)
	if len(trimmed) == 0 {
		return nil, &Error{File: name, Line: 1, Problem: "the file is empty", Hint: "it should hold YAML or JSON"}
	}
	promised := strings.HasSuffix(strings.ToLower(name), ".json")
	if promised || trimmed[0] == '{' {
		f, err := readJSON(name, src)
		if err == nil || promised {
			return f, err
		}
	}
	return readYAML(name, src, most)
}

func readFile(name string) ([]byte, error) {
	fail := func(problem, hint string) ([]byte, error) {
		return nil, &Error{File: name, Problem: problem, Hint: hint}
	}
	info, err := os.Stat(name)
	switch {
	case err != nil && strings.Contains(name, "://"):
		return fail("is an address, and nothing is fetched from the network", "save the document to a file first")
	case errors.Is(err, os.ErrNotExist):
		return fail("there is no such file", "name a file that exists, for example: obiter survey openapi.yaml")
	case err != nil:
		return fail("cannot be read: "+cause(err), "")
	case info.IsDir():
		return fail("this is a folder, not a file", "name the file in it, for example "+filepath.Join(name, "openapi.yaml"))
	case !info.Mode().IsRegular():
		return fail("this is not a regular file", "save its contents to a file first")
	case info.Size() > MaxBytes:
		return fail(fmt.Sprintf("is larger than %d MiB", MaxBytes>>20), "split the document, or take out its examples")
	}
	f, err := os.Open(name)
	if err != nil {
		return fail("cannot be read: "+cause(err), "check its permissions")
	}
	defer f.Close()
	src, err := io.ReadAll(io.LimitReader(f, MaxBytes+1))
	if err != nil {
		return fail("cannot be read: "+cause(err), "")
	}
	return src, nil
}

// cause is the reason of a file error, without the path that is named anyway.
func cause(err error) string {
	var pe *os.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

// Digest tells one version of the file from another, in twelve hexadecimal digits.
func (f *File) Digest() string {
	sum := f.sum()
	return hex.EncodeToString(sum[:6])
}

// Names are the members of the object at a JSON Pointer, in the order of the file.
func (f *File) Names(pointer string) []string {
	if p, there := f.find(pointer); there && p.inside != nil {
		return slices.Clone(p.inside.names)
	}
	return nil
}

// At is the line and column of what is at a JSON Pointer, of a member where its
// name is; of the nearest thing above where there is nothing.
func (f *File) At(pointer string) (line, column int) {
	p := f.at(pointer)
	return int(p.line), int(p.column)
}

// Fail is an error at the place of a JSON Pointer.
func (f *File) Fail(pointer, hint, problem string, args ...any) *Error {
	line, column := f.At(pointer)
	return &Error{File: f.Name, Line: line, Column: column, Problem: fmt.Sprintf(problem, args...), Hint: hint}
}
