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
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/execute/session"
	"obiter/internal/input/document"
	"obiter/internal/learn/capture"
	"obiter/internal/learn/draft"
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

// drafting is what a draft is made of.
type drafting struct {
	captures session.Captures // archives, and curl lines
	curls    map[int][]capture.Exchange
	samples  []sampled
	bare     []string // operations without a body
}

// sampled is a file that belongs to an operation.
type sampled struct {
	operation, name string
	value           any
	schema          bool
}

func (a *app) draft(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() == 0 {
		return usage("there is nothing to draft from", "for example: obiter draft capture.har, or: obiter draft 'POST /vessels' vessel.json")
	}
	if c.String("into") != "" && c.String("out") != "" {
		return usage("--into and --out name two files to write to", "leave one of them out")
	}
	if report := c.String("report"); report != "" && (!c.Bool("probe") || filepath.Ext(report) != ".html") {
		return usage("--report writes what --probe finds, as a page", "use both, and a name that ends in .html")
	}
	if at := c.String("at"); at != "" {
		if _, err := address(at); err != nil {
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
	from, err := a.draftedFrom(c.Args().Slice(), folder)
	if err != nil {
		return err
	}
	d, err := a.drafted(from, c.String("at"))
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

// operationName is how an operation is named among the arguments.
var operationName = regexp.MustCompile(`^(GET|POST|PUT|PATCH|DELETE|QUERY) (/\S*)$`)

// draftedFrom sorts the arguments.
func (a *app) draftedFrom(args []string, folder string) (*drafting, error) {
	out := &drafting{curls: map[int][]capture.Exchange{}}
	operation := ""
	used := true
	for _, arg := range args {
		if operationName.MatchString(arg) {
			if !used {
				return nil, usage(fmt.Sprintf("no file follows %q", operation), "name the samples of an operation after it")
			}
			operation, used = arg, false
			if method, _, _ := strings.Cut(arg, " "); method == "GET" || method == "DELETE" { // without a body
				out.bare, used = append(out.bare, arg), true
			}
			continue
		}
		if arg != "-" && strings.Contains(arg, " ") {
			if _, err := os.Stat(arg); err != nil {
				return nil, usage(fmt.Sprintf("%q is neither a file nor an operation", arg), "write an operation as 'POST /vessels'")
			}
		}
		if err := a.draftFile(out, arg, operation, folder); err != nil {
			return nil, err
		}
		used = true
	}
	if !used {
		return nil, usage(fmt.Sprintf("no file follows %q", operation), "name the samples of an operation after it")
	}
	return out, nil
}

// draftFile looks what a file is.
func (a *app) draftFile(out *drafting, name, operation, folder string) error {
	file := name
	if name == "-" {
		file = filepath.Join(folder, "standard-input")
		if err := session.SaveInput(a.streams.In, file); err != nil {
			return err
		}
	}
	f, err := openInput(file)
	if err != nil {
		return err
	}
	defer f.Close()
	sort := capture.Detect(f)
	if sort == capture.RunFile {
		return usage(name+" is a run file", "write it as an archive first: obiter report --out capture.har, then draft from that")
	}
	if sort == capture.IsArchive {
		out.captures.Add(name, file, sort)
		return nil
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	src, err := io.ReadAll(io.LimitReader(f, session.MaxDocument+1))
	if err != nil || len(src) > session.MaxDocument {
		return usage(name+" is too large for a sample", "a sample is one body; save captures as HAR 1.2")
	}
	if tree, err := document.Read(name, src); err == nil && !isScript(src) {
		s := sampled{operation, name, tree.Value, isSchema(tree.Value)}
		if operation == "" && !s.schema {
			return usage(fmt.Sprintf("of which operation is %s a sample?", name), "name it first: obiter draft 'POST /vessels' "+terminal.Quote(name))
		}
		out.samples = append(out.samples, s)
		return nil
	} else if !isScript(src) {
		return err
	}
	found, err := capture.Curl(src, func(other string) ([]byte, error) { return readBeside(name, other) })
	if err != nil {
		return usage(fmt.Sprintf("cannot read %s: %v", name, err), "correct the command line there")
	}
	if len(found) == 0 {
		return usage(name+" has no curl command line in it", "draft reads HTTP archives (HAR 1.2), curl lines, and sample bodies after their operation")
	}
	out.curls[len(out.captures.Names)] = found
	out.captures.Add(name, file, capture.Unknown)
	return nil
}

// curlLine tells a script with curl lines from a document.
var curlLine = regexp.MustCompile(`(?m)^\s*(\$\s*)?curl\s`)

func isScript(src []byte) bool { return curlLine.Match(src) }

// readBeside reads a file that another names, relative to that.
func readBeside(name, other string) ([]byte, error) {
	if !filepath.IsAbs(other) {
		other = filepath.Join(filepath.Dir(name), other)
	}
	f, err := openInput(other)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, session.MaxDocument))
}

// openInput opens a file that a draft is made of.
func openInput(name string) (*os.File, error) {
	return session.OpenRegular(name, name, usage("there is no file "+name, "name a capture, a sample or a schema"))
}

// isSchema reports whether a value is a JSON Schema, and not a sample.
func isSchema(v any) bool {
	m, is := v.(map[string]any)
	if !is {
		return false
	}
	if _, says := m["$schema"].(string); says {
		return true
	}
	_, typed := m["type"].(string)
	_, properties := m["properties"].(map[string]any)
	return typed && properties
}

// drafted makes the draft.
func (a *app) drafted(from *drafting, at string) (*draft.Draft, error) {
	d := draft.New(&a.secrets)
	d.Prefer(at)
	each := func(left capture.Left, visit func(x capture.Exchange, name string)) error {
		for i, name := range from.captures.Names {
			if list, is := from.curls[i]; is {
				for _, x := range list {
					visit(x, name)
				}
				continue
			}
			var one session.Captures
			one.Add(name, from.captures.Files[i], capture.IsArchive)
			if err := one.Source(left, func(x capture.Exchange) bool { visit(x, name); return true }); err != nil {
				return err
			}
		}
		return nil
	}
	if err := each(capture.Left(d.Left), func(x capture.Exchange, _ string) {
		session.LearnSecrets(&a.secrets, x)
		d.See(x)
	}); err != nil {
		return nil, err
	}
	d.Settle()
	for _, refused := range []bool{false, true} {
		if err := each(capture.Left{}, func(x capture.Exchange, name string) { d.AddIf(x, name, refused) }); err != nil {
			return nil, err
		}
	}
	for _, operation := range from.bare {
		method, template, _ := strings.Cut(operation, " ")
		d.Named(method, template, "the command line")
	}
	for _, s := range from.samples {
		name := strings.TrimSuffix(filepath.Base(s.name), filepath.Ext(s.name))
		if object, is := s.value.(map[string]any); is && s.schema {
			d.SchemaOf(draft.Schema{Operation: s.operation, Name: name, Value: object, From: s.name})
			continue
		}
		method, template, _ := strings.Cut(s.operation, " ")
		d.Sample(method, template, s.value, s.name)
	}
	return d, nil
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
			if err := replace(out, func(w io.Writer) error { _, err := w.Write(text.Bytes()); return err }); err != nil {
				return usage(fmt.Sprintf("cannot write %s: %v", out, err), "name a file in a folder that exists and can be written to")
			}
		} else if err := newFile(out, text.Bytes()); err != nil {
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
	f, err := openInput(name)
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
		return usage(fmt.Sprintf("cannot write %s: %v", name, errors.Unwrap(err)), "check its permissions")
	}
	fmt.Fprintf(a.streams.Out, "%s: added %s: %s\n", name, terminal.Plural(len(added), "operation"), terminal.JoinMax(added, 8))
	return nil
}
