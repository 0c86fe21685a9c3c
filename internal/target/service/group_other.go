//go:build !unix

package service

import (
	"os"
	"os/exec"
)

// Without process groups only what was started itself is ended.

func newProcessGroup(*exec.Cmd) {}

func ask(pid int) { kill(pid) }

func kill(pid int) {
	if p, err := os.FindProcess(pid); err == nil {
		_ = p.Kill()
	}
}

func alive(int) bool { return false }

func reap(int) {}

type guard struct{}

func newGuard(int) (*guard, error) { return &guard{}, nil }

func (g *guard) dismiss() {}

func (g *guard) group() int { return 0 }
