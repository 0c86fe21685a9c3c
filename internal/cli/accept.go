package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/run"
	"obiter/internal/input/config"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
	"obiter/internal/results/report"
)

func (a *app) acceptCommand() *cli.Command {
	return &cli.Command{
		Name:      "accept",
		Usage:     "write down what is known to be wrong, so that only new mistakes fail a run; sends nothing",
		ArgsUsage: "[RUN...]",
		Description: "Writes each cause of the last run, or of those that are named, into " + config.AcceptedFile + ". From then on try, judge\n" +
			"and report count these apart, leave them out of the exit status, and say which no longer occur.",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "code", Usage: "only causes with this `CODE` (repeatable)"},
			&cli.StringSliceFlag{Name: "only", Usage: "only causes whose operations all match `GLOB` (repeatable)"},
			&cli.StringFlag{Name: "reason", Usage: "why, in words"},
			&cli.StringFlag{Name: "until", Usage: "the last `DAY` on which they are accepted, such as 2027-01-31"},
		},
		Action: func(_ context.Context, c *cli.Command) error { return a.accept(c) },
	}
}

func codeNames() []string {
	var out []string
	for _, k := range judge.Codes {
		out = append(out, k.Code)
	}
	return out
}

func (a *app) accept(c *cli.Command) error {
	until := c.String("until")
	if _, err := time.Parse(time.DateOnly, until); until != "" && err != nil {
		return usage(fmt.Sprintf("invalid value %q for --until", until), "write a day as 2027-01-31")
	}
	for _, code := range c.StringSlice("code") {
		if _, known := judge.Find(code); !known {
			return usage(fmt.Sprintf("%q is not the code of a finding", code), nearest(code, codeNames(), "codes"))
		}
	}
	s, err := a.knowing()
	if err != nil {
		return err
	}
	r, err := s.Open(runsNamed(c)...)
	if err != nil {
		return err
	}
	defer r.Close()
	rep, err := r.Judge(nil, nil)
	if err != nil {
		return err
	}
	a.warnOf(r)
	cases := 0
	list := rep.Accepted(func(e *report.Cause) bool {
		if !chosenCause(c, e) {
			return false
		}
		cases += e.Count
		return true
	})
	list = config.Merged(list)
	for i := range list {
		list[i].Reason, list[i].Until = instance.OneLine(c.String("reason")), until
	}
	if len(list) == 0 {
		fmt.Fprintln(a.streams.Out, "Nothing to accept that is not known already.")
		return nil
	}
	if err := appendKnown(list, len(s.Known.Causes) > 0); err != nil {
		return err
	}
	fmt.Fprintf(a.streams.Out, "%s, of %s, written to %s. Look through it, and say why: reason:\n", terminal.Plural(len(list), "cause"), terminal.Plural(cases, "answer"), config.AcceptedFile)
	return nil
}

// chosenCause reports whether the options choose a cause.
func chosenCause(c *cli.Command, e *report.Cause) bool {
	codes, globs := c.StringSlice("code"), c.StringSlice("only")
	in := len(codes) == 0
	for _, code := range codes {
		in = in || code == e.Code
	}
	for _, o := range e.Operations {
		matched := len(globs) == 0
		for _, g := range globs {
			matched = matched || oad.Matches(g, o)
		}
		in = in && matched
	}
	return in
}

// appendKnown writes causes behind those that are in the file, which stays as people
// edited it.
func appendKnown(list []config.Known, behind bool) error {
	text := config.WriteKnown(list)
	if behind {
		was, err := os.ReadFile(config.AcceptedFile)
		if err != nil {
			return err
		}
		_, entries, _ := strings.Cut(text, "accepted:\n")
		text = strings.TrimRight(string(was), "\n") + "\n" + entries
		if _, _, err := config.ReadKnown(config.AcceptedFile, []byte(text), codeNames()); err != nil { // written in another style
			return usage(config.AcceptedFile+" has a form in which nothing can be added at its end", "write it as a list with a dash for each entry")
		}
	}
	f, err := os.CreateTemp(".", ".obiter-*")
	if err == nil {
		_, err = f.WriteString(text)
		if err = errors.Join(err, f.Chmod(0o644), f.Close()); err == nil {
			err = os.Rename(f.Name(), config.AcceptedFile)
		}
	}
	if err != nil {
		return usage(fmt.Sprintf("cannot write %s: %v", config.AcceptedFile, err), "run it in a folder that can be written to")
	}
	return nil
}

// maxAccepted bounds the file of known causes, in bytes.
const maxAccepted = 64 << 20

// known reads what the team knows, in the current folder; nothing where there is no file.
func (a *app) known() (run.Known, error) {
	out := run.Known{Day: time.Now().Format(time.DateOnly)}
	info, err := os.Stat(config.AcceptedFile)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return out, nil
	case err == nil && (!info.Mode().IsRegular() || info.Size() > maxAccepted):
		return out, usage(config.AcceptedFile+" is not a file of known causes", "obiter accept writes one")
	}
	src, err := os.ReadFile(config.AcceptedFile)
	if err != nil {
		return out, usage(fmt.Sprintf("cannot read %s: %v", config.AcceptedFile, errors.Unwrap(err)), "check its permissions")
	}
	var twice []*document.Error
	out.Causes, twice, err = config.ReadKnown(config.AcceptedFile, src, codeNames())
	for _, e := range twice {
		fmt.Fprintln(a.streams.Err, "warning: "+a.redacted(e.Error())+"; "+a.redacted(e.Hint))
	}
	return out, err
}

// stale tells which known causes no longer occur.
func (a *app) stale(rep *report.Report) {
	for _, text := range rep.Stale() {
		fmt.Fprintln(a.streams.Err, config.AcceptedFile+": "+terminal.Clean(text))
	}
}

// failOn are the choices of what makes a run fail.
var failOn = []string{"error", "warning", "substance", "new", "none"}

func failOnFlag() cli.Flag {
	return &cli.StringFlag{Name: "fail-on", Value: "error", Usage: "what makes the exit status 1: " + strings.Join(failOn, ", ") + "; substance leaves out what is wrong only in form, new what the run before had too"}
}

// fails reports whether what was found makes the run fail.
func (r result) fails() bool {
	if r.reachAll {
		if _, missed := terminal.Reached(r.report.Entries()); len(missed) > 0 {
			return true
		}
	}
	switch r.failOn {
	case "warning":
		return r.report.Errors()+r.report.Warnings() > 0
	case "substance":
		return r.report.Substance() > 0
	case "new":
		return r.newlyWrong > 0
	case "none":
		return false
	}
	return r.report.Errors() > 0
}
