package internal_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// groups are the folders of this one in the order in which data flows through
// them: a package may use those of its own group and of the groups before it.
// Those of testing are for tests alone, and no package may use them.
var groups = []string{"core", "input", "generate", "evaluate", "results", "learn", "target", "execute", "harbour", "cli", "testing"}

// pure groups take values and give values: they know no terminal, clock, network
// or process. Only document opens files.
var pure = []string{"core", "input", "generate", "evaluate", "results", "learn"}

// owners says which packages alone may use a library.
var owners = map[string][]string{
	"cel.dev/cel-go":                         {"generate/business"},
	"github.com/agnivade/levenshtein":        {"core/suggest"},
	"github.com/bmatcuk/doublestar/v4":       {"input/oad"},
	"github.com/dlclark/regexp2/v2":          {"input/schema"},
	"github.com/go-json-experiment/json":     {"core/instance", "input/document", "results/record", "results/render", "learn/capture"},
	"github.com/gofrs/flock":                 {"execute/trial"},
	"github.com/jedib0t/go-pretty/v6":        {"cli", "cli/terminal"},
	"github.com/santhosh-tekuri/jsonschema/": {"input/schema"},
	"github.com/schollz/progressbar/v3":      {"cli/terminal"},
	"github.com/urfave/cli/v3":               {"cli"},
	"go.yaml.in/yaml/v4":                     {"input/document"},
	"golang.org/x/time":                      {"target/send"},
	"mvdan.cc/sh/v3":                         {"learn/capture"},
}

// hidden says which packages another one may not use, though the order allows
// it: what they do is done for it by somebody else.
var hidden = map[string][]string{
	"core/exchange": {"core/rule", "core/secret", "core/suggest"},
	"cli":           {"input/schema", "generate/wire", "generate/business", "evaluate/problem", "evaluate/layout", "target/fixture"},
}

func TestPackagesUseOnlyWhatTheyMay(t *testing.T) {
	for name, imports := range packages(t) {
		for _, path := range imports {
			if problem := breach(name, path); problem != "" {
				t.Errorf("%s imports %s: %s", name, path, problem)
			}
		}
	}
}

// TestEveryPackageIsDescribed holds that ARCHITECTURE.md has a line for each
// group, which names its packages.
func TestEveryPackageIsDescribed(t *testing.T) {
	page, err := os.ReadFile("../ARCHITECTURE.md")
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(string(page), "\n")
	for name := range packages(t) {
		group, pkg, nested := strings.Cut(name, "/")
		if !nested {
			pkg = group
		}
		if !slices.ContainsFunc(lines, func(line string) bool {
			return strings.HasPrefix(line, "| `"+group+"` |") && strings.Contains(line, "`"+pkg+"`")
		}) {
			t.Errorf("ARCHITECTURE.md has no line of %s that names %s", group, pkg)
		}
	}
}

// packages gives what each package here imports, tests not counted.
func packages(t *testing.T) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	err := filepath.WalkDir(".", func(file string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		name := filepath.ToSlash(filepath.Dir(file))
		out[name] = append(out[name], "")
		for _, spec := range f.Imports {
			path, _ := strconv.Unquote(spec.Path.Value)
			out[name] = append(out[name], path)
		}
		return nil
	})
	if err != nil || len(out) == 0 {
		t.Fatalf("reading the packages: %v", err)
	}
	return out
}

func breach(name, path string) string {
	group, _, _ := strings.Cut(name, "/")
	if !slices.Contains(groups, group) {
		return "its group has no place in the order"
	}
	if used, ok := strings.CutPrefix(path, "obiter/internal/"); ok {
		of, _, _ := strings.Cut(used, "/")
		switch {
		case of == "testing" && group != "testing":
			return "that is for tests"
		case slices.Index(groups, of) > slices.Index(groups, group):
			return "data flows the other way"
		case slices.Contains(hidden[name], used):
			return "that is not for this package"
		}
		return ""
	}
	for library, who := range owners {
		if strings.HasPrefix(path+"/", strings.TrimSuffix(library, "/")+"/") && !slices.Contains(who, name) {
			return "that is for " + strings.Join(who, ", ")
		}
	}
	if slices.Contains(pure, group) {
		switch path {
		case "flag", "log", "net", "os/exec", "math/rand", "syscall":
			return "a pure package does without"
		case "os":
			if name != "input/document" {
				return "a pure package does without"
			}
		}
	}
	return ""
}
