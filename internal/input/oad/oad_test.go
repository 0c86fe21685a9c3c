package oad

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"sync"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
)

const head = "openapi: 3.0.3\ninfo: {title: Tides, version: '2'}\n"

func read(t *testing.T, src string) *Document {
	t.Helper()
	d, err := Read("t.yaml", []byte(src))
	if err != nil {
		t.Fatalf("Read: %v\n%s", err, src)
	}
	return d
}

func TestBadDocumentsNameTheirPlace(t *testing.T) {
	for _, c := range []struct{ name, src, want string }{
		{"empty", "", "t.yaml:1: the file is empty"},
		{"yaml", "openapi: 3.1.0\npaths: [\n", "t.yaml:3:1: not readable as YAML"},
		{"scalar", "hello", "t.yaml:1:1: the document is not an object"},
		{"two", "swagger: '2.0'", "t.yaml:1:1: this is an OpenAPI 2.0 document"},
		{"four", "openapi: 4.0.0", "t.yaml:1:1: unknown OpenAPI version \"4.0.0\""},
		{"none", "a: 1", "there is no openapi member"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Read("t.yaml", []byte(c.src))
			var e *document.Error
			if !errors.As(err, &e) || !strings.Contains(err.Error(), c.want) {
				t.Errorf("Read = %v, want %q", err, c.want)
			}
		})
	}
}

func TestOperationsAreReadInOrder(t *testing.T) {
	d := read(t, head+`
servers: [{url: 'http://{host}:{port}/v1', variables: {host: {default: quay}, port: {default: 8080}}}]
paths:
  /tides/{port}:
    parameters:
      - {name: port, in: path, required: true, schema: {type: string}, example: A}
      - {name: unit, in: query, schema: {type: string}}
    put:
      operationId: setTide
      tags: [tides]
      parameters:
        - $ref: '#/components/parameters/Unit'
      requestBody:
        content:
          text/plain: {schema: {type: string}}
          application/json:
            schema: {type: object}
            examples: {b: {value: {x: 2}}, a: {value: {x: 1}}}
      responses: {'200': {description: ok}, default: {description: no, content: {application/problem+json: {}}}}
    get: {}
  /a:
    post: {requestBody: 5}
components:
  parameters:
    Unit: {name: unit, in: query, required: true, schema: {enum: [m, ft]}, style: form, explode: false}
`)
	var names []string
	for _, o := range d.Operations {
		names = append(names, o.Name())
	}
	if want := []string{"PUT /tides/{port}", "GET /tides/{port}", "POST /a"}; !reflect.DeepEqual(names, want) {
		t.Fatalf("operations %q, want %q", names, want)
	}
	put := d.Operations[0]
	if put.ID != "setTide" || put.Line != 10 || len(put.Parameters) != 2 || put.Body == nil || put.Body.Required {
		t.Errorf("put = %+v", put)
	}
	unit := put.Parameters[1]
	if !unit.Required || unit.Explode || unit.Style != "form" || unit.Schema.Pointer != "/components/parameters/Unit/schema" {
		t.Errorf("the operation's parameter does not overlay the path's: %+v", unit)
	}
	if put.Body.Media[0].Type != "text/plain" || put.Body.Media[1].Type != "application/json" {
		t.Errorf("media types out of order: %+v", put.Body.Media)
	}
	if ex := put.Body.Media[1].Examples; len(ex) != 2 || string(instance.Encode(ex[0].Value)) != `{"x":1}` {
		t.Errorf("examples = %+v", ex)
	}
	if put.Responses[1].Status != "default" || put.Responses[1].Media[0].Type != "application/problem+json" {
		t.Errorf("responses = %+v", put.Responses)
	}
	if !strings.Contains(d.Operations[2].Skip, "the request body is not an object") {
		t.Errorf("skip = %q", d.Operations[2].Skip)
	}
	if d.Servers[0] != "http://quay:8080/v1" || d.Title != "Tides" || d.Version != "2" {
		t.Errorf("servers %q, title %q, version %q", d.Servers, d.Title, d.Version)
	}
}

