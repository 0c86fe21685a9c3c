package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/instance"
	"obiter/internal/core/usage"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/session"
	"obiter/internal/input/config"
	"obiter/internal/input/oad"
	"obiter/internal/results/report"
)

// acceptCommand is knownCommand by its old name.
func (a *app) acceptCommand() *cli.Command {
	c := a.knownCommand()
	c.Name, c.Hidden = "accept", true
	c.Action = func(_ context.Context, c *cli.Command) error {
		fmt.Fprintln(a.streams.Err, "warning: obiter accept is called obiter known now")
		return a.writeKnown(c)
	}
	return c
}

func (a *app) knownCommand() *cli.Command {
	return &cli.Command{
		Name:      "known",
		Usage:     "write down what is known to be wrong, so that only new mistakes fail a run; sends nothing",
		ArgsUsage: "[RUN...]",
		Description: "Writes each cause of the last run, or of those that are named, into " + config.KnownFile + ". From then on try, judge\n" +
			"and report count these apart, leave them out of the exit status, and say which no longer occur.",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "code", Usage: "only causes with this `CODE` (repeatable)"},
			&cli.StringSliceFlag{Name: "only", Usage: "only causes whose operations all match `GLOB` (repeatable)"},
			&cli.StringFlag{Name: "reason", Usage: "why, in words"},
			&cli.StringFlag{Name: "until", Usage: "the last `DAY` on which they are known, such as 2027-01-31"},
		},
		Action: func(_ context.Context, c *cli.Command) error { return a.writeKnown(c) },
	}
}

func (a *app) writeKnown(c *cli.Command) error {
	until := c.String("until")
	if _, err := time.Parse(time.DateOnly, until); until != "" && err != nil {
		return usage.New(fmt.Sprintf("invalid value %q for --until", until), "write a day as 2027-01-31")
	}
	for _, code := range c.StringSlice("code") {
		if _, known := judge.Find(code); !known {
			return usage.New(fmt.Sprintf("%q is not the code of a finding", code), nearest(code, judge.CodeNames(), "codes"))
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
		fmt.Fprintln(a.streams.Out, "Nothing is wrong that is not known already.")
		return nil
	}
	if err := session.AppendKnown(list, len(s.Known.Causes) > 0); err != nil {
		return err
	}
	fmt.Fprintf(a.streams.Out, "%s, of %s, written to %s. Look through it, and say why: reason:\n", terminal.Plural(len(list), "cause"), terminal.Plural(cases, "answer"), config.KnownFile)
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

// stale tells which known causes no longer occur.
func (a *app) stale(rep *report.Report) {
	for _, text := range rep.Stale() {
		fmt.Fprintln(a.streams.Err, config.KnownFile+": "+terminal.Clean(text))
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
