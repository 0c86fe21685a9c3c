package run

import (
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
)

// settledLines is what was judged while answers came in, by what is known in the end as well:
// that need not be read and judged again. Usually all answers are read alike soon after the
// first ones have come.
type settledLines struct {
	*collector                   // of what is settled; nil: nothing is as yet
	renew      func() *collector // makes an empty one
	epoch      int               // of what it was judged by
	from       int               // lines of what is stored before this one need judging again
	pending    []int             // so do these, in order
}

// take takes in a result that is about to be stored in a line.
func (s *settledLines) take(res *record.Result, j *judge.Judgement, line int) {
	if s.collector == nil || j.Epoch > s.epoch {
		s.collector, s.epoch, s.from, s.pending = s.renew(), j.Epoch, line, nil
	}
	// Which fields were named when they alone were wrong is known in the end.
	if j.Epoch < s.epoch || len(res.Flaws) > 1 {
		s.pending = append(s.pending, line)
		return
	}
	s.add(res, j)
}

// needsRejudging reports whether a line has to be judged again. Lines come in their order.
func (s *settledLines) needsRejudging(line int) bool {
	for len(s.pending) > 0 && s.pending[0] < line {
		s.pending = s.pending[1:]
	}
	return line < s.from || len(s.pending) > 0 && s.pending[0] == line
}