func TestReferencesToFiles(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	write("parts/schemas.yaml", "Tide: {type: string, nullable: true}\n")
	main := write("openapi.yaml", head+"paths:\n  /a:\n    post:\n      requestBody:\n        content:\n          application/json:\n            schema: {$ref: 'parts/schemas.yaml#/Tide'}\n")
	d, err := Open(main)
	if err != nil {
		t.Fatal(err)
	}
	loc, v, err := d.Resolve(d.Operations[0].Body.Media[0].Schema)
	if err != nil || !strings.HasSuffix(loc.File, "parts/schemas.yaml") {
		t.Fatalf("Resolve = %v, %v", loc, err)
	}
	if s := string(instance.Encode(v)); s != `{"nullable":true,"type":["string","null"]}` {
		t.Errorf("the file's schema is %s", s)
	}
	if got := d.Place(loc); !strings.HasSuffix(got, "schemas.yaml:1:1") {
		t.Errorf("Place = %s", got)
	}
}

func TestCircularReferencesEnd(t *testing.T) {
	d := read(t, "openapi: 3.1.0\npaths:\n  /a:\n    post:\n      requestBody: {$ref: '#/components/requestBodies/A'}\ncomponents:\n  requestBodies:\n    A: {$ref: '#/components/requestBodies/B'}\n    B: {$ref: '#/components/requestBodies/A'}\n")
	if !strings.Contains(d.Operations[0].Skip, "circle") {
		t.Errorf("skip = %q", d.Operations[0].Skip)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(head + "paths:\n  /a:\n    post: {requestBody: {content: {application/json: {schema: {type: string}}}}}\n"))
	f.Add([]byte(`{"openapi":"3.1.0","paths":{"/a":{"$ref":"#/paths/~1a"}}}`))
	f.Add([]byte("a: &a [*a, *a]\nopenapi: 3.0.0"))
	f.Add([]byte("openapi: 3.1.0\nx: {<<: {a: 1}, ? [1] : 2}"))
	f.Fuzz(func(t *testing.T, src []byte) {
		d, err := Read("t.yaml", src)
		var e *document.Error
		if err != nil && !errors.As(err, &e) {
			t.Fatalf("the error is no *document.Error: %v", err)
		}
		if err == nil {
			v, _ := d.Load(d.Main)
			if _, err := json.Marshal(v); err != nil {
				t.Fatalf("the document is no JSON value: %v", err)
			}
		}
	})
}

