package judge

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write docs/findings.md anew")

const manual = "../../../docs/findings.md"

// TestTheManualListsEveryFinding holds docs/findings.md against the codes.
func TestTheManualListsEveryFinding(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Findings\n\nWhat can be wrong with an answer, gravest first. `obiter explain CODE` prints the same. Errors fail a run (exit status 1), warnings and notes do not.\n" +
		"A finding marked *by itself* counts whether or not the operation's control was accepted; the others need that proof.\n\n| finding | severity | |\n|---|---|---|\n")
	for _, c := range Codes {
		fmt.Fprintf(&b, "| [%s](#%s) | %s | %s |\n", c.Code, c.Code, c.Severity, c.Title)
	}
	for _, c := range Codes {
		if c.Title == "" || c.Means == "" || c.Spared == "" || c.Matters == "" || c.Remedy == "" || c.Example == "" {
			t.Errorf("%s is not explained in full: %+v", c.Code, c)
		}
		fmt.Fprintf(&b, "\n## %s\n\n%s: %s.", c.Code, c.Severity, c.Title)
		if c.Traits.Has(Independent) {
			b.WriteString(" *By itself.*")
		}
		if c.Cites != "" {
			fmt.Fprintf(&b, " %s.", c.Cites)
		}
		fmt.Fprintf(&b, "\n\n%s\n\n**Where it is not told.** %s\n\n**Why it matters.** %s\n\n**How to fix it.** %s\n\n```http\n%s\n```\n", c.Means, c.Spared, c.Matters, c.Remedy, c.Example)
	}
	if *update {
		if err := os.WriteFile(manual, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	have, err := os.ReadFile(manual)
	if err != nil || string(have) != b.String() {
		t.Errorf("docs/findings.md is not what the code says (renew with: go test ./internal/evaluate/judge -update): %v", err)
	}
}
