package document

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"runtime"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"obiter/internal/core/instance"
)

// readJSON reads JSON several times as fast as YAML's reader would.
func readJSON(name string, src []byte) (*File, error) {
	if len(src) >= large && runtime.GOMAXPROCS(0) > 1 {
		if f := readPieces(name, src, piece); f != nil {
			return f, nil
		}
	}
	if f, err := readWhole(name, src, false); err == nil {
		return f, nil
	}
	return readWhole(name, src, true)
}

// errTwice is what readers say that are not strict.
var errTwice = errors.New("a member appears twice")

func readWhole(name string, src []byte, strict bool) (*File, error) {
	k := newKnown()
	if strict { // it says what is wrong, and need not be fast
		k.small = nil
	}
	r := newReader(name, src, strict, k)
	f := r.file
	m, at, err := r.value(0, "")
	if err == nil {
		behind := r.next()
		if _, e := r.tokens.ReadToken(); e == nil {
			err = r.fail(behind, "not readable as JSON: there is more after the end of the document", "take it out")
		} else if !errors.Is(e, io.EOF) {
			err = r.syntax(e)
		}
	}
	if err != nil {
		return nil, err
	}
	f.Value, f.top = m.value, place{at.line, at.column, m.inside}
	return f, nil
}

// jsonReader turns tokens into values and their places.
type jsonReader struct {
	file   *File
	src    []byte
	tokens *jsontext.Decoder

	known           // what comes often, and is kept once
	open    []found // in the containers that are being read, the outermost first
	counted int     // how far lines are counted, in bytes
	line    int
	begins  int // where the line begins
}

// known are values that come often in a document, and are kept once. It is used by one
// reader after another.
type known struct {
	texts map[string]any      // by what is between the quotes
	lists map[uint64][]string // names of members, by a sum of them
	small map[string]small    // objects, by their texts; nil: none are kept
}

func newKnown() known {
	return known{texts: map[string]any{}, lists: map[uint64][]string{}, small: map[string]small{}}
}

// small is an object with nothing inside but texts, numbers, booleans and null.
type small struct {
	value  map[string]any
	at     place // where it begins
	inside *inside
}

// newReader reads JSON. Only a strict one tells which member appears twice in an object, which
// takes a tenth of its time; others tell that one does.
func newReader(name string, src []byte, strict bool, k known) *jsonReader {
	return &jsonReader{file: &File{Name: name, order: map[uintptr][]string{}}, src: src, known: k, line: 1,
		tokens: jsontext.NewDecoder(bytes.NewBuffer(src), jsontext.AllowInvalidUTF8(true), jsontext.AllowDuplicateNames(!strict))}
}

// found is a member of an object, or an element of a list, which has no name.
type found struct {
	name  string
	value any
	at    place
}

// between are the bytes that stand between tokens.
var between = [256]bool{' ': true, '\t': true, '\r': true, '\n': true, ',': true, ':': true}

// next is the place at which the next token begins.
func (r *jsonReader) next() place {
	offset := int(r.tokens.InputOffset())
	for offset < len(r.src) && between[r.src[offset]] {
		offset++
	}
	return r.at(offset)
}

// at is the place of an offset, which never lies before the last one.
func (r *jsonReader) at(offset int) place {
	end := max(r.counted, min(offset, len(r.src)))
	for passed := r.src[r.counted:end]; ; {
		n := bytes.IndexByte(passed, '\n')
		if n < 0 {
			break
		}
		passed = passed[n+1:]
		r.line, r.begins = r.line+1, end-len(passed)
	}
	r.counted = end
	return place{line: int32(r.line), column: int32(offset - r.begins + 1)}
}

// placeOf is the place of any offset.
func placeOf(src []byte, offset int) place {
	before := src[:min(max(offset, 0), len(src))]
	return place{line: int32(bytes.Count(before, []byte("\n")) + 1), column: int32(len(before) - bytes.LastIndexByte(before, '\n'))}
}

