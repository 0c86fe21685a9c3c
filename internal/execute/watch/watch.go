// Package watch waits for what a run is repeated for: a changed file, a service that is back, a line
// that is typed.
package watch

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"
)

// How often a watch looks at the files and at the service, and how long a file has to stay
// as it is before it counts as written.
const (
	tickEvery = 500 * time.Millisecond
	quietFor  = 300 * time.Millisecond
)

// Watch is what a watch waits for.
type Watch struct {
	Lines   <-chan string // that are typed; closed at the end
	Files   []string      // the description and the configuration
	Service string        // its address; empty: Obiter starts it
}

// Next is what is done after a round.
type Next int

const (
	Again Next = iota
	Everything
	Quit
)

// Typed gives out the lines that are typed.
func Typed(in io.Reader) <-chan string {
	out := make(chan string)
	go func() {
		defer close(out)
		for s := bufio.NewScanner(in); s.Scan(); {
			out <- strings.ToLower(strings.TrimSpace(s.Text()))
		}
	}()
	return out
}

// Wait waits for what the next round is for. The files were as the signature says.
func (w *Watch) Wait(ctx context.Context, was string) Next {
	away := false
	tick := time.NewTicker(tickEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return Quit
		case line, open := <-w.Lines:
			switch {
			case !open || line == "q":
				return Quit
			case line == "f":
				return Everything
			}
			return Again
		case <-tick.C:
		}
		if is := w.Signature(); is != was {
			for time.Sleep(quietFor); w.Signature() != is && ctx.Err() == nil; time.Sleep(quietFor) { // it is being written
				is = w.Signature()
			}
			return Again
		}
		switch there := w.there(ctx); {
		case !there:
			away = true
		case away:
			return Again
		}
	}
}

// Signature tells one state of the files from another.
func (w *Watch) Signature() string {
	var b strings.Builder
	for _, name := range w.Files {
		if info, err := os.Stat(name); err == nil {
			fmt.Fprintf(&b, "%s %d %d\n", name, info.Size(), info.ModTime().UnixNano())
		}
	}
	return b.String()
}

// there reports whether the service takes connections.
func (w *Watch) there(ctx context.Context) bool {
	if w.Service == "" {
		return true
	}
	c, err := (&net.Dialer{Timeout: tickEvery}).DialContext(ctx, "tcp", w.Service)
	if err != nil {
		return false
	}
	_ = c.Close()
	return true
}
