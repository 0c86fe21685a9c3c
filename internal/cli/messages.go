package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/usage"
	"obiter/internal/results/render"
	"obiter/internal/results/report"
)

func (a *app) messagesCommand() *cli.Command {
	return &cli.Command{
		Name:      "messages",
		Usage:     "what the service says of each field and rule, one line each",
		ArgsUsage: "[RUN...]",
		Description: "Reads a run file, the last run's where none is named, and lists the words of each rejection of one\n" +
			"wrong field. What stands out: the same rule in several wordings, nothing said, and a limit that is not\n" +
			"named. --as-config prints the words as a block for obiter.yaml, with which a later run tells each change.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text, csv or json"},
			&cli.BoolFlag{Name: "as-config", Usage: "print the messages as messages: in obiter.yaml"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if err := oneOf("--format", c.String("format"), "text", "csv", "json"); err != nil {
				return err
			}
			if c.Bool("as-config") && c.IsSet("format") {
				return usage.New("--as-config goes without --format", "it prints YAML")
			}
			return a.messages(runsNamed(c), c.String("format"), c.Bool("as-config"))
		},
	}
}

func (a *app) messages(names []string, format string, asConfig bool) error {
	r, err := a.session().Open(names...)
	if err != nil {
		return err
	}
	defer r.Close()
	rep, err := r.Judge(nil, nil)
	if err != nil {
		return err
	}
	a.warnOf(r)
	list := rep.Messages()
	switch {
	case asConfig:
		fmt.Fprint(a.streams.Out, terminal.Contract(list))
	case format == "json":
		return render.JSON(a.streams.Out, struct {
			Obiter   int              `json:"obiter"`
			Messages []report.Message `json:"messages"`
		}{1, append([]report.Message{}, list...)})
	case format == "csv":
		return terminal.WriteCSV(a.streams.Out, list)
	default:
		a.text().Messages(list)
	}
	return nil
}
