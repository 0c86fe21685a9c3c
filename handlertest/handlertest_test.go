package handlertest

import (
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"obiter/internal/harbour"
)

// folder has the harbour's description and configuration.
func folder(t *testing.T) (description, configuration string) {
	t.Helper()
	dir := t.TempDir()
	description, configuration = filepath.Join(dir, "openapi.yaml"), filepath.Join(dir, "obiter.yaml")
	for name, text := range map[string][]byte{description: harbour.Description, configuration: harbour.Config} {
		if err := os.WriteFile(name, text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return description, configuration
}

func office(t *testing.T, faults ...string) http.Handler {
	t.Helper()
	o, err := harbour.New(faults)
	if err != nil {
		t.Fatal(err)
	}
	return o
}

// TestASoundHandler passes, subtest by subtest.
func TestASoundHandler(t *testing.T) {
	description, configuration := folder(t)
	Run(t, office(t), description, Config(configuration))
}

// TestWhatIsPlantedIsFound without a port.
func TestWhatIsPlantedIsFound(t *testing.T) {
	description, configuration := folder(t)
	kept := filepath.Join(t.TempDir(), "run.ndjson")
	faults := harbour.DemoFaults()
	found, err := try(t.Context(), office(t, faults...), description, "", Config(configuration), Depth("usual"), Keep(kept))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range harbour.Faults {
		if !f.Demo {
			continue
		}
		there := slices.ContainsFunc(found.operations, func(o operation) bool {
			told := slices.Clone(o.remarks)
			for _, c := range o.causes {
				told = append(told, c.text)
			}
			return o.name == f.Operation && slices.ContainsFunc(told, func(text string) bool { return strings.Contains(text, " "+f.Code) })
		})
		if !there {
			t.Errorf("%s at %s is not found", f.Code, f.Operation)
		}
	}
	for _, o := range found.operations {
		for _, c := range o.causes {
			if !strings.Contains(c.text, "obiter show ") || c.name == "" {
				t.Errorf("%s: %+v", o.name, c)
			}
		}
	}
	if _, err := os.Stat(kept); err != nil {
		t.Error(err)
	}
}

func TestChoices(t *testing.T) {
	description, _ := folder(t)
	file := filepath.Join(t.TempDir(), "run.ndjson")
	found, err := try(t.Context(), office(t, "no-pilot"), description, file, Only("* /pilot-orders", "GET /berths"), Skip("GET *"), Header("X-Watch", "night"))
	if err != nil {
		t.Fatal(err)
	}
	under := http.StripPrefix("/office", office(t))
	if moved, err := try(t.Context(), under, description, file, Only("GET /berths"), Base("/office/")); err != nil || len(moved.operations) != 1 || len(moved.operations[0].causes) > 0 {
		t.Errorf("%+v, %v", moved, err)
	}
	if len(found.operations) != 1 || found.operations[0].name != "POST /pilot-orders" || found.operations[0].notReached == "" {
		t.Errorf("%+v", found.operations)
	}
	for want, err := range map[string]error{
		"there is no depth":     errOf(try(t.Context(), office(t), description, file, Depth("abyss"))),
		"there is no such file": errOf(try(t.Context(), office(t), "nowhere.yaml", file)),
		"no such file":          errOf(try(t.Context(), office(t), description, file, Config("nowhere.yaml"))),
		"matches no operation":  errOf(try(t.Context(), office(t), description, file, Only("GET /lighthouses"))),
	} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

func errOf(_ *findings, err error) error { return err }
