package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"obiter/internal/config"
	"obiter/internal/exchange"
	"obiter/internal/fixture"
	"obiter/internal/layout"
	"obiter/internal/oad"
	"obiter/internal/plan"
	"obiter/internal/record"
	"obiter/internal/report"
	"obiter/internal/run"
	"obiter/internal/send"
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

// trial is one run of try with everything it needs.
type trial struct {
	app    *app
	conf   *config.Config
	send   send.Options
	doc    *oad.Document
	plan   *plan.Plan
	opt    plan.Options
	base   *url.URL
	sender *send.Sender
	depth  string
	wide   int
	save   string
	format string
	names  []string // of headers given on the command line
}

func (a *app) trialOf(c *cli.Command, conf *config.Config, doc *oad.Document) (*trial, error) {
	at := cmp.Or(c.String("at"), conf.At)
	if at == "" && len(doc.Servers) > 0 {
		at = doc.Servers[0]
	}
	if at == "" {
		return nil, usage("it is not said where the service is", "add --at http://localhost:8080")
	}
	base, err := address(at)
	if err != nil {
		return nil, err
	}
	opt, err := planOptions(c, strings.TrimSuffix(base.String(), "/"))
	if err != nil {
		return nil, err
	}
	if c.Int("parallel") < 1 || c.Int("parallel") > 1024 {
		return nil, usage(fmt.Sprintf("--parallel %d is out of range", c.Int("parallel")), "from 1 to 1024")
	}
	if f := c.String("format"); !slices.Contains([]string{"text", "json", "ndjson"}, f) {
		return nil, usage(fmt.Sprintf("--format %q is not known", f), "text, json and ndjson are")
	}
	if c.Duration("timeout") <= 0 {
		return nil, usage("--timeout must be longer than nothing", "for example --timeout 5s")
	}
	headers, err := headers(c.StringSlice("header"))
	if err != nil {
		return nil, err
	}
	t := &trial{app: a, conf: conf, doc: doc, opt: opt, base: base, depth: c.String("depth"), wide: c.Int("parallel"), save: c.String("save"), format: c.String("format")}
	for _, h := range append(conf.Headers, headers...) {
		if name := http.CanonicalHeaderKey(h[0]); !slices.Contains(t.names, name) {
			t.names = append(t.names, name)
		}
	}
	if t.plan, err = plan.New(doc, settled(opt, conf, nil)); err != nil {
		return nil, err
	}
	t.send = send.Options{Timeout: c.Duration("timeout"), AllowHosts: append(c.StringSlice("allow-host"), conf.AllowHosts...), Headers: headers, Agent: agent(), RunID: rand.Text()}
	t.sender, err = t.newSender(nil)
	return t, err
}

// newSender makes a sender whose headers know the values of fixtures; those that
// are not kept yet leave their header out.
func (t *trial) newSender(values map[string]any) (*send.Sender, error) {
	opt := t.send
	opt.Headers = nil
	for _, h := range t.conf.Headers {
		if t.conf.Resolves(h[1], values) {
			opt.Headers = append(opt.Headers, [2]string{http.CanonicalHeaderKey(h[0]), t.conf.ExpandText(h[1], values)})
		}
	}
	opt.Headers = append(opt.Headers, t.send.Headers...)
	return send.New(t.base, opt)
}

// fixtures makes what must be there first. The plan and the sender are made anew
// with the values kept. What comes back takes it all away again.
func (t *trial) fixtures(ctx context.Context) (undo func(), err error) {
	needed := t.conf.Needed(slices.Collect(t.plan.Names()))
	if len(needed) == 0 {
		return func() {}, nil
	}
	bench := fixture.New(t.conf, func(bodies, values map[string]any) (*plan.Plan, error) {
		if err := t.learn(values); err != nil {
			return nil, err
		}
		opt := plan.Options{Base: t.opt.Base, Seed: t.opt.Seed, Bodies: bodies, Values: values}
		return plan.New(t.doc, opt)
	}, func(ctx context.Context, c exchange.Case) exchange.Answer { return t.sender.Send(ctx, c) })
	undo = func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), undoTime)
		defer cancel()
		for _, left := range bench.Undo(ctx) {
			fmt.Fprintln(t.app.streams.Err, "left behind: "+clean(left))
		}
	}
	if err := bench.Make(ctx, needed); err != nil {
		return undo, err
	}
	if t.plan, err = plan.New(t.doc, settled(t.opt, t.conf, bench.Values)); err != nil {
		return undo, err
	}
	return undo, t.learn(bench.Values)
}

// learn takes a sender that knows the values in place of the one there is.
func (t *trial) learn(values map[string]any) error {
	sender, err := t.newSender(values)
	if err == nil {
		t.sender.Close()
		t.sender = sender
	}
	return err
}

// undoTime is how long taking fixtures away may take, after an interrupt as well.
const undoTime = 1500 * time.Millisecond

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

// do sends everything, printing a line an operation.
func (t *trial) do(ctx context.Context) (*report.Report, error) {
	defer func() { t.sender.Close() }()
	if err := t.sender.Reach(ctx); err != nil {
		return nil, err
	}
	undo, err := t.fixtures(ctx)
	defer undo()
	if err != nil {
		return nil, err
	}
	w, closeFiles, err := t.runFile()
	if err != nil {
		return nil, err
	}
	a := t.app
	words := a.streams.Out
	if t.format == "json" || t.format == "ndjson" {
		words = io.Discard
	}
	fmt.Fprintln(words, a.heading(t.doc)+a.look.dim(", at "+clean(t.base.String())))
	fmt.Fprintln(words)
	width := t.nameWidth()
	bar := newProgress(a.streams.Err, t.plan.Len())
	rep, err := run.Do(ctx, t.plan, run.Options{
		Parallel: t.wide,
		Send:     t.sender.Send, // the one that knows the fixtures' values
		Record:   w.Result,
		Late:     w.Late,
		Layout:   t.layout(),
		Progress: bar.sent,
		Finished: func(op *plan.Operation, l *report.Line) {
			bar.clear()
			fmt.Fprintln(words, "  "+a.operationLine(op, l, width))
			bar.operationDone()
		},
	})
	bar.clear()
	totals := rep.Totals()
	totals.Layout = rep.Layout
	totals.Interrupted = errors.Is(err, context.Canceled)
	if e := errors.Join(w.Close(totals), closeFiles()); e != nil && err == nil {
		err = e
	}
	return rep, err
}

// layout is the configured one; nil where it is to be learned.
func (t *trial) layout() *layout.Known {
	e := t.conf.Errors
	if e == nil {
		return nil
	}
	return &layout.Known{List: e.List, Field: e.Field, Message: e.Message}
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
	w, err := record.NewWriter(io.MultiWriter(writers...), record.Head{
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
