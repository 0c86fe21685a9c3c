// Package handlertest tries an http.Handler from inside the tests of a Go service:
// invalid requests for every operation of its OpenAPI description, sent in process and
// without a port, each answer judged as obiter try judges it.
//
//	func TestRejections(t *testing.T) {
//		handlertest.Run(t, NewHandler(), "openapi.yaml")
//	}
//
// Each operation is a subtest, and each cause that it shows is one in it. Warnings and
// notes are logged, an operation that was not reached is skipped with the service's own
// words. Services in other languages are tried with the program (service: in obiter.yaml
// starts them), which writes JUnit XML.
package handlertest

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
	"obiter/internal/target/send"
)

// Option is one of the choices of Run.
type Option func(*settings)

type settings struct {
	config  string
	only    []string
	skip    []string
	depth   flaw.Depth
	budget  int
	headers [][2]string
	base    *string
	keep    string
	wrong   error // with an option
}

// Config reads the configuration in a file: obiter.yaml says where records come from,
// which credentials there are, and what no schema says.
func Config(file string) Option { return func(s *settings) { s.config = file } }

// Only tries the operations that match one of the globs, such as "PUT *" or "* /vessels/**".
func Only(globs ...string) Option {
	return func(s *settings) { s.only = append(s.only, globs...) }
}

// Skip leaves out the operations that match one of the globs.
func Skip(globs ...string) Option {
	return func(s *settings) { s.skip = append(s.skip, globs...) }
}

// Depth is how many variants of each flaw are sent: quick, usual or deep. Without it,
// quick ones are.
func Depth(name string) Option {
	return func(s *settings) {
		depths := map[string]flaw.Depth{"quick": flaw.Quick, "usual": flaw.Usual, "deep": flaw.Deep}
		budgets := map[string]int{"quick": 60, "usual": 300}
		depth, known := depths[name]
		if !known {
			s.wrong = fmt.Errorf("there is no depth %q: use quick, usual or deep", name)
		}
		s.depth, s.budget = depth, budgets[name]
	}
}

// Header adds a header to every request. Its value is not kept.
func Header(name, value string) Option {
	return func(s *settings) { s.headers = append(s.headers, [2]string{name, value}) }
}

// Base is the path under which the handler has those of the description. Without it,
// that is the path of the description's first server.
func Base(path string) Option {
	return func(s *settings) { path := strings.TrimSuffix(path, "/"); s.base = &path }
}

// Keep keeps the run in a file, for obiter show, report and compare.
func Keep(file string) Option { return func(s *settings) { s.keep = file } }

// Run tries a handler by the description in a file, and fails the test where an answer
// is not as it should be.
func Run(t *testing.T, handler http.Handler, description string, options ...Option) {
	t.Helper()
	found, err := try(t.Context(), handler, description, filepath.Join(t.TempDir(), "run.ndjson"), options...)
	if err != nil {
		t.Fatalf("obiter: %v", err)
	}
	for _, w := range found.warnings {
		t.Log("obiter: " + w)
	}
	for _, o := range found.operations {
		t.Run(o.name, func(t *testing.T) {
			for _, c := range o.causes {
				t.Run(c.name, func(t *testing.T) { t.Error(c.text) })
			}
			for _, text := range o.remarks {
				t.Log(text)
			}
			if o.notReached != "" && len(o.causes) == 0 {
				t.Skip(o.notReached)
			}
		})
	}
}

// findings are what came of a trial.
type findings struct {
	operations []operation
	warnings   []string
}

type operation struct {
	name       string
	causes     []cause  // that fail it
	remarks    []string // warnings and notes
	notReached string   // why; empty where it was
}

type cause struct{ name, text string }

// base is where the handler seems to be.
const base = "http://localhost"

