package cli

import (
	"fmt"
	"strings"

	"obiter/internal/judge"
	"obiter/internal/report"
)

// findings prints what was found: a paragraph a cause, under its operation.
func (a *app) findings(entries []*report.Entry) {
	out := a.streams.Out
	heading := ""
	for _, e := range entries {
		h := e.Operation()
		if n := len(e.Operations); n > 1 {
			h = "Several operations"
		}
		if h != heading {
			heading = h
			fmt.Fprintln(out, "\n"+a.look.bold(clean(h)))
		}
		fmt.Fprintln(out)
		head := a.look.severity(e.Severity, string(e.Severity)+" "+e.Code)
		switch {
		case len(e.Fields) == 1:
			head += " at " + clean(e.Fields[0])
		case len(e.Fields) > 1:
			head += fmt.Sprintf(" at %d fields", len(e.Fields))
		case e.At != "" && !strings.Contains(e.At, "*") && e.At != "Location":
			head += " at " + clean(e.At)
		}
		fmt.Fprintln(out, "  "+head+a.look.dim(" · "+plural(e.Count, "answer")))
		if len(e.Operations) > 1 {
			fmt.Fprintln(out, a.look.wrap(clean(some(e.Operations, 6)), 4))
		}
		if len(e.Fields) > 1 {
			fmt.Fprintln(out, a.look.wrap(clean(some(e.Fields, 12)), 4))
		}
		fmt.Fprintln(out, a.look.wrap(clean(e.Examples[0].Message), 4))
		if e.Cites != "" {
			fmt.Fprintln(out, a.look.dim(a.look.wrap(e.Cites, 4)))
		}
		fmt.Fprintln(out, a.look.dim(a.look.wrap(caseList(e), 4)))
	}
}

// some is a list with its end counted.
func some(list []string, n int) string {
	if len(list) <= n+1 {
		return strings.Join(list, ", ")
	}
	return strings.Join(list[:n], ", ") + fmt.Sprintf(" and %d more", len(list)-n)
}

// learned says how the API names fields.
func (a *app) learned(rep *report.Report) {
	l := rep.Layout
	if l == nil || l.Of == 0 {
		return
	}
	others := ""
	if n := l.Of - l.Answers; n > 0 {
		others = fmt.Sprintf("; %s in another way, or not at all", number(n))
	}
	fmt.Fprintln(a.streams.Out, "\n"+a.look.wrap(fmt.Sprintf("Fields are named at %s, as %s, in %s of the %s that had to name one%s.",
		judge.ShownWhere(l.Where), judge.NotationWords(l.Notation), number(l.Answers), plural(l.Of, "rejection"), others), 0))
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
func (a *app) totals(rep *report.Report, entries []*report.Entry, file string) {
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
		fmt.Fprintf(out, "%s to fix", plural(errors, "cause"))
		if warnings > 0 {
			fmt.Fprintf(out, ", %s", plural(warnings, "warning"))
		}
		fmt.Fprintf(out, ". The run is in %s.\nOne case in full: obiter show %s. What a finding means: obiter explain %s.\n", file, entries[0].Examples[0].Case, entries[0].Code)
	} else if t.Cases > 0 {
		fmt.Fprintf(out, "The run is in %s.\n", file)
	}
}
