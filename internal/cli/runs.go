package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"obiter/internal/execute/run"
	"obiter/internal/execute/trial"
	"obiter/internal/results/record"
	"obiter/internal/results/render"
	"obiter/internal/results/report"
)

// runs are the run files of a command, read as one.
type runs struct {
	names  []string
	files  []*os.File
	merge  record.Merge
	reader *record.Reader // the last that was opened
	known  run.Known      // what is counted apart
	whole  bool           // all is there by now, whatever interrupted one of them
}

// runsNamed are the run files that a command names, or the last run's.
func runsNamed(c *cli.Command) []string {
	if c.Args().Len() == 0 {
		return []string{trial.LastRun("")}
	}
	return c.Args().Slice()
}

// openRuns opens run files and looks whether they belong together.
func openRuns(names []string) (*runs, error) { return openInto(&runs{names: names}) }

// openKnown is openRuns for those who count apart what is known.
func (a *app) openKnown(names []string) (*runs, error) {
	known, err := a.known()
	if err != nil {
		return nil, err
	}
	return openInto(&runs{names: names, known: known})
}

func openInto(r *runs) (*runs, error) {
	names := r.names
	for _, name := range names {
		f, err := openFile(name)
		if err != nil {
			return nil, errors.Join(err, r.close())
		}
		for i, have := range r.files {
			if same(have, f) {
				f.Close()
				return nil, errors.Join(usage(fmt.Sprintf("%s is named twice, as %s too", name, names[i]), "name each run once"), r.close())
			}
		}
		r.files = append(r.files, f)
		if err := r.merge.Add(name, func() (io.Reader, error) {
			_, err := f.Seek(0, io.SeekStart)
			return f, err
		}); err != nil {
			return nil, errors.Join(err, r.close())
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

// tellOf tells what is odd about several runs that are read as one.
func (a *app) tellOf(r *runs) {
	if n := r.merge.Twice; n > 0 {
		fmt.Fprintf(a.streams.Err, "warning: %s in more than one run; the latest answer counts\n", areIn(n))
	}
	if missing := r.merge.Missing(); len(missing) > 0 {
		fmt.Fprintf(a.streams.Err, "warning: %s\n", r.incomplete())
	}
}

func areIn(n int) string {
	if n == 1 {
		return "1 case is"
	}
	return number(n) + " cases are"
}

func (r *runs) close() error {
	var err error
	for _, f := range r.files {
		err = errors.Join(err, f.Close())
	}
	return err
}

// open reads the runs from the beginning.
func (r *runs) open() (*record.Reader, error) {
	var err error
	r.reader, err = r.merge.Open()
	return r.reader, err
}

// name is the file, or how many there are.
func (r *runs) name() string {
	if len(r.names) == 1 {
		return r.names[0]
	}
	return plural(len(r.names), "run file")
}

// judge judges the runs as one, keeps what comes of it with the writer, and tells each of
// every case, unless these are nil.
func (r *runs) judge(w *record.Writer, each run.Each) (*report.Report, error) {
	return run.JudgeEach(r.open, w, each, r.known)
}

// exchanges reads the exchanges of a judged run once more.
func (r *runs) exchanges(of render.Run, each func(record.Result)) error {
	reader, err := r.open()
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

// interruptedRun says that a run is not all that was planned.
const interruptedRun = "the run was interrupted, so this is not all"

// incomplete says why the runs are not all that was planned; "" where they are.
func (r *runs) incomplete() string {
	if missing := r.merge.Missing(); len(missing) > 0 {
		return "not all: missing is shard " + strings.Join(missing[:min(len(missing), 6)], ", ")
	}
	if r.whole {
		return ""
	}
	if r.reader == nil || r.reader.Totals == nil || r.reader.Totals.Interrupted {
		return interruptedRun
	}
	return ""
}

// openFile opens a run file for reading.
func openFile(name string) (*os.File, error) {
	return openRegular(name, "the run file "+name, usage("there is no run file "+name, "make one with: obiter try"))
}

// openRegular opens a file that can be read twice, which a pipe cannot. It is called so where
// it cannot be read; missing is what to say where there is no such file.
func openRegular(name, called string, missing error) (*os.File, error) {
	info, err := os.Stat(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil, missing
	}
	if err == nil && !info.Mode().IsRegular() { // a pipe may never end
		return nil, usage(name+" is not a regular file", "save its contents to a file first")
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, usage(fmt.Sprintf("cannot read %s: %v", called, errors.Unwrap(err)), "")
	}
	return f, nil
}

// openRun opens a run file and reads its first line.
func openRun(name string) (*os.File, *record.Reader, error) {
	f, err := openFile(name)
	if err != nil {
		return nil, nil, err
	}
	r, err := record.NewReader(f)
	if err != nil {
		f.Close()
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	return f, r, nil
}
