package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"obiter/internal/cli/terminal"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
)

// How often a watch looks at the files and at the service, and how long a file has to stay
// as it is before it counts as written.
const (
	watchTick  = 500 * time.Millisecond
	watchQuiet = 300 * time.Millisecond
)

// watching is what a watch waits for.
type watching struct {
	lines   <-chan string // that are typed; closed at the end
	files   []string      // the description and the configuration
	service string        // its address; empty: Obiter starts it
}

// next is what is done after a round.
type next int

const (
	onceMore next = iota
	everything
	quit
)

// watch tries again and again: what failed, when the service was away and is back, when the
// description or the configuration changed, or when Enter is pressed. What the last round
// ended with is what it ends with.
func (a *app) watch(ctx context.Context, c *cli.Command) error {
	in, is := a.terminal.In.(io.Writer) // a terminal is both
	if !is || !terminal.IsTerminal(in) || !terminal.IsTerminal(a.terminal.Out) {
		return usage("--watch needs a terminal to ask and to answer at", "in a script, run obiter try --failed again and again")
	}
	for _, name := range []string{"quiet", "controls", "shard", "case", "rule", "without", "budget"} {
		if c.IsSet(name) {
			return usage("--"+name+" does not go with --watch", "leave one of them out")
		}
	}
	if c.String("format") != "text" {
		return usage("--watch is for people to read, so it goes without --format", "in a script use obiter try --format json")
	}
	w := watching{lines: typed(a.terminal.In)}
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
		was := w.signature() // before anybody is asked to change something
		fmt.Fprintln(a.streams.Out, a.style.Dim("\nEnter: try again what failed; f and Enter: everything; q and Enter: end. A changed description or\nconfiguration, or the service when it is back, does it too."))
		what := w.wait(ctx, was)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case what == quit:
			return silent(status)
		case what == everything:
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

// typed gives out the lines that are typed.
func typed(in io.Reader) <-chan string {
	out := make(chan string)
	go func() {
		defer close(out)
		for s := bufio.NewScanner(in); s.Scan(); {
			out <- strings.ToLower(strings.TrimSpace(s.Text()))
		}
	}()
	return out
}

// watched says which files and which service are watched now.
func (a *app) watched(c *cli.Command, w *watching) {
	w.files = []string{c.String("config"), c.Args().First()}
	if c.String("config") == "" {
		w.files[0] = configFile
	}
	if c.Args().First() == "" {
		w.files = append(w.files, usualNames...)
	}
	w.service = ""
	told := a.streams.Err
	a.streams.Err = io.Discard // what there is to warn of was told
	defer func() { a.streams.Err = told }()
	conf, doc, err := a.prepared(c)
	if err != nil {
		return // it was told, and a change of the files is what helps
	}
	w.files = append(w.files, doc.Name)
	if opt, err := a.serviceOptions(c, conf, doc); err == nil && (conf.Service == nil || conf.Service.Start == "") {
		port := opt.Base.Port()
		if port == "" {
			port = opt.Base.Scheme
		}
		w.service = net.JoinHostPort(opt.Base.Hostname(), port)
	}
}

// wait waits for what the next round is for. The files were as the signature says.
func (w *watching) wait(ctx context.Context, was string) next {
	away := false
	tick := time.NewTicker(watchTick)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return quit
		case line, open := <-w.lines:
			switch {
			case !open || line == "q":
				return quit
			case line == "f":
				return everything
			}
			return onceMore
		case <-tick.C:
		}
		if is := w.signature(); is != was {
			for time.Sleep(watchQuiet); w.signature() != is && ctx.Err() == nil; time.Sleep(watchQuiet) { // it is being written
				is = w.signature()
			}
			return onceMore
		}
		switch there := w.there(ctx); {
		case !there:
			away = true
		case away:
			return onceMore
		}
	}
}

// signature tells one state of the files from another.
func (w *watching) signature() string {
	var b strings.Builder
	for _, name := range w.files {
		if info, err := os.Stat(name); err == nil {
			fmt.Fprintf(&b, "%s %d %d\n", name, info.Size(), info.ModTime().UnixNano())
		}
	}
	return b.String()
}

// there reports whether the service takes connections.
func (w *watching) there(ctx context.Context) bool {
	if w.service == "" {
		return true
	}
	c, err := (&net.Dialer{Timeout: watchTick}).DialContext(ctx, "tcp", w.service)
	if err != nil {
		return false
	}
	_ = c.Close()
	return true
}
