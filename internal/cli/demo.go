package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/usage"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/files"
	"obiter/internal/execute/trial"
	"obiter/internal/harbour"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/results/report"
	"obiter/internal/target/send"
)

func (a *app) demoCommand() *cli.Command {
	return &cli.Command{
		Name:  "demo",
		Usage: "the harbour example from start to finish",
		Description: "Serves a small harbour office on this machine with a dozen mistakes in it, surveys its\n" +
			"description, tries it, and holds what was found against what was planted.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "sound", Usage: "without mistakes: everything passes"},
			&cli.BoolFlag{Name: "serve", Usage: "only serve the office, until interrupted"},
			&cli.StringFlag{Name: "out", Usage: "only write its description into `FOLDER`"},
			&cli.StringSliceFlag{Name: "fault", Usage: "switch this mistake on instead of the usual dozen (repeatable)"},
			&cli.BoolFlag{Name: "faults", Usage: "only list the mistakes there are"},
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:0", Usage: "`ADDRESS` to serve on; port 0 takes a free one"},
			&cli.StringFlag{Name: "depth", Value: "usual", Usage: "how many variants of each flaw: quick, usual or deep"},
			&cli.Uint64Flag{Name: "seed", Usage: "another `NUMBER` gives other values"},
		},
		Action: a.demo,
	}
}

func (a *app) demo(ctx context.Context, c *cli.Command) error {
	if c.Args().Present() {
		return usage.New(fmt.Sprintf("unexpected argument %q: demo takes none", c.Args().First()), "obiter demo --help lists the options")
	}
	faults := harbour.DemoFaults()
	if c.IsSet("fault") {
		faults = c.StringSlice("fault")
	}
	if c.Bool("sound") {
		faults = nil
	}
	switch {
	case c.Bool("faults"):
		a.listFaults()
		return nil
	case c.String("out") != "":
		return a.demoFiles(c.String("out"))
	}
	office, err := harbour.New(faults)
	if err != nil {
		return usage.New(err.Error(), "obiter demo --faults lists them with what they do")
	}
	base, stop, err := serve(ctx, office, c.String("listen"))
	if err != nil {
		return err
	}
	defer stop()
	if c.Bool("serve") {
		fmt.Fprintf(a.streams.Out, "The harbour office is at %s, with %s. Stop it with Ctrl-C.\n", base, terminal.Plural(len(faults), "mistake"))
		<-ctx.Done()
		return nil
	}
	return a.demoRun(ctx, c, base, faults)
}

// serve starts the office and gives its address.
func serve(ctx context.Context, office http.Handler, listen string) (*url.URL, func(), error) {
	var lc net.ListenConfig
	l, err := lc.Listen(ctx, "tcp", listen)
	if err != nil {
		return nil, nil, usage.New(fmt.Sprintf("the harbour office cannot listen on %s: %v", listen, errors.Unwrap(err)), "name another with --listen 127.0.0.1:8081")
	}
	server := &http.Server{Handler: office, ReadHeaderTimeout: 5 * time.Second, ErrorLog: log.New(discard{}, "", 0)}
	go func() { _ = server.Serve(l) }()
	base := &url.URL{Scheme: "http", Host: l.Addr().String()}
	return base, func() { _ = server.Close() }, nil
}

type discard struct{}

func (discard) Write(p []byte) (int, error) { return len(p), nil }

func (a *app) demoRun(ctx context.Context, c *cli.Command, base *url.URL, faults []string) error {
	doc, err := oad.Read("harbour/openapi.yaml", harbour.Description)
	if err != nil {
		return err
	}
	conf, err := sources.Read("harbour/obiter.yaml", harbour.Config, os.LookupEnv)
	if err != nil {
		return err
	}
	opt, err := planOptions(c, conf, base.String())
	if err != nil {
		return err
	}
	a.step("What there is to break", "obiter survey openapi.yaml")
	if err := a.survey(doc, trial.Configured(opt, doc, conf, nil), false, false); err != nil {
		return err
	}
	a.step("Send it all, and judge every answer", "obiter try openapi.yaml --at "+base.String())
	out, err := trial.Run(ctx, trial.Options{Config: conf, Document: doc, Plan: opt, Base: base, Send: send.Options{Agent: agent(), RunID: rand.Text()}, Parallel: 8,
		Secrets: &a.secrets, Head: head(c.String("depth")), Files: []string{store.Current()}, Folder: trial.RunFolder, Brief: true}, a.events(a.streams.Out, doc, base))
	rep := out.Report
	if rep == nil {
		return err
	}
	file, _, dispose, failed := a.session().Keep(err != nil)
	if failed = errors.Join(failed, dispose()); failed != nil {
		return errors.Join(failed, err)
	}
	if err != nil {
		return a.outcome(result{report: rep, failed: out.Failed, stuck: out.Stuck, file: file}, err)
	}
	entries := rep.Entries()
	found, missed := terminal.Reached(entries)
	a.text().Learned(rep)
	a.text().Findings(found, true)
	a.text().NotReached(missed)
	a.text().Totals(rep, found, missed, file)
	return a.planted(rep, entries, faults)
}

