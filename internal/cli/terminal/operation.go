package terminal

import (
	"fmt"
	"io"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/results/report"
)

// OperationLine is an operation's outcome on one line, or why it was left out.
func (w Printer) OperationLine(l *report.Line, skipped string, width int) string {
	name := Clean(l.Operation)
	name += strings.Repeat(" ", max(0, width-len([]rune(name))))
	if skipped != "" {
		return w.Style.Dim(name + "  " + Clean(instance.Shorten(w.Redact(skipped), 160)))
	}
	cases := "cases"
	if l.Cases == 1 {
		cases = "case "
	}
	line := fmt.Sprintf("%s  %5s %s  %5s right", name, Number(l.Cases), cases, Number(l.Passed))
	if l.Failed > 0 {
		line += w.Style.In(Red, fmt.Sprintf("  %5s wrong", Number(l.Failed)))
	}
	if l.Form > 0 {
		line += w.Style.In(Yellow, fmt.Sprintf("  %5s wrong in form only", Number(l.Form)))
	}
	if l.Known > 0 {
		line += fmt.Sprintf("  %5s known", Number(l.Known))
	}
	if l.Unproven > 0 {
		line += w.Style.In(Yellow, fmt.Sprintf("  %5s unproven", Number(l.Unproven)))
	}
	return line
}

// Revised prints the lines of operations that came to something else in the end.
func (w Printer) Revised(words io.Writer, lines []*report.Line) {
	fmt.Fprintln(words, "\n"+w.Style.Wrap("By what all answers taught of how fields are named here, these came to something else:", 0))
	width := 0
	for _, l := range lines {
		width = NameWidth(width, l.Operation)
	}
	for _, l := range lines {
		fmt.Fprintln(words, "  "+w.OperationLine(l, "", width))
	}
}

// NameWidth is how wide a column of names is with one more name in it.
func NameWidth(width int, name string) int { return min(max(width, len([]rune(name))), 60) }
