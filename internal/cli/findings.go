package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"obiter/internal/judge"
	"obiter/internal/report"
)

// findings prints what was found: a paragraph a cause, under its operation.
func (a *app) findings(entries []*report.Entry) {
	out := a.streams.Out
	operation := ""
	for _, e := range entries {
		if e.Operation != operation {
			operation = e.Operation
			fmt.Fprintln(out, "\n"+a.look.bold(clean(operation)))
		}
		fmt.Fprintln(out)
		head := a.look.severity(e.Severity, string(e.Severity)+" "+e.Code)
		if e.Field != "" {
			head += " at " + clean(e.Field)
		} else if e.At != "" && e.At != "Location" {
			head += " at " + clean(e.At)
		}
		fmt.Fprintln(out, "  "+head+a.look.dim(" · "+plural(e.Count, "case")))
		first := e.Examples[0]
		fmt.Fprintln(out, a.look.wrap(clean(first.Message), 4))
		if e.Cites != "" {
			fmt.Fprintln(out, a.look.dim(a.look.wrap(e.Cites, 4)))
		}
		fmt.Fprintln(out, a.look.dim(a.look.wrap(caseList(e), 4)))
	}
}

func caseList(e *report.Entry) string {
	var ids []string
	for _, x := range e.Examples {
		ids = append(ids, x.Case)
	}
	text := "show " + strings.Join(ids, " ")
	if more := e.Count - len(ids); more > 0 {
		text += fmt.Sprintf(" and %s more", number(more))
	}
	return text
}

// totals prints the last lines of a run.
func (a *app) totals(rep *report.Report, entries []*report.Entry) {
	t := rep.Totals()
	errors, warnings := 0, 0
	for _, e := range entries {
		if e.Severity == judge.Error {
			errors++
		} else {
			warnings++
		}
	}
	line := fmt.Sprintf("%s: %s passed, %s failed, %s unproven", plural(t.Cases, "case"), number(t.Passed), number(t.Failed), number(t.Unproven))
	switch {
	case len(entries) == 0 && t.Unproven == 0 && t.Cases > 0:
		line = a.look.in(codeGreen, line)
	case errors > 0:
		line = a.look.in(codeRed, line)
	}
	out := a.streams.Out
	fmt.Fprintln(out, "\n"+line)
	if errors+warnings > 0 {
		fmt.Fprintf(out, "%s to put right", plural(errors, "cause"))
		if warnings > 0 {
			fmt.Fprintf(out, ", %s", plural(warnings, "warning"))
		}
		fmt.Fprintf(out, ". The run is kept in %s; one case in full: obiter show %s\n", filepath.Join(runFolder, lastRun), entries[0].Examples[0].Case)
	} else if t.Cases > 0 {
		fmt.Fprintf(out, "The run is kept in %s.\n", filepath.Join(runFolder, lastRun))
	}
}
