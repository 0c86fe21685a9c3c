package session

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"

	"obiter/internal/core/exchange"
	"obiter/internal/core/secret"
	"obiter/internal/core/usage"
	"obiter/internal/learn/capture"
	"obiter/internal/learn/match"
	"obiter/internal/results/record"
)

// MaxDocument is the size of the largest problem document read by itself, in bytes.
const MaxDocument = 16 << 20

// Captures are files of exchanges that others recorded.
type Captures struct {
	Names []string // as they were named

	Files []string // where they are read
	sorts []capture.Kind
}

// Add takes in a capture by its name, where it is read, and what it is.
func (c *Captures) Add(name, file string, sort capture.Kind) {
	c.Names, c.Files, c.sorts = append(c.Names, name), append(c.Files, file), append(c.sorts, sort)
}

// CapturesNamed are the captures among files; nil where they are run files. Standard input, named
// -, is stored in the folder first, for it is read twice.
func CapturesNamed(names []string, in io.Reader, folder string) (*Captures, error) {
	out := &Captures{}
	runFile := false
	for _, name := range names {
		file := name
		if name == "-" {
			if slices.Contains(out.Names, "-") {
				return nil, usage.New("standard input is named twice", "name it once")
			}
			file = filepath.Join(folder, "standard-input")
			if err := SaveInput(in, file); err != nil {
				return nil, err
			}
		}
		f, err := OpenFile(file)
		if err != nil {
			return nil, err
		}
		sort := capture.Detect(f)
		f.Close()
		if sort == capture.RunFile {
			runFile = true
		}
		out.Add(name, file, sort)
	}
	switch {
	case !runFile:
		return out, nil
	case slices.Contains(out.sorts, capture.IsArchive):
		return nil, usage.New("run files and captures are not judged together", "judge them one after the other")
	}
	return nil, nil
}

// SaveInput writes what is read once to a file, which can be read again.
func SaveInput(from io.Reader, file string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fmt.Errorf("storing standard input: %w", err)
	}
	_, err = io.Copy(f, from)
	if err := errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("storing standard input: %w", err)
	}
	return nil
}

// Source gives out what the captures hold.
func (c *Captures) Source(left capture.Left, yield func(capture.Exchange) bool) error {
	before := 0 // entries of the files before
	for i, file := range c.Files {
		f, err := os.Open(file)
		if err != nil {
			return usage.New(fmt.Sprintf("cannot read %s: %v", c.Names[i], errors.Unwrap(err)), "")
		}
		last, err := c.each(i, f, left, func(x capture.Exchange) bool {
			x.Entry += before
			return yield(x)
		})
		f.Close()
		if err != nil {
			return err
		}
		before += last
	}
	return nil
}

func (c *Captures) each(i int, f *os.File, left capture.Left, yield func(capture.Exchange) bool) (last int, err error) {
	if c.sorts[i] == capture.IsArchive {
		for x, err := range capture.Archive(f, left) {
			if err != nil {
				return last, c.unreadable(i, err)
			}
			if last = x.Entry; !yield(x) {
				break
			}
		}
		return last, nil
	}
	src, err := io.ReadAll(io.LimitReader(f, MaxDocument+1))
	if err != nil || len(src) > MaxDocument {
		return 0, usage.New(fmt.Sprintf("%s is neither a run file nor an HTTP archive, and too large for a problem document", c.Names[i]), "save the capture as HAR 1.2")
	}
	x, err := capture.Document(bytes.TrimSpace(src))
	if err != nil {
		return 0, c.unreadable(i, err)
	}
	yield(x)
	return 1, nil
}

func (c *Captures) unreadable(i int, err error) error {
	return usage.New(fmt.Sprintf("cannot read %s: %v", c.Names[i], err), "judge reads run files, HTTP archives (HAR 1.2) and problem documents (RFC 9457); save the capture again")
}

// Transcribe makes a run file of the captures, in a folder.
func (s *Session) Transcribe(c *Captures, m *match.Matcher, head record.Head, folder string) (file string, out Captured, err error) {
	file = filepath.Join(folder, "captured.ndjson")
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return "", out, fmt.Errorf("storing the captured exchanges: %w", err)
	}
	defer f.Close()
	w, err := record.NewWriter(f, head)
	if err != nil {
		return "", out, err
	}
	if out, err = transcribe(c.Source, m, s.Secrets, w); err == nil {
		err = w.Close(record.Totals{Cases: out.Exchanges})
	}
	return file, out, err
}

