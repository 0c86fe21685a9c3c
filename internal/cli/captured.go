package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"obiter/internal/execute/run"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/learn/capture"
	"obiter/internal/learn/match"
	"obiter/internal/results/record"
)

// maxDocument is the size of the largest problem document read by itself, in bytes.
const maxDocument = 16 << 20

// captures are files of exchanges that others recorded.
type captures struct {
	names []string // as they were named
	files []string // where they are read
	sorts []capture.Sort
}

func (c *captures) add(name, file string, sort capture.Sort) {
	c.names, c.files, c.sorts = append(c.names, name), append(c.files, file), append(c.sorts, sort)
}

// capturesNamed are the captures among what judge is given; nil where they are run files.
// Standard input, named -, is kept in the folder first, for it is read twice.
func (a *app) capturesNamed(names []string, folder string) (*captures, error) {
	out := &captures{}
	runFile := false
	for _, name := range names {
		file := name
		if name == "-" {
			if slices.Contains(out.names, "-") {
				return nil, usage("standard input is named twice", "name it once")
			}
			file = filepath.Join(folder, "standard-input")
			if err := spool(a.streams.In, file); err != nil {
				return nil, err
			}
		}
		f, err := openFile(file)
		if err != nil {
			return nil, err
		}
		sort := capture.SortOf(f)
		f.Close()
		if sort == capture.RunFile {
			runFile = true
		}
		out.add(name, file, sort)
	}
	switch {
	case !runFile:
		return out, nil
	case slices.Contains(out.sorts, capture.IsArchive):
		return nil, usage("run files and captures are not judged together", "judge them one after the other")
	}
	return nil, nil
}

func spool(from io.Reader, file string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fmt.Errorf("keeping standard input: %w", err)
	}
	_, err = io.Copy(f, from)
	if err := errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("keeping standard input: %w", err)
	}
	return nil
}

// source gives out what the captures hold.
func (c *captures) source(left capture.Left, yield func(capture.Exchange) bool) error {
	before := 0 // entries of the files before
	for i, file := range c.files {
		f, err := os.Open(file)
		if err != nil {
			return usage(fmt.Sprintf("cannot read %s: %v", c.names[i], errors.Unwrap(err)), "")
		}
		last, err := c.each(i, f, left, func(x capture.Exchange) bool {
			x.Entry += before
			return yield(x)
		})
		f.Close()
		if err != nil {
			return err
		}
		before += last
	}
	return nil
}

func (c *captures) each(i int, f *os.File, left capture.Left, yield func(capture.Exchange) bool) (last int, err error) {
	if c.sorts[i] == capture.IsArchive {
		for x, err := range capture.Archive(f, left) {
			if err != nil {
				return last, c.unreadable(i, err)
			}
			if last = x.Entry; !yield(x) {
				break
			}
		}
		return last, nil
	}
	src, err := io.ReadAll(io.LimitReader(f, maxDocument+1))
	if err != nil || len(src) > maxDocument {
		return 0, usage(fmt.Sprintf("%s is neither a run file nor an HTTP archive, and too large for a problem document", c.names[i]), "save the capture as HAR 1.2")
	}
	x, err := capture.Document(bytes.TrimSpace(src))
	if err != nil {
		return 0, c.unreadable(i, err)
	}
	yield(x)
	return 1, nil
}

func (c *captures) unreadable(i int, err error) error {
	return usage(fmt.Sprintf("cannot read %s: %v", c.names[i], err), "judge reads run files, HTTP archives (HAR 1.2) and problem documents (RFC 9457); save the capture again")
}

// transcribed makes a run file of captures, in a folder, and tells what it is made of.
func (a *app) transcribed(c *cli.Command, found *captures, folder string) (file string, err error) {
	conf, err := a.configured(c)
	if err != nil {
		return "", err
	}
	doc, err := a.descriptionOf(c, conf.Description)
	if err != nil {
		return "", err
	}
	head := record.Head{Program: version(), Description: "no description", At: strings.Join(found.names, ", "), Started: time.Now().UTC().Format(time.RFC3339), Depth: "captured", Layout: trial.Layout(conf)}
	var m *match.Matcher
	if doc != nil {
		conf.Imply(doc)
		opt := trial.Configured(plan.Options{}, doc, conf, nil)
		opt.Foreign = nil
		if m, err = match.New(doc, conf.At, opt); err != nil {
			return "", err
		}
		head.Description, head.Digest = doc.Name, doc.Digest()
	}
	file = filepath.Join(folder, "captured.ndjson")
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return "", fmt.Errorf("keeping the captured exchanges: %w", err)
	}
	defer f.Close()
	w, err := record.NewWriter(f, head)
	if err != nil {
		return "", err
	}
	of, err := run.Transcribe(found.source, m, &a.secrets, w)
	if err == nil {
		err = w.Close(record.Totals{Cases: of.Exchanges})
	}
	if err != nil {
		return "", err
	}
	a.tellOfCaptured(of, doc)
	if of.Exchanges == 0 {
		hint := "record requests to the API, their answers with them, and save them as HAR 1.2"
		if doc != nil && of.Foreign > 0 {
			hint = "name the address that the paths of the description follow: at: in obiter.yaml, or servers: in the description"
		}
		return "", &failure{exitUnproved, "there is nothing to judge in " + strings.Join(found.names, ", "), hint}
	}
	return file, nil
}

// tellOfCaptured tells what is left out of captures.
func (a *app) tellOfCaptured(of run.Captured, doc *oad.Document) {
	if of.Foreign > 0 && doc != nil {
		fmt.Fprintf(a.streams.Err, "%s left out: of no operation of %s\n", plural(of.Foreign, "request"), doc.Name)
	}
	if n := len(of.Contradicted); n > 0 {
		fmt.Fprintf(a.streams.Err, "warning: the service accepts requests to %s, and %s calls none of them valid: is it the description of this service, and of this version?\n", clean(some(of.Contradicted, 6)), doc.Name)
	}
	for _, why := range slices.Sorted(maps.Keys(of.Left)) {
		fmt.Fprintf(a.streams.Err, "%s left out: %s\n", plural(of.Left[why], "entry"), why)
	}
}

// descriptionOf reads the description that an option names, else the configured one or
// the usual one of the current folder; nil where there is none.
func (a *app) descriptionOf(c *cli.Command, configured string) (*oad.Document, error) {
	name := c.String("description")
	if name == "" {
		name = configured
	}
	if name == "" {
		name = usualName()
	}
	if name == "" {
		return nil, nil
	}
	return a.openDescription(name)
}
