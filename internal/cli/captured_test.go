package cli_test

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"obiter/internal/harbour"
)

// causesOf are the causes that JSON output tells, each as code and operation.
func causesOf(t *testing.T, o outcome) map[string]bool {
	t.Helper()
	var doc struct {
		Findings []struct {
			Code, Severity string
			Operations     []string
		}
	}
	if err := json.Unmarshal([]byte(o.out), &doc); err != nil {
		t.Fatalf("%v\n%.500s\n%s", err, o.out, o.errors)
	}
	out := map[string]bool{}
	for _, f := range doc.Findings {
		for _, operation := range f.Operations {
			if f.Severity != "note" {
				out[f.Code+" "+operation] = true
			}
		}
	}
	return out
}

// TestJudgingCaptures judges the archive of a run as if others had recorded it: it finds
// what the run found, but for rules that only the configuration has and what takes more
// than one look; and nothing else.
func TestJudgingCaptures(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	put(t, dir, "obiter.yaml", string(harbour.Config))
	faults := append([]string{"status-differs", "neighbour-blamed", "unknown-kept", "type-relative"}, harbour.DemoFaults()...)
	tried := obiter(t, dir, "try", "--at", serve(t, faults...), "--format", "json")
	obiter(t, dir, "report", "--out", "capture.har").check(t, 0, "", "written: capture.har")
	judged := obiter(t, dir, "judge", "capture.har", "--format", "json")
	if judged.status != 1 {
		t.Fatalf("status %d\n%s", judged.status, judged.errors)
	}
	was, is := causesOf(t, tried), causesOf(t, judged)
	// What was at a boundary is not seen where each request has another name.
	otherwise := map[string]bool{"accepted POST /tow-orders": true, "edge-rejected POST /vessels": true, "read-only-stored PUT /vessels/{vessel_id}": true}
	for cause := range was {
		if code, _, _ := strings.Cut(cause, " "); !is[cause] && !otherwise[cause] && code != "title-drift" && code != "odd-status" {
			t.Errorf("not found: %s", cause)
		}
	}
	for cause := range is {
		if !was[cause] {
			t.Errorf("accused: %s", cause)
		}
	}

	obiter(t, dir, "try", "--at", serve(t)).check(t, 0, "", "")
	obiter(t, dir, "report", "--out", "sound.har").check(t, 0, "", "")
	obiter(t, dir, "judge", "sound.har").check(t, 0, "Judged: sound.har  openapi.yaml", "left out: of no operation of openapi.yaml")
	obiter(t, dir, "judge", "capture.har", "--save", "kept.ndjson").check(t, 1, "The run is in kept.ndjson", "")
	obiter(t, dir, "judge", "kept.ndjson").check(t, 1, "Judged again: kept.ndjson", "")
	obiter(t, dir, "judge", "kept.ndjson", "capture.har").check(t, 2, "", "error: run files and captures are not judged together")
	obiter(t, dir, "judge", "kept.ndjson", "--description", "openapi.yaml").check(t, 2, "", "error: --description is for captures")
	obiter(t, dir, "judge", "capture.har", "--description", "nowhere.yaml").check(t, 2, "", "error: nowhere.yaml: there is no such file")

	bare := t.TempDir()
	archive, err := os.ReadFile(filepath.Join(dir, "capture.har"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, bare, "capture.har", string(archive))
	without := obiter(t, bare, "judge", "capture.har")
	without.check(t, 1, "Judged: capture.har  no description", "")
	for _, want := range []string{"bad-member at /status", "status-mismatch", "crashed"} {
		if !strings.Contains(without.out, want) {
			t.Errorf("without a description there is no %s:\n%s", want, without.out)
		}
	}
	put(t, bare, "cut.har", string(archive[:len(archive)/2]))
	obiter(t, bare, "judge", "cut.har").check(t, 2, "", "the archive ends in the middle\nhint: judge reads run files, HTTP archives (HAR 1.2) and problem documents")
}

// TestCapturedCredentialsAreNotKept, wherever they come back.
func TestCapturedCredentialsAreNotKept(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "a.har", `{"log":{"entries":[{"request":{"method":"POST","url":"http://harbour.example/tugs","headers":[{"name":"authorization","value":"Bearer tide-tables-of-1912"},{"name":"Cookie","value":"watch=night-watch-7"}]},
		"response":{"status":401,"headers":[{"name":"set-cookie","value":"watch=day-watch-8"}],"content":{"mimeType":"application/problem+json","text":"{\"title\":\"tide-tables-of-1912 is not valid\"}"}}}]}}`)
	o := obiter(t, dir, "judge", "a.har", "--save", "kept.ndjson")
	kept, err := os.ReadFile(filepath.Join(dir, "kept.ndjson"))
	if err != nil {
		t.Fatal(err, o.errors)
	}
	for _, secret := range []string{"tide-tables", "night-watch", "day-watch"} {
		if strings.Contains(string(kept)+o.out+o.errors, secret) {
			t.Errorf("%s is kept:\n%s", secret, kept)
		}
	}
}

// TestDescriptionsOfAnother: where many requests are accepted and none of them is valid by
// the description, that is said.
func TestDescriptionsOfAnother(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	entry := `{"request":{"method":"POST","url":"http://127.0.0.1:8080/vessels","headers":[{"name":"Content-Type","value":"application/json"}],"postData":{"mimeType":"application/json","text":"{\"title\":\"Otter\"}"}},"response":{"status":201,"headers":[],"content":{"size":0}}}`
	put(t, dir, "other.har", `{"log":{"entries":[`+strings.Repeat(entry+",", 5)+entry+`]}}`)
	obiter(t, dir, "judge", "other.har").check(t, 1, "", "warning: the service accepts requests to POST /vessels, and openapi.yaml calls none of them valid")
	put(t, dir, "two.har", `{"log":{"entries":[`+entry+","+entry+`]}}`)
	if o := obiter(t, dir, "judge", "two.har"); strings.Contains(o.errors, "calls none of them valid") {
		t.Error(o.errors)
	}
}

func TestJudgingProblemDocuments(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	put(t, dir, "good.json", `{"type":"https://harbour.example/problems/no-berth","title":"No such berth","status":404}`)
	put(t, dir, "bad.json", `{"type":5,"status":"404"}`)
	put(t, dir, "no.json", `{"type":`)
	put(t, dir, "list.json", `[]`)
	obiter(t, dir, "judge", "good.json").check(t, 0, "a problem document", "")
	obiter(t, dir, "judge", "bad.json", "good.json").check(t, 1, "bad-member at /status", "")
	obiter(t, dir, "judge", "no.json").check(t, 2, "", "error: cannot read no.json: it is not readable as JSON")
	obiter(t, dir, "judge", "list.json").check(t, 2, "", "it is neither an HTTP archive (HAR 1.2) nor a problem document")
	obiter(t, dir, "judge", "nothing.json").check(t, 2, "", "error: there is no run file nothing.json")

	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, "judge", "-")
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(`{"type":5,"status":404}`)
	if out, err := cmd.Output(); err == nil || !strings.Contains(string(out), "bad-member at /type") {
		t.Errorf("standard input: %v\n%s", err, out)
	}
}
