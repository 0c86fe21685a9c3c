package plan_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/harbour"
	"obiter/internal/input/oad"
)

func office(t testing.TB) *oad.Document {
	t.Helper()
	doc, err := oad.Read("harbour.yaml", harbour.Description)
	if err != nil {
		t.Fatal(err)
	}
	return doc
}

func cases(t testing.TB, doc *oad.Document, opt plan.Options) []exchange.Case {
	t.Helper()
	p, err := plan.New(doc, opt)
	if err != nil {
		t.Fatal(err)
	}
	var out []exchange.Case
	for op := range p.Operations() {
		for c := range op.Cases() {
			out = append(out, c)
		}
	}
	return out
}

func encode(t testing.TB, list []exchange.Case) []byte {
	t.Helper()
	var b bytes.Buffer
	for _, c := range list {
		line, err := json.Marshal(c)
		if err != nil {
			t.Fatal(err)
		}
		b.Write(append(line, '\n'))
	}
	return b.Bytes()
}

func TestPlansAreRepeatable(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and nothing of it is done side by side")
	}
	doc := office(t)
	for _, depth := range []flaw.Depth{flaw.Quick, flaw.Usual, flaw.Deep} {
		first := cases(t, doc, plan.Options{Depth: depth, Seed: 3})
		if again := encode(t, cases(t, office(t), plan.Options{Depth: depth, Seed: 3})); !bytes.Equal(encode(t, first), again) {
			t.Errorf("depth %d: the same seed gives another plan", depth)
		}
		other := cases(t, doc, plan.Options{Depth: depth, Seed: 4})
		if bytes.Equal(encode(t, first), encode(t, other)) {
			t.Errorf("depth %d: another seed gives the same values", depth)
		}
		ids := func(list []exchange.Case) (out []string) {
			for _, c := range list {
				out = append(out, c.ID)
			}
			return out
		}
		if !slices.Equal(ids(first), ids(other)) {
			t.Errorf("depth %d: another seed gives other ids", depth)
		}
		if seen := slices.Compact(slices.Sorted(slices.Values(ids(first)))); len(seen) != len(first) {
			t.Errorf("depth %d: %d of %d ids are different", depth, len(seen), len(first))
		}
	}
}

func TestNoTwoRequestsAreEqual(t *testing.T) {
	seen := map[string]string{}
	for _, c := range cases(t, office(t), plan.Options{Depth: flaw.Deep}) {
		key := fmt.Sprint(c.Request.Method, c.Request.URL, c.Request.Headers, string(c.Request.Body))
		if other, ok := seen[key]; ok {
			t.Errorf("%s (%s) sends what %s sends", c.ID, c.Name, other)
		}
		seen[key] = c.ID + " " + c.Name
	}
}

// TestEveryCaseIsWhatItSays holds each case against a validator that is built
// here, apart from all that plans: controls and edges are valid; a single flaw
// violates at its field and nowhere else.
func TestEveryCaseIsWhatItSays(t *testing.T) {
	doc := office(t)
	compiler := jsonschema.NewCompiler()
	compiler.DefaultDraft(jsonschema.Draft2020)
	compiler.AssertFormat()
	compiler.UseLoader(doc)
	compiler.RegisterFormat(&jsonschema.Format{Name: "int32", Validate: func(v any) error {
		if n, ok := v.(json.Number); ok {
			_, err := strconv.ParseInt(n.String(), 10, 32)
			return err
		}
		return nil
	}})
	count := map[exchange.Kind]int{}
	schemas := map[string]*jsonschema.Schema{}
	for _, o := range doc.Operations {
		if o.Body != nil {
			s, err := compiler.Compile(o.Body.Media[0].Schema.URL())
			if err != nil {
				t.Fatal(err)
			}
			schemas[o.Name()] = s
		}
	}
	for _, c := range cases(t, doc, plan.Options{Depth: flaw.Deep}) {
		count[c.Kind]++
		if len(c.Flaws) > 0 && (c.Flaws[0].In != "body" || c.Flaws[0].Rule == "holds") || // no schema says that
			c.Edge != nil && c.Edge.In != "body" || schemas[c.Operation] == nil {
			continue
		}
		v, err := instance.Decode(c.Request.Body)
		if err != nil {
			t.Fatalf("%s: %v", c.Name, err)
		}
		err = schemas[c.Operation].Validate(v)
		if c.Kind != exchange.Flawed || c.Expect.Class == exchange.Either {
			if err != nil {
				t.Errorf("%s %s is not valid: %v", c.Operation, c.Name, err)
			}
			continue
		}
		var ve *jsonschema.ValidationError
		if !errors.As(err, &ve) {
			t.Errorf("%s %s is valid", c.Operation, c.Name)
			continue
		}
		for _, at := range leaves(ve) {
			if !slices.ContainsFunc(c.Flaws, func(f exchange.Flaw) bool {
				return instance.Within(at, f.Pointer) || at == instance.Parent(f.Pointer) && (f.Rule == "required" || f.Rule == "additionalProperties")
			}) {
				t.Errorf("%s %s: a violation at %q", c.Operation, c.Name, at)
			}
		}
	}
	if count[exchange.Control] < 14 || count[exchange.Edge] < 100 || count[exchange.Flawed] < 1000 {
		t.Errorf("counts %v are too small to prove anything", count)
	}
}

