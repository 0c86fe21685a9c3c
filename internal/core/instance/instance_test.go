package instance

import (
	"bytes"
	"encoding/json"
	"errors"
	"math/big"
	"reflect"
	"strings"
	"testing"
)

func decode(t *testing.T, s string) any {
	t.Helper()
	v, err := Decode([]byte(s))
	if err != nil {
		t.Fatalf("Decode(%s): %v", s, err)
	}
	return v
}

func TestDecodeTakesOneTextOnly(t *testing.T) {
	for _, bad := range []string{"", " ", "{", `{"a":1}x`, "1 2", "nul", strings.Repeat("[", MaxDepth+1) + strings.Repeat("]", MaxDepth+1)} {
		if v, err := Decode([]byte(bad)); err == nil {
			t.Errorf("Decode(%.20q) = %v, want an error", bad, v)
		}
	}
	atLimit := strings.Repeat("[", MaxDepth) + strings.Repeat("]", MaxDepth)
	if _, err := Decode([]byte(atLimit)); err != nil {
		t.Errorf("nesting of exactly %d: %v", MaxDepth, err)
	}
}

// FuzzEncode compares with encoding/json, which is slower and surely right.
func FuzzEncode(f *testing.F) {
	for _, seed := range []string{
		`{"b":[1,-0,0,-12,0.5,1e400,01],"a":{"":null,"z":{}},"c":[]}`, `"<tug & barge>\u2028\u007f\u0000\"\\/é😀"`, `["\ud800",true,false]`,
		`{"é":1,"\u0001":2,"a\"b":3}`, `9007199254740993`, `-`, `[[[[]]]]`,
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		v, err := Decode([]byte(text))
		if err != nil {
			v = text // any text is a string
		}
		var want bytes.Buffer
		e := json.NewEncoder(&want)
		e.SetEscapeHTML(false)
		if err := e.Encode(v); err != nil {
			t.Fatal(err)
		}
		if got := Encode(v); string(got)+"\n" != want.String() {
			t.Errorf("Encode gives %s, want %s", got, &want)
		}
	})
}

func TestEncodeKnowsWhatIsNotThere(t *testing.T) {
	v := map[string]any{"list": []any(nil), "object": map[string]any(nil), "none": json.Number("")}
	if got, want := string(Encode(v)), `{"list":null,"none":0,"object":null}`; got != want {
		t.Errorf("Encode gives %s, want %s", got, want)
	}
}

func TestNumbersStayExact(t *testing.T) {
	const text = `{"n":9007199254740993,"x":0.1,"y":1e400}`
	if got := string(Encode(decode(t, text))); got != text {
		t.Errorf("Encode(Decode) = %s, want %s", got, text)
	}
	for _, c := range []struct{ in, want string }{{"1/2", "0.5"}, {"7", "7"}, {"-1/8", "-0.125"}, {"9007199254740993", "9007199254740993"}, {"1/3", "0.33333333333333333333"}} {
		r, _ := new(big.Rat).SetString(c.in)
		if got := Number(r); string(got) != c.want {
			t.Errorf("Number(%s) = %s, want %s", c.in, got, c.want)
		}
	}
}

func TestEqualAndType(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{{"1", "1.0", true}, {"1", "1.5", false}, {`{"a":[1,null]}`, `{"a":[1.0,null]}`, true}, {`[1]`, `[1,2]`, false}, {`"1"`, "1", false}, {`{"a":1}`, `{"b":1}`, false}, {"true", "true", true}} {
		if got := Equal(decode(t, c.a), decode(t, c.b)); got != c.want {
			t.Errorf("Equal(%s, %s) = %v", c.a, c.b, got)
		}
	}
	for text, want := range map[string]string{"null": "null", "true": "boolean", "12": "integer", "12.0": "integer", "12.5": "number", `""`: "string", "[]": "array", "{}": "object", "1e400": "integer"} {
		if got := Type(decode(t, text)); got != want {
			t.Errorf("Type(%s) = %s, want %s", text, got, want)
		}
	}
}

