// Package service starts the service that is tried, waits until it is ready, keeps its
// output, and stops it with all that it started, however Obiter ends.
package service

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Options say what is started, and how it is known to be ready.
type Options struct {
	Start  string                          // a command line for the shell
	Folder string                          // that it is run in
	Log    string                          // the file that takes its output
	Ready  func(ctx context.Context) error // nil: it is; else why it is not
	Within time.Duration                   // the longest time until it is
	Redact func(string) string             // takes out of a line what must not be kept; nil: nothing is taken out
	// Daemons says that what it leaves running, in a session of its own, may live on.
	Daemons bool
	// Ended is told what it left running, when that was ended; may be nil.
	Ended func(name string)
}

// Process is a running service.
type Process struct {
	opt   Options
	cmd   *exec.Cmd
	guard *guard
	ended chan struct{}
	how   string // it ended; once it did
	out   *output
	stop  sync.Once
}

// Error is a service that did not come, with the last lines of what it wrote.
type Error struct {
	Taken   bool // something answers there that was not started here
	Missing bool // the shell does not find the command
	Problem string
	Last    []string
}

func (e *Error) Error() string { return e.Problem }

// poll is how often a service is asked whether it is ready.
const poll = 100 * time.Millisecond

// Start starts a service and waits until it is ready. The error is an *Error, or the
// context's; what was started is stopped then.
func Start(ctx context.Context, opt Options) (*Process, error) {
	if opt.Ready(ctx) == nil {
		return nil, &Error{Taken: true, Problem: "is not started: something answers there already"}
	}
	out, err := newOutput(opt.Log, opt.Redact)
	if err != nil {
		return nil, err
	}
	p := &Process{opt: opt, out: out, ended: make(chan struct{}), cmd: exec.Command("sh", "-c", opt.Start)}
	p.cmd.Dir, p.cmd.Stdout, p.cmd.Stderr = opt.Folder, out, out
	p.cmd.WaitDelay = time.Second // for the output of what it leaves behind
	newProcessGroup(p.cmd)
	if err := p.cmd.Start(); err != nil {
		return nil, errors.Join(&Error{Problem: fmt.Sprintf("cannot be started: %v", err)}, out.close())
	}
	go func() {
		err := p.cmd.Wait()
		p.how = ending(p.cmd.ProcessState, err)
		close(p.ended)
	}()
	if p.guard, err = newGuard(p.cmd.Process.Pid); err != nil {
		p.Stop()
		return nil, &Error{Problem: fmt.Sprintf("cannot be watched: %v", err)}
	}
	if err := p.wait(ctx); err != nil {
		p.Stop()
		return nil, err
	}
	return p, nil
}

// ending says how a process ended.
func ending(state *os.ProcessState, err error) string {
	switch {
	case state == nil:
		return fmt.Sprint(err)
	case state.ExitCode() >= 0:
		return fmt.Sprintf("status %d", state.ExitCode())
	}
	return state.String() // signal: killed
}

func (p *Process) wait(ctx context.Context) error {
	deadline := time.NewTimer(p.opt.Within)
	defer deadline.Stop()
	tick := time.NewTicker(poll)
	defer tick.Stop()
	var why error
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-p.ended:
			problem := "ended with " + p.how + " before it was ready"
			if p.how == "status 0" {
				problem += "; a command that goes on in the background cannot be stopped, so start it in the foreground"
			}
			return &Error{Missing: p.how == "status 127", Problem: problem, Last: p.out.last()}
		case <-deadline.C:
			return &Error{Problem: fmt.Sprintf("was not ready within %s: %v", p.opt.Within, why), Last: p.out.last()}
		case <-tick.C:
			if why = p.opt.Ready(ctx); why == nil {
				return nil
			}
		}
	}
}

// Ended says how the service ended; false while it runs.
func (p *Process) Ended() (how string, last []string, ended bool) {
	select {
	case <-p.ended:
		return p.how, p.out.last(), true
	default:
		return "", nil, false
	}
}

