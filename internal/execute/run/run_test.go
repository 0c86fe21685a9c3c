package run_test

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/run"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/harbour"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
	"obiter/internal/target/send"
)

// trial runs the harbour with faults and gives the report.
func trial(t testing.TB, depth flaw.Depth, faults ...string) *report.Report {
	t.Helper()
	return trialOf(t, depth, nil, faults...)
}

// trialOf tries some operations alone.
func trialOf(t testing.TB, depth flaw.Depth, only []string, faults ...string) *report.Report {
	t.Helper()
	office, err := harbour.New(faults)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(office)
	defer server.Close()
	rep, _, err := tried(t, context.Background(), server.URL, depth, nil, func(e exchange.Exchange) exchange.Exchange { return e }, only...)
	if err != nil {
		t.Fatal(err)
	}
	return rep
}

func against(t testing.TB, ctx context.Context, address string, depth flaw.Depth, keep func(record.Result) error) (*report.Report, error) {
	t.Helper()
	return changed(t, ctx, address, depth, keep, func(e exchange.Exchange) exchange.Exchange { return e })
}

// changed is against with exchanges as change makes them.
func changed(t testing.TB, ctx context.Context, address string, depth flaw.Depth, keep func(record.Result) error, change func(exchange.Exchange) exchange.Exchange) (*report.Report, error) {
	t.Helper()
	rep, kept, err := tried(t, ctx, address, depth, keep, change)
	if err == nil {
		judgedAgain(t, kept, rep)
	}
	return rep, err
}

// tried carries out a plan, and gives what is found and the file that is kept.
func tried(t testing.TB, ctx context.Context, address string, depth flaw.Depth, keep func(record.Result) error, change func(exchange.Exchange) exchange.Exchange, only ...string) (*report.Report, []byte, error) {
	t.Helper()
	p, s := harbourPlan(t, address, depth, only...)
	var file, kept bytes.Buffer
	var to io.Writer = &file
	if keep != nil {
		to = io.MultiWriter(&lines{keep: keep}, &file)
	}
	w, err := record.NewWriter(to, record.Head{})
	if err != nil {
		t.Fatal(err)
	}
	final, err := record.NewWriter(&kept, record.Head{})
	if err != nil {
		t.Fatal(err)
	}
	reopen := func() (*record.Reader, error) { return record.NewReader(bytes.NewReader(file.Bytes())) }
	rep, err := run.Do(ctx, p, run.Options{Parallel: 8, Record: w, Reopen: reopen, Final: final, Send: func(ctx context.Context, c exchange.Case) exchange.Exchange {
		return change(sending(s)(ctx, c))
	}})
	return rep, kept.Bytes(), err
}

// judgeAll judges a run file, and gives what is found and the file that is kept.
func judgeAll(t testing.TB, file []byte) (*report.Report, []byte) {
	t.Helper()
	var kept bytes.Buffer
	w, err := record.NewWriter(&kept, record.Head{})
	if err != nil {
		t.Fatal(err)
	}
	rep, err := run.Judge(func() (*record.Reader, error) { return record.NewReader(bytes.NewReader(file)) }, w)
	if err != nil {
		t.Fatal(err)
	}
	return rep, kept.Bytes()
}

// judgedAgain judges a run file again: the same bytes come out, and the same is found.
func judgedAgain(t testing.TB, file []byte, first *report.Report) {
	t.Helper()
	rep, again := judgeAll(t, file)
	if !bytes.Equal(file, again) {
		was, is := bytes.Split(file, []byte("\n")), bytes.Split(again, []byte("\n"))
		for i := range min(len(was), len(is)) {
			if !bytes.Equal(was[i], is[i]) {
				t.Errorf("judged again, line %d differs:\n%.1500s\n%.1500s", i+1, was[i], is[i])
				break
			}
		}
	}
	if was, is := entries(first), entries(rep); !slices.Equal(was, is) {
		t.Errorf("judged again, %q is found; it was %q", is, was)
	}
}

func entries(rep *report.Report) []string {
	var out []string
	for _, e := range rep.Entries() {
		out = append(out, fmt.Sprint(e.Code, e.Operations, e.Fields, e.Count, e.Examples[0].Message))
	}
	return out
}

