package plan_test

import (
	"bytes"
	"fmt"
	"mime"
	"mime/multipart"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
)

// TestWhatAnAddressCarries: where an example cannot be sent, the next one is, or one that
// is made; operations that differ only behind a # are of one address.
func TestWhatAnAddressCarries(t *testing.T) {
	doc := description(t, `  /a/{k}: {get: {parameters: [{name: k, in: path, required: true, schema: {type: string}, examples: {x: {value: a/b}, y: {value: quay 7}}}]}}
  /b/{k}: {get: {parameters: [{name: k, in: path, required: true, schema: {type: string, examples: [a/b]}}]}}
  /c/{k}: {get: {parameters: [{name: k, in: path, required: true, style: simple, schema: {type: object, example: {R: 1.5, G: x y}, properties: {R: {type: number}, G: {type: string}}}}]}}
  /d#one: {post: {requestBody: {content: {application/json: {schema: {type: object, required: [k], properties: {k: {type: string}}}}}}}}
  /d#two: {get: {}, put: {}, patch: {}}
`)
	urls := map[string]string{}
	for _, c := range cases(t, doc, plan.Options{Depth: flaw.Deep}) {
		if c.Kind == exchange.Control {
			urls[c.Operation] = strings.TrimPrefix(c.Request.URL, "http://127.0.0.1:1/v1")
		}
		if len(c.Flaws) == 1 && c.Flaws[0].Rule == "wrong-method" && strings.HasPrefix(c.Operation, "POST /d") {
			t.Errorf("the path has the method: %s %s", c.Request.Method, c.Request.URL)
		}
		if len(c.Flaws) == 1 && c.Flaws[0].Variant == "not-utf-8" && !strings.HasPrefix(string(c.Request.Body), "{\"k\":\"\xff") {
			t.Errorf("the byte is not in a value: %q", c.Request.Body)
		}
	}
	for operation, want := range map[string]string{"GET /a/{k}": "/a/quay%207", "GET /b/{k}": "/b/", "GET /c/{k}": "/c/"} {
		if got, ok := urls[operation]; !ok || !strings.HasPrefix(got, want) || strings.ContainsAny(got[3:], "/") {
			t.Errorf("%s is sent as %q, want %q", operation, got, want)
		}
	}
}

