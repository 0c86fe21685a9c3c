package record

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"

	"obiter/internal/core/exchange"
)

// Index tells where in a run file the lines of a case are, so that one of a million is found
// without reading them all. It is a file of its own: a line of JSON about the run file and its
// controls, then entries of one size in the order of their cases.
type Index struct {
	about   indexed
	entries int
	at      int64 // where they begin
	file    io.ReaderAt
}

// indexed is the first line of an index.
type indexed struct {
	Type     string         `json:"type"` // index
	Obiter   int            `json:"obiter"`
	Of       string         `json:"of"` // what tells the run file from what it was at other times
	Entries  int            `json:"entries"`
	Controls []controlEntry `json:"controls"`
}

// controlEntry is a control, which the lines of other cases of its operation rest on.
type controlEntry struct {
	Operation string `json:"operation"`
	Case      string `json:"case"`
	Accepted  bool   `json:"accepted,omitempty"`
	At        int64  `json:"at"`
}

// IndexEnding is what the name of a run file goes on with in that of its index.
const IndexEnding = ".index"

const (
	typeIndex = "index"
	entrySize = 5 + 8 // the id of a case, ten hexadecimal digits, and where its line begins
)

type indexEntry [entrySize]byte

func (e indexEntry) id() string { return hex.EncodeToString(e[:5]) }
func (e indexEntry) at() int64  { return int64(binary.BigEndian.Uint64(e[5:])) }

// WriteIndex reads a run file to its end and writes an index of it.
func WriteIndex(w io.Writer, run io.Reader, of string) error {
	about := indexed{Type: typeIndex, Obiter: Version, Of: of, Controls: []controlEntry{}}
	var entries []indexEntry
	in := bufio.NewReaderSize(run, 1<<20)
	for at := int64(0); ; {
		line, long, err := wholeLine(in)
		if id, ok := idOf(line); ok {
			var e indexEntry
			copy(e[:5], id[:])
			binary.BigEndian.PutUint64(e[5:], uint64(at))
			entries = append(entries, e)
			if c, is := controlOf(line); is {
				c.At = at
				about.Controls = append(about.Controls, c)
			}
		}
		at += long
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("reading the run file: %w", err)
		}
	}
	slices.SortFunc(entries, func(a, b indexEntry) int { return bytes.Compare(a[:], b[:]) })
	about.Entries = len(entries)
	head, err := json.Marshal(about)
	if err != nil {
		return fmt.Errorf("writing the index: %w", err)
	}
	out := bufio.NewWriterSize(w, 1<<20)
	_, err = out.Write(append(head, '\n'))
	for i := 0; i < len(entries) && err == nil; i++ {
		_, err = out.Write(entries[i][:])
	}
	if err = cmp.Or(err, out.Flush()); err != nil {
		return fmt.Errorf("writing the index: %w", err)
	}
	return nil
}

// wholeLine reads a line, and gives how long it is with its end. Of one that is longer than
// a reader of run files takes, only the beginning is given.
func wholeLine(in *bufio.Reader) (line []byte, long int64, err error) {
	line, err = in.ReadSlice('\n')
	long = int64(len(line))
	if !errors.Is(err, bufio.ErrBufferFull) {
		return line, long, err
	}
	line = bytes.Clone(line)
	for errors.Is(err, bufio.ErrBufferFull) {
		var more []byte
		more, err = in.ReadSlice('\n')
		if long += int64(len(more)); len(line) < maxLine {
			line = append(line, more...)
		}
	}
	return line, long, err
}

// idOf is the case that a line is about: of a case itself, of what was logged of it and of what
// the whole run shows of it. They name it before anything that others wrote.
func idOf(line []byte) (id [5]byte, ok bool) {
	if kind, err := kindOf(line); err != nil || kind != typeCase && kind != typeLog && kind != typeFinding {
		return id, false
	}
	const member = `"case":"`
	_, rest, ok := bytes.Cut(line[:min(len(line), 80)], []byte(member))
	if !ok || len(rest) < 10 {
		return id, false
	}
	_, err := hex.Decode(id[:], rest[:10])
	return id, err == nil
}

