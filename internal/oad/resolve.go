package oad

import (
	"fmt"
	"maps"
	"net/url"
	"path/filepath"
	"sort"
	"strings"

	"github.com/pb33f/go-yaml"

	"obiter/internal/instance"
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

// Under is the location of what lies below.
func (l Location) Under(tokens ...string) Location {
	return Location{l.File, instance.Join(l.Pointer, tokens...)}
}

func (d *Document) addFile(address, name string, root *yaml.Node) (*file, error) {
	f, err := convert(name, root)
	if err != nil {
		return nil, err
	}
	(*d.files.Load())[address] = f
	return f, nil
}

// Load is the content of a file that the description refers to, rewritten to
// JSON Schema 2020-12. It serves schema compilers as their loader of URLs.
func (d *Document) Load(address string) (any, error) {
	f, err := d.open(address)
	if err != nil {
		return nil, err
	}
	return f.value, nil
}

// file is one that was read; nil if it was not.
func (d *Document) file(address string) *file { return (*d.files.Load())[address] }

func (d *Document) open(address string) (*file, error) {
	if f := d.file(address); f != nil {
		return f, nil
	}
	if !d.whole {
		return d.read(address)
	}
	// A base of its own ($id) can lead a schema to a file that nothing led to
	// before. It is read beside the others, and joins them when it is complete.
	d.late.Lock()
	defer d.late.Unlock()
	beside := &Document{Name: d.Name, OpenAPI: d.OpenAPI, base: d.base}
	files := maps.Clone(*d.files.Load())
	beside.files.Store(&files)
	f, err := beside.open(address)
	if err == nil {
		d.files.Store(&files)
	}
	return f, err
}

func (d *Document) read(address string) (*file, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "file" {
		return nil, &Error{File: d.Name, Problem: fmt.Sprintf("a $ref leads to %s, and nothing is fetched from the network", address), Hint: "save that document beside the description and refer to the file"}
	}
	name := filepath.FromSlash(u.Path)
	src, err := readFile(name)
	if err != nil {
		return nil, err
	}
	shown := name
	main, _ := url.Parse(d.base)
	if rel, err := filepath.Rel(filepath.Dir(filepath.FromSlash(main.Path)), name); err == nil {
		shown = filepath.Join(filepath.Dir(d.Name), rel)
	}
	root, err := parse(shown, src)
	if err != nil {
		return nil, err
	}
	f, err := d.addFile(address, shown, root)
	if err != nil {
		return nil, err
	}
	d.rewriteFile(address, f)
	return f, nil
}

// Resolve follows $ref from a location until it reaches something that is none.
func (d *Document) Resolve(loc Location) (Location, any, error) {
	for range 64 {
		v, at, err := d.at(loc)
		if err != nil {
			return loc, nil, err
		}
		m, ok := v.(map[string]any)
		if !ok {
			return at, v, nil
		}
		ref, ok := m["$ref"].(string)
		if !ok {
			return at, v, nil
		}
		if loc, err = d.target(at, ref); err != nil {
			return loc, nil, err
		}
	}
	return loc, nil, fmt.Errorf("%s: its $ref leads round in a circle", d.Place(loc))
}

// at is the value at a location, through any $ref met on the way down.
func (d *Document) at(loc Location) (any, Location, error) {
	f, err := d.open(loc.File)
	if err != nil {
		return nil, loc, err
	}
	if v, ok := instance.Get(f.value, loc.Pointer); ok {
		return v, loc, nil
	}
	tokens, err := instance.Split(loc.Pointer)
	if err != nil {
		return nil, loc, err
	}
	for i := range tokens {
		above := Location{loc.File, instance.Join("", tokens[:i]...)}
		v, ok := instance.Get(f.value, above.Pointer)
		if !ok {
			break
		}
		m, _ := v.(map[string]any)
		ref, isRef := m["$ref"].(string)
		if _, plain := m[tokens[i]]; !isRef || plain {
			continue
		}
		t, err := d.target(above, ref)
		if err != nil || t == above {
			break
		}
		return d.at(t.Under(tokens[i:]...))
	}
	return nil, loc, fmt.Errorf("%s: there is nothing at %s", d.Place(loc), instance.Fragment(loc.Pointer))
}

// target is where a $ref that stands at a location points to.
func (d *Document) target(from Location, ref string) (Location, error) {
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

// checkReferences makes sure that every $ref of the main file leads somewhere.
func (d *Document) checkReferences() error {
	main := d.file(d.base)
	refs := d.rewriteFile(d.base, main)
	sort.Slice(refs, func(i, j int) bool { return refs[i].at.Pointer < refs[j].at.Pointer })
	var dangling []*Error
	for _, r := range refs {
		t, err := d.target(r.at, r.ref)
		if err == nil {
			if !strings.HasPrefix(t.Pointer, "/") && t.Pointer != "" {
				continue // an anchor: the schema compiler knows those
			}
			_, _, err = d.at(t)
		}
		if err == nil {
			continue
		}
		problem := fmt.Sprintf("the $ref %q points to nothing", r.ref)
		if u, e := url.Parse(r.ref); e == nil && (u.Scheme != "" || u.Path != "") {
			problem = fmt.Sprintf("the $ref %q cannot be followed: %v", r.ref, err)
		}
		dangling = append(dangling, main.fault(r.at.Under("$ref").Pointer, problem, "correct the reference or add what it names"))
	}
	if len(dangling) == 0 {
		return nil
	}
	sort.SliceStable(dangling, func(i, j int) bool { return dangling[i].Line < dangling[j].Line })
	first := dangling[0]
	if more := len(dangling) - 1; more > 0 {
		first.Problem += fmt.Sprintf(" (and %d more such references)", more)
	}
	return first
}
