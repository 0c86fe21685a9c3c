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
)

// patience is how long an interrupted command may take to end by itself.
const patience = 2 * time.Second

func main() {
	// A short life with much garbage: collect seldom while memory is small.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(200)
	}
	signal.Ignore(syscall.SIGPIPE) // a reader that went away ends a run in order, too
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	context.AfterFunc(ctx, func() {
		stop() // a second signal ends it at once
		time.AfterFunc(patience, func() { os.Exit(130) })
	})
	code := cli.Run(ctx, os.Args, cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr})
	os.Exit(code)
}
