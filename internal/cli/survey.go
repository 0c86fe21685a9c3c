package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"obiter/internal/exchange"
	"obiter/internal/flaw"
	"obiter/internal/oad"
	"obiter/internal/plan"
)

func (a *app) surveyCommand() *cli.Command {
	return &cli.Command{
		Name:      "survey",
		Usage:     "what there is to break: operations, fields, rules, and the gaps",
		ArgsUsage: "[DESCRIPTION]",
		Flags:     append(planFlags(), &cli.BoolFlag{Name: "fields", Usage: "list every field with its rules"}),
		Action: func(_ context.Context, c *cli.Command) error {
			doc, err := a.description(c)
			if err != nil {
				return err
			}
			opt, err := planOptions(c, "")
			if err != nil {
				return err
			}
			return a.survey(doc, opt, c.Bool("fields"))
		},
	}
}

// tally counts an operation's cases by kind.
func tally(op *plan.Operation) map[exchange.Kind]int {
	out := map[exchange.Kind]int{}
	for c := range op.Cases() {
		out[c.Kind]++
	}
	return out
}

func (a *app) heading(doc *oad.Document) string {
	title := strings.TrimSpace(clean(doc.Title + " " + doc.Version))
	if title == "" {
		title = "(no title)"
	}
	return a.look.bold(title) + a.look.dim("  "+clean(doc.Name)+", OpenAPI "+clean(doc.OpenAPI))
}

func (a *app) survey(doc *oad.Document, opt plan.Options, fields bool) error {
	p, err := plan.New(doc, opt)
	if err != nil {
		return err
	}
	out := a.streams.Out
	fmt.Fprintln(out, a.heading(doc))
	t := newTable(2, 2, 3, 4, 5, 6)
	t.AppendHeader(table.Row{"operation", "fields", "rules", "controls", "flawed", "edges"})
	var details strings.Builder
	var skipped, gaps []string
	total, used := 0, 0
	for op := range p.Operations() {
		if op.SkipReason != "" {
			skipped = append(skipped, op.Name()+"\x00"+op.SkipReason)
			continue
		}
		used++
		list := fieldsOf(op)
		rules := 0
		for _, f := range list {
			rules += len(f.Shape.Rules())
		}
		n := tally(op)
		total += n[exchange.Control] + n[exchange.Flawed] + n[exchange.Edge]
		t.AppendRow(table.Row{clean(op.Name()), len(list), rules, n[exchange.Control], n[exchange.Flawed], n[exchange.Edge]})
		gaps = append(gaps, op.Rejected...)
		gaps = append(gaps, unchecked(op, list)...)
		if fields {
			details.WriteString(a.fieldTable(op, list))
		}
	}
	if used > 0 {
		fmt.Fprint(out, "\n"+rendered(t, 2))
	}
	fmt.Fprint(out, details.String())
	a.list("Left out", skipped)
	a.list("Gaps", gaps)
	if used == 0 {
		fmt.Fprintln(out, "\nNo operation has parameters or a body to break.")
		return nil
	}
	fmt.Fprintf(out, "\n%s from %s of %d.\n", plural(total, "case"), plural(used, "operation"), p.Len())
	return nil
}

// field is a field of a request, where it is, and its rules.
type field struct {
	In string
	flaw.Field
}

func (f field) name() string {
	switch {
	case f.Pointer == "":
		return "(" + f.In + ")"
	case f.In != "body":
		return f.In + " " + f.Pointer
	}
	return f.Pointer
}

func fieldsOf(op *plan.Operation) []field {
	var out []field
	for _, part := range op.Parts {
		for _, f := range part.Fields() {
			if f.Pointer != "" || part.In == "body" {
				out = append(out, field{part.In, f})
			}
		}
	}
	return out
}

// unchecked names patterns and formats that nothing here can check.
func unchecked(op *plan.Operation, fields []field) []string {
	var out []string
	for _, f := range fields {
		for _, u := range f.Shape.Unchecked {
			if u == "format password" || u == "format binary" {
				continue // they constrain nothing
			}
			out = append(out, fmt.Sprintf("%s\x00%s: %s is not checked", op.Name(), f.name(), u))
		}
	}
	return out
}

func (a *app) fieldTable(op *plan.Operation, fields []field) string {
	t := newTable(2)
	for _, f := range fields {
		var rules []string
		for _, r := range f.Shape.Rules() {
			rules = append(rules, r.Keyword+" "+r.Says)
		}
		t.AppendRow(table.Row{clean(f.name()), clean(shortened(strings.Join(rules, ", "), 160))})
	}
	return "\n" + a.look.bold(clean(op.Name())) + "\n" + rendered(t, 2)
}

// list prints notes under a heading; one with a NUL in it has two columns.
func (a *app) list(heading string, notes []string) {
	if len(notes) == 0 {
		return
	}
	fmt.Fprintln(a.streams.Out, "\n"+a.look.bold(heading))
	t := newTable(2)
	for _, n := range notes {
		left, right, two := strings.Cut(n, "\x00")
		if two {
			t.AppendRow(table.Row{clean(left), clean(shortened(right, 200))})
		} else {
			t.AppendRow(table.Row{clean(shortened(left, 240))})
		}
	}
	fmt.Fprint(a.streams.Out, rendered(t, 2))
}

func shortened(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-3]) + "..."
	}
	return s
}
