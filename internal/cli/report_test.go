package cli_test

import (
	"encoding/json"
	"encoding/xml"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"obiter/internal/results/render"
)

// TestReports: each format by its ending, from try and from a run file, the same from
// both; and what cannot be written is told before anything is sent.
func TestReports(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	at := serve(t, "own-layout", "numbers-coerced")
	read := func(name string) string {
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	obiter(t, dir, "try", "--at", at, "--only", "POST *", "--depth", "quick", "--report", "a.xml", "--report", "a.md", "--report", "a.json", "--report", "a.har", "--report", "a.html", "--report", "a.sarif").check(t, 1, "causes to fix", "written: a.xml\nwritten: a.md\nwritten: a.json\nwritten: a.har\nwritten: a.html\nwritten: a.sarif\n")
	obiter(t, dir, "report", "--out", "b.XML", "--out", "b.md", "--out", "b.json", "--out", "b.har", "--out", "b.html", "--out", "b.sarif").check(t, 0, "", "written: b.XML\n")
	for _, ending := range []string{".md", ".json", ".har", ".html", ".sarif"} {
		if read("a"+ending) != read("b"+ending) {
			t.Errorf("%s differs:\n%.2000s\n%.2000s", ending, read("a"+ending), read("b"+ending))
		}
	}
	if read("a.xml") != read("b.XML") || xml.Unmarshal([]byte(read("a.xml")), &struct{ XMLName xml.Name }{}) != nil || !strings.Contains(read("a.xml"), `<testsuite name="POST /vessels"`) {
		t.Errorf("the XML is\n%.2000s", read("a.xml"))
	}
	var outcome struct{ Totals struct{ Cases int } }
	if err := json.Unmarshal([]byte(read("a.json")), &outcome); err != nil || outcome.Totals.Cases == 0 {
		t.Errorf("%v, %+v", err, outcome)
	}
	var archive struct {
		Log struct{ Entries []struct{ Comment string } }
	}
	if err := json.Unmarshal([]byte(read("a.har")), &archive); err != nil || len(archive.Log.Entries) != outcome.Totals.Cases {
		t.Errorf("%v, %d entries for %d cases", err, len(archive.Log.Entries), outcome.Totals.Cases)
	}
	obiter(t, dir, "report", "--out", "-", "--as", "markdown").check(t, 0, "## ", "")
	if o := obiter(t, dir, "report", "--out", "-", "--as", "markdown"); o.out != read("a.md") || o.errors != "" {
		t.Errorf("to standard output comes\n%s%s", o.out, o.errors)
	}
	last := within(t, dir, lastRun(t, dir))
	const old = "<!-- Obiter -->\nold"
	put(t, dir, "old.md", old)
	for want, args := range map[string][]string{
		`the name "a.pdf" does not say a format`:  {"report", "--out", "a.pdf"},
		`the name "-" does not say a format`:      {"report", "--out", "-"},
		"no file: name it with --out":             {"report"},
		`invalid value "pdf" for --as`:            {"report", "--out", "a.md", "--as", "pdf"},
		".obiter is a folder":                     {"report", "--out", ".obiter", "--as", "json"},
		last + " is the run file":                 {"report", "--out", last, "--as", "json"},
		"cannot write nowhere/a.md":               {"report", "--out", "nowhere/a.md"},
		"there is no run file none.ndjson":        {"report", "none.ndjson", "--out", "old.md"},
		"openapi.yaml: line 1: not a run file":    {"report", "openapi.yaml", "--out", "old.md"},
		"is named twice, as " + last + " too":     {"report", last, "./" + last, "--out", "old.md"},
		"cannot write nowhere/b.md: no such file": {"try", "--at", "http://127.0.0.1:1", "--report", "nowhere/b.md"},
		"hint: end it in .html, .xml, ":           {"try", "--at", "http://127.0.0.1:1", "--report", "b.pdf"},
	} {
		obiter(t, dir, args...).check(t, 2, "", want)
	}
	left, err := filepath.Glob(filepath.Join(dir, ".obiter-*"))
	if err != nil || len(left) > 0 || read("old.md") != old {
		t.Errorf("left are %q, and the old one is %q", left, read("old.md"))
	}
}

// TestQuiet: the status and what is asked for, and nothing else.
func TestQuiet(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	at := serve(t, "numbers-coerced")
	o := obiter(t, dir, "try", "--at", at, "--only", "POST /vessels", "--depth", "quick", "--quiet")
	if o.status != 1 || o.out != "" || o.errors != "" {
		t.Errorf("status %d: %s%s", o.status, o.out, o.errors)
	}
	o = obiter(t, dir, "try", "--at", at, "--only", "POST /vessels", "--depth", "quick", "--quiet", "--format", "json", "--report", "a.md")
	if o.status != 1 || !strings.HasPrefix(o.out, "{") || o.errors != "" {
		t.Errorf("status %d: %.200s%s", o.status, o.out, o.errors)
	}
	obiter(t, dir, "try", "--at", "http://127.0.0.1:1", "--quiet").check(t, 3, "", "error: nothing answers")
}

// TestFormatsAreDocumented: help and the page of formats name each format that there is, as it is
// called.
func TestFormatsAreDocumented(t *testing.T) {
	t.Parallel()
	help := strings.Join(strings.Fields(obiter(t, t.TempDir(), "report", "--help").out), " ")
	manual := string(mustRead(t, "../..", "docs/formats.md"))
	for _, f := range render.Formats {
		if !strings.Contains(manual, "`"+f.Endings[0]+"`") {
			t.Errorf("docs/formats.md does not name %s", f.Endings[0])
		}
		if !strings.Contains(help, f.Endings[0]+" "+f.Title) || !strings.Contains(help, f.Name) {
			t.Errorf("the help does not name %s (%s)", f.Endings[0], f.Name)
		}
	}
}
