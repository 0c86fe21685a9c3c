package trial

import (
	"bufio"
	"errors"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"obiter/internal/results/record"
)

// files are where a run is kept: the answers as they come next to the first, and, when
// the run is judged by what all of them taught, all of it in all of them. Until then the
// first is what it was.
type files struct {
	record, final *record.Writer
	name          string         // of the first; empty: there is none
	raw           *os.File       // of the answers as they come
	soon          *delayedWriter // what writes to it
	kept          *os.File       // takes the place of the first in the end; nil: nothing does
	all           *bufio.Writer  // what final writes to
	open          []*os.File
}

// open makes the files and writes the first line. A folder that is made for them
// ignores itself in git.
func (t *trial) open() (*files, error) {
	out := &files{}
	head := t.opt.Head
	head.Description, head.At, head.Seed, head.Layout = t.opt.Document.Name, t.opt.Secrets.Redact(t.opt.Base.String()), t.opt.Plan.Seed, t.layout()
	head.Digest, head.Config = t.opt.Document.Digest(), t.conf.Digest()
	var writers []io.Writer
	for i, name := range t.opt.Files {
		made := name
		if i == 0 {
			out.name, made = name, name+".part"
		}
		f, err := create(made)
		if err == nil {
			out.open = append(out.open, f)
		}
		if i == 0 && err == nil {
			out.raw = f
			if f, err = create(name + ".new"); err == nil {
				out.kept, out.open = f, append(out.open, f)
			}
		}
		if err != nil {
			return nil, errors.Join(&FileError{name, err}, out.discard())
		}
		writers = append(writers, f)
	}
	var err error
	if out.raw == nil {
		if out.raw, err = os.CreateTemp("", "obiter-*.ndjson"); err != nil {
			return nil, &FileError{os.TempDir(), cause(err)}
		}
		out.open = append(out.open, out.raw)
	}
	if t.opt.Copy != nil {
		writers = append(writers, t.opt.Copy)
	}
	out.soon = &delayedWriter{to: bufio.NewWriterSize(out.raw, 64<<10)}
	if out.record, err = record.NewWriter(out.soon, head); err == nil {
		err = out.soon.flush() // whenever it ends, it is a run file
	}
	if err != nil {
		return nil, errors.Join(err, out.discard())
	}
	out.all = bufio.NewWriterSize(io.MultiWriter(writers...), 64<<10)
	if out.final, err = record.NewWriter(out.all, head); err != nil {
		return nil, errors.Join(err, out.discard())
	}
	return out, nil
}

// reopen reads the answers that were kept.
func (f *files) reopen() (*record.Reader, error) {
	if err := f.soon.flush(); err != nil {
		return nil, cause(err)
	}
	if _, err := f.raw.Seek(0, io.SeekStart); err != nil {
		return nil, cause(err)
	}
	return record.NewReader(f.raw)
}

// drop writes the answers that were kept anew, without some.
func (f *files) drop(gone func(kind, operation, id string) bool) error {
	if err := f.soon.flush(); err != nil {
		return cause(err)
	}
	if _, err := f.raw.Seek(0, io.SeekStart); err != nil {
		return cause(err)
	}
	name := f.raw.Name()
	rest, err := create(name + ".rest")
	if err != nil {
		return err
	}
	err = errors.Join(record.Without(rest, f.raw, gone), cause(rest.Close()))
	if err == nil {
		err = cause(os.Rename(rest.Name(), name))
	}
	if err != nil {
		return errors.Join(err, cause(os.Remove(rest.Name())))
	}
	if rest, err = os.OpenFile(name, os.O_RDWR|os.O_APPEND, 0o600); err != nil {
		return cause(err)
	}
	f.raw = rest
	f.open = append(f.open, rest)
	f.soon.redirect(rest)
	return nil
}

// close writes the last line and closes the files. Where the run could not be
// judged, what was kept as answers came stays.
func (f *files) close(totals record.Totals, judged bool) error {
	err := cause(f.soon.flush())
	if judged {
		err = errors.Join(err, f.final.Close(totals), f.all.Flush())
	}
	err = errors.Join(err, f.closeAll())
	switch {
	case f.kept == nil:
		return errors.Join(err, cause(os.Remove(f.raw.Name())))
	case !judged || err != nil:
		return errors.Join(err, cause(os.Remove(f.kept.Name())), cause(os.Rename(f.raw.Name(), f.name)))
	}
	return errors.Join(cause(os.Rename(f.kept.Name(), f.name)), cause(os.Remove(f.raw.Name())))
}

// discard closes the files of a run that sent nothing. The last run stays.
func (f *files) discard() error {
	err := f.closeAll()
	for _, file := range []*os.File{f.raw, f.kept} {
		if file != nil {
			err = errors.Join(err, cause(os.Remove(file.Name())))
		}
	}
	return err
}

// RunFolder is where runs are stored; it is made where it is missing, for its owner
// alone: requests and answers may be nobody else's business.
const RunFolder = ".obiter"

func create(name string) (*os.File, error) {
	return open(name, os.O_RDWR|os.O_CREATE|os.O_TRUNC)
}

// open opens a file for its owner alone, and makes the folder of runs where it is in it.
func open(name string, flag int) (*os.File, error) {
	if folder := filepath.Dir(name); filepath.Base(folder) == RunFolder {
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return nil, cause(err)
		}
		ignore := filepath.Join(folder, ".gitignore")
		for _, own := range []string{name, ignore} { // a link would lead what is written elsewhere
			if info, err := os.Lstat(own); err == nil && info.Mode()&os.ModeSymlink != 0 {
				if err := os.Remove(own); err != nil {
					return nil, cause(err)
				}
			}
		}
		if err := os.WriteFile(ignore, []byte("*\n"), 0o600); err != nil {
			return nil, cause(err)
		}
	}
	f, err := os.OpenFile(name, flag, 0o600)
	if err != nil {
		return nil, cause(err)
	}
	if info, err := f.Stat(); err == nil && info.Mode().IsRegular() { // an older one, and no device
		_ = f.Chmod(0o600)
	}
	return f, nil
}

// cause is the reason of a file error, without the path that is named anyway.
func cause(err error) error {
	var path *os.PathError
	if errors.As(err, &path) {
		return path.Err
	}
	return err
}

// delayedWriter writes what it is given a little later, in larger pieces, and never later than
// flushAfter. It is safe for concurrent use.
type delayedWriter struct {
	mu    sync.Mutex
	to    *bufio.Writer
	timer *time.Timer // runs; nil: there is nothing to be written
	err   error       // the first one
}

// flushAfter is how long an answer is held back; after FlushDeadline it is in the run file.
const (
	flushAfter    = 100 * time.Millisecond
	FlushDeadline = 2 * flushAfter
)

func (s *delayedWriter) Write(data []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err != nil {
		return 0, s.err
	}
	if s.timer == nil {
		s.timer = time.AfterFunc(flushAfter, func() { _ = s.flush() })
	}
	n, err := s.to.Write(data)
	s.err = err
	return n, err
}

func (s *delayedWriter) flush() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.timer != nil {
		s.timer.Stop()
		s.timer = nil
	}
	if s.err == nil {
		s.err = s.to.Flush()
	}
	return s.err
}

// redirect writes to another file from now on.
func (s *delayedWriter) redirect(f *os.File) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.to.Reset(f)
}

func (f *files) closeAll() error {
	var errs []error
	for _, file := range f.open {
		errs = append(errs, file.Close())
	}
	return errors.Join(errs...)
}
