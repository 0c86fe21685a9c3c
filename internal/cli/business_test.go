package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"obiter/internal/execute/trial"
	"obiter/internal/harbour"
)

// ear serves an office and remembers the tokens that it hears.
type ear struct {
	office *harbour.Office
	mu     sync.Mutex
	tokens []string
	heard  int
	far    chan struct{} // closed once many requests were heard; nil: nobody waits
	open   int
	moment func(heard int, r *http.Request) // is told each request; may be nil
	served func(r *http.Request)            // and when it was answered; may be nil
}

// many is how many requests an interrupt waits for.
const many = 60

func (e *ear) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	e.mu.Lock()
	e.open++
	defer func() {
		e.mu.Lock()
		e.open--
		e.mu.Unlock()
	}()
	if e.heard++; e.heard == many && e.far != nil {
		close(e.far)
	}
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer tide-"); ok && !slices.Contains(e.tokens, token) {
		e.tokens = append(e.tokens, token)
	}
	if e.moment != nil {
		e.moment(e.heard, r)
	}
	served := e.served
	e.mu.Unlock()
	e.office.ServeHTTP(w, r)
	if served != nil {
		served(r)
	}
}

// quiet waits until everything that was heard is answered: a request that was cut off may
// still be served.
func (e *ear) quiet() {
	for still := 0; still < 5; still++ {
		time.Sleep(5 * time.Millisecond)
		e.mu.Lock()
		if e.open > 0 {
			still = 0
		}
		e.mu.Unlock()
	}
}

