package cli

import (
	"context"
	"fmt"
	"regexp"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/usage"
	"obiter/internal/execute/run"
	"obiter/internal/execute/session"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/plan"
	"obiter/internal/results/render"
	"obiter/internal/results/report"
)

// againFlags are the options of try for going on from the last run.
func againFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "failed", Usage: "send only what failed in the last run, and say what has changed; the rest of what is known stays"},
		&cli.BoolFlag{Name: "watch", Usage: "at a terminal: go on, with what failed, when the service was away and is back, the description or the configuration changed, or Enter is pressed"},
		&cli.StringSliceFlag{Name: "case", Usage: "send only the case with this `ID` (repeatable), in the same way"},
	}
}

// isRerun reports whether some cases of the last run are to be sent again.
func isRerun(c *cli.Command) bool { return c.Bool("failed") || len(c.StringSlice("case")) > 0 }

// rerun narrows a trial to cases of the last run: those that failed, those that are named,
// and with those that failed what is new in the plan.
func (a *app) rerun(c *cli.Command, s *session.Session, opt *trial.Options) (*session.Rerun, error) {
	for _, name := range []string{"shard", "controls", "rule", "without", "budget"} {
		if c.IsSet(name) {
			return nil, usage.New("--"+name+" does not go with --failed or --case", "they repeat what the last run planned")
		}
	}
	what := session.Choice{Failed: c.Bool("failed"), Cases: c.StringSlice("case"), Options: narrowing(c), Depths: depths, Budgets: budgets,
		Narrowed: len(c.StringSlice("only"))+len(c.StringSlice("skip"))+len(c.StringSlice("tag")) > 0}
	if c.IsSet("depth") {
		what.Depth = c.String("depth")
	}
	if c.IsSet("seed") {
		seed := c.Uint64("seed")
		what.Seed = &seed
	}
	x, err := s.Rerun(what, opt)
	if err != nil {
		return nil, err
	}
	if x.Warning != "" {
		fmt.Fprintf(a.streams.Err, "warning: the last run: %s; only what it answered is known\n", x.Warning)
	}
	a.announceRerun(x)
	return x, nil
}

// announceRerun says before anything is sent what has become of the plan.
func (a *app) announceRerun(x *session.Rerun) {
	cases := 0
	for id := range x.Dropped {
		if caseID.MatchString(id) {
			cases++
		}
	}
	if cases > 0 {
		fmt.Fprintf(a.streams.Err, "the plan no longer has %s of the last run; what is known of them is dropped\n", terminal.Plural(cases, "case"))
	}
	if x.Fresh > 0 {
		fmt.Fprintf(a.streams.Err, "the plan has %s that the last run had not; they are sent, too\n", terminal.Plural(x.Fresh, "case"))
	}
}

var caseID = regexp.MustCompile(`^[0-9a-f]{10}$`)

// nothingToRerun says that there is nothing to send. What the plan no longer has is dropped
// all the same.
func (a *app) nothingToRerun(x *session.Rerun, r result) error {
	if r.format == "text" {
		fmt.Fprintln(a.streams.Out, "Nothing failed in the last run, so nothing is sent.")
	}
	if len(x.Dropped) == 0 && r.format != "json" {
		return nil
	}
	return a.finishRerun(x, &trial.Outcome{}, false, r, nil)
}

// finishRerun makes the answers of a trial part of the last run, and says what has
// changed; the error is the one that ended the trial.
func (a *app) finishRerun(x *session.Rerun, out *trial.Outcome, sent bool, r result, ended error) error {
	of, d, err := x.Merge(sent)
	if err != nil {
		return err
	}
	r.of(of)
	r.failed, r.stuck, r.newlyWrong = out.Failed, out.Stuck, d.Wrong
	switch r.format {
	case "json":
		if err := render.Outcome(a.streams.Out, r.written()); err != nil {
			return err
		}
	case "text":
		a.stale(r.report)
		fmt.Fprintln(a.streams.Out)
		a.text().Difference(*d, false)
		found, missed := terminal.Reached(r.report.Entries())
		a.text().Totals(r.report, found, missed, r.file)
	}
	return a.ended(r, ended)
}

// of is what a run that was stored came to.
func (r *result) of(stored *session.Result) {
	r.report, r.description, r.at, r.file, r.incomplete = stored.Report, stored.Head.Description, stored.Head.At, stored.File, stored.Incomplete
}

// recovered goes on with a run whose service ended, and says what it finds.
func (a *app) recovered(ctx context.Context, s *session.Session, opt trial.Options, events trial.Events, ended error) (*session.Result, error, error) {
	quiet := trial.Events{Warning: events.Warning, Service: events.Service, Remains: events.Remains}
	rest := quiet
	rest.Finished = func(op *plan.Operation, l *report.Line) {
		fmt.Fprintln(a.streams.Out, "  "+a.text().OperationLine(l, op.SkipReason, 0))
	}
	return s.Recover(ctx, session.Recovery{
		Suspects: quiet, Rest: rest,
		Ended: func(gone *run.GoneError) {
			if len(gone.Suspects) == 0 {
				fmt.Fprintf(a.streams.Err, "%v, and no request was cut off by that; going on\n", gone.Cause)
				return
			}
			fmt.Fprintf(a.streams.Err, "%v; finding out which of %s did it\n", gone.Cause, terminal.Plural(len(gone.Suspects), "request"))
		},
		Blamed: func(operation, id string) {
			fmt.Fprintf(a.streams.Err, "it was one of %s: obiter show %s; going on without it\n", operation, id)
		},
		Innocent: func() { fmt.Fprintln(a.streams.Err, "none of them does it alone; going on") },
		GivenUp: func(deaths int) {
			fmt.Fprintf(a.streams.Err, "the service ended %d times; what is left is not tried\n", deaths)
		},
	}, opt, ended)
}
