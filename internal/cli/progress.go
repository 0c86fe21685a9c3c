package cli

import (
	"fmt"
	"io"
	"os"

	"github.com/schollz/progressbar/v3"
)

// progress shows how far a run is, on standard error where that is a terminal;
// elsewhere it does nothing.
type progress struct {
	bar *progressbar.ProgressBar
}

func newProgress(w io.Writer, operations int) *progress {
	if !isTerminal(w) || os.Getenv("TERM") == "dumb" {
		return &progress{}
	}
	bar := progressbar.NewOptions(operations,
		progressbar.OptionSetWriter(w), progressbar.OptionSetWidth(24), progressbar.OptionClearOnFinish(),
		progressbar.OptionSetPredictTime(false), progressbar.OptionThrottle(80_000_000),
		progressbar.OptionSetTheme(progressbar.Theme{Saucer: "=", SaucerHead: ">", SaucerPadding: " ", BarStart: "[", BarEnd: "]"}))
	return &progress{bar}
}

// sent tells how many cases were answered.
func (p *progress) sent(n int) {
	if p.bar != nil && n%16 == 0 {
		p.bar.Describe(fmt.Sprintf("%s answered", plural(n, "case")))
	}
}

// clear takes the bar off the screen, so that a line can be printed.
func (p *progress) clear() {
	if p.bar != nil {
		_ = p.bar.Clear()
	}
}

func (p *progress) operationDone() {
	if p.bar != nil {
		_ = p.bar.Add(1)
	}
}
