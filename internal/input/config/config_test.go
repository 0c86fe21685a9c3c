package config

import (
	"encoding/json"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

func env(name string) (string, bool) {
	v, ok := map[string]string{"TIDE": "high", "EMPTY": ""}[name]
	return v, ok
}

func read(t testing.TB, text string) *Config {
	t.Helper()
	c, err := Read("obiter.yaml", []byte(text), env)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestWhatIsWrittenIsRead(t *testing.T) {
	c := read(t, `
description: a/b.yaml
at: http://localhost:1
headers: { X-B: "${TIDE} water", X-A: "${EMPTY}" }
allow_hosts: [harbour.example]
statuses: { constraint: 422, syntax: [400, 422] }
operations:
  POST /vessels: { body: { name: Aurora, flag: null } }
`)
	if c.Description != "a/b.yaml" || c.At != "http://localhost:1" || fmt.Sprint(c.AllowHosts) != "[harbour.example]" {
		t.Errorf("%+v", c)
	}
	if fmt.Sprint(c.Headers) != "[[X-B ${TIDE} water] [X-A ${EMPTY}]]" || c.ExpandText(c.Headers[0][1], nil) != "high water" {
		t.Errorf("headers %v", c.Headers)
	}
	if !slices.Equal(c.Statuses[exchange.Constraint], []int{422}) || !slices.Equal(c.Statuses[exchange.Syntax], []int{400, 422}) {
		t.Errorf("statuses %v", c.Statuses)
	}
	if got := string(instance.Encode(c.Operations["POST /vessels"].Body)); got != `{"flag":null,"name":"Aurora"}` {
		t.Error(got)
	}
	if c := read(t, `{}`); len(c.Fixtures)+len(c.Headers)+len(c.Operations) != 0 {
		t.Errorf("an empty configuration says something: %+v", c)
	}
}

func TestALayoutMayBeTheMediaTypeAlone(t *testing.T) {
	for src, want := range map[string]string{
		"errors: { media_type: Application/JSON; charset=utf-8 }":                  `{application/json true}`,
		"errors: { media_type: application/json, list: /errors, field: /pointer }": `{application/json false}`,
		"errors: { list: /errors, field: /pointer }":                               `{ false}`,
		"errors: { media_type: application/json, list: /errors }":                  "the layout has no field",
		"errors: { media_type: application/json, notation: dotted }":               "the layout has no list",
		"errors: { map: '' }": `{ false}`,
		"errors: { map: /errors, first_index: 1, prefix: /data }": `{ false}`,
		"errors: { object: /error, field: /param }":               `{ false}`,
		"errors: { object: '', field: /param }":                   `{ false}`,
		"errors: { object: /error }":                              "the layout has no field",
		"errors: { object: /error, list: /errors, field: /a }":    "the layout has list: and object:",
		"errors: { map: /errors, field: /a }":                     "a map has no field",
		"errors: { map: /errors, first_index: 2 }":                "the first entry of a list has no such number",
		"errors: { list: /errors, field: /a, prefix: data }":      `"data" is not a JSON Pointer`,
		"errors: { list: /errors, field: '' }":                    "is not a JSON Pointer",
		"errors: { media_type: json }":                            `"json" is not a media type`,
		"errors: { media_type: 5 }":                               "media_type",
		"errors: {}":                                              "the layout has no list",
	} {
		c, err := Read("obiter.yaml", []byte(src), env)
		got := fmt.Sprint(err)
		if err == nil {
			got = fmt.Sprint(struct {
				Media   string
				Learned bool
			}{c.Errors.MediaType, c.Errors.Learned})
		}
		if !strings.Contains(got, want) {
			t.Errorf("%s: %s, want %s", src, got, want)
		}
	}
}

func TestReferencesAreReplaced(t *testing.T) {
	c := read(t, `{}`)
	values := map[string]any{"id": json.Number("7"), "name": "Aurora"}
	for _, x := range []struct{ in, want string }{
		{`"${id}"`, `7`}, {`"n${id}"`, `"n7"`}, {`"${name}/${TIDE}"`, `"Aurora/high"`}, {`["${name}",{"a":"${EMPTY}"}]`, `["Aurora",{"a":""}]`}, {`5`, `5`}, {`"$id {id}"`, `"$id {id}"`},
	} {
		v, err := instance.Decode([]byte(x.in))
		if err != nil {
			t.Fatal(err)
		}
		if got := string(instance.Encode(c.Expand(v, values))); got != x.want {
			t.Errorf("%s becomes %s, want %s", x.in, got, x.want)
		}
	}
	v, _ := instance.Decode([]byte(`{"a":"${later}","b":{"c":["${later}"],"d":"${TIDE}"}}`))
	if got := string(instance.Encode(c.Resolved(v, nil))); got != `{"b":{"d":"${TIDE}"}}` {
		t.Error(got)
	}
	if c.Resolves("${later}", nil) || !c.Resolves("${later}", map[string]any{"later": "x"}) || !c.Resolves("${TIDE}", nil) {
		t.Error("what has a value is not known")
	}
}

// TestTheSchemaKnowsTheKeys holds schema.json against what is read.
func TestTheSchemaKnowsTheKeys(t *testing.T) {
	v, err := instance.Decode(Schema)
	if err != nil {
		t.Fatal(err)
	}
	const operation = "/properties/operations/additionalProperties/properties"
	for at, read := range map[string]any{
		"/properties": file{}, "/properties/errors/properties": errorKeys{}, "/properties/service/properties": serviceKeys{}, "/properties/tls/properties": TLS{}, "/properties/rules/properties": file{}.Rules,
		"/properties/fixtures/items/properties": fixtureKeys{}, operation: operationKeys{}, operation + "/rules/items/properties": ruleKeys{},
	} {
		object, _ := instance.Get(v, at)
		var names []string
		keys(reflect.ValueOf(read), func(key string, _ reflect.Value) { names = append(names, key) })
		slices.Sort(names)
		if has := instance.Names(object.(map[string]any)); !slices.Equal(has, names) {
			t.Errorf("%s: the schema has\n%s\nand read are\n%s", at, has, names)
		}
	}
	classesKnown, _ := instance.Get(v, "/properties/statuses/properties")
	if len(classesKnown.(map[string]any)) != len(classes) {
		t.Errorf("the schema has %d classes, and reading %d", len(classesKnown.(map[string]any)), len(classes))
	}
}

// TestTheManualTellsAll holds docs/configuration.md against the schema; its
// example is the harbour's configuration.
func TestTheManualTellsAll(t *testing.T) {
	manual, err := os.ReadFile("../../../docs/configuration.md")
	if err != nil {
		t.Fatal(err)
	}
	harbour, err := os.ReadFile("../../harbour/obiter.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(manual), "```yaml\n"+string(harbour)+"```") {
		t.Error("the example of the manual is not internal/harbour/obiter.yaml")
	}
	if c := read(t, string(harbour)); len(c.Fixtures) != 5 || len(c.Operations["PUT /tow-orders/{tow_id}"].Rules) != 9 {
		t.Errorf("%+v", c)
	}
	v, err := instance.Decode(Schema)
	if err != nil {
		t.Fatal(err)
	}
	properties, _ := instance.Get(v, "/properties")
	for _, key := range instance.Names(properties.(map[string]any)) {
		if !strings.Contains(string(manual), "| `"+key+"` |") {
			t.Errorf("the manual does not explain %s", key)
		}
	}
	for _, at := range []string{"/properties/operations/additionalProperties/properties/rules/items/properties", "/properties/fixtures/items/properties", "/properties/tls/properties", "/properties/errors/properties"} {
		members, _ := instance.Get(v, at)
		for _, key := range instance.Names(members.(map[string]any)) {
			if !strings.Contains(string(manual), "`"+key+"`") {
				t.Errorf("the manual does not explain %s of %s", key, at)
			}
		}
	}
}
