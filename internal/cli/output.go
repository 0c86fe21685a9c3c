package cli

import (
	"errors"
	"fmt"
	"io"
	"sync"
	"syscall"
)

// output is where results go. It remembers the first write that failed, and tells of it
// once: nobody reads any more, or there is no room.
type output struct {
	to     io.Writer
	failed func()

	mu  sync.Mutex
	err error
}

func (o *output) Write(p []byte) (int, error) {
	n, err := o.to.Write(p)
	if err != nil {
		o.mu.Lock()
		first := o.err == nil
		if first {
			o.err = err
		}
		o.mu.Unlock()
		if first {
			o.failed()
		}
	}
	return n, err
}

// exitPipe is the status of a program whose reader went away, as shells give it.
const exitPipe = 141

// failure is what a write that failed makes of a command's outcome; nil where all was
// written. A reader that went away, such as head, knows why.
func (o *output) failure() *failure {
	o.mu.Lock()
	defer o.mu.Unlock()
	switch {
	case o.err == nil:
		return nil
	case errors.Is(o.err, syscall.EPIPE):
		return &failure{exitPipe, "", ""}
	}
	return &failure{exitUsage, fmt.Sprintf("cannot write the output: %v", o.err), "make room, or write it elsewhere"}
}
