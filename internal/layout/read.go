package layout

import (
	"strconv"
	"strings"
	"unicode"

	"obiter/internal/instance"
)

// Named is one field error read out of an answer.
type Named struct {
	Name      Name
	Message   string
	At        string // JSON Pointer into the answer
	InRequest bool   // the name is that of a field of the request
}

// Reading is what an answer says about fields.
type Reading struct {
	Fields []Named
	Where  string // the place as a pattern, such as /errors/*/pointer; "" where none
}

// Bounds of what is looked through in one answer.
const (
	maxNodes   = 5000
	maxNesting = 10
)

// standard are the members of a problem document that name no field.
var standard = map[string]bool{"type": true, "title": true, "status": true, "detail": true, "instance": true}

// envelope are members that also speak of an answer as a whole; those that are
// true are seldom fields of a request.
var envelope = map[string]bool{"message": true, "error": true, "code": true, "status": true, "statusCode": true, "timestamp": true,
	"id": false, "name": false, "type": false, "kind": false, "reason": false, "description": false, "path": false, "method": false}

// ofAll reports whether a member of an envelope speaks of the answer as a whole.
func ofAll(member string) bool {
	_, is := envelope[member]
	return is
}

// isEnvelope reports whether an object speaks of the answer as a whole, and not of
// fields that are called as its members: it has several such members, and not all
// of them are sentences.
func isEnvelope(m map[string]any) bool {
	sure, all, terse := 0, 0, 0
	for k, v := range m {
		own, known := envelope[k]
		if !known || instance.Type(v) == "array" || instance.Type(v) == "object" {
			continue
		}
		all++
		if own {
			sure++
		}
		if text, ok := v.(string); !ok || !strings.Contains(text, " ") {
			terse++
		}
	}
	return sure > 0 && all > 1 && terse > 0
}

// general are keys for errors of an object that are none of its fields'.
var general = map[string]bool{"non_field_errors": true, "nonFieldErrors": true, "_errors": true, "_schema": true, "base": true, "__all__": true}

// naming are member names that usually hold a field's name: taken at their word
// even where the name is of no known field.
var naming = []string{"pointer", "field", "path", "loc", "property", "propertyPath", "instancePath", "dataPath", "instanceLocation",
	"fieldName", "field_name", "parameter", "param", "attribute", "source.pointer", "source.parameter", "name", "key", "location", "target"}

// containers are member names that usually hold the list or map of field errors.
var containers = map[string]bool{"errors": true, "fielderrors": true, "violations": true, "invalidparams": true, "fields": true,
	"validationerrors": true, "issues": true, "modelstate": true}

// Read finds the field errors of an answer.
func Read(doc any, v *Vocabulary) Reading {
	s := search{vocabulary: v}
	s.visit("", doc, 0)
	return s.best
}

// Layout is a layout that is configured, so that it need not be learned: where
// the list is, and in each entry the field and the message, as JSON Pointers.
type Layout struct {
	List     string   `json:"list"`
	Field    string   `json:"field"`
	Message  string   `json:"message,omitempty"`
	Notation Notation `json:"notation,omitempty"` // how names are written; empty: in any way
	// MediaType is that of an API which has a layout of its own on purpose, in
	// place of problem documents; empty: problem documents are expected.
	MediaType string `json:"mediaType,omitempty"`
	Learned   bool   `json:"learned,omitempty"` // where names stand is not configured
}

// OwnMediaType is the MediaType; "" where nothing is configured.
func (k *Layout) OwnMediaType() string {
	if k == nil {
		return ""
	}
	return k.MediaType
}

// ReadAs finds the field errors of an answer in a known layout.
func ReadAs(doc any, k Layout, v *Vocabulary) Reading {
	r := Reading{Where: k.List + "/*" + k.Field}
	found, _ := instance.Get(doc, k.List)
	list, _ := found.([]any)
	for i, e := range list[:min(len(list), maxNodes)] {
		value, _ := instance.Get(e, k.Field)
		var name Name
		switch value := value.(type) {
		case string:
			name = ParseName(value)
		case []any:
			segments, ok := SegmentsName(value)
			if !ok {
				continue
			}
			name = segments
		default:
			continue
		}
		words := ""
		if entry, ok := e.(map[string]any); ok && k.Message == "" {
			words = message(entry, instance.Last(k.Field))
		} else {
			said, _ := instance.Get(e, k.Message)
			words, _ = said.(string)
		}
		r.Fields = append(r.Fields, Named{Name: name, Message: words, At: instance.Join(k.List, strconv.Itoa(i)), InRequest: v.Has(name)})
	}
	return r
}

type search struct {
	vocabulary *Vocabulary
	nodes      int
	best       Reading
	score      int
}

