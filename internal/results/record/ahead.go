package record

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"runtime"
	"sync"

	jsonv2 "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
)

// What is read ahead at a time, in lines and bytes: reading them takes longer than handing
// them over.
const (
	batchLines = 64
	batchBytes = 1 << 20

	perDecoder = 16 << 10 // bytes
)

// decoded is a line of the file as far as it can be understood without those before it.
type decoded struct {
	number    int
	data      []byte
	kind      string
	cut       bool      // a kill ended it
	line      *caseLine // once it is decoded
	operation *exchange.Described
	log       *Log
	findings  []judge.Finding // of the whole run, of the case that the line names
	totals    *Totals
	raw       bool // it is left as it is, and read only where others need it
	err       error
}

// ahead gives out the lines in batches. While one is worked on, the next is decoded.
func (r *Reader) ahead() iter.Seq[[]decoded] {
	return func(yield func([]decoded) bool) {
		batches, stop := make(chan []decoded), make(chan struct{})
		var reading sync.WaitGroup
		defer reading.Wait() // the file is closed after this
		defer close(stop)
		reading.Go(func() {
			defer close(batches)
			var rooms [2]room // one is read into while what is in the other is worked on
			for i := 0; ; i++ {
				batch := r.batch(&rooms[i%len(rooms)])
				if len(batch) == 0 {
					return
				}
				select {
				case batches <- batch:
				case <-stop:
					return
				}
			}
		})
		for batch := range batches {
			if !yield(batch) {
				return
			}
		}
	}
}

// room is what a batch is read into. What it has is used again.
type room struct {
	lines []decoded
	text  []byte // of the lines, each with its line break
	read  []int  // the lines that are decoded
}

// batch reads and decodes the next lines; none at the end.
func (r *Reader) batch(in *room) []decoded {
	clear(in.lines)
	batch, text, read := in.lines[:0], in.text[:0], in.read[:0]
	if cap(text) > batchBytes { // it held a line that is far longer than most
		text = nil
	}
	size, toRead := 0, 0
	for len(batch) < batchLines && size < batchBytes {
		data, err := r.next()
		if data == nil && err == nil {
			break
		}
		from := len(text)
		text = append(append(text, data...), '\n')
		d := decoded{number: r.line, data: text[from : len(text)-1 : len(text)], cut: !r.ended && err == nil, err: err}
		d.raw = r.again != nil && err == nil && leftAlone(data) && !r.again(r.line-2)
		if err == nil && (!d.raw || bytes.HasPrefix(data, caseBegins) && bytes.Contains(data, ofControl)) {
			read = append(read, len(batch))
			toRead += len(data)
		}
		batch = append(batch, d)
		size += len(data)
		if err != nil {
			break
		}
	}
	in.lines, in.text, in.read = batch, text, read
	workers := min(runtime.GOMAXPROCS(0), len(read))
	if toRead < perDecoder { // others would not be worth their while
		workers = min(workers, 1)
	}
	decode := func(w int) {
		for i := w; i < len(read); i += workers {
			batch[read[i]].decode()
		}
	}
	var decoding sync.WaitGroup
	for w := 1; w < workers; w++ {
		decoding.Go(func() { decode(w) })
	}
	decode(0)
	decoding.Wait()
	return batch
}

// What lines of cases begin with, and of what was sent once more; and what those of controls
// have.
var (
	caseBegins    = []byte(`{"type":"` + typeCase + `",`)
	repeatBegins  = []byte(`{"type":"` + typeRepeat + `",`)
	closingBegins = []byte(`{"type":"` + typeClosing + `",`)
	ofControl     = []byte(`"kind":"` + string(exchange.Control) + `"`)
)

// leftAlone reports whether a line is one of those that Select may leave as they are.
func leftAlone(line []byte) bool {
	return bytes.HasPrefix(line, caseBegins) || bytes.HasPrefix(line, repeatBegins) || bytes.HasPrefix(line, closingBegins)
}

// decode reads the line's own members.
func (d *decoded) decode() {
	problem := func(err error) {
		text := fmt.Sprintf("not a line of type %q: %v", d.kind, err)
		if !json.Valid(d.data) {
			text = "not readable as JSON: " + err.Error()
		} else {
			d.cut = false // it is whole
		}
		d.err = &FileError{"", d.number, text}
	}
	var err error
	if d.kind, err = kindOf(d.data); err != nil {
		problem(err)
		return
	}
	switch d.kind {
	case typeEnd, typeFinding:
		var last struct {
			Totals   *Totals         `json:"totals"`
			Case     string          `json:"case"`
			Findings []judge.Finding `json:"findings"`
		}
		err = json.Unmarshal(d.data, &last)
		d.totals, d.findings = last.Totals, last.Findings
		d.line = &caseLine{Case: exchange.Case{ID: last.Case}}
	case typeOp:
		d.operation = &exchange.Described{}
		err = json.Unmarshal(d.data, d.operation)
	case typeLog:
		d.log = &Log{}
		err = json.Unmarshal(d.data, d.log)
	case typeCase, typeRepeat, typeClosing, typeState:
		var read readLine
		d.line = &caseLine{}
		if err = jsonv2.Unmarshal(d.data, &read, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)); err == nil {
			*d.line, err = read.line()
		}
		if err == nil {
			err = d.line.open()
		}
	default:
		err = errors.New("the types are run, operation, case, log, repeat, closing, state, finding and end")
	}
	if err != nil {
		problem(err)
		return
	}
	d.cut = false
}

// take makes of a line what it says, by what the lines before it said.
func (r *Reader) take(d *decoded) (Line, error) {
	if d.err != nil {
		return Line{}, d.err
	}
	l := d.line
	if d.raw {
		if d.kind != "" { // other cases are flawed in what it has
			l.restore(r.controls)
		}
		return Line{Raw: d.data}, nil
	}
	switch d.kind {
	case typeEnd:
		r.Totals = d.totals
		return Line{}, nil
	case typeOp:
		return Line{Operation: d.operation}, nil
	case typeLog:
		r.Logs[d.log.Case] = d.log.Lines
		return Line{Log: d.log}, nil
	case typeFinding:
		r.RunFindings[l.ID] = append(r.RunFindings[l.ID], d.findings...)
		return Line{Findings: true}, nil
	}
	c := l.restore(r.controls)
	if l.Response == nil {
		l.Response = &exchange.Answer{}
	}
	switch {
	case d.kind == typeRepeat && l.Again != nil:
		return Line{Repeat: &Repeat{c, *l.Response, *l.Again}}, nil
	case d.kind == typeClosing:
		return Line{Closing: &exchange.Exchange{Case: c, Response: *l.Response}}, nil
	case d.kind == typeState && l.Readings != nil:
		return Line{State: &State{c, *l.Readings}}, nil
	case d.kind == typeCase:
		res := &Result{Exchange: exchange.Exchange{Case: c, Response: *l.Response, Before: l.Before, Documented: l.Documented}, Verdict: l.Verdict}
		if l.Findings != nil {
			res.Findings = *l.Findings
		}
		return Line{Result: res}, nil
	}
	return Line{}, &FileError{"", d.number, fmt.Sprintf("not a line of type %q: a member is missing", d.kind)}
}
