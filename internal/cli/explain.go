package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/rule"
	"obiter/internal/core/usage"
	"obiter/internal/evaluate/judge"
)

func (a *app) explainCommand() *cli.Command {
	return &cli.Command{
		Name:      "explain",
		Usage:     "what a finding or a rule means, why it matters, how to put it right",
		ArgsUsage: "[CODE]",
		Action: func(_ context.Context, c *cli.Command) error {
			switch c.Args().Len() {
			case 0:
				a.text().Codes()
				return nil
			case 1:
				return a.explain(strings.ToLower(c.Args().First()), c.Args().First())
			}
			return usage.New("explain takes one finding or rule", "for example: obiter explain missed-field")
		},
	}
}

func (a *app) explain(code, typed string) error {
	out := a.streams.Out
	if c, ok := judge.Find(code); ok {
		fmt.Fprintln(out, a.style.Severity(c.Severity, string(c.Severity)+" "+c.Code)+"  "+c.Title)
		if c.Cites != "" {
			fmt.Fprintln(out, a.style.Dim(c.Cites))
		}
		for _, part := range []struct{ title, text string }{{"What it means", c.Means}, {"Where it is not told", c.Spared}, {"Why it matters", c.Matters}, {"How to fix it", c.Remedy}} {
			fmt.Fprintln(out, "\n"+a.style.Bold(part.title)+"\n"+a.style.Wrap(part.text, 2))
		}
		fmt.Fprintln(out, "\n"+a.style.Bold("A correct answer")+"\n  "+strings.ReplaceAll(c.Example, "\n", "\n  "))
		return nil
	}
	i := slices.IndexFunc(rule.All, func(r rule.Rule) bool { return strings.ToLower(r.Name) == code })
	if i < 0 {
		return usage.New(fmt.Sprintf("unknown finding or rule %q", typed), nearest(code, codes(), "finding"))
	}
	r := rule.All[i]
	if r.Unbroken != "" {
		fmt.Fprintln(out, a.style.Bold(r.Name)+"  without flaws of its own\n\n"+a.style.Bold("Why")+"\n"+a.style.Wrap(r.Unbroken, 2))
		return nil
	}
	fmt.Fprintln(out, a.style.Bold(r.Name)+"  a rule that requests break\n\n"+a.style.Bold("How it is broken")+"\n"+a.style.Wrap(r.Says, 2))
	fmt.Fprintln(out, "\n"+a.style.Bold("Expected answer")+"\n"+a.style.Wrap(terminal.ExpectedOf(r), 2))
	return nil
}

// codes are what can be explained.
func codes() []string {
	var out []string
	for _, c := range judge.Codes {
		out = append(out, c.Code)
	}
	for _, r := range rule.All {
		out = append(out, r.Name)
	}
	return out
}
