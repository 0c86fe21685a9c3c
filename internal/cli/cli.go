// Package cli is the command line. It turns arguments into calls of the packages
// behind it and their results into text; it decides nothing else.
//
// The rules of the terminal:
//   - Results go to standard output, everything else to standard error.
//   - An error is one line "error: ..." in lower case without a full stop, with
//     the place where something was written wrong; a line "hint: ..." below it
//     says what to do.
//   - Exit status: 0 all is well, 1 findings of severity error, 2 wrong usage or
//     description, 3 nothing could be proved, 130 interrupted.
//   - Colour and progress only on a terminal, in the order --color, NO_COLOR,
//     TERM=dumb, is the stream a terminal.
//   - Text from a service is never printed without its control characters escaped.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"regexp"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/secret"
	"obiter/internal/core/suggest"
	"obiter/internal/core/usage"
	"obiter/internal/execute/trial"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
	"obiter/internal/results/record"
	"obiter/internal/target/send"
)

// Streams are where the program reads and writes.
type Streams struct {
	In       io.Reader
	Out, Err io.Writer
}

// The exit statuses.
const (
	exitOK          = 0
	exitFindings    = 1
	exitUsage       = 2
	exitUnproved    = 3
	exitInterrupted = 130
)

// oneOf refuses a value of an option that is not one of a few.
func oneOf(option, value string, choices ...string) error {
	if slices.Contains(choices, value) {
		return nil
	}
	last := len(choices) - 1
	return usage.New(fmt.Sprintf("invalid value %q for %s", value, option), "use "+strings.Join(choices[:last], ", ")+" or "+choices[last])
}

// failure ends a command with a status, a message and a hint; an empty message
// ends it silently.
type failure struct {
	status  int
	message string
	hint    string
}

func (f *failure) Error() string { return f.message }

// Run runs the program with its arguments, the first being its name, and
// returns the exit status.
func Run(ctx context.Context, args []string, s Streams) int {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	out := &output{to: s.Out, failed: cancel} // what nobody reads ends a run as an interrupt does
	a := &app{terminal: s, streams: Streams{s.In, out, s.Err}}
	log.SetFlags(0) // what libraries write may hold what a service sent
	log.SetOutput(logged{a})
	root := a.root()
	root.Writer, root.ErrWriter, root.Reader = out, s.Err, s.In
	root.ExitErrHandler = func(context.Context, *cli.Command, error) {}
	configure(root)
	err := root.Run(ctx, args)
	f := a.failureOf(err)
	if lost := out.failure(); lost != nil {
		a.print(lost)
		return lost.status
	}
	if f == nil {
		return exitOK
	}
	var several document.Errors
	if !errors.As(err, &several) || len(several) == 0 {
		a.print(f)
		return f.status
	}
	for _, e := range several {
		a.print(&failure{exitUsage, e.Error(), e.Hint})
	}
	return f.status
}

// logged is where the standard logger writes: net/http tells there of what it cannot read.
type logged struct{ a *app }

func (l logged) Write(line []byte) (int, error) {
	if !l.a.quiet {
		fmt.Fprintln(l.a.streams.Err, "warning: "+l.a.redacted(strings.TrimSpace(string(line))))
	}
	return len(line), nil
}

// print writes an error with its hint.
func (a *app) print(f *failure) {
	if f.message == "" {
		return
	}
	fmt.Fprintln(a.streams.Err, "error: "+a.redacted(f.message))
	if f.hint != "" {
		fmt.Fprintln(a.streams.Err, "hint: "+a.redacted(f.hint))
	}
}

// redacted is a text that may quote what was sent or what came, as it is printed.
func (a *app) redacted(text string) string { return terminal.Clean(a.secrets.Redact(text)) }

// configure gives every command what urfave/cli does not hand down.
func configure(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, cmd *cli.Command, err error, _ bool) error { return usageError(cmd, err) }
	c.DisableSliceFlagSeparator = true
	c.HideHelpCommand = true
	for _, sub := range c.Commands {
		configure(sub)
	}
}

type app struct {
	streams  Streams
	terminal Streams // as they were given, to tell what they are
	secrets  secret.Set
	quiet    bool // neither progress nor text
	style    terminal.Style
}

// text prints results.
func (a *app) text() terminal.Printer {
	return terminal.Printer{Out: a.streams.Out, Style: a.style, Redact: a.secrets.Redact}
}

func (a *app) root() *cli.Command {
	return &cli.Command{
		Name:                  "obiter",
		Usage:                 "send invalid requests to an HTTP API and judge every rejection",
		Version:               version(),
		EnableShellCompletion: true,
		Description: "Obiter reads an OpenAPI description, makes requests that each break one rule, sends them, and\n" +
			"judges every answer: the right status, a problem document (RFC 9457), the wrong field named.\n\n" +
			"Begin with:  obiter demo\n" +
			"Then:        obiter survey openapi.yaml\n" +
			"             obiter try openapi.yaml --at http://localhost:8080",
		Flags: []cli.Flag{&cli.StringFlag{Name: "color", Value: "auto", Usage: "colour: auto, always or never"}},
		Before: func(ctx context.Context, c *cli.Command) (context.Context, error) {
			var ok bool
			if a.style, ok = terminal.NewStyle(c.String("color"), a.terminal.Out); !ok {
				return ctx, usage.New(fmt.Sprintf("invalid value %q for --color", c.String("color")), "use auto, always or never")
			}
			return ctx, nil
		},
		Commands: []*cli.Command{a.surveyCommand(), a.casesCommand(), a.tryCommand(), a.judgeCommand(), a.showCommand(), a.messagesCommand(), a.reportCommand(), a.compareCommand(), a.knownCommand(), a.acceptCommand(), a.undoCommand(), a.initCommand(), a.draftCommand(), a.explainCommand(), a.demoCommand()},
		Action: func(_ context.Context, c *cli.Command) error {
			if name := c.Args().First(); name != "" {
				return usage.New(fmt.Sprintf("unknown command %q", name), nearest(name, commandNames(c), "commands"))
			}
			return cli.ShowRootCommandHelp(c)
		},
	}
}

