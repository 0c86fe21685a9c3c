package cli_test

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"go.yaml.in/yaml/v4"
)

// TestTheCIPage: each file in docs/ci.md is YAML, and each command line in it has options
// that the command knows.
func TestTheCIPage(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", "ci.md"))
	if err != nil {
		t.Fatal(err)
	}
	blocks := regexp.MustCompile("(?s)```yaml\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	if len(blocks) != 3 {
		t.Fatalf("%d files", len(blocks))
	}
	commands := regexp.MustCompile(`\bobiter (try|report|judge|show)\b([^\n]*)`)
	for i, b := range blocks {
		n := 0
		for d := yaml.NewDecoder(strings.NewReader(b[1])); ; n++ {
			var v map[string]any
			if err := d.Decode(&v); errors.Is(err, io.EOF) {
				break
			} else if err != nil {
				t.Fatalf("file %d: %v", i+1, err)
			}
			if len(v) == 0 {
				t.Errorf("file %d has an empty document", i+1)
			}
		}
		var used []string
		for _, m := range commands.FindAllStringSubmatch(b[1], -1) {
			used = append(used, m[1])
			help := obiter(t, t.TempDir(), m[1], "--help").out
			for _, option := range regexp.MustCompile(`--[a-z-]+`).FindAllString(m[2], -1) {
				if !strings.Contains(help, option+" ") {
					t.Errorf("file %d: %s has no option %s", i+1, m[1], option)
				}
			}
		}
		if n == 0 || !slices.Contains(used, "try") || !slices.Contains(used, "report") || !slices.Contains(used, "judge") {
			t.Errorf("file %d: %d documents with %q", i+1, n, used)
		}
	}
}
