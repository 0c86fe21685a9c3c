package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// ofTheRun is what differs between runs of the same: addresses, times, new values, the numbers of
// records, and the exchanges in full, which are full of them.
var ofTheRun = regexp.MustCompile(`(, )?http(://|&#58;//)127\.0\.0\.1:\d+|time(stamp)?="[^"]*"|2\d{3}-\d\d-\d\dT\d\d:\d\d:\d\dZ|7a000000-[0-9a-f-]+|after [0-9.]+ ms|Date: [^"<\\]*|(BB|PO|TO|TW)-\d+|reference[^,]*,|\b[0-9a-f]{8}\b|(G-|UN)\d{4}|<script type="application/json".*`)

// TestShardsMakeTheWhole: the reports of five shards are those of the whole run, in any
// order; what does not belong together is told.
func TestShardsMakeTheWhole(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	faults := []string{"update-unchecked", "parent-named", "no-allow", "syntax-as-422", "sentence-only"}
	endings := []string{".json", ".md", ".xml", ".sarif", ".html"}
	reports := func(name string, runs ...string) map[string]string {
		t.Helper()
		args := append([]string{"report"}, runs...)
		for _, e := range endings {
			args = append(args, "--out", name+e)
		}
		obiter(t, dir, args...).check(t, 0, "", "written: ")
		out := map[string]string{}
		for _, e := range endings {
			data, err := os.ReadFile(filepath.Join(dir, name+e))
			if err != nil {
				t.Fatal(err)
			}
			out[e] = ofTheRun.ReplaceAllString(string(data), "")
		}
		return out
	}
	try := func(name string, args ...string) outcome {
		t.Helper()
		return obiter(t, dir, append([]string{"try", "--at", serve(t, faults...), "--depth", "quick", "--save", name}, args...)...)
	}
	try("whole.ndjson").check(t, 1, "", "")
	var shards []string
	for i := range 5 {
		name := fmt.Sprintf("shard%d.ndjson", i+1)
		shards = append(shards, name)
		if o := try(name, "--shard", fmt.Sprintf("%d/5", i+1)); o.status > 1 {
			t.Fatalf("%s: %s%s", name, o.out, o.errors)
		}
	}
	want := reports("whole", "whole.ndjson")
	slices.Reverse(shards)
	shards[1], shards[3] = shards[3], shards[1]
	got := reports("merged", shards...)
	for _, e := range endings {
		if got[e] != want[e] {
			a, b := strings.Split(got[e], "\n"), strings.Split(want[e], "\n")
			for i := range min(len(a), len(b)) {
				if a[i] != b[i] {
					t.Errorf("%s differs in line %d:\n%.600s\nof the whole it is\n%.600s", e, i+1, a[i], b[i])
					break
				}
			}
		}
	}
	whole, all := obiter(t, dir, "judge", "whole.ndjson", "--format", "json"), obiter(t, dir, append([]string{"judge", "--format", "json", "--save", "all.ndjson"}, shards...)...)
	if ofTheRun.ReplaceAllString(whole.out, "") != ofTheRun.ReplaceAllString(all.out, "") || all.status != 1 {
		t.Errorf("judged as one they are\n%.1000s", all.out)
	}
	if again := obiter(t, dir, "judge", "--format", "json", "all.ndjson"); again.out != all.out { // which is a run file like any
		t.Errorf("judged again it is\n%.1000s", again.out)
	}
	// Not all of it.
	obiter(t, dir, "report", shards[0], shards[1], shards[2], "--out", "-", "--as", "markdown").check(t, 0, "missing is shard", "warning: not all: missing is shard ")
	obiter(t, dir, "judge", shards[0], shards[0]).check(t, 2, "", "is named twice")
	try("empty.ndjson", "--shard", "9/9").check(t, 0, "Shard 9/9 has no operations", "")
	obiter(t, dir, "cases", "--shard", "9/9").check(t, 0, "Shard 9/9 has no operations", "")
	obiter(t, dir, "cases", "--shard", "9/5").check(t, 2, "", `invalid value "9/5" for --shard`)
	obiter(t, dir, "judge", "empty.ndjson", shards[0]).check(t, 2, "", "cannot be read as one run: they are not shards of one plan (shard 9/9")
	// Once more, and mended: the later answers count.
	faults = faults[1:]
	try("later.ndjson", "--only", "PUT /vessels/{vessel_id}")
	later := obiter(t, dir, "judge", "later.ndjson", "whole.ndjson")
	later.check(t, 1, "Judged again: 2 run files", " cases are in more than one run; the latest answer counts")
	if strings.Contains(later.out, "nothing of the body is checked") || !strings.Contains(obiter(t, dir, "judge", "whole.ndjson").out, "nothing of the body is checked") {
		t.Errorf("the older answers count:\n%s", later.out)
	}
	// Another version of the description, another service, and no run at all.
	data, err := os.ReadFile(filepath.Join(dir, "openapi.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, "other.yaml", string(data))
	obiter(t, dir, "try", "other.yaml", "--at", serve(t), "--depth", "quick", "--only", "GET /berths", "--save", "other.ndjson")
	obiter(t, dir, "judge", "whole.ndjson", "other.ndjson").check(t, 2, "", "openapi.yaml and other.yaml both have GET /berths")
	put(t, dir, "other.yaml", strings.NewReplacer("/berths:", "/anchorages:").Replace(string(data)))
	obiter(t, dir, "try", "other.yaml", "--at", serve(t), "--depth", "quick", "--only", "GET /anchorages", "--save", "other.ndjson")
	obiter(t, dir, "judge", "later.ndjson", "other.ndjson", "--format", "json").check(t, 0, `"description": "openapi.yaml, other.yaml"`, "")
	put(t, dir, "openapi.yaml", string(data)+"# another one\n")
	try("changed.ndjson", "--only", "GET /berths")
	obiter(t, dir, "judge", "whole.ndjson", "changed.ndjson").check(t, 2, "", "whole.ndjson and changed.ndjson cannot be read as one run: they are of two versions of openapi.yaml")
	put(t, dir, "none.ndjson", "{}\n")
	obiter(t, dir, "judge", "whole.ndjson", "none.ndjson").check(t, 2, "", "none.ndjson: line 1: not a run file")
}
