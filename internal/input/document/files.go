package document

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"obiter/internal/core/instance"
)

// Location is a place in a description: the URL of a file and a JSON Pointer in it.
type Location struct {
	File    string
	Pointer string
}

// URL is the location as the address of a schema.
func (l Location) URL() string {
	u, err := url.Parse(l.File)
	if err != nil {
		return l.File
	}
	u.Fragment = l.Pointer
	return u.String()
}

// LocationOf is what a URL says that Location.URL wrote.
func LocationOf(address string) Location {
	u, err := url.Parse(address)
	if err != nil {
		return Location{File: address}
	}
	pointer := u.Fragment
	u.Fragment, u.RawFragment = "", ""
	return Location{u.String(), pointer}
}

// Under is the location of what lies below.
func (l Location) Under(tokens ...string) Location {
	return Location{l.File, instance.Join(l.Pointer, tokens...)}
}

// Files are a main document and those that it refers to, by their URLs. It is
// safe for concurrent use once it is complete.
type Files struct {
	Main string // URL of the main file
	Name string // of the main file, as the user wrote it

	prepare func(files *Files, address string, f *File) // done to each file once
	files   atomic.Pointer[map[string]*File]
	late    sync.Mutex    // held while a file is read that reading did not come upon
	digest  func() string // nil: they are not complete
	whole   bool          // reading is done: the files are shared from now on
}

// NewFiles begins with a main file, and another URL by which it calls itself, if
// any. Prepare is done to it, and to each other file when it is read: it may
// change values in place.
func NewFiles(main *File, self string, prepare func(files *Files, address string, f *File)) *Files {
	abs, err := filepath.Abs(main.Name)
	if err != nil {
		abs = main.Name
	}
	d := &Files{Name: main.Name, Main: (&url.URL{Scheme: "file", Path: filepath.ToSlash(abs)}).String(), prepare: prepare}
	files := map[string]*File{d.Main: main}
	if u, err := url.Parse(self); err == nil && u.IsAbs() {
		u.Fragment = ""
		files[u.String()] = main
	}
	d.files.Store(&files)
	prepare(d, d.Main, main)
	return d
}

// Complete says that reading is done. What is read later is kept apart until it
// is complete itself.
func (d *Files) Complete() {
	files := *d.files.Load()
	d.whole, d.digest = true, sync.OnceValue(func() string { return digest(files) })
}

// Order is the names of an object found under "properties", in the order of its
// file; nil for any other.
func (d *Files) Order(properties map[string]any) []string {
	key := reflect.ValueOf(properties).Pointer()
	for _, f := range *d.files.Load() {
		if names, ok := f.order[key]; ok {
			return names
		}
	}
	return nil
}

// Place is the file, line and column of a location, for messages: "openapi.yaml:12:3".
func (d *Files) Place(loc Location) string {
	f := d.File(loc.File)
	if f == nil {
		return d.Name
	}
	line, column := f.At(loc.Pointer)
	return fmt.Sprintf("%s:%d:%d", f.Name, line, column)
}

// Digest tells one version of the files from another, in twelve hexadecimal digits; ""
// before they are complete.
func (d *Files) Digest() string {
	if d.digest == nil {
		return ""
	}
	return d.digest()
}

func digest(files map[string]*File) string {
	h := sha256.New()
	for _, address := range slices.Sorted(maps.Keys(files)) {
		sum := files[address].sum()
		h.Write(sum[:])
	}
	return hex.EncodeToString(h.Sum(nil)[:6])
}

// Load is the value of a file that others refer to. It serves schema compilers as
// their loader of URLs.
func (d *Files) Load(address string) (any, error) {
	f, err := d.open(address)
	if err != nil {
		return nil, err
	}
	return f.Value, nil
}

// File is one that was read; nil if it was not.
func (d *Files) File(address string) *File { return (*d.files.Load())[address] }

func (d *Files) open(address string) (*File, error) {
	if f := d.File(address); f != nil {
		return f, nil
	}
	if !d.whole {
		return d.read(address)
	}
	// A base of its own ($id) can lead a schema to a file that nothing led to
	// before. It is read apart from the others, and joins them when it is complete.
	d.late.Lock()
	defer d.late.Unlock()
	apart := &Files{Name: d.Name, Main: d.Main, prepare: d.prepare}
	files := maps.Clone(*d.files.Load())
	apart.files.Store(&files)
	f, err := apart.open(address)
	if err == nil {
		d.files.Store(&files)
	}
	return f, err
}

