package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"obiter/internal/layout"
	"obiter/internal/plan"
	"obiter/internal/record"
	"obiter/internal/report"
)

func (a *app) tryCommand() *cli.Command {
	return &cli.Command{
		Name:      "try",
		Usage:     "send the cases and judge every answer",
		ArgsUsage: "[DESCRIPTION]",
		Flags: append(planFlags(),
			&cli.StringFlag{Name: "at", Usage: "the `URL` of the service (default: the description's first server)"},
			&cli.IntFlag{Name: "parallel", Value: 8, Usage: "requests in flight at a time"},
			&cli.DurationFlag{Name: "timeout", Value: 10 * time.Second, Usage: "for one exchange, from connecting to the last byte"},
			&cli.StringSliceFlag{Name: "header", Usage: "add `'Name: value'` to every request (repeatable); values are not kept"},
			&cli.StringSliceFlag{Name: "allow-host", Usage: "a `HOST` beside this machine that may be sent to (repeatable)"},
			&cli.StringFlag{Name: "ca", Usage: "trust the certificates in `FILE` (PEM) as well"},
			&cli.StringFlag{Name: "cert", Usage: "show the client certificate in `FILE` (PEM); with --key"},
			&cli.StringFlag{Name: "key", Usage: "the private key of --cert, in `FILE` (PEM)"},
			&cli.BoolFlag{Name: "insecure", Usage: "do not check the service's certificate"},
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text; json: the findings as one document; ndjson: the run file as it is written"},
			&cli.StringFlag{Name: "save", Usage: "keep the run in `FILE` as well"},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			conf, doc, err := a.prepared(c)
			if err != nil {
				return err
			}
			t, err := a.trialOf(c, conf, doc)
			if err != nil {
				return err
			}
			rep, err := t.do(ctx)
			return t.outcome(rep, err)
		},
	}
}

func agent() string {
	v, _, _ := strings.Cut(version(), " ")
	return "obiter/" + v
}

func headers(list []string) ([][2]string, error) {
	var out [][2]string
	for _, h := range list {
		name, value, ok := strings.Cut(h, ":")
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		if !ok || name == "" || strings.ContainsAny(name, " \t\"(),/;<=>?@[\\]{}") || strings.ContainsAny(value, "\r\n\x00") {
			return nil, usage(fmt.Sprintf("--header %q is no header", name), "write it as 'Name: value'")
		}
		out = append(out, [2]string{http.CanonicalHeaderKey(name), value})
	}
	return out, nil
}

// layout is the configured one; nil where it is to be learned.
func (t *trial) layout() *layout.Known {
	e := t.conf.Errors
	if e == nil {
		return nil
	}
	return &layout.Known{List: e.List, Field: e.Field, Message: e.Message, Notation: layout.Notation(e.Notation)}
}

func (t *trial) nameWidth() int {
	width := 0
	for op := range t.plan.Names() {
		width = max(width, len([]rune(op)))
	}
	return min(width, 60)
}

// operationLine is an operation's outcome on one line.
func (a *app) operationLine(op *plan.Operation, l *report.Line, width int) string {
	name := clean(l.Operation)
	name += strings.Repeat(" ", max(0, width-len([]rune(name))))
	if op.SkipReason != "" {
		return a.look.dim(name + "  " + clean(shortened(op.SkipReason, 160)))
	}
	line := fmt.Sprintf("%s  %5s cases  %5s passed", name, number(l.Cases), number(l.Passed))
	if l.Failed > 0 {
		line += a.look.in(codeRed, fmt.Sprintf("  %5s failed", number(l.Failed)))
	}
	if l.Unproven > 0 {
		line += a.look.in(codeYellow, fmt.Sprintf("  %5s unproven", number(l.Unproven)))
	}
	return line
}

const (
	runFolder = ".obiter"
	lastRun   = "last.ndjson"
)

