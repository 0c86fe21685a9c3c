// Package instance handles JSON instances as JSON Schema means the word: the
// values null, bool, json.Number, string, []any and map[string]any. It reads
// and writes them at JSON Pointers (RFC 6901) and encodes them the same way
// every time. Numbers stay decimal text from reading to writing, so that no
// limit is moved by binary rounding.
//
// Set and Remove never change what they are given: they copy the containers
// along the path and share the rest.
package instance

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/go-json-experiment/json/jsontext"
)

// MaxDepth is how deeply containers may nest in what Decode accepts.
const MaxDepth = 512

// ErrDepth is what Decode gives for texts that nest too deeply to be read here,
// whatever else they are.
var ErrDepth = fmt.Errorf("the JSON nests deeper than %d", MaxDepth)

// What Decode accepts of a number: digits, and the size of its exponent. Both are far
// beyond what binary and decimal floating point hold (IEEE 754: 34 digits, 6144).
const (
	MaxDigits   = 2_000
	MaxExponent = 10_000
)

// ErrNumber is what Decode gives for texts with a number that is beyond computing with.
var ErrNumber = fmt.Errorf("the JSON has a number of more than %d digits, or with an exponent beyond %d", MaxDigits, MaxExponent)

// Computable reports whether a number is within what Decode accepts.
func Computable(n json.Number) bool {
	mantissa, exponent, has := strings.Cut(strings.ToLower(string(n)), "e")
	if len(mantissa) > MaxDigits {
		return false
	}
	e, err := strconv.Atoi(exponent)
	return !has || err == nil && e <= MaxExponent && e >= -MaxExponent
}

// Decode reads exactly one JSON text (RFC 8259), numbers as json.Number.
// Anything after it but white space is an error, as is nesting over MaxDepth, and a
// number that is not Computable.
func Decode(data []byte) (any, error) {
	if v, ok := read(data); ok {
		if err := bounded(v, 0); err != nil {
			return nil, err
		}
		return v, nil
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		if errors.Is(err, io.EOF) {
			return nil, errors.New("there is no JSON")
		}
		if strings.Contains(err.Error(), "exceeded max depth") {
			return nil, ErrDepth
		}
		return nil, err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("there is more after the JSON, at byte %d", d.InputOffset())
	}
	if err := bounded(v, 0); err != nil {
		return nil, err
	}
	return v, nil
}

// Interoperable reports whether all readers of a JSON text see the same: it is UTF-8, and no
// object has a name twice (RFC 7493, sections 2.1 and 2.3).
func Interoperable(data []byte) bool { return jsontext.Value(data).IsValid() }

// read reads one JSON text, twice as fast as encoding/json; false where that has to say what
// is wrong with it.
func read(data []byte) (any, bool) {
	d := decoders.Get().(*jsontext.Decoder)
	d.Reset(bytes.NewBuffer(data), lenient...)
	defer func() {
		d.Reset(nothing{}, lenient...) // it is not to hold the text
		decoders.Put(d)
	}()
	v, ok := readValue(d)
	if !ok {
		return nil, false
	}
	_, err := d.ReadToken()
	return v, errors.Is(err, io.EOF)
}

// decoders are used again: each holds tables of its own.
var (
	decoders = sync.Pool{New: func() any { return jsontext.NewDecoder(nothing{}, lenient...) }}
	lenient  = []jsontext.Options{jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)}
)

// nothing is at its end.
type nothing struct{}

func (nothing) Read([]byte) (int, error) { return 0, io.EOF }

func readValue(d *jsontext.Decoder) (any, bool) {
	t, err := d.ReadToken()
	if err != nil {
		return nil, false
	}
	switch t.Kind() {
	case 'n':
		return nil, true
	case 't', 'f':
		return t.Bool(), true
	case '"':
		return t.String(), true
	case '0':
		return json.Number(t.String()), true
	case '[':
		list := []any{}
		for d.PeekKind() != ']' {
			v, ok := readValue(d)
			if !ok {
				return nil, false
			}
			list = append(list, v)
		}
		_, err = d.ReadToken()
		return list, err == nil
	}
	object := map[string]any{}
	for d.PeekKind() != '}' {
		name, err := d.ReadToken()
		if err != nil {
			return nil, false
		}
		at := name.String()
		v, ok := readValue(d)
		if !ok {
			return nil, false
		}
		object[at] = v
	}
	_, err = d.ReadToken()
	return object, err == nil
}

// bounded finds what is nested too deeply, and numbers that are not computable.
func bounded(v any, around int) error {
	switch v := v.(type) {
	case json.Number:
		if !Computable(v) {
			return ErrNumber
		}
	case map[string]any:
		if around >= MaxDepth {
			return ErrDepth
		}
		for _, m := range v {
			if err := bounded(m, around+1); err != nil {
				return err
			}
		}
	case []any:
		if around >= MaxDepth {
			return ErrDepth
		}
		for _, e := range v {
			if err := bounded(e, around+1); err != nil {
				return err
			}
		}
	}
	return nil
}

