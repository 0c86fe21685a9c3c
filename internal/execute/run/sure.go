package run

import (
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
)

// sure is what was judged while answers came in, by what is known in the end as well: that
// need not be read and judged again. Usually all answers are read alike soon after the
// first ones have come.
type sure struct {
	*collector                   // of what is sure; nil: nothing is as yet
	renew      func() *collector // makes an empty one
	epoch      int               // of what it was judged by
	from       int               // lines of what is kept before this one are not sure
	late       []int             // nor are these, in order
}

// take takes in a result that is about to be kept in a line.
func (s *sure) take(res *record.Result, j *judge.Judgement, line int) {
	if s.collector == nil || j.Epoch > s.epoch {
		s.collector, s.epoch, s.from, s.late = s.renew(), j.Epoch, line, nil
	}
	// Which fields were named when they alone were wrong is known in the end.
	if j.Epoch < s.epoch || len(res.Flaws) > 1 {
		s.late = append(s.late, line)
		return
	}
	s.add(res, j)
}

// unsure reports whether a line has to be judged again. Lines come in their order.
func (s *sure) unsure(line int) bool {
	for len(s.late) > 0 && s.late[0] < line {
		s.late = s.late[1:]
	}
	return line < s.from || len(s.late) > 0 && s.late[0] == line
}
