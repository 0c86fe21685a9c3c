package journal

import (
	"bytes"
	"io"
	"reflect"
	"slices"
	"testing"
)

func redacted(v any) any { return v }

// FuzzRead: whatever is in the file, it is read, and what is written again reads
// the same.
func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"n":1,"at":"http://h","operation":"POST /quays","made":true,"fixture":"quay","values":{"quay":1e5},"shows":{"a":"b"}}` + "\n" + `{"n":1,"gone":true}`))
	f.Add([]byte("{\"n\":-1}\n[]\n{\"n\":2,\"at\":\"\",\"values\":null}"))
	f.Fuzz(func(t *testing.T, data []byte) {
		list := Read(bytes.NewReader(data))
		var text bytes.Buffer
		j := New(&text, "http://h", redacted)
		for _, r := range list {
			j.Carry(r)
		}
		if again := Read(&text); len(again) != len(list) || len(list) > 0 && !reflect.DeepEqual(again[0].Operation, list[0].Operation) {
			t.Errorf("%+v is read again as %+v", list, again)
		}
	})
}

// TestTheJournalDoesNotGrow beyond what is left: it is begun anew, and tells the same.
func TestTheJournalDoesNotGrow(t *testing.T) {
	var text bytes.Buffer
	j := New(&text, "http://127.0.0.1:1", func(v any) any { return v })
	renewed := 0
	j.Renew = func(notes []byte) (io.Writer, error) {
		renewed++
		text.Reset()
		text.Write(notes)
		return &text, nil
	}
	kept := j.Sending("POST /quays")
	j.Made(kept, Remnant{Operation: "POST /quays", Fixture: "quay", Address: "http://127.0.0.1:1/quays/k-1"})
	for range 60_000 {
		n := j.Sending("POST /quays")
		j.Made(n, Remnant{Operation: "POST /quays", Fixture: "quay", Address: "http://127.0.0.1:1/quays/k-2"})
		j.Gone(n)
	}
	open := j.Sending("POST /quays")
	if err := j.Err(); err != nil || renewed == 0 || text.Len() > mostWritten+mostGone {
		t.Errorf("%v, begun anew %d times, it has %d bytes", err, renewed, text.Len())
	}
	left := Read(&text)
	if len(left) != 2 || !left[0].Made || left[0].Fixture != "quay" || left[1].Made {
		t.Errorf("left are %+v, and %d and %d should be", left, kept, open)
	}
	for range 2 * mostStrays {
		j.Made(j.Sending("POST /bollards"), Remnant{Operation: "POST /bollards"})
	}
	if left := Read(bytes.NewReader(text.Bytes())); len(left) > mostStrays+3 {
		t.Errorf("of what nothing takes away %d are noted", len(left))
	}
}

// writes counts what is written.
type writes struct {
	bytes.Buffer
	n int
}

func (w *writes) Write(b []byte) (int, error) {
	w.n++
	return w.Buffer.Write(b)
}

// TestRequestsShareTheirNotes that make nothing, one after another: as many are noted as are
// in flight at a time.
func TestRequestsShareTheirNotes(t *testing.T) {
	var w writes
	j := New(&w, "http://127.0.0.1:1", redacted)
	left := func() (operations []string) {
		for _, r := range Read(bytes.NewReader(w.Bytes())) {
			operations = append(operations, r.Operation)
		}
		return operations
	}
	old := j.Carry(Remnant{At: "http://127.0.0.1:1", Operation: "POST /quays"})
	w.n = 0
	for range 100 {
		a, b := j.Sending("POST /quays"), j.Sending("POST /quays")
		if a == b || a == old || b == old {
			t.Fatalf("two requests in flight and what was left have the numbers %d, %d and %d", a, b, old)
		}
		j.Gone(a)
		j.Gone(b)
	}
	if got := left(); w.n != 2 || len(got) != 4 { // and one is noted ahead
		t.Errorf("%d writes, and %q is noted", w.n, got)
	}
	j.Gone(old)
	j.Over("POST /quays")
	j.Gone(j.Sending("POST /bollards"))
	if got := left(); len(got) != 1 || got[0] != "POST /bollards" {
		t.Errorf("when no more requests follow, %q is noted", got)
	}
	for range 2 * mostIdle { // writes that have nothing to do with it
		j.Sending("POST /cranes")
		delete(j.idle, "POST /cranes")
	}
	if slices.Contains(left(), "POST /bollards") {
		t.Error("what served no request for long is noted still")
	}
	n := j.Sending("POST /quays")
	j.Gone(n)
	one := j.Sending("POST /quays")
	j.Gone(n) // once more, when another request has its note
	other := j.Sending("POST /quays")
	for _, n := range []int{one, other} {
		j.Made(n, Remnant{Operation: "POST /quays", Fixture: "quay"})
	}
	if got := j.Left(); len(got) != 2 {
		t.Errorf("of two records %v are left", got)
	}
	j.Gone(one)
	j.Gone(other)
	j.Gone(j.Sending("POST /moorings"))
	if err := j.Err(); err != nil {
		t.Error(err)
	}
	if got := left(); slices.Contains(got, "POST /quays") || slices.Contains(got, "POST /moorings") {
		t.Errorf("in the end %q is noted", got)
	}
}