func leaves(e *jsonschema.ValidationError) []string {
	if len(e.Causes) == 0 {
		return []string{instance.Join("", e.InstanceLocation...)}
	}
	var out []string
	for _, c := range e.Causes {
		out = append(out, leaves(c)...)
	}
	return out
}

func TestEveryRuleOfTheHarbourIsBroken(t *testing.T) {
	broken := map[string]bool{}
	for _, c := range cases(t, office(t), plan.Options{Depth: flaw.Usual}) {
		for _, f := range c.Flaws {
			broken[f.Rule] = true
		}
	}
	for _, rule := range []string{"required", "type", "enum", "const", "minLength", "maxLength", "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf", "pattern",
		"format", "additionalProperties", "minItems", "maxItems", "uniqueItems", "malformed-json", "empty-body", "wrong-content-type", "wrong-method"} {
		if !broken[rule] {
			t.Errorf("nothing breaks %s", rule)
		}
	}
}

func TestSelection(t *testing.T) {
	doc := office(t)
	for _, c := range []struct {
		opt  plan.Options
		want string
	}{
		{plan.Options{Selection: oad.Selection{Only: []string{"PUT *"}}}, "PUT /vessels/{vessel_id},PUT /berth-bookings/{booking_id},PUT /tow-orders/{tow_id}"},
		{plan.Options{Selection: oad.Selection{Only: []string{"put /vessels/*"}}}, "PUT /vessels/{vessel_id}"},
		{plan.Options{Selection: oad.Selection{Only: []string{"* /vessels/**"}, Skip: []string{"GET *", "DELETE *"}}}, "PUT /vessels/{vessel_id},PATCH /vessels/{vessel_id}"},
		{plan.Options{Selection: oad.Selection{Only: []string{"/pilot-orders", "openSession"}}}, "POST /pilot-orders,POST /sessions"},
		{plan.Options{Selection: oad.Selection{Only: []string{"PUT /vessels/{vessel_id}"}}}, "PUT /vessels/{vessel_id}"},
		{plan.Options{Selection: oad.Selection{Tags: []string{"pilots"}}}, "POST /pilot-orders,DELETE /pilot-orders/{order_id}"},
	} {
		p, err := plan.New(doc, c.opt)
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Join(slices.Collect(p.Names()), ","); got != c.want {
			t.Errorf("%+v selects %s, want %s", c.opt, got, c.want)
		}
	}
	var e *oad.SelectionError
	for _, opt := range []plan.Options{{Selection: oad.Selection{Only: []string{"POST /vesels"}}}, {Selection: oad.Selection{Tags: []string{"nope"}}}} {
		if _, err := plan.New(doc, opt); !errors.As(err, &e) {
			t.Errorf("%+v: %v", opt, err)
		}
	}
}

func description(t *testing.T, operations string) *oad.Document {
	t.Helper()
	doc, err := oad.Read("t.yaml", []byte("openapi: 3.1.0\ninfo: {title: t, version: '1'}\nservers: [{url: 'http://127.0.0.1:1/v1/'}]\npaths:\n"+operations))
	if err != nil {
		t.Fatal(err)
	}
	return doc
}

const body = "requestBody: {content: {application/json: {schema: {type: object, required: [a], properties: {a: {const: 1}}}}}}"

