package document

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"obiter/internal/core/instance"
)

// alike compares what two readers made of one document, places and order included.
func alike(t *testing.T, a, b *File) {
	t.Helper()
	if !reflect.DeepEqual(a.Value, b.Value) {
		t.Fatalf("the values differ:\n%v\n%v", a.Value, b.Value)
	}
	places(t, "", a.top, b.top)
	ordered(t, a, a.Value, b, b.Value)
}

func places(t *testing.T, at string, a, b place) {
	t.Helper()
	if a.line != b.line || a.column != b.column || (a.inside == nil) != (b.inside == nil) {
		t.Fatalf("%q is at %d:%d and at %d:%d", at, a.line, a.column, b.line, b.column)
	}
	if a.inside == nil {
		return
	}
	if !reflect.DeepEqual(a.inside.names, b.inside.names) || len(a.inside.places) != len(b.inside.places) {
		t.Fatalf("%q has %q and %q", at, a.inside.names, b.inside.names)
	}
	for i := range a.inside.places {
		places(t, fmt.Sprint(at, "/", i), a.inside.places[i], b.inside.places[i])
	}
}

func ordered(t *testing.T, x *File, a any, y *File, b any) {
	t.Helper()
	switch a := a.(type) {
	case map[string]any:
		p, q := x.order[reflect.ValueOf(a).Pointer()], y.order[reflect.ValueOf(b).Pointer()]
		if !reflect.DeepEqual(p, q) {
			t.Fatalf("the order is %q and %q", p, q)
		}
		for name, m := range a {
			ordered(t, x, m, y, b.(map[string]any)[name])
		}
	case []any:
		for i, e := range a {
			ordered(t, x, e, y, b.([]any)[i])
		}
	}
}

const ofPieces = `
{ "openapi": "3.1.0", "info": {"title":"Harbour, \"north\"","version":"1"},
  "paths": {
    "/vessels": { "get": {"tags": ["a", "b"],
       "responses": {}}, "post": {} },
    "/berths/{berth}": {"get": {"summary": "one \\", "x": [{"deep": {"er": [1, 2.5e3, null, true]}}]}}
  } ,
	"components": {"schemas": {"properties": {"length": {"type": "number"}, "draught": {}, "name": 3},
    "Vessel": {"type":"object","properties":{"b":{"type":"string"},"a":{}}},
    "Berth": {}, "Empty": []}}}
`

// What several readers make of a document is what one makes of it.
func TestPiecesAreTheWhole(t *testing.T) {
	whole, err := readWhole("harbour.json", []byte(ofPieces), true)
	if err != nil {
		t.Fatal(err)
	}
	for _, size := range []int{1, 8, 30, 80, 200} {
		f := readPieces("harbour.json", []byte(ofPieces), size)
		if f == nil {
			t.Fatalf("in pieces of %d bytes it is not read", size)
		}
		alike(t, f, whole)
	}
	if readPieces("harbour.json", []byte(ofPieces), 10_000) != nil {
		t.Error("one piece is read as several")
	}
}

// A document of the size that is read in pieces is read as it stands, and what is wrong
// with it is told with its place.
func TestLargeDocument(t *testing.T) {
	var b strings.Builder
	b.WriteString("{\"openapi\": \"3.1.0\",\n\"paths\": {\n")
	for i := range 20_000 {
		fmt.Fprintf(&b, "\"/berths/%d\": {\"get\": {\"summary\": \"berth, or {place}\", \"tags\": [\"quay\"]}},\n", i)
	}
	right := b.String() + "\"/last\": {}}}\n"
	if len(right) < large {
		t.Fatalf("only %d bytes", len(right))
	}
	f, err := Read("harbour.json", []byte(right))
	if err != nil {
		t.Fatal(err)
	}
	if line, column := f.At("/paths/~1berths~119999/get/tags"); line != 20_002 || column != 59 {
		t.Errorf("the last tags are at %d:%d", line, column)
	}
	if n := len(f.Names("/paths")); n != 20_001 {
		t.Errorf("there are %d paths", n)
	}
	for name, wrong := range map[string]string{
		`harbour.json:20003:1: the member "/berths/7" appears twice in one object`: b.String() + "\"/berths/7\": {}}}",
		"harbour.json:20003:9: not readable as JSON":                               b.String() + "\"/last\" {}}}",
		"harbour.json:20003:15: not readable as JSON":                              b.String() + "\"/last\": {}}} {}",
		"harbour.json:20003:12: not readable as JSON":                              b.String() + "\"/last\": {},}}",
	} {
		if _, err := Read("harbour.json", []byte(wrong)); err == nil || !strings.HasPrefix(err.Error(), name) {
			t.Errorf("%v, and not %s", err, name)
		}
	}
}

