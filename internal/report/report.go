// Package report arranges the findings of a run so that one cause is one
// entry: the same code at the same field of the same operation, with the cases
// that show it. It holds counts and examples, not cases, so its size does not
// grow with the run.
package report

import (
	"cmp"
	"slices"

	"obiter/internal/exchange"
	"obiter/internal/judge"
	"obiter/internal/record"
)

// MaxExamples is how many cases an entry names.
const MaxExamples = 8

// Example is a case that shows a finding.
type Example struct {
	Case    string
	Name    string
	Message string
	number  int
}

// Entry is one cause.
type Entry struct {
	Operation string
	Code      string
	Severity  judge.Severity
	Field     string
	At        string
	Cites     string
	Count     int
	Examples  []Example // the first in the plan's order
}

// Line is one operation's outcome.
type Line struct {
	Operation                       string
	Cases, Passed, Failed, Unproven int
	Errors, Warnings                int    // findings
	ControlWords                    string // the first refused control's finding
}

// Report is a run's outcome, filled case by case.
type Report struct {
	Lines   []*Line
	entries map[entryKey]*Entry
	order   map[string]int
	proven  bool
}

type entryKey struct{ operation, code, field, at, severity, cause string }

// New makes an empty report.
func New() *Report {
	return &Report{entries: map[entryKey]*Entry{}, order: map[string]int{}}
}

// Line is the operation's line, made when first asked for.
func (r *Report) Line(operation string) *Line {
	i, ok := r.order[operation]
	if !ok {
		i = len(r.Lines)
		r.order[operation] = i
		r.Lines = append(r.Lines, &Line{Operation: operation})
	}
	return r.Lines[i]
}

// Add takes in a judged case.
func (r *Report) Add(res record.Result) {
	l := r.Line(res.Operation)
	l.Cases++
	switch res.Verdict {
	case judge.Pass:
		l.Passed++
		r.proven = r.proven || res.Kind == exchange.Control
	case judge.Fail:
		l.Failed++
	case judge.Unproven:
		l.Unproven++
	}
	for _, f := range res.Findings {
		if f.Severity == judge.Error {
			l.Errors++
		} else {
			l.Warnings++
		}
		if f.Code == "control-rejected" && l.ControlWords == "" {
			l.ControlWords = f.Message
		}
		r.add(res, f)
	}
}

func (r *Report) add(res record.Result, f judge.Finding) {
	at := f.At
	if f.Field != "" {
		at = "" // the place in the answer differs from case to case
	}
	k := entryKey{res.Operation, f.Code, f.Field, at, string(f.Severity), cause(res, f)}
	e := r.entries[k]
	if e == nil {
		e = &Entry{Operation: res.Operation, Code: f.Code, Severity: f.Severity, Field: f.Field, At: at, Cites: f.Cites}
		r.entries[k] = e
	}
	e.Count++
	e.Examples = append(e.Examples, Example{res.ID, res.Name, f.Message, res.Number})
	slices.SortStableFunc(e.Examples, func(a, b Example) int { return cmp.Compare(a.number, b.number) })
	if len(e.Examples) > MaxExamples {
		e.Examples = e.Examples[:MaxExamples]
	}
}

// cause tells apart findings of one code that concern no field: those of the
// answer's form by what is wrong with it, the others by the rule that was broken.
func cause(res record.Result, f judge.Finding) string {
	switch {
	case f.Code == "not-problem":
		return f.Message
	case f.Field != "" || f.At != "" || len(res.Flaws) != 1 || res.Flaws[0].In != "request":
		return ""
	}
	return res.Flaws[0].Rule
}

// Entries lists what was found: operations in the order of the run, in each the
// gravest first, and of equal ones in the order of the plan.
func (r *Report) Entries() []*Entry {
	out := make([]*Entry, 0, len(r.entries))
	for _, e := range r.entries {
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b *Entry) int {
		return cmp.Or(
			cmp.Compare(r.order[a.Operation], r.order[b.Operation]),
			cmp.Compare(judge.Rank(a.Code), judge.Rank(b.Code)),
			cmp.Compare(a.Examples[0].number, b.Examples[0].number),
			cmp.Compare(a.Field, b.Field), cmp.Compare(a.At, b.At), cmp.Compare(a.Severity, b.Severity),
		)
	})
	return out
}

// Totals adds up the lines.
func (r *Report) Totals() record.Totals {
	var t record.Totals
	for _, l := range r.Lines {
		t.Cases += l.Cases
		t.Passed += l.Passed
		t.Failed += l.Failed
		t.Unproven += l.Unproven
	}
	return t
}

// Errors counts findings that fail a run.
func (r *Report) Errors() int {
	n := 0
	for _, l := range r.Lines {
		n += l.Errors
	}
	return n
}

// Proven tells whether any control was accepted; without one a run proves nothing.
func (r *Report) Proven() bool { return r.proven }