func TestAddressesFollowTheStyles(t *testing.T) {
	for _, c := range []struct{ path, parameter, want string }{
		{"/b/{p}", "in: path, example: 'a:b ø'", "/v1/b/a%3Ab%20%C3%B8"},
		{"/b/{p}", "in: path, example: [x, y]", "/v1/b/x,y"},
		{"/b/{p}", "in: path, style: label, explode: true, example: [x, y]", "/v1/b/.x.y"},
		{"/b{p}", "in: path, style: matrix, example: {k: v}", "/v1/b;p=k,v"},
		{"/b{p}", "in: path, style: matrix, explode: true, example: [x, y]", "/v1/b;p=x;p=y"},
		{"/b/{p}", "in: path, explode: true, example: {k: v, l: w}", "/v1/b/k=v,l=w"},
		{"/b", "in: query, example: [x, 'y z']", "/v1/b?p=x&p=y%20z"},
		{"/b", "in: query, explode: false, example: [x, y]", "/v1/b?p=x,y"},
		{"/b", "in: query, style: pipeDelimited, explode: false, example: [x, y]", "/v1/b?p=x%7Cy"},
		{"/b", "in: query, style: spaceDelimited, explode: false, example: [x, y]", "/v1/b?p=x%20y"},
		{"/b", "in: query, style: deepObject, explode: true, example: {k: v}", "/v1/b?p%5Bk%5D=v"},
		{"/b", "in: query, example: {k: v, l: w}", "/v1/b?k=v&l=w"},
		{"/b#twice", "in: header, example: x", "/v1/b"},
	} {
		doc := description(t, fmt.Sprintf("  '%s':\n    post:\n      parameters: [{name: p, required: true, schema: {}, %s}]\n      %s\n", c.path, c.parameter, body))
		planned := cases(t, doc, plan.Options{})
		if len(planned) == 0 {
			t.Errorf("%s: nothing is planned", c.parameter)
			continue
		}
		got := planned[0].Request
		if want := "http://127.0.0.1:1" + c.want; got.URL != want {
			t.Errorf("%s: %s, want %s", c.parameter, got.URL, want)
		}
		if strings.Contains(c.parameter, "header") && got.Header("P") != "x" {
			t.Errorf("the header is missing: %v", got.Headers)
		}
	}
}

func TestWholeRequestFlaws(t *testing.T) {
	rules := func(doc *oad.Document) (out []string) {
		for _, c := range cases(t, doc, plan.Options{Depth: flaw.Usual}) {
			if len(c.Flaws) == 1 && c.Flaws[0].In == "request" {
				out = append(out, c.Operation+" "+c.Flaws[0].Rule+" "+c.Flaws[0].Variant)
			}
		}
		return out
	}
	has := func(list []string, s string) bool {
		return slices.ContainsFunc(list, func(x string) bool { return strings.Contains(x, s) })
	}
	optional := rules(description(t, "  /b:\n    post:\n      "+body+"\n"))
	if has(optional, "empty-body no-bytes") || !has(optional, "empty-body left-open") || !has(optional, "malformed-json cut-off") || !has(optional, "wrong-method get") || !has(optional, "wrong-content-type text-plain") {
		t.Errorf("an optional body: %q", optional)
	}
	required := rules(description(t, "  /b:\n    get: {}\n    post:\n      "+strings.Replace(body, "{content", "{required: true, content", 1)+"\n    put:\n      "+body+"\n"))
	if !has(required, "empty-body") || !has(required, "wrong-method patch") || has(required, "PUT /b wrong-method") {
		t.Errorf("a path with GET and a required body: %q", required)
	}
	any := rules(description(t, "  /b:\n    post:\n      requestBody: {content: {'*/*': {schema: {type: object}}}}\n"))
	if has(any, "wrong-content-type") {
		t.Errorf("any media type is described: %q", any)
	}
	sibling := rules(description(t, "  /b/{id}:\n    get: {}\n    patch: {}\n    put: {}\n    post: {}\n  /b/new:\n    post:\n      "+body+"\n"))
	if has(sibling, "wrong-method") {
		t.Errorf("a method of an overlapping template is used: %q", sibling)
	}
}

