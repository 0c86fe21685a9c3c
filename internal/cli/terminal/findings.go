package terminal

import (
	"fmt"
	"strings"

	"obiter/internal/evaluate/judge"
	"obiter/internal/results/report"
)

// Reached divides entries into what was found, and what was not reached, which is
// nobody's fault. What is known is left out.
func Reached(entries []*report.Cause) (found, missed []*report.Cause) {
	for _, e := range entries {
		if e.Known {
			continue
		}
		if e.Code == "not-reached" {
			missed = append(missed, e)
		} else {
			found = append(found, e)
		}
	}
	return found, missed
}

// A report of more causes than manyCauses is cut after the first causesShown.
const (
	manyCauses  = 40
	causesShown = 20
)

// Findings prints what was found: a paragraph a cause, the most serious first.
func (w Printer) Findings(found []*report.Cause, all bool) {
	out := w.Out
	shown := found
	if len(found) > manyCauses && !all {
		shown = found[:causesShown]
	}
	for i, e := range shown {
		if e.Form && i > 0 && !shown[i-1].Form {
			fmt.Fprintln(out, "\n"+w.Style.Bold("How answers are written"))
		}
		fmt.Fprintln(out, "\n"+w.cause(e)+w.Style.Dim(" · "+Plural(e.Count, "answer")))
		fmt.Fprintln(out, w.Style.Wrap(Clean(JoinMax(e.Operations, 6)), 2))
		if len(e.Places) > 1 {
			fmt.Fprintln(out, w.Style.Wrap(Clean(JoinMax(shortly(e.Places), 12)), 2))
		}
		if e.Summary != "" {
			fmt.Fprintln(out, w.Style.Wrap(Clean(e.Summary), 2))
		}
		fmt.Fprintln(out, w.Style.Wrap(Clean(e.Examples[0].Message), 2))
		if e.Cites != "" {
			fmt.Fprintln(out, w.Style.Dim(w.Style.Wrap(e.Cites, 2)))
		}
		fmt.Fprintln(out, w.Style.Dim(w.Style.Wrap(caseList(e), 2)))
	}
	if more := len(found) - len(shown); more > 0 {
		fmt.Fprintf(out, "\nThese are the gravest %d; %d more: obiter judge --all\n", len(shown), more)
	}
}

// cause says in a few words what was found: its severity, its code, and where.
func (w Printer) cause(e *report.Cause) string {
	head := w.Style.Severity(e.Severity, string(e.Severity)+" "+e.Code)
	if e.Family != "" {
		head += " (" + e.Family + ")"
	}
	switch {
	case len(e.Places) == 1:
		head += " at " + Clean(e.Places[0])
	case len(e.Places) > 1:
		head += fmt.Sprintf(" at %d fields", len(e.Places))
	case e.At != "" && !strings.Contains(e.At, "*") && e.At != "Location":
		head += " at " + Clean(e.At)
	}
	return head
}

// shortly is a list of places without the part of the request where the one before
// has the same: body /name, /length_m, query limit.
func shortly(places []string) []string {
	var out []string
	last := ""
	for _, p := range places {
		part, rest, ok := strings.Cut(p, " ")
		if ok && part == last {
			out = append(out, rest)
			continue
		}
		out, last = append(out, p), part
	}
	return out
}

// Ranked prints the most serious of many causes once more, a line each, so that the
// end of a long report is enough to begin with.
func (w Printer) Ranked(found []*report.Cause) {
	const many, lines = 8, 10
	if len(found) <= many {
		return
	}
	fmt.Fprintln(w.Out, "\n"+w.Style.Bold("The gravest first"))
	for _, e := range found[:min(len(found), lines)] {
		fmt.Fprintln(w.Out, "  "+w.cause(e)+w.Style.Dim(" · "+Clean(JoinMax(e.Operations, 1))+" · show "+e.Examples[0].Case))
	}
}

// NotReached prints which operations were not reached, and what each asks for.
func (w Printer) NotReached(missed []*report.Cause) {
	out := w.Out
	if len(missed) > 0 {
		fmt.Fprintln(out, "\n"+w.Style.Bold("Not reached"))
	}
	for _, e := range missed {
		fmt.Fprintln(out, "\n  "+Clean(e.Operation()))
		fmt.Fprintln(out, w.Style.Wrap(Clean(e.Examples[0].Message), 4))
		fmt.Fprintln(out, w.Style.Dim(w.Style.Wrap(caseList(e), 4)))
	}
}

