package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/execute/trial"
)

func (a *app) undoCommand() *cli.Command {
	return &cli.Command{
		Name:      "undo",
		Usage:     "take away the records that a run left which was ended by force",
		ArgsUsage: "[DESCRIPTION]",
		Description: "A run takes away what it made. One that is killed cannot; what it made is noted in .obiter/made.ndjson,\n" +
			"and taken away by the next run or by this command. A record is only removed if the service still shows\n" +
			"what was made.",
		Flags: append(append([]cli.Flag{configFlag()}, serviceFlags()...),
			&cli.BoolFlag{Name: "unseen", Usage: "delete, too, what no GET shows, or of which it does not show what tells it from others"}),
		Action: a.undo,
	}
}

func (a *app) undo(ctx context.Context, c *cli.Command) error {
	conf, doc, err := a.prepared(c)
	if err != nil {
		return err
	}
	opt, err := a.serviceOptions(c, conf, doc)
	if err != nil {
		return err
	}
	gone, out, err := trial.Undo(ctx, opt, c.Bool("unseen"), a.events(a.streams.Out, doc, opt.Base))
	switch {
	case err != nil:
		return err
	case gone == 0 && out.Left == 0:
		fmt.Fprintln(a.streams.Out, "No earlier run left anything at "+terminal.Clean(opt.Base.String())+".")
	case gone > 0:
		fmt.Fprintf(a.streams.Out, "%s taken away.\n", terminal.Plural(gone, "record"))
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if out.Left > 0 {
		return &failure{exitFindings, terminal.Plural(out.Left, "record") + " could not be deleted", "the lines “not deleted:” tell which and why"}
	}
	return nil
}
