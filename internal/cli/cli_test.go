package cli_test

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"obiter/internal/execute/session"
	"obiter/internal/harbour"
)

var update = flag.Bool("update", false, "write the golden files anew")

var program string

// TestMain builds the program that all tests drive.
func TestMain(m *testing.M) {
	flag.Parse()
	if testing.Short() { // it takes minutes, and the race detector sees nothing of another process
		fmt.Println("the built program is not driven with -short")
		return
	}
	dir, err := os.MkdirTemp("", "obiter")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "obiter")
	build := exec.Command("go", "build", "-o", program, "obiter/cmd/obiter")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		panic(fmt.Sprintf("%v\n%s", err, out))
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

type outcome struct {
	status      int
	out, errors string
}

// withoutProgress leaves out the lines that a slow machine adds.
func withoutProgress(errors string) string { return progressLine.ReplaceAllString(errors, "") }

var progressLine = regexp.MustCompile(`(?m)^[0-9,]+ cases? answered.* done\n`)

// obiter runs the built program in a folder.
func obiter(t testing.TB, dir string, args ...string) outcome {
	t.Helper()
	return with()(t, dir, args...)
}

// with is obiter with variables of the environment.
func with(env ...string) func(t testing.TB, dir string, args ...string) outcome {
	return func(t testing.TB, dir string, args ...string) outcome {
		t.Helper()
		return runProgram(t, dir, env, args...)
	}
}

func runProgram(t testing.TB, dir string, env []string, args ...string) outcome {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
	var out, errors strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &errors
	err := cmd.Run()
	if cmd.ProcessState == nil {
		t.Fatalf("obiter %q: %v", args, err)
	}
	o := outcome{cmd.ProcessState.ExitCode(), out.String(), withoutProgress(errors.String())}
	if strings.Contains(o.errors, "goroutine ") {
		t.Fatalf("obiter %q panicked:\n%s", args, o.errors)
	}
	return o
}

// compile makes a program of a file of Go, at a place where it may be made anew.
func compile(t testing.TB, source, bin string) {
	t.Helper()
	dir := t.TempDir()
	put(t, dir, "main.go", source)
	make := exec.Command("go", "build", "-o", bin, filepath.Join(dir, "main.go"))
	make.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := make.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
}

// lastRun is the file of the last run of a folder; previousRun is that before it.
func lastRun(t testing.TB, dir string) string     { return storedRun(t, dir, 0) }
func previousRun(t testing.TB, dir string) string { return storedRun(t, dir, 1) }

// anyRun is the file of the last run; "" where there is none.
func anyRun(dir string) string { return session.Store{Folder: filepath.Join(dir, ".obiter")}.Last() }

func storedRun(t testing.TB, dir string, n int) string {
	t.Helper()
	names, err := filepath.Glob(filepath.Join(dir, ".obiter", "runs", "*", "*.ndjson"))
	slices.SortFunc(names, func(a, b string) int { return strings.Compare(filepath.Base(b), filepath.Base(a)) })
	if err != nil || len(names) <= n {
		t.Fatalf("there are %d runs: %v", len(names), err)
	}
	return names[n]
}

// within is the name of a file as it is in a folder.
func within(t testing.TB, dir, name string) string {
	t.Helper()
	name, err := filepath.Rel(dir, name)
	if err != nil {
		t.Fatal(err)
	}
	return name
}

func (o outcome) check(t testing.TB, status int, out, errors string) {
	t.Helper()
	if o.status != status || !strings.Contains(o.out, out) || !strings.Contains(o.errors, errors) {
		t.Errorf("status %d, want %d; out has %q: %v; errors have %q: %v\nout:\n%.3000s\nerrors:\n%s",
			o.status, status, out, strings.Contains(o.out, out), errors, strings.Contains(o.errors, errors), o.out, o.errors)
	}
}

