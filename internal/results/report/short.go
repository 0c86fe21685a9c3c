package report

import (
	"cmp"
	"iter"
	"math/bits"
	"slices"
	"strconv"
)

// interner keeps what a report has very often in little room: most of the memory of a large run
// is what is remembered of the fields of its operations.
type interner struct {
	kinds *intern[kind]
	texts *intern[string]
	long  []string // ids of cases that are not of the usual form
}

// kind is a part of a request, with the rule or the column that something is about.
type kind struct{ in, what string }

// intern keeps values intern, each under its place among them.
type intern[T comparable] struct {
	places map[T]uint32
	values []T
}

func newShort() interner {
	return interner{kinds: &intern[kind]{places: map[kind]uint32{}}, texts: &intern[string]{places: map[string]uint32{}}}
}

func (o *intern[T]) place(v T) uint32 {
	at, has := o.places[v]
	if !has {
		at = uint32(len(o.values))
		o.places[v] = at
		o.values = append(o.values, v)
	}
	return at
}

// caseID is a case's id: ten hexadecimal digits, or, with the bit that they leave free, the
// place of another one in short.long.
type caseID uint64

const (
	usualID        = 10
	isLong  caseID = 1 << 63
)

func (s *interner) name(id string) caseID {
	if n, ok := digits(id); ok {
		return caseID(n)
	}
	s.long = append(s.long, id)
	return caseID(len(s.long)-1) | isLong
}

// digits is the number that an id of the usual form is.
func digits(id string) (n uint64, ok bool) {
	if len(id) != usualID {
		return 0, false
	}
	for _, c := range []byte(id) {
		switch {
		case c >= '0' && c <= '9':
			n = n<<4 | uint64(c-'0')
		case c >= 'a' && c <= 'f':
			n = n<<4 | uint64(c-'a'+10)
		default:
			return 0, false
		}
	}
	return n, true
}

func (s *interner) id(name caseID) string {
	if name&isLong != 0 {
		return s.long[name&^isLong]
	}
	const leading = 1 << (4 * usualID) // keeps the zeros
	return strconv.FormatUint(uint64(name)|leading, 16)[1:]
}

// spot is where a cell is: by the id of the operation's line, and the places of the kind
// (the part of the request, and the column) and of the field.
type spot struct{ line, kind, field uint32 }

// cells are tallies by their spots.
type cells struct {
	at    map[spot]uint32
	chunk [][]tally
}

const perChunk = 64

func newCells() cells { return cells{at: map[spot]uint32{}} }

// of is the tally of a spot, made when first needed.
func (c *cells) of(s spot) *tally {
	at, has := c.at[s]
	if !has {
		at = uint32(len(c.at))
		c.at[s] = at
		if at%perChunk == 0 {
			c.chunk = append(c.chunk, make([]tally, perChunk))
		}
	}
	return &c.chunk[at/perChunk][at%perChunk]
}

// tally is a Cell while cases come in.
type tally struct {
	shown []shownCase
	marks [nMarks]int32 // how many came to each of Marks
}

// shownCase is a case that a cell names.
type shownCase struct {
	rank uint64 // by its place in Marks, then by its number
	name caseID
}

const rankBits = 56 // of the number

func shown(number, mark int, name caseID) shownCase {
	return shownCase{uint64(mark)<<rankBits | uint64(number), name}
}

func (s shownCase) mark() int { return int(s.rank >> rankBits) }

const nMarks = 7

// maxShows bounds the cases that a cell names.
const maxShows = 12

func (t *tally) add(s shownCase) {
	t.marks[s.mark()]++
	at, _ := slices.BinarySearchFunc(t.shown, s, func(a, b shownCase) int { return cmp.Compare(a.rank, b.rank) })
	switch {
	case at == maxShows:
		return
	case len(t.shown) == maxShows:
		t.shown = t.shown[:maxShows-1]
	case len(t.shown) == cap(t.shown): // no more room than it takes
		t.shown = append(make([]shownCase, 0, min(max(1, 2*cap(t.shown)), maxShows)), t.shown...)
	}
	t.shown = slices.Insert(t.shown, at, s)
}

// lines is a set of lines: of each, by its place in Report.made, one bit.
type lines []uint64

func (l lines) with(id uint32) lines {
	for int(id/64) >= len(l) {
		l = append(l, 0)
	}
	l[id/64] |= 1 << (id % 64)
	return l
}

func (l lines) all() iter.Seq[uint32] {
	return func(yield func(uint32) bool) {
		for i, word := range l {
			for ; word != 0; word &= word - 1 {
				if !yield(uint32(64*i + bits.TrailingZeros64(word))) {
					return
				}
			}
		}
	}
}