func (a *app) step(title, command string) {
	fmt.Fprintln(a.streams.Out, "\n"+a.style.In(terminal.Cyan, "# "+title))
	if command != "" {
		fmt.Fprintln(a.streams.Out, a.style.Dim("$ "+command))
	}
	fmt.Fprintln(a.streams.Out)
}

// nextOf is the command to go on with.
func nextOf(entries []*report.Cause) string {
	if len(entries) == 0 {
		return "obiter demo"
	}
	return "obiter show " + firstCase(entries)
}

// isOf reports whether a cause is about the operation and the field of a fault.
func isOf(f harbour.Fault, e *report.Cause) bool {
	return slices.Contains(e.Operations, f.Operation) && (f.Field() == "" || slices.Contains(e.Fields, f.Field()))
}

// planted holds what was found against what was planted. All of it and nothing
// else is success; the demo fails else.
func (a *app) planted(rep *report.Report, entries []*report.Cause, faults []string) error {
	out := a.streams.Out
	a.step("What was planted, and what was found", "")
	missed := 0
	explained := make([]bool, len(entries))
	for _, f := range harbour.Faults {
		if !slices.Contains(faults, f.Name) {
			continue
		}
		mark, by := a.style.In(terminal.Red, "missed"), ""
		for i, e := range entries {
			found := isOf(f, e) && e.Code == f.Code
			explained[i] = explained[i] || found || isOf(f, e) && slices.Contains(f.Also, e.Code)
			if found && by == "" {
				mark, by = a.style.In(terminal.Green, "found "), "obiter show "+e.Examples[0].Case
			}
		}
		if by == "" {
			missed++
		}
		fmt.Fprintf(out, "  %s  %-38s %-17s %s\n          %s\n", mark, f.Operation, f.Code, a.style.Dim(by), f.Says)
	}
	stray := 0
	for i, e := range entries {
		if e.Severity != judge.Note && !explained[i] { // a note accuses nobody
			stray++
		}
	}
	switch {
	case len(faults) == 0 && stray == 0:
		fmt.Fprintln(out, "  nothing was planted, and nothing was found")
	case missed == 0 && stray == 0:
		fmt.Fprintf(out, "\n%s planted, all found, and nothing else accused.\n", terminal.Plural(len(faults), "mistake"))
	}
	if missed > 0 || stray > 0 || !rep.Proven() {
		return &failure{exitFindings, fmt.Sprintf("%s missed, %s accused wrongly", terminal.Plural(missed, "mistake"), terminal.Plural(stray, "thing")), "this is a mistake of Obiter's own"}
	}
	fmt.Fprintf(out, "\nNext: %s\n      obiter demo --out harbour, then obiter demo --serve --listen 127.0.0.1:8080\n      obiter try your-openapi.yaml --at http://localhost:8080\n", nextOf(entries))
	return nil
}

func firstCase(entries []*report.Cause) string {
	if len(entries) == 0 {
		return ""
	}
	return entries[0].Examples[0].Case
}

func (a *app) listFaults() {
	t := terminal.NewTable(0)
	for _, f := range harbour.Faults {
		mark := ""
		if f.Demo {
			mark = "demo"
		}
		t.AppendRow([]any{f.Name, mark, f.Operation, f.Code, f.Says})
	}
	fmt.Fprint(a.streams.Out, terminal.Rendered(t, 0))
}

// demoFiles writes the description and a configuration for a user to play with.
func (a *app) demoFiles(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return usage.New(fmt.Sprintf("cannot create the folder %s: %v", folder, errors.Unwrap(err)), "name a folder that can be written to")
	}
	if err := files.New(filepath.Join(folder, "openapi.yaml"), harbour.Description); err != nil {
		return err
	}
	if err := files.New(filepath.Join(folder, configFile), harbour.Config); err != nil {
		return err
	}
	fmt.Fprintf(a.streams.Out, "%s and %s are written.\nNext: obiter demo --serve --listen 127.0.0.1:8080\n      cd %s && obiter try\n",
		terminal.Clean(filepath.Join(folder, "openapi.yaml")), configFile, terminal.Clean(strings.TrimSpace(folder)))
	return nil
}