func (d *Files) read(address string) (*File, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "file" {
		return nil, &Error{File: d.Name, Problem: fmt.Sprintf("a $ref leads to %s, and nothing is fetched from the network", address), Hint: "save that document next to the description and refer to the file"}
	}
	name := filepath.FromSlash(u.Path)
	shown := name
	main, _ := url.Parse(d.Main)
	if rel, err := filepath.Rel(filepath.Dir(filepath.FromSlash(main.Path)), name); err == nil {
		shown = filepath.Join(filepath.Dir(d.Name), rel)
	}
	f, err := Open(name)
	var e *Error
	if errors.As(err, &e) {
		e.File = shown
	}
	if err != nil {
		return nil, err
	}
	f.Name = shown
	(*d.files.Load())[address] = f
	d.prepare(d, address, f)
	return f, nil
}

// Resolve follows $ref from a location until it reaches something else.
// The error of a reference to nothing is an *Error at the reference.
func (d *Files) Resolve(loc Location) (Location, any, error) {
	var from Location
	ref := ""
	for range 64 {
		v, at, err := d.at(loc)
		if err != nil {
			if ref != "" {
				err = d.Dangling(from, ref, err)
			}
			return loc, nil, err
		}
		m, ok := v.(map[string]any)
		if !ok {
			return at, v, nil
		}
		if ref, ok = m["$ref"].(string); !ok {
			return at, v, nil
		}
		from = at
		if loc, err = d.Target(at, ref); err != nil {
			return loc, nil, err
		}
	}
	return loc, nil, fmt.Errorf("%s: its $ref leads round in a circle", d.Place(loc))
}

// Dangling is the error for a $ref at a location that leads to nothing, because
// of err.
func (d *Files) Dangling(from Location, ref string, err error) *Error {
	f := d.File(from.File)
	if f == nil {
		f = d.File(d.Main)
	}
	if u, e := url.Parse(ref); e == nil && (u.Scheme != "" || u.Path != "") {
		return f.Fail(instance.Join(from.Pointer, "$ref"), "correct the reference or add what it names", "the $ref %q cannot be followed: %v", ref, err)
	}
	return f.Fail(instance.Join(from.Pointer, "$ref"), "correct the reference or add what it names", "the $ref %q points to nothing", ref)
}

// Leads reports whether there is something at a location; the error says why not.
func (d *Files) Leads(loc Location) error {
	_, _, err := d.at(loc)
	return err
}

// at is the value at a location, through any $ref met on the way down.
func (d *Files) at(loc Location) (any, Location, error) {
	f, err := d.open(loc.File)
	if err != nil {
		return nil, loc, err
	}
	if v, ok := instance.Get(f.Value, loc.Pointer); ok {
		return v, loc, nil
	}
	tokens, err := instance.Split(loc.Pointer)
	if err != nil {
		return nil, loc, err
	}
	for i := range tokens {
		above := Location{loc.File, instance.Join("", tokens[:i]...)}
		v, ok := instance.Get(f.Value, above.Pointer)
		if !ok {
			break
		}
		m, _ := v.(map[string]any)
		ref, isRef := m["$ref"].(string)
		if _, plain := m[tokens[i]]; !isRef || plain {
			continue
		}
		t, err := d.Target(above, ref)
		if err != nil || t == above {
			break
		}
		return d.at(t.Under(tokens[i:]...))
	}
	return nil, loc, fmt.Errorf("%s: there is nothing at %s", d.Place(loc), instance.Fragment(loc.Pointer))
}

// Target is where a $ref at a location points to.
func (d *Files) Target(from Location, ref string) (Location, error) {
	if pointer, inside := strings.CutPrefix(ref, "#"); inside && !strings.Contains(pointer, "%") {
		return Location{from.File, pointer}, nil
	}
	base, err := url.Parse(from.File)
	if err != nil {
		return from, err
	}
	u, err := base.Parse(ref)
	if err != nil {
		return from, fmt.Errorf("%s: the $ref %q is not a URI reference", d.Place(from), ref)
	}
	pointer := u.Fragment
	u.Fragment, u.RawFragment = "", ""
	return Location{u.String(), pointer}, nil
}
