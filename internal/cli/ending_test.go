package cli_test

import (
	"encoding/json"
	"errors"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"obiter/internal/harbour"

	"obiter/internal/execute/trial"
)

// TestHoweverARunEnds: what was answered is in the run file, and each record that was made
// is deleted or told, by the run itself, or after a kill by obiter undo.
func TestHoweverARunEnds(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("runs are ended by signals")
	}
	at := func(n int) func(int, *http.Request) bool {
		return func(heard int, _ *http.Request) bool { return heard == n }
	}
	to := func(method, prefix string) func(int, *http.Request) bool {
		return func(_ int, r *http.Request) bool {
			return r.Method == method && strings.HasPrefix(r.URL.Path, prefix)
		}
	}
	signal := func(list ...os.Signal) func(*os.Process) {
		return func(p *os.Process) {
			for _, s := range list {
				if s == os.Kill {
					time.Sleep(trial.FlushDeadline) // what was answered before that is kept
				}
				_ = p.Signal(s)
				time.Sleep(20 * time.Millisecond)
			}
		}
	}
	for _, x := range []struct {
		name   string
		when   func(heard int, r *http.Request) bool
		end    func(p *os.Process)
		status int
		full   bool // nothing can be printed
	}{
		{"an interrupt at the first request", at(1), signal(os.Interrupt), 130, false},
		{"SIGTERM while records are made", to("POST", "/berth-bookings"), signal(syscall.SIGTERM), 130, false},
		{"SIGHUP among the cases", at(150), signal(syscall.SIGHUP), 130, false},
		{"an interrupt while a record is taken away", to("DELETE", "/pilot-orders/"), signal(os.Interrupt), 130, false},
		{"two interrupts", at(200), signal(os.Interrupt, os.Interrupt), 130, false},
		{"three interrupts", at(200), signal(os.Interrupt, os.Interrupt, os.Interrupt), 130, false},
		{"a full disk", at(1), func(*os.Process) {}, 2, true},
		{"kill -9 while records are made", to("POST", "/pilot-orders"), signal(os.Kill), -1, false},
		{"kill -9 among the cases", at(170), signal(os.Kill), -1, false},
		{"kill -9 while a record is taken away", to("DELETE", "/sessions/"), signal(os.Kill), -1, false},
	} {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			dir, e := demoFolder(t)
			flawed := map[string]bool{}
			for line := range strings.Lines(obiter(t, dir, "cases", "--format", "ndjson", "--depth", "quick").out) {
				var c struct{ Case, Kind string }
				if err := json.Unmarshal([]byte(line), &c); err != nil {
					t.Fatal(err)
				}
				flawed[c.Case] = c.Kind == "flawed"
			}
			before := records(e)
			try := exec.Command(program, "try", "--depth", "quick")
			try.Dir = dir
			var told strings.Builder
			try.Stderr = &told
			if x.full {
				full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
				if err != nil {
					t.Skip(err)
				}
				defer full.Close()
				try.Stdout = full
			}
			var mu sync.Mutex
			answered := map[string]bool{}
			var ended time.Time
			started := make(chan struct{})
			e.mu.Lock()
			e.heard = 0
			e.moment = func(heard int, r *http.Request) {
				<-started
				if mu.Lock(); ended.IsZero() && x.when(heard, r) {
					ended = time.Now()
					x.end(try.Process)
				}
				mu.Unlock()
			}
			e.served = func(r *http.Request) {
				mu.Lock()
				defer mu.Unlock()
				if id := r.Header.Get("Obiter-Case"); flawed[id] && ended.IsZero() {
					answered[id] = true
				}
			}
			e.mu.Unlock()
			if err := try.Start(); err != nil {
				t.Fatal(err)
			}
			close(started)
			_ = try.Wait()
			mu.Lock()
			took := time.Since(ended)
			mu.Unlock()
			if status := try.ProcessState.ExitCode(); status != x.status || took > 15*time.Second {
				t.Errorf("status %d, want %d, after %s:\n%s", status, x.status, took, &told)
			}
			e.quiet()
			e.mu.Lock()
			e.moment, e.served = nil, nil
			e.mu.Unlock()
			journal, _ := os.ReadFile(filepath.Join(dir, ".obiter", "made.ndjson"))
			e.mu.Lock()
			for _, token := range e.tokens {
				if strings.Contains(string(journal), token) {
					t.Errorf("the journal holds the token %s", token)
				}
			}
			e.mu.Unlock()
			file := "run.ndjson"
			inFlight := 0
			if x.status < 0 || x.name == "three interrupts" { // which ends it at once
				file, inFlight = "run.ndjson.part", 16 // what was answered and not read yet
				o := obiter(t, dir, "undo", "--unseen")
				told.WriteString(o.errors)
				if o.status > 1 {
					t.Errorf("undo: status %d: %s", o.status, o.errors)
				}
				if again := obiter(t, dir, "undo"); again.status != 0 || again.errors != "" {
					t.Errorf("undone again: status %d: %s", again.status, again.errors)
				}
			}
			kept, err := os.ReadFile(filepath.Join(dir, ".obiter", file))
			if errors.Is(err, os.ErrNotExist) && x.status > 0 { // it had ended in order by then
				kept, err = os.ReadFile(anyRun(dir))
			}
			if err != nil && len(answered) > 0 {
				t.Error(err)
			}
			missing := 0
			for id := range answered {
				if !strings.Contains(string(kept), `"case":"`+id+`"`) {
					missing++
				}
			}
			if missing > inFlight {
				t.Errorf("%d of %d answered cases are not kept", missing, len(answered))
			}
			left := 0
			for i, n := range records(e) {
				left += max(0, n-before[i])
			}
			listed := strings.Count(told.String(), "perhaps created: ") * 8
			for _, m := range notDeleted.FindAllStringSubmatch(told.String(), -1) {
				n, _ := strconv.Atoi(m[1])
				listed += n
			}
			if left > listed {
				t.Errorf("%d records are left and %d are told:\n%s", left, listed, &told)
			}
		})
	}
}

