package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/exchange"
	"obiter/internal/core/usage"
	"obiter/internal/execute/files"
	"obiter/internal/execute/session"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/plan"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
	"obiter/internal/learn/draft"
	"obiter/internal/learn/probe"
	"obiter/internal/results/render"
)

// isDescription reports whether a file is an OpenAPI document.
func isDescription(name string) bool {
	src, err := os.ReadFile(name)
	if err != nil || session.IsScript(src) {
		return false
	}
	tree, err := document.Read(name, src)
	if err != nil {
		return false
	}
	top, _ := tree.Value.(map[string]any)
	return top["openapi"] != nil
}

// probeDraft finds out what the operations of a draft enforce, and writes it.
func (a *app) probeDraft(ctx context.Context, c *cli.Command, d *draft.Draft) error {
	var text bytes.Buffer
	if err := d.Write(&text); err != nil {
		return err
	}
	doc, err := oad.Read("draft.yaml", text.Bytes())
	if err != nil {
		return fmt.Errorf("reading what was drafted: %w", err)
	}
	conf, err := a.configured(c)
	if err != nil {
		return err
	}
	probed, err := a.probed(ctx, c, conf, doc, d, false)
	if err != nil {
		return err
	}
	return a.tellProbed(c, d, probed, false)
}

// probeDescription holds a description against the service.
func (a *app) probeDescription(ctx context.Context, c *cli.Command) error {
	conf, err := a.configured(c)
	if err != nil {
		return err
	}
	doc, err := a.description(c, conf.Description)
	if err != nil {
		return err
	}
	d := draft.New(&a.secrets)
	server := c.String("at")
	if server == "" && len(doc.Servers) > 0 {
		server = doc.Servers[0]
	}
	d.Prefer(server)
	d.Settle()
	probed, err := a.probed(ctx, c, conf, doc, d, true)
	if err != nil {
		return err
	}
	return a.tellProbed(c, d, probed, true)
}

// probedOperation is what was found out of one operation.
type probedOperation struct {
	name    string
	found   *draft.Probed // nil: it was not probed
	why     string        // why not
	outcome probe.Outcome
	differs map[string]probe.Difference // from the description, by field
}

// probed probes the operations of a document, which is held against what is found where it
// is a description and no draft.
func (a *app) probed(ctx context.Context, c *cli.Command, conf *sources.Sources, doc *oad.Document, d *draft.Draft, described bool) ([]probedOperation, error) {
	conf.Imply(doc)
	for _, o := range doc.Operations {
		if _, _, has := d.SampleOf(o.Name()); has {
			conf.Sample(o.Name())
		}
	}
	opt, err := a.serviceOptions(c, conf, doc)
	if err != nil {
		return nil, err
	}
	opt.Plan.Only, opt.Plan.Skip, opt.Parallel = c.StringSlice("only"), conf.Skip, 1
	var out []probedOperation
	events := trial.Events{Warning: func(text string) { fmt.Fprintln(a.streams.Err, "warning: "+a.redacted(text)) },
		Remains: func(text string) { fmt.Fprintln(a.streams.Err, a.redacted(text)) },
		Service: func(text string) { fmt.Fprintln(a.streams.Err, a.redacted(text)) }}
	_, err = trial.Probe(ctx, opt, func(_ context.Context, op *plan.Operation, ask func(any) exchange.Answer) error {
		if op.IsWholeAPI() {
			return nil
		}
		p := probedOperation{name: op.Name(), why: op.SkipReason}
		base, media, has := d.SampleOf(op.Name())
		if !has && p.why == "" {
			base, has = op.Probed()
			media = exchange.MediaTypeOf(op.Media)
		}
		if !has || ask == nil {
			if op.Body != nil || p.why != "" {
				if p.why == "" {
					p.why = "its body is not JSON"
				}
				out = append(out, p)
			}
			return nil
		}
		fmt.Fprintln(a.streams.Err, a.style.Dim("probing "+terminal.Clean(op.Name())))
		p.found = d.Probe(op.Method, op.Operation.Path, media)
		p.outcome = probe.Operation(op.Patched(base), strings.HasPrefix(media, "application/merge-patch+json"), func(body any) exchange.Answer {
			answer := ask(body)
			p.found.Answered(answer)
			return answer
		}, p.found)
		if p.outcome.Chance {
			p.found.Doubted()
		}
		if described {
			p.differs = probe.Compare(op, p.found.Rules(), p.found.Types(), p.found.Sampled())
		}
		out = append(out, p)
		return ctx.Err()
	}, events)
	return out, err
}

