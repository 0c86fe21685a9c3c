package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/usage"
	"obiter/internal/execute/watch"
)

// watch tries again and again: what failed, when the service was away and is back, when the
// description or the configuration changed, or when Enter is pressed. What the last round
// ended with is what it ends with.
func (a *app) watch(ctx context.Context, c *cli.Command) error {
	in, is := a.terminal.In.(io.Writer) // a terminal is both
	if !is || !terminal.IsTerminal(in) || !terminal.IsTerminal(a.terminal.Out) {
		return usage.New("--watch needs a terminal to ask and to answer at", "in a script, run obiter try --failed again and again")
	}
	for _, name := range []string{"quiet", "controls", "shard", "case", "rule", "without", "budget"} {
		if c.IsSet(name) {
			return usage.New("--"+name+" does not go with --watch", "leave one of them out")
		}
	}
	if c.String("format") != "text" {
		return usage.New("--watch is for people to read, so it goes without --format", "in a script use obiter try --format json")
	}
	w := watch.Watch{Lines: watch.Typed(a.terminal.In)}
	for round := 0; ; round++ {
		fmt.Fprint(a.streams.Out, "\x1b[H\x1b[2J") // one clear screen a round
		status := a.try(ctx, c)
		if f := a.failureOf(status); f != nil {
			a.print(f)
		}
		if ctx.Err() != nil {
			return status
		}
		a.watched(c, &w)
		was := w.Signature() // before anybody is asked to change something
		fmt.Fprintln(a.streams.Out, a.style.Dim("\nEnter: try again what failed; f and Enter: everything; q and Enter: end. A changed description or\nconfiguration, or the service when it is back, does it too."))
		what := w.Wait(ctx, was)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case what == watch.Quit:
			return silent(status)
		case what == watch.Everything:
			_ = c.Set("failed", "false")
		default:
			_ = c.Set("failed", fmt.Sprint(store.Last() != ""))
		}
	}
}

// silent is a status whose message was printed.
func silent(err error) error {
	var f *failure
	if errors.As(err, &f) {
		return &failure{f.status, "", ""}
	}
	return err
}

// watched says which files and which service are watched now.
func (a *app) watched(c *cli.Command, w *watch.Watch) {
	w.Files = []string{c.String("config"), c.Args().First()}
	if c.String("config") == "" {
		w.Files[0] = configFile
	}
	if c.Args().First() == "" {
		w.Files = append(w.Files, usualNames...)
	}
	w.Service = ""
	told := a.streams.Err
	a.streams.Err = io.Discard // what there is to warn of was told
	defer func() { a.streams.Err = told }()
	conf, doc, err := a.prepared(c)
	if err != nil {
		return // it was told, and a change of the files is what helps
	}
	w.Files = append(w.Files, doc.Name)
	if opt, err := a.serviceOptions(c, conf, doc); err == nil && (conf.Service == nil || conf.Service.Start == "") {
		port := opt.Base.Port()
		if port == "" {
			port = opt.Base.Scheme
		}
		w.Service = net.JoinHostPort(opt.Base.Hostname(), port)
	}
}
