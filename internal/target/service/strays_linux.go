package service

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// prSetChildSubreaper is of prctl(2): processes whose parent ends become children of this one.
const prSetChildSubreaper = 36

// Adopt makes this process the parent of what a service leaves running, also where that has a
// session of its own, so that it can be found and ended. It is for a command, and not for a
// library.
func Adopt() { _, _, _ = syscall.RawSyscall(syscall.SYS_PRCTL, prSetChildSubreaper, 1, 0) }

// stray is a process that a service left running.
type stray struct {
	pid  int
	name string
}

// strays are the children of this process in other groups than those given.
func strays(groups ...int) []stray {
	var out []stray
	files, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		// pid (name) state ppid pgrp …; the name may hold anything
		open, shut := bytes.IndexByte(text, '('), bytes.LastIndexByte(text, ')')
		if open < 0 || shut < open {
			continue
		}
		rest := strings.Fields(string(text[shut+1:]))
		if len(rest) < 3 || rest[0] == "Z" {
			continue
		}
		parent, _ := strconv.Atoi(rest[1])
		group, _ := strconv.Atoi(rest[2])
		pid, _ := strconv.Atoi(strings.TrimSpace(string(text[:open])))
		own := group == syscall.Getpgrp()
		for _, g := range groups {
			own = own || group == g
		}
		if parent == os.Getpid() && pid > 0 && !own {
			out = append(out, stray{pid, string(text[open+1 : shut])})
		}
	}
	return out
}

// endStrays ends what a service left running: it is asked to, and killed if it does not. It gives
// their names.
func endStrays(groups ...int) (ended []string) {
	seen := map[int]bool{}
	signal := func(list []stray, s syscall.Signal) {
		for _, p := range list {
			_ = syscall.Kill(p.pid, s)
			if !seen[p.pid] {
				ended = append(ended, fmt.Sprintf("%s (process %d)", p.name, p.pid))
			}
			seen[p.pid] = true
		}
	}
	signal(strays(groups...), syscall.SIGTERM)
	for end := time.Now().Add(patience); len(seen) > 0 && time.Now().Before(end) && len(strays(groups...)) > 0; {
		time.Sleep(20 * time.Millisecond)
	}
	for range 3 { // what one of them leaves comes to light when it ends
		left := strays(groups...)
		if len(left) == 0 {
			break
		}
		signal(left, syscall.SIGKILL)
		time.Sleep(20 * time.Millisecond)
	}
	for pid := range seen {
		_, _ = syscall.Wait4(pid, nil, syscall.WNOHANG, nil)
	}
	return ended
}