// patience is how long a service may take to end when it is asked to.
const patience = 5 * time.Second

// Stop ends the service and all that it started: it is asked to, and killed if it does not.
func (p *Process) Stop() {
	p.stop.Do(func() {
		group := p.cmd.Process.Pid
		ask(group)
		for end := time.Now().Add(patience); alive(group) && time.Now().Before(end); {
			time.Sleep(20 * time.Millisecond)
			if _, _, ended := p.Ended(); ended {
				reap(group)
			}
		}
		kill(group)
		groups := []int{group}
		if p.guard != nil {
			groups = append(groups, p.guard.group())
		}
		if !p.opt.Daemons {
			for _, name := range endStrays(groups...) {
				if p.opt.Ended != nil {
					p.opt.Ended(name)
				}
			}
		}
		if p.guard != nil {
			p.guard.dismiss()
		}
		<-p.ended
		_ = p.out.close()
	})
}

// maxLog is how much of a service's output is kept, in bytes; twice that with what was
// before.
const maxLog = 32 << 20

// output keeps what a service writes in a file, line by line, which begins anew when it is full.
type output struct {
	mu     sync.Mutex
	name   string
	redact func(string) string
	f      *os.File
	size   int
	line   []byte // that is not at its end yet
}

// maxLine is how long a line may be, in bytes, until it is kept in pieces.
const maxLine = 64 << 10

func newOutput(name string, redact func(string) string) (*output, error) {
	o := &output{name: name, redact: redact}
	return o, o.begin()
}

func (o *output) begin() error {
	if info, err := os.Lstat(o.name); err == nil && !info.Mode().IsRegular() {
		return &Error{Problem: fmt.Sprintf("is not started: its output would be kept in %s, which is not a regular file", o.name)}
	}
	f, err := os.OpenFile(o.name, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	o.f, o.size = f, 0
	return err
}

func (o *output) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for rest := b; len(rest) > 0; {
		end := bytes.IndexByte(rest, '\n') + 1
		if end == 0 {
			end = len(rest)
		}
		o.line = append(o.line, rest[:end]...)
		if rest = rest[end:]; o.line[len(o.line)-1] == '\n' || len(o.line) >= maxLine {
			o.flush()
		}
	}
	return len(b), nil
}

// flush keeps the line that there is.
func (o *output) flush() {
	b := o.line
	if o.redact != nil && len(b) > 0 {
		b = []byte(o.redact(string(b)))
	}
	o.line = o.line[:0]
	if o.f == nil {
		return
	}
	if o.size += len(b); o.size > maxLog {
		_ = o.f.Close()
		_ = os.Rename(o.name, o.name+".old")
		if err := o.begin(); err != nil {
			o.f = nil
			return // the service goes on
		}
	}
	if _, err := o.f.Write(b); err != nil {
		_ = o.f.Close()
		o.f = nil // the disk is full: the service goes on
	}
}

func (o *output) close() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.f == nil {
		return nil
	}
	o.flush()
	if o.f == nil {
		return nil
	}
	err := o.f.Close()
	o.f = nil
	return err
}

// What is shown of a log.
const (
	lastLines = 20
	lastBytes = 16 << 10
)

// last are the last lines of what was written.
func (o *output) last() []string {
	o.mu.Lock()
	o.flush()
	o.mu.Unlock()
	f, err := os.Open(o.name)
	if err != nil {
		return nil
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.Size() > lastBytes {
		_, _ = f.Seek(-lastBytes, io.SeekEnd)
	}
	var out []string
	for s := bufio.NewScanner(io.LimitReader(f, lastBytes)); s.Scan(); {
		if text := strings.TrimRight(s.Text(), " \r"); text != "" {
			out = append(out, strings.ToValidUTF8(text, "\uFFFD"))
		}
	}
	return out[max(0, len(out)-lastLines):]
}

// LogIn is the file of a service's output in a folder of runs.
func LogIn(folder string) string { return filepath.Join(folder, "service.log") }
