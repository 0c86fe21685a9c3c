package cli

import (
	"fmt"
	"slices"
	"strings"

	"obiter/internal/judge"
	"obiter/internal/report"
)

// reached divides entries into what was found, and what was not reached, which is
// nobody's fault.
func reached(entries []*report.Entry) (found, missed []*report.Entry) {
	for _, e := range entries {
		if e.Code == "not-reached" {
			missed = append(missed, e)
		} else {
			found = append(found, e)
		}
	}
	return found, missed
}

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

// notReached prints which operations were not reached, and what each asks for.
func (a *app) notReached(missed []*report.Entry) {
	out := a.streams.Out
	if len(missed) > 0 {
		fmt.Fprintln(out, "\n"+a.look.bold("Not reached"))
	}
	for _, e := range missed {
		fmt.Fprintln(out, "\n  "+clean(e.Operation()))
		fmt.Fprintln(out, a.look.wrap(clean(e.Examples[0].Message), 4))
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
func (a *app) totals(rep *report.Report, found, missed []*report.Entry, file string) {
	t := rep.Totals()
	counts := map[judge.Severity]int{}
	for _, e := range found {
		counts[e.Severity]++
	}
	line := fmt.Sprintf("%s: %s passed, %s failed, %s unproven", plural(t.Cases, "case"), number(t.Passed), number(t.Failed), number(t.Unproven))
	switch {
	case len(found) == 0 && t.Unproven == 0 && t.Cases > 0:
		line = a.look.in(codeGreen, line)
	case counts[judge.Error] > 0:
		line = a.look.in(codeRed, line)
	}
	out := a.streams.Out
	fmt.Fprintln(out, "\n"+line)
	if t.Cases == 0 {
		return
	}
	var parts []string
	if len(found) > 0 {
		parts = append(parts, plural(counts[judge.Error], "cause")+" to fix")
	}
	for _, p := range []struct {
		count int
		word  string
	}{{counts[judge.Warning], "warning"}, {counts[judge.Note], "note"}, {len(missed), "refused valid request"}} {
		if p.count > 0 {
			parts = append(parts, plural(p.count, p.word))
		}
	}
	if len(parts) > 0 {
		fmt.Fprint(out, strings.Join(parts, ", ")+". ")
	}
	fmt.Fprintf(out, "The run is in %s.\n", file)
	if len(found) > 0 {
		first := slices.MinFunc(found, report.Gravest)
		fmt.Fprintf(out, "One case in full: obiter show %s. What a finding means: obiter explain %s.\n", first.Examples[0].Case, first.Code)
	}
}
