package oad

import (
	"slices"
	"strings"
)

// Paths are the paths of a description, to be looked up.
type Paths struct {
	byKind  map[pathKind][][]string
	records map[string]bool // paths that have records of their own below them: /vessels, if there is a /vessels/{vessel_id}
}

// pathKind parts paths that cannot overlap.
type pathKind struct {
	method   string
	segments int
}

// NewPaths are the paths of some operations.
func NewPaths(all []Operation) Paths {
	out := Paths{map[pathKind][][]string{}, map[string]bool{}}
	for _, o := range all {
		path := strings.Split(o.Address(), "/")
		kind := pathKind{o.Method, len(path)}
		out.byKind[kind] = append(out.byKind[kind], path)
		if i := strings.LastIndexByte(o.Path, '/'); i > 0 && strings.HasPrefix(o.Path[i+1:], "{") {
			out.records[o.Path[:i]] = true
		}
	}
	return out
}

// Describe reports whether a method is described on a path, or on another template that the same
// address would match.
func (p Paths) Describe(method, path string) bool {
	here := strings.Split(path, "/")
	return slices.ContainsFunc(p.byKind[pathKind{method, len(here)}], func(path []string) bool { return overlap(path, here) })
}

// Match reports whether one address may be of both templates.
func Match(x, y string) bool { return overlap(strings.Split(x, "/"), strings.Split(y, "/")) }

// overlap is Match of the segments.
func overlap(x, y []string) bool {
	if len(x) != len(y) {
		return false
	}
	for i := range x {
		if x[i] != y[i] && !strings.Contains(x[i], "{") && !strings.Contains(y[i], "{") {
			return false
		}
	}
	return true
}

// Collection is the collection whose records a path is about: of /vessels/{id}/position it is
// /vessels.
func (p Paths) Collection(path string) string {
	for {
		for strings.HasSuffix(path, "}") {
			i := strings.LastIndexByte(path, '/')
			if i <= 0 {
				return path
			}
			path = path[:i]
		}
		if p.records[path] {
			return path
		}
		i := strings.LastIndexByte(path, '}')
		if i < 0 {
			return path
		}
		path = path[:i+1]
	}
}

// Collections are those in which the records are that a path names, each in a record of the one
// behind it: /vessels is one, if there is a /vessels/{vessel_id}, and what is below it may be
// others.
func (p Paths) Collections(path string) []string {
	out := []string{p.Collection(path)}
	for {
		last := out[len(out)-1]
		i := strings.LastIndexByte(last, '}')
		if i < 0 {
			return out
		}
		above := p.Collection(last[:i+1])
		if above == last {
			return out
		}
		out = append(out, above)
	}
}

// OnlyReads reports whether the operation's requests change nothing (RFC 9110, section 9.2.1).
func (o Operation) OnlyReads() bool {
	return slices.Contains([]string{"GET", "HEAD", "OPTIONS", "TRACE"}, o.Method)
}

// InPath are the names of the parameters of its path that stand alone between
// slashes, in their order.
func (o Operation) InPath() []string {
	var out []string
	for _, segment := range strings.Split(o.Address(), "/") {
		if strings.HasPrefix(segment, "{") && strings.IndexByte(segment, '}') == len(segment)-1 {
			out = append(out, segment[1:len(segment)-1])
		}
	}
	return out
}

// EndsWith is the name of the parameter that ends its path; "" if none does.
func (o Operation) EndsWith() string {
	path := o.Address()
	open := strings.LastIndexByte(path, '{')
	if open < 0 || !strings.HasSuffix(path, "}") {
		return ""
	}
	return path[open+1 : len(path)-1]
}

// Undescribed is the first parameter of its path that nothing describes; "" if none.
func (o Operation) Undescribed() string {
	path := o.Address()
	for {
		i := strings.IndexByte(path, '{')
		if i < 0 {
			return ""
		}
		j := strings.IndexByte(path[i:], '}')
		if j < 0 {
			return ""
		}
		name := path[i+1 : i+j]
		if !slices.ContainsFunc(o.Parameters, func(p Parameter) bool { return p.In == "path" && p.Name == name }) {
			return name
		}
		path = path[i+j+1:]
	}
}
