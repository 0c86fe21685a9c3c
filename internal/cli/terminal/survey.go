package terminal

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"obiter/internal/core/instance"
	"obiter/internal/generate/plan"
	"obiter/internal/generate/survey"
	"obiter/internal/input/oad"
)

func (w Printer) Heading(doc *oad.Document) string {
	title := strings.TrimSpace(Clean(doc.Title + " " + doc.Version))
	if title == "" {
		title = "(no title)"
	}
	return w.Style.Bold(title) + w.Style.Dim("  "+Clean(doc.Name)+", OpenAPI "+Clean(doc.OpenAPI))
}

// Survey prints what there is to break in so many selected operations.
func (w Printer) Survey(s survey.Survey, selected int, fields bool) {
	out := w.Out
	t := NewTable(2, 2, 3, 4, 5, 6)
	t.AppendHeader(table.Row{"operation", "fields", "rules", "controls", "flawed", "edges"})
	var details strings.Builder
	var skipped []string
	total, used := 0, 0
	for _, o := range s.Operations {
		if o.Skip != "" {
			skipped = append(skipped, o.Operation+"\x00"+o.Skip)
			continue
		}
		if o.Operation != plan.WholeAPI {
			used++
		}
		total += o.Controls + o.Flawed + o.Edges
		t.AppendRow(table.Row{Clean(o.Operation), len(o.Fields), o.Rules(), o.Controls, o.Flawed, o.Edges})
		if fields {
			details.WriteString(w.fieldTable(o))
		}
	}
	if used > 0 {
		fmt.Fprint(out, "\n"+Rendered(t, 2))
	}
	fmt.Fprint(out, details.String())
	w.list("Left out", skipped)
	w.gaps(s, fields)
	if used == 0 {
		fmt.Fprintln(out, "\nEvery operation is left out.")
		return
	}
	fmt.Fprintf(out, "\n%s from %s of %d.\n", Plural(total, "case"), Plural(used, "operation"), selected)
}

// maxNamed is how many places of a gap are named unless all are wanted.
const maxNamed = 3

// gaps prints the gaps, a line a kind with its first places, or all of them.
func (w Printer) gaps(s survey.Survey, all bool) {
	var notes []string
	for _, kind := range survey.Kinds {
		var places []string
		for _, g := range s.Gaps {
			if g.Kind == kind {
				places = append(places, strings.TrimSpace(strings.Join([]string{g.Operation, g.Field, g.Says}, " ")))
			}
		}
		for i, place := range places {
			left := ""
			if i == 0 {
				left = Number(len(places)) + " × " + kind
			}
			if i == maxNamed && !all && len(places) > maxNamed+1 {
				notes = append(notes, fmt.Sprintf("\x00and %s more (--fields names all)", Number(len(places)-i)))
				break
			}
			notes = append(notes, left+"\x00"+place)
		}
	}
	w.list("Gaps in the description", notes)
}

func (w Printer) fieldTable(o survey.Operation) string {
	t := NewTable(2)
	for _, f := range o.Fields {
		var rules []string
		for _, r := range f.Rules {
			rules = append(rules, r.Keyword+" "+r.Says)
		}
		t.AppendRow(table.Row{Clean(f.Name()), Clean(instance.Shorten(strings.Join(rules, ", "), 160))})
	}
	return "\n" + w.Style.Bold(Clean(o.Operation)) + "\n" + Rendered(t, 2)
}

// list prints notes under a heading; one with a NUL in it has two columns.
func (w Printer) list(heading string, notes []string) {
	if len(notes) == 0 {
		return
	}
	fmt.Fprintln(w.Out, "\n"+w.Style.Bold(heading))
	t := NewTable(2)
	for _, n := range notes {
		left, right, two := strings.Cut(n, "\x00")
		if two {
			t.AppendRow(table.Row{Clean(left), Clean(instance.Shorten(right, 200))})
		} else {
			t.AppendRow(table.Row{Clean(instance.Shorten(left, 240))})
		}
	}
	fmt.Fprint(w.Out, Rendered(t, 2))
}