func (r *jsonReader) fail(p place, problem, hint string) error {
	return &Error{File: r.file.Name, Line: int(p.line), Column: int(p.column), Problem: problem, Hint: hint}
}

// syntax words an error of the tokens.
func (r *jsonReader) syntax(err error) error {
	offset, problem := int(r.tokens.InputOffset()), err.Error()
	var e *jsontext.SyntacticError
	switch {
	case errors.As(err, &e):
		offset = int(e.ByteOffset)
		problem = strings.TrimPrefix(e.Err.Error(), "jsontext: ")
		if errors.Is(err, jsontext.ErrDuplicateName) {
			return r.fail(placeOf(r.src, offset), fmt.Sprintf("the member %q appears twice in one object", e.JSONPointer.LastToken()), "take one of them out")
		}
		if errors.Is(err, io.ErrUnexpectedEOF) {
			problem = "the document ends in the middle"
		}
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		problem = "the document ends in the middle"
	}
	return r.fail(placeOf(r.src, offset), "not readable as JSON: "+problem, "correct the syntax there")
}

func (r *jsonReader) value(depth int, key string) (made, place, error) {
	at := r.next()
	if depth > maxDepth {
		return made{}, at, r.fail(at, fmt.Sprintf("nests deeper than %d levels", maxDepth), "flatten it, or use $ref")
	}
	var text []byte // of a small object, which ends there
	end := 0
	switch r.tokens.PeekKind() {
	case '"':
		text, err := r.text()
		return made{value: text}, at, err
	case '{':
		if text = r.smallText(); text == nil || depth == maxDepth || key == "properties" {
			break
		}
		if s, has := r.small[string(text)]; has {
			if err := r.tokens.SkipValue(); err != nil {
				return made{}, at, r.syntax(err)
			}
			return made{value: s.value, inside: s.placed(at)}, at, nil
		}
		end = r.counted + len(text)
	}
	t, err := r.tokens.ReadToken()
	if err != nil {
		return made{}, at, r.syntax(err)
	}
	switch t.Kind() {
	case '{':
		m, err := r.object(depth, key)
		if err == nil && int(r.tokens.InputOffset()) == end {
			r.keepSmall(text, at, m)
		}
		return m, at, err
	case '[':
		m, err := r.list(depth)
		return m, at, err
	case '0':
		n := json.Number(t.String())
		if !instance.Computable(n) {
			return made{}, at, r.fail(at, tooLarge, aSmaller)
		}
		return made{value: n}, at, nil
	case 't', 'f':
		return made{value: t.Kind() == 't'}, at, nil
	}
	return made{}, at, nil // null
}

// Limits of the objects that are kept once: most of a description's objects are small, and
// the same as others.
const (
	smallText = 256
	mostSmall = 8192
)

// smallText is the text of the object that comes next, if it is a small one: up to the
// first brace that ends one, unless that is part of a text.
func (r *jsonReader) smallText() []byte {
	rest := r.src[r.counted:]
	end := bytes.IndexByte(rest[:min(len(rest), smallText)], '}')
	if end < 0 || bytes.IndexByte(rest[1:end], '{') >= 0 || bytes.IndexByte(rest[:end], '[') >= 0 {
		return nil
	}
	return rest[:end+1]
}

// keepSmall keeps an object of a text, which was read to its end. A reference is a place of
// its own, in which something else may be put.
func (r *jsonReader) keepSmall(text []byte, at place, m made) {
	value, _ := m.value.(map[string]any)
	if _, refers := value["$ref"]; refers || len(value) == 0 || r.small == nil || len(r.small) == mostSmall {
		return
	}
	r.small[string(text)] = small{value, at, m.inside}
}

// placed are the places in an object of the same text that begins elsewhere.
func (s small) placed(at place) *inside {
	in := &inside{names: s.inside.names, places: make([]place, len(s.inside.places))}
	for i, p := range s.inside.places {
		if p.line == s.at.line { // else it is as far from where its line begins
			p.column += at.column - s.at.column
		}
		p.line += at.line - s.at.line
		in.places[i] = p
	}
	return in
}

