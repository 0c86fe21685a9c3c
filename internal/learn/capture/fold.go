package capture

import (
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// Templates folds the paths of many requests into templates: what stands for a record is
// a parameter. A segment stands for one where it looks like a number, a UUID or another
// generated name; or where a collection has many of which the same is done to each.
type Templates struct {
	root *segment
}

type segment struct {
	literals  map[string]*segment
	order     []string
	parameter *segment
	named     string          // what the parameter is called
	methods   map[string]bool // accepted at this path
	like      string          // the text of one that stands for a record
}

// NewTemplates makes one without paths.
func NewTemplates() *Templates { return &Templates{root: newSegment()} }

func newSegment() *segment {
	return &segment{literals: map[string]*segment{}, methods: map[string]bool{}}
}

// maxPaths bounds the literals that are kept of one place.
const maxPaths = 5_000

// See takes in the path of a request that was accepted.
func (t *Templates) See(method, path string) {
	at, before := t.root, ""
	for _, s := range segments(path) {
		at = at.child(s, before)
		before = s
		if at == nil {
			return
		}
	}
	at.methods[method] = true
}

func (s *segment) child(text, before string) *segment {
	if isRecord(text) {
		if s.parameter == nil {
			s.parameter, s.named, s.like = newSegment(), nameFor(before), text
		}
		return s.parameter
	}
	if s.literals[text] == nil {
		if len(s.literals) == maxPaths {
			return nil
		}
		s.literals[text] = newSegment()
		s.order = append(s.order, text)
	}
	return s.literals[text]
}

// varied is how many names of one collection have to be used alike for them to be taken
// for records.
const varied = 3

// Settle folds what is seen to vary.
func (t *Templates) Settle() { t.root.settle("") }

func (s *segment) settle(before string) {
	groups := map[string][]string{}
	for _, text := range s.order {
		if key := s.literals[text].signature(); key != "" && !strings.HasPrefix(text, "{") {
			groups[key] = append(groups[key], text)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(groups)) {
		names := groups[key]
		ids := s.parameter != nil && s.parameter.signature() == key
		if before == "" || !ids && (len(names) < varied || !s.isCollection()) {
			continue
		}
		if s.parameter == nil {
			s.parameter, s.named, s.like = newSegment(), nameFor(before), names[0]
		}
		for _, name := range names {
			s.parameter.merge(s.literals[name])
			delete(s.literals, name)
		}
		s.order = slices.DeleteFunc(s.order, func(name string) bool { return slices.Contains(names, name) })
	}
	for _, name := range s.order {
		s.literals[name].settle(name)
	}
	if s.parameter != nil {
		s.parameter.settle("")
	}
}

// isCollection reports whether a place lists or makes records.
func (s *segment) isCollection() bool { return s.methods["GET"] || s.methods["POST"] }

// signature is what is done at a place; empty where that does not show a record: only to
// read it, or to do what names do.
func (s *segment) signature() string {
	if len(s.literals) > 0 || s.parameter != nil {
		return ""
	}
	var out []string
	for m := range s.methods {
		out = append(out, m)
	}
	slices.Sort(out)
	if !s.methods["PUT"] && !s.methods["PATCH"] && !s.methods["DELETE"] && !s.methods["GET"] {
		return ""
	}
	return strings.Join(out, " ")
}

func (s *segment) merge(other *segment) {
	for m := range other.methods {
		s.methods[m] = true
	}
	for _, name := range other.order {
		if have := s.literals[name]; have != nil {
			have.merge(other.literals[name])
			continue
		}
		s.literals[name] = other.literals[name]
		s.order = append(s.order, name)
	}
	if other.parameter != nil {
		if s.parameter == nil {
			s.parameter, s.named, s.like = other.parameter, other.named, other.like
		} else {
			s.parameter.merge(other.parameter)
		}
	}
}

// Of is the template of a path, with the values of its parameters in their order; false
// where no request that was accepted has one like it.
func (t *Templates) Of(path string) (template string, values []string, known bool) {
	at := t.root
	used := map[string]bool{}
	var b strings.Builder
	for _, s := range segments(path) {
		next := at.literals[s]
		switch {
		case next != nil && !isRecord(s):
			b.WriteString("/" + s)
		case at.parameter != nil:
			name := at.named
			for used[name] {
				name += "_2"
			}
			used[name] = true
			next = at.parameter
			b.WriteString("/{" + name + "}")
			values = append(values, unescaped(s))
		default:
			return "", nil, false
		}
		at = next
	}
	if len(at.methods) == 0 {
		return "", nil, false
	}
	if b.Len() == 0 {
		return "/", nil, true
	}
	return b.String(), values, true
}

// Accepts reports whether a method was accepted at a path.
func (t *Templates) Accepts(method, path string) bool {
	at := t.root
	for _, s := range segments(path) {
		next := at.literals[s]
		if next == nil {
			next = at.parameter
		}
		if next == nil {
			return false
		}
		at = next
	}
	return at.methods[method]
}

func segments(path string) []string {
	path = strings.Trim(path, "/")
	if path == "" {
		return nil
	}
	return strings.Split(path, "/")
}

func unescaped(text string) string {
	if out, err := url.PathUnescape(text); err == nil {
		return out
	}
	return text
}

var (
	number    = regexp.MustCompile(`^-?[0-9]+$`)
	uuid      = regexp.MustCompile(`^[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}$`)
	version   = regexp.MustCompile(`^v[0-9]+([.][0-9]+)*([a-z]+[0-9]*)?$`)
	generated = regexp.MustCompile(`[0-9]`)
	word      = regexp.MustCompile(`^[a-z]+[0-9]?([_.-][a-z]+[0-9]?)*$`)
)

// isRecord reports whether a segment looks like the name of a record, and not like a
// word: v2 and oauth2 are words.
func isRecord(text string) bool {
	text = unescaped(text)
	switch {
	case number.MatchString(text), uuid.MatchString(text):
		return true
	case version.MatchString(text), word.MatchString(text):
		return false
	}
	return generated.MatchString(text) && !strings.ContainsAny(text, "{}")
}

// nameFor is what the parameter behind a collection is called: vessel_id behind vessels.
func nameFor(collection string) string {
	name := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, Singular(unescaped(collection)))
	if strings.Trim(name, "_") == "" {
		return "id"
	}
	return name + "_id"
}

// Singular is one of what a plural names, as far as English is regular.
func Singular(word string) string {
	switch {
	case strings.HasSuffix(word, "ies") && len(word) > 4:
		return strings.TrimSuffix(word, "ies") + "y"
	case strings.HasSuffix(word, "sses") || strings.HasSuffix(word, "xes") || strings.HasSuffix(word, "ches") || strings.HasSuffix(word, "shes"):
		return strings.TrimSuffix(word, "es")
	case strings.HasSuffix(word, "s") && !strings.HasSuffix(word, "ss") && !strings.HasSuffix(word, "us"):
		return strings.TrimSuffix(word, "s")
	}
	return word
}
