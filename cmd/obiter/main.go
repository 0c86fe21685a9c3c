// Command obiter sends invalid requests to an HTTP API and judges whether each
// one is rejected as it should be.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"syscall"
	"time"

	"obiter/internal/cli"
	"obiter/internal/execute/trial"
	"obiter/internal/target/service"
)

// patience is how long an interrupted command may take to end by itself: what is in
// flight ends, what was answered is judged, and what was made is taken away.
const patience = 15 * time.Second

// How much garbage there may be before it is collected, in hundredths of what is needed: a
// lot in a short life, so that it is seldom collected, and little while the whole still has
// room in so many bytes. Where much is needed there is no saving room, and time counts again.
const (
	most   = 400
	freely = 52 << 20
	large  = 100
	much   = 100 << 20
)

// garbage is how much of it there may be, in hundredths of what is needed.
func garbage(needed int) int {
	needed = max(needed, 1)
	return min(most, max(100*(freely-needed)/needed, large*min(needed, much)/much))
}

// spare sees to it, each time that garbage was collected, that the next time comes before
// there is too much of it.
func spare() {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	percent := most
	debug.SetGCPercent(percent)
	var collected func(int)
	wait := func() { runtime.AddCleanup(&struct{ gone *int }{&percent}, collected, 0) }
	collected = func(int) {
		metrics.Read(live)
		if next := garbage(int(live[0].Value.Uint64())); next != percent {
			percent = next
			debug.SetGCPercent(percent)
		}
		wait()
	}
	wait()
}

// leave ends the program at once, but for what was answered: that is in the run file by then.
func leave() {
	time.Sleep(trial.Written)
	os.Exit(130)
}

func main() {
	if os.Getenv("GOGC") == "" { // else whoever runs it knows better
		spare()
	}
	service.Adopt()                // what a service leaves running is found, and ended with it
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