// Small objects that come often are kept once, each with places of its own.
func TestSmallObjectsAreKeptOnce(t *testing.T) {
	const src = `{
 "a": {"type":"string"}, "b": {"type":"string"},
 "c": {
   "type": "string" },   "d": [1, {
   "type": "string" }],
 "e": {"a":"}"}, "f": {"a":"}"},
 "g": {"$ref":"#/a"}, "h": {"$ref":"#/a"},
 "i": {"properties": {"x": 1}, "j": {"properties": {"x": 1}}}}`
	f := read(t, "harbour.json", src)
	whole, err := readWhole("harbour.json", []byte(src), true)
	if err != nil {
		t.Fatal(err)
	}
	alike(t, f, whole)
	at := func(pointer string) uintptr {
		v, _ := instance.Get(f.Value, pointer)
		return reflect.ValueOf(v).Pointer()
	}
	for _, c := range []struct {
		a, b string
		once bool
	}{
		{"/a", "/b", true}, {"/c", "/d/1", true}, {"/a", "/c", false}, {"/e", "/f", false},
		{"/g", "/h", false}, {"/i/properties", "/i/j/properties", false},
	} {
		if once := at(c.a) == at(c.b); once != c.once {
			t.Errorf("%s and %s are kept once: %t, want %t", c.a, c.b, once, c.once)
		}
	}
	for pointer, want := range map[string][2]int{"/a/type": {2, 8}, "/b/type": {2, 32}, "/c/type": {4, 4}, "/d/1/type": {5, 4}} {
		if line, column := f.At(pointer); line != want[0] || column != want[1] {
			t.Errorf("%s is at %d:%d, want %v", pointer, line, column, want)
		}
	}
}

// FuzzPieces holds the readers of pieces against the one reader, whatever the text.
func FuzzPieces(f *testing.F) {
	f.Add(ofPieces, 8)
	f.Add(`{"a":{"b":1,"b":2},"c":{"d":{"e":"\ud83d"}}}`, 1)
	f.Add("{\"a\x01\":{\"b\":1},\"c\":{}}", 1)
	f.Add(`{"a":{"b":1}"c":2,}`, 2)
	f.Add(`{"a":{"b":1,"b":2},"c":[{"d":"}"},{"d":"}"}, {"d":"\ud83d"},{"d":"\ud83d"}], "e":[{"d":0},{"d":0}}]}`, 1)
	f.Add("{\"a\":{\"b\":\n[]},\"c\":{\"b\":\n1},\"d\":{\"b\":\n1},\"e\":{\"b\":\xff},\"f\":{\"b\":\xff}}", 2)
	f.Fuzz(func(t *testing.T, text string, size int) {
		if f, err := readWhole("harbour.json", []byte(text), false); err == nil {
			whole, err := readWhole("harbour.json", []byte(text), true)
			if err != nil {
				t.Fatalf("small objects are kept, and each by itself is not read: %v", err)
			}
			alike(t, f, whole)
		}
		pieces := readPieces("harbour.json", []byte(text), max(size, 0))
		if pieces == nil {
			return
		}
		whole, err := readWhole("harbour.json", []byte(text), true)
		if err != nil {
			t.Fatalf("the pieces are read, and the whole is not: %v", err)
		}
		alike(t, pieces, whole)
	})
}
