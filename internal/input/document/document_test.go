package document

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"obiter/internal/core/instance"
)

func read(t *testing.T, name, src string) *File {
	t.Helper()
	f, err := Read(name, []byte(src))
	if err != nil {
		t.Fatalf("%v\n%s", err, src)
	}
	return f
}

func TestBadDocumentsNameTheirPlace(t *testing.T) {
	bomb := "a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n"
	for i := range 12 {
		bomb += fmt.Sprintf("a%d: &a%d [%s]\n", i+1, i+1, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d, ", i), 10), ", "))
	}
	for _, c := range []struct{ name, file, src, want string }{
		{"empty", "t.yaml", " \n", "t.yaml:1: the file is empty"},
		{"a list that does not end", "t.yaml", "a: [1\nb: 2\n", "t.yaml:2:2: not readable as YAML: while parsing a flow sequence: did not find expected ',' or ']'"},
		{"a tab", "t.yaml", "a: 1\n\tb: 2\n", "t.yaml:2:1: not readable as YAML"},
		{"twice", "t.yaml", "a: 1\na: 2\n", `t.yaml:2:1: the member "a" appears twice`},
		{"an alias inside itself", "t.yaml", "a: &a {b: *a}\n", "t.yaml:1:11: the alias *a is inside what it names"},
		{"deep", "t.yaml", "a: " + strings.Repeat("[", maxDepth+1) + strings.Repeat("]", maxDepth+1), "nests deeper than"},
		{"aliases without end", "t.yaml", bomb, "t.yaml:8:"},
		{"a name that is not text", "t.yaml", "? [1]\n: 2\n", "t.yaml:1:3: a member name is not text"},
		{"JSON", "t.json", "{\"a\":1,\n \"b\": }", "t.json:2:7: not readable as JSON: missing value after object name"},
		{"JSON that ends", "t.json", "{\"a\": [1,", "t.json:1:10: not readable as JSON: the document ends in the middle"},
		{"JSON with more behind", "t.json", "{} {}", "t.json:1:4: not readable as JSON: there is more after the end"},
		{"JSON with a member twice", "t.json", "{\"a\":1,\n\"a\":2}", `t.json:2:1: the member "a" appears twice`},
		{"a number that nobody computes with", "t.yaml", "a: 1\nb: {multipleOf: 1e-1000000}\n", "t.yaml:2:17: the number has more than 2000 digits, or an exponent beyond 10000"},
		{"such a number in JSON", "t.json", "{\"a\":\n1e1000000}", "t.json:2:1: the number has more than 2000 digits"},
		{"deep JSON", "t.json", strings.Repeat("[", maxDepth+2) + strings.Repeat("]", maxDepth+2), "nests deeper than"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Read(c.file, []byte(c.src))
			var e *Error
			if !errors.As(err, &e) || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v, want %q", err, c.want)
			}
		})
	}
}

func TestWhatIsNoFileIsNotOpened(t *testing.T) {
	dir := t.TempDir()
	pipe := filepath.Join(dir, "pipe.yaml")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{pipe: "not a regular file", dir: "this is a folder", filepath.Join(dir, "nope"): "there is no such file", "https://harbour.example/a": "nothing is fetched"} {
		if _, err := Open(name); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", name, err, want)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "a.yaml"), []byte("a: 1"), 0o600); err != nil {
		t.Fatal(err)
	}
	if f, err := Open(filepath.Join(dir, "a.yaml")); err != nil || len(f.Names("")) != 1 {
		t.Error(err)
	}
}

func TestScalarsKeepTheirText(t *testing.T) {
	f := read(t, "t.yaml", "{200: a, d: 2020-01-02, big: 9007199254740993, hex: 0x10, dec: 1.50, \"y\": yes, n: ~, m: &m {q: 1}, k: {<<: *m, z: 2}}\n")
	want := `{"200":"a","big":9007199254740993,"d":"2020-01-02","dec":1.50,"hex":16,"k":{"q":1,"z":2},"m":{"q":1},"n":null,"y":"yes"}`
	if s := string(instance.Encode(f.Value)); s != want {
		t.Errorf("read as %s\nwant       %s", s, want)
	}
}

