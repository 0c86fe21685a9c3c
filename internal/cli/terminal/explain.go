package terminal

import (
	"fmt"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/rule"
	"obiter/internal/evaluate/judge"
)

func (w Printer) Codes() {
	out := w.Out
	fmt.Fprintln(out, w.Style.Bold("Findings"))
	t := NewTable(2)
	for _, c := range judge.Codes {
		t.AppendRow([]any{c.Code, string(c.Severity), c.Title})
	}
	fmt.Fprint(out, Rendered(t, 2))
	fmt.Fprintln(out, "\n"+w.Style.Bold("Rules"))
	var names []string
	for _, r := range rule.All {
		names = append(names, r.Name)
	}
	fmt.Fprintln(out, w.Style.Wrap(strings.Join(names, ", "), 2))
}

// ExpectedOf tells which statuses are right for a broken rule.
func ExpectedOf(r rule.Rule) string {
	var statuses []string
	for _, s := range r.Class.Statuses() {
		statuses = append(statuses, judge.StatusText(s))
	}
	text := strings.Join(statuses, ", or ")
	switch {
	case r.Class == exchange.Either:
		text += "; a success is right too"
	case r.Success == rule.Doubtful:
		text += "; a success is only a warning"
	}
	return text
}
