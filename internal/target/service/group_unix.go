//go:build unix

package service

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"syscall"
)

// newProcessGroup gives a command a process group of its own.
func newProcessGroup(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

func ask(group int)  { _ = syscall.Kill(-group, syscall.SIGTERM) }
func kill(group int) { _ = syscall.Kill(-group, syscall.SIGKILL) }

// alive reports whether a process of the group is there.
func alive(group int) bool { return syscall.Kill(-group, 0) != syscall.ESRCH }

// reap takes the status of processes of the group that ended as children of this one, without which
// they stay. What was started itself has to be waited for first.
func reap(group int) {
	for {
		if pid, err := syscall.Wait4(-group, nil, syscall.WNOHANG, nil); pid <= 0 || err != nil {
			return
		}
	}
}

// guard is a shell that ends the group when Obiter is gone, whatever ended it: it reads
// from a pipe that Obiter alone holds, and that ends with it.
type guard struct {
	cmd  *exec.Cmd
	hold io.Closer
}

func newGuard(group int) (*guard, error) {
	read, hold, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer read.Close()
	g := &guard{hold: hold, cmd: exec.Command("sh", "-c", fmt.Sprintf("trap '' INT TERM HUP; cat >/dev/null; kill -TERM -%d; sleep 2; kill -KILL -%d", group, group))}
	g.cmd.Stdin = read
	newProcessGroup(g.cmd)
	if err := g.cmd.Start(); err != nil {
		_ = hold.Close()
		return nil, err
	}
	return g, nil
}

// group is the guard's own.
func (g *guard) group() int { return g.cmd.Process.Pid }

// dismiss ends the guard, which has nothing left to do.
func (g *guard) dismiss() {
	kill(g.cmd.Process.Pid)
	_ = g.cmd.Wait()
	_ = g.hold.Close()
}
