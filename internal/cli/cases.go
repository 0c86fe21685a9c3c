package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/instance"
	"obiter/internal/execute/payload"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/plan"
	"obiter/internal/target/send"
)

func (a *app) casesCommand() *cli.Command {
	return &cli.Command{
		Name:      "cases",
		Usage:     "the requests planned: to look at, or to write out",
		ArgsUsage: "[DESCRIPTION]",
		Flags: append(append(planFlags(), shardFlag()),
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text, or ndjson: a case a line"},
			&cli.StringFlag{Name: "out", Usage: "write each payload to a file in `FOLDER`, with an index"},
			forceFlag(),
			&cli.BoolFlag{Name: "dropped", Usage: "list the flaws that were not planned, and why"},
			&cli.StringFlag{Name: "at", Usage: "the `URL` that the paths follow"},
		),
		Action: a.cases,
	}
}

func (a *app) cases(_ context.Context, c *cli.Command) error {
	format := c.String("format")
	if err := oneOf("--format", format, "text", "ndjson"); err != nil {
		return err
	}
	conf, doc, err := a.prepared(c)
	if err != nil {
		return err
	}
	base := cmp.Or(c.String("at"), conf.At)
	if base != "" {
		if _, err := send.Address(base); err != nil {
			return err
		}
	}
	opt, err := planOptions(c, conf, base)
	if err != nil {
		return err
	}
	if opt, err = sharded(c, doc, conf, opt); err != nil {
		return err
	}
	p, err := a.planned(doc, trial.Configured(opt, doc, conf, nil))
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(a.streams.Out, 64<<10)
	defer out.Flush()
	switch {
	case c.String("out") != "":
		folder := c.String("out")
		n, err := payload.Write(p, folder, c.Bool("force"), &a.secrets)
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "%s in %s, listed in %s.\n", terminal.Plural(n, "payload"), terminal.Clean(folder), terminal.Clean(filepath.Join(folder, payload.Index)))
		return nil
	case format == "ndjson":
		return a.writeLines(p, out)
	}
	fmt.Fprintln(out, a.text().Heading(doc))
	if shard := c.String("shard"); shard != "" && len(opt.Within) == 0 {
		fmt.Fprintln(out, "Shard "+shard+" has no operations: there are more shards than collections.")
		return nil
	}
	return a.listCases(p, out, c.Bool("dropped"))
}

// writeLines writes case lines. Operations are planned and written several at a
// time, each to a text of its own.
func (a *app) writeLines(p *plan.Plan, out io.Writer) error {
	type lines struct {
		text bytes.Buffer
		err  error
	}
	for l := range plan.Map(p, runtime.GOMAXPROCS(0), func(op *plan.Operation) *lines {
		l := &lines{}
		for c := range op.Cases() {
			line, err := instance.Written(a.secrets.Case(c))
			l.err = cmp.Or(l.err, err)
			l.text.Write(append(line, '\n'))
		}
		return l
	}) {
		if _, err := l.text.WriteTo(out); err != nil || l.err != nil {
			return fmt.Errorf("writing the cases: %w", cmp.Or(err, l.err))
		}
	}
	return nil
}

// listed is what is told of one operation.
type listed struct {
	skipped string // its line, where nothing is planned
	text    string
	planned int
	drops   map[string]int
}

func (a *app) listCases(p *plan.Plan, out io.Writer, dropped bool) error {
	planned := 0
	drops := map[string]int{}
	var skipped []string
	for l := range plan.Map(p, runtime.GOMAXPROCS(0), func(op *plan.Operation) listed { return a.listed(op, dropped) }) {
		if l.skipped != "" {
			skipped = append(skipped, l.skipped)
			continue
		}
		fmt.Fprint(out, l.text)
		planned += l.planned
		for why, k := range l.drops {
			drops[why] += k
		}
	}
	for i, s := range skipped {
		if i == 0 {
			fmt.Fprintln(out, "\n"+a.style.Bold("Left out"))
		}
		fmt.Fprintln(out, "  "+s)
	}
	if planned == 0 {
		fmt.Fprintln(out, "\nEvery operation is left out, so no case is planned.")
		return nil
	}
	fmt.Fprintf(out, "\n%s planned.\n", terminal.Plural(planned, "case"))
	for _, why := range slices.Sorted(maps.Keys(drops)) {
		fmt.Fprintf(out, "%s not planned: %s.\n", terminal.Plural(drops[why], "flaw"), why)
	}
	return nil
}

func (a *app) listed(op *plan.Operation, dropped bool) listed {
	if op.SkipReason != "" {
		return listed{skipped: terminal.Clean(op.Name() + ": " + instance.Shorten(a.secrets.Redact(op.SkipReason), 200))}
	}
	t := terminal.NewTable(2)
	n := 0
	for c := range op.Cases() {
		n++
		c = a.secrets.Case(c)
		t.AppendRow(table.Row{c.ID, terminal.Expected(c), terminal.Clean(terminal.Describe(c))})
	}
	var b strings.Builder
	fmt.Fprintf(&b, "\n%s  %s\n%s", a.style.Bold(terminal.Clean(op.Name())), a.style.Dim(terminal.Plural(n, "case")), terminal.Rendered(t, 2))
	for _, d := range op.Dropped {
		if dropped {
			fmt.Fprintln(&b, a.redacted(fmt.Sprintf("  not planned: %s %s %s, for %s", d.Flaw.Pointer, d.Flaw.Rule, d.Flaw.Variant, d.Why)))
		}
	}
	return listed{text: b.String(), planned: n, drops: op.Drops}
}