func (s *search) visit(at string, v any, nesting int) {
	if s.nodes++; s.nodes > maxNodes || nesting > maxNesting {
		return
	}
	switch v := v.(type) {
	case map[string]any:
		s.offer(s.readObject(at, v))
		s.offer(s.readMap(at, v))
		for _, k := range instance.Names(v) {
			s.visit(instance.Join(at, k), v[k], nesting+1)
		}
	case []any:
		r := s.readList(at, v)
		s.offer(r)
		if len(r.Fields) > 0 {
			return // its entries are read; their members are not fields themselves
		}
		for i, e := range v {
			s.visit(instance.Join(at, strconv.Itoa(i)), e, nesting+1)
		}
	}
}

// offer keeps the reading that names most known fields; one that names only
// unknown ones, in a place made for it, is better than none.
func (s *search) offer(r Reading) {
	if len(r.Fields) == 0 {
		return
	}
	score := 1
	if strings.Count(r.Where, "*") > 0 && !strings.HasSuffix(r.Where, "*") {
		score++ // a member made for the name tells more than a key
	}
	for _, f := range r.Fields {
		if f.InRequest {
			score += 2
		}
	}
	if score > s.score {
		s.best, s.score = r, score
	}
}

// readObject reads an object that names one field of the request in a usual member.
func (s *search) readObject(at string, entry map[string]any) Reading {
	whole := isEnvelope(entry)
	for _, member := range naming {
		if whole && ofAll(member) {
			continue // the path, or the name, of something else
		}
		name, ok := nameAt(entry, member)
		if words := message(entry, member); ok && words != "" && s.vocabulary.Has(name) && name.Fits("") != Exact {
			return Reading{Where: at + "/" + strings.ReplaceAll(member, ".", "/"), Fields: []Named{{Name: name, Message: words, At: at, InRequest: true}}}
		}
	}
	return Reading{}
}

// readList reads a list of objects that each name a field in the same member.
func (s *search) readList(at string, list []any) Reading {
	var best Reading
	bestScore := 0
	for rank, member := range s.members(list) {
		r := Reading{Where: at + "/*/" + strings.ReplaceAll(member, ".", "/")}
		known := 0
		for i, e := range list {
			entry, ok := e.(map[string]any)
			if !ok {
				continue
			}
			name, ok := nameAt(entry, member)
			if !ok {
				continue
			}
			n := Named{Name: name, Message: message(entry, member), At: instance.Join(at, strconv.Itoa(i)), InRequest: s.vocabulary.Has(name)}
			if n.InRequest {
				known++
			}
			r.Fields = append(r.Fields, n)
		}
		usual := rank < len(naming)
		if known == 0 && !usual {
			continue
		}
		score := 2*known + 1
		if member == "pointer" { // the RFC's own example: taken at its word
			score += 1000
		}
		if score > bestScore && len(r.Fields) > 0 {
			best, bestScore = r, score
		}
	}
	return best
}

// members lists what may hold a name: the usual member names, then any other.
func (s *search) members(list []any) []string {
	out := append([]string(nil), naming...)
	seen := map[string]bool{}
	for _, n := range naming {
		seen[n] = true
	}
	for i, e := range list {
		entry, ok := e.(map[string]any)
		if !ok || i > 20 {
			continue
		}
		for _, k := range instance.Names(entry) {
			if !seen[k] && len(seen) < 100 {
				seen[k] = true
				out = append(out, k)
			}
		}
	}
	return out
}

func nameAt(entry map[string]any, member string) (Name, bool) {
	outer, inner, nested := strings.Cut(member, ".")
	v := entry[outer]
	if nested {
		m, _ := v.(map[string]any)
		v = m[inner]
	}
	switch v := v.(type) {
	case string:
		if strings.Count(v, " ") > 2 {
			return Name{}, false // a sentence
		}
		return ParseName(v), true
	case []any:
		return SegmentsName(v)
	}
	return Name{}, false
}

var messageMembers = []string{"detail", "message", "msg", "error", "reason", "description", "title", "defaultMessage", "errorMessage"}

// message is the words of an entry: of a usual member, else the longest text.
func message(entry map[string]any, but string) string {
	for _, k := range messageMembers {
		if s, ok := entry[k].(string); ok && k != but {
			return s
		}
	}
	longest := ""
	for _, k := range instance.Names(entry) {
		if s, ok := entry[k].(string); ok && k != but && len(s) > len(longest) {
			longest = s
		}
	}
	return longest
}

// readMap reads a map of field to message or messages, also nested as the request is.
func (s *search) readMap(at string, m map[string]any) Reading {
	r := Reading{Where: at + "/*"}
	made := containers[level(instance.Last(at))]
	kind, _ := m["type"].(string)
	problem := at == "" && (m["title"] != nil || m["detail"] != nil || kind != "" && !strings.Contains(kind, " "))
	s.collect(&r, at, nil, m, problem, 0)
	known := 0
	for _, f := range r.Fields {
		if f.InRequest {
			known++
		}
	}
	if known == 0 && !made || known*2 < len(r.Fields) && !made {
		return Reading{}
	}
	return r
}

