package internal_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// rooms lists the packages in the order in which data flows through them: each
// may use those before it.
var rooms = []string{"instance", "exchange", "rule", "secret", "oad", "schema", "sample", "flaw", "config", "business", "plan", "survey", "send", "problem", "layout", "judge", "record", "report", "fixture", "run", "trial", "harbour", "cli"}

// core packages take values and give values: no terminal, no clock, no network.
var core = []string{"instance", "exchange", "rule", "secret", "oad", "schema", "sample", "flaw", "config", "business", "plan", "survey", "problem", "layout", "judge", "record", "report"}

// only tells which room alone may use a library.
var only = map[string]string{
	"github.com/pb33f/libopenapi": "oad", "github.com/pb33f/go-yaml": "oad", "github.com/santhosh-tekuri/jsonschema/v6": "schema",
	"github.com/dlclark/regexp2": "schema", "cel.dev/cel-go": "business", "github.com/urfave/cli/v3": "cli", "github.com/jedib0t/go-pretty/v6": "cli", "github.com/schollz/progressbar/v3": "cli",
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
			if room != "oad" {
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

// What a type and its methods mention is compiled again in each package that
// uses the type, and the generics of this library take ten seconds each time.
func TestNoTypeShowsTheOpenAPILibrary(t *testing.T) {
	const library = "github.com/pb33f/libopenapi"
	files, err := filepath.Glob("oad/*.go")
	if err != nil {
		t.Fatal(err)
	}
	imported := 0
	for _, name := range files {
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		local := map[string]bool{}
		for _, spec := range f.Imports {
			if p, _ := strconv.Unquote(spec.Path.Value); strings.HasPrefix(p, library) {
				name := path.Base(p)
				if spec.Name != nil {
					name = spec.Name.Name
				}
				local[name] = true
				imported++
			}
		}
		for _, decl := range f.Decls {
			shown, where := ast.Node(decl), name
			if fn, ok := decl.(*ast.FuncDecl); ok {
				if fn.Recv == nil && !fn.Name.IsExported() {
					continue
				}
				shown, where = fn.Type, name+": "+fn.Name.Name
			}
			ast.Inspect(shown, func(n ast.Node) bool {
				if sel, ok := n.(*ast.SelectorExpr); ok {
					if x, ok := sel.X.(*ast.Ident); ok && local[x.Name] {
						t.Errorf("%s shows %s.%s; keep it inside a function", where, x.Name, sel.Sel.Name)
					}
				}
				return true
			})
		}
	}
	if imported == 0 {
		t.Errorf("oad no longer uses %s: this test can go", library)
	}
}
