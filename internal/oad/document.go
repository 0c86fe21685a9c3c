// Package oad reads OpenAPI descriptions: 3.0, 3.1 and 3.2, YAML or JSON, with
// $ref inside the document and to other files. It gives operations in the order
// of the document, each with its parameters, bodies and documented answers, and
// schema documents in one dialect, JSON Schema 2020-12, whatever the version.
//
// It refuses OpenAPI 2.0, anything over http (nothing is fetched), references
// to nothing, and documents nested or aliased without end. An operation that
// cannot be used stays in the list with its reason in Skip.
package oad

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/pb33f/go-yaml"
	"github.com/pb33f/libopenapi/datamodel/low/v3"
)

// MaxBytes is the size of the largest file read.
const MaxBytes = 256 << 20

// Document is a description that was read. It is safe for concurrent use.
type Document struct {
	Name       string // as the user wrote it
	Title      string
	Version    string // of the described API
	OpenAPI    string // the version of the specification, such as 3.1.0
	Servers    []string
	Operations []Operation
	Warnings   []string // what was read differently than it stands, with its place

	base  string // URL of the main file
	files atomic.Pointer[map[string]*file]
	late  sync.Mutex // held while a file is read that reading did not come upon
	whole bool       // reading is done: the files are shared from now on
}

// Error is something wrong in a description, with its place and what to do.
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

// Open reads the description in a file. Every error is an *Error.
func Open(name string) (*Document, error) {
	src, err := readFile(name)
	if err != nil {
		return nil, err
	}
	return Read(name, src)
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
		return fail("there is no such file", "name the OpenAPI document, for example: obiter survey openapi.yaml")
	case err != nil:
		return fail("cannot be read: "+cause(err), "")
	case info.IsDir():
		return fail("this is a folder, not an OpenAPI document", "name the file in it, for example "+filepath.Join(name, "openapi.yaml"))
	case info.Size() > MaxBytes:
		return fail(fmt.Sprintf("is larger than %d MiB", MaxBytes>>20), "split the description, or take out its examples")
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

// Read reads a description from src. The name serves messages, and references
// to other files are read relative to it. Every error is an *Error.
func Read(name string, src []byte) (*Document, error) {
	abs, err := filepath.Abs(name)
	if err != nil {
		abs = name
	}
	d := &Document{Name: name}
	d.files.Store(&map[string]*file{})
	d.base = (&url.URL{Scheme: "file", Path: filepath.ToSlash(abs)}).String()

	src = bytes.TrimPrefix(src, []byte("\xef\xbb\xbf"))
	root, build, err := parseMain(d, src, abs)
	if err != nil {
		return nil, err
	}
	main, err := d.addFile(d.base, name, root)
	if err != nil {
		return nil, err
	}
	modelled := meanwhile(build) // meanwhile the values are gone through
	if err := d.checkReferences(); err != nil {
		return nil, err
	}
	top, ok := main.value.(map[string]any)
	if !ok {
		return nil, &Error{File: name, Line: 1, Problem: "the document is not an object", Hint: "it should begin with openapi:"}
	}
	info, _ := top["info"].(map[string]any)
	d.Title, _ = info["title"].(string)
	d.Version = scalar(info["version"])
	d.Servers = servers(top["servers"])
	if err := readOperations(d, modelled); err != nil {
		return nil, err
	}
	d.whole = true
	return d, nil
}

// parseMain reads the main document through the library, whose reading of JSON
// is many times faster than YAML's. What it refuses is read again, for a message
// with a place. Like all that names the library's types it is no method: a test
// of the rooms tells why.
func parseMain(d *Document, src []byte, abs string) (*yaml.Node, func() (*v3.Document, error), error) {
	if len(bytes.TrimSpace(src)) > 0 && strings.HasSuffix(strings.ToLower(d.Name), ".json") { // the library reads past some mistakes
		if err := checkJSON(d.Name, src); err != nil {
			return nil, nil, err
		}
	}
	root, build, err := parseOpenAPI(src, abs)
	if err == nil && root != nil {
		return root, build, d.checkVersion(root)
	}
	root, e := parse(d.Name, src)
	if e != nil {
		return nil, nil, e
	}
	if e := d.checkVersion(root); e != nil {
		return nil, nil, e
	}
	return nil, nil, &Error{File: d.Name, Problem: "not readable as OpenAPI: " + firstLine(fmt.Sprint(err))}
}

func scalar(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case json.Number:
		return v.String()
	}
	return ""
}

