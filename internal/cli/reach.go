package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/usage"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/files"
	"obiter/internal/execute/session"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/learn/advise"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

// reach is which operations were planned, and why others were not.
type reach struct {
	operations []string
	left       map[string]string
	adviser    advise.Adviser
	notes      []sources.Note
}

func newReach(conf *sources.Sources, doc *oad.Document) *reach {
	return &reach{left: map[string]string{}, adviser: advise.Adviser{Config: conf, Document: doc}}
}

func (r *reach) finished(op *plan.Operation, l *report.Line) {
	r.operations = append(r.operations, l.Operation)
	if op.SkipReason != "" {
		r.left[l.Operation] = op.SkipReason
	}
}

// reach prints for each operation that it is reached, or what was sent, what the
// service says and what to write, and how many are.
func (a *app) reach(rep *report.Report, r *reach, file string) error {
	out := a.streams.Out
	entries := map[string][]*report.Cause{}
	for _, e := range rep.Entries() {
		if e.Code == "not-reached" || e.Code == "control-rejected" || e.Code == "no-answer" {
			for _, operation := range e.Operations {
				entries[operation] = append(entries[operation], e)
			}
		}
	}
	refused := refusedControls(file)
	reached, errors := 0, 0
	told := map[string]bool{} // which refused records were told of in full
	for name := range refused {
		told["it needs a record of "+name] = true
	}
	dim := func(text string) { fmt.Fprintln(out, a.style.Dim(a.style.Wrap(terminal.Clean(text), 15))) }
	for _, name := range r.operations {
		l, why := rep.Line(name), a.secrets.Redact(r.left[name])
		switch {
		case why != "":
			fmt.Fprintln(out, a.style.Dim("  left out     "+terminal.Clean(name)))
			if lead, _, long := strings.Cut(why, ", and the record was refused: "); long && told[lead] {
				why = lead + ", which was refused"
			} else {
				told[lead] = true
			}
			dim(why)
			if !strings.HasPrefix(why, "it needs a record of") { // what is written for that one counts
				r.tell(r.adviser.LeftOut(name), dim)
			}
			continue
		case l.Passed > 0:
			reached++
			fmt.Fprintln(out, a.style.In(terminal.Green, "  reached      ")+terminal.Clean(name))
		default:
			fmt.Fprintln(out, a.style.In(terminal.Yellow, "  not reached  ")+terminal.Clean(name))
		}
		for _, e := range entries[name] {
			if e.Severity == judge.Error {
				errors++
			}
		}
		e, was := refused[name]
		if l.Passed == 0 && was {
			fmt.Fprintln(out, a.style.Wrap(terminal.Clean("refused with "+judge.StatusText(e.Response.Status)+judge.Reasons(e.Case, e.Response)), 15))
			dim("sent   " + sentLine(e.Request))
			r.tell(r.adviser.Refused(e.Case, e.Response), dim)
			dim("show " + e.ID)
			continue
		}
		for _, e := range entries[name] {
			fmt.Fprintln(out, a.style.Wrap(terminal.Clean(e.Examples[0].Message), 15))
			dim("show " + e.Examples[0].Case)
		}
	}
	fmt.Fprintf(out, "\n%d of %s reached.\n", reached, terminal.Plural(len(r.operations)-len(r.left), "operation"))
	switch {
	case errors > 0:
		return &failure{exitFindings, "", ""}
	case reached == 0:
		return &failure{exitUnproved, "no valid request was accepted", "the service's words above say why"}
	}
	return nil
}

// tell prints what to write into the configuration, and remembers it.
func (r *reach) tell(notes []sources.Note, print func(string)) {
	for _, n := range notes {
		print("write  " + n.Section + ": " + n.Text())
	}
	r.notes = append(r.notes, notes...)
}

// refusedControls are the first valid requests of a run that were refused, by
// their operations.
func refusedControls(file string) map[string]record.Result {
	out := map[string]record.Result{}
	f, r, err := session.OpenOne(file)
	if err != nil {
		return out
	}
	defer f.Close()
	for res, err := range r.Results() {
		if err != nil {
			break
		}
		if _, has := out[res.Operation]; !has && res.Kind == exchange.Control && res.Response.Err == "" && !res.Response.Success() {
			out[res.Operation] = res
		}
	}
	return out
}

// sentLine is a request in a line: its query, its own headers and its body as well.
func sentLine(r exchange.Request) string {
	const most = 300
	text := r.Method + " " + r.URL
	for _, h := range r.Headers {
		if h[0] != "Accept" && h[0] != "Content-Type" {
			text += "  " + h[0] + ": " + h[1]
		}
	}
	if len(r.Body) > 0 {
		text += "  " + strings.ToValidUTF8(string(r.Body), "\uFFFD")
	}
	return instance.Shorten(text, most)
}

// writeNotes puts what would reach more into the configuration, as comments at their
// places; where there is none, a draft is begun.
func (a *app) writeNotes(name string, doc *oad.Document, notes []sources.Note) error {
	src, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		src, err = []byte(sources.Draft(doc, doc.Name)), nil
	}
	if err != nil {
		return usage.New(fmt.Sprintf("cannot read the configuration %s: %v", name, errors.Unwrap(err)), "name a file that can be read")
	}
	if len(bytes.TrimSpace(src)) == 0 {
		src = []byte("{}\n")
	}
	text, added, err := sources.Noted(name, src, notes)
	if err != nil {
		return err
	}
	if added == 0 {
		fmt.Fprintf(a.streams.Out, "Nothing is new for %s.\n", terminal.Clean(name))
		return nil
	}
	if err := files.Swap(name, text); err != nil {
		return usage.New(fmt.Sprintf("cannot write the configuration %s: %v", name, err), "make it writable")
	}
	fmt.Fprintf(a.streams.Out, "%s added to %s, as comments: correct what is right, and remove its #.\n", terminal.Plural(added, "proposal"), terminal.Clean(name))
	return nil
}
