package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/usage"
	"obiter/internal/execute/files"
	"obiter/internal/execute/session"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/results/record"
	"obiter/internal/results/render"
	"obiter/internal/results/report"
	"obiter/internal/target/send"
)

func (a *app) tryCommand() *cli.Command {
	return &cli.Command{
		Name:      "try",
		Usage:     "send the cases and judge every answer",
		ArgsUsage: "[DESCRIPTION]",
		Flags: append(append(append(append(planFlags(), shardFlag()), againFlags()...), serviceFlags()...),
			&cli.IntFlag{Name: "parallel", Value: 8, Usage: "requests in flight at the same time"},
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text; json: the findings as one document; ndjson: the run file"},
			&cli.StringFlag{Name: "save", Usage: "write the run file to `FILE`, too"},
			forceFlag(),
			&cli.BoolFlag{Name: "quiet", Usage: "print neither progress nor text: errors, and what --format asks for"},
			&cli.StringSliceFlag{Name: "report", Usage: "write a report to `FILE`, too (repeatable): " + render.FormatHelp()},
			&cli.BoolFlag{Name: "keep-bodies", Usage: "keep and judge up to 1 MiB of an answer, not 64 KiB"},
			&cli.BoolFlag{Name: "controls", Usage: "send the valid requests only, and say what each operation needs to be reached"},
			&cli.BoolFlag{Name: "write", Usage: "with --controls: write what would reach more into the configuration, as comments"},
			failOnFlag(),
			allFlag(),
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Bool("watch") {
				return a.watch(ctx, c)
			}
			return a.try(ctx, c)
		},
	}
}

// attempt is one run of try, with what its options ask for.
type attempt struct {
	*app
	c       *cli.Command
	session *session.Session
	conf    *sources.Sources
	doc     *oad.Document
	opt     trial.Options
	reports []reportTo
	words   io.Writer // takes what happens, in words
	events  trial.Events
	reach   *reach
	result  result
}

func (a *app) try(ctx context.Context, c *cli.Command) error {
	t := &attempt{app: a, c: c}
	if err := t.prepare(); err != nil {
		return err
	}
	if isRerun(c) {
		return t.again(ctx)
	}
	out, ended := trial.Run(ctx, t.opt, t.events)
	if out.Report == nil {
		return ended
	}
	r := &t.result
	r.report, r.failed, r.stuck, r.description, r.at = out.Report, out.Failed, out.Stuck, t.doc.Name, t.opt.Base.String()
	var failed error
	if session.EndedByItself(ended, t.conf) && ctx.Err() == nil && !t.opt.Plan.ControlsOnly {
		var of *session.Result
		if of, ended, failed = a.recovered(ctx, t.session, t.opt, t.events, ended); of != nil {
			r.of(of)
		}
	}
	return t.finish(ended, failed)
}

// prepare reads the options and the files, and looks whether what is to be written can be.
func (t *attempt) prepare() (err error) {
	c := t.c
	format := c.String("format")
	if c.Bool("write") && (!c.Bool("controls") || format != "text") {
		return usage.New("--write goes with --controls, in text", "obiter try --controls --write")
	}
	if t.conf, t.doc, err = t.prepared(c); err != nil {
		return err
	}
	if t.opt, err = t.trialOptions(c, t.conf, t.doc); err != nil {
		return err
	}
	if t.reports, err = reportsTo(c.StringSlice("report"), "", c.Bool("force"), []string{store.Last()}); err != nil {
		return err
	}
	if t.quiet = c.Bool("quiet"); t.quiet && format == "text" {
		t.streams.Out = io.Discard
	}
	t.words = t.streams.Out
	if format != "text" {
		t.words = io.Discard
	}
	if format == "ndjson" {
		t.opt.Copy = t.streams.Out
	}
	if t.session, err = t.knowing(); err != nil {
		return err
	}
	t.opt.Known = t.session.Known
	if err := oneOf("--fail-on", c.String("fail-on"), failOn...); err != nil {
		return err
	}
	t.result = result{format: format, failOn: c.String("fail-on"), reachAll: t.conf.ReachAll, all: c.Bool("all"), shard: c.String("shard")}
	t.events = t.app.events(t.words, t.doc, t.opt.Base)
	finished := t.events.Finished
	t.events.Finished = func(op *plan.Operation, l *report.Line) {
		t.result.beyond += op.Drops[plan.BeyondBudget]
		finished(op, l)
	}
	t.opt.Plan.ControlsOnly = c.Bool("controls")
	t.reach = newReach(t.conf, t.doc)
	if t.opt.Plan.ControlsOnly {
		t.events.Finished = t.reach.finished
	}
	if !t.quiet && !store.HasAddress(t.opt.Base.String()) {
		begun := t.events.Begun
		t.events.Begun = func(p *plan.Plan) {
			begun(p)
			t.announce(t.words, t.conf, p)
		}
	}
	return nil
}