func (s *search) collect(r *Reading, at string, path []string, m map[string]any, problem bool, nesting int) {
	if nesting > 6 {
		return
	}
	whole := !containers[level(instance.Last(at))] && isEnvelope(m)
	for _, k := range instance.Names(m) {
		if nesting == 0 && at == "" && standard[k] || len(r.Fields) > 500 {
			continue
		}
		here := append(append([]string(nil), path...), k)
		place := instance.Join(at, k)
		if list, ok := m[k].([]any); ok && s.inParallel(r, place, here, list, nesting) {
			continue
		}
		words, ok := messages(m[k])
		_, single := m[k].(string)
		inner, isMap := m[k].(map[string]any)
		switch {
		case problem && single && nesting == 0:
			// An extension such as a reference number, not a field's message.
		case single && nesting == 0 && whole && ofAll(k):
			// The answer's own message, name or number.
		case ok:
			name := pathName(here)
			if general[k] && len(path) > 0 && !s.vocabulary.Has(name) {
				name = pathName(path)
			}
			if s.echoes(here, m[k]) {
				continue
			}
			r.Fields = append(r.Fields, Named{Name: name, Message: words, At: place, InRequest: s.vocabulary.Has(name)})
		case isMap:
			if name := pathName(here); s.vocabulary.Has(name) || isIndex(k) {
				s.collect(r, place, here, inner, problem, nesting+1)
			}
		}
	}
}

// inParallel reads a list in a place where the request has one, with a map of
// errors for each element: {"crew": [{}, {"rank": ["is unknown"]}]}.
func (s *search) inParallel(r *Reading, at string, path []string, list []any, nesting int) bool {
	if sent, ok := instance.Get(s.vocabulary.body, key(path)); !ok || instance.Type(sent) != "array" {
		return false
	}
	found := false
	for i, e := range list {
		inner, ok := e.(map[string]any)
		if !ok {
			return false
		}
		for name := range inner {
			found = found || s.vocabulary.last[name]
		}
		if i > 500 {
			break
		}
	}
	if !found {
		return false
	}
	for i, e := range list[:min(len(list), 500)] {
		inner, _ := e.(map[string]any)
		index := strconv.Itoa(i)
		s.collect(r, instance.Join(at, index), append(append([]string(nil), path...), index), inner, false, nesting+1)
	}
	return true
}

// pathName is the name that keys, one inside the other, make up.
func pathName(keys []string) Name {
	if len(keys) == 1 {
		return ParseName(keys[0])
	}
	n := Name{Raw: strings.Join(keys, "."), Notation: Segments}
	n.read(keys)
	return n
}

// echoes reports whether what looks like a message is the request's own value.
func (s *search) echoes(keys []string, v any) bool {
	sent, ok := instance.Get(s.vocabulary.body, key(keys))
	return ok && instance.Equal(sent, v)
}

// messages reads a text, a list of texts, or a list of objects with a message.
func messages(v any) (string, bool) {
	switch v := v.(type) {
	case string:
		return v, true
	case []any:
		var out []string
		for _, e := range v {
			switch e := e.(type) {
			case string:
				out = append(out, e)
			case map[string]any:
				words := message(e, "")
				if words == "" {
					return "", false
				}
				out = append(out, words)
			default:
				return "", false
			}
		}
		return strings.Join(out, "; "), len(out) > 0
	}
	return "", false
}

// Mentions finds a text in the answer that has the field's name in it as a
// word, for answers that say it only in a sentence.
func Mentions(doc any, pointer string) (string, bool) {
	name := instance.Last(pointer)
	if isIndex(name) {
		name = instance.Last(instance.Parent(pointer))
	}
	found := ""
	nodes := 0
	instance.Walk(doc, func(_ string, v any) bool {
		nodes++
		if s, ok := v.(string); ok && found == "" && hasWord(s, name) {
			found = s
		}
		return nodes < maxNodes && found == ""
	})
	return found, found != ""
}

// hasWord reports whether a name is in a text as a word or as several, in any
// spelling of it. A name inside another word does not count: id in INVALID.
func hasWord(text, name string) bool {
	name = strings.Join(wordsOf(level(name)), "")
	words := wordsOf(strings.ToLower(text))
	for i := range words {
		joined := ""
		for _, w := range words[i:] {
			if joined += w; len(joined) >= len(name) {
				break
			}
		}
		if name != "" && joined == name {
			return true
		}
	}
	return false
}

func wordsOf(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
}

// Speaks reports whether a message names the field in words.
func (n Named) Speaks(pointer string) bool { return hasWord(n.Message, instance.Last(pointer)) }