func put(t testing.TB, dir, name, text string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// folder is a temporary folder with the harbour's description in it.
func folder(t testing.TB) string {
	t.Helper()
	dir := t.TempDir()
	put(t, dir, "openapi.yaml", string(harbour.Description))
	return dir
}

func serve(t testing.TB, faults ...string) string {
	t.Helper()
	office, err := harbour.New(faults)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(office)
	t.Cleanup(server.Close)
	return server.URL
}

// changing is what differs from run to run.
var changing = regexp.MustCompile(`127-0-0-1|[0-9]{8}T[0-9.]+Z|127\.0\.0\.1-\d+|127\.0\.0\.1:\d+|after \d+\.\d ms|Date: .*|7a000000-0000-4000-8000-\d+`)

func golden(t *testing.T, name, got string) {
	t.Helper()
	got = changing.ReplaceAllString(got, "~")
	path := filepath.Join("testdata", name+".golden")
	if *update {
		if err := os.WriteFile(path, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if got != string(want) {
		g, w := strings.Split(got, "\n"), strings.Split(string(want), "\n")
		for i := range g {
			if i >= len(w) || g[i] != w[i] {
				t.Fatalf("%s differs in line %d (renew with -update):\n%s", path, i+1, g[i])
			}
		}
		t.Fatalf("%s has %d lines more", path, len(w)-len(g))
	}
}

func TestSurveyAndCasesReadWell(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	o := obiter(t, dir, "survey", "--fields", "--only", "POST *")
	o.check(t, 0, "POST /vessels", "")
	golden(t, "survey", o.out)
	o = obiter(t, dir, "survey", "--format", "json")
	var s struct {
		Operations []struct {
			Fields []struct {
				Rules []struct{ Keyword, Says string }
			}
		}
		Gaps []any
	}
	if err := json.Unmarshal([]byte(o.out), &s); err != nil || len(s.Operations) != 19 || s.Operations[1].Fields[0].Rules[0].Keyword != "type" || s.Gaps == nil {
		t.Errorf("survey as JSON: %v\n%s", err, o.out)
	}
	o = obiter(t, dir, "cases", "--only", "/sessions", "--dropped")
	o.check(t, 0, "minLength one-below", "")
	golden(t, "cases", o.out)
}

func TestTryAndShowReadWell(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	o := obiter(t, dir, "try", "--only", "/sessions", "--only", "PATCH *", "--at", serve(t, "no-allow", "sentence-only", "status-as-text"))
	o.check(t, 1, "no-field-errors", "")
	golden(t, "try", o.out)
	for name, id := range map[string]string{"show-text": "no-field-errors at", "show-request": "missing-header at Allow"} {
		_, after, _ := strings.Cut(o.out, id)
		_, after, _ = strings.Cut(after, "show ")
		s := obiter(t, dir, "show", after[:10])
		s.check(t, 0, "Answered", "")
		golden(t, name, s.out)
	}
	put(t, dir, "x", "")
	if ignore, err := os.ReadFile(filepath.Join(dir, ".obiter", ".gitignore")); err != nil || string(ignore) != "*\n" {
		t.Errorf("the folder of runs does not ignore itself: %q, %v", ignore, err)
	}
}

func TestExitStatuses(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	// What no schema says of tow orders has to be said in obiter.yaml.
	others := []string{"--skip", "/tow-orders", "--skip", "/tow-orders/**"}
	obiter(t, dir, append([]string{"try", "--at", serve(t)}, others...)...).check(t, 0, "0 wrong\n", "")
	obiter(t, dir, append([]string{"try", "--at", serve(t, "parent-named")}, others...)...).check(t, 0, "warning vague-field", "")
	obiter(t, dir, "try", "--at", serve(t, "bare-rejection")).check(t, 1, "error no-field-errors", "")
	closed := httptest.NewServer(http.NotFoundHandler())
	obiter(t, dir, "try", "--at", closed.URL).check(t, 3, "Not reached", "error: no valid request was accepted, so no rejection proves anything\nhint: GET /vessels: a valid request (fullest control) was refused with 404 Not Found: “404 page not found”")
	closed.Close()
	obiter(t, dir, "try", "--at", closed.URL).check(t, 3, "", "nothing answers at "+closed.URL+": the connection is refused\nhint: start the service")
	put(t, dir, "settings.yaml", "openapi: 3.1.0\ninfo: {title: Settings, version: '1'}\npaths:\n  /settings:\n    patch: {requestBody: {content: {application/json: {schema: {type: object}}}}}\n")
	obiter(t, dir, "try", "settings.yaml", "--at", serve(t)).check(t, 3, "it changes what is there for everyone", "every operation is left out, so nothing was sent")
}

// TestBadInput: each has one clear message, says where and what to do, and changes nothing.
func TestBadInput(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	obiter(t, dir, "survey", "--skip", "/boats/**").check(t, 0, "Harbour office", `warning: --skip "/boats/**" matches no operation`)
	obiter(t, dir, "survey", "--rule", "maxlength").check(t, 2, "", `--rule "maxlength" is no rule and no family of rules`)
	obiter(t, dir, "cases", "--without", "deep-nesting", "--without", "siz").check(t, 2, "", "did you mean size?")
	for name, text := range map[string]string{
		"bad.yaml": "openapi: 3.1.0\npaths: [\n", "bad.json": "{\"openapi\":\"3.1.0\",\n \"paths\": }", "two.yaml": "swagger: '2.0'\n", "empty.yaml": "",
		"ref.yaml":     "openapi: 3.1.0\npaths:\n  /a:\n    $ref: '#/components/x'\n",
		"nopaths.yaml": "openapi: 3.1.0\ninfo: {title: t, version: '1'}\npaths: {}\n",
		"some.yaml":    "openapi: 3.1.0\npaths:\n  /a: {post: {responses: {'201': {}}, requestBody: {content: {application/json: {schema: {type: object}}}}}}\n  /b: {post: {responses: {'201': {}}, requestBody: {content: {application/json: {schema: {type: strin}}}}}}\n",
		"corrupt":      "{\"obiter\":2}\n{\"case\":}\n", "other": "hello\n", "old": "{\"obiter\":1}\n", "fine": "{\"obiter\":2,\"program\":\"x\"}\n",
	} {
		put(t, dir, name, text)
	}
	if err := os.Mkdir(filepath.Join(dir, "folder"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args   string
		status int
		want   string
	}{
		{"survey nope.yaml", 2, "error: nope.yaml: there is no such file\nhint: name a file that exists"},
		{"survey folder", 2, "error: folder: this is a folder"},
		{"survey https://harbour.example/openapi.yaml", 2, "nothing is fetched from the network"},
		{"survey bad.yaml", 2, "error: bad.yaml:3:1: not readable as YAML: while parsing a flow node"},
		{"survey bad.json", 2, "error: bad.json:2:11: not readable as JSON"},
		{"survey two.yaml", 2, "error: two.yaml:1:1: this is an OpenAPI 2.0 document; 3.0 and later are supported\nhint: convert"},
		{"survey empty.yaml", 2, "error: empty.yaml:1: the file is empty"},
		{"survey ref.yaml", 0, "warning: ref.yaml:4:5: the $ref \"#/components/x\" points to nothing\n"},
		{"survey nopaths.yaml", 0, "warning: nopaths.yaml:3:1: the document describes no paths; add"},
		{"try nopaths.yaml --at ~", 3, "warning: nopaths.yaml:3:1: the document describes no paths; add"},
		{"survey --nope", 2, "error: unknown option --nope for obiter survey\nhint: options: --budget, --config, --depth"},
		{"survey --olny x", 2, "hint: did you mean --only?"},
		{"survey --seed x", 2, "error: invalid value \"x\" for --seed"},
		{"survey --depth x", 2, "error: invalid value \"x\" for --depth\nhint: use quick, usual or deep"},
		{"survey --only POST_/vessel", 2, "matches no operation of the description"},
		{"survey --format xml", 2, "hint: use text or json"},
		{"cases --budget -1", 2, "invalid value \"-1\" for --budget"},
		{"survey a b", 2, "unexpected argument \"b\""},
		{"surve", 2, "error: unknown command \"surve\"\nhint: did you mean survey?"},
		{"--color x survey", 2, "error: invalid value \"x\" for --color\nhint: use auto, always or never"},
		{"cases --format xml", 2, "hint: use text or ndjson"},
		{"cases --out folder/a/b/openapi.yaml/c --only x", 2, "matches no operation"},
		{"cases --out .", 2, ", which the index there does not list\nhint: name a new folder, empty this one"},
		{"cases --out openapi.yaml", 2, "--out: cannot create the folder openapi.yaml"},
		{"try --at localhost:8080", 2, "error: --at \"localhost:8080\" has no scheme http or https\nhint: write it with scheme"},
		{"try --at http://", 2, "names no host"},
		{"try --at http://a:b@localhost", 2, "credentials go into --header"},
		{"try --at http://localhost/?a=1", 2, "has a query or fragment"},
		{"try --at http://192.0.2.7:80", 2, "error: Obiter only sends to this machine, and 192.0.2.7 is another host\nhint: if it is yours and may receive invalid data, use --allow-host 192.0.2.7"},
		{"try --at http://harbour.example", 2, "harbour.example is another host"},
		{"try --at ~ --parallel 0", 2, "invalid value \"0\" for --parallel"},
		{"try --at ~ --rate 0", 2, "invalid value \"0\" for --rate"},
		{"try --at ~ --timeout x", 2, "invalid value \"x\" for --timeout"},
		{"try --at ~ --header nonsense", 2, "error: invalid value \"nonsense\" for --header"},
		{"try --at ~ --save nowhere/run", 2, "cannot write the run file nowhere/run"},
		{"try some.yaml", 2, "error: no service URL: name it with --at, or under at: in obiter.yaml"},
		{"show", 2, "error: show takes one case id"},
		{"show abcdef", 2, "error: there is no run in this folder yet\nhint: make one with: obiter try"},
		{"show --run corrupt abcdef", 2, "error: corrupt: line 2: not readable as JSON"},
		{"show --run other abcdef", 2, "error: other: line 1: not a run file"},
		{"show --run fine abcdef", 2, "error: fine has no case \"abcdef\"\nhint: obiter try prints the ids"},
		{"demo x", 2, "demo takes none"},
		{"demo --fault x", 2, "the harbour has no mistake \"x\"\nhint: obiter demo --faults"},
		{"demo --out folder/../openapi.yaml", 2, "cannot create the folder"},
	} {
		t.Run(c.args, func(t *testing.T) {
			args := strings.Fields(c.args)
			for i, a := range args {
				args[i] = strings.ReplaceAll(a, "_", " ")
				if a == "~" {
					args[i] = serve(t)
				}
			}
			if strings.HasPrefix(c.args, "show abcdef") {
				os.RemoveAll(filepath.Join(dir, ".obiter"))
			}
			o := obiter(t, dir, args...)
			o.check(t, c.status, "", c.want)
			if c.status == 2 && o.out != "" {
				t.Errorf("something is on standard output: %s", o.out)
			}
			if n := strings.Count(o.errors, "error: "); c.status != 0 && n != 1 {
				t.Errorf("%d messages:\n%s", n, o.errors)
			}
		})
	}
	o := obiter(t, dir, "cases", "some.yaml")
	o.check(t, 0, "POST /b: some.yaml:4:82: the schema is not valid: at #/type", "")
	o.check(t, 0, "POST /a  ", "")
}

func TestCasesForMachines(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	first := obiter(t, dir, "cases", "--format", "ndjson", "--seed", "5")
	first.check(t, 0, `"kind":"edge"`, "")
	if again := obiter(t, dir, "cases", "--format", "ndjson", "--seed", "5"); again.out != first.out {
		t.Error("the same seed gives other bytes")
	}
	lines := strings.Count(first.out, "\n")
	o := obiter(t, dir, "cases", "--out", "payloads", "--seed", "5")
	o.check(t, 0, "payloads in payloads", "")
	index, err := os.Open(filepath.Join(dir, "payloads", "index.ndjson"))
	if err != nil {
		t.Fatal(err)
	}
	defer index.Close()
	n := 0
	for s := bufio.NewScanner(index); s.Scan(); n++ {
		var line struct {
			File    string
			Case    string
			Request struct {
				Body       string
				BodyBase64 []byte
			}
		}
		if err := json.Unmarshal(s.Bytes(), &line); err != nil {
			t.Fatal(err)
		}
		payload, err := os.ReadFile(filepath.Join(dir, "payloads", line.File))
		if err != nil || string(payload) != line.Request.Body+string(line.Request.BodyBase64) || !strings.Contains(line.File, line.Case) {
			t.Fatalf("%s: %v", line.File, err)
		}
	}
	if n != lines {
		t.Errorf("%d payloads for %d cases", n, lines)
	}
}

// TestShownLinesReproduceTheCase runs the curl line of a case.
func TestShownLinesReproduceTheCase(t *testing.T) {
	t.Parallel()
	curl, err := exec.LookPath("curl")
	if err != nil {
		t.Skip("there is no curl on this machine to try the line with")
	}
	dir := folder(t)
	at := serve(t, "sentence-only")
	obiter(t, dir, "try", "--at", at, "--only", "/sessions", "--header", "Authorization: Bearer secret-tide").check(t, 1, "", "")
	run, err := os.ReadFile(lastRun(t, dir))
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(string(run), "secret-tide") {
		t.Error("the value of --header is in the run file")
	}
	tried := 0
	for _, line := range strings.Split(string(run), "\n") {
		var c struct {
			Case, Name string
			Response   struct{ Status int }
		}
		if json.Unmarshal([]byte(line), &c) != nil || c.Case == "" {
			continue
		}
		if !regexp.MustCompile("single-quotes|trailing-text|no-bytes|multibyte|far-above|wrong-method|type number").MatchString(c.Name) {
			continue
		}
		shown := obiter(t, dir, "show", c.Case).out
		_, command, _ := strings.Cut(shown, "\nReproduce\n  ")
		out, err := exec.Command("sh", "-c", strings.Replace(command, "curl ", curl+" ", 1)).CombinedOutput()
		if want := fmt.Sprintf("HTTP/1.1 %d ", c.Response.Status); err != nil || !strings.HasPrefix(string(out), want) {
			t.Errorf("%s: %v, want %s\n%s\n%s", c.Name, err, want, command, out)
		}
		tried++
	}
	if tried < 8 {
		t.Errorf("only %d lines were tried", tried)
	}
}

func TestDemo(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	obiter(t, dir, "demo").check(t, 0, "14 mistakes planted, all found, and nothing else accused.", "")
	obiter(t, dir, "demo", "--sound").check(t, 0, "nothing was planted, and nothing was found", "")
	obiter(t, dir, "demo", "--faults").check(t, 0, "update-unchecked", "")
	obiter(t, dir, "demo", "--out", "harbour").check(t, 0, filepath.Join("harbour", "openapi.yaml")+" and obiter.yaml are written", "")
	obiter(t, dir, "demo", "--out", "harbour").check(t, 2, "", "already exists and is not overwritten")
}

// TestServeAndInterrupt serves the demo, tries it, and interrupts both.
func TestServeAndInterrupt(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("interrupts are sent as signals")
	}
	dir := folder(t)
	office := exec.Command(program, "demo", "--serve", "--sound")
	out, err := office.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := office.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = office.Process.Kill() }()
	line, err := bufio.NewReader(out).ReadString('\n')
	address := regexp.MustCompile(`http://[0-9.:]+[0-9]`).FindString(line)
	if err != nil || address == "" {
		t.Fatalf("%q, %v", line, err)
	}
	var heard atomic.Int32
	stuck := make(chan struct{})
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body) // only then net/http notices that the client has left
		if n := heard.Add(1); n == 20 {
			close(stuck)
		} else if n < 20 {
			w.WriteHeader(http.StatusCreated)
			return
		}
		<-r.Context().Done()
	}))
	defer slow.Close()
	obiter(t, dir, "try", "--at", address, "--depth", "quick", "--skip", "/tow-orders/**", "--skip", "/tow-orders").check(t, 0, ", 0 wrong", "")
	try := exec.Command(program, "try", "--at", slow.URL, "--parallel", "2")
	try.Dir = dir
	var errors strings.Builder
	try.Stderr = &errors
	if err := try.Start(); err != nil {
		t.Fatal(err)
	}
	select {
	case <-stuck:
	case <-time.After(time.Minute):
		_ = try.Process.Kill()
		_ = try.Wait()
		t.Fatalf("%d requests have come: %s", heard.Load(), &errors)
	}
	if err := try.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	_ = try.Wait()
	if try.ProcessState.ExitCode() != 130 || !strings.Contains(errors.String(), "interrupted; what was answered until then is kept") {
		t.Errorf("status %d: %s", try.ProcessState.ExitCode(), &errors)
	}
	run, err := os.ReadFile(lastRun(t, dir))
	if err != nil || !strings.HasSuffix(string(run), "\"interrupted\":true}}\n") {
		t.Errorf("the run file does not say that it was interrupted: %v", err)
	}
	if err := office.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	if err := office.Wait(); err != nil {
		t.Errorf("serving ends with %v", err)
	}
}