// tellProbed prints what was found, and writes the draft where it is wanted.
func (a *app) tellProbed(c *cli.Command, d *draft.Draft, list []probedOperation, described bool) error {
	out := a.streams.Out
	if err := a.probedPage(c, d, list, described); err != nil {
		return err
	}
	if !described && c.String("out") == "" && c.String("into") == "" {
		out = a.streams.Err // the draft goes to standard output
	}
	some := false
	for _, p := range list {
		if p.found == nil {
			fmt.Fprintln(out, a.style.Bold(terminal.Clean(p.name))+"  "+a.style.Dim("not probed: "+terminal.Clean(p.why)))
			continue
		}
		some = true
		fmt.Fprintln(out, a.style.Bold(terminal.Clean(p.name))+"  "+a.style.Dim(fmt.Sprintf("%s of %s", terminal.Plural(p.outcome.Requests, "request"), terminal.Plural(p.outcome.Fields, "field"))))
		t := terminal.NewTable(2)
		for _, l := range p.found.Lines() {
			field := l.Field
			if field == "" {
				field = "(body)"
			}
			t.AppendRow(table.Row{terminal.Clean(field), terminal.Clean(l.Says)})
			if text := p.differs[l.Field].String(); text != "" {
				t.AppendRow(table.Row{"", a.style.In(terminal.Yellow, text)})
			}
		}
		fmt.Fprint(out, terminal.Rendered(t, 2))
		if p.outcome.Doubt != "" {
			fmt.Fprintln(out, "  "+a.style.In(terminal.Yellow, "Not to the end: "+terminal.Clean(a.secrets.Redact(p.outcome.Doubt))))
		}
		fmt.Fprintln(out)
	}
	if !some {
		return &failure{exitUnproved, "no operation was probed", "give a sample that the service accepts: obiter draft --probe --at URL 'POST /vessels' vessel.json"}
	}
	if described && c.String("out") == "" {
		return nil
	}
	return a.writeDraft(c, d)
}

// probedPage writes what was found as a page, if one is wanted.
func (a *app) probedPage(c *cli.Command, d *draft.Draft, list []probedOperation, described bool) error {
	name := c.String("report")
	if name == "" {
		return nil
	}
	page := render.Probed{At: d.Server(), When: time.Now().UTC().Format(time.RFC3339)}
	if described {
		page.Description = c.Args().First()
	}
	for _, p := range list {
		o := render.ProbedOperation{Name: p.name, Why: a.secrets.Redact(p.why), Doubt: a.secrets.Redact(p.outcome.Doubt), Requests: p.outcome.Requests, Fields: p.outcome.Fields}
		if p.found != nil {
			for _, l := range p.found.Lines() {
				differs := p.differs[l.Field]
				o.Lines = append(o.Lines, render.ProbedLine{Field: l.Field, Says: l.Says, NotEnforced: differs.NotEnforced, NotDescribed: differs.NotDescribed})
			}
		}
		page.Operations = append(page.Operations, o)
	}
	var text bytes.Buffer
	if err := render.ProbedPage(&text, page); err != nil {
		return fmt.Errorf("writing the page: %w", err)
	}
	if err := files.Replaceable(name, c.Bool("force"), nil); err != nil {
		return err
	}
	if err := files.Replace(name, func(w io.Writer) error { _, err := w.Write(text.Bytes()); return err }); err != nil {
		return usage.New(fmt.Sprintf("cannot write %s: %v", name, err), "name a file in a folder that exists")
	}
	fmt.Fprintln(a.streams.Err, "written: "+name)
	return nil
}