// TestWholeRequestFlawsAsSent holds what each does to the request that would be
// right, and that those of the whole plan come once.
func TestWholeRequestFlawsAsSent(t *testing.T) {
	text := func(id string) string {
		return "{requestBody: {required: true, content: {application/json: {schema: {type: object, required: [name], properties: {name: {type: string, examples: [Aurora]}}}}}}, parameters: [{name: id, in: path, required: true, schema: {type: string, format: uuid}, example: " + id + "}, {name: tide, in: query, schema: {type: integer}, example: 7}]}"
	}
	const id = "5e0c3f6a-2b71-4c8d-9a4e-6f1d2c3b4a59"
	doc := description(t, "  /b/{id}:\n    post: "+text(id)+"\n    put: "+text(id)+"\n")
	got := map[string]string{}
	count := map[string]int{}
	for _, c := range cases(t, doc, plan.Options{Depth: flaw.Deep}) {
		if len(c.Flaws) != 1 || c.Operation == "PUT /b/{id}" && c.Flaws[0].Rule != "unknown-id" {
			continue
		}
		count[c.Flaws[0].Rule]++
		body := string(c.Request.Body)
		if len(body) > 60 {
			body = fmt.Sprint(body[:4], " and so on to ", len(body))
		}
		got[c.Flaws[0].Rule+" "+c.Flaws[0].Variant] = strings.TrimSpace(fmt.Sprintln(c.Request.Method, strings.TrimPrefix(c.Request.URL, "http://127.0.0.1:1/v1"),
			"type="+c.Request.Header("Content-Type"), "coding="+c.Request.Header("Content-Encoding"), "accept="+c.Request.Header("Accept")[:min(9, len(c.Request.Header("Accept")))], body, c.Expect.Class))
	}
	const right, json, all = "POST /b/" + id + "?tide=7 ", "type=application/json coding= accept=applicati ", `{"name":"Aurora"} `
	for rule, want := range map[string]string{
		"malformed-json byte-order-mark-utf-16": right + json + "\xff\xfe" + all + "syntax",
		"malformed-json cut-off":                right + json + all[:len(all)-2] + " syntax",
		"duplicate-member first":                right + json + `{"name":null,"name":"Aurora"} constraint`,
		"empty-body no-bytes":                   right + json + " empty-body",
		"wrong-content-type text-plain":         right + "type=text/plain coding= accept=applicati " + all + "media-type",
		"wrong-content-type absent":             right + "type= coding= accept=applicati " + all + "untyped-body",
		"wrong-content-type other-json":         right + "type=application/ballast+json coding= accept=applicati " + all + "media-type",
		"unusual-charset unknown":               right + "type=application/json; charset=ballast coding= accept=applicati " + all + "either",
		"unusual-text nul":                      right + json + `{"name":"A\u0000urora"} either`,
		"wrong-content-encoding unknown-coding": right + "type=application/json coding=ballast accept=applicati " + all + "content-coding",
		"unusual-accept image-png":              right + "type=application/json coding= accept=image/png " + all[:len(all)-2] + " not-acceptable",
		"unusual-accept anything":               right + "type=application/json coding= accept=*/* " + all[:len(all)-2] + " syntax",
		"deep-nesting 10000-levels":             right + json + "[[[[ and so on to 20000 too-large",
		"deep-nesting 100000-levels":            right + json + "[[[[ and so on to 200000 too-large",
		"large-body 8-mib":                      right + json + `["xx and so on to 8388612 too-large`,
		"unknown-id well-formed":                "POST /b/0b17e8d3-6c1f-4e57-9f0a-5d1f2a7c4e99?tide=7 " + json + all + "not-found",
		"repeated twice":                        "POST /b/" + id + "?tide=7&tide=7 " + json + all + "either",
		"wrong-method get":                      "GET /b/" + id + "?tide=7 type= coding= accept=applicati  method",
		"unknown-path unlisted":                 "GET /no-such-place type= coding= accept=applicati  not-found",
	} {
		if got[rule] != want {
			t.Errorf("%s:\n  is sent as %q\n  want       %q", rule, got[rule], want)
		}
	}
	for _, once := range []string{"unknown-path", "large-body", "wrong-method", "unknown-id"} {
		if count[once] != 1 {
			t.Errorf("%s is planned %d times", once, count[once])
		}
	}
}

func TestUnusableOperationsSayWhy(t *testing.T) {
	doc := description(t, `  /a: {head: {}}
  /b: {post: {requestBody: {content: {video/mp4: {schema: {}}}}}}
  /c: {post: {requestBody: {content: {}}}}
  /d: {post: {requestBody: {content: {application/json: {schema: {type: strin}}}}}}
  /e: {post: {requestBody: {content: {application/json: {schema: {type: integer, minimum: 3, maximum: 2}}}}}}
  /f/{id}: {post: {requestBody: {content: {application/json: {schema: {type: object}}}}}}
  /h: {post: {parameters: [{name: q, in: querystring, required: true, content: {application/x-www-form-urlencoded: {schema: {type: object}}}}], requestBody: {content: {application/json: {schema: {type: object}}}}}}
  /g/{id}: {post: {parameters: [{name: id, in: path, schema: {type: strin}}], requestBody: {content: {application/json: {schema: {type: object}}}}}}
`)
	p, err := plan.New(doc, plan.Options{})
	if err != nil {
		t.Fatal(err)
	}
	want := []string{"answers to HEAD have no body to judge", "nothing is known to write for its body: video/mp4", "no media type is described", "t.yaml:8:58: the schema is not valid", "no valid value could be made", `the path parameter "id" is not described`, "in: querystring", `the path parameter "id": the schema is not valid`}
	i := 0
	for op := range p.Operations() {
		if !strings.Contains(op.SkipReason, want[i]) {
			t.Errorf("%s: %q, want %q", op.Name(), op.SkipReason, want[i])
		}
		for range op.Cases() {
			t.Errorf("%s gives cases", op.Name())
		}
		i++
	}
}

