package session

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"obiter/internal/core/usage"
	"obiter/internal/execute/run"
	"obiter/internal/results/record"
	"obiter/internal/results/render"
	"obiter/internal/results/report"
)

// Runs are run files that are read as one.
type Runs struct {
	session *Session
	names   []string
	files   []*os.File
	merge   record.Merge
	reader  *record.Reader // the last that was opened
	whole   bool           // all is there by now, whatever interrupted one of them
}

// Open opens run files and looks whether they belong together; the last run's, where none is
// named.
func (s *Session) Open(names ...string) (*Runs, error) {
	if len(names) == 0 {
		names = []string{s.Last()}
	}
	return openInto(&Runs{names: names, session: s})
}

func openInto(r *Runs) (*Runs, error) {
	names := r.names
	for _, name := range names {
		f, err := OpenFile(name)
		if err != nil {
			return nil, errors.Join(err, r.Close())
		}
		for i, have := range r.files {
			if same(have, f) {
				f.Close()
				return nil, errors.Join(usage.New(fmt.Sprintf("%s is named twice, as %s too", name, names[i]), "name each run once"), r.Close())
			}
		}
		r.files = append(r.files, f)
		if err := r.merge.Add(name, func() (io.Reader, error) {
			_, err := f.Seek(0, io.SeekStart)
			return f, err
		}); err != nil {
			return nil, errors.Join(err, r.Close())
		}
	}
	return r, nil
}

func same(a, b *os.File) bool {
	info, err := a.Stat()
	return err == nil && isFile(b, info)
}

func isFile(f *os.File, is os.FileInfo) bool {
	info, err := f.Stat()
	return err == nil && os.SameFile(info, is)
}

// Head is the first line of the runs as one.
func (r *Runs) Head() record.Head { return r.merge.Head }

// Twice is how many cases are in more than one of the runs.
func (r *Runs) Twice() int { return r.merge.Twice }

// Missing are the shards that are not among the runs, such as 3/5.
func (r *Runs) Missing() []string { return r.merge.Missing() }

// Names are the files.
func (r *Runs) Names() []string { return r.names }

// Logs is what the service logged of cases, as far as the runs were read.
func (r *Runs) Logs() map[string][]string { return r.reader.Logs }

// Reads reports whether a file is one of those that are read.
func (r *Runs) Reads(is os.FileInfo) bool {
	return slices.ContainsFunc(r.files, func(f *os.File) bool { return isFile(f, is) })
}

// Close closes the files.
func (r *Runs) Close() error {
	var err error
	for _, f := range r.files {
		err = errors.Join(err, f.Close())
	}
	return err
}

// Read reads the runs from the beginning.
func (r *Runs) Read() (*record.Reader, error) {
	var err error
	r.reader, err = r.merge.Open()
	return r.reader, err
}

// Judge judges the runs as one, stores what comes of it with the writer, and gives each every
// case, unless these are nil.
func (r *Runs) Judge(w *record.Writer, each run.Each) (*report.Report, error) {
	return run.JudgeEach(r.Read, w, each, r.session.Known)
}

// Write judges the runs as one, and writes what comes of it as a run file.
func (r *Runs) Write(to io.Writer, each run.Each) (*report.Report, error) {
	if _, err := r.Read(); err != nil { // which makes the head
		return nil, err
	}
	head := r.merge.Head
	head.Program = r.session.Program
	w, err := record.NewWriter(to, head)
	if err != nil {
		return nil, err
	}
	rep, err := r.Judge(w, each)
	if err != nil {
		return nil, err
	}
	totals := rep.Totals()
	totals.Layout, totals.Interrupted = rep.Layout, r.Incomplete() != ""
	return rep, w.Close(totals)
}

// Interrupted says that a run is not all that was planned.
const Interrupted = "the run was interrupted, so this is not all"

// Incomplete says why the runs are not all that was planned; "" where they are.
func (r *Runs) Incomplete() string {
	if missing := r.merge.Missing(); len(missing) > 0 {
		return "not all: missing is shard " + strings.Join(missing[:min(len(missing), 6)], ", ")
	}
	if r.whole {
		return ""
	}
	if r.reader == nil || r.reader.Totals == nil || r.reader.Totals.Interrupted {
		return Interrupted
	}
	return ""
}

// OpenFile opens a run file for reading.
func OpenFile(name string) (*os.File, error) {
	if name == "" {
		return nil, usage.New("there is no run in this folder yet", "make one with: obiter try")
	}
	return OpenRegular(name, "the run file "+name, usage.New("there is no run file "+name, "make one with: obiter try"))
}

// OpenRegular opens a file that can be read twice, which a pipe cannot. It is called so where
// it cannot be read; missing is what to say where there is no such file.
func OpenRegular(name, called string, missing error) (*os.File, error) {
	info, err := os.Stat(name)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil, missing
	case err == nil && !info.Mode().IsRegular(): // a pipe may never end
		return nil, usage.New(name+" is not a regular file", "save its contents to a file first")
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, usage.New(fmt.Sprintf("cannot read %s: %v", called, cause(err)), "")
	}
	return f, nil
}

// OpenOne opens a run file and reads its first line.
func OpenOne(name string) (*os.File, *record.Reader, error) {
	f, err := OpenFile(name)
	if err != nil {
		return nil, nil, err
	}
	r, err := record.NewReader(f)
	if err != nil {
		return nil, nil, errors.Join(fmt.Errorf("%s: %w", name, err), f.Close())
	}
	return f, r, nil
}

// Exchanges reads the exchanges of a judged run once more, with what they came to.
func (r *Runs) Exchanges(of render.Run, each func(record.Result)) error {
	reader, err := r.Read()
	if err != nil {
		return err
	}
	judged := map[string]int{}
	for i, res := range of.Results {
		judged[res.ID] = i
	}
	for res, err := range reader.Results() {
		if err != nil {
			return err
		}
		if i, is := judged[res.ID]; is {
			res.Verdict, res.Findings = of.Results[i].Verdict, of.Results[i].Findings
			each(res)
		}
	}
	return nil
}
