package record

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
)

// Merge is several runs that are read as one: shards of one plan, runs of several
// services of one system, or a run with what was tried again later. Of a case that is in
// several of them the latest run's counts.
type Merge struct {
	// AnyVersion takes runs of one description at whatever time, and of whatever part of the plan:
	// the latest is what counts. Dropped are cases, and operations by their names, that it no longer has.
	AnyVersion bool
	Dropped    map[string]bool

	Head  Head
	Twice int // cases that are in more than one run, once it was opened

	runs   []*merged
	counts map[uint64]int // by case: the run whose answer counts
}

// merged is one of the runs.
type merged struct {
	name       string
	open       func() (io.Reader, error) // from its beginning
	head       Head
	service    int             // runs of one description are of one service
	operations map[string]bool // that the run tried
}

// Depths are those of plans, the least first.
var Depths = []string{"quick", "usual", "deep"}

// perService is how far the numbers of two services' cases are apart.
const perService = 1 << 40

// Add takes in a run, by its name. What it is opened by gives it from its beginning, each
// time. An error of reading is a *FileError, one of runs that do not belong together a
// *MergeError.
func (m *Merge) Add(name string, open func() (io.Reader, error)) error {
	in := &merged{name: name, open: open, operations: map[string]bool{}}
	r, err := in.reader()
	if err != nil {
		return err
	}
	in.head, in.service = r.Head, len(m.runs)
	for _, have := range m.runs {
		if have.head.Description == in.head.Description {
			in.service = have.service
		}
		if err := m.contradicts(have, in); err != nil {
			return err
		}
	}
	at, _ := slices.BinarySearchFunc(m.runs, in, func(have, in *merged) int {
		if c := strings.Compare(have.head.Started, in.head.Started); c != 0 {
			return c
		}
		return -1 // what is named later is the later one
	})
	m.runs = slices.Insert(m.runs, at, in)
	return nil
}

// MergeError says why two runs are not read as one.
type MergeError struct {
	One, Other string
	Problem    string
	Hint       string
}

func (e *MergeError) Error() string {
	return fmt.Sprintf("%s and %s cannot be read as one run: %s", e.One, e.Other, e.Problem)
}

func (m *Merge) contradicts(a, b *merged) error {
	fail := func(hint, problem string, args ...any) error {
		return &MergeError{a.name, b.name, fmt.Sprintf(problem, args...), hint}
	}
	if !reflect.DeepEqual(a.head.Layout, b.head.Layout) {
		return fail("run them with one configuration", "their configurations differ in errors:, which says how fields are named")
	}
	if a.head.Description != b.head.Description {
		return nil
	}
	switch {
	case m.AnyVersion: // parts of what is known of one service
		return nil
	case a.head.Digest != b.head.Digest:
		return fail("run them with one version of the description", "they are of two versions of %s", a.head.Description)
	case a.head.Shard == "" && b.head.Shard == "":
		return nil
	}
	_, n, _ := strings.Cut(a.head.Shard, "/")
	_, k, _ := strings.Cut(b.head.Shard, "/")
	if n != k || a.head.Options != b.head.Options || a.head.Depth != b.head.Depth || a.head.Seed != b.head.Seed {
		return fail("run all shards with the same options, and merge those of one run", "they are not shards of one plan (%s, and %s)", a.head.plan(), b.head.plan())
	}
	return nil
}

// plan says in words what was planned.
func (h Head) plan() string {
	shard := "no shard"
	if h.Shard != "" {
		shard = "shard " + h.Shard
	}
	return strings.TrimSpace(fmt.Sprintf("%s, depth %s, seed %d %s", shard, h.Depth, h.Seed, h.Options))
}

func (in *merged) reader() (*Reader, error) {
	f, err := in.open()
	if err != nil {
		return nil, err
	}
	r, err := NewReader(f)
	var at *FileError
	if errors.As(err, &at) {
		at.Name = in.name
	}
	if err != nil {
		return nil, err
	}
	r.name = in.name
	return r, nil
}