// again sends some cases of the last run again.
func (t *attempt) again(ctx context.Context) (status error) {
	x, err := t.rerun(t.c, t.session, &t.opt)
	if err != nil {
		return err
	}
	if len(x.Chosen) == 0 {
		return t.nothingToRerun(x, t.result)
	}
	out, ended := trial.Run(ctx, t.opt, t.events)
	if out.Report == nil {
		return ended
	}
	defer func() { status = t.reported(store.Last(), status) }()
	return t.finishRerun(x, out, true, t.result, ended)
}

// finish stores the run, prints what was judged, whatever ended it, and writes the reports. What
// failed of it is what the command ends with.
func (t *attempt) finish(ended, failed error) (status error) {
	last, own, dispose, err := t.session.Keep(t.partial(ended))
	failed = errors.Join(failed, err)
	if t.result.file = last; err != nil {
		t.result.file, own = t.session.Current(), t.session.Current()
	}
	defer func() {
		status = t.reported(own, status)
		status = errors.Join(failed, status, dispose())
	}()
	r := &t.result
	if r.failOn == "new" && ended == nil && failed == nil {
		if r.newlyWrong, err = t.newlyWrong(); err != nil {
			return err
		}
	}
	if !t.opt.Plan.ControlsOnly || r.format != "text" {
		return t.outcome(*r, ended)
	}
	refused := t.app.reach(r.report, t.reach, own)
	if t.c.Bool("write") {
		if e := t.writeNotes(cmp.Or(t.c.String("config"), configFile), t.doc, t.reach.notes); e != nil {
			return e
		}
	}
	if ended == nil && (refused != nil || len(r.failed) == 0 && r.stuck == 0) {
		return refused
	}
	return t.ended(*r, ended)
}

// partial reports whether a run says nothing of cases that another one tried.
func (t *attempt) partial(ended error) bool {
	return ended != nil || narrowing(t.c) != "" || t.opt.Plan.ControlsOnly || t.c.String("shard") != ""
}

// reported writes the reports of a run; what cannot be written is what the command
// ends with.
func (t *attempt) reported(run string, status error) error {
	if len(t.reports) == 0 {
		return status
	}
	if err := t.writeReports([]string{run}, t.reports); err != nil {
		return err
	}
	return status
}

// serviceFlags are the options of every command that sends.
func serviceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "at", Usage: "the `URL` of the service (default: at: in obiter.yaml, then the description's first server)"},
		&cli.DurationFlag{Name: "timeout", Value: 10 * time.Second, Usage: "limit for one exchange, from connecting to the last byte"},
		&cli.FloatFlag{Name: "rate", Usage: "send at most `NUMBER` requests a second (default: as many as the service answers)"},
		&cli.StringSliceFlag{Name: "header", Usage: "add `'Name: value'` to every request (repeatable); values are not kept"},
		&cli.StringSliceFlag{Name: "allow-host", Usage: "send to `HOST`, too; without it, only to this machine (repeatable)"},
		&cli.StringFlag{Name: "ca", Usage: "trust the certificates in `FILE` (PEM), too"},
		&cli.StringFlag{Name: "cert", Usage: "show the client certificate in `FILE` (PEM); with --key"},
		&cli.StringFlag{Name: "key", Usage: "the private key of --cert, in `FILE` (PEM)"},
		&cli.BoolFlag{Name: "insecure", Usage: "do not check the service's certificate"},
	}
}

// announce says before the first run against an address what is going to happen: how
// much, on which records, and what may stay.
func (a *app) announce(words io.Writer, conf *sources.Sources, p *plan.Plan) {
	var names []string
	for name := range p.Names() {
		names = append(names, name)
	}
	requests := ""
	if n, all := p.Count(countTime); all {
		requests = ", about " + terminal.Plural(n, "request")
	} else {
		requests = ", more than " + terminal.Plural(n, "request")
	}
	line := "The first run against this address: " + terminal.Plural(p.Len(), "operation") + requests + ". What changes or removes goes only to records that are made for it and taken away again"
	if makes := conf.Makes(names); len(makes) > 0 {
		line += ": " + terminal.JoinMax(makes, 5)
	}
	fmt.Fprintln(words, a.style.Dim(a.style.Wrap(terminal.Clean(line+"."), 0)))
	if stay := conf.Stay(p.Selected()); len(stay) > 0 {
		fmt.Fprintln(words, a.style.Dim(a.style.Wrap(terminal.Clean("Nothing takes away the records of "+terminal.JoinMax(stay, 5)+"; what stays is listed at the end."), 0)))
	}
	fmt.Fprintln(words)
}

// countTime bounds how long requests are counted before the first run.
const countTime = 2 * time.Second

