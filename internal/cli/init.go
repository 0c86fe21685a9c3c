package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/usage"
	"obiter/internal/execute/files"
	"obiter/internal/input/config"
	"obiter/internal/input/sources"
)

const configFile = "obiter.yaml"

func (a *app) initCommand() *cli.Command {
	return &cli.Command{
		Name:      "init",
		Usage:     "start an obiter.yaml",
		ArgsUsage: "[DESCRIPTION]",
		Description: "Writes a commented configuration into the current folder: the description, its address, the records that\n" +
			"its paths seem to need, the credentials that it needs, and its operations.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "schema", Usage: "print the JSON Schema of the configuration, for editors, and write nothing"}},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Bool("schema") {
				_, err := a.streams.Out.Write(config.Schema)
				return err
			}
			return a.init(c)
		},
	}
}

func (a *app) init(c *cli.Command) error {
	if _, err := os.Stat(configFile); err == nil {
		return usage.New(configFile+" already exists and is not overwritten", "remove it first, or edit it; obiter init --schema prints what it may hold")
	}
	doc, err := a.description(c, "")
	if err != nil {
		return err
	}
	text := sources.Draft(doc, filepath.ToSlash(doc.Name))
	if err := files.New(configFile, []byte(text)); err != nil {
		return err
	}
	fmt.Fprintf(a.streams.Out, "%s is written. Read it, then: obiter try\n", configFile)
	credentials, foreign := sources.LeftOpen(doc)
	if len(credentials) > 0 {
		fmt.Fprintln(a.streams.Out, a.style.Wrap("Left open: the credentials "+terminal.Clean(terminal.JoinMax(credentials, 8))+"; set the variables, and remove the # before them.", 0))
	}
	if len(foreign) > 0 {
		fmt.Fprintln(a.streams.Out, a.style.Wrap("Left open: on which records "+terminal.Clean(terminal.JoinMax(foreign, 8))+" may be tried; nothing makes any. obiter try --controls tells what to write.", 0))
	}
	return nil
}
