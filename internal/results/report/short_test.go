package report

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

// What is kept in little room is what was put there.
func TestShort(t *testing.T) {
	s := newShort()
	ids := []string{"91d9a702a3", "", "7", "captured line 12", "0000000000", "0a0000000f", "ffffffffff", "91D9A702A3", "91d9a702a3b", "+1d9a702a3"}
	var names []caseID
	for _, id := range ids {
		names = append(names, s.name(id))
	}
	for i, id := range ids {
		if got := s.id(names[i]); got != id {
			t.Errorf("%q is kept as %q", id, got)
		}
	}
	if a, b := s.kinds.place(kind{"body", "size"}), s.kinds.place(kind{"body", "size"}); a != b || a == s.kinds.place(kind{"query", "size"}) {
		t.Error("equal kinds are not one, or others are")
	}
	for _, text := range []string{"", "mooring", "", "berth", "mooring"} {
		if got := s.texts.values[s.texts.place(text)]; got != text {
			t.Errorf("%q is kept as %q", text, got)
		}
	}
	if n := len(s.texts.values); n != 3 {
		t.Errorf("%d texts are kept", n)
	}
}

// Each spot has a tally of its own.
func TestCells(t *testing.T) {
	c := newCells()
	for i := range uint32(3*perChunk + 1) {
		c.of(spot{i, 0, i % 3}).marks[0] = int32(i)
	}
	for i := range uint32(3*perChunk + 1) {
		if n := c.of(spot{i, 0, i % 3}).marks[0]; n != int32(i) {
			t.Fatalf("%d is counted at %d", n, i)
		}
	}
}

func TestLines(t *testing.T) {
	var set lines
	want := []uint32{0, 5, 63, 64, 1000}
	for _, id := range []uint32{1000, 5, 0, 64, 5, 63} {
		set = set.with(id)
	}
	if got := slices.Collect(set.all()); !slices.Equal(got, want) {
		t.Errorf("%d are in the set, want %d", got, want)
	}
}

// A tally names the most serious cases, and of equal ones the first, whatever their order.
func TestTally(t *testing.T) {
	s := newShort()
	var tally tally
	for _, i := range []int{40, 3, 25, 1, 9, 30, 7, 2, 5, 8, 4, 6, 12, 11, 10, 26} {
		tally.add(shown(i, min(1, i%5), s.name(fmt.Sprintf("%010d", i))))
	}
	var got []string
	for _, x := range tally.shown {
		got = append(got, strings.TrimLeft(s.id(x.name), "0"))
	}
	if want := []string{"5", "10", "25", "30", "40", "1", "2", "3", "4", "6", "7", "8"}; !slices.Equal(got, want) || cap(tally.shown) != maxShows || tally.marks[0] != 5 || tally.marks[1] != 11 {
		t.Errorf("shown are %v, counted %v", got, tally.marks)
	}
}
