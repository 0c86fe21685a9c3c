// Package render writes what a run came to for other programs and other readers. Its
// writers arrange nothing and decide nothing: causes, verdicts and totals are those of the
// report.
package render

import (
	"fmt"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

// Run is a judged run.
type Run struct {
	Head       record.Head
	Report     *report.Report
	Results    []Result // in the order of the plan
	Incomplete string   // why it is not all that was planned; "" where it is
	Program    string   // the version that judged it
}

// Result is what a report says of one case.
type Result struct {
	ID, Name, Operation string
	Number              int // place in the plan
	Seconds             float64
	Verdict             judge.Verdict
	Findings            []judge.Finding
	Sent, Answered      string        // the request line, and the status or why there is no answer
	Flaw                exchange.Flaw // the one that was planted, or the edge; of several the first. Its pointer has * for the entries of lists
}

// Results collects what reports say of cases. Texts that many have in common are kept
// once.
type Results struct {
	List []Result
	seen map[string]string
}

// maxSeen bounds the texts that are kept once.
const maxSeen = 100_000

// same is a text that was seen before, if it was.
func (r *Results) same(text *string) {
	if have, is := r.seen[*text]; is {
		*text = have
		return
	}
	if r.seen == nil {
		r.seen = map[string]string{}
	}
	if len(r.seen) < maxSeen {
		r.seen[*text] = *text
	}
}

// Add takes in a case with its answer.
func (r *Results) Add(res record.Result, _ judge.Judgement) {
	out := Of(res)
	for _, text := range []*string{&out.Operation, &out.Name, &out.Answered, &out.Flaw.In, &out.Flaw.Pointer, &out.Flaw.Rule, &out.Flaw.Variant} {
		r.same(text)
	}
	for i := range out.Findings {
		f := &out.Findings[i]
		for _, text := range []*string{&f.Code, &f.Message, &f.At, &f.Field, &f.Cites, &f.Variant} {
			r.same(text)
		}
	}
	if out.Verdict == judge.Pass {
		out.Sent = ""
	}
	r.List = append(r.List, out)
}

// Of is a case with its answer, as reports need it.
func Of(res record.Result) Result {
	out := Result{ID: res.ID, Name: res.Name, Operation: res.Operation, Number: res.Number, Seconds: res.Response.Took.Seconds(), Verdict: res.Verdict, Findings: res.Findings, Sent: res.Request.Method + " " + res.Request.URL, Answered: res.Response.Err}
	if res.Response.Err == "" {
		out.Answered = judge.StatusText(res.Response.Status)
	}
	switch {
	case res.Edge != nil:
		out.Flaw = *res.Edge
	case len(res.Flaws) > 0:
		out.Flaw = res.Flaws[0]
	}
	out.Flaw.Pointer, out.Flaw.Reason = instance.AnyIndex(out.Flaw.Pointer), ""
	if len(out.Sent) > maxSent {
		out.Sent = instance.Shorten(out.Sent, maxSent)
	}
	return out
}

// maxSent bounds a request line, in characters.
const maxSent = 300

// Known reports whether all that is wrong with a case is known.
func (r Result) Known() bool {
	known := false
	for _, f := range r.Findings {
		if f.Severity == judge.Error && !f.Known {
			return false
		}
		known = known || f.Known
	}
	return known
}

// mostSerious is the first finding that is an error, else the first; nil where there is none.
func mostSerious(found []judge.Finding) *judge.Finding {
	for i, f := range found {
		if f.Severity == judge.Error {
			return &found[i]
		}
	}
	if len(found) > 0 {
		return &found[0]
	}
	return nil
}

// Sentence says what the run came to.
func (r Run) Sentence() string {
	t := r.Report.Totals()
	out := fmt.Sprintf("%s cases: %s right, %s wrong", grouped(t.Cases), grouped(t.Passed), grouped(t.Failed))
	if t.Form > 0 {
		out += fmt.Sprintf(", %s wrong in form only", grouped(t.Form))
	}
	if t.Known > 0 {
		out += fmt.Sprintf(", %s known", grouped(t.Known))
	}
	if t.Unproven > 0 {
		out += fmt.Sprintf(", %s unproven", grouped(t.Unproven))
	}
	if r.Incomplete != "" {
		out += "; " + r.Incomplete
	}
	return out + "."
}

// where says in words where a cause is: its fields, or the place in the answer.
func where(e *report.Cause) string {
	switch {
	case len(e.Places) == 1:
		return " at " + e.Places[0]
	case len(e.Places) > 1:
		return fmt.Sprintf(" at %d fields", len(e.Places))
	case e.At != "" && !strings.Contains(e.At, "*"):
		return " at " + e.At
	}
	return ""
}

// visible is a text with what steers a terminal, what nobody sees, and what XML cannot
// carry (XML 1.0, section 2.2), escaped.
func visible(text string) string {
	hidden := func(r rune) bool { return r != '\n' && (instance.Unseen(r) || r == 0xfffe || r == 0xffff) }
	if !strings.ContainsFunc(text, hidden) {
		return strings.ToValidUTF8(text, "\uFFFD")
	}
	var b strings.Builder
	for _, r := range text {
		if hidden(r) {
			fmt.Fprintf(&b, `\u%04x`, r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}