// A schema with a base of its own leads to files that reading never met.
func TestLateFilesAreReadOnce(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"api.yaml":       "openapi: 3.1.0\npaths: {}\n",
		"quay.yaml":      "type: object\nproperties: {length: {type: integer}, berth: {$ref: 'sub/berth.yaml'}}\n",
		"sub/berth.yaml": "type: object\nproperties: {number: {type: integer}, depth: {$ref: ../quay.yaml}}\n",
	} {
		name = filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(name), 0o755), os.WriteFile(name, []byte(text), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	doc, err := Open(filepath.Join(dir, "api.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	for range 8 {
		for name, want := range map[string]string{"quay.yaml": "length berth", "sub/berth.yaml": "number depth"} {
			wg.Go(func() {
				v, err := doc.Load("file://" + filepath.ToSlash(filepath.Join(dir, name)))
				if err != nil {
					t.Error(err)
					return
				}
				properties := v.(map[string]any)["properties"].(map[string]any)
				if got := strings.Join(doc.Order(properties), " "); got != want {
					t.Errorf("%s: the properties are in the order %q, want %q", name, got, want)
				}
			})
		}
	}
	wg.Wait()
	if _, err := doc.Load("file:///no/such/file.yaml"); err == nil {
		t.Error("a file that is not there was loaded")
	}
}

// TestABrokenReferenceCostsItsUsers and nothing else; it is told where it is.
func TestABrokenReferenceCostsItsUsers(t *testing.T) {
	for name, c := range map[string]struct {
		src  string
		skip string // of the first operation
		warn string
	}{
		"a body": {"  /a: {post: {requestBody: {$ref: '#/components/requestBodies/Nope'}}}\n  /b: {post: {}}\n",
			"t.yaml:4:29: the $ref \"#/components/requestBodies/Nope\" points to nothing", "t.yaml:4:29: the $ref"},
		"a path item":       {"  /a:\n    $ref: '#/x'\n  /b: {post: {}}\n", "t.yaml:5:5: the $ref \"#/x\" points to nothing", "t.yaml:5:5"},
		"over the network":  {"  /a: {post: {requestBody: {$ref: 'https://harbour.example/a.yaml'}}}\n  /b: {post: {}}\n", "nothing is fetched from the network", "cannot be followed"},
		"a missing file":    {"  /a: {$ref: nope.yaml}\n  /b: {post: {}}\n", "cannot be followed: nope.yaml: there is no such file", "nope.yaml"},
		"its own name":      {"  /a: {post: {requestBody: {$ref: 'https://harbour.example/api.yaml#/components/requestBodies/R'}}}\n  /b: {post: {}}\ncomponents: {requestBodies: {R: {content: {}}}}\n$self: https://harbour.example/api.yaml\n", "", ""},
		"what nothing uses": {"  /a: {post: {}}\n  /b: {post: {}}\ncomponents: {schemas: {A: {$ref: '#/p'}, B: {$ref: '#/q'}}}\n", "", "t.yaml:6:28: the $ref \"#/p\" points to nothing (and 1 more"},
		"not an object":     {"  /a: 5\n  /b: {post: {}}\n", "t.yaml:4:3: a path item is not an object", ""},
		"round in a circle": {"  /a: {$ref: '#/paths/~1a'}\n  /b: {post: {}}\n", "circle", ""},
	} {
		t.Run(name, func(t *testing.T) {
			d := read(t, head+"paths:\n"+c.src)
			if len(d.Operations) != 2 {
				t.Fatalf("%d operations", len(d.Operations))
			}
			if got := d.Operations[0].Skip; (got == "") != (c.skip == "") || !strings.Contains(got, c.skip) {
				t.Errorf("left out because %q, want %q", got, c.skip)
			}
			if d.Operations[1].Skip != "" {
				t.Errorf("the other operation is left out: %s", d.Operations[1].Skip)
			}
			if got := strings.Join(d.Warnings, "\n"); (got == "") != (c.warn == "") || !strings.Contains(got, c.warn) {
				t.Errorf("warnings %q, want %q", got, c.warn)
			}
		})
	}
}

// TestPathItemsReferToPathItems: members next to the reference count, and win.
func TestPathItemsReferToPathItems(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"api.yaml":   "openapi: 3.2.0\npaths:\n  /a:\n    $ref: items.yaml#/A\n    parameters: [{name: unit, in: query, schema: {type: integer}}]\n    get: {operationId: own}\n    additionalOperations: {SOUND: {operationId: sounding}}\n",
		"items.yaml": "A: {$ref: '#/B'}\nB:\n  parameters: [{name: unit, in: query, schema: {type: string}}, {name: port, in: query, schema: {type: string}}]\n  get: {operationId: other}\n  put: {operationId: put}\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	d, err := Open(filepath.Join(dir, "api.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, o := range d.Operations {
		got = append(got, fmt.Sprint(o.Name(), " ", o.ID, " ", o.Line, " ", len(o.Parameters), o.Skip))
		for _, p := range o.Parameters {
			if p.Name == "unit" && !strings.HasSuffix(p.Schema.File, "api.yaml") {
				t.Errorf("%s: the nearer parameter does not count", o.Name())
			}
		}
	}
	if want := []string{"GET /a own 6 2", "SOUND /a sounding 7 2", "PUT /a put 5 2"}; !reflect.DeepEqual(got, want) {
		t.Errorf("operations %q, want %q", got, want)
	}
}

// TestLongChains: references that lead to one another in a long row are refused, at once.
func TestLongChains(t *testing.T) {
	chain := func(n int) string {
		var b strings.Builder
		b.WriteString(`{"openapi":"3.1.0","info":{"title":"t","version":"1"},"paths":{"/a":{"post":{"requestBody":{"content":{"application/json":{"schema":{"$ref":"#/components/schemas/S0"}}}}}}},"components":{"schemas":{`)
		for i := range n {
			fmt.Fprintf(&b, `"S%d":{"$ref":"#/components/schemas/S%d"},`, i, i+1)
		}
		fmt.Fprintf(&b, `"S%d":{"type":"object"},"loop":{"$ref":"#/components/schemas/pool"},"pool":{"$ref":"#/components/schemas/loop"}}}}`, n)
		return b.String()
	}
	if _, err := Read("long.json", []byte(chain(20_000))); err == nil || !strings.Contains(err.Error(), "more than 1000 references lead to one another from here on") || !strings.HasPrefix(err.Error(), "long.json:1:") {
		t.Errorf("a long one: %v", err)
	}
	if _, err := Read("short.json", []byte(chain(900))); err != nil {
		t.Errorf("a short one: %v", err)
	}
}