func TestMediaTypes(t *testing.T) {
	for media, want := range map[string]bool{"application/json": true, "application/json; charset=utf-8": true, "application/problem+json": true, "application/merge-patch+json": true,
		"application/json-patch+json": false, "text/plain": false, "APPLICATION/JSON": true} {
		if exchange.IsJSON(media) != want {
			t.Errorf("IsJSON(%q) = %v", media, !want)
		}
	}
}

func BenchmarkPlan(b *testing.B) {
	doc := office(b)
	n := 0
	for b.Loop() {
		n += len(cases(b, doc, plan.Options{Depth: flaw.Usual}))
	}
	b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "cases/s")
}

// BenchmarkPlanGrowth plans descriptions of growing size: the time a case takes
// should stay what it is.
func BenchmarkPlanGrowth(b *testing.B) {
	for _, operations := range []int{100, 1000, 4000} {
		b.Run(fmt.Sprint(operations), func(b *testing.B) {
			doc := large(b, operations)
			n := 0
			for b.Loop() {
				p, err := plan.New(doc, plan.Options{Depth: flaw.Quick})
				if err != nil {
					b.Fatal(err)
				}
				for cases := range plan.Map(p, 1, count) {
					n += cases
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(n), "ns/case")
		})
	}
}

// BenchmarkDescription plans the description that OBITER_DESCRIPTION names, and
// tells how many times as long that takes as decoding the file with
// encoding/json.
func BenchmarkDescription(b *testing.B) {
	name := os.Getenv("OBITER_DESCRIPTION")
	if name == "" {
		b.Skip("OBITER_DESCRIPTION names no file")
	}
	src, err := os.ReadFile(name)
	if err != nil {
		b.Fatal(err)
	}
	defer debug.SetGCPercent(debug.SetGCPercent(400)) // as the program does
	var decoding time.Duration
	n := 0
	for b.Loop() {
		b.StopTimer()
		start := time.Now()
		var v any
		if err := json.Unmarshal(src, &v); err != nil {
			b.Skip("not JSON: ", err)
		}
		decoding += time.Since(start)
		v = nil
		runtime.GC()
		b.StartTimer()
		doc, err := oad.Read(name, src)
		if err != nil {
			b.Fatal(err)
		}
		p, err := plan.New(doc, plan.Options{Depth: flaw.Usual})
		if err != nil {
			b.Fatal(err)
		}
		for cases := range plan.Map(p, runtime.GOMAXPROCS(0), count) {
			n += cases
		}
	}
	b.ReportMetric(float64(b.Elapsed())/float64(decoding), "x-decoding")
	b.ReportMetric(float64(n)/float64(b.N), "cases")
}

func count(op *plan.Operation) (n int) {
	for range op.Cases() {
		n++
	}
	return n
}

func large(b testing.TB, operations int) *oad.Document {
	b.Helper()
	var src strings.Builder
	src.WriteString(`{"openapi":"3.1.0","info":{"title":"t","version":"1"},"paths":{`)
	for i := range operations {
		if i > 0 {
			src.WriteByte(',')
		}
		fmt.Fprintf(&src, `"/quays/%d":{"post":{"requestBody":{"required":true,"content":{"application/json":{"schema":{"type":"object","required":["f0","f1"],"properties":{`, i)
		for f := range 30 {
			if f > 0 {
				src.WriteByte(',')
			}
			fmt.Fprintf(&src, `"f%d":{"type":"string","minLength":2,"maxLength":40}`, f)
		}
		src.WriteString(`}}}}}}}`)
	}
	src.WriteString(`}}`)
	doc, err := oad.Read("large.json", []byte(src.String()))
	if err != nil {
		b.Fatal(err)
	}
	return doc
}
