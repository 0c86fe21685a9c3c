package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/usage"
	"obiter/internal/execute/files"
	"obiter/internal/execute/session"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

func (a *app) judgeCommand() *cli.Command {
	return &cli.Command{
		Name:      "judge",
		Usage:     "judge the answers of a run again, or those of a capture; sends nothing",
		ArgsUsage: "[FILE...]",
		Description: "Reads a run file, judges every answer in it anew, and reports what is found. The run file is\n" +
			"the last run's where none is named. Several are read as one: shards of one plan, runs of several\n" +
			"services, or a run with what was tried again later. With --save the outcome is kept as another run file.\n\n" +
			"Captures are judged too: HTTP archives (HAR 1.2), as browsers, proxies and test suites save them, and\n" +
			"single problem documents; - is standard input. With a description each request is matched to its\n" +
			"operation: an invalid one that was accepted, refused with another status, or without its fields named\n" +
			"is told as if Obiter had sent it. Without one, the form of all refusals is judged.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "description", Usage: "match captured requests to the operations of this `FILE` (default: that of obiter.yaml, or the usual names)"},
			configFlag(),
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text; json: the findings as one document; ndjson: the run file, judged again"},
			&cli.StringFlag{Name: "save", Usage: "keep the run, judged again, in `FILE`"},
			forceFlag(),
			failOnFlag(),
			allFlag(),
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if err := oneOf("--format", c.String("format"), "text", "json", "ndjson"); err != nil {
				return err
			}
			if err := oneOf("--fail-on", c.String("fail-on"), failOn...); err != nil {
				return err
			}
			if c.String("fail-on") == "new" {
				return usage.New("judge does not know what is new", "obiter compare tells, and exits with 1 if anything is newly wrong")
			}
			return a.judgeNamed(c)
		},
	}
}

// judgeNamed judges what is named: runs or captures.
func (a *app) judgeNamed(c *cli.Command) error {
	names := runsNamed(c)
	if c.Args().Len() == 0 {
		return a.judge(names, nil, c)
	}
	folder, err := os.MkdirTemp("", "obiter-judge-")
	if err != nil {
		return fmt.Errorf("making a folder for what is captured: %w", err)
	}
	defer os.RemoveAll(folder)
	found, err := session.CapturesNamed(names, a.streams.In, folder)
	if err != nil {
		return err
	}
	if found == nil {
		if c.IsSet("description") {
			return usage.New("--description is for captures, and "+names[0]+" is a run file", "leave it out: a run file has what is known of its cases")
		}
		return a.judge(names, nil, c)
	}
	file, err := a.transcribed(c, found, folder)
	if err != nil {
		return err
	}
	return a.judge([]string{file}, found, c)
}

// allFlag is the option of what reports causes.
func allFlag() cli.Flag {
	return &cli.BoolFlag{Name: "all", Usage: "print every cause, however many there are"}
}

// judge judges run files as one. What they were made of is told where it is captures.
func (a *app) judge(names []string, of *session.Captures, c *cli.Command) error {
	save, format, failOn, all := c.String("save"), c.String("format"), c.String("fail-on"), c.Bool("all")
	r, err := a.openKnown(names)
	if err != nil {
		return err
	}
	defer r.Close()
	var writers []io.Writer
	if save != "" {
		if err := files.Replaceable(save, c.Bool("force"), nil); err != nil {
			return err
		}
		out, err := createCopy(r, save)
		if err != nil {
			return err
		}
		defer out.Close()
		writers = append(writers, out)
	}
	if format == "ndjson" {
		writers = append(writers, a.streams.Out)
	}
	if _, err := r.Read(); err != nil { // which makes the head
		return err
	}
	a.warnOf(r)
	head := r.Head()
	var rep *report.Report
	if len(writers) > 0 {
		rep, err = r.Write(io.MultiWriter(writers...), nil)
	} else {
		rep, err = r.Judge(nil, nil)
	}
	if err != nil {
		return err
	}
	if format == "text" {
		if why := r.Incomplete(); why != "" {
			fmt.Fprintln(a.streams.Out, a.style.In(terminal.Yellow, "Not complete: "+why+"."))
		}
		a.judged(nameOf(r), of, head, rep)
	}
	kept := nameOf(r)
	if of != nil {
		kept = ""
	}
	if save != "" {
		kept = save
	}
	return a.outcome(result{captured: of != nil, report: rep, format: format, description: head.Description, at: head.At, file: kept, incomplete: r.Incomplete(), all: all, failOn: failOn}, nil)
}

// judged prints which run was judged again, and a line for each operation.
func (a *app) judged(name string, of *session.Captures, head record.Head, rep *report.Report) {
	out := a.streams.Out
	if of != nil {
		fmt.Fprintln(out, a.style.Bold("Judged: "+terminal.Clean(head.At))+a.style.Dim("  "+terminal.Clean(head.Description)))
	} else {
		fmt.Fprintln(out, a.style.Bold("Judged again: "+terminal.Clean(name))+a.style.Dim("  "+terminal.Clean(head.Description+", at "+head.At+", "+head.Started)))
	}
	fmt.Fprintln(out)
	width := 0
	for _, l := range rep.Lines {
		width = terminal.NameWidth(width, l.Operation)
	}
	for _, l := range rep.Lines {
		fmt.Fprintln(out, "  "+a.text().OperationLine(l, "", width))
	}
}

// createCopy makes an output file, which may not be one that is read.
func createCopy(in *session.Runs, save string) (*os.File, error) {
	if is, err := os.Stat(save); err == nil && in.Reads(is) {
		return nil, usage.New("--save names the run file that is read", "name another file")
	}
	out, err := os.OpenFile(save, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, usage.New(fmt.Sprintf("cannot write %s: %v", save, errors.Unwrap(err)), "name a file in a folder that exists")
	}
	return out, nil
}

func forceFlag() cli.Flag {
	return &cli.BoolFlag{Name: "force", Usage: "replace files that Obiter did not write, too"}
}
