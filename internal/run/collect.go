package run

import (
	"sync"

	"obiter/internal/config"
	"obiter/internal/exchange"
	"obiter/internal/judge"
	"obiter/internal/layout"
	"obiter/internal/record"
	"obiter/internal/report"
)

// collector judges exchanges, arranges what is found, and keeps it, whether they
// have just come or are read from a run file. It is safe for concurrent use.
type collector struct {
	judge  *judge.Run
	report *report.Report
	record *record.Writer // nil: nothing is kept
	each   Each           // is told each case; nil: nobody is
	known  Known
	logs   map[string][]string // what the service logged, by case

	mu  sync.Mutex
	err error // the first of keeping; nothing is kept after it
}

// Known are causes that are counted apart, and the day, as 2027-01-31.
type Known struct {
	Causes []config.Known
	Day    string
}

func newCollector(at *layout.Layout, w *record.Writer, known Known) *collector {
	c := &collector{judge: judge.NewRun(at), report: report.New(), record: w, known: known}
	c.report.Own = at.OwnMediaType()
	c.report.Accept(known.Causes, known.Day)
	return c
}

// successor is an empty one that knows what this one learned.
func (c *collector) successor(known *layout.Layout, w *record.Writer) *collector {
	out := newCollector(known, w, c.known)
	out.judge = c.judge.Successor()
	return out
}

func (c *collector) failed() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.err != nil
}

// result takes in an exchange with its judgement; and is called while nothing
// else is taken in. False after an error.
func (c *collector) result(e exchange.Exchange, j judge.Judgement, and func()) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.err != nil {
		return false
	}
	res := record.Result{Exchange: e, Verdict: j.Verdict, Findings: j.Findings}
	c.judge.Add(e, j)
	c.report.Add(res)
	c.report.AddAnswer(e, j)
	if c.each != nil {
		c.each(res, j)
	}
	and()
	if c.record != nil {
		c.err = c.record.Result(res)
		if lines := c.logs[e.ID]; len(lines) > 0 && j.Verdict != judge.Pass && c.err == nil {
			c.err = c.record.Log(record.Log{Case: e.ID, Lines: lines})
		}
	}
	return c.err == nil
}

func (c *collector) keep(write func(*record.Writer) error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.record != nil && c.err == nil {
		c.err = write(c.record)
	}
}

// described takes in what the description has of an operation.
func (c *collector) described(d exchange.Described) {
	c.keep(func(w *record.Writer) error { return w.Operation(d) })
	c.report.AddOperation(d)
}

// repeated takes in a rejected case that was sent twice.
func (c *collector) repeated(r record.Repeat) {
	c.keep(func(w *record.Writer) error { return w.Repeat(r.Case, r.First, r.Second) })
	c.judge.Repeated(r.Case, r.First, r.Second)
}

// closing takes in a control that was sent again after the flawed requests.
func (c *collector) closing(e exchange.Exchange) {
	c.keep(func(w *record.Writer) error { return w.Closing(e.Case, e.Response) })
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
	c := newCollector(r.Head.Layout, w, known)
	c.each = each
	for res, err := range r.Results() {
		if err != nil {
			return c.report, err
		}
		c.judge.Learn(res.Exchange)
	}
	return c.report, c.again(open)
}

// again judges a run that was kept and learned from.
func (c *collector) again(open func() (*record.Reader, error)) error {
	r, err := open()
	if err != nil {
		return err
	}
	c.judge.Settle()
	for l, err := range r.Lines() {
		switch {
		case err != nil:
			return err
		case l.Result != nil:
			e := l.Result.Exchange
			c.result(e, c.judge.Case(e), func() {})
		case l.Operation != nil:
			c.described(*l.Operation)
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
