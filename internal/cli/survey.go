package cli

import (
	"context"
	"fmt"
	"runtime"

	"github.com/urfave/cli/v3"

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
	w := a.text()
	fmt.Fprintln(out, w.Heading(doc))
	w.Survey(s, p.Len(), fields)
	return nil
}