func controlOf(line []byte) (controlEntry, bool) {
	if !bytes.HasPrefix(line, caseBegins) || !bytes.Contains(line, ofControl) {
		return controlEntry{}, false
	}
	var read struct {
		Case, Operation string
		Kind            exchange.Kind
		Response        struct {
			Status int
			Error  string
		}
	}
	if json.Unmarshal(line, &read) != nil || read.Kind != exchange.Control {
		return controlEntry{}, false
	}
	accepted := exchange.Answer{Status: read.Response.Status, Err: read.Response.Error}.Success()
	return controlEntry{Operation: read.Operation, Case: read.Case, Accepted: accepted}, true
}

// OpenIndex reads an index that was made of a run file as it is now; an error where it was made
// of another one, or is not an index.
func OpenIndex(f io.ReaderAt, size int64, of string) (*Index, error) {
	in := bufio.NewReader(io.NewSectionReader(f, 0, size))
	head, err := in.ReadBytes('\n')
	if err != nil {
		return nil, fmt.Errorf("reading the index: %w", err)
	}
	x := &Index{at: int64(len(head)), file: f}
	err = json.Unmarshal(head, &x.about)
	if x.entries = x.about.Entries; err != nil || x.about.Type != typeIndex || x.about.Obiter != Version || x.about.Of != of || size != x.at+int64(x.entries)*entrySize {
		return nil, errors.New("the index is not one of this run file")
	}
	return x, nil
}

// Accepted are the first valid requests of operations that were accepted.
func (x *Index) Accepted() map[string]string {
	out := map[string]string{}
	for _, c := range x.about.Controls {
		if c.Accepted && out[c.Operation] == "" {
			out[c.Operation] = c.Case
		}
	}
	return out
}

func (x *Index) entry(i int) (e indexEntry, err error) {
	_, err = x.file.ReadAt(e[:], x.at+int64(i)*entrySize)
	return e, err
}

// mostAlike bounds the lines that are given of cases whose ids begin alike.
const mostAlike = 64

// Excerpt is as much of a run file as it takes to read the cases whose ids begin so: its
// first line, their lines, and those of the controls that these rest on.
func (x *Index) Excerpt(run io.ReaderAt, size int64, id string) (io.Reader, error) {
	var failed error
	at := func(i int) indexEntry {
		e, err := x.entry(i)
		failed = cmp.Or(failed, err)
		return e
	}
	first := sort.Search(x.entries, func(i int) bool { e := at(i); return e.id() >= id })
	var places []int64
	for i := first; i < x.entries && len(places) < mostAlike; i++ {
		e := at(i)
		if failed != nil || !strings.HasPrefix(e.id(), id) {
			break
		}
		places = append(places, e.at())
	}
	if failed != nil {
		return nil, fmt.Errorf("reading the index: %w", failed)
	}
	lines := map[int64][]byte{}
	read := func(at int64) error {
		if lines[at] != nil {
			return nil
		}
		line, _, err := wholeLine(bufio.NewReaderSize(io.NewSectionReader(run, at, size-at), 64<<10))
		if err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("reading the run file: %w", err)
		}
		lines[at] = append(bytes.TrimRight(line, "\n"), '\n')
		return nil
	}
	if err := read(0); err != nil {
		return nil, err
	}
	operations := map[string]bool{}
	for _, place := range places {
		if err := read(place); err != nil {
			return nil, err
		}
		var of struct{ Operation, ProvenBy string }
		_ = json.Unmarshal(lines[place], &of)
		operations[of.Operation], operations[of.ProvenBy] = true, true
	}
	for _, c := range x.about.Controls {
		if operations[c.Operation] {
			if err := read(c.At); err != nil {
				return nil, err
			}
		}
	}
	order := make([]int64, 0, len(lines))
	for place := range lines {
		order = append(order, place)
	}
	slices.Sort(order)
	var out bytes.Buffer
	for _, place := range order {
		out.Write(lines[place])
	}
	return &out, nil
}
