package cli_test

import (
	"fmt"
	"strings"
	"testing"
)

// TestAnInferenceCostsNoRun: that a field has to be new in each request is thought because a path
// parameter is called like it; where no request has the field, the rule is dropped, and survey
// lists it.
func TestAnInferenceCostsNoRun(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "openapi.yaml", `
openapi: 3.1.0
info: {title: Manifests, version: "1"}
servers: [{url: "http://127.0.0.1:1"}]
paths:
  /manifests:
    post:
      requestBody: {required: true, content: {application/json: {schema: {type: object, maxProperties: 1, properties: {name: {type: string}, manifest_id: {type: string, maxLength: 20}}}}}}
      responses: {'201': {description: The manifest.}}
  /manifests/{manifest_id}:
    get:
      parameters: [{name: manifest_id, in: path, required: true, schema: {type: string}}]
      responses: {'200': {description: The manifest.}}
`)
	obiter(t, dir, "cases").check(t, 0, "POST /manifests", "")
	obiter(t, dir, "survey").check(t, 0, "1 × a field whose value has to be new each time, as its path parameter shows, is in no request", "")
	// What a file says is an error all the same.
	put(t, dir, "obiter.yaml", "operations: {POST /manifests: {rules: [{unique: /manifest_id}]}}\n")
	obiter(t, dir, "cases").check(t, 2, "", `the body of POST /manifests has no field "/manifest_id"`)
}

// TestSchemasThatNameOneAnother, with a rule beside them, are planned at once: each has one type for
// expressions, however often it is referred to.
func TestSchemasThatNameOneAnother(t *testing.T) {
	t.Parallel()
	const schemas = 6
	var b strings.Builder
	b.WriteString("openapi: 3.1.0\ninfo: {title: Holds, version: '1'}\nservers: [{url: 'http://127.0.0.1:1'}]\npaths:\n  /holds:\n    post:\n      requestBody: {required: true, content: {application/json: {schema: {$ref: '#/components/schemas/H0'}}}}\n      responses: {'201': {description: made}}\ncomponents:\n  schemas:\n")
	for i := range schemas {
		fmt.Fprintf(&b, "    H%d: {type: object, properties: {name: {type: string, maxLength: 20}", i)
		for j := range 4 {
			fmt.Fprintf(&b, ", h%d: {$ref: '#/components/schemas/H%d'}", j, (3*i+5*j+1)%schemas)
		}
		b.WriteString("}}\n")
	}
	dir := t.TempDir()
	put(t, dir, "openapi.yaml", b.String())
	put(t, dir, "obiter.yaml", "operations: {POST /holds: {rules: [{holds: 'size(body.name) > 1', blames: /name}]}}\n")
	obiter(t, dir, "cases", "--depth", "quick").check(t, 0, "holds", "")
}
