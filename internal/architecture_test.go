package internal_test

import (
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// rooms lists the packages in the order in which data flows through them: each
// may use those before it.
var rooms = []string{"instance", "suggest", "exchange", "rule", "secret", "document", "dialect", "oad", "schema", "wire", "sample", "flaw", "config", "business", "plan", "survey", "send", "problem", "layout", "judge", "record", "report", "fixture", "run", "trial", "harbour", "cli"}

// core packages take values and give values: no terminal, no clock, no network.
var core = []string{"instance", "suggest", "exchange", "rule", "secret", "document", "dialect", "oad", "schema", "wire", "sample", "flaw", "config", "business", "plan", "survey", "problem", "layout", "judge", "record", "report"}

// only tells which room alone may use a library.
var only = map[string]string{
	"go.yaml.in/yaml/v4": "document", "github.com/go-json-experiment/json": "document", "github.com/santhosh-tekuri/jsonschema/v6": "schema",
	"github.com/dlclark/regexp2": "schema", "cel.dev/cel-go": "business", "github.com/urfave/cli/v3": "cli", "github.com/jedib0t/go-pretty/v6": "cli", "github.com/schollz/progressbar/v3": "cli",
	"github.com/bmatcuk/doublestar/v4": "plan", "github.com/agnivade/levenshtein": "suggest",
}

func TestRoomsUseOnlyWhatTheyMay(t *testing.T) {
	for _, room := range rooms {
		files, err := filepath.Glob(filepath.Join(room, "*.go"))
		if err != nil || len(files) == 0 {
			t.Fatalf("no room %s: %v", room, err)
		}
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
			if err != nil {
				t.Fatal(err)
			}
			for _, spec := range f.Imports {
				path, _ := strconv.Unquote(spec.Path.Value)
				if problem := breach(room, path); problem != "" {
					t.Errorf("%s imports %s: %s", file, path, problem)
				}
			}
		}
	}
}

func breach(room, path string) string {
	if name, ok := strings.CutPrefix(path, "obiter/internal/"); ok {
		if slices.Index(rooms, name) >= slices.Index(rooms, room) {
			return "data flows the other way"
		}
		return ""
	}
	for library, owner := range only {
		if (path == library || strings.HasPrefix(path, library+"/")) && room != owner {
			return "that is for " + owner + " alone"
		}
	}
	if slices.Contains(core, room) {
		switch path {
		case "flag", "log", "os/exec", "math/rand", "syscall":
			return "the core does without"
		case "os":
			if room != "document" {
				return "the core does without"
			}
		}
	}
	return ""
}

func TestEveryFolderIsARoom(t *testing.T) {
	entries, err := os.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		if e.IsDir() && e.Name() != "schematest" && !slices.Contains(rooms, e.Name()) {
			t.Errorf("%s is in no order", e.Name())
		}
	}
}
