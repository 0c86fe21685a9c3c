// Command obiter sends invalid requests to an HTTP API and judges whether each
// one is rejected as it should be.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"
	"time"

	"obiter/internal/cli"
	"obiter/internal/trial"
)

// patience is how long an interrupted command may take to end by itself: what is in
// flight ends, what was answered is judged, and what was made is taken away.
const patience = 15 * time.Second

func main() {
	// A short life with much garbage: collect seldom while memory is small.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(200)
	}
	signal.Ignore(syscall.SIGPIPE) // a reader that went away ends a run in order, too
	end, endAll := context.WithCancel(context.Background())
	ctx, interrupt := context.WithCancel(trial.WithEnd(end, end))
	go func() {
		signals := make(chan os.Signal, 3)
		signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
		<-signals
		time.AfterFunc(patience, func() { os.Exit(130) })
		interrupt()
		<-signals // a second one ends even taking away
		endAll()
		<-signals
		os.Exit(130)
	}()
	code := cli.Run(ctx, os.Args, cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr})
	os.Exit(code)
}
