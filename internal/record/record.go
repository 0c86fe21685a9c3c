// Package record writes and reads run files: newline-delimited JSON, a first
// line about the run, a line for each case as it is completed, and a last line
// with the totals. What was completed before an end of any kind is there.
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

	"obiter/internal/exchange"
	"obiter/internal/judge"
)

// Version of the format.
const Version = 1

// maxLine is the longest line read, in bytes: a case with its answer.
const maxLine = 64 << 20

// Head is the first line.
type Head struct {
	Obiter      int      `json:"obiter"` // Version
	Program     string   `json:"program"`
	Description string   `json:"description"`
	At          string   `json:"at"`
	Seed        uint64   `json:"seed"`
	Depth       string   `json:"depth"`
	Started     string   `json:"started"`           // RFC 3339
	Headers     []string `json:"headers,omitempty"` // names of the headers that every request has beside; their values are not kept
}

// Result is a case with its answer.
type Result struct {
	exchange.Case
	Response exchange.Answer `json:"response"`
	Verdict  judge.Verdict   `json:"verdict"`
	Findings []judge.Finding `json:"findings"`
}

// late is a line with findings that only the whole run shows, of a case that
// stands before it.
type late struct {
	Case     string          `json:"case"`
	Findings []judge.Finding `json:"findings"`
}

// Totals is the last line.
type Totals struct {
	Cases       int  `json:"cases"`
	Passed      int  `json:"passed"`
	Failed      int  `json:"failed"`
	Unproven    int  `json:"unproven"`
	Interrupted bool `json:"interrupted"`

	Layout *judge.Layout `json:"layout,omitempty"` // how the API names fields, as learned
}

// Writer writes a run file. It is safe for concurrent use.
type Writer struct {
	mu sync.Mutex
	w  io.Writer
}

// NewWriter writes the first line.
func NewWriter(w io.Writer, head Head) (*Writer, error) {
	out := &Writer{w: w}
	head.Obiter = Version
	return out, out.line(head)
}

func (w *Writer) line(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return fmt.Errorf("writing the run file: %w", err)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	// Not buffered: what was completed before a kill is in the file.
	if _, err := w.w.Write(b.Bytes()); err != nil {
		return fmt.Errorf("writing the run file: %w", err)
	}
	return nil
}

// Result writes a completed case.
func (w *Writer) Result(r Result) error {
	if r.Findings == nil {
		r.Findings = []judge.Finding{}
	}
	return w.line(r)
}

// Late writes a finding of the whole run.
func (w *Writer) Late(l judge.Late) error {
	return w.line(late{l.Case, []judge.Finding{l.Finding}})
}

// Close writes the totals.
func (w *Writer) Close(t Totals) error {
	return w.line(struct {
		Totals Totals `json:"totals"`
	}{t})
}

// FileError is a run file that cannot be read, with the line.
type FileError struct {
	Line    int
	Problem string
}

func (e *FileError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Problem) }

// Reader reads a run file.
type Reader struct {
	Head   Head
	Totals *Totals // of the last line, once it was met; nil: the run was cut short

	// Late holds the findings of the whole run by case, once they were met.
	Late map[string][]judge.Finding

	scanner *bufio.Scanner
	line    int
	ended   bool // the last line read ends with a line break
}

// NewReader reads the first line. Errors are *FileError.
func NewReader(r io.Reader) (*Reader, error) {
	out := &Reader{scanner: bufio.NewScanner(r), Late: map[string][]judge.Finding{}}
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
		return nil, &FileError{1, "the file is empty"}
	}
	if err := json.Unmarshal(data, &out.Head); err != nil || out.Head.Obiter == 0 {
		return nil, &FileError{1, "this is no run file: its first line should begin with {\"obiter\":1"}
	}
	if out.Head.Obiter > Version {
		return nil, &FileError{1, fmt.Sprintf("the file is of format %d, and %d is the newest known here", out.Head.Obiter, Version)}
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
		return nil, &FileError{r.line + 1, fmt.Sprintf("the line is longer than %d MiB", maxLine>>20)}
	} else if err != nil {
		return nil, &FileError{r.line + 1, err.Error()}
	}
	return nil, nil
}

// Results gives out the cases in the order in which they were completed. It
// ends after an error.
func (r *Reader) Results() iter.Seq2[Result, error] {
	return func(yield func(Result, error) bool) {
		for {
			data, err := r.next()
			if err != nil {
				yield(Result{}, err)
				return
			}
			if data == nil {
				return
			}
			var last struct {
				Totals   *Totals         `json:"totals"`
				Case     string          `json:"case"`
				Request  json.RawMessage `json:"request"`
				Findings []judge.Finding `json:"findings"`
			}
			if err := json.Unmarshal(data, &last); err != nil {
				if !r.ended {
					return // the run was killed while it wrote this line
				}
				yield(Result{}, &FileError{r.line, "not readable as JSON: " + err.Error()})
				return
			}
			if last.Case == "" {
				if last.Totals != nil {
					r.Totals = last.Totals
				}
				continue
			}
			if last.Request == nil {
				r.Late[last.Case] = append(r.Late[last.Case], last.Findings...)
				continue
			}
			var res Result
			if err := json.Unmarshal(data, &res); err != nil {
				yield(Result{}, &FileError{r.line, "not a case line: " + err.Error()})
				return
			}
			if !yield(res, nil) {
				return
			}
		}
	}
}