// Missing are the shards that are not among the runs, such as 3/5.
func (m *Merge) Missing() []string {
	var out []string
	for i, in := range m.runs {
		_, of, sharded := strings.Cut(in.head.Shard, "/")
		if !sharded || slices.IndexFunc(m.runs, func(o *merged) bool { return o.head.Description == in.head.Description }) < i {
			continue
		}
		n := 0
		fmt.Sscan(of, &n)
		for k := 1; k <= min(n, maxShards); k++ {
			shard := fmt.Sprintf("%d/%d", k, n)
			if !slices.ContainsFunc(m.runs, func(o *merged) bool {
				return o.head.Description == in.head.Description && o.head.Shard == shard
			}) {
				out = append(out, shard)
			}
		}
	}
	return out
}

// maxShards bounds the shards that are looked for.
const maxShards = 10_000

// Open reads the runs as one, from the beginning. One run alone is read as it is.
func (m *Merge) Open() (*Reader, error) {
	if err := m.know(); err != nil {
		return nil, err
	}
	out := &Reader{Head: m.Head, RunFindings: map[string][]judge.Finding{}, Logs: map[string][]string{}}
	var readers []*Reader
	for _, in := range m.runs {
		r, err := in.reader()
		if err != nil {
			return nil, err
		}
		readers = append(readers, r)
	}
	if len(readers) == 1 && len(m.Dropped) == 0 {
		return readers[0], nil
	}
	out.merged = func(yield func(Line, error) bool) {
		m.lines(readers, out, yield)
	}
	return out, nil
}

// know reads once which run's answer counts for each case, and makes the head.
func (m *Merge) know() error {
	if m.Head.Obiter != 0 {
		return nil
	}
	head := m.runs[0].head
	if len(m.runs) > 1 || len(m.Dropped) > 0 {
		m.counts = map[uint64]int{}
		var descriptions, addresses []string
		for i, in := range m.runs {
			descriptions, addresses = add(descriptions, in.head.Description), add(addresses, in.head.At)
			for _, name := range in.head.Headers {
				if !slices.Contains(head.Headers, name) {
					head.Headers = append(slices.Clone(head.Headers), name)
				}
			}
			if err := m.index(i, in); err != nil {
				return err
			}
			for _, o := range m.runs[:i] { // which two services may not have
				if err := sameOperation(o, in); err != nil {
					return err
				}
			}
		}
		head.Description, head.At = strings.Join(descriptions, ", "), strings.Join(addresses, ", ")
		if m.AnyVersion { // the same run, with what is known by now
			newest := m.runs[len(m.runs)-1].head
			newest.Headers, newest.Options, newest.Shard = head.Headers, head.Options, head.Shard
			newest.Description, newest.At = head.Description, head.At
			newest.Seed, newest.Depth = head.Seed, Depths[max(slices.Index(Depths, head.Depth), slices.Index(Depths, newest.Depth), 0)]
			head = newest
		} else {
			head.Shard = ""
		}
	}
	m.Head = head
	return nil
}

func add(list []string, text string) []string {
	if slices.Contains(list, text) {
		return list
	}
	return append(list, text)
}

// sameOperation finds an operation that two services have in common: nothing tells their
// cases apart.
func sameOperation(a, b *merged) error {
	if a.service == b.service {
		return nil
	}
	for name := range a.operations {
		if b.operations[name] && name != wholeAPI {
			return &MergeError{a.name, b.name, fmt.Sprintf("%s and %s both have %s", a.head.Description, b.head.Description, name), "report them one by one"}
		}
	}
	return nil
}

// wholeAPI is what every plan has.
const wholeAPI = "the API as a whole"