// demoFolder writes the demo's files, for an office that listens.
func demoFolder(t *testing.T, faults ...string) (dir string, e *ear) {
	t.Helper()
	office, err := harbour.New(faults)
	if err != nil {
		t.Fatal(err)
	}
	e = &ear{office: office}
	server := httptest.NewServer(e)
	t.Cleanup(server.Close)
	dir = t.TempDir()
	obiter(t, dir, "demo", "--out", "harbour").check(t, 0, "", "")
	dir = filepath.Join(dir, "harbour")
	text, err := os.ReadFile(filepath.Join(dir, "obiter.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, "obiter.yaml", strings.Replace(string(text), "http://127.0.0.1:8080", server.URL, 1))
	return dir, e
}

var kinds = []string{"vessels", "berth-bookings", "pilot-orders", "sessions", "tow-orders"}

func records(e *ear) (out []int) {
	for _, k := range kinds {
		out = append(out, e.office.Records(k))
	}
	return out
}

// TestTheDemoFolder runs twice in a row with the same result, leaves nothing
// behind, and writes no token anywhere.
func TestTheDemoFolder(t *testing.T) {
	t.Parallel()
	dir, e := demoFolder(t)
	before := records(e)
	first := obiter(t, dir, "try")
	first.check(t, 0, "0 wrong\n", "")
	second := obiter(t, dir, "try", "--save", "kept.ndjson")
	said, _, _ := strings.Cut(first.out, "The first run against this address")
	_, rest, _ := strings.Cut(first.out, "taken away again")
	if _, rest, _ = strings.Cut(rest, "\n\n"); changing.ReplaceAllString(second.out, "~") != changing.ReplaceAllString(said+rest, "~") || second.status != 0 || first.errors+second.errors != "" {
		t.Errorf("the second run differs:\n%s\n%s\n%s%s", first.out, second.out, first.errors, second.errors)
	}
	if after := records(e); !slices.Equal(after, before) {
		t.Errorf("left behind of %v: %v, before %v", kinds, after, before)
	}
	for name, want := range map[string]os.FileMode{".obiter": 0o700, within(t, dir, lastRun(t, dir)): 0o600, "kept.ndjson": 0o600} {
		if info, err := os.Stat(filepath.Join(dir, name)); runtime.GOOS != "windows" && (err != nil || info.Mode().Perm() != want) {
			t.Errorf("%s: %v, %v", name, info.Mode(), err)
		}
	}
	written := first.out + second.out
	for _, name := range []string{"kept.ndjson", within(t, dir, lastRun(t, dir))} {
		text, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		written += string(text)
	}
	shown := obiter(t, dir, "show", regexp.MustCompile(`"case":"([0-9a-f]{10})","name":"control, fullest","operation":"POST /tow`).FindStringSubmatch(written)[1]).out
	for _, want := range []string{"-H 'Authorization: Bearer '\"$token\"", "# $token is in the answer to POST /sessions (obiter show ", "# its record of POST /vessels is taken away: make one (obiter show "} {
		if !strings.Contains(shown, want) {
			t.Errorf("%q is not shown:\n%s", want, shown)
		}
	}
	written += shown
	if len(e.tokens) < 2 {
		t.Errorf("only %d tokens were sent", len(e.tokens))
	}
	for _, token := range e.tokens {
		if strings.Contains(written, token) {
			t.Errorf("the token %s is written somewhere", token)
		}
	}
}

// TestSecretsOfTheEnvironment: a pass phrase that is sent in a body is written nowhere.
func TestSecretsOfTheEnvironment(t *testing.T) {
	dir, _ := demoFolder(t, "phrase-returned")
	const phrase = `tide "1912" höch`
	t.Parallel()
	obiter := with("PHRASE=" + phrase)
	text, err := os.ReadFile(filepath.Join(dir, "obiter.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, "obiter.yaml", strings.Replace(string(text), "operations:\n", "operations:\n  POST /sessions: { body: { pass_phrase: \"${PHRASE}\" } }\n", 1))
	o := obiter(t, dir, "try", "--only", "POST /sessions", "--save", "kept.ndjson")
	kept, err := os.ReadFile(filepath.Join(dir, "kept.ndjson"))
	if err != nil || o.status > 1 || !strings.Contains(string(kept), "[PHRASE not kept]") {
		t.Fatalf("status %d, %v: %s", o.status, err, o.errors)
	}
	written := string(kept)
	for _, format := range []string{"text", "json", "ndjson"} {
		again := obiter(t, dir, "try", "--only", "POST /sessions", "--format", format)
		written += again.out + again.errors
	}
	for _, form := range []string{phrase, `tide \"1912\" höch`, `tide \\\"1912\\\" höch`, `tide \\\\\\\"1912`} {
		if strings.Contains(o.out+o.errors+written, form) {
			t.Errorf("%s is written", form)
		}
	}
}

// judgedAgain judges the last run of a folder again: the same comes out.
func judgedAgain(t *testing.T, dir string) {
	t.Helper()
	obiter(t, dir, "judge", "--save", "again.ndjson")
	first, err := os.ReadFile(lastRun(t, dir))
	if err != nil {
		t.Fatal(err)
	}
	again, err := os.ReadFile(filepath.Join(dir, "again.ndjson"))
	if err != nil || !bytes.Equal(first, again) {
		t.Errorf("judged again the run differs: %v\n%s", err, difference(first, again))
	}
}

// difference is the first line that two texts do not share.
func difference(a, b []byte) string {
	x, y := bytes.Split(a, []byte("\n")), bytes.Split(b, []byte("\n"))
	for i := range min(len(x), len(y)) {
		if !bytes.Equal(x[i], y[i]) {
			return fmt.Sprintf("line %d\n%.2000s\n%.2000s", i+1, x[i], y[i])
		}
	}
	return fmt.Sprintf("%d lines and %d", len(x), len(y))
}

// TestBusinessFaults: each is found, and nothing else accused.
func TestBusinessFaults(t *testing.T) {
	t.Parallel()
	var wanted []string
	for _, f := range harbour.Faults {
		if strings.Contains(f.Operation, "/tow-orders") {
			wanted = append(wanted, f.Name)
		}
	}
	if len(wanted) < 12 {
		t.Fatalf("only %q", wanted)
	}
	for _, name := range wanted {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			obiter(t, dir, "demo", "--fault", name).check(t, 0, "1 mistake planted, all found, and nothing else accused.", "")
			judgedAgain(t, dir)
		})
	}
}

// TestInterruptUndoes: what fixtures made is deleted, and the run file says
// that it was interrupted.
func TestInterruptUndoes(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("interrupts are sent as signals")
	}
	dir, e := demoFolder(t)
	e.far = make(chan struct{})
	before := records(e)
	try := exec.Command(program, "try")
	try.Dir = dir
	var errors strings.Builder
	try.Stderr = &errors
	if err := try.Start(); err != nil {
		t.Fatal(err)
	}
	<-e.far
	during := records(e)
	if err := try.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	_ = try.Wait()
	run, err := os.ReadFile(lastRun(t, dir))
	if try.ProcessState.ExitCode() != 130 || err != nil || !strings.Contains(string(run), `"interrupted":true`) {
		t.Errorf("status %d, %v: %s; the run file ends with %q", try.ProcessState.ExitCode(), err, &errors, run[max(0, len(run)-300):])
	}
	e.quiet() // a request that was cut off may still be served
	if after := records(e); slices.Equal(during, before) || after[0] != before[0] || after[3] != before[3] {
		t.Errorf("before %v, during %v, after %v: %s", before, during, after, &errors)
	}
}

// TestAClosedPipeUndoes, as an interrupt does: nobody reads what a run says any more.
func TestAClosedPipeUndoes(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("no such pipes")
	}
	dir, e := demoFolder(t)
	before := records(e)
	try := exec.Command(program, "try")
	try.Dir = dir
	out, err := try.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := try.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := out.Read(make([]byte, 1)); err != nil {
		t.Fatal(err)
	}
	out.Close()
	_ = try.Wait()
	run, err := os.ReadFile(lastRun(t, dir))
	if try.ProcessState.ExitCode() != 141 || err != nil || !strings.Contains(string(run), `"interrupted":true`) {
		t.Errorf("status %d, %v; the run file ends with %q", try.ProcessState.ExitCode(), err, run[max(0, len(run)-300):])
	}
	e.quiet()
	if after := records(e); after[0] != before[0] || after[3] != before[3] {
		t.Errorf("before %v, after %v", before, after)
	}
}

