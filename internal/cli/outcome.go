package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"obiter/internal/cli/terminal"
	"obiter/internal/execute/run"
	"obiter/internal/execute/session"
	"obiter/internal/results/record"
	"obiter/internal/results/render"
	"obiter/internal/results/report"
)

// result is what came of a run, tried now or judged again.
type result struct {
	report      *report.Report
	format      string // text, json or ndjson
	description string
	at          string
	failed      []string // fixtures that could not be made
	stuck       int      // records that should have been deleted, and stay
	file        string   // where the run is kept
	incomplete  string   // why the run is not all that was planned; empty: it is
	all         bool     // causes are printed, however many
	failOn      string   // what makes it fail
	reachAll    bool     // an operation that was not reached makes it fail, too
	newlyWrong  int      // cases that were not wrong in the run before
	captured    bool     // others sent the requests: what they prove is what they are
	shard       string   // the part of the plan that it was; empty: all of it
	beyond      int      // rules of fields that were not tried within the budget
}

// outcome prints findings and totals, and turns them into an exit status. The
// error is the one that ended the run.
func (a *app) outcome(r result, err error) error {
	switch r.format {
	case "json":
		if err != nil && r.incomplete == "" {
			r.incomplete = session.Interrupted
		}
		if e := render.Outcome(a.streams.Out, r.written()); e != nil {
			return e
		}
	case "ndjson":
	default:
		a.stale(r.report)
		found, missed := terminal.Reached(r.report.Entries())
		a.text().Learned(r.report)
		a.text().Findings(found, r.all)
		a.text().NotReached(missed)
		a.text().Ranked(found)
		a.text().Totals(r.report, found, missed, r.file)
		if r.beyond > 0 {
			fmt.Fprintln(a.streams.Out, a.style.Wrap(fmt.Sprintf("Within the budget of cases, %s of fields were not tried: obiter survey --fields lists them, --depth deep tries all.", terminal.Plural(r.beyond, "rule")), 0))
		}
	}
	return a.ended(r, err)
}

// ended turns what ended a run into an exit status.
func (a *app) ended(r result, err error) error {
	var gone *run.GoneError
	var broken *run.BrokenError
	switch {
	case errors.As(err, &gone):
		return a.gone(gone, r.fails())
	case errors.As(err, &broken):
		return &failure{exitFindings, err.Error(), brokenHint(broken)}
	case errors.Is(err, context.Canceled):
		return &failure{exitInterrupted, "interrupted; what was answered until then is kept in " + r.file, ""}
	case err != nil:
		return err
	case r.shard != "" && len(r.report.Lines) == 0:
		if r.format == "text" {
			fmt.Fprintln(a.streams.Out, "Shard "+r.shard+" has no operations: there are more shards than collections.")
		}
		return nil
	case r.report.Totals().Cases == 0:
		return &failure{exitUnproved, "every operation is left out, so nothing was sent", "obiter survey tells why each operation is left out"}
	case len(r.failed) > 0 && !r.fails():
		return &failure{exitFindings, "not everything could be tried: " + terminal.Plural(len(r.failed), "fixture") + " could not be made (" + strings.Join(r.failed, ", ") + ")", "put that right first; the warnings above say what is wrong"}
	case r.stuck > 0 && !r.fails():
		return &failure{exitFindings, terminal.Plural(r.stuck, "record") + " could not be deleted", "the lines “not deleted:” tell which and why; obiter undo tries again"}
	case !r.captured && !r.report.Proven():
		return &failure{exitUnproved, "no valid request was accepted, so no rejection proves anything", unprovenHint(r.report)}
	case r.fails():
		return &failure{exitFindings, "", ""}
	}
	return nil
}

// gone is the failure of a run whose service went away.
func (a *app) gone(err *run.GoneError, findings bool) error {
	f := &failure{exitUnproved, err.Error(), "start the service again; what was answered until then is kept, see it with: obiter judge"}
	if findings {
		f.status = exitFindings
	}
	if len(err.Suspects) > 0 {
		f.hint = "what was cut off when it went: obiter show " + strings.Join(err.Suspects, ", obiter show ")
	}
	return f
}

// brokenHint tells where to look, and how to go on without the operation.
func brokenHint(e *run.BrokenError) string {
	look := "look at the request with: obiter show " + e.Case
	if n := len(e.Suspects); n == 1 {
		look = "what did it: obiter show " + e.Suspects[0]
	} else if n > 1 {
		look = "one of these did it, probably the first: obiter show " + strings.Join(e.Suspects[:min(n, 3)], ", obiter show ")
	}
	return "what followed is not tried; " + look + "; leave the operation out with --skip '" + e.Operation + "', or skip: in obiter.yaml"
}

// written is a result as formats take it.
func (r result) written() render.Run {
	return render.Run{Head: record.Head{Description: r.description, At: r.at}, Report: r.report, Incomplete: r.incomplete, Program: version()}
}

// unprovenHint says in the service's own words why its controls were refused.
func unprovenHint(rep *report.Report) string {
	for _, l := range rep.Lines {
		if l.ControlWords != "" {
			return l.Operation + ": " + l.ControlWords
		}
	}
	return "look at a control with: obiter show"
}
