package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"obiter/internal/core/exchange"
	"obiter/internal/core/rule"
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
	fmt.Fprintln(out, a.style.bold("Findings"))
	t := newTable(2)
	for _, c := range judge.Codes {
		t.AppendRow([]any{c.Code, string(c.Severity), c.Title})
	}
	fmt.Fprint(out, rendered(t, 2))
	fmt.Fprintln(out, "\n"+a.style.bold("Rules"))
	var names []string
	for _, r := range rule.All {
		names = append(names, r.Name)
	}
	fmt.Fprintln(out, a.style.wrap(strings.Join(names, ", "), 2))
}

func (a *app) explain(code, typed string) error {
	out := a.streams.Out
	if c, ok := judge.Find(code); ok {
		fmt.Fprintln(out, a.style.severity(c.Severity, string(c.Severity)+" "+c.Code)+"  "+c.Title)
		if c.Cites != "" {
			fmt.Fprintln(out, a.style.dim(c.Cites))
		}
		for _, part := range []struct{ title, text string }{{"What it means", c.Means}, {"Where it is not told", c.Spared}, {"Why it matters", c.Matters}, {"How to fix it", c.Remedy}} {
			fmt.Fprintln(out, "\n"+a.style.bold(part.title)+"\n"+a.style.wrap(part.text, 2))
		}
		fmt.Fprintln(out, "\n"+a.style.bold("A correct answer")+"\n  "+strings.ReplaceAll(c.Example, "\n", "\n  "))
		return nil
	}
	i := slices.IndexFunc(rule.All, func(r rule.Rule) bool { return strings.ToLower(r.Name) == code })
	if i < 0 {
		return usage(fmt.Sprintf("unknown finding or rule %q", typed), nearest(code, codes(), "finding"))
	}
	r := rule.All[i]
	if r.Unbroken != "" {
		fmt.Fprintln(out, a.style.bold(r.Name)+"  without flaws of its own\n\n"+a.style.bold("Why")+"\n"+a.style.wrap(r.Unbroken, 2))
		return nil
	}
	fmt.Fprintln(out, a.style.bold(r.Name)+"  a rule that requests break\n\n"+a.style.bold("How it is broken")+"\n"+a.style.wrap(r.Says, 2))
	fmt.Fprintln(out, "\n"+a.style.bold("Expected answer")+"\n"+a.style.wrap(expectedOf(r), 2))
	return nil
}

// expectedOf tells which statuses are right for a broken rule.
func expectedOf(r rule.Rule) string {
	var statuses []string
	for _, s := range r.Class.Statuses() {
		statuses = append(statuses, judge.StatusText(s))
	}
	text := strings.Join(statuses, ", or ")
	switch {
	case r.Class == exchange.Either:
		text += "; a success is right too"
	case r.Success == rule.Doubtful:
		text += "; a success is only a warning"
	}
	return text
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
