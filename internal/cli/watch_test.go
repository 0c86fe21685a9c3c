//go:build linux

package cli_test

import (
	"bytes"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// terminal is a pseudo-terminal with a program in it.
type terminal struct {
	t   *testing.T
	own *os.File // the side of the person
	cmd *exec.Cmd

	mu     sync.Mutex
	screen bytes.Buffer // all that was printed
	seen   int
}

// inTerminal runs the built program in a pseudo-terminal.
func inTerminal(t *testing.T, dir string, args ...string) *terminal {
	t.Helper()
	return inTerminalWith(t, dir, nil, args...)
}

// inTerminalWith is inTerminal with variables of the environment.
func inTerminalWith(t *testing.T, dir string, env []string, args ...string) *terminal {
	t.Helper()
	own, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	if err != nil {
		t.Skip("there are no pseudo-terminals: ", err)
	}
	t.Cleanup(func() { own.Close() })
	n, err := unix.IoctlGetInt(int(own.Fd()), unix.TIOCGPTN)
	if err == nil {
		err = unix.IoctlSetPointerInt(int(own.Fd()), unix.TIOCSPTLCK, 0)
	}
	if err != nil {
		t.Fatal(err)
	}
	its, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer its.Close()
	x := &terminal{t: t, own: own, cmd: exec.Command(program, args...)}
	x.cmd.Dir, x.cmd.Stdin, x.cmd.Stdout, x.cmd.Stderr = dir, its, its, its
	x.cmd.Env = append(append(os.Environ(), "TERM=xterm", "NO_COLOR=1"), env...)
	x.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := x.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	go func() {
		buffer := make([]byte, 4096)
		for {
			n, err := own.Read(buffer)
			x.mu.Lock()
			x.screen.Write(buffer[:n])
			x.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	return x
}

// shows waits until a text comes, after the last that came.
func (x *terminal) shows(text string) {
	x.t.Helper()
	for range 600 {
		x.mu.Lock()
		i := strings.Index(x.screen.String()[x.seen:], text)
		if i >= 0 {
			x.seen += i + len(text)
		}
		x.mu.Unlock()
		if i >= 0 {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.t.Fatalf("%q does not come after\n%s", text, x.screen.String()[x.seen:])
}

func (x *terminal) types(text string) {
	x.t.Helper()
	if _, err := x.own.WriteString(text); err != nil {
		x.t.Fatal(err)
	}
}

// TestWatch: round after round at a terminal, for each of the reasons.
func TestWatch(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	o := &office{}
	o.with(t, "update-unchecked", "no-allow")
	server := httptest.NewUnstartedServer(o)
	server.Start()
	address := server.Listener.Addr().String()
	put(t, dir, "obiter.yaml", "at: http://"+address+"\nskip: ['* /tow-orders', '* /tow-orders/*']\n")
	x := inTerminal(t, dir, "try", "--watch", "--depth", "quick")
	const waits = "Enter: try again what failed"
	x.shows("2 causes to fix")
	x.shows(waits)
	o.with(t, "no-allow") // one is fixed
	x.types("\n")
	x.shows("\x1b[H\x1b[2J")
	x.shows("right now, 1 still wrong")
	x.shows(waits)
	o.with(t) // and the service started again
	server.Close()
	time.Sleep(1500 * time.Millisecond)
	l, err := net.Listen("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	back := &http.Server{Handler: o}
	go func() { _ = back.Serve(l) }()
	t.Cleanup(func() { _ = back.Close() })
	x.shows("1 right now")
	x.shows(waits)
	text := string(mustRead(t, dir, "openapi.yaml"))
	put(t, dir, "openapi.yaml", "openapi: [") // in the middle of writing
	x.shows("error: openapi.yaml:")
	x.shows(waits)
	put(t, dir, "openapi.yaml", strings.Replace(text, "  /berths:", "  /moorings:", 1))
	x.shows("the plan no longer has")
	x.shows(waits)
	put(t, dir, "openapi.yaml", text)
	x.shows("the plan has")
	x.shows(waits)
	x.types("f\n")
	x.shows("GET /berths")
	x.shows("0 wrong")
	x.shows(waits)
	x.types("q\n")
	if err := x.cmd.Wait(); err != nil {
		t.Errorf("it ends with %v", err)
	}
	obiter(t, dir, "try", "--watch").check(t, 2, "", "--watch needs a terminal to ask and to answer at")
	// An interrupt while it waits.
	x = inTerminal(t, dir, "try", "--watch", "--depth", "quick", "--only", "GET /berths")
	x.shows(waits)
	x.types("\x03")
	done := make(chan error, 1)
	go func() { done <- x.cmd.Wait() }()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		_ = x.cmd.Process.Kill()
		t.Error("an interrupt does not end it")
	}
	if status := x.cmd.ProcessState.ExitCode(); status != 130 {
		t.Errorf("after an interrupt the status is %d", status)
	}
	x = inTerminal(t, dir, "try", "--watch", "--budget", "3")
	x.shows("--budget does not go with --watch")
	_ = x.cmd.Wait()
}