// Encode writes v as compact JSON with the members of objects in the order of
// their names, and characters as themselves (no HTML escapes).
func Encode(v any) []byte { return appendJSON(make([]byte, 0, 256), v) }

// IsEncoded reports whether a text is what Encode gives for v.
func IsEncoded(text []byte, v any) bool {
	buffer := buffers.Get().(*[]byte)
	*buffer = appendJSON((*buffer)[:0], v)
	same := bytes.Equal(text, *buffer)
	if cap(*buffer) <= mostBuffered {
		buffers.Put(buffer)
	}
	return same
}

// buffers are for texts that are only looked at.
var buffers = sync.Pool{New: func() any { return new([]byte) }}

// mostBuffered is how large a buffer may be that is kept, in bytes.
const mostBuffered = 64 << 10

// Escaped is a text as it stands between the quotes of a JSON string.
func Escaped(text string) []byte {
	quoted := Encode(text)
	return quoted[1 : len(quoted)-1]
}

// appendJSON writes containers and plain values itself, several times as fast as
// reflection would: plans and runs write little else.
func appendJSON(b []byte, v any) []byte {
	switch v := v.(type) {
	case nil:
		return append(b, "null"...)
	case bool:
		return strconv.AppendBool(b, v)
	case string:
		if isPlain(v) {
			return append(append(append(b, '"'), v...), '"')
		}
	case json.Number:
		if isInteger(string(v)) {
			return append(b, v...)
		}
	case []any:
		if v == nil {
			return append(b, "null"...)
		}
		b = append(b, '[')
		for i, e := range v {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendJSON(b, e)
		}
		return append(b, ']')
	case map[string]any:
		if v == nil {
			return append(b, "null"...)
		}
		b = append(b, '{')
		var few [16]string // most have no more
		for i, name := range appendNames(few[:0], v) {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendJSON(append(appendJSON(b, name), ':'), v[name])
		}
		return append(b, '}')
	}
	text, err := Marshal(v)
	if err != nil {
		panic("instance: encoding a value that is not JSON: " + err.Error())
	}
	return append(b, text...)
}

// isPlain reports whether a string can be put in quotes as it is.
func isPlain(s string) bool {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '"' || c == '\\' {
			return false
		}
	}
	return true
}

// isInteger reports whether a number is written with digits alone (RFC 8259, section 6).
func isInteger(n string) bool {
	digits := strings.TrimPrefix(n, "-")
	return digits != "" && strings.Trim(digits, "0123456789") == "" && (digits[0] != '0' || digits == "0")
}

// Type names the JSON Schema type of v: null, boolean, integer, number,
// string, array or object. A number without a fraction, 12.0 too, is an integer.
func Type(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case bool:
		return "boolean"
	case string:
		return "string"
	case json.Number:
		if len(v) <= MaxDigits && isInteger(string(v)) {
			return "integer"
		}
		if r, ok := Rat(v); ok && r.IsInt() {
			return "integer"
		}
		return "number"
	case []any:
		return "array"
	case map[string]any:
		return "object"
	}
	panic(fmt.Sprintf("instance: %T is not a JSON value", v))
}

// Rat is the exact value of a number; not ok for one that is not Computable.
func Rat(n json.Number) (*big.Rat, bool) {
	if !Computable(n) {
		return nil, false
	}
	return new(big.Rat).SetString(string(n))
}

// Number writes r as decimal text: exactly where it ends, else to 20 digits.
func Number(r *big.Rat) json.Number {
	if r.IsInt() {
		return json.Number(r.Num().String())
	}
	digits, exact := r.FloatPrec()
	if !exact {
		digits = 20
	}
	return json.Number(r.FloatString(digits))
}

// Clone is a deep copy.
func Clone(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, m := range v {
			out[k] = Clone(m)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, e := range v {
			out[i] = Clone(e)
		}
		return out
	}
	return v
}

// Equal compares as JSON Schema does: 1.0 equals 1.
func Equal(a, b any) bool {
	switch a := a.(type) {
	case map[string]any:
		b, ok := b.(map[string]any)
		if !ok || len(a) != len(b) {
			return false
		}
		for k, m := range a {
			if other, ok := b[k]; !ok || !Equal(m, other) {
				return false
			}
		}
		return true
	case []any:
		b, ok := b.([]any)
		if !ok || len(a) != len(b) {
			return false
		}
		for i := range a {
			if !Equal(a[i], b[i]) {
				return false
			}
		}
		return true
	case json.Number:
		b, ok := b.(json.Number)
		if !ok || a == b {
			return ok
		}
		x, okX := Rat(a)
		y, okY := Rat(b)
		if !okX || !okY {
			return a == b
		}
		return x.Cmp(y) == 0
	}
	return a == b
}

