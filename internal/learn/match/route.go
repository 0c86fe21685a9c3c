package match

import (
	"net/url"
	"slices"
	"strings"

	"obiter/internal/input/oad"
)

// route is the path template of a description with its operations.
type route struct {
	segments   []string
	operations []oad.Operation
}

// routes are the templates of a description, those with more literals first: where two
// fit, the more concrete one is meant (OpenAPI 3.1.1, section 4.8.8.2).
func routes(operations []oad.Operation) []*route {
	var out []*route
	byPath := map[string]*route{}
	for _, o := range operations {
		at := o.Address()
		if byPath[at] == nil {
			byPath[at] = &route{segments: split(at)}
			out = append(out, byPath[at])
		}
		byPath[at].operations = append(byPath[at].operations, o)
	}
	slices.SortStableFunc(out, func(a, b *route) int { return b.literals() - a.literals() })
	return out
}

func split(path string) []string { return strings.Split(strings.Trim(path, "/"), "/") }

func (r *route) literals() int {
	n := 0
	for _, s := range r.segments {
		if !strings.Contains(s, "{") {
			n++
		}
	}
	return n
}

// fits tells the values of the template's parameters in a path that it fits; a parameter
// may be part of a segment, as in report.{format}.
func (r *route) fits(path []string) (map[string]any, bool) {
	if len(path) != len(r.segments) {
		return nil, false
	}
	values := map[string]any{}
	for i, s := range r.segments {
		if !segment(s, path[i], values) {
			return nil, false
		}
	}
	return values, true
}

// segment fits one segment to its template.
func segment(template, text string, values map[string]any) bool {
	for {
		open := strings.IndexByte(template, '{')
		shut := strings.IndexByte(template, '}')
		if open < 0 || shut < open {
			return template == text || template == unescaped(text)
		}
		rest, found := strings.CutPrefix(text, template[:open])
		if !found {
			return false
		}
		name, after := template[open+1:shut], template[shut+1:]
		end := len(rest)
		if next, _, more := strings.Cut(after, "{"); after != "" {
			if more {
				end = strings.Index(rest, next)
			} else if end = len(rest) - len(next); end >= 0 && rest[end:] != next {
				return false
			}
			if end < 0 {
				return false
			}
		}
		if end == 0 {
			return false
		}
		values[name] = unescaped(rest[:end])
		template, text = after, rest[end:]
		if template == "" {
			return text == ""
		}
	}
}

func unescaped(text string) string {
	if out, err := url.PathUnescape(text); err == nil {
		return out
	}
	return text
}

// bases are the paths that those of a description may follow.
func bases(servers ...string) []string {
	out := []string{""}
	for _, s := range servers {
		if u, err := url.Parse(s); err == nil {
			if p := strings.TrimRight(u.EscapedPath(), "/"); !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
	}
	slices.SortFunc(out, func(a, b string) int { return len(b) - len(a) })
	return out
}
