//go:build unix

package cli_test

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// free is a port that nothing listens at.
func free(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

// living are the processes that have a mark in their environment, but for zombies, with
// their command lines.
func living(t *testing.T, mark string) map[int]string {
	t.Helper()
	names, err := filepath.Glob("/proc/[0-9]*/environ")
	if err != nil {
		t.Fatal(err)
	}
	out := map[int]string{}
	for _, name := range names {
		data, err := os.ReadFile(name)
		if err != nil || !bytes.Contains(data, []byte(mark)) {
			continue
		}
		line, _ := os.ReadFile(filepath.Join(filepath.Dir(name), "cmdline"))
		if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(name))); err == nil && len(line) > 0 {
			out[pid] = strings.ReplaceAll(string(line), "\x00", " ")
		}
	}
	return out
}

// TestTheServiceIsStarted, waited for and stopped, with all that it started, however Obiter
// or the service ends.
func TestTheServiceIsStarted(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("processes are looked for in /proc")
	}
	signal := func(s ...os.Signal) func(*os.Process) {
		return func(p *os.Process) {
			for _, s := range s {
				_ = p.Signal(s)
				time.Sleep(30 * time.Millisecond)
			}
		}
	}
	const office = "%[1]s demo --serve --sound --listen %[2]s"
	for name, x := range map[string]struct {
		start, more string
		args        []string
		end         func(*os.Process) // once the first cases are answered; nil: nothing is done to it
		kill        bool              // the service is killed then
		status      int
		says        string
	}{
		"to the end":                     {start: office, says: "it is ready after "},
		"with its log":                   {start: "echo setting out; exec " + office, more: "ready: GET /vessels", says: "its output is in .obiter/service.log"},
		"with a process of its own":      {start: "sleep 600 & " + office, says: "it is ready"},
		"an interrupt":                   {start: office, args: []string{"--depth", "deep"}, end: signal(os.Interrupt), status: 130},
		"SIGTERM":                        {start: office, args: []string{"--depth", "deep"}, end: signal(syscall.SIGTERM), status: 130},
		"three interrupts":               {start: office, args: []string{"--depth", "deep"}, end: signal(os.Interrupt, os.Interrupt, os.Interrupt), status: 130},
		"kill -9 of Obiter":              {start: office, args: []string{"--depth", "deep"}, end: signal(os.Kill), status: -1},
		"a service that ignores signals": {start: "trap '' TERM INT; " + office + " & wait", says: "it is ready"},
		"a daemon that stays":            {start: "setsid sleep 600 </dev/null >/dev/null 2>&1 & exec " + office, says: "ended what the service left running: sleep (process "},
		"a service that floods":          {start: "yes flood & exec " + office, says: "it is ready"},
		"a command that is not there":    {start: "no-such-command-of-ours", status: 2, says: "ended with status 127 before it was ready"},
		"a command that ends at once":    {start: "echo no licence; exit 7", status: 3, says: "  | no licence\nerror: the service (echo no licence; exit 7) ended with status 7 before it was ready"},
		"a command that forks away":      {start: "(sleep 1; exit 0) & exit 0", status: 3, says: "start it in the foreground"},
		"a service that is never ready":  {start: "sleep 600", more: "within: 400ms", status: 3, says: "was not ready within 400ms"},
		"one that is not ready":          {start: office, more: "ready: GET /\n  within: 20s", says: "it is ready"},
		"a service that dies":            {start: office, args: []string{"--depth", "deep", "--parallel", "1"}, kill: true, says: "going on\n"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := folder(t)
			at, mark := free(t), fmt.Sprintf("OBITER_TEST_MARK=%s-%d", strings.ReplaceAll(name, " ", "-"), os.Getpid())
			start := x.start
			if strings.Contains(start, "%[1]s") {
				start = fmt.Sprintf(start, program, at)
			}
			put(t, dir, "obiter.yaml", fmt.Sprintf("at: http://%s\nservice:\n  start: %q\n  %s\n", at, start, x.more))
			cmd := exec.Command(program, append([]string{"try", "--only", "* /vessels", "--only", "* /berths"}, x.args...)...)
			cmd.Dir, cmd.Env = dir, append(os.Environ(), mark)
			var out, words bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, &words
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			if x.kill {
				x.end = func(*os.Process) {
					for pid, line := range living(t, mark) {
						if strings.Contains(line, "--serve") {
							_ = syscall.Kill(pid, syscall.SIGKILL)
						}
					}
				}
			}
			if x.end != nil {
				go func() {
					for range 200 {
						if data, _ := os.ReadFile(filepath.Join(dir, ".obiter", "run.ndjson.part")); bytes.Count(data, []byte("\n")) > 12 {
							break
						}
						time.Sleep(10 * time.Millisecond)
					}
					x.end(cmd.Process)
				}()
			}
			_ = cmd.Wait()
			if status := cmd.ProcessState.ExitCode(); status != x.status || !strings.Contains(words.String(), x.says) {
				t.Errorf("status %d, want %d; %q should be in\n%s\n%s", status, x.status, x.says, &words, &out)
			}
			var left map[int]string
			for range 100 { // after a kill its guard has to wake
				if left = living(t, mark); len(left) == 0 {
					break
				}
				time.Sleep(50 * time.Millisecond)
			}
			if len(left) > 0 {
				t.Errorf("left are %v", left)
			}
			if name == "with its log" {
				if log, err := os.ReadFile(filepath.Join(dir, ".obiter", "service.log")); err != nil || !strings.HasPrefix(string(log), "setting out\n") {
					t.Errorf("%v, its log is %q", err, log)
				}
			}
		})
	}
	t.Run("a log that is a link", func(t *testing.T) {
		dir := folder(t)
		put(t, dir, "theirs.txt", "tide tables")
		if err := errors.Join(os.Mkdir(filepath.Join(dir, ".obiter"), 0o755), os.Symlink("../theirs.txt", filepath.Join(dir, ".obiter", "service.log"))); err != nil {
			t.Fatal(err)
		}
		put(t, dir, "obiter.yaml", "at: http://"+free(t)+"\nservice: { start: sleep 60 }\n")
		obiter(t, dir, "try").check(t, 3, "", "which is not a regular file")
		if text, err := os.ReadFile(filepath.Join(dir, "theirs.txt")); err != nil || string(text) != "tide tables" {
			t.Errorf("%q, %v", text, err)
		}
	})
	t.Run("a daemon that may stay", func(t *testing.T) {
		dir := folder(t)
		at, mark := free(t), fmt.Sprintf("OBITER_TEST_MARK=may-stay-%d", os.Getpid())
		put(t, dir, "obiter.yaml", fmt.Sprintf("at: http://%s\nservice:\n  start: %q\n  daemons: live\n", at, fmt.Sprintf("setsid sleep 600 </dev/null >/dev/null 2>&1 & exec "+office, program, at)))
		cmd := exec.Command(program, "try", "--only", "* /berths")
		cmd.Dir, cmd.Env = dir, append(os.Environ(), mark)
		if out, err := cmd.CombinedOutput(); err != nil || strings.Contains(string(out), "left running") {
			t.Errorf("%v: %s", err, out)
		}
		var left map[int]string
		for range 100 { // the guard ends a little later
			if left = living(t, mark); len(left) < 2 {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		for pid := range left {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		if len(left) != 1 {
			t.Errorf("left are %v", left)
		}
	})
	t.Run("a port that is taken", func(t *testing.T) {
		dir := folder(t)
		put(t, dir, "obiter.yaml", fmt.Sprintf("at: %s\nservice: { start: touch started }\n", serve(t)))
		obiter(t, dir, "try").check(t, 2, "", "error: the service (touch started) is not started: something answers there already\nhint: stop that first")
		if _, err := os.Stat(filepath.Join(dir, "started")); err == nil {
			t.Error("it was started all the same")
		}
	})
}