// Names are the member names of an object in order.
func Names(m map[string]any) []string { return appendNames(make([]string, 0, len(m)), m) }

func appendNames(names []string, m map[string]any) []string {
	for k := range m {
		names = append(names, k)
	}
	slices.Sort(names)
	return names
}

// Walk calls visit for v and everything inside it, parents first, members in
// the order of their names. A false from visit leaves out what is inside.
func Walk(v any, visit func(pointer string, v any) bool) { walk("", v, visit) }

func walk(at string, v any, visit func(string, any) bool) {
	if !visit(at, v) {
		return
	}
	switch v := v.(type) {
	case map[string]any:
		for _, k := range Names(v) {
			walk(Join(at, k), v[k], visit)
		}
	case []any:
		for i, e := range v {
			walk(Join(at, strconv.Itoa(i)), e, visit)
		}
	}
}

// Get is the value at a pointer; false if there is none.
func Get(v any, pointer string) (any, bool) {
	if !wellFormed(pointer) {
		return nil, false
	}
	for pointer != "" {
		var token string
		token, pointer = first(pointer)
		switch c := v.(type) {
		case map[string]any:
			m, ok := c[token]
			if !ok {
				return nil, false
			}
			v = m
		case []any:
			i, ok := index(token, len(c))
			if !ok {
				return nil, false
			}
			v = c[i]
		default:
			return nil, false
		}
	}
	return v, true
}

// Set is v with the value at pointer replaced, or added where its parent is an
// object, or an array that ends just before it. False if there is no parent.
func Set(v any, pointer string, value any) (any, bool) {
	if !wellFormed(pointer) {
		return v, false
	}
	return set(v, pointer, value)
}

func set(v any, pointer string, value any) (any, bool) {
	if pointer == "" {
		return value, true
	}
	token, inside := first(pointer)
	switch c := v.(type) {
	case map[string]any:
		old, there := c[token]
		if !there && inside != "" {
			return v, false
		}
		inner, ok := set(old, inside, value)
		if !ok {
			return v, false
		}
		out := maps.Clone(c)
		if out == nil {
			out = map[string]any{}
		}
		out[token] = inner
		return out, true
	case []any:
		i, ok := index(token, len(c)+1)
		if !ok || i == len(c) && inside != "" {
			return v, false
		}
		var old any
		if i < len(c) {
			old = c[i]
		}
		inner, ok := set(old, inside, value)
		if !ok {
			return v, false
		}
		out := make([]any, max(len(c), i+1))
		copy(out, c)
		out[i] = inner
		return out, true
	}
	return v, false
}

// Remove is v without the member or element at pointer; false if there is none.
func Remove(v any, pointer string) (any, bool) {
	if pointer == "" || !wellFormed(pointer) {
		return v, false
	}
	at, last := Parent(pointer), Last(pointer)
	parent, ok := Get(v, at)
	if !ok {
		return v, false
	}
	switch c := parent.(type) {
	case map[string]any:
		if _, ok := c[last]; !ok {
			return v, false
		}
		out := maps.Clone(c)
		delete(out, last)
		return set(v, at, out)
	case []any:
		i, ok := index(last, len(c))
		if !ok {
			return v, false
		}
		out := make([]any, 0, len(c)-1)
		return set(v, at, append(append(out, c[:i]...), c[i+1:]...))
	}
	return v, false
}

// RemoveAll is v without the members of objects at some pointers; false if none is there.
func RemoveAll(v any, pointers []string) (any, bool) {
	removed := false
	for i := 0; i < len(pointers); {
		at := Parent(pointers[i])
		parent, ok := Get(v, at)
		object, _ := parent.(map[string]any)
		less := maps.Clone(object)
		for ; i < len(pointers) && Parent(pointers[i]) == at; i++ { // those that follow one another in one object
			if pointers[i] != "" {
				delete(less, Last(pointers[i]))
			}
		}
		if ok && len(less) < len(object) {
			v, removed = set(v, at, less)
		}
	}
	return v, removed
}

// Merge is v with a JSON Merge Patch applied (RFC 7396): null takes a member away.
func Merge(v, patch any) any {
	changes, ok := patch.(map[string]any)
	if !ok {
		return patch
	}
	old, _ := v.(map[string]any)
	out := make(map[string]any, len(old)+len(changes))
	for k, m := range old {
		out[k] = m
	}
	for k, m := range changes {
		if m == nil {
			delete(out, k)
		} else {
			out[k] = Merge(out[k], m)
		}
	}
	return out
}

// index reads an array index of RFC 6901, section 4: digits, no leading zero.
func index(token string, length int) (int, bool) {
	if token == "" || len(token) > 1 && token[0] == '0' || strings.TrimLeft(token, "0123456789") != "" {
		return 0, false
	}
	i, err := strconv.Atoi(token)
	return i, err == nil && i < length
}
