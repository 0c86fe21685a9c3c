package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestCompare: two runs of the demo with other faults differ by exactly these, in every
// form; and what cannot be compared is told.
func TestCompare(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	try := func(faults ...string) {
		t.Helper()
		if o := obiter(t, dir, "try", "--at", serve(t, faults...), "--depth", "quick", "--skip", "* /tow-orders", "--skip", "* /tow-orders/*"); o.status > 1 {
			t.Fatalf("%s%s", o.out, o.errors)
		}
	}
	obiter(t, dir, "compare").check(t, 2, "", "there is no earlier run in this folder")
	try("update-unchecked", "no-allow", "sentence-only")
	try("no-allow", "numbers-coerced", "status-as-text")
	o := obiter(t, dir, "compare", "--report", "d.html", "--report", "d.md", "--report", "d.json")
	o.check(t, 1, " newly wrong", "written: d.html\nwritten: d.md\nwritten: d.json\n")
	wrong, right, _ := strings.Cut(o.out, "\nPut right\n")
	right, still, _ := strings.Cut(right, "\nStill wrong\n")
	still, changed, _ := strings.Cut(still, "\nChanged\n")
	for _, part := range []struct {
		text string
		has  []string
		not  []string
	}{
		{wrong, []string{"Newly wrong", "accepted (of a readable type)", "POST /vessels", "bad-member", "PATCH /vessels/{vessel_id}"}, []string{"missing-header", "PUT "}},
		{right, []string{"accepted · ", "PUT /vessels/{vessel_id}", "no-field-errors", "POST /sessions"}, []string{"missing-header", "PATCH "}},
		{still, []string{"missing-header", "POST /sessions"}, []string{"accepted", "PATCH "}},
		{changed, []string{"layout: “application/problem+json detail, errors,"}, []string{"PUT ", "PATCH "}},
	} {
		for _, text := range part.has {
			if !strings.Contains(part.text, text) {
				t.Errorf("%q is not in\n%s", text, part.text)
			}
		}
		for _, text := range part.not {
			if strings.Contains(part.text, text) {
				t.Errorf("%q is in\n%s", text, part.text)
			}
		}
	}
	written := map[string]string{}
	for _, name := range []string{"d.html", "d.md", "d.json"} {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		written[name] = string(data)
	}
	obeys(t, schemas(t)("difference"), written["d.json"])
	var d struct{ NewlyWrong, Right, StillWrong int }
	if err := json.Unmarshal([]byte(written["d.json"]), &d); err != nil || d.NewlyWrong == 0 || d.Right == 0 || d.StillWrong != 1 {
		t.Errorf("%v: %+v", err, d)
	}
	if obiter(t, dir, "compare", "--format", "json").out != written["d.json"] || obiter(t, dir, "compare", "--format", "md").out != written["d.md"] {
		t.Error("printed it is another one")
	}
	if !strings.Contains(written["d.html"], "answered in the older run") || !strings.Contains(written["d.html"], "<mark>error accepted</mark>") {
		t.Errorf("the page is\n%.2000s", written["d.html"])
	}
	// The other way round, and with itself.
	obiter(t, dir, "compare", lastRun(t, dir), previousRun(t, dir)).check(t, 1, "Newly wrong", "")
	obiter(t, dir, "compare", lastRun(t, dir)).check(t, 0, " still wrong.\n", "")
	put(t, dir, "empty.yaml", "openapi: 3.1.0\ninfo: {title: t, version: '1'}\npaths: {/berths: {get: {responses: {'200': {description: ok}}}}}\n")
	obiter(t, dir, "try", "empty.yaml", "--at", serve(t), "--save", "other.ndjson")
	for want, args := range map[string][]string{
		`compare reads two runs, and "c" is a third one`: {"a", "b", "c"},
		"there is no run file a":                         {"a", "b"},
		"use text, json or md":                           {"--format", "html"},
		`the name "d.xml" does not say a format`:         {"--report", "d.xml"},
		"openapi.yaml: line 1: not a run file":           {"openapi.yaml"},
		"is the run file that is read":                   {"other.ndjson", "--report", "other.ndjson"},
	} {
		if strings.HasPrefix(want, "is the run") { // whatever its ending
			if err := os.Rename(filepath.Join(dir, "other.ndjson"), filepath.Join(dir, "other.json")); err != nil {
				t.Fatal(err)
			}
			args = []string{"other.json", "--report", "other.json"}
		}
		obiter(t, dir, append([]string{"compare"}, args...)...).check(t, 2, "", want)
	}
}
