package layout

import (
	"slices"
	"strconv"
	"strings"

	"obiter/internal/core/instance"
)

// Named is one field error read out of an answer.
type Named struct {
	Name      Name
	Message   string
	At        string // JSON Pointer into the answer
	InRequest bool   // the name is that of a field of the request

	entry map[string]any // of a list, which holds the name
}

// Reading is what an answer says about fields in one place.
type Reading struct {
	Fields []Named
	Where  string // the place as a pattern, such as /errors/*/pointer; "" where none

	likely bool // it is taken for the place of names although nothing is known of it
	score  int
	whole  bool // its member speaks of the answer as a whole
}

// Bounds of what is looked through in one answer.
const (
	maxNodes   = 5000
	maxNesting = 10
	maxFields  = 500
	maxPlaces  = 60

	usualPlaces = 8 // that answers have
	usualFields = 6

	maxName   = 200  // bytes of what is taken for a name
	maxParsed = 4096 // bytes of what is said to be one
)

// rfcPlace is where RFC 9457, section 3, names fields.
const rfcPlace = "/errors/*/pointer"

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
		switch v.(type) {
		case []any, map[string]any:
			known = false
		}
		if !known {
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
// even where the name is of no known field. The likeliest come first.
var naming = []string{"pointer", "field", "path", "loc", "property", "propertyPath", "instancePath", "dataPath", "instanceLocation",
	"fieldName", "field_name", "parameter", "param", "attribute", "source/pointer", "source/parameter", "name", "key", "location", "target"}

// containers are member names that usually hold the list or map of field errors.
var containers = map[string]bool{"errors": true, "fielderrors": true, "violations": true, "invalidparams": true, "fields": true,
	"validationerrors": true, "issues": true, "modelstate": true}

// Read finds the field errors of an answer of which nothing else is known.
func Read(doc any, v *Vocabulary) Reading {
	var nothing *Knowledge
	return nothing.Choose(Places(doc, v), "", v)
}

// search looks through an answer for places that may name fields.
type search struct {
	vocabulary *Vocabulary
	nodes      int
	values     []Reading // a member that holds a name
	fields     []Named   // room for one in each of the first of them
	maps       []Reading // keys that are names
}

// holder is an object that a value lies in, with what it is in.
type holder struct {
	object map[string]any
	at     string
	where  string
	outer  *holder
}

// Places are all places of an answer that may name fields, in the order of the
// answer: the values of members first.
func Places(doc any, v *Vocabulary) []Reading {
	s := search{vocabulary: v}
	s.visit("", "", doc, nil, "", 0)
	for i := range s.values {
		s.rate(&s.values[i])
	}
	out := s.values
	if out == nil {
		out = []Reading{}
	}
	for _, r := range s.maps {
		r.likely, r.score = true, 100*(1+2*known(r.Fields))
		if strings.Contains(r.Where, "/*/") { // an entry's members seldom are the fields
			r.score = min(100+known(r.Fields), 179)
		}
		out = append(out, r)
	}
	return out
}

// visit goes down. The pattern has * where the pointer has the index of an entry; the member
// is the one that the value is of the object it lies in, "" where it is of none.
func (s *search) visit(at, where string, v any, in *holder, member string, nesting int) {
	if !s.within(nesting) {
		return
	}
	switch v := v.(type) {
	case map[string]any:
		here, names := &holder{v, at, where, in}, instance.Names(v)
		s.keys(s.readMap(at, where, v, names))
		for _, k := range names {
			text, isText := v[k].(string)
			switch {
			case !mayHold(v[k]):
				s.nodes++
			case isText:
				if s.within(nesting + 1) {
					s.value(s.place(where, k), k, ParseName(text), here)
				}
			default:
				inner := instance.Join(at, k)
				pattern := inner
				if where != at {
					pattern = instance.Join(where, k)
				}
				s.visit(inner, pattern, v[k], here, k, nesting+1)
			}
		}
	case []any:
		if name, ok := SegmentsName(v); ok && in != nil {
			s.value(s.placeAt(where), member, name, in)
		}
		entry := where + "/*"
		for i, e := range v {
			switch text, isText := e.(string); {
			case !mayHold(e):
				s.nodes++
			case isText:
				if s.within(nesting+1) && in != nil {
					s.value(s.placeAt(entry), "", ParseName(text), in)
				}
			default:
				s.visit(instance.Join(at, strconv.Itoa(i)), entry, e, in, "", nesting+1)
			}
		}
	}
}

// within counts a value, and reports whether it is looked at.
func (s *search) within(nesting int) bool {
	s.nodes++
	return s.nodes <= maxNodes && nesting <= maxNesting
}

// mayHold reports whether a value may hold a name, or be one.
func mayHold(v any) bool {
	switch v := v.(type) {
	case map[string]any, []any:
		return true
	case string:
		return len(v) <= maxName && strings.Count(v, " ") <= 2
	}
	return false
}

// keys takes the keys of a map for names; those of the entries of one list together.
func (s *search) keys(r Reading) {
	if len(r.Fields) == 0 {
		return
	}
	for i := range s.maps {
		if have := &s.maps[i]; have.Where == r.Where {
			have.Fields = append(have.Fields, r.Fields[:min(len(r.Fields), max(0, maxFields-len(have.Fields)))]...)
			return
		}
	}
	if len(s.maps) < maxPlaces {
		s.maps = append(s.maps, r)
	}
}

// place is the reading of a member of what is at a place; nil where there are too many.
func (s *search) place(where, member string) *Reading {
	if strings.ContainsAny(member, "~/") { // which are written otherwise in pointers
		return s.placeAt(instance.Join(where, member))
	}
	for i := range s.values {
		if at := s.values[i].Where; len(at) == len(where)+1+len(member) && at[len(where)] == '/' && at[:len(where)] == where && at[len(where)+1:] == member {
			return &s.values[i]
		}
	}
	return s.newPlace(instance.Join(where, member))
}

func (s *search) placeAt(where string) *Reading {
	if i := slices.IndexFunc(s.values, func(r Reading) bool { return r.Where == where }); i >= 0 {
		return &s.values[i]
	}
	return s.newPlace(where)
}

func (s *search) newPlace(where string) *Reading {
	if len(s.values) >= maxPlaces {
		return nil
	}
	if s.values == nil {
		s.values = make([]Reading, 0, usualPlaces)
		s.fields = make([]Named, usualFields)
	}
	r := Reading{Where: where}
	if i := len(s.values); i < usualFields { // most have one
		r.Fields = s.fields[i : i : i+1]
	}
	s.values = append(s.values, r)
	return &s.values[len(s.values)-1]
}

// value takes a value for a name. It is a member of an object, or lies in one.
func (s *search) value(r *Reading, member string, name Name, in *holder) {
	if r == nil || len(r.Fields) >= maxFields {
		return
	}
	r.whole = r.whole || ofAll(member) && isEnvelope(in.object)
	words, entry := wordsFor(in, member)
	r.Fields = append(r.Fields, Named{Name: name, Message: words, At: entry, InRequest: s.vocabulary.Has(name), entry: in.entry()})
}

// entry is the entry of a list that an object is or lies in; nil where there is none.
func (h *holder) entry() map[string]any {
	for ; h != nil; h = h.outer {
		if strings.HasSuffix(h.where, "/*") {
			return h.object
		}
	}
	return nil
}

// wordsFor are the words said of a value, with the place of the object that says
// them: the one that it is in, or one around that, up to the entry of a list. A
// usual member for words comes before any other. The value's own member says nothing.
func wordsFor(in *holder, member string) (words, at string) {
	for _, say := range []func(map[string]any, string) string{usualWords, longest} {
		but := member
		for h := in; h != nil; h = h.outer {
			if words = say(h.object, but); words != "" {
				return words, h.at
			}
			if strings.HasSuffix(h.where, "/*") {
				break
			}
			but = ""
		}
	}
	return "", in.at
}

// usualName is the member that holds the names of a reading, whether it is one of the entries of a
// list, and its place among the names that such members usually have; negative for others.
func usualName(r *Reading) (member string, listed bool, usual int) {
	member = r.Where[strings.LastIndex(r.Where, "/*")+1:]
	listed = strings.Contains(r.Where, "/*/") && member != "*"
	member = strings.TrimPrefix(member, "*/")
	if !listed {
		member = strings.TrimPrefix(r.Where[strings.LastIndex(r.Where, "/"):], "/")
	}
	usual = slices.Index(naming, member)
	if listed && usual < 0 { // one that lies in another member of the entry
		usual = slices.Index(naming, member[strings.LastIndex(member, "/")+1:])
		if usual >= 0 && known(r.Fields) == 0 {
			usual = -1
		}
	}
	return member, listed, usual
}

// rate tells how likely a member is to hold names, before anything is known of it.
func (s *search) rate(r *Reading) {
	member, listed, usual := usualName(r)
	certain := 0
	for _, f := range r.Fields {
		if f.InRequest && f.Name.Fits("") != Exact {
			certain++
		}
	}
	switch {
	case strings.HasSuffix(r.Where, "/*"): // names alone, in a list
		r.likely = certain > 0 && certain == len(r.Fields) && r.Fields[0].Message != "" && (member == "keys" || strings.HasSuffix(r.Where, "/keys/*"))
		r.score = 100 * (1 + certain)
	case listed:
		r.likely = usual >= 0 || certain > 0
		r.score = 100 * (1 + 2*certain)
		if usual >= 0 {
			r.score = 100*(2+2*known(r.Fields)) - usual
		}
		if strings.HasSuffix(r.Where, "/*/pointer") {
			r.score += 1_000_000 // taken at its word
		}
	default:
		r.likely = usual >= 0 && !r.whole && certain == 1 && len(r.Fields) == 1 && r.Fields[0].Message != ""
		r.score = 100*(1+2*certain) - max(usual, 0)
	}
}

func known(fields []Named) int {
	n := 0
	for _, f := range fields {
		if f.InRequest {
			n++
		}
	}
	return n
}

var messageMembers = []string{"detail", "message", "msg", "error", "reason", "description", "title", "defaultMessage", "errorMessage"}

// message is the words of an entry: of a usual member, else the longest text.
func message(entry map[string]any, but string) string {
	if words := usualWords(entry, but); words != "" {
		return words
	}
	return longest(entry, but)
}

func usualWords(entry map[string]any, but string) string {
	for _, k := range messageMembers {
		if s, ok := entry[k].(string); ok && k != but {
			return s
		}
	}
	return ""
}

func longest(entry map[string]any, but string) string {
	longest, of := "", ""
	for k, v := range entry {
		if text, ok := v.(string); ok && k != but && (len(text) > len(longest) || len(text) == len(longest) && k < of) {
			longest, of = text, k
		}
	}
	return longest
}

// readMap reads a map of field to message or messages, also nested as the request is.
func (s *search) readMap(at, where string, m map[string]any, names []string) Reading {
	made := containers[instance.Level(instance.Last(at))]
	if !made && !s.names(m) {
		return Reading{}
	}
	r := Reading{Where: where + "/*"}
	kind, _ := m["type"].(string)
	problem := at == "" && (m["title"] != nil || m["detail"] != nil || kind != "" && !strings.Contains(kind, " "))
	s.collect(&r, at, nil, m, names, problem, 0)
	if n := known(r.Fields); !made && (n == 0 || n*2 < len(r.Fields)) {
		return Reading{}
	}
	return r
}

// names reports whether a key may be the name of a field, or hold one.
func (s *search) names(m map[string]any) bool {
	for k, v := range m {
		switch v.(type) {
		case map[string]any:
			if isIndex(k) {
				return true
			}
		case string, []any:
		default:
			continue
		}
		if s.vocabulary.Has(ParseName(k)) {
			return true
		}
	}
	return false
}

func (s *search) collect(r *Reading, at string, path []string, m map[string]any, names []string, problem bool, nesting int) {
	if nesting > 6 {
		return
	}
	whole := nesting == 0 && !containers[instance.Level(instance.Last(at))] && isEnvelope(m)
	for _, k := range names {
		if nesting == 0 && at == "" && standard[k] && (problem || whole) || len(r.Fields) > maxFields {
			continue
		}
		_, isText := m[k].(string)
		_, isList := m[k].([]any)
		_, isMap := m[k].(map[string]any)
		if !isText && !isList && !isMap || isText && nesting == 0 && (problem || whole && ofAll(k)) {
			continue // an extension such as a reference number, or the answer's own message or name
		}
		here := append(append(make([]string, 0, len(path)+1), path...), k)
		place := instance.Join(at, k)
		if list, ok := m[k].([]any); ok && s.inParallel(r, place, here, list, nesting) {
			continue
		}
		words, ok := messages(m[k])
		switch name := pathName(here); {
		case ok && !s.echoes(here, m[k]):
			if general[k] && len(path) > 0 && !s.vocabulary.Has(name) {
				name = pathName(path)
			}
			r.Fields = append(r.Fields, Named{Name: name, Message: words, At: place, InRequest: s.vocabulary.Has(name)})
		case !ok && isMap && (s.vocabulary.Has(name) || isIndex(k)):
			inner := m[k].(map[string]any)
			s.collect(r, place, here, inner, instance.Names(inner), problem, nesting+1)
		}
	}
}

// hasErrors reports whether a list has nothing but maps of errors and lists of messages, and any
// of them.
func (s *search) hasErrors(path []string, list []any) (found bool) {
	for i, e := range list[:min(len(list), maxFields)] {
		switch e := e.(type) {
		case map[string]any:
			for name := range e {
				found = found || s.vocabulary.isLast(name) || s.vocabulary.Has(pathName(append(slices.Clone(path), strconv.Itoa(i), name))) || general[name]
			}
		case []any:
			words, ok := messages(e)
			if len(e) > 0 && (!ok || words == "") {
				return false
			}
			found = found || ok
		case nil:
		default:
			return false
		}
	}
	return found
}

// inParallel reads a list in a place where the request has one, with a map of
// errors, or a list of messages, for each element: {"crew": [{}, {"rank": ["is
// unknown"]}]}, {"labels": [["may not be null"], {}]}.
func (s *search) inParallel(r *Reading, at string, path []string, list []any, nesting int) bool {
	if sent, ok := instance.Get(s.vocabulary.body, key(path)); !ok || instance.Type(sent) != "array" {
		if sent, ok = instance.Get(s.vocabulary.control, key(path)); !ok || instance.Type(sent) != "array" {
			return false
		}
	}
	if !s.hasErrors(path, list) {
		return false
	}
	for i, e := range list[:min(len(list), maxFields)] {
		index := strconv.Itoa(i)
		here := append(append([]string(nil), path...), index)
		switch e := e.(type) {
		case map[string]any:
			s.collect(r, instance.Join(at, index), here, e, instance.Names(e), false, nesting+1)
		case []any:
			if words, ok := messages(e); ok {
				r.Fields = append(r.Fields, Named{Name: pathName(here), Message: words, At: instance.Join(at, index), InRequest: s.vocabulary.Has(pathName(here))})
			}
		}
	}
	return true
}

// pathName is the name that keys, one inside the other, make up.
func pathName(keys []string) Name {
	if len(keys) == 1 {
		return ParseName(keys[0])
	}
	n := Name{Raw: strings.Join(keys, "."), Notation: Nested}
	n.read(keys)
	return n
}

// echoes reports whether what looks like a message is the request's own value.
func (s *search) echoes(keys []string, v any) bool {
	if object, is := s.vocabulary.body.(map[string]any); is {
		if _, has := object[keys[0]]; !has { // as most are
			return false
		}
	}
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
