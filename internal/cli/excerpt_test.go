package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestALargeRunIsNotReadThrough: a case of it is shown as one of a small run, by an index that
// is made once, and made anew when the run is another one.
func TestALargeRunIsNotReadThrough(t *testing.T) {
	dir, _ := demoFolder(t)
	obiter(t, dir, "try", "--depth", "quick")
	last := filepath.Join(dir, ".obiter", "last.ndjson")
	small, err := os.ReadFile(last)
	if err != nil {
		t.Fatal(err)
	}
	lines := bytes.SplitAfter(small, []byte("\n"))
	id := regexp.MustCompile(`^\{"type":"case","number":[0-9]+,"case":"([0-9a-f]{10})"`)
	var large bytes.Buffer
	large.Write(lines[0])
	for round := 0; large.Len() < 17<<20; round++ { // each with cases of its own
		for _, line := range lines[1 : len(lines)-2] {
			if m := id.FindSubmatchIndex(line); m != nil && round > 0 {
				line = append(fmt.Appendf(append([]byte{}, line[:m[2]]...), "%04x", round), line[m[2]+4:]...)
			}
			large.Write(line)
		}
	}
	large.Write(lines[len(lines)-2])
	if err := os.WriteFile(last, large.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "small.ndjson"), small, 0o600); err != nil {
		t.Fatal(err)
	}
	index := last + ".index"
	shown, of := 0, ""
	for _, line := range lines {
		m := id.FindSubmatch(line)
		if m == nil || !bytes.Contains(line, []byte(`"findings":[{`)) && !bytes.Contains(line, []byte(`"kind":"control"`)) || shown > 40 {
			continue
		}
		shown++
		of = string(m[1])
		got, want := process(t, dir, "show", of), process(t, dir, "show", of, "--run", "small.ndjson")
		if got.out != want.out || got.status != 0 || got.errors != want.errors {
			t.Fatalf("%s is shown as\n%s%s\nand not as\n%s%s", of, got.out, got.errors, want.out, want.errors)
		}
	}
	if shown < 10 {
		t.Errorf("only %d cases were looked at", shown)
	}
	made, err := os.Stat(index)
	if err != nil {
		t.Fatal(err)
	}
	process(t, dir, "show", "fffffffff0").check(t, 2, "", "has no case")
	if again, err := os.Stat(index); err != nil || !again.ModTime().Equal(made.ModTime()) {
		t.Errorf("the index is made again: %v", err)
	}
	if err := os.WriteFile(index, []byte(strings.Repeat("7", 100)+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	process(t, dir, "show", of).check(t, 0, of, "")
	obiter(t, dir, "try", "--depth", "quick")
	if _, err := os.Stat(index); !os.IsNotExist(err) {
		t.Errorf("the index of a run that is there no more stays: %v", err)
	}
}