// Captured is what became of the exchanges of captures.
type Captured struct {
	Exchanges int          // that are judged
	Foreign   int          // of no operation of the description
	Left      capture.Left // out, by reason
	// Contradicted are operations of which many requests were accepted, and the
	// description calls none of them valid.
	Contradicted []string
}

// manyAccepted is how many accepted requests it takes to doubt a description.
const manyAccepted = 5

// source gives out the exchanges of captures, from the beginning each time, counting in
// left what it leaves out.
type source func(left capture.Left, yield func(capture.Exchange) bool) error

// transcribe writes captured exchanges as the cases of a run, which is judged like any
// other: those that prove something first. Without a matcher nothing is known of what is
// valid. Credentials are not written. The error is one of the source or of writing.
func transcribe(source source, m *match.Matcher, secrets *secret.Set, w *record.Writer) (Captured, error) {
	out := Captured{Left: capture.Left{}}
	templates := capture.NewTemplates()
	err := source(capture.Left{}, func(x capture.Exchange) bool {
		LearnSecrets(secrets, x)
		if m != nil {
			m.Learn(x)
		} else if u, err := url.Parse(x.URL); err == nil && x.Answer.Success() {
			templates.See(x.Method, u.EscapedPath())
		}
		return true
	})
	if err != nil {
		return out, err
	}
	templates.Settle()
	number := 0
	one := func(x capture.Exchange) (exchange.Exchange, bool) {
		if m != nil {
			return m.Case(x)
		}
		number++
		return match.Bare(operationOf(templates, x), number, x), x.Answer.Success() || x.Answer.Status >= 400
	}
	if m != nil {
		for _, d := range m.Operations() {
			if err := w.Operation(d); err != nil {
				return out, err
			}
		}
	}
	t := transcript{w: w, secrets: secrets, out: &out, valid: map[string]int{}, invalid: map[string]int{}}
	if out.Left, err = t.write(source, one, true); err != nil {
		return out, err
	}
	number = 0
	if m != nil {
		m.Restart()
	}
	_, err = t.write(source, one, false)
	for _, operation := range slices.Sorted(maps.Keys(t.invalid)) {
		if t.valid[operation] == 0 && t.invalid[operation] >= manyAccepted {
			out.Contradicted = append(out.Contradicted, operation)
		}
	}
	return out, err
}

// transcript writes captured exchanges, and counts those that were accepted by operation.
type transcript struct {
	w              *record.Writer
	secrets        *secret.Set
	out            *Captured
	valid, invalid map[string]int
}

// write writes the exchanges that prove something, which come first, or all others.
func (t *transcript) write(source source, one func(capture.Exchange) (exchange.Exchange, bool), first bool) (capture.Left, error) {
	var failed error
	left := capture.Left{}
	err := source(left, func(x capture.Exchange) bool {
		e, ok := one(x)
		switch proves := ok && e.Kind == exchange.Control && e.Response.Success(); {
		case !ok && first:
			t.out.Foreign++
		case ok && proves == first:
			t.out.Exchanges++
			if proves {
				t.valid[e.Operation]++
			} else if e.Response.Success() && !e.Expect.Class.SuccessIsRight() {
				t.invalid[e.Operation]++
			}
			failed = t.w.Result(record.Result{Exchange: t.secrets.Exchange(withoutCredentials(e))})
		}
		return failed == nil
	})
	return left, cmp.Or(failed, err)
}

// operationOf names a request without a description: by its template, else its path.
func operationOf(t *capture.Templates, x capture.Exchange) string {
	u, err := url.Parse(x.URL)
	if err != nil || x.URL == capture.NoAddress {
		return "a problem document"
	}
	if template, _, known := t.Of(u.EscapedPath()); known {
		return x.Method + " " + template
	}
	return x.Method + " " + u.EscapedPath()
}

// LearnSecrets takes the values of an exchange's credentials for secrets, wherever they come back.
func LearnSecrets(secrets *secret.Set, x capture.Exchange) {
	for _, h := range x.Headers {
		if match.IsCredential(h[0]) {
			secrets.LearnHeader(h[0], h[1])
		}
	}
}

// withoutCredentials is an exchange without the headers that open a door.
func withoutCredentials(e exchange.Exchange) exchange.Exchange {
	var kept [][2]string
	for _, h := range e.Request.Headers {
		if !match.IsCredential(h[0]) {
			kept = append(kept, h)
		}
	}
	e.Request.Headers = kept
	e.Response.Header = e.Response.Header.Clone()
	for _, name := range match.Credentials {
		e.Response.Header.Del(name)
	}
	return e
}