// Limits of the texts that are kept once, however often they come: the names of keywords
// and types are most of a description.
const (
	shortText = 32
	mostTexts = 4096
)

// text reads a string.
func (r *jsonReader) text() (any, error) {
	quoted, err := r.tokens.ReadValue()
	if err != nil {
		return nil, r.syntax(err)
	}
	inside := quoted[1 : len(quoted)-1]
	short := len(inside) <= shortText
	if short {
		if text, known := r.texts[string(inside)]; known {
			return text, nil
		}
	}
	read, _ := jsontext.AppendUnquote(nil, quoted) // the error is about what is not UTF-8, and replaced
	text := any(string(read))
	if short && len(read) == len(inside) && len(r.texts) < mostTexts && bytes.Equal(read, inside) {
		r.texts[string(inside)] = text
	}
	return text, nil
}

func (r *jsonReader) object(depth int, key string) (made, error) {
	first := len(r.open)
	for r.tokens.PeekKind() == '"' {
		at := r.next()
		text, err := r.text()
		if err != nil {
			return made{}, err
		}
		name, _ := text.(string)
		m, _, err := r.value(depth+1, name)
		if err != nil {
			return m, err
		}
		r.open = append(r.open, found{name, m.value, place{at.line, at.column, m.inside}})
	}
	if _, err := r.tokens.ReadToken(); err != nil {
		return made{}, r.syntax(err)
	}
	members := r.open[first:]
	object, in := make(map[string]any, len(members)), &inside{names: r.named(members), places: make([]place, len(members))}
	for i, m := range members {
		object[m.name], in.places[i] = m.value, m.at
	}
	if len(object) < len(members) {
		return made{}, errTwice
	}
	r.close(first)
	if key == "properties" {
		r.file.order[reflect.ValueOf(object).Pointer()] = in.names
	}
	return made{value: object, inside: in}, nil
}

// Limits of the lists of names that are kept once, since many objects have the same members.
const (
	fewNames  = 8
	mostLists = 4096
)

// named are the names of members, in their order; nobody writes to them.
func (r *jsonReader) named(members []found) []string {
	sum := uint64(len(members))
	for _, m := range members { // enough to find a list by, for it is compared
		sum = sum*31 + uint64(len(m.name))
		if m.name != "" {
			sum = sum*31 + uint64(m.name[0]) ^ uint64(m.name[len(m.name)-1])<<8
		}
	}
	known, has := r.lists[sum]
	if has && len(members) == len(known) {
		same := true
		for i, m := range members {
			same = same && known[i] == m.name
		}
		if same {
			return known
		}
	}
	names := make([]string, len(members))
	for i, m := range members {
		names[i] = m.name
	}
	if !has && len(members) <= fewNames && len(r.lists) < mostLists {
		r.lists[sum] = names
	}
	return names
}

func (r *jsonReader) list(depth int) (made, error) {
	first := len(r.open)
	for kind := r.tokens.PeekKind(); kind != ']' && kind != jsontext.KindInvalid; kind = r.tokens.PeekKind() {
		m, at, err := r.value(depth+1, "")
		if err != nil {
			return m, err
		}
		r.open = append(r.open, found{"", m.value, place{at.line, at.column, m.inside}})
	}
	if _, err := r.tokens.ReadToken(); err != nil {
		return made{}, r.syntax(err)
	}
	elements := r.open[first:]
	list, in := make([]any, len(elements)), &inside{places: make([]place, len(elements))}
	for i, e := range elements {
		list[i], in.places[i] = e.value, e.at
	}
	r.close(first)
	return made{value: list, inside: in}, nil
}

// close takes what was found in a container off the open ones.
func (r *jsonReader) close(first int) {
	clear(r.open[first:])
	r.open = r.open[:first]
}
