// Package files writes the files that people name, and replaces nothing that they wrote.
package files

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"obiter/internal/core/usage"
	"obiter/internal/results/render"
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

// Replaceable says why a file may not be written; nil where it may. runs are files that are read.
func Replaceable(name string, force bool, runs []string) error {
	is, err := os.Stat(name)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil
	case err != nil:
		return usage.New(fmt.Sprintf("cannot write %s: %v", name, errors.Unwrap(err)), "name another file")
	case is.IsDir():
		return usage.New(name+" is a folder", "name a file in it")
	case !is.Mode().IsRegular():
		return nil
	}
	for _, run := range runs {
		if was, err := os.Stat(run); err == nil && os.SameFile(is, was) {
			return usage.New(name+" is the run file that is read", "name another file")
		}
	}
	if force || is.Size() == 0 {
		return nil
	}
	f, err := os.Open(name)
	if err != nil {
		return usage.New(fmt.Sprintf("cannot read %s, to see whether it may be replaced: %v", name, errors.Unwrap(err)), "name another file")
	}
	defer f.Close()
	begin, err := io.ReadAll(io.LimitReader(f, maxBeginning))
	if err == nil && slices.ContainsFunc(beginnings(), func(text string) bool { return bytes.Contains(begin, []byte(text)) }) {
		return nil
	}
	return usage.New(name+" is there and was not written by Obiter, so it is not replaced", "name another file, or replace it with --force")
}

// Replace writes a file: all of it or, where it cannot be written, nothing.
func Replace(name string, write func(w io.Writer) error) error {
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

// Writable says why a file cannot be written, before anything is done.
func Writable(name string, force bool, runs []string) error {
	if err := Replaceable(name, force, runs); err != nil {
		return err
	}
	if is, err := os.Stat(name); err == nil && !is.Mode().IsRegular() {
		return nil
	}
	if target, err := filepath.EvalSymlinks(name); err == nil {
		name = target
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".obiter-*")
	if err != nil {
		return usage.New(fmt.Sprintf("cannot write %s: %v", name, errors.Unwrap(err)), "name a file in a folder that exists and can be written to")
	}
	return errors.Join(f.Close(), os.Remove(f.Name()))
}

// New writes a file that must not be there yet.
func New(name string, text []byte) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, os.ErrExist) {
		return usage.New(name+" already exists and is not overwritten", "name a new folder, or remove the file")
	}
	if err != nil {
		return usage.New(fmt.Sprintf("cannot write %s: %v", name, errors.Unwrap(err)), "go to a folder that can be written to")
	}
	_, err = f.Write(text)
	if err := errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	return nil
}

// Swap puts another text in the place of a file at once, with its permissions.
func Swap(name string, text []byte) error {
	mode := os.FileMode(0o644)
	if info, err := os.Stat(name); err == nil {
		mode = info.Mode().Perm()
	}
	fresh := name + ".new"
	if err := os.WriteFile(fresh, text, mode); err != nil {
		return errors.Unwrap(err)
	}
	if err := os.Rename(fresh, name); err != nil {
		return errors.Join(errors.Unwrap(err), os.Remove(fresh))
	}
	return nil
}
