package cli

import (
	"fmt"
	"strings"

	"obiter/internal/judge"
	"obiter/internal/plan"
	"obiter/internal/report"
)

// reach is which operations were planned, and why others were not.
type reach struct {
	operations []string
	left       map[string]string
}

func (r *reach) finished(op *plan.Operation, l *report.Line) {
	if r.left == nil {
		r.left = map[string]string{}
	}
	r.operations = append(r.operations, l.Operation)
	if op.SkipReason != "" {
		r.left[l.Operation] = op.SkipReason
	}
}

// reach prints for each operation that it is reached, or what the service says and
// what to write, and how many are.
func (a *app) reach(rep *report.Report, r *reach) error {
	out := a.streams.Out
	refused := map[string][]*report.Entry{}
	for _, e := range rep.Entries() {
		if e.Code == "not-reached" || e.Code == "control-rejected" || e.Code == "no-answer" {
			for _, operation := range e.Operations {
				refused[operation] = append(refused[operation], e)
			}
		}
	}
	reached, errors := 0, 0
	for _, name := range r.operations {
		l, why := rep.Line(name), r.left[name]
		switch {
		case why != "":
			fmt.Fprintln(out, a.look.dim("  left out     "+clean(name)))
			fmt.Fprintln(out, a.look.dim(a.look.wrap(clean(why), 15)))
			continue
		case l.Passed > 0:
			reached++
			fmt.Fprintln(out, a.look.in(codeGreen, "  reached      ")+clean(name))
		default:
			fmt.Fprintln(out, a.look.in(codeYellow, "  not reached  ")+clean(name))
		}
		for _, e := range refused[name] {
			if e.Severity == judge.Error {
				errors++
			}
			fmt.Fprintln(out, a.look.wrap(clean(e.Examples[0].Message), 15))
			fmt.Fprintln(out, a.look.dim(strings.Repeat(" ", 15)+"show "+e.Examples[0].Case))
		}
	}
	fmt.Fprintf(out, "\n%d of %s reached.\n", reached, plural(len(r.operations)-len(r.left), "operation"))
	switch {
	case errors > 0:
		return &failure{exitFindings, "", ""}
	case reached == 0:
		return &failure{exitUnproved, "no valid request was accepted", "the service's words above say why"}
	}
	return nil
}
