package render

import (
	"bytes"
	"encoding/json"
	"io"

	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

// outcome is what other programs read: docs/formats/outcome.schema.json.
type outcome struct {
	Obiter      int                `json:"obiter"` // the version of the format
	Program     string             `json:"program"`
	Description string             `json:"description"`
	At          string             `json:"at"`
	Incomplete  string             `json:"incomplete,omitempty"` // why it is not all that was planned
	Totals      record.Totals      `json:"totals"`
	Causes      causes             `json:"causes"`
	Operations  []tried            `json:"operations"`
	Findings    []*report.Cause    `json:"findings"`
	Matrix      []*report.Resource `json:"matrix"`
	Layouts     []*report.Layout   `json:"layouts"`
	Messages    []report.Message   `json:"messages"`
}

// causes counts what is to be fixed.
type causes struct {
	Substance int `json:"substance"`
	Form      int `json:"form"`
}

type tried struct {
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

// Outcome writes what a run came to for other programs. Its results need not be known.
func Outcome(w io.Writer, r Run) error {
	out := outcome{Obiter: outcomeVersion, Program: r.Program, Description: r.Head.Description, At: r.Head.At, Incomplete: r.Incomplete, Totals: r.Report.Totals(), Operations: []tried{}, Findings: r.Report.Entries(),
		Matrix: append([]*report.Resource{}, r.Report.Matrix()...), Layouts: append([]*report.Layout{}, r.Report.Layouts()...), Messages: append([]report.Message{}, r.Report.Messages()...)}
	out.Totals.Layout, out.Totals.Interrupted = r.Report.Layout, r.Incomplete != ""
	for _, e := range out.Findings {
		switch {
		case e.Severity == judge.Note, e.Known, e.Code == "not-reached":
		case e.Form:
			out.Causes.Form++
		default:
			out.Causes.Substance++
		}
	}
	for _, l := range r.Report.Lines {
		out.Operations = append(out.Operations, tried{l.Operation, l.Cases, l.Passed, l.Failed, l.Form, l.Known, l.Unproven})
	}
	return JSON(w, out)
}

// JSON writes a document for other programs, which people may look at, too.
func JSON(w io.Writer, v any) error {
	text, err := instance.Written(v)
	if err != nil {
		return err
	}
	var b bytes.Buffer
	if err := json.Indent(&b, text, "", "  "); err != nil {
		return err
	}
	b.WriteByte('\n')
	_, err = b.WriteTo(w)
	return err
}