// notDeleted matches the number of records of an operation that were not deleted.
var notDeleted = regexp.MustCompile(`not deleted: (\d+) records? of `)

// TestOneRunAtATime: the second one in a folder is told who holds it, and sends nothing.
func TestOneRunAtATime(t *testing.T) {
	t.Parallel()
	dir, e := demoFolder(t)
	var second outcome
	var once sync.Once
	e.mu.Lock()
	e.moment = func(int, *http.Request) {
		once.Do(func() { second = obiter(t, dir, "try") })
	}
	e.mu.Unlock()
	first := obiter(t, dir, "try", "--only", "/berths")
	if first.status != 0 || second.status != 2 || !regexp.MustCompile(`^error: another run is going on in this folder: process \d+, since \d{4}-\d\d-\d\d \d\d:\d\d:\d\d \(\.obiter/lock\)\nhint: `).MatchString(second.errors) {
		t.Errorf("status %d, and %d: %s", first.status, second.status, second.errors)
	}
	if third := obiter(t, dir, "try", "--only", "/berths"); third.status != 0 {
		t.Errorf("status %d: %s", third.status, third.errors)
	}
}

// TestLongAnswersAreCut: 64 KiB of an answer are kept, and one that goes on is not judged
// by that; with --keep-bodies all is kept and judged.
func TestLongAnswersAreCut(t *testing.T) {
	t.Parallel()
	office, err := harbour.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rec := httptest.NewRecorder()
		office.ServeHTTP(rec, r)
		body := rec.Body.Bytes()
		if rec.Code == http.StatusUnprocessableEntity {
			body = append([]byte(`{"log":"`+strings.Repeat("x", 100<<10)+`",`), body[1:]...)
		}
		maps.Copy(w.Header(), rec.Header())
		w.WriteHeader(rec.Code)
		_, _ = w.Write(body)
	}))
	defer server.Close()
	for _, keep := range []bool{false, true} {
		dir := folder(t)
		args := []string{"try", "--at", server.URL, "--only", "POST /vessels", "--depth", "quick", "--rule", "enum"}
		if keep {
			args = append(args, "--keep-bodies")
		}
		o := obiter(t, dir, args...)
		kept, err := os.ReadFile(lastRun(t, dir))
		whole := strings.Contains(string(kept), strings.Repeat("x", 100<<10))
		if err != nil || o.status != 0 || whole != keep || strings.Contains(o.out, "unproven") == keep || strings.Contains(string(kept), `"not-judged"`) == keep {
			t.Errorf("kept whole: %v, %v:\n%s%s", whole, err, o.out, o.errors)
		}
	}
}

// TestNothingIsWaitedForThatHasNoEnd: a run file, a last run and a $ref that are pipes.
func TestNothingIsWaitedForThatHasNoEnd(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("no such pipes")
	}
	dir := folder(t)
	if err := errors.Join(os.MkdirAll(filepath.Join(dir, ".obiter", "runs", "a"), 0o700), syscall.Mkfifo(filepath.Join(dir, "pipe.yaml"), 0o600), syscall.Mkfifo(filepath.Join(dir, ".obiter", "runs", "a", "1.ndjson"), 0o600), syscall.Mkfifo(filepath.Join(dir, ".obiter", "made.ndjson"), 0o600)); err != nil {
		t.Fatal(err)
	}
	put(t, dir, "refers.yaml", "openapi: 3.1.0\ninfo: {title: t, version: '1'}\npaths: {/a: {post: {requestBody: {content: {application/json: {schema: {$ref: 'pipe.yaml#/a'}}}}}}}\n")
	obiter(t, dir, "judge", "pipe.yaml").check(t, 2, "", "pipe.yaml is not a regular file")
	obiter(t, dir, "show", "abc").check(t, 2, "", "1.ndjson is not a regular file")
	obiter(t, dir, "survey", "pipe.yaml").check(t, 2, "", "pipe.yaml: this is not a regular file")
	obiter(t, dir, "survey", "refers.yaml").check(t, 0, "", "cannot be followed: pipe.yaml: this is not a regular file")
	obiter(t, dir, "try", "--at", serve(t), "--only", "/berths").check(t, 2, "", "cannot write the run file .obiter/made.ndjson: it is no ordinary file")
	if err := os.Remove(filepath.Join(dir, ".obiter", "made.ndjson")); err != nil {
		t.Fatal(err)
	}
	obiter(t, dir, "try", "--at", serve(t), "--only", "/berths").check(t, 0, "0 wrong", "")
}
