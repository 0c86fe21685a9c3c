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
	"obiter/internal/execute/trial"
	"obiter/internal/target/service"
)

// patience is how long an interrupted command may take to end by itself: what is in
// flight ends, what was answered is judged, and what was created is deleted.
const patience = 15 * time.Second

// tuneGC collects garbage seldom while little memory is needed, for a command is short, and as
// often as it takes to stay below the limit where that is possible.
func tuneGC() {
	const percent, limit = 400, 80 << 20
	debug.SetGCPercent(percent)
	debug.SetMemoryLimit(limit)
}

// exitNow ends the program at once, but for what was answered: that is in the run file by then.
func exitNow() {
	time.Sleep(trial.FlushDeadline)
	os.Exit(130)
}

func main() {
	if os.Getenv("GOGC") == "" && os.Getenv("GOMEMLIMIT") == "" { // else whoever runs it knows better
		tuneGC()
	}
	service.Adopt()                // what a service leaves running is found, and ended with it
	signal.Ignore(syscall.SIGPIPE) // a reader that went away ends a run in order, too
	end, endAll := context.WithCancel(context.Background())
	ctx, interrupt := context.WithCancel(trial.WithEnd(end, end))
	go func() {
		signals := make(chan os.Signal, 3)
		signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
		<-signals
		time.AfterFunc(patience, exitNow)
		interrupt()
		<-signals // a second one ends even deleting records
		endAll()
		<-signals
		exitNow()
	}()
	code := cli.Run(ctx, os.Args, cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr})
	os.Exit(code)
}
