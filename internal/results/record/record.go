// Package record writes and reads run files: newline-delimited JSON, a first
// line about the run, a line for each case as it is completed and for what was
// sent again, and a last line with the totals. What was completed before an end
// of any kind is there, and all that judging takes, so that a run can be judged
// again.
package record

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"sync"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/evaluate/layout"
)

// Version of the format.
const Version = 2

// maxLine is the longest line read, in bytes: a case with its answer.
const maxLine = 64 << 20

// Head is the first line.
type Head struct {
	Type        string   `json:"type"`   // run
	Obiter      int      `json:"obiter"` // Version
	Program     string   `json:"program"`
	Description string   `json:"description"`
	At          string   `json:"at"`
	Seed        uint64   `json:"seed"`
	Depth       string   `json:"depth"`
	Started     string   `json:"started"`           // RFC 3339
	Headers     []string `json:"headers,omitempty"` // names of the headers that are added to every request; their values are not kept
	// Variables are what headers ("header X") and credentials (by their keys) are made of,
	// as the configuration has it: Bearer ${TOKEN}. Kept are the operations whose answers
	// some of the names are kept from.
	Variables map[string]string `json:"variables,omitempty"`
	Kept      map[string]string `json:"kept,omitempty"`
	Digest    string            `json:"digest,omitempty"`  // of the description's files
	Config    string            `json:"config,omitempty"`  // the same of the configuration
	Options   string            `json:"options,omitempty"` // that narrow the plan, as on a command line
	Shard     string            `json:"shard,omitempty"`   // 2/5: the second of five parts of the plan
	Layout    *layout.Layout    `json:"layout,omitempty"`  // how fields are named, where that is configured
}

// Result is a case with its answer, judged.
type Result struct {
	exchange.Exchange
	Verdict  judge.Verdict
	Findings []judge.Finding
}

// Totals is the last line.
type Totals struct {
	Cases       int  `json:"cases"`
	Passed      int  `json:"passed"`
	Failed      int  `json:"failed"`
	Form        int  `json:"form"`            // wrong in form only
	Known       int  `json:"known,omitempty"` // wrong, and known to be
	Unproven    int  `json:"unproven"`
	Interrupted bool `json:"interrupted"`

	Layout *judge.Layout `json:"layout,omitempty"` // how the API names fields, as learned
}

// Writer writes a run file, for one goroutine at a time.
type Writer struct {
	w     io.Writer
	lines int // after the first
}

// Lines is how many lines were written after the first.
func (w *Writer) Lines() int { return w.lines }

// Copy writes a line as it was read (Line.Raw).
func (w *Writer) Copy(line []byte) error { return w.write(line) }

func (w *Writer) write(line []byte) error {
	if _, err := w.w.Write(append(line, '\n')); err != nil {
		return fmt.Errorf("writing the run file: %w", err)
	}
	w.lines++
	return nil
}

// NewWriter writes the first line.
func NewWriter(w io.Writer, head Head) (*Writer, error) {
	out := &Writer{w: w, lines: -1}
	head.Type, head.Obiter = typeRun, Version
	return out, out.line(head)
}

func (w *Writer) line(v any) error {
	var line []byte
	var err error
	if l, ofCase := v.(caseLine); ofCase {
		line, err = l.written(nil)
	} else if line, err = instance.Written(v); err != nil {
		err = fmt.Errorf("writing the run file: %w", err)
	}
	if err != nil {
		return err
	}
	return w.write(line)
}

// Result writes a completed case.
func (w *Writer) Result(r Result) error {
	line, err := Written(nil, &r.Exchange, r.Verdict, r.Findings)
	if err != nil {
		return err
	}
	return w.Copy(line)
}

// Written appends the line of a completed case to a buffer, for Writer.Copy.
func Written(buffer []byte, e *exchange.Exchange, v judge.Verdict, found []judge.Finding) ([]byte, error) {
	if found == nil {
		found = []judge.Finding{}
	}
	l := caseLines.Get().(*caseLine)
	defer func() {
		*l = caseLine{}
		caseLines.Put(l)
	}()
	*l = lineOf(typeCase, e.Case)
	l.Response, l.Before, l.Documented, l.Verdict, l.Findings = &e.Response, e.Before, e.Documented, v, &found
	return l.written(buffer)
}

