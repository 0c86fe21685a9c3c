// Command obiter sends invalid requests to an HTTP API and judges whether each
// one is rejected as it should be.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime/debug"
	"runtime/metrics"
	"syscall"
	"time"

	"obiter/internal/cli"
	"obiter/internal/trial"
)

// patience is how long an interrupted command may take to end by itself: what is in
// flight ends, what was answered is judged, and what was made is taken away.
const patience = 15 * time.Second

// Memory that is used freely, in bytes; beyond it twice what is needed.
const freely = 80 << 20

// sparing keeps a long run from using three times the memory that it needs.
func sparing() {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	for range time.Tick(100 * time.Millisecond) {
		metrics.Read(live)
		debug.SetMemoryLimit(max(freely, int64(live[0].Value.Uint64()*2)))
	}
}

// leave ends the program at once, but for what was answered: that is in the run file by then.
func leave() {
	time.Sleep(trial.Written)
	os.Exit(130)
}

func main() {
	// A short life with much garbage: collect seldom while memory is small.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(400)
		go sparing()
	}
	signal.Ignore(syscall.SIGPIPE) // a reader that went away ends a run in order, too
	end, endAll := context.WithCancel(context.Background())
	ctx, interrupt := context.WithCancel(trial.WithEnd(end, end))
	go func() {
		signals := make(chan os.Signal, 3)
		signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
		<-signals
		time.AfterFunc(patience, leave)
		interrupt()
		<-signals // a second one ends even taking away
		endAll()
		<-signals
		leave()
	}()
	code := cli.Run(ctx, os.Args, cli.Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr})
	os.Exit(code)
}
