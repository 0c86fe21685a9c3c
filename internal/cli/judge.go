package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"

	"obiter/internal/record"
	"obiter/internal/report"
	"obiter/internal/run"
	"obiter/internal/trial"
)

func (a *app) judgeCommand() *cli.Command {
	return &cli.Command{
		Name:      "judge",
		Usage:     "judge the answers of a run again; sends nothing",
		ArgsUsage: "[RUN]",
		Description: "Reads a run file, judges every answer in it anew, and reports what is found. The run file is\n" +
			"the last run's where none is named. With --save the outcome is kept as another run file.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text; json: the findings as one document; ndjson: the run file, judged again"},
			&cli.StringFlag{Name: "save", Usage: "keep the run, judged again, in `FILE`"},
			allFlag(),
		},
		Action: func(_ context.Context, c *cli.Command) error {
			name, err := runNamed(c, "judge them one after the other")
			if err != nil {
				return err
			}
			if err := known("--format", c.String("format"), "text", "json", "ndjson"); err != nil {
				return err
			}
			return a.judge(name, c.String("save"), c.String("format"), c.Bool("all"))
		},
	}
}

// runNamed is the run file that a command names, or the last run's. It reads one; the hint
// says what to do with several.
func runNamed(c *cli.Command, hint string) (string, error) {
	if c.Args().Len() > 1 {
		return "", usage(fmt.Sprintf("%s reads one run file, and %q is a second one", c.Name, c.Args().Get(1)), hint)
	}
	if name := c.Args().First(); name != "" {
		return name, nil
	}
	return trial.LastRun(""), nil
}

// allFlag is the option of what reports causes.
func allFlag() cli.Flag {
	return &cli.BoolFlag{Name: "all", Usage: "print every cause, however many there are"}
}

func (a *app) judge(name, save, format string, all bool) error {
	f, r, err := openRun(name)
	if err != nil {
		return err
	}
	defer f.Close()
	var writers []io.Writer
	if save != "" {
		out, err := createCopy(f, name, save)
		if err != nil {
			return err
		}
		defer out.Close()
		writers = append(writers, out)
	}
	if format == "ndjson" {
		writers = append(writers, a.streams.Out)
	}
	head := r.Head
	head.Program = version()
	var w *record.Writer
	if len(writers) > 0 {
		if w, err = record.NewWriter(io.MultiWriter(writers...), head); err != nil {
			return err
		}
	}
	rep, err := run.Judge(fromStart(f, &r), w)
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	interrupted := r.Totals == nil || r.Totals.Interrupted
	if w != nil {
		totals := rep.Totals()
		totals.Layout, totals.Interrupted = rep.Layout, interrupted
		if err := w.Close(totals); err != nil {
			return err
		}
	}
	if format == "text" {
		a.judged(name, r.Head, rep)
	}
	kept := name
	if save != "" {
		kept = save
	}
	return a.outcome(result{report: rep, format: format, description: r.Head.Description, at: r.Head.At, file: kept, interrupted: interrupted, all: all}, nil)
}

// judged prints which run was judged again, and a line for each operation.
func (a *app) judged(name string, head record.Head, rep *report.Report) {
	out := a.streams.Out
	fmt.Fprintln(out, a.look.bold("Judged again: "+clean(name))+a.look.dim("  "+clean(head.Description+", at "+head.At+", "+head.Started)))
	fmt.Fprintln(out)
	width := 0
	for _, l := range rep.Lines {
		width = nameWidth(width, l.Operation)
	}
	for _, l := range rep.Lines {
		fmt.Fprintln(out, "  "+a.operationLine(l, "", width))
	}
}

// openRun opens a run file and reads its first line.
func openRun(name string) (*os.File, *record.Reader, error) {
	info, err := os.Stat(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil, usage("there is no run file "+name, "make one with: obiter try")
	}
	if err == nil && !info.Mode().IsRegular() { // it is read twice, and a pipe may never end
		return nil, nil, usage(name+" is not a regular file", "save its contents to a file first")
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, nil, usage(fmt.Sprintf("cannot read the run file %s: %v", name, errors.Unwrap(err)), "")
	}
	r, err := record.NewReader(f)
	if err != nil {
		f.Close()
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	return f, r, nil
}

// fromStart opens an open run file anew at its beginning, each time; the reader is the
// last one.
func fromStart(f *os.File, r **record.Reader) func() (*record.Reader, error) {
	return func() (*record.Reader, error) {
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		fresh, err := record.NewReader(f)
		*r = fresh
		return fresh, err
	}
}

// createCopy makes an output file, which may not be the one that is read.
func createCopy(in *os.File, name, save string) (*os.File, error) {
	was, err := in.Stat()
	if is, e := os.Stat(save); err == nil && e == nil && os.SameFile(was, is) {
		return nil, usage("--save names the run file that is read", "name another file")
	}
	out, err := os.OpenFile(save, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, usage(fmt.Sprintf("cannot write %s: %v", save, errors.Unwrap(err)), "name a file in a folder that exists")
	}
	return out, nil
}