// caseLines are used again: a run writes one for each request.
var caseLines = sync.Pool{New: func() any { return new(caseLine) }}

// Operation writes where the description has an operation, or why it is left out.
func (w *Writer) Operation(d exchange.Described) error {
	return w.line(struct {
		Type string `json:"type"`
		exchange.Described
	}{typeOp, d})
}

// Log writes what the service logged of a case, after that.
func (w *Writer) Log(l Log) error {
	return w.line(struct {
		Type string `json:"type"`
		Log
	}{typeLog, l})
}

// Log is what the service logged of a case.
type Log struct {
	Case  string   `json:"case"`
	Lines []string `json:"lines"`
}

// Repeat writes a rejected case that was sent twice.
func (w *Writer) Repeat(c exchange.Case, first, second exchange.Answer) error {
	l := lineOf(typeRepeat, c)
	l.Response, l.Again = &first, &second
	return w.line(l)
}

// Closing writes a control that was sent again after the flawed requests.
func (w *Writer) Closing(c exchange.Case, a exchange.Answer) error {
	l := lineOf(typeClosing, c)
	l.Response = &a
	return w.line(l)
}

// State writes a rejected case and what a resource showed around it.
func (w *Writer) State(c exchange.Case, seen judge.Readings) error {
	l := lineOf(typeState, c)
	l.Readings = &seen
	return w.line(l)
}

// Finding writes what only the whole run shows.
func (w *Writer) Finding(f judge.RunFinding) error {
	return w.line(struct {
		Type     string          `json:"type"`
		Case     string          `json:"case"`
		Findings []judge.Finding `json:"findings"`
	}{typeFinding, f.Case, []judge.Finding{f.Finding}})
}

// Close writes the totals.
func (w *Writer) Close(t Totals) error {
	return w.line(struct {
		Type   string `json:"type"`
		Totals Totals `json:"totals"`
	}{typeEnd, t})
}

// Without copies a run file without some of its lines, which are told by their type and by
// the operation and the case that they are about.
func Without(w io.Writer, r io.Reader, gone func(kind, operation, id string) bool) error {
	out := bufio.NewWriterSize(w, 64<<10)
	for in := bufio.NewReaderSize(r, 64<<10); ; {
		line, err := in.ReadBytes('\n')
		if len(line) > 0 {
			var about struct{ Type, Operation, Case string }
			if err := json.Unmarshal(line, &about); err != nil {
				return fmt.Errorf("reading the run file: %w", err)
			}
			if about.Type == typeRun || !gone(about.Type, about.Operation, about.Case) {
				if _, err := out.Write(line); err != nil {
					return fmt.Errorf("writing the run file: %w", err)
				}
			}
		}
		if err == io.EOF {
			return out.Flush()
		}
		if err != nil {
			return fmt.Errorf("reading the run file: %w", err)
		}
	}
}

// FileError is a run file that cannot be read, with the line.
type FileError struct {
	Name    string // of the file, where that is known
	Line    int
	Problem string
}

func (e *FileError) Error() string {
	if e.Name != "" {
		return fmt.Sprintf("%s: line %d: %s", e.Name, e.Line, e.Problem)
	}
	return fmt.Sprintf("line %d: %s", e.Line, e.Problem)
}

// Reader reads a run file.
type Reader struct {
	Head   Head
	Totals *Totals // of the last line, once it was met; nil: the run was cut short

	// RunFindings holds what only the whole run shows, by case, once it was met.
	RunFindings map[string][]judge.Finding
	// Logs holds what the service logged, by case, once it was met.
	Logs map[string][]string

	merged   iter.Seq2[Line, error] // of several runs that are read as one; nil: of a file
	name     string                 // of the file, for errors
	scanner  *bufio.Scanner
	line     int
	again    func(line int) bool       // nil: all lines are read
	ended    bool                      // the last line read ends with a line break
	controls map[string]map[string]any // parts of controls, which other lines leave out
}

