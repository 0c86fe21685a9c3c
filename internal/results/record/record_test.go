package record

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
)

func results() []Result {
	control := map[string]any{"body": map[string]any{"a": "<&>\u2028", "n": json.Number("1.50")}, "query": map[string]any{"x": json.Number("1")}}
	return []Result{
		{Exchange: exchange.Exchange{Case: exchange.Case{ID: "0000000001", Name: "control, fullest", Operation: "POST /b", ProvenBy: "POST /b", OperationID: "b", Kind: exchange.Control, Number: 1, Base: "fullest",
			Request: exchange.Request{Method: "POST", URL: "http://127.0.0.1/b?x=<1>", Headers: [][2]string{{"A", "b"}}, Body: instance.Encode(control["body"])},
			Flaws:   []exchange.Flaw{}, Expect: exchange.Expect{Class: exchange.Accepted, Statuses: []int{}}, Body: control["body"], Control: control["body"], Parts: control, SecretFields: []string{"/a"}},
			Response:   exchange.Answer{Status: 201, Header: http.Header{"Content-Type": {"text/plain"}, "X": {"1", "2"}}, Body: []byte{0xff, 0x00}, Took: 1001 * time.Microsecond},
			Documented: &exchange.Documented{Status: true, Media: []string{"text/plain"}}},
			Verdict: judge.Pass, Findings: []judge.Finding{}},
		{Exchange: exchange.Exchange{Case: exchange.Case{ID: "0000000002", Operation: "POST /b", ProvenBy: "POST /b", Kind: exchange.Flawed, Number: 3, Base: "fullest", Request: exchange.Request{Method: "POST", URL: "http://127.0.0.1/b", Headers: [][2]string{}, Body: []byte{0xfe}},
			Flaws: []exchange.Flaw{{In: "body", Pointer: "/a", Rule: "type", Variant: "null", Reason: "null"}}, Expect: exchange.Expect{Class: exchange.Type, Statuses: []int{400, 422}},
			Body: map[string]any{"a": nil}, Control: control["body"], Alternatives: []string{"/a"}},
			Response: exchange.Answer{Header: http.Header{}, Err: "reset", Truncated: true, ClosedEarly: true}}, Verdict: judge.Fail,
			Findings: []judge.Finding{{Code: "no-answer", Severity: judge.Error, Message: "m", Field: "/a"}}},
		{Exchange: exchange.Exchange{Case: exchange.Case{ID: "0000000003", Operation: "POST /b", ProvenBy: "POST /b", Kind: exchange.Flawed, Number: 4, Base: "other", Request: exchange.Request{Method: "GET", URL: "http://127.0.0.1/b", Headers: [][2]string{}, Body: []byte(`{}`)},
			Flaws: []exchange.Flaw{{In: "query", Pointer: "/x"}}, Expect: exchange.Expect{Class: exchange.Parameter, Statuses: []int{400}}, Body: map[string]any{"x": json.Number("99")}, Control: control["query"]},
			Response: exchange.Answer{Status: 400, Header: http.Header{}}}, Verdict: judge.Pass, Findings: []judge.Finding{}},
		{Exchange: exchange.Exchange{Case: exchange.Case{ID: "0000000004", Operation: "the API as a whole", ProvenBy: "POST /b", Kind: exchange.Flawed, Number: 5, Base: "fullest", Request: exchange.Request{Method: "POST", URL: "http://127.0.0.1/b", Headers: [][2]string{}, Body: []byte(`{"a":`)},
			Flaws: []exchange.Flaw{{In: "request", Rule: "malformed-json"}}, Expect: exchange.Expect{Class: exchange.Syntax, Statuses: []int{400}}, Control: control["body"]},
			Response: exchange.Answer{Status: 400, Header: http.Header{}}}, Verdict: judge.Pass, Findings: []judge.Finding{}},
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
		c := results()[1].Case
		again := errors.Join(w.Repeat(c, exchange.Answer{Status: 400}, exchange.Answer{Status: 422}), w.Closing(results()[0].Case, exchange.Answer{Status: 500}),
			w.State(c, judge.Readings{First: json.Number("1.0"), After: "x"}), w.Finding(judge.RunFinding{Case: c.ID, Finding: judge.Finding{Code: "unstable"}}))
		if again != nil {
			t.Fatal(again)
		}
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
	if len(r.RunFindings["0000000002"]) != 1 {
		t.Errorf("of the whole run: %v", r.RunFindings)
	}
	if r.Head.Obiter != Version || r.Head.Seed != 7 || r.Totals == nil || r.Totals.Failed != 1 {
		t.Errorf("head %+v, totals %+v", r.Head, r.Totals)
	}
}

// TestWhatWasReadStays as it is while what follows is read, of which there is far more than is
// read at a time.
func TestWhatWasReadStays(t *testing.T) {
	var b bytes.Buffer
	w, err := NewWriter(&b, Head{At: "http://127.0.0.1"})
	if err != nil {
		t.Fatal(err)
	}
	var want []Result
	for i := range 10 * batchLines {
		r := results()[i%len(results())]
		r.Request.URL = fmt.Sprint("http://127.0.0.1/", i, strings.Repeat("x", i%97))
		if i == 0 {
			r.Request.URL += strings.Repeat("long", batchBytes/2)
		}
		if err := w.Result(r); err != nil {
			t.Fatal(err)
		}
		if err := w.Log(Log{Case: r.ID, Lines: []string{r.Request.URL}}); err != nil {
			t.Fatal(err)
		}
		want = append(want, r)
	}
	r, err := NewReader(&b)
	if err != nil {
		t.Fatal(err)
	}
	var got []Result
	var logs []*Log
	for l, err := range r.Lines() {
		switch {
		case err != nil:
			t.Fatal(err)
		case l.Log != nil:
			logs = append(logs, l.Log)
		default:
			got = append(got, *l.Result)
		}
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%d results of %d, or others, were read", len(got), len(want))
	}
	for i, l := range logs {
		if l.Lines[0] != want[i].Request.URL {
			t.Fatalf("the log of line %d became %q", i, l.Lines)
		}
	}
}

// TestWhatWasSentAgainIsRead holds the lines that are not results.
func TestWhatWasSentAgainIsRead(t *testing.T) {
	r, err := NewReader(bytes.NewReader(write(t, true)))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for l, err := range r.Lines() {
		switch {
		case err != nil:
			t.Fatal(err)
		case l.Repeat != nil:
			got = append(got, fmt.Sprint("repeat ", l.Repeat.Case.ID, " ", l.Repeat.First.Status, " ", l.Repeat.Second.Status))
		case l.Closing != nil:
			got = append(got, fmt.Sprint("closing ", l.Closing.ID, " ", l.Closing.Response.Status, " ", len(l.Closing.Parts)))
		case l.State != nil:
			got = append(got, fmt.Sprint("state ", l.State.Case.ID, " ", l.State.Seen.First, " ", l.State.Seen.After))
		}
	}
	if want := []string{"repeat 0000000002 400 422", "closing 0000000001 500 2", "state 0000000002 1.0 x"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
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
	altered := func(old, new string) string {
		text := string(write(t, true))
		if !strings.Contains(text, old) {
			t.Fatalf("the file has no %s", old)
		}
		return strings.Replace(text, old, new, 1)
	}
	for _, c := range []struct{ data, want string }{
		{"", "line 1: the file is empty"},
		{"hello\n", "line 1: not a run file"},
		{`{"a":1}`, "line 1: not a run file"},
		{"{\"obiter\":99}\n", "line 1: the file has format 99; this program reads format 2"},
		{"{\"obiter\":1}\n", "line 1: the file has format 1; this program reads format 2"},
		{"{\"obiter\":2}\n\n{\"case\n{\"totals\":{}}\n", "line 3: not readable as JSON"},
		{"{\"obiter\":2}\n{\"case\":\"x\"}\n", `line 2: not a line of type ""`},
		{"{\"obiter\":2}\n{\"type\":\"case\",\"request\":5}\n", `line 2: not a line of type "case"`},
		{"{\"obiter\":2}\n{\"type\":\"case\",\"request\":{\"bodyBase64\":\"%\"}}\n", `line 2: not a line of type "case"`},
		{"{\"obiter\":2}\n{\"type\":\"state\",\"case\":\"x\"}\n", `line 2: not a line of type "state"`},
		{altered(`"case":"0000000001"`, `"case":"; rm -r ~"`), `the case "; rm -r ~" is not ten hexadecimal digits`},
		{altered(`"kind":"control"`, `"kind":"\u001b[2J"`), `the kind "\x1b[2J" is not control`},
		{altered(`"method":"POST"`, `"method":"A B"`), `"A B" is not a method`},
		{altered(`"url":"http`, `"url":"-ofile`), `is not an address`},
		{altered(`"verdict":"pass"`, `"verdict":"good"`), `the verdict "good" is not pass`},
		{altered(`"headers":[["A"`, `"headers":[["@file"`), `"@file" is not the name of a header`},
		{altered(`"flaws":[]`, `"credentials":[{"in":"header","name":"a b"}],"flaws":[]`), `the credential "a b" is not in a header`},
		{"{\"obiter\":2}\n{\"type\":\"end\",\"totals\":5}\n", `line 2: not a line of type "end"`},
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
	f.Add([]byte("{\"obiter\":2}\n{\"type\":\"case\",\"case\":\"x\",\"response\":{\"ms\":1e300}}\n{\"type\":\"end\",\"totals\":null}"))
	f.Fuzz(func(t *testing.T, data []byte) {
		_, _, err := read(data)
		var e *FileError
		if err != nil && !errors.As(err, &e) {
			t.Fatalf("the error is no *FileError: %v", err)
		}
	})
}
