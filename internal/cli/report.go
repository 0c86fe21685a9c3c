package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/usage"
	"obiter/internal/execute/files"
	"obiter/internal/results/record"
	"obiter/internal/results/render"
)

func (a *app) reportCommand() *cli.Command {
	return &cli.Command{
		Name:      "report",
		Usage:     "write a run, or several as one, as a report; sends nothing",
		ArgsUsage: "[RUN...]",
		Description: "Reads a run file, the last run's where none is named, judges it again, and writes what comes of it.\n" +
			"Several are read as one: shards of one plan, runs of several services, or a run with what was tried\n" +
			"again later. The format follows the ending of the file:\n" + strings.ReplaceAll(render.FormatHelp(), ", ", ",\n") + ".",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "out", Usage: "write to `FILE` (repeatable); - is standard output, and needs --as"},
			&cli.StringFlag{Name: "as", Usage: "the format, where the ending does not say it: " + strings.Join(render.FormatNames(), ", ")},
			forceFlag(),
		},
		Action: func(_ context.Context, c *cli.Command) error {
			names := runsNamed(c)
			if len(c.StringSlice("out")) == 0 {
				return usage.New("no file: name it with --out", "for example --out obiter.xml")
			}
			reports, err := reportsTo(c.StringSlice("out"), c.String("as"), c.Bool("force"), names)
			if err != nil {
				return err
			}
			return a.writeReports(names, reports)
		},
	}
}

// reportTo is a report that is to be written.
type reportTo struct {
	name   string
	format render.Format
}

// stdoutName stands for standard output.
const stdoutName = "-"

// reportsTo looks, before anything is done, whether each report can be written: its format
// is known, and there is a folder for it. The run is the file that is read.
func reportsTo(names []string, as string, force bool, runs []string) ([]reportTo, error) {
	if as != "" {
		if err := oneOf("--as", as, render.FormatNames()...); err != nil {
			return nil, err
		}
	}
	var out []reportTo
	for _, name := range names {
		format, known := render.FormatOf(as, name)
		if !known {
			return nil, usage.New(fmt.Sprintf("the name %q does not say a format", name), "end it in "+strings.Join(endings(), ", ")+"; or name the format with --as")
		}
		if name != stdoutName {
			if err := files.Writable(name, force, runs); err != nil {
				return nil, err
			}
		}
		out = append(out, reportTo{name, format})
	}
	return out, nil
}

// endings are the usual ones of all formats.
func endings() (out []string) {
	for _, f := range render.Formats {
		out = append(out, f.Endings[0])
	}
	return out
}

// ending is that of a file's name, as formats are named by it.
func ending(name string) string { return strings.ToLower(filepath.Ext(name)) }

// writeReports judges run files as one and writes reports of them.
func (a *app) writeReports(names []string, reports []reportTo) error {
	r, err := a.openKnown(names)
	if err != nil {
		return err
	}
	defer r.Close()
	var results render.Results
	rep, err := r.Judge(nil, results.Add)
	if err != nil {
		return err
	}
	a.warnOf(r)
	slices.SortStableFunc(results.List, func(a, b render.Result) int { return cmp.Compare(a.Number, b.Number) })
	of := render.Run{Head: r.Head(), Report: rep, Results: results.List, Incomplete: r.Incomplete(), Program: version()}
	more := render.More{Exchanges: func(each func(record.Result)) error { return r.Exchanges(of, each) }, Logs: r.Logs}
	for _, to := range reports {
		if err := a.writeReport(to.name, func(w io.Writer) error { return to.format.Write(w, of, more) }); err != nil {
			return err
		}
	}
	return nil
}

// writeReport writes one report: all of it, or nothing.
func (a *app) writeReport(name string, write func(w io.Writer) error) error {
	if name == stdoutName {
		return write(a.streams.Out)
	}
	if err := files.Replace(name, write); err != nil {
		return usage.New(fmt.Sprintf("cannot write %s: %v", name, err), "make room, or name another file")
	}
	if !a.quiet {
		fmt.Fprintln(a.streams.Err, "written: "+terminal.Clean(name))
	}
	return nil
}