func TestSetAndRemoveLeaveTheOriginal(t *testing.T) {
	const start = `{"a":{"b":[1,2]},"c/d":{"~":0},"e":null}`
	for _, c := range []struct{ pointer, value, set, removed string }{
		{"", `9`, `9`, ""},
		{"/a/b/0", `9`, `{"a":{"b":[9,2]},"c/d":{"~":0},"e":null}`, `{"a":{"b":[2]},"c/d":{"~":0},"e":null}`},
		{"/a/b/2", `9`, `{"a":{"b":[1,2,9]},"c/d":{"~":0},"e":null}`, ""},
		{"/a/b/3", `9`, "", ""},
		{"/a/b/01", `9`, "", ""},
		{"/a/x", `9`, `{"a":{"b":[1,2],"x":9},"c/d":{"~":0},"e":null}`, ""},
		{"/c~1d/~0", `9`, `{"a":{"b":[1,2]},"c/d":{"~":9},"e":null}`, `{"a":{"b":[1,2]},"c/d":{},"e":null}`},
		{"/x/y", `9`, "", ""},
		{"/e/y", `9`, "", ""},
		{"a", `9`, "", ""},
	} {
		v := decode(t, start)
		got, ok := Set(v, c.pointer, decode(t, c.value))
		if ok != (c.set != "") || ok && string(Encode(got)) != c.set {
			t.Errorf("Set(%q) = %s, %v; want %s", c.pointer, Encode(got), ok, c.set)
		}
		got, ok = Remove(v, c.pointer)
		if ok != (c.removed != "") || ok && string(Encode(got)) != c.removed {
			t.Errorf("Remove(%q) = %s, %v; want %s", c.pointer, Encode(got), ok, c.removed)
		}
		if string(Encode(v)) != start {
			t.Fatalf("%q changed the original to %s", c.pointer, Encode(v))
		}
	}
}

// TestRemoveAll deletes what Remove does, one after another.
func TestRemoveAll(t *testing.T) {
	v, err := Decode([]byte(`{"a":{"b":1,"c":{"d":2,"e":3},"f~/":4},"g":[{"h":5,"i":6}],"j":7}`))
	if err != nil {
		t.Fatal(err)
	}
	before := string(Encode(v))
	for _, pointers := range [][]string{nil, {""}, {"/x"}, {"x"}, {"/g/0"}, {"/j"}, {"/a", "/j"}, {"/a/b", "/a/c", "/a/f~0~1"}, {"/a/c/d", "/a/b", "/a/c/e", "/x/y", "/a/c"}, {"/g/0/h", "/g/0/i", "/g/0/i"}, {"/a/c", "/a/c/d"}} {
		want, removed := v, false
		for _, at := range pointers {
			if at == "/g/0" { // an element of a list
				continue
			}
			less, ok := Remove(want, at)
			want, removed = less, removed || ok
		}
		got, ok := RemoveAll(v, pointers)
		if !Equal(got, want) || ok != removed {
			t.Errorf("without %q: %s, %v; want %s, %v", pointers, Encode(got), ok, Encode(want), removed)
		}
	}
	if string(Encode(v)) != before {
		t.Error("the value itself was changed")
	}
}

func TestWalkGoesInOrder(t *testing.T) {
	var got []string
	Walk(decode(t, `{"b":[true,{"x":1}],"a":2}`), func(p string, _ any) bool { got = append(got, p); return p != "/b/1" })
	if want := []string{"", "/a", "/b", "/b/0", "/b/1"}; !reflect.DeepEqual(got, want) {
		t.Errorf("Walk visited %q, want %q", got, want)
	}
}

func TestPointers(t *testing.T) {
	if got := Fragment("/a b/ø"); got != "#/a%20b/%C3%B8" {
		t.Errorf("Fragment = %s", got)
	}
	if Parent("/a/b") != "/a" || Last("/a/b~1c") != "b/c" || Parent("") != "" || Last("") != "" {
		t.Error("Parent or Last is wrong")
	}
	if !Within("/a/b", "/a") || Within("/ab", "/a") || !Within("/a", "/a") || !Within("/a", "") {
		t.Error("Within is wrong")
	}
	for _, bad := range []string{"a", "/~", "/a~2b", "/~01~"} {
		if _, err := Split(bad); err == nil {
			t.Errorf("Split(%q) is no error", bad)
		}
	}
}

func FuzzPointer(f *testing.F) {
	for _, s := range []string{"a", "", "~", "/", "a/b", "~1", "\x00", "ø"} {
		f.Add(s, "x")
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		got, err := Split(Join("", a, b))
		if err != nil || !reflect.DeepEqual(got, []string{a, b}) {
			t.Fatalf("Split(Join(%q, %q)) = %q, %v", a, b, got, err)
		}
	})
}

func FuzzDecode(f *testing.F) {
	for _, s := range []string{`{"a":[1,2.50,null,"x\u0000"]}`, `1e9999999`, `[[[[]]]]`, `"\ud800"`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		v, err := Decode(data)
		if err != nil {
			return
		}
		again, err := Decode(Encode(v))
		if err != nil || !Equal(v, again) {
			t.Fatalf("%q does not survive: %v", data, err)
		}
		Walk(v, func(p string, inner any) bool {
			if got, ok := Get(v, p); !ok || !Equal(got, inner) {
				t.Fatalf("Get(%q) = %v, %v", p, got, ok)
			}
			Type(inner)
			return true
		})
	})
}

