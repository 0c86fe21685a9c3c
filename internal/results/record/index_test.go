package record

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
)

// longRun is a run of many cases, with what was logged and what the whole run shows of some.
func longRun(t *testing.T, operations, cases int) (text []byte, ids []string) {
	t.Helper()
	var b bytes.Buffer
	w, err := NewWriter(&b, Head{Program: "test"})
	if err != nil {
		t.Fatal(err)
	}
	check := func(err error) {
		if err != nil {
			t.Fatal(err)
		}
	}
	for o := range operations {
		operation := fmt.Sprintf("POST /quays-%d", o)
		control := map[string]any{"name": fmt.Sprint("Quay ", o)}
		for n := range cases {
			id := fmt.Sprintf("%010x", (o*cases+n)*2_654_435_761%(1<<40))
			ids = append(ids, id)
			e := exchange.Exchange{Case: exchange.Case{ID: id, Name: `"kind":"control" \"case\":\"`, Operation: operation, ProvenBy: operation, Kind: exchange.Flawed, Base: "fullest", Flaws: []exchange.Flaw{{In: "body", Pointer: "/name", Rule: "type"}},
				Request: exchange.Request{Method: "POST", URL: "http://127.0.0.1:1/quays", Body: fmt.Appendf(nil, `{"name":%d}`, n)}, Control: control}, Response: exchange.Answer{Status: 422, Header: http.Header{}}}
			if n == 0 {
				e.Kind, e.Flaws, e.Request.Body, e.Response.Status = exchange.Control, []exchange.Flaw{}, []byte(`{"name":"Quay"}`), 201-o%2*-200
				e.Parts = map[string]any{"body": control}
			}
			check(w.Result(Result{Exchange: e, Verdict: judge.Pass}))
			if n%7 == 0 {
				check(w.Log(Log{id, []string{"line of " + id}}))
			}
		}
	}
	check(w.Finding(judge.RunFinding{Case: ids[3], Finding: judge.Finding{Code: "odd-layout"}}))
	check(w.Close(Totals{Cases: len(ids)}))
	return b.Bytes(), ids
}

// TestACaseIsFoundByItsIndex: as it is found when all is read.
func TestACaseIsFoundByItsIndex(t *testing.T) {
	text, ids := longRun(t, 5, 40)
	all, err := NewReader(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	whole := map[string]Result{}
	for res, err := range all.Results() {
		if err != nil {
			t.Fatal(err)
		}
		whole[res.ID] = res
	}
	var index bytes.Buffer
	if err := WriteIndex(&index, bytes.NewReader(text), "as it is"); err != nil {
		t.Fatal(err)
	}
	x, err := OpenIndex(bytes.NewReader(index.Bytes()), int64(index.Len()), "as it is")
	if err != nil {
		t.Fatal(err)
	}
	for _, id := range ids {
		excerpt, err := x.Excerpt(bytes.NewReader(text), int64(len(text)), id)
		if err != nil {
			t.Fatal(err)
		}
		r, err := NewReader(excerpt)
		if err != nil {
			t.Fatal(err)
		}
		var got []Result
		for res, err := range r.Results() {
			if err != nil {
				t.Fatal(err)
			}
			if res.ID == id {
				got = append(got, res)
			}
		}
		if len(got) != 1 || fmt.Sprint(got[0]) != fmt.Sprint(whole[id]) || got[0].Control == nil {
			t.Fatalf("%s: found is %v, want %v", id, got, whole[id])
		}
		if !slices.Equal(r.Logs[id], all.Logs[id]) || len(r.RunFindings[id]) != len(all.RunFindings[id]) || r.Head.Program != "test" {
			t.Errorf("%s: logged is %q, and the run shows %v", id, r.Logs[id], r.RunFindings[id])
		}
	}
	accepted := x.Accepted()
	if len(accepted) != 3 || accepted["POST /quays-0"] != ids[0] || accepted["POST /quays-1"] != "" {
		t.Errorf("accepted are %v", accepted)
	}
	for prefix, want := range map[string]bool{ids[9][:3]: true, "": true, "zz": false, "ffffffffff": false, strings.ToUpper("abcdefabcd"): false} {
		excerpt, err := x.Excerpt(bytes.NewReader(text), int64(len(text)), prefix)
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(excerpt)
		if lines := bytes.Count(data, []byte("\n")); err != nil || (lines > 1) != want || lines > mostAlike+1+5 {
			t.Errorf("%q: %d lines, %v", prefix, lines, err)
		}
	}
}

// TestAnIndexOfSomethingElse is not read.
func TestAnIndexOfSomethingElse(t *testing.T) {
	text, ids := longRun(t, 2, 5)
	var index bytes.Buffer
	if err := WriteIndex(&index, bytes.NewReader(text), "then"); err != nil {
		t.Fatal(err)
	}
	if _, err := OpenIndex(bytes.NewReader(index.Bytes()), int64(index.Len()), "now"); err == nil {
		t.Error("an index of what was there before is read")
	}
	for n := range index.Len() { // whatever cut it off
		if _, err := OpenIndex(bytes.NewReader(index.Bytes()[:n]), int64(n), "then"); err == nil {
			t.Errorf("%d bytes of an index are read as one", n)
		}
	}
	x, err := OpenIndex(bytes.NewReader(index.Bytes()), int64(index.Len()), "then")
	if err != nil {
		t.Fatal(err)
	}
	for n := range len(text) { // a run file that is shorter now
		if excerpt, err := x.Excerpt(bytes.NewReader(text[:n]), int64(n), ids[0]); err == nil {
			if r, err := NewReader(excerpt); err == nil {
				for range r.Results() { // which ends
				}
			}
		}
	}
}

// TestLinesAreTakenOut of a run file, by what they are about; the first stays.
func TestLinesAreTakenOut(t *testing.T) {
	text, ids := longRun(t, 3, 10)
	var rest bytes.Buffer
	if err := Without(&rest, bytes.NewReader(text), func(kind, operation, id string) bool {
		return operation == "POST /quays-1" || kind == "log" || id == ids[2]
	}); err != nil {
		t.Fatal(err)
	}
	r, err := NewReader(&rest)
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for res, err := range r.Results() {
		if n++; err != nil || res.Operation == "POST /quays-1" || res.ID == ids[2] {
			t.Errorf("%v, %s of %s is left", err, res.ID, res.Operation)
		}
	}
	if n != 19 || len(r.Logs) > 0 || r.Totals == nil {
		t.Errorf("%d cases and %d logs are left", n, len(r.Logs))
	}
}
