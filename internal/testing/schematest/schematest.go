// Package schematest makes compiled schemas for tests out of a few lines of YAML.
package schematest

import (
	"strings"
	"testing"

	"obiter/internal/input/oad"
	"obiter/internal/input/schema"
)

// Document reads an OpenAPI description that has one operation, POST /berths,
// whose body is described by the given YAML of a schema.
func Document(t testing.TB, version, yaml string) *oad.Document {
	t.Helper()
	src := "openapi: " + version + "\ninfo: {title: t, version: '1'}\npaths:\n  /berths:\n    post:\n      requestBody:\n        required: true\n" +
		"        content:\n          application/json:\n            schema:\n" + indent(yaml, 14)
	doc, err := oad.Read("t.yaml", []byte(src))
	if err != nil {
		t.Fatalf("reading the description: %v\n%s", err, src)
	}
	return doc
}

func indent(s string, n int) string {
	pad := strings.Repeat(" ", n)
	return pad + strings.ReplaceAll(strings.TrimSpace(s), "\n", "\n"+pad) + "\n"
}

// Compile compiles a schema given as YAML, in OpenAPI 3.1.
func Compile(t testing.TB, yaml string) schema.Schema { return CompileIn(t, "3.1.0", yaml) }

// CompileIn compiles a schema of a version of OpenAPI.
func CompileIn(t testing.TB, version, yaml string) schema.Schema {
	t.Helper()
	doc := Document(t, version, yaml)
	s, err := schema.NewSet(doc).Compile(doc.Operations[0].Body.Media[0].Schema.URL())
	if err != nil {
		t.Fatalf("compiling: %v", err)
	}
	return s
}