// TestBothReadersAgree reads the same text as JSON and as YAML.
func TestBothReadersAgree(t *testing.T) {
	const src = "{\"b\": [1.50, true,\n  null, {\"c\":\t\"\u00f8\\n\"}],\n \"properties\": {\"z\": -0, \"a\": 1e5}, \"e\": {}, \"l\": []}"
	asJSON, asYAML := read(t, "t.json", src), read(t, "t.yaml", " # a comment makes it YAML\n"+src)
	if x, y := string(instance.Encode(asJSON.Value)), string(instance.Encode(asYAML.Value)); x != y {
		t.Errorf("JSON %s\nYAML %s", x, y)
	}
	for _, pointer := range []string{"", "/b", "/b/0", "/b/1", "/b/3", "/b/3/c", "/properties/a", "/e", "/l", "/nope"} {
		line, column := asJSON.At(pointer)
		if l, c := asYAML.At(pointer); l-1 != line || c != column {
			t.Errorf("%q is at %d:%d as JSON, at %d:%d as YAML", pointer, line, column, l-1, c)
		}
	}
	files := NewFiles(asJSON, "", func(*Files, string, *File) {})
	properties, _ := instance.Get(asJSON.Value, "/properties")
	if got := files.Order(properties.(map[string]any)); len(got) != 2 || got[0] != "z" {
		t.Errorf("the order is %q", got)
	}
}

// What a merge key brings is there, in order and with a place.
func TestMergedMembersAreMembers(t *testing.T) {
	f := read(t, "t.yaml", `x-buoy: &buoy {colour: red, light: 4}
properties:
  light: {type: integer}
  <<: *buoy
  <<: {depth: 3, colour: blue}
`)
	properties, _ := instance.Get(f.Value, "/properties")
	if got, want := string(instance.Encode(properties)), `{"colour":"red","depth":3,"light":{"type":"integer"}}`; got != want {
		t.Errorf("the properties are %s, want %s", got, want)
	}
	if got := strings.Join(f.Names("/properties"), " "); got != "light colour depth" {
		t.Errorf("their order is %s", got)
	}
	for name, line := range map[string]string{"light": "3:3", "colour": "4:3", "depth": "5:3", "none": "2:1"} {
		l, c := f.At("/properties/" + name)
		if got := fmt.Sprint(l, ":", c); got != line {
			t.Errorf("%s is at %s, want %s", name, got, line)
		}
	}
}

func TestPlacesInLongObjects(t *testing.T) {
	var src strings.Builder
	src.WriteString("berths:\n")
	for i := range 3 * many {
		fmt.Fprintf(&src, "  b%d: [a, {c: 1}]\n", i)
	}
	f := read(t, "t.yaml", src.String())
	for pointer, want := range map[string]string{"/berths/b0": "2:3", "/berths/b90": "92:3", "/berths/b90/1/c": "92:13", "/berths/b90/2": "92:3", "/berths/b999": "1:1", "": "1:1"} {
		l, c := f.At(pointer)
		if got := fmt.Sprint(l, ":", c); got != want {
			t.Errorf("%s is at %s, want %s", pointer, got, want)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add("t.yaml", []byte("a: &a [*a, *a]\nb: {<<: {a: 1}, ? [1] : 2}"))
	f.Add("t.yaml", []byte("# nothing"))
	f.Add("t.json", []byte(`{"a":[1,{"properties":{"b":null}}],"c":"\ud800"}`))
	f.Fuzz(func(t *testing.T, name string, src []byte) {
		file, err := Read(name, src)
		var e *Error
		if err != nil && !errors.As(err, &e) {
			t.Fatalf("the error is no *Error: %v", err)
		}
		if err == nil {
			instance.Walk(file.Value, func(pointer string, _ any) bool {
				if line, column := file.At(pointer); line < 1 || column < 1 {
					t.Fatalf("%q is at %d:%d", pointer, line, column)
				}
				return true
			})
		}
	})
}

func TestScalarsAreReadAsTheyWere(t *testing.T) {
	for _, text := range []string{"", "plain", "a: b", "#x", "POST /vessels/{id}", "yes", "12", "null", "a, b", "two\nlines", `"q"`, "'", "- x", "$response.body#/id", " padded ", "ø", "?", "~"} {
		for _, src := range []string{"a: " + Scalar(text) + "\n", "a: { b: " + Scalar(text) + " }\n", Scalar(text) + ": x\n"} {
			f, err := Read("t.yaml", []byte(src))
			if err != nil {
				t.Errorf("%q as %s: %v", text, src, err)
				continue
			}
			m := f.Value.(map[string]any)
			inner, _ := m["a"].(map[string]any)
			_, key := m[text]
			if m["a"] != text && inner["b"] != text && !key {
				t.Errorf("%q is read as %v from %s", text, f.Value, src)
			}
		}
	}
}