func try(ctx context.Context, handler http.Handler, description, file string, options ...Option) (*findings, error) {
	s := settings{depth: flaw.Quick, budget: 60}
	for _, o := range options {
		o(&s)
	}
	if s.keep != "" {
		file = s.keep
	}
	conf, err := s.read()
	if err = errors.Join(s.wrong, err); err != nil {
		return nil, err
	}
	doc, err := oad.Open(description)
	if err != nil {
		return nil, err
	}
	conf.Imply(doc)
	under := basePath(doc)
	if s.base != nil {
		under = *s.base
	}
	address, err := url.Parse(base + under)
	if err != nil {
		return nil, err
	}
	listener := newListener()
	server := &http.Server{Handler: handler, ReadHeaderTimeout: time.Minute, ErrorLog: quiet}
	go func() { _ = server.Serve(listener) }()
	defer server.Close()
	out := &findings{}
	opt := trial.Options{Config: conf, Document: doc, Base: address, Running: true, Parallel: 8, Files: []string{file},
		Plan: plan.Options{Base: strings.TrimSuffix(address.String(), "/"), Selection: oad.Selection{Only: s.only, Skip: append(s.skip, conf.Skip...)}, Break: conf.Break, Spare: conf.Spare, Depth: s.depth, Budget: s.budget},
		Send: send.Options{Headers: s.headers, RunID: rand.Text(), Agent: "obiter", Dial: listener.dial},
		Head: record.Head{Program: "obiter/handlertest", Started: time.Now().UTC().Format(time.RFC3339)}}
	done, err := trial.Run(ctx, opt, trial.Events{Warning: func(text string) { out.warnings = append(out.warnings, text) },
		Remains: func(text string) { out.warnings = append(out.warnings, text) }})
	if err != nil {
		return nil, err
	}
	out.take(done.Report, file, s.keep != "")
	return out, nil
}

// read reads the configuration, if one is named.
func (s *settings) read() (*sources.Sources, error) {
	if s.config == "" {
		return sources.Read("obiter.yaml", []byte("{}"), os.LookupEnv)
	}
	src, err := os.ReadFile(s.config)
	if err != nil {
		return nil, err
	}
	return sources.Read(s.config, src, os.LookupEnv)
}

// basePath is the path of the description's first server.
func basePath(doc *oad.Document) string {
	if len(doc.Servers) == 0 {
		return ""
	}
	u, err := url.Parse(doc.Servers[0])
	if err != nil {
		return ""
	}
	return strings.TrimSuffix(u.Path, "/")
}

// take arranges what was found by operation.
func (f *findings) take(rep *report.Report, file string, kept bool) {
	byName := map[string]int{}
	for _, l := range rep.Lines {
		byName[l.Operation] = len(f.operations)
		f.operations = append(f.operations, operation{name: l.Operation})
	}
	for _, e := range rep.Entries() {
		for _, name := range e.Operations {
			i, known := byName[name]
			if !known {
				byName[name], i = len(f.operations), len(f.operations)
				f.operations = append(f.operations, operation{name: name})
			}
			o := &f.operations[i]
			text := told(e, file, kept)
			switch {
			case e.Code == "not-reached":
				o.notReached = text
			case e.Severity != judge.Error || e.Known:
				o.remarks = append(o.remarks, text)
			default:
				o.causes = append(o.causes, cause{strings.TrimSpace(e.Code + " " + e.Family), text})
			}
		}
	}
}

// told is a cause in words.
func told(e *report.Cause, file string, kept bool) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s", e.Severity, e.Code)
	if e.Family != "" {
		fmt.Fprintf(&b, " (%s)", e.Family)
	}
	if len(e.Places) > 0 {
		fmt.Fprintf(&b, " at %s", strings.Join(e.Places[:min(len(e.Places), 8)], ", "))
	}
	fmt.Fprintf(&b, ", %d answers", e.Count)
	if e.Summary != "" {
		b.WriteString("\n" + e.Summary)
	}
	var shown []string
	for _, x := range e.Examples {
		if !slices.Contains(shown, x.Message) && len(shown) < 3 {
			shown = append(shown, x.Message)
			b.WriteString("\n" + x.Message)
		}
	}
	if e.Cites != "" {
		b.WriteString("\n" + e.Cites)
	}
	if kept && len(e.Examples) > 0 {
		fmt.Fprintf(&b, "\nobiter show %s --run %s", e.Examples[0].Case, file)
	}
	return b.String()
}
