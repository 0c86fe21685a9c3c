package trial

import (
	"errors"
	"io"
	"os"
	"path/filepath"

	"obiter/internal/record"
)

// files are where a run is kept.
type files struct {
	record *record.Writer
	open   []*os.File
}

// open makes the files and writes the first line. A folder that is made for them
// ignores itself in git.
func (t *trial) open() (*files, error) {
	out := &files{}
	var writers []io.Writer
	for _, name := range t.opt.Files {
		f, err := create(name)
		if err != nil {
			return nil, errors.Join(&FileError{name, err}, out.closeAll())
		}
		out.open, writers = append(out.open, f), append(writers, f)
	}
	if t.opt.Copy != nil {
		writers = append(writers, t.opt.Copy)
	}
	head := t.opt.Head
	head.Description, head.At, head.Seed, head.Layout = t.opt.Document.Name, t.opt.Base.String(), t.opt.Plan.Seed, t.layout()
	var err error
	out.record, err = record.NewWriter(t.opt.Secrets.Writer(io.MultiWriter(writers...)), head)
	return out, err
}

// RunFolder is where the last run is kept; it is made where it is missing.
const RunFolder = ".obiter"

// LastRun is the file of the last run in a folder.
func LastRun(folder string) string { return filepath.Join(folder, RunFolder, "last.ndjson") }

func create(name string) (*os.File, error) {
	if folder := filepath.Dir(name); filepath.Base(folder) == RunFolder {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return nil, cause(err)
		}
		if err := os.WriteFile(filepath.Join(folder, ".gitignore"), []byte("*\n"), 0o644); err != nil {
			return nil, cause(err)
		}
	}
	f, err := os.Create(name)
	return f, cause(err)
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

// close writes the last line and closes the files.
func (f *files) close(totals record.Totals) error {
	return errors.Join(f.record.Close(totals), f.closeAll())
}
