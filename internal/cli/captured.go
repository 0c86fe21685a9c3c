package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/execute/session"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/learn/match"
	"obiter/internal/results/record"
)

// transcribed makes a run file of captures, in a folder, and tells what it is made of.
func (a *app) transcribed(c *cli.Command, found *session.Captures, folder string) (file string, err error) {
	conf, err := a.configured(c)
	if err != nil {
		return "", err
	}
	doc, err := a.descriptionOf(c, conf.Description)
	if err != nil {
		return "", err
	}
	head := record.Head{Program: version(), Description: "no description", At: strings.Join(found.Names, ", "), Started: time.Now().UTC().Format(time.RFC3339), Depth: "captured", Layout: trial.Layout(conf)}
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
	file, of, err := a.session().Transcribe(found, m, head, folder)
	if err != nil {
		return "", err
	}
	a.tellOfCaptured(of, doc)
	if of.Exchanges == 0 {
		hint := "record requests to the API, their answers with them, and save them as HAR 1.2"
		if doc != nil && of.Foreign > 0 {
			hint = "name the address that the paths of the description follow: at: in obiter.yaml, or servers: in the description"
		}
		return "", &failure{exitUnproved, "there is nothing to judge in " + strings.Join(found.Names, ", "), hint}
	}
	return file, nil
}

// tellOfCaptured tells what is left out of captures.
func (a *app) tellOfCaptured(of session.Captured, doc *oad.Document) {
	if of.Foreign > 0 && doc != nil {
		fmt.Fprintf(a.streams.Err, "%s left out: of no operation of %s\n", terminal.Plural(of.Foreign, "request"), doc.Name)
	}
	if n := len(of.Contradicted); n > 0 {
		fmt.Fprintf(a.streams.Err, "warning: the service accepts requests to %s, and %s calls none of them valid: is it the description of this service, and of this version?\n", terminal.Clean(terminal.JoinMax(of.Contradicted, 6)), doc.Name)
	}
	for _, why := range slices.Sorted(maps.Keys(of.Left)) {
		fmt.Fprintf(a.streams.Err, "%s left out: %s\n", terminal.Plural(of.Left[why], "entry"), why)
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
