package cli_test

import (
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"

	"obiter/internal/testing/hostile"
)

// keeper is a service in which others keep records.
type keeper interface {
	http.Handler
	Harmed() []string
	Left() []string
	Accounted(told []string) error
}

// TestNobodyIsHarmedByAKill: a run is killed at some moment, and what it left is deleted, or told,
// afterwards; what others keep stays as it is.
func TestNobodyIsHarmedByAKill(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("runs are ended by signals")
	}
	kills := 0
	for i := range 24 {
		o, description := keeper(hostile.NewOwners()), hostile.OwnersDescription
		if i >= 16 {
			o, description = hostile.NewBuoyage(), hostile.BuoyageDescription
		}
		var mu sync.Mutex
		var running *os.Process
		at := 1 + rand.IntN(600)
		heard := func(n int, _ *http.Request) {
			mu.Lock()
			defer mu.Unlock()
			if n == at && running != nil {
				_ = running.Kill()
			}
		}
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { o.ServeHTTP(w, r) }))
		switch o := o.(type) {
		case *hostile.Owners:
			o.Heard = heard
		case *hostile.Buoyage:
			o.Heard = heard
		}
		dir := t.TempDir()
		put(t, dir, "openapi.yaml", description)
		if i%2 == 1 {
			obiter(t, dir, "init", "openapi.yaml").check(t, 0, "", "")
		}
		try := exec.Command(program, "try", "openapi.yaml", "--at", server.URL, "--parallel", []string{"1", "16"}[i/2%2])
		try.Dir = dir
		var told strings.Builder
		try.Stderr = &told
		mu.Lock()
		if err := try.Start(); err != nil {
			t.Fatal(err)
		}
		running = try.Process
		mu.Unlock()
		killed := try.Wait() != nil && try.ProcessState.ExitCode() < 0
		mu.Lock()
		running = nil
		mu.Unlock()
		if killed {
			kills++
			told.WriteString(obiter(t, dir, "undo", "openapi.yaml", "--at", server.URL).errors)
		}
		server.Close()
		if harmed := o.Harmed(); len(harmed) > 0 {
			t.Errorf("at %d: harmed are %q", at, harmed)
		}
		if err := o.Accounted(strings.Split(told.String(), "\n")); err != nil {
			journal, _ := os.ReadFile(filepath.Join(dir, ".obiter", "made.ndjson"))
			t.Errorf("at %d, killed %v: %v:\n%s\n%s\n%.3000s", at, killed, err, strings.Join(o.Left(), " "), &told, journal)
		}
	}
	if kills < 10 {
		t.Errorf("only %d runs were killed", kills)
	}
}