// TestParameters lists what is planned for parameters and forms, as it is sent.
func TestParameters(t *testing.T) {
	for _, c := range []struct {
		name, operation string
		want, not       []string // "name -> what is sent"
	}{
		{"an integer in the query", "get: {parameters: [{name: n, in: query, required: true, schema: {type: integer, minimum: 3, maximum: 9}, example: 5}]}",
			[]string{"query /n required left-out -> /b", "query /n type string -> /b?n=twelve", "query /n type fraction -> /b?n=5.5", "query /n minimum just-below -> /b?n=2", "edge, query /n maximum exactly -> /b?n=9", "query /n type null -> /b?n="},
			[]string{"query /n type numeric-string", "(query) type string"}},
		{"a text takes any scalar", "get: {parameters: [{name: s, in: query, schema: {type: string, maxLength: 3}, example: abc}]}",
			[]string{"query /s maxLength one-above -> /b?s=abca", "edge, query /s maxLength exactly -> /b?s=aaa"}, []string{"query /s type number", "query /s type null", "query /s type boolean", "query /s required left-out"}},
		{"a truth value", "get: {parameters: [{name: t, in: query, schema: {type: boolean}}]}", []string{"query /t type one-for-true -> /b?t=1"}, []string{"query /t type boolean-string"}},
		{"a list", "get: {parameters: [{name: l, in: query, schema: {type: array, maxItems: 2, items: {type: string, enum: [x, y]}}}]}",
			[]string{"query /l maxItems one-above -> /b?l=x&l=y&l=y", "query /l/0 enum unlisted -> /b?l=unlisted&l=y", "query /l/1 enum unlisted -> /b?l=x&l=unlisted"}, []string{"query /l minItems empty", "query /l type bare-element", "query /l type string"}},
		{"a deep object", "get: {parameters: [{name: f, in: query, style: deepObject, explode: true, schema: {type: object, required: [k], properties: {k: {type: integer}, j: {type: string}}}, example: {k: 4, j: x}}]}",
			[]string{"query /f/k type string -> /b?f%5Bj%5D=x&f%5Bk%5D=twelve", "query /f/k required left-out -> /b?f%5Bj%5D=x"}, nil},
		{"a text or a number", "get: {parameters: [{name: u, in: query, schema: {oneOf: [{type: integer}, {type: string, pattern: '^[a-z]+$'}]}, example: abc}]}",
			[]string{"query /u pattern wrong-class -> /b?u=%23bc"}, []string{"query /u type number", "query /u oneOf none-matches", "query /u type object"}},
		{"nothing, a text or a list", "get: {parameters: [{name: u, in: query, schema: {anyOf: [{type: string}, {type: array, items: {type: string}}, {type: 'null'}]}, example: abc}]}",
			nil, []string{"query /u anyOf none-matches", "query /u type number", "query /u type null", "query /u type object"}},
		{"an object under the names of its members", "get: {parameters: [{name: f, in: query, schema: {type: object, properties: {k: {type: integer}}}, example: {k: 4}}]}",
			[]string{"query /f/k type string -> /b?k=twelve"}, []string{"query /f type string", "query /f type number", "query /f type array"}},
		{"a list of plain text takes an empty value", "get: {parameters: [{name: l, in: query, schema: {type: array, items: {type: string}}}]}",
			nil, []string{"query /l type null", "query /l/0 type null", "query /l type object"}},
		{"a list in one value", "get: {parameters: [{name: l, in: query, style: form, explode: false, schema: {type: array, maxItems: 2, items: {type: string, maxLength: 3}}, example: [a, b]}]}",
			[]string{"query /l maxItems one-above -> /b?l=a,b,b", "query /l/0 maxLength one-above -> /b?l=aaaa,b"}, []string{"query /l type string"}},
		{"JSON in the query", "get: {parameters: [{name: j, in: query, content: {application/json: {schema: {type: object, properties: {k: {type: integer}}}, example: {k: 4}}}}]}",
			[]string{"query /j/k type numeric-string -> /b?j=%7B%22k%22%3A%224%22%7D"}, nil},
		{"a header", "get: {parameters: [{name: X-Tide, in: header, required: true, schema: {type: integer, maximum: 5}, example: 4}, {name: Accept, in: header, required: true, schema: {type: integer}}]}",
			[]string{"header /X-Tide required left-out -> /b", "header /X-Tide type string -> /b X-Tide: twelve", "header /X-Tide maximum just-above -> /b X-Tide: 6"}, []string{"header /Accept required left-out", "header /X-Tide type null"}},
		{"a cookie", "get: {parameters: [{name: tide, in: cookie, schema: {type: string, minLength: 3, maxLength: 5}, example: high}]}",
			[]string{"cookie /tide maxLength one-above -> /b Cookie: tide=highaa", "cookie /tide minLength one-below -> /b Cookie: tide=hi"}, []string{"cookie /tide maxLength one-above-multibyte", "cookie /tide minLength empty"}},
		{"an urlencoded form", "post: {requestBody: {content: {application/x-www-form-urlencoded: {schema: {type: object, required: [a], properties: {a: {type: integer}, b: {type: string, enum: ['x y', 'z&']}, o: {type: object, properties: {k: {type: string}}}}}}}}}",
			[]string{"/a type string -> /b a=twelve&b=x+y", "/b enum letter-case -> /b a=~&b=X+Y", "edge, /b enum value-2 -> /b a=~&b=z%26", "/a required left-out -> /b b=x+y"}, []string{"/a type numeric-string", "/b type number", "(body) type string", "malformed-json cut-off"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := map[string]string{}
			for _, x := range cases(t, description(t, "  /b:\n    "+c.operation+"\n"), plan.Options{Depth: flaw.Usual}) {
				sent := strings.TrimPrefix(x.Request.URL, "http://127.0.0.1:1/v1")
				for _, h := range x.Request.Headers {
					if h[0] == "X-Tide" || h[0] == "Cookie" {
						sent += " " + h[0] + ": " + h[1]
					}
				}
				if len(x.Request.Body) > 0 {
					sent += " " + string(x.Request.Body)
				}
				got[x.Name] = sent
				if x.Kind == exchange.Flawed && x.Flaws[0].In == "query" && x.Expect.Class != exchange.Parameter && x.Flaws[0].Rule != "number-text" {
					t.Errorf("%s is of class %s", x.Name, x.Expect.Class)
				}
			}
			areSent(t, got, c.want, c.not)
		})
	}
}

