package report

import (
	"fmt"
	"slices"
	"testing"
)

// What is kept in little room is what was put there.
func TestShort(t *testing.T) {
	s := newShort()
	ids := []string{"91d9a702a3", "", "7", "captured line 12", "0000000000"}
	var names []caseName
	for _, id := range ids {
		names = append(names, s.name(id))
	}
	for i, id := range ids {
		if got := s.id(names[i]); got != id {
			t.Errorf("%q is kept as %q", id, got)
		}
	}
	if a, b := s.kind("body", "size"), s.kind("body", "size"); a != b || a == s.kind("query", "size") {
		t.Error("equal kinds are not one, or others are")
	}
	for i := range mostTexts + 2 {
		text := fmt.Sprint(i)
		if s.text(text) != text {
			t.Fatalf("%s is another text", text)
		}
	}
	if s.text("") != "" || len(s.texts) > mostTexts {
		t.Errorf("%d texts are kept", len(s.texts))
	}
}

// A tally names the gravest cases, and of equal ones the first, whatever their order.
func TestTally(t *testing.T) {
	s := newShort()
	var tally tally
	for _, i := range []int{40, 3, 25, 1, 9, 30, 7, 2, 5, 8, 4, 6, 12, 11, 10, 26} {
		tally.add(shownCase{int64(i), s.name(fmt.Sprintf("%010d", i)), uint8(min(1, i%5))})
	}
	var got []int64
	for _, x := range tally.shown {
		got = append(got, x.number)
	}
	if want := []int64{5, 10, 25, 30, 40, 1, 2, 3, 4, 6, 7, 8}; !slices.Equal(got, want) || cap(tally.shown) != maxShows || tally.marks[0] != 5 || tally.marks[1] != 11 {
		t.Errorf("shown are %v, counted %v", got, tally.marks)
	}
}
