// Package oad reads OpenAPI descriptions: 3.0, 3.1 and 3.2, YAML or JSON, with
// $ref inside the document and to other files. It gives operations in the order
// of the document, each with its parameters, bodies and documented answers, and
// schema documents in one dialect, JSON Schema 2020-12, whatever the version.
//
// It refuses OpenAPI 2.0, and anything over http (nothing is fetched). What it
// cannot use costs the operations that use it, each with its reason in Skip.
package oad

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/dialect"
	"obiter/internal/input/document"
)

// Document is a description that was read. It is safe for concurrent use.
type Document struct {
	*document.Files
	Title      string
	Version    string // of the described API
	OpenAPI    string // the version of the specification, such as 3.1.0
	Servers    []string
	Operations []Operation
	Warnings   []string // what was read differently than it is written, with its place
	// Together are the places of allOf whose members are closed one against the other,
	// and read as closed together.
	Together []document.Location

	references []dialect.Reference
	anchored   []document.Location
}

// Open reads the description in a file. Every error is a *document.Error.
func Open(name string) (*Document, error) {
	f, err := document.Open(name)
	if err != nil {
		return nil, err
	}
	return from(f)
}

// Read reads a description from src. The name serves messages, and references
// to other files are read relative to it. Every error is a *document.Error.
func Read(name string, src []byte) (*Document, error) {
	f, err := document.Read(name, src)
	if err != nil {
		return nil, err
	}
	return from(f)
}

func from(main *document.File) (*Document, error) {
	top, ok := main.Value.(map[string]any)
	if !ok {
		return nil, main.Fail("", "an OpenAPI document begins with a line such as openapi: 3.1.0", "the document is not an object")
	}
	version, err := checkVersion(main, top)
	if err != nil {
		return nil, err
	}
	d := &Document{OpenAPI: version}
	self, _ := top["$self"].(string) // OpenAPI 3.2.0, section 4.1.2.2.1
	d.Files = document.NewFiles(main, self, func(files *document.Files, address string, f *document.File) {
		done := dialect.Rewrite(files, address, f, strings.HasPrefix(version, "3.0"))
		if files == d.Files || d.Files == nil { // what is read late joins when it is too late for these
			d.references, d.anchored = append(d.references, done.References...), append(d.anchored, done.Anchored...)
			d.Together = append(d.Together, done.Together...)
		}
	})
	info, _ := top["info"].(map[string]any)
	d.Title, _ = info["title"].(string)
	d.Version = scalar(info["version"])
	d.Servers = servers(top["servers"])
	if err := d.checkChains(main); err != nil {
		return nil, err
	}
	d.readOperations(top)
	d.warnOfReferences()
	d.Complete()
	return d, nil
}

// maxChain bounds how many references may lead to one another in a row: compiling takes as deep a
// stack, and time that grows with the square.
const maxChain = 1000

// checkChains refuses a document in which more references than that lead to one another.
func (d *Document) checkChains(main *document.File) error {
	next := map[string]string{}
	for _, r := range d.references {
		if to, local := strings.CutPrefix(r.Ref, "#"); local && r.At.File == d.Main {
			next[r.At.Pointer] = to
		}
	}
	if len(next) <= maxChain {
		return nil
	}
	length := map[string]int{}
	for at := range next {
		var way []string
		for p, is := at, true; is && length[p] == 0 && len(way) <= maxChain+1; p, is = next[p], next[p] != "" {
			way = append(way, p)
			length[p] = -1 // on the way
		}
		after := 0
		if to := next[way[len(way)-1]]; length[to] > 0 {
			after = length[to]
		}
		for i := len(way) - 1; i >= 0; i-- {
			after++
			length[way[i]] = after
		}
		if after > maxChain {
			return main.Fail(at, "let it refer to what is meant at once", "more than %d references lead to one another from here on", maxChain)
		}
	}
	return nil
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

func checkVersion(f *document.File, top map[string]any) (string, error) {
	const hint = "an OpenAPI document begins with a line such as openapi: 3.1.0"
	if v, has := top["swagger"]; has {
		return "", f.Fail("/swagger", "convert it to OpenAPI 3 first", "this is an OpenAPI %s document; 3.0 and later are supported", scalar(v))
	}
	v, has := top["openapi"]
	if !has {
		return "", f.Fail("", hint, "there is no openapi member, so this is not an OpenAPI document")
	}
	version := scalar(v)
	if !slices.ContainsFunc([]string{"3.0", "3.1", "3.2"}, func(p string) bool { return strings.HasPrefix(version, p) }) {
		return "", f.Fail("/openapi", "3.0, 3.1 and 3.2 are supported", "unknown OpenAPI version %q", version)
	}
	return version, nil
}

// warnOfReferences warns of references that lead to nothing: the operations that
// use them are left out.
func (d *Document) warnOfReferences() {
	var dangling []*document.Error
	for i := 0; i < len(d.references); i++ { // following one may bring more files
		r := d.references[i]
		t, err := d.Target(r.At, r.Ref)
		if err == nil {
			if r.Based || !strings.HasPrefix(t.Pointer, "/") && t.Pointer != "" {
				continue // a base of its own, or an anchor: the schema compiler knows those
			}
			err = d.Leads(t)
		}
		if err != nil {
			dangling = append(dangling, d.Dangling(r.At, r.Ref, err))
		}
	}
	if len(dangling) == 0 {
		return
	}
	sort.SliceStable(dangling, func(i, j int) bool {
		return dangling[i].File == dangling[j].File && dangling[i].Line < dangling[j].Line
	})
	text := dangling[0].Error()
	if more := len(dangling) - 1; more > 0 {
		text += fmt.Sprintf(" (and %d more such references)", more)
	}
	d.Warnings = append(d.Warnings, text)
}

// Anchored are the addresses of schemas that others may refer to by an $id or an
// anchor: a compiler of schemas has to know them first.
func (d *Document) Anchored() []string {
	var out []string
	for _, at := range d.anchored {
		out = append(out, at.URL())
	}
	return out
}

// Referrer is the place of a $ref in a schema that leads to an address, for
// messages; "" where none does.
func (d *Document) Referrer(address string) string {
	for _, r := range d.references {
		if t, err := d.Target(r.At, r.Ref); err == nil && t.URL() == address {
			return d.Place(r.At.Under("$ref"))
		}
	}
	return ""
}

// At is the value at a location, references followed; false if there is none.
func (d *Document) At(loc document.Location) (any, bool) {
	_, v, err := d.Resolve(loc)
	return v, err == nil
}

// Value is what is at a JSON Pointer of the main file, as rewritten; false where
// there is nothing.
func (d *Document) Value(pointer string) (any, bool) {
	return instance.Get(d.File(d.Main).Value, pointer)
}

// FileOf is the file of a location with its places.
func (d *Document) FileOf(loc document.Location) *document.File {
	if f := d.File(loc.File); f != nil {
		return f
	}
	return d.File(d.Main)
}
