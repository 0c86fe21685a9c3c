package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/run"
	"obiter/internal/execute/session"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

// result is what came of a run, tried now or judged again.
type result struct {
	report      *report.Report
	format      string // text, json or ndjson
	description string
	at          string
	failed      []string // fixtures that could not be made
	stuck       int      // records that should have been taken away, and stay
	file        string   // where the run is kept
	incomplete  string   // why the run is not all that was planned; empty: it is
	all         bool     // causes are printed, however many
	failOn      string   // what makes it fail
	reachAll    bool     // an operation that was not reached makes it fail, too
	newlyWrong  int      // cases that were not wrong in the run before
	captured    bool     // others sent the requests: what they prove is what they are
	shard       string   // the part of the plan that it was; empty: all of it
}

// outcome prints findings and totals, and turns them into an exit status. The
// error is the one that ended the run.
func (a *app) outcome(r result, err error) error {
	switch r.format {
	case "json":
		if err != nil && r.incomplete == "" {
			r.incomplete = session.Interrupted
		}
		if e := writeOutcome(a.streams.Out, r); e != nil {
			return e
		}
	case "ndjson":
	default:
		a.stale(r.report)
		found, missed := reached(r.report.Entries())
		a.learned(r.report)
		a.findings(found, r.all)
		a.notReached(missed)
		a.ranked(found)
		a.totals(r.report, found, missed, r.file)
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
		return &failure{exitFindings, "not everything could be tried: " + plural(len(r.failed), "fixture") + " could not be made (" + strings.Join(r.failed, ", ") + ")", "put that right first; the warnings above say what is wrong"}
	case r.stuck > 0 && !r.fails():
		return &failure{exitFindings, plural(r.stuck, "record") + " could not be deleted", "the lines “not deleted:” tell which and why; obiter undo tries again"}
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

// outcomeJSON is what --format json gives: docs/formats/outcome.schema.json.
type outcomeJSON struct {
	Obiter      int                `json:"obiter"` // the version of the format
	Program     string             `json:"program"`
	Description string             `json:"description"`
	At          string             `json:"at"`
	Incomplete  string             `json:"incomplete,omitempty"` // why it is not all that was planned
	Totals      record.Totals      `json:"totals"`
	Causes      causesJSON         `json:"causes"`
	Operations  []lineJSON         `json:"operations"`
	Findings    []*report.Cause    `json:"findings"`
	Matrix      []*report.Resource `json:"matrix"`
	Layouts     []*report.Layout   `json:"layouts"`
	Messages    []report.Message   `json:"messages"`
}

// causesJSON counts what is to be put right.
type causesJSON struct {
	Substance int `json:"substance"`
	Form      int `json:"form"`
}

type lineJSON struct {
	Operation string `json:"operation"`
	Cases     int    `json:"cases"`
	Passed    int    `json:"passed"`
	Failed    int    `json:"failed"`
	Form      int    `json:"form"`
	Known     int    `json:"known,omitempty"`
	Unproven  int    `json:"unproven"`
}

// outcomeVersion is that of the JSON document of an outcome.
const outcomeVersion = 1

// writeOutcome writes the outcome for other programs.
func writeOutcome(w io.Writer, r result) error {
	out := outcomeJSON{Obiter: outcomeVersion, Program: version(), Description: r.description, At: r.at, Incomplete: r.incomplete, Totals: r.report.Totals(), Operations: []lineJSON{}, Findings: r.report.Entries(),
		Matrix: append([]*report.Resource{}, r.report.Matrix()...), Layouts: append([]*report.Layout{}, r.report.Layouts()...), Messages: append([]report.Message{}, r.report.Messages()...)}
	out.Totals.Layout, out.Totals.Interrupted = r.report.Layout, r.incomplete != ""
	found, _ := reached(out.Findings)
	for _, e := range found {
		switch {
		case e.Severity == judge.Note:
		case e.Form:
			out.Causes.Form++
		default:
			out.Causes.Substance++
		}
	}
	for _, l := range r.report.Lines {
		out.Operations = append(out.Operations, lineJSON{l.Operation, l.Cases, l.Passed, l.Failed, l.Form, l.Known, l.Unproven})
	}
	return printJSON(w, out)
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

// printJSON writes a document for other programs.
func printJSON(w io.Writer, v any) error {
	text, err := instance.Written(v)
	if err != nil {
		return err
	}
	var b bytes.Buffer
	if err := json.Indent(&b, text, "", "  "); err != nil {
		return err
	}
	_, err = b.WriteTo(w)
	fmt.Fprintln(w)
	return err
}
