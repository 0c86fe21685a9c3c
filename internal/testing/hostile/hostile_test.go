package hostile_test

import (
	"cmp"
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"obiter/internal/execute/session"
	"obiter/internal/results/record"
	"obiter/internal/testing/hostile"
)

// program is the built program.
var program string

func TestMain(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "obiter-hostile-*")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	program = filepath.Join(dir, "obiter")
	if out, err := exec.Command("go", "build", "-o", program, "obiter/cmd/obiter").CombinedOutput(); err != nil {
		panic(string(out))
	}
	return m.Run()
}

// Bounds of one run.
const (
	longest = 55 * time.Second // a service that is always busy is waited for most of it
	largest = 150 << 10        // KiB of memory
)

// TestNothingAServiceDoesIsFatal: in whatever way it misbehaves, the run ends, each case
// has a verdict, memory is bounded, and nothing is sent elsewhere.
func TestNothingAServiceDoesIsFatal(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and the program is another process")
	}
	if len(hostile.Ways) < 60 {
		t.Fatalf("only %d ways", len(hostile.Ways))
	}
	var strayed atomic.Int32
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { strayed.Add(1) }))
	t.Cleanup(other.Close)
	names := map[string]bool{}
	for _, way := range hostile.Ways {
		if names[way.Name] {
			t.Errorf("%q is there twice", way.Name)
		}
		names[way.Name] = true
	}
	slices.SortStableFunc(hostile.Ways, func(a, b hostile.Way) int { // the longest first
		return cmp.Compare(strings.Index(b.Name, "busy"), strings.Index(a.Name, "busy"))
	})
	var all errgroup.Group
	all.SetLimit(12) // most of them wait most of the time
	for _, way := range hostile.Ways {
		all.Go(func() error {
			tryOne(t, way, other.URL)
			return nil
		})
	}
	_ = all.Wait()
	if n := strayed.Load(); n > 0 {
		t.Errorf("%d requests went elsewhere", n)
	}
}

// tryOne tries one way to misbehave.
func tryOne(t *testing.T, way hostile.Way, elsewhere string) {
	fail := func(format string, args ...any) { t.Errorf(way.Name+": "+format, args...) }
	at, end, err := hostile.Serve(way, elsewhere)
	if err != nil {
		fail("%v", err)
		return
	}
	defer end()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "openapi.yaml"), []byte(hostile.Description), 0o600); err != nil {
		fail("%v", err)
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), longest)
	defer cancel()
	try := exec.CommandContext(ctx, program, "try", "--at", at, "--timeout", "400ms", "--depth", "quick", "--parallel", "16")
	try.Dir = dir
	out, err := try.CombinedOutput()
	status := try.ProcessState.ExitCode()
	if ctx.Err() != nil || status != 0 && status != 1 && status != 3 || strings.Contains(string(out), "goroutine ") {
		fail("status %d, %v:\n%.3000s", status, err, out)
		return
	}
	if usage, ok := try.ProcessState.SysUsage().(*syscall.Rusage); ok && runtime.GOOS == "linux" && usage.Maxrss > largest {
		fail("%d KiB of memory", usage.Maxrss)
	}
	for _, r := range string(out) {
		if r != '\n' && (r < ' ' || r >= 0x7f && r < 0xa0 || r == '\u202e') {
			fail("%U is printed", r)
			break
		}
	}
	f, err := os.Open(session.Store{Folder: filepath.Join(dir, ".obiter")}.Last())
	if err != nil {
		fail("%v", err)
		return
	}
	defer f.Close()
	r, err := record.NewReader(f)
	if err != nil {
		fail("%v", err)
		return
	}
	cases := 0
	for res, err := range r.Results() {
		if err != nil {
			fail("%v", err)
			return
		}
		if cases++; res.Verdict == "" {
			fail("the case %s has no verdict", res.ID)
		}
	}
	if r.Totals == nil || r.Totals.Cases != cases || r.Totals.Passed+r.Totals.Failed+r.Totals.Form+r.Totals.Unproven != cases {
		fail("%d cases, %+v", cases, r.Totals)
	}
}
