package record

import (
	"bytes"
	"errors"
	"net/http"
	"reflect"
	"strings"
	"testing"
	"time"

	"obiter/internal/exchange"
	"obiter/internal/judge"
)

func results() []Result {
	return []Result{
		{Case: exchange.Case{ID: "0000000001", Name: "control, fullest", Operation: "POST /b", OperationID: "b", Kind: exchange.Control,
			Request: exchange.Request{Method: "POST", URL: "http://127.0.0.1/b?x=<1>", Headers: [][2]string{{"A", "b"}}, Body: []byte("{\"a\":\"<&>\u2028\"}")},
			Flaws:   []exchange.Flaw{}, Expect: exchange.Expect{Class: exchange.Accepted, Statuses: []int{}}},
			Response: exchange.Answer{Status: 201, Header: http.Header{"Content-Type": {"text/plain"}, "X": {"1", "2"}}, Body: []byte{0xff, 0x00}, Took: 1500 * time.Microsecond},
			Verdict:  judge.Pass, Findings: []judge.Finding{}},
		{Case: exchange.Case{ID: "0000000002", Kind: exchange.Flawed, Request: exchange.Request{Headers: [][2]string{}, Body: []byte{0xfe}},
			Flaws: []exchange.Flaw{{In: "body", Pointer: "/a", Rule: "type", Variant: "null", Reason: "null"}}, Expect: exchange.Expect{Class: exchange.Type, Statuses: []int{400, 422}}},
			Response: exchange.Answer{Header: http.Header{}, Err: "reset", Truncated: true}, Verdict: judge.Fail,
			Findings: []judge.Finding{{Code: "no-answer", Severity: judge.Error, Message: "m", Field: "/a"}}},
	}
}

func write(t testing.TB, close bool) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := NewWriter(&b, Head{Program: "1", Description: "d.yaml", At: "http://127.0.0.1", Seed: 7, Headers: []string{"Authorization"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range results() {
		if err := w.Result(r); err != nil {
			t.Fatal(err)
		}
	}
	if close {
		if err := w.Close(Totals{Cases: 2, Passed: 1, Failed: 1}); err != nil {
			t.Fatal(err)
		}
	}
	return b.Bytes()
}

func read(data []byte) (*Reader, []Result, error) {
	r, err := NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, nil, err
	}
	var out []Result
	for res, err := range r.Results() {
		if err != nil {
			return r, out, err
		}
		out = append(out, res)
	}
	return r, out, nil
}

func TestWhatIsWrittenIsRead(t *testing.T) {
	r, got, err := read(write(t, true))
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(got, results()) {
		t.Errorf("read\n%+v\nwant\n%+v", got, results())
	}
	if r.Head.Obiter != Version || r.Head.Seed != 7 || r.Totals == nil || r.Totals.Failed != 1 {
		t.Errorf("head %+v, totals %+v", r.Head, r.Totals)
	}
}

// TestAKilledRunIsStillReadable cuts the file at every byte: what was
// completed before is there.
func TestAKilledRunIsStillReadable(t *testing.T) {
	whole := write(t, false)
	lines := bytes.SplitAfter(whole, []byte("\n"))
	for cut := len(lines[0]); cut <= len(whole); cut++ {
		complete := bytes.Count(whole[:cut], []byte("\n")) - 1
		_, got, err := read(whole[:cut])
		if err != nil || len(got) < complete || len(got) > complete+1 {
			t.Fatalf("cut at %d of %d: %d results of %d, %v", cut, len(whole), len(got), complete, err)
		}
	}
}

func TestCorruptFilesNameTheLine(t *testing.T) {
	for _, c := range []struct{ data, want string }{
		{"", "line 1: the file is empty"},
		{"hello\n", "line 1: this is no run file"},
		{`{"a":1}`, "line 1: this is no run file"},
		{"{\"obiter\":99}\n", "line 1: the file is of format 99"},
		{"{\"obiter\":1}\n\n{\"case\n{\"totals\":{}}\n", "line 3: not readable as JSON"},
		{"{\"obiter\":1}\n{\"case\":\"x\",\"request\":5}\n", "line 2: not a case line"},
		{"{\"obiter\":1}\n{\"case\":\"x\",\"request\":{\"bodyBase64\":\"%\"}}\n", "line 2: not a case line"},
	} {
		_, _, err := read([]byte(c.data))
		var e *FileError
		if !errors.As(err, &e) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%q: %v, want %q", c.data, err, c.want)
		}
	}
}

func FuzzReader(f *testing.F) {
	f.Add(write(f, true))
	f.Add([]byte("{\"obiter\":1}\n{\"case\":\"x\",\"response\":{\"ms\":1e300}}\n{\"totals\":null}"))
	f.Fuzz(func(t *testing.T, data []byte) {
		_, _, err := read(data)
		var e *FileError
		if err != nil && !errors.As(err, &e) {
			t.Fatalf("the error is no *FileError: %v", err)
		}
	})
}
