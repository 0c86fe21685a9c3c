package cli_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// schemas compiles the schemas of docs/formats.
func schemas(t *testing.T) func(name string) *jsonschema.Schema {
	t.Helper()
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	return func(name string) *jsonschema.Schema {
		s, err := c.Compile("../../docs/formats/" + name + ".schema.json")
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
}

func obeys(t *testing.T, s *jsonschema.Schema, text string) {
	t.Helper()
	v, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
	if err == nil {
		err = s.Validate(v)
	}
	if err != nil {
		t.Errorf("%v\n%s", err, text)
	}
}

// TestWhatMachinesReadObeysItsSchema runs each command that writes for machines.
func TestWhatMachinesReadObeysItsSchema(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	schema := schemas(t)
	cases := obiter(t, dir, "cases", "--format", "ndjson", "--depth", "deep", "--only", "PUT *", "--only", "GET *")
	cases.check(t, 0, "", "")
	for line := range strings.Lines(cases.out) {
		obeys(t, schema("case"), line)
	}
	at := serve(t, "own-layout", "map-for-list", "numbers-coerced", "hangs-up", "first-error-only")
	run := obiter(t, dir, "try", "--at", at, "--format", "ndjson")
	run.check(t, 1, `"totals"`, "")
	kinds := map[string]int{}
	for line := range strings.Lines(run.out) {
		obeys(t, schema("run"), line)
		var l struct{ Type string }
		if err := json.Unmarshal([]byte(line), &l); err != nil {
			t.Fatal(err)
		}
		kinds[l.Type]++
	}
	if kinds["case"] < 500 || kinds["finding"] == 0 || kinds["repeat"] == 0 || kinds["closing"] == 0 || kinds["end"] != 1 || kinds["run"] != 1 {
		t.Errorf("lines %v", kinds)
	}
	outcome := obiter(t, dir, "try", "--at", at, "--format", "json")
	outcome.check(t, 1, `"operations"`, "")
	obeys(t, schema("outcome"), outcome.out)
	if !strings.Contains(outcome.out, `"odd-layout"`) || !strings.Contains(outcome.out, `"pointer-fragment"`) {
		t.Error("what the whole run shows is not in the outcome")
	}
	messages := obiter(t, dir, "messages", "--format", "json")
	messages.check(t, 0, `"ways"`, "")
	obeys(t, schema("messages"), messages.out)
}

func TestExplain(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	obiter(t, dir, "explain").check(t, 0, "leaks-internals", "")
	o := obiter(t, dir, "explain", "missed-field")
	o.check(t, 0, "How to fix it", "")
	golden(t, "explain", o.out)
	obiter(t, dir, "explain", "maxLength").check(t, 0, "one character too long", "")
	obiter(t, dir, "explain", "mised-field").check(t, 2, "", "error: unknown finding or rule \"mised-field\"\nhint: did you mean missed-field?\n")
	obiter(t, dir, "explain", "a", "b").check(t, 2, "", "error: explain takes one finding or rule")
	obiter(t, folder(t), "try", "--format", "xml", "--at", "http://127.0.0.1:1").check(t, 2, "", "error: invalid value \"xml\" for --format\nhint: use text, json or ndjson\n")
}
