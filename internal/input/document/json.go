package document

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"obiter/internal/core/instance"
)

// readJSON reads JSON several times as fast as YAML's reader would.
func readJSON(name string, src []byte) (*File, error) {
	r := newReader(name, src)
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
	r.file.Value, r.file.top = m.value, place{at.line, at.column, m.inside}
	return r.file, nil
}

// jsonReader turns tokens into values and their places.
type jsonReader struct {
	file   *File
	src    []byte
	tokens *jsontext.Decoder

	texts   map[string]any      // what comes often, and is kept once: by what is between the quotes
	lists   map[uint64][]string // names of members, by a sum of them
	open    []found             // in the containers that are being read, the outermost first
	counted int                 // how far lines are counted, in bytes
	line    int
	begins  int // where the line begins
}

func newReader(name string, src []byte) *jsonReader {
	return &jsonReader{file: &File{Name: name, order: map[uintptr][]string{}}, src: src, texts: map[string]any{}, lists: map[uint64][]string{}, line: 1,
		tokens: jsontext.NewDecoder(bytes.NewBuffer(src), jsontext.AllowInvalidUTF8(true))}
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
	if r.tokens.PeekKind() == '"' {
		text, err := r.text()
		return made{value: text}, at, err
	}
	t, err := r.tokens.ReadToken()
	if err != nil {
		return made{}, at, r.syntax(err)
	}
	switch t.Kind() {
	case '{':
		m, err := r.object(depth, key)
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
	r.close(first)
	if key == "properties" {
		r.file.order[reflect.ValueOf(object).Pointer()] = in.names
	}
	return made{value: object, inside: in}, nil
}

// Limits of the lists of names that are kept once, since many objects have the same members;
// without that, planning 13 MB takes an eighth longer.
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