// NewReader reads the first line. Errors are *FileError.
func NewReader(r io.Reader) (*Reader, error) {
	out := &Reader{scanner: bufio.NewScanner(r), RunFindings: map[string][]judge.Finding{}, Logs: map[string][]string{}, controls: map[string]map[string]any{}}
	out.scanner.Buffer(make([]byte, 0, 64<<10), maxLine)
	out.scanner.Split(func(data []byte, atEOF bool) (int, []byte, error) {
		n, token, err := bufio.ScanLines(data, atEOF)
		out.ended = n > 0 && data[n-1] == '\n'
		return n, token, err
	})
	data, err := out.next()
	if err != nil {
		return nil, err
	}
	if data == nil {
		return nil, &FileError{"", 1, "the file is empty"}
	}
	if err := json.Unmarshal(data, &out.Head); err != nil || out.Head.Obiter == 0 {
		return nil, &FileError{"", 1, `not a run file: its first line should begin with {"type":"run","obiter":`}
	}
	if v := out.Head.Obiter; v != Version {
		return nil, &FileError{"", 1, fmt.Sprintf("the file has format %d; this program reads format %d", v, Version)}
	}
	return out, nil
}

// next is the next line that is not blank; nil at the end.
func (r *Reader) next() ([]byte, error) {
	for r.scanner.Scan() {
		r.line++
		if data := bytes.TrimSpace(r.scanner.Bytes()); len(data) > 0 {
			return data, nil
		}
	}
	if err := r.scanner.Err(); errors.Is(err, bufio.ErrTooLong) {
		return nil, &FileError{r.name, r.line + 1, fmt.Sprintf("the line is longer than %d MiB", maxLine>>20)}
	} else if err != nil {
		return nil, &FileError{r.name, r.line + 1, err.Error()}
	}
	return nil, nil
}

// Line is one line of a run file, between the first and the last: a Result, what was
// sent again, or what the description has of an operation.
type Line struct {
	Result    *Result
	Repeat    *Repeat
	Closing   *exchange.Exchange
	State     *State
	Operation *exchange.Described
	Log       *Log
	Findings  bool // of the whole run, which judging makes anew
	// Raw is a line that Select leaves as it is, until the next one is read; nothing else
	// is given then.
	Raw []byte
}

// Select has cases, and what was sent once more, left as they are: those whose lines, counted
// from 0 after the first of the file, need not be read again. It has to be called before Lines.
func (r *Reader) Select(again func(line int) bool) { r.again = again }

func (l Line) empty() bool {
	return l.Result == nil && l.Repeat == nil && l.Closing == nil && l.State == nil && l.Operation == nil && l.Log == nil && !l.Findings && l.Raw == nil
}

// Repeat is a rejected case that was sent twice.
type Repeat struct {
	Case          exchange.Case
	First, Second exchange.Answer
}

// State is a rejected case and what a resource showed around it.
type State struct {
	Case exchange.Case
	Seen judge.Readings
}

// Results gives out the cases in the order in which they were completed. It
// ends after an error, which is a *FileError.
func (r *Reader) Results() iter.Seq2[Result, error] {
	return func(yield func(Result, error) bool) {
		for l, err := range r.Lines() {
			if err != nil {
				yield(Result{}, err)
				return
			}
			if l.Result != nil && !yield(*l.Result, nil) {
				return
			}
		}
	}
}

// Lines gives out all lines in their order. It ends after an error, which is a
// *FileError. A last line that a kill cut off is left out. Lines are read ahead, several
// at a time.
func (r *Reader) Lines() iter.Seq2[Line, error] {
	return func(yield func(Line, error) bool) {
		if r.merged != nil {
			r.merged(yield)
			return
		}
		for batch := range r.ahead() {
			for i := range batch {
				d := &batch[i]
				l, err := r.take(d)
				if d.cut && err != nil {
					return
				}
				if err != nil {
					var at *FileError
					if errors.As(err, &at) {
						at.Name = r.name
					}
					yield(Line{}, err)
					return
				}
				if !l.empty() && !yield(l, nil) {
					return
				}
			}
		}
	}
}

// kindOf is the type of a line: its first member, as this program writes it.
func kindOf(data []byte) (string, error) {
	if rest, ok := bytes.CutPrefix(data, []byte(`{"type":"`)); ok {
		if kind, _, ok := bytes.Cut(rest, []byte(`"`)); ok {
			return string(kind), nil
		}
	}
	var line struct {
		Type string `json:"type"`
	}
	err := json.Unmarshal(data, &line)
	return line.Type, err
}
