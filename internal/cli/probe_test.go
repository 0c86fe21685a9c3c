package cli_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"obiter/internal/harbour"
)

// probeOffice holds the harbour's description against a harbour with faults.
func probeOffice(t *testing.T, only string, faults ...string) string {
	t.Helper()
	dir := folder(t)
	put(t, dir, "obiter.yaml", string(harbour.Config))
	o := obiter(t, dir, "draft", "--probe", "openapi.yaml", "--at", serve(t, faults...), "--only", only, "--report", "found.html")
	o.check(t, 0, "", "written: found.html")
	page, err := os.ReadFile(filepath.Join(dir, "found.html"))
	if differ := strings.Contains(o.out, "not enforced:"); err != nil || !strings.Contains(string(page), "what is enforced") || strings.Contains(string(page), "the service enforces what is described") == differ {
		t.Errorf("%v; the page:\n%.2000s", err, page)
	}
	if unseen.MatchString(o.errors) {
		t.Errorf("records stay:\n%s", o.errors)
	}
	return o.out
}

var differing = regexp.MustCompile(`(?m)^.*not (enforced|described): .*$`)

// TestProbingFindsTheRules: all that one field can show of the description's rules, and
// nothing else; a fault that switches a rule off takes it out of the table.
func TestProbingFindsTheRules(t *testing.T) {
	t.Parallel()
	sound := probeOffice(t, "*")
	if found := differing.FindAllString(sound, -1); len(found) > 0 {
		t.Errorf("the description and a sound office differ:\n%s", strings.Join(found, "\n"))
	}
	for _, want := range []string{"/length_m       required, number, more than 0, at most 400, in steps of 0.01", "/imo            required, text, form ^IMO[0-9]{7}$", "/reference  required, text, form ^TW-[A-Z0-9]{6}$, a new value each time (unique)", "at most 300, in steps of 0.5, its limits depend on /tugs"} {
		if !strings.Contains(sound, want) {
			t.Errorf("there is no %q in\n%s", want, sound)
		}
	}
	for _, c := range [][4]string{
		{"duplicates-kept", "POST /berth-bookings", "/services", "not enforced: uniqueItems"},
		{"unknown-kept", "POST /pilot-orders", "(body)", "not enforced: additionalProperties"},
		{"numbers-coerced", "POST /vessels", "/length_m", "not enforced: type, multipleOf"},
	} {
		if text := probeOffice(t, c[1], c[0]); !regexp.MustCompile(`(?m)^  ` + regexp.QuoteMeta(c[2]) + ` .*\n +` + c[3]).MatchString(text) {
			t.Errorf("%s: %s is enforced?\n%s", c[0], c[2], text)
		}
	}
	put := probeOffice(t, "PUT /vessels/*", "update-unchecked")
	for _, line := range []string{`/name .*\n +not enforced: required, type, minLength, maxLength`, `/imo .*\n.*pattern`, `/type .*\n.*enum`, `/labels .*\n.*maxItems, uniqueItems`, `\(body\) .*\n.*additionalProperties`} {
		if !regexp.MustCompile(`(?m)^  ` + line + `$`).MatchString(put) {
			t.Errorf("update-unchecked: %s is enforced?\n%s", line, put)
		}
	}
}

func TestProbingFromASample(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "pilot.json", `{"vessel_id":"5e0c3f6a-2b71-4c8d-9a4e-6f1d2c3b4a59","boarding":"north","requested_for":"2031-05-04T05:30:00Z","pilots":1,"fee_eur":1250,"note":"Deep draught"}`)
	put(t, dir, "wrong.json", `{"vessel_id":"nobody"}`)
	base := serve(t)
	o := obiter(t, dir, "draft", "--probe", "--at", base, "POST /pilot-orders", "pilot.json", "DELETE /pilot-orders/{order_id}", "--out", "openapi.yaml")
	o.check(t, 0, "/fee_eur        optional, whole number, at least 0, at most 20000, in steps of 50", "")
	if unseen.MatchString(o.errors) {
		t.Errorf("records stay:\n%s", o.errors)
	}
	text, err := os.ReadFile(filepath.Join(dir, "openapi.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"required: [boarding, pilots, requested_for, vessel_id]\n", "boarding: { type: string, enum: [north, outer roads, south] }", "pilots: { type: integer, minimum: 1, maximum: 3, examples: [1] }", "note: { type: string, maxLength: 500", "additionalProperties: false"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("there is no %q in\n%s", want, text)
		}
	}
	obiter(t, dir, "try", "--at", base).check(t, 0, "", "")
	refused := obiter(t, dir, "draft", "--probe", "--at", base, "POST /pilot-orders", "wrong.json")
	refused.check(t, 0, "", "Not to the end: the sample itself is refused")
	obiter(t, dir, "draft", "--probe", "--at", "http://127.0.0.1:1", "POST /pilot-orders", "pilot.json").check(t, 3, "", "nothing answers at")
	obiter(t, dir, "draft", "--probe", "--at", "http://harbour.example", "POST /pilot-orders", "pilot.json").check(t, 2, "", "harbour.example is another host")
	kept := obiter(t, dir, "draft", "--probe", "--at", base, "POST /pilot-orders", "pilot.json", "--out", "kept.yaml")
	kept.check(t, 0, "", "not deleted: ")
}

// unseen matches that records stay, but for those of which nothing can show that they are of the
// run: the very values that tell them from others were probed, and no GET is described.
var unseen = regexp.MustCompile(`not deleted: .* of POST /(vessels|berth-bookings|tow-orders)|not deleted: .* answered`)
