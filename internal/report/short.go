package report

import (
	"cmp"
	"encoding/binary"
	"slices"
)

// short keeps what a report has very often in little room: most of the memory of a large run
// is what is remembered of the fields of its operations.
type short struct {
	kinds map[kind]*kind
	texts map[string]string
	long  []string // ids of cases that are not of the usual length
}

// kind is a part of a request, with the rule or the column that something is about.
type kind struct{ in, what string }

// caseName is a case's id: ten characters, or the place of another one in short.long.
type caseName struct {
	text [usualID]byte
	long bool
}

const usualID = 10

// mostTexts bounds the texts that are kept once.
const mostTexts = 100_000

func newShort() short { return short{kinds: map[kind]*kind{}, texts: map[string]string{}} }

func (s *short) kind(in, what string) *kind {
	k := kind{in, what}
	if s.kinds[k] == nil {
		s.kinds[k] = &k
	}
	return s.kinds[k]
}

// text is an equal text, the same one each time.
func (s *short) text(text string) string {
	known, has := s.texts[text]
	if !has && len(s.texts) < mostTexts {
		s.texts[text] = text
		known = text
	}
	return cmp.Or(known, text)
}

func (s *short) name(id string) (out caseName) {
	if len(id) == usualID {
		copy(out.text[:], id)
		return out
	}
	out.long = true
	binary.BigEndian.PutUint64(out.text[:], uint64(len(s.long)))
	s.long = append(s.long, id)
	return out
}

func (s *short) id(name caseName) string {
	if name.long {
		return s.long[binary.BigEndian.Uint64(name.text[:])]
	}
	return string(name.text[:])
}

// spot is where a cell is.
type spot struct {
	line  *Line // of the operation
	kind  *kind // the part of the request, and the column
	field string
}

// tally is a Cell while cases come in.
type tally struct {
	shown []shownCase
	marks [nMarks]int32 // how many came to each of Marks
}

type shownCase struct {
	number int64
	name   caseName
	mark   uint8 // its place in Marks
}

const nMarks = 7

// maxShows bounds the cases that a cell names.
const maxShows = 12

func (t *tally) add(s shownCase) {
	t.marks[s.mark]++
	at, _ := slices.BinarySearchFunc(t.shown, s, func(a, b shownCase) int {
		return cmp.Or(cmp.Compare(a.mark, b.mark), cmp.Compare(a.number, b.number))
	})
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
