package trial

import (
	"bufio"
	"errors"
	"io"
	"os"
	"path/filepath"

	"obiter/internal/record"
)

// files are where a run is kept: the answers as they come next to the first, and, when
// the run is judged by what all of them taught, all of it in all of them. Until then the
// first is what it was.
type files struct {
	record, final *record.Writer
	name          string        // of the first; empty: there is none
	raw           *os.File      // of the answers as they come
	kept          *os.File      // takes the place of the first in the end; nil: nothing does
	all           *bufio.Writer // what final writes to
	open          []*os.File
}

// open makes the files and writes the first line. A folder that is made for them
// ignores itself in git.
func (t *trial) open() (*files, error) {
	out := &files{}
	head := t.opt.Head
	head.Description, head.At, head.Seed, head.Layout = t.opt.Document.Name, t.opt.Base.String(), t.opt.Plan.Seed, t.layout()
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
	if out.record, err = record.NewWriter(out.raw, head); err != nil {
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
	if _, err := f.raw.Seek(0, io.SeekStart); err != nil {
		return nil, cause(err)
	}
	return record.NewReader(f.raw)
}

// close writes the last line and closes the files. Where the run could not be
// judged, what was kept as answers came stays.
func (f *files) close(totals record.Totals, judged bool) error {
	var err error
	if judged {
		err = errors.Join(f.final.Close(totals), f.all.Flush())
	}
	err = errors.Join(err, f.closeAll())
	switch {
	case f.kept == nil:
		return errors.Join(err, cause(os.Remove(f.raw.Name())))
	case !judged || err != nil:
		return errors.Join(err, cause(os.Remove(f.kept.Name())), cause(os.Rename(f.raw.Name(), f.name)))
	}
	return errors.Join(Replace(f.name, f.kept.Name()), cause(os.Remove(f.raw.Name())))
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

// RunFolder is where the last run is kept; it is made where it is missing, for its owner
// alone: requests and answers may be nobody else's business.
const RunFolder = ".obiter"

// LastRun is the file of the last run in a folder.
func LastRun(folder string) string { return filepath.Join(folder, RunFolder, "last.ndjson") }

const previousName = "previous.ndjson"

// PreviousRun is the file of the run before the last one.
func PreviousRun(folder string) string { return filepath.Join(folder, RunFolder, previousName) }

// Replace puts a file in the place of the last run, which becomes the one before it.
func Replace(last, made string) error {
	_ = os.Rename(last, filepath.Join(filepath.Dir(last), previousName)) // there may be none
	return cause(os.Rename(made, last))
}

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

func (f *files) closeAll() error {
	var errs []error
	for _, file := range f.open {
		errs = append(errs, file.Close())
	}
	return errors.Join(errs...)
}
