package terminal

import (
	"fmt"
	"io"
	"os"
	"time"

	"github.com/schollz/progressbar/v3"
)

// Progress shows how far a run is, on standard error: a bar where that is a terminal,
// elsewhere a line now and then. A nil one shows nothing.
type Progress struct {
	bar        *progressbar.ProgressBar // nil: lines
	w          io.Writer
	now        func() time.Time
	begun      time.Time
	told       time.Time // of the last line
	total      int       // operations
	operations int       // that are done
	wrong      int       // cases of these
}

// tellEvery is how often there is a line where there is no bar.
const tellEvery = 10 * time.Second

func NewProgress(w io.Writer, operations int) *Progress {
	p := &Progress{w: w, now: time.Now, total: operations}
	p.begun = p.now()
	p.told = p.begun
	if IsTerminal(w) && os.Getenv("TERM") != "dumb" {
		p.bar = progressbar.NewOptions(operations,
			progressbar.OptionSetWriter(w), progressbar.OptionSetWidth(24), progressbar.OptionClearOnFinish(),
			progressbar.OptionSetPredictTime(false), progressbar.OptionThrottle(80_000_000),
			progressbar.OptionSetTheme(progressbar.Theme{Saucer: "=", SaucerHead: ">", SaucerPadding: " ", BarStart: "[", BarEnd: "]"}))
	}
	return p
}

// Sent tells how many cases were answered.
func (p *Progress) Sent(n int) {
	switch {
	case p == nil:
	case p.bar != nil && n%16 == 0:
		p.bar.Describe(p.says(n))
	case p.bar == nil && p.now().Sub(p.told) >= tellEvery:
		p.told = p.now()
		fmt.Fprintf(p.w, "%s; %d of %s done\n", p.says(n), p.operations, Plural(p.total, "operation"))
	}
}

// says is how far the run is: how many cases, how fast, how many of them wrong, and about
// how long it still takes, if the operations to come are like those that are done.
func (p *Progress) says(n int) string {
	took := p.now().Sub(p.begun)
	text := Plural(n, "case") + " answered"
	if took >= time.Second {
		text += fmt.Sprintf(", %s a second", Number(int(float64(n)/took.Seconds()+0.5)))
	}
	if p.wrong > 0 {
		text += fmt.Sprintf(", %s wrong so far", Number(p.wrong))
	}
	if p.operations > 0 && took >= 5*time.Second {
		left := time.Duration(float64(took) / float64(p.operations) * float64(p.total-p.operations))
		text += ", about " + left.Round(time.Second).String() + " left"
	}
	return text
}

// Clear takes the bar off the screen, so that a line can be printed.
func (p *Progress) Clear() {
	if p != nil && p.bar != nil {
		_ = p.bar.Clear()
	}
}

// OperationDone counts an operation and its cases that are wrong.
func (p *Progress) OperationDone(wrong int) {
	if p == nil {
		return
	}
	p.operations, p.wrong = p.operations+1, p.wrong+wrong
	if p.bar != nil {
		_ = p.bar.Add(1)
	}
}