// JoinMax is a list with its end counted.
func JoinMax(list []string, n int) string {
	if len(list) <= n+1 {
		return strings.Join(list, ", ")
	}
	return strings.Join(list[:n], ", ") + fmt.Sprintf(" and %d more", len(list)-n)
}

// Learned says how the API names fields.
func (w Printer) Learned(rep *report.Report) {
	if rep.Own != "" {
		fmt.Fprintln(w.Out, "\n"+w.Style.Wrap("Rejections are "+rep.Own+" by configuration, and are not measured against RFC 9457.", 0))
	}
	if l := rep.Layout; l != nil {
		fmt.Fprintln(w.Out, "\n"+w.Style.Wrap(Clean(layoutSentence(*l)), 0))
	}
}

// layoutSentence says in a sentence or two how an API names fields.
func layoutSentence(l judge.Layout) string {
	had := "the " + Plural(l.Of, "rejection") + " that had to name one"
	switch {
	case l.Answers == 0 && l.Sentences > 0:
		return fmt.Sprintf("This API names fields only inside sentences (in %s of %s).", Number(l.Sentences), had)
	case l.Answers == 0:
		return "No answer has a place that names the field which was wrong, of " + had + "."
	}
	text := fmt.Sprintf("Fields are named at %s, as %s, in %s of %s.", judge.ShownWhere(l.Where), judge.NotationWords(l.Notation), Number(l.Answers), had)
	var others []string
	rest := l.Of - l.Answers - l.Sentences - l.Silent
	for _, w := range l.Others[:min(2, len(l.Others))] {
		others = append(others, fmt.Sprintf("%s at %s, as %s", Number(w.Answers), judge.ShownWhere(w.Where), judge.NotationWords(w.Notation)))
		rest -= w.Answers
	}
	for _, p := range []struct {
		count int
		words string
	}{{rest, "in another way"}, {l.Sentences, "only inside sentences"}, {l.Silent, "not at all"}} {
		if p.count > 0 {
			others = append(others, Number(p.count)+" "+p.words)
		}
	}
	if len(others) > 0 {
		text += " Otherwise: " + strings.Join(others, "; ") + "."
	}
	return text
}

func caseList(e *report.Cause) string {
	var ids []string
	for _, x := range e.Examples {
		ids = append(ids, x.Case)
	}
	text := "show " + strings.Join(ids, " ")
	if more := e.Count - len(ids); more > 0 {
		text += fmt.Sprintf(" and %s more", Number(more))
	}
	return text
}

// Totals prints the last lines of a run.
func (w Printer) Totals(rep *report.Report, found, missed []*report.Cause, file string) {
	t := rep.Totals()
	counts := map[judge.Severity]int{}
	for _, e := range found {
		counts[e.Severity]++
	}
	line := fmt.Sprintf("%s: %s right, %s wrong", Plural(t.Cases, "case"), Number(t.Passed), Number(t.Failed))
	if t.Form > 0 {
		line += fmt.Sprintf(", %s wrong in form only", Number(t.Form))
	}
	if t.Known > 0 {
		line += fmt.Sprintf(", %s known", Number(t.Known))
	}
	if t.Unproven > 0 {
		line += fmt.Sprintf(", %s unproven", Number(t.Unproven))
	}
	switch {
	case len(found) == 0 && t.Unproven == 0 && t.Cases > 0:
		line = w.Style.In(Green, line)
	case counts[judge.Error] > 0:
		line = w.Style.In(Red, line)
	}
	out := w.Out
	fmt.Fprintln(out, "\n"+line)
	if t.Cases == 0 {
		return
	}
	var parts []string
	if len(found) > 0 {
		parts = append(parts, Plural(counts[judge.Error], "cause")+" to fix")
	}
	for _, p := range []struct {
		count int
		word  string
	}{{counts[judge.Warning], "warning"}, {counts[judge.Note], "note"}, {len(missed), "refused valid request"}} {
		if p.count > 0 {
			parts = append(parts, Plural(p.count, p.word))
		}
	}
	if len(parts) > 0 {
		fmt.Fprint(out, strings.Join(parts, ", ")+". ")
	}
	if file != "" {
		fmt.Fprintf(out, "The run is in %s.\n", file)
	} else {
		fmt.Fprintln(out, "To look at single cases keep it: --save run.ndjson, then obiter show CASE --run run.ndjson.")
	}
	if len(found) > 0 && file != "" {
		first := found[0]
		fmt.Fprintf(out, "One case in full: obiter show %s. What a finding means: obiter explain %s.\n", first.Examples[0].Case, first.Code)
	}
}