// serviceOptions reads the options of serviceFlags.
func (a *app) serviceOptions(c *cli.Command, conf *sources.Sources, doc *oad.Document) (opt trial.Options, err error) {
	at := cmp.Or(c.String("at"), conf.At)
	if at == "" && len(doc.Servers) > 0 {
		at = doc.Servers[0]
	}
	if at == "" {
		return opt, usage.New("no service URL: name it with --at, or under at: in obiter.yaml", "for example --at http://localhost:8080")
	}
	if opt.Base, err = send.Address(at); err != nil {
		return opt, err
	}
	if c.Duration("timeout") <= 0 {
		return opt, usage.New(fmt.Sprintf("invalid value %q for --timeout", c.Duration("timeout")), "use a time above zero, for example 5s")
	}
	if r := c.Float("rate"); c.IsSet("rate") && !(r > 0) {
		return opt, usage.New(fmt.Sprintf("invalid value \"%v\" for --rate", r), "use a number above zero, for example 50")
	}
	headers, err := send.Headers(c.StringSlice("header"))
	if err != nil {
		return opt, err
	}
	trust, err := send.Trust(cmp.Or(c.String("ca"), conf.Files.CA), cmp.Or(c.String("cert"), conf.Files.Cert), cmp.Or(c.String("key"), conf.Files.Key), c.Bool("insecure"))
	if err != nil {
		return opt, err
	}
	if c.Bool("insecure") {
		fmt.Fprintln(a.streams.Err, "warning: --insecure: the service's certificate is not checked, so anyone in between can read and change what is sent")
	}
	opt.Config, opt.Document, opt.Secrets, opt.Folder = conf, doc, &a.secrets, trial.RunFolder
	opt.Send = send.Options{Timeout: c.Duration("timeout"), Rate: c.Float("rate"), AllowHosts: append(c.StringSlice("allow-host"), conf.AllowHosts...), Headers: headers, Agent: agent(), RunID: rand.Text(), TLS: trust}
	opt.Plan.Base = strings.TrimSuffix(opt.Base.String(), "/")
	return opt, nil
}

// trialOptions reads the options of try.
func (a *app) trialOptions(c *cli.Command, conf *sources.Sources, doc *oad.Document) (opt trial.Options, err error) {
	if opt, err = a.serviceOptions(c, conf, doc); err != nil {
		return opt, err
	}
	if opt.Plan, err = planOptions(c, conf, opt.Plan.Base); err != nil {
		return opt, err
	}
	if c.Int("parallel") < 1 || c.Int("parallel") > 1024 {
		return opt, usage.New(fmt.Sprintf("invalid value \"%d\" for --parallel", c.Int("parallel")), "use 1 to 1024")
	}
	if err := oneOf("--format", c.String("format"), "text", "json", "ndjson"); err != nil {
		return opt, err
	}
	if opt.Plan, err = sharded(c, doc, conf, opt.Plan); err != nil {
		return opt, err
	}
	opt.Parallel, opt.KeepBodies = c.Int("parallel"), c.Bool("keep-bodies")
	opt.Brief = c.String("format") != "json" // which has all that a report tells
	opt.Head = head(c.String("depth"))
	opt.Head.Options, opt.Head.Shard = narrowing(c), c.String("shard")
	if opt.Files = []string{store.Current()}; c.String("save") != "" {
		if err := files.Replaceable(c.String("save"), c.Bool("force"), nil); err != nil {
			return opt, err
		}
		opt.Files = append(opt.Files, c.String("save"))
	}
	return opt, nil
}

// head is what a run file says of its making.
func head(depth string) record.Head {
	return record.Head{Program: version(), Depth: depth, Started: time.Now().UTC().Format(time.RFC3339)}
}

// events turns what happens in a trial into text.
func (a *app) events(words io.Writer, doc *oad.Document, base *url.URL) trial.Events {
	var bar *terminal.Progress
	width := 0
	return trial.Events{
		Warning: func(text string) { fmt.Fprintln(a.streams.Err, "warning: "+a.redacted(text)) },
		Service: func(text string) {
			if !a.quiet || strings.HasPrefix(text, "  | ") {
				fmt.Fprintln(a.streams.Err, terminal.Clean(text))
			}
		},
		Remains: func(text string) { fmt.Fprintln(a.streams.Err, terminal.Clean(text)) },
		Begun: func(p *plan.Plan) {
			fmt.Fprintln(words, a.text().Heading(doc)+a.style.Dim(", at "+a.redacted(base.String())))
			fmt.Fprintln(words)
			for op := range p.Names() {
				width = terminal.NameWidth(width, op)
			}
			if !a.quiet {
				bar = terminal.NewProgress(a.terminal.Err, p.Len())
			}
		},
		Progress: func(done int) { bar.Sent(done) },
		Finished: func(op *plan.Operation, l *report.Line) {
			bar.Clear()
			fmt.Fprintln(words, "  "+a.text().OperationLine(l, op.SkipReason, width))
			bar.OperationDone(l.Failed + l.Form)
		},
		Revised: func(lines []*report.Line) { a.text().Revised(words, lines) },
	}
}

func agent() string {
	v, _, _ := strings.Cut(version(), " ")
	return "obiter/" + v
}