// parse reads YAML or JSON into a node tree with lines and columns.
func parse(name string, src []byte) (*yaml.Node, error) {
	if len(bytes.TrimSpace(src)) == 0 {
		return nil, &Error{File: name, Line: 1, Problem: "the file is empty", Hint: "it should hold an OpenAPI document"}
	}
	if strings.HasSuffix(strings.ToLower(name), ".json") {
		if err := checkJSON(name, src); err != nil {
			return nil, err
		}
	}
	var root yaml.Node
	if err := decodeYAML(src, &root); err != nil {
		line, column, problem := yamlProblem(err)
		return nil, &Error{File: name, Line: line, Column: column, Problem: "not readable as YAML: " + problem, Hint: "mend the syntax there, or a little above"}
	}
	return &root, nil
}

// decodeYAML shields from panics of the YAML reader on hostile input.
func decodeYAML(src []byte, into *yaml.Node) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%v", r)
		}
	}()
	return yaml.Unmarshal(src, into)
}

// checkJSON reports the place of a JSON syntax error.
func checkJSON(name string, src []byte) error {
	if json.Valid(src) {
		return nil
	}
	var syntax *json.SyntaxError
	var any json.RawMessage
	if err := json.Unmarshal(src, &any); !errors.As(err, &syntax) {
		return &Error{File: name, Problem: fmt.Sprintf("not readable as JSON: %v", err)}
	}
	line, column := lineOf(src, int(syntax.Offset))
	return &Error{File: name, Line: line, Column: column, Problem: "not readable as JSON: " + syntax.Error(), Hint: "mend the syntax there"}
}

func lineOf(src []byte, offset int) (line, column int) {
	before := src[:min(max(offset-1, 0), len(src))]
	return bytes.Count(before, []byte("\n")) + 1, len(before) - bytes.LastIndexByte(before, '\n')
}

var yamlPlace = regexp.MustCompile(`^go-yaml load error (?:in \w+ )?(?:\(([^)]*)\) )?at (?:L(\d+)\.C(\d+)|<unknown position>): `)

// yamlProblem takes the place out of the YAML reader's message.
func yamlProblem(err error) (line, column int, problem string) {
	text, _, _ := strings.Cut(err.Error(), "\n")
	m := yamlPlace.FindStringSubmatch(text)
	if m == nil {
		return 0, 0, strings.TrimPrefix(text, "yaml: ")
	}
	line, _ = strconv.Atoi(m[2])
	column, _ = strconv.Atoi(m[3])
	text = text[len(m[0]):]
	if m[1] != "" {
		text = m[1] + ": " + text
	}
	return line, column, text
}

func (d *Document) checkVersion(root *yaml.Node) error {
	top := root
	if top.Kind == yaml.DocumentNode && len(top.Content) > 0 {
		top = top.Content[0]
	}
	fail := func(n *yaml.Node, problem, hint string) error {
		return &Error{File: d.Name, Line: n.Line, Column: n.Column, Problem: problem, Hint: hint}
	}
	if top.Kind != yaml.MappingNode {
		return fail(top, "the document is not an object", "an OpenAPI document begins with a line such as openapi: 3.1.0")
	}
	for i := 0; i+1 < len(top.Content); i += 2 {
		k, v := top.Content[i], top.Content[i+1]
		switch k.Value {
		case "swagger":
			return fail(k, fmt.Sprintf("this is an OpenAPI %s document; 3.0 and later are read", v.Value), "convert it to OpenAPI 3 first")
		case "openapi":
			if !strings.HasPrefix(v.Value, "3.0") && !strings.HasPrefix(v.Value, "3.1") && !strings.HasPrefix(v.Value, "3.2") {
				return fail(v, fmt.Sprintf("OpenAPI version %q is not known", v.Value), "3.0, 3.1 and 3.2 are read")
			}
			d.OpenAPI = v.Value
			return nil
		}
	}
	return fail(top, "there is no openapi member, so this is no OpenAPI document", "an OpenAPI document begins with a line such as openapi: 3.1.0")
}

// Place is the file, line and column of a location, for messages: "openapi.yaml:12:3".
func (d *Document) Place(loc Location) string {
	f := d.file(loc.File)
	if f == nil {
		return d.Name
	}
	p := f.at(loc.Pointer)
	return fmt.Sprintf("%s:%d:%d", f.name, p.line, p.column)
}