// TestServerTextCannotSteerTheTerminal: a service's control characters are escaped.
func TestServerTextCannotSteerTheTerminal(t *testing.T) {
	t.Parallel()
	evil := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.Header().Set("X-Evil", "\x1b[2J")
		w.WriteHeader(http.StatusBadRequest)
		fmt.Fprint(w, "{\"detail\":\"\\u001b]0;owned\\u0007 \u202e name\",\"title\":\"\u009b31m\"}\x1b[2J")
	}))
	defer evil.Close()
	dir := folder(t)
	o := obiter(t, dir, "try", "--at", evil.URL, "--only", "/sessions")
	o.check(t, 3, "", "")
	all := o.out + o.errors
	for _, word := range regexp.MustCompile(`[0-9a-f]{10}`).FindAllString(o.out, 3) {
		all += obiter(t, dir, "show", word).out
	}
	if i := strings.IndexAny(all, "\x1b\u009b\u202e\x07"); i >= 0 {
		t.Errorf("a control character is printed: %q", all[max(0, i-40):i+10])
	}
}

func TestColour(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	for _, c := range []struct {
		colour string
		want   bool
	}{{"auto", false}, {"never", false}, {"always", true}} {
		o := obiter(t, dir, "--color", c.colour, "survey")
		if got := strings.Contains(o.out, "\x1b["); got != c.want || o.status != 0 {
			t.Errorf("--color %s: colour %v, status %d", c.colour, got, o.status)
		}
	}
}