// index notes the cases of a run, as the one that counts.
func (m *Merge) index(i int, in *merged) error {
	r, err := in.reader()
	if err != nil {
		return err
	}
	for {
		data, err := r.next()
		if err != nil {
			return err
		}
		if data == nil {
			return nil
		}
		if !bytes.HasPrefix(data, []byte(`{"type":"case"`)) && !bytes.HasPrefix(data, []byte(`{"type":"operation"`)) {
			continue
		}
		var line struct {
			Case      string `json:"case"`
			Operation string `json:"operation"`
		}
		if err := json.Unmarshal(data, &line); err != nil {
			continue // reading it says what is wrong
		}
		in.operations[line.Operation] = true
		if line.Case == "" {
			continue
		}
		key := m.key(in, line.Case)
		if _, has := m.counts[key]; has {
			m.Twice++
		}
		m.counts[key] = i
	}
}

// key is a case of a service.
func (m *Merge) key(in *merged, id string) uint64 {
	n, _ := strconv.ParseUint(id, 16, 40) // ten digits, as Reader holds
	return uint64(in.service)<<40 | n
}

// lines gives out the lines of all runs: operations in the order of the plans, then what
// counts of each run, the last run first. So a control, which counts in the last run that sent
// it, comes before all that it proves, in whatever order a run was answered.
func (m *Merge) lines(readers []*Reader, out *Reader, yield func(Line, error) bool) {
	type source struct {
		run  int
		next func() (Line, error, bool)
		line Line
	}
	var sources []*source
	advance := func(s *source) (more bool, err error) {
		for {
			line, err, ok := s.next()
			if err != nil {
				return false, err
			}
			if !ok {
				return false, nil
			}
			if m.settles(s.run, &line) {
				s.line = line
				return true, nil
			}
		}
	}
	for i, r := range readers {
		next, stop := iter.Pull2(r.Lines())
		defer stop()
		s := &source{run: i, next: next}
		if more, err := advance(s); err != nil {
			yield(Line{}, err)
			return
		} else if more {
			sources = append(sources, s)
		}
	}
	for len(sources) > 0 {
		first := slices.MinFunc(sources, func(a, b *source) int {
			switch x, y := a.line.Operation, b.line.Operation; {
			case x != nil && y != nil:
				return cmp.Compare(x.Number, y.Number)
			case x != nil:
				return -1
			case y != nil:
				return 1
			}
			return cmp.Compare(b.run, a.run)
		})
		if l := first.line.Log; l != nil {
			out.Logs[l.Case] = l.Lines
		}
		if !yield(first.line, nil) {
			return
		}
		more, err := advance(first)
		if err != nil {
			yield(Line{}, err)
			return
		}
		if !more {
			sources = slices.DeleteFunc(sources, func(s *source) bool { return s == first })
		}
	}
	out.Totals = totals(readers)
}

// settles reports whether a line counts, and gives it the number that it has among all.
// What the whole of a run shows is made anew.
func (m *Merge) settles(run int, l *Line) bool {
	in := m.runs[run]
	offset := in.service * perService
	if l.Operation != nil {
		l.Operation.Number += offset
		return !m.Dropped[l.Operation.Operation]
	}
	if l.Log != nil {
		return m.counts[m.key(in, l.Log.Case)] == run && !m.Dropped[l.Log.Case]
	}
	c := l.about()
	if c == nil || m.Dropped[c.ID] || m.Dropped[c.Operation] {
		return false
	}
	c.Number += offset
	return m.counts[m.key(in, c.ID)] == run
}

// about is the case that a line is about; nil where it is about none.
func (l Line) about() *exchange.Case {
	switch {
	case l.Result != nil:
		return &l.Result.Case
	case l.Repeat != nil:
		return &l.Repeat.Case
	case l.Closing != nil:
		return &l.Closing.Case
	case l.State != nil:
		return &l.State.Case
	}
	return nil
}

// totals are those of no run in particular: whether any was cut short. Counting is for
// those who judge.
func totals(readers []*Reader) *Totals {
	out := &Totals{}
	for _, r := range readers {
		if r.Totals == nil {
			return nil
		}
		out.Interrupted = out.Interrupted || r.Totals.Interrupted
	}
	return out
}