// areSent holds what is sent by the names of cases against "name -> what", with ~ for
// anything in between, and against names that must not be there.
func areSent(t *testing.T, got map[string]string, want, not []string) {
	t.Helper()
	for _, w := range want {
		name, sent, _ := strings.Cut(w, " -> ")
		before, after, wild := strings.Cut(sent, "~")
		if s, ok := got[name]; !ok || !wild && s != sent || wild && (!strings.HasPrefix(s, before) || !strings.HasSuffix(s, after)) {
			t.Errorf("%s sends %q, want %q; planned are %q", name, s, sent, got)
		}
	}
	for _, n := range not {
		if s, ok := got[n]; ok {
			t.Errorf("%s is planned: %q", n, s)
		}
	}
}

func TestMultipart(t *testing.T) {
	doc := description(t, "  /b:\n    post: {requestBody: {content: {multipart/form-data: {schema: {type: object, required: [chart, meta], properties: {chart: {type: string, format: binary}, n: {type: integer, maximum: 3}, meta: {type: object, properties: {k: {type: integer}}}}}}}}}\n")
	bodies := map[string]string{}
	for _, c := range cases(t, doc, plan.Options{Depth: flaw.Usual}) {
		media, params, err := mime.ParseMediaType(c.Request.Header("Content-Type"))
		if err != nil || media != "multipart/form-data" {
			continue
		}
		form, err := multipart.NewReader(bytes.NewReader(c.Request.Body), params["boundary"]).ReadForm(1 << 20)
		if err != nil {
			if len(c.Request.Body) > 0 {
				t.Fatalf("%s: %v", c.Name, err)
			}
			continue
		}
		bodies[c.Name] = fmt.Sprint(len(form.File["chart"]), form.Value["n"], form.Value["meta"])
	}
	for name, want := range map[string]string{"/n maximum just-above": "1 [4] [", "/chart required left-out": "0 [", "/meta/k type numeric-string": `{"k":"`, "/n type string": "1 [twelve] ["} {
		if !strings.Contains(bodies[name], want) {
			t.Errorf("%s sends %s, want %s; planned are %v", name, bodies[name], want, bodies)
		}
	}
	for _, n := range []string{"/n type numeric-string", "/chart type number", "/l/0 type object", "/l type object"} {
		if _, ok := bodies[n]; ok {
			t.Errorf("%s is planned", n)
		}
	}
}

func TestPathParametersKeepTheirPlace(t *testing.T) {
	doc := description(t, "  /b/{id}:\n    get: {parameters: [{name: id, in: path, required: true, schema: {type: integer, minimum: 1, maximum: 99}, example: 7}]}\n")
	for _, c := range cases(t, doc, plan.Options{Depth: flaw.Deep}) {
		tail := strings.TrimPrefix(c.Request.URL, "http://127.0.0.1:1/v1/b/")
		if tail == "" || strings.ContainsAny(tail, "{/") && !strings.HasPrefix(c.Name, "unknown-path") || c.Kind == exchange.Edge {
			t.Errorf("%s is sent to %s", c.Name, c.Request.URL)
		}
	}
}
