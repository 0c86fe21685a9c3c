package run

import (
	"cmp"
	"sync"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
	"obiter/internal/evaluate/layout"
	"obiter/internal/input/config"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

// collector judges exchanges, arranges what is found, and stores it, whether they
// have just come or are read from a run file. It is for one goroutine at a time: in a run the
// scheduler guards it.
type collector struct {
	judge   *judge.Run
	report  *report.Report
	record  *record.Writer // nil: nothing is kept
	each    Each           // is told each case; nil: nobody is
	known   Known
	settled *settledLines       // what need not be judged again in the end; nil: all is
	logs    map[string][]string // what the service logged, by case

	arranged bool                // the operations are described before the cases, in the order of the plan
	again    func(line int) bool // tells which lines are judged again; nil: all

	err error // the first of storing; nothing is stored after it
}

// Known are causes that are counted apart, and the day, as 2027-01-31.
type Known struct {
	Causes []config.Known
	Day    string
}

func newCollector(at *layout.Layout, w *record.Writer, known Known, rep *report.Report) *collector {
	c := &collector{judge: judge.NewRun(at), report: rep, record: w, known: known}
	c.report.Own = at.OwnMediaType()
	c.report.Accept(known.Causes, known.Day)
	return c
}

// successor is an empty one that knows what this one learned.
func (c *collector) successor(known *layout.Layout, rep *report.Report) *collector {
	out := newCollector(known, nil, c.known, rep)
	out.judge = c.judge.CloneLearned()
	return out
}

// lines are buffers for lines that are written.
var lines = sync.Pool{New: func() any { return new([]byte) }}

// written is a line that is to be stored; nil: the result is written when it is.
type written struct {
	buffer *[]byte
	err    error
}

// write writes the line of a result. It needs nothing that changes, and takes a while.
func (c *collector) write(e *exchange.Exchange, j *judge.Judgement) written {
	if c.record == nil || len(c.known.Causes) > 0 { // then it is not known yet which findings are known
		return written{}
	}
	w := written{buffer: lines.Get().(*[]byte)}
	*w.buffer, w.err = record.Written((*w.buffer)[:0], e, j.Verdict, j.Findings)
	return w
}

func (w written) free() {
	if w.buffer != nil {
		lines.Put(w.buffer)
	}
}

// result takes in an exchange with its judgement, and the line that was written of it. False
// after an error.
func (c *collector) result(e *exchange.Exchange, j judge.Judgement, line written) bool {
	if c.err = cmp.Or(c.err, line.err); c.err != nil {
		return false
	}
	res := &record.Result{Exchange: *e, Verdict: j.Verdict, Findings: j.Findings}
	if c.settled != nil {
		c.judge.Control(e)
		c.report.Count(res)
		c.settled.take(res, &j, c.record.Lines())
	} else {
		c.add(res, &j)
	}
	if c.each != nil {
		c.each(*res, j)
	}
	if c.record == nil {
		return true
	}
	if line.buffer != nil {
		c.err = c.record.Copy(*line.buffer)
	} else {
		c.err = c.record.Result(*res)
	}
	if logged := c.logs[e.ID]; len(logged) > 0 && j.Verdict != judge.Pass && c.err == nil {
		c.err = c.record.Log(record.Log{Case: e.ID, Lines: logged})
	}
	return c.err == nil
}

func (c *collector) add(res *record.Result, j *judge.Judgement) {
	c.judge.Add(&res.Exchange, j)
	c.report.Add(res)
	c.report.AddAnswer(&res.Exchange, j)
}

func (c *collector) keep(write func(*record.Writer) error) {
	if c.record != nil && c.err == nil {
		c.err = write(c.record)
	}
}

// judgeLater notes whether the line that is about to be kept is judged in the end.
func (c *collector) judgeLater(needed bool) {
	if needed && c.settled != nil {
		c.settled.pending = append(c.settled.pending, c.record.Lines())
	}
}

// described takes in what the description has of an operation.
func (c *collector) described(d exchange.Described) {
	c.keep(func(w *record.Writer) error { return w.Operation(d) })
	c.report.AddOperation(d)
}

// repeated takes in a rejected case that was sent twice.
func (c *collector) repeated(r record.Repeat) {
	c.keep(func(w *record.Writer) error {
		c.judgeLater(!judge.Same(r.First, r.Second))
		return w.Repeat(r.Case, r.First, r.Second)
	})
	if c.settled == nil { // else it is judged in the end
		c.judge.Repeated(r.Case, r.First, r.Second)
	}
}

// closing takes in a control that was sent again after the flawed requests.
func (c *collector) closing(e exchange.Exchange) {
	c.keep(func(w *record.Writer) error {
		c.judgeLater(judge.Spoilt(e.Case, e.Response))
		return w.Closing(e.Case, e.Response)
	})
	c.judge.Closing(e.Case, e.Response)
}

// state takes in what a rejected case made of a resource.
func (c *collector) state(s record.State) {
	c.keep(func(w *record.Writer) error { return w.State(s.Case, s.Seen) })
	c.judge.State(s.Case, s.Seen)
}

// end takes in what only the whole run shows.
func (c *collector) end(keep bool) {
	for _, f := range c.judge.Findings() {
		c.report.AddRun(f)
		if keep {
			c.keep(func(w *record.Writer) error { return w.Finding(f) })
		}
	}
	if learned, ok := c.judge.Learned(); ok {
		c.report.Layout = &learned
	}
}

// Judge judges a run that was kept, and keeps what comes of it in another file,
// w, where that is not nil. The run is read twice, from its beginning each time it
// is opened: to learn how the API names fields, and to judge. A run that was judged
// by the same program gives the same lines between the first and the last. The
// error is one of reading, which is a *record.FileError, or of keeping.
func Judge(open func() (*record.Reader, error), w *record.Writer) (*report.Report, error) {
	return JudgeEach(open, w, nil, Known{})
}

// Each is told a case with all that judging it gave.
type Each func(record.Result, judge.Judgement)

// JudgeEach is Judge; each is told every case as it is judged, unless it is nil.
func JudgeEach(open func() (*record.Reader, error), w *record.Writer, each Each, known Known) (*report.Report, error) {
	r, err := open()
	if err != nil {
		return nil, err
	}
	c := newCollector(r.Head.Layout, w, known, report.New())
	c.each = each
	if err := c.learnFrom(r); err != nil {
		return c.report, err
	}
	return c.report, c.finish(open)
}

// learn learns from a run that was kept.
func (c *collector) learn(open func() (*record.Reader, error)) error {
	r, err := open()
	if err != nil {
		return err
	}
	return c.learnFrom(r)
}

func (c *collector) learnFrom(r *record.Reader) error {
	for res, err := range r.Results() {
		if err != nil {
			return err
		}
		c.judge.Learn(&res.Exchange)
	}
	return nil
}

// finish judges a run that was kept and learned from, as far as that was not done yet.
func (c *collector) finish(open func() (*record.Reader, error)) error {
	r, err := open()
	if err != nil {
		return err
	}
	r.Select(c.again)
	c.judge.FinishLearning()
	for l, err := range r.Lines() {
		switch {
		case err != nil:
			return err
		case l.Raw != nil:
			c.keep(func(w *record.Writer) error { return w.Copy(l.Raw) })
		case l.Result != nil:
			e := &l.Result.Exchange
			j := c.judge.Case(e)
			line := c.write(e, &j)
			c.result(e, j, line)
			line.free()
		case l.Operation != nil:
			if !c.arranged {
				c.described(*l.Operation)
			}
		case l.Log != nil:
			c.keep(func(w *record.Writer) error { return w.Log(*l.Log) })
		case l.Repeat != nil:
			c.repeated(*l.Repeat)
		case l.Closing != nil:
			c.closing(*l.Closing)
		case l.State != nil:
			c.state(*l.State)
		}
		if c.err != nil {
			return c.err
		}
	}
	c.end(true)
	return c.err
}