// runFile opens the files that the run is kept in and writes the first line.
func (t *trial) runFile() (*record.Writer, func() error, error) {
	if err := os.MkdirAll(runFolder, 0o755); err != nil {
		return nil, nil, usage("the folder "+runFolder+" for the run file cannot be made: "+fmt.Sprint(errors.Unwrap(err)), "go to a folder that can be written to")
	}
	if err := os.WriteFile(filepath.Join(runFolder, ".gitignore"), []byte("*\n"), 0o644); err != nil {
		return nil, nil, fmt.Errorf("writing the run file: %w", err)
	}
	var files []*os.File
	var writers []io.Writer
	for _, name := range []string{filepath.Join(runFolder, lastRun), t.save} {
		if name == "" {
			continue
		}
		f, err := os.Create(name)
		if err != nil {
			return nil, nil, usage(fmt.Sprintf("the run file %s cannot be written: %v", name, errors.Unwrap(err)), "name a file in a folder that exists")
		}
		files, writers = append(files, f), append(writers, f)
	}
	if t.format == "ndjson" {
		writers = append(writers, t.app.streams.Out)
	}
	closeFiles := func() error {
		var errs []error
		for _, f := range files {
			errs = append(errs, f.Close())
		}
		return errors.Join(errs...)
	}
	w, err := record.NewWriter(t.redact.writer(io.MultiWriter(writers...)), record.Head{
		Program: version(), Description: t.doc.Name, At: t.base.String(), Seed: t.opt.Seed, Depth: t.depth,
		Started: time.Now().UTC().Format(time.RFC3339), Headers: t.names,
	})
	return w, closeFiles, err
}

// outcome prints findings and totals, and turns them into an exit status.
func (t *trial) outcome(rep *report.Report, err error) error {
	if rep == nil {
		return err
	}
	a := t.app
	switch t.format {
	case "json":
		if e := t.writeJSON(rep, err); e != nil {
			return e
		}
	case "ndjson":
	default:
		entries := rep.Entries()
		a.learned(rep)
		a.findings(entries)
		a.totals(rep, entries)
	}
	switch {
	case errors.Is(err, context.Canceled):
		return &failure{exitInterrupted, "interrupted; what was answered until then is kept in " + filepath.Join(runFolder, lastRun), ""}
	case err != nil:
		return err
	case rep.Totals().Cases == 0:
		return &failure{exitUnproved, "no operation has parameters or a body to break, so nothing was sent", "obiter survey tells why each operation is left out"}
	case len(t.failed) > 0 && rep.Errors() == 0:
		return usage("not everything could be tried: "+plural(len(t.failed), "fixture")+" could not be made ("+strings.Join(t.failed, ", ")+")", "mend that first; it is told above")
	case !rep.Proven():
		return &failure{exitUnproved, "no valid request was accepted, so no rejection proves anything", t.unprovenHint(rep)}
	case rep.Errors() > 0:
		return &failure{exitFindings, "", ""}
	}
	return nil
}

// outcomeJSON is what --format json gives: docs/formats/outcome.schema.json.
type outcomeJSON struct {
	Obiter      int             `json:"obiter"` // the version of the format
	Program     string          `json:"program"`
	Description string          `json:"description"`
	At          string          `json:"at"`
	Totals      record.Totals   `json:"totals"`
	Operations  []lineJSON      `json:"operations"`
	Findings    []*report.Entry `json:"findings"`
}

type lineJSON struct {
	Operation string `json:"operation"`
	Cases     int    `json:"cases"`
	Passed    int    `json:"passed"`
	Failed    int    `json:"failed"`
	Unproven  int    `json:"unproven"`
}

func (t *trial) writeJSON(rep *report.Report, err error) error {
	out := outcomeJSON{Obiter: record.Version, Program: version(), Description: t.doc.Name, At: t.base.String(), Totals: rep.Totals(), Operations: []lineJSON{}, Findings: rep.Entries()}
	out.Totals.Layout, out.Totals.Interrupted = rep.Layout, errors.Is(err, context.Canceled)
	for _, l := range rep.Lines {
		out.Operations = append(out.Operations, lineJSON{l.Operation, l.Cases, l.Passed, l.Failed, l.Unproven})
	}
	e := json.NewEncoder(t.app.streams.Out)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(out)
}

// unprovenHint says in the service's own words why its controls were refused.
func (t *trial) unprovenHint(rep *report.Report) string {
	for _, l := range rep.Lines {
		if l.ControlWords != "" {
			return l.Operation + ": " + l.ControlWords + " (credentials go into --header; records that must exist are named by the examples of path parameters)"
		}
	}
	return "look at a control with: obiter show"
}
