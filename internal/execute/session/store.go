package session

import (
	"cmp"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"obiter/internal/execute/trial"
	"obiter/internal/results/record"
)

// Store is the folder of runs. Each run is a file in a folder of its address, named by the time
// when it was made; it has the latest answer to every case that is known at that address.
type Store struct {
	Folder string // usually .obiter; empty: nothing is stored
}

// Bounds of what is stored: the newest runs stay.
const (
	maxRuns     = 10
	maxRunBytes = 500 << 20 // of all together
)

const (
	runsFolder = "runs"
	ending     = ".ndjson"
	timeLayout = "20060102T150405.000Z" // in names, UTC: their order is that of the runs
)

// Current is the file of the answers of the run that is being made.
func (s Store) Current() string { return filepath.Join(s.Folder, "run"+ending) }

// Last is the file of the last run, whatever its address; "" where there is none.
func (s Store) Last() string {
	list := s.list()
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

// Previous is the file of the run before the last one, at the same address; where there is none,
// of the same description. It is "" where there is none at all.
func (s Store) Previous() string {
	list := s.list()
	if len(list) == 0 {
		return ""
	}
	for _, name := range list[1:] {
		if filepath.Dir(name) == filepath.Dir(list[0]) {
			return name
		}
	}
	last, err := headOf(list[0])
	if err != nil {
		return ""
	}
	for _, name := range list[1:] {
		if head, err := headOf(name); err == nil && head.Description == last.Description {
			return name
		}
	}
	return ""
}

// LastAt is the file of the last run at an address of a description; "" where there is none.
func (s Store) LastAt(address, description string) string {
	for _, name := range s.list() {
		if head, err := headOf(name); err == nil && head.At == address && head.Description == description {
			return name
		}
	}
	return ""
}

// HasAddress reports whether a run at an address is stored.
func (s Store) HasAddress(address string) bool {
	return slices.ContainsFunc(s.list(), func(name string) bool {
		head, err := headOf(name)
		return err == nil && head.At == address
	})
}

// list is the runs that are stored, the newest first.
func (s Store) list() []string {
	s.migrate()
	names, _ := filepath.Glob(filepath.Join(s.Folder, runsFolder, "*", "*"+ending)) // the pattern is right
	slices.SortFunc(names, func(a, b string) int {
		return cmp.Or(strings.Compare(filepath.Base(b), filepath.Base(a)), strings.Compare(b, a))
	})
	return names
}

// put moves a run file to where runs at its address are stored, and deletes what is too much.
func (s Store) put(file string, made time.Time) (name string, err error) {
	head, err := headOf(file)
	if err != nil {
		return "", err
	}
	folder := filepath.Join(s.Folder, runsFolder, addressName(head.At))
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", &trial.FileError{Name: folder, Cause: cause(err)}
	}
	for ; ; made = made.Add(time.Millisecond) {
		name = filepath.Join(folder, made.UTC().Format(timeLayout)+ending)
		if _, err := os.Lstat(name); errors.Is(err, fs.ErrNotExist) {
			break
		}
	}
	if err := os.Rename(file, name); err != nil {
		return "", &trial.FileError{Name: name, Cause: cause(err)}
	}
	s.prune()
	return name, nil
}

// prune deletes the oldest runs. What cannot be deleted stays.
func (s Store) prune() {
	total := int64(0)
	for i, name := range s.list() {
		info, err := os.Stat(name)
		if err != nil {
			continue
		}
		if total += info.Size(); i > 0 && (i >= maxRuns || total > maxRunBytes) {
			_ = os.Remove(name)
		}
	}
}

// old are the files of runs as they were stored before there were several by address, the older
// one first.
var old = []string{"previous.ndjson", "last.ndjson"}

// migrate stores such files as they are stored now.
func (s Store) migrate() {
	for _, name := range old {
		name = filepath.Join(s.Folder, name)
		info, err := os.Lstat(name)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		head, err := headOf(name)
		if err != nil {
			continue
		}
		made, err := time.Parse(time.RFC3339, head.Started)
		if err != nil {
			made = info.ModTime()
		}
		_ = os.Remove(name + ".index")
		folder := filepath.Join(s.Folder, runsFolder, addressName(head.At))
		if os.MkdirAll(folder, 0o700) == nil {
			_ = os.Rename(name, filepath.Join(folder, made.UTC().Format(timeLayout)+ending)) // where that fails it is tried again
		}
	}
}

var inName = regexp.MustCompile(`[^A-Za-z0-9.]+`)

// addressName is an address as the name of a folder: 127.0.0.1-8080.
func addressName(at string) string {
	_, rest, has := strings.Cut(at, "://")
	if !has {
		rest = at
	}
	const most = 80
	name := strings.Trim(inName.ReplaceAllString(rest, "-"), "-.")
	return cmp.Or(name[:min(len(name), most)], "elsewhere")
}

// headOf is the first line of a run file.
func headOf(name string) (record.Head, error) {
	f, r, err := OpenOne(name)
	if err != nil {
		return record.Head{}, err
	}
	return r.Head, f.Close()
}

// cause is the reason of a file error, without the paths that are named anyway.
func cause(err error) error {
	var path *fs.PathError
	var link *os.LinkError
	switch {
	case errors.As(err, &path):
		return path.Err
	case errors.As(err, &link):
		return link.Err
	}
	return err
}
