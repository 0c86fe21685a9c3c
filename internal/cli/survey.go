package cli

import (
	"context"
	"fmt"
	"runtime"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"obiter/internal/core/instance"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/plan"
	"obiter/internal/generate/survey"
	"obiter/internal/input/oad"
	"obiter/internal/results/render"
)

func (a *app) surveyCommand() *cli.Command {
	return &cli.Command{
		Name:      "survey",
		Usage:     "what there is to break: operations, fields, rules, and the gaps",
		ArgsUsage: "[DESCRIPTION]",
		Flags: append(planFlags(),
			&cli.BoolFlag{Name: "fields", Usage: "list every field with its rules"},
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text or json"}),
		Action: func(_ context.Context, c *cli.Command) error {
			if err := oneOf("--format", c.String("format"), "text", "json"); err != nil {
				return err
			}
			conf, doc, err := a.prepared(c)
			if err != nil {
				return err
			}
			opt, err := planOptions(c, conf, "")
			if err != nil {
				return err
			}
			return a.survey(doc, trial.Configured(opt, doc, conf, nil), c.Bool("fields"), c.String("format") == "json")
		},
	}
}

func (a *app) heading(doc *oad.Document) string {
	title := strings.TrimSpace(clean(doc.Title + " " + doc.Version))
	if title == "" {
		title = "(no title)"
	}
	return a.style.bold(title) + a.style.dim("  "+clean(doc.Name)+", OpenAPI "+clean(doc.OpenAPI))
}

func (a *app) survey(doc *oad.Document, opt plan.Options, fields, asJSON bool) error {
	p, err := a.planned(doc, opt)
	if err != nil {
		return err
	}
	s := survey.Of(doc, p, runtime.GOMAXPROCS(0))
	out := a.streams.Out
	if asJSON {
		return render.JSON(out, s)
	}
	fmt.Fprintln(out, a.heading(doc))
	t := newTable(2, 2, 3, 4, 5, 6)
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
		t.AppendRow(table.Row{clean(o.Operation), len(o.Fields), o.Rules(), o.Controls, o.Flawed, o.Edges})
		if fields {
			details.WriteString(a.fieldTable(o))
		}
	}
	if used > 0 {
		fmt.Fprint(out, "\n"+rendered(t, 2))
	}
	fmt.Fprint(out, details.String())
	a.list("Left out", skipped)
	a.gaps(s, fields)
	if used == 0 {
		fmt.Fprintln(out, "\nEvery operation is left out.")
		return nil
	}
	fmt.Fprintf(out, "\n%s from %s of %d.\n", plural(total, "case"), plural(used, "operation"), p.Len())
	return nil
}

// maxNamed is how many places of a gap are named unless all are wanted.
const maxNamed = 3

// gaps prints the gaps, a line a kind with its first places, or all of them.
func (a *app) gaps(s survey.Survey, all bool) {
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
				left = number(len(places)) + " × " + kind
			}
			if i == maxNamed && !all && len(places) > maxNamed+1 {
				notes = append(notes, fmt.Sprintf("\x00and %s more (--fields names all)", number(len(places)-i)))
				break
			}
			notes = append(notes, left+"\x00"+place)
		}
	}
	a.list("Gaps in the description", notes)
}

func (a *app) fieldTable(o survey.Operation) string {
	t := newTable(2)
	for _, f := range o.Fields {
		var rules []string
		for _, r := range f.Rules {
			rules = append(rules, r.Keyword+" "+r.Says)
		}
		t.AppendRow(table.Row{clean(f.Name()), clean(instance.Shorten(strings.Join(rules, ", "), 160))})
	}
	return "\n" + a.style.bold(clean(o.Operation)) + "\n" + rendered(t, 2)
}

// list prints notes under a heading; one with a NUL in it has two columns.
func (a *app) list(heading string, notes []string) {
	if len(notes) == 0 {
		return
	}
	fmt.Fprintln(a.streams.Out, "\n"+a.style.bold(heading))
	t := newTable(2)
	for _, n := range notes {
		left, right, two := strings.Cut(n, "\x00")
		if two {
			t.AppendRow(table.Row{clean(left), clean(instance.Shorten(right, 200))})
		} else {
			t.AppendRow(table.Row{clean(instance.Shorten(left, 240))})
		}
	}
	fmt.Fprint(a.streams.Out, rendered(t, 2))
}
