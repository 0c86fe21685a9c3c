package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"obiter/internal/harbour"
)

// TestDraftFromACapture drafts from the archive of a run against a service with mistakes,
// and tries that service by the draft: it finds what was planted.
func TestDraftFromACapture(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	put(t, dir, "obiter.yaml", string(harbour.Config))
	base := serve(t, harbour.DemoFaults()...)
	obiter(t, dir, "try", "--at", base).check(t, 1, "", "")
	obiter(t, dir, "report", "--out", "run.har").check(t, 0, "", "")

	drafted := t.TempDir()
	archive, err := os.ReadFile(filepath.Join(dir, "run.har"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, drafted, "run.har", string(archive))
	obiter(t, drafted, "draft", "run.har", "--out", "openapi.yaml").check(t, 0, "openapi.yaml is written, with 18 operations", "left out: of a path or with a method that was never accepted")
	obiter(t, drafted, "draft", "run.har", "--out", "openapi.yaml").check(t, 2, "", "openapi.yaml already exists and is not overwritten")
	names := strings.NewReplacer("{booking_id}", "{berth_booking_id}", "{order_id}", "{pilot_order_id}", "{tow_id}", "{tow_order_id}",
		"keep: { booking_id", "keep: { berth_booking_id", "keep: { order_id", "keep: { pilot_order_id", "keep: { tow_id", "keep: { tow_order_id", "session: ${token}", "bearer: ${token}")
	put(t, drafted, "obiter.yaml", names.Replace(string(harbour.Config)))
	found := causesOf(t, obiter(t, drafted, "try", "--at", base, "--format", "json"))
	is := names.Replace
	n := 0
	for _, f := range harbour.Faults {
		if !f.Demo {
			continue
		}
		if found[f.Code+" "+is(f.Operation)] {
			n++
		} else {
			t.Logf("not found: %s at %s", f.Code, f.Operation)
		}
		delete(found, f.Code+" "+is(f.Operation))
		for _, code := range f.Also {
			delete(found, code+" "+is(f.Operation))
		}
	}
	if n < 12 {
		t.Errorf("%d of the planted mistakes were found", n)
	}
	if len(found) > 0 {
		t.Errorf("accused wrongly: %v", found)
	}
}

func TestDraftFromFiles(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "otter.json", `{"name":"Otter","pull_t":60.5,"built_on":"2014-03-28"}`)
	put(t, dir, "seal.json", `{"name":"Seal","pull_t":45}`)
	put(t, dir, "pier.json", `{"$schema":"https://json-schema.org/draft/2020-12/schema","type":"object","required":["name"],"properties":{"name":{"type":"string"}}}`)
	put(t, dir, "requests.sh", "# what works\ncurl http://localhost:8080/piers -H 'Authorization: Bearer tide-tables-of-1912' --json '{\"name\":\"North\"}'\ncurl http://localhost:8080/piers/7\n")
	o := obiter(t, dir, "draft", "POST /tugs", "otter.json", "seal.json", "PUT /piers/{pier_id}", "pier.json", "requests.sh")
	o.check(t, 0, "required: [name, pull_t]   # guess: they were always there", "")
	for _, want := range []string{"pull_t: { type: number, examples: [60.5] }", "post:   # from otter.json, seal.json", "post:   # from requests.sh: 1 requests, 1 accepted", "/piers/{pier_id}:", "bearer: { type: http, scheme: bearer }"} {
		if !strings.Contains(o.out, want) {
			t.Errorf("there is no %q in\n%s", want, o.out)
		}
	}
	if strings.Contains(o.out, "tide-tables") {
		t.Error("a credential is in the draft")
	}
	put(t, dir, "openapi.yaml", o.out)
	obiter(t, dir, "survey").check(t, 0, "POST /tugs", "")
	obiter(t, dir, "draft", "DELETE /tugs/{tug_id}", "otter.json", "--into", "openapi.yaml").check(t, 0, "openapi.yaml: added 1 operation: DELETE /tugs/{tug_id}", "")
	obiter(t, dir, "draft", "DELETE /tugs/{tug_id}", "otter.json", "--into", "openapi.yaml").check(t, 0, "openapi.yaml has all of it already; nothing is changed.", "")

	put(t, dir, "run.ndjson", `{"type":"run","obiter":2}`)
	put(t, dir, "refused.har", `{"log":{"entries":[{"request":{"method":"GET","url":"http://localhost/tugs"},"response":{"status":404}}]}}`)
	for args, want := range map[string]string{
		"":                                "error: there is nothing to draft from",
		"otter.json":                      "error: of which operation is otter.json a sample?\nhint: name it first: obiter draft 'POST /vessels' 'otter.json'",
		"POST /tugs":                      `error: no file follows "POST /tugs"`,
		"POST tugs|otter.json":            `error: "POST tugs" is neither a file nor an operation`,
		"nothing.har":                     "error: there is no file nothing.har",
		"run.ndjson":                      "error: run.ndjson is a run file\nhint: write it as an archive first",
		".":                               "error: . is not a regular file",
		"refused.har":                     "error: there is nothing to draft: no request was accepted",
		"requests.sh|--at|nowhere":        "error: --at \"nowhere\" has no scheme",
		"requests.sh|--into|a|--out|b":    "error: --into and --out name two files",
		"requests.sh|--into|nothing.yaml": "error: there is no file nothing.yaml",
	} {
		var list []string
		if args != "" {
			list = strings.Split(args, "|")
		}
		o := obiter(t, dir, append([]string{"draft"}, list...)...)
		status := 2
		if args == "refused.har" {
			status = 3
		}
		o.check(t, status, "", want)
	}
}