func TestHelpAndVersion(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	obiter(t, dir).check(t, 0, "Begin with:  obiter demo", "")
	obiter(t, dir, "--help").check(t, 0, "survey", "")
	obiter(t, dir, "try", "--help").check(t, 0, "--allow-host", "")
	obiter(t, dir, "--version").check(t, 0, "obiter version ", "")
	obiter(t, dir, "completion", "bash").check(t, 0, "complete", "")
}

// TestJudgingAgain reads the last run, says the same of it, and refuses what it
// cannot do.
func TestJudgingAgain(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	first := obiter(t, dir, "try", "--at", serve(t, "status-as-text"), "--only", "PATCH *")
	first.check(t, 1, "bad-member at /status", "")
	last := within(t, dir, lastRun(t, dir))
	again := obiter(t, dir, "judge", "--save", "again.ndjson")
	again.check(t, 1, "Judged again: "+last+"  openapi.yaml, at http://127.0.0.1:", "")
	if _, found, _ := strings.Cut(first.out, "\n\nFields are named"); !strings.Contains(again.out, strings.ReplaceAll(found, last, "again.ndjson")) {
		t.Errorf("judged again:\n%s\nwas:\n%s", again.out, first.out)
	}
	judgedAgain(t, dir)
	obiter(t, dir, "judge", "again.ndjson", "--format", "json").check(t, 1, `"bad-member"`, "")
	obiter(t, dir, "judge", "again.ndjson", "--format", "ndjson").check(t, 1, `{"type":"end"`, "")
	obiter(t, dir, "judge", "--save", last).check(t, 2, "", "error: --save names the run file that is read")
	obiter(t, dir, "judge", "--save", "no/where").check(t, 2, "", "error: cannot write no/where: no such file or directory")
	obiter(t, dir, "judge", "a", "b").check(t, 2, "", "error: there is no run file a")
	obiter(t, dir, "judge", "--format", "xml").check(t, 2, "", "hint: use text, json or ndjson")
	text, err := os.ReadFile(filepath.Join(dir, "again.ndjson"))
	if err != nil {
		t.Fatal(err)
	}
	put(t, dir, "cut.ndjson", string(text[:len(text)/2])) // a run that was killed
	obiter(t, dir, "judge", "cut.ndjson", "--format", "json").check(t, 1, `"interrupted": true`, "")
	put(t, dir, "odd.ndjson", string(text[:len(text)/2])+"\n{}\n")
	obiter(t, dir, "judge", "odd.ndjson").check(t, 2, "", "error: odd.ndjson: line ")
}

// TestFewSockets: where the machine allows fewer connections than requests in flight,
// they wait for one another, and the service is not accused.
func TestFewSockets(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	for _, host := range []string{"127.0.0.1", "localhost"} {
		at := strings.Replace(serve(t), "127.0.0.1", host, 1)
		cmd := exec.Command("sh", "-c", `ulimit -n 40; exec "$0" "$@"`, program, "try", "--at", at, "--parallel", "200", "--only", "POST /vessels")
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		if err != nil || !strings.Contains(string(out), "right") || strings.Contains(string(out), "unproven") {
			t.Errorf("%v:\n%s", err, out)
		}
	}
}
