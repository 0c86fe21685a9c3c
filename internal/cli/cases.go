package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/plan"
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
		if _, err := address(base); err != nil {
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
		return a.writeCases(p, c.String("out"), c.Bool("force"), out)
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

const indexName = "index.ndjson"

// writeCases writes each payload to a file of its own, and an index that has
// the case line of each with the file's name.
func (a *app) writeCases(p *plan.Plan, folder string, force bool, out io.Writer) error {
	if err := ownFolder(folder, force); err != nil {
		return err
	}
	index, err := os.CreateTemp(folder, ".index-*")
	if err != nil {
		return fmt.Errorf("writing to %s: %w", folder, err)
	}
	defer os.Remove(index.Name())
	defer index.Close()
	buffered := bufio.NewWriter(index)
	n := 0
	for op := range p.Operations() {
		sub := fileName(op.Name())
		for c := range op.Cases() {
			c = a.secrets.Case(c)
			name := filepath.Join(sub, c.ID+extension(c))
			if err := os.MkdirAll(filepath.Join(folder, sub), 0o755); err != nil {
				return fmt.Errorf("writing to %s: %w", folder, err)
			}
			if err := os.WriteFile(filepath.Join(folder, name), c.Request.Body, 0o644); err != nil {
				return fmt.Errorf("writing a payload: %w", err)
			}
			line, err := instance.Written(struct {
				File string `json:"file"`
				exchange.Case
			}{filepath.ToSlash(name), c})
			if err == nil {
				_, err = buffered.Write(append(line, '\n'))
			}
			if err != nil {
				return fmt.Errorf("writing the index: %w", err)
			}
			n++
		}
	}
	if err := errors.Join(buffered.Flush(), index.Close()); err != nil {
		return fmt.Errorf("writing the index: %w", err)
	}
	if err := os.Rename(index.Name(), filepath.Join(folder, indexName)); err != nil {
		return fmt.Errorf("writing the index: %w", err)
	}
	if err := os.Chmod(filepath.Join(folder, indexName), 0o644); err != nil {
		return fmt.Errorf("writing the index: %w", err)
	}
	fmt.Fprintf(out, "%s in %s, listed in %s.\n", terminal.Plural(n, "payload"), terminal.Clean(folder), terminal.Clean(filepath.Join(folder, indexName)))
	return nil
}

// ownFolder makes the folder, and removes what its index lists of an earlier time. It refuses one
// that holds other things, unless force is set.
func ownFolder(folder string, force bool) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return usage(fmt.Sprintf("--out: cannot create the folder %s: %v", folder, errors.Unwrap(err)), "name a folder that can be written to")
	}
	listed, err := listedIn(folder)
	if err != nil {
		return err
	}
	var others string
	err = filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		name, _ := filepath.Rel(folder, path)
		if err == nil && !d.IsDir() && !listed[filepath.ToSlash(name)] && others == "" {
			others = name
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("reading %s: %w", folder, err)
	}
	if others != "" && !force {
		return usage(fmt.Sprintf("--out %s: the folder holds %s, which the index there does not list", folder, others), "name a new folder, empty this one, or write into it with --force")
	}
	for name := range listed {
		if err := os.Remove(filepath.Join(folder, filepath.FromSlash(name))); err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("removing what was written before: %w", err)
		}
	}
	return nil
}

// maxIndex bounds the index of a folder of payloads, in bytes.
const maxIndex = 1 << 30

// listedIn are the files of a folder that its index lists, and the index; none where it has none.
func listedIn(folder string) (map[string]bool, error) {
	name := filepath.Join(folder, indexName)
	info, err := os.Lstat(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err == nil && !info.Mode().IsRegular() {
		return nil, usage(name+" is not a file", "name a new folder")
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	defer f.Close()
	out := map[string]bool{indexName: true}
	for lines := json.NewDecoder(io.LimitReader(f, maxIndex)); lines.More(); {
		var line struct{ File string }
		if err := lines.Decode(&line); err != nil {
			return nil, nil // it is another file
		}
		if filepath.IsLocal(filepath.FromSlash(line.File)) {
			out[line.File] = true
		}
	}
	return out, nil
}

func extension(c exchange.Case) string {
	if c.Body != nil {
		return ".json"
	}
	return ".txt"
}

// fileName makes a folder's name of an operation's.
func fileName(operation string) string {
	name := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '-', r == '.', r == '_':
			return r
		}
		return '-'
	}, operation)
	for strings.Contains(name, "--") {
		name = strings.ReplaceAll(name, "--", "-")
	}
	return strings.Trim(name, "-.")
}
