package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"obiter/internal/results/render"

	"github.com/urfave/cli/v3"
)

// A file that is written replaces nothing but one that Obiter wrote, as its beginning shows. A
// link is followed, and what it leads to counts; a device or a pipe is written to.

// beginnings are what is in the first bytes of files that Obiter writes: reports, run files, drafts.
func beginnings() []string {
	out := []string{`{"type":"run","obiter":`, "# Drafted by obiter."}
	for _, f := range render.Formats {
		out = append(out, f.Begins)
	}
	return out
}

// maxBeginning is how much of a file is read to recognise it, in bytes.
const maxBeginning = 8 << 10

func forceFlag() cli.Flag {
	return &cli.BoolFlag{Name: "force", Usage: "replace files that Obiter did not write, too"}
}

// replaceable says why a file may not be written; nil where it may. runs are files that are read.
func replaceable(name string, force bool, runs []string) error {
	is, err := os.Stat(name)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil
	case err != nil:
		return usage(fmt.Sprintf("cannot write %s: %v", name, errors.Unwrap(err)), "name another file")
	case is.IsDir():
		return usage(name+" is a folder", "name a file in it")
	case !is.Mode().IsRegular():
		return nil
	}
	for _, run := range runs {
		if was, err := os.Stat(run); err == nil && os.SameFile(is, was) {
			return usage(name+" is the run file that is read", "name another file")
		}
	}
	if force || is.Size() == 0 {
		return nil
	}
	f, err := os.Open(name)
	if err != nil {
		return usage(fmt.Sprintf("cannot read %s, to see whether it may be replaced: %v", name, errors.Unwrap(err)), "name another file")
	}
	defer f.Close()
	begin, err := io.ReadAll(io.LimitReader(f, maxBeginning))
	if err == nil && slices.ContainsFunc(beginnings(), func(text string) bool { return bytes.Contains(begin, []byte(text)) }) {
		return nil
	}
	return usage(name+" is there and was not written by Obiter, so it is not replaced", "name another file, or replace it with --force")
}

// replace writes a file: all of it or, where it cannot be written, nothing.
func replace(name string, write func(w io.Writer) error) error {
	if is, err := os.Stat(name); err == nil && !is.Mode().IsRegular() {
		f, err := os.OpenFile(name, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		return errors.Join(whole(f, write), f.Close())
	}
	if target, err := filepath.EvalSymlinks(name); err == nil {
		name = target
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".obiter-*")
	if err != nil {
		return err
	}
	if err = errors.Join(whole(f, write), f.Close()); err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		_ = os.Remove(f.Name())
	}
	return err
}

func whole(f *os.File, write func(w io.Writer) error) error {
	buffered := bufio.NewWriter(f)
	return errors.Join(write(buffered), buffered.Flush())
}