// sending sends cases as they are planned.
func sending(s *send.Sender) func(context.Context, exchange.Case) exchange.Exchange {
	return func(ctx context.Context, c exchange.Case) exchange.Exchange {
		return exchange.Exchange{Case: c, Response: s.Send(ctx, c)}
	}
}

// lines gives each case of a run file to keep, when it is written.
type lines struct {
	keep func(record.Result) error
	head []byte
}

func (l *lines) Write(p []byte) (int, error) {
	if l.head == nil {
		l.head = bytes.Clone(p)
		return len(p), nil
	}
	r, err := record.NewReader(io.MultiReader(bytes.NewReader(l.head), bytes.NewReader(p)))
	if err != nil {
		return 0, err
	}
	for res, err := range r.Results() {
		if err := cmp.Or(err, l.keep(res)); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

func TestTheSoundHarbourIsNotAccused(t *testing.T) {
	t.Parallel()
	for _, depth := range []flaw.Depth{flaw.Quick, flaw.Usual, flaw.Deep} {
		rep := trial(t, depth)
		for _, e := range accusing(rep) {
			t.Errorf("depth %d: %s %s at %q: %s", depth, e.Operations, e.Code, e.Fields, e.Examples[0].Message)
		}
		if n := rep.Totals(); n.Passed != n.Cases || n.Cases < 300 {
			t.Errorf("depth %d: %+v", depth, n)
		}
	}
}

// TestEachFaultAloneIsFound: by its code, at its operation, and nothing else is accused.
func TestEachFaultAloneIsFound(t *testing.T) {
	t.Parallel()
	faults := slices.DeleteFunc(slices.Clone(harbour.Faults), configured)
	if testing.Short() { // the race detector sees the same code in a few
		faults = faults[:6]
	}
	for _, f := range faults {
		t.Run(f.Name, func(t *testing.T) {
			t.Parallel()
			var only []string                                                            // the paths that begin so
			layout := slices.Contains([]string{"page-with-input", "own-layout"}, f.Name) // which is odd beside that of others
			if _, path, of := strings.Cut(f.Operation, " /"); of && !layout {
				first, _, _ := strings.Cut(path, "/")
				only = []string{"/" + first, "* /" + first + "/**"}
			}
			found := false
			for _, e := range accusing(trialOf(t, flaw.Usual, only, f.Name)) {
				here := len(e.Operations) == 1 && e.Operation() == f.Operation
				switch {
				case here && e.Code == f.Code:
					found = true
				case here && slices.Contains(f.Also, e.Code):
				default:
					t.Errorf("also accused: %s %s at %q: %s", e.Operations, e.Code, e.Fields, e.Examples[0].Message)
				}
			}
			if !found {
				t.Errorf("%s at %s is not found", f.Code, f.Operation)
			}
		})
	}
}

// ofBlanks is the code of the note on what becomes of blanks, which a sound service has too.
const ofBlanks = "blank-text"

// accusing are the entries of a report without that note.
func accusing(rep *report.Report) []*report.Cause {
	return slices.DeleteFunc(rep.Entries(), func(e *report.Cause) bool { return e.Code == ofBlanks })
}

// configured reports whether a fault shows only with the configuration, which
// tests of the command line try, or where it is known what was created, which those of trials do.
func configured(f harbour.Fault) bool {
	return strings.Contains(f.Operation, "/tow-orders") || f.Code == "rejected-but-stored"
}

func TestTheDemosFaultsDoNotHideOneAnother(t *testing.T) {
	t.Parallel()
	found := map[string]bool{} // planted ones, and whether they were found
	for _, f := range harbour.Faults {
		if f.Demo && !configured(f) {
			found[f.Operation+" "+f.Code] = false
		}
	}
	for _, e := range accusing(trial(t, flaw.Usual, harbour.DemoFaults()...)) {
		for _, o := range e.Operations {
			key := o + " " + e.Code
			if _, planted := found[key]; !planted && !follows(o, e.Code) {
				t.Errorf("not planted: %s at %q: %s", key, e.Fields, e.Examples[0].Message)
			}
			found[key] = true
		}
	}
	for key, ok := range found {
		if !ok {
			t.Errorf("not found: %s", key)
		}
	}
}

// follows reports whether a finding is a consequence of a fault of the demo.
func follows(operation, code string) bool {
	return slices.ContainsFunc(harbour.Faults, func(f harbour.Fault) bool {
		return f.Demo && f.Operation == operation && slices.Contains(f.Also, code)
	})
}

func TestEveryCodeHasAFault(t *testing.T) {
	t.Parallel()
	has := map[string]bool{}
	for _, f := range harbour.Faults {
		has[f.Code] = true
		if _, ok := judge.Find(f.Code); !ok {
			t.Errorf("%s: there is no code %s", f.Name, f.Code)
		}
	}
	for _, c := range judge.Codes {
		if !has[c.Code] && c.Code != ofBlanks && c.Code != "unexplained-refusal" { // which is of captures
			t.Errorf("no fault of the harbour shows %s", c.Code)
		}
	}
}

func TestControlsComeFirstAndNumbersAreThePlans(t *testing.T) {
	t.Parallel()
	office, err := harbour.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(office)
	defer server.Close()
	seen := map[string]int{}
	rep, err := against(t, context.Background(), server.URL, flaw.Quick, func(r record.Result) error {
		seen[r.Operation]++
		if r.Operation == plan.WholeAPI {
			return nil // others' controls prove it
		}
		if r.Kind == exchange.Control && seen[r.Operation] > 2 || r.Kind != exchange.Control && seen[r.Operation] == 1 {
			t.Errorf("%s is number %d of %s", r.Name, seen[r.Operation], r.Operation)
		}
		return nil
	})
	if err != nil || !rep.Proven() {
		t.Fatal(err, rep.Proven())
	}
}

func TestAnInterruptStopsAndKeepsWhatIsThere(t *testing.T) {
	t.Parallel()
	office, err := harbour.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(office)
	defer server.Close()
	ctx, cancel := context.WithCancel(context.Background())
	kept := 0
	rep, err := against(t, ctx, server.URL, flaw.Usual, func(r record.Result) error {
		if kept++; kept == 30 {
			cancel()
		}
		if r.Response.Err != "" {
			t.Errorf("what the interrupt cut off is judged: %+v", r.Response)
		}
		return nil
	})
	if !errors.Is(err, context.Canceled) || rep.Totals().Cases != kept || kept > 60 {
		t.Errorf("%v after %d of %d", err, kept, rep.Totals().Cases)
	}
}

func TestAFullDiskStopsTheRun(t *testing.T) {
	t.Parallel()
	office, err := harbour.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(office)
	defer server.Close()
	full := errors.New("no space left")
	n := 0
	_, err = against(t, context.Background(), server.URL, flaw.Quick, func(record.Result) error {
		if n++; n > 5 {
			return full
		}
		return nil
	})
	if !errors.Is(err, full) || n != 6 {
		t.Errorf("%v after %d", err, n)
	}
}

func TestRefusedControlsProveNothing(t *testing.T) {
	t.Parallel()
	rep := trial(t, flaw.Usual, "optional-demanded")
	if !rep.Proven() {
		t.Error("the fullest control was accepted, and yet nothing is proved")
	}
	server := httptest.NewServer(nil) // answers everything with 404
	defer server.Close()
	rep, err := against(t, context.Background(), server.URL, flaw.Quick, func(record.Result) error { return nil })
	if err != nil || rep.Proven() || rep.Totals().Passed != 0 {
		t.Errorf("%v, proven %v, %+v", err, rep.Proven(), rep.Totals())
	}
	if words := rep.Lines[1].ControlWords; words == "" {
		t.Errorf("the service's own words are missing: %+v", *rep.Lines[1])
	}
}

func BenchmarkRun(b *testing.B) {
	office, err := harbour.New(nil)
	if err != nil {
		b.Fatal(err)
	}
	server := httptest.NewServer(office)
	defer server.Close()
	n := 0
	for b.Loop() {
		rep, err := against(b, context.Background(), server.URL, flaw.Usual, func(record.Result) error { return nil })
		if err != nil {
			b.Fatal(err)
		}
		n += rep.Totals().Cases
	}
	b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "cases/s")
}
