package wire

import (
	"encoding/json"
	"strings"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
)

func decode(t *testing.T, text string) any {
	t.Helper()
	v, err := instance.Decode([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// TestStyles writes a value in each style (OpenAPI 3.1.1, section 4.8.12.2).
func TestStyles(t *testing.T) {
	const list, object = `["red","green"]`, `{"R":100,"G":200}`
	for _, c := range []struct {
		in, style string
		explode   bool
		value     string
		want      string
	}{
		{"path", "simple", false, list, "/red,green"}, {"path", "simple", true, object, "/G=200,R=100"}, {"path", "simple", false, object, "/G,200,R,100"},
		{"path", "label", false, list, "/.red,green"}, {"path", "label", true, list, "/.red.green"}, {"path", "label", true, object, "/.G=200.R=100"},
		{"path", "matrix", false, `"x y"`, "/;c=x%20y"}, {"path", "matrix", true, list, "/;c=red;c=green"}, {"path", "matrix", false, object, "/;c=G,200,R,100"},
		{"query", "form", true, list, "/?c=red&c=green"}, {"query", "form", false, list, "/?c=red,green"}, {"query", "form", true, object, "/?G=200&R=100"},
		{"query", "spaceDelimited", false, list, "/?c=red%20green"}, {"query", "pipeDelimited", false, list, "/?c=red%7Cgreen"}, {"query", "deepObject", true, object, "/?c%5BG%5D=200&c%5BR%5D=100"},
		{"query", "form", true, `"a&b=c+d"`, "/?c=a%26b%3Dc%2Bd"}, {"header", "simple", false, list, "/ c: red,green"}, {"cookie", "form", true, `"tide"`, "/ Cookie: c=tide"},
	} {
		place := &Place{In: c.in, Params: []oad.Parameter{{Name: "c", In: c.in, Style: c.style, Explode: c.explode}}}
		path := "/"
		if c.in == "path" {
			path = "/{c}#told apart"
		}
		address, headers := Address("http://h/", path, []*Place{place}, map[string]any{c.in: map[string]any{"c": decode(t, c.value)}})
		got := strings.TrimPrefix(address, "http://h")
		for _, h := range headers {
			got += " " + h[0] + ": " + h[1]
		}
		if got != c.want {
			t.Errorf("%s %s, explode %v, of %s: %s, want %s", c.in, c.style, c.explode, c.value, got, c.want)
		}
	}
}

// TestWhatCannotBeSentIsRefused: values that have no one written form in a place.
func TestWhatCannotBeSentIsRefused(t *testing.T) {
	for _, c := range []struct {
		in, form, value string
		want            bool
	}{
		{"path", "", `"a/b"`, false}, {"path", "", `""`, false}, {"path", "", `".."`, false}, {"path", "", `"a b"`, true},
		{"header", "", `" x"`, false}, {"header", "", `"x\ny"`, false}, {"header", "", `"ø"`, false}, {"header", "", `"x y"`, true},
		{"query", "", `["a","b"]`, true}, {"query", "", `["a",["b"]]`, false}, {"query", "", `"\u0000"`, false}, {"cookie", "", `"a b"`, false},
		{"body", "urlencoded", `{"a":1}`, false}, {"body", "multipart", `{"a":1}`, true}, {"body", "urlencoded", `["a"]`, true},
	} {
		p := &Place{In: c.in, Form: c.form, Params: []oad.Parameter{{Name: "c", In: c.in, Style: "form", Explode: true}}}
		if _, ok := p.Sendable(map[string]any{"c": decode(t, c.value)}); ok != c.want {
			t.Errorf("%s %s %s can be sent: %v", c.in, c.form, c.value, ok)
		}
	}
}

// TestAReaderOfText takes a text for what its schema says, where it can be.
func TestAReaderOfText(t *testing.T) {
	set := schema.NewSet(source(`{"i":{"type":"integer"},"b":{"type":"boolean"},"s":{"type":"string"},"n":{"type":["number","null"]},"l":{"type":"array","items":{"type":"integer"}},"any":{}}`))
	for _, c := range []struct{ of, value, want string }{
		{"i", `"12"`, `12`}, {"i", `"twelve"`, `"twelve"`}, {"i", `12.5`, `12.5`}, {"b", `"true"`, `true`}, {"b", `1`, `"1"`}, {"s", `12`, `"12"`}, {"s", `true`, `"true"`},
		{"n", `null`, `""`}, {"l", `["1",2,"x"]`, `[1,2,"x"]`}, {"any", `"12"`, `12`},
	} {
		s, err := set.Compile("test:///schema#/" + c.of)
		if err != nil {
			t.Fatal(err)
		}
		if got := string(instance.Encode(Read([]schema.Schema{s}, decode(t, c.value)))); got != c.want {
			t.Errorf("%s as %s is read as %s, want %s", c.value, c.of, got, c.want)
		}
	}
}

type source string

func (s source) Load(string) (any, error) {
	var v any
	err := json.Unmarshal([]byte(s), &v)
	return v, err
}
func (source) Order(map[string]any) []string { return nil }
func (source) Anchored() []string            { return nil }
func (source) Referrer(string) string        { return "" }
