package trial_test

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"obiter/internal/execute/run"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/harbour"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

// volatile is what differs between two runs of the same: ids of records, and times.
var volatile = regexp.MustCompile(`[0-9a-f]{8,}|[0-9]+(\.[0-9]+)? ?m?s\b|:[0-9]{4,5}\b|\b[A-Z][0-9]{4}\b`)

// arranged is all that a report says, in its order.
func arranged(rep *report.Report) []string {
	var out []string
	add := func(format string, args ...any) {
		out = append(out, volatile.ReplaceAllString(fmt.Sprintf(format, args...), "…"))
	}
	for _, e := range rep.Entries() {
		add("%s %s %v %v %s %d", e.Code, e.Severity, e.Operations, e.Fields, e.At, e.Count)
		for _, x := range e.Examples {
			out = append(out, x.Case, volatile.ReplaceAllString(x.Message, "…"))
		}
	}
	for _, l := range rep.Lines {
		add("%s %v", l.Operation, l.Counts())
	}
	for _, r := range rep.Matrix() {
		for _, row := range r.Rows {
			for _, column := range report.Columns {
				if c := row.Cells[column]; c != nil {
					out = append(out, fmt.Sprint(row.Operation, row.In, row.Field, column, c.Mark, c.Cases, c.Marks, c.Shows))
				}
			}
		}
	}
	return out
}

// TestTheSameAtAnyParallel: however many requests are in flight, and whatever goes side by
// side with what, the same is found; and judged again it is the same.
func TestTheSameAtAnyParallel(t *testing.T) {
	t.Parallel()
	for name, faults := range map[string][]string{"sound": nil, "the demo's mistakes": harbour.DemoFaults()} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var first []string
			for _, parallel := range []int{1, 8, 64} {
				o := open(t, faults, "each: operation", "each: operation")
				o.opt.Plan, o.opt.Parallel = plan.Options{Base: o.opt.Plan.Base, Depth: flaw.Quick}, parallel
				var kept bytes.Buffer
				o.opt.Copy = &kept
				out, err := trial.Run(context.Background(), o.opt, o.events)
				if err != nil {
					t.Fatal(err)
				}
				found := arranged(out.Report)
				again, err := run.Judge(func() (*record.Reader, error) { return record.NewReader(bytes.NewReader(kept.Bytes())) }, nil)
				if err != nil {
					t.Fatal(err)
				}
				same(t, fmt.Sprintf("%d in flight, judged again", parallel), arranged(again), found)
				if first == nil {
					first = found
				}
				same(t, fmt.Sprintf("%d in flight", parallel), found, first)
			}
			if faults == nil && slices.ContainsFunc(first, func(s string) bool { return strings.Contains(s, " error ") }) {
				t.Errorf("found is %q", first)
			}
		})
	}
}

func same(t *testing.T, name string, got, want []string) {
	t.Helper()
	for i := range max(len(got), len(want)) {
		switch {
		case i >= len(got):
			t.Fatalf("%s: missing is %s", name, want[i])
		case i >= len(want):
			t.Fatalf("%s: too much is %s", name, got[i])
		case got[i] != want[i]:
			t.Fatalf("%s: it says\n%s\nand with one at a time\n%s", name, got[i], want[i])
		}
	}
}
