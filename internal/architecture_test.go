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
var rooms = []string{"instance", "suggest", "exchange", "rule", "secret", "capture", "document", "dialect", "oad", "schema", "wire", "sample", "flaw", "config", "business", "plan", "match", "survey", "send", "problem", "layout", "judge", "advise", "draft", "probe", "record", "report", "compare", "render", "fixture", "run", "service", "trial", "harbour", "hostile", "cli"}

// core packages take values and give values: no terminal, no clock, no network.
var core = []string{"instance", "suggest", "exchange", "rule", "secret", "capture", "document", "dialect", "oad", "schema", "wire", "sample", "flaw", "config", "business", "plan", "match", "survey", "problem", "layout", "judge", "advise", "draft", "probe", "record", "report", "compare", "render"}

// only tells which rooms alone may use a library.
var only = map[string]string{
	"go.yaml.in/yaml/v4": "document", "github.com/go-json-experiment/json": "capture document instance record render", "github.com/santhosh-tekuri/jsonschema/v6": "schema",
	"github.com/dlclark/regexp2": "schema", "cel.dev/cel-go": "business", "mvdan.cc/sh/v3": "capture", "golang.org/x/time": "send", "github.com/urfave/cli/v3": "cli", "github.com/jedib0t/go-pretty/v6": "cli", "github.com/schollz/progressbar/v3": "cli",
	"github.com/bmatcuk/doublestar/v4": "plan", "github.com/agnivade/levenshtein": "suggest", "github.com/gofrs/flock": "trial",
}

// within tells which files of a room alone may use a package: what they do is
// theirs, and nobody else's in the room.
var within = map[string]map[string][]string{
	"cli": {
		"run": {"accept.go", "captured.go", "death.go", "draft.go", "judge.go", "outcome.go", "runs.go"}, "fixture": nil, "schema": nil, "wire": nil, "layout": nil, "problem": nil, "business": nil, "advise": {"reach.go"},
		"harbour": {"demo.go"}, "secret": {"cli.go"}, "survey": {"survey.go"}, "rule": {"explain.go", "planning.go"},
		"send": {"cli.go", "demo.go", "try.go"}, "config": {"accept.go", "again.go", "curl.go", "death.go", "demo.go", "init.go", "planning.go", "probe.go", "reach.go", "try.go"}, "oad": {"again.go", "captured.go", "death.go", "demo.go", "planning.go", "probe.go", "reach.go", "survey.go", "try.go"},
		"net/http": {"demo.go", "try.go"}, "crypto/tls": {"try.go"},
	},
	"plan": {
		"business": {"business.go", "kind.go", "kind_flaw.go", "kind_is.go"}, "document": {"answers.go", "body.go", "business.go", "described.go", "part.go", "plan.go", "reach.go"},
		"wire": {"answers.go", "body.go", "compose.go", "emit.go", "media.go", "part.go", "request.go"}, "sample": {"body.go", "business.go", "emit.go", "part.go", "plan.go", "reach.go", "variables.go"},
	},
	"judge": {
		"problem": {"beyond.go", "blame.go", "consistency.go", "judge.go", "look.go", "reach.go", "words.go"}, "layout": {"blame.go", "consistency.go", "judge.go", "look.go", "reach.go", "run.go", "words.go"},
		"rule": {"beyond.go", "blame.go", "consistency.go", "judge.go", "reach.go", "words.go"}, "exchange": {"beyond.go", "blame.go", "consistency.go", "judge.go", "kept.go", "look.go", "reach.go", "run.go", "state.go", "words.go"},
	},
}

// TestTheGround holds that the shared vocabulary depends on JSON values alone.
func TestTheGround(t *testing.T) {
	for _, path := range imports(t, "exchange") {
		if strings.HasPrefix(path, "obiter/") && path != "obiter/internal/instance" {
			t.Errorf("exchange imports %s", path)
		}
	}
}

func imports(t *testing.T, room string) map[string]string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(room, "*.go"))
	if err != nil || len(files) == 0 {
		t.Fatalf("no room %s: %v", room, err)
	}
	out := map[string]string{}
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
			out[file+" "+path] = path
		}
	}
	return out
}

func TestRoomsUseOnlyWhatTheyMay(t *testing.T) {
	for _, room := range rooms {
		for at, path := range imports(t, room) {
			file, _, _ := strings.Cut(at, " ")
			if problem := breach(room, path); problem != "" {
				t.Errorf("%s imports %s: %s", file, path, problem)
			}
			files, reserved := within[room][strings.TrimPrefix(path, "obiter/internal/")]
			if reserved && !slices.Contains(files, filepath.Base(file)) {
				t.Errorf("%s imports %s: in this room that is for %q", file, path, files)
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
	for library, owners := range only {
		if (path == library || strings.HasPrefix(path, library+"/")) && !slices.Contains(strings.Fields(owners), room) {
			return "that is for " + owners + " alone"
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