// TestTheLastRunSurvives what goes wrong with the next one: a service that is not there, a
// file that cannot be written, and a kill, after which the answers are next to it.
func TestTheLastRunSurvives(t *testing.T) {
	t.Parallel()
	dir, e := demoFolder(t)
	obiter(t, dir, "try", "--only", "/berths").check(t, 0, "0 wrong", "")
	last := lastRun(t, dir)
	before, err := os.ReadFile(last)
	if err != nil {
		t.Fatal(err)
	}
	heard := e.heard
	obiter(t, dir, "try", "--at", "http://127.0.0.1:1").check(t, 3, "", "nothing answers")
	obiter(t, dir, "try", "--save", "nowhere/run").check(t, 2, "", "cannot write the run file nowhere/run")
	if e.heard != heard {
		t.Errorf("%d requests were sent before the files were open", e.heard-heard)
	}
	left, _ := os.ReadDir(filepath.Join(dir, ".obiter"))
	if after, err := os.ReadFile(last); err != nil || !bytes.Equal(after, before) || len(left) != 3 { // .gitignore, the lock and the folder of runs
		t.Errorf("%v, changed: %v, left %v", err, !bytes.Equal(after, before), left)
	}
	if runtime.GOOS == "windows" {
		return
	}
	elsewhere := filepath.Join(dir, "elsewhere")
	put(t, dir, "elsewhere", "mine")
	for _, name := range []string{"run.ndjson.part", "run.ndjson.new"} {
		if err := os.Symlink(elsewhere, filepath.Join(dir, ".obiter", name)); err != nil {
			t.Fatal(err)
		}
	}
	e.mu.Lock()
	e.heard, e.far = 0, make(chan struct{})
	e.mu.Unlock()
	try := exec.Command(program, "try")
	try.Dir = dir
	if err := try.Start(); err != nil {
		t.Fatal(err)
	}
	<-e.far
	time.Sleep(trial.FlushDeadline) // what was answered by now is kept
	_ = try.Process.Kill()
	_ = try.Wait()
	e.quiet()
	if after, err := os.ReadFile(last); err != nil || !bytes.Equal(after, before) {
		t.Errorf("%v, changed: %v", err, !bytes.Equal(after, before))
	}
	if text, _ := os.ReadFile(elsewhere); string(text) != "mine" {
		t.Errorf("what a link leads to is %.60q", text)
	}
	if o := obiter(t, dir, "judge", ".obiter/run.ndjson.part"); o.status > 1 || !strings.Contains(o.out, " cases: ") {
		t.Errorf("status %d: %s%s", o.status, o.out, o.errors)
	}
}

