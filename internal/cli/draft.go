package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/usage"
	"obiter/internal/execute/files"
	"obiter/internal/execute/session"
	"obiter/internal/input/document"
	"obiter/internal/learn/draft"
	"obiter/internal/target/send"
)

func (a *app) draftCommand() *cli.Command {
	return &cli.Command{
		Name:      "draft",
		Usage:     "draft a description for an API that has none, out of captures, samples, schemas or curl lines",
		ArgsUsage: "FILE... | 'POST /path' FILE... ...",
		Description: "Reads what there is and writes an OpenAPI 3.1 document: HTTP archives (HAR 1.2; - is standard input),\n" +
			"scripts with curl command lines, and, after the operation that they are of, sample bodies and JSON\n" +
			"Schemas: obiter draft 'POST /vessels' vessel.json 'DELETE /vessels/{id}'. Several samples widen what\n" +
			"is taken for valid. GET and DELETE need none; with a DELETE, --probe can take its records away again.\n" +
			"Comments say where each part comes from, and what is a guess. Secrets are left out. Where a capture\n" +
			"has several servers, --at names the one that counts.\n\n" +
			"With --probe it sends: starting from a sample that the service accepts, it leaves each field out, makes\n" +
			"it longer and shorter, larger and smaller, of another type, until it is refused. What it finds are the\n" +
			"rules of the draft, and a table. obiter draft --probe openapi.yaml holds a description against the\n" +
			"service. Records that it makes are taken away again, or listed.",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "out", Usage: "write to `FILE`, which must not exist yet (default: standard output)"},
			&cli.StringFlag{Name: "into", Usage: "add the operations that the description in `FILE` (YAML) does not have; nothing in it is changed"},
			&cli.BoolFlag{Name: "probe", Usage: "find out by sending which rules the service at --at enforces: of the samples, or of a description alone"},
			forceFlag(),
			&cli.StringFlag{Name: "report", Usage: "with --probe: write what is found to a page, `FILE`.html"},
			&cli.StringSliceFlag{Name: "only", Usage: "with --probe: only operations that match `GLOB` (repeatable)"},
			configFlag(),
		}, serviceFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error { return a.draft(ctx, c) },
	}
}

func (a *app) draft(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() == 0 {
		return usage.New("there is nothing to draft from", "for example: obiter draft capture.har, or: obiter draft 'POST /vessels' vessel.json")
	}
	if c.String("into") != "" && c.String("out") != "" {
		return usage.New("--into and --out name two files to write to", "leave one of them out")
	}
	if report := c.String("report"); report != "" && (!c.Bool("probe") || filepath.Ext(report) != ".html") {
		return usage.New("--report writes what --probe finds, as a page", "use both, and a name that ends in .html")
	}
	if at := c.String("at"); at != "" {
		if _, err := send.Address(at); err != nil {
			return err
		}
	}
	folder, err := os.MkdirTemp("", "obiter-draft-")
	if err != nil {
		return fmt.Errorf("making a folder for standard input: %w", err)
	}
	defer os.RemoveAll(folder)
	if c.Bool("probe") && c.Args().Len() == 1 && isDescription(c.Args().First()) {
		return a.probeDescription(ctx, c)
	}
	from, err := session.DraftedFrom(c.Args().Slice(), a.streams.In, folder)
	if err != nil {
		return err
	}
	d, err := from.Draft(c.String("at"), &a.secrets)
	if err != nil {
		return err
	}
	for _, why := range slices.Sorted(maps.Keys(d.Left)) {
		fmt.Fprintf(a.streams.Err, "%s left out: %s\n", terminal.Plural(d.Left[why], "request"), why)
	}
	if d.IsEmpty() {
		return &failure{exitUnproved, "there is nothing to draft: no request was accepted", "capture requests that the service accepts, with their answers"}
	}
	if c.Bool("probe") {
		return a.probeDraft(ctx, c, d)
	}
	return a.writeDraft(c, d)
}

// writeDraft writes the draft where it is wanted.
func (a *app) writeDraft(c *cli.Command, d *draft.Draft) error {
	if into := c.String("into"); into != "" {
		return a.draftInto(d, into)
	}
	var text bytes.Buffer
	if err := d.Write(&text); err != nil {
		return err
	}
	if out := c.String("out"); out != "" {
		if c.Bool("force") {
			if err := files.Replace(out, func(w io.Writer) error { _, err := w.Write(text.Bytes()); return err }); err != nil {
				return usage.New(fmt.Sprintf("cannot write %s: %v", out, err), "name a file in a folder that exists and can be written to")
			}
		} else if err := files.New(out, text.Bytes()); err != nil {
			return err
		}
		fmt.Fprintf(a.streams.Out, "%s is written, with %s. Read it, then: obiter survey %s\n", out, terminal.Plural(len(d.Names()), "operation"), terminal.Quote(out))
		return nil
	}
	_, err := a.streams.Out.Write(text.Bytes())
	return err
}

// draftInto adds what a description does not have yet.
func (a *app) draftInto(d *draft.Draft, name string) error {
	f, err := session.OpenInput(name)
	if err != nil {
		return err
	}
	src, err := io.ReadAll(io.LimitReader(f, document.MaxBytes))
	f.Close()
	if err != nil {
		return fmt.Errorf("reading %s: %w", name, err)
	}
	text, added, err := d.Into(name, src)
	if err != nil {
		return err
	}
	if len(added) == 0 {
		fmt.Fprintf(a.streams.Out, "%s has all of it already; nothing is changed.\n", name)
		return nil
	}
	if err := os.WriteFile(name, text, 0o644); err != nil {
		return usage.New(fmt.Sprintf("cannot write %s: %v", name, errors.Unwrap(err)), "check its permissions")
	}
	fmt.Fprintf(a.streams.Out, "%s: added %s: %s\n", name, terminal.Plural(len(added), "operation"), terminal.JoinMax(added, 8))
	return nil
}
