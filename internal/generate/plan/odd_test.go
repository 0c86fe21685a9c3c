package plan_test

import (
	"fmt"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
)

func oddities(t testing.TB, body string) *oad.Document {
	t.Helper()
	doc, err := oad.Read("odd.json", []byte(`{"openapi":"3.1.0","info":{"title":"t","version":"1"},"servers":[{"url":"http://127.0.0.1:1"}],
		"paths":{"/quays":{"post":{"requestBody":{"required":true,"content":{"application/json":{"schema":`+body+`}}}}}},
		"components":{"schemas":{"Endless":{"type":"object","required":["next"],"properties":{"next":{"$ref":"#/components/schemas/Endless"}}},
		"Chain":{"type":"object","properties":{"next":{"$ref":"#/components/schemas/Chain"},"depth":{"type":"integer"}}}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	return doc
}

// members makes a schema of so many members, all of them required or none.
func members(n int, required bool) string {
	var properties, names []string
	for i := range n {
		properties = append(properties, fmt.Sprintf(`"f%d":{"type":"string","minLength":2,"maxLength":40}`, i))
		names = append(names, fmt.Sprintf(`"f%d"`, i))
	}
	if !required {
		names = names[:1]
	}
	return `{"type":"object","additionalProperties":false,"required":[` + strings.Join(names, ",") + `],"properties":{` + strings.Join(properties, ",") + `}}`
}

func values(n int) string {
	var out []string
	for i := range n {
		out = append(out, fmt.Sprintf(`"v%d"`, i))
	}
	return `{"enum":[` + strings.Join(out, ",") + `]}`
}

// TestOddSchemasAreBoundedAndNamed plans what people and generators write by
// mistake: it ends, gives a reason or cases, and each flawed body is invalid.
func TestOddSchemasAreBoundedAndNamed(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and nothing of it is done side by side")
	}
	for name, c := range map[string]struct{ body, reason string }{
		"minimum over maximum":            {`{"type":"integer","minimum":3,"maximum":2}`, "minimum"},
		"an optional contradiction":       {`{"type":"object","required":["a"],"properties":{"a":{"type":"string"},"b":{"type":"integer","minimum":3,"maximum":2}}}`, ""},
		"an enum that no branch allows":   {`{"enum":["x"],"oneOf":[{"type":"integer"},{"type":"boolean"}]}`, "enum"},
		"a pattern that nothing matches":  {`{"type":"string","pattern":"a^"}`, "pattern"},
		"a pattern that nobody can read":  {`{"type":"object","properties":{"a":{"type":"string","pattern":"(?<name"}}}`, ""},
		"a catastrophic pattern":          {`{"type":"object","properties":{"a":{"type":"string","pattern":"^(a+)+$","maxLength":60}}}`, ""},
		"nothing is allowed":              {`false`, "no type"},
		"recursion without an end":        {`{"$ref":"#/components/schemas/Endless"}`, "recurses endlessly"},
		"recursion with an end":           {`{"$ref":"#/components/schemas/Chain"}`, ""},
		"five thousand values":            {`{"type":"object","properties":{"berth":` + values(5000) + `}}`, ""},
		"thousands of members":            {members(3_000, false), ""},
		"a thousand required members":     {members(1_100, true), ""},
		"a list of a million":             {`{"type":"array","minItems":1000000,"items":{"type":"integer"}}`, "minItems"},
		"a text of a billion":             {`{"type":"object","properties":{"a":{"type":"string","maxLength":1000000000}}}`, ""},
		"numbers beyond double precision": {`{"type":"object","properties":{"a":{"type":"number","maximum":1e400,"minimum":-1e400},"b":{"type":"integer","maximum":9007199254740993}}}`, ""},
		"members with odd names":          {`{"type":"object","required":["a/b","c~d","e%f","g\"h"," ","","⚓"],"properties":{"a/b":{"type":"string"},"c~d":{"type":"integer"},"e%f":{"type":"string"},"g\"h":{"type":"string"}," ":{"type":"string"},"":{"type":"string"},"⚓":{"type":"boolean"}}}`, ""},
		"another type of limit":           {`{"type":"string","minLength":5,"maxLength":2}`, "Length"},
		"required and not allowed":        {`{"type":"object","required":["a"],"additionalProperties":false}`, "required and not allowed"},
	} {
		t.Run(name, func(t *testing.T) {
			doc := oddities(t, c.body)
			p, err := plan.New(doc, plan.Options{Depth: flaw.Usual})
			if err != nil {
				t.Fatal(err)
			}
			for op := range p.Operations() {
				if op.IsWholeAPI() {
					continue
				}
				if c.reason != "" {
					if !strings.Contains(op.SkipReason, c.reason) {
						t.Errorf("the reason is %q, want one with %q", op.SkipReason, c.reason)
					}
					continue
				}
				if op.SkipReason != "" {
					t.Fatalf("nothing is planned: %s", op.SkipReason)
				}
				witness, err := schema.NewSet(doc).Compile(doc.Operations[0].Body.Media[0].Schema.URL())
				if err != nil {
					t.Fatal(err)
				}
				flawed, size, checked := 0, 0, 0
				for k := range op.Cases() {
					if size += len(k.Request.Body); size > 8<<20 {
						break // the rest is like it
					}
					v, err := instance.Decode(k.Request.Body)
					if err != nil || len(k.Flaws) > 0 && k.Flaws[0].In == "request" {
						continue
					}
					if flawed++; len(k.Request.Body) > 1<<14 && checked > 50 {
						continue // the large ones are like one another
					}
					checked++
					if valid := witness.Valid(v); valid != (k.Kind != exchange.Flawed || k.Expect.Class == exchange.Either) {
						t.Errorf("%s, a %s case, is valid: %v", k.Name, k.Kind, valid)
					}
				}
				if flawed < 3 {
					t.Errorf("only %d cases", flawed)
				}
			}
		})
	}
}

// TestWhatIsTooMuchIsCounted holds that nothing is left out in silence.
func TestWhatIsTooMuchIsCounted(t *testing.T) {
	p, err := plan.New(oddities(t, members(1_100, true)), plan.Options{Depth: flaw.Quick})
	if err != nil {
		t.Fatal(err)
	}
	for op := range p.Operations() {
		if op.IsWholeAPI() {
			continue
		}
		n := 0
		for range op.Cases() {
			if n++; n == 50 { // what is left out is told first
				break
			}
		}
		if n < 50 || op.Drops[flaw.TooMany] == 0 {
			t.Errorf("%d cases, drops %v", n, op.Drops)
		}
	}
}

// TestSchemasThatMultiplyAreBounded: a few lines that refer to one another twice at each
// level come to more than can be made and checked. What does not is planned.
func TestSchemasThatMultiplyAreBounded(t *testing.T) {
	inside := map[string]string{
		"required members": `{"type":"object","required":["a","b"],"properties":{"a":REF,"b":REF}}`,
		"items":            `{"type":"array","minItems":2,"items":REF}`,
		"oneOf":            `{"type":"object","required":["a"],"properties":{"a":{"oneOf":[REF,{"type":"object","required":["k"],"properties":{"k":REF}}]}}}`,
		"anyOf":            `{"type":"object","required":["a","b"],"properties":{"a":{"anyOf":[REF,{"type":"integer"}]},"b":REF}}`,
		"allOf":            `{"type":"object","properties":{"a":{"allOf":[REF,REF]}}}`,
	}
	for name, text := range inside {
		for depth, planned := range map[int]bool{4: true, 16: false, 29: false} {
			schemas := []string{fmt.Sprintf(`"S%d":{"type":"string","minLength":2}`, depth)}
			for i := range depth {
				schemas = append(schemas, fmt.Sprintf(`"S%d":`, i)+strings.ReplaceAll(text, "REF", fmt.Sprintf(`{"$ref":"#/components/schemas/S%d"}`, i+1)))
			}
			doc, err := oad.Read("a.json", []byte(`{"openapi":"3.1.0","info":{"title":"t","version":"1"},"paths":{"/a":{"post":{"requestBody":{"required":true,"content":{"application/json":{"schema":{"$ref":"#/components/schemas/S0"}}}}},
			 "get":{"parameters":[{"name":"q","in":"query","required":true,"content":{"application/json":{"schema":{"$ref":"#/components/schemas/S0"}}}}]}}},"components":{"schemas":{`+strings.Join(schemas, ",")+`}}}`))
			if err != nil {
				t.Fatal(err)
			}
			n, skipped := counted(t, doc)
			if whole := depth == 16 && strings.HasSuffix(name, "Of"); whole { // one lean body can be made
				if n == 0 || n > 120 {
					t.Errorf("%s, %d deep: %d cases, %q", name, depth, n, skipped)
				}
				continue
			}
			if (n > 0) != planned || !planned && !strings.Contains(skipped, "more than ") {
				t.Errorf("%s, %d deep: %d cases, %q", name, depth, n, skipped)
			}
		}
	}
}

// counted is how many cases the first operation of a description has, or why it is left out.
func counted(t *testing.T, doc *oad.Document) (n int, skipped string) {
	t.Helper()
	p, err := plan.New(doc, plan.Options{Base: "http://h", Depth: flaw.Quick})
	if err != nil {
		t.Fatal(err)
	}
	for op := range p.Operations() {
		for range op.Cases() {
			n++
		}
		return n, op.SkipReason
	}
	return 0, ""
}

// TestAnEnumOfManyValues is planned all the same.
func TestAnEnumOfManyValues(t *testing.T) {
	var values []string
	for i := range 100_000 {
		values = append(values, fmt.Sprintf(`"value %d"`, i))
	}
	list := strings.Join(values, ",")
	doc, err := oad.Read("a.json", []byte(`{"openapi":"3.1.0","info":{"title":"t","version":"1"},"paths":{"/a":{"post":{"requestBody":{"required":true,"content":{"application/json":{"schema":{"type":"object","required":["e"],"properties":{"e":{"type":"string","enum":[`+list+`],"allOf":[{"enum":[`+list+`]}]}}}}}}}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	n, _ := counted(t, doc)
	if n < 10 {
		t.Errorf("%d cases", n)
	}
}