// TestOutputThatCannotBeWritten is an error, in every command.
func TestOutputThatCannotBeWritten(t *testing.T) {
	t.Parallel()
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip("no device without room")
	}
	defer full.Close()
	dir, _ := demoFolder(t)
	for _, line := range []string{"survey", "survey --format json", "cases --only /sessions", "cases --only /sessions --format ndjson", "try --only /berths", "try --only /berths --format json", "try --only /berths --format ndjson", "try --controls --only /berths", "judge", "messages", "messages --format csv", "messages --format json", "messages --as-config", "report --out - --as junit", "report --out - --as markdown", "report --out - --as json", "report --out - --as har", "undo", "explain", "explain accepted", "demo --faults", "init --schema", "--help"} {
		var errors strings.Builder
		c := exec.Command(program, strings.Fields(line)...)
		c.Dir, c.Stdout, c.Stderr = dir, full, &errors
		_ = c.Run()
		if c.ProcessState.ExitCode() != 2 || !strings.Contains(errors.String(), "error: cannot write the output: ") {
			t.Errorf("%s: status %d, %s", line, c.ProcessState.ExitCode(), &errors)
		}
	}
}

// TestFailedFixtures leaves out what needs them, and goes on with the rest.
func TestFailedFixtures(t *testing.T) {
	t.Parallel()
	dir, _ := demoFolder(t)
	text, err := os.ReadFile(filepath.Join(dir, "obiter.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, "obiter.yaml", strings.Replace(string(text), "{ name: Borealis }", "{ vessel_flag: NO }", 1))
	o := obiter(t, dir, "try", "--depth", "quick")
	o.check(t, 1, "POST /sessions", `with the configured body its control breaks the schema`)
	o.check(t, 1, "could not be made", "fixtures could not be made (vessel, booking")
}

// TestEachCase gives every case a record of its own.
func TestEachCase(t *testing.T) {
	t.Parallel()
	dir, e := demoFolder(t)
	text, err := os.ReadFile(filepath.Join(dir, "obiter.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, "obiter.yaml", strings.Replace(string(text), "each: operation", "each: case", 1))
	before := records(e)
	obiter(t, dir, "try", "--only", "* /tow-orders/**", "--depth", "quick").check(t, 0, "DELETE /tow-orders/{tow_id}", "")
	if after := records(e); !slices.Equal(after, before) {
		t.Errorf("left behind of %v: %v, before %v", kinds, after, before)
	}
	// The run file tells of each case with the record it was sent to.
	lines, err := os.ReadFile(lastRun(t, dir))
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]string{}
	for line := range strings.Lines(string(lines)) {
		var c struct {
			Type    string
			ID      string `json:"case"`
			Request struct{ URL string }
			Flaws   []struct{ In string }
		}
		if err := json.Unmarshal([]byte(line), &c); err != nil {
			t.Fatal(err)
		}
		if c.Type != "case" || len(c.Flaws) > 0 && c.Flaws[0].In != "body" {
			continue
		}
		if other := seen[c.Request.URL]; other != "" {
			t.Errorf("%s and %s are both told to have gone to %s", other, c.ID, c.Request.URL)
		}
		seen[c.Request.URL] = c.ID
	}
	if len(seen) < 3 {
		t.Errorf("only %d cases went to records of their own", len(seen))
	}
}
