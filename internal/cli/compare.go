package cli

import (
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/usage"
	"obiter/internal/execute/files"
	"obiter/internal/execute/session"
	"obiter/internal/results/compare"
	"obiter/internal/results/record"
	"obiter/internal/results/render"
)

func (a *app) compareCommand() *cli.Command {
	return &cli.Command{
		Name:      "compare",
		Usage:     "what was put right, what is newly wrong, what merely changed between two runs; sends nothing",
		ArgsUsage: "[OLDER [NEWER]]",
		Description: "Judges both runs again and tells what is otherwise, cause by cause. Where one file is named it is the\n" +
			"older run, and the newer is the last one; where none is, the last run is compared with the one before.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text, json, or md: Markdown for a comment on a change"},
			&cli.StringSliceFlag{Name: "report", Usage: "write the difference to `FILE`, too (repeatable): .html a page with the answers side by side, .md Markdown, .json"},
			allFlag(),
			forceFlag(),
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if err := oneOf("--format", c.String("format"), "text", "json", "md"); err != nil {
				return err
			}
			names := c.Args().Slice()
			switch len(names) {
			case 0:
				names = []string{store.Previous(), store.Last()}
			case 1:
				names = append(names, store.Last())
			case 2:
			default:
				return usage.New(fmt.Sprintf("compare reads two runs, and %q is a third one", names[2]), "merge shards first: obiter judge --save run.ndjson SHARD...")
			}
			return a.compare(names[0], names[1], c.String("format"), c.StringSlice("report"), c.Bool("all"), c.Bool("force"))
		},
	}
}

// compared judges a run file for comparing.
func (a *app) compared(name string) (*compare.Run, *session.Runs, error) {
	r, err := a.session().Open(name)
	if err != nil {
		return nil, nil, err
	}
	out := compare.New()
	rep, err := r.Judge(nil, out.Add)
	if err != nil {
		return nil, nil, errors.Join(err, r.Close())
	}
	for _, f := range rep.RunFindings() {
		out.AddRun(f)
	}
	return out, r, nil
}

// differenceFormats are what a difference is written as, by the ending of the file.
var differenceFormats = map[string]string{".html": "html", ".htm": "html", ".md": "md", ".json": "json"}

func (a *app) compare(older, newer, format string, reports []string, all, force bool) error {
	type output struct{ name, format string }
	var to []output
	for _, name := range reports {
		kind := differenceFormats[ending(name)]
		if kind == "" {
			return usage.New(fmt.Sprintf("the name %q does not say a format", name), "end it in .html, .md or .json")
		}
		if err := files.Writable(name, force, []string{older, newer}); err != nil {
			return err
		}
		to = append(to, output{name, kind})
	}
	if older == "" {
		return usage.New("there is no earlier run in this folder", "make another one with: obiter try")
	}
	was, wasRuns, err := a.compared(older)
	if err != nil {
		return err
	}
	defer wasRuns.Close()
	is, isRuns, err := a.compared(newer)
	if err != nil {
		return err
	}
	defer isRuns.Close()
	d := compare.Of(was, is)
	if was.Len() > 0 && is.Len() > 0 && d.Gone == was.Len() {
		return usage.New(fmt.Sprintf("%s and %s have no case in common", older, newer), "compare two runs of one description")
	}
	of := render.Difference{Difference: d, Older: named(older, wasRuns), Newer: named(newer, isRuns)}
	for _, to := range to {
		if err := a.writeReport(to.name, func(w io.Writer) error {
			if to.format == "html" {
				return writeDifferencePage(w, of, wasRuns, isRuns)
			}
			return writeDifference(w, of, to.format)
		}); err != nil {
			return err
		}
	}
	if format == "text" {
		fmt.Fprintln(a.streams.Out, a.style.Dim("older: "+terminal.Clean(of.Older.String())+"\nnewer: "+terminal.Clean(of.Newer.String())))
		fmt.Fprintln(a.streams.Out)
		a.text().Difference(d, all)
	} else if err := writeDifference(a.streams.Out, of, format); err != nil {
		return err
	}
	if d.Wrong > 0 {
		return &failure{exitFindings, "", ""}
	}
	return nil
}

// newlyWrong counts the cases of the last run that were not wrong in the run before; none
// where there was none.
func (a *app) newlyWrong() (int, error) {
	before := store.Previous()
	if before == "" {
		return 0, nil
	}
	was, wasRuns, err := a.compared(before)
	if err != nil {
		return 0, err
	}
	defer wasRuns.Close()
	is, isRuns, err := a.compared(store.Last())
	if err != nil {
		return 0, err
	}
	defer isRuns.Close()
	return compare.Of(was, is).Wrong, nil
}

func named(name string, r *session.Runs) render.Named {
	return render.Named{Name: name, Head: r.Head(), Incomplete: r.Incomplete()}
}

func writeDifference(w io.Writer, d render.Difference, format string) error {
	if format == "md" {
		return render.DifferenceMarkdown(w, d)
	}
	return render.JSON(w, struct {
		Obiter int    `json:"obiter"`
		Older  string `json:"older"`
		Newer  string `json:"newer"`
		compare.Difference
	}{1, d.Older.Name, d.Newer.Name, d.Difference})
}

// writeDifferencePage reads the exchanges of the cases that changed, and writes the page.
func writeDifferencePage(w io.Writer, d render.Difference, older, newer *session.Runs) error {
	page := render.NewDifferencePage(d)
	for _, side := range []struct {
		r   *session.Runs
		add func(record.Result)
	}{{older, page.AddOlder}, {newer, page.AddNewer}} {
		reader, err := side.r.Read()
		if err != nil {
			return err
		}
		for res, err := range reader.Results() {
			if err != nil {
				return err
			}
			side.add(res)
		}
	}
	return page.Write(w)
}
