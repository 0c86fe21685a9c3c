// Command obiter sends invalid requests to an HTTP API and judges whether each
// one is rejected as it should be.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"obiter/internal/cli"
)

func main() {
	// A short life with much garbage: collect seldom while memory is small.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(200)
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Run(ctx, os.Args, cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr})
	stop()
	os.Exit(code)
}