func commandNames(c *cli.Command) []string {
	var out []string
	for _, sub := range c.Commands {
		if !sub.Hidden {
			out = append(out, sub.Name)
		}
	}
	return out
}

var badValue = regexp.MustCompile(`^invalid value "(.*)" for flag -([a-z-]+): `)

// usageError words the errors of the argument parser.
func usageError(c *cli.Command, err error) error {
	text := err.Error()
	if name, ok := strings.CutPrefix(text, "flag provided but not defined: -"); ok {
		name = strings.TrimLeft(name, "-")
		var known []string
		for _, f := range c.Flags {
			known = append(known, "--"+f.Names()[0])
		}
		slices.Sort(known)
		dashes := "--"
		if len(name) == 1 {
			dashes = "-"
		}
		return usage.New(fmt.Sprintf("unknown option %s%s for %s", dashes, name, c.FullName()), nearest("--"+name, known, "options"))
	}
	if m := badValue.FindStringSubmatch(text); m != nil {
		return usage.New(fmt.Sprintf("invalid value %q for --%s", m[1], m[2]), c.FullName()+" --help lists the options")
	}
	return usage.New(strings.TrimSuffix(text, "."), c.FullName()+" --help lists the options")
}

// failureOf maps any error to a status, a message and a hint.
func (a *app) failureOf(err error) *failure {
	var f *failure
	var asked *usage.Error
	var description *document.Error
	var selection *oad.SelectionError
	var host *send.HostError
	var trust *send.TrustError
	var unreachable *send.UnreachableError
	var file *record.FileError
	var apart *record.MergeError
	var kept *trial.FileError
	var lock *trial.LockError
	var service *trial.ServiceError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &f):
		return f
	case errors.As(err, &asked):
		return &failure{exitUsage, asked.Problem, asked.Hint}
	case errors.As(err, &description):
		return &failure{exitUsage, description.Error(), description.Hint}
	case errors.As(err, &selection):
		return &failure{exitUsage, selection.Error(), nearest(selection.Value, selection.Choices, "choices")}
	case errors.As(err, &host):
		return &failure{exitUsage, host.Error(), "if it is yours and may receive invalid data, use --allow-host " + host.Host}
	case errors.As(err, &trust):
		return &failure{exitUnproved, trust.Error(), "name the certificates to trust with --ca FILE, a client certificate with --cert and --key; or correct --at"}
	case errors.As(err, &unreachable):
		return &failure{exitUnproved, unreachable.Error(), "start the service, or correct --at"}
	case errors.As(err, &service):
		switch {
		case service.Cause.Taken:
			return &failure{exitUsage, service.Error(), "stop that first; or take service: out of the configuration, to try what is running"}
		case service.Cause.Missing:
			return &failure{exitUsage, service.Error(), "correct start: in the configuration; it is run by the shell, in the folder of that file"}
		}
		return &failure{exitUnproved, service.Error(), "all that it wrote is in " + trial.ServiceLog}
	case errors.As(err, &lock):
		return &failure{exitUsage, lock.Error(), "wait until it ends, or run in another folder"}
	case errors.As(err, &kept):
		return &failure{exitUsage, kept.Error(), "name a file in a folder that exists and can be written to"}
	case errors.As(err, &apart):
		return &failure{exitUsage, apart.Error(), apart.Hint}
	case errors.As(err, &file):
		return &failure{exitUsage, err.Error(), "make a new run with: obiter try"}
	case errors.Is(err, context.Canceled):
		return &failure{exitInterrupted, "", ""}
	}
	return &failure{exitUsage, err.Error(), ""}
}

func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	v := strings.TrimPrefix(info.Main.Version, "v")
	if v == "" || v == "(devel)" {
		v = "development"
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" && len(s.Value) >= 12 && !strings.Contains(v, s.Value[:12]) {
			v += " (" + s.Value[:12] + ")"
		}
	}
	return v
}

// nearest words a hint: the choice most like what was written, or all of them.
func nearest(written string, choices []string, what string) string {
	if name, ok := suggest.Name(written, choices); ok {
		return "did you mean " + name + "?"
	}
	if len(choices) == 0 {
		return "there are none"
	}
	if len(choices) > 12 {
		return fmt.Sprintf("%s: %s and %d more", what, strings.Join(choices[:12], ", "), len(choices)-12)
	}
	return what + ": " + strings.Join(choices, ", ")
}