func BenchmarkSetDeep(b *testing.B) {
	var v any = map[string]any{}
	for _, n := range []string{"/a", "/a/b", "/a/b/c"} {
		v, _ = Set(v, n, map[string]any{"x": json.Number("1")})
	}
	for b.Loop() {
		Set(v, "/a/b/c/x", json.Number("2"))
	}
}

// TestMergeIsThatOfTheRFC goes through the examples of RFC 7396, appendix A.
func TestMergeIsThatOfTheRFC(t *testing.T) {
	for _, c := range [][3]string{
		{`{"a":"b"}`, `{"a":"c"}`, `{"a":"c"}`}, {`{"a":"b"}`, `{"b":"c"}`, `{"a":"b","b":"c"}`}, {`{"a":"b"}`, `{"a":null}`, `{}`},
		{`{"a":"b","b":"c"}`, `{"a":null}`, `{"b":"c"}`}, {`{"a":["b"]}`, `{"a":"c"}`, `{"a":"c"}`}, {`{"a":"c"}`, `{"a":["b"]}`, `{"a":["b"]}`},
		{`{"a":{"b":"c"}}`, `{"a":{"b":"d","c":null}}`, `{"a":{"b":"d"}}`}, {`{"a":[{"b":"c"}]}`, `{"a":[1]}`, `{"a":[1]}`}, {`["a","b"]`, `["c","d"]`, `["c","d"]`},
		{`{"a":"b"}`, `["c"]`, `["c"]`}, {`{"a":"foo"}`, `null`, `null`}, {`{"e":null}`, `{"a":1}`, `{"a":1,"e":null}`}, {`[1,2]`, `{"a":"b","c":null}`, `{"a":"b"}`}, {`{}`, `{"a":{"bb":{"ccc":null}}}`, `{"a":{"bb":{}}}`},
	} {
		v, err := Decode([]byte(c[0]))
		if err != nil {
			t.Fatal(err)
		}
		patch, err := Decode([]byte(c[1]))
		if err != nil {
			t.Fatal(err)
		}
		if got := string(Encode(Merge(v, patch))); got != c[2] {
			t.Errorf("%s with %s is %s, want %s", c[0], c[1], got, c[2])
		}
		if string(Encode(v)) != string(Encode(must(Decode([]byte(c[0]))))) {
			t.Errorf("%s was changed", c[0])
		}
	}
}

func must(v any, err error) any {
	if err != nil {
		panic(err)
	}
	return v
}

func TestTextsAreEscapedAsInJSON(t *testing.T) {
	for text, want := range map[string]string{"": "", "plain": "plain", `a "berth"`: `a \"berth\"`, "<pier>\n": `<pier>\n`, `end"`: `end\"`} {
		if got := string(Escaped(text)); got != want {
			t.Errorf("%q is escaped as %q, want %q", text, got, want)
		}
	}
}

// TestNumbersBeyondComputing are no values here, whatever their text: exponents that
// take gigabytes, and digits without end.
func TestNumbersBeyondComputing(t *testing.T) {
	for text, want := range map[string]bool{
		"1e308": true, "-1.5E-400": true, "1e10000": true, "12345678901234567890123456789012345": true, "0": true,
		"1e10000000": false, "1e-10000000": false, "1E+10001": false, "1e99999999999999999999999": false, strings.Repeat("9", MaxDigits+1): false, "1." + strings.Repeat("0", MaxDigits): false,
	} {
		if got := Computable(json.Number(text)); got != want {
			t.Errorf("%.30s: %v", text, got)
		}
		_, err := Decode([]byte(`{"a":[` + text + `]}`))
		if (err == nil) != want || !want && !errors.Is(err, ErrNumber) {
			t.Errorf("%.30s: %v", text, err)
		}
		if _, ok := Rat(json.Number(text)); ok != want {
			t.Errorf("%.30s has a value: %v", text, ok)
		}
	}
}

func TestInteroperable(t *testing.T) {
	for text, want := range map[string]bool{`{"a":1,"b":[{"a":2}]}`: true, `{"a":1,"a":1}`: false, `{"b":{"a":1,"\u0061":2}}`: false, "\"\xff\"": false, `"\ufffd"`: true, `{`: false, ``: false} {
		if got := Interoperable([]byte(text)); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
}
