package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"obiter/internal/flaw"
	"obiter/internal/judge"
)

func (a *app) explainCommand() *cli.Command {
	return &cli.Command{
		Name:      "explain",
		Usage:     "what a finding or a rule means, why it matters, how to put it right",
		ArgsUsage: "[CODE]",
		Action: func(_ context.Context, c *cli.Command) error {
			switch c.Args().Len() {
			case 0:
				a.listCodes()
				return nil
			case 1:
				return a.explain(strings.ToLower(c.Args().First()), c.Args().First())
			}
			return usage("explain takes one finding or rule", "for example: obiter explain missed-field")
		},
	}
}

func (a *app) listCodes() {
	out := a.streams.Out
	fmt.Fprintln(out, a.look.bold("Findings"))
	t := newTable(2)
	for _, c := range judge.Codes {
		t.AppendRow([]any{c.Code, string(c.Severity), c.Title})
	}
	fmt.Fprint(out, rendered(t, 2))
	fmt.Fprintln(out, "\n"+a.look.bold("Rules"))
	var names []string
	for _, r := range flaw.Rules {
		names = append(names, r.Rule)
	}
	fmt.Fprintln(out, a.look.wrap(strings.Join(names, ", "), 2))
}

func (a *app) explain(code, typed string) error {
	out := a.streams.Out
	if c, ok := judge.Find(code); ok {
		fmt.Fprintln(out, a.look.severity(c.Severity, string(c.Severity)+" "+c.Code)+"  "+c.Title)
		if c.Cites != "" {
			fmt.Fprintln(out, a.look.dim(c.Cites))
		}
		for _, part := range []struct{ title, text string }{{"What it means", c.Means}, {"Why it matters", c.Matters}, {"How to put it right", c.Remedy}} {
			fmt.Fprintln(out, "\n"+a.look.bold(part.title)+"\n"+a.look.wrap(part.text, 2))
		}
		fmt.Fprintln(out, "\n"+a.look.bold("Right would be")+"\n  "+strings.ReplaceAll(c.Example, "\n", "\n  "))
		return nil
	}
	i := slices.IndexFunc(flaw.Rules, func(r flaw.About) bool { return strings.ToLower(r.Rule) == code })
	if i < 0 {
		return usage(fmt.Sprintf("%q is no finding and no rule", typed), nearest(code, codes(), "finding"))
	}
	r := flaw.Rules[i]
	fmt.Fprintln(out, a.look.bold(r.Rule)+"  a rule that requests break\n\n"+a.look.bold("How it is broken")+"\n"+a.look.wrap(r.Says, 2))
	return nil
}

// codes are what can be explained.
func codes() []string {
	var out []string
	for _, c := range judge.Codes {
		out = append(out, c.Code)
	}
	for _, r := range flaw.Rules {
		out = append(out, r.Rule)
	}
	return out
}
