package record

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"testing"

	"obiter/internal/core/exchange"
)

// TestAControlComesBeforeWhatItProves merges a run that was cut short with what was tried
// again: of the first a flaw counts, of the second the control that proves it. However the
// lines of a run stand, those of operations that overlap among them, the control is first.
func TestAControlComesBeforeWhatItProves(t *testing.T) {
	cases := results()
	control, flaw, next, whole := cases[0], cases[1], cases[2], cases[3]
	next.Operation, next.ProvenBy = "PUT /c", "PUT /c"
	api := func(w *Writer) error {
		return w.Operation(exchange.Described{Operation: "the API as a whole", Number: 6})
	}
	post := func(w *Writer) error { return w.Operation(exchange.Described{Operation: "POST /b", Number: 0}) }
	put := func(w *Writer) error { return w.Operation(exchange.Described{Operation: "PUT /c", Number: 3}) }
	result := func(r Result) func(*Writer) error { return func(w *Writer) error { return w.Result(r) } }
	log := func(w *Writer) error { return w.Log(Log{Case: control.ID, Lines: []string{"berthed"}}) }

	for name, runs := range map[string][2][]func(*Writer) error{
		"in the order of the plan": {
			{post, result(control), result(flaw), put, result(next)},
			{post, result(control), log, put, api, result(whole)}},
		"operations first": {
			{post, put, api, result(flaw), result(next)},
			{post, put, api, result(whole), result(control), log}},
		"operations among the cases of others": {
			{post, result(flaw), put, result(next), api},
			{api, result(whole), put, post, result(control), log}},
	} {
		t.Run(name, func(t *testing.T) {
			var m Merge
			for i, lines := range runs {
				if err := m.Add(fmt.Sprint("run ", i), fileOf(t, i, lines)); err != nil {
					t.Fatal(err)
				}
			}
			r, err := m.Open()
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for l, err := range r.Lines() {
				if err != nil {
					t.Fatal(err)
				}
				if l.Result != nil {
					got = append(got, l.Result.ID)
				}
			}
			first, proven := slices.Index(got, control.ID), slices.Index(got, flaw.ID)
			if first < 0 || proven < first {
				t.Errorf("%q: the control %s comes after %s", got, control.ID, flaw.ID)
			}
			slices.Sort(got)
			if want := []string{control.ID, flaw.ID, next.ID, whole.ID}; !slices.Equal(got, want) {
				t.Errorf("merged %q, want each once, %q", got, want)
			}
			if !slices.Equal(r.Logs[control.ID], []string{"berthed"}) {
				t.Errorf("logs %q", r.Logs)
			}
		})
	}
}

// fileOf is a run, the i-th that was started, with lines.
func fileOf(t *testing.T, i int, lines []func(*Writer) error) func() (io.Reader, error) {
	t.Helper()
	var b bytes.Buffer
	w, err := NewWriter(&b, Head{Description: "d.yaml", At: "http://127.0.0.1", Started: fmt.Sprintf("2026-01-0%dT00:00:00Z", i+1)})
	for _, line := range lines {
		err = errors.Join(err, line(w))
	}
	if err = errors.Join(err, w.Close(Totals{})); err != nil {
		t.Fatal(err)
	}
	return func() (io.Reader, error) { return bytes.NewReader(b.Bytes()), nil }
}
